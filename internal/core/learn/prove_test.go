package learn

import (
	"strings"
	"testing"

	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
)

// TestProve: a draft that takes two lines for one, that speaks of nothing, or that hides a change is
// made stricter or dropped.
func TestProve(t *testing.T) {
	g := &grammar.Blocks{Indent: 2}
	root, err := g.Parse("route 10.0.0.0/8 via a\nroute 10.0.0.0/8 via b\nname r1\nlane q\n  lets x\n  lets x\nspare 1\n")
	if err != nil {
		t.Fatal(err)
	}
	held, dropped := Prove([]Rule{
		{Path: "route {net} via <hop>", Keys: []Key{{"overwrites", "true"}}},
		{Path: "name <host>", Keys: []Key{{"overwrites", "true"}}},
		{Path: "lane {name}"},
		{Path: "lane {name} / lets <what>", Keys: []Key{{"overwrites", "true"}}},
		{Path: "nothing {like} it"},
		{Path: "spare <n>", Keys: []Key{{"default", "'1'"}}},
	}, []*grammar.Node{root}, rules.Table{})
	var got []string
	for _, r := range held {
		line := r.Path
		for _, k := range r.Keys {
			line += " " + k.Name
		}
		got = append(got, line)
	}
	want := "route {net} via {hop}|name <host> overwrites|lane {name}|lane {name} / lets {what}|spare <n> default"
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("held %s\nwant %s", s, want)
	}
	if len(dropped) != 1 || !strings.Contains(dropped[0], "nothing {like} it") {
		t.Errorf("dropped %q", dropped)
	}
}
