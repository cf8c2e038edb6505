package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

// variant writes a dialect made from the shipped one and returns its folder.
func variant(t *testing.T, name string, replace ...string) string {
	t.Helper()
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(append([]string{"dialect: tern\n", "dialect: " + name + "\n"}, replace...)...).Replace(string(src))
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, name+".yaml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

// TestPagerThatCannotBeTurnedOff pulls through a pager, page by page.
func TestPagerThatCannotBeTurnedOff(t *testing.T) {
	t.Parallel()
	dir := variant(t, "tern-paged", "  prepare:\n    - sheet endless\n", "  pager: {shows: '^\\(\\(space turns the sheet, q puts it away\\)\\)$', answer: ' '}\n")
	w := newWorld(t, 1, withDialects(dir))
	w.pull(r1)
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Dialect: "tern-paged"}))(t)
	if j := w.pull(r1); j.Outcome != "done" || j.Pull.Parts[0].New {
		t.Fatalf("through the pager the pull ended %s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", "shut")
	if end := w.push(r1 + "@1"); end.Outcome != "verified" {
		t.Errorf("the push ended %s: %s", end.Outcome, end.Summary)
	}
}

// TestPatience: a device that is slow is waited for, one that hangs is not, and
// the lease is given back.
func TestPatience(t *testing.T) {
	t.Parallel()
	dir := variant(t, "tern-hasty", "answer: 60s, idle: 20s", "answer: 1500ms, idle: 1500ms")
	w := newWorld(t, 1, withDialects(dir))
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Dialect: "tern-hasty"}))(t)
	w.fleet.faults(r1, tern.Faults{SlowMS: 300})
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("from a slow device the pull ended %s: %s", j.Outcome, j.Summary)
	}
	for _, at := range []string{"aloft", "recite running", "recite unit"} {
		w.fleet.faults(r1, tern.Faults{Hang: at})
		began := time.Now()
		j := w.pull(r1)
		if j.Outcome != "failed" || !strings.Contains(j.Summary, "nothing came for 1.5s") || time.Since(began) > 20*time.Second {
			t.Errorf("from a device that hangs at %q the pull ended %s after %s: %s", at, j.Outcome, time.Since(began), j.Summary)
		}
	}
	w.fleet.faults(r1, tern.Faults{})
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("healthy again, the pull ended %s: %s", j.Outcome, j.Summary)
	}
	eventually(t, "no connection is left at the device", func() bool { return w.fleet.status(r1).Sessions == 0 })
	// A push into a hang is undone once the device answers again.
	before := w.fleet.running(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", "shut")
	changed := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{HoldLine: 2})
	push := w.begin(r1 + "@1")
	w.fleet.waitHolding(r1)
	if end := w.end(push.ID); end.Outcome != "undone" && end.Outcome != "verified" {
		t.Errorf("the push ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(push.ID))
	} else if got := w.fleet.running(r1); end.Outcome == "undone" && got != changed || end.Outcome == "verified" && got != before {
		t.Errorf("said %s, but the device runs\n%s", end.Outcome, got)
	}
}

// TestSignInByKey uses a private key instead of a password.
func TestSignInByKey(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	key := filepath.Join(t.TempDir(), "key")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	private, _ := os.ReadFile(key)
	public, _ := os.ReadFile(key + ".pub")
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Key: string(private)}))(t)
	if j := w.pull(r1); j.Outcome != "refused" || !strings.Contains(j.Summary, "publickey") {
		t.Errorf("with a key the device does not know the pull ended %s: %s", j.Outcome, j.Summary)
	}
	f := strings.Fields(string(public))
	w.fleet.amend(r1, "yard", "crew "+sim.ServiceUser, "badge "+f[0]+" "+f[1])
	must(w.admin.RetryLogin(ctx(t), r1))(t)
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("with a key it knows the pull ended %s: %s", j.Outcome, j.Summary)
	}
	if _, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Key: "no key"}); !client.IsStatus(err, 400) {
		t.Errorf("something that is no key: %v", err)
	}
}

// TestGarbageAtTheDoor sends the API what nobody should.
func TestGarbageAtTheDoor(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	long := strings.Repeat("x", 5000)
	for what, do := range map[string]func() error{
		"a device's name too long": func() error { _, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Name: long}); return err },
		"an address with a slash":  func() error { _, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Address: "a/b"}); return err },
		"a port out of range":      func() error { _, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Port: 70000}); return err },
		"a tag with a blank": func() error {
			_, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Tags: &[]string{"a b"}})
			return err
		},
		"a host key that is none": func() error {
			_, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{HostKey: "ssh-rsa"})
			return err
		},
		"a user's name too long": func() error {
			_, err := w.admin.AddUser(ctx(t), client.NewUser{Name: long, Role: "reader", Password: adminWord})
			return err
		},
		"a password too short": func() error {
			_, err := w.admin.AddUser(ctx(t), client.NewUser{Name: "x", Role: "reader", Password: "x"})
			return err
		},
		"a reference that is none":    func() error { _, err := w.admin.Text(ctx(t), "a b@@"); return err },
		"a selector that is none":     func() error { _, err := w.admin.Devices(ctx(t), []string{"a=b=c"}); return err },
		"an idempotency key too long": func() error { _, err := w.admin.Pull(ctx(t), []string{r1}, long[:81]); return err },
		"no selector":                 func() error { _, err := w.admin.Pull(ctx(t), nil, ""); return err },
		"bytes that are no text":      func() error { _, err := w.admin.Text(ctx(t), "r1@\xff\xfe"); return err },
		"a push of what runs live":    func() error { _, err := w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@live"}); return err },
		"a job's limit":               func() error { _, err := w.admin.Jobs(ctx(t), client.JobFilter{Limit: 100000}); return err },
	} {
		err := do()
		p, ok := err.(*client.Problem)
		if !ok || p.Status != 400 || p.Detail == "" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := w.admin.Login(ctx(t), client.Login{User: strings.Repeat("ü", 300), Password: "x"}); !client.IsStatus(err, 400) {
		t.Errorf("a name that is far too long: %v", err)
	}
	if j := w.pull(r1); j.Outcome != "done" {
		t.Errorf("after all that a pull ended %s: %s", j.Outcome, j.Summary)
	}
	if !strings.Contains(w.proc.said(), "Whoever loses this") {
		t.Errorf("the first start does not say what losing the key means:\n%s", w.proc.said())
	}
}
