package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"magpie/client"
)

// TestConsoleNoHarm: what is mistyped chooses no device; what a device asks for next is in sight at every width; what a
// second person has to approve is asked for there; what waits is told on every page; and what was undone is said to be.
func TestConsoleNoHarm(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull(r1)
	w.pull(other)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	w.pull(r1)
	w.sql("UPDATE devices SET state = 'hardware changed', trouble = 'hardware changed: another unit answers there, with the serial number TN4-5AFE01 instead of TN4-000001, and it was not pulled' WHERE name = '" + other + "'")
	w.addUser("okonkwo", "operator")
	b := newBrowser(t, w.url)
	b.signIn("okonkwo", "words for okonkwo")
	b.size(1280, 800, "light")

	b.open("/?select=" + "sit%3Dskerrinsay")
	b.see("so no device is chosen")
	b.see("0 of 2")
	if text := b.text(); strings.Contains(text, "Pull all") || strings.Contains(text, "Pull 0") {
		t.Errorf("something can be done to what is mistyped:\n%s", text)
	}
	b.open("/?select=spare%3Dno")
	b.see("2 of 2")
	for _, width := range []int64{1280, 1024, 820} {
		b.size(width, 800, "light")
		b.see("swap it in")
		eventually(t, fmt.Sprintf("at %d what is to be done is whole", width), func() bool {
			return js[bool](b, `(() => { const a = [...document.querySelectorAll('a')].find((a) => a.innerText === 'swap it in')
				const r = a?.getBoundingClientRect()
				return !!r && a.contains(document.elementFromPoint(r.x + r.width - 2, r.y + r.height - 2)) && a.scrollWidth <= a.clientWidth + 1 })()`)
		})
	}
	b.size(1280, 800, "light")

	// A second person: said in the preview, asked for on the page, and told to whoever may give it.
	rule := must(w.admin.AddApproval(ctx(t), []string{r1}))(t)
	b.open("/push?ref=" + r1 + "@1")
	b.see("A second person has to approve it")
	b.do(chromedp.WaitVisible(`input[name=confirm]`, often))
	b.click("Ask for approval")
	b.send(r1)
	b.see("Shall this push be done?")
	b.see("1 waits")
	if said, _, _ := w.cli("push", r1+"@1", "--preview"); !strings.Contains(said, "a second person has to approve it ("+r1+")") {
		t.Errorf("the command line says\n%s", said)
	}
	second := newBrowser(t, w.url)
	second.signIn("admin", w.firstPassword())
	second.size(1280, 800, "light")
	second.see("1 waits")
	second.more("1 waits", "push of "+r1+" waits for approval")
	second.click("Approve it")
	eventually(t, "it is pushed", func() bool { return !strings.Contains(w.fleet.running(r1), "by hand") })
	b.see("approved by")
	if err := w.admin.RemoveApproval(ctx(t), rule.ID); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is confirmed", func() bool {
		j := must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "push", Device: r1}))(t).Items[0]
		if j.State == "waiting" && j.Decision == "" {
			must(w.admin.Say(ctx(t), j.ID, "confirm", ""))(t)
		}
		return j.State == "ended"
	})

	// Undone: it is said what runs now, and nothing more is offered.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "once more"`)
	w.pull(r1)
	held := w.parked(w.within("5m", r1+"@1").ID)
	second.open("/jobs/" + held.ID)
	second.click("Undo it now")
	second.see("it runs again, and what ran meanwhile is kept as")
	if text := second.text(); strings.Contains(text, "Undo: put") || strings.Contains(text, "what runs now as") {
		t.Errorf("the page of what was undone says\n%s", text)
	}

	// One version is deleted by who types it and says why; what keeps it is said.
	doomed := w.versions(r1)[1]
	second.open("/version?ref=" + doomed.Ref)
	for _, pinned := range []bool{true, false} {
		must(w.admin.SetMark(ctx(t), doomed.Ref, client.Mark{Pin: &pinned}))(t)
		second.allows("409")
		second.allows("404 (Not Found) " + w.url + "/api/v1/version?ref=") // the page may be asking when it goes
		if pinned {
			second.more("More", "Delete this version")
			second.fill(`input[name=reason]`, "a wrong one")
			second.fill(`input[name=confirm]`, doomed.Ref)
		}
		second.click("Delete it")
		if pinned {
			second.see("pinned")
		}
	}
	second.see(doomed.Ref + " was deleted.")
	second.click("Close")
	second.see("Timeline")
	if slices.ContainsFunc(w.versions(r1), func(v client.Version) bool { return v.ID == doomed.ID }) {
		t.Errorf("%s is still there", doomed.Ref)
	}

	// Checks are made by themselves, and once more, compared.
	second.open("/devices/" + r1 + "?tab=checks")
	second.fill(`textarea[name=checks-now]`, "state lanes")
	second.click("Check now")
	second.see("state lanes")
	second.see("✓ good")
	second.click("Check again, and compare")
	second.see("compared with the earlier look")
	eventually(t, "what was is there beside what is", func() bool { return strings.Count(second.text(), "✓ good") == 2 })

	// A restore whose pushes wait is not over, and tells how long.
	look := w.end(must(w.admin.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{r1}, Which: "1"}))(t).ID)
	restore := must(w.admin.NewRestore(ctx(t), client.NewRestore{RestorePreview: look.ID, Within: "5m"}, ""))(t)
	second.open("/jobs/" + restore.ID)
	second.see("1 push waits to be confirmed and goes back by itself then.")
	second.do(chromedp.WaitVisible(`[role=timer]`, often))
	second.see("waiting")
	second.click("Keep all")
	second.see("● done")
}

// TestConsoleEntry: the console changes where a device is, once its key was looked at; marks it as a spare; removes it;
// and brings it back.
func TestConsoleEntry(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	at, other := w.fleet.place(r1), w.fleet.places[1]
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.size(1280, 800, "light")
	b.allows("502") // nothing answers at the first address
	b.allows("409") // another device is at the second
	b.allows("404") // its lists are asked for once more as it is removed
	b.open("/devices/" + r1)
	b.more("More", "Change what is registered")
	b.fill(`input[name=entry-address]`, "127.0.0.1")
	b.fill(`input[name=entry-port]`, "1")
	b.click("Look what answers there")
	b.see("127.0.0.1")
	b.fill(`input[name=entry-address]`, other.Address)
	b.fill(`input[name=entry-port]`, fmt.Sprint(other.Port))
	b.click("Look what answers there")
	b.see("It shows another key")
	b.do(chromedp.Click(`[role=dialog] input[name=entry-spare]`, often))
	b.click("Accept the key and save")
	b.see("registered") // the other device is at that address already
	if d := must(w.admin.Device(ctx(t), r1))(t); d.Address != at.Address || d.Spare {
		t.Errorf("two devices at one address: %+v", d)
	}
	b.fill(`input[name=entry-address]`, at.Address)
	b.fill(`input[name=entry-port]`, fmt.Sprint(at.Port))
	b.do(chromedp.Click(`[role=dialog] input[name=entry-key]`, often))
	b.click("Look what answers there")
	b.see("It shows the key that was accepted.")
	b.click("Accept the key and save")
	eventually(t, "it is a spare", func() bool { return must(w.admin.Device(ctx(t), r1))(t).Spare })
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))

	b.more("More", "Remove it")
	b.see("It is visited no more")
	b.fill(`input[name=confirm]`, r1)
	b.click("Remove it")
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	if _, err := w.admin.Device(ctx(t), r1); !client.IsStatus(err, 404) {
		t.Errorf("it is there still: %v", err)
	}
	b.open("/settings?tab=inventory")
	b.see("Removed devices")
	b.click("Bring it back")
	b.see("Pull now")
	if v := w.versions(r1); len(v) != 1 {
		t.Errorf("it came back with %d versions", len(v))
	}

	// Whoever else signs in where a session ran out does nothing of what the one before asked for.
	w.addUser("okonkwo", "operator")
	b.sql(w, "admin")
	b.click("Pull now")
	b.see("Your session has run out")
	b.fill(`[role=dialog] input[name=user]`, "okonkwo")
	b.fill(`[role=dialog] input[name=password]`, "words for okonkwo")
	b.allows("401")
	b.do(chromedp.Click(`[role=dialog] button.button-main`, often))
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	time.Sleep(300 * time.Millisecond) // what must not come would have come by then
	for _, j := range must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "pull", Device: r1}))(t).Items {
		if j.Actor == "okonkwo" {
			t.Errorf("okonkwo pulled it, who asked for nothing: %+v", j)
		}
	}
}

// sql ends a user's sessions behind the browser's back.
func (b *browser) sql(w *world, user string) {
	b.t.Helper()
	b.allows("401")
	w.sql("DELETE FROM tokens WHERE kind = 'session' AND user_id IN (SELECT id FROM users WHERE name = '" + user + "')")
}
