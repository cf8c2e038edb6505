package link

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// patienceForRest is how much longer is waited when a prompt shows but the
// part is not whole: what looked like a prompt may be a line of the part.
const patienceForRest = time.Second

// Identity asks the device who it is.
func (s *Session) Identity() (Identity, error) {
	i := s.d.Identity
	if err := s.Enter(i.Mode); err != nil {
		return Identity{}, err
	}
	out, err := s.Command(i.Command)
	if err != nil {
		return Identity{}, fmt.Errorf("asking who it is: %w", err)
	}
	find := func(pattern string) string {
		if pattern == "" {
			return ""
		}
		re := s.d.Pattern(pattern)
		for _, l := range text.Lines(out) {
			if m := re.FindStringSubmatch(l); m != nil {
				return strings.TrimSpace(m[1])
			}
		}
		return ""
	}
	id := Identity{Host: find(i.Host), Model: find(i.Model), Serial: find(i.Serial), Release: find(i.Release)}
	if id.Serial == "" {
		return id, fmt.Errorf("asking who it is: the answer to %q names no serial number", i.Command)
	}
	return id, nil
}

// Fetch gets one part and proves that it is whole. An *Incomplete error holds
// what came.
func (s *Session) Fetch(name string) (Part, error) {
	p, ok := s.d.Parts[name]
	if !ok {
		return Part{}, fmt.Errorf("dialect %s knows no part %q", s.d.Dialect, name)
	}
	if err := s.Enter(p.Mode); err != nil {
		return Part{}, err
	}
	if err := s.write(p.Command); err != nil {
		return Part{}, err
	}
	for {
		_, err := s.until("reading "+name, s.prompt(s.mode))
		if err != nil {
			return Part{}, &Incomplete{name, why(err), s.came(p.Command), err}
		}
		out := s.output(p.Command)
		if p.Absent != "" && s.d.Pattern(p.Absent).MatchString(strings.TrimSpace(out)) {
			return Part{Absent: true}, nil
		}
		flaw := Check(s.d, p, out)
		if flaw == "" {
			return Part{Text: out, Author: author(s.d, p, out)}, nil
		}
		if first, _, _ := strings.Cut(out, "\n"); first != "" {
			if err := s.refusal(p.Command, first); err != nil {
				return Part{}, err
			}
		}
		err = s.moreWithin(patienceForRest, "")
		var late *TimeoutError
		if errors.As(err, &late) {
			return Part{}, &Incomplete{name, flaw, s.came(p.Command), nil}
		} else if err != nil {
			return Part{}, &Incomplete{name, why(err), s.came(p.Command), err}
		}
	}
}

// most is how much of what cannot be used is kept for a look.
const most = 256 << 10

// came is what the device sent after a command, as far as it is kept.
func (s *Session) came(command string) string {
	out := text.Terminal(string(s.buf[:min(len(s.buf), most)]))
	return strings.TrimPrefix(out, command+"\n")
}

func why(err error) string {
	if errors.Is(err, ErrCut) {
		return "the device closed the connection in the middle"
	}
	return err.Error()
}

// Check tells what keeps text from being the whole part, or "".
func Check(d *dialect.Dialect, p dialect.Part, src string) string {
	lines := text.Lines(src)
	for i, l := range lines {
		if !utf8.ValidString(l) {
			return fmt.Sprintf("line %d holds bytes that are no text", i+1)
		}
		if at := strings.IndexFunc(l, func(r rune) bool { return r < 32 && r != '\t' || r == 127 }); at >= 0 {
			return fmt.Sprintf("line %d holds a control character", i+1)
		}
	}
	first := p.Whole.First
	if len(lines) <= len(first) {
		return fmt.Sprintf("only %d lines came", len(lines))
	}
	for i, pattern := range first {
		if !d.Pattern(pattern).MatchString(lines[i]) {
			return fmt.Sprintf("line %d is not how the part begins", i+1)
		}
	}
	last := d.Pattern(p.Whole.Last)
	m := last.FindStringSubmatch(lines[len(lines)-1])
	if m == nil {
		return "its end mark is missing"
	}
	if i := last.SubexpIndex("lines"); i > 0 {
		if n, _ := strconv.Atoi(m[i]); n != len(lines)-len(first)-1 {
			return fmt.Sprintf("its end mark counts %d lines, %d came", n, len(lines)-len(first)-1)
		}
	}
	for _, pattern := range p.Whole.Has {
		if !has(d.Pattern(pattern), lines) {
			return fmt.Sprintf("no line matches %s, which is always there", pattern)
		}
	}
	return ""
}

func has(re *regexp.Regexp, lines []string) bool {
	for _, l := range lines {
		if re.MatchString(l) {
			return true
		}
	}
	return false
}

func author(d *dialect.Dialect, p dialect.Part, src string) string {
	if p.Author == "" {
		return ""
	}
	re := d.Pattern(p.Author)
	for _, l := range text.Lines(src) {
		if m := re.FindStringSubmatch(l); m != nil {
			return m[1]
		}
	}
	return ""
}
