package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Preview returns a preview and its hash.
func (s *Service) Preview(ctx context.Context, actor core.Actor, id string) (p Preview, row store.PreviewRow, err error) {
	row, err = s.Store.As(actor).Preview(ctx, id, &p)
	return p, row, err
}

// undoWords says what takes a push back.
func undoWords(v *visit.Visit, method string) (by, words string) {
	t, why := undoTimer(v, method)
	switch {
	case t == nil:
		return byService, "by this service, as soon as the device can be reached (" + why + ")"
	case t.By != link.ByCommit:
		return t.By, fmt.Sprintf("by this service; if it cannot reach the device any more, by the device itself: it %s (back after up to %s)", goesBack(t.Returns), core.Span(t.Back))
	}
	return t.By, "by the device itself, even when it cannot be reached any more (confirmed commit)"
}

// goesBack says what a device does by itself when its timer is over.
func goesBack(to string) string {
	switch to {
	case "startup":
		return "goes back to startup, which holds what runs now"
	case "before":
		return "goes back to what ran before"
	}
	return "restarts into startup, which holds what runs now"
}

// RequestPreview queues the making of a preview.
func (s *Service) RequestPreview(ctx context.Context, actor core.Actor, d core.Device, target core.Version, req PreviewRequest, key store.Key) (j core.Job, err error) {
	req.VersionID = target.ID
	instance := ""
	if req.Relay != "" {
		r, err := s.UseRelay(ctx, actor, req.Relay, d)
		if err != nil {
			return j, err
		}
		if instance = r.Instance; req.At == "" {
			req.At = r.Address
		}
	}
	return s.Queue(ctx, actor, "preview", store.NewJob{Job: core.Job{Kind: "preview", DeviceID: d.ID, Device: d.Name, ForInstance: instance}, Wants: req, Key: key},
		fmt.Sprintf("%s of %s%s", req.Method, target.Ref(), askedWhere(d, req)))
}

// askedWhere is what the audit log has of where somebody asks the service to go.
func askedWhere(d core.Device, req PreviewRequest) (said string) {
	if req.At != "" {
		said += ", at " + req.At + " instead of " + d.Address
	}
	if req.Relay != "" {
		said += ", through relay " + req.Relay
	}
	if req.Accept != "" {
		said += ", accepting the key " + req.Accept
	}
	return said
}

// Previewed makes a preview as part of another job, and waits for it. made says
// its id and hash.
func (s *Service) Previewed(ctx context.Context, actor core.Actor, d core.Device, target core.Version, req PreviewRequest, key string) (p Preview, made map[string]string, err error) {
	j, err := s.RequestPreview(ctx, actor, d, target, req, store.OwnKey(actor, key))
	if err != nil {
		return p, nil, err
	}
	if j, err = s.Await(ctx, j.ID, nil); err != nil {
		return p, nil, err
	}
	if j.Outcome != core.Done {
		return p, nil, errors.New(j.Summary)
	}
	q := s.Store.As(job.Service)
	if err := q.OpenResult(j, &made); err != nil {
		return p, nil, err
	}
	_, err = q.Preview(ctx, made["preview"], &p)
	return p, made, err
}

// previewJob pulls the device, works out the script and keeps both.
func (s *Service) previewJob(ctx context.Context, j core.Job, l *job.Log) {
	var req PreviewRequest
	d, ok := s.Asked(ctx, j, l, &req)
	if !ok {
		return
	}
	v := s.NewVisit(j, d, core.BeforePush, l).GoTo(visit.Where{Address: req.At, Relay: req.Relay}, req.Accept)
	v.Swaps, v.Overwrites = req.Swap, true
	defer v.Close()
	if !s.Visited(ctx, j, l, v) {
		return
	}
	ctx = context.WithoutCancel(ctx)
	k, err := v.Keep(ctx)
	if err != nil {
		s.End(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
		return
	}
	l.Info("kept: %s", k.Summary())
	p, err := s.preview(ctx, v, k, req)
	if err != nil {
		l.Trouble(err.Error(), "")
		s.End(j, l, core.Refused, err.Error(), nil)
		return
	}
	hash, err := s.previewHash(p)
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	var id string
	err = s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) {
		id, err = q.PutPreview(ctx, d.ID, j.ID, hash, p)
		return err
	})
	if err != nil {
		s.End(j, l, core.Failed, "the preview could not be kept: "+err.Error(), nil)
		return
	}
	summary := core.Count(p.LineCount(), "line", "lines") + " to send"
	if len(p.Steps) == 0 {
		summary = "nothing to send, the device runs it already"
	}
	s.End(j, l, core.Done, summary, map[string]string{"preview": id, "hash": hash})
}

// previewHash binds a preview to what it says.
func (s *Service) previewHash(p Preview) (string, error) {
	raw, err := json.Marshal(p)
	return s.Store.Keys().Hash("preview", raw), err
}

// Methods are the ways to push to a device, the preferred one first.
func (s *Service) Methods(d core.Device) []string {
	if dia := s.DialectOf(d); dia != nil {
		return dia.Change.Methods
	}
	return nil
}

// written is the part of a device that a version is put into.
func written(v core.Version) string {
	if v.Part == "startup" {
		return "running"
	}
	return v.Part
}

// preview works out a push of the requested version onto what runs now.
func (s *Service) preview(ctx context.Context, v *visit.Visit, k visit.Kept, req PreviewRequest) (Preview, error) {
	q, d := s.Store.As(job.Service), k.Device
	target, err := q.Version(ctx, store.ByID(req.VersionID))
	if err != nil {
		return Preview{}, fmt.Errorf("the version to push: %w", err)
	}
	swap, err := admit(v, d, req.Swap)
	if err != nil {
		return Preview{}, err
	}
	if swap != nil { // a unit that has a place of its own is no replacement
		others, err := q.WithSerial(ctx, swap.NewSerial, d.ID)
		if err != nil {
			return Preview{}, err
		}
		if len(others) > 0 {
			return Preview{}, fmt.Errorf("the unit that answers, serial %s, is the hardware of %s, which is registered here: a swap would overwrite it. To put a version on %s: magpie push %s@VERSION; if it has left that place for good: magpie device remove %s, and swap again",
				swap.NewSerial, strings.Join(others, " and "), others[0], others[0], others[0])
		}
	}
	if !slices.Contains(v.Dialect.Change.Methods, req.Method) {
		return Preview{}, fmt.Errorf("dialect %s does not offer method %q; it offers %v", v.Dialect.Dialect, req.Method, v.Dialect.Change.Methods)
	}
	part := written(target)
	got, ok := v.Parts[part]
	unreadable := ""
	if !ok && part == v.Dialect.Main() && len(req.Only) == 0 {
		unreadable = v.Unreadable
	}
	element, is := core.ElementOf(part)
	creates := !ok && is && v.Session.Whole(part)
	if (!ok || got.Absent) && !v.Identity.Factory && unreadable == "" && !creates {
		return Preview{}, fmt.Errorf("%s cannot be pushed: %s has no part %s now", target.Ref(), d.Name, part)
	}
	owner, err := q.AnyDeviceByID(ctx, target.DeviceID)
	if err != nil || owner.Dialect != d.Dialect || (owner.Member == "") != (d.Member == "") {
		return Preview{}, fmt.Errorf("%s was taken from a device of another dialect, so it cannot be put on %s", target.Ref(), d.Name)
	}
	doc := v.Dialect.Doc(part)
	if doc.Part.Holds == "differences" {
		return Preview{}, fmt.Errorf("%s holds only what differs from the defaults; push a version of %s instead", target.Ref(), v.Dialect.Main())
	}
	from, err := q.PullByID(ctx, target.PullID)
	if err == nil && doc.Part.SameUnit && from.Serial != v.Pull.Serial {
		return Preview{}, fmt.Errorf("%s can only go back to the unit it came from, serial %s; this is %s", target.Ref(), from.Serial, v.Pull.Serial)
	}
	var want string
	if err := s.Whole(ctx, &target, func() (err error) { want, err = s.TextOf(ctx, q, doc, target.ContentID); return err }); err != nil {
		return Preview{}, err
	}
	passphrase, err := q.Passphrase(ctx, target.ID)
	if err != nil {
		return Preview{}, err
	}
	base := k.Versions[part]
	if target.ID == base.ID {
		got.Text = want // the same by the device's own sign, however it is encrypted
	}
	cred, err := s.Credential(ctx, v.Speaker)
	if err != nil {
		return Preview{}, err
	}
	unfit, notes, err := s.fit(v, doc, target, from, got.Text, want)
	if err != nil {
		return Preview{}, err
	}
	if target.DeviceID == d.ID {
		others, err := visit.Foreign(ctx, q, d, target.Ref(), visit.HostOf(doc, want), from)
		if err != nil {
			return Preview{}, err
		}
		unfit = append(unfit, others...)
	}
	other := from.Serial != "" && from.Serial != v.Pull.Serial && !v.Dialect.Identity.Pair
	pl, err := s.script(v, doc, part, ask{req.Method, got.Text, want, target.ContentID, passphrase, req.Only, other,
		req.InPlace, req.Exactly})
	if err != nil {
		return Preview{}, fmt.Errorf("putting %s on %s: %w", target.Ref(), d.Name, err)
	}
	p := Preview{DeviceID: d.ID, Device: d.Name, Serial: v.Pull.Serial, Method: req.Method, TargetID: target.ID, Target: target.Ref(), TargetName: target.Name,
		BaseID: base.ID, Base: base.Ref(), Fingerprint: base.Fingerprint, DialectRev: v.Dialect.Revision, Part: part, Steps: pl.steps, Changes: pl.changes,
		Remaining: pl.remains, Notes: pl.notes, Only: req.Only, InPlace: req.InPlace, Exactly: req.Exactly, Beside: pl.beside, Saves: v.Session.Saves(), Unsaved: v.Unsaved(), UndoOf: req.UndoOf, Predicted: pl.predicted, Where: v.Where, Swap: swap, Factory: v.Identity.Factory, KeyFacts: s.pairs(doc, got.Text, want), Warnings: unfit, SetAside: pl.setAside}
	if unreadable == "" && ok {
		p.LetGo = doc.LetGo(got.Text, want)
	}
	if req.Method == "stage" {
		p.StartupID, p.Saves = k.Versions["startup"].ID, false
	}
	if len(req.Only) > 0 {
		p.Target += ", only " + strings.Join(req.Only, ", ")
	}
	switch {
	case unreadable != "":
		p.Base, p.Unreadable, p.Came = "what cannot be read", unreadable, v.Came
		p.Warnings = append(p.Warnings, fmt.Sprintf("what %s runs is not complete, so it is not kept: %s. The push overwrites it, and nothing can take the push back", d.Name, unreadable))
	case creates:
		p.Base = "nothing: the device has no logical element " + element
	case !ok:
		p.Base = "factory settings"
	}
	p.UndoBy, p.Undo = undoWords(v, req.Method)
	if unreadable != "" {
		p.Undo = ""
	}
	if doc.Opaque() {
		p.PredictedRed = p.Predicted
	} else if p.PredictedRed, err = s.Masked(doc, p.Predicted); err != nil {
		return p, err
	}
	if n := len(doc.Unread(got.Text)) + len(doc.Unread(want)); n > 0 && len(doc.Unread(p.Predicted)) == 0 && !doc.Opaque() {
		// Written anew, a line may be read, and stand in the wrong block.
		p.PredictedRed = "‹not shown: what runs, or the version, holds lines that the dialect cannot read›\n"
	}
	if err := s.withElements(ctx, v, k, target, req, &p); err != nil {
		return p, err
	}
	if gone, err := s.goneElements(ctx, p); err != nil {
		return p, err
	} else if len(gone) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("logical elements that are not there any more: %s. This push does not bring them back, and will not end %s", strings.Join(gone, ", "), core.Verified))
	}
	kids, err := q.Children(ctx, d.ID)
	if err != nil {
		return p, err
	}
	if away := p.away(v.Dialect); away > 0 {
		if len(kids) > 0 {
			names := make([]string, len(kids))
			for i, k := range kids {
				names[i] = k.Name
			}
			p.Notes = append(p.Notes, fmt.Sprintf("%s hang on it and are away with it: %s", core.Count(len(kids), "device", "devices"), strings.Join(names, ", ")))
		}
		past, err := q.Away(ctx, d.ID, 5)
		if err != nil {
			return p, err
		}
		words := fmt.Sprintf("the device restarts afterwards and is away for up to %s", core.Span(away))
		if len(past) > 0 {
			slices.Sort(past)
			words += fmt.Sprintf("; the last %s it took %s", strings.TrimPrefix(core.Count(len(past), "time", "times"), "1 "), spans(past))
		}
		p.Notes = append(p.Notes, words)
	}
	p.Notes = append(p.Notes, notes...)
	if away := v.Strays(kids); len(away) > 0 && p.away(v.Dialect) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("not there now, so not waited for afterwards: %s", strings.Join(away, ", ")))
	}
	if v.Where.Relay != "" {
		p.Notes = append(p.Notes, "the unit is spoken to through relay "+v.Where.Relay+": keep it open until the push has ended")
	}
	if v.Where.Address != "" {
		p.Notes = append(p.Notes, fmt.Sprintf("the unit is spoken to at %s for now; afterwards it has the address that %s gives it", v.Where.Address, target.Ref()))
	}
	if w := pathWarning(p, cred.User); w != "" {
		p.Notes, p.TouchesManagementPath = append(p.Notes, w), true
	}
	if !req.Swap && !v.Identity.Factory {
		p.Warnings = append(p.Warnings, visit.CutsOff(doc, v.Speaker, cred.User, got.Text, p.Predicted)...)
	}
	if other {
		p.Warnings = append(p.Warnings, s.carried(p, doc, got.Text, want)...)
	}
	if p.Loaded, err = s.loaded(v); err != nil {
		return p, err
	}
	if n := len(p.Loaded); n > 0 && len(p.Steps) > 0 {
		p.Warnings = append(p.Warnings, fmt.Sprintf("somebody loaded %s into the candidate and did not commit: the push throws that away", core.Count(n, "change", "changes")))
	}
	return p, nil
}

// loaded is what stands in the candidate and was not committed, by anybody.
func (s *Service) loaded(v *visit.Visit) (out []visit.Difference, err error) {
	for _, name := range v.Names {
		text, ok, err := v.Session.Candidate(name)
		if err != nil {
			return nil, fmt.Errorf("reading what is loaded: %w", err)
		}
		if !ok {
			continue
		}
		d, err := s.Differences(v.Dialect.Doc(name), v.Parts[name].Text, text)
		if err != nil {
			return nil, fmt.Errorf("what is loaded: %w", err)
		}
		out = append(out, d...)
	}
	return out, nil
}

// spans words how long something took, from the shortest to the longest.
func spans(sorted []time.Duration) string {
	round := func(d time.Duration) string { return core.Span(max(d.Round(time.Second), time.Second)) }
	short, long := round(sorted[0]), round(sorted[len(sorted)-1])
	if short == long {
		return short
	}
	return short + " to " + long
}

// pairs are the key facts that what runs and the version do not share, by name.
// Secrets are masked in both.
func (s *Service) pairs(doc *dialect.Doc, have, want string) (out []Pair) {
	marks := doc.KeyFacts()
	if doc.Opaque() || len(marks) == 0 {
		return nil
	}
	_, to, err := doc.Parse(want)
	if err != nil {
		return nil
	}
	found := map[string][]string{}
	if _, from, err := doc.Parse(have); err == nil {
		for _, f := range s.Masker(doc.Dialect).KeyFacts(from, marks) {
			found[f.Name] = f.Values
		}
	}
	for _, f := range s.Masker(doc.Dialect).KeyFacts(to, marks) {
		p := Pair{f.Name, lacking(found[f.Name], f.Values), lacking(f.Values, found[f.Name])}
		if len(p.Have)+len(p.Want) > 0 {
			out = append(out, p)
		}
	}
	return out
}

// lacking are those of some values that are not among others.
func lacking(of, in []string) (out []string) {
	for _, v := range of {
		if !slices.Contains(in, v) {
			out = append(out, v)
		}
	}
	return out
}
