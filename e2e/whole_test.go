package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

const (
	lneOpen = `<logical-network-elements xmlns="urn:ietf:params:xml:ns:yang:ietf-logical-network-element" xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0">`
	lneEnd  = `</logical-network-elements>`
)

// element is an edit of one logical element: it is made, or merged into.
func element(name, address string) string {
	return lneOpen + `<logical-network-element><name>` + name + `</name><root><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface>` +
		`<name>` + name + `0</name><description>` + name + ` wireless</description><type xmlns:ift="urn:ietf:params:xml:ns:yang:iana-if-type">ift:ethernetCsmacd</type>` +
		`<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><address><ip>` + address + `</ip><prefix-length>24</prefix-length></address></ipv4></interface></interfaces></root></logical-network-element>` + lneEnd
}

func elementGone(name string) string {
	return lneOpen + `<logical-network-element nc:operation="delete"><name>` + name + `</name></logical-network-element>` + lneEnd
}

// TestWholeDevice: a device with three logical elements is put back as a whole. One was deleted, one changed,
// one added by hand, and nothing else: every way of putting back says so beforehand, mends it, proves it, and
// the device itself is asked afterwards.
func TestWholeDevice(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	const f = "control-f1"
	w.fleet.amend(f, "crew", element("crew", "10.61.0.1"))
	w.fleet.amend(f, "crew", element("bridge", "10.62.0.1"))
	if j := w.pull(f); j.Outcome != "done" {
		t.Fatalf("%s\n%s", j.Summary, w.logText(j.ID))
	}
	must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "before-refit", Selector: []string{"name=" + f}}))(t)
	if _, said, status := w.cli("mark", f+"@1", "--baseline"); status != 0 {
		t.Fatal(said)
	}
	texts := func() map[string]string {
		t.Helper()
		out := map[string]string{}
		for _, e := range []string{"passengers", "crew", "bridge", "guest"} {
			if all := must(w.admin.Versions(ctx(t), f, "running+"+e, 0, 1))(t); len(all) > 0 {
				out[e] = must(w.admin.Text(ctx(t), all[0].Ref))(t).Text
			}
		}
		return out
	}
	first := texts()
	if len(first) != 3 {
		t.Fatalf("it has %d elements", len(first))
	}
	spoil := func() {
		t.Helper()
		w.fleet.amend(f, "mwilks", elementGone("passengers"))
		w.fleet.amend(f, "mwilks", element("crew", "10.61.0.99"))
		w.fleet.amend(f, "mwilks", element("guest", "10.63.0.1"))
		j := w.pull(f)
		if !strings.Contains(j.Summary, "logical element passengers is gone") || !strings.Contains(j.Summary, "running+crew ") {
			t.Errorf("the pull says: %s", j.Summary)
		}
		out, _, status := w.cli("drift", f)
		for _, says := range []string{"− logical element passengers, which is not there any more", "+ logical element guest, which is new", "10.61.0.99",
			"magpie push " + f + "@baseline    approve it: magpie mark " + f + "/running+guest@1 --baseline"} {
			if !strings.Contains(out, says) || status != 1 {
				t.Errorf("drift does not say %q: status %d\n%s", says, status, out)
			}
		}
		if d := must(w.admin.Device(ctx(t), f))(t); d.State != "drifted" {
			t.Errorf("it is %s", d.State)
		}
	}
	mended := func(by string) {
		t.Helper()
		run := w.fleet.running(f) + "\n"
		for _, has := range []string{"10.61.0.1", "10.62.0.1", "passenger wireless"} {
			if !strings.Contains(run, has) {
				t.Errorf("%s: the device has no %s", by, has)
			}
		}
		for _, lacks := range []string{"10.61.0.99", "guest"} {
			if strings.Contains(run, lacks) {
				t.Errorf("%s: the device still has %s", by, lacks)
			}
		}
		if j := w.pull(f); j.Outcome != "done" {
			t.Errorf("%s: %s", by, j.Summary)
		}
		if d := must(w.admin.Device(ctx(t), f))(t); d.State != "in sync" {
			out, _, _ := w.cli("drift", f)
			t.Errorf("%s: it is %s\n%s", by, d.State, out)
		}
		now := texts()
		for e, was := range first {
			if now[e] != was {
				t.Errorf("%s: element %s is\n%s\nand was\n%s", by, e, now[e], was)
			}
		}
	}
	for _, which := range []string{"1", "baseline", "before-the-refit"} {
		if which == "before-the-refit" {
			if _, said, status := w.cli("mark", f+"@1", "--name", which); status != 0 {
				t.Fatal(said)
			}
		}
		spoil()
		p := w.preview(client.NewPreview{Ref: f + "@" + which})
		notes := ""
		for _, st := range p.Steps {
			notes += strings.Join(st.Lines, "\n") + "\n"
		}
		for _, says := range []string{"logical element passengers, which is not there: created, as " + f + "/running+passengers@1", "logical element crew: changed", "logical element guest, which was not there then: removed"} {
			if !strings.Contains(notes, says) {
				t.Errorf("@%s: the preview does not say %q:\n%s", which, says, notes)
			}
		}
		j := w.push(f + "@" + which)
		if j.Outcome != "verified" {
			t.Fatalf("@%s: %s: %s\n%s", which, j.Outcome, j.Summary, w.logText(j.ID))
		}
		mended("@" + which)
	}
	// In a window, taken back: by the device, and by the service where the device cannot.
	spoil()
	spoilt := w.fleet.running(f)
	j := w.parked(w.within("5m", f+"@1").ID)
	must(w.admin.Say(ctx(t), j.ID, "undo", ""))(t)
	if j = w.end(j.ID); j.Outcome != "undone" || w.fleet.running(f) != spoilt {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	// Pushed, and undone later.
	j = w.push(f + "@1")
	mended("a push")
	undo := w.preview(client.NewPreview{UndoOf: j.ID})
	j = w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: undo.ID, Hash: undo.Hash}, ""))(t).ID)
	if run := w.fleet.running(f); j.Outcome != "verified" || strings.Contains(run, "passenger wireless") || !strings.Contains(run, "10.61.0.99") || !strings.Contains(run, "guest") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	// The restore of a snapshot, and one part by itself.
	if out, said, status := w.cli("restore", "name="+f, "--snapshot", "before-refit", "--yes", "--within", ""); status != 0 {
		t.Errorf("restore: status %d\n%s%s", status, out, said)
	}
	mended("a restore of the snapshot")
	spoil()
	if p := w.preview(client.NewPreview{Ref: f + "/running@1"}); len(p.Steps) != 0 {
		t.Errorf("one part by itself: %+v", p.Steps)
	}
	// Somebody changes an element between the preview and the push.
	p := w.preview(client.NewPreview{Ref: f + "@1"})
	w.fleet.amend(f, "mwilks", element("bridge", "10.62.0.77"))
	j = w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if j.Outcome != "refused" || !strings.Contains(j.Summary, "logical element bridge changed since the preview") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	// A replacement has none of them.
	w.fleet.call("POST", "/devices/"+f+"/takeover", nil, nil) // it is one of a pair, whose other half is known from then on
	w.pull(f)
	main := must(w.admin.Text(ctx(t), f+"@1"))(t).Text
	w.fleet.call("POST", "/devices/"+f+"/replace", map[string]any{"serial": "HN3-NEW77", "lines": []string{main}}, nil)
	if out, said, status := w.cli("swap", f, f+"@1", "--yes"); status != 0 {
		t.Errorf("swap: status %d\n%s%s", status, out, said)
	}
	mended("a swap")
}
