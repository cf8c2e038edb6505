package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
	"magpie/internal/sim/dunlin"
	"magpie/internal/sim/tern"
)

// replace puts another unit in a router's place, which knows our login and
// little else.
func (w *world) replace(device, serial string) {
	w.t.Helper()
	w.fleet.call("POST", "/devices/"+device+"/replace", map[string]any{"serial": serial, "lines": []string{"name spare", "mast-word sealed " + tern.Sealed(sim.MastWord),
		"crew " + sim.ServiceUser, "  rank master", "  word sealed " + tern.Sealed(sim.ServiceWord), "lane uplink1", "  guard strict"}}, nil)
}

// TestSwap: other hardware at a router's address takes its place: with the key
// that a person accepted, the newest version, a proof, and a record. The history
// stays with the place.
func TestSwap(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("heron"))
	w.pull(r1)
	first, old := w.fleet.running(r1), w.fleet.status(r1).Serial
	if _, said, status := w.cli("swap", r1, "--yes"); status != 1 || !strings.Contains(said, "is the device's own hardware") {
		t.Errorf("a swap of the device's own hardware: status %d, %s", status, said)
	}
	w.replace(r1, "TN4-SPARE1")
	w.fleet.call("POST", "/devices/"+r1+"/hostkey", nil, nil)
	shown := must(w.admin.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222))(t).Fingerprint
	if j := w.pull(r1); j.Outcome != "failed" {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	if _, said, status := w.cli("swap", r1, "--yes"); status != 2 || !strings.Contains(said, "--accept-key "+shown) {
		t.Errorf("with another key: status %d, %s", status, said)
	}
	out, said, status := w.cli("swap", r1, "--accept-key", shown, "--preview")
	if status != 0 || !strings.Contains(out, "new unit: serial TN4-SPARE1") || !strings.Contains(out, "serial "+old) {
		t.Errorf("preview: status %d\n%s%s", status, out, said)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.HostKey == shown || d.State != "hardware changed" {
		t.Errorf("after a mere preview it is %s, key %s", d.State, d.HostKey)
	}
	// Taken back, the place is the old unit's again.
	p := w.preview(client.NewPreview{Ref: r1, To: r1, Swap: true, AcceptKey: shown})
	if p.Swap == nil || p.Swap.NewSerial != "TN4-SPARE1" || len(p.Warnings) != 0 {
		t.Fatalf("%+v", p)
	}
	j := w.parked(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Within: "2m"}, ""))(t).ID)
	must(w.admin.Undo(ctx(t), j.ID))(t)
	if end := w.end(j.ID); end.Outcome != "undone" {
		t.Fatalf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(j.ID))
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "hardware changed" || d.Serials[0] != old || len(must(w.admin.Swaps(ctx(t), r1))(t)) != 0 {
		t.Errorf("undone, and it is %s, expected serials %v", d.State, d.Serials)
	}
	out, said, status = w.cli("swap", r1, "--accept-key", shown, "--yes", "--note", "struck by lightning")
	if status != 0 || w.fleet.running(r1) != first {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	d := must(w.admin.Device(ctx(t), r1))(t)
	if d.State != "in sync" || d.Serial != "TN4-SPARE1" || len(d.Serials) != 1 || d.HostKey != shown {
		t.Errorf("%+v", d)
	}
	swaps := must(w.admin.Swaps(ctx(t), r1))(t)
	if len(swaps) != 1 || swaps[0].OldSerial != old || swaps[0].NewSerial != "TN4-SPARE1" || swaps[0].Note != "struck by lightning" || swaps[0].Outcome != "verified" || swaps[0].Actor != "admin" {
		t.Errorf("%+v", swaps)
	}
	if out, _, _ := w.cli("--json", "audit", "list"); !strings.Contains(out, "host key accepted") || !strings.Contains(out, shown) {
		t.Errorf("the audit log does not tell which key was accepted:\n%s", out)
	}
	if out, _, _ := w.cli("device", "show", r1); !strings.Contains(out, "TN4-SPARE1 took the place of "+old) {
		t.Errorf("the device does not tell of it:\n%s", out)
	}
	if v := must(w.admin.Text(ctx(t), r1+"@1"))(t); v.Version.Number != 1 {
		t.Error("the history is gone")
	}
	// The old unit, back in the rack by mistake, is other hardware now.
	w.replace(r1, old)
	if w.pull(r1); must(w.admin.Device(ctx(t), r1))(t).State != "hardware changed" {
		t.Error("the old unit counts as the device")
	}
	// A pair that answers with its other half is no swap.
	w.pull("control-f1")
	w.fleet.call("POST", "/devices/control-f1/takeover", nil, nil)
	w.pull("control-f1")
	if _, said, status := w.cli("swap", "control-f1", "--yes"); status == 0 || !strings.Contains(said, "is the device's own hardware") {
		t.Errorf("the other half of a pair was swapped in: %s", said)
	}
}

// TestSwapAhead: the new unit is made ready on a bench, at another address.
// TestSwapOntoAnother: a unit that is the hardware of another registered device takes no place by a
// swap, and a mere look at a unit elsewhere says nothing of the device whose place it would take.
func TestSwapOntoAnother(t *testing.T) {
	t.Parallel()
	const r2 = "innisquill-r1"
	w := newWorld(t, 2)
	w.pull(r1)
	w.pull(r2)
	before, place := w.fleet.running(r2), w.fleet.place(r2)
	key := must(w.admin.Device(ctx(t), r2))(t).HostKey
	at := fmt.Sprintf("%s:%d", place.Address, 2222)
	for _, args := range [][]string{{"--preview"}, {"--yes"}} {
		out, said, status := w.cli(append([]string{"swap", r1, "--at", at, "--accept-key", key}, args...)...)
		if status == 0 || !strings.Contains(out+said, "is the hardware of "+r2) {
			t.Errorf("%v: status %d\n%s%s", args, status, out, said)
		}
	}
	if w.fleet.running(r2) != before {
		t.Error("the other device runs something else")
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.Trouble != "" {
		t.Errorf("a look at another unit made it %s: %s", d.State, d.Trouble)
	}
}

func TestSwapAhead(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	const spare = "innisquill-r1"
	w.pull(r1)
	first := w.fleet.running(r1)
	w.replace(spare, "TN4-BENCH1")
	bench := w.fleet.place(spare).Address + ":2222"
	shown := must(w.admin.Probe(ctx(t), "", w.fleet.place(spare).Address, 2222))(t).Fingerprint
	w.fleet.faults(r1, box.Faults{Down: true}) // the old unit is dead
	if _, said, status := w.cli("swap", r1, "--at", bench, "--yes"); status != 2 || !strings.Contains(said, "--accept-key "+shown) {
		t.Errorf("status %d, %s", status, said)
	}
	out, said, status := w.cli("swap", r1, "--at", bench, "--accept-key", shown, "--yes")
	if status != 0 || w.fleet.running(spare) != first {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.Serial != "TN4-BENCH1" || d.Address != w.fleet.place(r1).Address {
		t.Errorf("%+v", d)
	}
}

// TestWarnings: what speaks against a push needs a reason, which is kept.
func TestWarnings(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	w.pull("innisquill-r1")
	p := w.preview(client.NewPreview{Ref: r1 + "@1", To: "innisquill-r1"})
	if len(p.Warnings) != 1 || !strings.Contains(p.Warnings[0], "was taken from "+r1) {
		t.Fatalf("%v", p.Warnings)
	}
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""); !client.IsStatus(err, 409) {
		t.Errorf("pushed without a reason: %v", err)
	}
	if _, said, status := w.cli("push", r1+"@1", "--to", "innisquill-r1", "--yes"); status != 2 || !strings.Contains(said, "--override") {
		t.Errorf("status %d, %s", status, said)
	}
	if end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Override: "a restore test"}, ""))(t).ID); end.Outcome != "verified" {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if out, _, _ := w.cli("--json", "audit", "list"); !strings.Contains(out, "because: a restore test") {
		t.Errorf("the audit log does not say why:\n%s", out)
	}
}

// TestAfterReset: a gateway that was reset, to its users or to nothing, is one
// push away from being back: with the maker's login, past the first-run page,
// from the maker's address to its own.
func TestAfterReset(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("dunlin"))
	const g = "workshop-g1"
	w.gateways(g)
	w.pull(g)
	settings := func() (s dunlin.Settings) {
		if err := json.Unmarshal([]byte(w.fleet.running(g)), &s); err != nil {
			t.Fatal(err)
		}
		return s
	}
	before := settings()
	for _, c := range []struct{ depth, at string }{{"users", ""}, {"all", strings.Join(append(strings.Split(w.fleet.place(g).Address, ".")[:2], "250", "1"), ".")}} {
		w.fleet.call("POST", "/devices/"+g+"/reset", map[string]any{"depth": c.depth}, nil)
		if c.at == "" {
			w.pull(g)
			if d := must(w.admin.Device(ctx(t), g))(t); d.State != "factory defaults" {
				t.Fatalf("%s: it is %s", c.depth, d.State)
			}
		}
		args := []string{"push", g, "--yes"}
		if c.at != "" {
			args = append(args, "--at", c.at)
		}
		out, said, status := w.cli(args...)
		if status != 0 {
			t.Fatalf("%s: status %d\n%s%s", c.depth, status, out, said)
		}
		if !strings.Contains(out, "passing the first-run page") || !strings.Contains(out, "with factory settings") {
			t.Errorf("%s:\n%s", c.depth, out)
		}
		if now := settings(); now.Name != before.Name || now.Address != before.Address || len(now.Users) != len(before.Users) {
			t.Errorf("%s: %+v, was %+v", c.depth, now, before)
		}
		if j := w.pull(g); j.Outcome != "done" {
			t.Errorf("%s: %s: %s", c.depth, j.Outcome, j.Summary)
		}
		if d := must(w.admin.Device(ctx(t), g))(t); d.State != "in sync" {
			t.Errorf("%s: it is %s", c.depth, d.State)
		}
	}
}

// TestController: a controller's import restarts it, and its access points are
// taken back in; one that does not come is named.
func TestController(t *testing.T) {
	t.Parallel()
	raw, err := dialects.Files.ReadFile("skua.yaml")
	if err != nil {
		t.Fatal(err)
	}
	hasty := t.TempDir() // two minutes of patience are too many here
	if err := os.WriteFile(filepath.Join(hasty, "skua.yaml"), bytes.Replace(raw, []byte("rejoin: 2m"), []byte("rejoin: 3s"), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	w := newWorld(t, 1, withFamilies("skua"), withDialects(hasty))
	const c = "control-w1"
	w.pull(c)
	w.fleet.amend(c, "okonkwo", "power low")
	w.pull(c)
	joined := func() (n int) {
		for _, f := range w.fleet.status(c).Files {
			if strings.HasSuffix(f, "joined=true") {
				n++
			}
		}
		return n
	}
	before := joined()
	if before == 0 {
		t.Fatal("no access point is joined")
	}
	p := w.preview(client.NewPreview{Ref: c + "@1"})
	if !strings.Contains(strings.Join(p.Notes, "\n"), "hang on it and are away with it") {
		t.Errorf("who else is affected is not said: %v", p.Notes)
	}
	end := w.push(c + "@1")
	if end.Outcome != "verified" || joined() != before {
		t.Errorf("%s: %s; %d of %d are back\n%s", end.Outcome, end.Summary, joined(), before, w.logText(end.ID))
	}
	for _, d := range must(w.admin.Devices(ctx(t), []string{"kind=access-point"}))(t) {
		if d.State != "in sync" {
			t.Errorf("%s is %s: %s", d.Name, d.State, d.Trouble)
		}
	}
	stray := "ap-skerrinsay-quay"
	w.fleet.faults(c, box.Faults{Stray: stray})
	end = w.push(c + "@2")
	if !strings.Contains(end.Summary, "not back: "+stray) || joined() != before-1 {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	if log := w.logText(end.ID); !strings.Contains(log, stray+" is not back: it was asked for and did not come back") {
		t.Errorf("the log does not say why:\n%s", log)
	}
	// Before the next one it is said that it will not be waited for; so is one that
	// goes by another name by now.
	w.fleet.faults(c, box.Faults{})
	w.sql("UPDATE devices SET member = 'ap-old-name' WHERE name = 'ap-innisquill-quay'")
	p = w.preview(client.NewPreview{Ref: c + "@1"})
	for _, part := range []string{"not there now, so not waited for afterwards: ", stray + " (", "ap-old-name (it knows nobody of that name)"} {
		if !strings.Contains(strings.Join(p.Notes, "\n"), part) {
			t.Errorf("it lacks %q: %q", part, p.Notes)
		}
	}
}

// gateways has a gateway use a credential set that knows the maker's login.
func (w *world) gateways(name string) {
	w.t.Helper()
	set := client.NewCredentialSet{Name: "gateways", User: sim.ServiceUser, Password: sim.ServiceWord, FactoryUser: dunlin.FactoryUser, FactoryPassword: dunlin.FactoryWord}
	must(w.admin.AddCredentialSet(ctx(w.t), set))(w.t)
	must(w.admin.AttachCredentialSet(ctx(w.t), set.Name, []string{name}))(w.t)
}
