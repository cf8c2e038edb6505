package link

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"magpie/internal/core/learn"
	"magpie/internal/dialect"
)

// Called is the name that the device gives itself in its prompt; empty where there is
// none.
func (s *Session) Called() string {
	if t, ok := s.sp.(*typist); ok && len(t.hosts) > 0 {
		return t.hosts[0]
	}
	return ""
}

// Unit is a session's device as one that things are tried out at: part is what it
// shows, host the name it gives itself.
func (s *Session) Unit(part, host string) learn.Unit {
	return &unit{s: s, part: part, host: host, doc: s.d.Doc(part)}
}

type unit struct {
	s          *Session
	part, host string
	doc        *dialect.Doc
	names      []string // how the lines begin that give the device its name
}

// later is how long is waited to see what changes by itself.
const later = 1100 * time.Millisecond

func (u *unit) Shows() ([]learn.Entry, error) {
	p, err := u.s.Fetch(u.part)
	if err != nil {
		return nil, err
	}
	root, err := u.doc.Tree(p.Text)
	if err != nil {
		return nil, err
	}
	all := learn.Flatten(root)
	for _, e := range all {
		if at := strings.LastIndexByte(e.Line, ' '); at > 0 && u.host != "" && e.Line[at+1:] == u.host && !slices.Contains(u.names, e.Line[:at+1]) {
			u.names = append(u.names, e.Line[:at+1])
		}
	}
	return all, nil
}

func (u *unit) Later() ([]learn.Entry, error) {
	select {
	case <-time.After(later):
	case <-u.s.ctx.Done():
		return nil, context.Cause(u.s.ctx)
	}
	return u.Shows()
}

func (u *unit) Types(lines []string) (int, string, error) {
	if err := u.s.Begin(); err != nil {
		return -1, "", err
	}
	for i := 0; i < len(lines); i++ {
		c := Change{Kind: "line", Lines: []string{lines[i]}}
		for _, d := range u.s.d.Grammar.Delimited {
			if !u.s.d.Pattern(d.Opens).MatchString(lines[i]) {
				continue
			}
			for i+1 < len(lines) && !u.s.d.Pattern(d.Closes).MatchString(lines[i]) {
				i++
				c.Lines = append(c.Lines, lines[i])
			}
		}
		for _, begins := range u.names {
			if name, ok := strings.CutPrefix(c.Lines[0], begins); ok && !strings.Contains(name, " ") {
				c.Hostname = name
			}
		}
		err := u.s.Send(c)
		var r *Refused
		if errors.As(err, &r) {
			return i, r.Words, u.s.Finish()
		}
		if err != nil {
			return i, "", err
		}
	}
	return -1, "", u.s.Finish()
}
