package job

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"magpie/internal/core"
	"magpie/internal/store"
)

// ErrTooLate is returned when a job no longer waits for a word, or not for that
// one.
var ErrTooLate = errors.New("it does not wait for a decision")

// Decide says a word to a job that waits: whoever takes it up goes on by it. seen
// is what somebody says they looked at.
func (r *Runtime) Decide(ctx context.Context, actor core.Actor, jobID, word, seen string) (j core.Job, err error) {
	if j, err = r.Store.As(actor).Job(ctx, jobID); err != nil {
		return j, err
	}
	if kind := r.kinds[j.Kind]; kind.Passes != nil {
		if !actor.May(kind.Role) {
			return j, fmt.Errorf("%w: to decide a %s one has to be %s", ErrRole, j.Kind, kind.Role)
		}
		return j, r.passOn(ctx, actor, j, word, seen, kind.Passes)
	}
	err = r.Store.Tx(ctx, actor, func(q *store.Q) error {
		if j, err = q.Job(ctx, jobID); err != nil {
			return err
		}
		kind := r.kinds[j.Kind]
		var answers []string // what it may wait for so that the word answers
		for _, w := range kind.Awaits {
			if w.takes(word) {
				answers = append(answers, w.For)
			}
		}
		if len(answers) == 0 {
			return r.tooLate(j, word)
		}
		if !actor.May(kind.Role) {
			return fmt.Errorf("%w: to decide a %s one has to be %s", ErrRole, j.Kind, kind.Role)
		}
		if kind.May != nil {
			if err := kind.May(ctx, q, actor, j, word, seen); err != nil {
				return err
			}
		}
		took, err := q.DecideJob(ctx, jobID, word, answers)
		if err != nil {
			return err
		}
		if !took {
			return r.tooLate(j, word)
		}
		if err := q.Audit(ctx, j.Kind+" "+word, j.Device, "job "+jobID); err != nil {
			return err
		}
		j, err = q.Job(ctx, jobID)
		return err
	})
	r.Kick()
	return j, err
}

// passOn says a word to those of the jobs that one began which wait for it.
func (r *Runtime) passOn(ctx context.Context, actor core.Actor, j core.Job, word, seen string, passes func(*store.Q, core.Job) ([]string, error)) error {
	ids, err := passes(r.Store.As(Service), j)
	if err != nil {
		return err
	}
	took := false
	for _, id := range ids {
		if _, err := r.Decide(ctx, actor, id, word, seen); err == nil {
			took = true
		} else if !errors.Is(err, ErrTooLate) {
			return err
		}
	}
	if !took {
		return fmt.Errorf("%w: none of the jobs that this %s began waits for it", ErrTooLate, j.Kind)
	}
	return nil
}

// tooLate says why a word was not taken.
func (r *Runtime) tooLate(j core.Job, word string) error {
	parked := j.State == core.Waiting && j.Instance == "" && j.Decision == "" && !j.Cancel
	wait := r.kinds[j.Kind].wait(j.Awaits)
	switch {
	case len(r.kinds[j.Kind].Awaits) == 0:
		return fmt.Errorf("%w: it is a %s", ErrTooLate, j.Kind)
	case parked && (j.Due == nil || r.clock().Before(*j.Due)) && !wait.takes(word):
		return fmt.Errorf("%w of that kind: it waits for %s, which is answered by %s", ErrTooLate, wait.Means, strings.Join(wait.said(), " or "))
	case j.State == core.Ended:
		return fmt.Errorf("%w: it ended %s: %s", ErrTooLate, j.Outcome, j.Summary)
	case j.Decision != "":
		return fmt.Errorf("%w: %s said %s already", ErrTooLate, j.DecidedBy, j.Decision)
	case j.Cancel:
		return fmt.Errorf("%w: it was cancelled, and is being brought to its end", ErrTooLate)
	case j.Due != nil:
		return fmt.Errorf("%w: the time for that is over, and it goes on by itself", ErrTooLate)
	}
	return fmt.Errorf("%w yet, or it was begun so that it never does", ErrTooLate)
}

// unpark takes up jobs that were decided or cancelled while they waited, or whose
// time has come.
func (r *Runtime) unpark(ctx context.Context) {
	if some, err := r.Store.As(Service).Decided(ctx); err != nil || !some {
		return
	}
	var jobs []core.Job
	err := r.taking(ctx, func(q *store.Q) (err error) {
		jobs, err = q.Unpark(ctx, r.instance, r.incarnation, r.instanceLives)
		return err
	})
	if err != nil {
		return
	}
	for _, j := range jobs {
		r.begin(j, true)
	}
}
