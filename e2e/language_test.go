package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
)

func shippedDialect(t testing.TB, name string) string {
	t.Helper()
	src, err := dialects.Files.ReadFile(name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	return string(src)
}

// put writes a file so that it is never seen half written.
func put(t testing.TB, path, content string) {
	t.Helper()
	if err := os.WriteFile(path+".new", []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		t.Fatal(err)
	}
}

// TestDialectsWhileRunning: a changed file is taken up while the service runs;
// when its rules change the fleet does not seem to have changed; one that is not
// sound changes nothing; one that is loaded by hand outlives a restart.
func TestDialectsWhileRunning(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	tern := shippedDialect(t, "tern")
	put(t, filepath.Join(dir, "tern.yaml"), tern)
	w := newWorld(t, 1, withDialects(dir))
	w.pull(r1)
	revision := func() int { return must(w.admin.Dialect(ctx(t), "tern"))(t).Revision }
	if n := revision(); n != 1 {
		t.Fatalf("revision %d", n)
	}
	// A line that counted as settled no longer does: the next pull is a sighting.
	put(t, filepath.Join(dir, "tern.yaml"), strings.Replace(tern, "{path: 'domain <name>', overwrites: true}", "{path: 'domain <name>', volatile: true}", 1))
	eventually(t, "the changed file is in use", func() bool { return revision() == 2 })
	if j := w.pull(r1); !strings.Contains(j.Summary, "running unchanged, still 1") {
		t.Errorf("the rules changed, and so it seems did the fleet: %s", j.Summary)
	}
	put(t, filepath.Join(dir, "tern.yaml"), "dialect: tern\ntitle: [\n")
	eventually(t, "the unsound file is told of", func() bool { return strings.Contains(w.proc.said(), "what was in use stays") })
	if j := w.pull(r1); j.Outcome != "done" || revision() != 2 {
		t.Errorf("%s, revision %d", j.Summary, revision())
	}
	put(t, filepath.Join(dir, "tern.yaml"), tern)
	eventually(t, "the sound file is in use again", func() bool { return revision() == 3 })

	file := filepath.Join(w.dir, "mine.yaml")
	put(t, file, strings.Replace(tern, "title: Tern router, release 4", "title: Tern, by hand", 1))
	if out, said, status := w.cli("dialect", "load", file); status != 0 || !strings.Contains(out, "revision 4") {
		t.Fatalf("%d: %s%s", status, out, said)
	}
	w.proc.stop()
	w.serve()
	if d := must(w.admin.Dialect(ctx(t), "tern"))(t); d.Title != "Tern, by hand" || d.Revision != 4 {
		t.Errorf("after a restart: %s, revision %d", d.Title, d.Revision)
	}
	if j := w.pull(r1); !strings.Contains(j.Summary, "running unchanged, still 1") {
		t.Errorf("%s", j.Summary)
	}
	put(t, file, "dialect: tern\n")
	if _, said, status := w.cli("dialect", "load", file); status != 2 || !strings.Contains(said, "not sound") {
		t.Errorf("%d: %s", status, said)
	}
}

// TestDialectTry runs a dialect against a live device: what is said is shown,
// nothing is kept, and a slip is shown where it happens.
func TestDialectTry(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	p := w.fleet.place("skerrinsay-sw1")
	probe := must(w.admin.Probe(ctx(t), "ssh", p.Address, p.Port))(t)
	file := filepath.Join(w.dir, "plover.yaml")
	src := shippedDialect(t, "plover")
	try := func(src string) (string, int) {
		put(t, file, src)
		out, said, status := w.cli("dialect", "try", file, "--address", p.Address, "--port", fmt.Sprint(p.Port), "--user", sim.ServiceUser, "--accept-key", probe.Fingerprint)
		return out + said, status
	}
	out, status := try(src)
	if status != 0 || !strings.Contains(out, `"write all as {file}"`) || !strings.Contains(out, "part running") || !strings.Contains(out, "complete") || strings.Contains(out, sim.ServiceWord) {
		t.Errorf("%d:\n%s", status, out)
	}
	if out, status = try(strings.Replace(src, "^number is ", "^numero is ", 1)); status != 1 || !strings.Contains(out, "names no serial number") {
		t.Errorf("%d:\n%s", status, out)
	}
	if out, status = try(strings.Replace(src, `settings$'`, `things$'`, 1)); status != 1 || !strings.Contains(out, "its end mark is missing") {
		t.Errorf("%d:\n%s", status, out)
	}
	if out, status = try(strings.Replace(src, "kind: switch", "kind: swich", 1)); status != 2 || !strings.Contains(out, "plover.yaml:4:") {
		t.Errorf("%d:\n%s", status, out)
	}
	if st := w.fleet.status("skerrinsay-sw1"); len(st.Files) != 0 {
		t.Errorf("left on the switch: %v", st.Files)
	}
	if _, err := w.admin.Device(ctx(t), "trial"); !client.IsStatus(err, 404) {
		t.Error("the trial was kept")
	}
}

// TestDeviceThatOnlySends: the switch is told to send its file to us, and to
// fetch one from us.
func TestDeviceThatOnlySends(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	src := shippedDialect(t, "plover")
	src = strings.Replace(src, "dialect: plover", "dialect: plover-sends", 1)
	begin, end := strings.Index(src, "    make:\n"), strings.Index(src, "    complete:\n      first: ['^# \\w+ of")
	src = src[:begin] + "    make:\n      - {mode: looking, type: 'send all to {inbox} {inbox-port} as {inbox-path}', done: '^sent$'}\n    sent: tftp\n" + strings.Replace(src[end:], "      size: size\n", "", 1)
	src = src[:strings.Index(src, "variants:")]
	src = src[:strings.Index(src, "change:")] + "change:\n  methods: [replace]\n  offer: tftp\n  load:\n    - {mode: working, type: 'bring all from {inbox} {inbox-port} as {inbox-path}', done: '^taken over$'}\n"
	put(t, filepath.Join(dir, "sends.yaml"), src)
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := udp.LocalAddr().(*net.UDPAddr).Port
	udp.Close()
	config := filepath.Join(dir, "magpie.conf")
	put(t, config, fmt.Sprintf("inbox:\n  listen: 127.0.0.1\n  address: 127.0.0.1\n  tftp: %d\n", port))
	w := newWorld(t, 1, withFamilies("plover"), withDialects(dir), func(w *world) { w.extra = append(w.extra, "--config", config) })
	n := w.entry(w.fleet.place("skerrinsay-sw1"), "plover-sends")
	n.Name = "sends"
	if err := w.admin.RemoveDevice(ctx(t), "skerrinsay-sw1"); err != nil {
		t.Fatal(err)
	}
	must(w.admin.AddDevice(ctx(t), n))(t)
	if j := w.pull("sends"); j.Outcome != "done" || !strings.Contains(w.logText(j.ID), "sends running by tftp, which carries it unencrypted") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if v := must(w.admin.Text(ctx(t), "sends"))(t); !strings.Contains(v.Text, "port 3 : label is <ticket kiosk 1>") {
		t.Errorf("it sent\n%s", v.Text)
	}
	// And it only fetches: what is put back is handed out to it.
	w.fleet.amend("skerrinsay-sw1", "mwilks", "port 3 : label is <moved>", "port 5 : strand is nothing")
	if j := w.push("sends@1"); j.Outcome != "unsaved" && j.Outcome != "verified" || strings.Contains(w.fleet.running("skerrinsay-sw1"), "moved") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
}

// TestImport: many devices at once, all or none, and each bad row told by row
// and column.
func TestImport(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	for _, p := range w.fleet.places {
		if err := w.admin.RemoveDevice(ctx(t), p.Name); err != nil {
			t.Fatal(err)
		}
	}
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "routers", User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord}))(t)
	file := filepath.Join(w.dir, "devices.csv")
	rows := "name,address,port,dialect,site,credential\n"
	for _, p := range w.fleet.places {
		rows += fmt.Sprintf("%s,%s,%d,tern,here,routers\n", p.Name, p.Address, p.Port)
	}
	put(t, file, rows+"bad name,127.0.0.1,2222,tern,here,routers\nr9,127.0.0.1,eleven,tern,here,routers\nr10,127.0.0.1,2222,martian,here,routers\n")
	out, said, status := w.cli("device", "import", file, "--accept-keys")
	if status != 1 || !strings.Contains(out, "Nothing was added") || len(must(w.admin.Devices(ctx(t), nil))(t)) != 0 {
		t.Errorf("%d:\n%s%s", status, out, said)
	}
	for _, want := range []string{"6    port", "7    dialect"} {
		if !strings.Contains(out, want) {
			t.Errorf("row and column %q are not told:\n%s", want, out)
		}
	}
	if out, said, status = w.cli("device", "import", file, "--accept-keys", "--skip-bad"); status != 1 || !strings.Contains(out, "3 devices were added") {
		t.Errorf("%d:\n%s%s", status, out, said)
	}
	put(t, file, "name,address,dialekt\n")
	if _, said, status = w.cli("device", "import", file); status != 2 || !strings.Contains(said, `no column is named "dialekt"`) {
		t.Errorf("%d: %s", status, said)
	}
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("%s", j.Summary)
	}
}

// TestRetry: what may pass is tried again; a refused login never is.
func TestRetry(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover"))
	sw := "skerrinsay-sw1"
	w.fleet.faults(sw, box.Faults{Busy: 1})
	if j := w.pull(sw); j.Outcome != "done" || !strings.Contains(w.logText(j.ID), "trying again in") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	w.fleet.faults(sw, box.Faults{Busy: 9})
	if j := w.pull(sw); j.Outcome != "failed" || !strings.Contains(j.Summary, "busy") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}
