package dialect

import (
	"fmt"
	"regexp/syntax"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// The bounds of a dialect file. The largest that ships has a tenth of each.
const (
	mostSource   = 64 << 10 // bytes
	mostLine     = 4000     // bytes of a line
	mostTokens   = 12_000   // of a file
	mostOnALine  = 200      // tokens of a line
	mostDepth    = 24       // collections within each other
	mostPattern  = 1000     // characters of a pattern
	mostCompiled = 4000     // instructions that a pattern compiles to
	mostAll      = 60_000   // instructions that all of them do, in all variants
	mostVariants = 24
	mostProblems = 100 // that are told
)

// within tells whether a file is small and plain enough to be looked at any
// closer; reading YAML costs more than its length lets one think. What is told
// stands at a line and column.
func (l *loader) within(source []byte) Problems {
	at := func(line, column int, format string, args ...any) Problems {
		return Problems{{File: l.name, Line: line, Column: column, Text: fmt.Sprintf(format, args...)}}
	}
	if len(source) > mostSource {
		return at(1, 1, "a dialect file has at most %d KiB; this has %d", mostSource>>10, (len(source)+1023)>>10)
	}
	for i, line := range strings.Split(string(source), "\n") {
		if len(line) > mostLine {
			return at(i+1, mostLine, "a line has at most %d characters; this has %d", mostLine, len(line))
		}
		// Before anything reads them: each of these nests, and nesting is what costs.
		if n := strings.Count(line, "[") + strings.Count(line, "{"); n > mostOnALine {
			return at(i+1, 1, "the line opens %d lists or mappings; at most %d can stand on one", n, mostOnALine)
		}
	}
	flow, line, onLine := 0, 0, 0
	tokens := lexer.Tokenize(string(source))
	if len(tokens) > mostTokens {
		return at(1, 1, "the file has %d words and signs, and at most %d are read", len(tokens), mostTokens)
	}
	var before *token.Token
	for _, t := range tokens {
		p := t.Position
		if p.Line != line {
			line, onLine = p.Line, 0
		}
		if onLine++; onLine > mostOnALine {
			return at(p.Line, p.Column, "more than %d words and signs stand on one line", mostOnALine)
		}
		switch t.Type {
		case token.AnchorType, token.AliasType, token.MergeKeyType:
			return at(p.Line, p.Column, "anchors, aliases and merge keys are not read: write what is meant in full; a text that begins with %q takes quotes", t.Value)
		case token.TagType, token.DirectiveType, token.MappingKeyType:
			return at(p.Line, p.Column, "tags, directives and ? keys are not read; a text that begins with %q takes quotes", t.Value)
		case token.SequenceStartType, token.MappingStartType:
			if flow++; flow > mostDepth {
				return at(p.Line, p.Column, "more than %d lists and mappings stand within each other", mostDepth)
			}
		case token.SequenceEndType, token.MappingEndType:
			flow--
		case token.StringType, token.SingleQuoteType, token.DoubleQuoteType:
			if before != nil && before.Type == t.Type && before.Type != token.StringType {
				return at(p.Line, p.Column, "two quoted texts follow each other without a sign between them")
			}
		}
		before = t
	}
	return nil
}

// plain tells whether what was read is not nested too deep, and its patterns do
// not compile to too much.
func (l *loader) plain(root ast.Node) Problems {
	var out Problems
	total, variants := 0, 1
	var walk func(n ast.Node, depth int)
	walk = func(n ast.Node, depth int) {
		if len(out) > 0 || n == nil {
			return
		}
		at := n.GetToken().Position
		fault := func(format string, args ...any) {
			out = Problems{{File: l.name, Line: at.Line, Column: at.Column, Text: fmt.Sprintf(format, args...)}}
		}
		if depth > mostDepth {
			fault("more than %d lists and mappings stand within each other", mostDepth)
			return
		}
		switch n := n.(type) {
		case *ast.MappingNode:
			for _, v := range n.Values {
				walk(v, depth+1)
			}
		case *ast.MappingValueNode:
			if s, ok := n.Value.(*ast.SequenceNode); ok && depth <= 1 && n.Key.String() == "variants" {
				if variants = len(s.Values) + 1; variants > mostVariants {
					fault("a dialect has at most %d variants; this has %d", mostVariants, variants-1)
				}
			}
			walk(n.Value, depth+1)
		case *ast.SequenceNode:
			for _, v := range n.Values {
				walk(v, depth+1)
			}
		case *ast.LiteralNode:
			walk(n.Value, depth)
		case *ast.StringNode:
			size := instructions(n.Value)
			if total += size; size > mostCompiled {
				fault("this pattern compiles to some %d steps, and at most %d are taken: repeat less", size, mostCompiled)
			}
		}
	}
	walk(root, 0)
	if len(out) == 0 && total*variants > mostAll {
		out = Problems{{File: l.name, Line: 1, Column: 1, Text: fmt.Sprintf("the patterns of the file and its variants compile to some %d steps, and at most %d are taken", total*variants, mostAll)}}
	}
	return out
}

// instructions is how much a text compiles to, if it is a pattern: without
// compiling it. What is none counts by its length.
func instructions(s string) int {
	if len(s) > mostPattern {
		return len(s)
	}
	re, err := syntax.Parse(strings.NewReplacer("{host}", "x", "{member}", "x").Replace(s), syntax.Perl)
	if err != nil {
		return len(s)
	}
	return weight(re)
}

func weight(re *syntax.Regexp) int {
	n := 1
	switch re.Op {
	case syntax.OpLiteral:
		n = len(re.Rune)
	case syntax.OpCharClass:
		n = 1 + len(re.Rune)/2
	}
	for _, sub := range re.Sub {
		if n += weight(sub); n > 1<<24 {
			return 1 << 24
		}
	}
	if re.Op == syntax.OpRepeat {
		n *= max(re.Max, re.Min, 1)
	}
	return min(n, 1<<24)
}
