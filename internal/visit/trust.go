package visit

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// ErrNotTold is why a device's login is not tried: the unit that is asked for is
// at another address than the device's own, or shows another key than the one
// accepted for it, and who asks may not see secrets.
var ErrNotTold = errors.New("the device's login goes to its own address and accepted key only; elsewhere the maker's login is tried, unless who asks may see secrets")

// ErrMayNot is why work that somebody asked for is not gone on with.
var ErrMayNot = errors.New("may not push any more")

// Asker is who asked for a job, as they stand now and no more than it was asked for under (a token's role,
// scope and mask), for what it asks for in turn.
// Somebody who was disabled, or is no operator any more, asks for nothing.
func (s *Service) Asker(ctx context.Context, j core.Job) (core.Actor, error) {
	if j.ActorID == "" {
		return core.Actor{Name: j.Actor, Role: core.Operator}, nil
	}
	u, err := s.Store.As(job.Service).UserByID(ctx, j.ActorID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return core.Actor{}, err
	}
	a := u.Actor().Within(s.Store.As(job.Service).Grant(j))
	if err != nil || u.Disabled || !a.May(core.Operator) {
		return a, fmt.Errorf("%s, who asked for it, %w", j.Actor, ErrMayNot)
	}
	return a, nil
}

// MayStill tells whether who asked for a job may still have it done.
func (s *Service) MayStill(ctx context.Context, j core.Job) error {
	_, err := s.Asker(ctx, j)
	return err
}

// told is the credential that may be shown where a visit goes. Every sign-in
// passes through here.
func (v *Visit) told(ctx context.Context, t link.Target, cred link.Credential) (link.Credential, error) {
	v.maker = false
	q := v.s.Store.As(job.Service)
	transport := v.transport(t)
	shows := link.Shows(transport)
	if v.Where.Relay != "" && !shows {
		// Nothing proves who is there, and whoever lends the reach can listen.
		r, err := q.Relay(ctx, v.Where.Relay)
		if err != nil {
			return cred, fmt.Errorf("%w: %w", link.ErrUnreachable, err)
		}
		if u, err := q.UserByID(ctx, r.ActorID); err != nil || !u.Actor().Secrets {
			return cred, fmt.Errorf("%w; %s shows no key, and %s, whose relay it is, may not see secrets", ErrNotTold, transport, r.Actor)
		}
	}
	own := t.Address == v.Speaker.Address && t.Port == v.Speaker.Port && (v.Where.Relay == "" || shows)
	accepted := !shows || t.HostKey == v.Speaker.HostKey
	// A unit that was pushed to knows the login already: it was in what it took.
	pushedTo := v.Pull.Reason == core.AfterPush && shows && t.HostKey == v.Where.Key && v.Where.Key != ""
	if own && (accepted || pushedTo) || v.by == "" {
		return cred, nil
	}
	u, err := q.UserByID(ctx, v.by)
	if a := u.Actor().Within(v.grant); err == nil && a.Secrets && len(a.Scopes) == 0 && !u.Disabled {
		return cred, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return cred, err
	}
	maker, known := cred.Factory()
	if !known {
		return cred, fmt.Errorf("%w; none is known here", ErrNotTold)
	}
	v.maker = true
	return maker, nil
}

// nothingThere says no more of an address of somebody's choice than that the
// unit is not there: whoever may not see secrets is not told which ports of which
// machines are open.
func (v *Visit) nothingThere(t link.Target, err error) error {
	var key *link.HostKeyError
	if !v.maker || err == nil || errors.Is(err, ErrNotTold) || errors.As(err, &key) || t.Address == v.Speaker.Address && t.Port == v.Speaker.Port {
		return err
	}
	return fmt.Errorf("%w: no unit with factory settings of this family answers at %s port %d", link.ErrUnreachable, t.Address, t.Port)
}
