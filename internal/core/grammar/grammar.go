// Package grammar turns configuration text into a tree and back. What the
// lines mean is not known here; see package rules.
package grammar

import (
	"fmt"
	"regexp"
	"strings"

	"magpie/internal/core/text"
)

// Node is one line with what hangs below it. The root has no text.
type Node struct {
	Text string   // the line without its indentation
	Line int      // where it stands in the source, from 1; 0 if it has none
	Body []string // delimited text after the line, verbatim, closing line included
	Kids []*Node
}

// Delimited is text over several lines that is not configuration, like a
// banner: a line that opens it and a line that closes it.
type Delimited struct {
	Opens, Closes *regexp.Regexp
}

// Blocks is the grammar of configurations whose blocks are told by
// indentation.
type Blocks struct {
	Indent    int      // columns for one level when printing
	Comments  []string // what a comment line starts with
	Delimited []Delimited
}

// Error says where text is not a configuration of the grammar.
type Error struct {
	Line int
	Msg  string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Msg) }

// Parse reads src. The error, if any, is an *Error.
func (g *Blocks) Parse(src string) (*Node, error) {
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
		for _, d := range g.Delimited {
			if !d.Opens.MatchString(n.Text) {
				continue
			}
			for i++; i < len(lines); i++ {
				n.Body = append(n.Body, lines[i])
				if d.Closes.MatchString(lines[i]) {
					break
				}
			}
			if i == len(lines) {
				return nil, &Error{n.Line, fmt.Sprintf("%q is never closed", n.Text)}
			}
			break
		}
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
			b.WriteString(strings.Repeat(" ", depth*g.Indent))
			b.WriteString(k.Text)
			b.WriteByte('\n')
			for _, l := range k.Body {
				b.WriteString(l)
				b.WriteByte('\n')
			}
			walk(depth+1, k)
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

// Words cuts a line at blanks. A text between double quotes is one word,
// quotes included.
func Words(line string) []Word {
	var out []Word
	for i := 0; i < len(line); {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		end := strings.IndexAny(line[i:], " \t")
		if line[i] == '"' {
			if q := strings.IndexByte(line[i+1:], '"'); q >= 0 {
				end = q + 2
			}
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
