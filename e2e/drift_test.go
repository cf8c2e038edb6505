package e2e

import (
	"net/url"
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
	b.do(chromedp.Click(`input[aria-label="pick ` + other + `"]`))
	b.more("With 1 picked", "Acknowledge 1 picked")
	b.fill(`input[name=reason]`, "the gate is under repair")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`))
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
	b.do(chromedp.Click(`button[aria-label="Have ` + other + ` count again"]`))
	b.see("2 drifted")
	b.do(chromedp.Click(`input[aria-label="pick ` + other + `"]`))
	b.more("With 1 picked", "Accept as baseline, of 1 picked")
	b.click("Approve")
	b.see("1 device is judged by it from now on")
	b.do(chromedp.Click(`[role=dialog] button[aria-label="Close"]`))
	b.see("1 drifted")
	b.more("With all", "Put all 1 drifted back")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`))
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
		b.do(chromedp.Click(`[role=dialog] button[type=submit]`))
	}
	b.allows("404")
	rule("clocks", "must", "clock / mark 192.0.2.77", "nosuch")
	b.see("nosuch")
	b.fill(`input[name=rule-of]`, "kind=router")
	b.do(chromedp.Click(`[role=dialog] button[type=submit]`))
	b.see("2 lines missing on 2 of 2 devices")
	b.open("/drift")
	b.see("2 drifted")
	b.see("rule clocks")
	amend(r1, "clock", "mark 192.0.2.77")
	b.see("1 line off " + r1 + "@1") // the baseline has no such line
	b.open("/drift?tab=rules")
	rule("marks", "noise", "clock / mark {address}", "all")
	b.see("left aside on 2 of 2 devices")
	b.open("/drift")
	b.see("1 drifted")
	b.open("/compare?from=" + url.QueryEscape(r1+"@1") + "&to=" + url.QueryEscape(r1+"@latest"))
	b.see("by rule marks")
	b.key("a")
	b.see("mark 192.0.2.77")
	b.open("/drift?tab=rules")
	b.do(chromedp.Click(`button[aria-label="Remove clocks"]`))
	b.do(chromedp.WaitNotPresent(`button[aria-label="Remove clocks"]`))
	b.open("/drift")
	b.see("Nothing has drifted")
}
