package change

import (
	"slices"

	"magpie/internal/core/rules"
)

// What device families do to lines that nobody named: of some there is one at a time,
// some go with others, and some take others with them.

// oneAtATime has lines of which there can be one only come after those that stand in
// their place have gone.
func (p *planner) oneAtATime() {
	if !slices.ContainsFunc(p.lang.Table.Rules, func(r *rules.Rule) bool { return r.Single || r.SingleBy != nil || r.Unique != nil }) {
		return
	}
	stand := map[string][]*rules.Item{}
	for _, h := range every(p.from) {
		for _, shared := range h.Sole() {
			stand[shared] = append(stand[shared], h)
		}
	}
	for i := 0; i < len(p.ops); i++ {
		if p.ops[i].kind != Set {
			continue
		}
		w := p.ops[i].item
		for _, shared := range w.Sole() {
			for _, h := range stand[shared] {
				if at := p.outOfTheWay(i, h); at >= 0 {
					p.ops[i].after = append(p.ops[i].after, at)
				}
			}
		}
	}
}

// outOfTheWay is the op after which a line does not stand in the way of what an op sets;
// -1 where that takes its place anyway.
func (p *planner) outOfTheWay(i int, h *rules.Item) int {
	if at := p.going(h); at >= 0 {
		return at
	}
	w := p.ops[i].item
	trail, again := p.counterpart(h)
	if again == w {
		return -1
	}
	c, changes := p.settings[again]
	if changes && p.ops[c].old != nil && !p.waits(c, i) {
		return c // it says something else by then
	}
	if p.merge {
		p.note("%s: there can be one at a time only, so %s goes", w.Path(), h.Path())
	}
	if again == nil { // what is only there: merging leaves it otherwise
		for x := h.Up; x.Up != nil; x = x.Up {
			trail = append([]*rules.Item{x}, trail...)
		}
	}
	at := p.add(op{kind: Remove, trail: trail, item: h})
	if changes {
		p.ops[c].after, p.ops[c].old = append(p.ops[c].after, at), nil
	}
	return at
}

// waits tells whether an op comes after another, whatever is in between.
func (p *planner) waits(op, other int) bool {
	seen := map[int]bool{}
	var walk func(i int) bool
	walk = func(i int) bool {
		if i == other || seen[i] {
			return i == other
		}
		seen[i] = true
		return slices.ContainsFunc(p.ops[i].after, walk)
	}
	return walk(op)
}

// together arranges for lines that go with others: what a removal takes with it is made
// again if it is to stay, and what cannot go by itself goes with what it belongs to,
// which then comes again.
func (p *planner) together() {
	for i := 0; i < len(p.ops); i++ {
		if p.ops[i].kind != Remove {
			continue
		}
		if h := p.ops[i].item; h.Rule != nil && h.Rule.GoesWith != nil {
			p.goesWith(i, h)
		}
	}
	for i := 0; i < len(p.ops); i++ {
		if p.ops[i].kind == Remove {
			p.takes(i)
		}
	}
	for i := range p.ops { // what belongs to another comes after it
		w := p.ops[i].item
		if p.ops[i].kind != Set || w.Rule == nil || w.Rule.GoesWith == nil {
			continue
		}
		for x, at := range p.settings {
			if w.With(w.Rule.GoesWith, x) {
				p.ops[i].after = append(p.ops[i].after, at)
			}
		}
	}
}

// goesWith turns the removal of a line that cannot go by itself into that of the line
// which it goes with.
func (p *planner) goesWith(i int, h *rules.Item) {
	for _, x := range every(p.from) {
		if !h.With(h.Rule.GoesWith, x) {
			continue
		}
		at := p.going(x)
		if at < 0 {
			at = p.again(x)
		}
		if at < 0 {
			return
		}
		p.ops[i].kind, p.ops[i].parts, p.ops[i].after = "", []int{at}, append(p.ops[i].after, at)
		return
	}
}

// going is the op by which a line goes, itself or with a block around it; -1 if it stays.
func (p *planner) going(x *rules.Item) int {
	for ; x.Up != nil; x = x.Up {
		if at, goes := p.removals[x]; goes {
			return at
		}
	}
	return -1
}

// again takes a line away and makes it anew.
func (p *planner) again(x *rules.Item) int {
	trail, w := p.counterpart(x)
	if w == nil {
		return -1
	}
	p.note("%s: it has to go and come again, for what goes with it cannot go by itself; in between it is not there", x.Path())
	at := p.add(op{kind: Remove, trail: trail, item: x})
	if c, ok := p.settings[w]; ok {
		p.ops[c].after, p.ops[c].old = append(p.ops[c].after, at), nil
	} else {
		p.whole(trail, w, at)
	}
	return at
}

// whole makes a line and all below it that nothing makes yet, and takes away what the
// device adds by itself and is not wanted.
func (p *planner) whole(trail []*rules.Item, w *rules.Item, after ...int) {
	at := p.add(op{kind: Set, trail: trail, item: w, after: slices.Clone(after), opens: len(w.Kids) > 0 || p.lang.Table.Opens(w)})
	inner := append(slices.Clone(trail), w)
	fresh := p.lang.fresh(w)
	made, wants := fresh.ByID(), w.ByID()
	for _, k := range w.Kids {
		if own := made[k.ID]; own != nil && own.Same(k) && len(k.Kids) == 0 {
			continue
		}
		if c, ok := p.settings[k]; ok {
			p.ops[c].after, p.ops[c].old = append(p.ops[c].after, at), nil
		} else {
			p.whole(inner, k, at)
		}
	}
	for _, own := range fresh.Kids {
		if wants[own.ID] == nil {
			p.remove(inner, own, []int{at})
		}
	}
}

// takes arranges for what a removal takes with it: what is to go as well goes before, and
// what is to stay comes again.
func (p *planner) takes(i int) {
	for _, y := range p.lang.goesToo(p.from, p.ops[i].item) {
		if at, goes := p.removals[y]; goes {
			if p.ops[at].parts == nil {
				p.ops[i].after = append(p.ops[i].after, at)
			}
			continue
		}
		trail, w := p.counterpart(y)
		if w == nil {
			continue // it goes with a block around it
		}
		if c, ok := p.settings[w]; ok {
			p.ops[c].after, p.ops[c].old = append(p.ops[c].after, i), nil
			continue
		}
		p.note("%s: the device takes it away with %s, so it is made again; in between it is not there", y.Path(), p.ops[i].item.Path())
		p.whole(trail, w, i)
	}
}

// counterpart is the line of the tree to be that stands for one that is, with the blocks
// around it; nil where there is none.
func (p *planner) counterpart(it *rules.Item) (trail []*rules.Item, w *rules.Item) {
	if it.Up == nil {
		return nil, p.to
	}
	trail, up := p.counterpart(it.Up)
	if up == nil {
		return nil, nil
	}
	if up != p.to {
		trail = append(slices.Clone(trail), up)
	}
	return trail, up.Kid(it.ID)
}

// goesToo are the lines of a tree that the device takes away with one of them, or with
// what is below it.
func (l *Language) goesToo(tree, it *rules.Item) (out []*rules.Item) {
	for _, x := range append([]*rules.Item{it}, every(it)...) {
		if x.Rule == nil {
			continue
		}
		belongs := map[*rules.Rule]bool{} // rules of lines that go with such a line
		for _, r := range l.Table.Rules {
			if r.GoesWith != nil && r.GoesWith.Fits(x) {
				belongs[r] = true
			}
		}
		if len(belongs)+len(x.Rule.Takes) == 0 {
			continue
		}
		for _, y := range every(tree) {
			taken := slices.ContainsFunc(x.Rule.Takes, func(r *rules.Rule) bool { return x.With(r, y) })
			if y != x && (taken || belongs[y.Rule] && y.With(y.Rule.GoesWith, x)) {
				out = append(out, y)
			}
		}
	}
	return out
}

// every lists what is below an item, gaps left out.
func every(it *rules.Item) (out []*rules.Item) {
	for _, k := range it.Kids {
		if k != nil {
			out = append(append(out, k), every(k)...)
		}
	}
	return out
}
