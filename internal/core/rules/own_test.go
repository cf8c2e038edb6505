package rules

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"magpie/internal/core/grammar"
)

func own(t *testing.T, kind, path string) Own {
	t.Helper()
	o := Own{Name: kind, Kind: kind, Path: path}
	if err := o.Sound(); err != nil {
		t.Fatalf("%s %s: %v", kind, path, err)
	}
	return o
}

const quay = `host q1
lane a
  note east
  mtu 9000
lane b
  berth 10.0.0.1/24
clock
  mark 192.0.2.5
`

// TestBreaches: what must be there is missed in each block that the path leads to, a block named
// outright is missed itself, and what the device does untold is not missed.
func TestBreaches(t *testing.T) {
	tab := shape(t)
	root, err := (&grammar.Blocks{Indent: 2}).Parse(quay)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ kind, path, want string }{
		{Required, "lane {name} / note <text>", "lane b: lacks note <text>"},
		{Required, "lane {name} / mtu 1500", "lane a: lacks mtu 1500"}, // lane b has it without a word
		{Required, "lane c / note x", ": lacks lane c"},
		{Required, "sieve {name} / pass p1", ""}, // no sieve, so none that lacks it
		{Required, "clock / mark 192.0.2.5", ""},
		{Required, "clock / mark 192.0.2.6", "clock: lacks mark 192.0.2.6"},
		{Required, "host <name>", ""},
		{Forbidden, "clock / mark 192.0.2.5", "clock: has mark 192.0.2.5"},
		{Forbidden, "lane {name} / {any...}", "lane a: has note east; lane a: has mtu 9000; lane b: has berth 10.0.0.1/24"},
		{Forbidden, "host h9", ""},
	} {
		o := own(t, c.kind, c.path)
		var said []string
		for _, d := range o.Breaches(tab, tab.Resolve(root)) {
			what := "has " + d.Have
			if d.Want != "" {
				what = "lacks " + d.Want
			}
			said = append(said, d.Block+": "+what)
		}
		if got := strings.Join(said, "; "); got != c.want {
			t.Errorf("%s %q: %q, want %q", c.kind, c.path, got, c.want)
		}
	}
	for _, o := range []Own{{Kind: "maybe", Path: "x"}, {Kind: Required, Path: ""}, {Kind: Required, Path: "a /"}, {Kind: Required, Path: "/ a"}, {Kind: Ignored, Path: "a {b...} c"}} {
		if o.Sound() == nil {
			t.Errorf("%+v was taken", o)
		}
	}
}

// TestNoiseSaysNothing: trees that differ in what is called noise only are equivalent, and whatever is not
// noise stays as it was.
func TestNoiseSaysNothing(t *testing.T) {
	tab := shape(t)
	quiet := tab.With([]Own{own(t, Ignored, "lane {name} / note <text>"), own(t, Ignored, "sieve {name}"), own(t, Required, "host h1")})
	r := rand.New(rand.NewPCG(17, 3))
	differed := 0
	for range 2000 {
		a, b := some(r), some(r)
		loud := func(blocks [][]string) string {
			var out []string
			for _, bl := range blocks {
				if !strings.HasPrefix(bl[0], "sieve") {
					out = append(out, strings.Join(slices.DeleteFunc(slices.Clone(bl), func(l string) bool { return strings.HasPrefix(l, "  note") }), "\n"))
				}
			}
			return strings.Join(out, "\n") + "\n"
		}
		written := func(blocks [][]string) string {
			var out []string
			for _, bl := range blocks {
				out = append(out, strings.Join(bl, "\n"))
			}
			return strings.Join(out, "\n") + "\n"
		}
		tree := func(t2 *Table, src string) *Item {
			root, err := (&grammar.Blocks{Indent: 2}).Parse(src)
			if err != nil {
				t.Fatal(err)
			}
			return t2.Resolve(root)
		}
		want := Equivalent(tree(tab, loud(a)), tree(tab, loud(b)))
		if got := Equivalent(tree(quiet, written(a)), tree(quiet, written(b))); got != want {
			t.Fatalf("equivalent: %v, want %v\n%s---\n%s", got, want, written(a), written(b))
		}
		if !want {
			differed++
		}
		root, _ := (&grammar.Blocks{Indent: 2}).Parse(written(a))
		lines := strings.Split(strings.TrimSuffix(written(a), "\n"), "\n")
		by, names := quiet.Hushed(len(lines), root)
		within := false
		for i, l := range lines {
			if !strings.HasPrefix(l, " ") {
				within = strings.HasPrefix(l, "sieve")
			}
			if noise := within || strings.HasPrefix(l, "  note"); noise != (by[i] > 0) || noise && names[by[i]-1] != Ignored {
				t.Fatalf("line %q: %d of %v", l, by[i], fmt.Sprint(names))
			}
		}
	}
	if differed < 500 {
		t.Errorf("only %d pairs differed", differed)
	}
}
