package push

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// settleLater hands a push whose end is not known to settle.
func (s *Service) settleLater(j core.Job, l *job.Log) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	err := l.Commit(ctx, func(q *store.Q) error {
		return q.SetJobState(ctx, j.ID, core.Waiting, "what the device runs is not known; it is looked at as soon as it answers")
	})
	if err != nil {
		slog.Error("push left for recovery", "job", j.ID, "err", err)
	}
	// Recovery finds the job without a worker and calls settle.
}

// settle takes up a push that broke off: it says what was sent, looks at the
// device as soon as that can be done, and says what it runs. It sends nothing;
// the undo is offered, not done.
func (s *Service) settle(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	u := &push{s: s, j: j, l: l}
	// A push that was cancelled is owed its end all the same.
	owed, done := s.Lasting()
	defer done()
	err := q.OpenRequest(j, &u.req)
	if err == nil {
		err = s.Papers(owed, u.req.PreviewID, &u.p)
	}
	if owed.Err() != nil {
		return // the next start goes on
	}
	if err != nil {
		u.finish(core.Unknown, "the push broke off and its papers cannot be read: "+err.Error())
		return
	}
	u.res = Result{Target: u.p.Target, Total: u.p.LineCount()}
	u.journal, err = q.Journal(owed, j.ID)
	if err == nil && (u.journal.Due != nil || u.journal.Phase == "staged") {
		if err := u.reload(owed); err != nil {
			return // the database is away; recovery comes again
		}
		if u.journal.Due != nil {
			u.resume(owed)
		} else {
			u.unhold(owed)
		}
		return
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && u.journal.Announced == 0 {
		u.finish(core.Failed, "the service stopped before anything was sent; the device was not changed")
		return
	}
	if err != nil {
		return // the database is away; recovery comes again
	}
	if err := u.reload(owed); err != nil {
		return
	}
	known := u.known()
	l.Warn("%s", known)
	for wait := time.Second; ; wait = min(2*wait, time.Minute) {
		ended, err := u.look(ctx, known)
		if ended {
			return
		}
		if errors.Is(context.Cause(ctx), job.ErrStopping) {
			return
		}
		if errors.Is(context.Cause(ctx), job.ErrCancelled) {
			u.finish(core.Unknown, known+"; the device could not be looked at, and waiting for it was called off by hand")
			return
		}
		u.state(fmt.Sprintf("%s; waiting to look at the device: %v", known, err))
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// Papers opens the preview that a job goes by, also when the database is away for
// a moment.
func (s *Service) Papers(ctx context.Context, id string, into *Preview) (err error) {
	for range 6 {
		if _, err = s.Store.As(job.Service).Preview(ctx, id, into); err == nil || errors.Is(err, store.ErrNotFound) || ctx.Err() != nil {
			break
		}
		time.Sleep(time.Second)
	}
	return err
}

// reload finds again what a push knew before it was interrupted.
func (u *push) reload(ctx context.Context) error {
	q := u.s.Store.As(job.Service)
	if err := q.OpenResult(u.j, &u.res); err != nil {
		return err
	}
	before, err := q.VersionByID(ctx, u.journal.BeforeID)
	if err == nil {
		u.before, u.res.Before, u.res.BeforeID = before, before.Ref(), before.ID
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	d, err := q.DeviceByID(ctx, u.j.DeviceID)
	if errors.Is(err, store.ErrNotFound) {
		d, err = core.Device{ID: u.j.DeviceID, Name: u.j.Device}, nil // look says so
	}
	u.v = u.after(d, 0)
	return err
}

func (u *push) state(summary string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := u.l.Commit(ctx, func(q *store.Q) error { return q.SetJobState(ctx, u.j.ID, core.Waiting, summary) }); err != nil {
		slog.Warn("job's state not kept", "job", u.j.ID, "err", err)
	}
}

// known says what the journal tells of a push that broke off.
func (u *push) known() string {
	n := u.journal
	doing := n.Phase
	if doing == "saving" {
		doing = "saving to startup"
	}
	switch {
	case n.Phase == "saving" || n.Phase == "proving":
		return fmt.Sprintf("the push broke off while %s; all %d lines had been taken", doing, n.Total)
	case n.Answered < n.Announced:
		return fmt.Sprintf("the push broke off while %s: of %d lines, %d were taken and line %d is in doubt", doing, n.Total, n.Answered, n.Announced)
	}
	return fmt.Sprintf("the push broke off while %s: of %d lines, %d were taken", doing, n.Total, n.Answered)
}

// look pulls the device and ends the push with what it finds.
func (u *push) look(ctx context.Context, known string) (ended bool, err error) {
	s := u.s
	d, err := s.Store.As(job.Service).DeviceByID(ctx, u.j.DeviceID)
	if errors.Is(err, store.ErrNotFound) {
		u.finish(core.Unknown, known+"; the device was removed since")
		return true, nil
	}
	if err != nil {
		return false, err
	}
	v := u.after(d, u.looks)
	u.looks++
	if err := u.open(ctx, v); err != nil {
		return false, err
	}
	defer v.Close()
	if err := v.Fetch(); err != nil {
		return false, err
	}
	v.Close()
	if left, err := u.differs(ctx, v); err == nil && len(left) == 0 {
		if err := u.takePlace(); err != nil {
			return false, err
		}
	}
	k, err := v.Keep(context.WithoutCancel(ctx))
	if err != nil {
		return false, err
	}
	u.res.After = k.Versions[u.p.Part].Ref()
	outcome, summary, err := u.verdict(ctx, v)
	if err != nil {
		return false, err
	}
	if outcome != core.Residuals || u.p.Method == "merge" && len(u.res.Remaining) == len(u.p.Remains) {
		u.finish(outcome, known+"; looked at since: "+summary)
		return true, nil
	}
	if back, err := u.isBefore(ctx, v); err != nil {
		return false, err
	} else if back {
		u.res.Remaining = nil
		if u.p.Method == "stage" && v.Unsaved() {
			u.finish(core.NotSaved, fmt.Sprintf("%s; looked at since: the device runs what it ran before, %s, but startup does not hold that: a restart would bring something else; to have startup hold what runs: magpie push %s; to go on: magpie push %s --method stage",
				known, u.res.Before, u.res.Before, u.p.Target))
			return true, nil
		}
		u.finish(core.Undone, known+"; looked at since: the device runs what it ran before, "+u.res.Before)
		return true, nil
	}
	u.finish(core.Residuals, fmt.Sprintf("%s; looked at since and kept as %s: %d lines differ from %s; to go back to what ran before: magpie push %s; to finish it: magpie push %s",
		known, u.res.After, len(u.res.Remaining), u.p.Target, u.res.Before, u.p.Target))
	return true, nil
}

// isBefore tells whether the device runs what it ran before the push.
func (u *push) isBefore(ctx context.Context, v *visit.Visit) (bool, error) {
	left, err := u.against(ctx, v, u.before.ContentID)
	return err == nil && len(left) == 0, err
}
