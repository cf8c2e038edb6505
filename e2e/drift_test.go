package e2e

import (
	"errors"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"magpie/client"
)

// TestConsoleDrift: each way into drift and out of it, by a device that is changed while the console is
// watched: off the baseline and back, acknowledged and counting again, another line beside what is known,
// accepted, put back, and by rules that people make.
func TestConsoleDrift(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	const other = "innisquill-r1"
	for _, d := range []string{r1, other} {
		w.pull(d)
		must(w.admin.SetMark(ctx(t), d+"@latest", client.Mark{Baseline: &[]bool{true}[0]}))(t)
	}
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.key("gi")
	b.see("Nothing has drifted")
	amend := func(device string, lines ...string) {
		t.Helper()
		w.fleet.amend(device, "mwilks", lines...)
		w.fleet.stow(device)
		w.pull(device)
	}
	// The page is not loaded anew: what happens is seen on it.
	amend(r1, "lane guest", "shut")
	b.see("1 drifted")
	b.see("by mwilks")
	b.see("in lane guest")
	amend(other, "lane guest", "shut", "up", "lane quay1", `note "gate"`)
	b.see("2 drifted")
	b.do(chromedp.Click(`input[aria-label="pick `+other+`"]`, often))
	b.more("With 1 picked", "Acknowledge 1 picked")
	b.fill(`input[name=reason]`, "the gate is under repair")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`, often))
	b.see("1 drifted, 1 acknowledged")
	b.see("the gate is under repair (admin)")
	amend(other, "lane quay2", `note "and the ramp"`)
	b.see("2 drifted")
	amend(other, "lane quay2", `note "gangway two, cameras"`)
	b.see("1 drifted, 1 acknowledged")
	b.open("/devices/" + other)
	b.see("drift acknowledged")
	b.open("/drift")
	b.see("1 drifted, 1 acknowledged")
	b.do(chromedp.Click(`button[aria-label="Have `+other+` count again"]`, often))
	b.see("2 drifted")
	b.do(chromedp.Click(`input[aria-label="pick `+other+`"]`, often))
	b.more("With 1 picked", "Accept as baseline, of 1 picked")
	b.click("Approve")
	b.see("1 device is judged by it from now on")
	b.do(chromedp.Click(`[role=dialog] button[aria-label="Close"]`, often))
	b.see("1 drifted")
	b.more("With all", "Put all 1 drifted back")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`, often))
	b.see("Push to 1 device")
	b.open("/drift")
	b.see("1 drifted")
	amend(r1, "lane guest", "cancel shut")
	b.see("Nothing has drifted")

	// Rules of people's own.
	b.click("Rules for lines")
	b.see("No rules yet")
	rule := func(name, kind, path, of string) {
		t.Helper()
		b.click("Add a rule")
		b.fill(`input[name=rule-name]`, name)
		b.choose(`select[name=rule-kind]`, kind)
		b.fill(`input[name=rule-path]`, path)
		b.fill(`input[name=rule-of]`, of)
		b.do(chromedp.Click(`[role=dialog] button[type=submit]`, often))
	}
	b.allows("404")
	rule("clocks", "required", "clock / mark 192.0.2.77", "nosuch")
	b.see("nosuch")
	b.fill(`input[name=rule-of]`, "kind=router")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`, often))
	b.see("2 lines missing on 2 of 2 devices")
	b.open("/drift")
	b.see("2 drifted")
	b.see("rule clocks")
	amend(r1, "clock", "mark 192.0.2.77")
	b.see("1 line off " + r1 + "@1") // the baseline has no such line
	b.open("/drift?tab=rules")
	rule("marks", "ignored", "clock / mark {address}", "all")
	b.see("left aside on 2 of 2 devices")
	b.open("/drift")
	b.see("1 drifted")
	b.open("/compare?from=" + url.QueryEscape(r1+"@1") + "&to=" + url.QueryEscape(r1+"@latest"))
	b.see("by rule marks")
	b.key("a")
	b.see("mark 192.0.2.77")
	b.open("/drift?tab=rules")
	b.do(chromedp.Click(`button[aria-label="Remove clocks"]`, often))
	b.do(chromedp.WaitNotPresent(`button[aria-label="Remove clocks"]`, often))
	b.open("/drift")
	b.see("Nothing has drifted")
}

// TestBaselineByTwo: where a second person is asked for, nobody says alone what a device is judged by; who asked
// cannot approve it, and what was pulled meanwhile is not approved with it.
func TestBaselineByTwo(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	const other = "innisquill-r1"
	for _, d := range []string{r1, other} {
		w.pull(d)
	}
	must(w.admin.AddApproval(ctx(t), []string{r1}))(t)
	one := w.addUser("okonkwo", "operator")
	w.addUser("mwilks", "operator")
	denied := func(err error, words string) {
		t.Helper()
		var p *client.Problem
		if !errors.As(err, &p) || p.Status != 403 || !strings.Contains(p.Detail, words) {
			t.Errorf("%v, want %q", err, words)
		}
	}
	_, err := one.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &[]bool{true}[0]})
	denied(err, "a second person")
	out := must(one.Baselines(ctx(t), client.NewBaselines{Selector: []string{"all"}}))(t)
	if len(out.Items) != 1 || out.Items[0].Device != other || out.Waiting != 1 || out.Job == "" {
		t.Fatalf("asked for: %+v", out)
	}
	eventually(t, "it waits", func() bool { return must(one.Job(ctx(t), out.Job))(t).Awaits == "agreement" })
	_, err = one.Say(ctx(t), out.Job, "approve", "")
	denied(err, "you asked for it yourself")
	w.fleet.amend(r1, "mwilks", "lane guest", "shut")
	w.pull(r1)
	w.kill()
	w.serve()
	if v := must(w.admin.Versions(ctx(t), r1, "", 0, 0))(t); v[0].Baseline || v[1].Baseline {
		t.Error("it is a baseline before anybody approved it")
	}
	one, two := w.as("okonkwo", "words for okonkwo"), w.as("mwilks", "words for mwilks")
	must(two.Say(ctx(t), out.Job, "approve", ""))(t)
	if j := w.end(out.Job); j.Outcome != "done" || !strings.Contains(j.Summary, "approved by mwilks") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if v := must(w.admin.Versions(ctx(t), r1, "", 0, 0))(t); v[0].Baseline || !v[1].Baseline {
		t.Error("not the version that was asked for")
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "drifted" {
		t.Errorf("it is %s", d.State)
	}
	again := must(one.Baselines(ctx(t), client.NewBaselines{Selector: []string{r1}}))(t)
	eventually(t, "it waits", func() bool { return must(one.Job(ctx(t), again.Job))(t).Awaits == "agreement" })
	must(two.Say(ctx(t), again.Job, "decline", ""))(t)
	if j := w.end(again.Job); j.Outcome != "cancelled" {
		t.Errorf("declined: %s, %s", j.Outcome, j.Summary)
	}
}

// TestEntryJudges: what is written in a device's entry is what it is judged by from then on: values that
// stand in a model, and what a rule's selector goes by.
func TestEntryJudges(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	file := filepath.Join(w.dir, "clocks.cfg")
	put(t, file, "clock\n  mark {{clock}}\n")
	for _, x := range []struct {
		does  []string
		state string
	}{
		{[]string{"device", "edit", r1, "--field", "clock=192.0.2.9"}, "in sync"},
		{[]string{"rule", "set", "clocks", "--template", file, "--of", r1}, "drifted"},
		{[]string{"device", "edit", r1, "--field", "clock=10.30.0.5"}, "in sync"},
		{[]string{"device", "tag", w.fleet.places[1].Name, "--add", "unclocked"}, "in sync"},
		{[]string{"rule", "set", "no-marks", "--forbidden", "clock / mark {address}", "--of", "tag=unclocked"}, "in sync"},
		{[]string{"device", "tag", r1, "--add", "unclocked"}, "drifted"},
		{[]string{"device", "edit", r1, "--note", "on the pier"}, "drifted"},
		{[]string{"device", "tag", r1, "--drop", "unclocked"}, "in sync"},
	} {
		if out, said, status := w.cli(x.does...); status != 0 {
			t.Fatalf("magpie %s: %s%s", strings.Join(x.does, " "), out, said)
		}
		if d := must(w.admin.Device(ctx(t), r1))(t); d.State != x.state {
			t.Errorf("after magpie %s it is %s, not %s", strings.Join(x.does, " "), d.State, x.state)
		}
	}
}
