package read

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"

	"golang.org/x/sync/errgroup"
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

	raw  string
	size int          // of what is too large to be held; raw stands for it then, and is its id
	doc  *dialect.Doc // nil when no dialect reads it
	own  []rules.Own  // what people say of its lines
	tree *tree        // what it is read as
}

// tree is what a text is read as, and how it looks without its secrets, for all who ask.
type tree struct {
	reading, masking sync.Once
	root             *grammar.Node
	masked           string
	unread, unmasked error
}

// root reads the text.
func (side Side) root() (*grammar.Node, error) {
	t := side.tree
	t.reading.Do(func() { t.root, t.unread = side.doc.Tree(side.raw) })
	return t.root, t.unread
}

// masked is the text without its secrets.
func (s *Service) masked(side Side) (string, error) {
	t := side.tree
	t.masking.Do(func() {
		root, err := side.root()
		t.masked, t.unmasked = s.MaskedAs(side.doc, side.raw, root, err)
	})
	return t.masked, t.unmasked
}

// Shown returns the text as the actor may see it: the one road on which
// configuration text leaves the service.
func (s *Service) Shown(actor core.Actor, side Side) (string, error) {
	if actor.Secrets {
		return side.raw, nil
	}
	if side.doc == nil {
		return "", visit.ErrCannotMask
	}
	return s.masked(side)
}

// Hides tells whether there is anything in a side that is hidden from who may
// not see secrets.
func (s *Service) Hides(side Side) bool {
	if side.doc == nil || side.doc.Opaque() {
		return true
	}
	shown, err := s.masked(side)
	return err != nil || shown != side.raw
}

// ReadBy names what reads the text: the dialect and its revision.
func (side Side) ReadBy() string {
	if side.doc == nil {
		return ""
	}
	return fmt.Sprintf("%s %d", side.doc.Dialect.Dialect, side.doc.Revision)
}

// Doc is how the text is read; nil where no dialect reads it.
func (side Side) Doc() *dialect.Doc { return side.doc }

// Opaque tells whether the text is no text.
func (side Side) Opaque() bool { return side.doc != nil && side.doc.Opaque() }

// Media is the content's media type, and the ending of its files.
func (side Side) Media() (media, ending string) {
	if side.doc == nil {
		return "text/plain; charset=utf-8", "cfg"
	}
	return side.doc.Media()
}

// Size is the content's size in bytes.
func (side Side) Size() int { return max(side.size, len(side.raw)) }

// Large tells whether the content is too large to be held: it can be written out (Service.Write).
func (side Side) Large() bool { return side.size > 0 }

// Write writes a large content out, for who may see secrets.
func (s *Service) Write(ctx context.Context, actor core.Actor, side Side, out io.Writer) error {
	if !actor.Secrets {
		return visit.ErrCannotMask
	}
	return s.Store.As(actor).ContentTo(ctx, side.Version.ContentID, out)
}

// KeyFacts are what a person looks for to believe in the version. Secrets are
// hidden.
func (s *Service) KeyFacts(side Side) []rules.Found {
	if side.doc == nil || side.doc.Opaque() {
		return nil
	}
	root, err := side.root()
	if err != nil {
		return nil
	}
	return s.Masker(side.doc.Dialect).KeyFacts(side.doc.Table.Resolve(root), side.doc.KeyFacts())
}

// Outline tells the shape of a side's text: its blocks and its comments.
func (s *Service) Outline(side Side) (blocks [][2]int, comments []int) {
	if side.doc == nil || side.doc.Opaque() {
		return nil, nil
	}
	root, err := side.root()
	if err != nil { // what cannot be read has no shape
		return nil, nil
	}
	return side.doc.Outline(side.raw, root)
}

// Resolve finds the version a reference names. For live the device is visited
// and nothing is kept.
func (s *Service) Resolve(ctx context.Context, actor core.Actor, r ref.Version) (side Side, err error) {
	q := s.Store.As(actor)
	d, err := q.AnyDevice(ctx, r.Device)
	if err != nil {
		return side, err
	}
	r.Part = s.PartOf(d, r.Part)
	side = Side{Device: d, Part: r.Part, tree: &tree{}}
	if dia := s.DialectOf(d); dia != nil {
		side.doc = dia.Doc(r.Part)
	}
	if r.Which == "live" && ref.Removed(r.Device) {
		return side, fmt.Errorf("%s was removed, and is not visited: %w; what was kept of it is %s@latest", d.Name, store.ErrNotFound, d.Name)
	}
	if r.Which == "live" {
		p, err := s.Look(ctx, d, r.Part)
		if err != nil {
			return side, fmt.Errorf("looking at %s: %w", d.Name, err)
		}
		side.Ref, side.TakenAt, side.raw = r.String(), s.Now(), p.Text
		return side, nil
	}
	v, raw, err := s.FindText(ctx, q, d, r)
	if errors.Is(err, store.ErrLarge) {
		raw, side.size, err = []byte("content "+v.ContentID), v.Size, nil
	}
	if err != nil {
		return side, err
	}
	side.Ref, side.Version, side.TakenAt, side.raw = v.Ref(), &v, v.TakenAt, string(raw)
	if r.Which == "time" {
		if r.Name != "" { // a date, which may be its name
			if named, err := q.Version(ctx, store.ByName(d.ID, r.Part, r.Name)); err == nil && named.ID == v.ID {
				side.Sure = fmt.Sprintf("%d is named %s, so the date was not looked for", v.Number, r.Name)
				return side, nil
			} else if err != nil && !errors.Is(err, store.ErrNotFound) {
				return side, err
			}
		}
		if v.Aside == core.Imported {
			side.Sure = "it was imported; that it ran then is what its file says"
			return side, nil
		}
		side.Sure, err = s.sureness(ctx, q, v, r.At)
	}
	return side, err
}

// Changed is what a version changed against the one before it, as somebody sees it who may not
// see secrets: in the unified format, without what changes by itself.
func (s *Service) Changed(ctx context.Context, device, part string, number int) (string, error) {
	var sides [2]Side
	for i, which := range []string{strconv.Itoa(number - 1), strconv.Itoa(number)} {
		r, err := ref.ParseVersion(device+"/"+part+"@"+which, ref.Here{})
		if err != nil {
			return "", err
		}
		if sides[i], err = s.Resolve(ctx, core.Actor{Role: core.Reader}, r); err != nil {
			return "", err
		}
	}
	c, err := s.Compare(ctx, core.Actor{Role: core.Reader}, sides[0], sides[1], 3, false)
	return c.Unified, err
}

// sureness says how sure it is that a version ran at a time.
func (s *Service) sureness(ctx context.Context, q *store.Q, v core.Version, at time.Time) (string, error) {
	stamp := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }
	seen, err := q.SeenOf(ctx, v.ID)
	if err != nil {
		return "", err
	}
	last := v.TakenAt
	for _, iv := range seen {
		if !at.Before(iv.From) && !at.After(iv.Until) {
			return fmt.Sprintf("%d was seen both before and after", v.Number), nil
		}
		if iv.Until.After(last) && !iv.Until.After(at) {
			last = iv.Until
		}
	}
	next, err := q.Version(ctx, store.After(v.DeviceID, v.Part, v.Number))
	switch {
	case err == nil:
		return fmt.Sprintf("%d seen until %s, %d from %s; in between it is not known", v.Number, stamp(last), next.Number, stamp(next.TakenAt)), nil
	case errors.Is(err, store.ErrNotFound):
		return fmt.Sprintf("%d seen until %s; nothing was pulled since", v.Number, stamp(last)), nil
	}
	return "", err
}

// Comparison is two sides laid against each other, as an actor may see them.
type Comparison struct {
	From, To       Side
	Relation       string
	Hunks          []diff.Hunk
	Added, Removed int
	SetAside       int // lines that change by themselves and were left out
	By             []dialect.Hid
	Unsure         int        // lines whose secrets could not be compared: salted anew, or not told
	LetGo          rules.Gone // what differs and counts for nothing, because the dialect says so
	Unified        string
	Changes        []EntryChange // the same as what became of the entries, where both are read the same way
}

// EntryChange is what became of one entry, as an actor may see it.
type EntryChange struct {
	Kind             string // one of rules.Kinds
	Path             string // the blocks around it, outermost first, joined by " / "
	From, To         string // its line as it was, and as it is
	FromLine, ToLine int    // where they stand, from 1; 0: nowhere
	More             int    // lines below it that came, went or stayed the same along with it
	Default          bool   // the side that stands on no line is what the device does by default
	Near             string // of what was moved: the line that it stands behind now
}

// said is an entry's line, with the text that belongs to it, and why it cannot be read: not
// the grammar's words for it, which quote the line, where that is hidden.
func said(it *rules.Item, mask func(it *rules.Item) []string) string {
	shown := mask(it)
	out := strings.Join(shown, " ")
	switch {
	case it.Unread != "" && shown[0] != it.Line:
		out += " (cannot be read)"
	case it.Unread != "":
		out += " (cannot be read: " + it.Unread + ")"
	}
	return out
}

// plainly shows an entry as it is, its line and its body.
func plainly(it *rules.Item) []string { return append([]string{it.Line}, it.Body...) }

// changes says what became of the entries in words; each line as mask shows it.
func changes(all []rules.Change, doc *dialect.Doc, mask func(it *rules.Item) []string) []EntryChange {
	out := make([]EntryChange, len(all))
	for i, c := range all {
		path := make([]string, len(c.Path))
		for n, it := range c.Path {
			path[n] = mask(it)[0]
		}
		e := EntryChange{Kind: c.Kind, Path: strings.Join(path, " / "), More: c.More}
		if c.From != nil {
			e.From, e.FromLine = said(c.From, mask), c.From.Src
		}
		if c.To != nil {
			e.To, e.ToLine = said(c.To, mask), c.To.Src
		}
		if c.Near != nil {
			e.Near = mask(c.Near)[0]
		}
		if it := cmp.Or(c.To, c.From); e.Path == "" && doc != nil {
			e.Path = doc.Place(it)
		}
		if c.Default != "" && c.From == nil {
			e.From, e.Default = c.Default, true
		} else if c.Default != "" {
			e.To, e.Default = c.Default, true
		}
		out[i] = e
	}
	return out
}

// Compare lays two sides against each other, with so many lines of context.
// Lines that only changed by themselves are left out and counted, unless all
// are wanted.
func (s *Service) Compare(ctx context.Context, actor core.Actor, from, to Side, lines int, all bool) (c Comparison, err error) {
	for _, side := range []*Side{&from, &to} {
		if err := s.ruled(ctx, side); err != nil {
			return c, err
		}
	}
	mask := plainly
	if !actor.Secrets && from.doc != nil {
		mask = s.Masker(from.doc.Dialect).Lines
	}
	return compare(from, to, lines, all, func(side Side) (string, error) { return s.Shown(actor, side) }, mask)
}

// ruled finds the rules of people's own that hold for a side's device.
func (s *Service) ruled(ctx context.Context, side *Side) error {
	if side.doc == nil || side.Device.ID == "" {
		return nil
	}
	y, err := s.Measure(ctx, s.Store.As(job.Service), side.Device, side.doc, side.Part, false)
	side.own = y.Own
	return err
}

// CompareFiles lays two files against each other, which no service has. A nil Doc is of a text that no
// dialect reads.
func CompareFiles(from, to File, context int, all bool) (Comparison, error) {
	return compare(from.side(), to.side(), context, all, func(side Side) (string, error) { return side.raw, nil }, plainly)
}

// CompareFile lays a side against a file, which is read as the side is; before it, where the file is
// what there was first.
func (s *Service) CompareFile(ctx context.Context, actor core.Actor, side Side, f File, first bool, lines int, all bool) (Comparison, error) {
	f.Doc = side.doc
	if first {
		return s.Compare(ctx, actor, f.side(), side, lines, all)
	}
	return s.Compare(ctx, actor, side, f.side(), lines, all)
}

// File is a text from a disk.
type File struct {
	Name    string
	Content string
	At      time.Time // when it was written
	Doc     *dialect.Doc
}

// Ignored is how many lines that differ rules of people's own ignore.
func (c Comparison) Noise() (n int) {
	for _, h := range c.By {
		n += h.Lines
	}
	return n
}

func (f File) side() Side {
	return Side{Ref: f.Name, TakenAt: f.At, raw: f.Content, doc: f.Doc, tree: &tree{}}
}

func compare(from, to Side, context int, all bool, show func(Side) (string, error), mask func(*rules.Item) []string) (c Comparison, err error) {
	if a, b := from.holds(), to.holds(); a != b {
		return c, fmt.Errorf("%w: %s holds %s, %s holds %s", ErrNotComparable, from.Ref, a, to.Ref, b)
	}
	docA, docB := from.doc, to.doc
	if docA != nil && docB != nil && !all {
		own := both(from.own, to.own)
		if from.Device.ID != to.Device.ID && from.Device.ID != "" && to.Device.ID != "" {
			own = docA.Table.OfOneDevice(own)
		}
		docA, docB = docA.With(own), docB.With(own)
	}
	laid := dialect.Lay(docA, docB, from.raw, to.raw, all)
	if laid.Relation == dialect.Different && from.sameSign(to) {
		laid.Relation = dialect.Unchanged
	}
	c = Comparison{From: from, To: to, Relation: laid.Relation, Unsure: laid.Unsure, SetAside: laid.SetAside, By: laid.By, LetGo: laid.LetGo}
	if from.Opaque() || to.Opaque() {
		c.Unified = fmt.Sprintf("%s is an opaque file of %d bytes, %s one of %d: %s\n", from.Ref, from.Size(), to.Ref, to.Size(), c.Relation)
		if c.Relation == dialect.Different {
			c.Removed, c.Added = 1, 1
		}
		return c, nil
	}
	c.Changes = changes(laid.Changes, from.doc, mask)
	var shownA, shownB string
	var both errgroup.Group
	both.Go(func() (err error) { shownA, err = show(from); return err })
	both.Go(func() (err error) { shownB, err = show(to); return err })
	if err := both.Wait(); err != nil {
		return c, err
	}
	// Secrets are compared as they are and shown as the actor may see them.
	es := laid.Edits
	c.Added, c.Removed = laid.Lines()
	a, b := diff.Split(shownA), diff.Split(shownB)
	a.Silent, b.Silent = laid.A.Silent, laid.B.Silent
	blockA, blockB := laid.Places(shownA, shownB)
	enclosing := func(old bool, line int) string {
		if old {
			return blockA[line]
		}
		return blockB[line]
	}
	c.Hunks = diff.Hunks(a, b, es, context, enclosing)
	for i := range c.Hunks {
		c.Hunks[i].Mark()
	}
	var u strings.Builder
	err = diff.Unified(&u, sideName(from), sideName(to), a, b, es, context, enclosing)
	c.Unified = u.String()
	return c, err
}

// both are the rules that hold for one side or the other.
func both(a, b []rules.Own) []rules.Own {
	out := slices.Clone(a)
	for _, o := range b {
		if !slices.ContainsFunc(a, func(p rules.Own) bool { return p.Name == o.Name }) {
			out = append(out, o)
		}
	}
	return out
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

// sameSign tells whether the device itself says that two encrypted files hold
// the same.
func (a Side) sameSign(b Side) bool {
	return a.Version != nil && b.Version != nil && a.Version.Fingerprint == b.Version.Fingerprint
}

func sideName(s Side) string {
	return s.Ref + "\t" + s.TakenAt.UTC().Format("2006-01-02 15:04:05 -0700")
}
