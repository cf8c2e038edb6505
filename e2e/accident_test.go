package e2e

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// TestNothingIsChosenByAccident: an empty word is never everything, a name that
// is nobody's never nothing, and each says what may have been meant.
func TestNothingIsChosenByAccident(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	changed(w)
	typed := w.fleet.status(r1).Typed
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"pull", ""}, "the word for the whole fleet is all"},
		{[]string{"pull", " "}, "the word for the whole fleet is all"},
		{[]string{"pull", r1, ""}, "the word for the whole fleet is all"},
		{[]string{"restore", "", "--to", "previous", "--yes"}, "the word for the whole fleet is all"},
		{[]string{"drift", ""}, "the word for the whole fleet is all"},
		{[]string{"device", "list", ""}, "the word for the whole fleet is all"},
		{[]string{"snapshot", "make", "x", ""}, "the word for the whole fleet is all"},
		{[]string{"approval", "add", ""}, "the word for the whole fleet is all"},
		{[]string{"pull", "all", "site=x"}, "nothing can stand beside it"},
		{[]string{"drift", "skerinsay-r1"}, "did you mean skerrinsay-r1?"},
		{[]string{"pull", "skerinsay-r1"}, "did you mean skerrinsay-r1?"},
		{[]string{"pull", r1, "skerinsay-r2"}, "nothing was done"},
		{[]string{"drift", "x*"}, `no device was found for "x*"`},
		{[]string{"device", "list", "site=nowhere"}, `no device was found for "site=nowhere"`},
		{[]string{"device", "list", "state=in-syn"}, "did you mean in-sync?"},
		{[]string{"device", "list", "kind=ruter"}, "did you mean router?"},
		{[]string{"device", "list", "dialect=turn"}, "did you mean tern?"},
		{[]string{"device", "list", "tags=x"}, "did you mean tag?"},
		{[]string{"device", "show", "skerinsay-r1"}, "did you mean skerrinsay-r1?"},
		{[]string{"versions", r1 + "/runing"}, "did you mean running?"},
		{[]string{"show", r1 + "/runing"}, "did you mean running?"},
		{[]string{"show", r1 + "@99"}, "not found"},
		{[]string{"job", "list", "--state", "runing"}, "did you mean running?"},
		{[]string{"job", "list", "--kind", "psuh"}, "did you mean push?"},
		{[]string{"job", "list", "--device", "skerinsay-r1"}, "did you mean skerrinsay-r1?"},
		{[]string{"job", "show", "zzzzzz"}, "not found"},
		{[]string{"restore", r1, "--to", "no-such-name"}, "nothing can be done for any of these devices"},
		{[]string{"pull", "state=unreachable"}, "picks no device"},
		{[]string{"dialect", "show", "turn"}, "did you mean tern?"},
		{[]string{"user", "edit", "amdin", "--role", "reader"}, "did you mean admin?"},
	} {
		out, said, status := w.cli(c.args...)
		if status != 2 || !strings.Contains(out+said, c.says) {
			t.Errorf("magpie %q: status %d\n%s%s", c.args, status, out, said)
		}
	}
	for _, body := range []string{`{"selector":[""]}`, `{"selector":[]}`, `{}`, `{"selector":[" "]}`} {
		if got, said := w.call("POST", "/pulls", w.admin.Token, []byte(body)); got != 400 {
			t.Errorf("%s: %d %s", body, got, said)
		}
	}
	if w.fleet.status(r1).Typed != typed {
		t.Error("something was done")
	}
	// By state, nobody is an answer; and the whole fleet has its word.
	if out, _, status := w.cli("device", "list", "state=unreachable"); status != 0 || !strings.Contains(out, "No devices") {
		t.Errorf("status %d\n%s", status, out)
	}
	if out, said, status := w.cli("pull", "all"); status != 0 || !strings.Contains(out, w.fleet.places[2].Name) {
		t.Errorf("all: status %d\n%s%s", status, out, said)
	}
	if out, _, status := w.cli("device", "list", "state=never-pulled"); status != 0 || !strings.Contains(out, "No devices") {
		t.Errorf("a state with a blank: status %d\n%s", status, out)
	}
}

// TestSmallWords: what a newcomer stumbled over on the command line.
func TestSmallWords(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("dunlin"))
	changed(w)
	w.pull("workshop-g1")
	// A useful preview is no failure.
	if out, said, status := w.cli("push", r1+"@1", "--preview"); status != 0 || !strings.Contains(out, "lines to send") {
		t.Errorf("preview: status %d\n%s%s", status, out, said)
	}
	if out, said, status := w.cli("restore", r1, "--to", "previous", "--preview"); status != 0 || !strings.Contains(out, "lines to send") {
		t.Errorf("restore preview: status %d\n%s%s", status, out, said)
	}
	for _, bad := range []string{"5x", "1s", "48h"} {
		if _, said, status := w.cli("push", r1+"@1", "--within", bad, "--preview"); status != 2 || !strings.Contains(said, "--within "+bad) {
			t.Errorf("--within %s: status %d, %s", bad, status, said)
		}
	}
	// The advice to take a window is for who took none.
	touched := w.preview(client.NewPreview{Ref: r1 + "@1"})
	const advice = "with --within TIME it goes back by itself"
	if out, _, _ := w.cli("push", r1+"@1", "--preview"); strings.Contains(out, advice) != touched.TouchesManagementPath || !touched.TouchesManagementPath {
		t.Errorf("without a window, touching the path %v:\n%s", touched.TouchesManagementPath, out)
	}
	if out, _, _ := w.cli("push", r1+"@1", "--within", "5m", "--preview"); strings.Contains(out, advice) || strings.Contains(out, "push it with a window") {
		t.Errorf("a window is advised where one is given:\n%s", out)
	}
	// A preview counts as it numbers, and so does the push.
	if p := w.preview(client.NewPreview{Ref: r1 + "@1"}); p.Lines != len(p.Steps) {
		t.Errorf("%d lines in %d steps", p.Lines, len(p.Steps))
	}
	// Times in a comparison's header are the reader's own.
	out, _, _ := w.cli("diff", r1+"@1", r1+"@2")
	at := must(w.admin.Text(ctx(t), r1+"@1"))(t).TakenAt
	if !strings.Contains(out, at.UTC().Format("2006-01-02 15:04:05")+" +0000") {
		t.Errorf("%s", out)
	}
	// A dash is standard output, byte for byte.
	if out, _, status := w.cli("show", r1+"@1", "-o", "-"); status != 0 || out != must(w.admin.Text(ctx(t), r1+"@1"))(t).Text {
		t.Errorf("-o -: status %d\n%s", status, out)
	}
	if _, err := os.Stat("-"); err == nil {
		t.Error("a file is named -")
	}
	// Help stands behind a name as well.
	if out, _, status := w.cli("push", r1, "--help"); status != 0 || !strings.Contains(out, "--within") {
		t.Errorf("help: status %d\n%s", status, out)
	}
	if out, _, _ := w.cli("pull", "--help"); !strings.Contains(out, "all is the whole fleet") {
		t.Errorf("selectors are not explained:\n%s", out)
	}
	// A snapshot takes the times that a restore takes.
	day := time.Now().UTC().Format("2006-01-02")
	for _, when := range []string{day, day + "T23:59", time.Now().UTC().Format(time.RFC3339)} {
		if _, said, status := w.cli("snapshot", "make", "at "+when[len(when)-4:], r1, "--at", when); status != 0 {
			t.Errorf("--at %s: %s", when, said)
		}
	}
	// A check that would check nothing says so.
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Checks: []string{"children"}}, ""); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "checks nothing") {
		t.Errorf("children of a device without any: %v", err)
	}
	// A job's beginning names it, when it is the beginning of one.
	jobs := must(w.admin.Jobs(ctx(t), client.JobFilter{Limit: 1}))(t).Items
	short := jobs[0].ID[:15]
	if out, said, status := w.cli("job", "show", short); status != 0 || !strings.Contains(out, jobs[0].ID) {
		t.Errorf("job show %s: status %d\n%s%s", short, status, out, said)
	}
	if _, said, status := w.cli("job", "show", jobs[0].ID[:4]); status != 2 || !strings.Contains(said, "more than one begins like that") {
		t.Errorf("status %d, %s", status, said)
	}
	// The same address twice takes a word; a file of devices says what it lacks.
	n := w.entry(w.fleet.place(r1), "tern")
	n.Name = "again"
	if _, err := w.admin.AddDevice(ctx(t), n); !client.IsStatus(err, 409) || !strings.Contains(err.Error(), r1+" is registered at") {
		t.Errorf("the same address twice: %v", err)
	}
	if tried := must(w.admin.Try(ctx(t), n))(t); !strings.Contains(strings.Join(tried.Warnings, "\n"), "is registered already, as "+r1) {
		t.Errorf("the same serial twice: %q", tried.Warnings)
	}
	n.Twice = true
	must(w.admin.AddDevice(ctx(t), n))(t)
	if j := w.pull("again"); !strings.Contains(w.logText(j.ID), "is that of "+r1+" too") {
		t.Errorf("%s", w.logText(j.ID))
	}
	file := filepath.Join(t.TempDir(), "devices.csv")
	put(t, file, "name,address,dialect,user,password\nquay-r9,127.0.0.9,tern,u,p\n")
	if out, said, status := w.cli("device", "import", file); status != 1 || !strings.Contains(out, "--accept-keys") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if out, _, _ := w.cli("device", "import", "--help"); !strings.Contains(out, "host_key") || !strings.Contains(out, "--accept-keys") {
		t.Errorf("%s", out)
	}
	// Advice after a refused shared login names the shared login.
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "shared", User: "nobody-there", Password: "x"}))(t)
	must(w.admin.AttachCredentialSet(ctx(t), "shared", []string{r1}))(t)
	if _, said, _ := w.cli("pull", r1); !strings.Contains(said, "magpie credential edit shared --password") {
		t.Errorf("%s", said)
	}
}

// TestUnlikelyTexts: a text that hardly is the device's is not kept without a
// reason, and what would cut the service off says so wherever it is pushed.
func TestUnlikelyTexts(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull(r1)
	w.pull(other)
	own, foreign := must(w.admin.Text(ctx(t), r1+"@1"))(t).Text, must(w.admin.Text(ctx(t), other+"@1"))(t).Text
	noAccount := strings.Replace(own, "crew magpie\n", "crew somebody\n", 1)
	if noAccount == own {
		t.Fatalf("no account to take away:\n%s", own)
	}
	half := own[:strings.LastIndex(own[:len(own)*2/5], "\n")+1]
	for what, c := range map[string]struct{ text, says string }{
		"nothing":                {"\n", "says nothing at all"},
		"a comment":              {".. nothing\n", "says nothing at all"},
		"another device's":       {foreign, "which is that of " + other},
		"without its account":    {noAccount, "takes away the account magpie"},
		"less than half of it":   {half, "lines, where the version it was made of has"},
		"what is no device's":    {"hello there\n", "it has no host name"},
		"without a way there is": {strings.Join(without(own, "berth", "course", "also-berth", "sieve in", "sieve out", "shut"), "\n") + "\n", "every line by which the device is reached"},
	} {
		_, err := w.admin.Edit(ctx(t), client.NewVersion{Ref: r1 + "@1", Text: c.text})
		if !client.IsStatus(err, 409) && !client.IsStatus(err, 400) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
	// With a reason it is kept, and the reason with it; pushing it asks again.
	v := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: r1 + "@1", Text: noAccount, Override: "we move to another account"}))(t)
	if !strings.Contains(v.Note, "we move to another account") || v.Aside != "edited" {
		t.Errorf("%+v", v)
	}
	p := w.preview(client.NewPreview{Ref: v.Ref})
	if !strings.Contains(strings.Join(p.Warnings, "\n"), "takes away the account magpie") {
		t.Errorf("pushing it says %q", p.Warnings)
	}
	if out, said, status := w.cli("edit", r1+"@1", "--file", "/dev/null"); status != 2 || !strings.Contains(said, "says nothing at all") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
}

// without is a text's lines but for those that begin with one of the words.
func without(text string, words ...string) (out []string) {
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		keep := true
		for _, w := range words {
			keep = keep && !strings.HasPrefix(strings.TrimSpace(l), w+" ") && strings.TrimSpace(l) != w
		}
		if keep {
			out = append(out, l)
		}
	}
	return out
}

// TestProvedThenSaved: startup is written when what runs is proved, and not
// before: what came out wrong is gone with a restart. A push in which a line was
// refused is never equal, even if what runs happens to be.
func TestProvedThenSaved(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	startup := w.fleet.startup(r1)
	steps := w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps
	w.fleet.faults(r1, tern.Faults{IgnoreLine: lastSet(steps)})
	end := w.push(r1 + "@1")
	if end.Outcome != "differs" || end.Push.Saved || w.fleet.startup(r1) != startup || !strings.Contains(end.Summary, "not saved to startup") {
		t.Errorf("a wrong result was saved: %s: %s", end.Outcome, end.Summary)
	}
	w.fleet.faults(r1, tern.Faults{})
	if end = w.push(r1 + "@1"); end.Outcome != "verified" || !end.Push.Saved || w.fleet.startup(r1) == startup {
		t.Errorf("%s: %s, saved %v", end.Outcome, end.Summary, end.Push.Saved)
	}
	log := w.logText(end.ID)
	if proved, saved := strings.Index(log, "pulling again, to verify it"), strings.Index(log, "saving to startup"); proved < 0 || saved < proved {
		t.Errorf("saved before it was proved:\n%s", log)
	}
	// A line is refused that somebody has set by then: both are said.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "one"`, "up", "lane quay2", "shut")
	w.pull(r1)
	steps = w.preview(client.NewPreview{Ref: r1 + "@1"}).Steps
	last := len(steps)
	line := strings.TrimSpace(steps[last-1].Lines[0])
	w.fleet.faults(r1, tern.Faults{HoldLine: 1, RefuseLine: last})
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	j := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Leave: true}, ""))(t)
	w.fleet.waitHolding(r1)
	w.fleet.amend(r1, "mwilks", steps[last-1].Block, line)
	w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
	if end = w.end(j.ID); end.Outcome != "refused" || !strings.Contains(end.Summary, "refused line") || !strings.Contains(end.Summary, "pulled again and compared") {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
}

// TestRestoreTestLeavesNoTrace: what a restore test puts on another device counts for nothing
// there, so that no push offers another device's configuration by accident.
func TestRestoreTestLeavesNoTrace(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	spare := w.fleet.places[1].Name
	w.pull(r1)
	w.fleet.amend(spare, "mwilks", "lane quay1", `note "before"`)
	w.pull(spare)
	w.fleet.amend(spare, "mwilks", "lane quay1", `note "now"`)
	w.pull(spare)
	before := must(w.admin.Text(ctx(t), spare+"@previous"))(t).Text
	w.spare(spare)
	if _, said, status := w.cli("restore-test", r1+"@1", "--on", spare, "--yes"); status != 0 {
		t.Fatalf("%s", said)
	}
	for which, want := range map[string]string{"@latest": `note "now"`, "@previous": `note "before"`} {
		if v := must(w.admin.Text(ctx(t), spare+which))(t); !strings.Contains(v.Text, want) || strings.Contains(v.Text, "name "+r1) {
			t.Errorf("%s%s is %d:\n%s", spare, which, v.Version.Number, v.Text)
		}
	}
	if after := must(w.admin.Text(ctx(t), spare+"@previous"))(t).Text; after != before {
		t.Error("@previous is another text after a restore test")
	}
	aside := 0
	for _, v := range w.versions(spare) {
		if v.Aside == "restore test" {
			aside++
			// By any road it is said whose it is.
			if p := w.preview(client.NewPreview{Ref: v.Ref}); !strings.Contains(strings.Join(p.Warnings, "\n"), "has the host name "+r1) {
				t.Errorf("pushing %s says %q", v.Ref, p.Warnings)
			}
		}
	}
	if aside != 1 {
		t.Errorf("%d versions are set aside", aside)
	}
	if d := must(w.admin.Device(ctx(t), spare))(t); d.State != "unsaved" && d.State != "in sync" {
		t.Errorf("afterwards the spare is %s: %s", d.State, d.Trouble)
	}
	w.pull(spare)
	if v := must(w.admin.Text(ctx(t), spare+"@latest"))(t); !strings.Contains(v.Text, `note "now"`) {
		t.Errorf("%s", v.Text)
	}
}

// TestAuditHasWhatWasDone: tries, looks and refusals stand in the log; that it was
// taken away shows, for good.
func TestAuditHasWhatWasDone(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	_, _ = w.admin.Try(ctx(t), w.entry(w.fleet.place(r1), "tern"))
	must(w.admin.Text(ctx(t), r1+"@1"))(t)
	must(w.admin.Text(ctx(t), r1+"@live"))(t)
	must(w.admin.Download(ctx(t), r1+"@1"))(t)
	source := must(w.admin.Dialect(ctx(t), "tern"))(t).Source
	_, _ = w.admin.TryDialect(ctx(t), client.DialectTrial{Source: source, Device: w.entry(w.fleet.place(r1), "tern")})
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "yard", User: "u", Password: "p"}))(t)
	wide := "kind=router"
	must(w.admin.EditCredentialSet(ctx(t), "yard", client.NewCredentialSet{Selector: &wide}))(t)
	callowmere, dunvarrow, yes := "callowmere", "dunvarrow", true
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Site: &callowmere, Tags: &[]string{"quay"}}))(t)
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Site: &dunvarrow, Tags: &[]string{"quay", "core"}}))(t)
	w.addUser("mwilks", "reader")
	must(w.admin.EditUser(ctx(t), "mwilks", client.NewUser{Role: "operator", Secrets: &yes}))(t)
	_, _ = (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: "admin", Password: "guess"})
	for range 20 {
		_, _ = (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: "somebody", Password: "guess"})
	}
	log, refused := "", 0
	for _, d := range must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 200))(t).Items {
		log += d.Action + ": " + d.Object + ": " + d.Detail + "\n"
		if d.Action == "sign-in refused" {
			refused++
		}
	}
	for _, deed := range []string{"device tried: " + r1 + ": 127.", "key asked for: ", "looked at live: " + r1, "secrets shown: " + r1 + "@1: ", "dialect tried: tern: 127.", `credential set changed: yard: selector kind=router`, "device edited: " + r1 + ": site callowmere", "device edited: " + r1 + `: site dunvarrow instead of callowmere, tags "quay, core" instead of "quay"`, "user edited: mwilks: role operator instead of reader, sees secrets yes instead of no", "host key SHA256:"} {
		if !strings.Contains(log, deed) {
			t.Errorf("the log lacks %q:\n%s", deed, log)
		}
	}
	if refused != 1 {
		t.Errorf("21 refused sign-ins have %d rows at once", refused)
	}
	for _, s := range secrets {
		if strings.Contains(log, s) {
			t.Errorf("the log holds %q", s)
		}
	}
	// All of it taken away shows, and goes on to show however much is done since.
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); !r.Sound {
		t.Fatalf("untouched: %+v", r)
	}
	for _, q := range []string{"DELETE FROM audit", "DELETE FROM audit_end"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); r.Sound || !strings.Contains(r.Trouble, "end mark is missing") {
		t.Errorf("taken away: %+v", r)
	}
	w.pull(r1)
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); r.Sound || !strings.Contains(r.Trouble, "had been removed") {
		t.Errorf("taken away and gone on with: %+v", r)
	}
}
