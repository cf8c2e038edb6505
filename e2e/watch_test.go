package e2e

import (
	"context"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/scratch"
)

// hearing listens to what is written, as long as the test goes on.
type hearing struct {
	mu    sync.Mutex
	heard []client.Touched
}

func (w *world) hear(c *client.Client) *hearing {
	w.t.Helper()
	h, open := &hearing{}, make(chan struct{})
	listening, stop := context.WithCancel(context.Background())
	w.t.Cleanup(stop)
	go func() {
		close(open)
		for listening.Err() == nil { // a connection that ends is made again, as a browser does
			_ = c.Events(listening, func(all []client.Touched) {
				h.mu.Lock()
				defer h.mu.Unlock()
				h.heard = append(h.heard, all...)
			})
			time.Sleep(50 * time.Millisecond) // it may be on its way down
		}
	}()
	<-open
	return h
}

// within waits for something to be heard.
func (h *hearing) within(t testing.TB, span time.Duration, what string, is func(client.Touched) bool) {
	t.Helper()
	var all []client.Touched
	for end := time.Now().Add(span); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		h.mu.Lock()
		all = slices.Clone(h.heard)
		h.mu.Unlock()
		if slices.ContainsFunc(all, is) {
			return
		}
	}
	t.Fatalf("within %s nobody says %s, but %+v", span, what, all)
}

// TestToldOfWhatIsWritten: whoever watches one instance is told of what another writes:
// devices, jobs with how they ended, versions, deeds, what is taken out; and that the
// database went away and came back. Whoever may no longer look is told nothing more.
func TestToldOfWhatIsWritten(t *testing.T) {
	t.Parallel()
	gate, through := scratch.NewGate(t, scratch.Database(t))
	w := newWorld(t, 1, func(w *world) { w.dsn = through })
	h := w.hear(w.admin)
	eventually(t, "it listens", func() bool {
		must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Kind: "router"}))(t)
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.heard) > 0
	})
	j := w.pull(r1)
	h.within(t, 5*time.Second, "that the pull is done", func(x client.Touched) bool {
		return x.Topic == "job" && x.ID == j.ID && x.State == "ended" && x.Outcome == "done" && x.Device == r1
	})
	h.within(t, 5*time.Second, "that there is a version", func(x client.Touched) bool {
		return x.Topic == "part" && x.Name == "running" && x.Device == r1
	})
	h.within(t, 5*time.Second, "how the device is", func(x client.Touched) bool {
		return x.Topic == "device" && x.Name == r1 && x.State == "in sync"
	})
	h.within(t, 5*time.Second, "that somebody pulled", func(x client.Touched) bool { return x.Topic == "deed" })
	// What a page asked for before it listens may have changed in between.
	w.hear(w.admin).within(t, 5*time.Second, "what was written shortly before it came", func(x client.Touched) bool { return x.Topic == "job" && x.ID == j.ID })

	reader := w.addUser("watcher", "reader")
	other := w.hear(reader)
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Name: new("first-of-it")}))(t)
	other.within(t, 10*time.Second, "that a version was named", func(x client.Touched) bool { return x.Topic == "part" && x.Device == r1 })
	off := true
	must(w.admin.EditUser(ctx(t), "watcher", client.NewUser{Disabled: &off}))(t)
	eventually(t, "whoever may not look is not told", func() bool {
		_, err := reader.Me(ctx(t))
		return err != nil
	})

	gate.Shut()
	h.within(t, 20*time.Second, "that the database is away", func(x client.Touched) bool { return x.Topic == "database" && x.State == "away" })
	gate.Open()
	h.within(t, 20*time.Second, "that the database is back", func(x client.Touched) bool { return x.Topic == "database" && x.State == "back" })
	if err := w.admin.RemoveDevice(ctx(t), r1); err != nil {
		t.Fatal(err)
	}
	h.within(t, 5*time.Second, "that the device is gone", func(x client.Touched) bool { return x.Topic == "device" && x.Gone })
}

// TestManyAtOnce: tags and baselines are given to many devices in one go; a mistake
// leaves all as they were, and what was left out is said.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	names := []string{}
	for _, d := range must(w.admin.Devices(ctx(t), nil))(t) {
		names = append(names, d.Name)
	}
	w.pull(names[0])
	w.pull(names[1])
	tagged := must(w.admin.Tag(ctx(t), client.NewTags{Selector: []string{"all"}, Add: []string{"storm", "watch"}}))(t)
	if len(tagged.Items) != 3 {
		t.Errorf("%d are tagged", len(tagged.Items))
	}
	again := must(w.admin.Tag(ctx(t), client.NewTags{Selector: names[:2], Add: []string{"storm"}, Drop: []string{"watch"}}))(t)
	if len(again.Items) != 2 || strings.Join(again.Items[0].Tags, " ") != "storm" {
		t.Errorf("%+v", again.Items)
	}
	if same := must(w.admin.Tag(ctx(t), client.NewTags{Selector: names[:2], Add: []string{"storm"}}))(t); len(same.Items) != 0 {
		t.Errorf("nothing was to be done, and %d are otherwise", len(same.Items))
	}
	for _, bad := range []client.NewTags{{Selector: []string{"all"}}, {Selector: []string{"all"}, Add: []string{"two words"}}, {Selector: []string{"nobody"}, Add: []string{"x"}}, {Add: []string{"x"}}} {
		if _, err := w.admin.Tag(ctx(t), bad); err == nil {
			t.Errorf("%+v is done", bad)
		}
	}
	if _, err := w.addUser("op", "operator").Tag(ctx(t), client.NewTags{Selector: []string{"all"}, Add: []string{"x"}}); err == nil {
		t.Error("an operator edits devices")
	}

	out := must(w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{"all"}}))(t)
	if len(out.Items) != 2 || len(out.Skipped) != 1 || out.Skipped[0].Device != names[2] || !out.Items[0].Baseline {
		t.Errorf("%+v", out)
	}
	for _, which := range []string{"live", "@", "2026-13-45"} {
		if _, err := w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{"all"}, Which: which}); err == nil {
			t.Errorf("%q becomes the baseline", which)
		}
	}

	// What changed lately, of all and of some.
	w.fleet.amend(names[0], "mwilks", "lane quay1", "shut")
	w.pull(names[0])
	page := must(w.admin.Changes(ctx(t), []string{"all"}, "", "", 2))(t)
	if len(page.Items) != 2 || page.Items[0].Device != names[0] || page.Items[0].Number < 2 || page.Next == "" {
		t.Errorf("%+v", page)
	}
	rest := must(w.admin.Changes(ctx(t), []string{"all"}, "", page.Next, 100))(t)
	for _, v := range rest.Items {
		if v.ID >= page.Items[1].ID {
			t.Errorf("%s is on both pages", v.Ref)
		}
	}
	if some := must(w.admin.Changes(ctx(t), []string{"name=" + names[1]}, "", "", 100))(t); len(some.Items) == 0 || some.Items[0].Device != names[1] {
		t.Errorf("%+v", some)
	}
	if none := must(w.admin.Changes(ctx(t), []string{"all"}, "2100-01-01", "", 100))(t); len(none.Items) != 0 {
		t.Errorf("%+v", none)
	}

	// And who did what to one of them.
	log := must(w.admin.Audit(ctx(t), client.AuditFilter{About: names[0], Actor: "admin"}, 0, 100))(t)
	if len(log.Items) < 3 {
		t.Errorf("%+v", log.Items)
	}
	for _, d := range log.Items {
		if d.Object != names[0] && !strings.HasPrefix(d.Object, names[0]+"@") || d.Actor != "admin" {
			t.Errorf("%+v", d)
		}
	}
	if none := must(w.admin.Audit(ctx(t), client.AuditFilter{About: names[0], Since: "2100-01-01"}, 0, 100))(t); len(none.Items) != 0 {
		t.Errorf("%+v", none.Items)
	}
}
