package e2e

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

// addsDevice registers a place in the dialog that is open.
func (b *browser) addsDevice(p sim.Place, name string) {
	b.t.Helper()
	b.see("Look what answers there")
	b.see("Tern router")
	b.choose(`[role=dialog] select[name=dialect]`, "tern")
	for _, f := range [][2]string{{"name", name}, {"address", p.Address}, {"port", fmt.Sprint(p.Port)}, {"device-user", sim.ServiceUser}, {"device-password", sim.ServiceWord}, {"device-privileged", sim.MastWord}} {
		b.fill(`[role=dialog] input[name=`+f[0]+`]`, f[1])
	}
	for _, deed := range []string{"Look what answers there", "Accept the key and sign in once", "Save and pull"} {
		b.click(deed)
	}
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
}

// slash presses the key that leads to the box one looks for things in. The browser's
// protocol types the letter there too, which a keyboard does not.
func (b *browser) slash() {
	b.t.Helper()
	b.key("/")
	if !js[bool](b, `document.activeElement.type === 'search'`) {
		b.t.Fatalf("/ leads to %s", js[string](b, `document.activeElement.outerHTML`))
	}
	b.clear(`document.activeElement`)
}

// TestConsoleFirstRun: a new service leads to a first proof, without a terminal.
func TestConsoleFirstRun(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	places := w.fleet.places
	for _, p := range places {
		if err := w.admin.RemoveDevice(ctx(t), p.Name); err != nil {
			t.Fatal(err)
		}
	}
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.see("Four steps to a backup that is known to work")
	b.click("Add a device")
	b.addsDevice(places[0], places[0].Name)
	b.see("Its configuration is kept.")
	b.click("Make version 1 the baseline")
	b.see("@1 is the baseline")
	// Somebody is told when it fails, once a test of that came through.
	post := newPostOffice(t)
	post.open()
	b.click("Send mail when something fails")
	b.fill(`input[name=mail-server]`, post.address)
	b.fill(`input[name=mail-user]`, "magpie")
	b.fill(`input[name=mail-password]`, "a wrong word")
	b.fill(`input[name=mail-from]`, "magpie@ferries.example")
	b.paste(`textarea[name=mail-ca]`, post.ca)
	b.fill(`input[name=mail-to]`, "noc@ferries.example")
	b.click("Send a test, and keep it")
	b.see("✗ sign in as magpie")
	b.fill(`input[name=mail-password]`, mailWord)
	b.click("Send a test, and keep it")
	b.see("failures is told when it fails")
	if got := post.letters(); len(got) != 1 || !strings.Contains(got[0].subject, "a test") {
		t.Errorf("the test came as %+v", got)
	}
	b.see("None is known here.")
	b.click("Add a spare")
	b.addsDevice(places[1], places[1].Name)
	eventually(t, "the spare is pulled", func() bool { return must(w.admin.Device(ctx(t), places[1].Name))(t).Latest == 1 })
	b.click("See what it takes")
	b.fill(`input[name=confirm]`, places[1].Name)
	b.click("Make a restore test")
	b.see("was put on " + places[1].Name + " and proved")
	if d := must(w.admin.Device(ctx(t), places[0].Name))(t); d.LastProven == nil {
		t.Error("it is not proven")
	}
	// And from then on by itself.
	b.click("Schedules")
	b.click("Pull everything every night")
	b.see("2 devices now, due next")
	b.click("Keep it")
	b.see("pull, then drift")
	if x := must(w.admin.Schedule(ctx(t), "nightly"))(t); x.Rule != "daily 02:00" || len(x.Deeds) != 2 || x.Zone == "" || x.ChangedBy != "admin" {
		t.Errorf("kept as %+v", x)
	}
	w.fleet.faults(places[1].Name, tern.Faults{Down: true})
	w.end(must(w.admin.RunSchedule(ctx(t), "nightly", client.NewRun{}, "the night"))(t).ID)
	eventually(t, "the mail about the failure comes", func() bool { w.gathered(); return len(post.letters()) > 1 })
	w.fleet.faults(places[1].Name, tern.Faults{})
	b.open("/notifications?tab=messages")
	b.see("failed: " + places[1].Name)
	b.do(chromedp.Click(`.link`, often))
	b.see("Told by the rule failures")
	b.open("/schedules")
	b.click("Add a schedule")
	b.fill(`input[name=schedule-name]`, "often")
	b.choose(`select[name=schedule-form]`, "every")
	b.allows("400")
	b.fill(`input[name=schedule-span]`, "often")
	b.see("no length of time")
	b.fill(`input[name=schedule-span]`, "2h")
	b.see("nightly does pull of 2 of these devices too")
	b.click("Keep it")
	b.see("every 2h")
	b.do(chromedp.Click(`[aria-label="What to do with often"]`, often))
	b.click("Do it now")
	b.see("scheduled run of often")
	b.see("pull: 2 done")
	b.see("2 × pull")
	b.open("/schedules")
	b.do(chromedp.Click(`[aria-label="What to do with often"]`, often))
	b.click("Pause")
	b.see("paused")
	b.do(chromedp.Click(`[aria-label="What to do with often"]`, often))
	b.click("Forget it")
	b.do(chromedp.Click(`[role=dialog] button.button-main`, often))
	eventually(t, "it is forgotten", func() bool { return len(must(w.admin.Schedules(ctx(t)))(t)) == 1 })
	b.open("/")
	b.see("2 devices")
	if strings.Contains(b.text(), "Four steps") {
		t.Error("the first steps are done, and still asked for")
	}
}

// TestConsoleUndoes: a change is undone from the device's page, that push is taken back
// from its own page, and what ran at a time is put back by naming the time.
func TestConsoleUndoes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	original := w.fleet.running(r1)
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "crew visitor", "rank deck", "up", "lane quay1", `note "changed"`, "up", "course 198.51.100.0/24 via 10.1.12.9")
	w.fleet.stow(r1)
	w.pull(r1)
	amended := w.fleet.running(r1)
	then := w.versions(r1)[1].TakenAt
	runs := func(which, want string) {
		t.Helper()
		if got := w.fleet.running(r1); settled(got) != settled(want) {
			t.Errorf("%s is not what runs:\n%s", which, got)
		}
	}
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/devices/" + r1)
	b.more("More", "Put a version back…")
	b.see("Which version")
	b.fill(`input[name=ref]`, r1+"@previous")
	b.click("See what would be sent")
	b.see("to go ahead")
	b.see("Key facts that change")
	b.see("visitor") // whom the older version does not know
	b.choose(`select[name=within]`, "")
	b.send(r1)
	b.see("Verified: the device was pulled again")
	b.see("What changed on the device")
	runs("version 1", original)

	b.click("Undo: put " + r1)
	b.see("to go ahead")
	b.send(r1) // with a window this time, and left alone by its owner for that long
	b.see("unless it is confirmed")
	b.click("Keep it")
	b.see("Verified: the device was pulled again")
	runs("version 2", amended)

	b.open("/push")
	b.fill(`input[name=ref]`, r1+"@"+then.UTC().Add(time.Millisecond).Format(time.RFC3339Nano))
	b.click("See what would be sent")
	b.see("to go ahead")
	b.choose(`select[name=within]`, "")
	b.send(r1)
	b.see("Verified: the device was pulled again")
	runs("version 1 again", original)
	b.open("/devices/" + r1)
	b.see("in sync")

	// What changed is told from the version before that counts, and not from one that was taken in.
	counts := w.versions(r1)[0].Number
	file := filepath.Join(w.dir, "from-the-old-server.cfg")
	put(t, file, strings.Replace(w.show(r1), "lane ", "lane quay8\n  shut\nlane ", 1))
	if out, said, status := w.cli("import", file, "--device", r1); status != 0 {
		t.Fatalf("%s%s", out, said)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "changed once more"`)
	w.pull(r1)
	newest := w.versions(r1)[0]
	b.open("/version?ref=" + newest.Ref)
	b.see("What changed")
	link := fmt.Sprintf("/compare?from=%s@%d&to=%s", r1, counts, newest.Ref)
	eventually(t, "what changed to be told from "+link, func() bool {
		return js[bool](b, `[...document.querySelectorAll('a')].some(a => a.innerText === 'What changed' && a.getAttribute('href') === '`+link+`')`)
	})
	b.open("/devices/" + r1 + "?tab=versions")
	eventually(t, "so does the list", func() bool {
		return js[bool](b, `document.querySelector('a[aria-label="what changed in `+fmt.Sprint(newest.Number)+`"]')?.getAttribute('href') === '`+link+`'`)
	})
}

// TestConsoleSettings: a dialect is changed, what is wrong in it is said at its line, it
// is tried on a device and loaded; a shared login is changed and tried again; a user is
// added; and who did what to the device last week is read.
func TestConsoleSettings(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	p := w.fleet.place(r1)
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())

	b.open("/settings?tab=dialects")
	b.click("tern")
	eventually(t, "the file is there", func() bool {
		return js[bool](b, `(document.querySelector('textarea[name=dialect-source]')?.value ?? '').includes('How to speak to Tern routers')`)
	})
	write := func(change string) {
		js[bool](b, `(e => { e.value = `+change+`; return e.dispatchEvent(new Event('input', {bubbles: true})) })(document.querySelector('textarea[name=dialect-source]'))`)
	}
	write(`e.value.replace('initial_mode: deck', 'initial_modz: deck')`)
	b.see("line 11, in converse")
	b.see("initial_modz")
	b.click("line 11")
	if at := js[string](b, `(e => e.value.slice(e.selectionStart, e.selectionEnd).trim())(document.querySelector('textarea[name=dialect-source]'))`); at != "converse:" {
		t.Errorf("line 11 leads to %q", at)
	}
	write(`e.value.replace('initial_modz: deck', 'initial_mode: deck').replace('release 4', 'release 4, as we have it')`)
	b.see("Nothing is wrong in it.")
	b.click("Try it on a device…")
	for _, f := range [][2]string{{"address", p.Address}, {"port", fmt.Sprint(p.Port)}, {"user", sim.ServiceUser}, {"password", sim.ServiceWord}, {"privileged", sim.MastWord}} {
		b.fill(`input[name=trial-`+f[0]+`]`, f[1])
	}
	b.click("Look what answers there")
	b.click("Accept the key and try it")
	b.see("running: ")
	b.see("serial TN4-")
	b.do(chromedp.Click(`[aria-label=Close]`, often))
	b.click("Load it")
	b.see("Revision 2 of tern is in use")
	if d := must(w.admin.Dialect(ctx(t), "tern"))(t); !strings.Contains(d.Title, "as we have it") {
		t.Errorf("it is called %q", d.Title)
	}

	b.open("/settings?tab=credentials")
	b.see("No credential sets")
	b.click("Make a credential set")
	for _, f := range [][2]string{{"name", "yard"}, {"user", sim.ServiceUser}, {"password", "wrong"}, {"privileged", sim.MastWord}} {
		b.fill(`input[name=set-`+f[0]+`]`, f[1])
	}
	b.click("Make it")
	b.click("yard")
	b.fill(`input[name=attach]`, r1)
	b.click("Give it to them")
	b.see("1 device signs in as " + sim.ServiceUser)
	w.pulled(r1)
	b.do(chromedp.Click(`[aria-label=Close]`, often))
	b.see("refused by 1 device")
	b.more("What to do with yard", "Change it…")
	b.fill(`input[name=set-password]`, sim.ServiceWord)
	b.click("Change it")
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	b.see("accepted")
	if j := w.pulled(r1); j.Outcome != "done" {
		t.Errorf("with the right login: %s", j.Summary)
	}

	b.open("/settings?tab=users")
	b.click("Add a user")
	b.fill(`input[name=user-name]`, "mwilks")
	b.fill(`input[name=user-password]`, "a long word for mwilks")
	b.choose(`select[name=user-role]`, "operator")
	b.click("Keep")
	b.see("mwilks")
	// What an admin may is not written down as theirs: an admin no more, they do not see secrets.
	is := func() (u client.User) {
		for _, one := range must(w.admin.Users(ctx(t)))(t) {
			if one.Name == "mwilks" {
				u = one
			}
		}
		return u
	}
	for _, role := range []string{"admin", "operator"} {
		b.open("/settings?tab=users")
		b.click("Change mwilks")
		b.choose(`select[name=user-role]`, role)
		b.click("Keep")
		eventually(t, "they are "+role, func() bool { return is().Role == role })
	}
	if u := is(); u.Secrets || u.Granted {
		t.Errorf("%+v", u)
	}
	b.open("/settings?tab=tokens")
	b.click("Make a token")
	b.fill(`input[name=token-name]`, "nightly report")
	b.fill(`input[name=token-password]`, w.firstPassword())
	b.click("Make it")
	b.see("It is shown once, now.")
	b.click("Done")
	b.see("nightly report")
	b.open("/settings?tab=approvals")
	b.fill(`input[name=approval-selector]`, "kind=firewall")
	b.click("Ask for a second person")
	b.see("No longer")

	b.open("/devices/" + r1)
	b.more("More", "Who did what to it")
	b.see("Prove that it is whole")
	b.choose(`select[name=audit-days]`, "7")
	b.see("credential set attached")
	b.see(r1)
	b.click("Prove that it is whole")
	b.see("rows are as they were written")
	if strings.Contains(b.text(), "user added") {
		t.Error("what was done to others is listed too")
	}
}

// pulled pulls a device and returns what came of it, whatever that is.
func (w *world) pulled(name string) client.Job {
	w.t.Helper()
	jobs := must(w.admin.Pull(ctx(w.t), []string{name}, ""))(w.t)
	return must(w.admin.Watch(ctx(w.t), jobs[0].ID, nil, nil))(w.t)
}

// TestConsoleFinds: what the console picks is what the service picks; lists, palette and
// text are worked by keyboard alone; what is done in one browser shows in another.
func TestConsoleFinds(t *testing.T) {
	t.Parallel()
	w := demoWorld(t)
	b := newBrowser(t, w.url)
	b.signIn("admin", "demo-admin-1")
	b.see("29 devices")
	for _, sel := range []string{"site=skerrinsay", "name=*-r1", "kind=switch state=in-sync", "state=factory-defaults", "state=hardware?changed", "tag=*", "dialect=tern site=[a-d]*",
		"model=Tern-R4 site=control", "release=4.*", "name=ap-* name=control-*", "model=Skua-?2"} {
		want := must(w.admin.Devices(ctx(t), strings.Fields(sel)))(t)
		b.open("/?select=" + url.QueryEscape(sel))
		b.see(fmt.Sprintf("%d of 29", len(want)))
	}
	b.open("/")
	b.see("29 devices")
	// Plain words, then a word that is completed, then a facet.
	b.slash()
	b.key("razorbill")
	b.see("1 of 29")
	b.open("/")
	b.see("29 devices")
	b.slash()
	b.key("site=inn")
	b.see("site=innisquill")
	b.do(chromedp.Click(`//*[@role="option"][contains(., "site=innisquill")]`, often))
	b.see("2 of 29")
	b.click("Clear")
	b.click("drifted")
	b.see("4 of 29")
	// By site, with what each comes to.
	b.do(chromedp.Click(`input[name=by-site]`, often))
	b.do(chromedp.WaitVisible(`.is-group`, often))
	b.do(chromedp.Click(`input[name=by-site]`, often))
	// The list by keyboard: down, pick two, and on to the device.
	b.do(chromedp.Focus(`[role=row][tabindex="0"]`, often))
	b.key(" ")
	b.see("1 picked")
	b.key(kb.ArrowDown)
	b.key(" ")
	b.see("2 picked")
	b.more("More", "Tag 2 picked…")
	b.fill(`input[name=add]`, "storm-watch")
	b.click("Tag them")
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	b.open("/?select=tag%3Dstorm-watch")
	b.see("2 of 29")
	b.more("More", "Approve a baseline of all 2 listed…")
	b.click("Approve")
	b.see("2 devices are judged by it from now on")
	b.key(kb.Escape)
	b.see("in sync")
	b.do(chromedp.Focus(`[role=row][tabindex="0"]`, often))
	b.key(kb.Enter)
	b.see("Timeline")

	// Anything, by a few letters.
	for _, x := range [][2]string{{"skerr-r1", "/devices/skerrinsay-r1"}, {"skerrinsay-r1@summer", "/version?ref=skerrinsay-r1@4"}, {"audit", "/settings?tab=audit"}} {
		b.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(2)))
		b.do(chromedp.WaitVisible(`[role=dialog] input`, often))
		b.key(x[0])
		b.do(chromedp.WaitVisible(`[role=dialog] [role=option]`, often), chromedp.Sleep(500*time.Millisecond)) // what has to be asked for comes a moment later
		b.key(kb.Enter)
		eventually(t, x[0]+" leads to "+x[1], func() bool { return b.at() == x[1] })
	}

	// A version's text: found in, folded, linked to, its secrets shown when asked for.
	b.open("/version?ref=skerrinsay-r1@4")
	b.see("‹secret")
	b.shot("console-version")
	b.slash()
	b.key("course")
	b.see("1 of ")
	b.key(kb.Escape)
	b.click("Fold")
	b.see("Unfold")
	b.click("Unfold")
	// What was found is far down still, or not any more: rows that scroll by are other lines.
	js[any](b, `document.querySelector('[role=region]').scrollTop = 0`)
	eventually(t, "the text's beginning is in sight", func() bool { return strings.Contains(b.text(), "mast-word sealed") })
	b.click("link to line 12")
	if at := b.at(); !strings.HasSuffix(at, "#L12") {
		t.Errorf("line 12 is linked to as %s", at)
	}
	b.do(chromedp.Click(`input[name=secrets]`, often))
	eventually(t, "the secrets are shown", func() bool {
		s := b.text()
		return strings.Contains(s, "mast-word sealed") && !strings.Contains(s, "‹secret")
	})
	if d := must(w.admin.Audit(ctx(t), client.AuditFilter{About: "skerrinsay-r1@4"}, 0, 1))(t); len(d.Items) == 0 || d.Items[0].Action != "secrets shown" {
		t.Errorf("it is not written down: %+v", d.Items)
	}

	// Two ends of the timeline dragged together give the comparison; so do two that are
	// picked by keyboard.
	b.open("/devices/skerrinsay-r1")
	b.see("second-ticket-hall")
	const blocks = `[...document.querySelectorAll('[aria-label^="Timeline of versions"] [role=button]')]`
	eventually(t, "the timeline is drawn", func() bool { return js[int](b, blocks+`.length`) == 4 })
	js[bool](b, `(() => {
		const at = `+blocks+`.map(g => g.getBoundingClientRect())
		const box = document.querySelector('[aria-label^="Timeline of versions"]').parentElement
		const say = (kind, r) => box.dispatchEvent(new PointerEvent(kind, {clientX: r.left + r.width / 2, clientY: r.bottom - 3, bubbles: true}))
		say('pointerdown', at[2]); say('pointermove', at[3]); say('pointerup', at[3])
		return true })()`)
	eventually(t, "they are compared", func() bool {
		return b.at() == "/compare?from=skerrinsay-r1/running@3&to=skerrinsay-r1/running@4"
	})
	b.open("/devices/skerrinsay-r1")
	b.see("second-ticket-hall")
	eventually(t, "the timeline is drawn", func() bool { return js[int](b, blocks+`.length`) == 4 })
	js[bool](b, `(`+blocks+`[3].focus(), true)`)
	b.see("changed by okonkwo")
	b.key(kb.Enter)
	b.key(kb.ArrowLeft)
	b.see("version 3, second-ticket-hall")
	b.key(kb.Enter)
	b.key("c")
	eventually(t, "they are compared", func() bool {
		return b.at() == "/compare?from=skerrinsay-r1/running@3&to=skerrinsay-r1/running@4"
	})

	// What somebody else does shows.
	two := newBrowser(t, w.url)
	two.signIn("lookout", "demo-lookout-1")
	two.open("/devices/skerrinsay-r1")
	two.see("second-ticket-hall")
	name := "before-the-storm"
	must(w.admin.SetMark(ctx(t), "skerrinsay-r1@2", client.Mark{Name: &name}))(t)
	two.see(name)
	if s := two.text(); strings.Contains(s, "put back") || strings.Contains(s, "Pull now") {
		t.Error("a reader is offered what takes an operator")
	}
}
