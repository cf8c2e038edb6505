package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"magpie/internal/core/grammar"
)

// What a rule of somebody's own says of the lines on its path.
const (
	Ignored   = "ignored"    // they do not count, in comparisons and for drift
	Required  = "required"   // they have to be there
	Forbidden = "forbidden"  // they must not be there
	PerDevice = "per-device" // they differ from device to device, and have to
	Template  = "template"   // all lines of a text have to be there
)

// OwnKinds are what rules of one's own can say.
var OwnKinds = []string{Ignored, Required, Forbidden, PerDevice, Template}

// Own is a rule that people made for devices of theirs, beside those of the dialect.
type Own struct {
	Name string
	Kind string // one of OwnKinds
	Path string // as in Rule; empty of a model
	Text string // of a model: its lines, variables filled in

	rule *Rule
}

// Same tells whether two rules say the same.
func (o Own) Same(p Own) bool {
	return o.Name == p.Name && o.Kind == p.Kind && o.Path == p.Path && o.Text == p.Text
}

// Compile reads the rule's path.
func (o *Own) Compile() error {
	if o.Kind == Template {
		return nil
	}
	if p := " " + o.Path + " "; strings.HasPrefix(p, " / ") || strings.HasSuffix(p, " / ") {
		return fmt.Errorf("the path has an empty segment")
	}
	o.rule = &Rule{Path: o.Path}
	return o.rule.Compile()
}

// With is the table with rules of one's own, compiled, that say which lines are noise.
func (t *Table) With(own []Own) *Table {
	out := *t
	for _, o := range own {
		if o.Kind == Ignored {
			out.noise = append(out.noise, o)
		}
	}
	return &out
}

// OfOneDevice are rules that ignore what is one device's own, where two are compared: the dialect knows of
// names and of hardware, people of more.
func (t *Table) OfOneDevice(own []Own) (out []Own) {
	for _, o := range own {
		if o.Kind == PerDevice {
			o.Kind = Ignored
		}
		out = append(out, o)
	}
	for _, r := range t.Rules {
		if r.Hostname != "" || r.Hardware {
			out = append(out, Own{Name: DialectSays, Kind: Ignored, Path: r.Path, rule: r})
		}
	}
	return out
}

// DialectSays stands for the name of a rule that is the dialect's.
const DialectSays = "the dialect's" // client.DialectRule

// Quiets tells whether any rule says that some lines are noise.
func (t *Table) Quiets() bool { return len(t.noise) > 0 }

// hushed is the rule that says of an item that it is noise, counted from 1; 0: none does.
func (t *Table) hushed(it *Item) int {
	for i, o := range t.noise {
		if o.rule.Fits(it) {
			return i + 1
		}
	}
	return 0
}

// Hushed tells of each of a text's lines the rule that says it is noise, counted from 1, and the names
// of the rules. root is the text parsed.
func (t *Table) Hushed(lines int, root *grammar.Node) (by []int, names []string) {
	by = make([]int, lines)
	for _, o := range t.noise {
		names = append(names, o.Name)
	}
	var walk func(up *Item, n *grammar.Node, above int)
	walk = func(up *Item, n *grammar.Node, above int) {
		for _, k := range n.Kids {
			it := t.node(up, k)
			own := above
			if own == 0 {
				own = t.hushed(it)
			}
			mark := func(line int) {
				if own > 0 && line <= lines {
					by[line-1] = own
				}
			}
			eachLine(k, mark)
			walk(it, k, own)
		}
	}
	walk(&Item{}, root, 0)
	return by, names
}

// Matches lists the items of a tree that the rule's path leads to.
func (o *Own) Matches(top *Item) []*Item { return o.rule.matches(top) }

// Breaches lists what keeps a tree from being as the rule wants it: lines that must not be there, and, for
// each block that the path leads to, the line that must be and is not. A block without which no line can be
// there is missed itself, where the path names it outright.
func (o *Own) Breaches(t *Table, top *Item) (out []Difference) {
	switch o.Kind {
	case Forbidden:
		for _, it := range o.Matches(top) {
			out = append(out, Difference{Block: it.Up.block(), Have: it.Line, item: it})
		}
	case Required:
		last := len(o.rule.segs) - 1
		// The blocks that are named outright have to be there; of the others each has to have the line.
		missing := func(up *Item, at int) {
			line := o.segment(at)
			it := t.Item(up, line, nil)
			if it.AtDefault() && up.Kid(it.ID) == nil {
				return // the device does it without being told
			}
			out = append(out, Difference{Block: up.block(), Want: line, item: it})
		}
		var walk func(it *Item, at int)
		walk = func(it *Item, at int) {
			found := false
			for _, k := range it.Kids {
				if fits(o.rule.segs[at], k.positional()) {
					if found = true; at < last {
						walk(k, at+1)
					}
				}
			}
			if !found && (at == last || o.outright(at)) {
				missing(it, at)
			}
		}
		walk(top, 0)
	}
	return out
}

var variable = regexp.MustCompile(`\{\{([a-z][a-z0-9_.-]*)\}\}`)

// Variables lists the variables of a model text, {{name}}, each once, sorted.
func Variables(text string) (names []string) {
	for _, m := range variable.FindAllStringSubmatch(text, -1) {
		names = append(names, m[1])
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Fill puts values in the place of variables. One that has none stays as it is written.
func Fill(text string, values map[string]string) string {
	return variable.ReplaceAllStringFunc(text, func(v string) string {
		if value, ok := values[v[2:len(v)-2]]; ok {
			return value
		}
		return v
	})
}

// Lacking lists what a tree lacks of a model: lines that are not there, that say something else, or whose
// order differs where it matters. What else the tree has does not count.
func Lacking(have, model *Item) (out []Difference) {
	for _, d := range Differences(have, model) {
		if d.Want != "" {
			out = append(out, d)
		}
	}
	return out
}

// outright tells whether a segment of the path leaves no word open.
func (o *Own) outright(at int) bool {
	for _, tok := range o.rule.segs[at] {
		if tok.capture != "" {
			return false
		}
	}
	return true
}

// segment is a segment of the path as it is written.
func (o *Own) segment(at int) string { return strings.TrimSpace(strings.Split(o.Path, " / ")[at]) }

// Sound tells what is wrong with the rule; nil: nothing is.
func (o *Own) Sound() error {
	if slices.Contains(OwnKinds, o.Kind) {
		return o.Compile()
	}
	return fmt.Errorf("a rule says %s, not %q", strings.Join(OwnKinds, ", "), o.Kind)
}
