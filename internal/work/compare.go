package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Side is one text that is shown or compared. What leaves the service of it
// goes through Shown.
type Side struct {
	Ref     string        // as a reference that names exactly this text
	Device  core.Device   // whose it is
	Part    string        // which part
	Version *core.Version // nil for what was just looked at
	Sure    string        // for a time: how sure it is that this ran then
	TakenAt time.Time

	raw string
	dia *dialect.Dialect
}

// Shown returns the text as the actor may see it: the one road on which
// configuration text leaves the service.
func (s *Service) Shown(actor core.Actor, side Side) (string, error) {
	if actor.Secrets {
		return side.raw, nil
	}
	if side.dia == nil {
		return "", ErrCannotMask
	}
	return s.masked(side.dia, side.raw)
}

// Resolve finds the version a reference names. For live the device is visited
// and nothing is kept.
func (s *Service) Resolve(ctx context.Context, actor core.Actor, r ref.Version) (side Side, err error) {
	q := s.Store.As(actor)
	d, err := q.Device(ctx, r.Device)
	if err != nil {
		return side, err
	}
	side = Side{Device: d, Part: r.Part, dia: s.dialects[d.Dialect]}
	if r.Which == "live" {
		p, err := s.Look(ctx, d, r.Part)
		if err != nil {
			return side, fmt.Errorf("looking at %s: %w", d.Name, err)
		}
		side.Ref, side.TakenAt, side.raw = r.String(), s.clock().UTC(), p.Text
		return side, nil
	}
	v, err := s.version(ctx, q, d, r)
	if err != nil {
		return side, err
	}
	raw, err := q.Content(ctx, v.ContentID)
	if err != nil {
		return side, err
	}
	side.Ref, side.Version, side.TakenAt, side.raw = label(v), &v, v.TakenAt, string(raw)
	if r.Which == "time" {
		side.Sure, err = s.sureness(ctx, q, v, r.At)
	}
	return side, err
}

// Version finds the version a reference names, without its text.
func (s *Service) Version(ctx context.Context, actor core.Actor, r ref.Version) (core.Version, error) {
	q := s.Store.As(actor)
	d, err := q.Device(ctx, r.Device)
	if err != nil {
		return core.Version{}, err
	}
	if r.Which == "live" {
		return core.Version{}, fmt.Errorf("%s is no stored version; pull it first", r)
	}
	return s.version(ctx, q, d, r)
}

func (s *Service) version(ctx context.Context, q *store.Q, d core.Device, r ref.Version) (v core.Version, err error) {
	missing := ""
	switch r.Which {
	case "latest":
		v, err = q.VersionLatest(ctx, d.ID, r.Part, 0)
		missing = "it was never pulled; run: magpie pull " + d.Name
	case "previous":
		v, err = q.VersionLatest(ctx, d.ID, r.Part, 1)
		missing = "there is only one version or none"
	case "baseline":
		v, err = q.VersionBaseline(ctx, d.ID, r.Part)
		missing = "no version is its baseline yet; choose one: magpie mark " + d.Name + "@NUMBER --baseline"
	case "number":
		v, err = q.VersionNumber(ctx, d.ID, r.Part, r.Number)
		missing = "see which there are: magpie versions " + d.Name
	case "name":
		v, err = q.VersionNamed(ctx, d.ID, r.Part, r.Name)
		missing = "see which names there are: magpie versions " + d.Name
	case "time":
		v, err = q.VersionAt(ctx, d.ID, r.Part, r.At)
		missing = "nothing was pulled by then"
	}
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("%w: %s: %s", store.ErrNotFound, r, missing)
	}
	return v, err
}

// sureness says how sure it is that a version ran at a time.
func (s *Service) sureness(ctx context.Context, q *store.Q, v core.Version, at time.Time) (string, error) {
	stamp := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }
	seen, err := q.SeenIntervals(ctx, v.PartID)
	if err != nil {
		return "", err
	}
	last := v.TakenAt
	for _, iv := range seen {
		if iv.VersionID != v.ID {
			continue
		}
		if !at.Before(iv.From) && !at.After(iv.Until) {
			return fmt.Sprintf("%d was seen both before and after", v.Number), nil
		}
		if iv.Until.After(last) && !iv.Until.After(at) {
			last = iv.Until
		}
	}
	next, err := q.VersionNumber(ctx, v.DeviceID, v.Part, v.Number+1)
	switch {
	case err == nil:
		return fmt.Sprintf("%d seen until %s, %d from %s; in between it is not known", v.Number, stamp(last), next.Number, stamp(next.TakenAt)), nil
	case errors.Is(err, store.ErrNotFound):
		return fmt.Sprintf("%d seen until %s; nothing was pulled since", v.Number, stamp(last)), nil
	}
	return "", err
}

// Look fetches one part of a device and keeps nothing of it.
func (s *Service) Look(ctx context.Context, d core.Device, part string) (link.Part, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	j := core.Job{ID: store.NewID(s.clock()), CreatedAt: s.clock().UTC()}
	s.mu.Lock()
	s.active[j.ID] = cancel
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.active, j.ID)
		s.mu.Unlock()
	}()
	v := s.newVisit(j, d, core.ByHand, s.silent())
	err := v.open(ctx)
	if err == nil {
		defer v.close()
		var p link.Part
		if p, err = v.sess.Fetch(part); err == nil {
			if p.Absent {
				return p, fmt.Errorf("%s: the device has no such part", part)
			}
			return p, nil
		}
	}
	if errors.Is(err, link.ErrLoginRefused) {
		if e := s.Store.Tx(ctx, service, func(q *store.Q) error { return v.noteFailure(ctx, q, err) }); e != nil {
			err = errors.Join(err, e)
		}
	}
	if a := v.advice(err); a != "" {
		err = fmt.Errorf("%w; %s", err, a)
	}
	return link.Part{}, err
}

// Try signs in to a device that is not registered and asks who it is. It is one
// attempt, and nothing is kept of it.
func (s *Service) Try(ctx context.Context, d core.Device, sec store.Secret) (link.Identity, error) {
	dia := s.dialects[d.Dialect]
	sess, err := link.Open(ctx, dia, link.Target{Address: d.Address, Port: d.Port, HostKey: d.HostKey},
		link.Credential{User: sec.User, Password: sec.Password, Key: []byte(sec.Key), Raise: sec.Raise}, s.sure)
	if err != nil {
		return link.Identity{}, err
	}
	defer sess.Close()
	id, err := sess.Identity()
	if err != nil {
		return id, err
	}
	// The mode the parts are read in must be open to it too.
	return id, sess.Enter(dia.Parts["running"].Mode)
}

// How two texts relate, from closest to furthest.
const (
	Identical  = "identical"
	Unchanged  = "unchanged"
	Equivalent = "equivalent"
	Different  = "different"
)

// Comparison is two sides laid against each other, as an actor may see them.
type Comparison struct {
	From, To       Side
	Relation       string
	Hunks          []diff.Hunk
	Added, Removed int
	SetAside       int // lines that change by themselves and were left out
	Unified        string
}

// Compare lays two sides against each other, with so many lines of context.
// Lines that only changed by themselves are left out and counted, unless all
// are wanted.
func (s *Service) Compare(actor core.Actor, from, to Side, context int, all bool) (c Comparison, err error) {
	c = Comparison{From: from, To: to, Relation: relation(from, to)}
	shownA, err := s.Shown(actor, from)
	if err != nil {
		return c, err
	}
	shownB, err := s.Shown(actor, to)
	if err != nil {
		return c, err
	}
	// Secrets are compared as they are and shown as the actor may see them.
	a, b := from.split(), to.split()
	es := diff.Texts(a, b)
	if !all {
		es, c.SetAside = withoutNoise(es, from, to, c.Relation == Unchanged)
	}
	for _, e := range es {
		c.Removed += e.End - e.Start
		c.Added += e.To - e.From
	}
	a.Lines, b.Lines = diff.Split(shownA).Lines, diff.Split(shownB).Lines
	blocks := func(d *dialect.Dialect, shown string, lines int) []string {
		if d != nil {
			if root, err := d.Blocks.Parse(shown); err == nil {
				return grammar.Enclosing(root, lines)
			}
		}
		return make([]string, lines+1)
	}
	blockA, blockB := blocks(from.dia, shownA, len(a.Lines)), blocks(to.dia, shownB, len(b.Lines))
	enclosing := func(old bool, line int) string {
		if old {
			return blockA[line]
		}
		return blockB[line]
	}
	c.Hunks = diff.Hunks(a.Lines, b.Lines, es, context, enclosing)
	for i := range c.Hunks {
		c.Hunks[i].Mark()
	}
	var u strings.Builder
	err = diff.Unified(&u, sideName(from), sideName(to), a, b, es, context, enclosing)
	c.Unified = u.String()
	return c, err
}

func (s Side) split() diff.Text {
	if s.dia == nil {
		return diff.Split(s.raw)
	}
	return s.dia.Split(s.raw)
}

// withoutNoise drops edits in which each line of one side that says nothing
// faces one of the other, and all edits of texts that are unchanged.
func withoutNoise(es []diff.Edit, from, to Side, unchanged bool) (kept []diff.Edit, dropped int) {
	if from.dia == nil || from.dia != to.dia {
		return es, 0
	}
	a, b := from.dia.SettledLines(from.raw), to.dia.SettledLines(to.raw)
	for _, e := range es {
		if unchanged {
			dropped += max(e.End-e.Start, e.To-e.From)
			continue
		}
		if n := e.End - e.Start; n == e.To-e.From && !slices.Contains(a[e.Start:e.End], true) && !slices.Contains(b[e.From:e.To], true) {
			dropped += n
			continue
		}
		kept = append(kept, e)
	}
	return kept, dropped
}

func sideName(s Side) string {
	return s.Ref + "\t" + s.TakenAt.UTC().Format("2006-01-02 15:04:05 -0700")
}

func relation(a, b Side) string {
	switch {
	case a.raw == b.raw:
		return Identical
	case a.dia == nil || a.dia != b.dia:
		return Different
	case a.dia.Settled(a.raw) == b.dia.Settled(b.raw):
		return Unchanged
	case equivalent(a.dia, a.raw, b.raw):
		return Equivalent
	}
	return Different
}

// Drift is how a device stands to its baseline.
type Drift struct {
	Device      core.Device
	State       string // steady, drifted, no baseline, never pulled, or not known
	Baseline    string
	Running     string
	Differences []Residual
	Trouble     string
}

// Drift judges a device against its baseline: by its newest version, or by
// what it runs now.
func (s *Service) Drift(ctx context.Context, actor core.Actor, d core.Device, live bool) (out Drift, err error) {
	out = Drift{Device: d, Differences: []Residual{}}
	base, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: "running", Which: "baseline"})
	if errors.Is(err, store.ErrNotFound) {
		out.State = "no baseline"
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Baseline = base.Ref
	which := "latest"
	if live {
		which = "live"
	}
	now, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: "running", Which: which})
	if err != nil {
		out.State, out.Trouble = "not known", err.Error()
		return out, nil
	}
	out.Running = now.Ref
	_, want, err := base.dia.Parse(base.raw)
	if err != nil {
		return out, fmt.Errorf("%s: %w", base.Ref, err)
	}
	_, have, err := now.dia.Parse(now.raw)
	if err != nil {
		return out, fmt.Errorf("%s: %w", now.Ref, err)
	}
	out.Differences = residuals(rules.Differences(have, want), s.masker(base.dia))
	out.State = core.Steady
	if len(out.Differences) > 0 {
		out.State = core.Drifted
	}
	return out, nil
}

// Mark is what a person says of a version; nil leaves a thing as it is.
type Mark struct {
	Name, Note *string
	Pin        *bool
	Baseline   *bool
}

// SetMark names, notes, pins a version or makes it the baseline.
func (s *Service) SetMark(ctx context.Context, actor core.Actor, r ref.Version, m Mark) (v core.Version, err error) {
	if v, err = s.Version(ctx, actor, r); err != nil {
		return v, err
	}
	if m.Name != nil && *m.Name != "" {
		if err := ref.VersionName(*m.Name); err != nil {
			return v, err
		}
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if v, err = q.VersionByID(ctx, v.ID); err != nil {
			return err
		}
		said := ""
		if m.Name != nil {
			v.Name = *m.Name
			said += fmt.Sprintf(" name %q", v.Name)
		}
		if m.Note != nil {
			v.Note = *m.Note
			said += " note"
		}
		if m.Pin != nil {
			v.Pinned = *m.Pin
			said += fmt.Sprintf(" pin %v", v.Pinned)
		}
		if err := q.MarkVersion(ctx, v); err != nil {
			return err
		}
		if m.Baseline != nil {
			said += fmt.Sprintf(" baseline %v", *m.Baseline)
			if err := s.setBaseline(ctx, q, v, *m.Baseline); err != nil {
				return err
			}
		}
		if err := q.Audit(ctx, "mark", label(v), said); err != nil {
			return err
		}
		v, err = q.VersionByID(ctx, v.ID)
		return err
	})
	return v, err
}

// setBaseline approves a version, or takes the approval away, and judges the
// device's drift anew.
func (s *Service) setBaseline(ctx context.Context, q *store.Q, v core.Version, on bool) error {
	id := v.ID
	if !on {
		if !v.Baseline {
			return nil
		}
		id = ""
	}
	if err := q.SetBaseline(ctx, v.PartID, id); err != nil || v.Part != "running" {
		return err
	}
	d, err := q.DeviceByID(ctx, v.DeviceID)
	if err != nil {
		return err
	}
	latest, err := q.VersionLatest(ctx, d.ID, "running", 0)
	if err != nil {
		return err
	}
	raw, err := q.Content(ctx, latest.ContentID)
	if err != nil {
		return err
	}
	if d.Drifted, err = s.drifted(ctx, q, d, s.dialects[d.Dialect], string(raw)); err != nil {
		return err
	}
	if d.State == core.Drifted || d.State == core.Steady || d.State == core.Unsaved {
		d.State = standing(d)
	}
	return q.SetStanding(ctx, d)
}

// Preview returns a preview and its hash.
func (s *Service) Preview(ctx context.Context, actor core.Actor, id string) (p Preview, row store.PreviewRow, err error) {
	row, err = s.Store.As(actor).Preview(ctx, id, &p)
	return p, row, err
}
