package e2e

import (
	"strings"
	"syscall"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/scratch"
	"magpie/internal/sim/tern"
)

// TestKilledWhileKeeping: a push that was confirmed and is being saved goes on to
// be kept, whoever goes on with it: what was confirmed is never taken back, and
// startup never left with something else than what runs.
func TestKilledWhileKeeping(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	target := w.fleet.running(r1)
	changed(w)
	for round := range 2 {
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		w.fleet.faults(r1, tern.Faults{Hang: "stow running"})
		push := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Within: "5m", WhenVerified: true}, ""))(t)
		eventually(t, "it is being saved", func() bool { return strings.Contains(w.logText(push.ID), "saving to startup") })
		w.kill()
		w.fleet.faults(r1, tern.Faults{})
		w.serve()
		end := w.end(push.ID)
		if end.Outcome != "verified" || w.fleet.running(r1) != target || settled(w.fleet.startup(r1)) != settled(target) {
			t.Fatalf("round %d: %s: %s\nrunning\n%s\nstartup\n%s", round, end.Outcome, end.Summary, w.fleet.running(r1), w.fleet.startup(r1))
		}
		changed(w)
	}
}

// settled is a router's text without the head that tells the time.
func settled(text string) string {
	var out []string
	for _, l := range strings.Split(text, "\n") {
		if !strings.HasPrefix(l, "..") {
			out = append(out, l)
		}
	}
	return strings.Join(out, "\n")
}

// TestStopIsNoWorseThanAKill: what is under way when the service is told to stop
// comes to its end, or is begun anew at the next start; no line is refused for a
// heart that was stopped first, and no device called failing for it.
func TestStopIsNoWorseThanAKill(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	target := w.fleet.running(r1)
	changed(w)
	w.pull(other)
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	w.fleet.faults(other, tern.Faults{Hang: "recite running"})
	push := w.begin(r1 + "@1")
	pull := must(w.admin.Pull(ctx(t), []string{other}, ""))(t)[0]
	w.fleet.waitHolding(r1)
	eventually(t, "the pull is under way", func() bool { return strings.Contains(w.logText(pull.ID), "signed in") })
	if err := w.proc.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	time.Sleep(12 * time.Second) // longer than a heart may stand still
	w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
	w.fleet.faults(other, tern.Faults{})
	<-w.proc.gone
	if w.fleet.running(r1) != target {
		t.Errorf("the push was not brought to its end:\n%s", w.fleet.running(r1))
	}
	w.fleet.faults(r1, tern.Faults{})
	w.serve()
	if end := w.end(push.ID); end.Outcome != "verified" {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(push.ID))
	}
	if end := w.end(pull.ID); end.Outcome != "done" {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(pull.ID))
	}
	if d := must(w.admin.Device(ctx(t), other))(t); d.State == "pull failing" || d.State == "unreachable" {
		t.Errorf("%s is %s: %s", d.Name, d.State, d.Trouble)
	}
}

// TestDatabaseAway: the database is away for longer than anybody has patience
// with. Work waits for it, and nothing of that is said of a device.
func TestDatabaseAway(t *testing.T) {
	t.Parallel()
	g, through := scratch.NewGate(t, scratch.Database(t))
	w := newWorld(t, 4, func(w *world) { w.dsn = through })
	var jobs []client.Job
	for _, p := range w.fleet.places {
		w.pull(p.Name)
		w.fleet.faults(p.Name, tern.Faults{SlowMS: 400})
		jobs = append(jobs, must(w.admin.Pull(ctx(t), []string{p.Name}, ""))(t)...)
	}
	eventually(t, "they are under way", func() bool { return must(w.admin.Status(ctx(t)))(t).Running == len(jobs) })
	g.Shut()
	began := time.Now()
	st := must(w.admin.Status(ctx(t)))(t)
	if age := time.Since(*st.AsOf); st.Devices != len(w.fleet.places) || age > 10*time.Second || time.Since(began) > 10*time.Second {
		t.Errorf("after %s the last status is told as of %s: %+v", time.Since(began), age, st)
	}
	if out, said, status := w.cli("status"); status != 0 || !strings.Contains(out, "The service's database is away; this was so") {
		t.Errorf("status %d, %s%s", status, out, said)
	}
	if _, err := w.admin.Devices(ctx(t), nil); !client.IsStatus(err, 503) || strings.Contains(err.Error(), "tcp") || strings.Contains(err.Error(), "sql") {
		t.Errorf("what a person is told: %v", err)
	}
	time.Sleep(25*time.Second - time.Since(began)) // longer than a person is kept waiting, and than a heart may stand still
	for _, p := range w.fleet.places {
		w.fleet.faults(p.Name, tern.Faults{})
	}
	g.Open()
	for _, j := range jobs {
		if end := w.end(j.ID); end.Outcome != "done" {
			t.Errorf("%s: %s: %s\n%s", end.Device, end.Outcome, end.Summary, w.logText(j.ID))
		}
	}
	for _, d := range must(w.admin.Devices(ctx(t), nil))(t) {
		if d.State != "in sync" {
			t.Errorf("%s is %s: %s", d.Name, d.State, d.Trouble)
		}
	}
}

// TestDeviceRestartedMeanwhile: a push that had only set the device's own timer
// when the service died says so when that has gone off, and looks at what came of
// it; where it has not, it is called off.
func TestDeviceRestartedMeanwhile(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.fleet.stow(r1)
	w.pull(r1)
	changed(w)
	w.fleet.stow(r1) // only what startup holds can be gone back to by a restart
	w.pull(r1)
	for _, restarts := range []bool{false, true} {
		was := w.fleet.status(r1).Restarts
		w.fleet.faults(r1, tern.Faults{Hang: "amend"})
		push := w.within("5m", r1+"@1")
		eventually(t, "its timer is set", func() bool { return strings.Contains(w.logText(push.ID), "restarts into startup") })
		w.kill()
		w.fleet.faults(r1, tern.Faults{})
		if restarts {
			w.fleet.call("POST", "/devices/"+r1+"/restart", nil, nil)
		}
		w.serve()
		end := w.end(push.ID)
		want, says := "failed", "its own undo is called off"
		if restarts {
			want, says, was = "undone", "it has gone back", was+1
		}
		if end.Outcome != want || !strings.Contains(end.Summary, says) || w.fleet.status(r1).Restarts != was {
			t.Errorf("restarted %v: %s: %s", restarts, end.Outcome, end.Summary)
		}
	}
}
