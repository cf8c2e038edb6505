package routine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// After a device was said to have changed, it is pulled once nothing more was said for
// quiet, and after most at the latest.
const (
	quiet = 30 * time.Second
	most  = 5 * time.Minute
)

// said is what was said of a device since it was last written down.
type said struct {
	author string
	inlet  string
	times  int
}

// notices gathers what is said of devices, so that a storm of it costs one row a device and
// second.
type notices struct {
	mu      sync.Mutex
	pending map[string]said
	written map[string]time.Time // by device, when it was written down last
}

// Noticed takes in that a device was said to have changed. The first of it is kept at once;
// what follows within a second is kept with the next look.
func (s *Service) Noticed(ctx context.Context, d core.Device, author, inlet string) error {
	n := s.notices
	n.mu.Lock()
	x := n.pending[d.ID]
	if author != "" {
		x.author = author
	}
	x.inlet, x.times = inlet, x.times+1
	n.pending[d.ID] = x
	late := time.Since(n.written[d.ID]) < lookEvery
	n.mu.Unlock()
	if late {
		s.Expect(store.ForNotices)
		return nil
	}
	return s.writeDown(ctx, d.ID)
}

// writeDown keeps what was said of devices; of all, where none is named.
func (s *Service) writeDown(ctx context.Context, ids ...string) error {
	n := s.notices
	n.mu.Lock()
	if len(ids) == 0 {
		for id := range n.pending {
			ids = append(ids, id)
		}
	}
	taken := map[string]said{}
	for _, id := range ids {
		if x, ok := n.pending[id]; ok {
			taken[id] = x
			delete(n.pending, id)
			n.written[id] = time.Now()
		}
	}
	n.mu.Unlock()
	if len(taken) == 0 {
		return nil
	}
	err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		for id, x := range taken {
			if err := q.Noticed(ctx, id, x.author, x.inlet, x.times); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil { // it is kept with the next look
		n.mu.Lock()
		for id, x := range taken {
			y := n.pending[id]
			y.times += x.times
			if y.author == "" {
				y.author = x.author
			}
			y.inlet = x.inlet
			n.pending[id] = y
		}
		n.mu.Unlock()
	}
	return err
}

// heed pulls the devices that were said to have changed, once it is quiet about them.
func (s *Service) heed(ctx context.Context) error {
	if err := s.writeDown(ctx); err != nil {
		return err
	}
	now := s.Now()
	due, err := s.Store.As(job.Service).DueNotices(ctx, now.Add(-quiet), now.Add(-most), 500)
	if err != nil || len(due) == 0 {
		return err
	}
	for _, n := range due {
		if err := s.pullNoticed(ctx, n); err != nil {
			slog.Warn("pulling what was said to have changed", "device", n.DeviceID, "err", err)
		}
	}
	s.Kick()
	return nil
}

func (s *Service) pullNoticed(ctx context.Context, n store.Notice) error {
	d, err := s.Store.As(job.Service).DeviceByID(ctx, n.DeviceID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err // it is asked for again
	}
	gone := err != nil || d.Disabled
	actor := core.Actor{Name: "change trigger", Role: core.Operator}
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if mine, err := q.TakeNotice(ctx, n); err != nil || !mine || gone {
			return err
		}
		j := store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, Wants: visit.PullRequest{Reason: core.ByNotice, Author: n.Author},
			Key: store.OwnKey(actor, fmt.Sprintf("%s %s", n.DeviceID, n.LastAt.UTC().Format(time.RFC3339Nano)))}
		return q.AddJob(ctx, &j)
	})
}
