package read

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// ErrNotEditable is returned for a text that is not kept as a version.
var ErrNotEditable = errors.New("it is not kept")

// ErrUnlikely is returned for a text that hardly is the device's, when nobody
// said why it is kept all the same.
var ErrUnlikely = errors.New("this text hardly is what the device should run")

// unlikely says what keeps a text that somebody brings from being believed to be
// the device's: what is always there is missing, another device's name is in it,
// or the way to the device is not.
func (s *Service) unlikely(ctx context.Context, q *store.Q, d core.Device, doc *dialect.Doc, part, was, content string) (warnings []string, err error) {
	_, top, err := doc.Parse(content)
	if err != nil {
		return nil, err
	}
	if len(top.Kids) == 0 {
		return []string{"it says nothing at all"}, nil
	}
	if lacks := link.Lacks(doc.Dialect, doc.Part, content); lacks != "" {
		warnings = append(warnings, lacks)
	}
	if old, now := visit.HostOf(doc, was), visit.HostOf(doc, content); old != "" && now != old {
		if now == "" {
			warnings = append(warnings, fmt.Sprintf("it has no host name, where %s has %s", d.Name, old))
		}
		others, err := visit.Foreign(ctx, q, d, "it", now, core.Pull{})
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, others...)
	}
	if part == "running" {
		warnings = append(warnings, visit.CutsOff(doc, d, d.User, was, content)...)
	}
	if before, now := len(text.Lines(was)), len(text.Lines(content)); now*2 < before {
		warnings = append(warnings, fmt.Sprintf("it has %s, where the version it was made of has %d", core.Count(now, "line", "lines"), before))
	}
	return warnings, nil
}

// Edit keeps a text that a person made of a version as another version of the
// same part. It counts for nothing by itself: it is not what the device runs,
// but it can be compared and pushed. The version it was made of stays. What hardly
// is the device's takes a reason: override.
func (s *Service) Edit(ctx context.Context, actor core.Actor, r ref.Version, content, why, override string) (v core.Version, err error) {
	no := func(format string, args ...any) (core.Version, error) {
		return core.Version{}, fmt.Errorf("%w: %s", ErrNotEditable, fmt.Sprintf(format, args...))
	}
	if !actor.Secrets {
		return no("only someone who may see secrets can edit a version, because the text shown to others lacks them")
	}
	base, err := s.Version(ctx, actor, r)
	if err != nil {
		return base, err
	}
	q := s.Store.As(actor)
	d, err := q.DeviceByID(ctx, base.DeviceID)
	if err != nil {
		return base, err
	}
	dia := s.DialectOf(d)
	if dia == nil {
		return no("there is no dialect %s that could read it", d.Dialect)
	}
	doc := dia.Doc(base.Part)
	if doc.Opaque() {
		return no("%s is an opaque file", base.Ref())
	}
	for i, l := range text.Lines(content) {
		if strings.Contains(l, "‹secret ") || strings.Contains(l, rules.HiddenLine) {
			return no("line %d holds a masked secret; write the secret itself, or take the line from the text as it is shown to someone who may see secrets", i+1)
		}
	}
	if _, _, err := doc.Parse(content); err != nil {
		return no("it cannot be read as the dialect says: %v", err)
	}
	if u := doc.Unread(content); len(u) > 0 {
		return no("line %d cannot be read as the dialect says: %s", u[0].Line, u[0].Unread)
	}
	raw, err := q.Content(ctx, base.ContentID)
	if err != nil {
		return base, err
	}
	settled := doc.Settled(content)
	was := doc.Settled(string(raw))
	if settled == was {
		return no("it says the same as %s", base.Ref())
	}
	pull, err := q.PullByID(ctx, base.PullID)
	if err != nil {
		return base, err
	}
	warnings, err := s.unlikely(ctx, q, d, doc, base.Part, string(raw), content)
	if err != nil {
		return base, err
	}
	if len(warnings) > 0 && strings.TrimSpace(override) == "" {
		return base, fmt.Errorf("%w: %s", ErrUnlikely, strings.Join(warnings, "; "))
	}
	if len(warnings) > 0 {
		why = strings.TrimPrefix(why+"; ", "; ") + fmt.Sprintf("kept although %s, because: %s", strings.Join(warnings, "; "), override)
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		at := s.Now().Truncate(time.Microsecond)
		pull.ID, pull.JobID, pull.RequestedAt, pull.TakenAt, pull.Reason, pull.Actor, pull.Result = store.NewID(at), "", at, &at, core.Edited, actor.Name, "done"
		if err := q.AddPull(ctx, pull); err != nil {
			return err
		}
		p, err := q.Part(ctx, d.ID, base.Part, true)
		if err != nil {
			return err
		}
		v = core.Version{PullID: pull.ID, Fingerprint: s.Fingerprint(doc, settled), TakenAt: at, Reason: core.Edited, Actor: actor.Name, Aside: core.Edited,
			DialectRev: dia.Revision, Device: d.Name, Part: base.Part, DeviceID: d.ID, Lines: len(text.Lines(content))}
		v.Added, v.Removed = doc.Counts(was, settled)
		if v.ContentID, err = q.PutContent(ctx, []byte(content), p.ID, p.Last); err != nil {
			return err
		}
		if err := q.AddVersion(ctx, p, &v, ""); err != nil {
			return err
		}
		v.Note = fmt.Sprintf("edited from %d", base.Number) + core.Because(why)
		if err := q.MarkVersion(ctx, v); err != nil {
			return err
		}
		if err := q.Audit(ctx, "edit", v.Ref(), fmt.Sprintf("edited from %s (+%d −%d)%s", base.Ref(), v.Added, v.Removed, core.Because(why))); err != nil {
			return err
		}
		v, err = q.Version(ctx, store.ByID(v.ID))
		return err
	})
	return v, err
}
