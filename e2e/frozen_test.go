package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"magpie/client"
)

// TestFrozenDatabase: while the database is there and answers nothing, everybody who asks for something
// is told so within half a minute, who looks as who writes; afterwards everything goes on, and what was
// written is there once or not at all.
func TestFrozenDatabase(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	w.pull(r1)
	var own struct{ PID int }
	if err := json.Unmarshal(must(os.ReadFile(filepath.Join(w.dir, "data", "db.json")))(t), &own); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(own.PID, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	note := "written while it was frozen"
	began := time.Now()
	var all sync.WaitGroup
	for what, ask := range map[string]func() error{
		"a list":    func() error { _, err := w.admin.Devices(ctx(t), nil); return err },
		"a version": func() error { _, err := w.admin.Text(ctx(t), r1+"@1"); return err },
		"a note":    func() error { _, err := w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Note: &note}); return err },
		"a pull":    func() error { _, err := w.admin.Pull(ctx(t), []string{r1}, "frozen"); return err },
	} {
		all.Go(func() {
			err := ask()
			if took := time.Since(began); !client.IsStatus(err, 503) || took > 45*time.Second {
				t.Errorf("%s: %v, after %s", what, err, took)
			}
		})
	}
	all.Wait()
	if err := syscall.Kill(own.PID, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it to go on", func() bool { _, err := w.admin.Pull(ctx(t), []string{r1}, "frozen"); return err == nil })
	if jobs := must(w.admin.Pull(ctx(t), []string{r1}, "frozen"))(t); w.end(jobs[0].ID).Outcome != "done" {
		t.Errorf("%+v", jobs)
	}
	if n := len(must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "pull"}))(t).Items); n != 2 {
		t.Errorf("%d pulls", n)
	}
}
