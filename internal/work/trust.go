package work

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/store"
)

// ErrNotTold is why a device's login is not tried: the unit that is asked for is
// at another address than the device's own, or shows another key than the one
// accepted for it, and who asks may not see secrets.
var ErrNotTold = errors.New("the device's login goes to its own address and accepted key only; elsewhere the maker's login is tried, unless who asks may see secrets")

// ErrMayNot is why work that somebody asked for is not gone on with.
var ErrMayNot = errors.New("may not push any more")

// asker is who asked for a job, as they stand now, for what it asks for in turn.
// Somebody who was disabled, or is no operator any more, asks for nothing.
func (s *Service) asker(ctx context.Context, j core.Job) (core.Actor, error) {
	if j.ActorID == "" {
		return core.Actor{Name: j.Actor, Role: core.Operator}, nil
	}
	u, err := s.Store.As(service).UserByID(ctx, j.ActorID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return core.Actor{}, err
	}
	a := u.Actor()
	if err != nil || u.Disabled || !a.May(core.Operator) {
		return a, fmt.Errorf("%s, who asked for it, %w", j.Actor, ErrMayNot)
	}
	return a, nil
}

// mayStill tells whether who asked for a job may still have it done.
func (s *Service) mayStill(ctx context.Context, j core.Job) error {
	_, err := s.asker(ctx, j)
	return err
}

// told is the credential that may be shown where a visit goes. Every sign-in
// passes through here.
func (v *visit) told(ctx context.Context, t link.Target, cred link.Credential) (link.Credential, error) {
	v.maker = false
	q := v.s.Store.As(service)
	transport := v.transport(t)
	shows := link.Shows(transport)
	if v.where.Relay != "" && !shows {
		// Nothing proves who is there, and whoever lends the reach can listen.
		r, err := q.Relay(ctx, v.where.Relay)
		if err != nil {
			return cred, fmt.Errorf("%w: %w", link.ErrUnreachable, err)
		}
		if u, err := q.UserByID(ctx, r.ActorID); err != nil || !u.Actor().Secrets {
			return cred, fmt.Errorf("%w; %s shows no key, and %s, whose relay it is, may not see secrets", ErrNotTold, transport, r.Actor)
		}
	}
	own := t.Address == v.at.Address && t.Port == v.at.Port && (v.where.Relay == "" || shows)
	accepted := !shows || t.HostKey == v.at.HostKey
	// A unit that was pushed to knows the login already: it was in what it took.
	pushedTo := v.pull.Reason == core.AfterPush && shows && t.HostKey == v.where.Key && v.where.Key != ""
	if own && (accepted || pushedTo) || v.by == "" {
		return cred, nil
	}
	u, err := q.UserByID(ctx, v.by)
	if err == nil && u.Actor().Secrets && !u.Disabled {
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
func (v *visit) nothingThere(t link.Target, err error) error {
	var key *link.HostKeyError
	if !v.maker || err == nil || errors.Is(err, ErrNotTold) || errors.As(err, &key) || t.Address == v.at.Address && t.Port == v.at.Port {
		return err
	}
	return fmt.Errorf("%w: no unit with factory settings of this family answers at %s port %d", link.ErrUnreachable, t.Address, t.Port)
}

// ErrNotHanded is why a version is not pushed to where somebody says that the
// unit is.
var ErrNotHanded = errors.New("what would be sent holds secrets, and would go to another address than the device's own: that takes the right to see secrets")

// mayHand tells whether somebody may have a version's secrets sent to where a
// unit is for now.
func (s *Service) mayHand(ctx context.Context, actor core.Actor, p Preview) error {
	if actor.Secrets || !p.Where.elsewhere() || !p.HoldsSecrets() {
		return nil
	}
	d, err := s.Store.As(service).DeviceByID(ctx, p.DeviceID)
	if err != nil {
		return err
	}
	if p.Where.Address == "" && s.showsKey(d) && (p.Where.Key == "" || p.Where.Key == d.HostKey) {
		return nil // through a relay, to the device's own key
	}
	return ErrNotHanded
}

func (s *Service) showsKey(d core.Device) bool {
	dia := s.Dialect(d.Dialect)
	if dia == nil {
		return false
	}
	way, _ := dia.Way(d.Transport)
	return link.Shows(way.Transport)
}

// HoldsSecrets tells whether any of what would be sent is hidden from who may not
// see secrets. A file or document as a whole may always hold some.
func (p Preview) HoldsSecrets() bool {
	for _, st := range p.Steps {
		if len(st.Content) > 0 {
			return true
		}
		for i, l := range st.Lines {
			if i >= len(st.Masked) || st.Masked[i] != l {
				return true
			}
		}
	}
	return false
}
