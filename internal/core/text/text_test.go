package text

import (
	"strings"
	"testing"
)

func TestTerminal(t *testing.T) {
	for _, c := range []struct{ name, in, want string }{
		{"plain", "a\nb\n", "a\nb\n"},
		{"carriage returns before newlines", "a\r\nb\r\r\n", "a\nb\n"},
		{"backspaces", "abx\bc\n", "abc\n"},
		{"a line started over", "wrong\rright\n", "right\n"},
		{"a page's end wiped out with blanks", "((more))\r        \rlane q\n", "lane q\n"},
		{"a prompt after a wiped page's end keeps its blank", "((more))\r        \rr1 ~~ ", "r1 ~~ "},
		{"blanks at a line's end stay", "r1 ~~ \r\nx\n", "r1 ~~ \nx\n"},
		{"colours", "\x1b[31mred\x1b[0m\n", "red\n"},
		{"erase to the end of the line", "abc\rx\x1b[K\n", "x\n"},
		{"bells and nulls", "a\x07b\x00c\n", "abc\n"},
		{"cut off within a sequence", "abc\x1b[3", "abc"},
	} {
		if got := Terminal(c.in); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func FuzzTerminal(f *testing.F) {
	f.Add("a\r\nb\x1b[K\b\r x")
	f.Fuzz(func(t *testing.T, s string) {
		got := Terminal(s)
		if strings.ContainsAny(got, "\r\b\x00\x07") {
			t.Errorf("%q becomes %q", s, got)
		}
		if strings.Count(got, "\n") > strings.Count(s, "\n") {
			t.Errorf("%q gained lines: %q", s, got)
		}
	})
}
