package read

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Drift is how a device stands to its baseline.
type Drift struct {
	Device      core.Device
	Part        string
	State       string // steady, drifted, no baseline, never pulled, or not known
	Baseline    string
	Running     string
	Differences []visit.Difference
	Trouble     string

	base, now Side
	other     bool // the baseline was taken from other hardware
}

// JudgedParts lists the parts of a device that have a baseline, or its main one
// where none has.
func (s *Service) JudgedParts(ctx context.Context, actor core.Actor, d core.Device) ([]string, error) {
	parts, err := s.Store.As(actor).Parts(ctx, d.ID)
	var names []string
	for _, p := range parts {
		if p.Baseline != "" {
			names = append(names, p.Name)
		}
	}
	if len(names) == 0 {
		names = []string{s.PartOf(d, "running")}
	}
	return names, err
}

// Drift judges a part of a device against its baseline: by its newest version, or by
// what it runs now.
func (s *Service) Drift(ctx context.Context, actor core.Actor, d core.Device, part string, live bool) (out Drift, err error) {
	out = Drift{Device: d, Part: part, Differences: []visit.Difference{}}
	base, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: part, Which: "baseline"})
	if errors.Is(err, store.ErrNotFound) {
		out.State = "no baseline"
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Baseline = base.Ref
	which := "latest"
	if live {
		which = "live"
	}
	now, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: part, Which: which})
	if err != nil {
		out.State, out.Trouble = "not known", err.Error()
		return out, nil
	}
	out.Running = now.Ref
	other := base.Version != nil && s.TookFromOther(ctx, s.Store.As(actor), d, *base.Version)
	if out.Differences, err = s.DifferencesOf(now.doc, now.raw, base.raw, other); err != nil {
		return out, fmt.Errorf("%s and %s: %w", now.Ref, base.Ref, err)
	}
	out.State = core.Steady
	if len(out.Differences) > 0 {
		out.State = core.Drifted
	}
	out.base, out.now, out.other = base, now, other
	return out, nil
}

// farthest is how many versions drift is followed back.
const farthest = 500

// DriftedSince finds the oldest version of those, without a break up to now, that are not equivalent to
// the baseline. Nothing, where it is not drifted, or what was looked at live is the first.
func (s *Service) DriftedSince(ctx context.Context, d Drift) (*Origin, error) {
	base, first, other := d.base, d.now.Version, d.other
	if d.State != core.Drifted || base.Large() || d.now.Large() {
		return nil, nil
	}
	number := 1 << 30
	if first != nil { // otherwise what is live was not kept, and what was kept last is looked at first
		number = first.Number
	}
	looked, broken := 0, false
	err := s.back(ctx, base.Version.PartID, number, func(v core.Version, raw string) bool {
		off, err := s.DifferencesOf(base.doc, raw, base.raw, other)
		if broken = err != nil || len(off) == 0; broken {
			return false
		}
		first = &v
		looked++
		return looked < farthest
	})
	since := originOf(first)
	if since != nil {
		since.First = !broken
	}
	return since, err
}
