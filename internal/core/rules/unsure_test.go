package rules

import (
	"regexp"
	"testing"

	"magpie/internal/core/grammar"
)

// saltedTable is a switch whose words are salted anew each time, and that hides
// a community from some.
func saltedTable(t *testing.T) (*Table, *grammar.Blocks) {
	t.Helper()
	tab := &Table{Quotes: "<>", Withheld: regexp.MustCompile(`^<hidden>$`)}
	for _, r := range []*Rule{
		{Path: "keeper {name} : word is <form> <word>", Overwrites: true, Secret: []string{"word"}, Salted: []string{"word"}},
		{Path: "herald : community is <word>", Overwrites: true, Secret: []string{"word"}},
		{Path: "strand {number} : kept is <yes>", Defines: "strand", Named: "number"},
		{Path: "port {number} : label is <label>", Overwrites: true},
	} {
		if err := r.Compile(); err != nil {
			t.Fatal(err)
		}
		tab.Rules = append(tab.Rules, r)
	}
	return tab, &grammar.Blocks{Flat: true}
}

func TestWhatCannotBeCompared(t *testing.T) {
	tab, g := saltedTable(t)
	read := func(src string) *Item {
		root, err := g.Parse(src)
		if err != nil {
			t.Fatal(err)
		}
		return tab.Resolve(root)
	}
	a := read("keeper ann : word is salted <1.aa>\nherald : community is <gulls>\nport 1 : label is <ticket hall>\n")
	for _, c := range []struct {
		name, src string
		same      bool
		unsure    int
	}{
		{"salted anew", "keeper ann : word is salted <2.bb>\nherald : community is <gulls>\nport 1 : label is <ticket hall>\n", true, 1},
		{"another form is a change", "keeper ann : word is plain <1.aa>\nherald : community is <gulls>\nport 1 : label is <ticket hall>\n", false, 1},
		{"another keeper is a change", "keeper bob : word is salted <1.aa>\nherald : community is <gulls>\nport 1 : label is <ticket hall>\n", false, 1},
		{"a secret not told", "keeper ann : word is salted <2.bb>\nherald : community is <hidden>\nport 1 : label is <ticket hall>\n", true, 2},
		{"another secret is a change", "keeper ann : word is salted <2.bb>\nherald : community is <terns>\nport 1 : label is <ticket hall>\n", false, 1},
		{"another label is a change", "keeper ann : word is salted <2.bb>\nherald : community is <gulls>\nport 1 : label is <ticket  hall>\n", false, 1},
	} {
		b := read(c.src)
		if got := Equivalent(a, b); got != c.same {
			t.Errorf("%s: equivalent is %v", c.name, got)
		}
		if got := len(Differences(a, b)) == 0; got != c.same {
			t.Errorf("%s: no differences is %v", c.name, got)
		}
		if got := len(b.Unsure()); got != c.unsure {
			t.Errorf("%s: %d lines could not be compared", c.name, got)
		}
	}
	if space, name := read("strand 20 : kept is yes\n").Kids[0].Defines(); space != "strand" || name != "20" {
		t.Errorf("defines %q %q", space, name)
	}
}

// TestMaskingInPlace: in a document a secret is hidden where it stands, and all
// else stays as it was.
func TestMaskingInPlace(t *testing.T) {
	tab := &Table{Document: true}
	for _, r := range []*Rule{{Path: "user {name} / password <word>", Secret: []string{"word"}}, {Path: "community {word}", Secret: []string{"word"}}} {
		if err := r.Compile(); err != nil {
			t.Fatal(err)
		}
		tab.Rules = append(tab.Rules, r)
	}
	m := Masker{tab, func(string) string { return "tag" }}
	for _, c := range []struct {
		g         grammar.Grammar
		src, want string
	}{
		{grammar.XML{Keys: tab.Keys}, "<user>\n  <name>ann</name>\n  <password>a &amp; b</password>\n</user>\n<community>\n  <word>gulls</word>\n  <x>gulls</x>\n</community>\n",
			"<user>\n  <name>ann</name>\n  <password>‹secret tag›</password>\n</user>\n<community>\n  <word>‹secret tag›</word>\n  <x>gulls</x>\n</community>\n"},
		{grammar.JSON{Keys: tab.Keys}, "{\n  \"user\": [\n    {\n      \"name\": \"ann\",\n      \"password\": \"a \\\" b\"\n    }\n  ],\n  \"note\": \"a\"\n}\n",
			"{\n  \"user\": [\n    {\n      \"name\": \"ann\",\n      \"password\": \"‹secret tag›\"\n    }\n  ],\n  \"note\": \"a\"\n}\n"},
	} {
		root, err := c.g.Parse(c.src)
		if err != nil {
			t.Fatal(err)
		}
		if got := m.Text(c.src, root); got != c.want {
			t.Errorf("shown\n%s\nwant\n%s", got, c.want)
		}
	}
}
