package visit

import (
	"context"
	"errors"
	"fmt"
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
func (v *Visit) Fetch(ctx context.Context) (err error) {
	sess := v.Session
	if v.Device.Member != "" {
		sess = sess.For(v.Device.Member)
	}
	elements, err := sess.Elements()
	if err != nil {
		return err
	}
	v.Names, v.Parts, v.Members, v.missing = partNames(v.Dialect, elements), map[string]link.Part{}, nil, nil
	v.Unreadable = ""
	err = v.fetchParts(ctx, sess)
	if err != nil && v.Identity.Factory {
		// A first-run page may stand before everything else.
		v.Log.Info("it has factory settings, and shows nothing of them: %v", err)
		v.Names, err = nil, nil
	}
	if err != nil {
		return err
	}
	if v.Dialect.Members != nil && v.Device.Member == "" {
		if err := v.fetchMembers(ctx); err != nil {
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

// fetchParts gets the device's own parts. What a pull cannot have does not cost it the
// others: that is told, and only the main part is indispensable.
func (v *Visit) fetchParts(ctx context.Context, sess *link.Session) error {
	if !v.pull && !v.Overwrites {
		return v.s.fetchParts(ctx, sess, v.Dialect, v.Names, v.Parts, v.Log)
	}
	var had []string
	for _, name := range v.Names {
		err := v.s.fetchParts(ctx, sess, v.Dialect, []string{name}, v.Parts, v.Log)
		var part *link.Incomplete
		switch over := v.Overwrites && !v.Identity.Factory && errors.As(err, &part) && part.Err == nil; {
		case err == nil:
		case over && name == v.Dialect.Main():
			v.Unreadable, v.Came = err.Error(), v.s.Store.Keys().Hash("fingerprint", []byte(part.Got))
		case !v.pull && !over, name == v.Dialect.Main(), !ofPart(err):
			return err
		}
		if err != nil {
			v.Log.Trouble(fmt.Sprintf("%s cannot be had: %v", name, err), "")
			v.missing = append(v.missing, fmt.Sprintf("%s cannot be had: %v", name, err))
			continue
		}
		had = append(had, name)
	}
	v.Names = had
	return nil
}

// ofPart tells whether what went wrong is about one part, so that the conversation can go
// on: the device refused it, or what came was not complete and nothing more did.
func ofPart(err error) bool {
	var refused *link.Refused
	var part *link.Incomplete
	return errors.As(err, &refused) && refused.Means == "refused" || errors.As(err, &part) && part.Err == nil
}

func (s *Service) fetchParts(ctx context.Context, sess *link.Session, dia *dialect.Dialect, names []string, into map[string]link.Part, l *job.Log) error {
	for _, name := range names {
		p, err := s.fetch(ctx, sess, dia.Doc(name), name)
		if err != nil {
			return err
		}
		into[name] = p
		switch {
		case p.Absent:
			l.Info("%s: the device has none", name)
		case dia.Doc(name).Opaque():
			l.Info("%s: %d bytes, complete", name, p.Size)
		default:
			l.Info("%s: %s, complete", name, core.Count(len(text.Lines(p.Text)), "line", "lines"))
			u, c := dia.Doc(name).Flaws(p.Text)
			if len(u) > 0 {
				l.Warn("%s: %s read as dialect %s says, the first is line %d: %s; what cannot be read is kept and compared as it stands", name, core.Count(len(u), "line cannot be", "lines cannot be"), dia.Dialect, u[0].Line, u[0].Unread)
			}
			if len(c) > 0 {
				l.Warn("%s: %s the identity of a line before it, the first is line %d: rule %s of dialect %s takes them for one entry, and the device does not; they are kept apart", name, core.Count(len(c), "line has", "lines have"), c[0].Src, c[0].Rule.Path, dia.Dialect)
			}
		}
	}
	return nil
}

// fetchMembers gets the parts of the devices that this one speaks for. One that
// cannot be had is that device's trouble, not this one's.
func (v *Visit) fetchMembers(ctx context.Context) error {
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
		one.err = v.s.fetchParts(ctx, v.Session.For(m.Name), one.dia, one.names, one.parts, v.s.Silent())
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
