package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"magpie/client"
)

// TestConsolePlans: a push is planned, approved by a second person and done; a
// staged one waits for its restart; a snapshot is made and put back; a restore test is
// held; a bootstrap sheet says its secrets when asked: all in the console.
func TestConsolePlans(t *testing.T) {
	t.Parallel()
	w := demoWorld(t)
	b := newBrowser(t, w.url)
	b.signIn("admin", "demo-admin-1")
	must(w.admin.AddApproval(ctx(t), []string{"name=port-asterly-r1"}))(t)

	// Planned; not to be approved by whoever planned it.
	b.open("/push?ref=port-asterly-r1@baseline")
	b.see("lines to send")
	b.do(chromedp.Click(`input[name=later]`, often))
	local := func(in time.Duration) string {
		return js[string](b, `new Date(Date.now() - new Date().getTimezoneOffset()*60000 + `+fmt.Sprint(in.Milliseconds())+`).toISOString().slice(0,16)`)
	}
	js[bool](b, `(e => { e.value = "`+local(-time.Minute)+`"; return e.dispatchEvent(new Event('input', {bubbles: true})) })(document.querySelector('input[name=from]'))`)
	js[bool](b, `(e => { e.value = "`+local(10*time.Minute)+`"; return e.dispatchEvent(new Event('input', {bubbles: true})) })(document.querySelector('input[name=until]'))`)
	b.choose(`select[name=within]`, "")
	b.send("port-asterly-r1")
	b.see("Shall this push be done?")
	b.see("asked for by the rule name=port-asterly-r1")
	b.allows("403")
	b.click("Approve it")
	b.see("you planned it yourself")
	id := strings.TrimPrefix(b.at(), "/jobs/")
	must(w.as("okonkwo", "demo-okonkwo-1").Approve(ctx(t), id, must(w.admin.Job(ctx(t), id))(t).Plan.Preview))(t)
	b.see("approved by okonkwo")
	b.see("pulled again and compared")
	if d := must(w.admin.Device(ctx(t), "port-asterly-r1"))(t); d.State != "in sync" || d.LastProven == nil {
		t.Errorf("it is %s, last proven %v", d.State, d.LastProven)
	}

	// By way of startup, and the restart when a person says so.
	b.open("/push?ref=callowmere-sw1@baseline")
	b.see("lines to send")
	b.click("stage instead")
	b.see("writing startup and restarting into it")
	b.do(chromedp.Click(`input[name=hold-restart]`, often))
	b.choose(`select[name=within]`, "")
	b.send("callowmere-sw1")
	b.see("May the device be restarted?")
	b.click("Restart it now")
	b.see("Verified: the device was pulled again")

	b.click("Snapshots")
	b.fill(`input[name=name]`, "this-evening")
	b.fill(`input[name=selector]`, "site=callowmere")
	b.click("Make it")
	b.see("Put all of it back…")
	b.click("Put all of it back…")
	b.see("runs callowmere-r1@2 already")

	b.open("/devices/innisquill-sw1")
	b.more("More", "Make a restore test…")
	b.click("See what it takes") // the only switch that is marked as a spare is chosen; others are not offered
	b.see("to port-asterly-sw1. For a while it runs innisquill-sw1@")
	b.fill(`input[name=confirm]`, "innisquill-sw1")
	if !js[bool](b, `document.querySelector('[role=dialog] button.button-main').disabled`) {
		t.Error("another name is enough")
	}
	b.fill(`input[name=confirm]`, "port-asterly-sw1")
	b.click("Make a restore test")
	b.see("was put on port-asterly-sw1 and proved")
	if d := must(w.admin.Device(ctx(t), "innisquill-sw1"))(t); !strings.Contains(d.Proven, "in a restore test on port-asterly-sw1") {
		t.Errorf("proven %q", d.Proven)
	}
	for _, name := range []string{"innisquill-sw1", "port-asterly-sw1"} {
		if j := w.pull(name); j.Outcome != "done" || must(w.admin.Device(ctx(t), name))(t).State != "in sync" {
			t.Errorf("%s after the restore test: %s", name, j.Summary)
		}
	}

	b.open("/bootstrap-sheet?ref=dunvarrow-r1")
	b.see("‹secret")
	b.do(chromedp.Click(`input[name=secrets]`, often))
	for end := time.Now().Add(20 * time.Second); strings.Contains(b.text(), "‹secret"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the secrets stay hidden")
		}
	}
	if jobs := must(w.admin.Jobs(ctx(t), client.JobFilter{State: "waiting", Limit: 10}))(t); len(jobs.Items) != 0 {
		t.Errorf("jobs still wait: %+v", jobs.Items)
	}
}
