package link

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/text"
)

// mostAhead is how many bytes are typed ahead at once: what devices keep for their
// line editor is small.
const mostAhead = 2000

// Ahead is how many of these lines may be typed before the first is answered; at
// least one.
func (s *Session) Ahead(lines []string) (n int) {
	t, ok := s.sp.(*typist)
	if !ok || t.silent {
		return 1
	}
	for bytes := 0; n < len(lines) && n < s.d.Converse.Ahead; n++ {
		if bytes += len(lines[n]) + 1; bytes > mostAhead {
			break
		}
	}
	return max(n, 1)
}

// SendLines types lines ahead: all at once, and then holds each to its echo and its
// answer. It returns how many were taken before the first that was refused. A *Refused
// error says how many of those behind it the device took all the same.
func (s *Session) SendLines(lines []Change) (taken int, err error) {
	t, ok := s.sp.(*typist)
	if !ok || len(lines) == 1 {
		if err := s.Send(lines[0]); err != nil {
			return 0, err
		}
		return 1, nil
	}
	return t.sendAhead(lines)
}

func (s *terminal) sendAhead(changes []Change) (taken int, err error) {
	lines := make([]string, len(changes))
	var typed strings.Builder
	for i, c := range changes {
		lines[i] = c.Lines[0]
		typed.WriteString(s.keys(lines[i]) + "\r")
		if c.Hostname != "" && !slices.Contains(s.hosts, c.Hostname) {
			s.hosts, s.prompts = append(s.hosts, c.Hostname), nil
		}
	}
	if err := s.guard(); err != nil {
		return 0, err
	}
	s.buf, s.paged, s.echoes = s.buf[:0], 0, 1
	if _, err := io.WriteString(s.st, typed.String()); err != nil {
		return 0, ErrCut
	}
	at, refused, behind := 0, (*Refused)(nil), 0
	for i, line := range lines {
		next := ""
		if i+1 < len(lines) {
			next = lines[i+1]
		}
		out, err := s.answerTo(&at, line, next, i == 0)
		if err != nil {
			if refused != nil {
				return taken, refused
			}
			return taken, err
		}
		err = s.accepts(line, out)
		var r *Refused
		switch {
		case err == nil && refused == nil:
			taken++
		case err == nil:
			behind++
		case refused != nil: // it follows from the first
		case errors.As(err, &r):
			refused = r
		default:
			return taken, err
		}
	}
	if refused == nil {
		return taken, nil
	}
	if behind > 0 {
		refused.Words += fmt.Sprintf("; %s typed ahead behind it, and taken", core.Count(behind, "line was", "lines were"))
	}
	return taken, refused
}

// answerTo reads what a line is answered with, up to the prompt and the echo of the
// next, or for the last up to the prompt. at is where in the buffer it begins; with
// first, its own echo stands there.
func (s *terminal) answerTo(at *int, line, next string, first bool) (string, error) {
	prompt := s.prompt(s.mode)
	for wait := true; ; wait = false {
		from := *at
		if first { // behind its echo
			if nl := bytes.IndexByte(s.buf, '\n'); nl >= 0 {
				*at, from, first = nl+1, nl+1, false
			}
		}
		for from := from; !first && next != ""; {
			nl := bytes.IndexByte(s.buf[from:], '\n')
			if nl < 0 {
				break
			}
			shown := strings.TrimSuffix(text.Terminal(string(s.buf[from:from+nl+1])), "\n")
			for _, echo := range []string{next, s.keys(next)} {
				if before, ok := strings.CutSuffix(shown, echo); ok && prompt.MatchString(before) {
					out := text.Terminal(string(s.buf[*at:from]))
					*at = from + nl + 1
					return out, nil
				}
			}
			from += nl + 1
		}
		if !first && next == "" && prompt.MatchString(s.tailFrom(*at)) {
			out := text.Terminal(string(s.buf[*at:]))
			return out[:strings.LastIndexByte(out, '\n')+1], nil
		}
		if err := s.more(wait, "waiting for the answer to a line typed ahead"); err != nil {
			return "", s.instead(err)
		}
	}
}
