package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

// TestElementGone: a logical element that somebody deleted is no change that passes unseen: the pull says it,
// the device is drifted, a push of the rest does not end as if all were well; put back by hand, it is in
// step again.
func TestElementGone(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	const f = "control-f1"
	const open = `<logical-network-elements xmlns="urn:ietf:params:xml:ns:yang:ietf-logical-network-element" xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0">`
	if j := w.pull(f); j.Outcome != "done" {
		t.Fatalf("%s\n%s", j.Summary, w.logText(j.ID))
	}
	versions := must(w.admin.Versions(ctx(t), f, "running+passengers", 0, 10))(t)
	if len(versions) != 1 || !versions[0].Baseline {
		t.Fatalf("the element's first version: %+v", versions)
	}
	if d := must(w.admin.Device(ctx(t), f))(t); d.State != "in sync" {
		t.Fatalf("it is %s", d.State)
	}
	was := must(w.admin.Text(ctx(t), f+"/running+passengers@1"))(t).Text
	if out, _, _ := w.cli("worksheet", f, "--as", "csv"); !strings.Contains(out, f+"/running+passengers@1,addresses,10.30.40.1,") {
		t.Errorf("a worksheet leaves the element out:\n%s", out)
	}
	w.fleet.amend(f, "mwilks", open+`<logical-network-element nc:operation="delete"><name>passengers</name></logical-network-element></logical-network-elements>`)
	j := w.pull(f)
	if !strings.Contains(j.Summary, "logical element passengers is gone") {
		t.Errorf("the pull says: %s\n%s", j.Summary, w.logText(j.ID))
	}
	if d := must(w.admin.Device(ctx(t), f))(t); d.State != "drifted" {
		t.Errorf("it is %s", d.State)
	}
	if out, said, status := w.cli("drift", f); status != 1 || !strings.Contains(out, "logical element passengers") {
		t.Errorf("drift: status %d\n%s%s", status, out, said)
	}
	// Put back by itself, the main part does not end as if all were well: that the element is missing is said before.
	w.fleet.amend(f, "mwilks", `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>elsewhere</location></system>`)
	w.pull(f)
	p := w.preview(client.NewPreview{Ref: f + "/running@1"})
	if !strings.Contains(strings.Join(p.Notes, "\n"), "passengers") {
		t.Errorf("the preview does not say it: %q", p.Notes)
	}
	if j := w.push(f + "/running@1"); j.Outcome != "differs" || !strings.Contains(j.Summary, "passengers") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	// By itself, in a window: taken back it is gone again, and it is made.
	j = w.parked(w.within("5m", f+"/running+passengers@1").ID)
	if !strings.Contains(w.fleet.running(f), "passenger wireless") {
		t.Errorf("it was not made: %s", w.logText(j.ID))
	}
	must(w.admin.Say(ctx(t), j.ID, "undo", ""))(t)
	if j = w.end(j.ID); j.Outcome != "undone" || strings.Contains(w.fleet.running(f), "passenger wireless") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if j = w.push(f + "/running+passengers@1"); j.Outcome != "verified" || !strings.Contains(w.fleet.running(f), "passenger wireless") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	w.fleet.amend(f, "mwilks", open+`<logical-network-element nc:operation="delete"><name>passengers</name></logical-network-element></logical-network-elements>`)
	w.pull(f)
	// There again, as it was.
	w.fleet.amend(f, "mwilks", open+`<logical-network-element><name>passengers</name><root>`+was+`</root></logical-network-element></logical-network-elements>`)
	if j := w.pull(f); j.Outcome != "done" {
		t.Errorf("%s", j.Summary)
	}
	if d := must(w.admin.Device(ctx(t), f))(t); d.State != "in sync" {
		out, _, _ := w.cli("drift", f)
		t.Errorf("it is %s\n%s", d.State, out)
	}
}
