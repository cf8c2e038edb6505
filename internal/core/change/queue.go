package change

import (
	"container/heap"
	"strings"

	"magpie/internal/core/rules"
)

// queue holds the ops that may come next, and knows which of them does: what
// takes the logarithm of how many there are, where looking them all over each time
// takes their number.
type queue struct {
	ops     []op
	block   []string // the open block that each stands in
	way     []bool   // it touches the way to the device
	taken   []bool
	first   int      // all before it are taken
	waits   [][2]int // for how many others each waits: because it must, and because it had better
	frees   [][]int  // which wait for each because they must
	pleases [][]int  // and because they had better

	heaps map[place]*indices
}

// place is one kind of op in one block, or, where in is "*", in any.
type place struct {
	in           string
	removes, way bool
}

func newQueue(ops []op, touchesWay func(op) bool) *queue {
	n := len(ops)
	q := &queue{ops: ops, block: make([]string, n), way: make([]bool, n), taken: make([]bool, n), heaps: map[place]*indices{},
		waits: make([][2]int, n), frees: make([][]int, n), pleases: make([][]int, n)}
	for i, o := range ops {
		q.block[i], q.way[i] = key(o.trail), touchesWay(o)
		for _, a := range o.after {
			q.waits[i][0]++
			q.frees[a] = append(q.frees[a], i)
		}
		for _, a := range o.soft {
			if a != i {
				q.waits[i][1]++
				q.pleases[a] = append(q.pleases[a], i)
			}
		}
	}
	for i := range ops {
		if q.waits[i] == [2]int{} {
			q.ready(i)
		}
	}
	return q
}

// done tells that an op was done, so that those that waited for it only are ready.
func (q *queue) done(n int) {
	for why, waiting := range [2][]int{q.frees[n], q.pleases[n]} {
		for _, i := range waiting {
			if q.waits[i][why]--; q.waits[i] == [2]int{} && !q.taken[i] {
				q.ready(i)
			}
		}
	}
}

func key(trail []*rules.Item) string {
	var b strings.Builder
	for _, it := range trail {
		b.WriteString("/")
		b.WriteString(it.ID)
		b.WriteByte(0)
	}
	return b.String()
}

// ready adds an op that waits for no other. Additions come in the order of the version,
// so that what it has first is there first, and removals the other way round.
func (q *queue) ready(i int) {
	at := place{q.block[i], q.ops[i].kind == Remove && !q.way[i], q.way[i]}
	for _, in := range []string{at.in, "*"} {
		at.in = in
		if q.heaps[at] == nil {
			q.heaps[at] = &indices{}
		}
		n := i
		if at.removes {
			n = -1 - i
		}
		heap.Push(q.heaps[at], n)
	}
}

// take returns the op that comes next while a block is open.
func (q *queue) take(open []*rules.Item) (int, bool) {
	here := key(open)
	for _, at := range []place{{here, false, false}, {here, true, false}, {"*", false, false}, {"*", true, false}, {here, false, true}, {"*", false, true}} {
		for h := q.heaps[at]; h != nil && h.Len() > 0; {
			i := heap.Pop(h).(int)
			if i < 0 {
				i = -1 - i
			}
			if !q.taken[i] {
				q.taken[i] = true
				return i, true
			}
		}
	}
	return 0, false
}

// force takes the first op that is left and waits only for what had better come before;
// where there is none, the first that is left, and free is false.
func (q *queue) force() (n int, free bool) {
	for q.taken[q.first] {
		q.first++
	}
	n = q.first
	for i := q.first; i < len(q.ops); i++ {
		if !q.taken[i] && q.waits[i][0] == 0 {
			n, free = i, true
			break
		}
	}
	q.taken[n] = true
	return n, free
}

type indices []int

func (h indices) Len() int           { return len(h) }
func (h indices) Less(i, j int) bool { return h[i] < h[j] }
func (h indices) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *indices) Push(x any)        { *h = append(*h, x.(int)) }
func (h *indices) Pop() any {
	n := len(*h) - 1
	x := (*h)[n]
	*h = (*h)[:n]
	return x
}
