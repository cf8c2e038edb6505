package e2e

import (
	"database/sql"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/scratch"
)

// TestOlderFolders: what a program of long ago left behind comes up under this one.
// What waits can be decided, what ran goes on or says why not, everything reads back.
// testdata/folders/make.sh makes such a folder.
func TestOlderFolders(t *testing.T) {
	t.Parallel()
	all, _ := filepath.Glob("testdata/folders/*.tar.gz")
	if len(all) == 0 {
		t.Fatal("there is none")
	}
	for _, file := range all {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".tar.gz"), func(t *testing.T) { olderFolder(t, file) })
	}
}

func olderFolder(t *testing.T, file string) {
	w := &world{t: t, top: t, dir: t.TempDir(), dsn: scratch.Database(t), name: "magpie", families: "plover"}
	if out, err := exec.Command("tar", "-C", w.dir, "-xzf", file).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	dump := must(os.ReadFile(filepath.Join(w.dir, "dump.sql")))(t)
	db := must(sql.Open("mysql", w.dsn+"?multiStatements=true"))(t)
	defer db.Close()
	must(db.Exec(string(dump)))(t)
	data := filepath.Join(w.dir, "data")
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"master.key", "admin.password"} {
		if err := os.Rename(filepath.Join(w.dir, name), filepath.Join(data, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(filepath.Join(w.dir, "fleet", "fleet.json")); err != nil { // its addresses may be taken here
		t.Fatal(err)
	}
	w.fleet = startFleet(t, filepath.Join(w.dir, "fleet"), 4, w.families)
	for _, p := range w.fleet.places { // and its window is not over yet
		w.fleet.call("POST", "/devices/"+p.Name+"/faults", map[string]any{}, nil)
		must(db.Exec("UPDATE devices SET address = ? WHERE name = ?", p.Address, p.Name))(t)
	}
	must(db.Exec("UPDATE jobs SET due_at = UTC_TIMESTAMP(6) + INTERVAL 1 HOUR WHERE awaits = 'confirm'"))(t)
	must(db.Exec("UPDATE pushes SET due_at = UTC_TIMESTAMP(6) + INTERVAL 1 HOUR WHERE due_at IS NOT NULL"))(t)
	w.serve()

	var before struct {
		Jobs []client.Job `json:"jobs"`
	}
	if err := json.Unmarshal(must(os.ReadFile(filepath.Join(w.dir, "jobs.json")))(t), &before); err != nil {
		t.Fatal(err)
	}
	var waits, staged, planned, cut, restore client.Job
	for _, was := range before.Jobs {
		now := must(w.admin.Job(ctx(t), was.ID))(t)
		if was.State == "ended" && (now.Outcome != was.Outcome || now.Summary != was.Summary || w.logText(was.ID) == "") {
			t.Errorf("%s %s was %s: %s, and is %s: %s", was.Kind, was.ID, was.Outcome, was.Summary, now.Outcome, now.Summary)
		}
		if was.Kind == "preview" && was.State == "ended" {
			if p := must(w.admin.Preview(ctx(t), now.Preview))(t); len(p.Steps) == 0 || p.Target == "" {
				t.Errorf("preview %s reads %+v", was.ID, p)
			}
		}
		switch {
		case was.Awaits == "confirm":
			waits = now
		case was.Awaits == "restart":
			staged = now
		case was.Kind == "planned":
			planned = now
		case was.Kind == "push" && was.State == "running":
			cut = now
		case was.Kind == "restore":
			restore = now
		}
	}
	for _, d := range must(w.admin.Devices(ctx(t), nil))(t) {
		for _, v := range w.versions(d.Name) {
			if text := must(w.admin.Text(ctx(t), v.Ref))(t).Text; text == "" || v.Reason == "first contact" {
				t.Errorf("%s reads %q, %s", v.Ref, text, v.Reason)
			}
		}
	}

	// What waits is decided.
	must(w.admin.Confirm(ctx(t), waits.ID))(t)
	if end := w.end(waits.ID); end.Outcome != "verified" || !strings.Contains(end.Summary, "confirmed by admin") {
		t.Errorf("confirmed, it ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(waits.ID))
	}
	must(w.admin.Restart(ctx(t), staged.ID))(t)
	if end := w.end(staged.ID); end.Outcome != "verified" || w.fleet.status(staged.Device).Restarts != 1 {
		t.Errorf("restarted, it ended %s: %s\n%s", end.Outcome, end.Summary, w.logText(staged.ID))
	}
	if now := must(w.admin.Job(ctx(t), planned.ID))(t); now.State != "ended" { // else it says that its time was over
		must(w.admin.Decline(ctx(t), planned.ID))(t)
	}
	if end := w.end(planned.ID); end.Outcome != "cancelled" || !strings.Contains(end.Summary, "nothing was sent") {
		t.Errorf("the plan ended %s: %s", end.Outcome, end.Summary)
	}

	// What ran says what became of it, and goes on.
	if end := w.end(cut.ID); !slices.Contains([]string{"undone", "verified", "unsaved", "differs"}, end.Outcome) || !strings.Contains(end.Summary, "looked at since") {
		t.Errorf("the push that was cut off ended %s: %s", end.Outcome, end.Summary)
	}
	if end := w.end(restore.ID); end.Restore == nil || len(end.Restore.Rows) != 2 || end.Restore.Rows[0].Outcome == "running" {
		t.Errorf("the restore ended %s: %s, %+v", end.Outcome, end.Summary, end.Restore)
	}
	if end := w.push(cut.Device + "@1"); end.Outcome != "verified" && end.Outcome != "done" {
		t.Errorf("another push to %s: %s: %s", cut.Device, end.Outcome, end.Summary)
	}
}
