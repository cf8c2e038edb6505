package e2e

import (
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

// TestRestoreTest: a version is tried out on another device, which runs again what it
// ran before, whatever happens; and the version's own device says when it was
// last proven.
func TestRestoreTest(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	spare := w.fleet.places[1].Name
	w.pull(r1)
	w.pull(spare)
	own, before, startup := w.fleet.running(r1), w.fleet.running(spare), w.fleet.startup(spare)
	typed := w.fleet.status(r1).Typed
	if d := must(w.admin.Device(ctx(t), r1))(t); d.LastProven != nil {
		t.Errorf("proven before anything was: %s", d.Proven)
	}
	never := must(w.admin.Status(ctx(t)))(t).NeverProven
	untouched := func(when string) {
		t.Helper()
		if w.fleet.running(spare) != before || w.fleet.startup(spare) != startup {
			t.Errorf("%s the spare runs\n%s\nstartup\n%s", when, w.fleet.running(spare), w.fleet.startup(spare))
		}
		if w.fleet.running(r1) != own || w.fleet.status(r1).Typed != typed {
			t.Errorf("%s the version's own device was touched", when)
		}
	}

	// Only what is marked as a spare is overwritten, by a person or a schedule, and only where nobody has to be asked.
	if _, said, status := w.cli("restore-test", r1+"@1", "--on", spare, "--yes"); status != 2 || !strings.Contains(said, "is not marked as a spare") || !strings.Contains(said, "magpie device edit "+spare+" --spare") {
		t.Errorf("%d: %s", status, said)
	}
	by := client.NewSchedule{Name: "proof", Rule: "weekly sun 04:00", Zone: "UTC", Selector: []string{r1}, Deeds: []client.Deed{{Kind: "restore-test", With: map[string]string{"on": spare}}}}
	if _, err := w.admin.AddSchedule(ctx(t), by); err == nil || !strings.Contains(err.Error(), "is not marked as a spare") {
		t.Errorf("a schedule: %v", err)
	}
	w.spare(spare)
	rule := must(w.admin.AddApproval(ctx(t), []string{"spare=yes"}))(t)
	if _, err := w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: spare}, ""); !client.IsStatus(err, 403) || !strings.Contains(err.Error(), "second person") {
		t.Errorf("where a second person is asked for: %v", err)
	}
	if err := w.admin.RemoveApproval(ctx(t), rule.ID); err != nil {
		t.Fatal(err)
	}
	must(w.admin.AddSchedule(ctx(t), by))(t)
	untouched("after what was refused")

	out, said, status := w.cli("restore-test", r1+"@1", "--on", spare, "--yes")
	if status != 0 || !strings.Contains(out, r1+"@1 was put on "+spare+" and proved") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	untouched("after the restore test")
	if d := must(w.admin.Device(ctx(t), r1))(t); d.LastProven == nil || d.Proven != r1+"@1 in a restore test on "+spare {
		t.Errorf("last proven %v: %q", d.LastProven, d.Proven)
	}
	if n := must(w.admin.Status(ctx(t)))(t).NeverProven; n != never-2 { // the spare, too: what it ran was put back and proved
		t.Errorf("%d devices were never proven, then %d", never, n)
	}
	if out, _, _ := w.cli("device", "show", r1); !strings.Contains(out, "in a restore test on "+spare) {
		t.Errorf("%s", out)
	}

	// Refused in the middle: nothing is proved, and the spare is as it was.
	w.fleet.faults(spare, tern.Faults{RefuseLine: 3})
	j := w.end(must(w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: spare}, ""))(t).ID)
	if j.Outcome != "failed" || j.RestoreTest.Proved || !j.RestoreTest.Whole {
		t.Errorf("%s: %s, %+v", j.Outcome, j.Summary, j.RestoreTest)
	}
	w.fleet.faults(spare, box.Faults{})
	untouched("after a refusal")

	// The service dies while the spare runs the other's version.
	w.fleet.faults(spare, tern.Faults{HoldLine: 4})
	d := must(w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: spare}, ""))(t)
	w.fleet.waitHolding(spare)
	w.fleet.call("POST", "/devices/"+spare+"/release", nil, nil)
	eventually(t, "it is put there", func() bool {
		j := must(w.admin.Job(ctx(t), d.ID))(t)
		return j.RestoreTest != nil && j.RestoreTest.Push != "" && must(w.admin.Job(ctx(t), j.RestoreTest.Push))(t).State == "ended"
	})
	w.kill()
	w.serve()
	if j = w.end(d.ID); j.Outcome != "done" || !j.RestoreTest.Proved || !j.RestoreTest.Whole {
		t.Errorf("%s: %s, %+v\n%s", j.Outcome, j.Summary, j.RestoreTest, w.logText(d.ID))
	}
	untouched("after a crash")

	// The spare is away when it is to be given back: the end says so, and how to.
	w.fleet.faults(spare, tern.Faults{HoldLine: 6})
	must(w.admin.EditDevice(ctx(t), spare, client.NewDevice{Timeouts: &map[string]string{"connect": "2s", "answer": "2s", "idle": "2s"}}))(t)
	d = must(w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: spare}, ""))(t)
	w.fleet.waitHolding(spare)
	w.fleet.faults(spare, box.Faults{Down: true})
	time.Sleep(3 * time.Second) // longer than the device may take to answer
	w.fleet.faults(spare, box.Faults{})
	if j = w.end(d.ID); j.Outcome == "done" && j.RestoreTest.Proved {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if w.fleet.running(spare) != before {
		t.Errorf("the spare runs\n%s\n%s: %s", w.fleet.running(spare), j.Outcome, j.Summary)
	}

	// A mark that is taken away while a test waits counts, too.
	w.fleet.amend(spare, "mwilks", "lane quay1", `note "needed now"`)
	before, startup = w.fleet.running(spare), w.fleet.startup(spare)
	held := w.within("2m", spare+"@1")
	w.parked(held.ID)
	late := must(w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: spare}, ""))(t)
	must(w.admin.EditDevice(ctx(t), spare, client.NewDevice{Spare: new(bool)}))(t)
	must(w.admin.Say(ctx(t), held.ID, "undo", ""))(t)
	w.end(held.ID)
	if j := w.end(late.ID); j.Outcome != "refused" && j.Outcome != "failed" || w.fleet.running(spare) != before {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.fleet.running(spare))
	}

	for on, words := range map[string]string{r1: "own device", "nowhere": "nowhere"} {
		if _, err := w.admin.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: on}, ""); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("on %s: %v", on, err)
		}
	}
}

// spare marks devices as ones that nobody needs.
func (w *world) spare(names ...string) {
	w.t.Helper()
	is := true
	for _, n := range names {
		must(w.admin.EditDevice(ctx(w.t), n, client.NewDevice{Spare: &is}))(w.t)
	}
}
