package rules

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// shape is what random trees are made of: blocks whose lines are ordered, blocks whose are not, and
// lines of one value.
func shape(t *testing.T) *Table {
	return freely(t, &Rule{Path: "lane {name}"}, &Rule{Path: "lane {name} / note <text>"}, &Rule{Path: "lane {name} / mtu <bytes>", Default: "1500"}, &Rule{Path: "lane {name} / berth {address}"},
		&Rule{Path: "sieve {name}", Ordered: true}, &Rule{Path: "sieve {name} / {entry...}"}, &Rule{Path: "host <name>"})
}

// some is a random configuration, as blocks of lines.
func some(r *rand.Rand) (out [][]string) {
	if r.IntN(3) > 0 {
		out = append(out, []string{fmt.Sprintf("host h%d", r.IntN(3))})
	}
	pick := func(prefix string, of, n int) (lines []string) {
		for _, i := range r.Perm(of)[:r.IntN(n+1)] {
			lines = append(lines, fmt.Sprintf("  %s%d", prefix, i))
		}
		return lines
	}
	for _, i := range r.Perm(5)[:r.IntN(4)] {
		block := append([]string{fmt.Sprintf("lane l%d", i)}, pick("berth b", 5, 4)...)
		if r.IntN(2) == 0 {
			block = append(block, fmt.Sprintf("  note n%d", r.IntN(3)))
		}
		if r.IntN(2) == 0 {
			block = append(block, fmt.Sprintf("  mtu %d", 1500+r.IntN(2)))
		}
		out = append(out, block)
	}
	for _, i := range r.Perm(3)[:r.IntN(3)] {
		out = append(out, append([]string{fmt.Sprintf("sieve s%d", i)}, pick("pass p", 7, 6)...))
	}
	return out
}

func written(blocks [][]string) string {
	var all []string
	for _, b := range blocks {
		all = append(all, b...)
	}
	return strings.Join(all, "\n")
}

// TestChangesMakeTheOther: what is said to have become of a tree's entries makes the other tree of it;
// of equal trees, and of those in which only what is not ordered stands elsewhere, nothing is said.
func TestChangesMakeTheOther(t *testing.T) {
	tb := shape(t)
	r := rand.New(rand.NewPCG(17, 1))
	kinds := map[string]int{}
	for range 4000 {
		x, y := some(r), some(r)
		if r.IntN(3) == 0 && len(x) > 0 { // a block of another name
			y = slices.Clone(x)
			i := r.IntN(len(y))
			y[i] = slices.Clone(y[i])
			y[i][0] += "x"
		}
		was, is := parse(t, tb, written(x)), parse(t, tb, written(y))
		all := Changes(was, is)
		if (len(all) == 0) != Equivalent(was, is) {
			t.Fatalf("%d changes\n%s\n\n%s", len(all), written(x), written(y))
		}
		made := parse(t, tb, written(x))
		for _, c := range all {
			kinds[c.Kind]++
			carryOut(made, c)
		}
		if !Equivalent(made, is) {
			t.Fatalf("it does not make the other of it: %+v\n%s\n\n%s", all, written(x), written(y))
		}
		// Only what is ordered counts where it stands.
		mixed := make([][]string, 0, len(y))
		for _, b := range y {
			b = slices.Clone(b)
			if strings.HasPrefix(b[0], "lane") {
				r.Shuffle(len(b)-1, func(i, k int) { b[i+1], b[k+1] = b[k+1], b[i+1] })
			}
			mixed = append(mixed, b)
		}
		r.Shuffle(len(mixed), func(i, k int) { mixed[i], mixed[k] = mixed[k], mixed[i] })
		if all := Changes(is, parse(t, tb, written(mixed))); len(all) != 0 {
			t.Fatalf("%+v\n%s\n\n%s", all, written(y), written(mixed))
		}
	}
	for _, kind := range Kinds {
		if kinds[kind] < 50 {
			t.Errorf("%d were %s", kinds[kind], kind)
		}
	}
}

// carryOut does to a tree what a change says.
func carryOut(top *Item, c Change) {
	block := top
	for _, p := range c.Path {
		block = block.Kid(p.ID)
	}
	at := func(id string) int {
		return slices.IndexFunc(block.Kids, func(k *Item) bool { return k.ID == id })
	}
	take := func(id string) { block.Kids = slices.Delete(block.Kids, at(id), at(id)+1) }
	// Behind the entry that it stands behind in the newer tree, as far as that is here.
	put := func(k *Item) {
		place := 0
		for _, o := range c.To.Up.Kids {
			if o == c.To {
				break
			}
			if i := at(o.ID); i >= 0 {
				place = i + 1
			}
		}
		block.Kids = slices.Insert(block.Kids, place, k)
	}
	switch c.Kind {
	case Removed:
		take(c.From.ID)
	case Added:
		put(c.To.Clone(block))
	case Changed:
		if c.To == nil {
			take(c.From.ID)
			return
		}
		if c.From == nil {
			put(c.To.Clone(block))
			return
		}
		old := block.Kids[at(c.From.ID)]
		old.Line, old.words, old.caps = c.To.Line, c.To.words, c.To.caps
	case Moved:
		k := block.Kids[at(c.From.ID)]
		take(c.From.ID)
		put(k)
	case Renamed:
		take(c.From.ID)
		put(c.To.Clone(block))
	}
}

// TestWhatBecame says it in words, by cases.
func TestWhatBecame(t *testing.T) {
	tb := shape(t)
	for _, c := range []struct{ was, is, says string }{
		{"lane a\n  note x", "lane a\n  note y", "changed [lane a] note x>note y"},
		{"lane a\n  note x\n  berth 1", "", "removed [] lane a> +2"},
		{"", "lane a\n  note x", "added [] >lane a +1"},
		{"lane a\n  note x", "lane b\n  note x", "renamed [] lane a>lane b +1"},
		{"lane a\n  note x", "sieve a\n  note x", "removed [] lane a> +1; added [] >sieve a +1"},
		{"sieve s\n  pass 1\n  pass 2\n  pass 3", "sieve s\n  pass 3\n  pass 1\n  pass 2", "moved [sieve s] pass 3>pass 3"},
		{"sieve s\n  pass 1\n  pass 2\n  pass 3", "sieve s\n  pass 2\n  pass 3\n  pass 1", "moved [sieve s] pass 1>pass 1 behind pass 3"},
		{"lane a\n  note x\nlane b\n  note x", "lane c\n  note x\nlane b\n  note x", "renamed [] lane a>lane c +1"},
		{"lane a\n  berth 1\n  berth 2", "lane b\n  berth 2\n  berth 1", "renamed [] lane a>lane b +2"},
		{"lane a\n  mtu 9000", "lane a\n  mtu 1500", "changed [lane a] mtu 9000> by default mtu 1500"},
		{"lane a", "lane a\n  mtu 9000", "changed [lane a] >mtu 9000 by default mtu 1500"},
		{"lane a", "lane b", "removed [] lane a>; added [] >lane b"},
	} {
		var said []string
		for _, x := range Changes(parse(t, tb, c.was), parse(t, tb, c.is)) {
			line := func(it *Item) string {
				if it == nil {
					return ""
				}
				return it.Line
			}
			var path []string
			for _, p := range x.Path {
				path = append(path, p.Line)
			}
			if x.Default != "" {
				said = append(said, fmt.Sprintf("%s %v %s>%s by default %s", x.Kind, path, line(x.From), line(x.To), x.Default))
				continue
			}
			s := fmt.Sprintf("%s %v %s>%s", x.Kind, path, line(x.From), line(x.To))
			if x.More > 0 {
				s += fmt.Sprintf(" +%d", x.More)
			}
			if x.Near != nil {
				s += " behind " + x.Near.Line
			}
			said = append(said, s)
		}
		if got := strings.Join(said, "; "); got != c.says {
			t.Errorf("%q to %q: %s\nexpected: %s", c.was, c.is, got, c.says)
		}
	}
}
