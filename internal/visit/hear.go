package visit

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Hear keeps a session with a device that is only for hearing of changes, until ctx ends or it
// breaks. Once it is subscribed it sends nothing, and needs no lease. A refused login is locked
// like any other.
func (s *Service) Hear(ctx context.Context, d core.Device, ready func(), heard func(user string)) error {
	j := core.Job{ID: store.NewID(s.Now()), CreatedAt: s.Now()}
	ctx, letGo := s.Hold(ctx, j.ID)
	defer letGo()
	// It signs in while nobody else does, so that a login that is refused is tried once.
	_, giveBack, err := s.Lease(ctx, d.ID, j.ID, s.Silent())
	if err != nil {
		return err
	}
	giveBack = sync.OnceFunc(giveBack)
	defer giveBack()
	if d, err = s.Store.As(job.Service).DeviceByID(ctx, d.ID); err != nil {
		return err
	}
	v := s.NewVisit(j, d, core.ByNotice, s.Silent())
	switch {
	case v.Dialect == nil:
		return fmt.Errorf("no dialect is named %q here", d.Dialect)
	case d.Disabled:
		return ErrDisabled
	case d.LoginLockedSince != nil:
		return ErrLoginLocked
	}
	target, cred, err := s.way(ctx, d)
	if err == nil {
		cred, err = v.told(ctx, target, cred)
	}
	if err == nil {
		err = link.Hear(ctx, link.Call{Dialect: v.Dialect, Target: target, Credential: cred, Name: d.Name, Guard: func() error { return nil }}, func() { giveBack(); ready() }, heard)
	}
	if errors.Is(err, link.ErrLoginRefused) {
		return errors.Join(err, s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return v.NoteFailure(ctx, q, err) }))
	}
	return err
}
