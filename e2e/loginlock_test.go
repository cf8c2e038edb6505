package e2e

import (
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
)

// TestUndoIsRefusedTheLogin: a push that has to be undone meets a device that
// refuses the login: it is tried once, not again and again, and the undo is done
// when a person says that the login is right.
func TestUndoIsRefusedTheLogin(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	second := w.fleet.running(r1)
	j := w.parked(w.within("5m", r1+"@1").ID)
	first := w.fleet.running(r1)
	w.fleet.faults(r1, box.Faults{RefuseLogin: true})
	before := w.fleet.status(r1).Refused
	must(w.admin.Undo(ctx(t), j.ID))(t)
	eventually(t, "the login is locked", func() bool { return must(w.admin.Device(ctx(t), r1))(t).LoginLockedSince != nil })
	time.Sleep(6 * time.Second) // it would have been tried several times by now
	if n := w.fleet.status(r1).Refused - before; n != 1 {
		t.Errorf("the login was tried %d times", n)
	}
	j = must(w.admin.Job(ctx(t), j.ID))(t)
	if d := must(w.admin.Device(ctx(t), r1))(t); j.State != "waiting" || !strings.Contains(j.Summary, "not tried again until a person says so") || d.State != "login refused" || w.fleet.running(r1) != first {
		t.Errorf("%s: %s; the device is %s", j.State, j.Summary, d.State)
	}
	w.fleet.faults(r1, box.Faults{})
	must(w.admin.RetryLogin(ctx(t), r1))(t)
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
}

// TestOneAttempt: however many jobs wait for devices whose login went bad, each device is signed in to in
// vain once, and one set of logins by three devices at most.
func TestOneAttempt(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 14)
	var names []string
	for _, p := range w.fleet.places[:12] {
		names = append(names, p.Name)
	}
	w.pull(names[0])
	refused := func() (all, most int) {
		for _, n := range names {
			r := w.fleet.status(n).Refused
			all, most = all+r, max(most, r)
		}
		return all, most
	}
	for _, n := range names[:10] {
		w.fleet.faults(n, box.Faults{RefuseLogin: true})
	}
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "shared", User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord}))(t)
	must(w.admin.AttachCredentialSet(ctx(t), "shared", names[:8]))(t)
	var ids []string
	for n := range 50 {
		for _, j := range must(w.admin.Pull(ctx(t), names[:10], ""))(t) {
			ids = append(ids, j.ID)
		}
		if n == 25 {
			w.proc.kill()
			w.serve()
		}
	}
	for _, id := range ids {
		if j := w.end(id); j.Outcome == "done" {
			t.Errorf("%s: %s", j.Device, j.Summary)
		}
	}
	own, shared := 0, 0
	for i, n := range names[:10] {
		if r := w.fleet.status(n).Refused; i < 8 {
			shared += r
		} else {
			own += r
		}
	}
	if all, most := refused(); most > 1 || shared > 3 || own != 2 {
		t.Errorf("%d refused sign-ins, %d at one device, %d by the set, %d by logins of their own", all, most, shared, own)
	}
}

// TestRelayOfAnotherNode: what goes through a relay is done by the instance that
// holds it, whoever is asked.
func TestRelayOfAnotherNode(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	second := w.fleet.running(r1)
	real := w.fleet.place(r1).Address
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Address: beside, HostKey: must(w.admin.Device(ctx(t), r1))(t).HostKey, Timeouts: &map[string]string{"connect": "2s"}}))(t)
	other, proc := w.another()
	id, stop, _ := w.lend(other, r1, "", real)
	if all := must(w.admin.Relays(ctx(t)))(t); len(all) != 1 || all[0].ID != id {
		t.Errorf("the first instance lists %+v", all)
	}
	out, said, status := w.cli("push", r1+"@1", "--relay", id, "--yes") // asks the first instance
	if status != 0 || w.fleet.running(r1) == second {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	// The instance that holds the relay dies; a preview through it ends and says so.
	proc.kill()
	j, err := w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@2", Relay: id})
	if err == nil {
		if end := w.end(j.ID); end.Outcome == "done" {
			t.Errorf("previewed through a relay of an instance that is gone: %s", end.Summary)
		}
	}
	stop()
}
