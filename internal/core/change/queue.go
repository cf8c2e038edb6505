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
	ops   []op
	block []string // the open block that each stands in
	way   []bool   // it touches the way to the device
	taken []bool
	first int // all before it are taken

	heaps map[place]*indices
}

// place is one kind of op in one block, or, where in is "*", in any.
type place struct {
	in           string
	removes, way bool
}

func newQueue(ops []op) *queue {
	q := &queue{ops: ops, block: make([]string, len(ops)), way: make([]bool, len(ops)), taken: make([]bool, len(ops)), heaps: map[place]*indices{}}
	for i, o := range ops {
		q.block[i], q.way[i] = key(o.trail), touchesWay(o)
	}
	return q
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

// ready adds an op that waits for no other.
func (q *queue) ready(i int) {
	at := place{q.block[i], q.ops[i].kind == Remove && !q.way[i], q.way[i]}
	for _, in := range []string{at.in, "*"} {
		at.in = in
		if q.heaps[at] == nil {
			q.heaps[at] = &indices{}
		}
		heap.Push(q.heaps[at], i)
	}
}

// take returns the op that comes next while a block is open.
func (q *queue) take(open []*rules.Item) (int, bool) {
	here := key(open)
	for _, at := range []place{{here, false, false}, {here, true, false}, {"*", false, false}, {"*", true, false}, {here, false, true}, {"*", false, true}} {
		for h := q.heaps[at]; h != nil && h.Len() > 0; {
			if i := heap.Pop(h).(int); !q.taken[i] {
				q.taken[i] = true
				return i, true
			}
		}
	}
	return 0, false
}

// force takes the first op that is left, whatever it waits for.
func (q *queue) force() int {
	for q.taken[q.first] {
		q.first++
	}
	q.taken[q.first] = true
	return q.first
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
