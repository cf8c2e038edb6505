package change_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/sim/tern"
)

// TestChoose: the chosen block is as in the version, everything else as it runs;
// and the script for it makes the device so.
func TestChoose(t *testing.T) {
	d := ternDialect(t)
	r := rand.New(rand.NewPCG(2, 8))
	chosen, refused := 0, 0
	for range 400 {
		a, b := tern.Generate(r).Text(), tern.Generate(r).Text()
		from, to := tree(t, d, a), tree(t, d, b)
		all := append(append([]*rules.Item{}, from.Kids...), to.Kids...)
		pick := all[r.IntN(len(all))]
		want, err := change.Choose(from, to, []string{pick.Line})
		if err != nil {
			if !strings.Contains(err.Error(), "choose that as well") {
				t.Fatalf("%q: %v", pick.Line, err)
			}
			refused++
			continue
		}
		chosen++
		if !rules.Equivalent(from, tree(t, d, a)) {
			t.Fatal("what runs was changed")
		}
		for _, k := range want.Kids {
			side := from
			if k.ID == pick.ID {
				side = to
			}
			if other := side.Kid(k.ID); other == nil || !rules.Equivalent(k, other) {
				t.Fatalf("choosing %q, %q is as on neither side\nfrom\n%s\nto\n%s", pick.Line, k.Line, a, b)
			}
		}
		plan := d.Language.Replace(from, want)
		m := running(t, a)
		typeIn(t, m, plan.Steps)
		if got := tree(t, d, m.Text()); !rules.Equivalent(got, want) {
			t.Fatalf("choosing %q the device ended with\n%s\nafter\n%s", pick.Line, m.Text(), script(plan.Steps))
		}
	}
	if chosen < 100 || refused < 10 {
		t.Errorf("%d choices and %d refused are too few to tell", chosen, refused)
	}
}

func TestChooseWords(t *testing.T) {
	d := ternDialect(t)
	from := tree(t, d, "name r1\nsieve a\n  drop any from any to any\nlane q\n  sieve in a\n  note \"x\"\nflock 7\n  neighbour 10.0.0.1\n    note \"old\"\n")
	to := tree(t, d, "name r1\nsieve b\n  drop any from any to any\nlane q\n  sieve in b\nlane z\n  shut\nflock 7\n  neighbour 10.0.0.1\n    note \"new\"\n  neighbour 10.0.0.2\n")
	for _, c := range []struct{ only, want, wrong string }{
		{"lane z", "lane z\n  cancel guard\n  shut\n", ""},
		{"flock 7 / neighbour 10.0.0.1", "flock 7\n  neighbour 10.0.0.1\n    note \"new\"\n", ""},
		{"flock  7 /  neighbour", "flock 7\n  neighbour 10.0.0.1\n    note \"new\"\n    up\n  neighbour 10.0.0.2\n", ""},
		{"lane q", "", "lane q / sieve in b uses sieve b, which does not run there; choose that as well: sieve b"},
		{"sieve a", "", "sieve a would go and is still used by lane q / sieve in a; choose that as well"},
		{"lane q,sieve a,sieve b", "sieve b\n  drop any from any to any\n  up\nlane q\n  cancel note\n  sieve in b\n  up\ncancel sieve a\n", ""},
		{"lanes", "", `nothing is called "lanes"`},
		{"lane nowhere", "", `nothing is called "lane nowhere"`},
	} {
		want, err := change.Choose(from, to, strings.Split(c.only, ","))
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v", c.only, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.only, err)
			continue
		}
		got := script(d.Language.Replace(from, want).Steps)
		if got != c.want {
			t.Errorf("%s:\ngot\n%s\nwant\n%s", c.only, got, c.want)
		}
	}
}
