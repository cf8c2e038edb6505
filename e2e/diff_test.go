package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestDiffForms: two versions, a version and a file, and two files, in each form; what cannot be
// compared is said.
func TestDiffForms(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	first := must(w.admin.Download(ctx(t), r1+"@1"))(t)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "moved to the west berth"`)
	w.pull(r1)
	w.cwd = t.TempDir()
	put(t, filepath.Join(w.cwd, "first.cfg"), first)
	put(t, filepath.Join(w.cwd, "other.cfg"), strings.Replace(first, "lane quay1\n", "lane quay1\n  mtu 9000\n", 1))
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(append([]string{"diff"}, args...)...)
		if got != status {
			t.Errorf("magpie diff %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	for _, c := range []struct {
		args   string
		status int
		says   []string
	}{
		{r1 + "@1 " + r1 + "@2", 1, []string{"+  note \"moved to the west berth\"", "lane quay1"}},
		{r1 + "@1 " + r1 + "@2 --as tree", 1, []string{"lane quay1\n  was      note", "  is       note \"moved to the west berth\""}},
		{r1 + "@1 " + r1 + "@2 --as side", 1, []string{r1 + "@1", "── in lane quay1", "≠"}},
		{r1 + "@1 " + r1 + "@2 --as summary", 1, []string{r1 + "@1 → " + r1 + "@2: different, ", "  lane quay1\n    note "}},
		{r1 + "@1 " + r1 + "@2 --as html", 1, []string{"<!doctype html>", "<h2>in lane quay1</h2>", `<tr class="add">`}},
		{r1 + "@1 " + r1 + "@2 --as hunks", 2, []string{"--as takes lines, side, tree, summary, html"}},
		{"first.cfg " + r1 + "@1", 0, []string{"first.cfg and " + r1 + "@1 are identical"}},
		{"first.cfg " + r1 + "@2", 1, []string{"--- first.cfg\t", "+++ " + r1 + "@2\t", "+  note \"moved"}},
		{r1 + "@2 first.cfg --as tree", 1, []string{"was      note \"moved to the west berth\""}},
		{"first.cfg other.cfg", 1, []string{"+  mtu 9000", "0 lines removed, 1 line added"}},
		{"first.cfg other.cfg --dialect tern --as tree", 1, []string{"lane quay1\n  was      mtu 1500  (by default)\n  is       mtu 9000"}},
		{"first.cfg other.cfg --dialect turn", 2, []string{`no dialect "turn" ships`, "tern"}},
		{"first.cfg other.cfg --dialect tern --part runing", 2, []string{`knows no part "runing"`, "running, startup"}},
		{"first.cfg", 2, []string{"say what to compare it with"}},
		{"first.cfg ./none.cfg", 2, []string{"none.cfg"}},
		{r1 + "@1 " + r1 + "@2 --dialect tern", 2, []string{"--dialect and --part are for files"}},
		{"first.cfg nobody", 2, []string{"nobody"}},
	} {
		out := run(c.status, strings.Fields(c.args)...)
		for _, words := range c.says {
			if !strings.Contains(out, words) {
				t.Errorf("magpie diff %s does not say %q:\n%s", c.args, words, out)
			}
		}
	}
	if page := run(1, r1+"@1", r1+"@2", "--as", "html"); strings.Contains(page, "http:") || strings.Contains(page, "https:") || strings.Contains(page, " src=") {
		t.Error("the page needs something from elsewhere")
	}
	if err := os.WriteFile(filepath.Join(w.cwd, "photo.cfg"), []byte("\xff\xd8\x00"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(2, "photo.cfg", r1+"@1")
	// Somebody who may not see secrets could guess them with texts of their own.
	reader := w.addUser("lindqvist", "reader")
	if _, err := reader.DiffFile(ctx(t), client.NewFileDiff{Ref: r1 + "@1", Name: "x", Text: "mast-word sealed guess\n"}); !client.IsStatus(err, 403) || !strings.Contains(err.Error(), "could be guessed") {
		t.Errorf("a reader compares a text of their own: %v", err)
	}
	d := must(reader.Diff(ctx(t), r1+"@1", r1+"@2", 3, false))(t)
	if len(d.Changes) != 1 || d.Changes[0].Path != "lane quay1" || d.Changes[0].Kind != "changed" || !d.Masked {
		t.Errorf("%+v", d.Changes)
	}
}
