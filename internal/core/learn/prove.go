package learn

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
)

// Prove runs drafted rules over the texts that they were drafted from, read with the settings of a
// table, and returns those that hold: each speaks of some line, takes no two lines for one entry, and
// hides no change. A rule that takes two lines for one is made stricter, so that all its words tell
// entries apart; one that still does, or that speaks of nothing, is dropped. dropped says which and why.
func Prove(drafted []Rule, roots []*grammar.Node, like rules.Table) (held []Rule, dropped []string) {
	held = slices.Clone(drafted)
	for range 8 { // stricter at most once each, and dropped at most once each; what is left then is dropped
		t, of := table(held, like)
		bad := map[int]string{}
		speaks := map[*rules.Rule]bool{}
		for _, root := range roots {
			top := t.Resolve(root)
			for _, it := range top.Clashes() {
				bad[of[it.Rule]] = "it takes two lines of a version for one entry"
			}
			each(top, func(it *rules.Item) {
				if it.Rule != nil {
					speaks[it.Rule] = true
				}
			})
			for n, why := range unseen(t, root, of) {
				bad[n] = why
			}
		}
		for r, n := range of {
			if !speaks[r] && !r.Volatile && bad[n] == "" {
				bad[n] = "it speaks of no line of the versions that it was drafted from"
			}
		}
		if len(bad) == 0 {
			return held, dropped
		}
		var next []Rule
		for n, r := range held {
			why, is := bad[n]
			if !is {
				next = append(next, r)
				continue
			}
			if strict, ok := stricter(r, why); ok {
				next = append(next, strict)
				continue
			}
			dropped = append(dropped, fmt.Sprintf("%s: %s", r.Path, why))
		}
		held = next
	}
	return held, dropped
}

// table makes a table of drafted rules, as far as they say what tells lines apart and what counts.
func table(drafted []Rule, like rules.Table) (*rules.Table, map[*rules.Rule]int) {
	t := like
	t.Rules = nil
	of := map[*rules.Rule]int{}
	for n, d := range drafted {
		r := &rules.Rule{Path: d.Path}
		for _, k := range d.Keys {
			switch k.Name {
			case "volatile":
				r.Volatile = k.Value == "true"
			case "ordered":
				r.Ordered = k.Value == "true"
			case "sequence":
				r.Sequence = k.Value
			case "default":
				r.Default = strings.Trim(k.Value, "'")
			case "empties":
				r.Empties = k.Value == "true"
			}
		}
		if r.Compile() != nil { // found when the dialect is loaded
			continue
		}
		of[r] = n
		t.Rules = append(t.Rules, r)
	}
	t.Compile()
	return &t, of
}

func each(it *rules.Item, do func(*rules.Item)) {
	for _, k := range append(slices.Clone(it.Kids), it.Left...) {
		do(k)
		each(k, do)
	}
}

// unseen changes a text in one place after the other (a line lost, doubled, changed places with its
// neighbour), and names the rules under which such a change is not seen and not counted.
func unseen(t *rules.Table, root *grammar.Node, of map[*rules.Rule]int) map[int]string {
	out := map[int]string{}
	top := t.Resolve(root)
	tried := 0
	var walk func(n *grammar.Node)
	walk = func(n *grammar.Node) {
		kids := n.Kids
		for i, k := range kids {
			if tried++; tried > 400 {
				return
			}
			lost := slices.Concat(kids[:i], kids[i+1:])
			doubled := slices.Concat(kids[:i], []*grammar.Node{k}, kids[i:])
			for _, mutated := range [][]*grammar.Node{lost, doubled} {
				n.Kids = mutated
				other := t.Resolve(root)
				if n.Kids = kids; rules.Equivalent(top, other) && rules.LetGo(top, other).Sum() == 0 {
					if it := find(top, k); it != nil && it.Rule != nil {
						out[of[it.Rule]] = "a line that is lost or stands twice is not seen under it"
					}
				}
			}
		}
		for _, k := range kids {
			walk(k)
		}
	}
	walk(root)
	return out
}

// find is the item of a node.
func find(top *rules.Item, n *grammar.Node) (found *rules.Item) {
	each(top, func(it *rules.Item) {
		if it.Src == n.Line && it.Line == n.Text {
			found = it
		}
	})
	return found
}

// stricter has all words of a rule's lines tell them apart; ok is false where they do already, or
// nothing is gained by it.
func stricter(r Rule, why string) (Rule, bool) {
	if strings.HasPrefix(why, "it speaks") || !strings.Contains(r.Path, "<") {
		return r, false
	}
	segs := strings.Split(r.Path, " / ")
	last := segs[len(segs)-1]
	if !strings.Contains(last, "<") {
		return r, false
	}
	segs[len(segs)-1] = strings.NewReplacer("<", "{", ">", "}").Replace(last)
	r.Path = strings.Join(segs, " / ")
	r.Keys = slices.DeleteFunc(slices.Clone(r.Keys), func(k Key) bool {
		return slices.Contains([]string{"overwrites", "permanent", "default", "single_by", "unique", "hostname"}, k.Name)
	})
	r.Unsure = append(slices.Clone(r.Unsure), "with a value in it "+strings.TrimPrefix(why, "it ")+", so all its words tell lines apart")
	return r, true
}
