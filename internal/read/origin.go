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
	v, err := q.Version(ctx, store.ByID(versionID))
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
	raw, err := q.Content(ctx, v.ContentID)
	if err != nil {
		return nil, err
	}
	now := dialect.Comparable(doc, string(raw))
	out := make([]Origin, now.Len())
	at := make([]int, now.Len()) // where each line stands in now; -1: it was traced
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
	err = s.back(ctx, v.PartID, v.Number, func(o core.Version, raw string) bool {
		was := dialect.Comparable(doc, raw)
		partner := diff.Partners(was, now)
		for i, line := range at {
			if line < 0 {
				continue
			}
			if partner[line] < 0 {
				settle(i, v, false)
			} else {
				at[i] = partner[line]
			}
		}
		v, now = o, was
		return left > 0
	})
	if err != nil {
		return nil, err
	}
	for i, line := range at {
		if line >= 0 {
			settle(i, v, true)
		}
	}
	return out, nil
}

// back goes from a part's version before a number back to its first, as long as more is wanted. Those that
// were set aside, and those that cannot be read or held, are passed over.
func (s *Service) back(ctx context.Context, partID string, number int, more func(v core.Version, raw string) bool) error {
	const page = 50
	q := s.Store.As(job.Service)
	for {
		older, err := q.VersionsThatCount(ctx, partID, number, page)
		if err != nil {
			return err
		}
		for _, v := range older {
			raw, err := q.Content(ctx, v.ContentID)
			if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrLarge) {
				continue
			}
			if err != nil {
				return err
			}
			if !more(v, string(raw)) {
				return nil
			}
		}
		if len(older) < page {
			return nil
		}
		number = older[page-1].Number
	}
}
