package routine

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/visit"
)

const (
	hearEvery = 10 * time.Second // how often it is looked which devices are to be heard
	mostHeard = 500              // sessions of one instance
	hearAgain = 30 * time.Second // after a session broke; twice as long each time
	hearLast  = 30 * time.Minute // at the most
)

// hearing keeps a session open with each device that tells of its changes by notifications
// (RFC 5277). Of several instances each hears its share.
type hearing struct {
	mu       sync.Mutex
	sessions map[string]*hearer // by device
	over     bool               // more devices than an instance hears: that was said
}

// hearer is one device's session, open or to be opened again.
type hearer struct {
	stop context.CancelFunc
	was  core.Device
	open bool
}

// Hearing counts the sessions for notifications that are open, and those that should be.
func (s *Service) Hearing() (open, wanted int) {
	h := &s.hearing
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, x := range h.sessions {
		if x.open {
			open++
		}
	}
	return open, len(h.sessions)
}

// hear looks, time after time, which devices are to be heard by this instance.
func (s *Service) hear(ctx context.Context) {
	tick := time.NewTicker(hearEvery)
	defer tick.Stop()
	var all sync.WaitGroup
	defer all.Wait()
	for {
		if err := s.share(ctx, &all); err != nil && ctx.Err() == nil {
			slog.Warn("looking which devices tell of changes", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// share begins and ends sessions, so that this instance has its share of them.
func (s *Service) share(ctx context.Context, all *sync.WaitGroup) error {
	var tell []string
	for _, d := range s.Dialects() {
		if d.Notifications {
			tell = append(tell, d.Dialect)
		}
	}
	var devices []core.Device
	if len(tell) > 0 {
		var err error
		if devices, err = s.Store.As(job.Service).Speaking(ctx, tell); err != nil {
			return err
		}
	}
	living, err := s.Living(ctx)
	if err != nil {
		return err
	}
	h := &s.hearing
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.sessions == nil {
		h.sessions = map[string]*hearer{}
	}
	mine := map[string]core.Device{}
	for _, d := range devices {
		if d.Disabled || d.LoginLockedSince != nil || d.Member != "" || d.HostKey == "" || !s.Mine(d.ID, living) {
			continue
		}
		if len(mine) == mostHeard {
			if !h.over {
				slog.Warn("more devices tell of changes than this instance hears; the others are pulled by schedule only", "heard", mostHeard)
			}
			h.over = true
			break
		}
		mine[d.ID] = d
	}
	for id, x := range h.sessions {
		if d, ok := mine[id]; !ok || d.Revision != x.was.Revision {
			x.stop()
			delete(h.sessions, id)
		}
	}
	for id, d := range mine {
		if h.sessions[id] == nil {
			own, stop := context.WithCancel(ctx)
			x := &hearer{stop: stop, was: d}
			h.sessions[id] = x
			all.Go(func() { s.hearOne(own, d, x) })
		}
	}
	return nil
}

// hearOne keeps one device's session, and opens it again when it breaks. What may have been
// missed meanwhile is looked after by a pull.
func (s *Service) hearOne(ctx context.Context, d core.Device, x *hearer) {
	set := func(open bool) {
		s.hearing.mu.Lock()
		defer s.hearing.mu.Unlock()
		x.open = open
	}
	said := func(user string) {
		if err := s.Noticed(ctx, d, user, "netconf"); err != nil && ctx.Err() == nil {
			slog.Warn("a change trigger is written down with the next", "device", d.Name, "err", err)
		}
	}
	wait, before := hearAgain, false
	for ctx.Err() == nil {
		err := s.Hear(ctx, d, func() {
			set(true)
			if wait = hearAgain; before {
				said("")
			}
			before = true
		}, said)
		set(false)
		if ctx.Err() != nil {
			return
		}
		slog.Info("not told of changes any more", "device", d.Name, "err", err, "again", wait.String())
		if errors.Is(err, link.ErrLoginRefused) || errors.Is(err, visit.ErrLoginLocked) || errors.Is(err, link.ErrNoNotifications) {
			wait = hearLast // a person has to see to that; then the device's entry changes, and it is begun anew
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, hearLast)
	}
}
