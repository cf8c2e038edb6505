package push

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/text"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// elementTargets are the versions that a device's logical elements had when a version of its main part was
// taken; of a baseline their own baselines, of a name those of that name, of the newest what is there now.
// An element that was not there then has none. unsure are those of which nothing that is kept tells. known
// tells whether anything is known: an imported or edited version was taken with nothing, and what was pulled
// of other hardware counts for nothing.
func (s *Service) elementTargets(ctx context.Context, q *store.Q, target core.Version, which string) (out map[string]core.Version, unsure []string, known bool, err error) {
	if target.Aside != "" || target.PullID == "" {
		return nil, nil, false, nil
	}
	parts, err := q.Parts(ctx, target.DeviceID)
	if err != nil {
		return nil, nil, false, err
	}
	owner, err := q.AnyDeviceByID(ctx, target.DeviceID)
	if err != nil {
		return nil, nil, false, err
	}
	var added []core.Version
	if which == "baseline" {
		if added, err = s.NewElements(ctx, q, owner, s.DialectOf(owner), parts); err != nil {
			return nil, nil, false, err
		}
	}
	out = map[string]core.Version{}
	for _, p := range parts {
		if _, is := core.ElementOf(p.Name); !is {
			continue
		}
		var picks []store.Pick
		switch which {
		case "baseline", "latest":
			if which == "baseline" && p.Baseline != "" {
				picks = append(picks, store.ByID(p.Baseline))
				break
			}
			isNew := func(v core.Version) bool { return v.Part == p.Name }
			if p.GoneAt != nil || slices.ContainsFunc(added, isNew) {
				out[p.Name] = core.Version{}
				continue
			}
			picks = append(picks, store.Latest(target.DeviceID, p.Name, 0))
		default:
			if name := target.Name; name != "" && which == "name" {
				picks = append(picks, store.ByName(target.DeviceID, p.Name, name))
			}
			picks = append(picks, store.SeenAt(target.DeviceID, p.Name, target.TakenAt))
		}
		out[p.Name] = core.Version{}
		for _, pick := range picks {
			v, err := q.Version(ctx, pick)
			if err == nil {
				out[p.Name] = v
				break
			}
			if !errors.Is(err, store.ErrNotFound) {
				return nil, nil, false, err
			}
		}
		if out[p.Name].ID != "" {
			continue
		}
		first, err := q.Version(ctx, store.First(target.DeviceID, p.Name))
		switch {
		case errors.Is(err, store.ErrNotFound):
		case err != nil:
			return nil, nil, false, err
		case first.Number == 1 && first.TakenAt.After(target.TakenAt): // it came later
		case p.GoneAt != nil && !p.GoneAt.After(target.TakenAt): // it was gone by then
		default:
			unsure = append(unsure, p.Name)
		}
	}
	return out, unsure, true, nil
}

// elements works out what a push of the main part does with the device's logical elements, the steps that do
// it, and what that changes.
func (s *Service) elements(ctx context.Context, v *visit.Visit, k visit.Kept, targets map[string]core.Version, unsure []string) (all []Element, steps []SendStep, changes []visit.Difference, err error) {
	q := s.Store.As(job.Service)
	names := slices.Collect(maps.Keys(targets))
	for _, name := range v.Names {
		if _, is := core.ElementOf(name); is && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		want, base := targets[name], k.Versions[name]
		_, there := v.Parts[name]
		element, _ := core.ElementOf(name)
		e := Element{Part: name, Name: element, TargetID: want.ID, BaseID: base.ID, Fingerprint: base.Fingerprint}
		if want.ID != "" {
			e.Target = want.Ref()
		}
		var text string
		if want.ID != "" {
			if err := s.Whole(ctx, &want, func() (err error) { text, err = s.TextOf(ctx, q, v.Dialect.Doc(name), want.ContentID); return err }); err != nil {
				return nil, nil, nil, err
			}
		}
		if slices.Contains(unsure, name) {
			e.TargetID, e.Cannot = base.ID, "what it was then is not kept"
			all = append(all, e)
			continue
		}
		var off []visit.Difference
		e.Do, off, err = s.elementDiffers(v, name, text, want.ID != "")
		if err != nil {
			return nil, nil, nil, err
		}
		if e.Do == "" && !there {
			continue // neither then nor now
		}
		if e.Do != "" {
			if e.Cannot = cannotAlong(v, name); e.Cannot == "" {
				steps, changes = append(steps, elementStep(v, e, text)), append(changes, off...)
			}
		}
		all = append(all, e)
	}
	return all, steps, changes, nil
}

// elementDiffers compares what a visit found of an element with what is wanted of it.
func (s *Service) elementDiffers(v *visit.Visit, part, want string, wanted bool) (do string, off []visit.Difference, err error) {
	now, there := v.Parts[part]
	element, _ := core.ElementOf(part)
	whole := func(of string) string {
		return fmt.Sprintf("logical element %s, %s", element, core.Count(len(text.Lines(of)), "line", "lines"))
	}
	switch {
	case !there && !wanted:
		return "", nil, nil
	case !there:
		w := whole(want)
		return "create", []visit.Difference{{Want: w, WantMasked: w}}, nil
	case !wanted:
		h := whole(now.Text)
		return "remove", []visit.Difference{{Have: h, HaveMasked: h}}, nil
	}
	off, err = s.Differences(v.Dialect.Doc(part), now.Text, want)
	for i := range off {
		off[i].Block = strings.TrimSuffix("logical element "+element+" / "+off[i].Block, " / ")
	}
	if len(off) > 0 {
		do = "change"
	}
	return do, off, err
}

// cannotAlong is why an element cannot go with the main part; empty: it can.
func cannotAlong(v *visit.Visit, part string) string {
	doc := v.Dialect.Doc(part)
	if _, ok := doc.XML(); !ok || !v.Session.Whole(part) {
		return fmt.Sprintf("dialect %s sends one part at a time; if the element is there: magpie push DEVICE/%s@VERSION", v.Dialect.Dialect, part)
	}
	return ""
}

// elementStep is how an element is put to what it is to be.
func elementStep(v *visit.Visit, e Element, want string) SendStep {
	st := say("load", e.what())
	st.Part, st.Content, st.Current = e.Part, []byte(want), []byte(v.Parts[e.Part].Text)
	if e.Do == "remove" {
		st.Drop, st.Content, st.Current = true, nil, nil
	}
	return st
}

// withElements adds to a preview of the main part what is done with the logical elements.
func (s *Service) withElements(ctx context.Context, v *visit.Visit, k visit.Kept, target core.Version, req PreviewRequest, p *Preview) (err error) {
	if v.Dialect.Elements == nil || v.Device.Member != "" || p.Part != v.Dialect.Main() || req.Alone || len(req.Only) > 0 || req.Method != "replace" {
		return nil
	}
	var targets map[string]core.Version
	var unsure []string
	known := true
	switch q := s.Store.As(job.Service); {
	case req.UndoOf != "":
		targets, known, err = s.elementsBefore(ctx, q, req.UndoOf)
	case req.Elements != nil:
		targets = map[string]core.Version{}
		for part, id := range req.Elements {
			if targets[part], err = q.Version(ctx, store.ByID(id)); err != nil {
				return fmt.Errorf("%s: %w", part, err)
			}
		}
	default:
		targets, unsure, known, err = s.elementTargets(ctx, q, target, req.Which)
	}
	if err != nil {
		return err
	}
	if !known {
		if slices.ContainsFunc(v.Names, func(n string) bool { _, is := core.ElementOf(n); return is }) {
			p.Notes = append(p.Notes, fmt.Sprintf("which logical elements belong to %s is not known: they stay as they are", p.Target))
		}
		return nil
	}
	all, steps, changes, err := s.elements(ctx, v, k, targets, unsure)
	if err != nil {
		return err
	}
	p.Elements, p.AsWhole = all, true
	p.Steps, p.Changes = beforeCommit(p.Steps, steps, v.Session), append(p.Changes, changes...)
	for _, e := range all {
		switch {
		case e.Cannot != "" && e.Do == "":
			p.Notes = append(p.Notes, fmt.Sprintf("logical element %s stays as it is, and this push will not end %s: %s", e.Name, core.Verified, e.Cannot))
		case e.Cannot != "":
			p.Notes = append(p.Notes, fmt.Sprintf("%s; this push does not do that, and will not end %s: %s", e.what(), core.Verified, e.Cannot))
		}
	}
	return nil
}

// elementsBefore are the versions that the elements had before a push.
func (s *Service) elementsBefore(ctx context.Context, q *store.Q, jobID string) (map[string]core.Version, bool, error) {
	j, err := q.Job(ctx, jobID)
	if err != nil {
		return nil, false, err
	}
	var req Request
	var of Preview
	if err = q.OpenRequest(j, &req); err == nil {
		_, err = q.Preview(ctx, req.PreviewID, &of)
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, false, nil
	}
	out := map[string]core.Version{}
	for _, e := range of.Elements {
		if err == nil && e.BaseID != "" {
			out[e.Part], err = q.Version(ctx, store.ByID(e.BaseID))
		}
	}
	return out, of.AsWhole, err
}

// beforeCommit puts the steps for elements before the one that commits, or has what was sent take effect.
func beforeCommit(steps, more []SendStep, to *link.Session) []SendStep {
	if len(more) == 0 {
		return steps
	}
	if len(steps) == 0 && to.Commits() {
		steps = []SendStep{commits(to)}
	}
	at := slices.IndexFunc(steps, func(st SendStep) bool { return st.Kind == "commit" || st.Kind == "live" })
	if at < 0 {
		at = len(steps)
	}
	return slices.Concat(steps[:at], more, steps[at:])
}

// elementsOff lists what keeps the logical elements from being what the push was to make of them; before says
// that it is what they were before the push that counts.
func (u *push) elementsOff(ctx context.Context, v *visit.Visit, before bool) (all []visit.Difference, err error) {
	for _, e := range u.p.Elements {
		_, off, _, err := u.elementNow(ctx, v, e, before)
		if err != nil {
			return nil, err
		}
		all = append(all, off...)
	}
	return all, nil
}

// elementNow compares one element with what it was to be, or was before.
func (u *push) elementNow(ctx context.Context, v *visit.Visit, e Element, before bool) (do string, off []visit.Difference, want string, err error) {
	id := e.TargetID
	if before {
		id = e.BaseID
	}
	if id != "" {
		q := u.s.Store.As(job.Service)
		is, err := q.Version(ctx, store.ByID(id))
		if err == nil {
			want, err = u.s.TextOf(ctx, q, v.Dialect.Doc(e.Part), is.ContentID)
		}
		if err != nil {
			return "", nil, "", fmt.Errorf("logical element %s: %w", e.Name, err)
		}
	}
	do, off, err = u.s.elementDiffers(v, e.Part, want, id != "")
	return do, off, want, err
}

// elementsBack are the steps that take the elements back to what they were before the push.
func (u *push) elementsBack(ctx context.Context) (steps []SendStep, err error) {
	for _, e := range u.p.Elements {
		do, _, want, err := u.elementNow(ctx, u.v, e, true)
		if err != nil {
			return nil, err
		}
		if do == "" || cannotAlong(u.v, e.Part) != "" {
			continue
		}
		e.Do = do
		steps = append(steps, elementStep(u.v, e, want))
	}
	return steps, nil
}

// elementsMoved tells which element changed since the preview; empty: none.
func (u *push) elementsMoved(k visit.Kept) string {
	known := map[string]Element{}
	for _, e := range u.p.Elements {
		known[e.Part] = e
	}
	for _, name := range u.v.Names {
		if element, is := core.ElementOf(name); is && u.p.AsWhole && known[name].Fingerprint != k.Versions[name].Fingerprint {
			return element
		}
	}
	for _, e := range u.p.Elements {
		if _, there := u.v.Parts[e.Part]; !there && e.BaseID != "" {
			return e.Name
		}
	}
	return ""
}

// created tells whether the push made a logical element that was not there.
func (u *push) created() bool {
	_, is := core.ElementOf(u.p.Part)
	return is && u.before.ID == ""
}
