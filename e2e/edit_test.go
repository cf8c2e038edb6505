package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestEdit: a version edited by a person is another version, that counts for
// nothing until it is pushed; a masked text never becomes one.
func TestEdit(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	was := must(w.admin.Text(ctx(t), r1+"@1"))(t).Text
	script := filepath.Join(t.TempDir(), "ed.sh")
	if err := os.WriteFile(script, []byte("#!/bin/sh\nsed -i 's/^name skerrinsay-r1$/name skerrinsay-r1-new/' \"$1\"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	os.Setenv("EDITOR", script)
	defer os.Unsetenv("EDITOR")
	out, said, status := w.cli("edit", r1+"@1", "--note", "renamed")
	if status != 0 || !strings.Contains(out, "Kept as "+r1+"@2 (+1 −1)") {
		t.Fatalf("status %d\n%s%s", status, out, said)
	}
	if now := must(w.admin.Text(ctx(t), r1+"@1"))(t).Text; now != was {
		t.Error("the version it was made of changed")
	}
	vs := w.versions(r1)
	if vs[0].Aside != "edited" || vs[0].Note != "edited from 1: renamed" || vs[0].Reason != "edited" {
		t.Errorf("%+v", vs[0])
	}
	if v := must(w.admin.Text(ctx(t), r1))(t); v.Version.Number != 1 || v.Version.SeenOpen == false {
		t.Errorf("latest is %+v", v.Version)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.Latest != 1 {
		t.Errorf("%s, latest %d", d.State, d.Latest)
	}
	if j := w.pull(r1); !strings.Contains(j.Summary, "running unchanged, still 1") {
		t.Errorf("a pull after the edit: %s", j.Summary)
	}
	if end := w.push(r1 + "@2"); end.Outcome != "verified" || !strings.Contains(w.fleet.running(r1), "name skerrinsay-r1-new") {
		t.Errorf("%s: %s", end.Outcome, end.Summary)
	}
	// What may not be kept.
	masked := must(w.addUser("nadia", "operator").Text(ctx(t), r1+"@1"))(t)
	if !masked.Masked {
		t.Fatal("an operator without the right sees secrets")
	}
	for _, c := range []struct {
		who       *client.Client
		text, why string
	}{
		{w.admin, masked.Text, "holds a masked secret"},
		{w.as("nadia", "words for nadia"), strings.Replace(was, "skerrinsay-r1", "x", 1), "may see secrets"},
		{w.admin, was, "says the same"},
		{w.admin, "placard ((\nno end\n", "cannot be read"},
	} {
		if _, err := c.who.Edit(ctx(t), client.NewVersion{Ref: r1 + "@1", Text: c.text}); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %v", c.why, err)
		}
	}
}

// TestOnlySomeBlocks: a push of chosen blocks leaves everything else as it runs,
// and is proved so.
func TestOnlySomeBlocks(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover,heron"))
	w.pull(r1)
	w.fleet.amend(r1, "okonkwo", "domain elsewhere.example", "lane quay1", "note \"by hand\"", "up", "lane quay2", "shut")
	w.fleet.stow(r1)
	w.pull(r1)
	p := w.preview(client.NewPreview{Ref: r1 + "@1", Only: []string{"lane quay1"}})
	if p.Lines != 2 || p.Target != r1+"@1, only lane quay1" {
		t.Errorf("%d lines, %s", p.Lines, p.Target)
	}
	out, said, status := w.cli("push", r1+"@1", "--only", "lane quay1", "--only", "domain", "--yes")
	now := w.fleet.running(r1)
	if status != 0 || strings.Contains(now, "by hand") || strings.Contains(now, "elsewhere") || !strings.Contains(now, "shut") {
		t.Errorf("status %d\n%s%s\n%s", status, out, said, now)
	}
	if _, said, status := w.cli("push", r1+"@1", "--only", "lane nowhere", "--yes"); status != 1 || !strings.Contains(said, `nothing is called "lane nowhere"`) {
		t.Errorf("status %d, %s", status, said)
	}
	// The same in flat settings; a document goes as a whole.
	sw := "skerrinsay-sw1"
	w.pull(sw)
	w.fleet.amend(sw, "okonkwo", "port 3 : label is <moved>", "port 4 : label is <moved>")
	w.fleet.stow(sw)
	w.pull(sw)
	if _, said, status := w.cli("push", sw+"@1", "--only", "port 3", "--yes"); status != 0 || strings.Count(w.fleet.running(sw), "<moved>") != 1 {
		t.Errorf("status %d, %s\n%s", status, said, w.fleet.running(sw))
	}
	w.pull("control-f1")
	if _, said, status := w.cli("push", "control-f1@1", "--only", "system", "--yes"); status != 1 || !strings.Contains(said, "as a whole") {
		t.Errorf("status %d, %s", status, said)
	}
}
