package diff

import (
	"hash/maphash"
	"math/bits"
	"strings"
)

// Text is one side of a comparison of whole texts. Its lines are places in it, so that a
// long one costs no memory manager anything.
type Text struct {
	src   string
	start []int32  // where each line begins, and where one more would
	lines []string // the lines, where they are not those of src
	hash  []uint32 // of each line, once Hash was called

	Ended bool // it ends in a newline
	// Within says, for each line, what it stands in. Lines that stand in
	// different things do not match, however alike they are. Nil: all match.
	Within []string
	// Silent are the lines that say nothing: they are compared, and no change of theirs
	// is shown. Nil: all say something.
	Silent []bool
}

// Split makes a Text of s, of less than 2 GiB. A last line without its newline differs from the
// same line with one.
func Split(s string) Text {
	t := Text{src: s, Ended: true}
	if s == "" {
		return t
	}
	t.start = make([]int32, 0, len(s)/16+2)
	at := 0
	for at < len(s) {
		t.start = append(t.start, int32(at))
		n := strings.IndexByte(s[at:], '\n')
		if n < 0 {
			t.Ended = false
			at = len(s)
			break
		}
		at += n + 1
	}
	if !t.Ended {
		at++ // as if it had one
	}
	t.start = append(t.start, int32(at))
	return t
}

// With is the text with other lines in place of its own: what they are compared by.
func (t Text) With(lines []string) Text {
	t.lines, t.hash = lines, nil
	if lines == nil {
		t.lines = []string{}
	}
	return t
}

// Len is how many lines there are.
func (t Text) Len() int {
	if t.lines != nil {
		return len(t.lines)
	}
	return max(len(t.start)-1, 0)
}

// Line is a line (from 0), without its newline.
func (t Text) Line(i int) string {
	if t.lines != nil {
		return t.lines[i]
	}
	return t.src[t.start[i] : t.start[i+1]-1]
}

// Lines are all lines.
func (t Text) Lines() []string {
	if t.lines != nil {
		return t.lines
	}
	out := make([]string, t.Len())
	for i := range out {
		out[i] = t.Line(i)
	}
	return out
}

// seed makes hashes of lines that nobody can foresee, the same on both sides.
var seed = maphash.MakeSeed()

// Hash works out what lines are told apart by. Texts does so itself where it was not done; it is
// for those who make two texts ready side by side.
func (t *Text) Hash() {
	if t.hash != nil {
		return
	}
	t.hash = make([]uint32, t.Len())
	if t.plain() {
		for i := range t.hash {
			t.hash[i] = uint32(maphash.String(seed, t.src[t.start[i]:t.start[i+1]-1]))
		}
		return
	}
	for i := range t.hash {
		h := maphash.String(seed, t.Line(i))
		if t.Within != nil && t.Within[i] != "" {
			h = bits.RotateLeft64(h, 1) ^ maphash.String(seed, t.Within[i])
		}
		t.hash[i] = uint32(h)
	}
}

// plain tells whether lines are what stands in the text, wherever that is.
func (t *Text) plain() bool { return t.lines == nil && t.Within == nil }

// Says tells whether a line says something.
func (t *Text) Says(i int) bool { return t.Silent == nil || !t.Silent[i] }

// within is what a line stands in.
func (t *Text) within(i int) string {
	if t.Within == nil {
		return ""
	}
	return t.Within[i]
}
