package e2e

import (
	"strings"
	"testing"
	"time"

	"magpie/client"
)

// TestSnapshot: a named set of versions is made of now or of a time, and put
// back over all its devices in one window that they share.
func TestSnapshot(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	first := map[string]string{}
	for _, p := range w.fleet.places {
		w.pull(p.Name)
		first[p.Name] = w.fleet.running(p.Name)
	}
	names := []string{w.fleet.places[0].Name, w.fleet.places[1].Name}
	out, said, status := w.cli("snapshot", "make", "before-storm", "name="+names[0], "--note", "calm")
	if status != 0 || !strings.Contains(out, "2 versions") {
		t.Fatalf("status %d: %s%s", status, out, said)
	}
	time.Sleep(1100 * time.Millisecond) // times are given to the second
	calm := time.Now()
	time.Sleep(1100 * time.Millisecond) // and what comes next is after it
	for _, n := range names {
		w.fleet.amend(n, "mwilks", "domain elsewhere.example")
		w.fleet.stow(n)
		w.pull(n)
	}
	x := must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "at-calm", Selector: []string{"kind=router"}, At: &calm}))(t)
	if x.Count != 6 {
		t.Errorf("%d versions", x.Count)
	}
	for _, v := range must(w.admin.Snapshot(ctx(t), "at-calm"))(t).Versions {
		if v.Number != 1 {
			t.Errorf("%s/%s@%d was not of that time", v.Device, v.Part, v.Number)
		}
	}
	for _, bad := range []client.NewSnapshot{{Name: "at-calm", Selector: []string{"kind=router"}}, {Name: "latest", Selector: []string{"kind=router"}}, {Name: "x", Selector: []string{"site=nowhere"}}, {Name: "x", Selector: nil}} {
		if _, err := w.admin.AddSnapshot(ctx(t), bad); !client.IsStatus(err, 400) && !client.IsStatus(err, 404) && !client.IsStatus(err, 409) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if out, _, status := w.cli("restore", "--snapshot", "before-storm", "--preview"); status != 0 || strings.Contains(out, names[1]) || !strings.Contains(out, "1 line to send") {
		t.Errorf("status %d\n%s", status, out)
	}

	// One window for all: one moment at which everything goes back.
	out, said, status = w.cli("restore", "--snapshot", "at-calm", "--within", "30s", "--together", "--yes")
	if status != 0 || !strings.Contains(out, "2 pushes wait") {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	restore := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "restore", Limit: 1}))(t).Items[0]
	var dues []time.Time
	for _, r := range restore.Restore.Rows {
		if r.Job != "" {
			dues = append(dues, *w.parked(r.Job).Due)
		}
	}
	if len(dues) != 2 || !dues[0].Equal(dues[1]) || dues[0].Sub(*restore.StartedAt) > 31*time.Second {
		t.Errorf("due %v, begun %s", dues, restore.StartedAt)
	}
	eventually(t, "both went back", func() bool {
		return !strings.Contains(w.fleet.running(names[0])+w.fleet.running(names[1]), first[names[0]]) && strings.Count(w.fleet.running(names[0])+w.fleet.running(names[1]), "elsewhere.example") == 2
	})
	for _, r := range restore.Restore.Rows {
		if r.Job != "" {
			w.end(r.Job)
		}
	}
	if out, said, status = w.cli("restore", "--snapshot", "at-calm", "--at-once", "2", "--yes"); status != 0 {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	for _, n := range names {
		if w.fleet.running(n) != first[n] {
			t.Errorf("%s runs\n%s", n, w.fleet.running(n))
		}
	}
	for _, bad := range [][]string{{"--snapshot", "at-calm", "--to", "baseline"}, {"--snapshot", "nothing-such"}, {"--snapshot", "at-calm", "--together"}, {"name=" + w.fleet.places[2].Name, "--snapshot", "before-storm"}} {
		if _, said, status := w.cli(append([]string{"restore", "--yes"}, bad...)...); status != 2 {
			t.Errorf("%v: status %d, %s", bad, status, said)
		}
	}
	if w.admin.RemoveSnapshot(ctx(t), "at-calm") != nil || len(must(w.admin.Snapshots(ctx(t)))(t)) != 1 || len(w.versions(names[0])) == 0 {
		t.Error("not removed")
	}
}
