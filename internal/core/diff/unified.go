package diff

import (
	"fmt"
	"strings"
)

// Hunk is a group of edits with the unchanged lines around them.
type Hunk struct {
	A, ALen int // first line in the old text, from 1, and how many
	B, BLen int // the same in the new text
	Block   string
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

// Hunks groups edits with so many lines of context. enclosing, if not nil,
// names the block around a line of the new text (from 1), or of the old one
// where only removals are left.
func Hunks(a, b []string, es []Edit, context int, enclosing func(old bool, line int) string) []Hunk {
	var out []Hunk
	for i := 0; i < len(es); {
		j := i + 1
		for j < len(es) && es[j].Start-es[j-1].End <= 2*context {
			j++
		}
		out = append(out, hunk(a, b, es[i:j], context, enclosing))
		i = j
	}
	return out
}

func hunk(a, b []string, es []Edit, context int, enclosing func(bool, int) string) Hunk {
	first, last := es[0], es[len(es)-1]
	lead := min(context, first.Start, first.From)
	trail := min(context, len(a)-last.End, len(b)-last.To)
	h := Hunk{A: first.Start - lead + 1, B: first.From - lead + 1,
		ALen: last.End + trail - (first.Start - lead), BLen: last.To + trail - (first.From - lead)}
	i, j := first.Start-lead, first.From-lead
	same := func(until int) {
		for ; i < until; i, j = i+1, j+1 {
			h.Lines = append(h.Lines, Line{Op: Same, Text: a[i], A: i + 1, B: j + 1})
		}
	}
	for _, e := range es {
		same(e.Start)
		at := len(h.Lines)
		for ; i < e.End; i++ {
			h.Lines = append(h.Lines, Line{Op: Remove, Text: a[i], A: i + 1})
		}
		for ; j < e.To; j++ {
			h.Lines = append(h.Lines, Line{Op: Add, Text: b[j], B: j + 1})
		}
		removed := e.End - e.Start
		for k := range min(removed, e.To-e.From) {
			l, r := &h.Lines[at+k], &h.Lines[at+removed+k]
			l.Marks, r.Marks = Words(l.Text, r.Text)
		}
	}
	same(last.End + trail)
	// A range of no lines names the line before it.
	if h.ALen == 0 {
		h.A--
	}
	if h.BLen == 0 {
		h.B--
	}
	if enclosing != nil {
		if first.To > first.From {
			h.Block = enclosing(false, first.From+1)
		} else {
			h.Block = enclosing(true, first.Start+1)
		}
	}
	return h
}

// Unified writes hunks in the unified format that patch reads (POSIX.1-2024,
// diff -u). Whether each text ends in a newline is told by aEnd and bEnd.
func Unified(oldName, newName string, hunks []Hunk, aLines, bLines int, aEnd, bEnd bool) string {
	if len(hunks) == 0 {
		return ""
	}
	var s strings.Builder
	fmt.Fprintf(&s, "--- %s\n+++ %s\n", oldName, newName)
	for _, h := range hunks {
		fmt.Fprintf(&s, "@@ -%s +%s @@", span(h.A, h.ALen), span(h.B, h.BLen))
		if h.Block != "" {
			s.WriteString(" " + h.Block)
		}
		s.WriteByte('\n')
		for _, l := range h.Lines {
			s.WriteByte(byte(l.Op))
			s.WriteString(l.Text)
			s.WriteByte('\n')
			if l.Op != Add && l.A == aLines && !aEnd || l.Op == Add && l.B == bLines && !bEnd {
				s.WriteString("\\ No newline at end of file\n")
			}
		}
	}
	return s.String()
}

func span(start, n int) string {
	if n == 1 {
		return fmt.Sprint(start)
	}
	return fmt.Sprintf("%d,%d", start, n)
}

// Text is one side of a comparison of whole texts.
type Text struct {
	Lines []string
	Ended bool // it ends in a newline
	// Within says, for each line, what it stands in. Lines that stand in
	// different things do not match, however alike they are. Nil: all match.
	Within []string
}

// Split makes a Text of s. A last line without its newline differs from the
// same line with one, so it is given a mark of its own while comparing.
func Split(s string) Text {
	if s == "" {
		return Text{Ended: true}
	}
	lines := strings.Split(s, "\n")
	if lines[len(lines)-1] == "" {
		return Text{Lines: lines[:len(lines)-1], Ended: true}
	}
	return Text{Lines: lines}
}

// Texts returns the edits between two texts, a missing last newline counting
// as a difference.
func Texts(a, b Text) []Edit {
	keyA, keyB := keys(a, a.Ended == b.Ended), keys(b, a.Ended == b.Ended)
	x, y, n := intern(keyA, keyB)
	return edits(a.Lines, b.Lines, keyA, keyB, compare(x, y, n))
}

// keys are what lines are compared by.
func keys(t Text, sameEnd bool) []string {
	out := t.Lines
	if t.Within != nil {
		out = make([]string, len(t.Lines))
		for i, l := range t.Lines {
			out[i] = l
			if t.Within[i] != "" {
				out[i] = l + "\x00" + t.Within[i]
			}
		}
	}
	if !sameEnd && !t.Ended && len(out) > 0 {
		out = append([]string{}, out...)
		out[len(out)-1] += "\x00\x00"
	}
	return out
}
