package rules

import (
	"slices"
	"testing"
)

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
