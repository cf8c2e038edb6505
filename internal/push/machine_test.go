package push

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/link"
)

// The model check walks the machine exhaustively, in memory. A world is a device and
// all that is said to it, as small as it can be: what runs and what startup holds are
// each the old state, the new one, or something in between; the device may be told to
// go back by itself. A walk chooses, at every step, what the device answers, whether
// the instance dies before the deed or after it, and what a person says. After each
// step, and at the end of each walk, the promises are looked at.

// What a part of the device holds.
const (
	old = iota
	mixed
	new_
)

// world is one moment of a walk. It is a value: two walks that come to the same one go
// on the same way, so each is walked once.
type world struct {
	s       State // as it was saved last
	running int
	startup int
	timer   bool // the device will go back by itself
	loaded  bool // by commit: the lines are loaded and not committed yet
	unit    bool // another unit stands there now
	gone    bool // the device was removed here
	never   bool // it never answers again
	claimed bool
	kept    bool   // somebody, or a rule, confirmed it, and the device was told
	f       Facts  // what is known besides, for the next Decide
	parked  string // what it waits for
	ended   string // its outcome
	budget  int    // of things that go wrong, on this walk
}

// alike is the world without what makes no difference.
func (w world) alike() world {
	w.s.Why, w.s.Token = "", ""
	w.s.Tries = min(w.s.Tries, undoTries)
	return w
}

// then is when all windows of a walk end.
var then = time.Unix(0, 0)

// setup is what is asked of a walk, and of its device.
type setup struct {
	asked Asked
	by    string // what the device offers as its own undo
	stage bool   // the lines are startup and a restart
	ahead int    // how many lines go at once
}

type walker struct {
	t      *testing.T
	setup  setup
	decide func(State, Facts) Action
	seen   map[world]bool
	round  map[world]bool // since something was waited for
	bad    string
	steps  int
	ends   map[string]int
}

// fail keeps the first promise that was broken.
func (k *walker) fail(w world, format string, args ...any) {
	if k.bad == "" {
		k.bad = fmt.Sprintf(format, args...) + fmt.Sprintf("\n  %+v\n  running %d, startup %d, timer %v, facts %+v, %+v", w.s, w.running, w.startup, w.timer, w.f, k.setup)
	}
}

// walk goes on from a world in every way there is.
func (k *walker) walk(w world) {
	at := w.alike()
	switch {
	case k.bad != "":
		return
	case k.round[at]:
		k.fail(w, "it goes round and waits for nothing")
		return
	case k.seen[at]:
		return
	}
	k.seen[at], k.round[at] = true, true
	defer delete(k.round, at)
	k.steps++
	if w.ended != "" {
		k.atEnd(w)
		return
	}
	if w.parked != "" {
		k.decided(w)
		return
	}
	w.f.Ahead = k.setup.ahead
	a := k.decide(w.s, w.f)
	switch {
	case w.f.Report == Unsure && a.Deed != LeaveToAnother:
		k.fail(w, "it goes on with %q although it may not be alone any more", a.Deed)
	case a.Deed == Send && a.Line <= w.s.Announced:
		k.fail(w, "line %d is sent again", a.Line)
	case a.Deed == Undo && w.kept:
		k.fail(w, "what was confirmed is taken back")
	case (a.Deed == Undo || a.Deed == CallOff) && w.s.Announced == 0:
		k.fail(w, "%q, and nothing was sent", a.Deed)
	}
	if a.After > 0 {
		defer func(round map[world]bool) { k.round = round }(k.round)
		k.round = map[world]bool{}
	}
	next := w
	next.s = w.s.Before(a, w.f)
	switch a.Deed {
	case LeaveToAnother:
		k.again(w)
		return
	case End:
		next.ended, next.claimed = a.Outcome, false
		k.walk(next)
		k.again(w) // it dies before that is kept
		return
	case AwaitConfirm, AwaitRestart:
		next.parked = string(a.Deed)
		k.walk(next)
		return
	case Arm:
		next.s.UndoBy, next.s.Due = k.setup.by, &then
		if k.setup.by != byService {
			next.s.Fires = &then
		}
	case CallOff:
		next.kept = true
	}
	if w.budget > 0 {
		dies := w
		dies.budget--
		k.again(dies) // before the state is saved
		dies = next
		dies.budget--
		k.again(dies) // after that, and before the deed
	}
	for _, out := range k.deed(next, a) {
		out.s = out.s.After(out.f)
		for _, f := range k.meanwhile(out) {
			next := out
			next.f = f
			if f.Cancelled != out.f.Cancelled || f.Over != out.f.Over || f.Stopping != out.f.Stopping {
				next.budget--
			}
			if next.budget >= 0 {
				k.walk(next)
			}
		}
		if out.budget > 0 && out.timer { // the device's own undo goes off
			fires := out.fire()
			fires.budget--
			k.walk(fires)
		}
		if out.budget > 0 {
			dies := out
			dies.s, dies.budget = next.s, out.budget-1
			k.again(dies) // after the deed, and before that is known
		}
	}
}

// meanwhile is what else may be so by the next step.
func (k *walker) meanwhile(w world) (out []Facts) {
	f := w.f
	out = append(out, f)
	c := f
	if c.Cancelled = true; !f.Cancelled {
		out = append(out, c)
	}
	if o := f; w.s.Due != nil && !f.Over {
		o.Over = true
		out = append(out, o)
	}
	if s := f; !f.Stopping {
		s.Stopping = true
		out = append(out, s)
		s.Leaving = true
		out = append(out, s)
	}
	return out
}

// again has another instance take the push up.
func (k *walker) again(w world) {
	w.f = Facts{Again: true, Cancelled: w.f.Cancelled, Over: w.f.Over, Fired: w.f.Fired, Decision: w.f.Decision, By: w.f.By}
	w.parked = ""
	defer func(round map[world]bool) { k.round = round }(k.round)
	k.round = map[world]bool{}
	k.walk(w)
	if w.timer && w.s.UndoBy != byService { // meanwhile the device went back by itself
		k.walk(w.fire())
	}
}

// fire has the device go back by itself.
func (w world) fire() world {
	w.timer, w.loaded = false, false
	if w.s.UndoBy == byTimer {
		w.running = w.startup
	} else {
		w.running = old
	}
	w.f.Fired, w.f.Over = true, true
	return w
}

// decided has a person say what becomes of a push that waits, or nobody.
func (k *walker) decided(w world) {
	words := []string{"undo", "restart"}
	if w.parked == string(AwaitConfirm) {
		words = []string{"undo", "confirm"}
	}
	for _, word := range words {
		d := w
		d.f = Facts{Decision: word, By: "somebody", Fired: w.f.Fired}
		k.again(d)
	}
	c := w
	c.f = Facts{Cancelled: true, Fired: w.f.Fired}
	k.again(c)
	if w.parked == string(AwaitConfirm) {
		c = w
		c.f = Facts{Over: true, Fired: w.f.Fired}
		k.again(c)
	}
	if w.budget > 0 && w.startup != w.running && !k.setup.stage { // somebody saves what runs
		c = w
		c.budget--
		c.startup = c.running
		c.f = Facts{Over: true, Fired: w.f.Fired}
		k.again(c)
	}
	if w.budget > 0 && !w.unit { // somebody puts another unit there, or removes the device
		c = w
		c.budget--
		c.unit, c.f = true, Facts{Cancelled: true}
		k.again(c)
		c.unit, c.gone = false, true
		k.again(c)
	}
}

// deed does a deed to the device, in every way that it may come out.
func (k *walker) deed(w world, a Action) (out []world) {
	w.f = Facts{Did: a.Deed, Cancelled: w.f.Cancelled, Over: w.f.Over, Fired: w.f.Fired, Stopping: w.f.Stopping, Again: w.f.Again}
	add := func(w world, r Report) { w.f.Report = r; out = append(out, w) }
	wrong := func(r Report) { // it costs of the budget
		if w.budget > 0 {
			x := w
			x.budget--
			add(x, r)
		}
	}
	if a.Deed == Bide {
		if w.timer {
			w = w.fire()
		}
		w.f.Fired = true
		add(w, Done)
		return out
	}
	switch {
	case w.gone:
		add(w, Removed)
		return out
	case w.unit:
		add(w, Other)
		return out
	case w.never && a.Deed != Judge:
		if w.timer { // it goes on without us
			w = w.fire()
		}
		w.f.Over = w.f.Over || w.s.Due != nil
		add(w, Lost)
		return out
	}
	wrong(Lost)
	wrong(Unsure)
	if a.Deed != Judge && w.budget > 0 {
		x := w
		x.budget--
		x.never = true
		add(x, Lost)
	}
	verdict := func(w world) string {
		switch {
		case w.running == new_ && (w.startup == new_ || !k.setup.asked.Saves && !k.setup.stage):
			if w.startup != new_ {
				return core.NotSaved
			}
			return core.Verified
		case w.running == new_:
			return core.NotSaved
		}
		return core.Differs
	}
	switch a.Deed {
	case Check:
		add(w, Done)
		wrong(Stale)
	case Arm:
		if k.setup.by == byTimer {
			armed := w
			armed.timer = true
			add(armed, Done)
			if w.budget > 0 { // it took it, and the answer was lost
				armed.budget--
				add(armed, Lost)
			}
		} else {
			add(w, Done)
		}
		wrong(Refused)
	case Begin:
		if a.More > 0 && (w.s.Round > k.setup.asked.Rounds || w.s.Announced == w.s.Lines) {
			k.fail(w, "a round too many, or one that sends nothing")
		}
		add(w, Done)
		wrong(Refused)
	case Send:
		took := w
		switch {
		case k.setup.stage && a.Last == w.s.Lines:
			took.running, took.timer = w.startup, took.timer && k.setup.by == byCommit
		case k.setup.stage:
			took.startup = new_
		case k.setup.by == byCommit:
			took.loaded = true
			if a.Last == w.s.Lines {
				took.loaded, took.running, took.timer = false, new_, w.s.UndoBy == byCommit
			}
		case a.Last == w.s.Lines:
			took.running, took.timer = new_, took.timer || w.s.UndoBy == byDeed
		default:
			took.running = mixed
		}
		add(took, Done)
		if took.running == new_ && took.budget > 0 && w.s.Rounds > 0 { // it took the line, and did not do all of it
			half := took
			half.running, half.budget = mixed, half.budget-1
			add(half, Done)
		}
		if a.Last > a.Line && took.budget > 0 { // it took some of those that went at once
			some := w
			some.running, some.budget, some.f.Taken = mixed, some.budget-1, 1
			add(some, Refused)
			add(some, Lost)
		}
		wrong(Refused)
		locked := w
		locked.f.Ours = true
		if w.budget > 0 {
			locked.budget--
			add(locked, Refused)
		}
		if took.budget > 0 { // it took the line, and the answer was lost
			took.budget--
			add(took, Lost)
		}
	case Finish:
		add(w, Done)
	case Peek:
		switch {
		case w.running == new_:
			add(w, Runs)
		default:
			add(w, Done)
			if w.budget > 0 { // somebody restarted it just now
				x := w
				x.budget--
				x.running = x.startup
				add(x, Runs)
			}
		}
	case Prove:
		w.f.Matches = w.running == new_
		if w.f.More, w.f.Missing = 0, 0; w.running == mixed && w.s.Rounds > 0 && !k.setup.stage {
			w.f.More, w.f.Missing = 1, 5-w.s.Round
			if w.budget > 0 { // the last round brought nothing
				x := w
				x.budget--
				x.f.Missing = 5
				add(x, Done)
			}
		}
		add(w, Done)
		if w.budget > 0 {
			x := w
			x.budget--
			x.f.Bad = true
			add(x, Done)
		}
		wrong(Locked)
	case Save:
		saved := w
		saved.startup = saved.running
		add(saved, Done)
		wrong(Done) // it refused to save: the verdict says so
		if saved.budget > 0 {
			saved.budget--
			add(saved, Lost)
		}
	case Judge:
		w.f.Outcome = verdict(w)
		add(w, Done)
		if w.budget > 0 {
			x := w
			x.budget--
			x.f.Outcome = core.Unknown
			add(x, Done)
		}
	case CallOff:
		if w.s.UndoBy != byService && !w.timer {
			add(w, Nothing)
			break
		}
		w.timer = false
		add(w, Done)
		wrong(Locked)
	case Abandon:
		if !w.timer {
			add(w, Nothing)
			break
		}
		w.timer = false
		add(w, Done)
	case Undo:
		back := w
		back.running, back.loaded, back.timer = old, false, false
		if back.f.Outcome = core.Undone; back.startup != old && !k.setup.stage && back.budget > 0 { // startup cannot be put back
			unsaved := back
			unsaved.budget--
			unsaved.f.Outcome = core.NotSaved
			add(unsaved, Done)
		}
		back.startup = old
		add(back, Done)
		half := w
		half.running = mixed
		if w.running != old && w.budget > 0 {
			half.budget--
			add(half, Lost)
			add(half, Refused)
			add(half, Locked)
		}
		wrong(Refused)
		if back.budget > 0 { // all but the calling off of its own restart
			back.budget, back.timer, back.f.Outcome = back.budget-1, w.timer, ""
			add(back, Lost)
		}
	case Look:
		switch o := verdict(w); {
		case o != core.Differs:
			w.f.Outcome = o
		case w.running == old && w.startup == old:
			w.f.Outcome = core.Undone
		case w.running == old:
			w.f.Outcome = core.NotSaved
		default:
			w.f.Outcome = core.Differs
		}
		add(w, Done)
		wrong(Locked)
	}
	return out
}

// atEnd holds a push that has ended to the promises.
func (k *walker) atEnd(w world) {
	k.ends[w.ended]++
	away := w.unit || w.gone || w.never
	switch {
	case w.ended == core.Verified && (w.running != new_ || w.startup != new_) && (k.setup.asked.Saves || k.setup.stage):
		k.fail(w, "it ended verified, and running and startup are not")
	case w.ended == core.Undone && (w.running != old || w.startup != old):
		k.fail(w, "it ended undone, and running and startup are not what they were")
	case w.claimed:
		k.fail(w, "its claim was left behind")
	case w.timer && !away:
		k.fail(w, "it ended %s, and the device will go back by itself", w.ended)
	case (w.ended == core.Failed || w.ended == core.Refused || w.ended == core.Cancelled) && w.s.Announced == 0 && w.running != old && !away:
		k.fail(w, "it ended %s as if nothing had been sent", w.ended)
	case w.s.Owed && !away && w.running != old && w.s.Refusals < 2 && w.ended != core.Differs && w.ended != core.NotSaved && w.s.Kept == "":
		k.fail(w, "an undo is owed; it ended %s and is not done", w.ended)
	}
}

// model walks one setup.
func model(t *testing.T, st setup, budget int, decide func(State, Facts) Action) *walker {
	k := &walker{t: t, setup: st, decide: decide, seen: map[world]bool{}, round: map[world]bool{}, ends: map[string]int{}}
	k.walk(world{s: State{Asked: st.asked}, claimed: true, budget: budget})
	return k
}

func setups() (out []setup) {
	for _, by := range []string{byService, byCommit, byTimer, byDeed} {
		for _, window := range []bool{false, true} {
			for n := range 8 {
				a := Asked{Lines: 2, Window: window, LeaveApplied: n&1 > 0, WhenVerified: window && n&2 > 0, Saves: n&4 == 0}
				out = append(out, setup{asked: a, by: by})
			}
			out = append(out, setup{asked: Asked{Lines: 0, Window: window, Saves: true}, by: by},
				setup{asked: Asked{Lines: 2, Window: window, Saves: true, Rounds: 2}, by: by}, setup{asked: Asked{Lines: 3, Window: window, Saves: true}, by: by, ahead: 2})
			for _, hold := range []bool{false, true} {
				if by != byTimer && by != byDeed { // going back to startup undoes nothing there
					out = append(out, setup{asked: Asked{Lines: 2, Window: window, HoldRestart: hold}, by: by, stage: true})
				}
			}
		}
	}
	return out
}

// TestMachine walks every setup of a push, with up to three things that go wrong on
// each walk.
func TestMachine(t *testing.T) {
	steps, ends := 0, map[string]int{}
	for _, st := range setups() {
		k := model(t, st, 3, Decide)
		if k.bad != "" {
			t.Fatal(k.bad)
		}
		steps += k.steps
		for o, n := range k.ends {
			ends[o] += n
		}
	}
	t.Logf("%d different moments, ends %v", steps, ends)
	if steps < 20_000 {
		t.Errorf("only %d moments were walked", steps)
	}
	for _, o := range []string{core.Verified, core.NotSaved, core.Differs, core.Undone, core.Unknown, core.Failed, core.Refused, core.Cancelled} {
		if ends[o] == 0 {
			t.Errorf("no walk ends %s", o)
		}
	}
}

// TestMachineBroken: three machines that are broken on purpose are caught.
func TestMachineBroken(t *testing.T) {
	for name, c := range map[string]struct {
		decide func(State, Facts) Action
		says   string
	}{
		"what was confirmed is undone when it is taken up again": {func(s State, f Facts) Action {
			if f.Did == "" && s.Kept != "" {
				s.Kept = ""
			}
			return Decide(s, f)
		}, "what was confirmed is taken back"},
		"a device that was told to restart is left to it": {func(s State, f Facts) Action {
			a := Decide(s, f)
			if a.Deed == Abandon {
				return Action{Deed: End, Outcome: core.Refused}
			}
			return a
		}, "go back by itself"},
		"startup is not looked at after the undo was refused, and equal is said on faith": {func(s State, f Facts) Action {
			a := Decide(s, f)
			if f.Did == Save && f.Report != Done {
				return Action{Deed: End, Outcome: core.Verified}
			}
			return a
		}, "verified"},
	} {
		caught := ""
		for _, st := range setups() {
			if k := model(t, st, 3, c.decide); k.bad != "" {
				caught = k.bad
				break
			}
		}
		if !strings.Contains(strings.Split(caught, "\n")[0], c.says) {
			t.Errorf("%s: %q", name, caught)
		}
	}
}

// TestUndoWords: what takes a push back is called here as links call it.
func TestUndoWords(t *testing.T) {
	if byCommit != link.ByCommit || byTimer != link.ByTimer || byDeed != link.ByDeed {
		t.Error(byCommit, byTimer, byDeed)
	}
}
