package e2e

import (
	"encoding/csv"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/box"

	"github.com/chromedp/chromedp"
)

// TestSweep: addresses are greeted and nobody signs in; what answers and is not registered is
// proposed, until it is added or dismissed; in the browser, too, and so is a file of devices.
func TestSweep(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3, withFamilies("dunlin"))
	var routers []sim.Place
	for _, p := range w.fleet.places {
		if p.Family == "tern" {
			routers = append(routers, p)
		}
	}
	free := []string{routers[0].Name, routers[1].Name}
	for _, name := range free {
		if err := w.admin.RemoveDevice(ctx(t), name); err != nil {
			t.Fatal(err)
		}
	}
	over := fmt.Sprintf("ssh:%d", box.SSH)
	args := []string{"device", "discover", "--over", over, "--over", fmt.Sprintf("telnet:%d", box.Telnet)}
	for _, p := range routers {
		args = append(args, p.Address)
	}
	before := w.fleet.status(free[0])
	out, said, status := w.cli(args...)
	if status != 0 || !strings.Contains(said, "2 ports answer where no device is registered; 1 registered ones answer") || !strings.Contains(out, "SSH-2.0-") || !strings.Contains(out, routers[0].Address) || strings.Contains(out, routers[2].Address) {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	if now := w.fleet.status(free[0]); now.Logins != before.Logins || now.Refused != before.Refused {
		t.Errorf("a sweep signed in: %+v", now)
	}
	found := must(w.admin.Proposals(ctx(t)))(t)
	if len(found) != 2 || found[0].Fingerprint == "" || len(found[0].Dialects) == 0 {
		t.Fatalf("%+v", found)
	}
	for _, wrong := range [][]string{{"device", "discover", "10.0.0.0/8"}, {"device", "discover", "quay"}, {"device", "discover", "192.0.2.1", "--over", "pigeon"}, {"device", "discover", "192.0.2.1", "--over", "ssh:none"}, {"device", "dismiss", "nosuch"}, {"device", "add", "x", "--dialect", "tern", "--proposal", "nosuch"}} {
		if out, said, status := w.cli(wrong...); status != 2 {
			t.Errorf("%v: status %d\n%s%s", wrong, status, out, said)
		}
	}
	// One is dismissed, and stays so; one is registered, with the key that was shown.
	by := map[string]client.Proposal{}
	for _, p := range found {
		by[p.Address] = p
	}
	if _, said, status := w.cli("device", "dismiss", by[routers[1].Address].ID); status != 0 {
		t.Fatal(said)
	}
	if _, said, status := w.cli("device", "add", free[0], "--proposal", by[routers[0].Address].ID, "--dialect", "tern", "--user", sim.ServiceUser, "--accept-key", by[routers[0].Address].Fingerprint, "--yes"); status != 0 {
		t.Fatal(said)
	}
	if _, said, status := w.cli(args...); status != 0 || len(must(w.admin.Proposals(ctx(t)))(t)) != 0 {
		t.Errorf("status %d, and %+v\n%s", status, must(w.admin.Proposals(ctx(t)))(t), said)
	}
	w.sql("DELETE FROM proposals")

	// In the browser: look, add; then a file.
	b := newBrowser(t, w.url)
	b.allows("401")
	b.signIn("admin", w.firstPassword())
	b.open("/settings?tab=inventory")
	b.fill(`input[name=ranges]`, routers[1].Address)
	b.fill(`input[name=ways]`, over)
	b.click("Look what answers")
	b.see("1 port answers")
	b.see(by[routers[1].Address].Fingerprint)
	b.click("Add…")
	b.addsDevice(routers[1], free[1])
	b.see("Nothing proposed")
	eventually(t, "it is registered and pulled", func() bool {
		d, err := w.admin.Device(ctx(t), free[1])
		return err == nil && d.Latest == 1
	})
	sheet := must(w.admin.Export(ctx(t), nil, "csv"))(t)
	if rows := must(csv.NewReader(strings.NewReader(sheet)).ReadAll())(t); len(rows) != len(w.fleet.places)+1 {
		t.Errorf("exported as\n%s", sheet)
	}
	file := filepath.Join(w.dir, "devices.csv")
	put(t, file, "name,address,dialect,site\n"+free[1]+","+routers[1].Address+",tern,callowmere\nr9,"+routers[1].Address+",tern,\n")
	b.do(chromedp.SetUploadFiles(`input[name=device-file]`, []string{file}, often))
	b.see("0 would be added, 1 changed; 0 are as the file has them, 1 row is wrong")
	b.see("no host key is given")
	b.do(chromedp.Click(`input[name=skip-bad]`, often))
	b.click("Do it")
	b.see("0 added, 1 changed")
	if d := must(w.admin.Device(ctx(t), free[1]))(t); d.Site != "callowmere" {
		t.Errorf("it is at %s", d.Site)
	}
	// What else the command line can do: say that a device was changed, save the audit log.
	b.open("/devices/" + free[1])
	b.more("More", "Somebody changed it…")
	b.fill(`input[name=author]`, "mwilks")
	b.click("Say so")
	b.see("It is pulled once it is quiet.")
	w.sql("UPDATE notices SET first_at = first_at - INTERVAL 40 SECOND, last_at = last_at - INTERVAL 40 SECOND")
	eventually(t, "it is pulled for that", func() bool {
		return len(must(w.admin.Jobs(ctx(t), client.JobFilter{Actor: "change trigger", Device: free[1]}))(t).Items) == 1
	})
	b.open("/settings?tab=dialects&name=tern")
	b.click("Draft its rules…")
	b.click("Draft them")
	b.see("learn")
}
