package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/sim/tern"
)

// TestLearned: the rules of a family are forgotten, and drafted again from what its
// devices showed and from experiments on one of them, which then runs what it ran
// before. With the draft in the dialect's place a push ends equal. Who may not see
// secrets sees no draft.
func TestLearned(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("fulmar,gannet,skua,dunlin,petrel"))
	const p1, m1 = "skerrinsay-p1", "skerrinsay-m1"
	src, err := dialects.Files.ReadFile("fulmar.yaml")
	if err != nil {
		t.Fatal(err)
	}
	rules := regexp.MustCompile(`(?m)^rules:\n(?:  .*\n)*`)
	must(w.admin.LoadDialect(ctx(t), "fulmar.yaml", rules.ReplaceAllString(string(src), "")))(t)
	if out, _, status := w.cli("dialect", "learn", "fulmar", "--on", p1); status != 1 || !strings.Contains(out, "no version was read: pull a device of dialect fulmar first") {
		t.Errorf("%d: %s", status, out)
	}
	w.pull(p1)
	before := w.fleet.running(p1)
	log := filepath.Join(w.dir, "typed.log")
	if err := os.WriteFile(log, []byte("skerrinsay-p1 => amend\nskerrinsay-p1 =*> outlet 3\nskerrinsay-p1 =outlet*> drop state\nskerrinsay-p1 =outlet*> out\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	draft := filepath.Join(w.dir, "draft.yaml")
	if out, said, status := w.cli("dialect", "learn", "fulmar", "--on", p1, "--experiment", "--yes"); status != 2 || !strings.Contains(out+said, "is not marked as a spare") || w.fleet.running(p1) != before {
		t.Errorf("%d: %s%s", status, out, said)
	}
	w.spare(p1, "workshop-k1")
	out, said, status := w.cli("dialect", "learn", "fulmar", "--of", "dialect=fulmar", "--log", log, "--on", p1, "--experiment", "--yes", "--output", draft, "--note", "a new family")
	if status != 0 || !strings.Contains(out, "which runs again what it ran before, "+p1+"@1") || !strings.Contains(out, "about outlet {number} / feeds") {
		t.Fatalf("%d: %s%s", status, out, said)
	}
	if after := w.fleet.running(p1); after != before {
		t.Errorf("the unit runs\n%s\nand ran\n%s", after, before)
	}
	raw, err := os.ReadFile(draft)
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range []string{"{path: 'outlet {number} / feeds <text...>', overwrites: true}", "{path: 'watch / alarm {name}', sequence: 'alarm'}", "# not sure: it is the name in the prompt"} {
		if !strings.Contains(string(raw), rule) {
			t.Errorf("%s is missing in\n%s", rule, raw)
		}
	}
	for _, m := range regexp.MustCompile(`word kept (\S+);`).FindAllStringSubmatch(before, -1) {
		if strings.Contains(string(raw), m[1]) {
			t.Errorf("the draft quotes a secret, %s:\n%s", m[1], raw)
		}
	}
	must(w.admin.LoadDialect(ctx(t), "fulmar.yaml", rules.ReplaceAllString(string(src), "")+"\n"+string(raw)))(t)
	w.fleet.amend(p1, "mwilks", "outlet 2", "feeds something else", "out", "outlet 7", "state on", "out", "watch", "every 90", "out")
	if j := w.push(p1 + "@1"); j.Outcome != "verified" || w.fleet.running(p1) != before {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.fleet.running(p1))
	}
	jobs := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "learn"}))(t)
	reader := w.addUser("lookalike", "reader")
	if j := must(reader.Job(ctx(t), jobs.Items[0].ID))(t); j.Learned == nil || j.Learned.Draft != "" || j.Learned.Sure == 0 || !j.Learned.Whole {
		t.Errorf("%+v", j.Learned)
	}
	// On its page in the console, on a desk and on a phone.
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	for _, wide := range []int64{1280, 390} {
		b.size(wide, 800, "light")
		b.allows("/api/v1/events") // the service is stopped before the browser
		b.open("/jobs/" + jobs.Items[0].ID)
		b.see("The rules as drafted")
		b.see("{path: 'outlet {number} / feeds <text...>', overwrites: true}")
		b.shot(fmt.Sprintf("draft-%d", wide))
		for _, x := range b.clipped() {
			t.Errorf("at %d wide: %s", wide, x)
		}
	}
	var seen strings.Builder
	for _, e := range must(reader.Log(ctx(t), jobs.Items[0].ID, 0))(t) {
		seen.WriteString(e.Text + "\n")
	}
	if strings.Contains(seen.String(), "feeds switch") || !strings.Contains(seen.String(), "‹lines that were typed›") {
		t.Errorf("a reader sees what was typed:\n%s", seen.String())
	}
	if _, err := reader.Learn(ctx(t), "fulmar", client.NewLearn{Of: []string{p1}}, ""); err == nil {
		t.Error("a reader has things tried out")
	}

	// Documents: from the modules that the device shows.
	w.pull(m1)
	if out, _, status := w.cli("dialect", "learn", "gannet", "--on", m1); status != 0 || !strings.Contains(out, "{path: 'mast / feed {place} {number}', sequence: 'feed'}") {
		t.Errorf("%d: %s", status, out)
	}
	// Where nothing shows it, the draft is sure of nothing; where nothing can be read, there is none.
	for _, name := range []string{"control-w1", "workshop-g1", "workshop-k1"} {
		w.pull(name)
	}
	for _, c := range []struct {
		dialect, of, says string
		status            int
	}{
		{"skua", "control-w1", "{path: 'skua-wireless:settings / network {ssid}'}", 0},
		{"petrel", "workshop-k1", "{path: 'link {name} / address <address...>'}", 0},
		{"dunlin", "workshop-g1", "nothing in the files of dialect dunlin can be read", 1},
	} {
		out, said, status := w.cli("dialect", "learn", c.dialect, "--of", c.of)
		if status != c.status || !strings.Contains(out, c.says) || status == 0 && !strings.Contains(out, ": 0 sure, ") {
			t.Errorf("%s: %d: %s%s", c.dialect, status, out, said)
		}
	}
	if out, _, status := w.cli("dialect", "learn", "petrel", "--on", "workshop-k1", "--experiment", "--yes"); status != 1 || !strings.Contains(out, "they type lines") {
		t.Errorf("%d: %s", status, out)
	}
	for _, c := range []struct {
		says string
		args []string
	}{
		{"experiments need a unit", []string{"fulmar", "--of", p1, "--experiment", "--yes"}},
		{"is spoken to by dialect gannet", []string{"fulmar", "--on", m1}},
		{"no device was found", []string{"fulmar", "--of", "nobody"}},
		{"name devices whose versions are read", []string{"fulmar"}},
		{"no device chosen is spoken to by dialect tern", []string{"tern", "--of", p1}},
	} {
		if _, said, status := w.cli(append([]string{"dialect", "learn"}, c.args...)...); status == 0 || !strings.Contains(said, c.says) {
			t.Errorf("%q: %d: %s", c.args, status, said)
		}
	}
	// Cancelled in the midst: what is under way is undone, and nothing more is tried.
	w.fleet.amend(p1, "mwilks", "watch", "every 60", "out")
	before = w.fleet.running(p1)
	w.fleet.faults(p1, tern.Faults{SlowMS: 20})
	id := must(w.admin.Learn(ctx(t), "fulmar", client.NewLearn{Of: []string{p1}, On: p1, Experiment: true}, ""))(t).ID
	eventually(t, "things are tried out", func() bool { return strings.Contains(w.logText(id), "about outlet {number} / feeds") })
	must(w.admin.Cancel(ctx(t), id))(t)
	if j := w.end(id); j.Outcome != "cancelled" || w.fleet.running(p1) != before {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.fleet.running(p1))
	}
	// Killed in the midst: it is said that the unit may not be as it was, and how it is put right.
	id = must(w.admin.Learn(ctx(t), "fulmar", client.NewLearn{Of: []string{p1}, On: p1, Experiment: true}, ""))(t).ID
	eventually(t, "things are tried out", func() bool { return strings.Contains(w.logText(id), "drop watch") })
	w.kill()
	w.fleet.faults(p1, tern.Faults{})
	w.serve()
	j := w.end(id)
	put := regexp.MustCompile(`magpie push (\S+)$`).FindStringSubmatch(j.Summary)
	if j.Outcome != "unknown" || put == nil {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	sorted := func(text string) string { // blocks may have come back in another order
		l := strings.Split(text, "\n")
		slices.Sort(l)
		return strings.Join(l, "\n")
	}
	if j := w.push(put[1]); j.Outcome != "verified" && len(j.Push.Remaining) > 0 || sorted(w.fleet.running(p1)) != sorted(before) {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.fleet.running(p1))
	}
	if j := w.pull(p1); j.Outcome != "done" || must(w.admin.Device(ctx(t), p1))(t).State != "in sync" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}
