package find

import (
	"math"
	"math/bits"
	"regexp/syntax"
	"unicode"
	"unicode/utf8"
)

// kind is a set of letters of one byte each.
type kind [4]uint64

func (k *kind) add(b byte) { k[b>>6] |= 1 << (b & 63) }

func (k *kind) size() (n int) {
	for _, w := range k {
		n += bits.OnesCount64(w)
	}
	return n
}

// run are kinds of letters in a row, as masks: which places of the row a letter may stand at.
type run struct {
	at   [256]uint64
	last uint64
}

// longestRun is how many letters a run has at most.
const longestRun = 64

// telling is from how many bits on a run is worth looking for: less of them most lines have.
const telling = 12

func newRun(kinds []kind) *run {
	r := &run{last: 1 << (len(kinds) - 1)}
	for i, k := range kinds {
		for b := range r.at {
			if k[b>>6]>>(b&63)&1 != 0 {
				r.at[b] |= 1 << i
			}
		}
	}
	return r
}

// in tells where the first such letters end in a text, -1: there are none.
func (r *run) in(text []byte) int {
	var state uint64 // which beginnings of the row end here
	for i, b := range text {
		if state = (state<<1 | 1) & r.at[b]; state&r.last != 0 {
			return i
		}
	}
	return -1
}

// Must is a text that is in whatever an expression matches; empty: none is known.
func Must(expr string) string {
	tree, err := syntax.Parse(expr, syntax.Perl)
	if err != nil {
		return ""
	}
	text, _ := must(tree.Simplify())
	return text
}

// must is what whatever matches has in it: a text, or kinds of letters in a row.
func must(re *syntax.Regexp) (text string, r *run) {
	var w walk
	w.over(re)
	w.cut()
	if len(w.best) == 0 {
		return "", nil
	}
	for _, k := range w.best {
		switch {
		case k.size() == 1:
		case w.most < telling:
			return "", nil
		default:
			return "", newRun(w.best)
		}
		for b := range 256 {
			if k[b>>6]>>(b&63)&1 != 0 {
				text += string([]byte{byte(b)})
			}
		}
	}
	return text, nil
}

// walk goes over an expression and gathers kinds of letters that stand in a row in whatever matches; the
// best row is the one that says most.
type walk struct {
	row, best  []kind
	says, most float64 // bits
}

func (w *walk) add(k kind) {
	if len(w.row) == longestRun {
		w.cut()
	}
	w.row = append(w.row, k)
	w.says += 8 - math.Log2(float64(k.size()))
}

// cut ends a row: what comes next need not follow at once.
func (w *walk) cut() {
	if w.says > w.most {
		w.best, w.most = w.row, w.says
	}
	w.row, w.says = nil, 0
}

func (w *walk) over(re *syntax.Regexp) {
	switch re.Op {
	case syntax.OpEmptyMatch, syntax.OpBeginLine, syntax.OpEndLine, syntax.OpBeginText, syntax.OpEndText, syntax.OpWordBoundary, syntax.OpNoWordBoundary:
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			w.letter(r, re.Flags&syntax.FoldCase != 0)
		}
	case syntax.OpCharClass:
		w.class(re.Rune)
	case syntax.OpCapture, syntax.OpConcat:
		for _, sub := range re.Sub {
			w.over(sub)
		}
	case syntax.OpPlus:
		w.over(re.Sub[0])
		w.cut()
		if one := re.Sub[0]; one.Op == syntax.OpCharClass || one.Op == syntax.OpLiteral && len(one.Rune) == 1 {
			w.over(one) // the last of them stands before what comes next
		}
	default:
		w.cut()
	}
}

// letter adds a letter: where its case does not matter, all that it may be.
func (w *walk) letter(r rune, anyCase bool) {
	if anyCase {
		all := []rune{r, r}
		for o := unicode.SimpleFold(r); o != r; o = unicode.SimpleFold(o) {
			all = append(all, o, o)
		}
		w.class(all)
		return
	}
	if r == utf8.RuneError { // which bytes that are no letter match, too
		w.cut()
		return
	}
	for _, b := range utf8.AppendRune(nil, r) {
		var k kind
		k.add(b)
		w.add(k)
	}
}

// class adds one of many letters, given by pairs of first and last. A row ends where one of them has
// several bytes.
func (w *walk) class(pairs []rune) {
	var k kind
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] >= utf8.RuneSelf {
			w.cut()
			return
		}
		for r := pairs[i]; r <= pairs[i+1]; r++ {
			k.add(byte(r))
		}
	}
	if k.size() == 0 { // nothing matches at all
		w.cut()
		return
	}
	w.add(k)
}
