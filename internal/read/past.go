package read

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/find"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Past is a line, or a block, as long as it was there.
type Past struct {
	Device, Part string
	Text, Path   string
	From         Origin  // the version that brought it in
	Gone         *Origin // the first that has it no longer; nil: it is there
	Last         string  // the last version that has it
}

// PastResult is a page of what was found in all versions that there are.
type PastResult struct {
	Found    []Past
	Next     string // where to go on; empty: all was looked at
	Parts    int    // parts that were looked at
	Versions int    // their versions
	Unread   int    // parts that are no text, or that no dialect reads
}

// lookFor is how long one request reads. It ends with a part.
const lookFor = 4 * time.Second

// History looks for lines in all versions: since when each is there, and until when it was. It reads part by part,
// and goes on where the page before ended.
func (s *Service) History(ctx context.Context, actor core.Actor, r SearchRequest) (out PastResult, err error) {
	query, err := r.query()
	if err != nil {
		return out, err
	}
	if r.Secrets && !actor.Secrets {
		return out, fmt.Errorf("%w: secrets are not shown to you", ErrSearch)
	}
	q := s.Store.As(actor)
	devices, err := q.Devices(ctx, r.Selector)
	if err != nil {
		return out, err
	}
	after, afterPart, _ := strings.Cut(r.After, "/")
	if r.After != "" && afterPart == "" {
		return out, fmt.Errorf("%w: %q is not the end of a page", ErrSearch, r.After)
	}
	began := time.Now()
	for _, d := range devices {
		if d.Name < after {
			continue
		}
		parts, err := q.Parts(ctx, d.ID)
		if err != nil {
			return out, err
		}
		for _, p := range parts {
			if d.Name == after && p.Name <= afterPart || !s.looksAt(d, p.Name, r) {
				continue
			}
			if out.Next != "" && (len(out.Found) >= r.Limit || time.Since(began) > lookFor) {
				return out, nil
			}
			found, n, err := s.pastOf(ctx, d, p, query)
			switch {
			case errors.Is(err, dialect.ErrOpaque):
				out.Unread++
			case err != nil:
				return out, err
			default:
				out.Parts++
			}
			out.Versions += n
			out.Found = append(out.Found, found...)
			out.Next = d.Name + "/" + p.Name
		}
	}
	out.Next = ""
	return out, nil
}

// looksAt tells whether a part is one of those that are searched.
func (s *Service) looksAt(d core.Device, part string, r SearchRequest) bool {
	if r.Part != "" {
		return part == r.Part
	}
	dia := s.DialectOf(d)
	if dia == nil || r.AllParts {
		return true
	}
	follower, _, _ := dia.Follower()
	return part != follower
}

// pastOf follows what is found through the versions of a part, the oldest first.
func (s *Service) pastOf(ctx context.Context, d core.Device, p core.Part, query find.Query) (out []Past, n int, err error) {
	dia := s.DialectOf(d)
	if dia == nil || dia.Doc(p.Name).Opaque() {
		return nil, 0, dialect.ErrOpaque
	}
	q := s.Store.As(job.Service)
	var all []core.Version
	for before := 1 << 30; ; {
		page, err := q.VersionsThatCount(ctx, p.ID, before, 500)
		if err != nil {
			return nil, 0, err
		}
		all = append(all, page...)
		if len(page) < 500 {
			break
		}
		before = page[len(page)-1].Number
	}
	slices.Reverse(all)
	open := map[string]int{}                  // what is there, by where it stands in out
	known := map[string]map[string]find.Hit{} // what was found in a content, as it returns
	for i, v := range all {
		hits, ok := known[v.ContentID]
		if !ok {
			if hits, err = s.hitsOf(ctx, q, d, v, query); errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrLarge) {
				err = nil
				continue
			}
			if err != nil {
				return nil, 0, err
			}
			known[v.ContentID] = hits
		}
		n++
		for k, at := range open {
			if _, there := hits[k]; !there {
				out[at].Gone = originOf(&v)
				delete(open, k)
			} else {
				out[at].Last = v.Ref()
			}
		}
		var came []Past
		for k, h := range hits {
			if _, there := open[k]; !there {
				o := originOf(&v)
				o.First = i == 0
				came = append(came, Past{Device: d.Name, Part: p.Name, Text: h.Text, Path: strings.Join(h.Path, " / "), From: *o, Last: v.Ref()})
			}
		}
		slices.SortFunc(came, func(a, b Past) int { return strings.Compare(a.Path+"\x00"+a.Text, b.Path+"\x00"+b.Text) })
		for _, c := range came {
			open[c.Path+"\x00"+c.Text] = len(out)
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(a, b Past) int { return strings.Compare(a.Path, b.Path) }) // what took a line's place stands beside it
	return out, n, nil
}

// hitsOf is what is found in one version, by where it stands and what it says.
func (s *Service) hitsOf(ctx context.Context, q *store.Q, d core.Device, v core.Version, query find.Query) (map[string]find.Hit, error) {
	out := map[string]find.Hit{}
	raw, err := q.Content(ctx, v.ContentID)
	if err != nil {
		return out, err
	}
	t := find.Text{}
	doc := s.DialectOf(d).Doc(v.Part)
	if query.Masked { // the text itself is not looked at, so that no time tells what is in it
		masked, err := s.Masked(doc, string(raw))
		if masked = marks.ReplaceAllString(masked, "‹secret›"); err != nil || !query.MayBeIn(masked) {
			return out, nil
		}
		t = Searchable(doc, masked, masked)
	} else {
		if !query.MayBeIn(string(raw)) {
			return out, nil
		}
		t = Searchable(doc, string(raw), string(raw))
	}
	x := find.New()
	x.Put("", t)
	hits, _, err := x.Find(query, "", -1, len(t.Lines), nil, func() bool { return ctx.Err() != nil })
	if err != nil {
		return out, err
	}
	for _, h := range hits {
		h.Text = strings.TrimSpace(h.Text)
		out[strings.Join(h.Path, " / ")+"\x00"+h.Text] = h
	}
	return out, nil
}

// Apart is how far an earlier version is from the newest one.
type Apart struct {
	Version      core.Version
	Gained, Lost int  // lines that came since, and that went
	Equal        bool // nothing of it means anything
}

// mostApart is how many earlier versions are compared.
const mostApart = 200

// UpToNow tells of each earlier version of a part how many lines came and went since, newest first.
func (s *Service) UpToNow(ctx context.Context, actor core.Actor, side Side) (out []Apart, more bool, err error) {
	if side.doc == nil || side.doc.Opaque() || side.Version == nil {
		return nil, false, fmt.Errorf("%w: %s is no version that is kept, or no text", ErrSearch, side.Ref)
	}
	if err := s.ruled(ctx, &side); err != nil {
		return nil, false, err
	}
	doc := side.doc.With(side.own)
	err = s.back(ctx, side.Version.PartID, side.Version.Number, func(v core.Version, raw string) bool {
		if len(out) == mostApart {
			more = true
			return false
		}
		laid := dialect.Lay(doc, doc, raw, side.raw, false)
		a := Apart{Version: v, Equal: laid.Relation != dialect.Different}
		a.Gained, a.Lost = laid.Lines()
		out = append(out, a)
		return true
	})
	return out, more, err
}
