package e2e

import (
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
)

const sw1 = "skerrinsay-sw1"

// stage begins a staged push of a reference.
func (w *world) stage(ref string, also ...func(*client.NewPush)) client.Job {
	w.t.Helper()
	p := w.preview(client.NewPreview{Ref: ref, Method: "stage"})
	n := client.NewPush{Preview: p.ID, Hash: p.Hash}
	for _, f := range also {
		f(&n)
	}
	return must(w.admin.Push(ctx(w.t), n, ""))(w.t)
}

func held(n *client.NewPush) { n.HoldRestart = true }

// staged waits until a push has written startup and waits for the restart.
func (w *world) staged(id string) (j client.Job) {
	w.t.Helper()
	eventually(w.t, "the push waits for the restart", func() bool {
		if j = must(w.admin.Job(ctx(w.t), id))(w.t); j.State == "ended" {
			w.t.Fatalf("it ended %s: %s\n%s", j.Outcome, j.Summary, w.logText(id))
		}
		return j.Awaits == "restart"
	})
	return j
}

// twoSettings makes a switch run version 2, kept, after version 1. It returns
// what each runs.
func (w *world) twoSettings() (first, second string) {
	w.t.Helper()
	w.pull(sw1)
	first = w.fleet.running(sw1)
	w.fleet.amend(sw1, "mwilks", "port 3 : label is <by hand>", "strand 90 : kept is yes")
	w.fleet.stow(sw1)
	w.pull(sw1)
	return first, w.fleet.running(sw1)
}

func (f *fleet) startup(device string) string {
	return strings.Join(f.status(device).Startup, "\n")
}

// TestStage: startup is written and the device restarted into it; nothing that
// runs is saved over it, neither by us nor by somebody else.
func TestStage(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	first, second := w.twoSettings()
	is := func(when string, j client.Job, outcome, running, startup string, restarts int) {
		t.Helper()
		if j.Outcome != outcome || w.fleet.running(sw1) != running || w.fleet.startup(sw1) != startup {
			t.Errorf("%s it ended %s: %s\n%s\nit runs\n%s\nstartup\n%s", when, j.Outcome, j.Summary, w.logText(j.ID), w.fleet.running(sw1), w.fleet.startup(sw1))
		}
		if n := w.fleet.status(sw1).Restarts; n != restarts {
			t.Errorf("%s it restarted %d times, not %d", when, n, restarts)
		}
	}
	p := w.preview(client.NewPreview{Ref: sw1 + "@1", Method: "stage"})
	if len(p.Steps) != 2 || p.Steps[0].Kind != "stage" || p.Steps[1].Kind != "restart" || p.Saves || !strings.Contains(strings.Join(p.Notes, "\n"), "restarts afterwards") {
		t.Errorf("preview: %+v, %q", p.Steps, p.Notes)
	}
	is("at once", w.end(w.stage(sw1+"@1").ID), "verified", first, first, 1)
	if d := must(w.admin.Device(ctx(t), sw1))(t); d.State != "in sync" {
		t.Errorf("it is %s", d.State)
	}

	// Left for later: nothing else may be pushed meanwhile, and it is no push that
	// waits to be confirmed.
	j := w.staged(w.stage(sw1+"@2", held).ID)
	if w.fleet.running(sw1) != first || w.fleet.startup(sw1) != second {
		t.Errorf("it runs\n%s\nstartup\n%s", w.fleet.running(sw1), w.fleet.startup(sw1))
	}
	if _, said, status := w.cli("push", sw1+"@2", "--yes"); status == 0 || !strings.Contains(said, j.ID) {
		t.Errorf("a second push while one is staged: %d %s", status, said)
	}
	if _, err := w.admin.Confirm(ctx(t), j.ID); !client.IsStatus(err, 409) || !strings.Contains(err.Error(), "let the device be restarted") {
		t.Errorf("confirming it: %v", err)
	}
	w.kill()
	w.serve()
	must(w.admin.Restart(ctx(t), w.staged(j.ID).ID))(t)
	is("later", w.end(j.ID), "verified", second, second, 2)

	// Somebody saves over it: it is not restarted.
	j = w.staged(w.stage(sw1+"@1", held).ID)
	w.fleet.stow(sw1)
	must(w.admin.Restart(ctx(t), j.ID))(t)
	end := w.end(j.ID)
	is("saved over", end, "undone", second, second, 2)
	if !strings.Contains(end.Summary, "saved over it") {
		t.Errorf("it says %q", end.Summary)
	}

	// Put back by hand, and by a cancel.
	j = w.staged(w.stage(sw1+"@1", held).ID)
	out, said, status := w.cli("job", "undo", j.ID)
	is("put back", w.end(j.ID), "undone", second, second, 2)
	if status != 1 || !strings.Contains(out, "putting back what startup held") {
		t.Errorf("status %d: %s%s", status, out, said)
	}
	j = w.staged(w.stage(sw1+"@1", held).ID)
	must(w.admin.Cancel(ctx(t), j.ID))(t)
	is("cancelled", w.end(j.ID), "undone", second, second, 2)

	// Somebody restarts it before we do.
	j = w.staged(w.stage(sw1+"@1", held).ID)
	w.fleet.call("POST", "/devices/"+sw1+"/restart", nil, nil)
	eventually(t, "it is back", func() bool { return w.fleet.running(sw1) == first })
	eventually(t, "it is taken up", func() bool { _, err := w.admin.Restart(ctx(t), j.ID); return err == nil })
	is("restarted by hand", w.end(j.ID), "verified", first, first, 3)

	// With a window, that begins with the restart.
	j = w.staged(w.stage(sw1+"@2", held, func(n *client.NewPush) { n.Within = "2m" }).ID)
	must(w.admin.Restart(ctx(t), j.ID))(t)
	if w.parked(j.ID); w.fleet.running(sw1) != second {
		t.Errorf("it waits, and runs\n%s", w.fleet.running(sw1))
	}
	must(w.admin.Undo(ctx(t), j.ID))(t)
	is("taken back", w.end(j.ID), "undone", first, first, 5)

	// How long it was away before is known by now.
	if p := w.preview(client.NewPreview{Ref: sw1 + "@2", Method: "stage"}); !strings.Contains(strings.Join(p.Notes, "\n"), "is away for up to 2m; the last ") {
		t.Errorf("%q", p.Notes)
	}

	// What cannot be written, and what cannot be asked for.
	w.fleet.faults(sw1, box.Faults{RefuseLine: 1})
	is("refused", w.end(w.stage(sw1+"@2").ID), "undone", first, first, 5)
	w.fleet.faults(sw1, box.Faults{})
	if _, said, status := w.cli("push", sw1+"@2", "--hold-restart", "--yes"); status != 2 || !strings.Contains(said, "--method stage") {
		t.Errorf("status %d: %s", status, said)
	}
	p = w.preview(client.NewPreview{Ref: sw1 + "@2"})
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, HoldRestart: true, Within: "2m"}, ""); !client.IsStatus(err, 400) {
		t.Errorf("leaving a restart to later where there is none: %v", err)
	}
	if _, err := w.admin.Restart(ctx(t), j.ID); !client.IsStatus(err, 409) {
		t.Errorf("restarting what has ended: %v", err)
	}
}

// TestStageBreaksOff: the service dies around the writing of startup; the end
// says what startup holds.
func TestStageBreaksOff(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	first, second := w.twoSettings()
	for _, applied := range []bool{false, true} {
		w.fleet.faults(sw1, box.Faults{HoldLine: 1, HoldApplied: applied})
		j := w.stage(sw1 + "@1")
		w.fleet.waitHolding(sw1)
		w.kill()
		w.fleet.faults(sw1, box.Faults{})
		w.serve()
		end := w.end(j.ID)
		if w.fleet.running(sw1) != second {
			t.Errorf("it runs\n%s", w.fleet.running(sw1))
		}
		startup := w.fleet.startup(sw1)
		if startup == second && end.Outcome != "undone" || startup == first && (end.Outcome != "unsaved" || !strings.Contains(end.Summary, "startup does not hold that")) {
			t.Errorf("applied %v: %s: %s\nstartup\n%s", applied, end.Outcome, end.Summary, startup)
		}
		w.fleet.stow(sw1)
		w.pull(sw1)
	}
	// It never comes back from the restart; somebody brings it up again.
	w.fleet.faults(sw1, box.Faults{NoReturn: true})
	must(w.admin.EditDevice(ctx(t), sw1, client.NewDevice{Timeouts: &map[string]string{"connect": "2s"}}))(t)
	j := w.stage(sw1 + "@1")
	eventually(t, "it is away", func() bool { return strings.Contains(w.logText(j.ID), "the device restarts") })
	w.kill()
	w.serve()
	eventually(t, "the push waits for it", func() bool {
		j := must(w.admin.Job(ctx(t), j.ID))(t)
		return j.State == "waiting" && strings.Contains(j.Summary, "waiting to look")
	})
	w.fleet.faults(sw1, box.Faults{})
	if end := w.end(j.ID); end.Outcome != "verified" || w.fleet.running(sw1) != first {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.fleet.running(sw1))
	}
}

// TestBroughtLogin: a version brings back the login that was used before the
// credential was changed. It is tried after the restart, once, and the push says
// so.
func TestBroughtLogin(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	w.pull(sw1)
	first := w.fleet.running(sw1)
	w.fleet.amend(sw1, "mwilks", "keeper magpie : word is plain <demo-nest-2>", "port 3 : label is <by hand>")
	w.fleet.stow(sw1)
	must(w.admin.EditDevice(ctx(t), sw1, client.NewDevice{Password: "demo-nest-2"}))(t)
	if j := w.pull(sw1); j.Outcome != "done" {
		t.Fatal(j.Summary)
	}
	refused := w.fleet.status(sw1).Refused
	end := w.end(w.stage(sw1+"@1", func(n *client.NewPush) { n.Within = "2m"; n.WhenVerified = true }).ID)
	if end.Outcome != "verified" || w.fleet.running(sw1) != first || !strings.Contains(end.Summary, "it knows the login that was used before") {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
	if n := w.fleet.status(sw1).Refused - refused; n != 1 {
		t.Errorf("the login was refused %d times", n)
	}
	// A pull tries nothing but today's login; with the earlier one given back it goes on.
	if j := w.pull(sw1); j.Outcome != "refused" || must(w.admin.Device(ctx(t), sw1))(t).State != "login refused" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	must(w.admin.EditDevice(ctx(t), sw1, client.NewDevice{Password: sim.ServiceWord}))(t)
	if j := w.pull(sw1); j.Outcome != "done" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestSecondStep: where a dialect says that sent lines have to be made live, that
// is a step of its own, in the preview, in the push and in its undo; and nothing
// is proved before the device had its time to settle.
func TestSecondStep(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	src := strings.Replace(shippedDialect(t, "tern"), "  save: {mode: aloft", "  live: [{mode: aloft, type: recite unit, done: '^serial '}]\n  settle: 1s\n  save: {mode: aloft", 1)
	must(w.admin.LoadDialect(ctx(t), "tern", src))(t)
	changed(w)
	second := w.fleet.running(r1)
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	if last := p.Steps[len(p.Steps)-1]; last.Kind != "live" {
		t.Errorf("the last step is %+v", last)
	}
	j := w.parked(w.within("2m", r1+"@1").ID)
	log := w.logText(j.ID)
	if !strings.Contains(log, "live what was sent takes effect") || !strings.Contains(log, "giving it 1s to settle") {
		t.Errorf("%s", log)
	}
	must(w.admin.Undo(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second || strings.Count(w.logText(j.ID), "live what was sent") != 2 {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
	// It is refused: the lines are taken away again.
	must(w.admin.LoadDialect(ctx(t), "tern", strings.Replace(src, "type: recite unit, done: '^serial '", "type: hoist it all", 1)))(t)
	if end := w.end(w.within("30s", r1+"@1").ID); end.Outcome == "verified" {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
}
