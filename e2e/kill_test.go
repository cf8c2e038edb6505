package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// truthful checks what every push must hold to, however it ended: no version is
// lost, the device and what is said of it agree, and nothing holds the device.
func (w *world) truthful(end client.Job, before, target string, versions int) {
	w.t.Helper()
	running := w.fleet.running(r1)
	switch end.Outcome {
	case "verified", "unsaved":
		if running != target {
			w.t.Errorf("said %s (%s), but the device runs\n%s", end.Outcome, end.Summary, running)
		}
	case "undone", "failed", "refused":
		if running != before {
			w.t.Errorf("said %s (%s), but the device runs\n%s\nnot\n%s", end.Outcome, end.Summary, running, before)
		}
	case "differs":
		if running == before || running == target {
			w.t.Errorf("said %s (%s), but the device runs one of the two", end.Outcome, end.Summary)
		}
		if end.Push == nil || len(end.Push.Remaining) == 0 || !strings.Contains(end.Summary, "magpie push "+end.Push.Before) {
			w.t.Errorf("differs without lines, or without the way back: %s", end.Summary)
		}
	default:
		w.t.Errorf("ended %s: %s", end.Outcome, end.Summary)
	}
	if got := len(w.versions(r1)); got < versions {
		w.t.Errorf("%d versions are left of %d", got, versions)
	}
	// The way back is free: nothing holds the device any more.
	w.fleet.faults(r1, tern.Faults{})
	if back := w.push(r1 + "@2"); back.Outcome != "verified" {
		w.t.Fatalf("going back ended %s: %s\n%s", back.Outcome, back.Summary, w.logText(back.ID))
	}
	if w.fleet.running(r1) != before {
		w.t.Fatal("going back did not lead back")
	}
}

// TestKilledAtEveryLine kills the service while the device holds line N of a
// push, for every N, before and after the line takes effect.
func TestKilledAtEveryLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	total := len(w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps)
	for n := 1; n <= total; n++ {
		for _, applied := range []bool{false, true} {
			t.Run(fmt.Sprintf("line %d of %d, applied %v", n, total, applied), func(t *testing.T) {
				all := w
				w := all.on(t)
				defer func() { *all = *w.on(all.top) }() // the service was started again
				w.fleet.faults(r1, tern.Faults{HoldLine: n, HoldApplied: applied})
				versions := len(w.versions(r1))
				push := w.begin(r1 + "@1")
				w.fleet.waitHolding(r1)
				w.kill()
				eventually(t, "the device notices", func() bool { return !w.fleet.status(r1).Holding })
				w.serve()
				end := w.end(push.ID)
				if !strings.Contains(end.Summary, fmt.Sprintf("%d were taken and line %d is in doubt", n-1, n)) {
					t.Errorf("it says %q", end.Summary)
				}
				w.truthful(end, before, target, versions)
			})
		}
	}
}

// TestKilledBeforeAndAfterTheLines kills the service around the sending.
func TestKilledBeforeAndAfterTheLines(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	for _, at := range []string{"recite running", "amend", "stow running"} {
		versions := len(w.versions(r1))
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		w.fleet.faults(r1, tern.Faults{Hang: at})
		push := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t)
		sign := map[string]string{"recite running": "signed in", "amend": "sending", "stow running": "saving"}[at]
		eventually(t, "the push has come to "+at, func() bool { return strings.Contains(w.logText(push.ID), sign) })
		time.Sleep(200 * time.Millisecond) // what it says there comes before what it does there
		w.kill()
		w.fleet.faults(r1, tern.Faults{})
		w.serve()
		w.truthful(w.end(push.ID), before, target, versions)
	}
}

// TestWaitsForTheDevice: killed in the middle, and the device is away when the
// service comes back. The job waits and says so; it can be called off, and then
// says that it does not know.
func TestWaitsForTheDevice(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	for _, callOff := range []bool{false, true} {
		versions := len(w.versions(r1))
		w.fleet.faults(r1, tern.Faults{HoldLine: 4})
		push := w.begin(r1 + "@1")
		w.fleet.waitHolding(r1)
		w.kill()
		w.fleet.faults(r1, tern.Faults{Down: true})
		w.serve()
		eventually(t, "the job waits for the device", func() bool {
			j := must(w.admin.Job(ctx(t), push.ID))(t)
			return j.State == "waiting" && strings.Contains(j.Summary, "line 4 is in doubt") && strings.Contains(j.Summary, "no connection")
		})
		if _, err := w.admin.NewPreview(ctx(t), client.NewPreview{UndoOf: push.ID}); !client.IsStatus(err, 409) {
			t.Errorf("undoing a push that has not ended: %v", err)
		}
		if callOff {
			must(w.admin.Cancel(ctx(t), push.ID))(t)
			if end := w.end(push.ID); end.Outcome != "unknown" {
				t.Errorf("called off it ended %s: %s", end.Outcome, end.Summary)
			}
			return
		}
		w.fleet.faults(r1, tern.Faults{})
		w.truthful(w.end(push.ID), before, target, versions)
	}
}

// databasePID is the process number of the service's own database server.
func (w *world) databasePID() int {
	w.t.Helper()
	raw, err := os.ReadFile(filepath.Join(w.dir, "data", "db.json"))
	if err != nil {
		w.t.Fatal(err)
	}
	var at struct{ PID int }
	if err := json.Unmarshal(raw, &at); err != nil {
		w.t.Fatal(err)
	}
	return at.PID
}

// TestDatabaseKilledInAPush kills the database while the device holds a line:
// the service brings it up again and the push comes to a truthful end.
func TestDatabaseKilledInAPush(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	total := len(w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps)
	for n := 1; n <= total; n++ {
		versions := len(w.versions(r1))
		w.fleet.faults(r1, tern.Faults{HoldLine: n})
		push := w.begin(r1 + "@1")
		w.fleet.waitHolding(r1)
		if err := syscall.Kill(w.databasePID(), syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
		w.truthful(w.end(push.ID), before, target, versions)
	}
	// Both at once.
	versions := len(w.versions(r1))
	w.fleet.faults(r1, tern.Faults{HoldLine: 5, HoldApplied: true})
	push := w.begin(r1 + "@1")
	w.fleet.waitHolding(r1)
	pid := w.databasePID()
	w.kill()
	_ = syscall.Kill(pid, syscall.SIGKILL)
	w.serve()
	w.truthful(w.end(push.ID), before, target, versions)
}

// TestKilledPullBeginsAnew: a pull harms nothing, so it is simply done again.
func TestKilledPullBeginsAnew(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.fleet.faults(r1, tern.Faults{Hang: "recite running"})
	pull := must(w.admin.Pull(ctx(t), []string{r1}, ""))(t)[0]
	eventually(t, "the pull is under way", func() bool { return strings.Contains(w.logText(pull.ID), "signed in") })
	w.kill()
	w.fleet.faults(r1, tern.Faults{})
	w.serve()
	if end := w.end(pull.ID); end.Outcome != "done" || len(w.versions(r1)) != 1 {
		t.Errorf("the pull ended %s: %s", end.Outcome, end.Summary)
	}
}

// TestOrphanedDatabaseIsTakenOn: after a kill -9 of the service its database
// server lives on; the next start takes it on and stops it cleanly at its end.
func TestOrphanedDatabaseIsTakenOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	w.pull(r1)
	pid := w.databasePID()
	w.kill()
	if syscall.Kill(pid, 0) != nil {
		t.Fatal("the database server went with the service")
	}
	w.serve()
	if !strings.Contains(w.proc.said(), "took on the database server") || w.databasePID() != pid {
		t.Errorf("the server was not taken on:\n%s", w.proc.said())
	}
	if len(w.versions(r1)) != 1 {
		t.Error("the version is gone")
	}
	w.proc.stop()
	eventually(t, "the database server ends", func() bool { return syscall.Kill(pid, 0) != nil })
}
