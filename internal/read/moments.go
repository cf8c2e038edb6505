package read

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// How a part is at one moment, beside another.
const (
	PartChanged = "changed"
	PartCame    = "only there" // in the second
	PartWent    = "only here"  // in the first
)

// PartDiff is what became of one part from one moment to another.
type PartDiff struct {
	Device, Part   string
	From, To       int // version numbers; 0: there was none
	Became         string
	Added, Removed int // lines, once those that change by themselves are set aside
	Note           string
}

// MomentDiff is what became of many devices from one moment to another.
type MomentDiff struct {
	From, To string // as they are called
	Same     int    // parts that are unchanged
	Parts    []PartDiff
	Oldest   string     // compared with now: the device that was pulled last the longest ago, if any was
	OldestAt *time.Time // and when that was
}

// Now is how the present is called as a moment.
const Now = "now"

// CompareMoments compares a snapshot, or a time, with another or with now: of the devices of the
// snapshots, or, of two times, of all that are registered. Times without a zone are UTC.
func (s *Service) CompareMoments(ctx context.Context, actor core.Actor, from, to string) (out MomentDiff, err error) {
	q := s.Store.As(actor)
	a, err := s.moment(ctx, q, from)
	if err != nil {
		return out, err
	}
	b, err := s.moment(ctx, q, to)
	if err != nil {
		return out, err
	}
	var ids []string
	for _, m := range []moment{a, b} {
		for _, v := range m.versions {
			if !slices.Contains(ids, v.DeviceID) {
				ids = append(ids, v.DeviceID)
			}
		}
	}
	if a.at != nil && b.at != nil {
		all, err := q.Devices(ctx, ref.All())
		if err != nil {
			return out, err
		}
		for _, d := range all {
			ids = append(ids, d.ID)
		}
	}
	for _, m := range []*moment{&a, &b} {
		if m.at != nil {
			if m.versions, err = q.Moment(ctx, ids, *m.at); err != nil {
				return out, err
			}
		}
	}
	out.From, out.To = a.called, b.called
	if b.called == Now {
		slices.Sort(ids)
		devices, err := q.DevicesByID(ctx, slices.Compact(ids))
		if err != nil {
			return out, err
		}
		for _, d := range devices {
			if d.LastPulled != nil && (out.OldestAt == nil || d.LastPulled.Before(*out.OldestAt)) {
				out.Oldest, out.OldestAt = d.Name, d.LastPulled
			}
		}
	}
	return out, s.compare(ctx, q, a.versions, b.versions, &out)
}

// moment is a snapshot, or a time.
type moment struct {
	called   string
	at       *time.Time
	versions []core.Version
}

func (s *Service) moment(ctx context.Context, q *store.Q, word string) (m moment, err error) {
	if word == "" || word == Now {
		at := store.Now
		return moment{called: Now, at: &at}, nil
	}
	snap, err := q.Snapshot(ctx, word)
	if err == nil {
		m = moment{called: snap.Name}
		m.versions, err = q.SnapshotVersions(ctx, snap.ID)
		return m, err
	}
	if !errors.Is(err, store.ErrNotFound) {
		return m, err
	}
	at, bad := ref.ParseTime(word, ref.In(time.UTC, s.Now))
	if bad != nil {
		return m, err // that no snapshot has that name
	}
	return moment{called: at.UTC().Format(time.RFC3339), at: &at}, nil
}

// compare lists what differs between two sets of versions, one a part each.
func (s *Service) compare(ctx context.Context, q *store.Q, from, to []core.Version, out *MomentDiff) error {
	key := func(v core.Version) string { return v.DeviceID + " " + v.Part }
	there := map[string]core.Version{}
	for _, v := range to {
		there[key(v)] = v
	}
	out.Parts = []PartDiff{}
	for _, a := range from {
		b, ok := there[key(a)]
		delete(there, key(a))
		switch {
		case !ok:
			out.Parts = append(out.Parts, PartDiff{Device: a.Device, Part: a.Part, From: a.Number, Became: PartWent})
		case visit.Same(a, b):
			out.Same++
		default:
			p := PartDiff{Device: b.Device, Part: a.Part, From: a.Number, To: b.Number, Became: PartChanged}
			if err := s.countLines(ctx, q, a, b, &p); err != nil {
				return fmt.Errorf("%s and %s: %w", a.Ref(), b.Ref(), err)
			}
			out.Parts = append(out.Parts, p)
		}
	}
	for _, b := range there {
		out.Parts = append(out.Parts, PartDiff{Device: b.Device, Part: b.Part, To: b.Number, Became: PartCame})
	}
	slices.SortFunc(out.Parts, func(x, y PartDiff) int { return strings.Compare(x.Device+" "+x.Part, y.Device+" "+y.Part) })
	return nil
}

// countLines counts the lines by which two versions differ; of opaque ones none are.
func (s *Service) countLines(ctx context.Context, q *store.Q, a, b core.Version, p *PartDiff) error {
	d, err := q.DeviceByID(ctx, b.DeviceID)
	if err != nil {
		return err
	}
	dia := s.DialectOf(d)
	if dia == nil || dia.Doc(b.Part).Opaque() {
		return nil
	}
	doc := dia.Doc(b.Part)
	var says [2]string
	for i, v := range []core.Version{a, b} {
		raw, err := q.Content(ctx, v.ContentID)
		if errors.Is(err, store.ErrDamaged) {
			p.Note = fmt.Sprintf("%d does not read back", v.Number)
			return nil
		}
		if err != nil {
			return err
		}
		says[i] = doc.Settled(string(raw))
	}
	p.Added, p.Removed = doc.Counts(says[0], says[1])
	return nil
}
