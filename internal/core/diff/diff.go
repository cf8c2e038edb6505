// Package diff compares texts line by line and lines word by word.
//
// The line comparison follows E. Myers, "An O(ND) Difference Algorithm and Its
// Variations" (1986), in its linear-space form. Lines become numbers once;
// common ends and lines that the other side does not have at all are set aside
// before the search; where two stretches have so little in common that an
// exact search would be slow, lines that are unique on both sides are used as
// anchors and the stretches between them are compared on their own.
package diff

import (
	"hash/maphash"
	"slices"
	"strings"
)

// Edit replaces lines Start to End (from 0, End not included) of the first
// text by lines From to To of the second.
type Edit struct {
	Start, End int
	From, To   int
}

// Lines returns the edits that make b of a, in order, none touching the next.
func Lines(a, b []string) []Edit {
	x, y, n := intern(a, b)
	return edits(a, b, a, b, compare(x, y, n))
}

// intern gives equal lines equal numbers. Common ends need no numbers of their
// own and get -1: most comparisons are nearly all ends.
func intern(a, b []string) (x, y []int32, n int) {
	pre := 0
	for pre < len(a) && pre < len(b) && a[pre] == b[pre] {
		pre++
	}
	suf := 0
	for suf < len(a)-pre && suf < len(b)-pre && a[len(a)-1-suf] == b[len(b)-1-suf] {
		suf++
	}
	all := make([]int32, len(a)+len(b))
	x, y = all[:len(a)], all[len(a):]
	t := newNumbers(len(a) + len(b) - 2*(pre+suf))
	for i := range a {
		x[i] = -1
		if i >= pre && i < len(a)-suf {
			x[i] = t.number(a[i])
		}
	}
	// Most lines of b follow one another as they do in a: look there first.
	next := pre
	for j := range b {
		y[j] = -1
		if j < pre || j >= len(b)-suf {
			continue
		}
		found := false
		for at := next; at < min(next+3, len(a)-suf) && !found; at++ {
			if a[at] == b[j] {
				y[j], next, found = x[at], at+1, true
			}
		}
		if !found {
			y[j] = t.number(b[j])
		}
	}
	return x, y, len(t.lines)
}

// numbers is a hash table from lines to numbers, open addressing, at most half
// full. It keeps half of each hash, so that lines are seldom compared in vain.
type numbers struct {
	seed  maphash.Seed
	cells []cell
	lines []string
}

type cell struct {
	hash uint32
	id   int32 // one more than the number; 0 when free
}

func newNumbers(most int) *numbers {
	size := 16
	for size < 2*most {
		size *= 2
	}
	return &numbers{seed: maphash.MakeSeed(), cells: make([]cell, size), lines: make([]string, 0, most/2+8)}
}

func (t *numbers) number(line string) int32 {
	h := maphash.String(t.seed, line)
	mask := uint64(len(t.cells) - 1)
	for at := h & mask; ; at = (at + 1) & mask {
		c := &t.cells[at]
		if c.id == 0 {
			t.lines = append(t.lines, line)
			*c = cell{uint32(h >> 32), int32(len(t.lines))}
			return c.id - 1
		}
		if c.hash == uint32(h>>32) && t.lines[c.id-1] == line {
			return c.id - 1
		}
	}
}

// changes marks which lines of each side have no partner on the other.
type changes struct {
	a, b []bool
}

// compare finds the lines without a partner. Numbers below zero are common
// ends, known to match.
func compare(x, y []int32, n int) changes {
	c := changes{make([]bool, len(x)), make([]bool, len(y))}
	pre := 0
	for pre < len(x) && pre < len(y) && x[pre] < 0 && y[pre] < 0 {
		pre++
	}
	endX, endY := len(x), len(y)
	for endX > pre && endY > pre && x[endX-1] < 0 && y[endY-1] < 0 {
		endX--
		endY--
	}
	// Lines the other side has none of are changed, whatever else is found.
	inX, inY := make([]bool, n), make([]bool, n)
	for _, v := range x[pre:endX] {
		inX[v] = true
	}
	for _, v := range y[pre:endY] {
		inY[v] = true
	}
	s := &search{c: c, n: n, x: make([]int32, 0, endX-pre), atX: make([]int32, 0, endX-pre), y: make([]int32, 0, endY-pre), atY: make([]int32, 0, endY-pre)}
	for i := pre; i < endX; i++ {
		if inY[x[i]] {
			s.x, s.atX = append(s.x, x[i]), append(s.atX, int32(i))
		} else {
			c.a[i] = true
		}
	}
	for i := pre; i < endY; i++ {
		if inX[y[i]] {
			s.y, s.atY = append(s.y, y[i]), append(s.atY, int32(i))
		} else {
			c.b[i] = true
		}
	}
	if size := len(s.x) + len(s.y) + 3; size > 3 {
		s.fwd, s.back, s.off = make([]int32, 2*size+2), make([]int32, 2*size+2), size
		s.solve(0, len(s.x), 0, len(s.y))
	}
	return c
}

// search is the state of one comparison.
type search struct {
	x, y      []int32 // line numbers left after setting aside
	atX, atY  []int32 // where they stand in the whole texts
	c         changes
	fwd, back []int32 // furthest x per diagonal, from each end
	off       int
	n         int     // how many numbers there are
	seen      []int32 // scratch of anchors: counts and places per number
}

func (s *search) solve(x0, x1, y0, y1 int) {
	for {
		for x0 < x1 && y0 < y1 && s.x[x0] == s.y[y0] {
			x0++
			y0++
		}
		for x0 < x1 && y0 < y1 && s.x[x1-1] == s.y[y1-1] {
			x1--
			y1--
		}
		if x0 == x1 || y0 == y1 {
			for ; x0 < x1; x0++ {
				s.c.a[s.atX[x0]] = true
			}
			for ; y0 < y1; y0++ {
				s.c.b[s.atY[y0]] = true
			}
			return
		}
		x, y, anchors := s.middle(x0, x1, y0, y1)
		if len(anchors) > 0 {
			for _, p := range anchors {
				s.solve(x0, int(p[0]), y0, int(p[1]))
				x0, y0 = int(p[0])+1, int(p[1])+1
			}
			continue
		}
		s.solve(x0, x, y0, y)
		x0, y0 = x, y
	}
}

// patience is how many steps of the exact search are taken before anchors are
// tried, and hurry how many before the best so far is taken instead.
const (
	patience = 1500
	hurry    = 6000
)

// middle finds a point on a shortest path. When the path is long it returns
// anchors to go by instead; where there are none, and the path is very long, a
// point that is merely far along.
func (s *search) middle(x0, x1, y0, y1 int) (x, y int, anchors [][2]int32) {
	fwd, back, off := s.fwd, s.back, s.off
	low, high := x0-y1, x1-y0
	mid0, mid1 := x0-y0, x1-y1
	f0, f1, b0, b1 := mid0, mid0, mid1, mid1
	fwd[off+mid0], back[off+mid1] = int32(x0), int32(x1)
	odd := (mid0-mid1)&1 != 0
	for step := 1; ; step++ {
		// Diagonals outside the rectangle are walled off.
		if f0 > low {
			f0--
			fwd[off+f0-1] = -1
		} else {
			f0++
		}
		if f1 < high {
			f1++
			fwd[off+f1+1] = -1
		} else {
			f1--
		}
		for d := f1; d >= f0; d -= 2 {
			px := int(fwd[off+d+1])
			if l := int(fwd[off+d-1]); l >= px {
				px = l + 1
			}
			py := px - d
			for px < x1 && py < y1 && s.x[px] == s.y[py] {
				px++
				py++
			}
			fwd[off+d] = int32(px)
			if odd && b0 <= d && d <= b1 && int(back[off+d]) <= px {
				return px, py, nil
			}
		}
		if b0 > low {
			b0--
			back[off+b0-1] = int32(len(s.x) + 1)
		} else {
			b0++
		}
		if b1 < high {
			b1++
			back[off+b1+1] = int32(len(s.x) + 1)
		} else {
			b1--
		}
		for d := b1; d >= b0; d -= 2 {
			px := int(back[off+d-1])
			if r := int(back[off+d+1]); r <= px {
				px = r - 1
			}
			py := px - d
			for px > x0 && py > y0 && s.x[px-1] == s.y[py-1] {
				px--
				py--
			}
			back[off+d] = int32(px)
			if !odd && f0 <= d && d <= f1 && px <= int(fwd[off+d]) {
				return px, py, nil
			}
		}
		if step == patience {
			if anchors = s.anchors(x0, x1, y0, y1); len(anchors) > 0 {
				return 0, 0, anchors
			}
		}
		if step >= hurry {
			best := -1
			for d := f0; d <= f1; d += 2 {
				px := min(int(fwd[off+d]), x1)
				py := px - d
				if py > y1 {
					px, py = y1+d, y1
				}
				if px >= x0 && py >= y0 && px+py > best && px+py < x1+y1 {
					best, x, y = px+py, px, py
				}
			}
			return x, y, nil
		}
	}
}

// anchors returns the longest run of pairs, rising on both sides, of lines that
// are unique on both.
func (s *search) anchors(x0, x1, y0, y1 int) [][2]int32 {
	if s.seen == nil {
		s.seen = make([]int32, 4*s.n)
	}
	cell := func(v int32) []int32 { return s.seen[4*v : 4*v+4] } // count x, count y, place x, place y
	for i := x0; i < x1; i++ {
		clear(cell(s.x[i]))
	}
	for i := y0; i < y1; i++ {
		clear(cell(s.y[i]))
	}
	for i := x0; i < x1; i++ {
		c := cell(s.x[i])
		c[0]++
		c[2] = int32(i)
	}
	for i := y0; i < y1; i++ {
		c := cell(s.y[i])
		c[1]++
		c[3] = int32(i)
	}
	var pairs [][2]int32
	for i := x0; i < x1; i++ {
		if c := cell(s.x[i]); c[0] == 1 && c[1] == 1 {
			pairs = append(pairs, [2]int32{c[2], c[3]})
		}
	}
	// Longest increasing run of the second places.
	tails, prev := []int32{}, make([]int32, len(pairs))
	for i, p := range pairs {
		at, _ := slices.BinarySearchFunc(tails, p[1], func(t, v int32) int { return int(pairs[t][1] - v) })
		prev[i] = -1
		if at > 0 {
			prev[i] = tails[at-1]
		}
		if at == len(tails) {
			tails = append(tails, int32(i))
		} else {
			tails[at] = int32(i)
		}
	}
	out := make([][2]int32, len(tails))
	if len(tails) > 0 {
		for i, at := tails[len(tails)-1], len(tails)-1; i >= 0; i, at = prev[i], at-1 {
			out[at] = pairs[i]
		}
	}
	return out
}

// edits gathers changed lines into edits and moves each to where a person
// would have put it.
func edits(a, b, keyA, keyB []string, c changes) []Edit {
	slide(a, keyA, c.a, c.b)
	slide(b, keyB, c.b, c.a)
	var out []Edit
	for i, j := 0, 0; i < len(a) || j < len(b); {
		if i < len(a) && j < len(b) && !c.a[i] && !c.b[j] {
			i++
			j++
			continue
		}
		e := Edit{Start: i, From: j}
		for i < len(a) && c.a[i] {
			i++
		}
		for j < len(b) && c.b[j] {
			j++
		}
		e.End, e.To = i, j
		out = append(out, e)
	}
	return out
}

// slide moves each run of changed lines that could stand at several places to
// the one where it begins at the least indented line, so that a new block shows
// as a whole block. Runs that face a change on the other side stay.
func slide(lines, keys []string, mine, other []bool) {
	j := 0 // line of the other side facing line i
	for i := 0; i < len(lines); {
		if !mine[i] {
			for j < len(other) && other[j] {
				j++
			}
			i++
			j++
			continue
		}
		end := i
		for end < len(lines) && mine[end] {
			end++
		}
		if j < len(other) && other[j] {
			i = end
			continue
		}
		// How far up and down it can go without meeting another change.
		up := 0
		for i-up > 0 && !mine[i-up-1] && j-up > 0 && !other[j-up-1] && keys[i-up-1] == keys[end-up-1] {
			up++
		}
		down := 0
		for end+down < len(lines) && !mine[end+down] && j+down < len(other) && !other[j+down] && keys[i+down] == keys[end+down] {
			down++
		}
		best, bestIndent := 0, 1<<30
		for shift := down; shift >= -up; shift-- {
			if in := indent(lines[i+shift]); in < bestIndent {
				best, bestIndent = shift, in
			}
		}
		for k := i; k < end; k++ {
			mine[k] = false
		}
		for k := i + best; k < end+best; k++ {
			mine[k] = true
		}
		if best > 0 {
			j += best
		}
		i = end + max(best, 0)
	}
}

func indent(line string) int {
	if strings.TrimSpace(line) == "" {
		return 1 << 20
	}
	return len(line) - len(strings.TrimLeft(line, " \t"))
}
