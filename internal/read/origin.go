package read

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Origins tells for each line of a side which version brought it in.
func (s *Service) Origins(ctx context.Context, actor core.Actor, side Side) ([]Origin, error) {
	switch {
	case side.Version == nil:
		return nil, fmt.Errorf("%w: what is looked at live is no version yet; pull it first", ErrSearch)
	case side.Opaque() || side.Large():
		return nil, fmt.Errorf("%w: %s is no text", ErrSearch, side.Ref)
	}
	return s.origins(ctx, s.Store.As(actor), side.Version.ID)
}

func (s *Service) origins(ctx context.Context, q *store.Q, versionID string) ([]Origin, error) {
	if known, is := s.lines.of(versionID); is {
		return known, nil
	}
	v, err := q.VersionByID(ctx, versionID)
	if err != nil {
		return nil, err
	}
	all, err := s.traced(ctx, v)
	if err != nil {
		return nil, err
	}
	s.lines.keep(versionID, all)
	return all, nil
}

// traced goes back from a version until each line of it was not there yet. Versions that were set aside
// are passed over.
func (s *Service) traced(ctx context.Context, v core.Version) ([]Origin, error) {
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return nil, err
	}
	var doc *dialect.Doc
	if dia := s.DialectOf(d); dia != nil {
		doc = dia.Doc(v.Part)
	}
	read := func(v core.Version) (diff.Text, error) {
		raw, err := q.Content(ctx, v.ContentID)
		if err != nil {
			return diff.Text{}, err
		}
		return dialect.Comparable(doc, string(raw)), nil
	}
	now, err := read(v)
	if err != nil {
		return nil, err
	}
	out := make([]Origin, len(now.Lines))
	at := make([]int, len(now.Lines)) // where each line stands in now; -1: it was traced
	for i := range at {
		at[i] = i
	}
	left := len(at)
	settle := func(i int, v core.Version, first bool) {
		out[i] = *originOf(&v)
		out[i].First = first
		at[i] = -1
		left--
	}
	for before := v.Number; left > 0; {
		older, err := q.VersionsThatCount(ctx, v.PartID, before, 50)
		if err != nil {
			return nil, err
		}
		for _, o := range older {
			was, err := read(o)
			if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrLarge) {
				continue
			}
			if err != nil {
				return nil, err
			}
			back := diff.Partners(was, now)
			for i, line := range at {
				if line < 0 {
					continue
				}
				if back[line] < 0 {
					settle(i, v, false)
				} else {
					at[i] = back[line]
				}
			}
			if v, now = o, was; left == 0 {
				return out, nil
			}
		}
		if len(older) < 50 {
			break
		}
		before = older[len(older)-1].Number
	}
	for i, line := range at {
		if line >= 0 {
			settle(i, v, true)
		}
	}
	return out, nil
}
