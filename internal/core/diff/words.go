package diff

import (
	"unicode"
	"unicode/utf8"
)

// Span is a stretch of a line, in bytes, End not included.
type Span struct{ Start, End int }

// Words returns the stretches of a and b that differ, to be marked within two
// lines that face each other. Nil, nil when the lines have too little in
// common for marks to help.
func Words(a, b string) (inA, inB []Span) {
	ta, tb := tokens(a), tokens(b)
	cut := func(s string, ts []Span) []string {
		out := make([]string, len(ts))
		for i, t := range ts {
			out[i] = s[t.Start:t.End]
		}
		return out
	}
	_, _, c := differ(Text{lines: cut(a, ta), Ended: true}, Text{lines: cut(b, tb), Ended: true})
	same := 0
	for i, t := range ta {
		if !c.a[i] && a[t.Start] != ' ' {
			same += t.End - t.Start
		}
	}
	if 4*same < min(len(a), len(b)) {
		return nil, nil
	}
	return spans(ta, c.a), spans(tb, c.b)
}

func spans(ts []Span, changed []bool) (out []Span) {
	for i, t := range ts {
		if !changed[i] {
			continue
		}
		if n := len(out); n > 0 && out[n-1].End == t.Start {
			out[n-1].End = t.End
		} else {
			out = append(out, t)
		}
	}
	return out
}

// tokens cuts a line into words, runs of blanks and single signs.
func tokens(s string) (out []Span) {
	kind := func(r rune) int {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_':
			return 1
		case unicode.IsSpace(r):
			return 2
		}
		return 3
	}
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		k, end := kind(r), i+size
		for end < len(s) && k != 3 {
			next, size := utf8.DecodeRuneInString(s[end:])
			if kind(next) != k {
				break
			}
			end += size
		}
		out = append(out, Span{i, end})
		i = end
	}
	return out
}
