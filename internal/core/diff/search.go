package diff

import "slices"

// search is the state of one comparison.
type search struct {
	x, y      []int32 // line numbers left after setting aside
	atX, atY  []int32 // where they stand in the whole texts
	a, b      []bool  // which lines of those have no partner
	fwd, back []int32 // furthest x per diagonal, from each end
	off       int
	n         int // how many numbers there are
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
				s.a[s.atX[x0]] = true
			}
			for ; y0 < y1; y0++ {
				s.b[s.atY[y0]] = true
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
	patience = 500
	hurry    = 6000
)

// middle finds a point on a shortest path. When the path is long it returns
// anchors to go by instead; where there are none, and the path is very long, a
// point that is merely far along.
func (s *search) middle(x0, x1, y0, y1 int) (x, y int, anchors [][2]int32) {
	if s.fwd == nil {
		s.off = len(s.x) + len(s.y) + 3
		s.fwd, s.back = make([]int32, 2*s.off+2), make([]int32, 2*s.off+2)
	}
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

// runs are how many lines in a row are looked at for what is unique on both sides: lines first, then
// longer runs, where all lines of a text are like many others.
var runs = []int{1, 8, 32}

// anchors returns the longest series of pairs, rising on both sides, of places where lines begin
// that are unique on both.
func (s *search) anchors(x0, x1, y0, y1 int) [][2]int32 {
	for _, run := range runs {
		if pairs := s.unique(x0, x1, y0, y1, run); len(pairs) > 0 {
			return rising(pairs)
		}
	}
	return nil
}

// unique pairs the runs of lines that stand once on each side, in the order of the first.
func (s *search) unique(x0, x1, y0, y1, run int) [][2]int32 {
	x, y := s.x[x0:x1], s.y[y0:y1]
	if run == 1 {
		return pair(x, y, s.n, x0, y0)
	}
	nx, ny, n := runNumbers(x, y, run)
	// Two runs that are taken for the same are compared once more before they count.
	return slices.DeleteFunc(pair(nx, ny, n, x0, y0), func(p [2]int32) bool {
		return !slices.Equal(s.x[p[0]:int(p[0])+run], s.y[p[1]:int(p[1])+run])
	})
}

// pair lists the places of numbers, of which there are n, that stand once on each side, in the order
// of the first. The places count from x0 and y0; what is below zero is no number.
func pair(x, y []int32, n, x0, y0 int) (pairs [][2]int32) {
	type met struct{ nx, ny, y int32 }
	all := make([]met, n)
	for _, v := range x {
		if v >= 0 {
			all[v].nx++
		}
	}
	for i, v := range y {
		if v >= 0 {
			all[v].y, all[v].ny = int32(y0+i), all[v].ny+1
		}
	}
	for i, v := range x {
		if v >= 0 && all[v].nx == 1 && all[v].ny == 1 {
			pairs = append(pairs, [2]int32{int32(x0 + i), all[v].y})
		}
	}
	return pairs
}

// runNumbers gives the runs of lines that begin at each line a number, equal ones the same; -1: none.
// They are told apart by a sum that is carried along. Of many only each so manieth by its sum counts,
// the same ones on both sides.
func runNumbers[T int32 | uint32](x, y []T, run int) (nx, ny []int32, n int) {
	const mix = 0x9e3779b97f4a7c15
	out := uint64(1) // what a line weighs that leaves a run
	for range run {
		out *= mix
	}
	sift := 64 // all bits of the mixed sum from this one on are zero
	switch {
	case len(x) > 1<<16:
		sift = 59
	case len(x) > 1<<12:
		sift = 61
	}
	seen := make(map[uint64]int32, len(x)>>(64-sift))
	number := func(nums []T) []int32 {
		got := make([]int32, len(nums))
		h := uint64(0)
		for i := range nums {
			got[i] = -1
			h = h*mix + uint64(nums[i]) + 1
			if i >= run {
				h -= (uint64(nums[i-run]) + 1) * out
			}
			at := i - run + 1
			if at < 0 || ((h^h>>32)*mix)>>sift != 0 {
				continue
			}
			id, ok := seen[h]
			if !ok {
				id = int32(len(seen))
				seen[h] = id
			}
			got[at] = id
		}
		return got
	}
	nx = number(x)
	ny = number(y)
	return nx, ny, len(seen)
}

// rising is the longest series of pairs whose second places rise too.
func rising(pairs [][2]int32) [][2]int32 {
	tails, prev := []int32{}, make([]int32, len(pairs))
	for i, p := range pairs {
		at := len(tails)
		if at > 0 && pairs[tails[at-1]][1] > p[1] { // most rise already
			at, _ = slices.BinarySearchFunc(tails, p[1], func(t, v int32) int { return int(pairs[t][1] - v) })
		}
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
	for i, at := tails[len(tails)-1], len(tails)-1; i >= 0; i, at = prev[i], at-1 {
		out[at] = pairs[i]
	}
	return out
}
