package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// stamped is the head of a comparison, with the time at which a file was written.
var stamped = regexp.MustCompile(`(?m)^((?:---|\+\+\+) [^\t\n]+)\t.*$`)

// TestPairs: pairs of small configurations of every grammar, and what is said of each, as lines and as
// entries, as somebody read it and found it right. MAGPIE_PAIRS=write writes down what is said now,
// to be read.
func TestPairs(t *testing.T) {
	t.Parallel()
	files, _ := filepath.Glob("testdata/pairs/*.txt")
	if len(files) < 60 {
		t.Fatalf("%d pairs", len(files))
	}
	dir := t.TempDir()
	for _, side := range []string{"from", "to", "patched", "applied"} {
		if err := os.Mkdir(filepath.Join(dir, side), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	var scripts []byte
	want := map[string]string{}
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".txt")
		t.Run(name, func(t *testing.T) {
			script, to := pairOf(t, file, dir)
			scripts, want[name] = append(scripts, script...), to
		})
	}
	// Without a dialect it is what patch and git apply read, and no longer than git's.
	put(t, filepath.Join(dir, "script"), string(scripts))
	in := func(name string, args ...string) []byte {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil && args[0] != "diff" {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
		return out
	}
	in("patch", "-s", "-p1", "-d", "patched", "-i", "../script")
	in("git", "apply", "-p1", "--directory=applied", "script")
	for name, to := range want {
		for _, by := range []string{"patched", "applied"} {
			if made := string(must(os.ReadFile(filepath.Join(dir, by, name)))(t)); made != to {
				t.Errorf("%s: %s is %q", name, by, made)
			}
		}
	}
	length := func(script []byte) (n int) {
		for _, l := range bytes.Split(script, []byte("\n")) {
			if len(l) > 0 && (l[0] == '+' || l[0] == '-') && !bytes.HasPrefix(l, []byte("+++ ")) && !bytes.HasPrefix(l, []byte("--- ")) {
				n++
			}
		}
		return n
	}
	if ours, theirs := length(scripts), length(in("git", "diff", "--no-index", "from", "to")); ours > theirs || ours == 0 {
		t.Errorf("the scripts have %d lines, and git's %d", ours, theirs)
	}
}

// pairOf compares one pair, in dir, and returns the script that makes one text of the other, and the
// other.
func pairOf(t *testing.T, file, dir string) (script []byte, to string) {
	t.Helper()
	whole := string(must(os.ReadFile(file))(t))
	head, rest, _ := strings.Cut(whole, "=== ")
	_, dialect, _ := strings.Cut(strings.TrimSpace(head), "dialect: ")
	sections := map[string]string{}
	for _, s := range strings.Split(rest, "\n=== ") {
		name, body, _ := strings.Cut(s, "\n")
		if body != "" && !strings.HasSuffix(body, "\n") {
			body += "\n"
		}
		if cut, is := strings.CutSuffix(name, ", without its last newline"); is {
			name, body = cut, strings.TrimSuffix(body, "\n")
		}
		sections[name] = body
	}
	name := strings.TrimSuffix(filepath.Base(file), ".txt")
	for _, copied := range []string{"from", "patched", "applied"} {
		put(t, filepath.Join(dir, copied, name), sections["from"])
	}
	put(t, filepath.Join(dir, "to", name), sections["to"])
	diff := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, "magpie"), append([]string{"diff", "from/" + name, "to/" + name}, args...)...)
		cmd.Dir, cmd.Env = dir, []string{"HOME=" + dir, "TZ=UTC"}
		out, err := cmd.CombinedOutput()
		if status := cmd.ProcessState.ExitCode(); status != 0 && status != 1 {
			t.Fatalf("magpie diff %s: %v\n%s", strings.Join(args, " "), err, out)
		}
		return stamped.ReplaceAllString(string(out), "$1")
	}
	got := map[string]string{"lines": diff("--dialect", dialect), "tree": diff("--dialect", dialect, "--as", "tree")}
	if os.Getenv("MAGPIE_PAIRS") == "write" {
		before, _, _ := strings.Cut(whole, "\n=== lines\n")
		put(t, file, strings.TrimSuffix(before, "\n")+"\n=== lines\n"+got["lines"]+"=== tree\n"+got["tree"])
		return nil, sections["to"]
	}
	for as, out := range got {
		if out != sections[as] {
			t.Errorf("%s:\n%s\nexpected:\n%s", as, out, sections[as])
		}
	}
	plain := exec.Command(filepath.Join(bin, "magpie"), "diff", "from/"+name, "to/"+name)
	plain.Dir = dir
	script, _ = plain.Output()
	if sections["from"] == sections["to"] && len(script) > 0 {
		t.Errorf("nothing differs, and this is said: %s", script)
	}
	return script, sections["to"]
}
