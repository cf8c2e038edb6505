package push

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// step goes on with a push from wherever it stands, until it ends, is set aside, or
// is left to another.
func (s *Service) step(ctx context.Context, r *job.Run) {
	owed, done := s.Lasting()
	defer done()
	u := &push{s: s, j: r.Job, l: r.Log, again: r.Again, ctx: ctx, owed: owed}
	if !u.load() {
		return
	}
	defer u.close()
	facts := u.facts(Facts{})
	for {
		a := Decide(u.st, facts)
		if a.Why != "" {
			u.course(a, facts)
		}
		switch a.Deed {
		case LeaveToAnother:
			return
		case End:
			var also []func(q *store.Q) error
			if facts.Did == Check && facts.Report != Stale {
				also = u.unchecked()
			}
			u.end(a.Outcome, u.ending(a, facts), also...)
			return
		}
		if a.Deed == Arm {
			u.choose()
		}
		u.st = u.st.Before(a, facts)
		if a.After > 0 && !u.wait(a) {
			return
		}
		switch a.Deed {
		case AwaitConfirm, AwaitRestart:
			u.park(a.Deed, facts)
			return
		case Send:
			for n := a.Line; n <= a.Last; n++ {
				u.shown(n, u.steps()[n-1])
			}
		}
		if err := u.save(); err != nil {
			return // whoever holds it now, or the next start, goes on from what was saved before
		}
		facts = u.facts(u.do(a))
		u.st = u.st.After(facts)
	}
}

// load reads what a push goes by. It returns false when that ended it, or when it
// is left to be taken up again.
func (u *push) load() bool {
	q := u.s.Store.As(job.Service)
	err := q.OpenRequest(u.j, &u.req)
	if err == nil {
		_, err = q.Preview(u.owed, u.req.PreviewID, &u.p)
	}
	var d core.Device
	if err == nil {
		if d, err = u.device(u.owed); errors.Is(err, errRemoved) && u.again {
			d, err = core.Device{ID: u.j.DeviceID, Name: u.j.Device}, nil // the deeds say so
		}
	}
	row, saved, err2 := q.Journal(u.owed, u.j.ID, &u.st)
	switch {
	case u.owed.Err() != nil:
		return false // the next start goes on
	case errors.Is(err2, store.ErrNotFound):
		row = store.Journal{}
	case err2 != nil:
		return false // the database is away; recovery comes again
	}
	if err != nil && row.Announced > 0 {
		u.end(core.Unknown, "the push broke off and its papers cannot be read: "+err.Error())
		return false
	} else if err != nil {
		u.end(core.Failed, "nothing was sent: "+err.Error())
		return false
	}
	if !saved {
		u.st = older(row, u.j)
	}
	u.st.Asked = Asked{Lines: len(u.p.Steps) + u.st.More, Window: u.req.Within > 0, HoldRestart: u.req.HoldRestart, LeaveApplied: u.req.LeaveApplied || u.p.Unreadable != "", WhenVerified: u.req.WhenVerified,
		Saves: !u.req.NoSave && u.p.Method != "stage" && u.p.Saves, Rounds: u.req.rounds()}
	if row.Phase == "restarting" { // of an older program, which counted that line by itself
		u.st.Phase, u.st.Announced, u.st.Answered, u.st.Restart = Sending, u.st.Lines, u.st.Lines-1, true
	}
	u.res = Result{Target: u.p.Target, Total: u.st.Lines}
	if u.again {
		if err := q.OpenResult(u.j, &u.res); err != nil {
			return false
		}
		u.res.Sent = max(u.res.Sent, u.st.Answered)
		u.before, err = q.Version(u.owed, store.ByID(row.BeforeID))
		if err == nil {
			u.res.Before, u.res.BeforeID = u.before.Ref(), u.before.ID
		} else if !errors.Is(err, store.ErrNotFound) {
			return false
		}
		u.v = u.after(d, 0)
		return true
	}
	u.v = u.visit(d, core.BeforePush)
	u.v.Ends, u.v.Why = u.req.EndSession, u.req.Note
	u.v.Overwrites = u.p.Unreadable != ""
	return true
}

// older is the state that a program before this one left.
func older(row store.Journal, j core.Job) State {
	s := State{Phase: Phase(row.Phase), Announced: row.Announced, Answered: row.Answered, UndoBy: row.UndoBy, Token: row.Token, Due: row.Due}
	if s.Phase == Keeping {
		s.Kept = "by rule"
		if j.Decision == "confirm" {
			s.Kept = "by " + j.DecidedBy
		}
	}
	if s.Phase == Undoing {
		s.Undid, s.Owed = true, s.UndoBy != ""
	}
	return s
}

// facts adds what is known just now to what a deed reported.
func (u *push) facts(f Facts) Facts {
	now, cause := u.s.Now(), context.Cause(u.ctx)
	f.Again, f.Decision, f.By = u.again, u.j.Decision, u.j.DecidedBy
	f.Cancelled = u.j.Cancel || errors.Is(cause, job.ErrCancelled)
	f.Over = u.st.Due != nil && !now.Before(*u.st.Due)
	f.Fired = u.st.Fires == nil || !now.Before(*u.st.Fires)
	f.Ahead = u.ahead()
	f.Stopping, f.Leaving = errors.Is(cause, job.ErrStopping), u.owed.Err() != nil
	return f
}

// do does one deed.
func (u *push) do(a Action) (f Facts) {
	f.Did = a.Deed
	switch a.Deed {
	case Check:
		f.Report = u.check()
	case Arm:
		f.Report = u.arm()
	case Begin:
		f.Report = u.begin()
	case Send:
		f = u.sendLines(a.Line, a.Last)
	case Finish:
		f.Report = u.finish()
	case Peek:
		f.Report = u.peek()
	case Prove:
		f = u.prove()
	case Save:
		f.Report = u.saveStartup()
	case Judge:
		f = u.judge()
	case CallOff:
		u.l.Step("confirmed %s", u.st.Kept)
		f.Report = u.keepIt()
	case Abandon:
		f.Report = u.abandon()
	case Undo:
		f = u.undo()
	case Look:
		f = u.look()
	case Bide:
		f.Report = Done
	}
	f.Did = a.Deed
	return f
}

// wait lets some time pass before a deed is tried again. It returns false when the
// service must go meanwhile.
func (u *push) wait(a Action) bool {
	var cancelled <-chan struct{}
	if a.Deed == Look && !u.st.Cancelled {
		cancelled = u.ctx.Done()
	}
	u.tell(u.waiting(a))
	select {
	case <-time.After(a.After):
	case <-cancelled:
	case <-u.owed.Done():
		return false
	}
	return true
}

// park lets the push wait for a person, with the state in the same
// transaction.
func (u *push) park(what Deed, f Facts) {
	u.close()
	if what == AwaitRestart {
		summary := fmt.Sprintf("startup holds %s; the device still runs %s, and goes on to do so until it is restarted", u.p.Target, u.res.Before)
		if f.Did == Peek {
			summary = fmt.Sprintf("startup holds %s; the device was not restarted: %v", u.p.Target, u.err)
		} else {
			u.l.Step("the restart is left to a person")
		}
		u.l.Park(core.AwaitsRestart, nil, summary, u.res, u.saveIn)
		return
	}
	due := *u.st.Due
	u.l.Step("waiting until %s to be confirmed", core.ClockTime(due))
	u.l.Park(core.AwaitsConfirm, &due, fmt.Sprintf("%s%s; it goes back to %s at %s unless it is confirmed", u.leftWords(), u.said, u.res.Before, core.ClockTime(due)), u.res, u.saveIn)
}
