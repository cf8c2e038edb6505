package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestNames: a pull asked for with a name leaves it on what runs, however often nothing changed since it
// was last named; each name is found, a date may be one, and what is no name is refused as such.
func TestNames(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	for _, name := range []string{"before window 1", "before window 2", "2026-12-01"} {
		if out, said, status := w.cli("pull", r1, "--name", name, "--note", "for "+name); status != 0 {
			t.Fatalf("%s: status %d\n%s%s", name, status, out, said)
		}
	}
	if n := len(w.versions(r1)); n != 1 {
		t.Fatalf("%d versions", n)
	}
	v := w.versions(r1)[0]
	if v.Name != "2026-12-01" || strings.Join(v.MoreNames, "|") != "before window 2|before window 1" || !strings.Contains(v.Note, "for before window 2") {
		t.Errorf("it is named %q and %q, and noted %q", v.Name, v.MoreNames, v.Note)
	}
	w.fleet.amend(r1, "somebody", "lane quay1", "  note \"changed\"")
	w.pull(r1)
	for _, name := range []string{"before window 1", "before window 2", "2026-12-01"} {
		out, said, status := w.cli("diff", r1+"@"+name, r1+"@1")
		if status != 0 {
			t.Errorf("%s: status %d\n%s%s", name, status, out, said)
		}
	}
	if out, said, status := w.cli("pull", r1, "--name", "before window 1"); status == 0 || !strings.Contains(out+said, r1+"@1") {
		t.Errorf("a name of an older version: status %d\n%s%s", status, out, said)
	}
	for _, name := range []string{"latest", "17", "yesterday", "a@b"} {
		if out, said, status := w.cli("pull", r1, "--name", name); status != 2 || strings.Contains(said, "database") || !strings.Contains(said, "cannot be a version's name") {
			t.Errorf("%q: status %d\n%s%s", name, status, out, said)
		}
	}
	if out := must(w.admin.FindVersions(ctx(t), []string{r1}, map[string]string{"name": "before window *", "part": "running"}))(t); len(out.Items) != 1 {
		t.Errorf("%d versions are found by a name that one had", len(out.Items))
	}
	// Until a time means from the beginning, where nothing is said of that.
	w.pull(r1)
	if out := must(w.admin.FindVersions(ctx(t), []string{r1}, map[string]string{"until": "2999-01-01T00:00:00Z", "part": "running"}))(t); len(out.Items) != 2 {
		t.Errorf("until a time: %d versions", len(out.Items))
	}
	// Taken away, all of them go.
	none := ""
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Name: &none}))(t)
	if _, _, status := w.cli("show", r1+"@before window 1"); status == 0 {
		t.Error("a name that was taken away is found")
	}
}

// TestImportSizes: files are taken in from one byte to the largest text.
func TestImportSizes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	text := w.fleet.running(r1)
	for i, size := range []int{1, 5 << 10, 300 << 10, 6 << 20, 15 << 20} {
		var b strings.Builder
		if b.WriteString(text); size < len(text) {
			b.Reset()
			b.WriteString("x")
		}
		for n := 0; b.Len() < size; n++ {
			fmt.Fprintf(&b, "roster r%d-%d\n  10.%d.%d.0/24\n", i, n, n/256%256, n%256)
		}
		file := filepath.Join(t.TempDir(), r1+fmt.Sprintf("_running_202501%02dT100000Z.cfg", i+1))
		if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
			t.Fatal(err)
		}
		out, said, status := w.cli("import", file, "--device", r1)
		if small := size == 1; (status != 0) != small && !strings.Contains(out, "1 added") {
			t.Errorf("%d bytes: status %d\n%s%s", b.Len(), status, out, said)
		}
	}
}
