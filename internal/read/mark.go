package read

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
)

// ErrSecondPerson is returned where a baseline needs somebody else's approval.
var ErrSecondPerson = errors.New("a second person has to approve what this device is judged by")

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
			if err := s.aloneOn(ctx, q, v.DeviceID); err != nil && *m.Baseline != v.Baseline {
				return err
			}
			said += fmt.Sprintf(" baseline %v", *m.Baseline)
			if err := s.setBaseline(ctx, q, v, *m.Baseline); err != nil {
				return err
			}
		}
		if err := q.Audit(ctx, "mark", v.Ref(), said); err != nil {
			return err
		}
		v, err = q.Version(ctx, store.ByID(v.ID))
		return err
	})
	return v, err
}

// aloneOn tells whether somebody may say by himself what a device is judged by: nil, or an ErrSecondPerson.
func (s *Service) aloneOn(ctx context.Context, q *store.Q, deviceID string) error {
	rule, err := askedOf(ctx, q, deviceID)
	if err != nil || rule == "" {
		return err
	}
	return fmt.Errorf("%w (%s)", ErrSecondPerson, rule)
}

// askedOf is the selector by which a second person has to approve what becomes of a device; empty: nobody has to.
func askedOf(ctx context.Context, q *store.Q, deviceID string) (string, error) {
	d, err := q.DeviceByID(ctx, deviceID)
	if err != nil {
		return "", err
	}
	return q.AskedApproval(ctx, d)
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
	_, err := s.Rejudge(ctx, q, v.DeviceID)
	return err
}
