package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

// TestLeaveAndGoOn: a push that was asked to leaves what was applied before the
// line that was refused; the version is edited and pushed again, which sends
// only what is missing.
func TestLeaveAndGoOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	w.push(r1 + "@1")
	before := w.fleet.running(r1)
	all := w.preview(client.NewPreview{Ref: r1 + "@2"})
	bad := 0 // a line that adds something, in the middle
	for i, st := range all.Steps {
		if st.Kind == "set" && i > 3 {
			bad = i + 1
			break
		}
	}
	refuse := func(window string) client.Job {
		t.Helper()
		p := w.preview(client.NewPreview{Ref: r1 + "@2"})
		w.fleet.faults(r1, tern.Faults{RefuseLine: bad})
		j := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Leave: true, Within: window}, ""))(t)
		if window == "" {
			return w.end(j.ID)
		}
		return w.parked(j.ID)
	}
	// In a window it can still be undone.
	j := refuse("2m")
	w.fleet.faults(r1, box.Faults{})
	if !strings.Contains(j.Summary, fmt.Sprintf("the device refused line %d of %d; what was applied before it was left", bad, len(all.Steps))) || w.fleet.running(r1) == before {
		t.Errorf("%s\n%s", j.Summary, w.fleet.running(r1))
	}
	must(w.admin.Undo(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "undone" || w.fleet.running(r1) != before {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	j = refuse("")
	w.fleet.faults(r1, box.Faults{})
	if j.Outcome != "differs" || len(j.Push.Remaining) == 0 || j.Push.Refused == nil || j.Push.Refused.Line != bad || w.fleet.running(r1) == before {
		t.Fatalf("%s: %s, %+v\n%s", j.Outcome, j.Summary, j.Push, w.logText(j.ID))
	}
	// Edited to go without that line, and pushed: only what is missing is sent.
	text := must(w.admin.Text(ctx(t), r1+"@1"))(t).Text
	var kept []string
	for _, l := range strings.Split(text, "\n") {
		if strings.TrimSpace(l) != strings.TrimSpace(j.Push.Refused.Text) {
			kept = append(kept, l)
		}
	}
	// The end mark counts lines; an edited text is not held to it.
	v := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: r1 + "@2", Text: strings.Join(kept, "\n")}))(t)
	p := w.preview(client.NewPreview{Ref: v.Ref})
	if len(p.Steps) == 0 || len(p.Steps) >= len(all.Steps) {
		t.Errorf("%d steps, at first %d", len(p.Steps), len(all.Steps))
	}
	if end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID); end.Outcome != "verified" {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if p := w.preview(client.NewPreview{Ref: v.Ref}); len(p.Steps) != 0 {
		t.Errorf("pushed again it sends %+v", p.Steps)
	}
}

// TestRandomDocuments: whatever settings of a controller somebody makes of a
// version, pushing them makes the controller run them, pushing them again sends
// nothing, and pushing what ran before brings that back.
func TestRandomDocuments(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("skua"))
	const device = "control-w1"
	w.pull(device)
	first := must(w.admin.Text(ctx(t), device+"@1"))(t).Text
	before := w.fleet.running(device)
	r := rand.New(rand.NewPCG(7, 11))
	for round := range 5 {
		var doc map[string]map[string]any
		if err := json.Unmarshal([]byte(first), &doc); err != nil {
			t.Fatal(err)
		}
		s := doc["skua-wireless:settings"]
		s["beacon"], s["power"], s["band"] = 100+r.IntN(3)*50, []string{"auto", "low", "high"}[r.IntN(3)], []string{"both", "5"}[r.IntN(2)]
		nets := []any{}
		for i := range r.IntN(4) {
			n := map[string]any{"ssid": fmt.Sprintf("net \"%d\" ночь", i), "security": "open"}
			if r.IntN(2) == 0 {
				n["security"], n["key"] = "key", fmt.Sprintf("demo-key-%d", r.IntN(3))
			}
			nets = append(nets, n)
		}
		s["network"] = nets
		raw, _ := json.MarshalIndent(doc, "", "  ")
		v, err := w.admin.Edit(ctx(t), client.NewVersion{Ref: device + "@1", Text: string(raw)})
		if err != nil {
			t.Fatalf("round %d: %v\n%s", round, err, raw)
		}
		if end := w.push(v.Ref); end.Outcome != "verified" {
			t.Fatalf("round %d: %s: %s\n%s\n%s", round, end.Outcome, end.Summary, raw, w.logText(end.ID))
		}
		if p := w.preview(client.NewPreview{Ref: v.Ref}); len(p.Steps) != 0 {
			t.Errorf("round %d: pushed again it sends %+v", round, p.Changes)
		}
	}
	if end := w.push(device + "@1"); end.Outcome != "verified" {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if now := w.fleet.running(device); len(now) < len(before) {
		t.Errorf("it ran\n%s\nand runs\n%s", before, now)
	}
}
