package visit

import (
	"context"
	"errors"
	"fmt"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Look fetches one part of a device and keeps nothing of it.
func (s *Service) Look(ctx context.Context, d core.Device, part string) (link.Part, error) {
	j := core.Job{ID: store.NewID(s.Now()), CreatedAt: s.Now()}
	ctx, letGo := s.Hold(ctx, j.ID)
	defer letGo()
	v := s.NewVisit(j, d, core.ByHand, s.Silent())
	err := v.Open(ctx)
	if err == nil {
		defer v.Close()
		sess := v.Session
		if d.Member != "" {
			sess = sess.For(d.Member)
		}
		var p link.Part
		if p, err = sess.Fetch(part); err == nil {
			if p.Absent {
				return p, fmt.Errorf("%s: the device has no such part", part)
			}
			return p, nil
		}
	}
	if errors.Is(err, link.ErrLoginRefused) {
		if e := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return v.NoteFailure(ctx, q, err) }); e != nil {
			err = errors.Join(err, e)
		}
	}
	if a := v.Advice(err); a != "" {
		err = fmt.Errorf("%w; %s", err, a)
	}
	return link.Part{}, err
}

// Tried is what a device that is not registered let us see.
type Tried struct {
	Identity link.Identity
	Parts    []client.TriedPart
	Members  []string // devices it speaks for
	Warnings []string
}

// Try signs in to a device that is not registered, asks who it is, and fetches
// its parts. It is one attempt, and nothing is kept of it. trace, if not nil, is
// told all that is said.
func (s *Service) Try(ctx context.Context, dia *dialect.Dialect, d core.Device, c link.Credential, trace func(link.Exchange)) (out Tried, err error) {
	target, err := s.through(ctx, d)
	if err != nil {
		return out, err
	}
	sess, err := link.Open(ctx, link.Call{Dialect: dia, Target: target, Credential: c, Name: d.Name, Guard: s.Sure, Trace: trace, Inbox: s.inbox(),
		Warn: func(w string) { out.Warnings = append(out.Warnings, w) }})
	if err != nil {
		return out, err
	}
	defer sess.Close()
	if out.Identity, err = sess.Identity(); err != nil {
		return out, err
	}
	dia = sess.Dialect()
	elements, err := sess.Elements()
	if err != nil {
		return out, err
	}
	for _, name := range partNames(dia, elements) {
		p, err := sess.FetchLarge(name, func() link.Basin { return nowhere{} })
		t := client.TriedPart{Name: name, Absent: p.Absent, Bytes: int(p.Size)}
		switch {
		case err != nil:
			t.Trouble = err.Error()
			if errors.Is(err, link.ErrLoginRefused) || ctx.Err() != nil {
				return out, err
			}
		case !dia.Doc(name).Opaque():
			t.Lines = len(text.Lines(p.Text))
			said(dia.Doc(name), p.Text, &t)
		}
		out.Parts = append(out.Parts, t)
	}
	members, err := sess.Members()
	for _, m := range members {
		out.Members = append(out.Members, m.Name)
	}
	return out, err
}

// said tells how much of a text the dialect's rules and grammar reach.
func said(doc *dialect.Doc, src string, t *client.TriedPart) {
	root, top, err := doc.Parse(src)
	if err != nil {
		t.Unread, t.FirstUnread = len(text.Lines(src)), err.Error()
		return
	}
	if u := grammar.Unread(root); len(u) > 0 {
		t.Unread, t.FirstUnread = len(u), fmt.Sprintf("line %d: %s", u[0].Line, u[0].Unread)
	}
	var walk func(it *rules.Item)
	walk = func(it *rules.Item) {
		for _, k := range it.Kids {
			if k.Rule == nil && k.Unread == "" {
				if t.Unruled++; t.Unruled == 1 {
					t.FirstUnruled = k.Path()
				}
			}
			walk(k)
		}
	}
	walk(top)
	if c := top.Clashes(); len(c) > 0 {
		t.Clashes, t.FirstClash = len(c), fmt.Sprintf("line %d, under rule %s", c[0].Src, c[0].Rule.Path)
	}
}
