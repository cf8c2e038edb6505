package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"magpie/client"
)

// TestOwnDiskFull: when there is no room left where the service keeps everything, what cannot be kept is
// said, nothing that was kept is lost, and it goes on when there is room again.
func TestOwnDiskFull(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a small disk has to be mounted by root")
	}
	w := newWorld(t, 1, func(w *world) {
		w.dsn = ""
		data := filepath.Join(w.dir, "data")
		if err := os.Mkdir(data, 0o700); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=600m", "tmpfs", data).CombinedOutput(); err != nil {
			t.Skipf("no small disk here: %v %s", err, out)
		}
		t.Cleanup(func() { _ = exec.Command("umount", "--lazy", data).Run() })
	})
	w.pull(r1)
	data := filepath.Join(w.dir, "data")
	kept := map[string]string{r1 + "@1": w.show(r1 + "@1")}
	room := func(left int64) { // so many bytes of it
		t.Helper()
		var st syscall.Statfs_t
		if err := syscall.Statfs(data, &st); err != nil {
			t.Fatal(err)
		}
		f := must(os.OpenFile(filepath.Join(data, "ballast"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600))(t)
		defer f.Close()
		for more, block := int64(st.Bavail)*st.Bsize-left, make([]byte, 1<<20); more > 0; more -= int64(len(block)) {
			if _, err := f.Write(block[:min(more, int64(len(block)))]); err != nil {
				t.Fatal(err)
			}
		}
	}
	makeRoom := func() {
		t.Helper()
		if err := os.Remove(filepath.Join(data, "ballast")); err != nil {
			t.Fatal(err)
		}
	}
	// Hardly any is left: nothing new is begun, and it is said why.
	room(40 << 20)
	if _, said, status := w.cli("pull", r1); status != 2 || !strings.Contains(said, "there is no room on the disk") || !strings.Contains(said, "make room") {
		t.Errorf("%d: %s", status, said)
	}
	if out, _, _ := w.cli("status"); !strings.Contains(out, "nothing new is begun") {
		t.Errorf("%s", out)
	}
	b := newBrowser(t, w.url)
	b.allows("") // it goes on looking at what the service cannot tell
	b.signIn("admin", adminWord)
	b.see("Nothing new is begun")
	b.see("No recovery sheet was verified yet") // until that is done, whatever else there is
	makeRoom()
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "there is room"`)
	w.pull(r1)
	kept[r1+"@2"] = w.show(r1 + "@2")
	// None at all, from one moment to the next: what the database would not take is said, nothing is lost.
	room(0)
	note := "written down without room"
	for n := range 50 {
		if _, err := w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Note: &note}); err != nil {
			t.Logf("after %d: %v", n, err)
			break
		}
		note += " and more of it"
	}
	makeRoom()
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "and again"`)
	w.pull(r1)
	kept[r1+"@3"] = w.show(r1 + "@3")
	room(0)
	w.proc.stop()
	makeRoom()
	w.serve()
	w.pull(r1)
	for ref, text := range kept {
		if w.show(ref) != text {
			t.Errorf("%s reads back as another text", ref)
		}
	}
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); !r.Sound {
		t.Errorf("%+v", r)
	}
}
