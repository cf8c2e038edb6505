package diff

// alone stands in place of the number of a line that the other side does not have.
const alone = -1

// number numbers the lines of a stretch of each side: lines that both have, and only equal ones, get
// equal ones. It says how many there are.
func number(x, y *side, fromX, endX, fromY, endY int) (nx, ny []int32, n int) {
	all := make([]int32, endX-fromX+endY-fromY)
	nx, ny = all[:endX-fromX], all[endX-fromX:]
	t := newNumbers(x, endX-fromX)
	for i := range nx {
		nx[i] = t.add(fromX + i)
	}
	met := make([]bool, len(t.first))
	// Most lines of y follow one another as they do in x: look there first.
	next := 0
	for j := range ny {
		n := int32(alone)
		for at := next; at < min(next+3, len(nx)); at++ {
			if x.is(fromX+at, y, fromY+j) {
				n, next = nx[at], at+1
				break
			}
		}
		if n == alone {
			n = t.find(y, fromY+j)
		}
		if ny[j] = n; n >= 0 {
			met[n] = true
		}
	}
	for i, n := range nx {
		if !met[n] {
			nx[i] = alone
		}
	}
	return nx, ny, len(t.first)
}

// numbers is a hash table from the lines of a side to numbers, open addressing, at most seven
// eighths full. It keeps the hashes, so that lines are seldom compared in vain.
type numbers struct {
	of    *side
	cells []cell
	first []int32 // where the line of each number stands first
}

type cell struct {
	hash uint32
	id   int32 // one more than the number; 0 when free
}

// newNumbers makes a table for so many lines at most. Most texts have far fewer different ones.
func newNumbers(of *side, most int) *numbers {
	size := 16
	for size < most/4 {
		size *= 2
	}
	return &numbers{of: of, cells: make([]cell, size), first: make([]int32, 0, size)}
}

// cell is that of a line of a side, or the free one where it belongs.
func (t *numbers) cell(s *side, i int) *cell {
	h := s.text.hash[i]
	mask := uint32(len(t.cells) - 1)
	for at := h & mask; ; at = (at + 1) & mask {
		c := &t.cells[at]
		if c.id == 0 || c.hash == h && s.is(i, t.of, int(t.first[c.id-1])) {
			return c
		}
	}
}

// add is the number of a line that is in the table from now on.
func (t *numbers) add(i int) int32 {
	c := t.cell(t.of, i)
	if c.id > 0 {
		return c.id - 1
	}
	t.first = append(t.first, int32(i))
	n := int32(len(t.first))
	*c = cell{t.of.text.hash[i], n}
	if len(t.first) > len(t.cells)/8*7 {
		t.grow()
	}
	return n - 1
}

func (t *numbers) grow() {
	old := t.cells
	t.cells = make([]cell, 2*len(old))
	mask := uint32(len(t.cells) - 1)
	for _, c := range old {
		if c.id > 0 {
			at := c.hash & mask
			for t.cells[at].id > 0 {
				at = (at + 1) & mask
			}
			t.cells[at] = c
		}
	}
}

// find is the number of a line of another side.
func (t *numbers) find(s *side, i int) int32 {
	if c := t.cell(s, i); c.id > 0 {
		return c.id - 1
	}
	return alone
}
