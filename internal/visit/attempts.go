package visit

import (
	"context"
	"errors"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// attempts bounds how many devices are signed in to at once with one credential set of which it is
// not known that it is right: as many as may refuse it before its breaker opens, less those that did.
type attempts struct {
	mu    sync.Mutex
	under map[string]int       // sets being tried now, with how often
	right map[string]time.Time // when a set was last accepted somewhere
	turn  chan struct{}        // closed when one of them came to its end
}

func newAttempts() *attempts {
	return &attempts{under: map[string]int{}, right: map[string]time.Time{}, turn: make(chan struct{})}
}

// acceptedFor is how long a set that was accepted somewhere is taken for right.
const acceptedFor = time.Minute

// attempt waits until the device may be signed in to, and looks then whether it still may be: others may
// have been refused while this visit waited for the device. The function returned is told what came of
// it; a refusal is noted before the next may try.
func (v *Visit) attempt(ctx context.Context) (ended func(err error), err error) {
	s, a, set := v.s, v.s.attempts, v.Speaker.CredentialID
	if v.Speaker.Credential == "" { // a login of its own: the lease is what bounds it
		set = "device " + v.Speaker.ID
	}
	var taken bool
	ended = func(err error) {
		if errors.Is(err, link.ErrLoginRefused) && v.Where.Address == "" && !v.maker {
			// Noted whatever the visit's end is: the next that has the lease has to see it.
			_ = s.Store.Tx(context.WithoutCancel(ctx), job.Service, func(q *store.Q) error {
				return s.refusedLogin(context.WithoutCancel(ctx), q, v.Speaker, err)
			})
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
		now, err := s.Store.As(job.Service).DeviceByID(ctx, v.Speaker.ID)
		if err != nil {
			return ended, err
		}
		if now.LatchedSince != nil {
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
		if time.Since(a.right[set]) < acceptedFor || a.under[set] == 0 || a.under[set] < breakerRefusals-refusals {
			a.under[set]++
			taken = true
		}
		turn := a.turn
		a.mu.Unlock()
		if taken {
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
	return &latchedError{d.LatchedSince.Format("2006-01-02 15:04 MST")}
}

type latchedError struct{ since string }

func (e *latchedError) Error() string { return ErrLatched.Error() + " (since " + e.since + ")" }

func (e *latchedError) Unwrap() error { return ErrLatched }
