// Package grammar turns configuration text into a tree and back. What the
// lines mean is not known here; see package rules.
package grammar

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"magpie/internal/core/text"
)

// Grammar reads configuration text of one form. The error, if any, is an
// *Error.
type Grammar interface {
	Parse(src string) (*Node, error)
}

// Node is one line with what hangs below it. The root has no text.
type Node struct {
	Text string   // the line without its indentation, as it is written
	Col  int      // where Text begins in its line, in bytes
	Line int      // where it stands in the source, from 1; 0 if it has none
	Last int      // where it ends when that is another line: a closing mark; else 0
	Body []string // delimited text after the line, verbatim, closing line included
	Kids []*Node

	// Unread is why the grammar cannot read the line; empty where it can. Such a line
	// is kept as it stands and means nothing but itself.
	Unread string

	// Space is the namespace of a document's element; Attrs how many attributes it has: each is two
	// words at the end of Text, @name and its value. A namespace of an attribute stands behind its
	// name in braces.
	Space string
	Attrs int

	// Ident is how many of the words tell the node from its siblings, where the
	// form itself says so; 0 where it does not.
	Ident int
	// Keys are the leaves whose values the words behind the first are, of an entry of a
	// document's list.
	Keys []string
	// Spans tells where each word stands, where that is not on Line as written.
	Spans []Span
	// Also are further lines that say something of the node: where a mark stands on a line of its own,
	// or a list begins and ends.
	Also []int
	// Pieces are the lines that Text was put together of, where it goes on over several.
	Pieces []Piece
}

// Piece is a line, or what of it belongs to a node's text.
type Piece struct {
	Start, End int // where it stands in Text
	Line, Col  int // and in the source
}

// Places are where a stretch of the node's text stands in the source, where that follows from Col and
// Pieces.
func (n *Node) Places(start, end int) (out []Span) {
	if n.Pieces == nil {
		return []Span{{n.Line, n.Col + start, n.Col + end}}
	}
	for _, p := range n.Pieces {
		if from, to := max(start, p.Start), min(end, p.End); from < to {
			out = append(out, Span{p.Line, p.Col + from - p.Start, p.Col + to - p.Start})
		}
	}
	return out
}

// Span is a place in the source: a line from 1 and bytes in it. The zero Span
// is no place.
type Span struct{ Line, Start, End int }

// Delimited is text over several lines that is not configuration, like a
// banner: a line that opens it and a line that closes it.
type Delimited struct {
	Opens, Closes *regexp.Regexp
	Must          string // what a line that opens one has in it; empty: nothing is known
	// Chosen is the pattern of the closing line where what Opens captured stands in it: {name}
	// for a group's match. Closes is nil then.
	Chosen string
}

// closes returns the pattern that closes a text which a line opens, and where in the line what
// opens it ends.
func (d Delimited) closes(line string) (*regexp.Regexp, int) {
	m := d.Opens.FindStringSubmatchIndex(line)
	if d.Chosen == "" {
		return d.Closes, m[1]
	}
	pattern := d.Chosen
	for i, name := range d.Opens.SubexpNames() {
		if name != "" && m[2*i] >= 0 {
			pattern = strings.ReplaceAll(pattern, "{"+name+"}", regexp.QuoteMeta(line[m[2*i]:m[2*i+1]]))
		}
	}
	re, err := regexp.Compile("(?m)" + pattern)
	if err != nil {
		return regexp.MustCompile(`^\b$`), m[1] // matches nothing; checked when the dialect was loaded
	}
	return re, m[1]
}

// Blocks is the grammar of configurations of lines whose blocks are told by
// indentation, by marks that open and close them, or not at all.
type Blocks struct {
	Flat      bool     // there are no blocks: one setting a line
	Marks     *Marks   // what opens and closes a block; nil: indentation does
	Indent    int      // columns for one level when printing
	Comments  []string // what a comment line starts with
	Trailing  bool     // a comment may stand behind a line too, after a blank
	Quotes    Quotes   // in which there is no comment
	Delimited []Delimited
	Continues string         // what stands at the end of a line that goes on on the next; empty: none does
	Header    *regexp.Regexp // a line that opens a block which goes on to the next such line; nil: none
	Closer    *regexp.Regexp // with indentation: a line by which the device itself closes a block; nil: none
}

// Marks tells blocks by braces or by a closing word.
type Marks struct {
	Opens  *regexp.Regexp // a line that opens a block; its first group, if it has one, is the head
	Closes *regexp.Regexp // a line that closes the innermost block
	Open   string         // how an opening line is printed; {head} stands for the head
	Close  string         // how a closing line is printed
	End    string         // what ends a line that opens nothing, like ";"; may be empty
}

// Error says where text is not a configuration of the grammar.
type Error struct {
	Line int
	Msg  string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Msg) }

// Parse reads src. What it cannot read costs only that stretch: its lines are kept as
// they are, each with the reason. There is no error.
func (g *Blocks) Parse(src string) (*Node, error) {
	if g.Flat || g.Marks != nil || g.Header != nil {
		return g.marked(src)
	}
	root := &Node{}
	type level struct {
		indent int
		node   *Node
	}
	open := []level{{-1, root}}
	lines := text.Lines(src)
	for i := 0; i < len(lines); i++ {
		bare := strings.TrimLeft(lines[i], " \t")
		if strings.TrimSpace(bare) == "" || g.IsComment(bare) {
			continue
		}
		indent, col := columns(lines[i]), len(lines[i])-len(bare)
		bare = g.uncommented(bare)
		for indent < open[len(open)-1].indent {
			open = open[:len(open)-1]
		}
		var pieces []Piece
		first := i
		bare, pieces, i = g.continued(bare, lines, i, col)
		if g.Closer != nil && len(open) > 1 && g.Closer.MatchString(strings.TrimRight(bare, " \t")) {
			// It stands as deep as the block's head, or as its lines.
			at := open[len(open)-1]
			if at.indent == indent && len(at.node.Kids) == 0 && len(open) > 2 {
				at = open[len(open)-2]
			}
			at.node.Last = i + 1
			for open[len(open)-1].node != at.node {
				open = open[:len(open)-1]
			}
			open = open[:len(open)-1]
			continue
		}
		if indent == open[len(open)-1].indent {
			open = open[:len(open)-1]
		}
		parent := open[len(open)-1]
		n := &Node{Text: bare, Line: first + 1, Col: col, Pieces: pieces}
		if pieces != nil {
			n.Last = i + 1
		}
		parent.node.Kids = append(parent.node.Kids, n)
		if want := depthOf(parent.node, n, lines); want >= 0 && want != indent {
			n.Unread = fmt.Sprintf("indented by %d, between its neighbours' depths (%d was expected)", indent, want)
		} else if len(parent.node.Kids) == 1 && len(parent.node.Body) > 0 {
			n.Unread = "indented below a delimited text"
		}
		if n.Unread != "" { // and so is what stands deeper
			for i+1 < len(lines) && strings.TrimSpace(lines[i+1]) != "" && columns(lines[i+1]) > indent {
				i++
				deeper := strings.TrimLeft(lines[i], " \t")
				parent.node.Kids = append(parent.node.Kids, &Node{Text: deeper, Line: i + 1, Col: len(lines[i]) - len(deeper), Unread: "it stands below a line that cannot be read"})
			}
			continue
		}
		open = append(open, level{indent, n})
		i = g.body(n, lines, i)
	}
	return root, nil
}

// continued puts a line together with those that it goes on on. bare is its text, which begins at
// col. It returns the whole text, the pieces, nil where there is one only, and the last line's index.
func (g *Blocks) continued(bare string, lines []string, i, col int) (string, []Piece, int) {
	goesOn := func(l string) bool {
		return g.Continues != "" && strings.HasSuffix(strings.TrimRight(l, " \t"), g.Continues)
	}
	cut := func(l string) string { return strings.TrimSuffix(strings.TrimRight(l, " \t"), g.Continues) }
	if !goesOn(bare) || i+1 >= len(lines) {
		return bare, nil, i
	}
	out := cut(bare)
	pieces := []Piece{{0, len(out), i + 1, col}}
	for more := true; more && i+1 < len(lines); {
		i++
		l := strings.TrimLeft(lines[i], " \t")
		at := len(lines[i]) - len(l)
		if more = goesOn(l); more {
			l = cut(l)
		}
		pieces = append(pieces, Piece{len(out), len(out) + len(l), i + 1, at})
		out += l
	}
	return out, pieces, i
}

// columns is how wide a line's indentation is: a tab goes on to the next multiple of eight.
func columns(line string) (n int) {
	for i := range len(line) {
		switch line[i] {
		case ' ':
			n++
		case '\t':
			n += 8 - n%8
		default:
			return n
		}
	}
	return n
}

// depthOf is how deep the first line of a block stands that could be read, besides n;
// -1 if there is none.
func depthOf(block, n *Node, lines []string) int {
	for _, k := range block.Kids {
		if k != n && k.Unread == "" && k.Line > 0 {
			return columns(lines[k.Line-1])
		}
	}
	return -1
}

// body takes the delimited text that follows a line, if one does, and returns
// the index of the last line taken. One that is never closed cannot be read.
func (g *Blocks) body(n *Node, lines []string, i int) int {
	head := strings.TrimRight(n.Text, " \t")
	for _, d := range g.Delimited {
		if !strings.Contains(head, d.Must) || !d.Opens.MatchString(head) {
			continue
		}
		closes, end := d.closes(head)
		if rest := head[end:]; rest != "" && closes.MatchString(rest) {
			return i // all of it stands on one line
		}
		for i++; i < len(lines); i++ {
			n.Body = append(n.Body, lines[i])
			if closes.MatchString(lines[i]) {
				return i
			}
		}
		n.Unread = fmt.Sprintf("%q is never closed", n.Text)
		return i
	}
	return i
}

// uncommented is a line without the comment that may stand behind it.
func (g *Blocks) uncommented(bare string) string {
	if !g.Trailing {
		return bare
	}
	for _, w := range Words(bare, g.Quotes) {
		if w.Start > 0 && g.IsComment(w.Text) {
			return strings.TrimRight(bare[:w.Start], " \t")
		}
	}
	return bare
}

// comment cuts a comment off that stands behind the mark which ends a line.
func (g *Blocks) comment(bare string) string {
	for _, c := range g.Comments {
		for at := strings.Index(bare, c); at > 0; {
			if before := strings.TrimRight(bare[:at], " \t"); strings.HasSuffix(before, g.Marks.End) || g.Marks.Closes.MatchString(before) || g.Marks.Opens.MatchString(before) {
				return before
			}
			next := strings.Index(bare[at+1:], c)
			if next < 0 {
				break
			}
			at += 1 + next
		}
	}
	return bare
}

// marked reads text whose blocks are told by marks, or that has none.
func (g *Blocks) marked(src string) (*Node, error) {
	root := &Node{}
	open := []*Node{root}
	lines := text.Lines(src)
	for i := 0; i < len(lines); i++ {
		bare := strings.TrimSpace(lines[i])
		if bare == "" || g.IsComment(bare) {
			continue
		}
		bare = g.uncommented(bare)
		top := open[len(open)-1]
		n := &Node{Text: g.uncommented(strings.TrimLeft(lines[i], " \t")), Line: i + 1}
		n.Col = len(lines[i]) - len(strings.TrimLeft(lines[i], " \t"))
		if n.Text, n.Pieces, i = g.continued(n.Text, lines, i, n.Col); n.Pieces != nil {
			n.Last, bare = i+1, strings.TrimSpace(n.Text)
		}
		if g.Header != nil && g.Header.MatchString(bare) {
			open = append(open[:1], n)
			root.Kids = append(root.Kids, n)
			continue
		}
		if m := g.Marks; m != nil {
			if m.End != "" && !m.Closes.MatchString(bare) && !strings.HasSuffix(bare, m.End) {
				bare = g.comment(bare)
				n.Text = bare
			}
			head := m.head(bare)
			if head == "" && i+1 < len(lines) && !m.Closes.MatchString(bare) && (m.End == "" || !strings.HasSuffix(bare, m.End)) {
				// The mark that opens it may stand on a line of its own.
				if mark := g.uncommented(strings.TrimSpace(lines[i+1])); mark != "" && m.head(mark) == "" && !strings.ContainsAny(mark, " \t") && m.head(bare+" "+mark) != "" && !m.Closes.MatchString(mark) {
					head = m.head(bare + " " + mark)
					i++
					n.Also = append(n.Also, i+1)
				}
			}
			// A block may be closed and the next one opened on one line.
			if rest, ok := strings.CutPrefix(bare, m.Close); ok && len(open) > 1 && m.Close != "" && !m.Closes.MatchString(bare) {
				apart := rest != strings.TrimSpace(rest) || !unicode.IsLetter(rune(m.Close[len(m.Close)-1]))
				if rest = strings.TrimSpace(rest); apart && rest != "" && m.head(rest) != "" {
					top.Last, open = n.Line, open[:len(open)-1]
					top, head = open[len(open)-1], m.head(rest)
				}
			}
			switch {
			case m.Closes.MatchString(bare) && len(open) == 1:
				n.Unread = fmt.Sprintf("%q closes a block, and none is open", bare)
				top.Kids = append(top.Kids, n)
				continue
			case m.Closes.MatchString(bare):
				top.Last, open = i+1, open[:len(open)-1]
				continue
			case head != "":
				n.Text = head
				n.Col = max(strings.LastIndex(lines[n.Line-1], head), 0)
				top.Kids = append(top.Kids, n)
				open = append(open, n)
				continue
			}
			if m.End != "" {
				cut, ok := strings.CutSuffix(bare, m.End)
				if !ok {
					n.Unread = fmt.Sprintf("neither opens a block nor ends in %q", m.End)
				} else {
					n.Text = strings.TrimSpace(cut)
				}
			}
		}
		top.Kids = append(top.Kids, n)
		if n.Unread == "" {
			i = g.body(n, lines, i)
		}
	}
	for _, n := range open[1:] {
		if g.Header == nil || !g.Header.MatchString(strings.TrimSpace(n.Text)) {
			n.Unread = fmt.Sprintf("the block %q is never closed", n.Text)
		}
	}
	return root, nil
}

// head is what a line that opens a block begins with; empty for a line that opens none.
func (m *Marks) head(line string) string {
	found := m.Opens.FindStringSubmatch(line)
	switch {
	case found == nil:
		return ""
	case len(found) > 1:
		return strings.TrimSpace(found[1])
	}
	return line
}

// Unread lists the lines below a node that could not be read, in their order.
func Unread(n *Node) (out []*Node) {
	for _, k := range n.Kids {
		if k.Unread != "" {
			out = append(out, k)
		}
		out = append(out, Unread(k)...)
	}
	return out
}

// IsComment tells whether a line, without its indentation, is a comment.
func (g *Blocks) IsComment(bare string) bool { return comment(g.Comments, bare) }

// A comment that begins with a word begins with all of it: "end" is not in "endpoint".
func wordEnds(s string) bool {
	r, _ := utf8.DecodeLastRuneInString(s)
	return unicode.IsLetter(r) || unicode.IsDigit(r)
}

func wordBegins(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return s != "" && (unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_')
}

// Print writes the tree below root as text.
func (g *Blocks) Print(root *Node) string {
	var b strings.Builder
	var walk func(depth int, n *Node)
	walk = func(depth int, n *Node) {
		for _, k := range n.Kids {
			pad := strings.Repeat(" ", depth*g.Indent)
			line, closed := k.Text, false
			if m := g.Marks; m != nil {
				// A line with nothing below it opened a block only if, printed as a
				// head, it would be read as one and as a plain line it would not.
				head := strings.ReplaceAll(m.Open, "{head}", k.Text)
				if len(k.Kids) > 0 || k.Last > 0 || m.Open == "{head}" && m.Opens.MatchString(k.Text) {
					line, closed = head, true
				} else if k.Unread == "" {
					line += m.End
				}
			}
			b.WriteString(pad + line + "\n")
			for _, l := range k.Body {
				b.WriteString(l)
				b.WriteByte('\n')
			}
			walk(depth+1, k)
			if closed {
				b.WriteString(pad + g.Marks.Close + "\n")
			}
		}
	}
	walk(0, root)
	return b.String()
}

// Word is a word of a line and where it stands there, in bytes.
type Word struct {
	Text       string
	Start, End int
	assigned   bool // it is the name of an option
}

// Quotes are how texts with blanks are quoted.
type Quotes struct {
	Pairs  string // pairs of quotes, like `""<>`; empty means double quotes
	Escape byte   // in quotes, takes the next character's meaning away; 0: nothing does
	// Assign is the sign between a name and its value, like "=": the first word of a line is cut at
	// it into two, and so is each further one, whose name is then written @name: an option, which is
	// found by its name wherever it stands. 0: there is none.
	Assign byte
}

// Options are how many of the words at the end are names and values of options.
func Options(words []Word) (n int) {
	for n+1 < len(words) && strings.HasPrefix(words[len(words)-n-2].Text, "@") && words[len(words)-n-2].End < words[len(words)-n-1].Start && words[len(words)-n-2].assigned {
		n += 2
	}
	return n
}

// Words cuts a line at blanks. A text between quotes is one word, quotes
// included.
func Words(line string, q Quotes) []Word {
	quotes := q.Pairs
	if quotes == "" {
		quotes = `""`
	}
	out := make([]Word, 0, 4)
	for i := 0; i < len(line); {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		end := strings.IndexAny(line[i:], " \t")
		if q.Assign != 0 {
			if eq := strings.IndexByte(line[i:], q.Assign); eq > 0 && (end < 0 || eq < end) && eq+1 < len(line)-i && (end < 0 || eq+1 < end) && strings.IndexByte(quotes, line[i]) < 0 {
				name := Word{Text: line[i : i+eq], Start: i, End: i + eq}
				if len(out) > 0 {
					name.Text, name.assigned = "@"+name.Text, true
				}
				out = append(out, name)
				i += eq + 1
				end = strings.IndexAny(line[i:], " \t")
			}
		}
		for p := 0; p+1 < len(quotes); p += 2 {
			if line[i] != quotes[p] {
				continue
			}
			if at := endQuote(line[i+1:], quotes[p+1], q.Escape); at >= 0 {
				end = at + 2
			}
			break
		}
		if end < 0 {
			end = len(line) - i
		}
		out = append(out, Word{Text: line[i : i+end], Start: i, End: i + end})
		i += end
	}
	return out
}

// endQuote is where a closing quote stands; -1: nowhere.
func endQuote(s string, quote, escape byte) int {
	if escape == 0 {
		return strings.IndexByte(s, quote)
	}
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case escape:
			i++
		case quote:
			return i
		}
	}
	return -1
}

// Enclosing maps every source line (from 1) to the lines of the blocks around
// it, outermost first, joined by " / ". Lines at the top have none.
func Enclosing(root *Node, lines int) []string {
	out := make([]string, lines+1)
	var walk func(path string, n *Node)
	walk = func(path string, n *Node) {
		for _, k := range n.Kids {
			if k.Line > 0 && k.Line <= lines {
				out[k.Line] = path
			}
			if k.Last > 0 && k.Last <= lines {
				out[k.Last] = path
			}
			inner := k.Text
			if path != "" {
				inner = path + " / " + k.Text
			}
			for i := range k.Body {
				if l := k.Line + 1 + i; l <= lines {
					out[l] = inner
				}
			}
			walk(inner, k)
		}
	}
	walk("", root)
	return out
}

// Folds lists the blocks that stand on more than one line, as their first and last
// lines (from 1), outer ones before those inside them.
func Folds(root *Node) (out [][2]int) {
	var walk func(n *Node) int
	walk = func(n *Node) int {
		at, end := len(out), max(n.Line+len(n.Body), n.Last)
		out = append(out, [2]int{n.Line, 0})
		for _, k := range n.Kids {
			end = max(end, walk(k))
		}
		if out[at][1] = end; n.Line == 0 || end <= n.Line {
			out = append(out[:at], out[at+1:]...)
		}
		return end
	}
	walk(root)
	return out
}

// CommentLines lists the lines (from 1) of a text that are comments, where the form has
// comments of whole lines: what a delimited text holds is none.
func (g *Blocks) CommentLines(src string, root *Node) (out []int) {
	inside := map[int]bool{}
	var walk func(n *Node)
	walk = func(n *Node) {
		for i := range n.Body {
			inside[n.Line+1+i] = true
		}
		for _, k := range n.Kids {
			walk(k)
		}
	}
	walk(root)
	for i, l := range text.Lines(src) {
		if bare := strings.TrimSpace(l); bare != "" && !inside[i+1] && g.IsComment(bare) {
			out = append(out, i+1)
		}
	}
	return out
}
