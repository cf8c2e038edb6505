package find

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
)

// Pattern is a text or an expression of RE2 that a line has somewhere.
type Pattern struct {
	re   *regexp.Regexp // nil: it is a text
	must string         // a text that every line which matches has; empty: none is known
}

// longest is how long a pattern may be.
const longest = 1000

// Words is a pattern of a text, as it stands.
func Words(text string) (*Pattern, error) {
	if err := sound(text); err != nil {
		return nil, err
	}
	return &Pattern{must: text}, nil
}

// Regexp is a pattern of an expression, as Go's package regexp reads it (RE2).
func Regexp(expr string) (*Pattern, error) {
	if err := sound(expr); err != nil {
		return nil, err
	}
	re, err := regexp.Compile(expr)
	if err != nil {
		var e *syntax.Error
		if errors.As(err, &e) {
			return nil, fmt.Errorf("the expression cannot be read at %q: %s", e.Expr, e.Code)
		}
		return nil, err
	}
	if re.MatchString("") && strings.Trim(expr, "^$.*()") == "" {
		return nil, errors.New("the expression matches every line; say more")
	}
	p := &Pattern{re: re}
	if tree, err := syntax.Parse(expr, syntax.Perl); err == nil {
		p.must = must(tree.Simplify())
	}
	return p, nil
}

func sound(text string) error {
	switch {
	case strings.TrimSpace(text) == "":
		return errors.New("say what to look for")
	case len(text) > longest:
		return fmt.Errorf("it has %d bytes; %d at most are looked for", len(text), longest)
	case strings.ContainsAny(text, "\n\r"):
		return errors.New("it goes over several lines; lines are looked for one by one")
	}
	return nil
}

// mask is part of what stands where a secret is hidden.
const mask = "‹secret›"

// MayBeIn tells whether any line of a text could match, as fast as that can be told.
func (q Query) MayBeIn(src string) bool {
	p := q.Line
	if p == nil {
		p = q.In
	}
	return p == nil || p.must == "" || strings.Contains(src, p.must) || q.Masked && strings.Contains(mask, p.must)
}

// Match tells whether a line has it.
func (p *Pattern) Match(line []byte) bool {
	if p.re == nil {
		return bytes.Contains(line, []byte(p.must))
	}
	return p.re.Match(line)
}

// must is the longest text that whatever matches has in it.
func must(re *syntax.Regexp) string {
	if re.Flags&syntax.FoldCase != 0 && re.Op == syntax.OpLiteral {
		return ""
	}
	switch re.Op {
	case syntax.OpLiteral:
		return string(re.Rune)
	case syntax.OpCapture, syntax.OpPlus:
		return must(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return must(re.Sub[0])
		}
	case syntax.OpConcat:
		best, run := "", ""
		for _, sub := range re.Sub {
			if sub.Op == syntax.OpLiteral && sub.Flags&syntax.FoldCase == 0 {
				run += string(sub.Rune)
				best = longer(best, run)
				continue
			}
			if run = ""; sub.Op == syntax.OpEmptyMatch {
				continue
			}
			best = longer(best, must(sub))
		}
		return best
	}
	return ""
}

func longer(a, b string) string {
	if len(b) > len(a) {
		return b
	}
	return a
}
