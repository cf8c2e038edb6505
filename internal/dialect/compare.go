package dialect

import (
	"slices"
	"strings"
	"sync"

	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
)

// How two texts relate, from closest to furthest.
const (
	Identical  = "identical"
	Unchanged  = "unchanged"
	Equivalent = "equivalent"
	Different  = "different"
)

// Relations from closest to furthest.
var Relations = []string{Identical, Unchanged, Equivalent, Different}

// reading is a text as a dialect reads it, parsed once.
type reading struct {
	doc  *Doc // nil: no dialect reads it
	src  string
	root *grammar.Node // nil: it is not read as a tree
	top  *rules.Item   // what it means, made when it is asked for
	says []bool

	noise []int    // of each line the rule of somebody's own that calls it noise, from 1
	names []string // of those rules
}

// read parses a text. Of one that the grammar cannot read at all nothing is known but its lines.
func read(d *Doc, src string) *reading {
	r := &reading{doc: d, src: src}
	if d != nil {
		if root, err := d.Tree(src); err == nil {
			r.root = root
		}
	}
	return r
}

// means tells whether the text is compared by what it means, and not byte for byte.
func (r *reading) means() bool { return r.root != nil && !r.doc.Part.Exact }

// tree is what the text means; nil where it is not read as a tree.
func (r *reading) tree() *rules.Item {
	if r.top == nil && r.root != nil {
		r.top = r.doc.Table.Resolve(r.root)
	}
	return r.top
}

// whole works out at once what a comparison takes: what the text means, and which lines say something.
func (r *reading) whole() {
	if r.means() && r.top == nil && r.says == nil && !r.doc.Table.Quiets() {
		r.top, r.says = r.doc.Table.ResolveSettled(len(text.Lines(r.src)), r.root)
	}
}

// settledLines tells of each line whether it says something.
func (r *reading) settledLines() []bool {
	if r.says == nil {
		n := len(text.Lines(r.src))
		if r.means() {
			r.says = r.doc.Table.Settled(n, r.root)
			by, _ := r.hushed()
			for i, own := range by {
				r.says[i] = r.says[i] && own == 0
			}
		} else {
			r.says = slices.Repeat([]bool{true}, n)
		}
	}
	return r.says
}

// resalted are lines of the text without the words that the device salts anew each time.
func (r *reading) resalted(lines []string) []string {
	if !r.means() {
		return lines
	}
	out := slices.Clone(lines)
	r.doc.Table.Resalted(out, r.root)
	return out
}

// salted is a text that is compared without them.
func (r *reading) salted(t diff.Text) diff.Text {
	if !r.means() {
		return t
	}
	return t.With(r.resalted(t.Lines()))
}

// settled is the text without what changes by itself.
func (r *reading) settled() string {
	switch {
	case r.doc != nil && r.doc.Opaque() && InPieces(r.src):
		return inPieces.FindStringSubmatch(r.src)[1]
	case r.doc == nil || r.doc.Part.Exact:
		return r.src
	case r.doc.Opaque():
		return string(r.doc.SettledBytes([]byte(r.src), 0))
	case r.root == nil:
		return r.src
	}
	lines := text.Lines(r.src)
	says, all := r.settledLines(), r.resalted(lines)
	out := make([]string, 0, len(lines))
	for i, l := range all {
		if says[i] {
			out = append(out, l)
		}
	}
	joined := text.Join(out)
	if !strings.HasSuffix(r.src, "\n") { // the end of the last line counts
		joined = strings.TrimSuffix(joined, "\n")
	}
	return joined
}

// split makes the text ready to be compared: lines of different blocks are kept apart.
func (r *reading) split() diff.Text {
	t := diff.Split(r.src)
	if r.root != nil {
		t.Within = grammar.Enclosing(r.root, t.Len())[1:]
	}
	return t
}

// equivalent compares under the dialect's rules, and as settled where a side is no tree.
func (r *reading) equivalent(o *reading) bool {
	if r.src == o.src || r.doc.Part.Exact {
		return r.src == o.src
	}
	if r.root == nil || o.root == nil {
		return r.settled() == o.settled()
	}
	return rules.Equivalent(r.tree(), o.tree())
}

// Alike tells whether two texts are read the same way.
func Alike(a, b *Doc) bool {
	return a != nil && b != nil && a.Dialect.Dialect == b.Dialect.Dialect && a.Opaque() == b.Opaque()
}

// Laid is one text laid against another.
type Laid struct {
	Relation string
	A, B     diff.Text // as they are compared
	Edits    []diff.Edit
	SetAside int            // lines that change by themselves and were left out
	By       []Hid          // how many each of those rules hid
	Unsure   int            // lines whose secrets could not be compared: salted anew, or not told
	LetGo    rules.Gone     // what differs and counts for nothing, because the dialect says so
	Changes  []rules.Change // what became of the entries, where both are read the same way

	a, b *reading
}

// Gone counts what two texts let go.
type Gone = rules.Gone

// Hid is how many lines a rule of somebody's own left out.
type Hid struct {
	Rule  string
	Lines int
}

// Lay lays a text against another. Lines that only changed by themselves are left out and counted,
// unless all are wanted. A nil Doc stands for a text that no dialect reads; opaque files have a
// relation, and nothing else.
func Lay(from, to *Doc, a, b string, all bool) Laid {
	x := Laid{}
	alike := Alike(from, to)
	type side struct {
		*reading
		plain          string
		text, compared diff.Text // as it is, and with salted secrets made alike
	}
	lay := func(d *Doc, src string) (s side) {
		s.reading = read(d, src)
		if d != nil && d.Opaque() {
			s.plain = s.settled()
			return s
		}
		if s.text = s.split(); a != b && alike {
			s.whole()
			s.plain = s.settled()
		}
		if s.compared = s.text; !all {
			s.compared = s.salted(s.text)
		}
		return s
	}
	var one, other side
	together(func() { one = lay(from, a) }, func() { other = lay(to, b) })
	x.a, x.b, x.A, x.B = one.reading, other.reading, one.text, other.text
	switch {
	case a == b:
		x.Relation = Identical
	case !alike:
		x.Relation = Different
	case one.plain == other.plain:
		x.Relation = Unchanged
	case x.a.equivalent(x.b):
		x.Relation = Equivalent
	default:
		x.Relation = Different
	}
	if from != nil && from.Opaque() || to != nil && to.Opaque() {
		return x
	}
	x.Edits = diff.Texts(one.compared, other.compared)
	if alike && !all {
		x.quiet()
	}
	if alike {
		for _, side := range []*reading{x.a, x.b} {
			if top := side.tree(); top != nil {
				x.Unsure = max(x.Unsure, len(top.Unsure()))
			}
		}
		if x.a.means() && x.b.means() {
			x.Changes = rules.Changes(x.a.tree(), x.b.tree())
			x.LetGo = x.a.letGo(x.b, x.Relation, x.SetAside)
		}
	}
	return x
}

// letGo counts what two texts let go. Of texts that are taken for the same something is counted
// always, but for secrets that are salted anew: more is what is counted otherwise.
func (r *reading) letGo(o *reading, relation string, more int) (g rules.Gone) {
	if relation == Identical {
		return g
	}
	g = rules.LetGo(r.tree(), o.tree())
	if g.Sum()+more == 0 && relation != Different {
		for _, e := range diff.Texts(r.salted(r.split()), o.salted(o.split())) {
			g.Written += max(e.End-e.Start, e.To-e.From)
		}
	}
	return g
}

// LetGo counts what two texts let go of, by the dialect's rules: what differs and counts for nothing.
func (d *Doc) LetGo(a, b string) rules.Gone {
	if d.Opaque() || d.Part.Exact || a == b {
		return rules.Gone{}
	}
	x := Lay(d, d, a, b, false)
	x.LetGo.Itself = x.SetAside
	return x.LetGo
}

// together does two things at once.
func together(one, other func()) {
	var both sync.WaitGroup
	both.Go(one)
	other()
	both.Wait()
}

// Places names what each line of either text stands in, as Places does. shown are the texts as they are
// shown.
func (x *Laid) Places(shownA, shownB string) (a, b []string) {
	of := func(r *reading, shown string) []string {
		if shown != r.src {
			r = read(r.doc, shown)
		}
		return r.places(diff.Split(shown).Len())
	}
	together(func() { a = of(x.a, shownA) }, func() { b = of(x.b, shownB) })
	return a, b
}

// quiet says which lines say nothing, counts those that changed, and drops all edits of texts that are
// unchanged. What changes by itself is left out where all of an edit does; what somebody's own rules
// call noise, always.
func (x *Laid) quiet() {
	noiseA, names := x.a.hushed()
	noiseB, _ := x.b.hushed()
	x.A.Silent, x.B.Silent = silent(x.a.settledLines()), silent(x.b.settledLines())
	hidden := make([]int, len(names)+1)
	for _, e := range x.Edits {
		if gone, came := e.Loud(x.A, x.B); gone+came > 0 && x.Relation != Unchanged {
			speak(x.A.Silent, noiseA, e.Start, e.End)
			speak(x.B.Silent, noiseB, e.From, e.To)
		}
		gone, came := e.Loud(x.A, x.B)
		if own := tally(hidden, noiseA, e.Start, e.End) + tally(hidden, noiseB, e.From, e.To); own == 0 {
			x.SetAside += max(e.End-e.Start-gone, e.To-e.From-came)
		}
	}
	for i, name := range names {
		n := hidden[i+1]
		at := slices.IndexFunc(x.By, func(h Hid) bool { return h.Rule == name })
		switch {
		case n == 0:
		case at >= 0: // several of the dialect's
			x.By[at].Lines += n
		default:
			x.By = append(x.By, Hid{name, n})
		}
	}
	if x.Relation == Unchanged {
		x.Edits = nil
	}
}

// speak has the lines of an edit say something again that are no noise.
func speak(silent []bool, noise []int, from, to int) {
	for i := from; i < to && silent != nil; i++ {
		silent[i] = noise != nil && noise[i] > 0
	}
}

// tally counts lines by the rule that calls them noise.
func tally(by, noise []int, from, to int) (n int) {
	for i := from; i < to && noise != nil; i++ {
		if noise[i] > 0 {
			by[noise[i]]++
			n++
		}
	}
	return n
}

// hushed tells of each line the rule of somebody's own that calls it noise, counted from 1. Nil: there
// are no such rules.
func (r *reading) hushed() (by []int, names []string) {
	if r.noise == nil && r.means() && r.doc.Table.Quiets() {
		r.noise, r.names = r.doc.Table.Hushed(len(text.Lines(r.src)), r.root)
	}
	return r.noise, r.names
}

// silent are the lines that say nothing; nil: there are none.
func silent(says []bool) []bool {
	if !slices.Contains(says, false) {
		return nil
	}
	out := make([]bool, len(says))
	for i, s := range says {
		out[i] = !s
	}
	return out
}

// Lines counts the lines that came and went, and say something.
func (x *Laid) Lines() (added, removed int) {
	for _, e := range x.Edits {
		gone, came := e.Loud(x.A, x.B)
		removed += gone
		added += came
	}
	return added, removed
}

// flat tells whether the text has no blocks at all.
func (d *Doc) flat() bool {
	g, is := d.grammar.(*grammar.Blocks)
	return is && g.Flat
}

// Place is what a line is about that stands in no block, where a text has none: "port 7". Empty
// elsewhere.
func (d *Doc) Place(it *rules.Item) string {
	if d.flat() && (it.Up == nil || it.Up.Up == nil) {
		return it.Place()
	}
	return ""
}

// Places names what each line of a text stands in, from line 1: the blocks around it, or what a line
// is about that stands in none. shown is the text as it is shown: with its secrets masked, or as it is.
func Places(d *Doc, shown string, lines int) []string { return read(d, shown).places(lines) }

func (r *reading) places(lines int) []string {
	if r.root == nil {
		return make([]string, lines+1)
	}
	out := grammar.Enclosing(r.root, lines)
	if d := r.doc; d.flat() {
		for _, k := range r.root.Kids {
			if k.Line > 0 && k.Line <= lines && out[k.Line] == "" {
				out[k.Line] = d.Place(d.Table.Item(&rules.Item{}, k.Text, nil))
			}
		}
	}
	return out
}

// entries are what a document's elements and entries are called, outer ones first, with the lines of
// each.
func entries(root *grammar.Node, lines int) (out []Head) {
	var walk func(n *grammar.Node) []int32
	walk = func(n *grammar.Node) (all []int32) {
		at := len(out)
		if len(n.Kids) > 0 && n.Line > 0 {
			out = append(out, Head{Name: n.Text})
		}
		if n.Line > 0 && n.Line <= lines {
			all = append(all, int32(n.Line-1))
		}
		for _, k := range n.Kids {
			all = append(all, walk(k)...)
		}
		slices.Sort(all)
		all = slices.Compact(all)
		if len(n.Kids) > 0 && n.Line > 0 {
			out[at].Lines = all
		}
		return all
	}
	walk(root)
	return out
}

// Comparable is a text as it is compared line by line: lines of different blocks are kept apart, and words
// that the device salts anew each time are left out. A nil Doc stands for a text that no dialect reads.
func Comparable(d *Doc, src string) diff.Text {
	r := read(d, src)
	return r.salted(r.split())
}

// Head is what lines are about that a block's own line does not name, with those lines (from 0), in
// order: a port of a text without blocks, an entry of a document.
type Head struct {
	Name  string
	Lines []int32
}

// Around tells for each line of a text which line (from 0) opens the block that it stands in, -1 where
// it stands in none; and, of a text without blocks or a document, what its lines are about.
func (d *Doc) Around(src string) (up []int32, heads []Head) {
	up = make([]int32, len(text.Lines(src)))
	for i := range up {
		up[i] = -1
	}
	root, err := d.Tree(src)
	if err != nil {
		return up, nil
	}
	var walk func(n *grammar.Node)
	walk = func(n *grammar.Node) {
		own := int32(n.Line) - 1
		for i := range n.Body {
			if at := n.Line + i; n.Line > 0 && at < len(up) {
				up[at] = own
			}
		}
		if n.Last > n.Line && n.Last <= len(up) {
			up[n.Last-1] = own
		}
		for _, k := range n.Kids {
			if k.Line > 0 && k.Line <= len(up) && k.Line-1 > int(own) { // so that no way leads in a circle
				up[k.Line-1] = own
			}
			walk(k)
		}
	}
	walk(root)
	if _, lines := d.grammar.(*grammar.Blocks); !lines {
		return up, entries(root, len(up))
	}
	if !d.flat() {
		return up, nil
	}
	at := map[string]int{}
	for _, k := range root.Kids {
		name := d.Place(d.Table.Item(&rules.Item{}, k.Text, nil))
		if name == "" || k.Line == 0 {
			continue
		}
		i, known := at[name]
		if !known {
			i = len(heads)
			at[name] = i
			heads = append(heads, Head{Name: name})
		}
		heads[i].Lines = append(heads[i].Lines, int32(k.Line-1))
	}
	return up, heads
}
