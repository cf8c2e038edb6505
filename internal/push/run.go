package push

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/text"
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
			u.shown(a.Line, u.p.Steps[a.Line-1])
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
	u.st.Asked = Asked{Lines: len(u.p.Steps), Window: u.req.Within > 0, HoldRestart: u.req.HoldRestart, LeaveApplied: u.req.LeaveApplied, WhenEqual: u.req.WhenEqual,
		Saves: !u.req.NoSave && u.p.Method != "stage" && u.p.Saves}
	if row.Phase == "restarting" { // of an older program, which counted that line by itself
		u.st.Phase, u.st.Announced, u.st.Answered, u.st.Restart = Sending, u.st.Lines, u.st.Lines-1, true
	}
	u.res = Result{Target: u.p.Target, Total: u.p.LineCount()}
	if u.again {
		if err := q.OpenResult(u.j, &u.res); err != nil {
			return false
		}
		u.res.Sent = max(u.res.Sent, u.st.Answered)
		u.before, err = q.VersionByID(u.owed, row.BeforeID)
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
		f.Report, f.Ours = u.sendLine(a.Line), u.p.Steps[a.Line-1].ours()
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

// leftWords says that what was applied before a refused line was left.
func (u *push) leftWords() string {
	if !u.st.Left {
		return ""
	}
	return u.st.Why + "; what was applied before it was left; "
}

// waiting words what a push waits for while it tries something again.
func (u *push) waiting(a Action) string {
	switch a.Deed {
	case CallOff:
		return fmt.Sprintf("confirmed %s; trying again: %v", u.st.Kept, u.err)
	case Undo:
		return fmt.Sprintf("%s; undoing it; trying again: %v", u.st.Why, u.err)
	case Bide:
		return fmt.Sprintf("%s; the device refuses the undo; waiting for its own", u.st.Why)
	case Abandon:
		return fmt.Sprintf("calling off the device's restart; trying again: %v", u.err)
	case Prove:
		return fmt.Sprintf("the device cannot be looked at: %v; it is undone at %s unless that changes", u.err, core.ClockTime(*u.st.Due))
	}
	return fmt.Sprintf("%s; waiting to look at the device: %v", u.st.Why, u.err)
}

// course words a change of course, for the state and for the log. What is kept in
// the open never quotes the configuration; the log may, because it is sealed.
func (u *push) course(a Action, f Facts) {
	why, said := u.reason(a, f)
	u.st.Why = why
	if said == "" {
		said = why
	}
	switch {
	case a.Deed == End && f.Did == Check:
	case a.Deed == Undo && f.Did == "":
		u.l.Step("undoing it: %s", said)
	case a.Deed == Undo || a.Deed == Finish || a.Deed == Abandon:
		u.l.Trouble(said, "")
		if a.Deed == Undo {
			u.l.Step("undoing what was applied")
		}
	default:
		u.l.Warn("%s", said)
	}
	if adv := u.v.Advice(u.err); u.err != nil && adv != "" && u.st.Announced == 0 {
		u.l.Info("%s", adv)
	}
	if a.Deed == Undo && u.st.UndoBy != "" {
		u.tell(why + "; undoing it")
	}
}

// reason words why a push changes its course; said, where it is not empty, may
// quote the configuration.
func (u *push) reason(a Action, f Facts) (why, said string) {
	sending := u.st.Phase == Sending || u.st.Phase == Arming
	count := fmt.Sprintf("after %d of %s", u.st.Answered, core.Count(u.st.Lines, "line", "lines"))
	switch a.Why {
	case ByHand:
		if sending {
			return "cancelled by hand " + count, ""
		}
		return "cancelled by hand", ""
	case AskedUndo:
		return f.By + " asked to undo it", ""
	case TimeOver:
		if sending {
			return "the time to confirm was over " + count, ""
		}
		return errWindow.Error(), ""
	case LineBroke:
		return u.lineBroke()
	case ChecksFail:
		return u.failed(), ""
	case BrokeOff:
		switch {
		case f.Did != "":
			return "the service was stopped " + count, ""
		case u.st.Announced == 0:
			return "the service stopped before anything was sent", ""
		}
		return u.st.known(), ""
	case UndoBroke:
		if f.Report == Refused {
			return u.st.Why + "; the device refused the undo", ""
		}
		return u.st.Why + "; the undo did not come to its end", ""
	case Unproved:
		return u.st.known(), ""
	case OtherUnit, Gone:
		why := u.doing(f.Did)
		if u.err != nil {
			why += ": " + u.err.Error()
		}
		return why, ""
	case CalledOff:
		return u.st.Why + "; the device could not be looked at, and waiting for it was called off by hand", ""
	case NothingOff:
		return "the service stopped before anything was sent, but the device had been told to go back by itself unless that is called off, and there is nothing to call off any more: it has gone back, unless the service stopped before it was told", ""
	}
	return string(a.Why), ""
}

// doing words what was being done to a device that is not there any more.
func (u *push) doing(d Deed) string {
	switch {
	case d == CallOff || u.st.Kept != "":
		return "confirmed " + u.st.Kept
	case d == Abandon:
		return "calling off the device's restart"
	case u.st.Why != "" && u.st.Undid:
		return u.st.Why + "; undoing it"
	case u.st.Why != "":
		return u.st.Why
	}
	return u.st.known()
}

// lineBroke words why the sending ended, and keeps the line that was refused.
func (u *push) lineBroke() (why, said string) {
	var at stepError
	r := linkRefused(u.err)
	switch {
	case r != nil && errors.As(u.err, &at):
		answer := u.s.Masker(u.v.Dialect).Answer(r.Words, at.step.Secrets) + u.lineMeant(at.step, r.Words)
		u.res.Refused = &Refusal{Line: at.n, Text: at.step.Lines[0], Masked: at.step.Masked[0], Block: at.step.Block, Answer: answer}
		why = u.refusedAt(at.n)
		u.l.Result(u.res) // whoever takes it up has to know
		return why, fmt.Sprintf("%s (%s): %s", why, strings.TrimSpace(at.step.Masked[0]), answer)
	case r != nil:
		return r.Error(), ""
	case u.err != nil:
		return u.err.Error(), ""
	}
	return "the sending did not come to its end", ""
}

// refusedAt says which of what was sent the device refused.
func (u *push) refusedAt(n int) string {
	if n <= len(u.p.Steps) && u.p.Steps[n-1].ours() {
		return fmt.Sprintf("the device refused step %d of %d, the %s", n, len(u.p.Steps), u.p.Steps[n-1].Kind)
	}
	return fmt.Sprintf("the device refused line %d of %d", n, len(u.p.Steps))
}

// lineMeant says which line of a document or file that was sent a device means by the
// number in its answer.
func (u *push) lineMeant(st SendStep, words string) string {
	m := lineNumber.FindStringSubmatch(words)
	doc := u.v.Dialect.Doc(u.p.Part)
	if m == nil || len(st.Content) == 0 || doc.Opaque() {
		return ""
	}
	n, err := strconv.Atoi(m[1])
	shown, e := u.s.Masked(doc, string(st.Content))
	lines := text.Lines(shown)
	if err != nil || e != nil || n < 1 || n > len(lines) {
		return ""
	}
	return fmt.Sprintf("; line %d of what was sent is: %s", n, strings.TrimSpace(lines[n-1]))
}

var lineNumber = regexp.MustCompile(`(?i)\bline (?:no\. ?|number )?(\d+)`)

// ending is the summary of a push that ends.
func (u *push) ending(a Action, f Facts) string {
	switch {
	case f.Did == Check && a.Outcome == core.Refused:
		return u.said
	case f.Did == Check && a.Outcome == core.Cancelled:
		return "cancelled by hand; nothing was sent"
	case f.Did == Check && f.Stopping:
		return "the service was stopped; nothing was sent"
	case f.Did == Check:
		return fmt.Sprintf("nothing was sent: %v", u.err)
	case f.Did == Undo && f.Report == Done, f.Did == Look && f.Report == Done:
		return u.st.Why + "; " + u.said
	case f.Did == Judge && f.Report == Done:
		summary := u.leftWords() + u.said
		if u.st.Kept != "" {
			return "confirmed " + u.st.Kept + "; " + summary
		}
		if bad := u.failed(); bad != "" {
			summary += "; but " + bad
		}
		return summary
	case f.Did == Abandon && f.Report == Done && a.Outcome == core.Failed:
		return u.st.Why + "; the device was not changed, and its own undo is called off"
	case u.st.Announced == 0 && a.Outcome == core.Failed:
		return u.st.Why + "; the device was not changed"
	case u.st.Announced == 0 && a.Outcome == core.Refused:
		return u.st.Why + "; nothing was sent"
	}
	return u.st.Why
}
