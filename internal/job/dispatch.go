package job

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Start begins taking jobs.
func (r *Runtime) Start() {
	r.Alive()
	r.done.Add(1)
	go func() { defer r.done.Done(); r.dispatch(r.until) }()
}

// Stop takes no more jobs, lets those under way come to an end for the given
// time, and then breaks them off; they are taken up again at the next start. The
// heart beats on until they have let go: what is allowed to come to its end may
// also send what that takes.
func (r *Runtime) Stop(grace time.Duration) {
	r.stop()
	r.done.Wait()
	defer r.still.Wait()
	defer r.heart()
	ended := make(chan struct{})
	go func() { r.running.Wait(); close(ended) }()
	select {
	case <-ended:
		return
	case <-time.After(grace):
	}
	r.mu.Lock()
	for _, h := range r.active {
		h.cancel(ErrStopping)
	}
	r.mu.Unlock()
	select {
	case <-ended:
	case <-time.After(stopGrace): // they wait for a database that is away
		r.Store.GiveUp()
	}
	select {
	case <-ended:
	case <-time.After(stopGrace): // whoever starts next takes them up, as after a kill
		r.mu.Lock()
		defer r.mu.Unlock()
		slog.Error("work is left in the middle, since it does not end", "jobs", slices.Sorted(maps.Keys(r.active)))
	}
}

// stopGrace is how long work that is owed to a device may go on once the service
// is to stop.
const stopGrace = 15 * time.Second

// Lasting is a context for what is owed to a device: no cancel ends it, only the
// end of the service, and that not before its grace is over. Whoever comes next
// then goes on.
func (r *Runtime) Lasting() (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(context.Background())
	if r.until == nil {
		return ctx, func() { cancel(nil) }
	}
	stop := context.AfterFunc(r.until, func() { time.AfterFunc(stopGrace, func() { cancel(ErrStopping) }) })
	return ctx, func() { stop(); cancel(nil) }
}

// dispatch takes queued jobs and takes up those whose instance died.
func (r *Runtime) dispatch(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	r.watch(ctx)
	r.recover(ctx)
	for recovered := time.Now(); ; {
		looked := time.Now()
		if r.Sure() == nil { // what is begun while others may think us dead fails at once
			r.take(ctx)
			r.unpark(ctx)
			if r.leftBehind() || time.Since(recovered) > recoverEvery {
				r.recover(ctx)
				recovered = time.Now()
			}
		}
		r.cancelAsked(ctx)
		for wait := true; wait; {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				// With nothing under way and nothing to begin, nothing is asked.
				wait = !r.busy() && !r.isDue(store.ForJobs) && time.Since(recovered) <= recoverEvery
			case <-r.kick:
				// Many jobs may end at once: let the places they leave be filled together.
				time.Sleep(50*time.Millisecond - time.Since(looked))
				wait = false
			}
		}
	}
}

// recoverEvery is how often it is looked for jobs that were left though no heart stands still.
const recoverEvery = time.Minute

// busy tells whether something is under way here, or may have been left by what was.
func (r *Runtime) busy() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.jobs()) > 0 || r.left
}

// leftBehind tells whether it has to be looked for jobs that were left, and takes note that it is.
func (r *Runtime) leftBehind() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	left := r.left
	r.left = false
	return left
}

func (r *Runtime) take(ctx context.Context) {
	for {
		r.mu.Lock()
		free, yielding := r.places()
		r.mu.Unlock()
		if free <= 0 || ctx.Err() != nil {
			return
		}
		if err := r.Store.HasRoom(); err != nil {
			if now := time.Now(); now.Sub(r.complained) > time.Minute {
				r.complained = now
				slog.Warn("nothing new is begun", "why", err)
			}
			return
		}
		var jobs []core.Job
		var yields map[string]bool
		err := r.taking(ctx, func(q *store.Q) (err error) {
			jobs, yields, err = q.TakeJobs(ctx, r.instance, r.incarnation, min(free, 16), r.yielding(), min(yielding, 16))
			return err
		})
		if err != nil && ctx.Err() == nil && !errors.Is(err, ErrLeaseLost) {
			slog.Warn("looking for work", "err", err)
		}
		if err != nil {
			return
		}
		for _, j := range jobs {
			r.begin(j, j.Tries > 1, yields[j.ID])
		}
		if len(jobs) < min(free, 16) {
			return
		}
	}
}

// yielding are the names of the kinds that let others go first.
func (r *Runtime) yielding() (names []string) {
	for _, k := range r.kinds {
		if k.Yields {
			names = append(names, k.Name)
		}
	}
	return names
}

// jobs are those under way here. r.mu is held.
func (r *Runtime) jobs() (ids []string) {
	for id, h := range r.active {
		if !h.noJob {
			ids = append(ids, id)
		}
	}
	return ids
}

func (r *Runtime) cancelAsked(ctx context.Context) {
	r.mu.Lock()
	ids := r.jobs()
	r.mu.Unlock()
	asked, err := r.Store.As(Service).Cancelled(ctx, ids)
	if err != nil {
		return
	}
	for _, id := range asked {
		r.mu.Lock()
		cancel := r.active[id].cancel
		r.mu.Unlock()
		if cancel != nil {
			cancel(ErrCancelled)
		}
	}
}

// New makes the runtime of an instance; instance is its name, which it keeps when it
// is started again.
func New(ctx context.Context, st *store.Store, instance string, clock func() time.Time) (*Runtime, error) {
	incarnation := make([]byte, 8)
	_, _ = rand.Read(incarnation)
	r := &Runtime{Store: st, clock: clock, state: &state{Hub: newHub(), kinds: map[string]Kind{}, instance: instance, incarnation: hex.EncodeToString(incarnation), sessions: 48,
		watched: map[string]heartbeat{}, active: map[string]held{}, kick: make(chan struct{}, 1), anew: make(chan struct{}, 1)}}
	return r, r.Store.Tx(ctx, Service, func(q *store.Q) error {
		r.lastBeat = time.Now()
		return q.Beat(ctx, r.instance, r.incarnation, 1)
	})
}
