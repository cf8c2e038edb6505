package visit

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Version finds the version a reference names, without its text.
func (s *Service) Version(ctx context.Context, actor core.Actor, r ref.Version) (core.Version, error) {
	q := s.Store.As(actor)
	d, err := q.Device(ctx, r.Device)
	if err != nil {
		return core.Version{}, err
	}
	if r.Which == "live" {
		return core.Version{}, fmt.Errorf("%s is no stored version; pull it first", r)
	}
	return s.Find(ctx, q, d, r)
}

// PartOf is the part that is meant: a device without a running part is spoken
// of by its main one when no other is named.
func (s *Service) PartOf(d core.Device, part string) string {
	if dia := s.DialectOf(d); dia != nil && part == "running" {
		if _, ok := dia.Parts[part]; !ok {
			return dia.Main()
		}
	}
	return part
}

// HasPart tells whether a device has a part of that name, by its dialect or by
// what was pulled of it.
func (s *Service) HasPart(ctx context.Context, actor core.Actor, d core.Device, part string) error {
	var names []string
	if dia := s.DialectOf(d); dia != nil {
		if _, ok := dia.PartOf(part); ok {
			return nil
		}
		names = dia.PartNames()
	}
	kept, err := s.Store.As(actor).Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range kept {
		if p.Name == part {
			return nil
		}
		if !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
		}
	}
	hint := ref.Meant(part, names)
	if hint == "" {
		hint = "it has " + strings.Join(names, ", ")
	}
	return fmt.Errorf("part %q of %s: %w; %s", part, d.Name, store.ErrNotFound, hint)
}

func (s *Service) Find(ctx context.Context, q *store.Q, d core.Device, r ref.Version) (v core.Version, err error) {
	r.Part = s.PartOf(d, r.Part)
	if err := s.HasPart(ctx, job.Service, d, r.Part); err != nil {
		return v, err
	}
	missing := ""
	switch r.Which {
	case "latest":
		v, err = q.VersionLatest(ctx, d.ID, r.Part, 0)
		missing = "it was never pulled; run: magpie pull " + d.Name
	case "previous":
		v, err = q.VersionLatest(ctx, d.ID, r.Part, 1)
		missing = "there is only one version or none"
	case "first":
		v, err = q.VersionFirst(ctx, d.ID, r.Part)
		missing = "it was never pulled; run: magpie pull " + d.Name
	case "baseline":
		v, err = q.VersionBaseline(ctx, d.ID, r.Part)
		missing = "no version is its baseline yet; choose one: magpie mark " + d.Name + "@NUMBER --baseline"
	case "number":
		v, err = q.VersionNumber(ctx, d.ID, r.Part, r.Number)
		missing = "see which there are: magpie versions " + d.Name
	case "name":
		v, err = q.VersionNamed(ctx, d.ID, r.Part, r.Name)
		missing = "see which names there are: magpie versions " + d.Name
		if errors.Is(err, store.ErrNotFound) {
			names, e := q.VersionNames(ctx, d.ID, r.Part)
			if e != nil {
				return v, e
			}
			if meant := ref.Meant(r.Name, append(names, ref.Keywords...)); meant != "" {
				missing = meant
			}
		}
	case "time":
		v, err = q.VersionAt(ctx, d.ID, r.Part, r.At)
		missing = "nothing was pulled by then"
	}
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("%s: %w; %s", r, store.ErrNotFound, missing)
	}
	return v, err
}
