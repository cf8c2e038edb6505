package diff

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Hunk is a group of edits with the unchanged lines around them.
type Hunk struct {
	A, ALen int    // first line in the old text, from 1, and how many
	B, BLen int    // the same in the new text
	Block   string // the blocks that its changes stand in, joined by "; "; empty at the top
	Lines   []Line
}

// Op tells what becomes of a line.
type Op byte

// The three things that can become of a line, as unified diffs write them.
const (
	Same   Op = ' '
	Remove Op = '-'
	Add    Op = '+'
)

// Line is one line of a hunk.
type Line struct {
	Op    Op
	Text  string
	A, B  int    // line numbers from 1; 0 on the side that has no such line
	Marks []Span // what differs from the facing line
}

// Loud counts the lines of an edit that say something: those that went, and those that came.
func (e Edit) Loud(a, b Text) (gone, came int) {
	for i := e.Start; i < e.End; i++ {
		if a.Says(i) {
			gone++
		}
	}
	for j := e.From; j < e.To; j++ {
		if b.Says(j) {
			came++
		}
	}
	return gone, came
}

// group is a run of edits, from one index to before another, whose contexts touch. Edits in the
// midst of it may say nothing; the first and the last do.
type group struct{ from, to int }

// groups gathers edits whose contexts touch.
func groups(a, b Text, es []Edit, context int) (out []group) {
	for i, e := range es {
		if gone, came := e.Loud(a, b); gone+came == 0 {
			continue
		}
		if n := len(out); n > 0 && e.Start-es[out[n-1].to-1].End <= 2*context {
			out[n-1].to = i + 1
		} else {
			out = append(out, group{i, i + 1})
		}
	}
	return out
}

// frame is a hunk without its lines.
func (g group) frame(a, b Text, es []Edit, context int, enclosing func(bool, int) string) Hunk {
	first, last := es[g.from], es[g.to-1]
	lead := min(context, first.Start, first.From)
	trail := min(context, a.Len()-last.End, b.Len()-last.To)
	// Unchanged lines reach to the next edit that says nothing: beyond it lines do not face each other.
	if g.from > 0 {
		lead = min(lead, first.Start-es[g.from-1].End)
	}
	if g.to < len(es) {
		trail = min(trail, es[g.to].Start-last.End)
	}
	h := Hunk{A: first.Start - lead + 1, B: first.From - lead + 1, ALen: last.End + trail - (first.Start - lead)}
	h.BLen = h.ALen
	for _, e := range es[g.from:g.to] {
		gone, came := e.Loud(a, b)
		h.BLen += came - gone
	}
	if enclosing != nil {
		h.Block = blocks(a, b, es[g.from:g.to], enclosing)
	}
	return h
}

// mostBlocks is how many a hunk names.
const mostBlocks = 4

// blocks names those that edits stand in, each once, in their order.
func blocks(a, b Text, es []Edit, enclosing func(old bool, line int) string) string {
	var named []string
	name := func(old bool, line int) (more bool) {
		if b := enclosing(old, line); b != "" && !slices.Contains(named, b) {
			named = append(named, b)
		}
		return len(named) <= mostBlocks
	}
	for _, e := range es {
		old, from, to, t := false, e.From, e.To, b
		if from == to {
			old, from, to, t = true, e.Start, e.End, a
		}
		for i := from; i < to; i++ {
			if t.Says(i) && !name(old, i+1) {
				return strings.Join(named[:mostBlocks], "; ") + "; …"
			}
		}
	}
	return strings.Join(named, "; ")
}

// walk calls line for every line of a hunk, with its places from 0. Lines that say nothing stay as
// they were, where they face any with their place there, -1 otherwise; those that came are left out.
func (h Hunk) walk(a, b Text, es []Edit, line func(op Op, i, j int)) {
	i, j := h.A-1, h.B-1
	end := i + h.ALen
	for _, e := range es {
		for ; i < e.Start; i, j = i+1, j+1 {
			line(Same, i, j)
		}
		silent := j
		for ; i < e.End; i++ {
			if a.Says(i) {
				line(Remove, i, j)
				continue
			}
			for silent < e.To && b.Says(silent) {
				silent++
			}
			if silent < e.To {
				line(Same, i, silent)
				silent++
			} else {
				line(Same, i, -1)
			}
		}
		for ; j < e.To; j++ {
			if b.Says(j) {
				line(Add, i, j)
			}
		}
	}
	for ; i < end; i, j = i+1, j+1 {
		line(Same, i, j)
	}
}

// Hunks groups edits with so many lines of context. enclosing, if not nil,
// names the block around a line of the new text (from 1), or of the old one
// where only removals are left.
func Hunks(a, b Text, es []Edit, context int, enclosing func(old bool, line int) string) []Hunk {
	var out []Hunk
	for _, g := range groups(a, b, es, context) {
		h := g.frame(a, b, es, context, enclosing)
		h.walk(a, b, es[g.from:g.to], func(op Op, i, j int) {
			switch op {
			case Same:
				h.Lines = append(h.Lines, Line{Op: op, Text: a.Line(i), A: i + 1, B: j + 1})
			case Remove:
				h.Lines = append(h.Lines, Line{Op: op, Text: a.Line(i), A: i + 1})
			case Add:
				h.Lines = append(h.Lines, Line{Op: op, Text: b.Line(j), B: j + 1})
			}
		})
		// A range of no lines names the line before it.
		if h.ALen == 0 {
			h.A--
		}
		if h.BLen == 0 {
			h.B--
		}
		out = append(out, h)
	}
	return out
}

// most is how many lines of one run of changes get marks: in longer ones no
// line can be said to face another.
const most = 1000

// Mark finds the words that differ between lines that face each other.
func (h *Hunk) Mark() {
	for i := 0; i < len(h.Lines); {
		removed := i
		for removed < len(h.Lines) && h.Lines[removed].Op == Remove {
			removed++
		}
		added := removed
		for added < len(h.Lines) && h.Lines[added].Op == Add {
			added++
		}
		for k := range min(removed-i, added-removed, most) {
			l, r := &h.Lines[i+k], &h.Lines[removed+k]
			l.Marks, r.Marks = Words(l.Text, r.Text)
		}
		i = max(added, i+1)
	}
}

// Unified writes the edits in the unified format that patch reads
// (POSIX.1-2024, diff -u), with so many lines of context. Applied to the old text
// it makes the new one, but for lines that say nothing: those stay as they were.
func Unified(out io.Writer, oldName, newName string, a, b Text, es []Edit, context int, enclosing func(old bool, line int) string) error {
	if len(es) == 0 {
		return nil
	}
	lenA, lenB := a.Len(), b.Len()
	const full = 1 << 16
	buf := fmt.Appendf(make([]byte, 0, 2*full), "--- %s\n+++ %s\n", oldName, newName)
	for _, g := range groups(a, b, es, context) {
		h := g.frame(a, b, es, context, enclosing)
		fromA, fromB := h.A, h.B
		if h.ALen == 0 {
			fromA--
		}
		if h.BLen == 0 {
			fromB--
		}
		buf = append(span(append(span(append(buf, "@@ -"...), fromA, h.ALen), " +"...), fromB, h.BLen), " @@"...)
		if h.Block != "" {
			buf = append(append(buf, ' '), h.Block...)
		}
		buf = append(buf, '\n')
		var err error
		h.walk(a, b, es[g.from:g.to], func(op Op, i, j int) {
			buf = append(buf, byte(op))
			last := false
			if op == Add {
				buf, last = append(buf, b.Line(j)...), !b.Ended && j == lenB-1
			} else {
				buf, last = append(buf, a.Line(i)...), !a.Ended && i == lenA-1
			}
			if buf = append(buf, '\n'); last {
				buf = append(buf, "\\ No newline at end of file\n"...)
			}
			if len(buf) >= full && err == nil {
				_, err = out.Write(buf)
				buf = buf[:0]
			}
		})
		if err != nil {
			return err
		}
	}
	_, err := out.Write(buf)
	return err
}

func span(buf []byte, start, n int) []byte {
	buf = strconv.AppendInt(buf, int64(start), 10)
	if n != 1 {
		buf = strconv.AppendInt(append(buf, ','), int64(n), 10)
	}
	return buf
}
