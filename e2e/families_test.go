package e2e

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
)

// change is a change somebody makes at a device of a family, and a word that
// then shows in what it runs.
var changes = []struct {
	device, part, lines, shows string
}{
	{"skerrinsay-r1", "running", "lane quay2\nshut", "shut"},
	{"skerrinsay-sw1", "running", "port 3 : label is <moved kiosk>\nport 4 : strand is nothing", "moved kiosk"},
	{"control-f1", "running", `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>somebody else</contact></system>`, "somebody else"},
	{"control-f1", "running+passengers", `<logical-network-elements xmlns="urn:ietf:params:xml:ns:yang:ietf-logical-network-element"><logical-network-element><name>passengers</name><root>` +
		`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>wireless</name><description>a party</description></interface></interfaces></root></logical-network-element></logical-network-elements>`, "a party"},
	{"port-asterly-f1", "running", `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>nobody</contact></system>`, "nobody"},
	{"control-w1", "running", `power low`, `"low"`},
	{"workshop-g1", "archive", "note line broken", "broken"},
	{"skerrinsay-p1", "running", "outlet 3\nstate off\nout\noutlet 8\nfeeds a kettle\nout\nwatch\nalarm load\ndrop tell", "a kettle"},
}

// TestEveryFamily pulls a device of each family, changes it at the device, sees
// the change, and puts it back.
func TestEveryFamily(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies(sim.AllFamilies))
	for _, c := range changes {
		t.Run(c.device+"/"+c.part, func(t *testing.T) {
			w := w.on(t)
			ref := c.device + "/" + c.part
			if j := w.pull(c.device); j.Outcome != "done" {
				t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
			}
			number := must(w.admin.Versions(ctx(t), c.device, c.part, 0, 1))(t)[0].Number
			base := fmt.Sprintf("%s@%d", ref, number)
			yes := true
			must(w.admin.SetMark(ctx(t), base, client.Mark{Baseline: &yes}))(t)
			if j := w.pull(c.device); !strings.Contains(j.Summary, fmt.Sprintf("%s unchanged, still %d", c.part, number)) {
				t.Errorf("pulled again: %s", j.Summary)
			}
			before := w.fleet.running(c.device)
			w.fleet.amend(c.device, "mwilks", strings.Split(c.lines, "\n")...)
			w.fleet.stow(c.device)
			if !strings.Contains(w.fleet.running(c.device), c.shows) {
				t.Fatal("the simulator did not change")
			}
			if j := w.pull(c.device); j.Outcome != "done" || !strings.Contains(j.Summary, fmt.Sprintf("%s %d", c.part, number+1)) {
				t.Fatalf("%s: %s", j.Outcome, j.Summary)
			}
			d := must(w.admin.Diff(ctx(t), base, ref, 3, false))(t)
			if d.Relation != "different" || c.part != "archive" && !strings.Contains(d.Unified, c.shows) {
				t.Errorf("%s\n%s", d.Relation, d.Unified)
			}
			if got := must(w.admin.Device(ctx(t), c.device))(t); got.State != "drifted" {
				t.Errorf("it is %s: %s", got.State, got.Trouble)
			}
			if j := w.push(base); j.Outcome != "verified" {
				t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
			}
			// A controller's document names its defaults, which its own may leave out.
			if after := w.fleet.running(c.device); after != before && c.device != "control-w1" {
				t.Errorf("it runs\n%s\nand ran\n%s", after, before)
			}
			if got := must(w.admin.Device(ctx(t), c.device))(t); got.State != "in sync" {
				t.Errorf("afterwards it is %s: %s", got.State, got.Trouble)
			}
			if st := w.fleet.status(c.device); c.device != "control-w1" && len(st.Files) > 0 {
				t.Errorf("left on the device: %v", st.Files)
			}
		})
	}
	// The controller's access points are devices of their own.
	ap := must(w.admin.Device(ctx(t), "ap-skerrinsay-quay"))(t)
	if ap.Kind != "access-point" || ap.Parent != "control-w1" || ap.Member != "ap-skerrinsay-quay" || ap.Serial != "SA2-1107" || ap.Latest != 1 {
		t.Errorf("%+v", ap)
	}
	// The other half of a pair answers, and it is not other hardware.
	serial := w.fleet.status("control-f1").Serial
	w.fleet.call("POST", "/devices/control-f1/takeover", nil, nil)
	if j := w.pull("control-f1"); j.Outcome != "done" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if d := must(w.admin.Device(ctx(t), "control-f1"))(t); d.Serial == serial || len(d.Serials) != 2 || d.State != "in sync" {
		t.Errorf("%s answers, expected are %v, it is %s", d.Serial, d.Serials, d.State)
	}
	// An opaque file comes out byte for byte.
	file := filepath.Join(w.dir, "workshop.bin")
	if _, said, status := w.cli("show", "workshop-g1@1", "--output", file); status != 0 {
		t.Fatalf("%d: %s", status, said)
	}
	if raw, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(raw), "DNL1") || len(raw) != must(w.admin.Text(ctx(t), "workshop-g1@1"))(t).Size {
		t.Errorf("%d bytes, %v", len(raw), err)
	}
	if _, err := w.addUser("shortsighted", "reader").Download(ctx(t), "workshop-g1@1"); !client.IsStatus(err, 403) {
		t.Errorf("a reader without secrets got the archive: %v", err)
	}
	if _, err := w.admin.Diff(ctx(t), "control-w1", "control-w1/differences", 3, false); !client.IsStatus(err, 400) {
		t.Errorf("whole and differences were compared: %v", err)
	}
}

// TestFaultsOfEveryFamily: no fault makes a version, and each is told for what
// it is.
func TestFaultsOfEveryFamily(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies(sim.AllFamilies))
	devices := map[string]string{"skerrinsay-r1": "recite running", "skerrinsay-sw1": "tell me", "control-f1": "get-config", "control-w1": "skua-wireless:settings", "workshop-g1": "/desk/settings", "skerrinsay-p1": "view all"}
	quick := map[string]string{"answer": "3s", "idle": "3s", "connect": "8s"}
	for name := range devices {
		must(w.admin.EditDevice(ctx(t), name, client.NewDevice{Timeouts: &quick}))(t)
		if j := w.pull(name); j.Outcome != "done" {
			t.Fatalf("%s: %s: %s", name, j.Outcome, j.Summary)
		}
	}
	type fault struct {
		name   string
		faults func(device string) box.Faults
		says   string // of every family; or by family behind
		not    string // families that cannot have it
	}
	faults := []fault{
		{"slow", func(string) box.Faults { return box.Faults{SlowMS: 300} }, "", ""},
		{"hang", func(d string) box.Faults { return box.Faults{Hang: devices[d]} }, "nothing came for", ""},
		{"cut", func(string) box.Faults { return box.Faults{CutAfter: 150} }, "not complete", ""},
		{"garbage", func(string) box.Faults { return box.Faults{Garbage: 64} }, "not complete|frame|well-formed", ""},
		{"endless", func(string) box.Faults { return box.Faults{Endless: true} }, "no end is in sight|not complete|frame", ""},
		{"weak", func(string) box.Faults { return box.Faults{Weak: true} }, "not complete|Guests take nothing", "skerrinsay-p1"},
		{"held", func(string) box.Faults { return box.Faults{HeldBy: "mwilks"} }, "held by mwilks", "skerrinsay-r1 skerrinsay-sw1 control-f1 skerrinsay-p1"},
		{"full disk", func(string) box.Faults { return box.Faults{FullDisk: true} }, "full|no room", "skerrinsay-r1 control-f1 skerrinsay-p1"},
		{"expired", func(string) box.Faults { return box.Faults{Expire: 2} }, "", "skerrinsay-r1 skerrinsay-sw1 control-f1 skerrinsay-p1"},
		{"false prompt", func(string) box.Faults {
			return box.Faults{Banner: "(skerrinsay-sw1) : \nskerrinsay-r1 ~ \nskerrinsay-p1 => \nWord: "}
		}, "", "control-f1 control-w1 workshop-g1"},
		{"busy once", func(string) box.Faults { return box.Faults{Busy: 1} }, "", "skerrinsay-r1 control-f1 skerrinsay-p1"},
	}
	alongside(t, slices.Sorted(maps.Keys(devices)), func(name string) string { return name }, func(t *testing.T, name string) {
		for _, f := range faults {
			if strings.Contains(f.not, name) {
				continue
			}
			t.Run(f.name, func(t *testing.T) {
				w := w.on(t)
				part := must(w.admin.Dialect(ctx(t), w.fleet.place(name).Family))(t).Parts[0]
				if part == "differences" {
					part = "running"
				}
				before := len(must(w.admin.Versions(ctx(t), name, part, 0, 100))(t))
				w.fleet.faults(name, f.faults(name))
				j := w.pull(name)
				w.fleet.faults(name, box.Faults{})
				if f.says == "" {
					if j.Outcome != "done" {
						t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
					}
				} else {
					told := false
					for _, s := range strings.Split(f.says, "|") {
						told = told || strings.Contains(j.Summary, s)
					}
					if j.Outcome == "done" || !told {
						t.Errorf("%s: %s", j.Outcome, j.Summary)
					}
				}
				if n := len(must(w.admin.Versions(ctx(t), name, part, 0, 100))(t)); n != before {
					t.Errorf("%d versions, there were %d", n, before)
				}
				eventually(t, "its sessions end and its files are gone", func() bool {
					st := w.fleet.status(name)
					hearing := name == "control-f1" && st.Sessions == 1 // for notifications
					return (st.Sessions == 0 || hearing || name == "workshop-g1" || name == "control-w1") && (len(st.Files) == 0 || name == "control-w1")
				})
			})
		}
	})
	// After all that, each is well again.
	for name := range devices {
		if j := w.pull(name); j.Outcome != "done" {
			t.Errorf("%s: %s: %s", name, j.Outcome, j.Summary)
		}
	}
	// A unit that shows another key or certificate is told nothing, not even who we are.
	for name := range devices {
		if name == "workshop-g1" { // speaks HTTP without TLS: it has no key to show
			continue
		}
		logins, before := w.fleet.status(name).Logins, len(must(w.admin.Versions(ctx(t), name, "", 0, 100))(t))
		w.fleet.call("POST", "/devices/"+name+"/hostkey", nil, nil)
		j := w.pull(name)
		if j.Outcome != "failed" || !strings.Contains(j.Summary, "SHA256:") || !strings.Contains(w.logText(j.ID), "magpie device trust "+name) {
			t.Errorf("%s: %s: %s", name, j.Outcome, j.Summary)
		}
		if n := w.fleet.status(name).Logins - logins; n != 0 {
			t.Errorf("%s was told the login %d times", name, n)
		}
		if n := len(must(w.admin.Versions(ctx(t), name, "", 0, 100))(t)); n != before {
			t.Errorf("%s: %d versions, there were %d", name, n, before)
		}
		_, shown, _ := strings.Cut(j.Summary, "it shows ")
		if _, said, status := w.cli("device", "trust", name, "--accept-key", shown); status != 0 {
			t.Errorf("%s: %s", name, said)
		}
		if j := w.pull(name); j.Outcome != "done" {
			t.Errorf("%s, trusted again: %s: %s", name, j.Outcome, j.Summary)
		}
	}
	// A refused login is one attempt, whatever is spoken.
	for name := range devices {
		before := w.fleet.status(name)
		w.fleet.faults(name, box.Faults{RefuseLogin: true})
		if j := w.pull(name); j.Outcome != "refused" {
			t.Errorf("%s: %s: %s", name, j.Outcome, j.Summary)
		}
		w.pull(name) // latched: not even tried
		if n := w.fleet.status(name).Refused - before.Refused; n != 1 {
			t.Errorf("%s was asked %d times", name, n)
		}
	}
}

// TestOtherHardware: a unit that is not the expected one is told apart, kept
// aside, and nothing is pushed to it.
func TestOtherHardware(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("dunlin"))
	w.pull(r1)
	serial := w.fleet.status(r1).Serial
	lines := append([]string{}, w.fleet.status(r1).Running...)
	w.fleet.call("POST", "/devices/"+r1+"/replace", map[string]any{"serial": "TN4-NEW001", "lines": lines[:len(lines)-3]}, nil)
	j := w.pull(r1)
	if j.Outcome != "done" || !strings.Contains(j.Summary, "other hardware answers: serial TN4-NEW001") {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	d := must(w.admin.Device(ctx(t), r1))(t)
	if d.State != "hardware changed" || d.Latest != 1 {
		t.Errorf("%s, newest is %d", d.State, d.Latest)
	}
	vs := w.versions(r1)
	if len(vs) != 2 || vs[0].Aside != "hardware changed" || vs[1].Aside != "" || vs[0].Removed == 0 {
		t.Errorf("%+v", vs)
	}
	if v := must(w.admin.Text(ctx(t), r1))(t); v.Version.Number != 1 {
		t.Errorf("latest is %d", v.Version.Number)
	}
	w.pull(r1)
	if len(w.versions(r1)) != 2 {
		t.Error("the same was kept aside twice")
	}
	p := w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@1"}))(t).ID)
	if p.Outcome != "refused" || !strings.Contains(p.Summary, "nothing is pushed to it") {
		t.Errorf("%s: %s", p.Outcome, p.Summary)
	}
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Serials: &[]string{serial, "TN4-NEW001"}}))(t)
	if j := w.push(r1 + "@1"); j.Outcome != "verified" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}

	// A gateway that was reset answers at its address, with the login of the maker.
	g := "workshop-g1"
	w.gateways(g)
	w.pull(g)
	w.fleet.call("POST", "/devices/"+g+"/reset", map[string]any{"depth": "users"}, nil)
	if j := w.pull(g); j.Outcome != "done" || !strings.Contains(j.Summary, "has factory settings") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if d := must(w.admin.Device(ctx(t), g))(t); d.State != "factory defaults" || d.Latest != 1 {
		t.Errorf("%s, newest is %d", d.State, d.Latest)
	}
}

// TestCredentialSets: rotated without touching devices, and its breaker opens when several
// devices refuse one.
func TestCredentialSets(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 6)
	names := []string{}
	for _, p := range w.fleet.places {
		names = append(names, p.Name)
	}
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "routers", User: sim.ServiceUser, Password: "stale", Privileged: sim.MastWord}))(t)
	set := must(w.admin.AttachCredentialSet(ctx(t), "routers", []string{"kind=router"}))(t)
	if set.Devices != 6 {
		t.Fatalf("%d devices use it", set.Devices)
	}
	for _, n := range names[:3] {
		if j := w.pull(n); j.Outcome != "refused" {
			t.Fatalf("%s: %s: %s", n, j.Outcome, j.Summary)
		}
	}
	// Three refused it: no other device is even asked.
	j := w.pull(names[3])
	if j.Outcome != "failed" || !strings.Contains(j.Summary, "refused by several devices") || w.fleet.status(names[3]).Logins != 0 {
		t.Errorf("%s: %s, %d logins arrived", j.Outcome, j.Summary, w.fleet.status(names[3]).Logins)
	}
	sets := must(w.admin.CredentialSets(ctx(t)))(t)
	if sets[0].BreakerOpenSince == nil || sets[0].Locked != 3 {
		t.Errorf("%+v", sets[0])
	}
	out, _, _ := w.cli("credential", "list")
	if !strings.Contains(out, "breaker open since") {
		t.Errorf("the list does not say so:\n%s", out)
	}
	must(w.admin.EditCredentialSet(ctx(t), "routers", client.NewCredentialSet{Password: sim.ServiceWord}))(t)
	for _, n := range names {
		if j := w.pull(n); j.Outcome != "done" {
			t.Errorf("%s: %s: %s", n, j.Outcome, j.Summary)
		}
	}
	if err := w.admin.RemoveCredentialSet(ctx(t), "routers"); !client.IsStatus(err, 409) {
		t.Errorf("a set in use was removed: %v", err)
	}
	// New devices that a selector picks get the set.
	sel := "dialect=tern name=skerrinsay-*"
	must(w.admin.EditCredentialSet(ctx(t), "routers", client.NewCredentialSet{Selector: &sel}))(t)
	n := w.entry(w.fleet.places[0], "tern")
	n.Name, n.User, n.Password, n.Privileged, n.Twice = "skerrinsay-r9", "", "", "", true
	if d := must(w.admin.AddDevice(ctx(t), n))(t); d.Credential != "routers" || d.User != sim.ServiceUser {
		t.Errorf("%+v", d)
	}
	// An address is copied with the brackets that it has beside a port.
	n.Name, n.Address = "skerrinsay-r10", "[fd00::7]"
	if d := must(w.admin.AddDevice(ctx(t), n))(t); d.Address != "fd00::7" {
		t.Errorf("its address is %q", d.Address)
	}
	secretWords(t, w)
}

// secretWords: no secret stands in the open in the audit log.
func secretWords(t *testing.T, w *world) {
	t.Helper()
	page := must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 1000))(t)
	for _, d := range page.Items {
		if strings.Contains(d.Detail, sim.ServiceWord) || strings.Contains(d.Detail, "stale") {
			t.Errorf("the audit log tells a secret: %s", d.Detail)
		}
	}
}

// TestLeftover: a file that the device made for us is removed even after the
// service died in between, by its exact name.
func TestLeftover(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	sw := "skerrinsay-sw1"
	w.fleet.faults(sw, box.Faults{Hang: "sftp kept.set"})
	w.pull(r1)
	must(w.admin.Pull(ctx(t), []string{sw}, ""))(t)
	time.Sleep(700 * time.Millisecond) // the device has made its file, and hangs before it is fetched
	w.kill()
	w.fleet.faults(sw, box.Faults{})
	// What a visit that broke off between making and removing leaves behind.
	w.sql(`INSERT INTO leftovers (device_id, part, file, at) SELECT id, 'running', 'mp00000000aa', NOW(6) FROM devices WHERE name = '` + sw + `'`)
	w.serve()
	eventually(t, "the pull begins anew and ends", func() bool {
		jobs := must(w.admin.Jobs(ctx(t), client.JobFilter{Device: sw, Limit: 1}))(t).Items
		return len(jobs) > 0 && jobs[0].State == "ended"
	})
	if st := w.fleet.status(sw); len(st.Files) != 0 {
		t.Errorf("left on the switch: %v", st.Files)
	}
	if j := w.pull(sw); j.Outcome != "done" {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if out, _, _ := w.cli("job", "list"); strings.Contains(out, "mp0000") {
		t.Error("a leftover is still spoken of")
	}
}
