package e2e

import (
	"math"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"magpie/client"
	"magpie/internal/scratch"
	"magpie/internal/sim/tern"
)

// demoWorld starts a demo and signs its admin in. It is built without the race detector:
// what the console shows of a whole fleet is not about races, which are sought where
// less goes on at once.
func demoWorld(t *testing.T) *world {
	t.Helper()
	p := startProgram(t, os.Environ(), filepath.Join(bin, "magpie"), "demo", "--listen", "127.0.0.1:0", "--data", filepath.Join(t.TempDir(), "demo"))
	w := &world{t: t, top: t, dir: t.TempDir(), proc: p, url: p.waitFor(regexp.MustCompile(`is up at (http://\S+),`))}
	w.admin = w.as("admin", "demo-admin-1")
	return w
}

// TestConsolePutsItRight is the story of the demo, told in the browser: sign in,
// find the drifted router, see what drifted, put it back, see the proof.
func TestConsolePutsItRight(t *testing.T) {
	t.Parallel()
	w := demoWorld(t)
	b := newBrowser(t, w.url)
	b.allows("401")
	b.open("/")
	b.see("Steady Magpie")
	b.fill(`input[name=user]`, "admin")
	b.fill(`input[name=password]`, "wrong")
	b.click("Sign in")
	b.see("no user of that name has that password")
	b.fill(`input[name=password]`, "demo-admin-1")
	b.click("Sign in")
	b.see("port-asterly-r1")
	b.see("unreachable")
	b.shot("console-fleet")
	b.click("port-asterly-r1")
	b.see("TN4-")
	b.see("Timeline")
	b.shot("console-device")
	b.click("What drifted")
	b.do(chromedp.WaitVisible(`input[name=from]`, often)) // the device's page shows the same change
	b.see("passenger wireless, mwilks testing")
	b.see("drop any from any to roster tills")
	b.key("n")
	b.see("1 of 2")
	b.click("Side by side")
	b.shot("console-compare")
	b.click("Put port-asterly-r1@1 back")
	b.see("lines to send, in this order")
	b.see("it is built anew beside")
	preview := b.at()
	b.shot("console-preview")
	b.open(preview) // leaving and returning shows the same
	b.see("23 lines to send")
	b.fill(`textarea[name=checks]`, "from port-asterly-r1 ping 10.1.22.1\ntcp "+must(w.admin.Device(ctx(t), "port-asterly-r1"))(t).Address+":2222")
	b.fill(`input[name=confirm]`, "port-asterly-r1")
	b.click("Push 23 lines")
	b.see("goes back by itself in")
	b.see("unless it is confirmed")
	b.see("connected in")
	b.click("Keep it")
	b.see("Verified: the device was pulled again")
	b.see("saving to startup")
	b.shot("console-push")
	if d := must(w.admin.Device(ctx(t), "port-asterly-r1"))(t); d.State != "in sync" {
		t.Errorf("the device is %s", d.State)
	}
	// The same for a device of every other family.
	for _, x := range []struct{ device, version, shows string }{
		{"control-f1", "baseline", "forwarding accept"}, {"callowmere-sw1", "baseline", "port 7 : strand"}, {"control-w1", "as-built", "beacon"}, {"workshop-g1", "as-built", "an opaque file of"},
	} {
		b.open("/push?ref=" + x.device + "@" + x.version)
		b.see("go ahead")
		b.see(x.shows)
		b.choose(`select[name=within]`, "")
		b.see("nothing brings it back")
		b.send(x.device)
		b.see("Verified: the device was pulled again")
	}
	// The unit that lightning struck is swapped, the gateway that was reset is brought back.
	b.open("/devices/dunvarrow-r1")
	b.see("other hardware answers")
	b.click("Swap: let this unit take its place")
	b.see("in place of")
	b.see("new unit")
	b.choose(`select[name=within]`, "")
	b.send("dunvarrow-r1")
	b.see("Verified: the device was pulled again")
	if d := must(w.admin.Device(ctx(t), "dunvarrow-r1"))(t); d.State != "in sync" || len(must(w.admin.Swaps(ctx(t), "dunvarrow-r1"))(t)) != 1 {
		t.Errorf("after the swap it is %s", d.State)
	}
	b.open("/devices/dunvarrow-g1")
	b.see("factory defaults")
	b.click("Put the newest version back on it")
	b.see("go ahead")
	b.see(", with factory settings")
	b.choose(`select[name=within]`, "")
	b.send("dunvarrow-g1")
	b.see("passing the first-run page")
	b.see("Verified: the device was pulled again")
	if d := must(w.admin.Device(ctx(t), "dunvarrow-g1"))(t); d.State != "in sync" {
		t.Errorf("after the reset it is %s", d.State)
	}
	// A whole terminal goes back to what it was.
	b.open("/?select=site%3Dinnisquill")
	b.more("More", "Put all 2 listed back…")
	b.fill(`input[name=which]`, "baseline")
	b.click("See what it takes")
	b.see("to go ahead") // the rows are there by then, and the name of what is sent
	b.send(js[string](b, `document.querySelector('[aria-label="Send it"] b').textContent`))
	b.see("to be confirmed and go")
	b.do(chromedp.Sleep(500 * time.Millisecond)) // rows that come in move what is below them, and a click beside the button is none
	b.click("Keep all")
	b.see("confirmed by admin")
	b.click("Jobs")
	b.see("pulled again and compared")
	b.more("admin", "Sign out")
	b.see("Keeps the configurations of your network")
}

// TestConsoleWatchedFromTwo: a push begun in one browser is followed live in
// another; and a refused line is explained in both.
func TestConsoleWatchedFromTwo(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	w.fleet.faults(r1, tern.Faults{HoldLine: 4})
	one, two := newBrowser(t, w.url), newBrowser(t, w.url)
	one.signIn("admin", w.firstPassword())
	two.signIn("admin", w.firstPassword())
	one.open("/push?ref=" + r1 + "@1")
	one.see("lines to send, in this order")
	one.fill(`input[name=confirm]`, r1)
	one.click("Push ")
	one.see("Under way") // with a window, as the page suggests
	w.fleet.waitHolding(r1)
	two.open(one.at())
	two.see("sending 11 lines")
	two.see("Under way")
	w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
	one.see("Is everything as it should be?")
	two.see("goes back by itself in")
	two.click("Undo it now")
	one.see("the device runs again what it ran before")
	two.see("admin asked to undo it")
	w.push(r1 + "@1")

	w.push(r1 + "@2")
	w.fleet.faults(r1, tern.Faults{RefuseLine: 3})
	end := w.push(r1 + "@1")
	two.open("/jobs/" + end.ID)
	two.see("the unit will not have that line")
	two.see("What was applied was taken back")
}

// TestConsoleFailedPull explains a job that failed, and what to do.
func TestConsoleFailedPull(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.fleet.faults(r1, tern.Faults{Down: true})
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.see("never pulled")
	b.click("Pull all")
	b.see("2 of 2 pulled")
	b.see("without success: " + r1)
	b.see("unreachable")
	b.fill(`#selector`, "state=in-sync")
	b.see("Pull all 1")
	eventually(t, "only the steady one is listed", func() bool {
		s := js[string](b, `document.querySelector('[role=grid]').innerText`)
		return strings.Contains(s, "innisquill-r1") && !strings.Contains(s, "no connection to")
	})
	b.fill(`#selector`, "colour=red")
	b.see("so no device is chosen; the keys are")
	b.click("Jobs")
	b.see("no connection to")
	b.click("pull of " + r1)
	b.see("check that the device has power")
}

// TestConsoleSessionRunsOut: what was typed is still there after signing in
// again.
func TestConsoleSessionRunsOut(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/push?ref=" + r1 + "@1")
	b.see("nothing to send")
	w.fleet.amend(r1, "mwilks", "lane quay1", "shut")
	b.open("/push?ref=" + r1 + "@1")
	b.see("to send, in this order")
	b.choose(`select[name=within]`, "")
	b.fill(`input[name=confirm]`, r1)
	w.sql("DELETE FROM tokens WHERE kind = 'session'")
	b.click("Push ")
	b.see("Your session has run out")
	b.fill(`input[name=password]`, w.firstPassword())
	b.do(chromedp.Click(`[role=dialog] button.button-main`, often))
	b.see("Verified: the device was pulled again")
}

// TestConsoleWithoutAnswers: the service goes away under pages that are open, and while one
// is opened. It is said where it shows, nobody is taken for signed out by it, and what can be
// asked for again comes by itself or by a button.
func TestConsoleWithoutAnswers(t *testing.T) {
	t.Parallel()
	g, through := scratch.NewGate(t, scratch.Database(t))
	w := newWorld(t, 1, func(w *world) { w.dsn = through })
	w.pull(r1)
	b := newBrowser(t, w.url)
	b.allows("503")
	b.signIn("admin", w.firstPassword())
	pulls := func(n int) {
		t.Helper()
		eventually(t, "the list is whole", func() bool {
			return js[int](b, `document.querySelectorAll('a[aria-label="pull of `+r1+`"]').length`) == n
		})
	}
	b.click("Jobs")
	pulls(1)
	// What is written is heard of, and cannot be read.
	js[bool](b, `(window.real = window.fetch, window.fetch = () => Promise.reject(new TypeError('no')), true)`)
	w.pull(r1)
	b.see("the service does not answer")
	b.more("admin", "Sign out")
	b.see("You are still signed in: the service does not answer.")
	// Something in between answers in its place.
	js[bool](b, `(window.fetch = async () => new Response('<h1>gone', {status: 502}), true)`)
	w.pull(r1)
	b.see("what answered, with 502")
	js[bool](b, `(window.fetch = window.real, true)`)
	w.pull(r1)
	pulls(4)
	// A page is opened while the service's database is away.
	g.Shut()
	b.open("/jobs")
	b.see("Ask again")
	if strings.Contains(b.text(), "Password") {
		t.Error("one who is signed in is asked to sign in")
	}
	g.Open()
	eventually(t, "it answers again", func() bool { _, err := w.admin.Devices(ctx(t), nil); return err == nil })
	b.click("Ask again")
	pulls(4)
	// Whose session is gone already is signed out without a word.
	b.allows("401")
	w.sql("DELETE FROM tokens WHERE kind = 'session'")
	b.more("admin", "Sign out")
	b.see("Password")
	if s := b.text(); strings.Contains(s, "still signed in") {
		t.Error(s)
	}
}

// TestConsoleAddsADevice: the key's fingerprint and the identity are shown
// before anything is saved.
func TestConsoleAddsADevice(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	const name = "innisquill-r1"
	p := w.fleet.place(name)
	if err := w.admin.RemoveDevice(ctx(t), name); err != nil {
		t.Fatal(err)
	}
	probe := must(w.admin.Probe(ctx(t), "", p.Address, p.Port))(t)
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.click("Add a device")
	b.see("Look what answers there")
	b.see("Tern router")
	b.choose(`[role=dialog] select[name=dialect]`, "tern")
	for field, text := range map[string]string{"name": name, "address": p.Address, "port": "2222", "device-user": "magpie", "device-password": "demo-nest-1", "device-privileged": "demo-mast-1"} {
		b.fill(`[role=dialog] input[name=`+field+`]`, text)
	}
	b.click("Look what answers there")
	b.see(probe.Fingerprint)
	if _, err := w.admin.Device(ctx(t), name); err == nil {
		t.Error("it was saved before anybody said so")
	}
	b.click("Accept the key and sign in once")
	b.see("serial TN4-")
	b.click("Save and pull")
	b.see("Timeline")
	eventually(t, "it is pulled", func() bool { return len(w.versions(name)) == 1 })
	// And its first version is marked in place.
	b.see("first pull")
	b.click("mark version 1")
	b.fill(`input[name=mark-name]`, "as-built")
	b.do(chromedp.Click(`input[name=mark-baseline]`, often))
	b.click("Keep")
	b.see("as-built")
	if v := w.versions(name)[0]; v.Name != "as-built" || !v.Baseline {
		t.Errorf("marked as %+v", v)
	}
}

// TestConsolePagesFit: every page, wide and narrow, light and dark, without
// overflow, complaints, or controls without a name.
func TestConsolePagesFit(t *testing.T) {
	t.Parallel()
	w := demoWorld(t)
	b := newBrowser(t, w.url)
	b.signIn("admin", "demo-admin-1")
	jobs := must(w.admin.Jobs(ctx(t), client.JobFilter{Device: "wrackhaven-r1"}))(t)
	b.open("/push?ref=port-asterly-r1@baseline")
	b.see("(as-built) back on port-asterly-r1")
	b.see("lines to send")
	preview := b.at()
	ran := w.end(must(w.admin.RunSchedule(ctx(t), "nightly", client.NewRun{Note: "to see it"}, "nightly now"))(t).ID)
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "noc", Kind: "mail", To: []string{"noc@ferries.example"}}))(t)
	must(w.admin.AddNotificationRule(ctx(t), client.NewNotificationRule{Name: "night-watch", Events: []string{"unproven", "capacity"}, Selector: []string{"site=callowmere"}, Recipients: []string{"noc"}, Digest: "weekly mon 07:00", Quiet: []string{"daily 22:00 for 9h"}, Zone: "Atlantic/Faroe"}))(t)
	planned := "/jobs/" + w.planned(w.admin, "innisquill-r1@baseline", time.Hour, time.Hour).ID
	for _, p := range []struct{ path, shows string }{
		{"/", "port-asterly-r1"},
		{"/devices/skerrinsay-r1", "summer-timetable"},
		{"/devices/wrackhaven-r1", "no connection"},
		{"/devices/control-f1", "running+passengers"},
		{"/devices/control-w1?tab=identity", "ap-skerrinsay-quay"},
		{"/devices/control-f1?tab=text", "Counts"},
		{"/devices/port-asterly-r1?tab=comparison", "mwilks testing"},
		{"/devices/port-asterly-r1?tab=jobs", "23 lines to send"},
		{"/devices/port-asterly-r1?tab=checks", "No push to this device had checks yet"},
		{"/version?ref=skerrinsay-r1@4", "Where it comes from"},
		{"/push", "What may want one"},
		{"/push?to=skerrinsay-r1", "Versions of skerrinsay-r1"},
		{"/settings", "is told of every change"},
		{"/settings?tab=credentials", "accepted"},
		{"/settings?tab=dialects", "Tern router"},
		{"/settings?tab=dialects&name=tern", "What is wrong in it"},
		{"/settings?tab=inventory", "Nothing proposed"},
		{"/settings?tab=retention", "everything-else"},
		{"/settings?tab=copies", "harbour-office"},
		{"/settings?tab=files", "Files in, as versions"},
		{"/settings?tab=approvals", "pushes alone"},
		{"/settings?tab=tokens", "Make a token"},
		{"/settings?tab=users", "okonkwo"},
		{"/settings?tab=audit", "Prove that it is whole"},
		{"/devices/workshop-g1", "archive"},
		{"/devices/dunvarrow-r1", "other hardware answers"},
		{"/search?tab=lines&line=note&in=lane", "texts searched"},
		{"/search?tab=lines&line=note&history=true", "versions of"},
		{"/search?tab=changes&since=-30d", "by mwilks"},
		{"/drift", "4 drifted"},
		{"/drift?tab=rules", "An ignored line does not count"},
		{"/compare", "Name two versions"},
		{"/compare?from=skerrinsay-r1@1&to=skerrinsay-r1@latest", "boom gate"},
		{preview, "lines to send"},
		{"/jobs", "scheduled"},
		{"/jobs/" + jobs.Items[0].ID, "check that the device has power"},
		{"/snapshots", "No snapshots yet"},
		{"/schedules", "sunday-proof"},
		{"/notifications", "night-watch"},
		{"/notifications?tab=recipients", "noc@ferries.example"},
		{"/notifications?tab=messages", "control-room@ferries.example"},
		{"/notifications?tab=mail", "Saved"},
		{"/jobs/" + ran.ID, "scheduled run of nightly"},
		{"/bootstrap-sheet?ref=dunvarrow-r1", "lines to type at the console"},
		{"/bootstrap-sheet?ref=workshop-g1", "SHA-256"},
		{planned, "It is planned, and begins by itself"},
		{"/nowhere", "There is nothing here"},
	} {
		for i, size := range [][2]int64{{1280, 800}, {1920, 1080}, {820, 1180}, {390, 844}} {
			b.size(size[0], size[1], "light")
			if i == 0 {
				b.open(p.path)
				b.see(p.shows)
			}
			b.do(chromedp.Sleep(100 * time.Millisecond)) // it is drawn anew in the size it has now
			for _, x := range b.clipped() {
				t.Errorf("%s at %d wide: %s", p.path, size[0], x)
			}
			if none := b.nameless(); len(none) > 0 && i != 1 {
				t.Errorf("%s at %d wide has controls without a name: %v", p.path, size[0], none)
			}
		}
		b.size(1280, 800, "light")
		switch p.path {
		case "/schedules":
			b.shot("console-schedules")
		case "/search?tab=lines&line=note&in=lane":
			b.shot("console-search")
		case "/drift":
			b.shot("console-drift")
		case "/notifications?tab=messages":
			b.shot("console-notifications")
		}
		for _, x := range b.walked(p.path == "/") {
			t.Errorf("%s by keyboard: %s", p.path, x)
		}
	}
	// As large again, there is half as much room: WCAG 2.2, 1.4.4.
	b.size(640, 400, "light")
	for _, path := range []string{"/", "/devices/skerrinsay-r1", preview} {
		b.open(path)
		b.see("r1")
		for _, x := range b.clipped() {
			t.Errorf("%s at twice its size: %s", path, x)
		}
	}
	// Tab walks the page in the order it is read.
	b.size(1280, 800, "light")
	b.open("/")
	b.see("port-asterly-r1")
	var order []string
	for range 12 {
		b.key(kb.Tab)
		order = append(order, js[string](b, `document.activeElement.innerText || document.activeElement.ariaLabel || document.activeElement.id`))
	}
	if got := strings.Join(order, "|"); !strings.HasPrefix(got, "Skip to the page|Steady Magpie|Fleet|Search|Drift|Compare|Snapshots|Schedules|Notifications|Jobs|Settings|") {
		t.Errorf("focus goes %s", got)
	}
	// Keys: ? lists them, Escape closes, g j leads to the jobs.
	b.size(1280, 800, "light")
	b.open("/")
	b.see("port-asterly-r1")
	b.key("?")
	b.see("list the keys")
	b.key(kb.Escape)
	b.do(chromedp.WaitNotPresent(`[role=dialog]`, often))
	b.key("g")
	b.key("j")
	b.see("What came of it")
}

// TestContrast computes the contrast of every pair of ink and paper the console
// uses (WCAG 2.2, 1.4.3), light and dark.
func TestContrast(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../console/src/style.css")
	if err != nil {
		t.Fatal(err)
	}
	theme := func(head string) map[string]string {
		_, rest, ok := strings.Cut(string(raw), head+" {")
		if !ok {
			t.Fatalf("no %s", head)
		}
		block, _, _ := strings.Cut(rest, "}")
		out := map[string]string{}
		for _, m := range regexp.MustCompile(`--([a-z-]+): (#[0-9a-f]{6});`).FindAllStringSubmatch(block, -1) {
			out[m[1]] = m[2]
		}
		return out
	}
	for name, colours := range map[string]map[string]string{"light": theme(":root"), "dark": theme(":root[data-theme='dark']")} {
		for _, pair := range [][2]string{{"ink", "paper"}, {"ink", "leaf"}, {"faded", "paper"}, {"faded", "leaf"}, {"teal", "paper"}, {"teal", "leaf"}, {"violet", "paper"}, {"violet", "leaf"}, {"ink", "marked"}, {"faded", "marked"}, {"teal", "marked"}, {"alarm", "marked"}, {"gone-ink", "marked"},
			{"alarm", "paper"}, {"alarm", "leaf"}, {"added-ink", "added"}, {"added-ink", "added-mark"}, {"gone-ink", "gone"}, {"gone-ink", "gone-mark"},
			{"gone-ink", "paper"}, {"gone-ink", "leaf"}, {"added-ink", "paper"}, {"faded", "added"}, {"faded", "gone"}} {
			if got := contrast(colours[pair[0]], colours[pair[1]]); got < 4.5 {
				t.Errorf("%s: %s on %s has a contrast of %.2f", name, pair[0], pair[1], got)
			}
		}
	}
	for _, stop := range []string{"#0a6660", "#3b5aa8", "#5b3fa0"} {
		if got := contrast("#ffffff", stop); got < 4.5 {
			t.Errorf("white on %s has a contrast of %.2f", stop, got)
		}
	}
}

func contrast(a, b string) float64 {
	light := func(hex string) float64 {
		var sum float64
		for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
			n, _ := strconv.ParseUint(hex[1+2*i:3+2*i], 16, 8)
			c := float64(n) / 255
			if c <= 0.04045 {
				c /= 12.92
			} else {
				c = math.Pow((c+0.055)/1.055, 2.4)
			}
			sum += weight * c
		}
		return sum
	}
	if len(a) != 7 || len(b) != 7 {
		return 0
	}
	x, y := light(a), light(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}
