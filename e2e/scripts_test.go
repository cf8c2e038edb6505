package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"magpie/internal/sim/tern"
)

// TestScripts runs the plain-text scripts of testdata, each in a world of its
// own with three routers. A script reads as documentation of behaviour:
//
//	$ magpie ...         run this; it must exit 0
//	$1 magpie ...        it must exit 1
//	@ DEVICE WHO: a; b   somebody types these lines at a device
//	! DEVICE {...}       a device is given faults
//	# ...                a remark
//
// Lines after a command are what it must print, standard error after standard
// output. "…" stands for anything within a line, alone for any lines.
func TestScripts(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("no scripts: ", err)
	}
	for _, f := range files {
		t.Run(strings.TrimSuffix(filepath.Base(f), ".txt"), func(t *testing.T) {
			w := newWorld(t, 3)
			raw, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			w.script(f, strings.Split(strings.TrimRight(string(raw), "\n"), "\n"))
		})
	}
}

var command = regexp.MustCompile(`^\$(\d?) magpie (.*)$`)

func (w *world) script(file string, lines []string) {
	w.t.Helper()
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		switch {
		case strings.HasPrefix(line, "@ "):
			who, typed, _ := strings.Cut(line[2:], ": ")
			f := strings.Fields(who)
			w.fleet.amend(f[0], f[1], strings.Split(typed, "; ")...)
		case strings.HasPrefix(line, "! "):
			device, faults, _ := strings.Cut(line[2:], " ")
			var ff tern.Faults
			if err := json.Unmarshal([]byte(faults), &ff); err != nil {
				w.t.Fatalf("%s:%d: %v", file, i+1, err)
			}
			w.fleet.faults(device, ff)
		case command.MatchString(line):
			m := command.FindStringSubmatch(line)
			at := i + 1
			var want []string
			for i+1 < len(lines) && !strings.HasPrefix(lines[i+1], "$") && !strings.HasPrefix(lines[i+1], "@ ") && !strings.HasPrefix(lines[i+1], "! ") && !strings.HasPrefix(lines[i+1], "# ") {
				i++
				want = append(want, lines[i])
			}
			for len(want) > 0 && want[len(want)-1] == "" {
				want = want[:len(want)-1]
			}
			out, errText, status := w.cli(words(m[2])...)
			if m[1] == "" {
				m[1] = "0"
			}
			if got := string(rune('0' + status)); got != m[1] {
				w.t.Errorf("%s:%d: magpie %s exits %s, not %s:\n%s%s", file, at, m[2], got, m[1], out, errText)
				continue
			}
			got := strings.Split(strings.TrimRight(out+errText, "\n"), "\n")
			if out+errText == "" {
				got = nil
			}
			if !matches(want, got) {
				w.t.Errorf("%s:%d: magpie %s prints\n%s\nnot\n%s", file, at, m[2], strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		case line != "" && !strings.HasPrefix(line, "#"):
			w.t.Fatalf("%s:%d: %q is no line of a script", file, i+1, line)
		}
	}
}

// words cuts a command line at blanks, 'quoted words' kept together.
func words(s string) (out []string) {
	for _, m := range regexp.MustCompile(`'[^']*'|\S+`).FindAllString(s, -1) {
		out = append(out, strings.Trim(m, "'"))
	}
	return out
}

// matches tells whether lines are as wanted.
func matches(want, got []string) bool {
	if len(want) == 0 {
		return len(got) == 0
	}
	if want[0] == "…" {
		for i := 0; i <= len(got); i++ {
			if matches(want[1:], got[i:]) {
				return true
			}
		}
		return false
	}
	if len(got) == 0 {
		return false
	}
	parts := strings.Split(strings.TrimRight(want[0], " "), "…")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(parts[i])
	}
	ok, _ := regexp.MatchString("^"+strings.Join(parts, ".*")+"$", strings.TrimRight(got[0], " "))
	return ok && matches(want[1:], got[1:])
}
