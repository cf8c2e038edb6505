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
	run  *run           // where no text is known: kinds of letters that it has in a row; nil: nor those
}

// longest is how long a pattern may be.
const longest = 1000

// mostSteps is how much an expression may compile to: what each letter of each line is held to.
const mostSteps = 1000

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
		if prog, err := syntax.Compile(tree.Simplify()); err == nil && len(prog.Inst) > mostSteps {
			return nil, fmt.Errorf("the expression compiles to %d steps, and %d at most are taken: repeat less", len(prog.Inst), mostSteps)
		}
		p.must, p.run = must(tree.Simplify())
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
// MayBeIn tells whether any line of a text could match, as fast as that can be told.
func (q Query) MayBeIn(src string) bool {
	p := q.Line
	if p == nil {
		p = q.In
	}
	switch {
	case p == nil:
		return true
	case p.must != "":
		return strings.Contains(src, p.must)
	}
	return p.run == nil || p.run.in([]byte(src)) >= 0
}

// Match tells whether a line has it.
func (p *Pattern) Match(line []byte) bool {
	if p.re == nil {
		return bytes.Contains(line, []byte(p.must))
	}
	return p.re.Match(line)
}
