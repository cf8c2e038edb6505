package grammar

import (
	"fmt"
	"strings"

	"magpie/internal/core/text"
)

// Braces is the grammar of hierarchies in braces, in which line ends and blanks between words mean
// nothing: statements that end in ";" or hold others between "{" and "}", lists between "[" and "]",
// comments to the end of the line and between "/*" and "*/". A statement becomes a node whose text is
// its words, one blank between them.
type Braces struct {
	Comments []string // what a comment to the end of the line begins with; "#" if none is said
	Quotes   Quotes
}

type brace struct {
	text string
	at   Span
	sign bool   // one of { } ; and not a word
	bad  string // why it cannot be read
}

// Parse reads src. A statement that cannot be read is kept with the reason. There is no error.
func (g Braces) Parse(src string) (*Node, error) {
	root := &Node{}
	open := []*Node{root}
	var words []brace
	statement := func(bad string) *Node {
		n := &Node{Line: words[0].at.Line, Unread: bad}
		parts := make([]string, len(words))
		for i, w := range words {
			parts[i] = w.text
			n.Spans = append(n.Spans, w.at)
			if w.bad != "" {
				n.Unread = w.bad
			}
		}
		n.Text = strings.Join(parts, " ")
		if last := words[len(words)-1].at.Line; last > n.Line {
			n.Last = last
		}
		words = nil
		up := open[len(open)-1]
		up.Kids = append(up.Kids, n)
		return n
	}
	for _, t := range g.tokens(src) {
		switch {
		case !t.sign:
			words = append(words, t)
		case t.text == "{":
			if len(words) == 0 {
				words = []brace{t}
				open = append(open, statement("a block without a name"))
				continue
			}
			open = append(open, statement(""))
		case t.text == "}":
			if len(words) > 0 {
				statement("")
			}
			if len(open) == 1 {
				words = []brace{t}
				statement(`"}" closes a block, and none is open`)
				continue
			}
			open[len(open)-1].Last = t.at.Line
			open = open[:len(open)-1]
		case len(words) > 0:
			statement("")
		}
	}
	if len(words) > 0 {
		statement(`neither opens a block nor ends in ";"`)
	}
	for _, n := range open[1:] {
		n.Unread = fmt.Sprintf("the block %q is never closed", n.Text)
	}
	return root, nil
}

// tokens cuts a text into words and signs.
func (g Braces) tokens(src string) (out []brace) {
	comments := g.Comments
	if comments == nil {
		comments = []string{"#"}
	}
	pairs := g.Quotes.Pairs
	if pairs == "" {
		pairs = `""`
	}
	inside := false // of /* */
	lines := text.Lines(src)
	for n := 0; n < len(lines); n++ {
		l := lines[n]
		for i := 0; i < len(l); {
			rest := l[i:]
			begins := func(s string) bool { return strings.HasPrefix(rest, s) }
			switch {
			case inside:
				end := strings.Index(rest, "*/")
				if end < 0 {
					i = len(l)
					continue
				}
				inside = false
				i += end + 2
			case begins("/*"):
				inside = true
				i += 2
			case l[i] == ' ' || l[i] == '\t' || l[i] == '\r':
				i++
			case comment(comments, rest):
				i = len(l)
			case strings.IndexByte("{};", l[i]) >= 0:
				out = append(out, brace{text: l[i : i+1], at: Span{n + 1, i, i + 1}, sign: true})
				i++
			case l[i] == '[' || l[i] == ']':
				out = append(out, brace{text: l[i : i+1], at: Span{n + 1, i, i + 1}})
				i++
			default:
				end, bad := g.word(rest, pairs)
				out = append(out, brace{text: rest[:end], at: Span{n + 1, i, i + end}, bad: bad})
				i += end
			}
		}
	}
	return out
}

func comment(comments []string, rest string) bool {
	for _, c := range comments {
		if after, is := strings.CutPrefix(rest, c); is && !(wordEnds(c) && wordBegins(after)) {
			return true
		}
	}
	return false
}

// word is how long the word is that a line begins with.
func (g Braces) word(s, pairs string) (end int, bad string) {
	for p := 0; p+1 < len(pairs); p += 2 {
		if s[0] == pairs[p] {
			if at := endQuote(s[1:], pairs[p+1], g.Quotes.Escape); at >= 0 {
				return at + 2, ""
			}
			return len(s), "a quoted text that does not end on its line"
		}
	}
	if end = strings.IndexAny(s, " \t\r{};[]"); end < 0 {
		end = len(s)
	}
	return max(end, 1), ""
}
