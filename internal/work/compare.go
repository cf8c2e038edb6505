package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
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
	doc *dialect.Doc // nil when no dialect reads it
}

// Shown returns the text as the actor may see it: the one road on which
// configuration text leaves the service.
func (s *Service) Shown(actor core.Actor, side Side) (string, error) {
	if actor.Secrets {
		return side.raw, nil
	}
	if side.doc == nil {
		return "", ErrCannotMask
	}
	return s.masked(side.doc, side.raw)
}

// Hides tells whether there is anything in a side that is hidden from who may
// not see secrets.
func (s *Service) Hides(side Side) bool {
	if side.doc == nil || side.doc.Opaque() {
		return true
	}
	shown, err := s.masked(side.doc, side.raw)
	return err != nil || shown != side.raw
}

// Opaque tells whether the text is no text.
func (side Side) Opaque() bool { return side.doc != nil && side.doc.Opaque() }

// Size is the content's size in bytes.
func (side Side) Size() int { return len(side.raw) }

// Landmarks are what a person looks for to believe in the version. Secrets are
// hidden.
func (s *Service) Landmarks(side Side) []rules.Found {
	if side.doc == nil || side.doc.Opaque() {
		return nil
	}
	_, top, err := side.doc.Parse(side.raw)
	if err != nil {
		return nil
	}
	return s.masker(side.doc.Dialect).Landmarks(top, side.doc.Landmarks())
}

// Resolve finds the version a reference names. For live the device is visited
// and nothing is kept.
func (s *Service) Resolve(ctx context.Context, actor core.Actor, r ref.Version) (side Side, err error) {
	q := s.Store.As(actor)
	d, err := q.Device(ctx, r.Device)
	if err != nil {
		return side, err
	}
	r.Part = s.PartOf(d, r.Part)
	side = Side{Device: d, Part: r.Part}
	if dia := s.dialectOf(d); dia != nil {
		side.doc = dia.Doc(r.Part)
	}
	if r.Which == "live" {
		p, err := s.Look(ctx, d, r.Part)
		if err != nil {
			return side, fmt.Errorf("looking at %s: %w", d.Name, err)
		}
		side.Ref, side.TakenAt, side.raw = r.String(), s.Now(), p.Text
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

// PartOf is the part that is meant: a device without a running part is spoken
// of by its main one when no other is named.
func (s *Service) PartOf(d core.Device, part string) string {
	if dia := s.dialectOf(d); dia != nil && part == "running" {
		if _, ok := dia.Parts[part]; !ok {
			return dia.Main()
		}
	}
	return part
}

// HasPart tells whether a device has a part of that name, by its dialect or by
// what was pulled of it.
func (s *Service) HasPart(ctx context.Context, actor core.Actor, d core.Device, part string) error {
	var names []string
	if dia := s.dialectOf(d); dia != nil {
		if _, ok := dia.PartOf(part); ok {
			return nil
		}
		names = dia.PartNames()
	}
	kept, err := s.Store.As(actor).Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range kept {
		if p.Name == part {
			return nil
		}
		if !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
		}
	}
	hint := ref.Meant(part, names)
	if hint == "" {
		hint = "it has " + strings.Join(names, ", ")
	}
	return fmt.Errorf("part %q of %s: %w; %s", part, d.Name, store.ErrNotFound, hint)
}

func (s *Service) version(ctx context.Context, q *store.Q, d core.Device, r ref.Version) (v core.Version, err error) {
	r.Part = s.PartOf(d, r.Part)
	if err := s.HasPart(ctx, service, d, r.Part); err != nil {
		return v, err
	}
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
		if errors.Is(err, store.ErrNotFound) {
			names, e := q.VersionNames(ctx, d.ID, r.Part)
			if e != nil {
				return v, e
			}
			if meant := ref.Meant(r.Name, append(names, ref.Keywords...)); meant != "" {
				missing = meant
			}
		}
	case "time":
		v, err = q.VersionAt(ctx, d.ID, r.Part, r.At)
		missing = "nothing was pulled by then"
	}
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("%s: %w; %s", r, store.ErrNotFound, missing)
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
	j := core.Job{ID: store.NewID(s.Now()), CreatedAt: s.Now()}
	ctx, letGo := s.Hold(ctx, j.ID)
	defer letGo()
	v := s.newVisit(j, d, core.ByHand, s.Silent())
	err := v.open(ctx)
	if err == nil {
		defer v.close()
		sess := v.sess
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
		if e := s.Store.Tx(ctx, service, func(q *store.Q) error { return v.noteFailure(ctx, q, err) }); e != nil {
			err = errors.Join(err, e)
		}
	}
	if a := v.advice(err); a != "" {
		err = fmt.Errorf("%w; %s", err, a)
	}
	return link.Part{}, err
}

// Tried is what a device that is not registered let us see.
type Tried struct {
	Identity link.Identity
	Parts    []TriedPart
	Members  []string // devices it speaks for
	Warnings []string
}

// TriedPart is one part, fetched and thrown away.
type TriedPart struct {
	Name         string
	Lines, Bytes int
	Absent       bool
	Trouble      string // why it could not be had
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
		p, err := sess.Fetch(name)
		t := TriedPart{Name: name, Absent: p.Absent, Bytes: len(p.Text)}
		switch {
		case err != nil:
			t.Trouble = err.Error()
			if errors.Is(err, link.ErrLoginRefused) || ctx.Err() != nil {
				return out, err
			}
		case !dia.Doc(name).Opaque():
			t.Lines = len(text.Lines(p.Text))
		}
		out.Parts = append(out.Parts, t)
	}
	members, err := sess.Members()
	for _, m := range members {
		out.Members = append(out.Members, m.Name)
	}
	return out, err
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
	Unsure         int // lines whose secrets could not be compared: salted anew, or not told
	Unified        string
}

// Compare lays two sides against each other, with so many lines of context.
// Lines that only changed by themselves are left out and counted, unless all
// are wanted.
func (s *Service) Compare(actor core.Actor, from, to Side, context int, all bool) (c Comparison, err error) {
	if a, b := from.holds(), to.holds(); a != b {
		return c, fmt.Errorf("%w: %s holds %s, %s holds %s", ErrNotComparable, from.Ref, a, to.Ref, b)
	}
	c = Comparison{From: from, To: to, Relation: relation(from, to)}
	if from.Opaque() || to.Opaque() {
		c.Unified = fmt.Sprintf("%s is an opaque file of %d bytes, %s one of %d: %s\n", from.Ref, len(from.raw), to.Ref, len(to.raw), c.Relation)
		if c.Relation == Different {
			c.Removed, c.Added = 1, 1
		}
		return c, nil
	}
	c.Unsure = max(unsure(from), unsure(to))
	shownA, err := s.Shown(actor, from)
	if err != nil {
		return c, err
	}
	shownB, err := s.Shown(actor, to)
	if err != nil {
		return c, err
	}
	// Secrets are compared as they are and shown as the actor may see them.
	a, b := from.split(all), to.split(all)
	es := diff.Texts(a, b)
	if !all {
		es, c.SetAside = withoutNoise(es, from, to, c.Relation == Unchanged)
	}
	for _, e := range es {
		c.Removed += e.End - e.Start
		c.Added += e.To - e.From
	}
	a.Lines, b.Lines = diff.Split(shownA).Lines, diff.Split(shownB).Lines
	blocks := func(d *dialect.Doc, shown string, lines int) []string {
		if d != nil {
			if root, err := d.Tree(shown); err == nil {
				return grammar.Enclosing(root, lines)
			}
		}
		return make([]string, lines+1)
	}
	blockA, blockB := blocks(from.doc, shownA, len(a.Lines)), blocks(to.doc, shownB, len(b.Lines))
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

// split makes a side ready to be compared. Words that the device salts anew each
// time are not compared, unless all are wanted as they are.
func (s Side) split(all bool) diff.Text {
	if s.doc == nil {
		return diff.Split(s.raw)
	}
	t := s.doc.Split(s.raw)
	if !all {
		t.Lines = s.doc.Resalted(t.Lines, s.raw)
	}
	return t
}

// holds tells whether an export holds everything or only what differs from the
// defaults.
func (s Side) holds() string {
	if s.doc != nil && s.doc.Part.Holds == "differences" {
		return "only what differs from the defaults"
	}
	return "everything"
}

// ErrNotComparable is returned when two sides say different things by the same
// lines.
var ErrNotComparable = errors.New("these two cannot be compared line by line")

// unsure counts the lines of a side whose secrets cannot be compared.
func unsure(s Side) int {
	if s.doc == nil {
		return 0
	}
	_, top, err := s.doc.Parse(s.raw)
	if err != nil {
		return 0
	}
	return len(top.Unsure())
}

// sameSign tells whether the device itself says that two encrypted files hold
// the same.
func (a Side) sameSign(b Side) bool {
	return a.Version != nil && b.Version != nil && a.Version.Fingerprint == b.Version.Fingerprint
}

// alike tells whether two sides are read the same way.
func alike(a, b Side) bool {
	return a.doc != nil && b.doc != nil && a.doc.Dialect.Dialect == b.doc.Dialect.Dialect && a.doc.Opaque() == b.doc.Opaque()
}

// withoutNoise drops edits in which each line of one side that says nothing
// faces one of the other, and all edits of texts that are unchanged.
func withoutNoise(es []diff.Edit, from, to Side, unchanged bool) (kept []diff.Edit, dropped int) {
	if !alike(from, to) {
		return es, 0
	}
	a, b := from.doc.SettledLines(from.raw), to.doc.SettledLines(to.raw)
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
	case !alike(a, b):
		return Different
	case a.doc.Settled(a.raw) == b.doc.Settled(b.raw), a.sameSign(b):
		return Unchanged
	case a.doc.Equivalent(a.raw, b.raw):
		return Equivalent
	}
	return Different
}

// Drift is how a device stands to its baseline.
type Drift struct {
	Device      core.Device
	Part        string
	State       string // steady, drifted, no baseline, never pulled, or not known
	Baseline    string
	Running     string
	Differences []Residual
	Trouble     string
}

// JudgedParts lists the parts of a device that have a baseline, or its main one
// where none has.
func (s *Service) JudgedParts(ctx context.Context, actor core.Actor, d core.Device) ([]string, error) {
	parts, err := s.Store.As(actor).Parts(ctx, d.ID)
	var names []string
	for _, p := range parts {
		if p.Baseline != "" {
			names = append(names, p.Name)
		}
	}
	if len(names) == 0 {
		names = []string{s.PartOf(d, "running")}
	}
	return names, err
}

// Drift judges a part of a device against its baseline: by its newest version, or by
// what it runs now.
func (s *Service) Drift(ctx context.Context, actor core.Actor, d core.Device, part string, live bool) (out Drift, err error) {
	out = Drift{Device: d, Part: part, Differences: []Residual{}}
	base, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: part, Which: "baseline"})
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
	now, err := s.Resolve(ctx, actor, ref.Version{Device: d.Name, Part: part, Which: which})
	if err != nil {
		out.State, out.Trouble = "not known", err.Error()
		return out, nil
	}
	out.Running = now.Ref
	other := base.Version != nil && s.tookFromOther(ctx, s.Store.As(actor), d, *base.Version)
	if out.Differences, err = s.differencesOf(now.doc, now.raw, base.raw, other); err != nil {
		return out, fmt.Errorf("%s and %s: %w", now.Ref, base.Ref, err)
	}
	out.State = core.Steady
	if len(out.Differences) > 0 {
		out.State = core.Drifted
	}
	return out, nil
}

// differences lists what keeps one content from being equivalent to another. Of
// an opaque file it is known only that it differs.
func (s *Service) differences(doc *dialect.Doc, have, want string) ([]Residual, error) {
	return s.differencesOf(doc, have, want, false)
}

// tookFromOther tells whether a version was taken from hardware that has not the
// device's place any more. What belongs to that hardware is not expected to run.
func (s *Service) tookFromOther(ctx context.Context, q *store.Q, d core.Device, v core.Version) bool {
	from, err := q.PullByID(ctx, v.PullID)
	return err == nil && from.Serial != "" && len(d.Serials) > 0 && !slices.Contains(d.Serials, from.Serial)
}

// differencesOf leaves aside what belongs to other hardware, where want was taken
// from such.
func (s *Service) differencesOf(doc *dialect.Doc, have, want string, other bool) ([]Residual, error) {
	if doc.Opaque() {
		if doc.Equivalent(have, want) {
			return []Residual{}, nil
		}
		say := func(raw string) string {
			return fmt.Sprintf("an opaque file of %d bytes, mark %s", len(raw), s.fileMark(doc.Settled(raw)))
		}
		h, w := say(have), say(want)
		if have == "" {
			h = ""
		}
		return []Residual{{Have: h, Want: w, HaveMasked: h, WantMasked: w}}, nil
	}
	_, is, err := doc.Parse(have)
	if err != nil {
		return nil, err
	}
	_, should, err := doc.Parse(want)
	if err != nil {
		return nil, err
	}
	if other {
		should, _ = change.Bound(is, should)
	}
	return residuals(rules.Differences(is, should), s.masker(doc.Dialect)), nil
}

// fileMark tells files apart without telling anything of them: they may hold
// secrets, so no hash leaves that others could work out.
func (s *Service) fileMark(raw string) string {
	return s.Store.Keys().Hash("file mark", []byte(raw))[:16]
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
		if v, err = q.LockVersion(ctx, v); err != nil {
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
	if err := q.SetBaseline(ctx, v.PartID, id); err != nil {
		return err
	}
	d, err := q.LockDevice(ctx, v.DeviceID, 0)
	if err != nil {
		return err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	d.Drifted = false
	for _, p := range parts {
		latest, err := q.VersionLatest(ctx, d.ID, p.Name, 0)
		if errors.Is(err, store.ErrNotFound) || err == nil && p.Baseline == "" {
			continue
		}
		if err != nil {
			return err
		}
		raw, err := q.Content(ctx, latest.ContentID)
		if err != nil {
			return err
		}
		dia := s.dialectOf(d)
		if dia == nil {
			continue
		}
		off, err := s.drifted(ctx, q, d, dia.Doc(p.Name), p.Name, string(raw))
		if err != nil {
			return err
		}
		d.Drifted = d.Drifted || off
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

// refingerprint works out the fingerprints of the newest versions of a
// dialect's devices from what is kept.
func (s *Service) refingerprint(ctx context.Context, d *dialect.Dialect) error {
	q := s.Store.As(service)
	devices, err := q.Devices(ctx, ref.All())
	if err != nil {
		return err
	}
	for _, dev := range devices {
		if dev.Dialect != d.Dialect {
			continue
		}
		dia := s.dialectOf(dev)
		parts, err := q.Parts(ctx, dev.ID)
		if err != nil {
			return err
		}
		for _, p := range parts {
			v, err := q.VersionLatest(ctx, dev.ID, p.Name, 0)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			if pass, err := q.Passphrase(ctx, v.ID); err != nil {
				return err
			} else if pass != "" {
				continue // it goes by the device's own sign
			}
			raw, err := q.Content(ctx, v.ContentID)
			if err != nil {
				return err
			}
			fingerprint := s.Store.Keys().Hash("fingerprint", []byte(dia.Doc(p.Name).Settled(string(raw))))
			if fingerprint == v.Fingerprint {
				continue
			}
			if err := s.Store.Tx(ctx, service, func(q *store.Q) error { return q.SetFingerprint(ctx, v.ID, fingerprint) }); err != nil {
				return err
			}
		}
	}
	return nil
}
