package text

import (
	"fmt"
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
		{"a page's end erased whole", "a\n--more--\x1b[2K\rb\n", "a\nb\n"},
		{"a page's end erased from its beginning", "a\n--more--\r\x1b[Kb\n", "a\nb\n"},
		{"a page's end erased to the left", "a\n--more--\x1b[1K\rb\n", "a\nb\n"},
		{"a page's end in inverse, wiped", "a\n\x1b[7m--more--\x1b[27m\b\b\b\b\b\b\b\b        \b\b\b\b\b\b\b\bb\n", "a\nb\n"},
		{"a page's end on a line of its own, gone up to and erased", "a\n--more--\n\x1b[1A\x1b[2Kb\n", "a\nb\n"},
		{"two lines of a page's end", "a\n-- more --\nany key\n\x1b[2A\x1b[Jb\n", "a\nb\n"},
		{"gone up and everything below erased", "a\nb\nc\x1b[2A\x1b[0Jx\n", "ax\n"},
		{"a window's title, ended by a bell", "\x1b]0;r1: lane\x07r1> ", "r1> "},
		{"a window's title, ended by ST", "\x1b]2;r1\x1b\\r1> ", "r1> "},
		{"a title that never ends", "\x1b]0;r1\nnext\n", "\nnext\n"},
		{"a device control string", "\x1bP1$r0m\x1b\\x\n", "x\n"},
		{"an application's message", "a\x1b_hidden\x1b\\b\n", "ab\n"},
		{"a character set chosen", "\x1b(Br1\x1b)0> \x0f", "r1> "},
		{"line drawing is no text", "a\x1b(0qqq\x1b(Bb\n", "a   b\n"},
		{"shifted out and in", "\x1b)0a\x0eqq\x0fb\n", "a  b\n"},
		{"shifted without a set", "\x0eabc\x0f\n", "abc\n"},
		{"keypad and modes", "\x1b=\x1b[?1h\x1b[?2004hr1> \x1b[?2004l", "r1> "},
		{"a cursor position asked for", "r1> \x1b[6n", "r1> "},
		{"to a column", "abcdef\x1b[3Gxy\n", "abxyef\n"},
		{"right over nothing", "ab\x1b[3Cc\n", "ab   c\n"},
		{"left and over", "abcd\x1b[2Dxy\n", "abxy\n"},
		{"characters deleted", "abcdef\x1b[4D\x1b[2P\n", "abef\n"},
		{"characters inserted", "abef\x1b[2D\x1b[2@cd\n", "abcdef\n"},
		{"characters erased", "abcdef\x1b[4D\x1b[2X\n", "ab  ef\n"},
		{"saved and restored", "ab\x1b7cd\x1b8xy\n", "abxy\n"},
		{"saved and restored, as others say it", "ab\x1b[scd\x1b[uxy\n", "abxy\n"},
		{"up over what is there", "abc\ndef\x1b[1A\rx\n", "xbc\ndef"},
		{"reverse index", "abc\n\x1bM\rx\n", "xbc\n"},
		{"an erasure broken off by another", "abc\x1b[3\x1b[2Kx\n", "   x\n"},
		{"a wrapped line the way terminals do it", "abcde \rf\n", "fbcde\n"},
		{"UTF-8 written over", "häfen\rh\n", "häfen\n"},
		{"UTF-8 with a backspace", "hä\bafen\n", "hafen\n"},
		{"a byte of Latin-1 stays", "h\xe4fen\r\n", "h\xe4fen\n"},
		{"a byte of Latin-1 written over", "h\xe4x\bfen\n", "h\xe4fen\n"},
		{"tabs stay", "a\tb\r\n", "a\tb\n"},
		{"a form feed stays", "a\r\n\fb\r\n", "a\n\fb\n"},
		{"returns before and behind newlines", "a\n\rb\r\n\rc\n", "a\nb\nc\n"},
		{"blanks typed and taken back", "show \b \b lane\n", "show lane\n"},
		{"nothing but a return", "\r\r\n", "\n"},
		{"a prompt redrawn", "r1> \x1b[2K\rr1> ", "r1> "},
		{"a prompt in colours", "\x1b[1;32mr1\x1b[0m\x1b[34m> \x1b[0m", "r1> "},
		{"a status line drawn below and erased", "a\r\nb\x1b7\r\nstatus\x1b[2K\x1b8\r\nc\n", "a\nb\nc\n"},
		{"a move of thousands of columns does no harm", "a\x1b[99999999999999999999Cb\n", "a b\n"},
	} {
		if got := Terminal(c.in); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestTerminalLong: what scrolls out of the cursor's reach is kept as it was, and costs little.
func TestTerminalLong(t *testing.T) {
	var in, want strings.Builder
	for i := range 50000 {
		fmt.Fprintf(&in, "line %d\r\n", i)
		fmt.Fprintf(&want, "line %d\n", i)
		if i%24 == 23 {
			in.WriteString("\x1b[7m--more--\x1b[m\r\x1b[K")
		}
	}
	if got := Terminal(in.String()); got != want.String() {
		t.Error("a long text is not what was sent")
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
