package e2e

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"magpie/client"
)

// TestOneRegistration: a kind of job that is registered in one call is asked for,
// listed, watched, decided, cancelled, crashed, recovered and shown through API,
// command line and console, with nothing else changed.
func TestOneRegistration(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withProgram("kettle"))
	op := w.addUser("okonkwo", "operator")
	tea := func(with ...string) string {
		n := client.NewJob{Kind: "kettle", With: map[string]any{"cups": "2", "blend": "harbour"}}
		for i := 0; i < len(with); i += 2 {
			n.With[with[i]] = with[i+1]
		}
		return must(w.admin.Ask(ctx(t), n, ""))(t).ID
	}
	waits := func(id string) client.Job {
		var j client.Job
		eventually(t, "it waits", func() bool { j = must(w.admin.Job(ctx(t), id))(t); return j.Awaits == "the word" })
		return j
	}

	// Asked for, and refused.
	if out, _, _ := w.cli("job", "kinds"); !strings.Contains(out, "kettle") || !strings.Contains(out, "somebody who takes tea (pour, tip)") {
		t.Errorf("the kinds are\n%s", out)
	}
	if _, said, status := w.cli("job", "ask", "kettle"); status != 2 || !strings.Contains(said, "how many cups") {
		t.Errorf("status %d, %s", status, said)
	}
	if _, err := w.addUser("lookout", "reader").Ask(ctx(t), client.NewJob{Kind: "kettle"}, ""); !client.IsStatus(err, 403) {
		t.Errorf("a reader asks: %v", err)
	}
	if _, err := w.admin.Ask(ctx(t), client.NewJob{Kind: "kettel"}, ""); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "kettle") {
		t.Errorf("a kind misspelt: %v", err)
	}
	if _, err := w.admin.Ask(ctx(t), client.NewJob{Kind: "push"}, ""); !client.IsStatus(err, 400) {
		t.Errorf("a push by its name alone: %v", err)
	}
	spec, err := http.Get(w.url + "/openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	defer spec.Body.Close()
	if raw, _ := io.ReadAll(spec.Body); !strings.Contains(string(raw), "/jobs/{id}/pour:") || !strings.Contains(string(raw), "- kettle") {
		t.Error("the API's description knows nothing of it")
	}

	// Listed, watched, decided, shown; what is masked for whom.
	id := tea()
	waits(id)
	if out, _, _ := w.cli("job", "list", "--kind", "kettle", "--state", "waiting"); !strings.Contains(out, id) || !strings.Contains(out, "the tea is ready") {
		t.Errorf("listed as\n%s", out)
	}
	if _, err := w.admin.Say(ctx(t), id, "confirm", ""); !client.IsStatus(err, 409) {
		t.Errorf("a push's word to a kettle: %v", err)
	}
	if out, said, status := w.cli("job", "pour", id); status != 0 || !strings.Contains(out, "2 cups for admin") {
		t.Errorf("status %d, %s%s", status, out, said)
	}
	if out, _, _ := w.cli("job", "show", id); !strings.Contains(out, "it boils") || !strings.Contains(out, "harbour") || !strings.Contains(out, "poured") {
		t.Errorf("shown as\n%s", out)
	}
	if r, ok := must(op.Job(ctx(t), id))(t).Result.(map[string]any); !ok || r["blend"] != "hidden" {
		t.Errorf("an operator without secrets sees %v", r)
	}

	// Cancelled.
	id = tea()
	waits(id)
	if _, said, status := w.cli("job", "cancel", id); status != 0 {
		t.Error(said)
	}
	if j := w.end(id); j.Outcome != "cancelled" || j.Summary != "taken off the stove" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}

	// Crashed, and recovered.
	id = tea("crash", "yes")
	<-w.proc.gone
	w.serve()
	waits(id)
	if log := w.logText(id); !strings.Contains(log, "boiling over") || !strings.Contains(log, "the service stopped in the middle") {
		t.Errorf("its log is\n%s", log)
	}

	// In the console: in the filter, on its page, and decided there.
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/jobs")
	b.click("kettle")
	b.see("the tea is ready")
	b.see("for somebody who takes tea")
	b.open("/jobs/" + id)
	b.see("It waits for somebody who takes tea.")
	b.click("Pour it")
	b.see("2 cups for admin")
	b.do(chromedp.WaitVisible(`dl[aria-label="What it led to"]`, often))
	if j := w.end(id); j.Outcome != "done" || time.Since(*j.EndedAt) > time.Minute {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestLongLog: a log of many lines is watched to its end, each line once, also by
// who breaks off in the middle and comes back.
func TestLongLog(t *testing.T) {
	t.Parallel()
	const lines = 12000
	w := newWorld(t, 1, withProgram("kettle"))
	id := must(w.admin.Ask(ctx(t), client.NewJob{Kind: "kettle", With: map[string]any{"cups": "2", "lines": lines}}, ""))(t).ID
	eventually(t, "it is under way", func() bool { return must(w.admin.Job(ctx(t), id))(t).State == "running" })
	must(w.admin.Cancel(ctx(t), id))(t) // it ends when it has said all
	seen := 0
	end := must(w.admin.Watch(ctx(t), id, func(e client.Entry) {
		if strings.HasPrefix(e.Text, "bubble ") {
			if seen++; e.Text != fmt.Sprintf("bubble %d", seen) {
				t.Fatalf("line %d is %q", seen, e.Text)
			}
		}
	}, nil))(t)
	if seen != lines || end.Outcome != "cancelled" {
		t.Errorf("%d lines of %d were seen; it ended %s", seen, lines, end.Outcome)
	}
	if n := strings.Count(w.logText(id), "bubble "); n != lines {
		t.Errorf("its log has %d lines of %d", n, lines)
	}
}

// TestDriftAsAJob: many devices are judged as a job that can be watched; what it
// says holds no configuration.
func TestDriftAsAJob(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	yes := true
	for _, p := range w.fleet.places {
		w.pull(p.Name)
		if p.Name != "callowmere-r1" {
			must(w.admin.SetMark(ctx(t), p.Name+"@1", client.Mark{Baseline: &yes}))(t)
		}
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "nobody said so"`)
	out, said, status := w.cli("job", "ask", "drift", "--with", "selector=all", "--with", "live=yes")
	if status != 0 || !strings.Contains(out, "3 devices judged: 1 in sync, 1 drifted, 1 without a baseline, 0 not known") {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	id := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "drift", Limit: 1}))(t).Items[0].ID
	shown, _, _ := w.cli("job", "show", id)
	if !strings.Contains(shown, r1+"/running has drifted: 1 line differs") && !strings.Contains(shown, "lines differ") || strings.Contains(shown, "nobody said so") {
		t.Errorf("shown as\n%s", shown)
	}
	for with, says := range map[string]string{"selector=": "without devices", "live=maybe": "without devices", "selector=site=": "without devices"} {
		if _, said, status := w.cli("job", "ask", "drift", "--with", with); status != 2 || !strings.Contains(said, says) {
			t.Errorf("%s: status %d, %s", with, status, said)
		}
	}
	if _, said, _ := w.cli("job", "ask", "drift", "--with", "selector=all", "--with", "live=maybe"); !strings.Contains(said, "live=maybe: it is yes, or left out") {
		t.Error(said)
	}
}
