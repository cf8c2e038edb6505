// Package change works out which lines make a device that runs one
// configuration run another, when lines can only be added and removed one by
// one, and predicts what typing them leads to.
package change

import (
	"fmt"
	"regexp"
	"slices"

	"magpie/internal/core"
	"magpie/internal/core/rules"
)

// Language is how a dialect's configuration is changed.
type Language struct {
	Table  *rules.Table
	Remove string // how a line is taken away; {identity} stands for what identifies it
	Leave  string // how a block is left

	InPlace bool // what is in use is taken apart where it stands, even if it could be built anew beside
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
	Reach bool        // it touches the path by which the service reaches the device
	Item  *rules.Item // what it is about; nil for Leave
}

// Assumed tells whether a line is added or taken away that no rule speaks of: that this
// does what it does with most lines is assumed.
func (s Step) Assumed() bool {
	return s.Item != nil && (s.Item.Rule == nil || s.Item.Clash) && (s.Kind != Enter || s.New)
}

// Plan is a change worked out.
type Plan struct {
	Steps     []Step
	Predicted *rules.Item        // what the device should run afterwards
	Remains   []rules.Difference // where that is not what was asked for
	Notes     []string           // what a person should know before
	Beside    bool               // something in use is built anew beside
	Unread    *rules.Item        // a line that would have to be sent or taken away, and that the grammar cannot read; nil: none
}

// Replace plans the steps after which the device runs exactly to.
func (l *Language) Replace(from, to *rules.Item) Plan { return l.plan(from, to, false) }

// Merge plans the steps that add what to has and from lacks. Lines only from
// has stay; they are listed in Remains.
func (l *Language) Merge(from, to *rules.Item) Plan { return l.plan(from, to, true) }

func (l *Language) plan(from, to *rules.Item, merge bool) Plan {
	if !merge && !l.InPlace {
		if p, ok := l.beside(from, to); ok {
			return p
		}
	}
	return l.straight(from, to, merge)
}

// straight plans without detours.
func (l *Language) straight(from, to *rules.Item, merge bool) Plan {
	p := l.planner(from, to, merge)
	p.block(nil, from, to)
	p.oneAtATime()
	p.together()
	p.depend()
	p.unruled()
	plan := Plan{Steps: p.emit(), Notes: p.notes}
	for _, o := range p.ops {
		if o.kind != "" && o.item.Unread != "" {
			plan.Unread = o.item
			break
		}
	}
	plan.Predicted = from.Clone(nil)
	if err := l.Apply(plan.Predicted, plan.Steps); err != nil {
		plan.Notes = append(plan.Notes, "the device is expected to refuse a line: "+err.Error())
	}
	plan.Remains = rules.Differences(plan.Predicted, to)
	plan.Notes = append(plan.Notes, said(from, to, plan.Remains)...)
	return plan
}

// said are notes on what no rule, or a wrong one, leaves open: orders of which none says how they
// come about, and lines that a rule takes for one.
func said(from, to *rules.Item, remains []rules.Difference) (out []string) {
	n := 0
	for _, d := range remains {
		if d.Assumed() {
			n++
		}
	}
	if n > 0 {
		out = append(out, fmt.Sprintf("%s will stand in another order if the device puts new lines at the end; no rule says where it puts them (order)", core.Count(n, "line", "lines")))
	}
	for _, side := range []struct {
		of   string
		tree *rules.Item
	}{{"what runs", from}, {"the version", to}} {
		if all := side.tree.Clashes(); len(all) > 0 {
			out = append(out, fmt.Sprintf("in %s, %s the identity of another line (%s, line %d): rule %s takes them for one, and they are kept apart", side.of, core.Count(len(all), "line has", "lines have"), all[0].Path(), all[0].Src, all[0].Rule.Path))
		}
	}
	return out
}

// op is one addition or removal, before they are put in order.
type op struct {
	kind  Kind // Set or Remove
	trail []*rules.Item
	item  *rules.Item
	old   *rules.Item // what a Set overwrites
	opens bool
	after []int // ops that must come before
	soft  []int // ops that had better come before
	parts []int // of a removal that sends nothing itself: what takes its place
}

// gone tells whether the op takes its line away, itself or by others.
func (o op) gone() bool { return o.kind == Remove || o.parts != nil }

type planner struct {
	lang     *Language
	merge    bool
	from, to *rules.Item
	ops      []op
	notes    []string
	removals map[*rules.Item]int // by the line that goes
	settings map[*rules.Item]int // by the line that comes
	tangle   *tangle             // of from
	byID     map[*rules.Item]map[string]*rules.Item
	way      map[string]bool // see inUse; nil: not worked out
}

func (l *Language) planner(from, to *rules.Item, merge bool) *planner {
	return &planner{lang: l, merge: merge, from: from, to: to, removals: map[*rules.Item]int{}, settings: map[*rules.Item]int{}, tangle: newTangle(l, from)}
}

func (p *planner) add(o op) int {
	p.ops = append(p.ops, o)
	at := len(p.ops) - 1
	switch {
	case o.gone():
		p.removals[o.item] = at
	case o.kind == Set:
		p.settings[o.item] = at
	}
	return at
}

// kids are the lines of a block by what identifies them.
func (p *planner) kids(block *rules.Item) map[string]*rules.Item {
	if p.byID == nil {
		p.byID = map[*rules.Item]map[string]*rules.Item{}
	}
	if p.byID[block] == nil {
		p.byID[block] = block.ByID()
	}
	return p.byID[block]
}

func (p *planner) note(format string, args ...any) {
	if n := fmt.Sprintf(format, args...); !slices.Contains(p.notes, n) {
		p.notes = append(p.notes, n)
	}
}

// block compares two blocks line by line. made is the op that makes the
// block, if it is new.
func (p *planner) block(trail []*rules.Item, from, to *rules.Item, made ...int) {
	has, wants := from.ByID(), to.ByID()
	inTurn := map[string]bool{}
	for _, w := range to.Kids {
		if among, ordered := w.Turn(); !ordered {
			p.line(trail, has[w.ID], w, made)
		} else if !inTurn[among] {
			inTurn[among] = true
			p.ordered(trail, sequence(from, among), sequence(to, among), w.Before(), to, made)
		}
	}
	if p.merge {
		return
	}
	for _, h := range from.Kids {
		if among, ordered := h.Turn(); wants[h.ID] == nil && !(ordered && inTurn[among]) {
			p.remove(trail, h, made)
		}
	}
}

// sequence lists the lines of a block that are ordered among each other.
func sequence(block *rules.Item, among string) (out []*rules.Item) {
	for _, k := range block.Kids {
		if of, ordered := k.Turn(); ordered && of == among {
			out = append(out, k)
		}
	}
	return out
}

func byID(list []*rules.Item) map[string]*rules.Item {
	out := make(map[string]*rules.Item, len(list))
	for _, k := range list {
		if out[k.ID] == nil {
			out[k.ID] = k
		}
	}
	return out
}

// ordered compares lines whose order matters and where new ones only ever go to one
// place: to the end, or before a line that stays. What can stay is the longest head of
// to that from has in the same order; the rest is taken away and added again.
func (p *planner) ordered(trail []*rules.Item, from, to []*rules.Item, before *regexp.Regexp, in *rules.Item, made []int) {
	if n, m := len(from)-1, len(to)-1; before != nil && n >= 0 && m >= 0 && from[n].ID == to[m].ID && before.MatchString(from[n].Line) && before.MatchString(to[m].Line) {
		p.line(trail, from[n], to[m], made) // new ones go before it as it is
		from, to = from[:n], to[:m]
	}
	has, wants := byID(from), byID(to)
	var stays []*rules.Item // what stands for each line of the head of to that stays
	for at := 0; len(stays) < len(to) && !p.merge; {
		next := slices.IndexFunc(from[at:], to[len(stays)].Alike)
		if next < 0 {
			break
		}
		stays = append(stays, from[at+next])
		at += next + 1
	}
	stays = lastOf(from, stays)
	keep := len(stays)
	first := slices.Clone(made)
	again := 0
	if !p.merge {
		left := stays
		for _, h := range from { // stays is in its order
			if len(left) > 0 && left[0] == h {
				left = left[1:]
				continue
			}
			if wants[h.ID] != nil {
				again++
			}
			first = append(first, p.remove(trail, h, made))
		}
	}
	if again > 0 {
		lines := "1 of its lines is"
		if again > 1 {
			lines = fmt.Sprintf("%d of its lines are", again)
		}
		p.note("%s: order matters here and new lines only go to %s, so %s taken away and added again; in between it is incomplete%s", where(in, to[0]), placed(before), lines, p.carries(in))
	}
	for i, w := range to {
		h := has[w.ID]
		if i < keep {
			h = stays[i]
		}
		if i < keep || p.merge && h != nil {
			if len(h.Kids)+len(w.Kids) > 0 {
				p.block(append(slices.Clone(trail), w), h, w, made...)
			}
			continue
		}
		first = []int{p.line(trail, nil, w, first)}
	}
}

// carries says of a block that the management path uses it; empty: it does not.
func (p *planner) carries(block *rules.Item) string {
	for it := block; it != nil; it = it.Up {
		if p.onWay(it) || it.Rule != nil && it.Rule.Reach {
			return ", and the management path goes through it"
		}
	}
	return ""
}

// lastOf cuts the lines that stay, so that of lines that read the same none goes behind one that
// stays: a device that is told to take such a line away takes the first.
func lastOf(from, stays []*rules.Item) []*rules.Item {
	if !slices.ContainsFunc(from, func(h *rules.Item) bool { return h.Nth() > 1 }) {
		return stays
	}
	for {
		going := map[string]bool{}
		kept := len(stays)
		i := len(stays) - 1
		for _, h := range slices.Backward(from) {
			switch {
			case i < 0 || stays[i] != h:
				going[h.First()] = true
				continue
			case going[h.First()]:
				kept = i
			}
			i--
		}
		if kept == len(stays) {
			return stays
		}
		stays = stays[:kept]
	}
}

// where names lines of a block that are ordered among each other, by one of them.
func where(block, one *rules.Item) string {
	path := block.Path()
	if path == "" {
		path = "at the top"
	}
	if among, _ := one.Turn(); among != "" {
		path += ", " + among
	}
	return path
}

func placed(before *regexp.Regexp) string {
	if before == nil {
		return "the end"
	}
	return "one place"
}

// line makes w of h, which is nil when the line is new. It returns the op that
// writes the line itself, or -1.
func (p *planner) line(trail []*rules.Item, h, w *rules.Item, made []int) int {
	inner := append(slices.Clone(trail), w)
	if h == nil && w.Withheld() {
		p.note("%s: the device did not tell this line's secret when the version was pulled, so it is not sent; set it by hand", w.Path())
		return -1
	}
	if h != nil && h.Same(w) {
		if len(h.Kids)+len(w.Kids) > 0 {
			p.block(inner, h, w, made...)
		}
		return -1
	}
	o := op{kind: Set, trail: trail, item: w, old: h, after: slices.Clone(made), opens: len(w.Kids) > 0 || p.lang.Table.Opens(w)}
	if h != nil && !w.Overwrites(h) {
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
	if at, ok := p.removals[h]; ok {
		return at
	}
	switch {
	case h.Rule != nil && h.Rule.Permanent && !h.Denied():
		p.note("%s: the device does not let go of this line; it stays", h.Path())
		return p.add(op{trail: trail, item: h}) // keeps indexes simple; sends nothing
	case h.Rule != nil && h.Rule.Empties:
		parts := []int{}
		for _, k := range h.Kids {
			parts = append(parts, p.remove(append(slices.Clone(trail), h), k, made))
		}
		return p.add(op{trail: trail, item: h, after: parts, parts: parts})
	}
	if p.several(h) {
		p.note("%s: several lines here are taken away by the same words; that the first of them goes is assumed", h.Path())
	}
	return p.add(op{kind: Remove, trail: trail, item: h, after: slices.Clone(made)})
}

// several tells whether a line is one of several in its block that are taken away by the same words.
func (p *planner) several(h *rules.Item) bool {
	if h.Up == nil || p.kids(h.Up)[h.Nthly(2)] == nil {
		return false
	}
	words := p.lang.removal(h)
	return slices.ContainsFunc(h.Up.Kids, func(o *rules.Item) bool { return o != h && o.First() == h.First() && p.lang.removal(o) == words })
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

// depend adds what the names demand: a name is made before its first use, if it can be
// with all that changes below it, and removed after its last.
func (p *planner) depend() {
	comes, gone := map[string][]int{}, map[string][]int{} // "space name" -> the ops that make it, and take it away
	inside := map[string][]int{}                          // and those below it
	for i, o := range p.ops {
		p.eachDefined(o, func(name string) {
			switch {
			case o.kind == Set:
				comes[name] = append(comes[name], i)
			case o.parts != nil:
				gone[name] = append(gone[name], o.parts...)
			case o.kind == Remove:
				gone[name] = append(gone[name], i)
			}
		})
		if o.kind != "" {
			for _, b := range o.trail {
				if space, name := b.Defines(); space != "" {
					inside[space+" "+name] = append(inside[space+" "+name], i)
				}
			}
		}
	}
	for i := range p.ops {
		o := &p.ops[i]
		switch {
		case o.kind == Set:
			for _, n := range names(o.item, false) {
				for _, d := range comes[n] {
					if d != i {
						o.after = append(o.after, d)
					}
				}
				o.soft = append(o.soft, inside[n]...)
			}
			if o.old != nil {
				p.dropped(gone, names(o.old, false), i)
			}
		case o.kind == Remove:
			p.dropped(gone, names(o.item, true), i)
		}
	}
}

// unruled has what no rule names go before what comes in its place: lines of one block that
// begin with the same word. Whether the device takes the new one for the old one nobody knows, and
// one that does would lose both if the old one was taken away last.
func (p *planner) unruled() {
	type place struct{ block, head string }
	goes := map[place][]int{}
	at := func(o op) place { return place{key(o.trail), o.item.Head()} }
	for i, o := range p.ops {
		if o.kind == Remove && o.item.Rule == nil {
			goes[at(o)] = append(goes[at(o)], i)
		}
	}
	if len(goes) == 0 {
		return
	}
	gone := map[place]int{} // an op that does nothing and comes after all of them
	for i := range p.ops {
		o := &p.ops[i]
		if o.kind != Set || o.item.Rule != nil || goes[at(*o)] == nil {
			continue
		}
		here := at(*o)
		n, ok := gone[here]
		if !ok {
			n = p.add(op{trail: o.trail, item: o.item, after: goes[here]})
			gone[here] = n
		}
		p.ops[i].after = append(p.ops[i].after, n)
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

func (p *planner) dropped(gone map[string][]int, used []string, by int) {
	for _, n := range used {
		for _, g := range gone[n] {
			if g != by {
				p.ops[g].after = append(p.ops[g].after, by)
			}
		}
	}
}

// emit puts the ops in order and writes them down, entering and leaving blocks
// on the way. Of what may come next, what is in the open block comes first,
// then additions, then removals; what touches the way to the device comes last.
func (p *planner) emit() []Step {
	next := newQueue(p.ops, p.touchesWay)
	w := writer{lang: p.lang, touchesWay: p.touchesWay}
	for range p.ops {
		n, ok := next.take(w.at)
		if !ok {
			var free bool
			if n, free = next.force(); !free {
				p.note("%s: lines here depend on each other in a circle; the device may refuse one", p.ops[n].item.Path())
			}
		}
		next.done(n)
		w.write(p.ops[n])
	}
	return w.steps
}

// touchesWay tells whether an op changes a line by which the service may reach the device, or
// something that such a line uses by name, at any remove. Such ops come last: what cuts the way
// then leaves nothing undone.
func (p *planner) touchesWay(o op) bool {
	var any func(it *rules.Item) bool
	any = func(it *rules.Item) bool {
		return it != nil && (it.Rule != nil && it.Rule.Reach || p.onWay(it) || o.kind == Remove && slices.ContainsFunc(it.Kids, any))
	}
	return o.kind != "" && (any(o.item) || slices.ContainsFunc(o.trail, p.onWay))
}

// onWay tells whether the item gives a name that the way to the device uses.
func (p *planner) onWay(it *rules.Item) bool {
	space, name := it.Defines()
	return space != "" && p.inUse()[space+" "+name]
}

// inUse are the names that the way to the device uses as it runs.
func (p *planner) inUse() map[string]bool {
	if p.way == nil {
		p.way = wayNames(p.from)
	}
	return p.way
}

// wayNames are the names, as "space name", that lines marked reach use in a tree, and the names
// that what they name uses in turn.
func wayNames(tree *rules.Item) map[string]bool {
	way, uses := map[string]bool{}, map[string][]string{}
	var open []string
	for _, it := range every(tree) {
		if it.Rule == nil {
			continue
		}
		if it.Rule.Reach {
			open = append(open, it.Names()...)
		}
		if space, name := it.Defines(); space != "" {
			uses[space+" "+name] = append(uses[space+" "+name], names(it, true)...)
		}
	}
	for len(open) > 0 {
		n := open[len(open)-1]
		open = open[:len(open)-1]
		if !way[n] {
			way[n] = true
			open = append(open, uses[n]...)
		}
	}
	return way
}

// writer turns ops into steps, keeping track of the open block.
type writer struct {
	lang       *Language
	touchesWay func(op) bool
	at         []*rules.Item
	steps      []Step
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
		w.step(Remove, o.item, w.lang.removal(o.item))
	case o.opens:
		w.step(Enter, o.item, o.item.Line)
		w.steps[len(w.steps)-1].New = true
		w.at = append(w.at, o.item)
	default:
		w.step(Set, o.item, append([]string{o.item.Line}, o.item.Body...)...)
	}
	w.steps[len(w.steps)-1].Reach = w.touchesWay(o)
}

// removal is the line that takes another away. What denies a line goes when that is said
// itself.
func (l *Language) removal(it *rules.Item) string {
	switch {
	case it.Denied():
		return it.Denies()
	case it.Rule != nil && it.Rule.Remove != "":
		return it.Expand(it.Rule.Remove)
	}
	return it.Expand(l.Remove)
}
