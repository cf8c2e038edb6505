package visit

import (
	"context"
	"errors"
	"slices"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// elementsOff tells whether a device lacks a logical element that has a baseline, or has one that is new.
func (s *Service) elementsOff(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, parts []core.Part) (off bool, err error) {
	for _, p := range parts {
		off = off || p.Lost()
	}
	added, err := s.NewElements(ctx, q, d, dia, parts)
	return off || len(added) > 0, err
}

// NewElements are the logical elements that came after the main part's baseline was taken, and that nobody
// gave a baseline of their own.
func (s *Service) NewElements(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, parts []core.Part) (added []core.Version, err error) {
	at := slices.IndexFunc(parts, func(p core.Part) bool { return p.Name == dia.Main() && p.Baseline != "" })
	if at < 0 {
		return nil, nil
	}
	var base core.Version
	for _, p := range parts {
		if _, is := core.ElementOf(p.Name); !is || p.GoneAt != nil || p.Baseline != "" {
			continue
		}
		if base.ID == "" {
			if base, err = q.Version(ctx, store.ByID(parts[at].Baseline)); err != nil {
				return nil, err
			}
		}
		first, err := q.Version(ctx, store.First(d.ID, p.Name))
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if first.Number == 1 && first.TakenAt.After(base.TakenAt) {
			added = append(added, first)
		}
	}
	return added, nil
}
