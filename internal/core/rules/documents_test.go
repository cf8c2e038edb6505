package rules

import (
	"slices"
	"testing"

	"magpie/internal/core/grammar"
)

// TestUnordered: a document's lists that stand in another order are told of where no rule
// says whether that matters, and nowhere else.
func TestUnordered(t *testing.T) {
	for name, c := range map[string]struct {
		rules      []Rule
		have, want string
		lists      []string
	}{
		"nobody says":           {nil, "<s><u><n>a</n></u><u><n>b</n></u></s>", "<s><u><n>b</n></u><u><n>a</n></u></s>", []string{"s / u"}},
		"it matters":            {[]Rule{{Path: "s / u {n}", Sequence: "u"}}, "<s><u><n>a</n></u><u><n>b</n></u></s>", "<s><u><n>b</n></u><u><n>a</n></u></s>", nil},
		"of the whole block":    {[]Rule{{Path: "s", Ordered: true}}, "<s><u><n>a</n></u><u><n>b</n></u></s>", "<s><u><n>b</n></u><u><n>a</n></u></s>", nil},
		"the same order":        {nil, "<s><u><n>a</n></u><u><n>b</n></u></s>", "<s><u><n>a</n></u><u><n>c</n></u><u><n>b</n></u></s>", nil},
		"values":                {nil, "<l>1</l><l>2</l>", "<l>2</l><l>1</l>", []string{"l"}},
		"other elements around": {nil, "<s><a>1</a><b>2</b></s>", "<s><b>2</b><a>1</a></s>", nil},
		"deep in an entry":      {nil, "<u><n>a</n><l>1</l><l>2</l></u><u><n>b</n></u>", "<u><n>a</n><l>2</l><l>1</l></u><u><n>b</n></u>", []string{"u a / l"}},
	} {
		tab := &Table{}
		for _, r := range c.rules {
			if err := r.Compile(); err != nil {
				t.Fatal(err)
			}
			tab.Rules = append(tab.Rules, &r)
		}
		read := func(src string) *Item {
			root, err := grammar.XML{Keys: tab.Keys}.Parse(src)
			if err != nil {
				t.Fatal(err)
			}
			return tab.Resolve(root)
		}
		if got := Unordered(read(c.have), read(c.want)); !slices.Equal(got, c.lists) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// TestChoice: lines of one choice share a place, whichever rule they fall under.
func TestChoice(t *testing.T) {
	tab := &Table{}
	for _, r := range []*Rule{{Path: "alarm {id}"}, {Path: "alarm {id} / over <n>", Choice: "when"}, {Path: "alarm {id} / under <n>", Choice: "when"}, {Path: "alarm {id} / tell <whom>"}} {
		if err := r.Compile(); err != nil {
			t.Fatal(err)
		}
		tab.Rules = append(tab.Rules, r)
	}
	for path, want := range map[string]string{"over": "when", "under": "when", "tell": "", "nothing": ""} {
		if got := tab.Choice([]string{"alarm", path}); got != want {
			t.Errorf("%s is of choice %q", path, got)
		}
		if known := tab.Known([]string{"alarm", path}); known != (path != "nothing") {
			t.Errorf("%s is known: %v", path, known)
		}
	}
	top := &Item{table: tab}
	a, b := tab.Item(top, "alarm a", nil), tab.Item(top, "alarm b", nil)
	over, under, other := tab.Item(a, "over 1", nil), tab.Item(a, "under 2", nil), tab.Item(b, "under 2", nil)
	if !slices.Equal(over.Sole(), under.Sole()) || slices.Equal(under.Sole(), other.Sole()) || tab.Item(a, "tell x", nil).Sole() != nil {
		t.Errorf("%q %q %q", over.Sole(), under.Sole(), other.Sole())
	}
}
