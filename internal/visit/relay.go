package visit

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// How long a relay may stay open.
const (
	MinRelay = time.Minute
	MaxRelay = 12 * time.Hour
)

// ErrRelay is returned for a relay that is not open, or not for this.
var ErrRelay = errors.New("no relay")

// RelayFor says what a relay for a device would lend: where the unit is, and
// which addresses the machine beside it would connect to. at is HOST or
// HOST:PORT; empty is the device's own address.
func (s *Service) RelayFor(d core.Device, at string) (reaches []string, err error) {
	dia := s.DialectOf(d)
	if dia == nil {
		return nil, fmt.Errorf("%w: no dialect is named %q here", ErrRelay, d.Dialect)
	}
	if d.Member != "" {
		return nil, fmt.Errorf("%w: %s is spoken to by way of %s; lend the reach to that", ErrRelay, d.Name, d.Parent)
	}
	if d.JumpID != "" {
		return nil, fmt.Errorf("%w: %s is reached through a jump host, %s", ErrRelay, d.Name, d.Jump)
	}
	ports := []int{d.Port}
	for _, p := range d.Ports {
		ports = append(ports, p)
	}
	for _, host := range []string{at, d.Address} {
		if host == "" {
			continue
		}
		if h, p, err := net.SplitHostPort(host); err == nil {
			if n, err := strconv.Atoi(p); err == nil {
				reaches = append(reaches, net.JoinHostPort(h, strconv.Itoa(n)))
			}
			continue
		}
		for _, p := range ports {
			if a := net.JoinHostPort(host, strconv.Itoa(p)); !slices.Contains(reaches, a) {
				reaches = append(reaches, a)
			}
		}
	}
	return reaches, nil
}

// OpenRelay takes a relay into use, until the context ends.
func (s *Service) OpenRelay(ctx context.Context, actor core.Actor, d core.Device, at string, until time.Time, dial Dialer) (store.Relay, error) {
	r := store.Relay{DeviceID: d.ID, Device: d.Name, Instance: s.Instance(), Incarnation: s.Incarnation(), Address: at, Until: until}
	err := s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if err := q.AddRelay(ctx, &r); err != nil {
			return err
		}
		where := at
		if where == "" {
			where = d.Address
		}
		return q.Audit(ctx, "relay opened", d.Name, fmt.Sprintf("relay %s, to %s, until %s", r.ID, where, until.UTC().Format("15:04 MST")))
	})
	if err != nil {
		return r, err
	}
	s.mu.Lock()
	s.relays[r.ID] = openRelay{r, dial}
	s.mu.Unlock()
	context.AfterFunc(ctx, func() { s.closeRelay(actor, r) })
	return r, nil
}

func (s *Service) closeRelay(actor core.Actor, r store.Relay) {
	s.mu.Lock()
	delete(s.relays, r.ID)
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	_ = s.Store.Tx(ctx, actor, func(q *store.Q) error { // a row that stays lapses by itself
		if _, err := q.Relay(ctx, r.ID); errors.Is(err, store.ErrNotFound) {
			return q.RemoveRelay(ctx, r.ID) // it was closed by hand, and that is written down
		}
		if err := q.RemoveRelay(ctx, r.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "relay closed", r.Device, "relay "+r.ID)
	})
}

// CloseRelay ends a relay, wherever its connection is held.
func (s *Service) CloseRelay(ctx context.Context, actor core.Actor, id string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		r, err := q.Relay(ctx, id)
		if err != nil {
			return err
		}
		if r.ActorID != actor.ID && !actor.May(core.Admin) {
			return fmt.Errorf("%w: %s opened it, and who is no admin closes only their own", ErrMayNotClose, r.Actor)
		}
		if err := q.RemoveRelay(ctx, id); err != nil {
			return err
		}
		return q.Audit(ctx, "relay closed", r.Device, "relay "+id+" of "+r.Actor+", by hand")
	})
}

// ErrMayNotClose is returned when somebody closes a relay that is not theirs.
var ErrMayNotClose = errors.New("not your relay")

// RelayOver tells why a relay is to end, or "". A database that is away is no
// reason.
func (s *Service) RelayOver(ctx context.Context, r store.Relay) string {
	q := s.Store.As(job.Service)
	if _, err := q.Relay(ctx, r.ID); errors.Is(err, store.ErrNotFound) {
		return "somebody closed the relay, or its time is over"
	}
	u, err := q.UserByID(ctx, r.ActorID)
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && (u.Disabled || !u.Actor().May(core.Operator)):
		return r.Actor + ", who opened the relay, may not lend reach any more"
	}
	return ""
}

// UseRelay checks that somebody may use a relay for a device, and returns it.
func (s *Service) UseRelay(ctx context.Context, actor core.Actor, id string, d core.Device) (store.Relay, error) {
	r, err := s.Store.As(actor).Relay(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return r, fmt.Errorf("%w %s is open: it ended, or lost its connection; open another beside the unit: magpie relay %s", ErrRelay, id, d.Name)
	}
	if err == nil && r.DeviceID != d.ID {
		err = fmt.Errorf("%w: %s lends its reach to %s only", ErrRelay, id, r.Device)
	}
	return r, err
}

// ProbeRelay returns the way through a relay, to ask a unit for its key.
func (s *Service) ProbeRelay(ctx context.Context, actor core.Actor, id string) (Dialer, error) {
	if _, err := s.Store.As(actor).Relay(ctx, id); err != nil {
		return nil, err
	}
	return s.relay(id, "")
}

// relay finds an open relay on this instance: the one asked for, or another one for
// the same device that was opened since.
func (s *Service) relay(id, deviceID string) (Dialer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r, ok := s.relays[id]; ok {
		return r.dial, nil
	}
	for _, r := range s.relays {
		if deviceID != "" && r.DeviceID == deviceID {
			return r.dial, nil
		}
	}
	return nil, fmt.Errorf("%w %s is open on this instance: it ended, or lost its connection", ErrRelay, id)
}
