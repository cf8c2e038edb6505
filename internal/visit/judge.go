package visit

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// Yardstick is what a part is judged by: its baseline, and what people say of its lines.
type Yardstick struct {
	Base *core.Version // nil: it has none
	Own  []rules.Own   // rules that hold for the device
	Doc  *dialect.Doc  // how the part is read, noise left aside

	plain   *dialect.Doc
	large   bool   // the baseline is too large to be held
	damaged bool   // it does not read back
	raw     string // the baseline's text
	other   bool   // it was taken from other hardware
}

// Measure finds what a part of a device is judged by. It reads the baseline only where it is asked to:
// where base is false, no more is asked than what rules say.
func (s *Service) Measure(ctx context.Context, q *store.Q, d core.Device, doc *dialect.Doc, part string, base bool) (y Yardstick, err error) {
	y.plain, y.Doc = doc, doc
	if part == doc.Main() && !doc.Opaque() { // of that part alone rules speak
		if y.Own, err = q.OwnRulesFor(ctx, d); err != nil {
			return y, err
		}
		y.Doc = doc.With(y.Own)
	}
	if !base {
		return y, nil
	}
	v, err := q.Version(ctx, store.Baseline(d.ID, part))
	if errors.Is(err, store.ErrNotFound) {
		return y, nil
	}
	if err != nil {
		return y, err
	}
	y.Base = &v
	raw, err := q.Content(ctx, v.ContentID)
	y.large, y.damaged = errors.Is(err, store.ErrLarge), errors.Is(err, store.ErrDamaged)
	if err != nil && !y.large && !y.damaged {
		return y, err
	}
	y.raw = string(raw)
	if y.other, err = s.TookFromOther(ctx, q, d, v); err != nil {
		return y, err
	}
	return y, nil
}

// Wants tells whether any rule wants lines to be there, or not.
func (y Yardstick) Wants() bool {
	return slices.ContainsFunc(y.Own, func(o rules.Own) bool {
		return o.Kind == rules.Required || o.Kind == rules.Forbidden || o.Kind == rules.Template
	})
}

// Reads tells whether a text of that fingerprint has to be read to be judged: not, where it is the
// baseline's and no rule wants anything of it.
func (y Yardstick) Reads(print string) bool {
	return y.Wants() || y.Base != nil && y.Base.Fingerprint != print
}

// Large tells whether the baseline is too large to be held.
func (y Yardstick) Large() bool { return y.large }

// Judge lists how a text is off what it is judged by: lines that differ from the baseline's, lines that
// a rule misses or does not want. print is the text's fingerprint, for files too large to be held.
func (s *Service) Judge(y Yardstick, now, print string) (off []Difference, err error) {
	off = []Difference{}
	switch {
	case y.Base == nil, print != "" && y.Base.Fingerprint == print:
	case y.large:
		if dialect.InPieces(now) {
			now = ""
		}
		line := "a large file, mark " + s.FileMark(now+print)
		off = append(off, Difference{Have: line, HaveMasked: line})
	case y.damaged:
		line := fmt.Sprintf("the baseline, %s, does not read back: by which lines cannot be said", y.Base.Ref())
		off = append(off, Difference{Want: line, WantMasked: line})
	case y.Doc.Equivalent(y.raw, now):
	default:
		if off, err = s.DifferencesOf(y.Doc, now, y.raw, y.other); err != nil {
			return nil, err
		}
	}
	if !y.Wants() {
		return off, nil
	}
	_, top, err := y.plain.Parse(now) // what is noise to one rule can be wanted by another
	if err != nil {
		return nil, err
	}
	for _, o := range y.Own {
		off = append(off, s.Breaches(y.plain, o, top)...)
	}
	return off, nil
}

// Breaches lists how a tree is off what a rule wants.
func (s *Service) Breaches(doc *dialect.Doc, o rules.Own, top *rules.Item) []Difference {
	found := o.Breaches(doc.Table, top)
	if o.Kind == rules.Template {
		_, model, err := doc.Parse(o.Text)
		if err != nil { // it could be read when it was made
			line := "the model cannot be read with what is known of the device"
			return []Difference{{Want: line, WantMasked: line, Rule: o.Name}}
		}
		found = rules.Lacking(top, model)
	}
	out := Masked(found, s.Masker(doc.Dialect))
	for i := range out {
		out[i].Rule = o.Name
	}
	return out
}

// Quieted counts the lines that are off the baseline and that noise leaves aside.
func (s *Service) Quieted(y Yardstick, now string) int {
	if y.Base == nil || y.large || y.damaged || y.Doc == y.plain {
		return 0
	}
	all, err := s.DifferencesOf(y.plain, now, y.raw, y.other)
	if err != nil {
		return 0
	}
	loud, err := s.DifferencesOf(y.Doc, now, y.raw, y.other)
	if err != nil {
		return 0
	}
	return len(all) - len(loud)
}

// LetGo counts what of a text differs from the baseline and counts for nothing, by the dialect's rules.
func (s *Service) LetGo(y Yardstick, now string) rules.Gone {
	if y.Base == nil || y.large || y.damaged {
		return rules.Gone{}
	}
	return y.plain.LetGo(y.raw, now)
}

// Mark stands for a difference where no text may be kept.
func (s *Service) Mark(d Difference) string {
	return s.Store.Keys().Hash("acknowledged", []byte(strings.Join([]string{d.Rule, d.Block, d.Have, d.Want, fmt.Sprint(d.Order)}, "\x00")))[:24]
}

// Known is the acknowledgement that covers all differences of a part; nil: none does.
func (s *Service) Known(ctx context.Context, q *store.Q, d core.Device, part string, off []Difference) (*store.Acknowledgement, error) {
	all, err := q.Acknowledged(ctx, d.ID)
	a, is := all[part]
	if err != nil || !is || !a.Until.After(s.Now()) {
		return nil, err
	}
	for _, d := range off {
		if !slices.Contains(a.Marks, s.Mark(d)) {
			return nil, nil
		}
	}
	return &a, nil
}

// verdict gathers what parts of a device are found to be.
type verdict struct{ off, loud bool }

// add judges a part's text, and notes on the device until when its drift is acknowledged. A text that
// cannot be read is off whatever it is judged by.
func (v *verdict) add(ctx context.Context, s *Service, q *store.Q, d *core.Device, y Yardstick, part, now, print string) error {
	off, err := s.Judge(y, now, print)
	if err != nil {
		v.off, v.loud = true, true
		return nil
	}
	if len(off) == 0 {
		return nil
	}
	v.off = true
	known, err := s.Known(ctx, q, *d, part, off)
	switch {
	case err != nil:
		return err
	case known == nil:
		v.loud = true
	case d.Acknowledged == nil || known.Until.Before(*d.Acknowledged):
		d.Acknowledged = &known.Until
	}
	return nil
}

// settle says what that comes to.
func (v verdict) settle(d *core.Device) {
	d.Drifted = v.off
	if v.loud || !v.off {
		d.Acknowledged = nil
	}
}

// Standing is a device's state by what is known of it, worst first.
func Standing(d core.Device) string {
	switch {
	case d.Drifted && d.Acknowledged == nil:
		return core.Drifted
	case d.Unsaved:
		return core.Unsaved
	case d.Latest == 0:
		return core.NeverPulled
	}
	return core.InSync
}

// Rejudge judges a device's newest versions anew, and writes down how it stands.
func (s *Service) Rejudge(ctx context.Context, q *store.Q, deviceID string) (core.Device, error) {
	d, err := q.LockDevice(ctx, deviceID, 0)
	if err != nil {
		return d, err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return d, err
	}
	dia := s.DialectOf(d)
	if dia == nil {
		return d, nil
	}
	var v verdict
	d.Acknowledged = nil
	for _, p := range parts {
		if p.GoneAt != nil {
			continue
		}
		latest, err := q.Version(ctx, store.Latest(d.ID, p.Name, 0))
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return d, err
		}
		y, err := s.Measure(ctx, q, d, dia.Doc(p.Name), p.Name, p.Baseline != "" && p.Baseline != latest.ID)
		if err != nil {
			return d, err
		}
		var raw string
		if y.Reads(latest.Fingerprint) {
			raw, err = s.TextOf(ctx, q, dia.Doc(p.Name), latest.ContentID)
			if errors.Is(err, store.ErrDamaged) {
				v.off, v.loud = true, true
				continue
			}
			if err != nil {
				return d, err
			}
		}
		if err := v.add(ctx, s, q, &d, y, p.Name, raw, latest.Fingerprint); err != nil {
			return d, err
		}
	}
	if off, err := s.elementsOff(ctx, q, d, dia, parts); err != nil {
		return d, err
	} else if off {
		v.off, v.loud = true, true
	}
	v.settle(&d)
	if d.State == core.Drifted || d.State == core.InSync || d.State == core.Unsaved {
		d.State = Standing(d)
	}
	return d, q.SetStanding(ctx, d)
}

// Edit writes a device that was edited. Where its entry has other rules hold for it than before, or others
// of its values stand in a model, it is judged anew.
func (s *Service) Edit(ctx context.Context, q *store.Q, was, d core.Device) error {
	if err := q.EditDevice(ctx, d); err != nil {
		return err
	}
	before, err := q.OwnRulesFor(ctx, was)
	if err != nil {
		return err
	}
	after, err := q.OwnRulesFor(ctx, d)
	if err == nil && !slices.EqualFunc(before, after, rules.Own.Same) {
		_, err = s.Rejudge(ctx, q, d.ID)
	}
	return err
}
