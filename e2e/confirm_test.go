package e2e

import (
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

// within previews a reference and begins a push of it that has to be confirmed.
func (w *world) within(window, ref string, also ...func(*client.NewPush)) client.Job {
	w.t.Helper()
	p := w.preview(client.NewPreview{Ref: ref})
	n := client.NewPush{Preview: p.ID, Hash: p.Hash, Within: window}
	for _, f := range also {
		f(&n)
	}
	return must(w.admin.Push(ctx(w.t), n, ""))(w.t)
}

// parked waits until a push waits to be confirmed.
func (w *world) parked(id string) (j client.Job) {
	w.t.Helper()
	eventually(w.t, "the push waits to be confirmed", func() bool {
		j = must(w.admin.Job(ctx(w.t), id))(w.t)
		if j.State == "ended" {
			w.t.Fatalf("it ended %s: %s\n%s", j.Outcome, j.Summary, w.logText(id))
		}
		return j.State == "waiting" && j.Due != nil
	})
	return j
}

// TestConfirm: a push with a window stays when a person says so, goes back when
// a person says so, and goes back by itself when nobody says anything.
func TestConfirm(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron,plover,dunlin"))
	w.pull("control-f1")
	type unit struct {
		name    string
		amend   []string
		undo    string // what the log says of the undo
		startup bool   // there is one, and it is only written when it is confirmed
	}
	alongside(t, []unit{
		{r1, []string{"lane quay1", "note \"by hand\""}, "restarts into startup, which holds", true},
		{"skerrinsay-sw1", []string{"port 3 : label is <by hand>"}, "is undone by this service unless", true},
		{"control-f1", []string{`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><description>by hand</description></interface></interfaces>`}, "the device itself goes back", true},
	}, func(d unit) string { return d.name }, func(t *testing.T, d unit) {
		w := w.on(t)
		if j := w.pull(d.name); j.Outcome != "done" {
			t.Fatal(j.Summary)
		}
		first := w.fleet.running(d.name)
		w.fleet.amend(d.name, "okonkwo", d.amend...)
		w.fleet.stow(d.name)
		w.pull(d.name)
		second, stowed := w.fleet.running(d.name), strings.Join(w.fleet.status(d.name).Startup, "\n")
		if first == second {
			t.Fatal("nothing changed")
		}

		// Undone by hand.
		j := w.parked(w.within("2m", d.name+"@1").ID)
		if now := w.fleet.running(d.name); now != first {
			t.Fatalf("it runs\n%s", now)
		}
		if now := strings.Join(w.fleet.status(d.name).Startup, "\n"); d.startup && now != stowed {
			t.Errorf("startup was written before it was confirmed:\n%s", now)
		}
		if log := w.logText(j.ID); !strings.Contains(log, d.undo) {
			t.Errorf("the log does not say by what it is undone:\n%s", log)
		}
		if !strings.Contains(j.Summary, "unless it is confirmed") || time.Until(*j.Due) > 2*time.Minute {
			t.Errorf("%s, due %s", j.Summary, j.Due)
		}
		if _, said, status := w.cli("push", d.name+"@1", "--yes"); status == 0 || !strings.Contains(said, j.ID) {
			t.Errorf("a second push while one waits: status %d, %s", status, said)
		}
		must(w.admin.Undo(ctx(t), j.ID))(t)
		if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(d.name) != second {
			t.Errorf("%s: %s\n%s\n%s", end.Outcome, end.Summary, w.logText(j.ID), w.fleet.running(d.name))
		}
		if _, err := w.admin.Confirm(ctx(t), j.ID); !client.IsStatus(err, 409) {
			t.Errorf("confirmed after the end: %v", err)
		}

		// Kept by hand; only then is startup written.
		j = w.parked(w.within("2m", d.name+"@1").ID)
		out, said, status := w.cli("job", "confirm", j.ID)
		if status != 0 || w.fleet.running(d.name) != first {
			t.Errorf("status %d\n%s%s", status, out, said)
		}
		if end := w.end(j.ID); end.Outcome != "verified" || !strings.Contains(end.Summary, "confirmed by admin") {
			t.Errorf("%s: %s", end.Outcome, end.Summary)
		}
		if now := strings.Join(w.fleet.status(d.name).Startup, "\n"); d.startup && now == stowed {
			t.Error("startup was not written when it was confirmed")
		}

		// By rule.
		if end := w.end(w.within("30s", d.name+"@2", func(n *client.NewPush) { n.WhenVerified = true }).ID); end.Outcome != "verified" || !strings.Contains(end.Summary, "by rule") {
			t.Errorf("%s: %s", end.Outcome, end.Summary)
		}

		// Nobody says anything.
		j = w.within("20s", d.name+"@1")
		if end := w.end(j.ID); end.Outcome != "undone" || !strings.Contains(end.Summary, "nobody confirmed") || w.fleet.running(d.name) != second {
			t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.fleet.running(d.name))
		}
		if n := w.fleet.status(d.name).Restarts; n != 0 {
			t.Errorf("it restarted %d times", n)
		}
		if d := must(w.admin.Device(ctx(t), d.name))(t); d.State != "in sync" {
			t.Errorf("afterwards it is %s", d.State)
		}
	})
	for _, bad := range []string{"19s", "25h", "soon"} {
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Within: bad}, ""); !client.IsStatus(err, 400) {
			t.Errorf("a window of %s: %v", bad, err)
		}
	}
}

// TestConfirmAfterDeath: the service dies while a push with a window sends,
// proves or waits; whoever comes next takes it back, or lets it go on waiting.
func TestConfirmAfterDeath(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	changed(w)
	second := w.fleet.running(r1)
	for _, c := range []struct {
		name   string
		faults tern.Faults
	}{
		{"before a line took effect", tern.Faults{HoldLine: 2}},
		{"after a line took effect", tern.Faults{HoldLine: 3, HoldApplied: true}},
	} {
		w.fleet.faults(r1, c.faults)
		j := w.within("5m", r1+"@1")
		w.fleet.waitHolding(r1)
		w.kill()
		w.fleet.faults(r1, box.Faults{})
		w.serve()
		if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
			t.Errorf("%s: %s: %s\n%s", c.name, end.Outcome, end.Summary, w.logText(j.ID))
		}
	}
	// The database dies in the middle, alone and together with the service, and
	// while the push waits.
	for _, both := range []bool{false, true} {
		w.fleet.faults(r1, tern.Faults{HoldLine: 4})
		j := w.within("5m", r1+"@1")
		w.fleet.waitHolding(r1)
		pid := w.databasePID()
		if both {
			w.kill()
		}
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		if both {
			w.fleet.faults(r1, box.Faults{})
			w.serve()
		} else {
			w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
			if j = w.parked(j.ID); w.fleet.running(r1) == second {
				t.Error("it waits to be confirmed, and nothing was pushed")
			}
			if err := syscall.Kill(w.databasePID(), syscall.SIGKILL); err != nil {
				t.Fatal(err)
			}
			must(w.admin.Undo(ctx(t), j.ID))(t)
		}
		if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
			t.Errorf("both %v: %s: %s\n%s", both, end.Outcome, end.Summary, w.logText(j.ID))
		}
		w.fleet.faults(r1, box.Faults{})
	}
	// While it waits: it goes on waiting, and can be kept.
	j := w.parked(w.within("5m", r1+"@1").ID)
	w.kill()
	w.serve()
	if again := w.parked(j.ID); !again.Due.Equal(*j.Due) {
		t.Errorf("due %s became %s", j.Due, again.Due)
	}
	must(w.admin.Confirm(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "verified" {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if n := w.fleet.status(r1).Restarts; n != 0 {
		t.Errorf("it restarted %d times", n)
	}
	// Its time runs out while nobody is there.
	w.push(r1 + "@2")
	j = w.parked(w.within("20s", r1+"@1").ID)
	w.kill()
	time.Sleep(time.Until(*j.Due))
	w.serve()
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
}

// TestOwnUndo: where the service cannot reach the device any more, the device
// goes back by itself, and the push says so once it can be looked at.
func TestOwnUndo(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	w.pull("control-f1")
	w.pull(r1)
	amends := map[string][]string{
		"control-f1": {`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><description>by hand</description></interface></interfaces>`},
		r1:           {"lane quay1", "note \"by hand\""},
	}
	alongside(t, []string{"control-f1", r1}, func(name string) string { return name }, func(t *testing.T, name string) {
		w, amend := w.on(t), amends[name]
		first := w.fleet.running(name)
		w.fleet.amend(name, "okonkwo", amend...)
		w.fleet.stow(name)
		w.pull(name)
		second := w.fleet.running(name)
		j := w.parked(w.within("20s", name+"@1").ID)
		if w.fleet.running(name) != first {
			t.Error("it was not pushed")
		}
		w.fleet.faults(name, box.Faults{Down: true})
		// A restart timer counts in minutes.
		for end := time.Now().Add(100 * time.Second); w.fleet.running(name) != second; time.Sleep(200 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s did not go back by itself", name)
			}
		}
		if got := must(w.admin.Job(ctx(t), j.ID))(t); got.State == "ended" {
			t.Errorf("it ended %s without having seen the device: %s", got.Outcome, got.Summary)
		}
		w.fleet.faults(name, box.Faults{})
		if end := w.end(j.ID); end.Outcome != "undone" {
			t.Errorf("%s: %s", end.Outcome, end.Summary)
		}
	})
}

// TestChecks: what was good before a push and is bad after it takes a push with
// a window back at once; what was bad already does not count.
func TestChecks(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	parent := r1
	w.pull(r1)
	var berth string
	for _, l := range w.fleet.status(r1).Running {
		if f := strings.Fields(l); len(f) == 2 && f[0] == "berth" {
			berth, _, _ = strings.Cut(f[1], "/") // the last lane's own address is in its prefix
		}
	}
	lane := ""
	for _, l := range w.fleet.status(r1).Running {
		if strings.HasPrefix(l, "lane ") {
			lane = l
		}
	}
	w.fleet.amend(r1, "okonkwo", lane, "shut")
	w.fleet.stow(r1)
	w.pull(r1)
	ask := "from " + r1 + " ping " + berth
	door := "tcp " + w.fleet.place(r1).Address + ":2222"
	shut := "tcp " + w.fleet.place(r1).Address + ":9"
	checks := func(n *client.NewPush) { n.Checks = []string{ask, door, shut} }

	// Bad before, good after: nothing to say against it.
	j := w.parked(w.within("2m", r1+"@1", checks).ID)
	if got := j.Push.Checks; len(got) != 3 || got[0].Before.Good || !got[0].After.Good || !got[1].Before.Good || !got[1].After.Good || got[2].After.Good || got[2].Failed {
		t.Fatalf("%+v\n%s", got, w.logText(j.ID))
	}
	must(w.admin.Confirm(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "verified" {
		t.Fatalf("%s: %s", end.Outcome, end.Summary)
	}
	// Good before, bad after: with a window it is undone, without one it is said.
	end := w.end(w.within("2m", r1+"@2", checks).ID)
	if end.Outcome != "undone" || !strings.Contains(end.Summary, ask+" was good and is bad") || strings.Contains(w.fleet.running(r1), "shut") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	out, said, status := w.cli("push", r1+"@2", "--yes", "--check", ask)
	if status != 1 || !strings.Contains(out, "was good and is bad") || !strings.Contains(w.fleet.running(r1), "shut") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	// The device's own state, and the devices that hang on it.
	w.push(r1 + "@1")
	must(w.admin.EditDevice(ctx(t), "innisquill-r1", client.NewDevice{Parent: &parent}))(t)
	w.pull("innisquill-r1")
	out, said, status = w.cli("push", r1+"@2", "--yes", "--within", "2m", "--check", "state lanes", "--check", "children")
	if status != 1 || !strings.Contains(out, "state lanes was good and is bad (gone: "+strings.Fields(lane)[1]+")") || !strings.Contains(out, "device innisquill-r1: was good, is good") || strings.Contains(w.fleet.running(r1), "shut") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	for _, bad := range []string{"look at it", "state of mind", "state tides", "device nobody", "from nobody ping 10.0.0.1", "from " + r1 + " ping quay"} {
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Checks: []string{bad}}, ""); !client.IsStatus(err, 400) {
			t.Errorf("check %q: %v", bad, err)
		}
	}
}

// TestChecksDoNotWaitForEver: two pushes whose checks ask each other's device, and
// one alone where no second conversation is allowed, come to their ends, and can
// be cancelled.
func TestChecksDoNotWaitForEver(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "magpie.yaml")
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	changed(w)
	w.pull(other)
	w.fleet.amend(other, "mwilks", "lane quay1", `note "changed"`)
	w.pull(other)
	push := func(name, ref, asks string) client.Job {
		t.Helper()
		p := w.preview(client.NewPreview{Ref: ref})
		return must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Checks: []string{"from " + asks + " ping 10.1.12.1"}}, ""))(t)
	}
	w.fleet.faults(r1, tern.Faults{SlowMS: 60})
	w.fleet.faults(other, tern.Faults{SlowMS: 60})
	p := w.preview(client.NewPreview{Ref: other + "@previous"})
	a := push(r1, r1+"@1", other)
	b := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Checks: []string{"from " + r1 + " ping 10.1.12.1"}}, ""))(t)
	for _, id := range []string{a.ID, b.ID} {
		if end := w.end(id); end.Outcome != "verified" {
			t.Errorf("%s: %s: %s\n%s", end.Device, end.Outcome, end.Summary, w.logText(id))
		}
	}
	// One conversation at a time in all.
	put(t, file, "sessions: 1\n")
	w.proc.stop()
	w.extra = append(w.extra, "--config", file)
	w.serve()
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "again"`)
	w.pull(r1)
	if end := w.end(push(r1, r1+"@1", other).ID); end.Outcome != "verified" || end.Push.Checks[0].Before.Known || !strings.Contains(end.Push.Checks[0].Before.Said, "no further conversation") {
		t.Errorf("%s: %s: %+v", end.Outcome, end.Summary, end.Push.Checks)
	}
}

// TestUnitReplacedWhileItWaits: neither the undo nor the confirming of a push
// goes to a unit that it was not pushed to.
func TestUnitReplacedWhileItWaits(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	serial := w.fleet.status(r1).Serial
	for i, decide := range []func(id string){
		func(id string) { must(w.admin.Undo(ctx(t), id))(t) },
		func(id string) { must(w.admin.Confirm(ctx(t), id))(t) },
	} {
		j := w.parked(w.within("5m", r1+"@1").ID)
		lines := w.fleet.status(r1).Running
		w.replace(r1, "TN4-OTHER1")
		other := w.fleet.running(r1)
		decide(j.ID)
		if end := w.end(j.ID); end.Outcome != "unknown" || !strings.Contains(end.Summary, "other hardware answers now") || !strings.Contains(end.Summary, "TN4-OTHER1") {
			t.Errorf("%d: %s: %s", i, end.Outcome, end.Summary)
		}
		if now := w.fleet.running(r1); now != other || len(w.fleet.status(r1).Startup) != 0 {
			t.Errorf("%d: something was done to the other unit:\n%s", i, now)
		}
		w.fleet.call("POST", "/devices/"+r1+"/replace", map[string]any{"serial": serial, "lines": lines}, nil)
		if back := w.push(r1 + "@2"); back.Outcome != "verified" {
			t.Fatalf("%s: %s", back.Outcome, back.Summary)
		}
	}
}

// TestKeyChangesInAPush: a device that shows another key in the middle of a push
// is told nothing more until a person accepts it; then the push is taken back.
func TestKeyChangesInAPush(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	second := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	j := w.within("20s", r1+"@1")
	w.fleet.waitHolding(r1)
	w.fleet.call("POST", "/devices/"+r1+"/hostkey", nil, nil)
	logins := w.fleet.status(r1).Logins
	eventually(t, "the push waits and says that the key changed", func() bool {
		got := must(w.admin.Job(ctx(t), j.ID))(t)
		return got.State == "waiting" && strings.Contains(got.Summary, "the host key changed")
	})
	if n := w.fleet.status(r1).Logins; n != logins {
		t.Errorf("%d logins went to the other key", n-logins)
	}
	w.fleet.faults(r1, box.Faults{})
	shown := must(w.admin.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222))(t).Fingerprint
	if _, said, status := w.cli("device", "trust", r1, "--accept-key", shown); status != 0 {
		t.Fatal(said)
	}
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
}

// TestStopsWhileItOwesAnUndo: a service that is stopped while a device it owes an
// undo to is away stops all the same, and the next start goes on.
func TestStopsWhileItOwesAnUndo(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	second := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	j := w.within("5m", r1+"@1")
	w.fleet.waitHolding(r1)
	w.fleet.faults(r1, box.Faults{Down: true})
	eventually(t, "it tries to undo", func() bool {
		return strings.Contains(must(w.admin.Job(ctx(t), j.ID))(t).Summary, "trying again")
	})
	began := time.Now()
	w.proc.stop()
	if took := time.Since(began); took > 45*time.Second {
		t.Errorf("it took %s to stop", took)
	}
	w.fleet.faults(r1, box.Faults{})
	w.serve()
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != second {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
}

// TestSavedInTheWindow: somebody saves what was pushed while it waits to be
// confirmed. Undone, startup holds again what it held before: a restart brings
// nothing back that was taken back. Where startup cannot be written, it says so.
func TestSavedInTheWindow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	w.fleet.stow(r1)
	w.pull(r1)
	before, startup := w.fleet.running(r1), w.fleet.startup(r1)

	j := w.parked(w.within("5m", r1+"@1").ID)
	w.fleet.stow(r1)
	if w.fleet.startup(r1) == startup {
		t.Fatal("nothing was saved")
	}
	must(w.admin.Undo(ctx(t), j.ID))(t)
	end := w.end(j.ID)
	if end.Outcome != "undone" || w.fleet.running(r1) != before || w.fleet.startup(r1) != startup {
		t.Errorf("%s: %s\n%s\nstartup is\n%s", end.Outcome, end.Summary, w.logText(j.ID), w.fleet.startup(r1))
	}
	if log := w.logText(j.ID); !strings.Contains(log, "somebody saved it") {
		t.Errorf("the log does not say why startup was written:\n%s", log)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" {
		t.Errorf("afterwards it is %s", d.State)
	}

	// Startup cannot be written: undone is not said of it.
	j = w.parked(w.within("5m", r1+"@1").ID)
	w.fleet.stow(r1)
	w.fleet.faults(r1, tern.Faults{RefuseStow: true})
	must(w.admin.Undo(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "unsaved" || !strings.Contains(end.Summary, "startup does not hold that") || w.fleet.running(r1) != before {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "unsaved" {
		t.Errorf("afterwards it is %s", d.State)
	}
}

// TestStartupWrittenInTheWindow: what somebody wrote to startup while a push waited to be
// confirmed is kept, and not overwritten without a word.
func TestStartupWrittenInTheWindow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	w.fleet.stow(r1)
	w.pull(r1)
	j := w.parked(w.within("5m", r1+"@1").ID)
	w.fleet.amend(r1, "mwilks", "lane quay1", "mtu 1400")
	w.fleet.stow(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", "cancel mtu")
	written := w.fleet.startup(r1)
	w.pull(r1) // that it was pulled meanwhile does not make it ours
	must(w.admin.Confirm(ctx(t), j.ID))(t)
	end := w.end(j.ID)
	if end.Outcome != "unsaved" || !strings.Contains(end.Summary, "somebody wrote startup since the push began") || w.fleet.startup(r1) != written {
		t.Errorf("%s: %s\n%s\nstartup is\n%s", end.Outcome, end.Summary, w.logText(j.ID), w.fleet.startup(r1))
	}
	if kept := must(w.admin.Text(ctx(t), r1+"/startup@latest"))(t); !strings.Contains(kept.Text, "mtu 1400") {
		t.Errorf("what was written is not kept:\n%s", kept.Text)
	}
	// Asked for again, startup holds what runs.
	if j := w.push(r1 + "@1"); j.Outcome != "verified" || w.fleet.startup(r1) == written {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestChecksAreNoScanner: who may not see secrets has registered addresses asked, and this machine is asked for
// nobody but an administrator.
func TestChecksAreNoScanner(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	w.fleet.amend(r1, "bo", "name elsewhere")
	w.pull(r1)
	second := w.fleet.places[1]
	for _, secrets := range []bool{false, true} {
		name := map[bool]string{false: "mwilks", true: "okonkwo"}[secrets]
		word := "a word of some length"
		must(w.admin.AddUser(ctx(t), client.NewUser{Name: name, Password: word, Role: "operator", Secrets: &secrets, Lasting: true}))(t)
		u := &client.Client{URL: w.url}
		u.Token = must(u.Login(ctx(t), client.Login{User: name, Password: word}))(t).Token
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		for check, may := range map[string]bool{
			"tcp 127.0.0.1:22": false, "http http://localhost:80/": false, "http http://[::1]/": false, "ssh 169.254.169.254": false,
			"dns skerrinsay at 127.0.0.1": false, "ping 127.0.0.1": false, "http http://192.0.2.7/latest": secrets, "tcp 192.0.2.7:443": secrets,
			"tcp " + second.Address + ":22": true, "device " + second.Name: true,
		} {
			_, err := u.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Checks: []string{check, "state nonsense"}}, "") // of which one is never made
			if err == nil || strings.Contains(err.Error(), "nonsense") != may {
				t.Errorf("%s, with the right to secrets %v: %v", check, secrets, err)
			}
		}
	}
}
