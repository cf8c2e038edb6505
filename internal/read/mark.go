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

// Mark is what a person says of a version; nil leaves a thing as it is.
type Mark struct {
	Name, Note *string
	Pin        *bool
	Baseline   *bool
}

// SetMark names, notes, pins a version or makes it the baseline.
func (s *Service) SetMark(ctx context.Context, actor core.Actor, r ref.Version, m Mark) (v core.Version, err error) {
	if v, err = s.Version(ctx, actor, r); err != nil {
		return v, err
	}
	if m.Name != nil && *m.Name != "" {
		if err := ref.VersionName(*m.Name); err != nil {
			return v, err
		}
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if v, err = q.LockVersion(ctx, v); err != nil {
			return err
		}
		said := ""
		if m.Name != nil {
			v.Name = *m.Name
			said += fmt.Sprintf(" name %q", v.Name)
		}
		if m.Note != nil {
			v.Note = *m.Note
			said += " note"
		}
		if m.Pin != nil {
			v.Pinned = *m.Pin
			said += fmt.Sprintf(" pin %v", v.Pinned)
		}
		if err := q.MarkVersion(ctx, v); err != nil {
			return err
		}
		if m.Baseline != nil {
			said += fmt.Sprintf(" baseline %v", *m.Baseline)
			if err := s.setBaseline(ctx, q, v, *m.Baseline); err != nil {
				return err
			}
		}
		if err := q.Audit(ctx, "mark", v.Ref(), said); err != nil {
			return err
		}
		v, err = q.VersionByID(ctx, v.ID)
		return err
	})
	return v, err
}

// setBaseline approves a version, or takes the approval away, and judges the
// device's drift anew.
func (s *Service) setBaseline(ctx context.Context, q *store.Q, v core.Version, on bool) error {
	id := v.ID
	if !on {
		if !v.Baseline {
			return nil
		}
		id = ""
	}
	if err := q.SetBaseline(ctx, v.PartID, id); err != nil {
		return err
	}
	d, err := q.LockDevice(ctx, v.DeviceID, 0)
	if err != nil {
		return err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	d.Drifted = false
	for _, p := range parts {
		latest, err := q.VersionLatest(ctx, d.ID, p.Name, 0)
		if errors.Is(err, store.ErrNotFound) || err == nil && p.Baseline == "" {
			continue
		}
		if err != nil {
			return err
		}
		base, err := q.VersionBaseline(ctx, d.ID, p.Name)
		if err != nil {
			return err
		}
		if base.Fingerprint == latest.Fingerprint {
			continue
		}
		raw, err := q.Content(ctx, latest.ContentID)
		if errors.Is(err, store.ErrLarge) {
			d.Drifted = true
			continue
		}
		if err != nil {
			return err
		}
		dia := s.DialectOf(d)
		if dia == nil {
			continue
		}
		off, err := s.Drifted(ctx, q, d, dia.Doc(p.Name), p.Name, string(raw))
		if err != nil {
			return err
		}
		d.Drifted = d.Drifted || off
	}
	if d.State == core.Drifted || d.State == core.Steady || d.State == core.Unsaved {
		d.State = visit.Standing(d)
	}
	return q.SetStanding(ctx, d)
}
