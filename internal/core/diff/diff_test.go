package diff

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// cases is the table every comparison must pass.
var cases = []struct {
	name, a, b string
	edits      int // lines removed plus lines added in a shortest script
}{
	{"both empty", "", "", 0},
	{"from nothing", "", "a\nb\n", 2},
	{"to nothing", "a\nb\n", "", 2},
	{"the same", "a\nb\nc\n", "a\nb\nc\n", 0},
	{"one altered", "a\nb\nc\n", "a\nx\nc\n", 2},
	{"all altered", "a\nb\n", "x\ny\nz\n", 5},
	{"swapped", "a\nb\n", "b\na\n", 2},
	{"repeated lines", "a\na\na\n", "a\na\n", 1},
	{"last newline lost", "a\nb\n", "a\nb", 2},
	{"last newline gained", "a", "a\n", 2},
	{"both without newline", "a\nb", "c\nb", 2},
	{"moved block", "1\n2\n3\n4\n5\n6\n", "4\n5\n6\n1\n2\n3\n", 6},
	{"myers' own example", "a\nb\nc\na\nb\nb\na\n", "c\nb\na\nb\na\nc\n", 5},
	{"blank lines", "\n\n\n", "\n\n", 1},
}

func cost(es []Edit) (n int) {
	for _, e := range es {
		n += e.End - e.Start + e.To - e.From
	}
	return n
}

// apply makes the new text of the old one and the edits.
func apply(a, b []string, es []Edit) (out []string) {
	at := 0
	for _, e := range es {
		out = append(out, a[at:e.Start]...)
		out = append(out, b[e.From:e.To]...)
		at = e.End
	}
	return append(out, a[at:]...)
}

func TestCases(t *testing.T) {
	for _, c := range cases {
		a, b := Split(c.a), Split(c.b)
		es := Texts(a, b)
		if got := cost(es); got != c.edits {
			t.Errorf("%s: script of %d, want %d: %v", c.name, got, c.edits, es)
		}
		if got := apply(a.Lines(), b.Lines(), es); !slices.Equal(got, b.Lines()) {
			t.Errorf("%s: the edits lead to %q", c.name, got)
		}
		patchLeadsThere(t, c.name, c.a, c.b)
	}
}

// patchLeadsThere feeds our unified output to patch(1).
func patchLeadsThere(t *testing.T, name, a, b string) {
	t.Helper()
	ta, tb := Split(a), Split(b)
	var out strings.Builder
	if err := Unified(&out, "old", "new", ta, tb, Texts(ta, tb), 3, nil); err != nil {
		t.Fatal(err)
	}
	u := out.String()
	if u == "" {
		if a != b {
			t.Errorf("%s: no output for texts that differ", name)
		}
		return
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "f")
	if err := os.WriteFile(file, []byte(a), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("patch", "-s", "-f", file)
	cmd.Stdin = strings.NewReader(u)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s: patch: %v\n%s\n%s", name, err, out, u)
	}
	got, _ := os.ReadFile(file)
	if string(got) != b && !(b == "" && os.IsNotExist(firstErr(os.Stat(file)))) {
		t.Errorf("%s: patch made %q of %q, want %q, with\n%s", name, got, a, b, u)
	}
}

func firstErr(_ os.FileInfo, err error) error { return err }

// shortest is the textbook table, the rival for small texts.
func shortest(a, b []string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range a {
		diag := row[0]
		row[0] = i + 1
		for j := range b {
			up := row[j+1]
			if a[i] == b[j] {
				row[j+1] = diag
			} else {
				row[j+1] = min(up, row[j]) + 1
			}
			diag = up
		}
	}
	return row[len(b)]
}

func TestRandomScriptsAreShortestAndRight(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		a, b := randomLines(r, 40, 8), randomLines(r, 40, 8)
		es := Lines(a, b)
		if got, want := cost(es), shortest(a, b); got != want {
			t.Fatalf("script of %d, shortest is %d\na=%q\nb=%q", got, want, a, b)
		}
		if got := apply(a, b, es); !slices.Equal(got, b) {
			t.Fatalf("edits lead to %q, not %q", got, b)
		}
		for i, e := range es {
			if i > 0 && e.Start <= es[i-1].End {
				t.Fatalf("edits touch: %v", es)
			}
		}
	}
}

func randomLines(r *rand.Rand, n, kinds int) []string {
	out := make([]string, r.IntN(n))
	for i := range out {
		out[i] = strings.Repeat(" ", r.IntN(2)) + fmt.Sprint(r.IntN(kinds))
	}
	return out
}

// TestLongDifferentTexts walks the roads only long texts take: anchors, and
// giving up on the shortest script.
func TestLongDifferentTexts(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, kinds := range []int{3, 50, 4000, 1 << 30} {
		a, b := randomLines(r, 1, 1), randomLines(r, 1, 1)
		for range 20000 {
			a, b = append(a, fmt.Sprint(r.IntN(kinds))), append(b, fmt.Sprint(r.IntN(kinds)))
		}
		for i := 100; i < 20000; i += 400 { // some lines both have, in the same order
			a[i], b[i-50] = fmt.Sprint("anchor ", i), fmt.Sprint("anchor ", i)
		}
		es := Lines(a, b)
		if got := apply(a, b, es); !slices.Equal(got, b) {
			t.Errorf("with %d kinds of line the edits do not lead to the second text", kinds)
		}
	}
}

func TestNewBlockShowsWhole(t *testing.T) {
	a := strings.Split("lane q1\n  note x\n  shut\nlane q3\n  note x\n  shut", "\n")
	b := strings.Split("lane q1\n  note x\n  shut\nlane q2\n  note x\n  shut\nlane q3\n  note x\n  shut", "\n")
	es := Lines(a, b)
	if len(es) != 1 || b[es[0].From] != "lane q2" {
		t.Errorf("the new block is shown from %q on: %v", b[es[0].From], es)
	}
}

func TestWords(t *testing.T) {
	cut := func(s string, sp []Span) (out []string) {
		for _, p := range sp {
			out = append(out, s[p.Start:p.End])
		}
		return out
	}
	a, b := `  note "gangway two"`, `  note "gangway three"`
	inA, inB := Words(a, b)
	if got := fmt.Sprint(cut(a, inA), cut(b, inB)); got != "[two] [three]" {
		t.Errorf("marks are %s", got)
	}
	if inA, inB = Words("berth 10.0.0.1/24", "sieve in quay"); inA != nil || inB != nil {
		t.Errorf("lines with nothing in common are marked: %v %v", inA, inB)
	}
}

func FuzzPatchingOneSideYieldsTheOther(f *testing.F) {
	for _, c := range cases {
		f.Add(c.a, c.b)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		ta, tb := Split(a), Split(b)
		es := Texts(ta, tb)
		if got := apply(ta.Lines(), tb.Lines(), es); !slices.Equal(got, tb.Lines()) {
			t.Fatalf("%q -> %q: edits lead to %q", a, b, got)
		}
		for _, h := range Hunks(ta, tb, es, 2, nil) {
			h.Mark()
			for _, l := range h.Lines {
				if l.Op != Add && (l.A < 1 || ta.Line(l.A-1) != l.Text) || l.Op != Remove && tb.Line(l.B-1) != l.Text {
					t.Fatalf("hunk line %+v is not in the texts", l)
				}
				for _, m := range l.Marks {
					if m.Start < 0 || m.End > len(l.Text) || m.Start >= m.End {
						t.Fatalf("mark %v outside %q", m, l.Text)
					}
				}
			}
		}
	})
}

// TestHunkNamesItsBlocks: a hunk says of each change which block it stands in, each once,
// and not of more than a few.
func TestHunkNamesItsBlocks(t *testing.T) {
	var a, b []string
	for i := range 6 {
		a = append(a, fmt.Sprintf("lane %d", i), "  mtu 1500", "  note x")
		b = append(b, fmt.Sprintf("lane %d", i), "  mtu 9000", "  note x")
	}
	in := func(_ bool, line int) string { return a[(line-1)/3*3] }
	for lanes, want := range map[int]string{1: "lane 0", 2: "lane 0; lane 1", 4: "lane 0; lane 1; lane 2; lane 3", 6: "lane 0; lane 1; lane 2; lane 3; …"} {
		old := Split(strings.Join(append(slices.Clone(a[:3*lanes]), "end"), "\n"))
		now := Split(strings.Join(append(slices.Clone(b[:3*lanes]), "end"), "\n"))
		if got := Hunks(old, now, Texts(old, now), 3, in); len(got) != 1 || got[0].Block != want {
			t.Errorf("%d lanes: %+v", lanes, got)
		}
	}
}

// TestVeryLongTexts walks the road of runs that both texts have once: the edits lead there, and are
// no more than were made.
func TestVeryLongTexts(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 2))
	for _, kinds := range []int{2, 8, 1 << 30} {
		var a, b strings.Builder
		made := 0
		for i := range 3 * long {
			line := fmt.Sprintf("  mtu %d\n", r.IntN(kinds))
			switch a.WriteString(line); r.IntN(200) {
			case 0: // gone
				made++
			case 1:
				fmt.Fprintf(&b, "%slane %d\n", line, i)
				made++
			case 2:
				fmt.Fprintf(&b, "  mtu %d\n", r.IntN(kinds))
				made += 2
			default:
				b.WriteString(line)
			}
		}
		x, y := Split(a.String()), Split(strings.TrimSuffix(b.String(), "\n"))
		es := Texts(x, y)
		if got := apply(x.Lines(), y.Lines(), es); !slices.Equal(got, y.Lines()) {
			t.Errorf("of %d kinds of line: the edits do not lead to the second text", kinds)
		}
		if got := cost(es); got > made+2 {
			t.Errorf("of %d kinds of line: %d lines of edits where %d were made", kinds, got, made)
		}
	}
}
