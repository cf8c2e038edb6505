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
	if !slices.ContainsFunc(p.lang.Table.Rules, func(r *rules.Rule) bool { return r.Single || r.Choice != "" || r.SingleBy != nil || r.Unique != nil }) {
		return
	}
	stand := map[string][]*rules.Item{}
	for _, h := range every(p.from) {
		for _, shared := range h.Sole() {
			stand[shared] = append(stand[shared], h)
		}
	}
	type conflict struct {
		op, other int // which comes after which, if that can be
		h         *rules.Item
	}
	var open []conflict
	for i := 0; i < len(p.ops); i++ {
		if p.ops[i].kind != Set {
			continue
		}
		w := p.ops[i].item
		for _, shared := range w.Sole() {
			for _, h := range stand[shared] {
				_, again := p.counterpart(h)
				c, changes := p.settings[again]
				switch at := p.going(h); {
				case at >= 0:
					p.ops[i].after = append(p.ops[i].after, at)
				case again == w: // it takes its place anyway
				case changes && p.ops[c].old != nil: // it says something else by then
					open = append(open, conflict{i, c, h})
				default:
					p.outOfTheWay(i, h)
				}
			}
		}
	}
	// Where they would wait for each other, one of each circle is taken away first.
	for len(open) > 0 {
		more := map[int][]int{}
		for _, c := range open {
			more[c.op] = append(more[c.op], c.other)
		}
		circle, broken := p.circles(more), map[int]bool{}
		var left []conflict
		for _, c := range open {
			switch in := circle[c.op]; {
			case in != circle[c.other]:
				p.ops[c.op].after = append(p.ops[c.op].after, c.other)
			case !broken[in]:
				broken[in] = true
				p.outOfTheWay(c.op, c.h)
			default:
				left = append(left, c)
			}
		}
		open = left
	}
}

// outOfTheWay takes a line away that cannot stand beside what an op sets, before that.
func (p *planner) outOfTheWay(i int, h *rules.Item) {
	w := p.ops[i].item
	at := p.going(h)
	if at < 0 {
		trail, again := p.counterpart(h)
		if p.merge {
			p.note("%s: there can be one at a time only, so %s goes", w.Path(), h.Path())
		}
		if again == nil { // what is only there: merging leaves it otherwise
			for x := h.Up; x.Up != nil; x = x.Up {
				trail = append([]*rules.Item{x}, trail...)
			}
		}
		at = p.add(op{kind: Remove, trail: trail, item: h})
		if c, changes := p.settings[again]; changes {
			p.anew(c, at)
		}
	}
	p.ops[i].after = append(p.ops[i].after, at)
}

// circles numbers the ops so that those that wait for each other, by what they wait for and
// by more, have one number (R. Tarjan's strongly connected components).
func (p *planner) circles(more map[int][]int) []int {
	n := len(p.ops)
	number, low, circle := make([]int, n), make([]int, n), make([]int, n)
	var stack []int
	next, found := 1, 0
	on := make([]bool, n)
	var visit func(v int)
	visit = func(v int) {
		number[v], low[v] = next, next
		next++
		stack, on[v] = append(stack, v), true
		for _, list := range [][]int{p.ops[v].after, more[v]} {
			for _, w := range list {
				if number[w] == 0 {
					visit(w)
					low[v] = min(low[v], low[w])
				} else if on[w] {
					low[v] = min(low[v], number[w])
				}
			}
		}
		if low[v] == number[v] {
			found++
			for {
				w := stack[len(stack)-1]
				stack, on[w] = stack[:len(stack)-1], false
				circle[w] = found
				if w == v {
					break
				}
			}
		}
	}
	for v := range n {
		if number[v] == 0 {
			visit(v)
		}
	}
	return circle
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
	coming := newTangle(p.lang, p.to)
	for i := range p.ops { // what belongs to another comes after it
		w := p.ops[i].item
		if p.ops[i].kind != Set || w.Rule == nil || w.Rule.GoesWith == nil {
			continue
		}
		for _, x := range coming.with(w, w.Rule.GoesWith) {
			if at, ok := p.settings[x]; ok {
				p.ops[i].after = append(p.ops[i].after, at)
			}
		}
	}
}

// goesWith turns the removal of a line that cannot go by itself into that of the line
// which it goes with.
func (p *planner) goesWith(i int, h *rules.Item) {
	with := p.tangle.with(h, h.Rule.GoesWith)
	if len(with) == 0 {
		return
	}
	at := p.going(with[0])
	if at < 0 {
		at = p.again(with[0])
	}
	if at >= 0 {
		p.ops[i].kind, p.ops[i].parts, p.ops[i].after = "", []int{at}, append(p.ops[i].after, at)
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
		p.anew(c, at)
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
			p.anew(c, at)
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
	for _, y := range p.tangle.goesToo(p.ops[i].item) {
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
			p.anew(c, i)
			continue
		}
		p.note("%s: the device takes it away with %s, so it is made again; in between it is not there", y.Path(), p.ops[i].item.Path())
		p.whole(trail, w, i)
	}
}

// anew has an op set its line as a new one, once another was done.
func (p *planner) anew(op, after int) {
	p.ops[op].after, p.ops[op].old = append(p.ops[op].after, after), nil
}

// counterpart is the line of the tree to be that stands for one that is, with the blocks
// around it; nil where there is none.
func (p *planner) counterpart(it *rules.Item) (trail []*rules.Item, w *rules.Item) {
	return counterpart(it, p.to, func(up *rules.Item, id string) *rules.Item { return p.kids(up)[id] })
}

// counterpart is the line of another tree that stands where an item does, with the blocks
// around it; nil where there is none. kid finds a block's line by what identifies it.
func counterpart(it, tree *rules.Item, kid func(up *rules.Item, id string) *rules.Item) (trail []*rules.Item, w *rules.Item) {
	if it.Up == nil {
		return nil, tree
	}
	trail, up := counterpart(it.Up, tree, kid)
	if up == nil {
		return nil, nil
	}
	if up != tree {
		trail = append(slices.Clone(trail), up)
	}
	return trail, kid(up, it.ID)
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
