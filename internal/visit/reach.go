package visit

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// When a credential set's breaker opens: so many devices refused it within so
// long.
const (
	breakerRefusals = 3
	breakerWithin   = time.Hour
)

// ErrBreaker is why a device is not even tried: too many others refused the
// same credential set.
var ErrBreaker = errors.New("its credential set was refused by several devices and is not tried anywhere until a person says so")

// way finds how a device is reached: where, through whom and as who. Every use
// of a credential goes through here.
func (s *Service) way(ctx context.Context, d core.Device) (t link.Target, c link.Credential, err error) {
	if c, err = s.Credential(ctx, d); err != nil {
		return t, c, err
	}
	t, err = s.through(ctx, d)
	return t, c, err
}

// through finds where a device is reached and through whom.
func (s *Service) through(ctx context.Context, d core.Device) (t link.Target, err error) {
	q := s.Store.As(job.Service)
	t = link.Target{Transport: d.Transport, Address: d.Address, Port: d.Port, HostKey: d.HostKey, Ports: d.Ports}
	seen := map[string]bool{d.ID: true}
	for id := d.JumpID; id != ""; {
		hop, err := q.DeviceByID(ctx, id)
		if err != nil {
			return t, fmt.Errorf("the jump host: %w", err)
		}
		if seen[id] {
			return t, fmt.Errorf("the jump hosts lead in a circle at %s", hop.Name)
		}
		seen[id] = true
		if hop.LoginLockedSince != nil {
			return t, fmt.Errorf("%w: jump host %s: %w", link.ErrUnreachable, hop.Name, ErrLoginLocked)
		}
		cred, err := s.Credential(ctx, hop)
		if err != nil {
			return t, fmt.Errorf("jump host %s: %w", hop.Name, err)
		}
		t.Through = append([]link.Hop{{Target: link.Target{Address: hop.Address, Port: hop.Port, HostKey: hop.HostKey}, Credential: cred}}, t.Through...)
		id = hop.JumpID
	}
	return t, nil
}

func (s *Service) Credential(ctx context.Context, d core.Device) (link.Credential, error) {
	secret, open, set, err := s.Store.As(job.Service).Access(ctx, d)
	if err == nil && open != nil {
		return link.Credential{}, fmt.Errorf("%w (set %s, since %s)", ErrBreaker, set, open.Format("2006-01-02 15:04 MST"))
	}
	return LinkCredential(secret), err
}

// LinkCredential is a secret as links use it.
func LinkCredential(s store.Secret) link.Credential {
	c := link.Credential{User: s.User, Password: s.Password, Key: []byte(s.Key), Agent: s.Agent, Privileged: s.Privileged, Passphrase: s.Passphrase,
		FactoryUser: s.FactoryUser, FactoryPassword: s.FactoryPassword}
	if s.Earlier != nil {
		e := LinkCredential(*s.Earlier)
		c.Earlier = &e
	}
	return c
}

// refusedLogin latches a refused login, and opens the breaker of a credential
// set that several devices refused.
func (s *Service) refusedLogin(ctx context.Context, q *store.Q, d core.Device, cause error) error {
	if now, err := q.DeviceByID(ctx, d.ID); err != nil || now.LoginLockedSince != nil { // it is noted already
		return err
	}
	if err := q.LockLogin(ctx, d, cause.Error()); err != nil {
		return err
	}
	if err := q.Audit(ctx, "login locked", d.Name, "the device refused it; nothing tries it again until a person says so"); err != nil {
		return err
	}
	if d.Credential == "" {
		return nil
	}
	n, err := q.Refusals(ctx, d.CredentialID, s.Now().Add(-breakerWithin))
	if err != nil || n < breakerRefusals {
		return err
	}
	why := fmt.Sprintf("%d devices refused it within %s, the last was %s", n, breakerWithin, d.Name)
	if err := q.OpenBreaker(ctx, d.CredentialID, why); err != nil {
		return err
	}
	return q.Audit(ctx, "breaker open", d.Credential, why)
}

// session waits until the limits allow one more conversation. The function
// returned ends it.
func (s *Service) session(ctx context.Context, d core.Device, l *job.Log) (func(), error) {
	wants := map[string]int{}
	for key, limit := range map[string]int{"": s.limits.Sessions, "site " + d.Site: s.limits.Site, "jump " + d.JumpID: s.limits.Jump} {
		if limit > 0 && key != "site " && key != "jump " {
			wants[key] = limit
		}
	}
	r := s.sessions
	said := false
	for {
		r.mu.Lock()
		full := ""
		for key, limit := range wants {
			if r.taken[key] >= limit {
				full = key
				if key == "" {
					full = "all"
				}
			}
		}
		if full == "" {
			for key := range wants {
				r.taken[key]++
			}
			r.mu.Unlock()
			return func() {
				r.mu.Lock()
				defer r.mu.Unlock()
				for key := range wants {
					r.taken[key]--
				}
				close(r.left)
				r.left = make(chan struct{})
			}, nil
		}
		left := r.left
		r.mu.Unlock()
		if !said && full != "all" {
			said = true
			l.Info("waiting: as many conversations are open as the limit for its %s allows", full[:4])
		}
		select {
		case <-left:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// inbox is where devices send files to; nil when there is none.
func (s *Service) inbox() link.Inbox {
	if s.Inbox == nil {
		return nil
	}
	return s.Inbox
}

// errLatched is why a device is not even tried.
var ErrLoginLocked = errors.New("its login was refused before and is not tried again until a person says so")

// ErrDisabled is returned where a device is to be visited that is kept and not visited.
var ErrDisabled = errors.New("it is disabled, which keeps it and what is known of it, and visits it no more")

// Enabled are those of some devices that are visited.
func Enabled(devices []core.Device) (out []core.Device) {
	for _, d := range devices {
		if !d.Disabled {
			out = append(out, d)
		}
	}
	return out
}
