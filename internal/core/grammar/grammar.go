// Package grammar turns configuration text into a tree and back. What the
// lines mean is not known here; see package rules.
package grammar

import (
	"fmt"
	"regexp"
	"strings"

	"magpie/internal/core/text"
)

// Grammar reads configuration text of one form. The error, if any, is an
// *Error.
type Grammar interface {
	Parse(src string) (*Node, error)
}

// Node is one line with what hangs below it. The root has no text.
type Node struct {
	Text string   // the line without its indentation
	Line int      // where it stands in the source, from 1; 0 if it has none
	Last int      // where it ends when that is another line: a closing mark; else 0
	Body []string // delimited text after the line, verbatim, closing line included
	Kids []*Node

	// Ident is how many of the words tell the node from its siblings, where the
	// form itself says so; 0 where it does not.
	Ident int
	// Spans tells where each word stands, where that is not on Line as written.
	Spans []Span
}

// Span is a place in the source: a line from 1 and bytes in it. The zero Span
// is no place.
type Span struct{ Line, Start, End int }

// Delimited is text over several lines that is not configuration, like a
// banner: a line that opens it and a line that closes it.
type Delimited struct {
	Opens, Closes *regexp.Regexp
}

// Blocks is the grammar of configurations of lines whose blocks are told by
// indentation, by marks that open and close them, or not at all.
type Blocks struct {
	Flat      bool     // there are no blocks: one setting a line
	Marks     *Marks   // what opens and closes a block; nil: indentation does
	Indent    int      // columns for one level when printing
	Comments  []string // what a comment line starts with
	Delimited []Delimited
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

// Parse reads src. The error, if any, is an *Error.
func (g *Blocks) Parse(src string) (*Node, error) {
	if g.Flat || g.Marks != nil {
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
		indent := len(lines[i]) - len(bare)
		for indent < open[len(open)-1].indent {
			open = open[:len(open)-1]
		}
		if indent == open[len(open)-1].indent {
			open = open[:len(open)-1]
		}
		parent := open[len(open)-1]
		if len(parent.node.Kids) > 0 && parent.node.Kids[0].Line > 0 {
			first := lines[parent.node.Kids[0].Line-1]
			if want := len(first) - len(strings.TrimLeft(first, " \t")); want != indent {
				return nil, &Error{i + 1, fmt.Sprintf("indented by %d, between its neighbours' depths (%d was expected)", indent, want)}
			}
		}
		n := &Node{Text: strings.TrimRight(bare, " \t"), Line: i + 1}
		if len(parent.node.Kids) == 0 && len(parent.node.Body) > 0 {
			return nil, &Error{i + 1, "indented below a delimited text"}
		}
		parent.node.Kids = append(parent.node.Kids, n)
		open = append(open, level{indent, n})
		var err error
		if i, err = g.body(n, lines, i); err != nil {
			return nil, err
		}
	}
	return root, nil
}

// body takes the delimited text that follows a line, if one does, and returns
// the index of the last line taken.
func (g *Blocks) body(n *Node, lines []string, i int) (int, error) {
	for _, d := range g.Delimited {
		if !d.Opens.MatchString(n.Text) {
			continue
		}
		for i++; i < len(lines); i++ {
			n.Body = append(n.Body, lines[i])
			if d.Closes.MatchString(lines[i]) {
				return i, nil
			}
		}
		return i, &Error{n.Line, fmt.Sprintf("%q is never closed", n.Text)}
	}
	return i, nil
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
		top := open[len(open)-1]
		n := &Node{Text: bare, Line: i + 1}
		if m := g.Marks; m != nil {
			if m.Closes.MatchString(bare) {
				if len(open) == 1 {
					return nil, &Error{i + 1, fmt.Sprintf("%q closes a block, and none is open", bare)}
				}
				top.Last, open = i+1, open[:len(open)-1]
				continue
			}
			if head := m.Opens.FindStringSubmatch(bare); head != nil {
				if len(head) > 1 {
					n.Text = strings.TrimSpace(head[1])
				}
				top.Kids = append(top.Kids, n)
				open = append(open, n)
				continue
			}
			if m.End != "" {
				cut, ok := strings.CutSuffix(bare, m.End)
				if !ok {
					return nil, &Error{i + 1, fmt.Sprintf("neither opens a block nor ends in %q", m.End)}
				}
				n.Text = strings.TrimSpace(cut)
			}
		}
		top.Kids = append(top.Kids, n)
		var err error
		if i, err = g.body(n, lines, i); err != nil {
			return nil, err
		}
	}
	if n := open[len(open)-1]; n != root {
		return nil, &Error{n.Line, fmt.Sprintf("the block %q is never closed", n.Text)}
	}
	return root, nil
}

// IsComment tells whether a line, without its indentation, is a comment.
func (g *Blocks) IsComment(bare string) bool {
	for _, c := range g.Comments {
		if strings.HasPrefix(bare, c) {
			return true
		}
	}
	return false
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
				} else {
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
}

// Words cuts a line at blanks. A text between quotes is one word, quotes
// included. quotes lists the pairs, like `""<>`; empty means double quotes.
func Words(line, quotes string) []Word {
	if quotes == "" {
		quotes = `""`
	}
	var out []Word
	for i := 0; i < len(line); {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		end := strings.IndexAny(line[i:], " \t")
		for q := 0; q+1 < len(quotes); q += 2 {
			if line[i] != quotes[q] {
				continue
			}
			if at := strings.IndexByte(line[i+1:], quotes[q+1]); at >= 0 {
				end = at + 2
			}
			break
		}
		if end < 0 {
			end = len(line) - i
		}
		out = append(out, Word{line[i : i+end], i, i + end})
		i += end
	}
	return out
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
