package push

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/link"
)

// choose says what is to take the push back in its window, before the device is
// told: the state has to know first.
func (u *push) choose() {
	window := u.req.Within
	due := u.s.Now().Add(window).Truncate(time.Millisecond)
	if u.req.Due != nil {
		due, window = *u.req.Due, u.req.Due.Sub(u.s.Now())
	}
	token := make([]byte, 8)
	_, _ = rand.Read(token)
	u.st.UndoBy, u.st.Token, u.st.Due = byService, "magpie-"+hex.EncodeToString(token), &due
	if t, _ := undoTimer(u.v, u.p.Method); t != nil && window+grace(window) <= t.To {
		fires := u.s.Now().Add(max(window+grace(window), t.From) + t.Back)
		u.st.UndoBy, u.st.Fires = t.By, &fires
	}
}

// arm has the device go back by itself unless that is called off, where it can.
// Otherwise the service takes the push back.
func (u *push) arm() Report {
	due := *u.st.Due
	window := due.Sub(u.s.Now())
	if u.req.Due != nil && window < MinWindow/2 {
		return u.reported(fmt.Errorf("the window that all share ends at %s, too soon to begin", core.ClockTime(due)))
	}
	t, why := undoTimer(u.v, u.p.Method)
	if u.st.UndoBy == byService {
		if t != nil {
			why = fmt.Sprintf("its own undo takes at most %s", core.Span(t.To))
		}
		u.l.Info("it is undone by this service unless it is confirmed until %s: %s", core.ClockTime(due), why)
		return Done
	}
	longer := max(u.req.Within+grace(u.req.Within), t.From)
	if u.req.Due != nil {
		longer = max(window+grace(window), t.From)
	}
	if err := u.v.Session.Arm(longer); err != nil {
		return u.reported(err)
	}
	switch t.By {
	case link.ByTimer:
		u.l.Step("in %s the device %s, unless that is called off; this service undoes it before, at %s, if nobody confirms", core.Span(longer), goesBack(t.Returns), core.ClockTime(due))
	case link.ByDeed:
		u.l.Step("%s after what was sent takes effect the device %s, unless that is called off; this service undoes it before, at %s, if nobody confirms", core.Span(longer), goesBack(t.Returns), core.ClockTime(due))
	default:
		u.l.Step("the device itself goes back %s after the commit unless that is confirmed; this service undoes it before, at %s, if nobody confirms", core.Span(longer), core.ClockTime(due))
	}
	return Done
}

// errUncommitted is why a confirmed commit is not confirmed yet.
var errUncommitted = errors.New("somebody loaded something into the candidate and did not commit it; confirming would commit it along, so that waits until it is committed or discarded")

// callOff tells the device to keep what it runs, where it was told to go back by
// itself. That it has nothing to call off any more is no trouble: what it runs
// shows in the proof.
func (u *push) callOff(done string) Report {
	if u.st.UndoBy == link.ByCommit && (u.st.Fires == nil || u.s.Now().Before(*u.st.Fires)) {
		loaded, err := u.v.Session.Uncommitted()
		if err == nil && loaded {
			err = errUncommitted
		}
		if err != nil {
			u.l.Warn("%v", err)
			return u.reported(err)
		}
	}
	err := u.v.Session.Confirm(u.st.Token)
	if r := linkRefused(err); r != nil {
		u.l.Warn("the device says that there is nothing to call off: %s", r.Words)
		return Nothing
	}
	if err == nil {
		u.l.Info("%s", done)
	}
	return u.reported(err)
}

// keepIt confirms a push: the device's own undo is called off.
func (u *push) keepIt() Report {
	if err := u.talking(u.owed); err != nil {
		return u.reported(err)
	}
	if u.st.UndoBy == byService || u.st.UndoBy == "" {
		return Done
	}
	return u.callOff("the device is told to keep it; its own undo is off")
}

// abandon calls off the restart of a device that nothing was sent to. A device that
// has none to call off may have restarted by it.
func (u *push) abandon() Report {
	if err := u.talking(u.owed); err != nil {
		return u.reported(err)
	}
	return u.callOff("the device's own undo is called off")
}
