package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/sim"
)

// TestInventory: what goes out comes in again, as CSV and as YAML; read twice it changes
// nothing; what a file has otherwise is shown before it is done, and no login leaves.
func TestInventory(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	names := []string{}
	for _, p := range w.fleet.places {
		names = append(names, p.Name)
	}
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "routers", User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord}))(t)
	site, tags := "skerrinsay", []string{"edge", "quay"}
	for _, n := range names {
		must(w.admin.EditDevice(ctx(t), n, client.NewDevice{Credential: "routers", Site: &site, Tags: &tags}))(t)
	}
	must(w.admin.EditDevice(ctx(t), names[0], client.NewDevice{Parent: &names[2]}))(t)
	must(w.admin.EditDevice(ctx(t), names[1], client.NewDevice{User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord}))(t)
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	sheet := run(0, "device", "export")
	if strings.Contains(sheet, sim.ServiceWord) || !strings.Contains(sheet, "1 device has a login of its own") || strings.Index(sheet, names[2]+",") > strings.Index(sheet, names[0]+",") {
		t.Errorf("exported as\n%s", sheet)
	}
	sheet = sheet[:strings.Index(sheet, "1 device has")]
	file := filepath.Join(w.dir, "devices.csv")
	put(t, file, sheet)
	if out := run(0, "device", "import", file); !strings.Contains(out, "0 devices were added, 0 changed, 3 are as the file has them") {
		t.Errorf("%s", out)
	}
	// Otherwise, and one that is not there.
	put(t, file, strings.Replace(strings.ReplaceAll(sheet, ",skerrinsay,", ",callowmere,"), "edge quay", "quay core", 1))
	if err := w.admin.RemoveDevice(ctx(t), names[1]); err != nil {
		t.Fatal(err)
	}
	out := run(1, "device", "import", file, "--preview")
	if !strings.Contains(out, "0 devices would be added, 2 changed, 0 are as the file has them. Nothing was done.") || !strings.Contains(out, "skerrinsay  callowmere") || !strings.Contains(out, "edge quay   core quay") || !strings.Contains(out, "no user with a password or key is given") {
		t.Errorf("%s", out)
	}
	if d := must(w.admin.Device(ctx(t), names[0]))(t); d.Site != site {
		t.Errorf("a preview put it at %s", d.Site)
	}
	out = run(1, "device", "import", file) // who has no login there cannot be added
	if len(must(w.admin.Devices(ctx(t), nil))(t)) != 2 || must(w.admin.Device(ctx(t), names[0]))(t).Site != site || !strings.Contains(out, names[1]) {
		t.Errorf("with a row that is wrong something is done:\n%s", out)
	}
	out = run(1, "device", "import", file, "--skip-bad")
	if d := must(w.admin.Device(ctx(t), names[0]))(t); d.Site != "callowmere" || d.Parent != names[2] {
		t.Errorf("%+v\n%s", d, out)
	}
	// All of it into a service that knows none.
	yaml := run(0, "device", "export", "--as", "yaml")
	for _, d := range must(w.admin.Devices(ctx(t), nil))(t) {
		if err := w.admin.RemoveDevice(ctx(t), d.Name); err != nil {
			t.Fatal(err)
		}
	}
	file = filepath.Join(w.dir, "devices.yaml")
	put(t, file, yaml)
	if out := run(0, "device", "import", file); !strings.Contains(out, "2 devices were added") {
		t.Errorf("%s\n%s", out, yaml)
	}
	if d := must(w.admin.Device(ctx(t), names[0]))(t); d.Site != "callowmere" || d.Parent != names[2] || d.Credential != "routers" {
		t.Errorf("%+v", d)
	}
	if j := w.pull(names[0]); j.Outcome != "done" {
		t.Errorf("%s", j.Summary)
	}
	// Another key, another dialect: said at its row.
	put(t, file, strings.Replace(yaml, "SHA256:", "SHA256:x", 1))
	if out := run(1, "device", "import", file); !strings.Contains(out, "another key is accepted") {
		t.Errorf("%s", out)
	}
	put(t, file, strings.Replace(yaml, "dialect: tern", "dialect: plover", 1))
	if out := run(1, "device", "import", file); !strings.Contains(out, "it speaks tern here") {
		t.Errorf("%s", out)
	}
	put(t, file, "- name\n- 3\n")
	run(2, "device", "import", file)
	if out := run(2, "changes", "callowmre"); !strings.Contains(out, "nothing was done") {
		t.Errorf("a site or device that nobody is: %s", out)
	}
}
