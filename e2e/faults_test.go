package e2e

import (
	"regexp"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

const r1 = "skerrinsay-r1"

// TestNothingHalfBecomesAVersion: whatever a device sends that is not the whole
// part, the pull fails, says why, and makes no version.
func TestNothingHalfBecomesAVersion(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	for _, c := range []struct {
		name   string
		faults tern.Faults
		says   string
	}{
		{"cut off in the middle", tern.Faults{CutAfter: 700}, "closed the connection in the middle"},
		{"cut off near the end", tern.Faults{CutAfter: 1900}, "not complete"},
		{"shortened for a weak account", tern.Faults{Weak: true}, "end mark is missing"},
		{"garbage in the middle", tern.Faults{Garbage: 300}, "not complete"},
		{"no end to it", tern.Faults{Endless: true}, "no end is in sight"},
	} {
		w.fleet.faults(r1, c.faults)
		j := w.pull(r1)
		if j.Outcome != "failed" || !strings.Contains(j.Summary, c.says) {
			t.Errorf("%s: the pull ended %s: %s", c.name, j.Outcome, j.Summary)
		}
		if v := w.versions(r1); len(v) != 0 {
			t.Fatalf("%s: a version was made: %+v", c.name, v)
		}
		if c.name == "cut off in the middle" && !strings.Contains(w.logText(j.ID), "kept: .. running of") {
			t.Errorf("what came is not kept with the job:\n%s", w.logText(j.ID))
		}
		if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "pull failing" || d.Trouble == "" {
			t.Errorf("%s: the device is %s: %q", c.name, d.State, d.Trouble)
		}
	}
	w.fleet.faults(r1, tern.Faults{})
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("healthy again, the pull ended %s: %s", j.Outcome, j.Summary)
	}
}

// TestFalsePrompts: neither a login banner nor lines of the configuration that
// look like the device's prompt or end mark fool a pull.
func TestFalsePrompts(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.fleet.faults(r1, tern.Faults{Banner: "skerrinsay-r1 ~ \nother-host ~ \nskerrinsay-r1 ~~ "})
	w.fleet.amend(r1, "okonkwo", "placard ((", "skerrinsay-r1 ~~ ", ".. end of running, 3 lines", "?! not a refusal", "skerrinsay-r1 ~ ", "))")
	if j := w.pull(r1); j.Outcome != "done" {
		t.Fatalf("the pull ended %s: %s", j.Outcome, j.Summary)
	}
	text := must(w.admin.Text(ctx(t), r1+"@latest"))(t).Text
	if !strings.Contains(text, "\nskerrinsay-r1 ~~ \n.. end of running, 3 lines\n?! not a refusal\nskerrinsay-r1 ~ \n))\n") || !strings.Contains(text, "\nlookout\n") {
		t.Errorf("the version reads\n%s", text)
	}
	// And such a banner can be pushed.
	w.fleet.amend(r1, "okonkwo", "cancel placard", "name renamed")
	if end := w.push(r1 + "@1"); end.Outcome != "verified" {
		t.Errorf("push ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
}

// TestRefusedLoginIsLatched: a wrong password is tried once, and not again by
// anything until a person says so.
func TestRefusedLoginIsLatched(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Password: "wrong"}))(t)
	if j := w.pull(r1); j.Outcome != "refused" {
		t.Errorf("the pull ended %s: %s", j.Outcome, j.Summary)
	}
	for range 3 {
		w.pull(r1)
	}
	w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@1"}))(t).ID)
	_, err := w.admin.Text(ctx(t), r1+"@live")
	if err == nil {
		t.Error("looking live went through")
	}
	if st := w.fleet.status(r1); st.Refused != 1 {
		t.Errorf("the wrong password was tried %d times", st.Refused)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "login refused" || d.LoginLockedSince == nil {
		t.Errorf("the device is %s, latched %v", d.State, d.LoginLockedSince)
	}
	must(w.admin.RetryLogin(ctx(t), r1))(t)
	w.pull(r1)
	if st := w.fleet.status(r1); st.Refused != 2 {
		t.Errorf("after a person said so it was tried %d times in all, not twice", st.Refused)
	}
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Password: "demo-nest-1"}))(t)
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("with the right password the pull ended %s: %s", j.Outcome, j.Summary)
	}
	// A wrong secret of the privileged mode locks too.
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Privileged: "wrong"}))(t)
	if j := w.pull(r1); j.Outcome != "refused" {
		t.Errorf("with a wrong privileged-mode secret the pull ended %s: %s", j.Outcome, j.Summary)
	}
	logins := w.fleet.status(r1).Logins
	w.pull(r1)
	if now := w.fleet.status(r1).Logins; now != logins {
		t.Error("it signed in again after the privileged mode's secret was refused")
	}
}

func TestChangedHostKey(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	was := must(w.admin.Device(ctx(t), r1))(t).HostKey
	w.fleet.call("POST", "/devices/"+r1+"/hostkey", nil, nil)
	logins := w.fleet.status(r1).Logins
	j := w.pull(r1)
	shown := must(w.admin.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222))(t)
	if j.Outcome != "failed" || !strings.Contains(j.Summary, was) || !strings.Contains(j.Summary, shown.Fingerprint) {
		t.Errorf("the pull ended %s: %s", j.Outcome, j.Summary)
	}
	if !strings.Contains(w.logText(j.ID), "magpie device trust "+r1) {
		t.Errorf("the log does not say how to accept the key:\n%s", w.logText(j.ID))
	}
	if w.fleet.status(r1).Logins != logins {
		t.Error("a password was sent to a device with another key")
	}
	if _, errText, status := w.cli("device", "trust", r1, "--accept-key", was); status != 2 || !strings.Contains(errText, shown.Fingerprint) {
		t.Errorf("accepting another key than the one shown exits %d: %s", status, errText)
	}
	if out, errText, status := w.cli("device", "trust", r1, "--accept-key", shown.Fingerprint); status != 0 {
		t.Fatalf("trust exits %d: %s%s", status, out, errText)
	}
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("with the new key accepted the pull ended %s: %s", j.Outcome, j.Summary)
	}
}

// TestKeyForOnePush: a key accepted with a push is accepted for that push. The place keeps
// the one that it is known by, and says so when another is shown.
func TestKeyForOnePush(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	was := must(w.admin.Device(ctx(t), r1))(t).HostKey
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	w.fleet.call("POST", "/devices/"+r1+"/hostkey", nil, nil)
	shown := must(w.admin.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222))(t)
	p := w.preview(client.NewPreview{Ref: r1 + "@1", AcceptKey: shown.Fingerprint})
	if end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID); end.Outcome != "verified" {
		t.Fatalf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.HostKey != was {
		t.Errorf("its key is %s, and was %s", d.HostKey, was)
	}
	if j := w.pull(r1); j.Outcome != "failed" || !strings.Contains(w.logText(j.ID), "magpie device trust "+r1) {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// changed gives a device a second version, so that there is something to push.
func changed(w *world) {
	w.t.Helper()
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "changed"`, "up", "course 198.51.100.0/24 via 10.1.12.9", "roster tills", "10.99.0.0/16", "up",
		"sieve extra", "drop any from roster tills to any", "up", "lane quay2", "sieve out extra")
	w.fleet.stow(r1)
	w.pull(r1)
}

// TestRefusedLineIsUndone: the first refused line stops a push, is reported with
// number, text and answer, and what was applied is taken back.
func TestRefusedLineIsUndone(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	before := w.fleet.running(r1)
	total := len(w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps)
	for n := 1; n <= total; n++ {
		w.fleet.faults(r1, tern.Faults{RefuseLine: n})
		end := w.push(r1 + "@1")
		if end.Outcome != "undone" {
			t.Fatalf("with line %d refused the push ended %s: %s\n%s", n, end.Outcome, end.Summary, w.logText(end.ID))
		}
		if r := end.Push.Refused; r == nil || r.Line != n || r.Text == "" || r.Answer != "the unit will not have that line" {
			t.Errorf("line %d refused is reported as %+v", n, r)
		}
		if got := w.fleet.running(r1); got != before {
			t.Fatalf("with line %d refused the device was left with\n%s\nnot\n%s", n, got, before)
		}
	}
}

// lastSet is the number of the last line that sets something.
func lastSet(steps []client.Step) (n int) {
	for i, s := range steps {
		if s.Kind == "set" {
			n = i + 1
		}
	}
	return n
}

func TestLineAcceptedButNotApplied(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	steps := w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps
	n := lastSet(steps)
	w.fleet.faults(r1, tern.Faults{IgnoreLine: n})
	end := w.push(r1 + "@1")
	if end.Outcome != "differs" || len(end.Push.Remaining) != 1 {
		t.Fatalf("the push ended %s: %s: %+v", end.Outcome, end.Summary, end.Push.Remaining)
	}
	if want := strings.TrimSpace(steps[n-1].Lines[0]); end.Push.Remaining[0].Want != want {
		t.Errorf("the remaining difference is %+v, not %q", end.Push.Remaining[0], want)
	}
}

func TestNotSaved(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	w.fleet.faults(r1, tern.Faults{RefuseStow: true})
	if end := w.push(r1 + "@1"); end.Outcome != "unsaved" || !strings.Contains(end.Summary, "locker is full") {
		t.Errorf("the push ended %s: %s", end.Outcome, end.Summary)
	}
	w.fleet.faults(r1, tern.Faults{})
	// Nothing is left to send, but there is something to save.
	if out, errText, status := w.cli("push", r1+"@1", "--yes"); status != 0 || !strings.Contains(out, "verified:") {
		t.Errorf("saving exits %d: %s%s", status, out, errText)
	}
}

// TestChangedSincePreview: what is pushed is what was previewed, or nothing.
func TestChangedSincePreview(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	w.fleet.amend(r1, "mwilks", "lane quay2", "shut")
	before := w.fleet.running(r1)
	end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if end.Outcome != "refused" || w.fleet.running(r1) != before {
		t.Errorf("the push ended %s: %s", end.Outcome, end.Summary)
	}
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: strings.Repeat("0", 64)}, ""); !client.IsStatus(err, 409) {
		t.Errorf("a push with another hash: %v", err)
	}
	p2 := w.preview(client.NewPreview{Ref: r1 + "@1"})
	w.fleet.call("POST", "/devices/"+r1+"/replace", map[string]any{"serial": "TN4-THIRD", "lines": w.fleet.status(r1).Running}, nil)
	if end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p2.ID, Hash: p2.Hash}, ""))(t).ID); end.Outcome != "refused" || !strings.Contains(end.Summary, "other hardware") {
		t.Errorf("onto other hardware than previewed the push ended %s: %s", end.Outcome, end.Summary)
	}
}

func TestHeldAndBusy(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	before := w.fleet.running(r1)
	for _, c := range []struct {
		faults tern.Faults
		says   string
	}{
		{tern.Faults{HeldBy: "mwilks from 10.30.0.7 since 09:41"}, "held by mwilks"},
		{tern.Faults{Busy: 1}, "busy"},
	} {
		w.fleet.faults(r1, c.faults)
		if end := w.push(r1 + "@1"); end.Outcome != "refused" || !strings.Contains(end.Summary, c.says) || !strings.Contains(end.Summary, "nothing was sent") {
			t.Errorf("the push ended %s: %s", end.Outcome, end.Summary)
		}
	}
	if w.fleet.running(r1) != before {
		t.Error("the device changed all the same")
	}
}

// TestSomebodyHoldsIt: a session of a person's that holds a router is named; it
// is ended when somebody asks for that and says why, and the audit log has it.
func TestSomebodyHoldsIt(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	left := w.holdOpen(r1, "aloft", sim.MastWord, "amend")
	defer left()
	end := w.push(r1 + "@1")
	m := regexp.MustCompile(`at seat (\d+)`).FindStringSubmatch(end.Summary)
	if end.Outcome != "refused" || m == nil {
		t.Fatalf("the push ended %s: %s", end.Outcome, end.Summary)
	}
	if log := w.logText(end.ID); !strings.Contains(log, "--end-session "+m[1]) {
		t.Errorf("the log does not say what can be done:\n%s", log)
	}
	if _, said, status := w.cli("push", r1+"@1", "--yes", "--end-session", m[1]); status != 2 || !strings.Contains(said, "--note") {
		t.Errorf("without a reason: status %d, %s", status, said)
	}
	out, said, status := w.cli("push", r1+"@1", "--yes", "--end-session", m[1], "--note", "okonkwo left for the ferry")
	if status != 0 || !strings.Contains(out+said, "session "+m[1]+" of somebody else held the device; it is ended") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if out, _, _ := w.cli("audit", "list"); !strings.Contains(out, "session ended") || !strings.Contains(out, "okonkwo left for the ferry") {
		t.Errorf("the audit log does not tell:\n%s", out)
	}
}

// TestOnePushAtATime: a second push is told which one holds the device; pulls
// wait for the conversation to end and then go through.
func TestOnePushAtATime(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	first := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, "only once"))(t)
	w.fleet.waitHolding(r1)
	again := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, "only once"))(t)
	if again.ID != first.ID {
		t.Errorf("one key made two pushes, %s and %s", first.ID, again.ID)
	}
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, "another"); !client.IsStatus(err, 409) || !strings.Contains(err.Error(), first.ID) {
		t.Errorf("a second push: %v", err)
	}
	if err := w.admin.RemoveDevice(ctx(t), r1); !client.IsStatus(err, 409) {
		t.Errorf("removing the device under a push: %v", err)
	}
	pull := must(w.admin.Pull(ctx(t), []string{r1}, ""))(t)[0]
	eventually(t, "the pull waits for the push", func() bool { return strings.Contains(w.logText(pull.ID), first.ID) })
	w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
	if end := w.end(first.ID); end.Outcome != "verified" {
		t.Errorf("the push ended %s: %s", end.Outcome, end.Summary)
	}
	if end := w.end(pull.ID); end.Outcome != "done" {
		t.Errorf("the pull ended %s: %s", end.Outcome, end.Summary)
	}
}

func TestCancel(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	before := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{Hang: "recite running"})
	pull := must(w.admin.Pull(ctx(t), []string{r1}, ""))(t)[0]
	eventually(t, "the pull is under way", func() bool { return strings.Contains(w.logText(pull.ID), "signed in") })
	must(w.admin.Cancel(ctx(t), pull.ID))(t)
	if end := w.end(pull.ID); end.Outcome != "cancelled" {
		t.Errorf("the pull ended %s: %s", end.Outcome, end.Summary)
	}
	w.fleet.faults(r1, tern.Faults{HoldLine: 5})
	push := w.begin(r1 + "@1")
	w.fleet.waitHolding(r1)
	must(w.admin.Cancel(ctx(t), push.ID))(t)
	if end := w.end(push.ID); end.Outcome != "undone" || !strings.Contains(end.Summary, "cancelled by hand") {
		t.Errorf("the push ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(push.ID))
	}
	if w.fleet.running(r1) != before {
		t.Error("the cancelled push left the device changed")
	}
	if _, err := w.admin.Cancel(ctx(t), push.ID); !client.IsStatus(err, 409) {
		t.Errorf("cancelling an ended job: %v", err)
	}
}

// TestContactLostInThePush: the device goes away in the middle and comes back;
// what was applied is undone.
func TestContactLostInThePush(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	before := w.fleet.running(r1)
	for _, applied := range []bool{false, true} {
		w.fleet.faults(r1, tern.Faults{HoldLine: 4, HoldApplied: applied})
		push := w.begin(r1 + "@1")
		w.fleet.waitHolding(r1)
		w.fleet.faults(r1, tern.Faults{Down: true})
		w.fleet.faults(r1, tern.Faults{})
		end := w.end(push.ID)
		if end.Outcome != "undone" || w.fleet.running(r1) != before {
			t.Errorf("the push ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(push.ID))
		}
	}
}
