// Package change works out which lines make a device that runs one
// configuration run another, when lines can only be added and removed one by
// one, and predicts what typing them leads to.
package change

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/rules"
)

// Language is how a dialect's configuration is changed.
type Language struct {
	Table  *rules.Table
	Remove string // how a line is taken away; {identity} stands for what identifies it
	Leave  string // how a block is left
}

// Kind is what a step does.
type Kind string

// The kinds of step.
const (
	Enter  Kind = "enter" // opens a block, making it if need be
	Set    Kind = "set"
	Remove Kind = "remove"
	Leave  Kind = "leave"
)

// Step is what is sent at once: one line, or a line with the delimited text
// that follows it.
type Step struct {
	Kind  Kind
	Lines []string
	Block string // the path of the block it is sent in; empty at the top
	Depth int
	New   bool        // an Enter that makes the block
	Item  *rules.Item // what it is about; nil for Leave
}

// Plan is a change worked out.
type Plan struct {
	Steps     []Step
	Predicted *rules.Item        // what the device should run afterwards
	Remains   []rules.Difference // where that is not what was asked for
	Notes     []string           // what a person should know before
}

// Replace plans the steps after which the device runs exactly to.
func (l *Language) Replace(from, to *rules.Item) Plan { return l.plan(from, to, false) }

// Merge plans the steps that add what to has and from lacks. Lines only from
// has stay; they are listed in Remains.
func (l *Language) Merge(from, to *rules.Item) Plan { return l.plan(from, to, true) }

func (l *Language) plan(from, to *rules.Item, merge bool) Plan {
	p := planner{lang: l, merge: merge, defines: map[string]int{}}
	p.block(nil, from, to)
	p.depend()
	plan := Plan{Steps: p.emit(), Notes: p.notes}
	plan.Predicted = from.Clone(nil)
	if err := l.Apply(plan.Predicted, plan.Steps); err != nil {
		plan.Notes = append(plan.Notes, "the device is expected to refuse a line: "+err.Error())
	}
	plan.Remains = rules.Differences(plan.Predicted, to)
	return plan
}

// op is one addition or removal, before they are put in order.
type op struct {
	kind  Kind // Set or Remove
	trail []*rules.Item
	item  *rules.Item
	old   *rules.Item // what a Set overwrites
	opens bool
	after []int // ops that must come before
}

type planner struct {
	lang    *Language
	merge   bool
	ops     []op
	notes   []string
	defines map[string]int // "space name" -> the op that makes it
}

func (p *planner) add(o op) int {
	p.ops = append(p.ops, o)
	return len(p.ops) - 1
}

// block compares two blocks line by line. made is the op that makes the
// block, if it is new.
func (p *planner) block(trail []*rules.Item, from, to *rules.Item, made ...int) {
	if to.Ordered() {
		p.ordered(trail, from, to, made)
		return
	}
	has, wants := from.ByID(), to.ByID()
	for _, w := range to.Kids {
		p.line(trail, has[w.ID], w, made)
	}
	if p.merge {
		return
	}
	for _, h := range from.Kids {
		if wants[h.ID] == nil {
			p.remove(trail, h, made)
		}
	}
}

// ordered compares blocks where new lines only ever go to the end: what can
// stay is the longest head of to that from has in the same order; the rest is
// taken away and added again.
func (p *planner) ordered(trail []*rules.Item, from, to *rules.Item, made []int) {
	has, wants := from.ByID(), to.ByID()
	keep, at := 0, 0
	stays := map[string]bool{}
	for ; keep < len(to.Kids) && !p.merge; keep++ {
		next := slices.IndexFunc(from.Kids[at:], func(h *rules.Item) bool { return h.ID == to.Kids[keep].ID && h.Same(to.Kids[keep]) })
		if next < 0 {
			break
		}
		at += next + 1
		stays[to.Kids[keep].ID] = true
	}
	before := slices.Clone(made)
	again := 0
	if !p.merge {
		for _, h := range from.Kids {
			if stays[h.ID] {
				continue
			}
			if wants[h.ID] != nil {
				again++
			}
			before = append(before, p.remove(trail, h, made))
		}
	}
	if again > 0 {
		p.notes = append(p.notes, fmt.Sprintf("%s: order matters here and new lines only go to the end, so %d of its lines are taken away and added again; in between it is incomplete", to.Path(), again))
	}
	for i, w := range to.Kids {
		h := has[w.ID]
		if i < keep || p.merge && h != nil {
			if len(h.Kids)+len(w.Kids) > 0 {
				p.block(append(slices.Clone(trail), w), h, w, made...)
			}
			continue
		}
		before = []int{p.line(trail, nil, w, before)}
	}
}

// line makes w of h, which is nil when the line is new. It returns the op that
// writes the line itself, or -1.
func (p *planner) line(trail []*rules.Item, h, w *rules.Item, made []int) int {
	inner := append(slices.Clone(trail), w)
	if h == nil && w.Withheld() {
		p.notes = append(p.notes, fmt.Sprintf("%s: the device did not tell this line's secret when the version was pulled, so it is not sent; set it by hand", w.Path()))
		return -1
	}
	if h != nil && h.Same(w) {
		if len(h.Kids)+len(w.Kids) > 0 {
			p.block(inner, h, w, made...)
		}
		return -1
	}
	o := op{kind: Set, trail: trail, item: w, old: h, after: slices.Clone(made), opens: len(w.Kids) > 0 || p.lang.Table.Opens(w)}
	if h != nil && (w.Rule == nil || !w.Rule.Overwrites) {
		o.after = append(o.after, p.remove(trail, h, made))
		o.old = nil
		h = nil
	}
	at := p.add(o)
	if o.opens {
		if h == nil {
			h = p.lang.fresh(w)
		}
		p.block(inner, h, w, append(made, at)...)
	}
	return at
}

// fresh is a block as the device makes it: empty but for what it writes itself.
func (l *Language) fresh(w *rules.Item) *rules.Item {
	n := l.Table.Item(w.Up, w.Line, w.Body)
	if n.Rule != nil {
		for _, line := range n.Rule.Writes {
			if k := l.Table.Item(n, line, nil); !k.AtDefault() {
				n.Kids = append(n.Kids, k)
			}
		}
	}
	return n
}

func (p *planner) remove(trail []*rules.Item, h *rules.Item, made []int) int {
	if h.Rule != nil && h.Rule.Permanent {
		p.notes = append(p.notes, fmt.Sprintf("%s: the device does not let go of this line; it stays", h.Path()))
		return p.add(op{trail: trail, item: h}) // keeps indexes simple; sends nothing
	}
	return p.add(op{kind: Remove, trail: trail, item: h, after: slices.Clone(made)})
}

func names(it *rules.Item, deep bool) []string {
	out := it.Names()
	if deep {
		for _, k := range it.Kids {
			out = append(out, names(k, true)...)
		}
	}
	return out
}

// depend adds what the names demand: a name is made before its first use and
// removed after its last.
func (p *planner) depend() {
	gone := map[string]int{}
	for i, o := range p.ops {
		p.eachDefined(o, func(name string) {
			if o.kind == Set {
				p.defines[name] = i
			} else if o.kind == Remove {
				gone[name] = i
			}
		})
	}
	for i := range p.ops {
		o := &p.ops[i]
		switch o.kind {
		case Set:
			for _, n := range names(o.item, false) {
				if d, ok := p.defines[n]; ok && d != i {
					o.after = append(o.after, d)
				}
			}
			if o.old != nil {
				p.dropped(gone, names(o.old, false), i)
			}
		case Remove:
			p.dropped(gone, names(o.item, true), i)
		}
	}
}

func (p *planner) eachDefined(o op, do func(string)) {
	var walk func(it *rules.Item)
	walk = func(it *rules.Item) {
		if space, name := it.Defines(); space != "" {
			do(space + " " + name)
		}
		if o.kind == Remove {
			for _, k := range it.Kids {
				walk(k)
			}
		}
	}
	walk(o.item)
}

func (p *planner) dropped(gone map[string]int, used []string, by int) {
	for _, n := range used {
		if g, ok := gone[n]; ok && g != by {
			p.ops[g].after = append(p.ops[g].after, by)
		}
	}
}

// emit puts the ops in order and writes them down, entering and leaving blocks
// on the way. Of what may come next, what is in the open block comes first,
// then additions, then removals; what touches the way to the device comes last.
func (p *planner) emit() []Step {
	waits := make([]int, len(p.ops))
	opensWay := make([][]int, len(p.ops))
	for i, o := range p.ops {
		for _, a := range o.after {
			waits[i]++
			opensWay[a] = append(opensWay[a], i)
		}
	}
	w := writer{lang: p.lang}
	next := newQueue(p.ops)
	for i := range p.ops {
		if waits[i] == 0 {
			next.ready(i)
		}
	}
	for range p.ops {
		n, ok := next.take(w.at)
		if !ok {
			n = next.force()
			p.notes = append(p.notes, fmt.Sprintf("%s: lines here depend on each other in a circle; the device may refuse one", p.ops[n].item.Path()))
		}
		for _, i := range opensWay[n] {
			if waits[i]--; waits[i] == 0 {
				next.ready(i)
			}
		}
		w.write(p.ops[n])
	}
	return w.steps
}

// touchesWay tells whether an op changes a line by which the service may reach
// the device. Such ops come last: what cuts the way then leaves nothing undone.
func touchesWay(o op) bool {
	var any func(it *rules.Item) bool
	any = func(it *rules.Item) bool {
		return it != nil && (it.Rule != nil && it.Rule.Reach || o.kind == Remove && slices.ContainsFunc(it.Kids, any))
	}
	return o.kind != "" && any(o.item)
}

// writer turns ops into steps, keeping track of the open block.
type writer struct {
	lang  *Language
	at    []*rules.Item
	steps []Step
}

func (w *writer) common(trail []*rules.Item) int {
	n := 0
	for n < len(trail) && n < len(w.at) && trail[n].ID == w.at[n].ID {
		n++
	}
	return n
}

func (w *writer) step(k Kind, item *rules.Item, lines ...string) {
	s := Step{Kind: k, Lines: lines, Item: item, Depth: len(w.at)}
	if len(w.at) > 0 {
		s.Block = w.at[len(w.at)-1].Path()
	}
	w.steps = append(w.steps, s)
}

func (w *writer) write(o op) {
	if o.kind == "" {
		return
	}
	n := w.common(o.trail)
	for len(w.at) > n {
		w.step(Leave, nil, w.lang.Leave)
		w.at = w.at[:len(w.at)-1]
	}
	for _, b := range o.trail[n:] {
		w.step(Enter, b, b.Line)
		w.at = append(w.at, b)
	}
	switch {
	case o.kind == Remove:
		w.step(Remove, o.item, strings.ReplaceAll(w.lang.Remove, "{identity}", o.item.ID))
	case o.opens:
		w.step(Enter, o.item, o.item.Line)
		w.steps[len(w.steps)-1].New = true
		w.at = append(w.at, o.item)
	default:
		w.step(Set, o.item, append([]string{o.item.Line}, o.item.Body...)...)
	}
}

// Apply changes the tree as the device would on taking the steps. An error
// names the first line the device is bound to refuse.
func (l *Language) Apply(tree *rules.Item, steps []Step) error {
	at := tree
	head, tail, _ := strings.Cut(l.Remove, "{identity}")
	touched := map[*rules.Item]map[string]int{} // where each line of a block stands
	stand := func(it *rules.Item) map[string]int {
		if touched[it] == nil {
			touched[it] = make(map[string]int, len(it.Kids))
			for i, k := range slices.Backward(it.Kids) {
				touched[it][k.ID] = i
			}
		}
		return touched[it]
	}
	closed := func(it *rules.Item) []*rules.Item { // what was taken away left a gap
		delete(touched, it)
		return slices.DeleteFunc(it.Kids, func(k *rules.Item) bool { return k == nil })
	}
	defer func() {
		for it := range touched {
			it.Kids = closed(it)
		}
	}()
	for i, s := range steps {
		line, where := s.Lines[0], stand(at)
		switch {
		case s.Kind == Leave:
			if at.Up == nil && at == tree {
				return fmt.Errorf("step %d: no block is open to be left", i+1)
			}
			at = at.Up
		case s.Kind == Remove:
			id := strings.TrimSuffix(strings.TrimPrefix(line, head), tail)
			k, ok := where[id]
			if !ok {
				return fmt.Errorf("step %d: %s: there is no such line", i+1, line)
			}
			at.Kids[k] = nil
			delete(where, id)
		default:
			it := l.Table.Item(at, line, s.Lines[1:])
			if k, ok := where[it.ID]; !ok {
				made := l.fresh(it)
				made.Up, made.Body = at, s.Lines[1:]
				if !made.AtDefault() {
					where[made.ID] = len(at.Kids)
					at.Kids = append(at.Kids, made)
				}
				it = made
			} else if old := at.Kids[k]; !old.Same(it) {
				if it.Rule == nil || !it.Rule.Overwrites {
					return fmt.Errorf("step %d: %s: it has another value", i+1, line)
				}
				it.Kids = closed(old)
				for _, k := range it.Kids {
					k.Up = it
				}
				if at.Kids[k] = it; it.AtDefault() {
					at.Kids[k] = nil
					delete(where, it.ID)
				}
			} else {
				it = old
			}
			if s.Kind == Enter {
				at = it
			}
		}
	}
	return nil
}
