package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Queue queues a job once, however often it is asked for with its key, and writes
// the deed down. More may be done in the same transaction, for a new one.
func (r *Runtime) Queue(ctx context.Context, actor core.Actor, deed string, n store.NewJob, detail string, also ...func(ctx context.Context, q *store.Q, j core.Job) error) (j core.Job, err error) {
	err = r.Store.Tx(ctx, actor, func(q *store.Q) error {
		n := n
		err := q.AddJob(ctx, &n)
		if j = n.Job; err != nil || n.Old {
			return err
		}
		for _, do := range also {
			if err := do(ctx, q, j); err != nil {
				return err
			}
		}
		return q.Audit(ctx, deed, j.Device, "job "+j.ID+", "+detail)
	})
	if errors.Is(err, store.ErrTaken) { // another instance asked with the same key, just now
		if old, asked, e := r.Store.As(actor).Asked(ctx, n.Key); e == nil && asked {
			return old, nil
		}
	}
	r.Kick()
	return j, err
}

// ErrKind is returned for a kind of job that nobody can ask for by its name.
var ErrKind = errors.New("no such kind of job")

// ErrRole is returned where an actor's role is not enough.
var ErrRole = errors.New("that takes another role")

// Ask queues a job of a kind by its name. with is what goes with it, as JSON; device
// is about whom it is, if it is about one.
func (r *Runtime) Ask(ctx context.Context, actor core.Actor, kind string, device core.Device, with []byte, key store.Key) (core.Job, error) {
	k, ok := r.kinds[kind]
	switch {
	case !ok:
		return core.Job{}, fmt.Errorf("%w: %s; there are %s", ErrKind, kind, strings.Join(r.KindNames(), ", "))
	case k.Asks == nil:
		return core.Job{}, fmt.Errorf("%w by its name alone: a %s is asked for in a way of its own", ErrKind, kind)
	case !actor.May(k.Role):
		return core.Job{}, fmt.Errorf("%w: to ask for a %s one has to be %s", ErrRole, kind, k.Role)
	case k.Visits && device.ID == "":
		return core.Job{}, fmt.Errorf("%w without a device: a %s is about one", ErrKind, kind)
	}
	j := core.Job{Kind: kind, DeviceID: device.ID, Device: device.Name}
	wants, err := k.Asks(ctx, actor, j, with)
	if err != nil {
		return j, err
	}
	return r.Queue(ctx, actor, kind, store.NewJob{Job: j, Wants: wants, Key: key}, "by its name")
}

// ErrRepeat is returned for a job of which no other like it can be asked for.
var ErrRepeat = errors.New("it cannot be repeated as it is")

// Repeat queues a job like an earlier one.
func (r *Runtime) Repeat(ctx context.Context, actor core.Actor, id, note string, key store.Key) (core.Job, error) {
	q := r.Store.As(actor)
	old, err := q.Job(ctx, id)
	if err != nil {
		return old, err
	}
	k, ok := r.kinds[old.Kind]
	switch {
	case !ok || !k.Repeats:
		return old, fmt.Errorf("%w: a %s is asked for anew, once it was looked at what it would do", ErrRepeat, old.Kind)
	case !actor.May(k.Role):
		return old, fmt.Errorf("%w: to ask for a %s one has to be %s", ErrRole, old.Kind, k.Role)
	}
	var asked json.RawMessage
	if err := q.OpenRequest(old, &asked); err != nil {
		return old, err
	}
	j := core.Job{Kind: old.Kind, DeviceID: old.DeviceID, Device: old.Device}
	if old.DeviceID != "" {
		d, err := q.DeviceByID(ctx, old.DeviceID) // it may be called otherwise by now, or be gone
		if err != nil {
			return old, err
		}
		j.Device = d.Name
	}
	var wants any = asked
	if k.Asks != nil { // as a person asks for it
		if wants, err = k.Asks(ctx, actor, j, asked); err != nil {
			return old, err
		}
	}
	return r.Queue(ctx, actor, old.Kind, store.NewJob{Job: j, Wants: wants, Key: key}, "like job "+id+core.Because(note))
}

// End ends a job with its outcome. More may be written in the same transaction,
// and what its kind lets go at its end always is.
func (r *Runtime) End(j core.Job, l *Log, outcome, summary string, result any, also ...func(q *store.Q) error) {
	ctx := context.Background() // it waits for the database as long as it takes
	r.hangUp(j.ID)
	l.Add("end", outcome+": "+summary, "")
	err := l.Commit(ctx, func(q *store.Q) error {
		for _, do := range also {
			if err := do(q); err != nil {
				return err
			}
		}
		return r.EndIn(ctx, q, j, outcome, summary, result)
	})
	if err != nil {
		// The row still says "running" under this incarnation; recovery will find it.
		slog.Error("job's end not kept", "job", j.ID, "outcome", outcome, "err", err)
		r.lookAgain()
		return
	}
	r.unleased(j.ID)
}

// EndIn does so in a transaction that is open. The job's conversations are over by then: the devices that it
// holds are let go with it.
func (r *Runtime) EndIn(ctx context.Context, q *store.Q, j core.Job, outcome, summary string, result any) error {
	if err := r.letGo(ctx, q, j, outcome); err != nil {
		return err
	}
	if err := r.unlease(ctx, q, j.ID); err != nil {
		return err
	}
	r.over(j.ID)
	if err := q.EndJob(ctx, j.ID, outcome, summary, result); err != nil || j.Kind == "pull" || j.PartOf != "" || outcome == core.Cancelled {
		return err // of a pull its device's state tells, of a part the whole
	}
	what := core.JobEnded
	if slices.Contains(core.Well, outcome) {
		if what = core.JobWentWell; !r.kinds[j.Kind].Tells {
			return nil
		}
	}
	return q.Happen(ctx, what, j.DeviceID, j.Device, j.ID, core.Happened{Kind: j.Kind, State: outcome, By: j.Actor, Says: summary})
}

// letGo does what has to happen whenever a job of the kind ends.
func (r *Runtime) letGo(ctx context.Context, q *store.Q, j core.Job, outcome string) error {
	if end := r.kinds[j.Kind].End; end != nil {
		return end(ctx, q, j, outcome)
	}
	return nil
}

// Cancel asks a job to stop. One that was not begun ends at once.
func (r *Runtime) Cancel(ctx context.Context, actor core.Actor, id string) (j core.Job, err error) {
	err = r.Store.Tx(ctx, actor, func(q *store.Q) (err error) {
		if j, err = q.Job(ctx, id); err != nil {
			return err
		}
		if j.State == core.Ended {
			return fmt.Errorf("job %s: %w: %s", id, ErrEnded, j.Outcome)
		}
		if k := r.kinds[j.Kind]; !actor.May(k.Role) {
			return fmt.Errorf("%w: to cancel a %s one has to be %s", ErrRole, j.Kind, k.Role)
		}
		if err := q.CancelJob(ctx, id); err != nil {
			return err
		}
		if j, err = q.Job(ctx, id); err != nil {
			return err
		}
		if j.State == core.Ended { // now: it was not taken meanwhile
			if err := r.letGo(ctx, q, j, core.Cancelled); err != nil {
				return err
			}
		}
		return q.Audit(ctx, "cancel", j.Device, "job "+id)
	})
	r.Hub.Tell(id)
	r.Kick()
	return j, err
}

// ErrEnded is returned where a job has ended already.
var ErrEnded = errors.New("it has ended")

// Await waits until a job has ended, or until is true of it.
func (r *Runtime) Await(ctx context.Context, id string, until func(core.Job) bool) (core.Job, error) {
	hint, stop := r.Hub.Watch(id)
	defer stop()
	for {
		j, err := r.Store.As(Service).Job(ctx, id)
		if err != nil || j.State == core.Ended || until != nil && until(j) {
			return j, err
		}
		select {
		case <-ctx.Done():
			return j, context.Cause(ctx)
		case <-hint:
			time.Sleep(20 * time.Millisecond) // more is likely to follow at once
		case <-time.After(awaitEvery): // another instance does it
		}
	}
}
