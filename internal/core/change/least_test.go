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
		got, held, err := change.Least(tree(t, d, src), c.paths, c.user, "192.0.2.1")
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if held {
			t.Errorf("%s: a line holds an address that stands nowhere", c.name)
		}
		if said := strings.Join(strings.Split(strings.TrimSpace(d.Blocks.Print(got.Node())), "\n"), "|"); said != c.want {
			t.Errorf("%s:\n%s\nwanted\n%s", c.name, said, c.want)
		}
	}
	if _, _, err := change.Least(tree(t, d, src), []string{"name {host...} more"}, "", ""); err == nil {
		t.Error("a path that is none was taken")
	}
}

// TestLeastToOneAddress: where a line holds the address that a device is sought at, only what leads there stays.
func TestLeastToOneAddress(t *testing.T) {
	d := ternDialect(t)
	const src = `name a
lane quay1
  berth 10.1.0.1/24
  also-berth 10.9.0.1/24
  sieve in in
  shut
lane quay2
  berth 10.2.0.1/24
  shut
lane up
  berth 192.0.2.5/30
course 0.0.0.0/0 via 10.1.0.2
course 198.51.100.0/24 via 192.0.2.6
course 203.0.113.0/24 via 10.1.0.9 metric 20
`
	for at, want := range map[string]string{
		"10.1.0.1":  "lane quay1|  berth 10.1.0.1/24|  shut|course 0.0.0.0/0 via 10.1.0.2|course 203.0.113.0/24 via 10.1.0.9 metric 20",
		"10.9.0.1":  "lane quay1|  also-berth 10.9.0.1/24|  shut",
		"192.0.2.5": "lane up|  berth 192.0.2.5/30|course 198.51.100.0/24 via 192.0.2.6",
	} {
		got, held, err := change.Least(tree(t, d, src), nil, "", at)
		if err != nil || !held {
			t.Fatalf("%s: %v, %v", at, held, err)
		}
		if said := strings.Join(strings.Split(strings.TrimSpace(d.Blocks.Print(got.Node())), "\n"), "|"); said != want {
			t.Errorf("%s:\n%s\nwanted\n%s", at, said, want)
		}
	}
}

// TestLeastIsTaken: whatever a router runs, what is typed first of it is taken by
// a router that runs nothing, and all of it is there afterwards.
func TestLeastIsTaken(t *testing.T) {
	d := ternDialect(t)
	r := rand.New(rand.NewPCG(3, 5))
	for range 200 {
		src := tern.Generate(r).Text()
		least, _, err := change.Least(tree(t, d, src), d.Change.Least, "magpie", []string{"", "192.0.2.1", "10.12.12.1"}[r.IntN(3)])
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
