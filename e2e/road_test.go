package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// TestThereAndBack is the whole road: a router is pulled, somebody changes it
// by hand in every way a router can be changed, the change is seen exactly, the
// earlier version is put back, and a look through plain ssh shows it.
func TestThereAndBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	before := w.ssh(r1, "recite running")
	if j := w.pull(r1); j.Outcome != "done" || !j.Pull.Parts[0].New || j.Pull.Parts[0].Number != 1 {
		t.Fatalf("first pull: %+v", j)
	}
	yes := true
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &yes}))(t)

	w.ssh(r1, "amend",
		"course 198.51.100.0/24 via 10.1.12.9", // a line more
		"lane quay1", "cancel note", "up",      // a line less
		"lane quay2", `note "changed"`, "up", // a line altered
		"sieve guest-in", "cancel pass any from any to any", "pass any from any to any", "up", // reordered to the same
		"sieve tills-in", "cancel drop any from any to any", "pass icmp from any to any", "drop any from any to any", "up", // an entry put in the middle
		"sieve up-in", "pass any from any to any", "up", "lane uplink1", "sieve in up-in", "up", "cancel sieve uplink-in", // a filter in use renamed
		"ashore")
	j := w.pull(r1)
	if j.Outcome != "done" || !j.Pull.Parts[0].New {
		t.Fatalf("second pull: %+v", j)
	}
	d := must(w.admin.Device(ctx(t), r1))(t)
	if d.State != "drifted" || !d.Unsaved {
		t.Errorf("after the change the device is %s, unsaved %v", d.State, d.Unsaved)
	}
	if v := w.versions(r1); v[0].Author != "okonkwo" {
		t.Errorf("version 2 was changed by %q, not okonkwo", v[0].Author)
	}
	diff := must(w.admin.Diff(ctx(t), r1+"@1", r1+"@live", 3, false))(t)
	for _, want := range []string{"+course 198.51.100.0/24 via 10.1.12.9", `-  note "gangway one, cameras"`, `+  note "changed"`, "+  pass icmp from any to any", "+sieve up-in", "-sieve uplink-in", "+  sieve in up-in"} {
		if !strings.Contains(diff.Unified, "\n"+want+"\n") {
			t.Errorf("the difference lacks %q:\n%s", want, diff.Unified)
		}
	}
	if diff.Relation != "different" {
		t.Errorf("relation is %s", diff.Relation)
	}
	_, _, status := w.cli("drift", r1)
	if status != 1 {
		t.Errorf("magpie drift exits %d for a drifted device", status)
	}
	end := w.push(r1 + "@1")
	if end.Outcome != "verified" {
		t.Fatalf("push ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
	if after := w.ssh(r1, "recite running"); body(after) != body(before) {
		t.Errorf("through ssh it shows\n%s\nbut showed before\n%s", after, before)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.Unsaved {
		t.Errorf("after the push the device is %s, unsaved %v", d.State, d.Unsaved)
	}
	// And the push is undone again.
	undo := w.preview(client.NewPreview{UndoOf: end.ID})
	back := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: undo.ID, Hash: undo.Hash}, ""))(t).ID)
	if back.Outcome != "verified" || !strings.Contains(w.fleet.running(r1), "sieve up-in") {
		t.Errorf("undoing the push ended %s: %s", back.Outcome, back.Summary)
	}
}

// body is a recital without what is never the same twice.
func body(s string) string {
	var keep []string
	for _, l := range strings.Split(s, "\n") {
		if !strings.Contains(l, ".. running of") && !strings.HasPrefix(l, "..") && !strings.HasPrefix(l, "  skew") && !strings.HasPrefix(l, "  badge") {
			keep = append(keep, l)
		}
	}
	return strings.Join(keep, "\n")
}

// TestMergeLeavesLinesBehind shows why replace is the default: merging an
// earlier version back leaves what was added since, and says so.
func TestMergeLeavesLinesBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane backdoor", "berth 10.9.9.1/24", "up", "lane quay1", "cancel note")
	p := w.preview(client.NewPreview{Ref: r1 + "@1", Method: "merge"})
	if len(p.Remaining) != 3 { // the lane, its berth, its guard
		t.Errorf("a merge is previewed to leave %+v", p.Remaining)
	}
	end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if end.Outcome != "differs" || !strings.Contains(w.fleet.running(r1), "lane backdoor") || !strings.Contains(w.fleet.running(r1), "gangway one") {
		t.Errorf("merge ended %s: %s", end.Outcome, end.Summary)
	}
	if end := w.push(r1 + "@1"); end.Outcome != "verified" || strings.Contains(w.fleet.running(r1), "backdoor") {
		t.Errorf("replace ended %s: %s", end.Outcome, end.Summary)
	}
}

func TestUnchangedPullIsASighting(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	w.pull(r1)
	before := must(w.admin.Status(ctx(t)))(t)
	for range 100 {
		w.pull(r1)
	}
	after := must(w.admin.Status(ctx(t)))(t)
	if before.Contents != after.Contents || before.Bytes != after.Bytes {
		t.Errorf("100 sightings grew the contents from %d (%d bytes) to %d (%d bytes)", before.Contents, before.Bytes, after.Contents, after.Bytes)
	}
	if v := w.versions(r1); len(v) != 1 || v[0].Sightings != 100 || !v[0].SeenOpen || !v[0].SeenUntil.After(v[0].SeenFrom) {
		t.Errorf("versions: %+v", v)
	}
	// A failed pull ends the interval; the next one opens another.
	w.fleet.faults(r1, tern.Faults{Down: true})
	w.pull(r1)
	if v := w.versions(r1); v[0].SeenOpen {
		t.Error("the seen interval is still open after a failed pull")
	}
	w.fleet.faults(r1, tern.Faults{})
	w.pull(r1)
	if v := w.versions(r1); len(v) != 1 || !v[0].SeenOpen || v[0].Sightings != 101 {
		t.Errorf("after the gap: %+v", v)
	}
}

// TestContentThatReturns: A, B, A is three versions, and each reads back as it
// was taken.
func TestContentThatReturns(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	var taken []string
	keep := func() {
		w.pull(r1)
		taken = append(taken, must(w.admin.Text(ctx(t), r1+"@latest"))(t).Text)
	}
	keep()
	w.fleet.amend(r1, "mwilks", "lane quay1", "shut")
	keep()
	w.fleet.amend(r1, "mwilks", "lane quay1", "cancel shut")
	keep()
	for i, text := range taken {
		got := must(w.admin.Text(ctx(t), r1+"@"+string(rune('1'+i))))(t)
		if got.Text != text {
			t.Errorf("version %d does not read back as it was taken", i+1)
		}
	}
	if d := must(w.admin.Diff(ctx(t), r1+"@1", r1+"@3", 3, false))(t); d.Relation != "unchanged" || len(d.Hunks) != 0 {
		t.Errorf("1 and 3 are %s, with %d hunks", d.Relation, len(d.Hunks))
	}
}

// TestPatchAcceptsTheDiff feeds the whole difference of two versions to patch(1).
func TestPatchAcceptsTheDiff(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", "shut", "up", "cancel domain", "roster tills", "10.99.0.0/16")
	w.pull(r1)
	a, b := must(w.admin.Text(ctx(t), r1+"@1"))(t).Text, must(w.admin.Text(ctx(t), r1+"@2"))(t).Text
	u, _, _ := w.cli("diff", r1+"@1", r1+"@2", "--all")
	file := filepath.Join(t.TempDir(), "a.cfg")
	if err := os.WriteFile(file, []byte(a), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("patch", file)
	cmd.Stdin = strings.NewReader(u)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("patch: %v\n%s\n%s", err, out, u)
	}
	if got, _ := os.ReadFile(file); string(got) != b {
		t.Errorf("patch made\n%s\nnot\n%s", got, b)
	}
}
