package e2e

import (
	"bytes"
	"magpie/client"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestKeys: the master key on paper, proved by typing it back, until when everybody is reminded;
// a key file made of the words alone; and another master key while the service runs, after which
// all reads back, old and new, and only the new key file opens the database.
func TestKeys(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	w.pull(r1)
	data := filepath.Join(w.dir, "data")
	key := func(status int, stdin string, args ...string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, "magpie"), append([]string{"key"}, args...)...)
		cmd.Stdin, cmd.Env = strings.NewReader(stdin), append(os.Environ(), "HOME="+w.dir)
		out, _ := cmd.CombinedOutput()
		if cmd.ProcessState.ExitCode() != status {
			t.Errorf("magpie key %s: status %d\n%s", strings.Join(args, " "), cmd.ProcessState.ExitCode(), out)
		}
		return string(out)
	}
	reminded := func() bool {
		t.Helper()
		out, _, _ := w.cli("status")
		return strings.Contains(out, "no recovery sheet") && must(w.admin.Status(ctx(t)))(t).SheetDue
	}
	words := func() string {
		t.Helper()
		var all []string
		for _, m := range regexp.MustCompile(`(?m)\d+ ([a-z]+) `).FindAllStringSubmatch(key(0, "", "sheet", "--data", data), -1) {
			all = append(all, m[1])
		}
		if len(all) != 24 {
			t.Fatalf("%d words", len(all))
		}
		return strings.Join(all, " ")
	}
	if !reminded() {
		t.Error("nobody is reminded of a recovery sheet")
	}
	first := words()
	file := filepath.Join(w.dir, "words")
	put(t, file, strings.Replace(first, first[:strings.Index(first, " ")], "quayside", 1))
	if out := key(2, "", "verify", "--data", data, "--words-file", file); !strings.Contains(out, `word 1, "quayside"`) || !reminded() {
		t.Errorf("%s", out)
	}
	put(t, file, first)
	key(0, "", "verify", "--data", data, "--words-file", file)
	if reminded() {
		t.Error("a sheet was verified, and is asked for")
	}
	again := filepath.Join(w.dir, "again.key")
	key(0, "", "restore", "--to", again, "--words-file", file)
	key(2, "", "restore", "--to", again, "--words-file", file)
	hex := func(path string) string {
		t.Helper()
		lines := strings.Split(strings.TrimSpace(string(must(os.ReadFile(path))(t))), "\n")
		return lines[len(lines)-1]
	}
	if hex(again) != hex(filepath.Join(data, "master.key")) {
		t.Error("the words make another key")
	}

	// Another master key. The key to the copies lies at a target, and is sealed to the new one as soon as
	// something goes there.
	vault := t.TempDir()
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	w.inStep("vault")
	opens := func(master string) bool {
		t.Helper()
		identity := filepath.Join(w.dir, "identity.txt")
		put(t, identity, key(0, "", "identity", "--data", data, "--master-key", master))
		out, err := exec.Command("age", "--decrypt", "-i", identity, filepath.Join(vault, "magpie-key.age")).CombinedOutput()
		return err == nil && bytes.Contains(out, []byte("AGE-SECRET-KEY-"))
	}
	if !opens(again) {
		t.Error("the sheet's key does not open the key to the copies")
	}
	old := must(w.admin.Download(ctx(t), r1+"@1"))(t)
	if out := key(0, "", "rotate", "--data", data); !strings.Contains(out, "print a new recovery sheet") || !reminded() {
		t.Errorf("%s", out)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "after the rotation"`)
	w.pull(r1)
	w.inStep("vault")
	eventually(t, "the key to the copies to be sealed to the new master key", func() bool { return opens(filepath.Join(data, "master.key")) })
	if opens(again) {
		t.Error("the old master key still opens the key to the copies")
	}
	w.kill()
	w.serve()
	if got := must(w.admin.Download(ctx(t), r1+"@1"))(t); got != old {
		t.Error("what was kept before does not read back")
	}
	must(w.admin.Download(ctx(t), r1+"@2"))(t)
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); !r.Sound {
		t.Errorf("%+v", r)
	}
	put(t, file, first)
	if out := key(2, "", "verify", "--data", data, "--words-file", file); !strings.Contains(out, "the sheet is of another key") {
		t.Errorf("%s", out)
	}
	w.proc.stop()
	if out := key(2, "", "rotate", "--data", data); !strings.Contains(out, "start it first") {
		t.Errorf("%s", out)
	}
	// Broken off after the database had the new key: the next start goes on with it.
	if err := os.Rename(filepath.Join(data, "master.key"), filepath.Join(data, "master.key.new")); err != nil {
		t.Fatal(err)
	}
	raw := must(os.ReadFile(again))(t)
	if err := os.WriteFile(filepath.Join(data, "master.key"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	w.serve()
	must(w.admin.Download(ctx(t), r1+"@2"))(t)
	// The old key alone opens nothing.
	w.proc.stop()
	out, err := exec.Command(filepath.Join(bin, "magpie"), "serve", "--data", data, "--master-key", again, "--listen", "127.0.0.1:0").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "wrong master key") {
		t.Errorf("%v: %s", err, out)
	}
}
