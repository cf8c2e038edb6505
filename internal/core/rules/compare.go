package rules

import (
	"iter"
	"maps"
	"reflect"
	"slices"
	"strings"

	"magpie/internal/core"
)

// Same tells whether two items' own lines say the same, as they are written. Only what a rule
// lets go may differ: what a device salts anew each time or does not tell, and, where the table
// says so, how many blanks stand between the words that a rule names.
func (it *Item) Same(o *Item) bool {
	if it.Space != o.Space || it.Unread != o.Unread || it.attrs != o.attrs || !slices.Equal(it.Body, o.Body) {
		return false
	}
	if it.Line == o.Line {
		return true
	}
	return it.Rule != nil && it.Rule == o.Rule && it.deny == o.deny && it.compared(o) == o.compared(it)
}

// compared is the line without the words that cannot be compared with other's.
func (it *Item) compared(other *Item) string {
	free := it.table != nil && it.table.Blanks
	cut := make([]bool, len(it.words))  // words that are not compared
	kept := make([]bool, len(it.words)) // words before which blanks count even if they are free: those of a text
	for _, c := range it.caps {
		for i := c.at[0] + 1; i < c.at[1]; i++ {
			kept[i] = true
		}
	}
	blank := func(capture string) {
		if at, ok := it.caps.of(capture); ok {
			for i := at[0]; i < at[1]; i++ {
				cut[i] = true
			}
		}
	}
	for _, c := range it.Rule.Salted {
		blank(c)
	}
	if it.Withheld() || other.Withheld() {
		for _, c := range it.Rule.Secret {
			blank(c)
		}
	}
	var b strings.Builder
	end := 0
	for i, w := range it.words {
		gap := it.Line[end:w.Start]
		if free && !kept[i] {
			gap = "\x00"
		}
		if b.WriteString(gap); !cut[i] {
			b.WriteString(w.Text)
		}
		end = w.End
	}
	if !free {
		b.WriteString(it.Line[end:])
	}
	return b.String()
}

// Equivalent tells whether two canonical trees say the same.
func Equivalent(a, b *Item) bool {
	if !a.Same(b) || len(a.Kids) != len(b.Kids) {
		return false
	}
	byID := b.ByID()
	for _, k := range a.Kids {
		other := byID[k.ID]
		if other == nil || !Equivalent(k, other) {
			return false
		}
	}
	return reflect.DeepEqual(orders(a, byID), orders(b, a.ByID()))
}

// orders lists, by what they are ordered among, the lines of a block whose order
// matters and that another block has too.
func orders(block *Item, other map[string]*Item) map[string][]string {
	var out map[string][]string
	for _, k := range block.Kids {
		if among, ordered := k.Order(); ordered && other[k.ID] != nil {
			if out == nil {
				out = map[string][]string{}
			}
			out[among] = append(out[among], k.ID)
		}
	}
	return out
}

// Difference is a line that is in one of two trees only, or differs.
type Difference struct {
	Block string // the blocks around it
	Have  string // the line as it is; empty when missing
	Want  string // the line as it should be; empty when it should not be there
	Order bool   // only its place among its neighbours differs
	item  *Item

	have, want *Item // the items of both lines
}

// Assumed tells whether what differs is an order of which no rule says how it comes about.
func (d Difference) Assumed() bool {
	if !d.Order || d.item == nil {
		return false
	}
	_, ruled := d.item.Turn()
	return !ruled
}

// Reach tells whether the line, or the block it stands in, carries the path by
// which the device is reached.
func (d Difference) Reach() bool {
	for it := d.item; it != nil; it = it.Up {
		if it.Rule != nil && it.Rule.Reach {
			return true
		}
	}
	return false
}

// shown is the line as it stands in a difference: an empty line is never nothing.
func (it *Item) shown() string {
	if it.Line == "" {
		return "\"\""
	}
	return it.Line
}

// Differences lists what keeps have from being equivalent to want.
func Differences(have, want *Item) (out []Difference) {
	var whole func(it *Item, add bool)
	whole = func(it *Item, add bool) {
		d := Difference{Block: it.Up.block(), Have: it.shown(), item: it}
		if add {
			d.Have, d.Want = "", it.shown()
		}
		out = append(out, d)
		for _, k := range it.Kids {
			whole(k, add)
		}
	}
	var walk func(h, w *Item)
	walk = func(h, w *Item) {
		inH, inW := h.ByID(), w.ByID()
		for _, k := range h.Kids {
			if inW[k.ID] == nil {
				whole(k, false)
			}
		}
		for _, k := range w.Kids {
			o := inH[k.ID]
			if o == nil {
				whole(k, true)
				continue
			}
			if !o.Same(k) {
				out = append(out, Difference{Block: h.block(), Have: o.shown(), Want: k.shown(), item: k, have: o, want: k})
			}
			walk(o, k)
		}
		kept := orders(h, inW)
		for among, ids := range each(orders(w, inH)) {
			for i, id := range ids {
				if there := kept[among]; i < len(there) && there[i] != id {
					out = append(out, Difference{Block: h.block(), Have: inH[there[i]].shown(), Want: inW[id].shown(), Order: true, item: inW[id], have: inH[there[i]], want: inW[id]})
				}
			}
		}
	}
	walk(have, want)
	return out
}

// each goes over a mapping in the order of its keys.
func each(m map[string][]string) iter.Seq2[string, []string] {
	return func(yield func(string, []string) bool) {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if !yield(k, m[k]) {
				return
			}
		}
	}
}

// Gone counts what two texts let go: lines that differ and count for nothing, because the
// dialect says so.
type Gone struct {
	Order    int // lines that stand elsewhere where order is free
	Blanks   int // lines with other blanks between the words that their rule names
	Defaults int // lines at their default that only one side has
	Written  int // lines written in another way of which none of the above says why
	Itself   int // comments, and lines that change by themselves
}

// Sum is all of it.
func (g Gone) Sum() int { return g.Order + g.Blanks + g.Defaults + g.Written + g.Itself }

// Words say it: "2 lines in another place, 1 line at the default"; empty: nothing was let go but
// what says nothing or changes by itself, which is so with every text.
func (g Gone) Words() string {
	var out []string
	for _, x := range []struct {
		n    int
		what string
	}{{g.Order, "in another place"}, {g.Blanks, "with other blanks"}, {g.Defaults, "at the default"}, {g.Written, "written otherwise"}} {
		if x.n > 0 {
			out = append(out, core.Count(x.n, "line", "lines")+" "+x.what)
		}
	}
	return strings.Join(out, ", ")
}

// LetGo counts what was let go between two trees.
func LetGo(a, b *Item) (g Gone) {
	if len(a.Kids)+len(b.Kids)+len(a.Left)+len(b.Left) == 0 {
		return g
	}
	inA, inB := a.ByID(), b.ByID()
	written := func(left []*Item) map[string]bool {
		out := map[string]bool{}
		for _, k := range left {
			out[k.ID] = true
		}
		return out
	}
	leftA, leftB := written(a.Left), written(b.Left)
	for id := range leftA {
		if !leftB[id] && inB[id] == nil {
			g.Defaults++
		}
	}
	for id := range leftB {
		if !leftA[id] && inA[id] == nil {
			g.Defaults++
		}
	}
	at := map[string]int{}
	var ids []string
	for i, k := range a.Kids {
		if _, counts := k.Order(); !counts && inB[k.ID] != nil {
			at[k.ID] = i
		}
	}
	for _, k := range b.Kids {
		o := inA[k.ID]
		if o == nil {
			continue
		}
		if _, counts := k.Order(); !counts {
			if _, both := at[k.ID]; both {
				ids = append(ids, k.ID)
			}
		}
		if o.Line != k.Line && o.Same(k) {
			if len(o.Rule.Salted) == 0 && !o.Withheld() && !k.Withheld() { // those are counted as not compared
				g.Blanks++
			}
		}
		if below := LetGo(o, k); below.Sum() > 0 {
			g = Gone{g.Order + below.Order, g.Blanks + below.Blanks, g.Defaults + below.Defaults, 0, 0}
		}
	}
	if !slices.IsSortedFunc(ids, func(x, y string) int { return at[x] - at[y] }) {
		for _, stays := range rising(ids, at) {
			if !stays {
				g.Order++
			}
		}
	}
	return g
}
