package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// TestRestore: many devices are put back at once: what each takes is shown
// first, those that run it already are left out, and each is proved.
func TestRestore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 5)
	var names []string
	for _, p := range w.fleet.places {
		names = append(names, p.Name)
		w.pull(p.Name)
	}
	time.Sleep(1100 * time.Millisecond) // times are given to the second
	asOf := time.Now().UTC().Format(time.RFC3339)
	time.Sleep(1100 * time.Millisecond) // and what comes next is after it
	first := map[string]string{}
	for _, n := range names[:4] {
		first[n] = w.fleet.running(n)
		w.fleet.amend(n, "mwilks", "domain elsewhere.example")
		w.fleet.stow(n)
		w.pull(n)
	}
	out, said, status := w.cli("restore", "kind=router", "--to", asOf, "--preview")
	if status != 0 || strings.Count(out, "1 line to send") != 4 || !strings.Contains(out, "it runs "+names[4]+"@1 already") {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	// With a window: all wait, and are taken back together.
	out, said, status = w.cli("restore", "kind=router", "--to", asOf, "--within", "5m", "--yes")
	if status != 0 || !strings.Contains(out, "4 pushes wait to be confirmed") || !strings.Contains(out, "the first alone: ") {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	job := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "restore", Limit: 1}))(t).Items[0]
	if _, said, status := w.cli("job", "undo", job.ID); status == 2 {
		t.Errorf("take-back: %s", said)
	}
	eventually(t, "all are undone", func() bool {
		r := must(w.admin.Job(ctx(t), job.ID))(t).Restore
		n := 0
		for _, x := range r.Rows {
			if x.Outcome == "undone" {
				n++
			}
		}
		return n == 4
	})
	// Without: each is proved.
	out, said, status = w.cli("restore", "kind=router", "--to", asOf, "--yes", "--note", "the domain was changed by mistake")
	if status != 0 || strings.Count(out, " verified ") < 4 {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	for _, n := range names[:4] {
		if w.fleet.running(n) != first[n] {
			t.Errorf("%s runs\n%s", n, w.fleet.running(n))
		}
	}
	if out, _, status := w.cli("restore", "kind=router", "--to", asOf, "--yes"); status != 0 || !strings.Contains(out, "5 run it already") {
		t.Errorf("again: status %d\n%s", status, out)
	}
	// One that refuses stops the rest.
	for _, n := range names[:4] {
		w.fleet.amend(n, "mwilks", "domain elsewhere.example")
		w.fleet.stow(n)
		w.pull(n)
	}
	order := must(w.admin.Watch(ctx(t), must(w.admin.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{"kind=router"}, Which: asOf}))(t).ID, nil, nil))(t)
	canary := order.RestorePreview.Rows[0].Device
	for _, r := range order.RestorePreview.Rows {
		if r.Skip == "" {
			canary = r.Device
			break
		}
	}
	w.fleet.faults(canary, tern.Faults{RefuseLine: 1})
	end := w.end(must(w.admin.NewRestore(ctx(t), client.NewRestore{RestorePreview: order.ID}, ""))(t).ID)
	if end.Outcome != "failed" || !strings.Contains(end.Summary, "3 not begun") || !strings.Contains(end.Summary, "stopped after 1 push") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	w.fleet.faults(canary, tern.Faults{})
	// The service dies in the middle, and goes on where it was: no device is pushed to twice.
	w.fleet.faults(canary, tern.Faults{HoldLine: 1})
	order = w.end(must(w.admin.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{"kind=router"}, Which: asOf}))(t).ID)
	r := must(w.admin.NewRestore(ctx(t), client.NewRestore{RestorePreview: order.ID, Within: "5m", StopAfter: 5}, "one key"))(t)
	w.fleet.waitHolding(canary)
	w.kill()
	w.fleet.faults(canary, tern.Faults{})
	w.serve()
	end = w.end(r.ID)
	pushes := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "push", Device: canary, Limit: 50}))(t)
	mine := 0
	for _, p := range pushes.Items {
		if p.CreatedAt.After(r.CreatedAt) {
			mine++
		}
	}
	if mine != 1 || !strings.Contains(end.Summary, "1 undone") || !strings.Contains(end.Summary, "3 waiting to be confirmed") {
		t.Errorf("%d pushes to %s; %s: %s", mine, canary, end.Outcome, end.Summary)
	}
	if _, err := w.admin.Confirm(ctx(t), r.ID); err != nil {
		t.Error(err)
	}
	eventually(t, "the rest is kept", func() bool {
		return strings.Count(fmt.Sprint(must(w.admin.Job(ctx(t), r.ID))(t).Restore.Rows), " verified ") == 3
	})
	for _, bad := range []client.NewRestorePreview{{Selector: []string{"kind=router"}}, {Selector: []string{"kind=router"}, Which: "live"}, {Selector: []string{"site=nowhere"}, Which: "baseline"}} {
		if _, err := w.admin.NewRestorePreview(ctx(t), bad); !client.IsStatus(err, 400) && !client.IsStatus(err, 404) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

// TestTogetherResumed: a restore whose shared window has gone by while the service
// was dead still knows the pushes that it began.
func TestTogetherResumed(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	for _, p := range w.fleet.places {
		w.pull(p.Name)
		w.fleet.amend(p.Name, "mwilks", "domain elsewhere.example")
		w.fleet.stow(p.Name)
		w.pull(p.Name)
	}
	order := w.end(must(w.admin.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{"kind=router"}, Which: "previous"}))(t).ID)
	first := order.RestorePreview.Rows[0].Device
	w.fleet.faults(first, tern.Faults{HoldLine: 1, HoldApplied: true})
	short := client.NewRestore{RestorePreview: order.ID, Within: "20s", Together: true}
	if _, err := w.admin.NewRestore(ctx(t), short, ""); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "it takes 30s at least") {
		t.Errorf("a window too short for many: %v", err)
	}
	r := must(w.admin.NewRestore(ctx(t), client.NewRestore{RestorePreview: order.ID, Within: "30s", Together: true, StopAfter: 5}, ""))(t)
	w.fleet.waitHolding(first)
	w.kill()
	w.fleet.faults(first, tern.Faults{})
	time.Sleep(31 * time.Second) // the window has gone by
	w.serve()
	end := w.end(r.ID)
	pushes := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "push", Device: first, Limit: 5}))(t).Items
	if len(pushes) != 1 {
		t.Fatalf("%d pushes to %s", len(pushes), first)
	}
	w.end(pushes[0].ID)
	row := must(w.admin.Job(ctx(t), r.ID))(t).Restore.Rows[0]
	if row.Device != first || row.Job != pushes[0].ID || row.Outcome != "undone" {
		t.Errorf("the push %s is lost: %+v\n%s: %s", pushes[0].ID, row, end.Outcome, end.Summary)
	}
}
