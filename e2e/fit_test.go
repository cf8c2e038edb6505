package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

// TestFit: what a dialect says a version and a unit have to agree in is refused
// or warned of, and the lines that carry the way are pointed out in documents too.
func TestFit(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover,skua,heron"))
	refused := func(p client.NewPreview, words string) {
		t.Helper()
		j := w.end(must(w.admin.NewPreview(ctx(t), p))(t).ID)
		if j.Outcome != "refused" || !strings.Contains(j.Summary, words) {
			t.Errorf("%s: %s", j.Outcome, j.Summary)
		}
	}
	w.pull("control-w1")
	w.fleet.amend("control-w1", "mwilks", "role follow")
	w.pull("control-w1")
	refused(client.NewPreview{Ref: "control-w1@1"}, "control-w1@1 has role lead; the unit has follow: a file of one role does not go to a unit of the other")

	// A switch of another edition, by a dialect that was loaded; of another model, by
	// what goes without saying.
	w.pull(sw1)
	w.fleet.amend(sw1, "mwilks", "gate : via is 10.12.12.2")
	if p := w.preview(client.NewPreview{Ref: sw1 + "@1"}); len(p.Warnings) != 0 || !strings.Contains(strings.Join(p.Notes, "\n"), "1 line touches the management path (line 1)") {
		t.Errorf("warnings %q, notes %q", p.Warnings, p.Notes)
	}
	w.sql("UPDATE pulls SET software = '6.9', model = 'Plover P8'")
	refused(client.NewPreview{Ref: sw1 + "@1"}, "taken under release 6; the unit has 7: another edition reads its settings otherwise")
	src := strings.Replace(shippedDialect(t, "plover"), "mismatch: refuse, why: another", "mismatch: warn, why: another", 1)
	must(w.admin.LoadDialect(ctx(t), "plover", src))(t)
	if p := w.preview(client.NewPreview{Ref: sw1 + "@1"}); len(p.Warnings) != 2 || !strings.Contains(p.Warnings[0], "release 6; the unit has 7") || !strings.Contains(p.Warnings[1], "a Plover P8; this is a Plover P24") {
		t.Errorf("warnings %q", p.Warnings)
	}

	w.pull(f1)
	w.fleet.amend(f1, "mwilks", `<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><address><ip>192.0.2.77</ip><prefix-length>24</prefix-length></address></ipv4></interface></interfaces>`)
	if p := w.preview(client.NewPreview{Ref: f1 + "@1"}); !strings.Contains(strings.Join(p.Notes, "\n"), "192.0.2.77") {
		t.Errorf("warnings %q, changes %+v", p.Notes, p.Changes)
	}
}

// TestHardwareStays: what belongs to the hardware that a version was taken from
// does not go to another unit, whose own stays; it is said, and is no drift.
func TestHardwareStays(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	w.fleet.amend(r1, "yard", "lane uplink1", "hull 02:00:5e:10:00:01", "up", "lane quay1", "hull 02:00:5e:10:00:02")
	w.fleet.stow(r1)
	w.pull(r1)
	yes := true
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &yes}))(t)
	// The same unit gets its own lines back.
	w.fleet.amend(r1, "mwilks", "lane uplink1", "cancel hull")
	if p := w.preview(client.NewPreview{Ref: r1 + "@1"}); len(p.SetAside) != 0 || len(p.Steps) == 0 {
		t.Errorf("held %+v, steps %+v", p.SetAside, p.Steps)
	}
	w.push(r1 + "@1")

	w.replace(r1, "TN4-OTHER1")
	w.fleet.amend(r1, "yard", "lane uplink1", "hull 02:00:5e:99:99:99")
	out, said, status := w.cli("swap", r1, "--yes")
	now := w.fleet.running(r1)
	if status != 0 || !strings.Contains(now, "hull 02:00:5e:99:99:99") || strings.Contains(now, "02:00:5e:10") || !strings.Contains(now, "crew okonkwo") {
		t.Errorf("status %d\n%s%s\nit runs\n%s", status, out, said, now)
	}
	if !strings.Contains(out, "Set aside, for it belongs to the hardware") || !strings.Contains(out, "set aside: 2 lines that belong to other hardware") {
		t.Errorf("it does not say what was set aside:\n%s", out)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.Serial != "TN4-OTHER1" {
		t.Errorf("it is %s", d.State)
	}
	if dr := must(w.admin.Drift(ctx(t), []string{"name=" + r1}, false))(t); len(dr) == 0 || dr[0].State != "in sync" {
		t.Errorf("drift %+v", dr)
	}
	// Pushed again there is nothing to send; a real difference is drift.
	if p := w.preview(client.NewPreview{Ref: r1 + "@1"}); len(p.Steps) != 0 {
		t.Errorf("it would send %+v", p.Steps)
	}
	w.fleet.amend(r1, "mwilks", "domain elsewhere.example")
	if w.pull(r1); must(w.admin.Device(ctx(t), r1))(t).State != "drifted" {
		t.Error("a real difference is no drift any more")
	}
	if end := w.push(r1 + "@baseline"); end.Outcome != "verified" || !strings.Contains(w.fleet.running(r1), "hull 02:00:5e:99:99:99") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
}
