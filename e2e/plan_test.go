package e2e

import (
	"slices"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/box"
)

// planned previews a reference and plans its push, as somebody.
func (w *world) planned(as *client.Client, ref string, in, long time.Duration) client.Job {
	w.t.Helper()
	p := w.preview(client.NewPreview{Ref: ref})
	from := time.Now().Add(in)
	until := from.Add(long)
	return must(as.Push(ctx(w.t), client.NewPush{Preview: p.ID, Hash: p.Hash, From: &from, Until: &until, Zone: "Atlantic/Faroe"}, ""))(w.t)
}

// awaits waits until a job waits for something.
func (w *world) awaits(id, what string) (j client.Job) {
	w.t.Helper()
	eventually(w.t, "the job awaits "+what, func() bool {
		if j = must(w.admin.Job(ctx(w.t), id))(w.t); j.State == "ended" {
			w.t.Fatalf("it ended %s: %s\n%s", j.Outcome, j.Summary, w.logText(id))
		}
		return j.Awaits == what
	})
	return j
}

// TestPlanned: a planned push begins in its window, sends only what was looked
// at, and asks otherwise.
func TestPlanned(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	first := w.fleet.running(r1)
	changed(w)
	second := w.fleet.running(r1)
	ends := func(id, outcome, words, runs string) {
		t.Helper()
		if end := w.end(id); end.Outcome != outcome || !strings.Contains(end.Summary, words) || w.fleet.running(r1) != runs {
			t.Errorf("it ended %s: %s\n%s\nit runs\n%s", end.Outcome, end.Summary, w.logText(id), w.fleet.running(r1))
		}
	}

	// In its time, over a crash before it.
	j := w.awaits(w.planned(w.admin, r1+"@1", 4*time.Second, time.Minute).ID, "start")
	if j.Plan == nil || j.Plan.Zone != "Atlantic/Faroe" || j.Due == nil || !j.Due.Equal(j.Plan.From) || !strings.Contains(j.Summary, "Atlantic/Faroe") {
		t.Errorf("%+v, %s", j.Plan, j.Summary)
	}
	if _, err := w.admin.Confirm(ctx(t), j.ID); !client.IsStatus(err, 409) {
		t.Errorf("confirming it: %v", err)
	}
	w.kill()
	w.serve()
	if runs := w.fleet.running(r1); runs != second && time.Now().Before(*j.Due) {
		t.Error("it was pushed before its time")
	}
	ends(j.ID, "verified", "pulled again and compared", first)
	if got := must(w.admin.Job(ctx(t), j.ID))(t); got.Plan.Push == "" || got.Plan.Changed {
		t.Errorf("%+v", got.Plan)
	}

	// Meanwhile somebody changed the device, so that something else would be sent.
	j = w.planned(w.admin, r1+"@2", 3*time.Second, time.Minute)
	w.fleet.amend(r1, "mwilks", "course 203.0.113.0/24 via 10.1.12.9")
	third := w.fleet.running(r1)
	if j = w.awaits(j.ID, "approval"); !j.Plan.Changed || w.fleet.running(r1) != third {
		t.Errorf("%+v\n%s", j.Plan, w.fleet.running(r1))
	}
	out, said, status := w.cli("job", "approve", j.ID, "--yes")
	if status != 0 {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	ends(j.ID, "verified", "", second)

	// Called off, cancelled, lapsed, nothing left to do.
	j = w.planned(w.admin, r1+"@1", time.Hour, time.Hour)
	w.awaits(j.ID, "start")
	if out, _, status := w.cli("job", "show", j.ID); status != 0 || !strings.Contains(out, "job decline "+j.ID) || !strings.Contains(out, "What would be sent:") {
		t.Errorf("status %d\n%s", status, out)
	}
	must(w.admin.Decline(ctx(t), j.ID))(t)
	ends(j.ID, "cancelled", "declined by admin", second)
	j = w.planned(w.admin, r1+"@1", time.Hour, time.Hour)
	w.awaits(j.ID, "start")
	must(w.admin.Cancel(ctx(t), j.ID))(t)
	ends(j.ID, "cancelled", "by hand", second)
	j = w.planned(w.admin, r1+"@1", 3*time.Second, 30*time.Second)
	w.push(r1 + "@1")
	ends(j.ID, "done", "nothing to send", first)
	// The device is away for the whole window.
	j = w.planned(w.admin, r1+"@2", 3*time.Second, 10*time.Second)
	w.fleet.faults(r1, box.Faults{Down: true})
	ends(j.ID, "failed", "nothing was sent", first)
	w.fleet.faults(r1, box.Faults{})
	w.pull(r1)

	// While nobody is there its window passes.
	j = w.planned(w.admin, r1+"@2", 2*time.Second, 2*time.Second)
	w.awaits(j.ID, "start")
	w.kill()
	time.Sleep(4 * time.Second) // its window, which passes while nobody is there
	w.serve()
	ends(j.ID, "cancelled", "its time was over", first)

	for _, bad := range [][]string{{"--from", "soon"}, {"--until", "22:00"}, {"--from", "2020-01-01T10:00"}, {"--from", "22:00", "--zone", "Nowhere/Else"}, {"--from", "2126-01-01T10:00"}} {
		if _, said, status := w.cli(append([]string{"push", r1 + "@2", "--yes"}, bad...)...); status != 2 {
			t.Errorf("%v: status %d, %s", bad, status, said)
		}
	}
	if out, said, status := w.cli("push", r1+"@2", "--yes", "--from", "now", "--zone", "Asia/Tokyo"); status != 0 || w.fleet.running(r1) != second {
		t.Errorf("from now on: status %d\n%s%s", status, out, said)
	}
}

// TestSecondPerson: where a rule asks for it nobody pushes alone, by whatever
// way; an admin can, and the audit log says why.
func TestSecondPerson(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	first := w.fleet.running(r1)
	changed(w)
	second := w.fleet.running(r1)
	okonkwo, wilks := w.addUser("okonkwo", "operator"), w.addUser("wilks", "operator")
	if _, err := okonkwo.AddApproval(ctx(t), []string{"kind=router"}); !client.IsStatus(err, 403) {
		t.Errorf("an operator made a rule: %v", err)
	}
	if out, said, status := w.cli("approval", "add", "name=skerrinsay-*"); status != 0 || !strings.Contains(out, "second person") {
		t.Errorf("status %d: %s%s", status, out, said)
	}
	for _, bad := range [][]string{{"nonsense=1"}, {""}} {
		if _, err := w.admin.AddApproval(ctx(t), bad); !client.IsStatus(err, 400) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := w.admin.AddApproval(ctx(t), []string{"name=skerrinsay-*"}); !client.IsStatus(err, 409) {
		t.Errorf("twice: %v", err)
	}

	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	if _, err := okonkwo.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""); !client.IsStatus(err, 403) || !strings.Contains(err.Error(), "name=skerrinsay-*") {
		t.Errorf("pushed alone: %v", err)
	}
	j := w.awaits(w.planned(okonkwo, r1+"@1", 0, time.Minute).ID, "approval")
	if _, err := wilks.Approve(ctx(t), j.ID, p.ID+"x"); !client.IsStatus(err, 409) {
		t.Errorf("approved without having looked at it: %v", err)
	}
	if _, err := okonkwo.Approve(ctx(t), j.ID, j.Plan.Preview); !client.IsStatus(err, 403) {
		t.Errorf("approved by whoever planned it: %v", err)
	}
	if _, err := w.addUser("lookout", "reader").Approve(ctx(t), j.ID, j.Plan.Preview); !client.IsStatus(err, 403) {
		t.Errorf("approved by a reader: %v", err)
	}
	must(wilks.Approve(ctx(t), j.ID, j.Plan.Preview))(t)
	if end := w.end(j.ID); end.Outcome != "verified" || w.fleet.running(r1) != first || end.Plan.Approved != "wilks" {
		t.Errorf("%s: %s, %+v\n%s", end.Outcome, end.Summary, end.Plan, w.logText(j.ID))
	}

	// Nobody approves; whoever planned it may not push any more when its time comes.
	j = w.planned(okonkwo, r1+"@2", 0, 4*time.Second)
	if end := w.end(j.ID); end.Outcome != "cancelled" || !strings.Contains(end.Summary, "its time was over") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	j = w.awaits(w.planned(okonkwo, r1+"@2", 0, time.Minute).ID, "approval")
	off := true
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &off}))(t)
	must(wilks.Approve(ctx(t), j.ID, j.Plan.Preview))(t)
	if end := w.end(j.ID); end.Outcome != "refused" || !strings.Contains(end.Summary, "may not push any more") || w.fleet.running(r1) != first {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}

	// A restore is no way around it.
	if out, _, status := w.cli("restore", "name="+r1, "--to", "2", "--yes"); status == 0 || !strings.Contains(out, "second person") || w.fleet.running(r1) != first {
		t.Errorf("status %d\n%s", status, out)
	}
	if _, said, status := w.cli("push", r1+"@2", "--yes"); status != 2 || !strings.Contains(said, "--override") {
		t.Errorf("an admin without a reason: status %d, %s", status, said)
	}
	if out, said, status := w.cli("push", r1+"@2", "--yes", "--override", "it is three in the morning"); status != 0 || w.fleet.running(r1) != second {
		t.Errorf("an admin with a reason: status %d\n%s%s", status, out, said)
	}
	log := must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 200))(t)
	if !slices.ContainsFunc(log.Items, func(d client.AuditEntry) bool { return strings.Contains(d.Detail, "three in the morning") }) || !slices.ContainsFunc(log.Items, func(d client.AuditEntry) bool { return strings.Contains(d.Detail, "approved by wilks") }) {
		t.Errorf("the audit log does not say who went ahead alone, and why")
	}
	rules := must(w.admin.Approvals(ctx(t)))(t)
	if len(rules) != 1 || w.admin.RemoveApproval(ctx(t), rules[0].ID) != nil || !client.IsStatus(w.admin.RemoveApproval(ctx(t), rules[0].ID), 404) {
		t.Errorf("%+v", rules)
	}
	if _, said, status := w.cli("push", r1+"@1", "--yes"); status != 0 {
		t.Errorf("without a rule: %d %s", status, said)
	}
}
