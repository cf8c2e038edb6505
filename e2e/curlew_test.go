package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/sim"
)

// TestLineRouter: a device whose lines go away in ways of their own, whose line editor
// eats characters, that has no serial number, and that says nothing to a line which it
// accepts: changed by hand, it is put back exactly, and what is refused is told in all
// its words.
func TestLineRouter(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("curlew"))
	const name = "callowmere-c1"
	if j := w.pull(name); j.Outcome != "done" {
		t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	d := must(w.admin.Device(ctx(t), name))(t)
	if d.Serial != w.fleet.status(name).Serial || d.Model != "Curlew L2" || d.Release != "6.3" {
		t.Errorf("it is taken for %s, %s, %s", d.Serial, d.Model, d.Release)
	}
	before := w.fleet.running(name)
	if !strings.Contains(before, "who is next?") || !strings.Contains(before, "control centre!") {
		t.Fatalf("nothing here is eaten by a line editor:\n%s", before)
	}
	changes := strings.Split("call callowmere-c9|answer pings|strike ask 10.30.0.5|"+
		"gate quay|strike rung 10|rung 15 lets tcp any to any|strike rung 30|end|"+
		"pier 1|strike gate in|says nothing|end|pier 2|strike carries as first|end|pier 1|strike carries as first|carries 10.16.2.1/24 as first|end|pier 2|lit|says something else|end|"+
		"choice main|strike when 10.30.0.0/16|when 10.30.0.0/16 take pier 1|otherwise pass|end|"+
		"strike watch pier 1|strike path 10.30.0.0/16 over 10.16.2.254|strike beacon", "|")
	w.fleet.amend(name, "mwilks", changes...)
	p := w.preview(client.NewPreview{Ref: name + "@1"})
	if len(p.Remaining) > 0 || len(p.Warnings) > 0 {
		t.Errorf("%+v, %q", p.Remaining, p.Warnings)
	}
	if notes := strings.Join(p.Notes, "\n"); !strings.Contains(notes, "choice main: it is built anew beside, as main-beside, to which its uses point until it stands again; there is no moment without it") {
		t.Error(notes)
	}
	// A person can choose otherwise.
	if p := w.preview(client.NewPreview{Ref: name + "@1", InPlace: true}); !p.InPlace || p.Beside || strings.Contains(strings.Join(p.Notes, "\n"), "beside") || !strings.Contains(strings.Join(p.Notes, "\n"), "in between it is incomplete") {
		t.Errorf("in place: %+v", p.Notes)
	}
	if out, _, status := w.cli("push", name+"@1", "--preview", "--in-place"); status != 0 || strings.Contains(out, "beside") {
		t.Errorf("%d: %s", status, out)
	}
	if j := w.push(name + "@1"); j.Outcome != "verified" {
		t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if after := w.fleet.running(name); after != before {
		t.Errorf("it runs\n%s\nand ran\n%s", after, before)
	}
	// What it does not accept it says in words of its own, in two lines.
	text := must(w.admin.Text(ctx(t), name+"@1"))(t).Text
	v := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: name + "@1", Text: strings.Replace(text, "  never lit\n", "  never lit\n  gate out nowhere\n", 1), Override: "to see what is said", Note: "a gate that is nowhere"}))(t)
	j := w.push(v.Ref)
	if j.Outcome != "undone" || j.Push.Refused == nil || j.Push.Refused.Answer != "there is no gate nowhere / nothing was changed" {
		t.Errorf("%s: %s, %+v", j.Outcome, j.Summary, j.Push.Refused)
	}
	if after := w.fleet.running(name); after != before {
		t.Errorf("after the refusal it runs\n%s", after)
	}
	// Of what no rule speaks the preview says that it is assumed, and counts it.
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		t.Fatal(err)
	}
	must(w.admin.LoadDialect(ctx(t), "curlew.yaml", strings.Replace(string(src), "  - {path: 'ask {address}', sequence: ask}\n", "", 1)))(t)
	w.fleet.amend(name, "mwilks", "strike ask 10.30.0.6", "pier 1", "says less", "end")
	p = w.preview(client.NewPreview{Ref: name + "@1"})
	if p.Assumed != 1 || p.Lines != 3 {
		t.Errorf("%d of %d lines are assumed", p.Assumed, p.Lines)
	}
	if out, _, _ := w.cli("push", name+"@1", "--preview"); !strings.Contains(out, "ask 10.30.0.6   (assumed)") || !strings.Contains(out, "if the assumed line does what most lines do") {
		t.Error(out)
	}
}

// TestWhatCannotBeRead: a stretch that the grammar cannot read costs only itself. The pull
// says so, what can be read is pushed, nobody without the right to secrets sees the rest, and
// a push that would have to touch it is refused before anything is sent.
func TestWhatCannotBeRead(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("curlew"))
	const name = "callowmere-c1"
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		t.Fatal(err)
	}
	half := strings.Replace(string(src), `|choice \S+)$`, `)$`, 1)
	file := filepath.Join(w.dir, "half.yaml")
	if err := os.WriteFile(file, []byte(half), 0o600); err != nil {
		t.Fatal(err)
	}
	at := w.fleet.place(name)
	shown := must(w.admin.Probe(ctx(t), "", at.Address, at.Port))(t)
	if out, said, status := w.cli("dialect", "try", file, "--address", at.Address, "--port", fmt.Sprint(at.Port), "--user", sim.ServiceUser, "--accept-key", shown.Fingerprint); status != 0 ||
		!strings.Contains(out, `1 line that the grammar cannot read; line `) || !strings.Contains(out, "3 lines that no rule speaks of; the first: when 10.30.0.0/16 take pier 2") {
		t.Errorf("%d: %s%s", status, out, said)
	}
	must(w.admin.LoadDialect(ctx(t), "curlew.yaml", half))(t)
	j := w.pull(name)
	if log := w.logText(j.ID); j.Outcome != "done" || !strings.Contains(log, "1 line cannot be read as dialect curlew says, the first is line ") || !strings.Contains(log, `"end" closes a block, and none is open`) {
		t.Fatalf("%s\n%s", j.Outcome, log)
	}
	before := w.fleet.running(name)
	w.fleet.amend(name, "mwilks", "pier 1", "says less", "end")
	if j := w.push(name + "@1"); j.Outcome != "verified" || w.fleet.running(name) != before {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if got := must(w.addUser("shortsighted", "reader").Text(ctx(t), name+"@1"))(t); !strings.Contains(got.Text, "‹a line that the dialect cannot read›") || strings.Contains(got.Text, "take pier") || !strings.Contains(got.Text, "ask 10.30.0.5") {
		t.Error(got.Text) // what no rule speaks of may stand in the wrong block
	}
	w.fleet.amend(name, "mwilks", "strike at pier 1 choice", "strike choice main")
	if _, said, status := w.cli("push", name+"@1", "--preview"); status == 0 || !strings.Contains(said, "cannot be read as dialect curlew says") || !strings.Contains(said, "nothing was sent") {
		t.Errorf("%d: %s", status, said)
	}
}

// TestOnePartMissing: a part that cannot be had does not cost the others. The pull keeps what
// it got, ends failed, and says which part is missing and why; a push is not begun without it.
func TestOnePartMissing(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	lost := strings.Replace(string(src), "command: recite startup", "command: recite begin", 1)
	if lost == string(src) {
		t.Fatal("the dialect was not changed")
	}
	must(w.admin.LoadDialect(ctx(t), "tern.yaml", lost))(t)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	j := w.pull(r1)
	if j.Outcome != "failed" || !strings.Contains(j.Summary, "running 2 (+1 −1)") || !strings.Contains(j.Summary, "startup cannot be had: ") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "pull failing" || d.Latest != 2 || !strings.Contains(d.Trouble, "startup cannot be had") {
		t.Errorf("%s, %d: %s", d.State, d.Latest, d.Trouble)
	}
	before := w.fleet.running(r1)
	if _, said, status := w.cli("push", r1+"@1", "--yes"); status == 0 || w.fleet.running(r1) != before {
		t.Errorf("%d: %s", status, said)
	}
	// Put right, the next pull says so.
	must(w.admin.LoadDialect(ctx(t), "tern.yaml", string(src)))(t)
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State == "pull failing" || d.Trouble != "" {
		t.Errorf("%s: %s", d.State, d.Trouble)
	}
}

// TestExact: of a part that is kept by hand every byte counts.
func TestExact(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if j := w.pull(r1); !strings.Contains(j.Summary, "running 1") {
		t.Fatal(j.Summary)
	}
	exact := strings.Replace(string(src), "\nparts:\n  running:\n", "\nparts:\n  running:\n    exact: true\n", 1)
	if exact == string(src) {
		t.Fatal("the dialect was not changed")
	}
	must(w.admin.LoadDialect(ctx(t), "tern.yaml", exact))(t)
	head := func(ref string) string { return strings.SplitN(must(w.admin.Text(ctx(t), ref))(t).Text, "\n", 2)[0] }
	first := head(r1 + "@1")
	eventually(t, "the time of day in its head is another one", func() bool {
		return w.pull(r1).Outcome == "done" && head(r1+"@latest") != first
	})
	d := must(w.admin.Diff(ctx(t), r1+"@1", r1+"@latest", 0, false))(t)
	if d.Relation != "different" || !strings.Contains(d.Unified, "+.. running of ") {
		t.Errorf("%s\n%s", d.Relation, d.Unified)
	}
	yes := true
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &yes}))(t)
	drift := must(w.admin.Drift(ctx(t), []string{r1}, false))(t)
	if len(drift) != 1 || drift[0].State != "drifted" || len(drift[0].Differences) < 2 || !strings.HasPrefix(drift[0].Differences[0].Have, ".. running of ") {
		t.Errorf("%+v", drift)
	}
}
