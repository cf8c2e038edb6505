package read

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Origin is the version that brought a line in.
type Origin struct {
	Ref     string
	Number  int
	TakenAt time.Time
	Author  string // who changed the device, as it says
	Actor   string // who had it pulled
	Reason  string
	First   bool // it is the oldest version there is: the line may be older
}

// originCache remembers where the lines of the versions asked for last came from: a version never
// changes.
type originCache struct {
	mu    sync.Mutex
	by    map[string][]Origin
	order []string
}

// mostOrigins is of how many versions it is remembered.
const mostOrigins = 400

// Origins tells for each line of a side which version brought it in.
func (s *Service) Origins(ctx context.Context, actor core.Actor, side Side) ([]Origin, error) {
	switch {
	case side.Version == nil:
		return nil, fmt.Errorf("%w: what is looked at live is no version yet; pull it first", ErrSearch)
	case side.Opaque() || side.Large():
		return nil, fmt.Errorf("%w: %s is no text", ErrSearch, side.Ref)
	}
	return s.origins(ctx, s.Store.As(actor), side.Version.ID)
}

func (s *Service) origins(ctx context.Context, q *store.Q, versionID string) ([]Origin, error) {
	s.lines.mu.Lock()
	known, is := s.lines.by[versionID]
	s.lines.mu.Unlock()
	if is {
		return known, nil
	}
	v, err := q.VersionByID(ctx, versionID)
	if err != nil {
		return nil, err
	}
	all, err := s.traced(ctx, v)
	if err != nil {
		return nil, err
	}
	s.lines.mu.Lock()
	defer s.lines.mu.Unlock()
	if s.lines.by == nil {
		s.lines.by = map[string][]Origin{}
	}
	if s.lines.by[versionID] == nil {
		s.lines.order = append(s.lines.order, versionID)
	}
	s.lines.by[versionID] = all
	if len(s.lines.order) > mostOrigins {
		delete(s.lines.by, s.lines.order[0])
		s.lines.order = s.lines.order[1:]
	}
	return all, nil
}

// traced goes back from a version until each line of it was not there yet. Versions that were set aside
// are passed over.
func (s *Service) traced(ctx context.Context, v core.Version) ([]Origin, error) {
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return nil, err
	}
	var doc *dialect.Doc
	if dia := s.DialectOf(d); dia != nil {
		doc = dia.Doc(v.Part)
	}
	read := func(v core.Version) (diff.Text, error) {
		raw, err := q.Content(ctx, v.ContentID)
		if err != nil {
			return diff.Text{}, err
		}
		return dialect.Comparable(doc, string(raw)), nil
	}
	now, err := read(v)
	if err != nil {
		return nil, err
	}
	out := make([]Origin, len(now.Lines))
	at := make([]int, len(now.Lines)) // where each line stands in now; -1: it was traced
	for i := range at {
		at[i] = i
	}
	left := len(at)
	settle := func(i int, v core.Version, first bool) {
		out[i] = Origin{Ref: v.Ref(), Number: v.Number, TakenAt: v.TakenAt, Author: v.Author, Actor: v.Actor, Reason: v.Reason, First: first}
		at[i] = -1
		left--
	}
	for before := v.Number; left > 0; {
		older, err := q.VersionsThatCount(ctx, v.PartID, before, 50)
		if err != nil {
			return nil, err
		}
		for _, o := range older {
			was, err := read(o)
			if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrLarge) {
				continue
			}
			if err != nil {
				return nil, err
			}
			back := diff.Partners(was, now)
			for i, line := range at {
				if line < 0 {
					continue
				}
				if back[line] < 0 {
					settle(i, v, false)
				} else {
					at[i] = back[line]
				}
			}
			if v, now = o, was; left == 0 {
				return out, nil
			}
		}
		if len(older) < 50 {
			break
		}
		before = older[len(older)-1].Number
	}
	for i, line := range at {
		if line >= 0 {
			settle(i, v, true)
		}
	}
	return out, nil
}
