package visit

import (
	"errors"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
)

// Fetch gets every part, each proved whole: those of the device, of its logical
// elements, and of the devices it speaks for.
func (v *Visit) Fetch() (err error) {
	sess := v.Session
	if v.Device.Member != "" {
		sess = sess.For(v.Device.Member)
	}
	elements, err := sess.Elements()
	if err != nil {
		return err
	}
	v.Names, v.Parts, v.Members = partNames(v.Dialect, elements), map[string]link.Part{}, nil
	err = fetchParts(sess, v.Dialect, v.Names, v.Parts, v.Log)
	if err != nil && v.Identity.Factory {
		// A first-run page may stand before everything else.
		v.Log.Info("it has factory settings, and shows nothing of them: %v", err)
		v.Names, err = nil, nil
	}
	if err != nil {
		return err
	}
	if v.Dialect.Members != nil && v.Device.Member == "" {
		if err := v.fetchMembers(); err != nil {
			return err
		}
	}
	at := v.s.Now().Truncate(time.Microsecond)
	v.Pull.TakenAt = &at
	return nil
}

// partNames lists the parts to fetch, the main one first.
func partNames(dia *dialect.Dialect, elements []string) []string {
	names := dia.PartNames()
	for _, e := range elements {
		for base := range dia.Parts {
			if strings.HasSuffix(base, "+") {
				names = append(names, base+e)
			}
		}
	}
	return names
}

func fetchParts(sess *link.Session, dia *dialect.Dialect, names []string, into map[string]link.Part, l *job.Log) error {
	for _, name := range names {
		p, err := sess.Fetch(name)
		if err != nil {
			return err
		}
		into[name] = p
		switch {
		case p.Absent:
			l.Info("%s: the device has none", name)
		case dia.Doc(name).Opaque():
			l.Info("%s: %d bytes, whole", name, len(p.Text))
		default:
			l.Info("%s: %s, whole", name, core.Count(len(text.Lines(p.Text)), "line", "lines"))
			if u := dia.Doc(name).Unread(p.Text); len(u) > 0 {
				l.Warn("%s: %s read as dialect %s says, the first is line %d: %s; what cannot be read is kept and compared as it stands", name, core.Count(len(u), "line cannot be", "lines cannot be"), dia.Dialect, u[0].Line, u[0].Unread)
			}
		}
	}
	return nil
}

// fetchMembers gets the parts of the devices that this one speaks for. One that
// cannot be had is that device's trouble, not this one's.
func (v *Visit) fetchMembers() error {
	all, err := v.Session.Members()
	if err != nil {
		return err
	}
	if len(all) > 0 {
		v.Log.Step("fetching %d devices it speaks for", len(all))
	}
	for _, m := range all {
		one := &memberVisit{Member: m, dia: v.Dialect.Member(), parts: map[string]link.Part{}}
		one.names = one.dia.PartNames()
		one.err = fetchParts(v.Session.For(m.Name), one.dia, one.names, one.parts, v.s.Silent())
		if one.err != nil {
			v.Log.Warn("%s: %v", m.Name, one.err)
			var refused *link.Refused
			if !errors.As(one.err, &refused) && !errors.As(one.err, new(*link.Incomplete)) {
				return one.err // the conversation itself broke
			}
		}
		v.Members = append(v.Members, one)
	}
	return nil
}
