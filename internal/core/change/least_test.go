package change_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/sim/tern"
)

// TestLeast: of a configuration stay the ways, the blocks that are asked for, and
// what is around them; nothing else.
func TestLeast(t *testing.T) {
	d := ternDialect(t)
	const src = `name a
domain a.example
crew magpie
  rank master
  word sealed 11
crew okonkwo
  word sealed 22
roster tills
  10.12.20.0/24
sieve in
  drop any from roster tills to any
lane quay1
  note "ticket hall"
  berth 10.1.0.1/24
  sieve in in
lane quay2
  note "no way"
course 0.0.0.0/0 via 10.1.0.2
`
	for _, c := range []struct {
		name, user string
		paths      []string
		want       string
	}{
		{"the ways alone", "", nil, "lane quay1|  berth 10.1.0.1/24|course 0.0.0.0/0 via 10.1.0.2"},
		{"with the account", "magpie", []string{"name <host>", "crew {user}"}, "name a|crew magpie|  rank master|  word sealed 11|lane quay1|  berth 10.1.0.1/24|course 0.0.0.0/0 via 10.1.0.2"},
		{"an account that is not there", "nobody", []string{"crew {user}"}, "lane quay1|  berth 10.1.0.1/24|course 0.0.0.0/0 via 10.1.0.2"},
		{"nobody signs in by name", "", []string{"crew {user}", "name <host>"}, "name a|lane quay1|  berth 10.1.0.1/24|course 0.0.0.0/0 via 10.1.0.2"},
		{"one line of a block", "", []string{"crew okonkwo / word <form> <word>"}, "crew okonkwo|  word sealed 22|lane quay1|  berth 10.1.0.1/24|course 0.0.0.0/0 via 10.1.0.2"},
	} {
		got, err := change.Least(tree(t, d, src), c.paths, c.user)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if said := strings.Join(strings.Split(strings.TrimSpace(d.Blocks.Print(got.Node())), "\n"), "|"); said != c.want {
			t.Errorf("%s:\n%s\nwanted\n%s", c.name, said, c.want)
		}
	}
	if _, err := change.Least(tree(t, d, src), []string{"name {host...} more"}, ""); err == nil {
		t.Error("a path that is none was taken")
	}
}

// TestLeastIsTaken: whatever a router runs, what is typed first of it is taken by
// a router that runs nothing, and all of it is there afterwards.
func TestLeastIsTaken(t *testing.T) {
	d := ternDialect(t)
	r := rand.New(rand.NewPCG(3, 5))
	for range 200 {
		src := tern.Generate(r).Text()
		least, err := change.Least(tree(t, d, src), d.Change.Least, "magpie")
		if err != nil {
			t.Fatal(err)
		}
		m := running(t, "")
		typeIn(t, m, d.Language.Merge(&rules.Item{}, least).Steps)
		for _, left := range d.Language.Merge(tree(t, d, m.Text()), least).Steps {
			if left.Kind == change.Set {
				t.Fatalf("it lacks %q of\n%s\nand runs\n%s", left.Lines, src, m.Text())
			}
		}
	}
}
