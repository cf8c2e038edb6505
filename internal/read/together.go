package read

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// Together is one change that was made to one device or to many alike.
type Together struct {
	Versions []core.Listed // that it brought, newest first
	Devices  int
	Lines    []Passed // what came and went, as the actor may see it; of a long one the first
	Added    int
	Removed  int
	From, To time.Time // when the first and the last were taken
	By       []string  // whose changes they were, as far as that is known
}

// Passed is a line that came or went.
type Passed struct {
	Came bool
	Path string // the blocks around it, or what it is about
	Text string
}

// mostTogether is how many lines of a change are shown.
const mostTogether = 40

// Together lists what changed in a span of time, newest first: the same lines that came and went on
// several devices are one change. more tells whether there were more versions than are looked at.
func (s *Service) Together(ctx context.Context, actor core.Actor, sel ref.Selector, since, until time.Time, most int) (out []Together, more bool, err error) {
	q := s.Store.As(actor)
	rows, more, err := q.Changes(ctx, sel, store.VersionFilter{}, since, until, "", most)
	if err != nil {
		return nil, false, err
	}
	at := map[string]int{}
	for _, v := range rows {
		if v.Aside != "" {
			continue
		}
		lines, key, err := s.cameAndWent(ctx, actor, q, v.Version)
		if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrLarge) {
			continue
		}
		if err != nil {
			return nil, false, err
		}
		i, known := at[key]
		if !known || key == "" {
			i = len(out)
			at[key] = i
			t := Together{Lines: lines[:min(len(lines), mostTogether)], From: v.TakenAt, To: v.TakenAt}
			for _, l := range lines {
				if l.Came {
					t.Added++
				} else {
					t.Removed++
				}
			}
			out = append(out, t)
		}
		t := &out[i]
		if !slices.ContainsFunc(t.Versions, func(o core.Listed) bool { return o.DeviceID == v.DeviceID }) {
			t.Devices++
		}
		t.Versions = append(t.Versions, v)
		if v.TakenAt.Before(t.From) {
			t.From = v.TakenAt
		}
		if by := v.Author; by != "" && !slices.Contains(t.By, by) {
			t.By = append(t.By, by)
		}
	}
	return out, more, nil
}

// cameAndWent lists the lines by which a version differs from the one before it that counts; key is the
// same of those in which the same came and went, wherever it stood. A first version has no key: it is
// no change.
func (s *Service) cameAndWent(ctx context.Context, actor core.Actor, q *store.Q, v core.Version) (lines []Passed, key string, err error) {
	before, err := q.VersionsThatCount(ctx, v.PartID, v.Number, 1)
	if err != nil || len(before) == 0 {
		return nil, "", err
	}
	d, err := q.DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return nil, "", err
	}
	var sides [2]string
	for i, x := range []core.Version{before[0], v} {
		raw, err := q.Content(ctx, x.ContentID)
		if err != nil {
			return nil, "", err
		}
		sides[i] = string(raw)
	}
	var doc *dialect.Doc
	if dia := s.DialectOf(d); dia != nil {
		doc = dia.Doc(v.Part)
	}
	if doc != nil && doc.Opaque() {
		return nil, "", nil
	}
	quiet := doc
	if doc != nil {
		y, err := s.Measure(ctx, q, d, doc, v.Part, false)
		if err != nil {
			return nil, "", err
		}
		quiet = y.Doc
	}
	laid := dialect.Lay(quiet, quiet, sides[0], sides[1], false)
	var shown [2][]string
	for i, raw := range sides {
		if actor.Secrets {
			shown[i] = text.Lines(raw)
		} else if doc != nil {
			masked, err := s.Masked(doc, raw)
			if err != nil {
				return nil, "", nil
			}
			shown[i] = text.Lines(masked)
		}
	}
	if shown[0] == nil && shown[1] == nil {
		return nil, "", nil
	}
	var places [2][]string
	for i := range shown {
		places[i] = dialect.Places(doc, strings.Join(shown[i], "\n"), len(shown[i]))
	}
	var said []string
	for _, e := range laid.Edits {
		for i := e.Start; i < e.End && i < len(shown[0]); i++ {
			if !laid.A.Says(i) {
				continue
			}
			lines = append(lines, Passed{false, places[0][i+1], shown[0][i]})
			said = append(said, "-"+places[0][i+1]+"\x00"+shown[0][i])
		}
		for i := e.From; i < e.To && i < len(shown[1]); i++ {
			if !laid.B.Says(i) {
				continue
			}
			lines = append(lines, Passed{true, places[1][i+1], shown[1][i]})
			said = append(said, "+"+places[1][i+1]+"\x00"+shown[1][i])
		}
	}
	slices.Sort(said)
	return lines, strings.Join(said, "\n"), nil
}
