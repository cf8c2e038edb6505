// Package find looks for lines in many texts at once. Texts of devices that are alike share most of
// their lines, so each line is kept, and looked at, once.
package find

import (
	"errors"
	"hash/maphash"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
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

// Index holds texts by key. Find is safe for concurrent use while nothing is put in or dropped.
//
// Lines that only those see who may see secrets lie apart: what is asked as others see it is answered
// without looking at one of them, so that no time that it takes tells of them.
type Index struct {
	secret *Index // the distinct lines that are shown otherwise to who may not see secrets

	blob  []byte  // the distinct lines, each with its newline
	ends  []int32 // where each ends, newline included
	seed  maphash.Seed
	cells []int32 // one more than a line's number; 0 when free
	docs  map[string]*doc
	order atomic.Pointer[[]*doc] // in the order of keys; nil: to be sorted anew
	held  int                    // lines of all texts
	gone  int                    // of texts that were taken out since the index was packed
}

type doc struct {
	key   string
	lines []int32 // numbers of distinct lines, as those are who may not see secrets
	raw   []int32 // the same for who may: below hidden, of lines that lie apart; nil: no other
	up    []int32
	heads []head
}

type head struct {
	name  int32
	lines []int32
}

// hidden stands for a line that may not be shown.
const hidden = -1

// New returns an empty index.
func New() *Index {
	x := arena()
	x.secret = arena()
	return x
}

func arena() *Index {
	return &Index{seed: maphash.MakeSeed(), cells: make([]int32, 1<<10), docs: map[string]*doc{}}
}

// Len is how many texts there are, Distinct how many different lines they have.
func (x *Index) Len() int      { return len(x.docs) }
func (x *Index) Distinct() int { return len(x.ends) + len(x.secret.ends) }

// apart is the number of a line that lies apart, and back.
func apart(n int32) int32 { return hidden - 1 - n }

// line is a distinct line without its newline.
func (x *Index) line(n int32) []byte {
	if n < hidden {
		return x.secret.line(apart(n))
	}
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
	open := t.Masked
	if open == nil {
		open = t.Lines
	}
	d := &doc{key: key, lines: x.numbers(open), up: slices.Clone(t.Up)}
	for i, l := range t.Lines {
		if open[i] == l {
			continue
		}
		if d.raw == nil {
			d.raw = slices.Clone(d.lines)
		}
		if d.raw[i] = apart(x.secret.number(strings.ReplaceAll(l, "\n", " "))); open[i] == "" {
			d.lines[i] = hidden
		}
	}
	for _, h := range t.Heads {
		d.heads = append(d.heads, head{x.number(h.Name), slices.Clone(h.Lines)})
	}
	x.docs[key] = d
	x.order.Store(nil)
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
	x.order.Store(nil)
	x.held -= len(d.lines)
	if x.gone += len(d.lines); x.gone > 1<<16 && x.gone > x.held {
		x.pack()
	}
}

// pack forgets the lines that no text has any more.
func (x *Index) pack() {
	old, oldSecret := &Index{blob: x.blob, ends: x.ends}, x.secret
	x.blob, x.ends, x.cells, x.gone, x.secret = nil, nil, make([]int32, 1<<10), 0, arena()
	moved := make([]int32, len(old.ends)) // one more than the new number
	anew := func(n int32) int32 {
		if n == hidden {
			return n
		}
		if n < hidden {
			return apart(x.secret.number(string(oldSecret.line(apart(n)))))
		}
		if moved[n] == 0 {
			moved[n] = x.number(string(old.line(n))) + 1
		}
		return moved[n] - 1
	}
	for _, d := range x.docs {
		for _, lines := range [][]int32{d.lines, d.raw} {
			for i, n := range lines {
				lines[i] = anew(n)
			}
		}
		for i := range d.heads {
			d.heads[i].name = anew(d.heads[i].name)
		}
	}
}

// sorted are all texts in the order of their keys.
func (x *Index) sorted() []*doc {
	if all := x.order.Load(); all != nil {
		return *all
	}
	all := slices.SortedFunc(maps.Values(x.docs), func(a, b *doc) int { return strings.Compare(a.key, b.key) })
	x.order.Store(&all)
	return all
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
//
// stop, if not nil, is asked now and then whether to go on; ErrStopped says that it was not.
func (x *Index) Find(q Query, key string, line, most int, wanted func(key string) bool, stop func() bool) (out []Hit, more bool, err error) {
	h := &halt{stop: stop}
	defer func() {
		if h.is.Load() {
			out, more, err = nil, false, ErrStopped
		}
	}()
	a := &asked{x: x, masked: q.Masked, line: x.match(q.Line, q.Masked, h), in: x.match(q.In, q.Masked, h), lacks: x.match(q.Lacks, q.Masked, h)}
	if a.line.never() || a.in.never() {
		return nil, false, nil
	}
	all := x.sorted()
	from := 0
	if key != "" {
		from, _ = slices.BinarySearchFunc(all, key, func(d *doc, key string) int { return strings.Compare(d.key, key) })
	}
	for _, d := range all[from:] {
		if wanted != nil && !wanted(d.key) {
			continue
		}
		after := -2
		if d.key == key {
			after = line
		}
		if h.asked() {
			return nil, false, ErrStopped
		}
		for _, h := range a.of(d) {
			if h.Line <= after {
				continue
			}
			if len(out) == most {
				return out, true, nil
			}
			h.Key = d.key
			out = append(out, h)
		}
	}
	return out, false, nil
}

// ErrStopped is returned when a search was given up because stop said so.
var ErrStopped = errors.New("the search took too long")

// halt tells a search that it is to stop.
type halt struct {
	stop func() bool
	is   atomic.Bool
}

func (h *halt) asked() bool {
	if h.stop != nil && !h.is.Load() && h.stop() {
		h.is.Store(true)
	}
	return h.is.Load()
}

// asked is a query that is being answered.
type asked struct {
	x               *Index
	masked          bool
	line, in, lacks *matches // nil: not asked for
}

// shown are the numbers of a text's lines as who asks may see them.
func (a *asked) shown(d *doc) []int32 {
	if !a.masked && d.raw != nil {
		return d.raw
	}
	return d.lines
}

// hit is a line of a text, and where that stands.
func (a *asked) hit(d *doc, i int) Hit {
	lines := a.shown(d)
	h := Hit{Line: i, Text: string(a.x.line(lines[i]))}
	for _, head := range d.heads {
		if _, there := slices.BinarySearch(head.lines, int32(i)); there {
			h.Path = append(h.Path, string(a.x.line(head.name)))
		}
	}
	if len(d.heads) > 0 {
		return h
	}
	for up := d.up[i]; up >= 0; up = d.up[up] {
		what := "…"
		if lines[up] != hidden {
			what = strings.TrimSpace(string(a.x.line(lines[up])))
		}
		h.Path = append(h.Path, what)
	}
	slices.Reverse(h.Path)
	return h
}

// of lists what is found in one text.
func (a *asked) of(d *doc) (out []Hit) {
	lines := a.shown(d)
	if a.in == nil {
		for i, n := range lines {
			if a.line.of(n) {
				out = append(out, a.hit(d, i))
			}
		}
		return out
	}
	if len(d.heads) > 0 {
		return a.ofHeads(d, lines)
	}
	// Blocks: which lines open one that is meant, and what was seen below each.
	seen := make([]bool, len(lines))
	wants := a.line
	if wants == nil {
		wants = a.lacks
	}
	for i, n := range lines {
		if wants == nil || !wants.of(n) {
			continue
		}
		meant := false
		for up := d.up[i]; up >= 0; up = d.up[up] {
			seen[up] = true
			meant = meant || a.in.of(lines[up])
		}
		if a.line != nil && meant {
			out = append(out, a.hit(d, i))
		}
	}
	if a.line == nil {
		for i, n := range lines {
			if a.in.of(n) && !seen[i] {
				out = append(out, a.hit(d, i))
			}
		}
	}
	return out
}

// ofHeads is of for blocks that are called by no line of their own.
func (a *asked) ofHeads(d *doc, lines []int32) (out []Hit) {
	told := map[int32]bool{}
	for _, head := range d.heads {
		if !a.in.of(head.name) {
			continue
		}
		found := false
		for _, i := range head.lines {
			switch {
			case a.line != nil && a.line.of(lines[i]) && !told[i]:
				told[i] = true
				out = append(out, a.hit(d, int(i)))
			case a.line == nil && a.lacks != nil && a.lacks.of(lines[i]):
				found = true
			}
		}
		if a.line == nil && !found && !told[head.lines[0]] {
			h := a.hit(d, int(head.lines[0]))
			h.Text, h.Path = string(a.x.line(head.name)), h.Path[:max(slices.Index(h.Path, string(a.x.line(head.name))), 0)]
			told[head.lines[0]] = true
			out = append(out, h)
		}
	}
	slices.SortStableFunc(out, func(a, b Hit) int { return a.Line - b.Line })
	return out
}
