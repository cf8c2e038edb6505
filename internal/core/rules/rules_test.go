package rules

import (
	"regexp"
	"strings"
	"testing"

	"magpie/internal/core/grammar"
)

var blocks = &grammar.Blocks{Indent: 2, Comments: []string{".."}}

func table(t *testing.T, rs ...*Rule) *Table {
	t.Helper()
	for _, r := range rs {
		if err := r.Compile(); err != nil {
			t.Fatalf("%s: %v", r.Path, err)
		}
	}
	return &Table{Rules: rs}
}

// freely is a table in which order counts only where a rule says so.
func freely(t *testing.T, rs ...*Rule) *Table {
	t.Helper()
	tb := table(t, rs...)
	tb.Free = true
	return tb
}

func parse(t *testing.T, tb *Table, src string) *Item {
	t.Helper()
	root, err := blocks.Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	return tb.Resolve(root)
}

// TestIdentity: what tells a line from its neighbours follows from the path.
func TestIdentity(t *testing.T) {
	tb := table(t,
		&Rule{Path: "name <host>"}, &Rule{Path: "lane {name}"}, &Rule{Path: "lane {name} / berth <address>"}, &Rule{Path: "lane {name} / sieve {direction} <name>"},
		&Rule{Path: "clock / mark {address}"}, &Rule{Path: "sieve {name} / {entry...}"}, &Rule{Path: "lane {name} / note <text...>"}, &Rule{Path: "lane {name} / shut"})
	for _, c := range []struct{ src, line, id, value string }{
		{"name r1", "name r1", "name", "r1"},
		{"lane q1", "lane q1", "lane q1", ""},
		{"lane q1\n  berth 10.0.0.1/24", "berth 10.0.0.1/24", "berth", "10.0.0.1/24"},
		{"lane q1\n  sieve in guest", "sieve in guest", "sieve in", "guest"},
		{"clock\n  mark   10.0.0.5", "mark   10.0.0.5", "mark 10.0.0.5", ""},
		{"sieve x\n  pass any  from any", "pass any  from any", "pass any from any", ""},
		{"lane q1\n  note  ticket   hall", "note  ticket   hall", "note", "ticket   hall"},
		{"lane q1\n  note \"a  b\"", "note \"a  b\"", "note", "\"a  b\""},
		{"lane q1\n  shut", "shut", "shut", ""},
		{"unheard of line", "unheard of line", "unheard of line", ""},
	} {
		it := parse(t, tb, c.src)
		for len(it.Kids) > 0 {
			it = it.Kids[0]
		}
		if it.Line != c.line || it.ID != c.id || it.Value() != c.value {
			t.Errorf("%q: line %q, identity %q, value %q", c.src, it.Line, it.ID, it.Value())
		}
	}
	if it := parse(t, tb, "lane q1\n  berth 10.0.0.1/24").Kids[0]; !tb.Opens(it) || tb.Opens(it.Kids[0]) || it.Kids[0].Path() != "lane q1 / berth 10.0.0.1/24" {
		t.Error("what opens a block, or where a line stands, is not seen")
	}
}

func TestBadPaths(t *testing.T) {
	for path, says := range map[string]string{"a {b...} c": "nothing can follow", "a /  / b": "empty segment", "": "empty segment"} {
		if err := (&Rule{Path: path}).Compile(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", path, err)
		}
	}
	if err := (&Rule{Path: "a <b>", Hostname: "c"}).Compile(); err == nil {
		t.Error("a host name that is not in the path")
	}
}

// TestNothingBecomesOne: what is written twice is there twice, whichever rule speaks of it, and a rule
// that takes two lines for one is told of.
func TestNothingBecomesOne(t *testing.T) {
	tb := table(t, &Rule{Path: "name <host>"}, &Rule{Path: "lane {name}"}, &Rule{Path: "lane {name} / mtu <n>", Default: "1500"}, &Rule{Path: "course {net} via <hop>"})
	for _, c := range []struct {
		a, b    string
		clashes int
	}{
		{"name r1\nname r2\n", "name r2\n", 1},
		{"lane q\n  shut\nlane q\n", "lane q\n  shut\n", 0},
		{"lane q\n  mtu 9000\n  mtu 1500\n", "lane q\n  mtu 9000\n", 1},
		{"course n via a\ncourse n via b\n", "course n via b\n", 1},
		{"unheard of\nunheard of\n", "unheard of\n", 0},
		{"rule\n  a 1\nrule\n  a 2\n", "rule\n  a 2\n", 0},
		{"rule\n  a 1\nrule\n  a 2\n", "rule\n  a 3\nrule\n  a 2\n", 0},
		{"x\ny\n", "y\nx\n", 0},
		{"x  y\n", "x y\n", 0},
		{"x y \n", "x y\n", 0},
	} {
		a, b := parse(t, tb, c.a), parse(t, tb, c.b)
		if Equivalent(a, b) || Equivalent(b, a) || len(Differences(a, b)) == 0 || len(Changes(a, b)) == 0 {
			t.Errorf("%q and %q are taken for the same", c.a, c.b)
		}
		if n := len(a.Clashes()); n != c.clashes {
			t.Errorf("%q: %d lines clash", c.a, n)
		}
		if again := parse(t, tb, c.a); !Equivalent(a, again) {
			t.Errorf("%q is not itself: %+v", c.a, Differences(a, again))
		}
	}
}

func TestNames(t *testing.T) {
	tb := table(t, &Rule{Path: "sieve {name}", Defines: "sieve"}, &Rule{Path: "sieve {name} / {entry...}", Uses: []Use{{"roster", regexp.MustCompile(`roster (\S+)`)}}})
	it := parse(t, tb, "sieve x\n  pass from roster a to roster b\n").Kids[0]
	if space, name := it.Defines(); space != "sieve" || name != "x" {
		t.Errorf("%s %s", space, name)
	}
	if got := strings.Join(it.Kids[0].Names(), ", "); got != "roster a, roster b" {
		t.Errorf("uses %s", got)
	}
}

func TestMaskingByPlace(t *testing.T) {
	tb := table(t, &Rule{Path: "crew {name} / word <form> <word>", Secret: []string{"word"}}, &Rule{Path: "community {word}", Secret: []string{"word"}}, &Rule{Path: "keys <all...>", Secret: []string{"all"}})
	m := Masker{tb, func(s string) string { return strings.ToUpper(s[:1]) }}
	src := "crew a\n  word sealed alpha\ncommunity  beta\nkeys c1 d2\nnote word sealed alpha\n"
	root, err := blocks.Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	want := "crew a\n  word sealed ‹secret A›\ncommunity  ‹secret B›\nkeys ‹secret C› ‹secret D›\nnote word sealed alpha\n"
	if got := m.Text(src, root); got != want {
		t.Errorf("masked\n%s", got)
	}
	it := tb.Resolve(root)
	if got := m.Answer("bad word alpha", it.Kids[0].Kids[0].Secrets()); got != "bad word ‹secret A›" {
		t.Errorf("an answer reads %q", got)
	}
	d := Differences(&Item{}, it)
	for _, x := range d {
		if x = m.Difference(x); strings.Contains(x.Want, "beta") || strings.Contains(x.Want, "c1") || x.Block != "" && strings.Contains(x.Want, "alpha") {
			t.Errorf("a difference shows %+v", x)
		}
	}
}

// TestDifferencesByKind lists each kind of difference once.
func TestDifferencesByKind(t *testing.T) {
	tb := table(t, &Rule{Path: "mtu <n>"}, &Rule{Path: "sieve {name}", Ordered: true})
	have := parse(t, tb, "mtu 1\nlane q\n  shut\nsieve s\n  a\n  b\n")
	want := parse(t, tb, "mtu 2\nsieve s\n  b\n  a\nroster r\n")
	var got []string
	for _, d := range Differences(have, want) {
		kind := "altered"
		switch {
		case d.Order:
			kind = "order"
		case d.Want == "":
			kind = "extra"
		case d.Have == "":
			kind = "missing"
		}
		got = append(got, kind+":"+d.Block+":"+d.Have+":"+d.Want)
	}
	if s := strings.Join(got, "|"); s != "extra::lane q:|extra:lane q:shut:|altered::mtu 1:mtu 2|order:sieve s:a:b|order:sieve s:b:a|missing:::roster r" {
		t.Errorf("%s", s)
	}
	if Differences(have, have) != nil || !Equivalent(have, have.Clone(nil)) {
		t.Error("a tree differs from itself")
	}
}
