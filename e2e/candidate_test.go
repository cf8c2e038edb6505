package e2e

import (
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

const f1 = "control-f1"

// outsideSays is a firewall's change to one interface's description.
func outsideSays(words string) string {
	return `<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><description>` + words + `</description></interface></interfaces>`
}

// TestCandidate: what somebody loaded and did not commit is shown, is not thrown
// away without a word, and never committed in passing; and what we loaded is
// read again before it is committed.
func TestCandidate(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	first := w.byHand()
	second := w.fleet.running(f1)
	load := func(words string) {
		t.Helper()
		w.fleet.call("POST", "/devices/"+f1+"/load", map[string]any{"Lines": []string{outsideSays(words)}}, nil)
	}

	load("half done")
	p := w.preview(client.NewPreview{Ref: f1 + "@1"})
	if len(p.Loaded) != 1 || !strings.Contains(p.Loaded[0].Want, "half done") || len(p.Warnings) != 1 || !strings.Contains(p.Warnings[0], "did not commit") {
		t.Errorf("loaded %+v, warnings %q", p.Loaded, p.Warnings)
	}
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""); err == nil {
		t.Error("pushed without a word about it")
	}
	out, said, status := w.cli("push", f1+"@1", "--yes", "--override", "agreed with okonkwo")
	if status != 0 || w.fleet.running(f1) != first || !strings.Contains(out, "and not committed:") {
		t.Errorf("status %d\n%s%s\n%s", status, out, said, w.fleet.running(f1))
	}

	// Loaded after the preview: the device does not let us in, and nothing is thrown away.
	p = w.preview(client.NewPreview{Ref: f1 + "@2"})
	load("in between")
	end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if end.Outcome != "refused" || w.fleet.running(f1) != first || !strings.Contains(end.Summary, "preview it again") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if p = w.preview(client.NewPreview{Ref: f1 + "@2"}); len(p.Loaded) != 1 {
		t.Errorf("what was loaded is gone: %+v", p.Loaded)
	}
	end = w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Override: "it is mine"}, ""))(t).ID)
	if end.Outcome != "verified" || w.fleet.running(f1) != second {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}

	// The device says that it took the document, and did not: that shows before
	// the commit.
	p = w.preview(client.NewPreview{Ref: f1 + "@1"})
	w.fleet.faults(f1, tern.Faults{IgnoreLine: 1})
	end = w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if end.Outcome != "undone" || w.fleet.running(f1) != second || !strings.Contains(end.Summary, "was not committed") {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
	}
	w.fleet.faults(f1, box.Faults{})
}

// TestLoadedInTheWindow: what somebody loads into the candidate while a push waits to be
// confirmed is not committed by the confirmation, which waits until it is gone.
func TestLoadedInTheWindow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	first := w.byHand()
	j := w.parked(w.within("5m", f1+"@1").ID)
	w.fleet.call("POST", "/devices/"+f1+"/load", map[string]any{"Lines": []string{outsideSays("half done")}}, nil)
	must(w.admin.Confirm(ctx(t), j.ID))(t)
	eventually(t, "the confirmation waits", func() bool {
		return strings.Contains(w.logText(j.ID), "confirming would commit it along")
	})
	if got := must(w.admin.Job(ctx(t), j.ID))(t); got.State == "ended" || strings.Contains(w.fleet.running(f1), "half done") || strings.Contains(w.fleet.startup(f1), "half done") {
		t.Fatalf("%s: %s\n%s", got.State, got.Summary, w.fleet.running(f1))
	}
	w.fleet.call("POST", "/devices/"+f1+"/load", map[string]any{}, nil)
	if end := w.end(j.ID); end.Outcome != "verified" || w.fleet.running(f1) != first {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
}

// byHand has a firewall changed and saved by hand between two pulls, and returns what it
// ran before.
func (w *world) byHand() (first string) {
	w.t.Helper()
	w.pull(f1)
	first = w.fleet.running(f1)
	w.fleet.amend(f1, "okonkwo", outsideSays("by hand"))
	w.fleet.stow(f1)
	w.pull(f1)
	return first
}
