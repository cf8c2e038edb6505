// Package diff compares texts line by line and lines word by word.
//
// The line comparison follows E. Myers, "An O(ND) Difference Algorithm and Its
// Variations" (1986), in its linear-space form. Lines become numbers once;
// common ends and lines that the other side does not have at all are set aside
// before the search; where two stretches have so little in common that an
// exact search would be slow, lines that are unique on both sides, or runs of
// lines that are, become anchors, and the stretches between them are compared
// on their own. So do the runs of texts that are long from the first.
package diff

import (
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
	return Texts(Text{lines: a, Ended: true}, Text{lines: b, Ended: true})
}

// Texts returns the edits between two texts, a missing last newline counting
// as a difference.
func Texts(a, b Text) []Edit {
	x, y, c := differ(a, b)
	return edits(x, y, c)
}

// Partners tells for each line of b (from 0) which line of a it is; -1: it came.
func Partners(a, b Text) []int {
	lenA, lenB := a.Len(), b.Len()
	out := make([]int, lenB)
	i, j := 0, 0
	for _, e := range append(Texts(a, b), Edit{Start: lenA, End: lenA, From: lenB, To: lenB}) {
		for ; j < e.From; i, j = i+1, j+1 {
			out[j] = i
		}
		for ; j < e.To; j++ {
			out[j] = -1
		}
		i = e.End
	}
	return out
}

// changes marks which lines of each side have no partner on the other.
type changes struct {
	a, b []bool
}

// differ finds the lines without a partner.
func differ(a, b Text) (x, y *side, c changes) {
	a.Hash()
	b.Hash()
	x, y = &side{a, a.Len(), !a.Ended && b.Ended}, &side{b, b.Len(), !b.Ended && a.Ended}
	c = changes{make([]bool, x.len), make([]bool, y.len)}
	fromX, fromY := x.along(0, x.len, y, 0, y.len)
	endX, endY := x.backAlong(fromX, x.len, y, fromY, y.len)
	if min(endX-fromX, endY-fromY) > long {
		for _, at := range x.meets(fromX, endX, y, fromY, endY) {
			atX, atY := int(at[0]), int(at[1])
			if atX < fromX || atY < fromY {
				continue // the last one led further
			}
			toX, toY := x.along(atX, endX, y, atY, endY)
			if toX-atX < meeting {
				continue // their sums are the same, and nothing else
			}
			gapX, gapY := x.backAlong(fromX, atX, y, fromY, atY)
			c.fill(x, y, fromX, gapX, fromY, gapY)
			fromX, fromY = toX, toY
		}
	}
	c.fill(x, y, fromX, endX, fromY, endY)
	return x, y, c
}

// Of texts of more lines than long, those are matched first that stand in a run of so many that
// is unique on both sides.
const (
	long    = 1 << 14
	meeting = 16
)

// meets lists where such runs begin, rising on both sides.
func (s *side) meets(fromX, endX int, o *side, fromY, endY int) [][2]int32 {
	x, y := s.text.hash[fromX:endX], o.text.hash[fromY:endY]
	nx, ny, n := runNumbers(x, y, meeting)
	pairs := pair(nx, ny, n, fromX, fromY)
	if len(pairs) == 0 {
		return nil
	}
	return rising(pairs)
}

// fill compares a stretch of each side on its own.
func (c changes) fill(x, y *side, fromX, endX, fromY, endY int) {
	if fromX == endX || fromY == endY {
		for i := fromX; i < endX; i++ {
			c.a[i] = true
		}
		for i := fromY; i < endY; i++ {
			c.b[i] = true
		}
		return
	}
	nx, ny, n := number(x, y, fromX, endX, fromY, endY)
	s := &search{a: c.a[fromX:endX], b: c.b[fromY:endY], n: n}
	s.x, s.atX = shared(nx, s.a)
	s.y, s.atY = shared(ny, s.b)
	s.solve(0, len(s.x), 0, len(s.y))
}

// shared are the lines that have to be searched for, and where they stand. Those the other side has
// none of are changed, whatever else is found.
func shared(nums []int32, changed []bool) (left, at []int32) {
	count := 0
	for i, v := range nums {
		if v == alone {
			changed[i] = true
		} else {
			count++
		}
	}
	left, at = make([]int32, 0, count), make([]int32, 0, count)
	for i, v := range nums {
		if v != alone {
			left, at = append(left, v), append(at, int32(i))
		}
	}
	return left, at
}

// side is a text that is being compared.
type side struct {
	text Text
	len  int
	open bool // its last line has no newline, where that of the other side has one
}

// is tells whether a line is one of another side.
func (s *side) is(i int, o *side, j int) bool {
	a, b := &s.text, &o.text
	return a.hash[i] == b.hash[j] && a.Line(i) == b.Line(j) && s.lasts(i) == o.lasts(j) && a.within(i) == b.within(j)
}

// lasts tells whether a line is one without an end.
func (s *side) lasts(i int) bool { return s.open && i == s.len-1 }

// along walks on while lines are the same.
func (s *side) along(x, endX int, o *side, y, endY int) (int, int) {
	if x < endX && y < endY && s.text.plain() && o.text.plain() {
		// Where nothing but their bytes counts, many lines are compared at once.
		a, b := s.text.start, o.text.start
		same := int32(sameBytes(s.text.src[a[x]:], o.text.src[b[y]:]))
		for end := a[x] + same; x < endX && y < endY && a[x+1] <= end; {
			x++
			y++
		}
	}
	for x < endX && y < endY && s.is(x, o, y) {
		x++
		y++
	}
	return x, y
}

// sameBytes is how many bytes two strings begin with alike.
func sameBytes(a, b string) int {
	const step = 256
	n, most := 0, min(len(a), len(b))
	for n+step <= most && a[n:n+step] == b[n:n+step] {
		n += step
	}
	for n < most && a[n] == b[n] {
		n++
	}
	return n
}

// backAlong walks back from the ends while the lines before them are the same.
func (s *side) backAlong(x, endX int, o *side, y, endY int) (int, int) {
	for x < endX && y < endY && s.is(endX-1, o, endY-1) {
		endX--
		endY--
	}
	return endX, endY
}

// edits gathers changed lines into edits and moves each to where a person
// would have put it.
func edits(a, b *side, c changes) []Edit {
	slide(a, c.a, c.b)
	slide(b, c.b, c.a)
	var out []Edit
	for i, j := 0, 0; i < len(c.a) || j < len(c.b); {
		if i < len(c.a) && j < len(c.b) && !c.a[i] && !c.b[j] {
			i++
			j++
			continue
		}
		e := Edit{Start: i, From: j}
		for i < len(c.a) && c.a[i] {
			i++
		}
		for j < len(c.b) && c.b[j] {
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
func slide(lines *side, mine, other []bool) {
	j := 0 // line of the other side facing line i
	for i := 0; i < len(mine); {
		if !mine[i] {
			for j < len(other) && other[j] {
				j++
			}
			i++
			j++
			continue
		}
		end := i
		for end < len(mine) && mine[end] {
			end++
		}
		if j < len(other) && other[j] {
			i = end
			continue
		}
		// How far up and down it can go without meeting another change.
		up := 0
		for i-up > 0 && !mine[i-up-1] && j-up > 0 && !other[j-up-1] && lines.is(i-up-1, lines, end-up-1) {
			up++
		}
		down := 0
		for end+down < len(mine) && !mine[end+down] && j+down < len(other) && !other[j+down] && lines.is(i+down, lines, end+down) {
			down++
		}
		best, bestIndent := 0, 1<<30
		for shift := down; shift >= -up; shift-- {
			if in := indent(lines.text.Line(i + shift)); in < bestIndent {
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
