package e2e

import (
	"crypto/tls"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"magpie/internal/scratch"
	"magpie/internal/sim/tern"
)

// served runs magpie serve until it ends by itself, and returns what it said.
func served(t *testing.T, dsn string, args ...string) (said string, status int) {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "magpie"), append([]string{"serve", "--data", filepath.Join(t.TempDir(), "data")}, args...)...)
	cmd.Env = append(os.Environ(), "MAGPIE_DATABASE="+dsn)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// TestOwnTLS: beyond this machine the service answers by TLS or not at all, unless it is
// meant; a certificate of its own is known by its fingerprint; one from files is read again
// when they change, and what cannot be used changes nothing.
func TestOwnTLS(t *testing.T) {
	t.Parallel()
	dsn := scratch.Database(t)
	if said, status := served(t, dsn, "--listen", "0.0.0.0:0"); status != 2 || !strings.Contains(said, "plain_http_beyond_this_machine") {
		t.Errorf("open to others without TLS: exit %d, %s", status, said)
	}
	for _, c := range [][]string{{"--tls-cert", "x"}, {"--tls-cert", "x", "--tls-key", "y", "--tls-self"}, {"--debug", "0.0.0.0:6060"}, {"--log", "xml"}, {"--proxies", "10.0.0.0/8,nobody"}} {
		if said, status := served(t, dsn, c...); status != 2 || !strings.Contains(said, "configuration: ") {
			t.Errorf("%v: exit %d, %s", c, status, said)
		}
	}
	dir := t.TempDir()
	p := start(t, append(os.Environ(), "MAGPIE_DATABASE="+dsn), "serve", "--listen", "0.0.0.0:0", "--tls-self", "--data", filepath.Join(dir, "data"))
	url := strings.Replace(p.waitFor(regexp.MustCompile(`up at (https://\S+)`)), "[::]", "127.0.0.1", 1)
	shown := regexp.MustCompile(`fingerprint SHA-256 (SHA256:\S+)`).FindStringSubmatch(p.said())
	if shown == nil {
		t.Fatalf("no fingerprint is shown: %s", p.said())
	}
	word, err := os.ReadFile(filepath.Join(dir, "data", "admin.password"))
	if err != nil {
		t.Fatal(err)
	}
	login := func(url string, args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(bin, "magpie"), append([]string{"login", url, "--user", "admin"}, args...)...)
		cmd.Env = append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir, "MAGPIE_PASSWORD="+strings.TrimSpace(string(word)), "MAGPIE_NEW_PASSWORD="+adminWord)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	if said, status := login(url); status != 2 || !strings.Contains(said, "--fingerprint") {
		t.Errorf("nobody vouches for it: exit %d, %s", status, said)
	}
	if said, status := login(url, "--fingerprint", "SHA256:something-else"); status != 2 || !strings.Contains(said, "another certificate") {
		t.Errorf("another fingerprint: exit %d, %s", status, said)
	}
	if said, status := login(url, "--fingerprint", shown[1]); status != 0 {
		t.Fatalf("its fingerprint: exit %d, %s", status, said)
	}
	cmd := exec.Command(filepath.Join(bin, "magpie"), "status")
	cmd.Env = append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME="+dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("afterwards: %v\n%s", err, out)
	}
	p.stop()

	make := func(name string) {
		t.Helper()
		for _, f := range []string{"cert.pem", "key.pem"} {
			_ = os.Remove(filepath.Join(dir, f))
		}
		out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2", "-subj", "/CN="+name, "-addext", "subjectAltName=IP:127.0.0.1",
			"-keyout", filepath.Join(dir, "key.pem"), "-out", filepath.Join(dir, "cert.pem")).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	make("first")
	p = start(t, append(os.Environ(), "MAGPIE_DATABASE="+dsn), "serve", "--listen", "127.0.0.1:0", "--tls-cert", filepath.Join(dir, "cert.pem"), "--tls-key", filepath.Join(dir, "key.pem"), "--data", filepath.Join(dir, "data"))
	url = p.waitFor(regexp.MustCompile(`up at (https://\S+)`))
	name := func() string {
		conn, err := tls.Dial("tcp", strings.TrimPrefix(url, "https://"), &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			return err.Error()
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].Subject.CommonName
	}
	if got := name(); got != "first" {
		t.Errorf("it shows %s", got)
	}
	make("second")
	eventually(t, "the changed certificate is shown", func() bool { return name() == "second" })
	if err := os.WriteFile(filepath.Join(dir, "cert.pem"), []byte("no certificate\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it is said that the file cannot be used", func() bool { _ = name(); return strings.Contains(p.said(), "cannot be used") })
	if got := name(); got != "second" {
		t.Errorf("with a file that cannot be used it shows %s", got)
	}
}

// TestUnit: the unit for systemd is one, keeps to a sandbox, and starts the service with
// settings that there are.
func TestUnit(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../packaging/magpie.service")
	if err != nil {
		t.Fatal(err)
	}
	unit := strings.ReplaceAll(string(raw), "/usr/local/bin/magpie", filepath.Join(bin, "magpie"))
	file := filepath.Join(t.TempDir(), "magpie.service")
	if err := os.WriteFile(file, []byte(unit), 0o644); err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(t.TempDir(), "magpie.yaml")
	if err := os.WriteFile(config, []byte("listen: 127.0.0.1:0\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, l := range regexp.MustCompile(`(?m)^ExecStart(?:Pre)?=(.*)$`).FindAllStringSubmatch(unit, -1) {
		words := strings.Fields(strings.NewReplacer("/etc/magpie/magpie.yaml", config, "/var/lib/magpie", t.TempDir()).Replace(l[1]))
		if out, err := exec.Command(words[0], append(words[1:], "--check")...).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", l[1], err, out)
		}
	}
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("no systemd here that could look at the unit")
	}
	if out, err := exec.Command("systemd-analyze", "verify", file).CombinedOutput(); err != nil || strings.Contains(string(out), "magpie.service:") {
		t.Errorf("verify: %v\n%s", err, out)
	}
	if out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=25", file).CombinedOutput(); err != nil {
		t.Errorf("its sandbox: %v\n%s", err, out)
	}
}

// TestShells: completion is installed by one command where each shell looks for it, twice
// changes nothing more; the manual page has every command that --help has.
func TestShells(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	run := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, "magpie"), args...)
		cmd.Env = []string{"HOME=" + home, "SHELL=/bin/zsh", "PATH=" + os.Getenv("PATH")}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	for range 2 {
		run("completion", "install")
		run("completion", "install", "--shell", "bash")
		run("completion", "install", "--shell", "fish")
	}
	for file, holds := range map[string]string{".local/share/zsh/site-functions/_magpie": "#compdef magpie", ".local/share/bash-completion/completions/magpie": "complete -o", ".config/fish/completions/magpie.fish": "complete -c magpie -f", ".zshrc": "site-functions"} {
		raw, err := os.ReadFile(filepath.Join(home, file))
		if err != nil || strings.Count(string(raw), holds) != 1 {
			t.Errorf("%s: %v\n%s", file, err, raw)
		}
	}
	if out, err := exec.Command("bash", "-n", filepath.Join(home, ".local/share/bash-completion/completions/magpie")).CombinedOutput(); err != nil {
		t.Errorf("bash cannot read its script: %v\n%s", err, out)
	}
	if out := run("--generate-shell-completion"); !strings.Contains(out, "schedule") || !strings.Contains(out, "recipient") {
		t.Errorf("offered are %s", out)
	}
	page := run("man")
	for _, word := range []string{".TH magpie 1", "restore-test", "--tls-self", "recipient"} {
		if !strings.Contains(page, word) && !strings.Contains(page, strings.ReplaceAll(word, "-", `\-`)) {
			t.Errorf("the manual page lacks %s", word)
		}
	}
}

// TestStandsByItself: a check says what a start would find and begins nothing; the log is JSON
// lines with the ids of requests and jobs; profiles are on this machine only.
func TestStandsByItself(t *testing.T) {
	t.Parallel()
	dsn := scratch.Database(t)
	if said, status := served(t, dsn, "--check", "--listen", "127.0.0.1:0"); status != 0 || !strings.Contains(said, "database: there, and was never used") || !strings.Contains(said, "127.0.0.1:0 is free") {
		t.Errorf("before the first start: exit %d, %s", status, said)
	}
	w := newWorld(t, 1, func(w *world) { w.dsn, w.extra = dsn, []string{"--log", "json", "--debug", "127.0.0.1:0"} })
	j := w.pull(r1)
	check := func(args ...string) (string, int) {
		return served(t, dsn, append([]string{"--check", "--listen", "127.0.0.1:0"}, args...)...)
	}
	if said, status := check("--master-key", filepath.Join(w.dir, "data", "master.key")); status != 0 || !strings.Contains(said, "database: there, schema") {
		t.Errorf("with its key: exit %d, %s", status, said)
	}
	if said, status := check(); status != 2 || !strings.Contains(said, "master key is missing") {
		t.Errorf("without its key: exit %d, %s", status, said)
	}
	if said, status := check("--listen", strings.TrimPrefix(w.url, "http://"), "--master-key", filepath.Join(w.dir, "data", "master.key")); status != 2 || !strings.Contains(said, "cannot listen") {
		t.Errorf("where it listens already: exit %d, %s", status, said)
	}
	lines, asked := 0, false
	for line := range strings.Lines(w.proc.said()) {
		if !strings.HasPrefix(line, "{") {
			continue
		}
		var l map[string]any
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Errorf("no JSON: %s", line)
		}
		lines++
		asked = asked || l["path"] == "/api/v1/pulls" && l["request"] != "" && l["who"] == "admin"
	}
	if lines == 0 || !asked {
		t.Errorf("of %d lines none is of the pull %s:\n%s", lines, j.ID, w.proc.said())
	}
	at := regexp.MustCompile(`"at":"(http://127[^"]+)"`).FindStringSubmatch(w.proc.said())
	if at == nil {
		t.Fatalf("no profiles: %s", w.proc.said())
	}
	res, err := http.Get(at[1] + "goroutine?debug=1")
	if err != nil || res.StatusCode != 200 {
		t.Errorf("profiles: %v %v", res, err)
	}
	// It is asked to stop while a pull is under way: that goes on at the next start.
	w.fleet.faults(r1, tern.Faults{SlowMS: 40})
	id := must(w.admin.Pull(ctx(t), []string{r1}, "stop"))(t)[0].ID
	time.Sleep(300 * time.Millisecond) // it is under way
	w.proc.stop()
	w.serve()
	if j := w.end(id); j.Outcome != "done" {
		t.Errorf("the pull ended %s: %s", j.Outcome, j.Summary)
	}
}
