package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// PreviewRequest is what a preview job is asked for.
type PreviewRequest struct {
	VersionID string `json:"version_id"`
	Method    string `json:"method"`
	UndoOf    string `json:"undo_of,omitempty"`
}

// Preview is exactly what a push would send and what the device should run
// afterwards.
type Preview struct {
	DeviceID     string     `json:"device_id"`
	Device       string     `json:"device"`
	Serial       string     `json:"serial"`
	Method       string     `json:"method"`
	TargetID     string     `json:"target_id"` // the version to be put back
	Target       string     `json:"target"`    // as a reference
	TargetName   string     `json:"target_name,omitempty"`
	BaseID       string     `json:"base_id"` // the version that runs now
	Base         string     `json:"base"`
	Fingerprint  string     `json:"fingerprint"` // of what runs now
	DialectRev   int        `json:"dialect_rev"`
	Steps        []SendStep `json:"steps"`
	Predicted    string     `json:"predicted"`
	PredictedRed string     `json:"predicted_masked"`
	Remains      []Residual `json:"remains"` // what would still differ from the target
	Warnings     []string   `json:"warnings"`
	Undo         string     `json:"undo"`
	Saves        bool       `json:"saves"` // startup can be written afterwards
	Unsaved      bool       `json:"unsaved"`
	UndoOf       string     `json:"undo_of,omitempty"`
}

// SendStep is one step of a script with what a reader may see of it.
type SendStep struct {
	Kind     string   `json:"kind"`
	Lines    []string `json:"lines"`
	Masked   []string `json:"masked"`
	Block    string   `json:"block,omitempty"`
	Depth    int      `json:"depth"`
	Hostname string   `json:"hostname,omitempty"` // a name the prompt shows from then on
	Secrets  []string `json:"secrets,omitempty"`
}

// Residual is a line that differs, with what a reader may see of it.
type Residual struct {
	Block      string `json:"block,omitempty"`
	Have       string `json:"have,omitempty"`
	Want       string `json:"want,omitempty"`
	Order      bool   `json:"order,omitempty"`
	HaveMasked string `json:"have_masked,omitempty"`
	WantMasked string `json:"want_masked,omitempty"`
}

// noUndoTimer is the undo every push has now.
const noUndoTimer = "no automatic undo if contact is lost; after a refused line what was sent is taken back"

// RequestPreview queues the making of a preview.
func (s *Service) RequestPreview(ctx context.Context, actor core.Actor, d core.Device, target core.Version, method, undoOf, key string) (j core.Job, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if j, err = q.AddJob(ctx, core.Job{Kind: "preview", DeviceID: d.ID, Device: d.Name}, PreviewRequest{target.ID, method, undoOf}, key); err != nil {
			return err
		}
		return q.Audit(ctx, "preview", d.Name, fmt.Sprintf("job %s, %s of %s", j.ID, method, label(target)))
	})
	s.Kick()
	return j, err
}

func label(v core.Version) string {
	name := v.Device
	if v.Part != "running" {
		name += "/" + v.Part
	}
	return fmt.Sprintf("%s@%d", name, v.Number)
}

// previewJob pulls the device, works out the script and keeps both.
func (s *Service) previewJob(ctx context.Context, j core.Job, l *Log) {
	q := s.Store.As(service)
	var req PreviewRequest
	if err := q.OpenRequest(j, &req); err != nil {
		s.end(j, l, core.Failed, err.Error(), nil)
		return
	}
	d, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		s.end(j, l, core.Failed, "the device was removed", nil)
		return
	}
	v := s.newVisit(j, d, core.BeforePush, l)
	defer v.close()
	if !s.visited(ctx, j, l, v) {
		return
	}
	ctx = context.WithoutCancel(ctx)
	k, err := v.keep(ctx)
	if err != nil {
		s.end(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
		return
	}
	l.Info("kept: %s", k.summary())
	p, err := s.preview(ctx, k.Device, v, k.Running, req)
	if err != nil {
		l.Trouble(err.Error(), "")
		s.end(j, l, core.Refused, err.Error(), nil)
		return
	}
	hash, err := s.previewHash(p)
	if err != nil {
		s.end(j, l, core.Failed, err.Error(), nil)
		return
	}
	var id string
	err = s.Store.Tx(ctx, service, func(q *store.Q) (err error) {
		id, err = q.PutPreview(ctx, d.ID, j.ID, hash, p)
		return err
	})
	if err != nil {
		s.end(j, l, core.Failed, "the preview could not be kept: "+err.Error(), nil)
		return
	}
	summary := fmt.Sprintf("%d lines to send", p.lineCount())
	if len(p.Steps) == 0 {
		summary = "nothing to send, the device runs it already"
	}
	s.end(j, l, core.Done, summary, map[string]string{"preview": id, "hash": hash})
}

func (p Preview) lineCount() (n int) {
	for _, st := range p.Steps {
		n += len(st.Lines)
	}
	return n
}

// previewHash binds a preview to what it says.
func (s *Service) previewHash(p Preview) (string, error) {
	raw, err := json.Marshal(p)
	return s.Store.Keys().Hash("preview", raw), err
}

// preview works out a push of the requested version onto what runs now.
func (s *Service) preview(ctx context.Context, d core.Device, v *visit, base core.Version, req PreviewRequest) (Preview, error) {
	q := s.Store.As(service)
	target, err := q.VersionByID(ctx, req.VersionID)
	if err != nil {
		return Preview{}, fmt.Errorf("the version to push: %w", err)
	}
	if !slices.Contains(v.dia.Change.Methods, req.Method) {
		return Preview{}, fmt.Errorf("dialect %s does not offer method %q; it offers %v", v.dia.Dialect, req.Method, v.dia.Change.Methods)
	}
	if target.Part != "running" && target.Part != "startup" {
		return Preview{}, fmt.Errorf("%s cannot be pushed: only running and startup versions can", label(target))
	}
	owner, err := q.DeviceByID(ctx, target.DeviceID)
	if err != nil || owner.Dialect != d.Dialect {
		return Preview{}, fmt.Errorf("%s was taken from a device of another dialect, so it cannot be put on %s", label(target), d.Name)
	}
	raw, err := q.Content(ctx, target.ContentID)
	if err != nil {
		return Preview{}, err
	}
	_, from, err := v.dia.Parse(v.parts["running"].Text)
	if err != nil {
		return Preview{}, fmt.Errorf("what runs on %s cannot be read as its dialect says: %w", d.Name, err)
	}
	_, to, err := v.dia.Parse(string(raw))
	if err != nil {
		return Preview{}, fmt.Errorf("%s cannot be read as the dialect says: %w", label(target), err)
	}
	plan := v.dia.Language.Replace(from, to)
	if req.Method == "merge" {
		plan = v.dia.Language.Merge(from, to)
	}
	mask := s.masker(v.dia)
	p := Preview{DeviceID: d.ID, Device: d.Name, Serial: v.pull.Serial, Method: req.Method, TargetID: target.ID, Target: label(target), TargetName: target.Name,
		BaseID: base.ID, Base: label(base), Fingerprint: base.Fingerprint, DialectRev: v.dia.Revision, Steps: sendSteps(plan.Steps, mask),
		Remains: residuals(plan.Remains, mask), Warnings: plan.Notes, Undo: noUndoTimer, Saves: v.dia.Change.Save != nil, Unsaved: v.unsaved(), UndoOf: req.UndoOf}
	p.Predicted = v.dia.Blocks.Print(plan.Predicted.Node())
	if p.PredictedRed, err = s.masked(v.dia, p.Predicted); err != nil {
		return p, err
	}
	if target.DeviceID != d.ID {
		p.Warnings = append(p.Warnings, fmt.Sprintf("%s was taken from %s, not from %s: names and addresses in it are the other device's", label(target), target.Device, d.Name))
	}
	return p, nil
}

func sendSteps(steps []change.Step, mask rules.Masker) []SendStep {
	out := make([]SendStep, len(steps))
	for i, st := range steps {
		o := SendStep{Kind: string(st.Kind), Lines: st.Lines, Masked: slices.Clone(st.Lines), Block: st.Block, Depth: st.Depth}
		if st.Item != nil {
			o.Secrets = st.Item.Secrets()
			if st.Kind != change.Remove {
				o.Hostname = st.Item.Hostname()
			}
			o.Masked[0] = mask.Answer(st.Lines[0], o.Secrets)
		}
		out[i] = o
	}
	return out
}

func residuals(ds []rules.Difference, mask rules.Masker) []Residual {
	out := make([]Residual, len(ds))
	for i, d := range ds {
		m := mask.Difference(d)
		out[i] = Residual{Block: d.Block, Have: d.Have, Want: d.Want, Order: d.Order, HaveMasked: m.Have, WantMasked: m.Want}
	}
	return out
}

// masker hides secrets under this database's keys.
func (s *Service) masker(d *dialect.Dialect) rules.Masker {
	return rules.Masker{Table: d.Table, Tag: s.Store.Keys().Tag}
}

// masked returns a text with its secrets hidden. Text the grammar cannot read
// cannot be masked and is not shown at all.
func (s *Service) masked(d *dialect.Dialect, src string) (string, error) {
	root, err := d.Blocks.Parse(src)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrCannotMask, err)
	}
	return s.masker(d).Text(src, root), nil
}

// ErrCannotMask is returned when a text cannot be shown to someone who may not
// see secrets, because where its secrets stand is not known.
var ErrCannotMask = errors.New("this text cannot be shown without its secrets, because the dialect cannot read it; ask someone who may see secrets")

// linkRefused returns the device's refusal in err, if that is what it is.
func linkRefused(err error) *link.Refused {
	var r *link.Refused
	if errors.As(err, &r) && !errors.Is(err, link.ErrLoginRefused) {
		return r
	}
	return nil
}
