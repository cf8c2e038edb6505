package find

import (
	"bytes"
	"runtime"
	"slices"
	"sync"
)

// matches are the distinct lines of an index that a pattern matches. Lines that many texts have are
// met early, so an expression is tried on lines as they are met; when that goes on for long, it is
// tried on all the others at once, by all processors.
type matches struct {
	x     *Index
	p     *Pattern
	yes   []uint64 // a bit a line
	known []uint64 // which were looked at; nil: all
	tried int

	apart *matches // of the lines that lie apart; nil: they are not looked at
	halt  *halt
}

// patience is how many lines are tried one by one before all are.
var patience = 1 << 13

// match begins to look for a pattern; nil: for none. Where there is something that a line must have, all
// lines are gone through for those at once.
func (x *Index) match(p *Pattern, masked bool, h *halt) *matches {
	if p == nil {
		return nil
	}
	m := &matches{x: x, p: p, yes: make([]uint64, len(x.ends)/64+1), halt: h}
	if !masked && x.secret != nil {
		m.apart = x.secret.match(p, true, h)
	}
	if p.must != "" || p.run != nil {
		m.together(m.words)
		return m
	}
	m.known = make([]uint64, len(m.yes))
	return m
}

// of tells whether a line matches; a hidden one does not.
func (m *matches) of(n int32) bool {
	if n == hidden {
		return false
	}
	if n < hidden {
		return m.apart.of(apart(n))
	}
	if bit := uint64(1) << (n & 63); m.known != nil && m.known[n>>6]&bit == 0 {
		if m.tried++; m.tried > patience {
			m.together(m.each)
			m.known = nil
		} else {
			m.known[n>>6] |= bit
			m.try(n)
		}
	}
	return m.yes[n>>6]>>(n&63)&1 != 0
}

// never tells whether something is looked for that no line has.
func (m *matches) never() bool {
	return m != nil && m.known == nil && !slices.ContainsFunc(m.yes, func(w uint64) bool { return w != 0 }) && (m.apart == nil || m.apart.never())
}

func (m *matches) try(n int32) {
	if m.p.Match(m.x.line(n)) {
		m.yes[n>>6] |= 1 << (n & 63)
	}
}

// together has all lines looked at by all processors, each of which takes a stretch of them, from one
// number to before another. No two write into one word.
func (m *matches) together(look func(from, to int32)) {
	all, hands := int32(len(m.x.ends)), int32(runtime.GOMAXPROCS(0))
	each := (all/hands/64 + 1) * 64
	var busy sync.WaitGroup
	for from := int32(0); from < all; from += each {
		busy.Go(func() { look(from, min(from+each, all)) })
	}
	busy.Wait()
}

// each tries a stretch of lines, those that were not looked at.
func (m *matches) each(from, to int32) {
	for n := from; n < to; n++ {
		if n&255 == 0 && m.halt.asked() {
			return
		}
		if m.known[n>>6]>>(n&63)&1 == 0 {
			m.try(n)
		}
	}
}

// words looks for what a line must have in a stretch of lines, as in one text.
func (m *matches) words(from, to int32) {
	words, at := []byte(m.p.must), 0
	next := func(text []byte) int { return bytes.Index(text, words) }
	if m.p.run != nil {
		next = m.p.run.in
	}
	if from > 0 {
		at = int(m.x.ends[from-1])
	}
	for end, met := int(m.x.ends[to-1]), 0; ; met++ {
		if met&255 == 255 && m.halt.asked() {
			return
		}
		i := next(m.x.blob[at:end])
		if i < 0 {
			return
		}
		at += i
		n, _ := slices.BinarySearch(m.x.ends, int32(at)+1)
		m.try(int32(n))
		at = int(m.x.ends[n])
	}
}
