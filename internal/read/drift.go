package read

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Drift is how a device stands to its baseline, and to what people want of its lines.
type Drift struct {
	Device      core.Device
	Part        string
	State       string // in sync, drifted, no baseline, never pulled, or not known
	Baseline    string
	Running     string
	Differences []visit.Difference
	Trouble     string
	Known       *store.Acknowledgement // somebody knows of all that differs; nil: nobody does

	by  visit.Yardstick
	now Side
}

// JudgedParts lists the parts of a device that have a baseline, or its main one
// where none has.
func (s *Service) JudgedParts(ctx context.Context, actor core.Actor, d core.Device) ([]string, error) {
	parts, err := s.Store.As(actor).Parts(ctx, d.ID)
	var names []string
	for _, p := range parts {
		if p.Baseline != "" { // of those that are gone, too
			names = append(names, p.Name)
		}
	}
	if len(names) == 0 {
		names = []string{s.PartOf(d, "running")}
	}
	if dia := s.DialectOf(d); dia != nil && err == nil {
		var added []core.Version
		added, err = s.NewElements(ctx, s.Store.As(actor), d, dia, parts)
		for _, v := range added {
			names = append(names, v.Part)
		}
	}
	return names, err
}

// Drift judges a part of a device against its baseline and what rules want of it: by its newest version,
// or by what it runs now.
func (s *Service) Drift(ctx context.Context, actor core.Actor, d core.Device, part string, live bool) (out Drift, err error) {
	out = Drift{Device: d, Part: part, Differences: []visit.Difference{}}
	q := s.Store.As(actor)
	dia := s.DialectOf(d)
	if dia == nil {
		out.State, out.Trouble = "not known", "nothing here reads its dialect, "+d.Dialect
		return out, nil
	}
	if !live && (d.State == core.HardwareChanged || d.State == core.FactoryDefaults) {
		out.State, out.Trouble = "not known", d.Trouble // what was last pulled of the device is not what is there
		return out, nil
	}
	element, of := core.ElementOf(part)
	if of {
		if is, err := s.newElement(ctx, q, d, dia, part); err != nil || is != nil {
			if is != nil {
				line := fmt.Sprintf("logical element %s, which is new since %s", element, is.TakenAt.UTC().Format("2006-01-02 15:04 MST"))
				out.State, out.Running, out.Differences = core.Drifted, is.Ref(), []visit.Difference{{Have: line, HaveMasked: line}}
				out.Known, err = s.Known(ctx, q, d, part, out.Differences)
			}
			return out, err
		}
	}
	if out.by, err = s.Measure(ctx, q, d, dia.Doc(part), part, true); err != nil {
		return out, err
	}
	if out.by.Base != nil {
		out.Baseline = out.by.Base.Ref()
	} else if !out.by.Wants() {
		out.State = "no baseline"
		return out, nil
	}
	if p, err := q.Part(ctx, d.ID, part, false); err == nil && p.GoneAt != nil {
		line := fmt.Sprintf("logical element %s, which is not there any more since %s", element, p.GoneAt.UTC().Format("2006-01-02 15:04 MST"))
		out.State, out.Differences = core.Drifted, []visit.Difference{{Want: line, WantMasked: line}}
		out.Known, err = s.Known(ctx, q, d, part, out.Differences)
		return out, err
	}
	which := "latest"
	if live {
		which = "live"
	}
	now, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: part, Which: which})
	if errors.Is(err, store.ErrNotFound) && out.by.Base == nil { // nothing was pulled of it yet: what rules want cannot be said
		out.State = "no baseline"
		return out, nil
	}
	if err != nil {
		out.State, out.Trouble = "not known", err.Error()
		return out, nil
	}
	if now.Large() && out.by.Reads(now.print()) {
		if now.raw, err = s.TextOf(ctx, q, out.by.Doc, now.Version.ContentID); err != nil {
			return out, err
		}
	}
	out.now, out.Running = now, now.Ref
	if out.Differences, err = s.Judge(out.by, now.raw, now.print()); err != nil {
		return out, fmt.Errorf("%s: %w", now.Ref, err)
	}
	out.State = core.InSync
	if len(out.Differences) > 0 {
		out.State = core.Drifted
		out.Known, err = s.Known(ctx, q, d, part, out.Differences)
	}
	return out, err
}

// newElement is the first version of a logical element that is new and that nobody approved; nil: it is none.
func (s *Service) newElement(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, part string) (*core.Version, error) {
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	added, err := s.NewElements(ctx, q, d, dia, parts)
	for i := range added {
		if added[i].Part == part {
			return &added[i], err
		}
	}
	return nil, err
}

// print is the fingerprint of a version; of what was only looked at there is none.
func (side Side) print() string {
	if side.Version == nil {
		return ""
	}
	return side.Version.Fingerprint
}

// Aside counts the lines off the baseline that rules leave aside, the secrets that could not be
// compared, and what the dialect lets go.
func (s *Service) Aside(d Drift) (noise, unsure int, letGo rules.Gone) {
	if d.by.Base == nil || d.now.print() != d.by.Base.Fingerprint { // otherwise only what changes by itself differs
		letGo = s.LetGo(d.by, d.now.raw)
	}
	return s.Quieted(d.by, d.now.raw), d.now.unsure(), letGo
}

// unsure is how many lines hold secrets that cannot be compared.
func (side Side) unsure() int {
	if side.doc == nil || side.doc.Opaque() {
		return 0
	}
	root, err := side.root()
	if err != nil {
		return 0
	}
	return len(side.doc.Table.Resolve(root).Unsure())
}

// farthest is how many versions drift is followed back.
const farthest = 500

// DriftedSince finds the oldest version of those, without a break up to now, that are off what the part is
// judged by. Nothing, where it is not drifted, or what was looked at live is the first.
func (s *Service) DriftedSince(ctx context.Context, d Drift) (*Origin, error) {
	first := d.now.Version
	if d.State != core.Drifted || d.by.Large() || d.now.Large() {
		return nil, nil
	}
	number := 1 << 30
	if first != nil { // otherwise what is live was not kept, and what was kept last is looked at first
		number = first.Number
	}
	part, err := s.Store.As(job.Service).Part(ctx, d.Device.ID, d.Part, false)
	if err != nil {
		return nil, err
	}
	looked, broken := 0, false
	err = s.back(ctx, part.ID, number, func(v core.Version, raw string) bool {
		off, err := s.Judge(d.by, raw, v.Fingerprint)
		if broken = err != nil || len(off) == 0; broken {
			return false
		}
		first = &v
		looked++
		return looked < farthest
	})
	since := originOf(first)
	if since != nil {
		since.First = !broken
	}
	return since, err
}

// ErrSteady says that there is no drift to be acknowledged.
var ErrSteady = errors.New("nothing differs")

// Acknowledge writes down that somebody knows of what differs now of a part of a device, until a time. It covers
// those lines and no others.
func (s *Service) Acknowledge(ctx context.Context, actor core.Actor, d core.Device, part, reason string, until time.Time) error {
	drift, err := s.Drift(ctx, core.Actor{ID: actor.ID, Name: actor.Name, Role: actor.Role, Secrets: true}, d, part, false)
	if err != nil {
		return err
	}
	name := d.Name + "/" + part
	if drift.State != core.Drifted {
		stands := "is " + drift.State
		if drift.State == "no baseline" {
			stands = "has no baseline"
		}
		return fmt.Errorf("%s %s: %w", name, stands, ErrSteady)
	}
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		a := store.Acknowledgement{DeviceID: d.ID, Part: part, Reason: reason, Actor: actor.Name, At: s.Now(), Until: until}
		for _, off := range drift.Differences {
			a.Marks = append(a.Marks, s.Mark(off))
		}
		if err := q.Acknowledge(ctx, a); err != nil {
			return err
		}
		if err := q.Audit(ctx, "drift acknowledged", name, fmt.Sprintf("%s of %s, until %s%s", core.Count(len(a.Marks), "line", "lines"), drift.Running, until.UTC().Format("2006-01-02 15:04 MST"), core.Because(reason))); err != nil {
			return err
		}
		_, err := s.Rejudge(ctx, q, d.ID)
		return err
	})
}

// Unacknowledge takes that word back, where there is one.
func (s *Service) Unacknowledge(ctx context.Context, actor core.Actor, d core.Device, part string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		was, err := q.Unacknowledge(ctx, d.ID, part)
		if err != nil || !was {
			return err
		}
		if err := q.Audit(ctx, "drift no longer acknowledged", d.Name+"/"+part, ""); err != nil {
			return err
		}
		_, err = s.Rejudge(ctx, q, d.ID)
		return err
	})
}

// lapseEvery is how often it is looked whether some acknowledgement is over.
const lapseEvery = 20 * time.Second

// Watch has drift count again whose acknowledgement is over, until ctx ends.
func (s *Service) Watch(ctx context.Context) {
	s.Every(ctx, lapseEvery, "looking which acknowledgements are over", func() error { return s.Lapse(ctx) })
}

// Lapse has drift count again whose acknowledgement is over.
func (s *Service) Lapse(ctx context.Context) error {
	ids, err := s.Store.As(job.Service).Lapsed(ctx, s.Now())
	for _, id := range ids {
		if err != nil {
			return err
		}
		err = s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
			_, err := s.Rejudge(ctx, q, id)
			return err
		})
	}
	return err
}
