// Package push makes a device run a version: the preview that says what that would
// take, and the push that does it, proves it and, where it has to, takes it back.
//
// A push is a machine. State is all that decides what comes next, and is saved
// before each deed; Decide is pure, and the only place that says what comes next:
// for a fresh push, a person's decision, a time that is over, a cancel, a stop, a
// crash, a device that is lost. A deed does one thing and reports what came of it.
//
//	checking ──▶ arming ──▶ sending ─────────▶ proving ──▶ saving ──▶ judging ──▶ end
//	   │           │         │    │  ▲            │  ▲                   │
//	   │ not what  │ failed  │    │  │ restart    │  │ confirmed         │ in a window
//	   │ was shown ▼         │    ▼  │            │  │                   ▼
//	   │       abandoning    │   staged           │ keeping ◀──────── confirming
//	   │           │         │    │               │                      │
//	   │           │ refused,│    │ undo,         │ lost                 │ undo, cancel,
//	   │           │ lost,   │    │ cancel        │                      │ the time is over
//	   │           │ cancel  ▼    ▼               ▼                      ▼
//	   ▼           ▼     ┌──────────────────── undoing ◀─────────────────┘
//	  end         end    │ refused twice, or nobody is owed it
//	                     └──▶ looking: what the device runs is not known, and is said
//	                          as soon as it can be looked at ──▶ end
//
// Where the proof finds that something is missing, and rounds were asked for, the
// lines that bring it go from proving back to sending.
//
// Whoever takes a push up again, after a crash or a decision, asks Decide with the
// state that was saved and no report. A line that was announced and not answered is
// then in doubt: it is never sent again. In a window, or where a person asked for
// it, the undo is owed, and is tried until it is done; otherwise it is offered.
package push

import (
	"fmt"
	"time"

	"magpie/internal/core"
)

// Phase is how far a push is.
type Phase string

// The phases of a push.
const (
	Begun      Phase = ""           // nothing was done yet
	Checking   Phase = "checking"   // what runs is pulled, kept, and held against the preview
	Arming     Phase = "arming"     // the undo is made sure of: the device may have been told to go back by itself
	Sending    Phase = "sending"    // line Announced goes; Answered were taken
	Staged     Phase = "staged"     // startup holds it; the restart is left to a person
	Proving    Phase = "proving"    // all was sent; what runs is pulled again
	Saving     Phase = "saving"     // startup is written, and pulled again
	Judging    Phase = "judging"    // what was pulled is kept and compared
	Confirming Phase = "confirming" // it waits for a person to keep it, or for the end of its window
	Keeping    Phase = "keeping"    // confirmed: the device is told to keep what it runs
	Undoing    Phase = "undoing"    // what was applied is taken back
	Abandoning Phase = "abandoning" // nothing was sent; the device's own restart is called off
	Looking    Phase = "looking"    // what the device runs is not known
)

// Deed is one thing that is done for a push.
type Deed string

// The deeds. Check, Arm, Begin, Send, Finish, Save, CallOff, Abandon and Undo say
// something to the device that may change it; Peek, Prove and Look only read.
const (
	Check          Deed = "check"            // pull and keep what runs, hold it against the preview
	Arm            Deed = "arm"              // have the device go back by itself, where it can
	Begin          Deed = "begin"            // enter the mode in which lines are sent
	Send           Deed = "send"             // one line
	Finish         Deed = "finish"           // end the sending, and wait for a device that restarts
	Peek           Deed = "peek"             // whether somebody restarted a staged device already
	Prove          Deed = "prove"            // pull again, make the checks again
	Save           Deed = "save"             // have startup hold what runs, pull again
	Judge          Deed = "judge"            // keep what was pulled and compare it
	CallOff        Deed = "call off"         // tell the device to keep what it runs
	Abandon        Deed = "abandon"          // call off the restart of a device that nothing was sent to
	Undo           Deed = "undo"             // bring back what ran before; one try
	Bide           Deed = "bide"             // wait for the device's own undo
	Look           Deed = "look"             // pull, and say what it runs
	AwaitConfirm   Deed = "wait for confirm" // set it aside until a person decides, or the window is over
	AwaitRestart   Deed = "wait for restart" // set it aside until a person lets the device be restarted
	End            Deed = "end"              // end it, and let the device go
	LeaveToAnother Deed = "leave"            // go, and leave it as it is saved
)

// Report is what came of a deed.
type Report string

// What deeds report.
const (
	Done    Report = "done"
	Stale   Report = "stale"   // what is there is not what the preview saw
	Refused Report = "refused" // the device said no, in words
	Lost    Report = "lost"    // no answer, or none that can be used
	Locked  Report = "locked"  // the login was refused: nothing tries it again until a person says so
	Other   Report = "other"   // another unit answers
	Removed Report = "removed" // the device was removed here
	Nothing Report = "nothing" // there was nothing to call off any more
	Runs    Report = "runs"    // it runs what was staged already
	Unsure  Report = "unsure"  // this instance may not be the only one any more: nothing more may be sent
)

// Asked is what a push was asked for. It never changes.
type Asked struct {
	Lines        int  `json:"lines"`                   // to send
	Window       bool `json:"window,omitempty"`        // it is taken back unless it is confirmed in time
	HoldRestart  bool `json:"hold_restart,omitempty"`  // the last line is a restart, and left to a person
	LeaveApplied bool `json:"leave_applied,omitempty"` // when a line is refused, what was applied before it stays
	WhenVerified bool `json:"when_equal,omitempty"`    // it confirms itself when it is proved
	Saves        bool `json:"saves,omitempty"`         // startup is written once what runs is proved
	Rounds       int  `json:"rounds,omitempty"`        // how often what is missing after the proof is sent too
}

// State is how a push stands: all that decides what comes next.
type State struct {
	Asked
	Phase     Phase      `json:"phase"`
	Round     int        `json:"round,omitempty"`     // rounds made after the first; their lines are among Lines
	More      int        `json:"more,omitempty"`      // how many those are
	Missing   int        `json:"missing,omitempty"`   // what still differed before the last round; another one has to find less
	Announced int        `json:"announced"`           // the line that went last, from 1; saved before it goes
	Answered  int        `json:"answered"`            // lines that were taken
	UndoBy    string     `json:"undo_by,omitempty"`   // what takes it back in its window; empty: it has none yet
	Token     string     `json:"token,omitempty"`     // by which the device knows its own undo again
	Due       *time.Time `json:"due,omitempty"`       // the end of its window
	Fires     *time.Time `json:"fires,omitempty"`     // when the device's own undo has had its time
	Cancelled bool       `json:"cancelled,omitempty"` // a person's cancel is why it is taken back
	Startup   string     `json:"startup,omitempty"`   // the version that startup held when it was checked; decides nothing
	Kept      string     `json:"kept,omitempty"`      // by whom it was confirmed; that stands
	Owed      bool       `json:"owed,omitempty"`      // the undo is owed, whatever it takes
	Left      bool       `json:"left,omitempty"`      // a line was refused, and what was applied before it was left
	Restart   bool       `json:"restart,omitempty"`   // a person asked for the restart that was left to them
	Tries     int        `json:"tries,omitempty"`     // in a row that a deed came to nothing
	Refusals  int        `json:"refusals,omitempty"`  // of the undo, by the device
	ChecksBad bool       `json:"checks,omitempty"`    // a check that was good before is bad
	EndsAs    string     `json:"ends_as,omitempty"`   // the outcome, once what is under way is done
	Undid     bool       `json:"undid,omitempty"`     // the undo was begun
	Why       string     `json:"why,omitempty"`       // why it is taken back, abandoned or looked at, in words; decides nothing
}

// Facts are what is known besides the state.
type Facts struct {
	Did    Deed   // what was just done; empty: it was taken up, and what was in memory is lost
	Again  bool   // with no deed: it was begun before
	Report Report // of the deed

	Outcome string // a verdict: of Judge, Undo or Look
	Matches bool   // Prove: what runs is what was asked for
	Bad     bool   // Prove: a check that was good is bad
	Ahead   int    // how many lines may go at once; nought is one
	Taken   int    // Send: of lines that went at once, how many were taken before it ended
	More    int    // Prove: lines that would bring what is missing
	Missing int    // Prove: what still differs
	Ours    bool   // Send: the line refused is a step of ours, not one line among others

	Decision string // of a person, for a push that waited
	By       string // whose

	Cancelled bool // a person asked for it to stop
	Over      bool // its window is over
	Fired     bool // the device's own undo has had its time
	Stopping  bool // the service stops: nothing new is begun, what is owed goes on
	Leaving   bool // the service stops now
}

// Action is what comes next.
type Action struct {
	Deed    Deed
	Phase   Phase         // as which it is saved before the deed
	Line    int           // of Send: the first line
	Last    int           // of Send: the last of those that go with it
	More    int           // of Begin: lines that come to those of the preview
	After   time.Duration // waited before the deed
	Outcome string        // of End
	Why     Reason        // of a change of course
}

// Reason is why a push changes its course.
type Reason string

// The reasons.
const (
	ByHand     Reason = "by hand"     // a person cancelled it
	AskedUndo  Reason = "asked"       // a person asked for the undo
	TimeOver   Reason = "time over"   // nobody confirmed in time
	LineBroke  Reason = "line"        // a line was refused, or contact was lost
	ChecksFail Reason = "checks"      // a check that was good is bad
	BrokeOff   Reason = "broke off"   // whoever did it is gone
	UndoBroke  Reason = "undo"        // the undo did not come to its end
	Unproved   Reason = "unproved"    // the verification could not be pulled
	OtherUnit  Reason = "other"       // another unit answers
	Gone       Reason = "gone"        // the device was removed
	CalledOff  Reason = "called off"  // waiting to look at it was called off
	NothingOff Reason = "nothing off" // the device's own restart may have gone off
)

// What takes a push back in its window.
const (
	byService = "service"
	byCommit  = "commit" // the device's own confirmed commit (RFC 6241 §8.4)
	byTimer   = "timer"  // the device's own timer, set before anything is sent, unless that is called off
	byDeed    = "deed"   // the device's own timer, set by what is sent, unless that is called off
)

// undoTries is how often the undo of a push that nobody is owed is tried before it
// is offered instead.
const undoTries = 4

// Decide says what comes next. It is pure, and there is no other such place.
func Decide(s State, f Facts) Action {
	switch {
	case f.Leaving, f.Report == Unsure:
		return Action{Deed: LeaveToAnother}
	case f.Did == "":
		return s.takenUp(f)
	case f.Report == Removed && f.Did != Check:
		return end(core.Unknown, Gone)
	case f.Report == Other && f.Did != Check && f.Did != Peek:
		return end(core.Unknown, OtherUnit)
	}
	switch f.Did {
	case Check:
		switch {
		case f.Stopping:
			return end(core.Failed, BrokeOff)
		case f.Cancelled:
			return end(core.Cancelled, ByHand)
		case f.Report == Stale:
			return end(core.Refused, "")
		case f.Report != Done:
			return end(core.Failed, "")
		}
		return s.arm()
	case Arm:
		if f.Report != Done {
			return s.broken(LineBroke)
		}
		return Action{Deed: Begin, Phase: Sending}
	case Begin:
		if f.Report != Done {
			return s.broken(s.interrupted(f, LineBroke))
		}
		return s.next(f)
	case Send:
		switch {
		case f.Report == Refused && s.LeaveApplied && !f.Ours:
			return Action{Deed: Finish, Phase: Sending, Why: LineBroke}
		case f.Report != Done:
			return s.broken(s.interrupted(f, LineBroke))
		}
		return s.next(f)
	case Finish:
		switch {
		case s.Left:
			return prove()
		case f.Report != Done:
			return s.broken(s.interrupted(f, LineBroke))
		case s.Announced < s.Lines:
			return Action{Deed: AwaitRestart, Phase: Staged}
		}
		return prove()
	case Peek:
		switch f.Report {
		case Runs:
			return prove()
		case Done:
			s.Restart = true
			return s.arm()
		}
		return Action{Deed: AwaitRestart, Phase: Staged}
	case Prove, Save:
		switch {
		case f.Report != Done:
			return s.unproved(f)
		case f.Did == Prove && s.again(f):
			return Action{Deed: Begin, Phase: Sending, More: f.More}
		case f.Did == Prove && s.final() && s.Saves && f.Matches:
			return Action{Deed: Save, Phase: Saving}
		}
		return Action{Deed: Judge, Phase: Judging}
	case Judge:
		switch {
		case f.Report != Done:
			return s.unproved(f)
		case s.final():
			return end(f.Outcome, "")
		case f.Cancelled || f.Over:
			return s.undo(s.interrupted(f, ""))
		case s.ChecksBad:
			return s.undo(ChecksFail)
		case s.WhenVerified && (f.Outcome == core.Verified || f.Outcome == core.NotSaved):
			return Action{Deed: CallOff, Phase: Keeping}
		}
		return Action{Deed: AwaitConfirm, Phase: Confirming}
	case CallOff:
		if f.Report == Done || f.Report == Nothing {
			return prove()
		}
		return Action{Deed: CallOff, Phase: Keeping, After: backOff(s.Tries)}
	case Abandon:
		switch f.Report {
		case Done:
			return end(s.EndsAs, "")
		case Nothing:
			return look(NothingOff)
		}
		return Action{Deed: Abandon, Phase: Abandoning, After: backOff(s.Tries)}
	case Undo, Bide:
		switch {
		case f.Did == Undo && f.Report == Done:
			return end(f.Outcome, "")
		case s.Refusals >= 2:
			return s.refusedUndo(f)
		case !s.Owed && (f.Report == Locked || s.Tries >= undoTries || f.Stopping):
			return look(UndoBroke)
		}
		return Action{Deed: Undo, Phase: Undoing, After: backOff(s.Tries)}
	case Look:
		switch {
		case f.Report == Done:
			return end(f.Outcome, "")
		case f.Stopping:
			return Action{Deed: LeaveToAnother}
		case f.Cancelled && !s.Cancelled:
			return end(core.Unknown, CalledOff)
		}
		return Action{Deed: Look, Phase: Looking, After: backOff(s.Tries)}
	}
	return Action{Deed: LeaveToAnother}
}

// again tells whether what is missing after a proof is sent in another round: while
// there are rounds left, nobody wants it to end, no check is bad, and the last round
// brought something.
func (s State) again(f Facts) bool {
	return f.More > 0 && s.Round < s.Rounds && s.Kept == "" && !s.Left && !f.Bad && !f.Cancelled && !f.Over && !f.Stopping &&
		(s.Round == 0 || f.Missing < s.Missing)
}

// takenUp goes on with a push from the state that was saved.
func (s State) takenUp(f Facts) Action {
	switch {
	case s.Phase == Begun && !f.Again:
		return Action{Deed: Check, Phase: Checking}
	case s.Phase == Begun || s.Phase == Checking:
		return end(core.Failed, BrokeOff)
	case s.Phase == Abandoning:
		return Action{Deed: Abandon, Phase: Abandoning}
	case s.Announced == 0 && s.Lines > 0 && (s.Phase == Arming || s.Phase == Sending):
		return s.abandon(core.Failed, BrokeOff)
	case s.Kept != "" || s.Phase == Confirming && f.Decision == "confirm":
		return Action{Deed: CallOff, Phase: Keeping}
	case s.Phase == Staged:
		switch {
		case f.Cancelled:
			return s.undo(ByHand)
		case f.Decision == "undo":
			return s.undo(AskedUndo)
		case f.Decision == "restart":
			return Action{Deed: Peek, Phase: Staged}
		}
		return Action{Deed: AwaitRestart, Phase: Staged}
	case s.Phase == Looking:
		return look("")
	case s.Phase == Undoing && s.Refusals >= 2:
		return s.refusedUndo(f)
	case s.Phase == Undoing && s.Owed:
		return s.undo("")
	case s.UndoBy == "":
		return look(BrokeOff)
	case s.Phase == Confirming && f.Decision == "undo":
		return s.undo(AskedUndo)
	case f.Cancelled || f.Over:
		return s.undo(s.interrupted(f, ""))
	case s.Phase == Proving || s.Phase == Judging || s.Phase == Confirming:
		return prove()
	}
	return s.undo(BrokeOff)
}

// final tells whether a proof is the last one: nobody is to confirm it any more.
func (s State) final() bool { return s.UndoBy == "" || s.Kept != "" }

// restartHeld tells whether the next line is a restart that waits for a person.
func (s State) restartHeld() bool { return s.HoldRestart && !s.Restart }

// arm makes sure of the undo before the next line is sent, where there is a
// window. Where a restart is left to a person the window begins with that.
func (s State) arm() Action {
	switch {
	case s.Lines == 0:
		return prove()
	case s.Window && !s.restartHeld():
		return Action{Deed: Arm, Phase: Arming}
	}
	return Action{Deed: Begin, Phase: Sending}
}

// next sends the next line, if there is one.
func (s State) next(f Facts) Action {
	lines := s.Lines
	if s.restartHeld() {
		lines--
	}
	switch {
	case f.Stopping && s.Announced > 0 && s.Announced < lines:
		return Action{Deed: LeaveToAnother}
	case s.Announced >= lines:
		return Action{Deed: Finish, Phase: Sending}
	case f.Cancelled || f.Over || f.Stopping:
		return s.broken(s.interrupted(f, BrokeOff))
	}
	last := s.Announced + 1
	if !s.LeaveApplied {
		last = min(max(last, s.Announced+f.Ahead), lines)
	}
	return Action{Deed: Send, Phase: Sending, Line: s.Announced + 1, Last: last}
}

// interrupted is why a push ends before its time, if nothing else is wrong.
func (s State) interrupted(f Facts, otherwise Reason) Reason {
	switch {
	case f.Cancelled:
		return ByHand
	case f.Over:
		return TimeOver
	}
	return otherwise
}

// broken takes back what was sent; where nothing was, the push is abandoned.
func (s State) broken(why Reason) Action {
	if s.Announced == 0 {
		return s.abandon(core.Refused, why)
	}
	return s.undo(why)
}

// abandon ends a push of which nothing was sent. A device that was told to restart
// by itself is told that it need not.
func (s State) abandon(outcome string, why Reason) Action {
	if s.UndoBy == byTimer {
		return Action{Deed: Abandon, Phase: Abandoning, Outcome: outcome, Why: why}
	}
	return end(outcome, why)
}

// undo takes back what was applied.
func (s State) undo(why Reason) Action { return Action{Deed: Undo, Phase: Undoing, Why: why} }

// refusedUndo is for a device that refused the undo twice. One that goes back by
// itself is given the time for that.
func (s State) refusedUndo(f Facts) Action {
	if s.UndoBy != byService && s.UndoBy != "" && !f.Fired {
		return Action{Deed: Bide, Phase: Undoing, After: 5 * time.Second}
	}
	return look(UndoBroke)
}

// unproved goes on where the proof could not be had.
func (s State) unproved(f Facts) Action {
	switch {
	case s.Kept != "":
		return Action{Deed: CallOff, Phase: Keeping, After: backOff(s.Tries)}
	case s.UndoBy == "":
		return look(Unproved)
	case f.Cancelled || f.Over:
		return s.undo(s.interrupted(f, ""))
	}
	a := prove()
	a.After = 2 * time.Second
	return a
}

func prove() Action { return Action{Deed: Prove, Phase: Proving} }

func look(why Reason) Action { return Action{Deed: Look, Phase: Looking, Why: why} }

func end(outcome string, why Reason) Action { return Action{Deed: End, Outcome: outcome, Why: why} }

// backOff is how long is waited after so many tries in a row that came to nothing.
func backOff(tries int) time.Duration {
	if tries == 0 {
		return 0
	}
	return min(time.Second<<min(tries-1, 6), time.Minute)
}

// known says, in words, how far a push was when it broke off.
func (s State) known() string {
	doing := map[Phase]string{Saving: "saving to startup", Judging: "proving", Confirming: "proving"}[s.Phase]
	if doing == "" {
		doing = string(s.Phase)
	}
	switch {
	case s.Answered == s.Lines:
		return fmt.Sprintf("the push broke off while %s; all of %s had been taken", doing, core.Count(s.Lines, "line", "lines"))
	case s.Answered+1 < s.Announced:
		return fmt.Sprintf("the push broke off while %s: of %s, %d were taken and lines %d to %d are in doubt", doing, core.Count(s.Lines, "line", "lines"), s.Answered, s.Answered+1, s.Announced)
	case s.Answered < s.Announced:
		return fmt.Sprintf("the push broke off while %s: of %s, %d were taken and line %d is in doubt", doing, core.Count(s.Lines, "line", "lines"), s.Answered, s.Announced)
	}
	return fmt.Sprintf("the push broke off while %s: of %s, %d were taken", doing, core.Count(s.Lines, "line", "lines"), s.Answered)
}

// Before is the state as it is saved before a deed.
func (s State) Before(a Action, f Facts) State {
	if a.Phase != s.Phase {
		s.Tries = 0
	}
	switch a.Deed {
	case End, LeaveToAnother:
		return s
	case Begin:
		if a.More > 0 {
			s.Round, s.More, s.Lines, s.Missing = s.Round+1, s.More+a.More, s.Lines+a.More, f.Missing
		}
	case Send:
		s.Announced = a.Last
	case CallOff:
		if s.Kept == "" {
			s.Kept = "by rule"
			if f.Did == "" && f.Decision == "confirm" {
				s.Kept = "by " + f.By
			}
		}
	case Abandon:
		if a.Outcome != "" {
			s.EndsAs = a.Outcome
		}
	case Undo:
		s.Undid, s.Owed = true, s.Owed || s.UndoBy != "" || s.Phase == Staged
	}
	s.Restart = s.Restart || f.Did == Peek && a.Deed != AwaitRestart
	s.Cancelled = s.Cancelled || a.Why == ByHand
	s.Phase = a.Phase
	return s
}

// After is the state once a deed has reported.
func (s State) After(f Facts) State {
	if f.Report == Done || f.Report == Nothing || f.Report == Runs {
		s.Tries = 0
	} else {
		s.Tries++
	}
	switch f.Did {
	case Send:
		switch {
		case f.Report == Done:
			s.Answered = s.Announced
		case f.Taken > 0:
			s.Answered += f.Taken
		case f.Report == Refused && s.LeaveApplied && !f.Ours:
			s.Left = true
		}
	case Peek:
		if f.Report == Runs {
			s.Announced, s.Answered = s.Lines, s.Lines
		}
	case Prove:
		s.ChecksBad = f.Bad
	case Undo:
		if f.Report == Refused {
			s.Refusals++
		}
	}
	return s
}
