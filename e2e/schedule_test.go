package e2e

import (
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// runs are the times that a schedule was due.
func (w *world) runs(name string) (out []client.AgendaItem) {
	w.t.Helper()
	for _, i := range must(w.admin.Agenda(ctx(w.t), time.Now().Add(-time.Hour), time.Now().Add(time.Minute)))(w.t) {
		if i.Schedule == name && !i.Future && i.State != "due" {
			out = append(out, i)
		}
	}
	return out
}

// falls makes a schedule due now.
func (w *world) falls(name string) {
	w.t.Helper()
	w.sql("UPDATE schedules SET next_at = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND WHERE name = '" + name + "'")
}

// TestScheduleIsDone: what a schedule says is done when it is due: all devices pulled, one
// thing after the other, those that cannot be reached counted; the service's death in
// the middle costs nothing and doubles nothing.
func TestScheduleIsDone(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	names := []string{}
	for _, p := range w.fleet.places {
		names = append(names, p.Name)
		w.pull(p.Name)
	}
	w.fleet.faults(names[1], tern.Faults{Down: true})
	n := client.NewSchedule{Name: "now", Rule: "daily 02:00", Zone: "Atlantic/Faroe", Selector: []string{"all"}, Note: "to see it done",
		Deeds: []client.Deed{{Kind: "pull"}, {Kind: "snapshot"}, {Kind: "drift"}}}
	x := must(w.admin.AddSchedule(ctx(t), n))(t)
	if x.Devices != 3 || len(x.Next) != 5 || x.MadeBy != "admin" || x.Last != nil || len(x.Clocks) != 1 {
		t.Errorf("kept as %+v", x)
	}
	same := must(w.admin.CheckSchedule(ctx(t), "", client.NewSchedule{Name: "again", Rule: "daily 02:00", Zone: "Atlantic/Faroe", Selector: []string{names[0]}, Deeds: []client.Deed{{Kind: "pull"}}}))(t)
	if len(same.Same) != 1 || !strings.Contains(same.Same[0], "now does pull of 1 of these devices too") {
		t.Errorf("one that does the same is not pointed out: %v", same.Same)
	}
	if _, err := w.admin.Schedule(ctx(t), "again"); err == nil {
		t.Error("what was only checked is kept")
	}
	w.falls("now")
	eventually(t, "it is due, and its pulls are under way", func() bool { r := w.runs("now"); return len(r) == 1 && r[0].Job != "" })
	w.kill()
	w.serve()
	eventually(t, "it is done", func() bool {
		r := w.runs("now")
		return len(r) == 1 && r[0].State != "running" && r[0].State != "queued"
	})
	run := w.runs("now")[0]
	if run.State != "failed" || !strings.Contains(run.Summary, "pull: 2 done, 1 failed") || !strings.Contains(run.Summary, "drift: 1 done") || !strings.Contains(run.Summary, "snapshot: 1 done") {
		t.Errorf("it ended %s: %s", run.State, run.Summary)
	}
	parts := must(w.admin.Jobs(ctx(t), client.JobFilter{PartOf: run.Job}))(t).Items
	by := map[string]int{}
	for _, j := range parts {
		by[j.Kind+" "+j.Device]++
		if j.Actor != "schedule now" {
			t.Errorf("%s of %s is by %s", j.Kind, j.Device, j.Actor)
		}
	}
	for what, n := range by {
		if n != 1 {
			t.Errorf("%d times: %s", n, what)
		}
	}
	if len(parts) != 5 {
		t.Errorf("%d jobs were begun", len(parts))
	}
	if all := must(w.admin.Snapshots(ctx(t)))(t); len(all) != 1 || !strings.HasPrefix(all[0].Name, "now-20") || all[0].MadeBy != "schedule now" {
		t.Errorf("%+v", all)
	}
	j := must(w.admin.Job(ctx(t), run.Job))(t)
	if j.Scheduled == nil || j.Scheduled.Devices != 3 || len(j.Scheduled.Parts) != 4 {
		t.Errorf("%+v", j.Scheduled)
	}
	if again := must(w.admin.Schedule(ctx(t), "now"))(t); len(again.Next) != 5 || again.Last == nil || again.Last.Job != run.Job {
		t.Errorf("%+v", again)
	}
	// Now, besides; a key asked for twice is one run.
	one := must(w.admin.RunSchedule(ctx(t), "now", client.NewRun{Note: "again"}, "a key"))(t)
	if two := must(w.admin.RunSchedule(ctx(t), "now", client.NewRun{Note: "again"}, "a key"))(t); two.ID != one.ID {
		t.Errorf("%s and %s", one.ID, two.ID)
	}
	w.end(one.ID)
	if n := len(w.runs("now")); n != 2 {
		t.Errorf("the agenda knows %d runs", n)
	}
}

// TestScheduleRefusals: what makes no sense is not kept, and said with its field; readers
// look only.
func TestScheduleRefusals(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	good := client.NewSchedule{Name: "nightly", Rule: "daily 02:00", Zone: "Atlantic/Faroe", Selector: []string{"all"}, Deeds: []client.Deed{{Kind: "pull"}}}
	for field, spoil := range map[string]func(n *client.NewSchedule){
		"name": func(n *client.NewSchedule) { n.Name = "a/b" }, "rule": func(n *client.NewSchedule) { n.Rule = "every day" }, "zone": func(n *client.NewSchedule) { n.Zone = "Faroe" },
		"deeds": func(n *client.NewSchedule) { n.Deeds = []client.Deed{{Kind: "push"}} }, "selector": func(n *client.NewSchedule) { n.Selector = []string{"knd=router"} },
		"spread": func(n *client.NewSchedule) { n.Rule, n.Spread = "every 30m", "1h" }, "blackouts": func(n *client.NewSchedule) { n.Blackouts = []string{"weekly fri 16:00"} },
	} {
		n := good
		spoil(&n)
		_, err := w.admin.AddSchedule(ctx(t), n)
		var p *client.Problem
		if !errors.As(err, &p) || p.Status != http.StatusBadRequest || p.Field != field {
			t.Errorf("%s: %v", field, err)
		}
	}
	must(w.admin.AddSchedule(ctx(t), good))(t)
	if _, err := w.admin.AddSchedule(ctx(t), good); statusOf(err) != http.StatusConflict {
		t.Errorf("a name that is taken: %v", err)
	}
	if x := must(w.admin.PauseSchedule(ctx(t), "nightly", true))(t); !x.Paused {
		t.Error("it is not paused")
	}
	for _, i := range must(w.admin.Agenda(ctx(t), time.Now(), time.Now().Add(72*time.Hour)))(t) {
		t.Errorf("it is paused, and due %s", i.At)
	}
	if x := must(w.admin.PauseSchedule(ctx(t), "nightly", false))(t); x.Paused || len(x.Next) != 5 {
		t.Errorf("%+v", x)
	}
	good.Rule, good.Zone, good.Note = "weekly mon 03:00", "UTC", "less often"
	x := must(w.admin.EditSchedule(ctx(t), "nightly", good))(t)
	if x.Rule != "weekly mon 03:00" || x.Note != "less often" || x.Next[0].At.Hour() != 3 {
		t.Errorf("%+v", x)
	}
	if err := w.admin.RemoveSchedule(ctx(t), "nightly"); err != nil {
		t.Error(err)
	}
	if _, err := w.admin.Schedule(ctx(t), "nightly"); statusOf(err) != http.StatusNotFound {
		t.Errorf("it is forgotten, and there: %v", err)
	}
}

// statusOf is the status of what a request was answered with.
func statusOf(err error) int {
	var p *client.Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// TestJobsAsPeopleNeedThem: jobs are found by who, what came of them, where and when; one
// is asked for again; one that sends something is not; many that fail alike are one
// sentence.
func TestJobsAsPeopleNeedThem(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	names := []string{}
	for _, p := range w.fleet.places {
		names = append(names, p.Name)
		w.pull(p.Name)
	}
	site := "skerrinsay"
	for _, n := range names[:2] {
		must(w.admin.EditDevice(ctx(t), n, client.NewDevice{Site: &site}))(t)
		w.fleet.faults(n, tern.Faults{Down: true})
	}
	op := w.addUser("okonkwo", "operator")
	for _, j := range must(op.Pull(ctx(t), []string{"all"}, "a key"))(t) {
		w.end(j.ID)
	}
	find := func(f client.JobFilter, n int) []client.Job {
		t.Helper()
		got := must(w.admin.Jobs(ctx(t), f))(t).Items
		if len(got) != n {
			t.Errorf("%+v finds %d jobs, not %d", f, len(got), n)
		}
		return got
	}
	find(client.JobFilter{Actor: "okonkwo"}, 3)
	failed := find(client.JobFilter{Actor: "okonkwo", Outcome: "failed"}, 2)
	find(client.JobFilter{Outcome: "failed", Selector: []string{"site=" + site}}, 2)
	find(client.JobFilter{Outcome: "done", Selector: []string{"site=" + site}}, 2)
	find(client.JobFilter{Since: time.Now().Add(time.Hour).UTC().Format(time.RFC3339)}, 0)
	find(client.JobFilter{Until: time.Now().Add(time.Hour).UTC().Format(time.RFC3339), Kind: "pull"}, 6)
	if _, err := w.admin.Jobs(ctx(t), client.JobFilter{Outcome: "fine"}); statusOf(err) != http.StatusBadRequest {
		t.Errorf("an outcome that there is not: %v", err)
	}
	st := must(w.admin.Status(ctx(t)))(t)
	if len(st.Alike) != 1 || len(st.Alike[0].Devices) != 2 || st.Alike[0].Site != site || !strings.HasPrefix(st.Alike[0].Says, "no connection to") || st.Alike[0].LastPulled == nil {
		t.Errorf("%+v", st.Alike)
	}
	if out, _, _ := w.cli("status"); !strings.Contains(out, "2 devices at skerrinsay unreachable: no connection to") {
		t.Errorf("%s", out)
	}
	w.fleet.faults(failed[0].Device, tern.Faults{})
	out, said, status := w.cli("job", "repeat", failed[0].ID, "--note", "the mast is up again")
	if status != 0 || !strings.Contains(out, "unchanged") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if again := must(w.admin.Jobs(ctx(t), client.JobFilter{Limit: 1}))(t).Items[0]; again.Kind != "pull" || again.Device != failed[0].Device || again.Actor != "admin" || again.Outcome != "done" {
		t.Errorf("%+v", again)
	}
	preview := w.preview(client.NewPreview{Ref: names[2] + "@1"})
	j := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "preview", Limit: 1}))(t).Items[0]
	if _, err := w.admin.Repeat(ctx(t), j.ID, client.NewRun{}, "k"); statusOf(err) != http.StatusConflict {
		t.Errorf("a preview, %s, is repeated: %v", preview.ID, err)
	}
	lookout := w.addUser("lookout", "reader")
	if _, err := lookout.Repeat(ctx(t), failed[0].ID, client.NewRun{}, "k"); statusOf(err) != http.StatusForbidden {
		t.Errorf("a reader has a pull repeated: %v", err)
	}
}
