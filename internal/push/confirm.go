package push

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// The window in which a push has to be confirmed.
const (
	MinWindow = 20 * time.Second
	MaxWindow = 24 * time.Hour
)

// byService is who takes a push back where the device itself cannot.
const byService = "service"

// errWindow is the cause of a context ended because nobody confirmed in time.
var errWindow = errors.New("nobody confirmed it in time")

// grace is how much longer than the window the device's own timer runs: time
// for the service to undo the push in its gentler way.
func grace(window time.Duration) time.Duration {
	return min(max(window/2, 10*time.Second), time.Minute)
}

// arm makes sure of the undo before the first line is sent: by the device
// itself where it can, otherwise by the service. The journal knows before the
// device does.
func (u *push) arm() error {
	window := u.req.Within
	if window == 0 || len(u.p.Steps) == 0 || u.req.HoldRestart && u.journal.Phase != "staged" {
		return nil // the window begins with the restart
	}
	due := u.s.Now().Add(window).Truncate(time.Millisecond)
	if u.req.Due != nil {
		if due, window = *u.req.Due, u.req.Due.Sub(u.s.Now()); window < MinWindow/2 {
			return fmt.Errorf("the window that all share ends at %s, too soon to begin", core.ClockTime(due))
		}
	}
	token := make([]byte, 8)
	_, _ = rand.Read(token)
	u.journal.UndoBy, u.journal.Token, u.journal.Due = byService, "magpie-"+hex.EncodeToString(token), &due
	t, why := undoTimer(u.v, u.p.Method)
	longer := window + grace(window)
	switch {
	case t != nil && longer > t.To:
		why = fmt.Sprintf("its own undo takes at most %s", core.Span(t.To))
	case t != nil:
		u.journal.UndoBy = t.By
	}
	u.journal.Phase = "arming"
	if err := u.record(); err != nil {
		return err
	}
	if u.journal.UndoBy == byService {
		u.l.Info("it is undone by this service unless it is confirmed until %s: %s", core.ClockTime(due), why)
		return nil
	}
	if err := u.v.Session.Arm(max(longer, t.From)); err != nil {
		return err
	}
	if t.By == link.ByTimer {
		u.l.Step("the device will restart into its startup part in %s unless that is called off; this service undoes it before, at %s, if nobody confirms", core.Span(max(longer, t.From)), core.ClockTime(due))
	} else {
		u.l.Step("the device itself goes back %s after the commit unless that is confirmed; this service undoes it before, at %s, if nobody confirms", core.Span(longer), core.ClockTime(due))
	}
	return nil
}

// undoTimer tells what the device itself can undo just now, or why not.
func undoTimer(v *visit.Visit, method string) (t *link.UndoTimer, why string) {
	t = v.Session.UndoTimer()
	switch {
	case t == nil:
		return nil, "the device has no undo of its own"
	case t.By == link.ByTimer && method == "stage":
		return nil, "its own undo is a restart into startup, which is what is written"
	case t.By == link.ByTimer && v.Unsaved():
		return nil, "its own undo is a restart into startup, which does not hold what runs now"
	}
	return t, ""
}

// windowed limits a context to the window.
func (u *push) windowed(ctx context.Context) (context.Context, context.CancelFunc) {
	if u.journal.Due == nil {
		return ctx, func() {}
	}
	return context.WithTimeoutCause(ctx, u.journal.Due.Sub(u.s.Now()), errWindow)
}

// park lets the push wait for its decision. outcome and summary are what the
// proof said.
func (u *push) park(outcome, summary string) {
	if u.req.WhenEqual && (outcome == core.Equal || outcome == core.NotSaved) {
		u.l.Step("it is equal to what was asked for, so it is confirmed, as was asked for")
		ctx, done := u.s.Lasting()
		defer done()
		u.keepIt(ctx, "by rule")
		return
	}
	due := *u.journal.Due
	u.journal.Phase = "confirming"
	summary = fmt.Sprintf("%s; it goes back to %s at %s unless it is confirmed", summary, u.res.Before, core.ClockTime(due))
	u.l.Step("waiting until %s to be confirmed", core.ClockTime(due))
	u.l.Park(core.AwaitsConfirm, &due, summary, u.res, u.journaled)
}

// journaled writes the journal in a transaction that is open.
func (u *push) journaled(ctx context.Context, q *store.Q) error { return q.PutJournal(ctx, u.journal) }

// resume takes up a push with a window: when it was decided, when its time is
// over, or after whoever did it died.
func (u *push) resume(ctx context.Context) {
	now := u.s.Now()
	over := u.journal.Due == nil || !now.Before(*u.journal.Due)
	switch {
	case u.journal.Announced == 0 && (u.journal.Phase == "arming" || u.journal.Phase == "sending"):
		u.untouched(ctx)
	case u.j.Decision == "confirm":
		u.keepIt(ctx, "by "+u.j.DecidedBy)
	case u.journal.Phase == "keeping":
		u.keepIt(ctx, "by rule")
	case u.j.Decision == "undo":
		u.takeBack(ctx, u.j.DecidedBy+" asked to undo it")
	case u.j.Cancel:
		u.takeBack(ctx, "cancelled by hand")
	case over:
		u.takeBack(ctx, errWindow.Error())
	case u.journal.Phase == "proving" || u.journal.Phase == "confirming":
		u.proveAgain(ctx)
	default:
		u.takeBack(ctx, u.known())
	}
}

// errOtherUnit is why nothing more is sent to a device: the unit that answers is
// not the one that was pushed to.
var errOtherUnit = errors.New("other hardware answers now, so nothing more was sent to it")

// sameUnit makes sure that the unit that answers is the one that was pushed to,
// or the other half of a pair.
func (u *push) sameUnit() error {
	if s := u.v.Pull.Serial; s != u.p.Serial && !(u.v.Dialect.Identity.Pair && slices.Contains(u.v.Device.Serials, s)) {
		return fmt.Errorf("%w (serial %s, not %s)", errOtherUnit, s, u.p.Serial)
	}
	return nil
}

// untouched ends a push of which nothing was sent; an undo that was armed is
// called off. A device that has none to call off may have restarted by it, and is
// looked at.
func (u *push) untouched(ctx context.Context) {
	const nothing = "the service stopped before anything was sent"
	if u.journal.UndoBy != link.ByTimer {
		u.finish(core.Failed, nothing+"; the device was not changed")
		return
	}
	off := false
	if !u.persist(ctx, "calling off the device's restart", func() (err error) {
		if err = u.open(ctx, u.v); err != nil {
			return err
		}
		defer func() { u.v.Close() }()
		if err = u.sameUnit(); err != nil {
			return err
		}
		off, err = u.disarm()
		return err
	}) {
		return
	}
	if off {
		u.finish(core.Failed, nothing+"; the device was not changed, and its own restart is called off")
		return
	}
	known := nothing + ", but the device had been told to restart by itself unless that is called off, and there is nothing to call off any more: it has restarted, unless the service stopped before it was told"
	u.l.Warn("%s", known)
	if ended, err := u.look(ctx, known); !ended {
		u.l.Trouble(fmt.Sprintf("it could not be looked at: %v", err), "")
		u.s.settleLater(u.j, u.l)
	}
}

// disarm calls the device's timer off. That none is set is no trouble: it may
// have gone off, and off says so.
func (u *push) disarm() (off bool, err error) {
	if u.journal.UndoBy != link.ByTimer {
		return true, nil
	}
	return u.callOff("the device's own restart is called off")
}

// callOff tells the device to keep what it runs. That it has nothing to call off
// any more is no trouble: what it runs shows in the proof.
func (u *push) callOff(done string) (off bool, err error) {
	err = u.v.Session.Confirm(u.journal.Token)
	if r := linkRefused(err); r != nil {
		u.l.Warn("the device says that there is nothing to call off: %s", r.Words)
		return false, nil
	}
	if err == nil {
		u.l.Info("%s", done)
	}
	return err == nil, err
}

// persist does something with the device until it succeeds, for as long as
// nobody stops it. It returns false when this node must let go of the job.
func (u *push) persist(ctx context.Context, what string, do func() error) bool {
	tries := 0
	for wait := time.Second; ; wait, tries = min(2*wait, time.Minute), tries+1 {
		d, err := u.s.Store.As(job.Service).DeviceByID(ctx, u.j.DeviceID)
		if errors.Is(err, store.ErrNotFound) {
			u.finish(core.Unknown, what+" was not possible: the device was removed")
			return false
		}
		if err == nil {
			u.v.Close() // another conversation would find the device held by this one
			u.v = u.after(d, tries)
			if err = do(); err == nil {
				return true
			}
		}
		if errors.Is(err, errOtherUnit) {
			u.v.Close()
			u.finish(core.Unknown, what+": "+err.Error())
			return false
		}
		if errors.Is(context.Cause(ctx), job.ErrStopping) || errors.Is(err, job.ErrLeaseLost) {
			return false
		}
		u.state(fmt.Sprintf("%s; trying again: %v", what, err))
		select {
		case <-ctx.Done():
			// A cancel changes nothing here: the device is owed its end.
			time.Sleep(wait)
		case <-time.After(wait):
		}
	}
}

// open opens a visit of a push that goes on until it succeeds. A login that is
// refused is latched, so that it is not tried again and again: the push waits
// until a person says that it is right, or changes it.
func (u *push) open(ctx context.Context, v *visit.Visit) error {
	err := v.Open(ctx)
	if errors.Is(err, link.ErrLoginRefused) {
		u.l.Trouble(err.Error(), "")
		if a := v.Advice(err); a != "" {
			u.l.Info("%s", a)
		}
		bg := context.Background()
		if e := u.l.Commit(bg, func(q *store.Q) error { return v.NoteFailure(bg, q, err) }); e != nil {
			u.l.Warn("not latched: %v", e)
		}
	}
	return err
}

// proveAgain proves a push whose proof was interrupted.
func (u *push) proveAgain(ctx context.Context) {
	within, cancel := u.windowed(ctx)
	defer cancel()
	err := u.open(within, u.v)
	if err == nil {
		u.prove()
		return
	}
	u.v.Close()
	u.state(fmt.Sprintf("the device cannot be looked at: %v; it is undone at %s unless that changes", err, core.ClockTime(*u.journal.Due)))
	select {
	case <-within.Done():
	case <-time.After(2 * time.Second):
	}
	if !errors.Is(context.Cause(ctx), job.ErrStopping) {
		u.s.settleLater(u.j, u.l)
	}
}

// takeBack undoes a push with a window, however long that takes.
func (u *push) takeBack(ctx context.Context, why string) {
	u.l.Step("undoing it: %s", why)
	u.state(why + "; undoing it")
	var left []visit.Difference
	refused := 0
	undone := u.persist(ctx, why+"; undoing it", func() (err error) {
		left, err = u.undo(ctx)
		if r := linkRefused(err); r != nil {
			if refused++; refused == 2 {
				u.l.Trouble("the device refuses the undo: "+u.s.Masker(u.v.Dialect).Answer(r.Words, nil), "")
				left, err = nil, nil
			}
		}
		return err
	})
	switch {
	case !undone:
	case refused == 2:
		if ended, err := u.look(ctx, why+"; the device refused the undo"); !ended {
			u.l.Trouble(fmt.Sprintf("it could not be looked at: %v", err), "")
			u.s.settleLater(u.j, u.l)
		}
	case len(left) > 0:
		u.res.Remaining = left
		u.finish(core.Residuals, fmt.Sprintf("%s; undone but for %d lines", why, len(left)))
	default:
		u.res.Remaining = nil
		u.finish(core.Undone, why+"; the device runs again what it ran before, "+u.res.Before)
	}
}

// keepIt confirms a push: the device's own undo is called off, what runs is
// proved once more, then startup is written and proved.
func (u *push) keepIt(ctx context.Context, by string) {
	u.keeping = true
	if err := u.phase("keeping"); err != nil {
		u.l.Warn("journal: %v", err)
	}
	u.l.Step("confirmed %s", by)
	kept := u.persist(ctx, "confirmed "+by, func() error {
		if err := u.open(ctx, u.v); err != nil {
			u.v.Close()
			return err
		}
		if err := u.sameUnit(); err != nil {
			return err
		}
		if err := u.confirmed(); err != nil {
			u.v.Close()
			return err
		}
		return nil
	})
	if !kept {
		return
	}
	outcome, summary, ok := u.proof(true)
	if !ok {
		u.s.settleLater(u.j, u.l)
		return
	}
	u.finish(outcome, "confirmed "+by+"; "+summary)
}

// confirmed tells the device to keep what it runs. That there is nothing to keep
// any more shows in the proof.
func (u *push) confirmed() error {
	if u.journal.UndoBy == byService {
		return nil
	}
	_, err := u.callOff("the device is told to keep it; its own undo is off")
	return err
}
