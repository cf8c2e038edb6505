package job

import (
	"context"
	"fmt"
	"log/slog"

	"magpie/internal/core"
	"magpie/internal/store"
)

// recover finds jobs whose instance died and takes them up. Taking one up counts
// as a try, so that what kills the program does not do so for ever.
func (r *Runtime) recover(ctx context.Context) {
	jobs, err := r.Store.As(Service).Unended(ctx)
	if err != nil {
		r.lookAgain()
		return
	}
	r.freeOrphans(ctx)
	for _, j := range jobs {
		if r.alive(j.ID, j.Instance, j.Incarnation) {
			continue
		}
		kind := r.kinds[j.Kind]
		state := core.Running
		if kind.Tries == 0 && kind.Visits {
			state = core.Waiting // what it left a device with is not known
		}
		here := j.Instance == r.instance && j.Incarnation == r.incarnation
		var mine bool
		err := r.taking(ctx, func(q *store.Q) (err error) {
			mine, err = q.AdoptJob(ctx, &j, r.instance, r.incarnation, state)
			return err
		})
		if err != nil {
			r.lookAgain()
		}
		if err != nil || !mine {
			continue
		}
		slog.Info("taking up a job that was left in the middle", "job", j.ID, "kind", j.Kind, "by", j.Instance)
		r.again(j, here)
	}
}

// again goes on with a job that was taken up, if it may. here: this same run of the program let go of it, since
// what it had to write was not taken.
func (r *Runtime) again(j core.Job, here bool) {
	why := "the service stopped in the middle"
	if here {
		why = "the database did not take what it had to write"
	}
	kind, known := r.kinds[j.Kind]
	l, err := r.resumed(j.ID)
	switch {
	case err != nil:
		slog.Warn("job's log cannot be read", "job", j.ID, "err", err)
		r.lookAgain()
		return
	case !known || kind.Tries == 0 && kind.Visits:
	case kind.Tries == 0:
		l.Warn("%s; it goes on", why)
		l.Close()
	case j.Cancel:
		r.End(j, l, core.Cancelled, "cancelled by hand", nil)
		return
	case j.Tries > kind.Tries:
		r.End(j, l, core.Failed, fmt.Sprintf("begun %d times, and not once to its end; the last time %s", j.Tries-1, why), nil)
		return
	default:
		l.Warn("%s; it begins anew", why)
		l.Close()
	}
	r.begin(j, true)
}

// freeOrphans lets any instance take jobs that wait for one that is gone: they
// end with what that means for them.
func (r *Runtime) freeOrphans(ctx context.Context) {
	instances, err := r.Store.As(Service).WaitedFor(ctx)
	if err != nil {
		return
	}
	for _, instance := range instances {
		if r.instanceLives(instance) {
			continue
		}
		if err := r.Store.Tx(ctx, Service, func(q *store.Q) error { return q.FreeJobs(ctx, instance) }); err != nil {
			slog.Warn("jobs of an instance that is gone", "instance", instance, "err", err)
		}
	}
}
