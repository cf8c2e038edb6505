package rules

import (
	"iter"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Same tells whether two items' own lines say the same: what a device salts
// anew each time, or does not tell, is not compared.
func (it *Item) Same(o *Item) bool {
	if it.Line != o.Line && (it.Rule == nil || it.Rule != o.Rule || it.compared(o) != o.compared(it)) {
		return false
	}
	return slices.Equal(it.Body, o.Body)
}

// compared is the line without the words that cannot be compared with other's.
func (it *Item) compared(other *Item) string {
	parts := make([]string, len(it.words))
	for i, w := range it.words {
		parts[i] = w.Text
	}
	blank := func(capture string) {
		if at, ok := it.caps.of(capture); ok {
			parts[at[0]] = ""
			for i := at[0] + 1; i < at[1]; i++ {
				parts[i] = ""
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
	return strings.Join(parts, "\x00")
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

// Differences lists what keeps have from being equivalent to want.
func Differences(have, want *Item) (out []Difference) {
	var whole func(it *Item, add bool)
	whole = func(it *Item, add bool) {
		d := Difference{Block: it.Up.block(), Have: it.Line, item: it}
		if add {
			d.Have, d.Want = "", it.Line
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
				out = append(out, Difference{Block: h.block(), Have: o.Line, Want: k.Line, item: k})
			}
			walk(o, k)
		}
		kept := orders(h, inW)
		for among, ids := range each(orders(w, inH)) {
			for i, id := range ids {
				if there := kept[among]; i < len(there) && there[i] != id {
					out = append(out, Difference{Block: h.block(), Have: inH[there[i]].Line, Want: inW[id].Line, Order: true, item: inW[id]})
				}
			}
		}
	}
	walk(have, want)
	return out
}

// Unordered lists, by their paths, the lists of a document whose entries stand in
// another order in have than in want, where no rule says whether that matters.
func Unordered(have, want *Item) (out []string) {
	var walk func(h, w *Item)
	walk = func(h, w *Item) {
		inH, inW := h.ByID(), w.ByID()
		lists := func(block *Item, other map[string]*Item) map[string][]string {
			ids := map[string][]string{}
			for _, k := range block.Kids {
				if _, ordered := k.Order(); !ordered && other[k.ID] != nil && len(k.words) > 0 && k.ID != k.words[0].Text {
					ids[k.words[0].Text] = append(ids[k.words[0].Text], k.ID)
				}
			}
			return ids
		}
		now := lists(h, inW)
		for name, ids := range each(lists(w, inH)) {
			if !slices.Equal(ids, now[name]) {
				if path := name; w.Up != nil {
					out = append(out, w.Path()+" / "+path)
				} else {
					out = append(out, path)
				}
			}
		}
		for _, k := range w.Kids {
			if o := inH[k.ID]; o != nil {
				walk(o, k)
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
