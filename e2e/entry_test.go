package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"magpie/client"
)

// TestEntries: notes, fields of one's own and being disabled are kept, go out and come in with
// a file of devices, and can be changed in the browser; a device that is disabled is visited by
// nothing and by nobody, and what is known of it stays.
func TestEntries(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull(r1)
	w.pull(other)
	note, yes := "under the stairs; key at the desk", true
	d := must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Note: &note, Fields: &map[string]string{"rack": "B4", "owner": "port office"}, Disabled: &yes}))(t)
	if d.Note != note || d.Fields["rack"] != "B4" || !d.Disabled || d.State != "in sync" {
		t.Errorf("kept as %+v", d)
	}
	for what, n := range map[string]client.NewDevice{"a name": {Fields: &map[string]string{"Rack Number": "x"}}, "a long one": {Fields: &map[string]string{"rack": strings.Repeat("x", 501)}}} {
		if _, err := w.admin.EditDevice(ctx(t), r1, n); statusOf(err) != 400 {
			t.Errorf("%s: %v", what, err)
		}
	}
	// Nobody visits it.
	sessions := w.fleet.status(r1).Logins
	if _, err := w.admin.Pull(ctx(t), []string{r1}, "alone"); statusOf(err) != 409 || !strings.Contains(err.Error(), "disabled") {
		t.Errorf("pulled by name: %v", err)
	}
	if jobs := must(w.admin.Pull(ctx(t), []string{"all"}, "all"))(t); len(jobs) != 1 || jobs[0].Device != other {
		t.Errorf("of all are pulled %+v", jobs)
	}
	must(w.admin.AddSchedule(ctx(t), client.NewSchedule{Name: "nightly", Rule: "daily 02:00", Zone: "UTC", Selector: []string{"all"}, Deeds: []client.Deed{{Kind: "pull"}}}))(t)
	if j := w.end(must(w.admin.RunSchedule(ctx(t), "nightly", client.NewRun{}, "night"))(t).ID); !strings.Contains(j.Summary, "pull: 1 done") {
		t.Errorf("by a schedule: %s", j.Summary)
	}
	if out, said, status := w.cli("push", r1+"@1", "--preview"); status == 0 {
		t.Errorf("a preview of it: %s%s", out, said)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.Trouble != "" || w.fleet.status(r1).Logins != sessions {
		t.Errorf("it was visited, or that is held against it: %+v", d)
	}
	if st := must(w.admin.Status(ctx(t)))(t); st.Disabled != 1 || st.States["in sync"] != 1 {
		t.Errorf("by the status: %+v", st)
	}
	// Out and in again changes nothing; what is changed in the file is.
	for _, ending := range []string{"csv", "yaml"} {
		file := filepath.Join(w.dir, "devices."+ending)
		out, _, _ := w.cli("device", "export", "--as", ending)
		if out == "" || !strings.Contains(out, "rack=B4") || !strings.Contains(out, "owner=port office") {
			t.Fatalf("exported: %s", out)
		}
		if err := os.WriteFile(file, []byte(out), 0o600); err != nil {
			t.Fatal(err)
		}
		before, _ := json.Marshal(must(w.admin.Device(ctx(t), r1))(t))
		if out, said, status := w.cli("device", "import", file); status != 0 {
			t.Errorf("imported again: exit %d: %s%s", status, out, said)
		}
		if after, _ := json.Marshal(must(w.admin.Device(ctx(t), r1))(t)); string(before) != string(after) {
			t.Errorf("%s changed it:\n%s\n%s", ending, before, after)
		}
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(out, "rack=B4", "rack=C1")), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, said, status := w.cli("device", "import", file); status != 0 || must(w.admin.Device(ctx(t), r1))(t).Fields["rack"] != "C1" {
			t.Errorf("changed in the file: exit %d: %s%s", status, out, said)
		}
		must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Fields: &map[string]string{"rack": "B4", "owner": "port office"}}))(t)
	}
	// In the browser.
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/devices/" + r1)
	b.see("disabled")
	b.more("More", "Change what is registered")
	b.fill(`input[name=entry-site]`, "callowmere")
	b.fill(`textarea[name=entry-fields]`, "rack=D9")
	b.do(chromedp.Click(`input[name=entry-disabled]`, often))
	b.click("Save")
	b.see("at callowmere")
	if d := must(w.admin.Device(ctx(t), r1))(t); d.Disabled || d.Fields["rack"] != "D9" || len(d.Fields) != 1 || d.Note != note || d.Site != "callowmere" {
		t.Errorf("changed to %+v", d)
	}
	w.pull(r1)
}
