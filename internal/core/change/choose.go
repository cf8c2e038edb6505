package change

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/rules"
)

// Choose returns what runs (from) with only the named blocks as they are in to. A
// block is named by its line, or the beginning of it in whole words, with the
// blocks around it before it: "lane quay1", "flock 64530 / neighbour
// 10.1.18.1", "port 3". What is chosen and is not in to goes. It is an error to
// choose what is in neither, and to leave out what the chosen lines depend on.
func Choose(from, to *rules.Item, only []string) (*rules.Item, error) {
	out := from.Clone(nil)
	for _, path := range only {
		segs := strings.Split(path, " / ")
		for i := range segs {
			segs[i] = strings.Join(strings.Fields(segs[i]), " ")
		}
		if !graft(out, to, segs) {
			return nil, fmt.Errorf("nothing is called %q, neither in what runs nor in the version", path)
		}
	}
	before, after, there := mentions(from), mentions(out), mentions(to)
	for use, by := range after.used {
		if _, defined := after.defined[use]; defined {
			continue
		}
		if line, ok := there.defined[use]; ok {
			return nil, fmt.Errorf("%s uses %s, which does not run there; choose that as well: %s", by, use, line)
		}
		if line, ok := before.defined[use]; ok {
			return nil, fmt.Errorf("%s would go and is still used by %s; choose that as well", line, by)
		}
	}
	return out, nil
}

// graft puts what to has at a path in the place of what is there. It tells
// whether either side has anything there.
func graft(at, to *rules.Item, segs []string) bool {
	ids := map[string]bool{} // a line that has another value on the other side is the same line
	for _, it := range append(slices.Clone(at.Kids), kids(to)...) {
		if strings.HasPrefix(it.Words()+" ", segs[0]+" ") {
			ids[it.ID] = true
		}
	}
	called := func(it *rules.Item) bool { return ids[it.ID] }
	found := false
	if len(segs) > 1 {
		for _, w := range kids(to) {
			if !called(w) {
				continue
			}
			h := at.Kid(w.ID)
			if h == nil { // the block around it is new: only its own line comes with it
				h = w.Clone(at)
				h.Kids = nil
				at.Kids = append(at.Kids, h)
			}
			found = graft(h, w, segs[1:]) || found
		}
		for _, h := range at.Kids {
			if called(h) && (to == nil || to.Kid(h.ID) == nil) {
				found = graft(h, nil, segs[1:]) || found
			}
		}
		return found
	}
	var next []*rules.Item
	inTo, has := map[string]*rules.Item{}, map[string]bool{}
	if to != nil {
		inTo = to.ByID()
	}
	for _, h := range at.Kids {
		if !called(h) {
			next = append(next, h)
			continue
		}
		found = true
		if w := inTo[h.ID]; w != nil {
			next, has[h.ID] = append(next, w.Clone(at)), true
		}
	}
	for _, w := range kids(to) {
		if called(w) && !has[w.ID] {
			found = true
			next = append(next, w.Clone(at))
		}
	}
	at.Kids = next
	at.Renumber()
	return found
}

func kids(it *rules.Item) []*rules.Item {
	if it == nil {
		return nil
	}
	return it.Kids
}

type named struct{ defined, used map[string]string } // "space name" -> a line

// mentions lists what a tree's lines define and use.
func mentions(top *rules.Item) named {
	n := named{map[string]string{}, map[string]string{}}
	var walk func(it *rules.Item)
	walk = func(it *rules.Item) {
		if space, name := it.Defines(); space != "" {
			n.defined[space+" "+name] = it.Path()
		}
		for _, use := range it.Names() {
			n.used[use] = it.Path()
		}
		for _, k := range it.Kids {
			walk(k)
		}
	}
	walk(top)
	return n
}
