package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// Incoming is a file that was made elsewhere.
type Incoming struct {
	Name     string
	Content  []byte
	Device   string     // by hand: whose it is; empty: it is looked for
	Part     string     // empty: the name says it, or it is the main one
	TakenAt  *time.Time // by hand: when it was so; nil: it is looked for
	Modified *time.Time // when the file was written, if that is known
	Called   string     // the version's name
	Note     string
	Sunk     *store.Sunk // instead of Content, what is too large for that
}

// Taken is what came of a file.
type Taken struct {
	File    string
	Device  string
	Part    string
	Number  int
	TakenAt *time.Time
	By      string // how it was known whose it is and of when
	Became  string // added, there already, or refused
	Why     string // why it was refused
}

// What becomes of a file.
const (
	TakenIn   = "added"
	ThereIs   = "there already"
	NotTaken  = "refused"
	mostInOne = 16 << 20 // bytes of one file
)

// Dates says how times in names of files, and in what files say of themselves, are meant.
type Dates struct {
	Zone  *time.Location // of those without an offset
	Order string         // of a date's numbers, one of ref.DateOrders; empty: nobody said
}

// Import takes files in as versions, each in a transaction of its own. They are set aside: they
// are newest of nothing, and count for no drift; whatever a unit was that they came from, they
// say no more than the file does. A file that is there already, byte for byte, adds nothing.
// With look nothing is kept.
func (s *Service) Import(ctx context.Context, actor core.Actor, files []Incoming, dates Dates, look bool) (out []Taken, err error) {
	devices, err := s.Store.As(actor).Devices(ctx, ref.All())
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		t := Taken{File: f.Name}
		d, at, err := s.whose(&t, f, devices, dates)
		if err == nil {
			err = s.takeIn(ctx, actor, d, at, f, look, &t)
		}
		var refused notTaken
		if errors.As(err, &refused) {
			t.Became, t.Why, err = NotTaken, string(refused), nil
		}
		if err != nil {
			return out, fmt.Errorf("%s: %w", f.Name, err)
		}
		out = append(out, t)
	}
	return out, nil
}

// ImportLarge takes one file in as it comes, in constant memory.
func (s *Service) ImportLarge(ctx context.Context, actor core.Actor, f Incoming, from io.Reader, dates Dates) (Taken, error) {
	beginning, err := io.ReadAll(io.LimitReader(from, mostInOne+1))
	if err != nil {
		return Taken{}, err
	}
	if f.Content = beginning; len(beginning) > mostInOne {
		sink := s.Store.Sink(ctx)
		if _, err = sink.Write(beginning); err == nil {
			_, err = io.Copy(sink, from)
		}
		if err != nil {
			sink.Drop()
			return Taken{}, err
		}
		sunk, err := sink.Close()
		if err != nil {
			return Taken{}, err
		}
		f.Sunk = &sunk
	}
	all, err := s.Import(ctx, actor, []Incoming{f}, dates, false)
	if err != nil {
		return Taken{}, err
	}
	return all[0], nil
}

// notTaken is why a file is refused.
type notTaken string

func (n notTaken) Error() string { return string(n) }

// whose finds a file's device, part and time, and says by what.
func (s *Service) whose(t *Taken, f Incoming, devices []core.Device, dates Dates) (d core.Device, at time.Time, err error) {
	base := f.Name[strings.LastIndexAny(f.Name, `/\`)+1:]
	device, part, own, isOwn := ref.FromName(base)
	t.Part = f.Part
	switch {
	case f.Device != "":
		t.Device, t.By = f.Device, "by hand"
	case isOwn:
		t.Device, t.By = device, "its name"
	default:
		if t.Device, t.By, err = found(base, f.Content, devices); err != nil {
			return d, at, err
		}
	}
	if t.Part == "" && isOwn {
		t.Part = part
	}
	i := slices.IndexFunc(devices, func(d core.Device) bool { return d.Name == t.Device })
	if i < 0 {
		return d, at, notTaken(fmt.Sprintf("no device is named %s", t.Device))
	}
	d = devices[i]
	var doc *dialect.Doc
	if dia := s.DialectOf(d); dia != nil {
		part := cmp.Or(t.Part, dia.Main())
		if _, ok := dia.PartOf(part); ok {
			doc = dia.Doc(part)
		}
	}
	// A device's name, or its serial number, may read as a date.
	rest := base
	for _, own := range append([]string{d.Name}, d.Serials...) {
		if own != "" {
			rest = strings.ReplaceAll(rest, own, "_")
		}
	}
	named, ok, unsure := ref.TimeInName(rest, dates.Zone, dates.Order)
	inside, isIn := timeIn(doc, string(f.Content), dates)
	switch {
	case f.TakenAt != nil:
		at = *f.TakenAt
		t.By += ", its time by hand"
	case isOwn:
		at = own
	case unsure != nil:
		return d, at, notTaken(unsure.Error() + "; say in which order the numbers of a date stand, or the time")
	case ok:
		at = named
		t.By += ", its time by the name"
	case isIn:
		at = inside
		t.By += ", its time by what it says of itself"
	case f.Modified != nil:
		at = *f.Modified
		t.By += ", its time by when the file was written"
	default:
		return d, at, notTaken("nothing says when it was so; say it with the time, or in the file's name")
	}
	if at.After(s.Now().Add(time.Minute)) {
		return d, at, notTaken(fmt.Sprintf("its time, %s, has not come yet", at.UTC().Format("2006-01-02 15:04 MST")))
	}
	at = at.UTC().Truncate(time.Microsecond)
	t.TakenAt = &at
	return d, at, nil
}

// beginning is how far into a file is looked for whose it is.
const beginning = 16 << 10

// macs are a device's MAC addresses: serial numbers that are some, and what stands in its fields.
func macs(d core.Device) (all []string) {
	said := strings.Join(d.Serials, " ")
	for _, v := range d.Fields {
		said += " " + v
	}
	return strings.Fields(ref.MACs(said))
}

// address is a device's own, where no other device has it, too.
func address(d core.Device) []string {
	if d.Member != "" {
		return nil
	}
	return []string{d.Address}
}

// timeIn is a time in what a text says of itself: comments, and lines that change by themselves.
func timeIn(doc *dialect.Doc, content string, dates Dates) (time.Time, bool) {
	if doc == nil || doc.Opaque() || !utf8.ValidString(content) {
		return time.Time{}, false
	}
	counts := doc.SettledLines(content)
	for i, line := range text.Lines(content) {
		if i >= 40 || i >= len(counts) {
			break
		}
		if !counts[i] {
			if at, ok, _ := ref.TimeInName(line, dates.Zone, dates.Order); ok {
				return at, true
			}
		}
	}
	return time.Time{}, false
}

// found looks for a device in a file's name, then in its beginning: by its name, its serial
// number, a MAC address, the host name that it reports, its address.
func found(base string, content []byte, devices []core.Device) (device, by string, err error) {
	head := string(content[:min(len(content), beginning)])
	for _, x := range []struct {
		by, in string
		of     func(core.Device) []string
	}{
		{"a name in its name", base, func(d core.Device) []string { return []string{d.Name} }},
		{"a serial number in it", head, func(d core.Device) []string { return d.Serials }},
		{"a MAC address in its name", ref.MACs(base), macs},
		{"a MAC address in it", ref.MACs(head), macs},
		{"a host name in it", head, func(d core.Device) []string { return []string{d.Host, d.Name} }},
		{"an address in its name", base, address},
		{"its management address in it", head, address},
	} {
		var all []string
		for _, d := range devices {
			if len(ref.NamesIn(x.in, x.of(d))) > 0 && !slices.Contains(all, d.Name) {
				all = append(all, d.Name)
			}
		}
		switch len(all) {
		case 0:
		case 1:
			return all[0], x.by, nil
		default:
			return "", "", notTaken(fmt.Sprintf("it may be %s's, by %s; say whose it is", strings.Join(all[:min(len(all), 4)], "'s or "), x.by))
		}
	}
	return "", "", notTaken("neither its name nor its beginning names a device; say whose it is")
}

// takeIn keeps a file as a version that is set aside.
func (s *Service) takeIn(ctx context.Context, actor core.Actor, d core.Device, at time.Time, f Incoming, look bool, t *Taken) error {
	dia := s.DialectOf(d)
	if dia == nil {
		return notTaken("there is no dialect " + d.Dialect + " that could read it")
	}
	if t.Part == "" {
		t.Part = dia.Main()
	}
	if _, ok := dia.PartOf(t.Part); !ok {
		return notTaken(fmt.Sprintf("%s has no part %q", d.Name, t.Part))
	}
	doc, content := dia.Doc(t.Part), string(f.Content)
	lines := 0
	switch {
	case f.Sunk != nil && !doc.Opaque():
		return notTaken(fmt.Sprintf("it has more than %d MiB, and the part is a text", mostInOne>>20))
	case f.Sunk != nil:
		content = "content " + f.Sunk.ID // what an opaque part settles to is itself
	case len(f.Content) == 0:
		return notTaken("it is empty")
	case len(f.Content) > mostInOne:
		return notTaken(fmt.Sprintf("it has more than %d MiB", mostInOne>>20))
	case doc.Opaque():
	case !utf8.ValidString(content):
		return notTaken("it is no text, and the part is one")
	case strings.Contains(content, "‹secret "):
		return notTaken("secrets in it are masked: it left for somebody who may not see them")
	default:
		part, _ := dia.PartOf(t.Part)
		for _, always := range part.Whole.Has {
			if !slices.ContainsFunc(text.Lines(content), dia.Pattern(always).MatchString) {
				return notTaken(fmt.Sprintf("it is not complete: no line matches %s, which is always there", always))
			}
		}
		if u := doc.Unread(content); len(u)*2 > len(text.Lines(content)) {
			return notTaken(fmt.Sprintf("more than half of its lines cannot be read as dialect %s says, the first is line %d: %s", d.Dialect, u[0].Line, u[0].Unread))
		}
		lines = len(text.Lines(content))
	}
	if f.Called != "" {
		if err := ref.VersionName(f.Called); err != nil {
			return notTaken(err.Error())
		}
	}
	err := s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if _, err := q.LockDevice(ctx, d.ID, 0); err != nil {
			return err
		}
		p, err := q.Part(ctx, d.ID, t.Part, true)
		if err != nil {
			return err
		}
		id := s.Store.Keys().Hash("content", f.Content)
		if f.Sunk != nil {
			id = f.Sunk.ID
		}
		if n, err := q.WithContent(ctx, p.ID, id); err != nil || n > 0 {
			t.Number, t.Became = n, ThereIs
			return err
		}
		t.Became = TakenIn
		pull := core.Pull{ID: store.NewID(s.Now()), DeviceID: d.ID, RequestedAt: s.Now(), TakenAt: &at, Reason: core.ByImport, Actor: actor.Name, DialectRev: dia.Revision, Result: "done"}
		v := core.Version{PullID: pull.ID, Fingerprint: s.Fingerprint(doc, doc.Settled(content)), TakenAt: at, Reason: core.ByImport, Actor: actor.Name, Aside: core.Imported,
			DialectRev: dia.Revision, Device: d.Name, Part: t.Part, DeviceID: d.ID, Lines: lines}
		if lines > 0 {
			if v.Added, v.Removed, _, err = s.Counted(ctx, q, d.ID, t.Part, doc, doc.Settled(content)); err != nil {
				return err
			}
		}
		if err := q.AddPull(ctx, pull); err != nil {
			return err
		}
		if f.Sunk != nil {
			v.ContentID, err = q.PutSunk(ctx, *f.Sunk)
		} else {
			v.ContentID, err = q.PutContent(ctx, f.Content, p.ID, p.Last)
		}
		if err != nil {
			return err
		}
		if err := q.AddVersion(ctx, p, &v, ""); err != nil {
			return err
		}
		t.Number = v.Number
		v.Name, v.Note = f.Called, strings.TrimSpace("from the file "+f.Name+"\n"+f.Note)
		if err := q.MarkVersion(ctx, v); errors.Is(err, store.ErrTaken) {
			return notTaken(fmt.Sprintf("a version of %s is named %s already", d.Name, f.Called))
		} else if err != nil {
			return err
		}
		if err := q.Audit(ctx, "imported", v.Ref(), "from the file "+f.Name+", "+t.By+core.Because(f.Note)); err != nil {
			return err
		}
		if look {
			return errLooked
		}
		return nil
	})
	if errors.Is(err, errLooked) {
		t.Number, err = 0, nil
	}
	return err
}

// errLooked takes back what was only tried.
var errLooked = errors.New("only looked")
