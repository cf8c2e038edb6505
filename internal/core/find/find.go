// Package find looks for lines in many texts at once. Texts of devices that are alike share most of
// their lines, so each line is kept, and looked at, once.
package find

import (
	"bytes"
	"hash/maphash"
	"slices"
	"sort"
	"strings"
)

// Text is what one text is found by: its lines, what each stands in, and how it is read by who may
// not see secrets.
type Text struct {
	Lines  []string
	Up     []int32  // for each line the one that opens the block it stands in, from 0; -1: none
	Masked []string // the same lines without their secrets; "": one that cannot be shown. Nil: there are none
	Heads  []Head   // what lines are about that stand in no block, where that groups them
}

// Head is a block that has no line of its own.
type Head struct {
	Name  string
	Lines []int32 // from 0
}

// Index holds texts by key. It is not safe for concurrent use.
type Index struct {
	blob  []byte  // the distinct lines, each with its newline
	ends  []int32 // where each ends, newline included
	seed  maphash.Seed
	cells []int32 // one more than a line's number; 0 when free
	docs  map[string]*doc
	order []string // keys, sorted; nil: to be sorted anew
	held  int      // lines of all texts
	gone  int      // of texts that were taken out since the index was packed
}

type doc struct {
	lines  []int32 // numbers of distinct lines
	masked []int32 // the same for who may not see secrets; nil: no other
	up     []int32
	heads  []head
}

type head struct {
	name  int32
	lines []int32
}

// hidden stands for a line that may not be shown.
const hidden = -1

// New returns an empty index.
func New() *Index {
	return &Index{seed: maphash.MakeSeed(), cells: make([]int32, 1<<10), docs: map[string]*doc{}}
}

// Len is how many texts there are, Distinct how many different lines they have.
func (x *Index) Len() int      { return len(x.docs) }
func (x *Index) Distinct() int { return len(x.ends) }

// line is a distinct line without its newline.
func (x *Index) line(n int32) []byte {
	from := int32(0)
	if n > 0 {
		from = x.ends[n-1]
	}
	return x.blob[from : x.ends[n]-1]
}

func (x *Index) number(line string) int32 {
	if 2*len(x.ends) >= len(x.cells) {
		x.grow()
	}
	mask := uint64(len(x.cells) - 1)
	at := maphash.String(x.seed, line) & mask
	for ; x.cells[at] != 0; at = (at + 1) & mask {
		if n := x.cells[at] - 1; string(x.line(n)) == line {
			return n
		}
	}
	x.blob = append(append(x.blob, line...), '\n')
	x.ends = append(x.ends, int32(len(x.blob)))
	x.cells[at] = int32(len(x.ends))
	return int32(len(x.ends)) - 1
}

func (x *Index) grow() {
	x.cells = make([]int32, 2*len(x.cells))
	mask := uint64(len(x.cells) - 1)
	for n := range x.ends {
		at := maphash.Bytes(x.seed, x.line(int32(n))) & mask
		for x.cells[at] != 0 {
			at = (at + 1) & mask
		}
		x.cells[at] = int32(n) + 1
	}
}

// Put takes a text in, in the place of an earlier one of its key.
func (x *Index) Put(key string, t Text) {
	x.Drop(key)
	d := &doc{lines: x.numbers(t.Lines), up: slices.Clone(t.Up)}
	for i, l := range t.Masked {
		if l == t.Lines[i] {
			continue
		}
		if d.masked == nil {
			d.masked = slices.Clone(d.lines)
		}
		if d.masked[i] = hidden; l != "" {
			d.masked[i] = x.number(l)
		}
	}
	for _, h := range t.Heads {
		d.heads = append(d.heads, head{x.number(h.Name), slices.Clone(h.Lines)})
	}
	x.docs[key], x.order = d, nil
	x.held += len(d.lines)
}

func (x *Index) numbers(lines []string) []int32 {
	out := make([]int32, len(lines))
	for i, l := range lines {
		out[i] = x.number(strings.ReplaceAll(l, "\n", " "))
	}
	return out
}

// Drop takes a text out.
func (x *Index) Drop(key string) {
	d := x.docs[key]
	if d == nil {
		return
	}
	delete(x.docs, key)
	x.order = nil
	x.held -= len(d.lines)
	if x.gone += len(d.lines); x.gone > 1<<16 && x.gone > x.held {
		x.pack()
	}
}

// pack forgets the lines that no text has any more.
func (x *Index) pack() {
	old := *x
	x.blob, x.ends, x.cells, x.gone = nil, nil, make([]int32, 1<<10), 0
	moved := make([]int32, len(old.ends)) // one more than the new number
	anew := func(n int32) int32 {
		if n == hidden {
			return n
		}
		if moved[n] == 0 {
			moved[n] = x.number(string(old.line(n))) + 1
		}
		return moved[n] - 1
	}
	for _, d := range x.docs {
		for _, lines := range [][]int32{d.lines, d.masked} {
			for i, n := range lines {
				lines[i] = anew(n)
			}
		}
		for i := range d.heads {
			d.heads[i].name = anew(d.heads[i].name)
		}
	}
}

// keys are all keys in their order.
func (x *Index) keys() []string {
	if x.order == nil {
		for k := range x.docs {
			x.order = append(x.order, k)
		}
		sort.Strings(x.order)
	}
	return x.order
}

// Query is what is looked for: lines that match, or blocks.
type Query struct {
	Line   *Pattern // lines that match; nil: blocks are asked for
	In     *Pattern // only in blocks whose own line matches, however deep; nil: anywhere
	Lacks  *Pattern // blocks that In matches, with no line below that matches
	Masked bool     // as those see it who may not see secrets
}

// Hit is a line of a text.
type Hit struct {
	Key  string
	Line int    // from 0; of a block that has no line of its own the first of it
	Text string // the line as who asked may see it, or what such a block is called
	Path []string
}

// Find lists what is found in the order of keys and lines, at most so many, from behind a place:
// a key and a line of it (empty: from the beginning). more tells whether there is more. wanted, if
// not nil, tells which keys are looked at.
func (x *Index) Find(q Query, key string, line, most int, wanted func(key string) bool) (out []Hit, more bool) {
	m := map[*Pattern]*matches{}
	for _, p := range []*Pattern{q.Line, q.In, q.Lacks} {
		if p != nil {
			m[p] = x.match(p)
		}
	}
	keys := x.keys()
	from := 0
	if key != "" {
		from, _ = slices.BinarySearch(keys, key)
	}
	for _, k := range keys[from:] {
		if wanted != nil && !wanted(k) {
			continue
		}
		after := -2
		if k == key {
			after = line
		}
		for _, h := range x.in(x.docs[k], q, m) {
			if h.Line <= after {
				continue
			}
			if len(out) == most {
				return out, true
			}
			h.Key = k
			out = append(out, h)
		}
	}
	return out, false
}

// in lists what is found in one text.
func (x *Index) in(d *doc, q Query, m map[*Pattern]*matches) (out []Hit) {
	lines := d.lines
	if q.Masked && d.masked != nil {
		lines = d.masked
	}
	is := func(p *Pattern, n int32) bool { return n != hidden && m[p].of(n) }
	show := func(i int) Hit {
		h := Hit{Line: i, Text: string(x.line(lines[i]))}
		for _, head := range d.heads {
			if _, there := slices.BinarySearch(head.lines, int32(i)); there {
				h.Path = append(h.Path, string(x.line(head.name)))
			}
		}
		if len(d.heads) > 0 {
			return h
		}
		for up := d.up[i]; up >= 0; up = d.up[up] {
			what := "…"
			if lines[up] != hidden {
				what = strings.TrimSpace(string(x.line(lines[up])))
			}
			h.Path = append(h.Path, what)
		}
		slices.Reverse(h.Path)
		return h
	}
	if q.In == nil {
		for i, n := range lines {
			if is(q.Line, n) {
				out = append(out, show(i))
			}
		}
		return out
	}
	if len(d.heads) > 0 {
		return x.inHeads(d, q, lines, is, show)
	}
	// Blocks: which lines open one that is meant, and what was seen below each.
	seen := make([]bool, len(lines))
	wants := q.Line
	if wants == nil {
		wants = q.Lacks
	}
	for i, n := range lines {
		if wants == nil || !is(wants, n) {
			continue
		}
		meant := false
		for up := d.up[i]; up >= 0; up = d.up[up] {
			seen[up] = true
			meant = meant || is(q.In, lines[up])
		}
		if q.Line != nil && meant {
			out = append(out, show(i))
		}
	}
	if q.Line == nil {
		for i, n := range lines {
			if is(q.In, n) && !seen[i] {
				out = append(out, show(i))
			}
		}
	}
	return out
}

// inHeads is in for blocks that are called by no line of their own.
func (x *Index) inHeads(d *doc, q Query, lines []int32, is func(*Pattern, int32) bool, show func(int) Hit) (out []Hit) {
	told := map[int32]bool{}
	for _, head := range d.heads {
		if !is(q.In, head.name) {
			continue
		}
		found := false
		for _, i := range head.lines {
			switch {
			case q.Line != nil && is(q.Line, lines[i]) && !told[i]:
				told[i] = true
				out = append(out, show(int(i)))
			case q.Line == nil && q.Lacks != nil && is(q.Lacks, lines[i]):
				found = true
			}
		}
		if q.Line == nil && !found && !told[head.lines[0]] {
			h := show(int(head.lines[0]))
			h.Text, h.Path = string(x.line(head.name)), h.Path[:max(slices.Index(h.Path, string(x.line(head.name))), 0)]
			told[head.lines[0]] = true
			out = append(out, h)
		}
	}
	slices.SortStableFunc(out, func(a, b Hit) int { return a.Line - b.Line })
	return out
}

// matches remembers which distinct lines match.
type matches struct {
	x       *Index
	p       *Pattern
	known   []uint64 // two bits a line: looked at, matches
	settled bool     // all were looked at
}

func (m *matches) of(n int32) bool {
	word, bit := n>>5, uint(n&31)*2
	if w := m.known[word] >> bit; m.settled || w&1 != 0 {
		return w&2 != 0
	}
	yes := m.p.Match(m.x.line(n))
	m.known[word] |= 1 << bit
	if yes {
		m.known[word] |= 2 << bit
	}
	return yes
}

// match begins to look for a pattern. Where it has words that a line must have, all lines are gone
// through for those at once.
func (x *Index) match(p *Pattern) *matches {
	m := &matches{x: x, p: p, known: make([]uint64, len(x.ends)/32+1)}
	if p.must == "" {
		return m
	}
	m.settled = true
	words := []byte(p.must)
	for at := 0; ; {
		i := bytes.Index(x.blob[at:], words)
		if i < 0 {
			return m
		}
		at += i
		n, _ := slices.BinarySearch(x.ends, int32(at)+1)
		if p.Match(x.line(int32(n))) {
			m.known[n>>5] |= 2 << (uint(n&31) * 2)
		}
		at = int(x.ends[n])
	}
}
