package e2e

import (
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// TestSecondRound: what a device took and did not do is sent again where that was asked
// for, and in a window: announced, towards the same version, and never without end.
func TestSecondRound(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	const r1 = "skerrinsay-r1"
	w.pull(r1)
	before := w.fleet.running(r1)
	spoil := func() client.Preview {
		t.Helper()
		w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`, "up", "lane quay2", `note "by hand too"`)
		p := w.preview(client.NewPreview{Ref: r1 + "@1"})
		w.fleet.faults(r1, tern.Faults{IgnoreLine: 2})
		return p
	}
	push := func(p client.Preview, rounds *int, within string) client.Job {
		t.Helper()
		return must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Rounds: rounds, Within: within}, ""))(t)
	}
	one, none := 1, 0
	// Not asked for: it is listed, and not sent.
	p := spoil()
	if j := w.end(push(p, nil, "").ID); j.Outcome != "differs" || j.Push.Total != p.Lines {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	// Asked for.
	p = spoil()
	j := w.end(push(p, &one, "").ID)
	log := w.logText(j.ID)
	if j.Outcome != "verified" || w.fleet.running(r1) != before || j.Push.Total != p.Lines+2 || !strings.Contains(log, "round 2: 1 line still differs; sending 2 lines more towards "+r1+"@1") ||
		!strings.Contains(log, "these: lane quay1; ") {
		t.Errorf("%s: %s, %d lines\n%s", j.Outcome, j.Summary, j.Push.Total, log)
	}
	// In a window it is made without a word, and not where a person says that none is wanted.
	j = w.parked(push(spoil(), nil, "2m").ID)
	if w.fleet.running(r1) != before || !strings.Contains(w.logText(j.ID), "round 2:") {
		t.Errorf("%s\n%s", j.Summary, w.logText(j.ID))
	}
	must(w.admin.Say(ctx(t), j.ID, "confirm", ""))(t)
	w.end(j.ID)
	j = w.parked(push(spoil(), &none, "2m").ID)
	if w.fleet.running(r1) == before || strings.Contains(w.logText(j.ID), "round 2:") {
		t.Errorf("%s\n%s", j.Summary, w.logText(j.ID))
	}
	must(w.admin.Say(ctx(t), j.ID, "undo", ""))(t)
	w.end(j.ID)
	// Killed in the second round, in a window: it is taken back.
	p = spoil()
	was := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{IgnoreLine: 2, HoldLine: p.Lines + 1})
	id := push(p, nil, "5m").ID
	w.fleet.waitHolding(r1)
	w.kill()
	w.fleet.faults(r1, tern.Faults{})
	w.serve()
	if j = w.end(id); j.Outcome != "undone" || w.fleet.running(r1) != was {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Rounds: &[]int{9}[0]}, ""); err == nil {
		t.Error("nine rounds are made")
	}
	if out, said, status := w.cli("push", r1+"@1", "--yes", "--rounds", "1"); status != 0 {
		t.Errorf("%d: %s%s", status, out, said)
	}
}
