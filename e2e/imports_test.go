package e2e

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestImportedByTime: the day in a file's name is what the person means by it or the file is
// refused; what was imported is found by its time by whoever asks for imported versions, and
// whoever does not ask is told of it.
func TestImportedByTime(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	run := func(status int, args ...string) string {
		t.Helper()
		out, err, got := w.cli(args...)
		if got != status {
			t.Errorf("%v: exit status %d, not %d\n%s%s", args, got, status, out, err)
		}
		return out + err
	}
	text := strings.Replace(w.show(r1), "note \"", "note \"as of long ago, ", 1)
	file := filepath.Join(t.TempDir(), r1+" 05-04-2025.cfg")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	out := run(1, "import", file)
	for _, part := range []string{"refused", "05-04-2025 may be 5 April 2025 or 4 May 2025"} {
		if !strings.Contains(out, part) {
			t.Errorf("it does not say %q:\n%s", part, out)
		}
	}
	if out := run(2, "import", file, "--date-order", "sideways"); !strings.Contains(out, "day-first, month-first, year-first") {
		t.Errorf("%s", out)
	}
	if out := run(0, "import", file, "--date-order", "day-first"); !strings.Contains(out, "2025-04-05") {
		t.Errorf("%s", out)
	}
	if out := run(2, "show", r1+"@2025-04-06"); !strings.Contains(out, "nothing was pulled by then; version 2, imported, is of 2025-04-05 ") ||
		!strings.Contains(out, r1+"@imported:2025-04-06T") {
		t.Errorf("%s", out)
	}
	if out := run(2, "show", r1+"@imported:2025-04-04"); !strings.Contains(out, "nothing imported is so old") {
		t.Errorf("%s", out)
	}
	if got := w.show(r1 + "@imported:2025-04-06"); got != text {
		t.Errorf("another text: %s", got)
	}
	if out := run(1, "diff", r1+"@imported:2025-04-06", r1+"@latest"); !strings.Contains(out, "as of long ago") || !strings.Contains(out, "it was imported") {
		t.Errorf("%s", out)
	}
	if got, want := w.show(r1+"@imported:today"), w.show(r1+"@latest"); got != want {
		t.Error("what was pulled later does not count")
	}
	// A second one, of another day, by the API; and a name that would read as such a time.
	in := client.ImportFile{File: r1 + "_20250601.cfg", Content: base64.StdEncoding.EncodeToString([]byte(strings.Replace(text, "long ago", "June", 1)))}
	if got := must(w.admin.ImportVersions(ctx(t), client.NewImport{Files: []client.ImportFile{in}}))(t); len(got) != 1 || got[0].Number != 3 {
		t.Fatalf("%+v", got)
	}
	if got := w.show(r1 + "@imported:2025-04-06"); got != text {
		t.Error("it is the version of the highest number, not of the last day")
	}
	if out := run(2, "mark", r1+"@1", "--name", "imported:2025-04-06"); !strings.Contains(out, "reads as a time") {
		t.Errorf("%s", out)
	}
}
