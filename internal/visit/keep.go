package visit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// Kept is what keeping a visit led to.
type Kept struct {
	Result  PullResult
	Device  core.Device
	Running core.Version // the main part's

	Versions map[string]core.Version // by part

	Gone     []string // logical elements that it had before and has no more
	New      []string // and those that it has for the first time, though it was pulled before
	Marked   string   // what its parts' versions were given by the way: a name, a note
	Unmarked string   // why a version was not named as it was to be; empty: it was
}

func (k Kept) Summary() string {
	var said []string
	for _, p := range k.Result.Parts {
		switch {
		case p.Absent:
			said = append(said, p.Part+" absent")
		case !p.New:
			by := ""
			if k.Result.BySign {
				by = " by its sign"
			}
			said = append(said, fmt.Sprintf("%s unchanged%s, still %d", p.Part, by, p.Number))
		case p.Number == 1:
			said = append(said, fmt.Sprintf("%s 1, the first", p.Part))
		default:
			said = append(said, fmt.Sprintf("%s %d%s", p.Part, p.Number, core.PlusMinus(p.Added, p.Removed)))
		}
	}
	if m := k.Result.Members; m.Pulled+m.Failed > 0 {
		line := fmt.Sprintf("%d devices it speaks for, %d changed", m.Pulled, m.Changed)
		if n := len(k.Result.Found); n > 0 {
			line += fmt.Sprintf(", %d new here", n)
		}
		if m.Failed > 0 {
			line += fmt.Sprintf(", %d failed", m.Failed)
		}
		said = append(said, line)
	}
	if k.Marked != "" {
		said = append(said, k.Marked)
	}
	for _, element := range k.Gone {
		said = append(said, "logical element "+element+" is gone")
	}
	for _, element := range k.New {
		said = append(said, "logical element "+element+" is new")
	}
	summary := strings.Join(said, "; ")
	if k.Device.State == core.HardwareChanged || k.Device.State == core.FactoryDefaults {
		if summary != "" {
			summary = "; excluded: " + summary
		}
		summary = k.Device.Trouble + summary
	}
	return summary
}

// unchanged tells whether nothing new was kept, of the device or of any that it
// speaks for.
func (k Kept) unchanged() bool {
	return len(k.Gone) == 0 && k.Result.Members.Changed+k.Result.Members.Failed+len(k.Result.Found) == 0 && (k.Device.Trouble == "") &&
		!slices.ContainsFunc(k.Result.Parts, func(p PulledPart) bool { return p.New })
}

// Keep writes what was fetched, in one transaction: the pull, new versions or
// sightings, and how the device now stands.
func (v *Visit) Keep(ctx context.Context) (k Kept, err error) {
	err = v.s.Guarded(ctx, v.Pull.JobID, func(q *store.Q) (err error) {
		k, err = v.keepIn(ctx, q)
		return err
	})
	return k, err
}

// keepIn does so in a transaction that is open.
func (v *Visit) keepIn(ctx context.Context, q *store.Q) (k Kept, err error) {
	d := v.Device
	if err := q.Reread(ctx, &d); err != nil {
		return k, err
	}
	if v.glanced {
		return v.keepGlance(ctx, q, d)
	}
	k.Versions = map[string]core.Version{}
	if err := v.keepDevice(ctx, q, &d, v.Dialect, v.Pull, v.Names, v.Parts, v.Identity.Factory, v.Log, &k); err != nil {
		return k, err
	}
	if err := v.mark(ctx, q, &k); err != nil {
		return k, err
	}
	return k, v.keepMembers(ctx, q, d, &k)
}

// mark gives the versions that were kept, or are still current, the name and note that were
// asked for. If that of the main part has another name it keeps that, and it is said; those of
// other parts that have one keep it, for they may be older than what happened.
func (v *Visit) mark(ctx context.Context, q *store.Q, k *Kept) error {
	if v.Mark == (Mark{}) {
		return nil
	}
	var marked, others []string
	for i, p := range k.Result.Parts {
		if p.VersionID == "" {
			continue
		}
		x := core.Version{ID: p.VersionID, DeviceID: v.Device.ID, Device: v.Device.Name, Part: p.Part, Number: p.Number}
		why, err := v.markOne(ctx, q, x, v.Mark)
		if err != nil {
			return err
		}
		if why == "" {
			k.Result.Parts[i].Name = v.Mark.Name
			marked = append(marked, p.Part)
			continue
		}
		others = append(others, p.Part)
		if p.Part == v.Dialect.Main() {
			k.Unmarked = why
		} else {
			v.Log.Info("%s", why)
		}
	}
	if len(marked) > 0 {
		k.Marked = "noted"
		if v.Mark.Name != "" {
			k.Marked = "named " + v.Mark.Name
		}
		if len(others) > 0 {
			k.Marked += " (" + strings.Join(marked, ", ") + ")"
		}
	}
	return nil
}

// Name gives a version that this visit kept a name; why it has not got it, or nothing.
func (v *Visit) Name(ctx context.Context, x core.Version, name string) (why string) {
	err := v.s.Guarded(ctx, v.Pull.JobID, func(q *store.Q) (err error) {
		why, err = v.markOne(ctx, q, x, Mark{Name: name})
		return err
	})
	if err != nil {
		why = fmt.Sprintf("%s is not named %s: %v", x.Ref(), name, err)
	}
	return why
}

// markOne gives one version a name and a note. why says what keeps it from the name.
func (v *Visit) markOne(ctx context.Context, q *store.Q, x core.Version, m Mark) (why string, err error) {
	if x, err = q.LockVersion(ctx, x); err != nil {
		return "", err
	}
	no := func(because string) string {
		return fmt.Sprintf("%s is not named %s: %s", x.Ref(), m.Name, because)
	}
	again := m.Name != "" && x.Name != "" && x.Name != m.Name // it keeps the name that it has, too
	if m.Name != "" && !again {
		x.Name = m.Name
	}
	if m.Note != "" && !strings.Contains(x.Note, m.Note) {
		x.Note = strings.TrimSpace(x.Note + "\n" + m.Note)
	}
	err = q.MarkVersion(ctx, x)
	if err == nil && again {
		err = q.NameAgain(ctx, x, m.Name, v.Pull.Actor, v.s.Now())
	}
	if errors.Is(err, store.ErrTaken) { // somebody gave it to another meanwhile
		return no("another version has that name since"), nil
	}
	return "", err
}

// keepDevice writes one device's share of a visit.
func (v *Visit) keepDevice(ctx context.Context, q *store.Q, d *core.Device, dia *dialect.Dialect, pull core.Pull, names []string, parts map[string]link.Part, factory bool, l *job.Log, k *Kept) error {
	pull.Result = "done"
	settled := map[string]string{} // two parts that agree in it are equivalent
	aside, why := judge(*d, dia, pull, factory)
	if aside == "" && d.Testing != "" {
		own, err := v.ownAgain(ctx, q, *d, dia, names, parts)
		if err != nil {
			return err
		}
		if !own {
			aside, why = core.RestoreTest, "it runs what a restore test or learning left there (job "+d.Testing+")"
		}
	}
	if aside != "" {
		l.Warn("%s; what was pulled is kept, but counts for nothing", why)
	} else if !slices.Contains(d.Serials, pull.Serial) {
		if twins, err := q.WithSerial(ctx, pull.Serial, d.ID); err != nil {
			return err
		} else if len(twins) > 0 && d.Member == "" {
			l.Warn("the unit's serial number, %s, is that of %s too: is it registered twice?", pull.Serial, strings.Join(twins, ", "))
		}
		d.Serials = append(d.Serials, pull.Serial)
	}
	heads, err := q.Heads(ctx, d.ID, names, aside != "")
	if err != nil {
		return err
	}
	var found verdict
	acknowledged := d.Acknowledged
	d.Acknowledged = nil
	var sighted []string
	for _, name := range names {
		kept := heads[name]
		doc := dia.Doc(name)
		settled[name] = doc.Settled(parts[name].Text)
		p, version, err := v.keepPart(ctx, q, *d, kept, doc, pull, parts[name], settled[name], aside, l)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if sign := v.signKey(parts[name].Sign); sign != "" && aside == "" && !p.Absent {
			if err := q.NoteSign(ctx, kept.ID, sign, *pull.TakenAt); err != nil {
				return err
			}
		}
		if !p.New && !p.Absent && aside == "" {
			sighted = append(sighted, version.ID)
		}
		k.Result.Parts, k.Versions[name] = append(k.Result.Parts, p), version
		if aside == "" && !p.Absent {
			y, err := v.s.Measure(ctx, q, *d, doc, name, kept.Baseline != "" && kept.Baseline != version.ID)
			if err != nil {
				return err
			}
			if err := found.add(ctx, v.s, q, d, y, name, parts[name].Text, version.Fingerprint); err != nil {
				return err
			}
		}
		if name == dia.Main() {
			k.Running = version
			if aside == "" {
				d.Latest = version.Number
				if p.New {
					d.LastChanged = pull.TakenAt
				}
			}
		}
	}
	if err := q.Sight(ctx, sighted, *pull.TakenAt); err != nil {
		return err
	}
	if aside == "" && d.Member == "" && len(names) > 0 {
		off, err := v.elements(ctx, q, *d, dia, heads, names, k, l)
		if err != nil {
			return err
		}
		if off {
			found.off, found.loud = true, true
		}
	}
	// A pull that found nothing new is the sightings that it made, and no row of its own.
	if slices.ContainsFunc(k.Result.Parts, func(p PulledPart) bool { return p.New }) {
		if err := q.AddPull(ctx, pull); err != nil {
			return err
		}
	}
	if aside != "" && v.Where.Address != "" && d.ID == v.Device.ID {
		// A unit somewhere else was looked at: that says nothing of the one at the device's own address.
		k.Device = *d
		k.Device.State, k.Device.Trouble, k.Device.Acknowledged = aside, why, acknowledged
		return nil
	}
	d.Host, d.Model, d.Serial, d.Release = pull.Host, pull.Model, pull.Serial, pull.Release
	d.Trouble, d.LastTried, d.LastPulled = why, pull.TakenAt, pull.TakenAt
	if aside == core.RestoreTest {
		d.Acknowledged = acknowledged
		k.Device = *d
		return q.SetStanding(ctx, *d)
	}
	if aside != "" {
		d.State, d.Acknowledged = aside, acknowledged
	} else {
		found.settle(d)
		follows, of, paired := dia.Follower()
		if _, had := parts[follows]; had || !paired {
			d.Unsaved = settled[follows] != settled[of] && unsaved(dia, parts)
		}
		d.State = Standing(*d)
		if len(v.missing) > 0 && d.ID == v.Device.ID {
			d.State, d.Trouble = core.PullFailing, strings.Join(v.missing, "; ")
		}
	}
	k.Device = *d
	return q.SetStanding(ctx, *d)
}

// elements notes which logical elements the device had and has no more, and which it has again. In the
// device's first pull each gets its first version for a baseline. One that vanished gets its last, if it has
// none, is not new and was removed by no push: that it is gone is drift until somebody takes the baseline away. off tells
// whether the elements that are there are those that should be.
func (v *Visit) elements(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, heads map[string]store.Head, names []string, k *Kept, l *job.Log) (off bool, err error) {
	some := false
	for name := range heads {
		_, is := core.ElementOf(name)
		some = some || is
	}
	if !some {
		return false, nil
	}
	first := heads[dia.Main()].VersionID == "" // nothing was pulled before
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return off, err
	}
	added, err := v.s.NewElements(ctx, q, d, dia, parts)
	if err != nil {
		return off, err
	}
	for _, name := range slices.Sorted(maps.Keys(heads)) {
		h := heads[name]
		element, is := core.ElementOf(name)
		if !is {
			continue
		}
		there := slices.Contains(names, name)
		switch x := k.Versions[name]; {
		case there && h.GoneAt != nil:
			l.Info("logical element %s is there again", element)
			err = q.PartGone(ctx, h.ID, nil)
		case there && first && h.Baseline == "" && !dia.Doc(name).Opaque():
			err = q.SetBaseline(ctx, h.ID, x.ID)
		case there && h.VersionID == "" && !first:
			l.Warn("logical element %s is new", element)
			k.New = append(k.New, element)
		case !there && h.GoneAt == nil && h.VersionID != "":
			l.Warn("logical element %s is not there any more; what it was is kept as %s/%s@%d", element, d.Name, name, h.Number)
			k.Gone = append(k.Gone, element)
			isNew := slices.ContainsFunc(added, func(x core.Version) bool { return x.Part == name })
			if err = q.PartGone(ctx, h.ID, v.Pull.TakenAt); err == nil && h.Baseline == "" && !isNew && !slices.Contains(v.Removes, name) {
				err = q.SetBaseline(ctx, h.ID, h.VersionID)
			}
		}
		if err != nil {
			return off, err
		}
	}
	if parts, err = q.Parts(ctx, d.ID); err != nil {
		return off, err
	}
	return v.s.elementsOff(ctx, q, d, dia, parts)
}

// signKey is what is kept of a sign: it holds for one unit, read by one revision of a dialect.
func (v *Visit) signKey(sign string) string {
	if sign == "" {
		return ""
	}
	return v.s.Store.Keys().Hash("sign", []byte(fmt.Sprintf("%s %d %s", v.Pull.Serial, v.Pull.DialectRev, sign)))
}

// keepGlance writes down that the newest versions were seen again.
func (v *Visit) keepGlance(ctx context.Context, q *store.Q, d core.Device) (k Kept, err error) {
	heads, err := q.Heads(ctx, d.ID, v.Names, false)
	if err != nil {
		return k, err
	}
	var sighted []string
	for _, name := range v.Names {
		h := heads[name]
		if h.VersionID == "" {
			return k, fmt.Errorf("%s: no version of it counts, though its sign was kept", name)
		}
		sighted = append(sighted, h.VersionID)
		k.Result.Parts = append(k.Result.Parts, PulledPart{Part: name, VersionID: h.VersionID, Number: h.Number})
	}
	k.Result.BySign = true
	if err := q.Sight(ctx, sighted, *v.Pull.TakenAt); err != nil {
		return k, err
	}
	d.Host, d.LastTried, d.LastPulled = v.Pull.Host, v.Pull.TakenAt, v.Pull.TakenAt
	k.Device = d
	return k, q.SetStanding(ctx, d)
}

// ownAgain tells whether a device that a restore test is made on runs its own
// configuration: the newest that counts.
func (v *Visit) ownAgain(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, names []string, parts map[string]link.Part) (bool, error) {
	heads, err := q.Heads(ctx, d.ID, names, false)
	if err != nil {
		return false, err
	}
	doc := dia.Doc(dia.Main())
	return v.s.unchanged(ctx, q, heads[dia.Main()], doc, v.s.Fingerprint(doc, doc.Settled(parts[dia.Main()].Text)))
}

// judge tells whether what answered is what is expected there; if not, why the
// visit is set aside, in a word and in a sentence.
func judge(d core.Device, dia *dialect.Dialect, p core.Pull, factory bool) (aside, why string) {
	switch {
	case factory:
		return core.FactoryDefaults, fmt.Sprintf("the unit that answers has factory settings (serial %s)", p.Serial)
	case len(d.Serials) == 0 || slices.Contains(d.Serials, p.Serial):
		return "", ""
	case dia.Identity.Pair && len(d.Serials) < 2:
		return "", "" // the other half of a pair
	}
	return core.HardwareChanged, fmt.Sprintf("other hardware answers: serial %s (%s), expected is %s", p.Serial, p.Model, strings.Join(d.Serials, " or "))
}

// keepMembers writes what a visit brought of the devices that the visited one
// speaks for; those that are new are registered.
func (v *Visit) keepMembers(ctx context.Context, q *store.Q, parent core.Device, k *Kept) error {
	for _, m := range v.Members {
		d, err := q.MemberDevice(ctx, parent.ID, m.Name)
		if errors.Is(err, store.ErrNotFound) {
			d = core.Device{Name: memberName(m.Name), Address: parent.Address, Port: parent.Port, Site: parent.Site, Kind: m.dia.Kind, Dialect: parent.Dialect,
				HostKey: parent.HostKey, CredentialID: parent.CredentialID, ParentID: parent.ID, Member: m.Name, Transport: parent.Transport}
			if _, err := q.Device(ctx, d.Name); err == nil {
				d.Name = memberName(parent.Name + "-" + m.Name)
			} else if !errors.Is(err, store.ErrNotFound) {
				return err
			}
			if err := q.AddDevice(ctx, &d, nil); err != nil {
				return fmt.Errorf("registering %s, which %s speaks for: %w", m.Name, parent.Name, err)
			}
			if err := q.Audit(ctx, "device discovered", d.Name, parent.Name+" speaks for it as "+m.Name); err != nil {
				return err
			}
			k.Result.Found, err = append(k.Result.Found, d.Name), nil
		} else if err == nil {
			d, err = q.LockDevice(ctx, d.ID, 0)
		}
		if err != nil {
			return err
		}
		pull := v.Pull
		pull.ID, pull.DeviceID, pull.Host, pull.Model, pull.Serial, pull.Release = store.NewID(v.s.Now()), d.ID, m.Name, m.Model, m.Serial, m.Release
		if m.err != nil {
			if err := noteTrouble(ctx, q, d, pull, core.PullFailing, m.err, *v.Pull.TakenAt); err != nil {
				return err
			}
			k.Result.Members.Failed++
			continue
		}
		mine := Kept{Versions: map[string]core.Version{}}
		if err := v.keepDevice(ctx, q, &d, m.dia, pull, m.names, m.parts, false, v.s.Silent(), &mine); err != nil {
			return fmt.Errorf("%s: %w", m.Name, err)
		}
		k.Result.Members.Pulled++
		for _, p := range mine.Result.Parts {
			if p.New {
				k.Result.Members.Changed++
				break
			}
		}
	}
	return nil
}

// memberName makes a device's name of what its parent calls it.
func memberName(s string) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '.', r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, s)
	out = strings.Trim(out, "-._")
	return out[:min(len(out), 60)]
}

func (v *Visit) keepPart(ctx context.Context, q *store.Q, d core.Device, head store.Head, doc *dialect.Doc, pull core.Pull, got link.Part, settled, aside string, l *job.Log) (out PulledPart, _ core.Version, err error) {
	name, p := head.Name, head.Part
	out = PulledPart{Part: name, Absent: got.Absent, Aside: aside}
	if got.Absent {
		return out, core.Version{}, q.CloseSeen(ctx, p.ID)
	}
	fingerprint := v.s.Fingerprint(doc, settled)
	if got.Passphrase != "" && got.Sign != "" {
		// Encrypted anew each time: only the device can tell whether it changed.
		fingerprint = v.s.signFingerprint(pull.Serial, got.Sign)
	}
	again, err := v.s.unchanged(ctx, q, head, doc, fingerprint)
	if err != nil {
		return out, core.Version{}, err
	}
	if again {
		sound, err := v.sound(ctx, q, head, got, l)
		if err != nil {
			return out, core.Version{}, err
		}
		if sound {
			latest := core.Version{ID: head.VersionID, PartID: p.ID, Number: head.Number, ContentID: head.ContentID, Fingerprint: fingerprint, Device: d.Name, DeviceID: d.ID, Part: name}
			out.VersionID, out.Number = latest.ID, latest.Number
			if aside != "" {
				err = q.CloseSeen(ctx, p.ID)
			}
			return out, latest, err
		}
	}
	author := cmp.Or(got.Author, v.author)
	if pull.Reason == core.AfterPush && author == v.Speaker.User { // the device says the account that we sign in with: the person is who pushed
		author = pull.Actor
	}
	next := core.Version{PullID: pull.ID, Fingerprint: fingerprint, TakenAt: *pull.TakenAt, Reason: pull.Reason, Actor: pull.Actor, Aside: aside,
		Author: author, DialectRev: pull.DialectRev, Device: d.Name, Part: name, DeviceID: d.ID, Sign: got.Sign}
	if !doc.Opaque() {
		next.Lines = len(text.Lines(got.Text))
		var was int
		if next.Added, next.Removed, was, err = v.s.Counted(ctx, q, d.ID, name, doc, settled); err != nil {
			return out, next, err
		}
		if aside == "" && next.Lines*2 < was {
			l.Warn("%s shrank from %d to %d lines; have a look whether that was meant", name, was, next.Lines)
		}
	}
	if l, is := got.Basin.(*large); is {
		next.ContentID, err = q.PutSunk(ctx, l.sunk)
	} else {
		next.ContentID, err = q.PutContent(ctx, []byte(got.Text), p.ID, p.Last)
	}
	if err != nil {
		return out, next, err
	}
	if err := q.AddVersion(ctx, p, &next, got.Passphrase); err != nil {
		return out, next, err
	}
	next.Size = int(got.Size)
	out.VersionID, out.Number, out.New, out.Added, out.Removed = next.ID, next.Number, true, next.Added, next.Removed
	if aside == "" && head.VersionID != "" && !again {
		err = q.Happen(ctx, core.VersionKept, d.ID, d.Name, pull.JobID, core.Happened{Part: name, VersionID: next.ID, Number: next.Number, Added: next.Added, Removed: next.Removed, By: cmp.Or(next.Author, next.Actor), Reason: next.Reason})
	}
	return out, next, err
}

// sound tells whether a part's newest version, which says the same as what runs, can be given back:
// by what the last scrub found, or where that is asked for by reading it. One that cannot is mended
// if what runs is the same byte for byte; if not, what runs is to be kept once more.
func (v *Visit) sound(ctx context.Context, q *store.Q, head store.Head, got link.Part, l *job.Log) (bool, error) {
	if _, is := got.Basin.(*large); is || !v.Sound && !head.Damaged { // a large file's pieces are mended from copies
		return true, nil
	}
	_, err := q.Content(ctx, head.ContentID)
	switch {
	case errors.Is(err, store.ErrLarge):
		return true, nil
	case !errors.Is(err, store.ErrDamaged):
		return true, err
	case v.s.Store.Keys().Hash("content", []byte(got.Text)) == head.ContentID:
		l.Warn("%s: version %d did not read back; it is mended with what runs", head.Name, head.Number)
		return true, q.MendContent(ctx, head.ContentID, []byte(got.Text))
	}
	l.Warn("%s: version %d does not read back; what runs says the same and is kept once more", head.Name, head.Number)
	return false, nil
}

// Counted tells how many lines come and go, settled, since a part's newest version that counts, and
// how many lines that has; nothing where there is none, or where it cannot be read.
func (s *Service) Counted(ctx context.Context, q *store.Q, deviceID, part string, doc *dialect.Doc, settled string) (came, went, was int, err error) {
	_, before, err := q.VersionText(ctx, store.Latest(deviceID, part, 0))
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrLarge) {
		return 0, 0, 0, nil
	}
	if err != nil {
		return 0, 0, 0, err
	}
	came, went = doc.Counts(doc.Settled(string(before)), settled)
	return came, went, len(text.Lines(string(before))), nil
}

// Unsaved tells whether startup is not equivalent to running, or what else follows
// another part to that, where a device has both.
func (v *Visit) Unsaved() bool { return unsaved(v.Dialect, v.Parts) }

func unsaved(dia *dialect.Dialect, parts map[string]link.Part) bool {
	follows, of, _ := dia.Follower()
	copied, ok := parts[follows]
	from, both := parts[of]
	if !ok || !both {
		return false
	}
	doc := dia.Doc(follows)
	return copied.Absent || !doc.Equivalent(from.Text, copied.Text)
}

// Strays are the devices it speaks for that are not there, with what it says of
// them; and those that are known here and of which it does not know, by that name.
func (v *Visit) Strays(kids []core.Device) (out []string) {
	for _, k := range kids {
		if k.Member != "" && !slices.ContainsFunc(v.Members, func(m *memberVisit) bool { return m.Name == k.Member }) {
			out = append(out, k.Member+" (it knows nobody of that name)")
		}
	}
	for _, m := range v.Members {
		if !v.Session.Present(link.Member{Name: m.Name, State: m.State}) {
			out = append(out, fmt.Sprintf("%s (%s)", m.Name, m.State))
		}
	}
	return out
}

// PullResult is what came of a pull.
type PullResult struct {
	Parts   []PulledPart `json:"parts"`
	BySign  bool         `json:"by_sign,omitempty"` // nothing was fetched: its signs of change were as they had been
	Found   []string     `json:"found,omitempty"`   // devices registered because this one speaks for them
	Members struct {
		Pulled  int `json:"pulled"`
		Changed int `json:"changed"`
		Failed  int `json:"failed"`
	} `json:"members"`
}

// PulledPart is one part of a pull.
type PulledPart struct {
	Part      string `json:"part"`
	VersionID string `json:"version_id,omitempty"`
	Number    int    `json:"number,omitempty"`
	Name      string `json:"name,omitempty"` // that it was given by this pull
	New       bool   `json:"new"`
	Absent    bool   `json:"absent,omitempty"`
	Aside     string `json:"aside,omitempty"` // why it counts for nothing
	Added     int    `json:"added"`
	Removed   int    `json:"removed"`
}

var pullEnd = wire.Make[client.PullEnd, PullResult]()

// viewPull is what a pull brought, as it goes over the wire.
func viewPull(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var r PullResult
	err := q.OpenResult(j, &r)
	out := pullEnd(r)
	return &out, err
}

// noteTrouble writes a visit that brought nothing: the seen intervals end here.
func noteTrouble(ctx context.Context, q *store.Q, d core.Device, pull core.Pull, state string, cause error, now time.Time) error {
	pull.Result, pull.Trouble = "failed", cause.Error()
	if err := q.AddPull(ctx, pull); err != nil {
		return err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range parts {
		if err := q.CloseSeen(ctx, p.ID); err != nil {
			return err
		}
	}
	d.Trouble, d.LastTried, d.State = cause.Error(), &now, state
	return q.SetStanding(ctx, d)
}
