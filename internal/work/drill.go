package work

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// DrillRequest is what a drill is asked for.
type DrillRequest struct {
	VersionID string `json:"version_id"`
	Note      string `json:"note"`
}

// DrillResult is how a drill stands.
type DrillResult struct {
	Ref    string `json:"ref"`
	On     string `json:"on"`
	PushID string `json:"push_id,omitempty"`
	BackID string `json:"back_id,omitempty"`
	Proved bool   `json:"proved"` // the version was put there, and is equal
	Whole  bool   `json:"whole"`  // what ran there before runs there again
}

// ErrDrill is returned for a drill that makes no sense.
var ErrDrill = errors.New("no drill")

// RequestDrill queues a drill: a version is put on another device of its family,
// proved, and what ran there is put back.
func (s *Service) RequestDrill(ctx context.Context, actor core.Actor, target core.Version, on core.Device, why string, key store.Key) (j core.Job, err error) {
	switch {
	case on.ID == target.DeviceID:
		return j, fmt.Errorf("%w: %s is the version's own device; a drill is held on another one: a spare, or a simulated one", ErrDrill, on.Name)
	case on.Member != "":
		return j, fmt.Errorf("%w: %s is spoken to by way of %s; a drill is held on a device of its own", ErrDrill, on.Name, on.Parent)
	}
	return s.Queue(ctx, actor, "drill", store.NewJob{Job: core.Job{Kind: "drill", DeviceID: on.ID, Device: on.Name}, Wants: DrillRequest{target.ID, why}, Key: key},
		fmt.Sprintf("%s on %s%s", label(target), on.Name, note(why)))
}

// drillJob holds a drill. Begun anew after a crash it finds its pushes again:
// each has a key of its own.
func (s *Service) drillJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(service)
	var req DrillRequest
	var res DrillResult
	err := errors.Join(q.OpenRequest(j, &req), q.OpenResult(j, &res))
	var target core.Version
	if err == nil {
		target, err = q.VersionByID(ctx, req.VersionID)
	}
	if err != nil {
		s.endDrill(j, l, core.Failed, "nothing was sent: "+err.Error(), nil)
		return
	}
	res.Ref, res.On = label(target), j.Device
	if res.PushID == "" {
		l.Step("putting %s on %s", res.Ref, j.Device)
		if err := s.Store.Tx(ctx, service, func(q *store.Q) error { return q.SetTesting(ctx, j.DeviceID, j.ID) }); err != nil {
			s.endDrill(j, l, core.Failed, "nothing was sent: "+err.Error(), res)
			return
		}
		push, said, err := s.drillPush(ctx, j, target, PushRequest{Drill: target.Device, Note: req.Note, NoSave: true}, "out")
		switch {
		case errors.Is(context.Cause(ctx), job.ErrStopping):
			return
		case errors.Is(context.Cause(ctx), job.ErrCancelled):
			s.endDrill(j, l, core.Cancelled, "cancelled by hand; nothing was sent", res)
			return
		case err != nil:
			s.endDrill(j, l, core.Failed, "nothing was sent: "+err.Error(), res)
			return
		case push.ID == "":
			s.endDrill(j, l, core.Refused, said+", so nothing would be proved; hold the drill on a device that runs something else", res)
			return
		}
		res.PushID = push.ID
		l.Result(res)
		l.Info("push %s", push.ID)
	}
	// From here on the other device is owed what it ran before: a cancel waits.
	owed, done := s.Lasting()
	defer done()
	push, err := s.Await(owed, res.PushID, nil)
	if err != nil {
		return // the service stops; the next start goes on
	}
	var came PushResult
	if err := q.OpenResult(push, &came); err != nil {
		s.endDrill(j, l, core.Unknown, "push "+push.ID+" ended, and what came of it cannot be read: "+err.Error(), res)
		return
	}
	res.Proved = push.Outcome == core.Equal || push.Outcome == core.NotSaved
	if push.Outcome == core.NotSaved {
		l.Info("it runs %s, pulled again and compared; startup was left alone", res.Ref)
	} else {
		l.Info("%s: %s", push.Outcome, push.Summary)
	}
	if came.BeforeID == "" || came.Sent == 0 || push.Outcome == core.Undone {
		res.Whole = came.Sent == 0 || push.Outcome == core.Undone
		s.endDrill(j, l, core.Failed, fmt.Sprintf("%s was not proved: the push ended %s: %s", res.Ref, push.Outcome, push.Summary), res)
		return
	}
	before, err := q.VersionByID(owed, came.BeforeID)
	if err != nil {
		s.endDrill(j, l, core.Failed, fmt.Sprintf("%s; what ran on %s before cannot be read: %v", push.Summary, j.Device, err), res)
		return
	}
	if res.BackID == "" {
		l.Step("putting back what ran there, %s", label(before))
		back, _, err := s.drillPush(owed, j, before, PushRequest{Note: "after the drill " + j.ID, NoSave: true}, "back")
		switch {
		case errors.Is(context.Cause(owed), job.ErrStopping):
			return
		case err != nil:
			s.endDrill(j, l, core.Failed, s.drilled(res)+fmt.Sprintf("; but %s still runs it: %v; put it back: magpie push %s", j.Device, err, label(before)), res)
			return
		}
		res.BackID = back.ID
		l.Result(res)
	}
	if res.BackID != "" {
		back, err := s.Await(owed, res.BackID, nil)
		if err != nil {
			return
		}
		l.Info("%s: %s", back.Outcome, back.Summary)
		if res.Whole = back.Outcome == core.Equal || back.Outcome == core.NotSaved; !res.Whole { // startup was not written either way
			s.endDrill(j, l, core.Failed, s.drilled(res)+fmt.Sprintf("; but what ran on %s before is not back: %s: %s", j.Device, back.Outcome, back.Summary), res)
			return
		}
	}
	res.Whole = true
	outcome, why := core.Done, ""
	if !res.Proved {
		outcome, why = core.Failed, fmt.Sprintf(" (%s: %s)", push.Outcome, push.Summary)
	}
	s.endDrill(j, l, outcome, fmt.Sprintf("%s%s; %s runs %s again", s.drilled(res), why, j.Device, label(before)), res)
}

// endDrill ends a drill. Where the other device runs its own again, or was never
// sent anything, its pulls count again; otherwise they go on to be set aside
// until it does.
func (s *Service) endDrill(j core.Job, l *job.Log, outcome, summary string, res any) {
	r, _ := res.(DrillResult)
	s.End(j, l, outcome, summary, res, func(q *store.Q) error {
		if r.PushID != "" && !r.Whole {
			return nil
		}
		return q.SetTesting(context.Background(), j.DeviceID, "")
	})
}

func (s *Service) drilled(res DrillResult) string {
	if res.Proved {
		return fmt.Sprintf("%s was put on %s and proved", res.Ref, res.On)
	}
	return fmt.Sprintf("%s was put on %s and not proved", res.Ref, res.On)
}

// drillPush previews and pushes one way of a drill. It returns no job, and why,
// when there is nothing to send.
func (s *Service) drillPush(ctx context.Context, j core.Job, target core.Version, req PushRequest, way string) (push core.Job, said string, err error) {
	q := s.Store.As(service)
	actor, err := s.asker(ctx, j)
	if err != nil && way == "back" { // whoever asked for it, the unit is owed what it ran before
		actor, err = core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Operator}, nil
	}
	if err != nil {
		return push, "", err
	}
	on, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		return push, "", err
	}
	methods := s.Methods(on)
	if len(methods) == 0 {
		return push, "", fmt.Errorf("nothing can be pushed to %s", on.Name)
	}
	preview, made, err := s.previewed(ctx, actor, on, target, PreviewRequest{Method: methods[0]}, j.ID+" look "+way)
	if err != nil {
		return push, "", err
	}
	if len(preview.Steps) == 0 {
		return push, fmt.Sprintf("%s runs %s already", on.Name, label(target)), nil
	}
	if preview.Factory {
		return push, "", fmt.Errorf("%s has factory settings, which no push can put back; set it up first, or put the version there for good: magpie push %s --to %s", on.Name, label(target), on.Name)
	}
	req.Despite = "it is a drill, held on " + on.Name
	push, err = s.RequestPush(ctx, actor, made["preview"], made["hash"], req, store.OwnKey(actor, j.ID+" "+way))
	return push, "", err
}
