package visit

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Open leases the device, signs in and asks who it is.
func (v *Visit) Open(ctx context.Context) (err error) {
	if v.Dialect == nil {
		return fmt.Errorf("no dialect is named %q here", v.Device.Dialect)
	}
	q := v.s.Store.As(job.Service)
	if v.Device.Member != "" {
		if v.Speaker, err = q.DeviceByID(ctx, v.Device.ParentID); err != nil {
			return fmt.Errorf("the device that speaks for it: %w", err)
		}
	}
	if v.Speaker.LoginLockedSince != nil {
		return latched(v.Speaker)
	}
	target, cred, err := v.s.way(ctx, v.Speaker)
	if err == nil && (v.Device.Disabled || v.Speaker.Disabled) {
		err = fmt.Errorf("%s: %w", v.Device.Name, ErrDisabled)
	}
	if err == nil {
		target, err = v.aim(target)
	}
	if err == nil {
		cred, err = v.told(ctx, target, cred)
	}
	if err == nil {
		if target, err = v.keyed(ctx, target); err != nil {
			err = v.nothingThere(target, err)
		}
	}
	if err != nil {
		return err
	}
	leave, err := v.s.session(ctx, v.Speaker, v.Log)
	if err != nil {
		return err
	}
	v.leave = leave
	if v.fence, v.unheld, err = v.s.Lease(ctx, v.Speaker.ID, v.Pull.JobID, v.Log); err != nil {
		leave()
		return err
	}
	v.leased = true
	v.s.HangUpBefore(v.Pull.JobID, v.hangUp)
	letGo := func() { v.leased = false; v.unheld(); leave() }
	as := cred.User
	if v.Speaker.Credential != "" {
		as += ", credential set " + v.Speaker.Credential
	}
	v.Log.Step("connecting to %s port %d as %s", target.Address, target.Port, as)
	base := v.s.DialectOf(v.Speaker)
	last := ""
	call := link.Call{Dialect: base, Target: target, Credential: cred, Name: v.Speaker.Name, Guard: v.s.Sure,
		Warn: func(what string) { v.Log.Warn("%s", what) }, Inbox: v.s.inbox(),
		Left: func(part, file string) error {
			return v.s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.Leave(ctx, v.Speaker.ID, part, file) })
		},
		Gone: func(_, file string) error {
			return v.s.Store.Tx(context.WithoutCancel(ctx), job.Service, func(q *store.Q) error { return q.Gone(context.WithoutCancel(ctx), v.Speaker.ID, file) })
		},
		// We have the lease, so a session of ours that still holds the device is one left behind.
		Ours:   func(session string) bool { return last != "" && last == session },
		MayEnd: v.mayEnd,
		Began: func(session string) error {
			return v.s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) { last, err = q.Began(ctx, v.Speaker.ID, session); return err })
		},
	}
	ended, err := v.attempt(ctx, target)
	if err == nil {
		v.Session, err = v.signIn(ctx, call)
		ended(err)
	}
	if err != nil {
		letGo()
		return err
	}
	v.closed = false
	if err := v.sweep(ctx); err != nil {
		v.Close()
		return err
	}
	id := v.Identity
	v.Log.Info("signed in: %s", client.Identity(id).Said())
	if v.Device.Member != "" {
		return v.findMember()
	}
	v.Dialect = v.Session.Dialect()
	v.Pull.Host, v.Pull.Model, v.Pull.Serial, v.Pull.Release = id.Host, id.Model, id.Serial, id.Release
	return nil
}

// mayEnd tells whether a person asked for the end of a session that holds the
// device, and writes the deed down before it is done.
func (v *Visit) mayEnd(session string) (bool, error) {
	if v.Ends == "" || v.Ends != session {
		return false, nil
	}
	actor := core.Actor{Name: v.Pull.Actor}
	return true, v.s.Store.Tx(context.Background(), actor, func(q *store.Q) error {
		return q.Audit(context.Background(), "session ended", v.Speaker.Name, fmt.Sprintf("session %s, which held the device, by job %s%s", session, v.Pull.JobID, core.Because(v.Why)))
	})
}

// signIn opens the session and asks the device who it is. Where the usual login
// is refused others are tried, each once: after a push the one that was used
// before the credential was last changed, which the version may have brought
// back; then that of a unit with factory settings, which is believed only if the
// unit then says that it has them.
func (v *Visit) signIn(ctx context.Context, call link.Call) (*link.Session, error) {
	if v.maker { // the device's own login is not for whoever is there
		sess, err := link.Open(ctx, call)
		if err == nil {
			if v.Identity, err = sess.Identity(); err == nil && v.Identity.Factory {
				return sess, nil
			}
			sess.Close()
		}
		if err == nil || errors.Is(err, link.ErrLoginRefused) {
			err = fmt.Errorf("%w: the unit there has no factory settings that the maker's login opens", ErrNotTold)
		}
		return nil, v.nothingThere(call.Target, err)
	}
	earlier := call.Credential.Earlier
	if v.Brought == nil || v.Pull.Reason != core.AfterPush {
		earlier = nil
	}
	if earlier != nil && *v.Brought { // the usual one was refused already
		call.Credential = *earlier
	}
	sess, err := link.Open(ctx, call)
	if errors.Is(err, link.ErrLoginRefused) && earlier != nil && !*v.Brought {
		v.Log.Info("%v; trying the login that was used before it was changed here, once", err)
		now := call
		now.Credential = *earlier
		if again, e := link.Open(ctx, now); e == nil {
			v.Log.Warn("the version brought the login back that was used before it was changed here: change it on the device, or change the credential here; until then a pull is refused")
			*v.Brought = true
			sess, err = again, nil
		}
	}
	if err == nil {
		if v.Identity, err = sess.Identity(); err != nil {
			sess.Close()
		}
		return sess, err
	}
	factory, known := call.Credential.Factory()
	if !errors.Is(err, link.ErrLoginRefused) || !known {
		return nil, err
	}
	v.Log.Info("%v; trying the login of a unit with factory settings, once", err)
	call.Credential = factory
	if sess, e := link.Open(ctx, call); e == nil {
		if v.Identity, e = sess.Identity(); e == nil && v.Identity.Factory {
			return sess, nil
		}
		sess.Close()
	}
	return nil, err
}

// sweep removes files that earlier visits left on the device.
func (v *Visit) sweep(ctx context.Context) error {
	if dia := v.s.Dialect(v.Speaker.Dialect); dia == nil || !dia.MakesFiles() {
		return nil
	}
	left, err := v.s.Store.As(job.Service).Leftovers(ctx, v.Speaker.ID)
	if err != nil {
		return err
	}
	for _, f := range left {
		v.Log.Info("removing %s, which a visit that broke off left on the device", f.File)
		if err := v.Session.Tidy(f.Part, f.File); err != nil {
			// It may have been gone before it was there.
			v.Log.Warn("%v", err)
			var refused *link.Refused
			if !errors.As(err, &refused) {
				return err
			}
			if err := v.s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.Gone(ctx, v.Speaker.ID, f.File) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// findMember looks the device up at the one that speaks for it.
func (v *Visit) findMember() error {
	all, err := v.Session.Members()
	if err == nil {
		err = fmt.Errorf("%w: %s does not list %s among the devices it speaks for", link.ErrUnreachable, v.Speaker.Name, v.Device.Member)
		for _, m := range all {
			if m.Name == v.Device.Member {
				v.Identity = link.Identity{Host: m.Name, Serial: m.Serial, Model: m.Model, Release: m.Release}
				v.Pull.Host, v.Pull.Model, v.Pull.Serial, v.Pull.Release = m.Name, m.Model, m.Serial, m.Release
				return nil
			}
		}
	}
	v.Close()
	return err
}

// attempt waits until the device may be signed in to, and looks then whether it still may be: others may
// have been refused while this visit waited for the device. The function returned is told what came of
// it; a refusal is noted before the next may try.
func (v *Visit) attempt(ctx context.Context, target link.Target) (ended func(err error), err error) {
	s, a, set := v.s, v.s.attempts, v.Speaker.CredentialID
	if v.Speaker.Credential == "" { // a login of its own: the lease is what bounds it
		set = "device " + v.Speaker.ID
	}
	var taken, knocked bool
	ended = func(err error) {
		if errors.Is(err, link.ErrLoginRefused) && v.Where.Address == "" && !v.maker {
			// Noted whatever the visit's end is: the next that has the lease has to see it. Until it is, nobody
			// has the lease.
			lasting := context.WithoutCancel(ctx)
			for noted := false; !noted; {
				failed := s.Store.Tx(lasting, job.Service, func(q *store.Q) error { return s.refusedLogin(lasting, q, v.Speaker, err) })
				if noted = failed == nil || errors.Is(failed, store.ErrNotFound) || !s.Store.Pause(lasting, time.Second); failed != nil {
					v.Log.Warn("that the login was refused is not noted yet: %v", failed)
				}
			}
		}
		if !taken {
			return
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.under[set]--; a.under[set] <= 0 {
			delete(a.under, set)
		}
		if err == nil {
			a.right[set] = time.Now()
		} else if errors.Is(err, link.ErrLoginRefused) {
			delete(a.right, set)
		}
		close(a.turn)
		a.turn = make(chan struct{})
	}
	for !taken {
		// What is read below counts only if no attempt ended meanwhile.
		a.mu.Lock()
		turn := a.turn
		a.mu.Unlock()
		now, err := s.Store.As(job.Service).DeviceByID(ctx, v.Speaker.ID)
		if err != nil {
			return ended, err
		}
		if now.LoginLockedSince != nil {
			return ended, latched(now)
		}
		if _, err := s.Credential(ctx, now); err != nil { // its breaker may be open
			return ended, err
		}
		refusals := 0
		if now.Credential != "" {
			if refusals, err = s.Store.As(job.Service).Refusals(ctx, now.CredentialID, s.Now().Add(-breakerWithin)); err != nil {
				return ended, err
			}
		}
		a.mu.Lock()
		stale := turn != a.turn
		if !stale && (time.Since(a.right[set]) < acceptedFor || a.under[set] == 0 || a.under[set] < breakerRefusals-refusals) {
			a.under[set]++
			taken = true
		}
		a.mu.Unlock()
		if taken || stale {
			continue
		}
		// Devices that are not there wait for no turn: there would be no end of it where a site is down.
		if !knocked && len(target.Through) == 0 && target.Port > 0 && v.Where.Relay == "" {
			knocked = true
			c, err := (&net.Dialer{Timeout: v.Dialect.Connect}).DialContext(ctx, "tcp", net.JoinHostPort(target.Address, strconv.Itoa(target.Port)))
			if err != nil {
				return ended, fmt.Errorf("%w: no connection to %s port %d: %w", link.ErrUnreachable, target.Address, target.Port, err)
			}
			c.Close()
			continue
		}
		select {
		case <-turn:
		case <-time.After(time.Second): // another instance may have come to an end
		case <-ctx.Done():
			return ended, context.Cause(ctx)
		}
	}
	return ended, nil
}

// latched is why a device that refused its login is not tried.
func latched(d core.Device) error {
	return fmt.Errorf("%w (since %s)", ErrLoginLocked, d.LoginLockedSince.Format("2006-01-02 15:04 MST"))
}
