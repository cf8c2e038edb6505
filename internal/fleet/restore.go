package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/store"
)

// atOnce is how many devices of a restore are looked at, or pushed to after the
// first one, at a time.
const atOnce = 4

// maxAtOnce is how many a person can ask for.
const maxAtOnce = 32

// RestorePreviewRequest asks what putting many devices back would take.
type RestorePreviewRequest struct {
	DeviceIDs []string `json:"device_ids"`
	Which     string   `json:"which"`              // of their main parts: a name, baseline, previous, a time…
	Snapshot  string   `json:"snapshot,omitempty"` // or the versions of this one
}

// RestorePreview is what putting many devices back would take, in the order in which it
// would be done.
type RestorePreview struct {
	Which string              `json:"which"`
	Rows  []RestorePreviewRow `json:"rows"`
}

// RestorePreviewRow is one device of a restore preview.
type RestorePreviewRow struct {
	DeviceID string   `json:"device_id"`
	Device   string   `json:"device"`
	Target   string   `json:"target,omitempty"`
	Preview  string   `json:"preview_id,omitempty"`
	Hash     string   `json:"hash,omitempty"`
	Lines    int      `json:"lines"`
	Warnings []string `json:"doubts,omitempty"` // what speaks against it, though it does not forbid it
	Skip     string   `json:"skip,omitempty"`   // why it is left out
	Refused  bool     `json:"refused"`          // not because it needs nothing, but because it cannot be done
}

// RestoreRequest pushes what a restore preview shows.
type RestoreRequest struct {
	RestorePreviewID string        `json:"survey_id"`
	Within           time.Duration `json:"within,omitempty"`
	Together         bool          `json:"together,omitempty"` // one window for all, which begins with the restore
	AtOnce           int           `json:"at_once,omitempty"`  // so many at a time after the first
	StopAfter        int           `json:"stop_after"`         // so many pushes that did not end well
	Note             string        `json:"note,omitempty"`
	Override         string        `json:"despite,omitempty"`
	Checks           []string      `json:"checks,omitempty"` // of each push
}

// RestoreResult is how each device came out.
type RestoreResult struct {
	Which string     `json:"which"`
	Rows  []Restored `json:"rows"`
}

// Restored is one device of a restore.
type Restored struct {
	Device  string `json:"device"`
	Target  string `json:"target"`
	Job     string `json:"job_id,omitempty"`
	Outcome string `json:"outcome"` // of its push; waiting; not begun; skipped
	Summary string `json:"summary"`
}

// RequestRestorePreview queues a restore preview of devices.
func (s *Service) RequestRestorePreview(ctx context.Context, actor core.Actor, devices []core.Device, which, snapshot string, key store.Key) (j core.Job, err error) {
	req := RestorePreviewRequest{Which: which, Snapshot: snapshot}
	if snapshot != "" {
		which = "snapshot " + snapshot
	}
	for _, d := range inOrder(devices) {
		req.DeviceIDs = append(req.DeviceIDs, d.ID)
	}
	return s.Queue(ctx, actor, "restore-preview", store.NewJob{Job: core.Job{Kind: "restore-preview", Device: core.Count(len(devices), "device", "devices")}, Wants: req, Key: key}, fmt.Sprintf("%d devices to %s", len(devices), which))
}

// inOrder puts devices that others hang on, or are reached through, behind
// those: what cuts the way comes last.
func inOrder(devices []core.Device) []core.Device {
	needed := map[string]bool{}
	for _, d := range devices {
		needed[d.ParentID], needed[d.JumpID] = true, true
	}
	out := slices.Clone(devices)
	slices.SortStableFunc(out, func(a, b core.Device) int {
		switch {
		case needed[a.ID] == needed[b.ID]:
			return strings.Compare(a.Name, b.Name)
		case needed[a.ID]:
			return 1
		}
		return -1
	})
	return out
}

// restorePreviewJob previews every device, a few at a time.
func (s *Service) restorePreviewJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var req RestorePreviewRequest
	if err := q.OpenRequest(j, &req); err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	picked, err := s.picked(ctx, req.Snapshot)
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	if req.Snapshot != "" {
		req.Which = "snapshot " + req.Snapshot
	}
	out := RestorePreview{Which: req.Which, Rows: make([]RestorePreviewRow, len(req.DeviceIDs))}
	var some errgroup.Group
	some.SetLimit(atOnce)
	var mu sync.Mutex // the log is written by one at a time
	for i, id := range req.DeviceIDs {
		some.Go(func() error {
			row := s.restorePreview(ctx, j, id, req.Which, picked)
			mu.Lock()
			defer mu.Unlock()
			out.Rows[i] = row
			switch {
			case row.Skip != "":
				l.Info("%s: %s", row.Device, row.Skip)
			default:
				l.Info("%s: %s to send, to run %s", row.Device, core.Count(row.Lines, "line", "lines"), row.Target)
			}
			return nil
		})
	}
	_ = some.Wait() // what went wrong stands in the rows
	if errors.Is(context.Cause(ctx), job.ErrStopping) {
		return
	}
	if errors.Is(context.Cause(ctx), job.ErrCancelled) {
		s.End(j, l, core.Cancelled, "cancelled by hand; nothing was sent", nil)
		return
	}
	push, skip, refused := 0, 0, 0
	for _, r := range out.Rows {
		switch {
		case r.Refused:
			refused++
		case r.Skip != "":
			skip++
		default:
			push++
		}
	}
	s.End(j, l, core.Done, fmt.Sprintf("%s to push to, %d run it already, %d cannot be done", core.Count(push, "device", "devices"), skip, refused), out)
}

// restorePreview previews one device.
func (s *Service) restorePreview(ctx context.Context, j core.Job, id, which string, picked map[string]core.Version) (row RestorePreviewRow) {
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, id)
	row = RestorePreviewRow{DeviceID: id, Device: d.Name}
	no := func(err error) RestorePreviewRow {
		row.Skip, row.Refused = err.Error(), true
		return row
	}
	if errors.Is(err, store.ErrNotFound) {
		err = fmt.Errorf("the device was removed")
	}
	if err != nil {
		return no(err)
	}
	dia := s.DialectOf(d)
	if dia == nil || len(dia.Change.Methods) == 0 {
		return no(fmt.Errorf("nothing can be pushed to it"))
	}
	ask := push.PreviewRequest{Method: dia.Change.Methods[0]}
	target, ok := picked[d.ID+" "+dia.Main()]
	if picked != nil && !ok {
		return no(fmt.Errorf("the snapshot has no version of it"))
	}
	if !ok {
		r, err := ref.ParseVersion(d.Name+"/"+dia.Main()+"@"+which, ref.In(time.UTC, s.Now))
		if err != nil {
			return no(err)
		}
		if target, err = s.Version(ctx, job.Service, r); err != nil {
			return no(err)
		}
		ask.Which = r.Which
	} else {
		ask.Elements = map[string]string{}
		for _, v := range picked {
			if _, is := core.ElementOf(v.Part); is && v.DeviceID == d.ID {
				ask.Elements[v.Part] = v.ID
			}
		}
	}
	actor, err := s.Asker(ctx, j)
	if err != nil {
		return no(err)
	}
	preview, made, err := s.Previewed(ctx, actor, d, target, ask, j.ID+" "+id)
	if err != nil {
		return no(err)
	}
	row.Target, row.Preview, row.Hash, row.Lines = preview.Target, made["preview"], made["hash"], preview.LineCount()
	row.Warnings = preview.Warnings
	if len(preview.Steps) == 0 {
		row.Skip = "it runs " + preview.Target + " already"
		for _, e := range preview.Elements {
			if e.Cannot != "" {
				row.Skip, row.Refused = fmt.Sprintf("logical element %s cannot be put back with it: %s", e.Name, e.Cannot), true
			}
		}
	}
	return row
}

// RequestRestore queues the pushes that a restore preview shows.
func (s *Service) RequestRestore(ctx context.Context, actor core.Actor, req RestoreRequest, key store.Key) (core.Job, error) {
	if err := push.WindowSound(req.Within); err != nil {
		return core.Job{}, err
	}
	looked, err := s.restorePreviewOf(ctx, req.RestorePreviewID)
	if err != nil {
		return core.Job{}, err
	}
	n := 0
	for _, r := range looked.Rows {
		if r.Skip != "" {
			continue
		}
		n++
		if err := s.ChecksSound(ctx, actor, r.DeviceID, req.Checks); err != nil {
			return core.Job{}, fmt.Errorf("%s: %w", r.Device, err)
		}
	}
	if n == 0 {
		return core.Job{}, ErrNothingToRestore
	}
	if req.StopAfter < 1 {
		req.StopAfter = 1
	}
	if req.AtOnce < 1 {
		req.AtOnce = atOnce
	}
	if req.Together && req.Within == 0 {
		return core.Job{}, fmt.Errorf("%w: one window for all was asked for, and no window", push.ErrWindow)
	}
	if req.Together && req.Within < leastTogether {
		return core.Job{}, fmt.Errorf("%w; of one that all share each push needs %s, so it takes %s at least, and %s was asked for", push.ErrWindow, core.Span(push.MinWindow), core.Span(leastTogether), core.Span(req.Within))
	}
	req.AtOnce = min(req.AtOnce, maxAtOnce)
	return s.Queue(ctx, actor, "restore", store.NewJob{Job: core.Job{Kind: "restore", Device: core.Count(n, "device", "devices")}, Wants: req, Key: key}, fmt.Sprintf("%s to %s%s", core.Count(n, "device", "devices"), looked.Which, core.Because(req.Note)))
}

// leastTogether is the shortest window that many pushes can share: it begins with
// the first, and the last still needs one of its own.
const leastTogether = push.MinWindow + 10*time.Second

// DevicesOf lists the devices that a job about many is about: a restore, or its preview; of other kinds none.
func (s *Service) DevicesOf(ctx context.Context, j core.Job) ([]string, error) {
	q := s.Store.As(job.Service)
	switch j.Kind {
	case "restore-preview":
		var req RestorePreviewRequest
		err := q.OpenRequest(j, &req)
		return req.DeviceIDs, err
	case "restore":
		var req RestoreRequest
		if err := q.OpenRequest(j, &req); err != nil {
			return nil, err
		}
		return s.PreviewedDevices(ctx, req.RestorePreviewID)
	}
	return nil, nil
}

// PreviewedDevices lists the devices of a restore preview that is done.
func (s *Service) PreviewedDevices(ctx context.Context, id string) (ids []string, err error) {
	looked, err := s.restorePreviewOf(ctx, id)
	for _, r := range looked.Rows {
		ids = append(ids, r.DeviceID)
	}
	return ids, err
}

// ErrNothingToRestore is returned for a restore preview that found nothing to push.
var ErrNothingToRestore = errors.New("no device of this restore preview has anything to be pushed")

// ErrNoRestorePreview is returned for a job that is no restore preview that came to its end.
var ErrNoRestorePreview = errors.New("this is no restore preview that is done")

func (s *Service) restorePreviewOf(ctx context.Context, id string) (out RestorePreview, err error) {
	q := s.Store.As(job.Service)
	j, err := q.Job(ctx, id)
	if err != nil {
		return out, err
	}
	if j.Kind != "restore-preview" || j.Outcome != core.Done {
		return out, fmt.Errorf("%w: %s", ErrNoRestorePreview, id)
	}
	return out, q.OpenResult(j, &out)
}

// restoreJob pushes to the first device alone, then to the others a few at a
// time, and stops after so many that did not end well. Begun anew after a crash
// it finds its pushes again: each has a key of its own.
func (s *Service) restoreJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var req RestoreRequest
	looked := RestorePreview{}
	err := q.OpenRequest(j, &req)
	if err == nil {
		looked, err = s.restorePreviewOf(ctx, req.RestorePreviewID)
	}
	if err != nil {
		s.End(j, l, core.Failed, "nothing was sent: "+err.Error(), nil)
		return
	}
	out := RestoreResult{Which: looked.Which}
	var todo []int
	for _, r := range looked.Rows {
		row := Restored{Device: r.Device, Target: r.Target, Outcome: "not begun"}
		if r.Skip != "" {
			row.Outcome, row.Summary = "skipped", r.Skip
		} else {
			todo = append(todo, len(out.Rows))
		}
		out.Rows = append(out.Rows, row)
	}
	var mu sync.Mutex
	bad := 0
	// What came of it so far is kept twice a second at most: all rows are written each time.
	changed, over := false, make(chan struct{})
	keep := func() { changed = true } // mu is held
	var keeping sync.WaitGroup
	keeping.Go(func() {
		tick := time.NewTicker(keepEvery)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
			}
			mu.Lock()
			dirty, now := changed, RestoreResult{out.Which, slices.Clone(out.Rows)}
			changed = false
			mu.Unlock()
			if dirty {
				l.Result(now)
			}
		}
	})
	var due *time.Time
	if req.Together && j.StartedAt != nil {
		at := j.StartedAt.Add(req.Within).UTC().Truncate(time.Millisecond)
		due = &at
	}
	one := func(i int) {
		r := looked.Rows[i]
		var p core.Job
		actor, err := s.Asker(ctx, j)
		if err == nil {
			err = s.Within(ctx, actor, r.DeviceID)
		}
		if err == nil {
			p, err = s.RequestPush(ctx, actor, r.Preview, r.Hash, push.Request{Within: req.Within, Due: due, Note: req.Note, Override: req.Override, Checks: req.Checks}, store.OwnKey(actor, j.ID+" "+r.DeviceID))
		}
		mu.Lock()
		if err == nil {
			out.Rows[i].Job, out.Rows[i].Outcome = p.ID, "running"
			l.Step("%s: push %s", r.Device, p.ID)
			keep()
		}
		mu.Unlock()
		if err == nil {
			p, err = s.Await(ctx, p.ID, func(p core.Job) bool { return p.State == core.Waiting && p.Due != nil && p.Decision == "" })
		}
		mu.Lock()
		defer mu.Unlock()
		row := &out.Rows[i]
		switch {
		case err != nil && row.Job == "":
			row.Outcome, row.Summary = core.Refused, err.Error()
		case err != nil:
			row.Summary = err.Error()
		case p.State != core.Ended:
			row.Outcome, row.Summary = core.Waiting, p.Summary
		default:
			row.Outcome, row.Summary = p.Outcome, p.Summary
		}
		unwell := 0
		if err == nil {
			if unwell, err = push.ChecksFailed(q, p); err != nil {
				row.Summary += "; what came of its checks cannot be read: " + err.Error()
				unwell++
			}
		}
		if row.Outcome != core.Verified && row.Outcome != core.Waiting || unwell > 0 {
			bad++
			l.Trouble(fmt.Sprintf("%s: %s: %s", row.Device, row.Outcome, row.Summary), "")
		} else {
			l.Info("%s: %s", row.Device, row.Outcome)
		}
		keep()
	}
	stop := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return bad >= req.StopAfter || ctx.Err() != nil
	}
	if len(todo) > 0 {
		l.Step("the first alone: %s", looked.Rows[todo[0]].Device)
		one(todo[0])
	}
	var others errgroup.Group
	others.SetLimit(max(1, req.AtOnce))
	for _, i := range todo[min(1, len(todo)):] {
		others.Go(func() error { // begun when there is room, so it is asked here whether to go on
			if !stop() {
				one(i)
			}
			return nil
		})
	}
	_ = others.Wait()
	close(over)
	keeping.Wait()
	if changed {
		l.Result(out)
	}
	if errors.Is(context.Cause(ctx), job.ErrStopping) {
		return // the next start goes on where this one was
	}
	s.endRestore(j, l, out, bad, req.StopAfter)
}

// keepEvery is how often a restore writes down what came of it so far.
const keepEvery = 500 * time.Millisecond

// endRestore says how a restore came out. Pushes that wait to be confirmed go on
// by themselves: each has its own window.
func (s *Service) endRestore(j core.Job, l *job.Log, out RestoreResult, bad, stopAfter int) {
	n := map[string]int{}
	for _, r := range out.Rows {
		n[r.Outcome]++
	}
	var said []string
	for _, o := range []string{core.Verified, core.Waiting, core.NotSaved, core.Differs, core.Undone, core.Refused, core.Failed, core.Unknown, core.Cancelled, "running", "not begun", "skipped"} {
		if n[o] > 0 {
			words := o
			if o == core.Waiting {
				words = "waiting to be confirmed when it ended"
			}
			said = append(said, fmt.Sprintf("%d %s", n[o], words))
		}
	}
	summary := strings.Join(said, ", ")
	outcome := core.Done
	if bad > 0 || n["not begun"] > 0 {
		outcome = core.Failed
	}
	if bad >= stopAfter && n["not begun"] > 0 {
		summary += fmt.Sprintf("; stopped after %s that did not end well", core.Count(bad, "push", "pushes"))
	}
	s.End(j, l, outcome, summary, out)
}

// pushesOf are the pushes that a restore began.
func pushesOf(q *store.Q, j core.Job) (ids []string, err error) {
	var out RestoreResult
	err = q.OpenResult(j, &out)
	for _, r := range out.Rows {
		if r.Job != "" {
			ids = append(ids, r.Job)
		}
	}
	return ids, err
}

// now reads how the pushes of a restore stand by now.
func (r RestoreResult) now(ctx context.Context, q *store.Q) (RestoreResult, error) {
	out := RestoreResult{r.Which, slices.Clone(r.Rows)}
	var ids []string
	for _, row := range out.Rows {
		if row.Job != "" {
			ids = append(ids, row.Job)
		}
	}
	stand, err := q.JobsStand(ctx, ids)
	for i, row := range out.Rows {
		if p, ok := stand[row.Job]; ok {
			if out.Rows[i].Summary = p.Summary; p.State == core.Ended {
				out.Rows[i].Outcome = p.Outcome
			} else {
				out.Rows[i].Outcome = p.State
			}
		}
	}
	return out, err
}
