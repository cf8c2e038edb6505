package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestHistoryOfRemoved: what was kept of a device that was taken out is listed, shown, compared and taken
// out by a name of its own; its hardware, registered again, is known; and it comes back with all of it.
func TestHistoryOfRemoved(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	run := func(status int, args ...string) string {
		t.Helper()
		out, err, got := w.cli(args...)
		if got != status {
			t.Errorf("%v: exit status %d, not %d\n%s%s", args, got, status, out, err)
		}
		return out + err
	}
	says := func(out string, all ...string) {
		t.Helper()
		for _, part := range all {
			if !strings.Contains(out, part) {
				t.Errorf("it does not say %q:\n%s", part, out)
			}
		}
	}
	other, archive := w.fleet.places[1].Name, filepath.Join(w.dir, "gone.tar.zst")
	w.pull(r1)
	text := w.show(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "as later"`)
	w.pull(r1)
	says(run(0, "device", "removed"), "No device was taken out")
	run(0, "device", "remove", r1, "--yes")
	gone := must(w.admin.RemovedDevices(ctx(t)))(t)
	if len(gone) != 1 || gone[0].Was != r1 || gone[0].Versions != 3 { // two of running, one of startup
		t.Fatalf("%+v", gone)
	}
	name := gone[0].Name
	says(run(0, "device", "removed"), name)
	says(run(2, "show", r1), "it was removed, and what was kept of it is "+name+"'s")
	if w.show(name+"@1") != text {
		t.Error("version 1 is another")
	}
	says(run(0, "versions", name), "first pull")
	says(run(1, "diff", name+"@1", name+"@2"), "as later")
	says(run(2, "diff", name+"@1", name+"@live"), "was removed, and is not visited")
	says(run(2, "pull", name), "no device was found")
	run(2, "push", name+"@1", "--yes")
	says(run(0, "export", name, "--history", "--to", archive), "")
	says(run(1, "import", archive, "--preview"), "no device is named "+name)

	// A preview of its version on other hardware is possible.
	says(run(0, "push", name+"@1", "--to", other, "--preview"), other)

	// The same hardware again: its earlier life is told, and can be gone on with.
	p := w.fleet.place(r1)
	again := w.entry(p, p.Family)
	again.Name = "new-r1"
	d := must(w.admin.AddDevice(ctx(t), again))(t)
	if len(d.Earlier) != 1 || d.Earlier[0] != name {
		t.Errorf("%v", d.Earlier)
	}
	says(run(0, "device", "show", "new-r1"), "registered before  "+name)
	says(run(2, "device", "reinstate", name), "new-r1 is registered at")
	run(0, "device", "remove", "new-r1", "--yes")
	says(run(2, "device", "reinstate", "x~01234567"), "x~01234567")
	says(run(2, "device", "reinstate", name, "--name", other), other)
	says(run(0, "device", "reinstate", name), r1+" is back, with its history")
	w.pull(r1)
	if v := w.versions(r1); len(v) != 2 {
		t.Errorf("%d versions", len(v))
	}
	says(run(0, "audit", "list"), "device reinstated")
}

// TestRemoveVersion: an admin deletes one version for a reason that the audit log keeps; what is needed stays, and it
// is said what needs it and how that ends.
func TestRemoveVersion(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	text := w.show(r1)
	for i, line := range []string{"second", "third"} {
		w.fleet.amend(r1, "mwilks", "lane quay1", `note "`+line+`"`)
		w.pull(r1)
		if n := len(w.versions(r1)); n != i+2 {
			t.Fatalf("%d versions", n)
		}
	}
	refused := func(ref, reason, words string) {
		t.Helper()
		if _, err := w.admin.RemoveVersion(ctx(t), ref, reason); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, not %q", ref, err, words)
		}
	}
	refused(r1+"@2", " ", "there is no reason")
	refused(r1+"@latest", "x", "may be another version tomorrow")
	refused(r1+"@2020-01-01", "x", "may be another version tomorrow")
	refused(r1+"@9", "x", "not found")
	refused(r1+"@3", "x", "the newest")
	name, pin := "keep", true
	must(w.admin.SetMark(ctx(t), r1+"@2", client.Mark{Name: &name}))(t)
	refused(r1+"@2", "x", "named")
	name = ""
	must(w.admin.SetMark(ctx(t), r1+"@2", client.Mark{Name: &name, Pin: &pin}))(t)
	refused(r1+"@keep", "x", "not found")
	refused(r1+"@2", "x", "pinned")
	pin = false
	must(w.admin.SetMark(ctx(t), r1+"@2", client.Mark{Pin: &pin}))(t)
	operator := w.addUser("skerry", "operator")
	if _, err := operator.RemoveVersion(ctx(t), r1+"@2", "x"); !client.IsStatus(err, 403) {
		t.Errorf("%v", err)
	}
	if _, errs, status := w.cli("remove-version", r1+"@2", "--reason", "a password in a note"); status == 0 || !strings.Contains(errs, "--yes") {
		t.Errorf("%d %s", status, errs)
	}
	out, _, status := w.cli("remove-version", r1+"@2", "--reason", "a password in a note", "--yes")
	if status != 0 || !strings.Contains(out, r1+"@2 was deleted") {
		t.Errorf("%d %s", status, out)
	}
	refused(r1+"@2", "x", "not found")
	if got := w.versions(r1); len(got) != 2 || got[0].Number != 3 || got[1].Number != 1 || w.show(r1+"@1") != text {
		t.Errorf("%+v", got)
	}
	if out, _, _ := w.cli("audit", "list"); !strings.Contains(out, "a password in a note") {
		t.Errorf("%s", out)
	}
}
