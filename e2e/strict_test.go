package e2e

import (
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestNothingIsGuessed: a switch that is neither true nor false, a word that is said twice, a query that
// cannot be read and a selector that is empty are errors; none is taken for what somebody did not say.
func TestNothingIsGuessed(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	ask := func(method, path string) (int, string) {
		t.Helper()
		req := must(http.NewRequest(method, w.url+"/api/v1"+path, strings.NewReader("")))(t)
		req.Header.Set("Authorization", "Bearer "+w.admin.Token)
		req.Header.Set("Content-Type", "application/octet-stream")
		res := must(http.DefaultClient.Do(req))(t)
		defer res.Body.Close()
		return res.StatusCode, string(must(io.ReadAll(res.Body))(t))
	}
	for _, c := range []struct{ method, path, says string }{
		{"GET", "/version?ref=" + r1 + "@1&masked=1", "true or false"},
		{"GET", "/version?ref=" + r1 + "@1&masked=yes", "true or false"},
		{"GET", "/version?ref=" + r1 + "@1&masked=true&masked=false", "once"},
		{"GET", "/version?ref=" + r1 + "@1&ref=" + r1 + "@2", "once"},
		{"POST", "/device-transfer-in?preview=1", "true or false"},
		{"GET", "/jobs?limit=ten", "whole number"},
		{"DELETE", "/sessions?user=bob;x", "cannot be read"},
		{"GET", "/search?line=name&selector=", "all"},
		{"GET", "/drift-report?selector=%20", "all"},
		{"GET", "/jobs?selector=", "all"},
	} {
		if status, said := ask(c.method, c.path); status != 400 || !strings.Contains(said, c.says) {
			t.Errorf("%s %s: %d %s", c.method, c.path, status, said)
		}
	}
	// The same at the command line.
	for _, args := range [][]string{{"changes", ""}, {"pull", " "}, {"drift", ""}} {
		if out, said, status := w.cli(args...); status != 2 || !strings.Contains(out+said, "empty") {
			t.Errorf("magpie %q: status %d\n%s%s", args, status, out, said)
		}
	}
	file := filepath.Join(t.TempDir(), "r1.cfg")
	if out, said, status := w.cli("show", r1, "--json", "--output", file); status != 0 || !strings.Contains(out, `"text"`) {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if raw, err := os.ReadFile(file); err != nil || !strings.Contains(string(raw), "name "+r1) {
		t.Errorf("with --json nothing is written: %v", err)
	}
	full := must(os.OpenFile("/dev/full", os.O_WRONLY, 0))(t)
	defer full.Close()
	cmd := exec.Command(filepath.Join(bin, "magpie"), "show", r1)
	cmd.Env, cmd.Stdout = append(os.Environ(), "MAGPIE_URL="+w.url, "MAGPIE_TOKEN="+w.admin.Token), full
	if err := cmd.Run(); err == nil {
		t.Error("what could not be written counts as said")
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "=1+1"`)
	w.pull(r1)
	j := w.push(r1 + "@1")
	if out, said, status := w.cli("push", "--undo", j.ID, "--at", "127.0.0.1:9", "--preview"); status == 0 || strings.Contains(out+said, "panic") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	// What a spreadsheet would take for a formula is none, and comes back as it was.
	note := "=cmd()"
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Note: &note}))(t)
	out, _, _ := w.cli("device", "export", "--as", "csv")
	if !strings.Contains(out, "'=cmd()") {
		t.Errorf("a formula goes out:\n%s", out)
	}
}
