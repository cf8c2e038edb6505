package learn

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/grammar"
)

// Documents drafts the rules of documents from some that were shown. Nothing in them
// says what is a list and what its key is, so of none of it the draft is sure.
func Documents(roots []*grammar.Node) (out []Rule) {
	seen := map[string]bool{}
	add := func(r Rule) {
		if !seen[r.Path] {
			seen[r.Path] = true
			out = append(out, r)
		}
	}
	var walk func(n *grammar.Node, path []string)
	walk = func(n *grammar.Node, path []string) {
		of := map[string][]*grammar.Node{}
		var names []string
		for _, k := range n.Kids {
			name := first(k.Text)
			if of[name] == nil {
				names = append(names, name)
			}
			of[name] = append(of[name], k)
		}
		for _, name := range names {
			entries, seg := of[name], name
			switch {
			case len(entries[0].Kids) == 0 && len(entries) > 1:
				add(Rule{Path: strings.Join(append(slices.Clone(path), name+" {"+name+"}"), " / "), Unsure: []string{"several stand there, so it is taken for a list of values; whether their order matters was not seen"}})
			case len(entries[0].Kids) == 0 && secretWord(name):
				add(Rule{Path: strings.Join(append(slices.Clone(path), name+" <"+name+">"), " / "), Keys: []Key{{"secret", "[" + name + "]"}}, Unsure: []string{"it is taken for a secret, going by its name"}})
			case len(entries) > 1 || len(entries[0].Keys) > 0 || entries[0].Ident > 1:
				keys := entries[0].Keys
				if len(keys) == 0 {
					keys = apartBy(entries)
				}
				if len(keys) == 0 {
					break
				}
				for _, k := range keys {
					seg += " {" + k + "}"
				}
				add(Rule{Path: strings.Join(append(slices.Clone(path), seg), " / "),
					Unsure: []string{fmt.Sprintf("it is taken for a list whose entries %s tells apart; whether their order matters was not seen", strings.Join(keys, " and "))}})
			}
			below := append(slices.Clone(path), seg)
			for _, e := range entries {
				walk(e, below)
			}
		}
	}
	for _, r := range roots {
		walk(r, nil)
	}
	return out
}

// apartBy is the first leaf that all entries have and no two alike.
func apartBy(entries []*grammar.Node) []string {
	for _, k := range entries[0].Kids {
		name := first(k.Text)
		values := map[string]bool{}
		for _, e := range entries {
			for _, l := range e.Kids {
				if first(l.Text) == name && len(l.Kids) == 0 && l.Text != name {
					values[l.Text] = true
				}
			}
		}
		if len(values) == len(entries) {
			return []string{name}
		}
	}
	return nil
}

// first is the name of an element or member.
func first(text string) string {
	if w := grammar.Words(text, grammar.Quotes{}); len(w) > 0 {
		return w[0].Text
	}
	return ""
}
