package change_test

import (
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"magpie/dialects"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/sim/curlew"
)

func curlewDialect(t testing.TB) *dialect.Dialect {
	t.Helper()
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := dialect.Load("curlew.yaml", src)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func curlewOf(t testing.TB, src string) *curlew.Machine {
	t.Helper()
	m, err := curlew.Parse(text.Lines(src))
	if err != nil {
		t.Fatalf("%v in\n%s", err, src)
	}
	return m
}

// entries are a configuration's lines, each with the block that it stands in. What stands
// beside something counts as that.
func entries(m *curlew.Machine) map[string]bool {
	out := map[string]bool{}
	block := ""
	for _, l := range m.Lines() {
		l = beside.ReplaceAllString(l, "")
		switch {
		case l == "end":
			block = ""
		case !strings.HasPrefix(l, " "):
			out[l] = true
			block = l
		default:
			out[block+" /"+l[1:]] = true
		}
	}
	return out
}

var beside = regexp.MustCompile(`-beside\d?`)

// TestEveryWayALineGoes holds the promise where lines go away in ways of their own: any
// configuration of the simulator's making becomes any other, and back, line by line,
// nothing is refused, and what both have is there all the time, unless the preview said
// that it cannot be.
func TestEveryWayALineGoes(t *testing.T) {
	d := curlewDialect(t)
	rounds := often(100)
	if testing.Short() {
		rounds = 60
	}
	r := rand.New(rand.NewPCG(2, 17))
	said, missed := map[string]int{}, 0
	for range rounds {
		a, b := curlew.Generate(r).Text(), curlew.Generate(r).Text()
		if plan := d.Language.Replace(tree(t, d, a), tree(t, d, a)); len(plan.Steps) > 0 {
			t.Fatalf("changing nothing takes steps:\n%s\nin\n%s", script(plan.Steps), a)
		}
		for _, way := range [][2]string{{a, b}, {b, a}} {
			plan := d.Language.Replace(tree(t, d, way[0]), tree(t, d, way[1]))
			m := curlewOf(t, way[0])
			both := entries(m)
			for l := range both {
				if !entries(curlewOf(t, way[1]))[l] {
					delete(both, l)
				}
			}
			for _, s := range plan.Steps {
				for _, l := range s.Lines {
					if err := m.Type(l); err != nil {
						t.Fatalf("the device refused %q: %v\nscript:\n%s\nfrom\n%s\nto\n%s", l, err, script(plan.Steps), way[0], way[1])
					}
				}
				now := entries(m)
				for l := range both {
					if now[l] {
						continue
					}
					missed++
					block, _, _ := strings.Cut(l, " /")
					if !slices.ContainsFunc(plan.Notes, func(n string) bool {
						return strings.HasPrefix(n, l+": ") || strings.HasPrefix(n, block+": ") || strings.HasPrefix(n, "at the top, ask: ") && block == l
					}) {
						t.Fatalf("%q is not there after %q, and nothing was said of it: %q\nscript:\n%s\nfrom\n%s\nto\n%s", l, s.Lines, plan.Notes, script(plan.Steps), way[0], way[1])
					}
				}
			}
			m.Leave()
			if got := m.Text(); got != curlewOf(t, way[1]).Text() {
				t.Fatalf("from\n%s\nto\n%s\nthe device ended with\n%s\nafter\n%s", way[0], way[1], got, script(plan.Steps))
			}
			if len(plan.Remains) > 0 || !rules.Equivalent(plan.Predicted, tree(t, d, m.Text())) {
				t.Fatalf("predicted\n%s\nwith %+v\nbut the device runs\n%s", d.Blocks.Print(plan.Predicted.Node()), plan.Remains, m.Text())
			}
			for _, n := range plan.Notes {
				_, n, _ = strings.Cut(n, ": ")
				said[strings.Join(strings.Fields(n)[:4], " ")]++
			}
			// Broken off anywhere, the undo leads back.
			stop := r.IntN(len(plan.Steps) + 1)
			m = curlewOf(t, way[0])
			begin := m.Text()
			for _, s := range plan.Steps[:stop] {
				if err := m.Type(s.Lines[0]); err != nil {
					t.Fatal(err)
				}
			}
			m.Leave()
			back := d.Language.Replace(tree(t, d, m.Text()), tree(t, d, begin))
			for _, s := range back.Steps {
				if err := m.Type(s.Lines[0]); err != nil {
					t.Fatalf("undoing after %d steps: the device refused %q: %v\n%s", stop, s.Lines[0], err, script(back.Steps))
				}
			}
			m.Leave()
			if m.Text() != begin {
				t.Fatalf("undone after %d steps it runs\n%s\nnot\n%s", stop, m.Text(), begin)
			}
		}
	}
	t.Logf("%d moments without a line that both have, all foretold; %v", missed, said)
}

// TestWaysALineGoes: what is typed, one way at a time.
func TestWaysALineGoes(t *testing.T) {
	d := curlewDialect(t)
	for _, c := range []struct{ name, from, to, want string }{
		{"a denial goes by what it denies", "call c\nnever answer pings\n", "call c\n", "answer pings\n"},
		{"and comes as it stands", "call c\n", "call c\nnever answer pings\n", "never answer pings\n"},
		{"a value in mid-line is not part of what is struck", "call c\npath 10.7.0.0/16 cost 2 over 10.1.1.254\n", "call c\n", "strike path 10.7.0.0/16 over 10.1.1.254\n"},
		{"and another value comes after the old one went, for a second is ignored", "call c\npath 10.7.0.0/16 cost 2 over 10.1.1.254\n", "call c\npath 10.7.0.0/16 cost 1 over 10.1.1.254\n",
			"strike path 10.7.0.0/16 over 10.1.1.254\npath 10.7.0.0/16 cost 1 over 10.1.1.254\n"},
		{"an entry under another number: the old one goes first", "gate n\n  rung 10 lets tcp any to any\nend\n", "gate n\n  rung 20 lets tcp any to any\nend\n",
			"gate n\n  strike rung 10\n  rung 20 lets tcp any to any\n"},
		{"two entries change places", "gate n\n  rung 10 lets tcp any to any\n  rung 20 stops any any to any\nend\n", "gate n\n  rung 10 stops any any to any\n  rung 20 lets tcp any to any\nend\n",
			"gate n\n  strike rung 20\n  rung 10 stops any any to any\n  rung 20 lets tcp any to any\n"},
		{"a block that is emptied", "gate n\n  rung 10 lets tcp any to any\n  rung 20 stops any any to any\nend\n", "", "gate n\n  strike rung 20\n  strike rung 10\n"},
		{"what goes with another line", "beacon every 5\nbeacon tint green\n", "", "strike beacon\n"},
		{"what cannot go by itself", "beacon every 5\nbeacon tint green\n", "beacon every 5\n", "strike beacon\nbeacon every 5\n"},
		{"what is taken away with a block", "pier 1\nend\nwatch pier 1 every 10\n", "", "strike watch pier 1\nstrike pier 1\n"},
		{"an address that moves", "pier 1\n  carries 10.1.1.1/24 as first\nend\npier 2\nend\n", "pier 1\nend\npier 2\n  carries 10.1.1.1/24 as first\nend\n",
			"pier 1\n  strike carries as first\n  end\npier 2\n  carries 10.1.1.1/24 as first\n"},
		{"order at the top", "ask 10.30.0.5\nask 10.30.0.6\n", "ask 10.30.0.6\nask 10.30.0.5\n", "strike ask 10.30.0.5\nask 10.30.0.5\n"},
		{"new ones go before a line", "pier 1\nend\nchoice m\n  when 10.0.0.0/8 take pier 1\n  otherwise stop\nend\n", "pier 1\nend\nchoice m\n  when 10.0.0.0/8 take pier 1\n  when 10.2.0.0/16 take pier 1\n  otherwise stop\nend\n",
			"choice m\n  when 10.2.0.0/16 take pier 1\n"},
		{"what is in use is rebuilt beside", "pier 1\nend\nchoice m\n  when 10.0.0.0/8 take pier 1\nend\nat pier 1 choice m\n", "pier 1\nend\nchoice m\n  when 10.2.0.0/16 take pier 1\n  when 10.0.0.0/8 take pier 1\nend\nat pier 1 choice m\n",
			"choice m-beside\n  when 10.2.0.0/16 take pier 1\n  when 10.0.0.0/8 take pier 1\n  end\nat pier 1 choice m-beside\nstrike choice m\nchoice m\n  when 10.2.0.0/16 take pier 1\n  when 10.0.0.0/8 take pier 1\n  end\nat pier 1 choice m\nstrike choice m-beside\n"},
	} {
		plan := d.Language.Replace(tree(t, d, c.from), tree(t, d, c.to))
		if got := script(plan.Steps); got != c.want {
			t.Errorf("%s:\ngot\n%s\nwant\n%s", c.name, got, c.want)
		}
		if len(plan.Remains) > 0 {
			t.Errorf("%s: %+v", c.name, plan.Remains)
		}
	}
}
