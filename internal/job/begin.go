package job

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Hold makes something count as under way that is no job, until the function
// returned is called: whoever asks whether it lives is told so.
func (r *Runtime) Hold(ctx context.Context, id string) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	r.mu.Lock()
	r.active[id] = held{cancel: cancel, noJob: true}
	r.mu.Unlock()
	return ctx, func() {
		r.mu.Lock()
		delete(r.active, id)
		r.mu.Unlock()
		cancel(nil)
	}
}

// begin runs a job on its own goroutine. again: it has a log from before. The
// channel returned is closed when it was let go.
func (r *Runtime) begin(j core.Job, again bool, yields ...bool) <-chan struct{} {
	kind, known := r.kinds[j.Kind]
	ctx, cancel := context.WithCancelCause(context.Background())
	r.mu.Lock()
	r.active[j.ID] = held{cancel: cancel, light: known && !kind.Visits, yields: len(yields) > 0 && yields[0]}
	r.mu.Unlock()
	r.running.Add(1)
	over := make(chan struct{})
	go func() {
		defer close(over)
		defer r.running.Done()
		defer r.Kick()
		defer func() {
			r.unleased(j.ID)
			r.mu.Lock()
			r.left = r.left || !r.active[j.ID].over // it is to be taken up again
			delete(r.active, j.ID)
			r.mu.Unlock()
			cancel(nil)
		}()
		l := &Log{r: r, job: j.ID}
		if again {
			var err error
			if l, err = r.resumed(j.ID); err != nil {
				slog.Warn("job's log cannot be read", "job", j.ID, "err", err)
				return
			}
		}
		defer l.Close()
		defer func() {
			if p := recover(); p != nil {
				slog.Error("job broke down", "job", j.ID, "panic", p, "stack", string(debug.Stack()))
				r.End(j, l, core.Failed, "the program broke down in the middle; this is a defect of ours, please report it", nil)
			}
		}()
		if !known {
			r.End(j, l, core.Failed, fmt.Sprintf("this version of the program knows no job of kind %q", j.Kind), nil)
			return
		}
		kind.Step(ctx, &Run{Job: j, Log: l, Runtime: r, Again: again})
	}()
	return over
}

// ErrNoHeart is returned where work is begun on an instance that nobody would go on
// believing in: it would soon wait for a heartbeat that never comes.
var ErrNoHeart = errors.New("this instance has no heartbeat yet: Alive or Start comes first")

// AtOnce begins a job now, on this instance, and waits until it is let go. The
// instance has to be alive.
func (r *Runtime) AtOnce(ctx context.Context, actor core.Actor, n store.NewJob) (j core.Job, err error) {
	if r.stop == nil {
		return j, ErrNoHeart
	}
	id := ""
	letGo := func() {
		r.mu.Lock()
		delete(r.active, id)
		r.mu.Unlock()
	}
	err = r.Store.Tx(ctx, actor, func(q *store.Q) error {
		letGo() // where it is tried again, it is another
		n := n
		if err := q.AddJob(ctx, &n); err != nil {
			return err
		}
		// It is under way as soon as others can see it: who looks for work that was left would take it up.
		j, id = n.Job, n.Job.ID
		r.mu.Lock()
		r.active[id] = held{}
		r.mu.Unlock()
		return q.TakeJob(ctx, &j, r.instance, r.incarnation)
	})
	if err != nil {
		letGo()
		return j, err
	}
	<-r.begin(j, false)
	return r.Store.As(actor).Job(ctx, j.ID)
}
