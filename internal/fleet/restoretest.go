package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/store"
)

// RestoreTestRequest is what a restore test is asked for.
type RestoreTestRequest struct {
	VersionID string `json:"version_id"`
	Note      string `json:"note"`
}

// RestoreTestResult is how a restore test stands.
type RestoreTestResult struct {
	Ref    string `json:"ref"`
	On     string `json:"on"`
	Push   string `json:"push_id,omitempty"`
	Back   string `json:"back_id,omitempty"`
	Proved bool   `json:"proved"` // the version was put there, and is equal
	Whole  bool   `json:"whole"`  // what ran there before runs there again
}

// ErrRestoreTest is returned for a restore test that makes no sense.
var ErrRestoreTest = errors.New("no restore test")

// RequestRestoreTest queues a restore test: a version is put on another device of its family,
// proved, and what ran there is put back.
func (s *Service) RequestRestoreTest(ctx context.Context, actor core.Actor, target core.Version, on core.Device, why string, key store.Key) (j core.Job, err error) {
	if on.ID == target.DeviceID {
		return j, fmt.Errorf("%w: %s is the version's own device; a restore test is made on another one, a spare", ErrRestoreTest, on.Name)
	}
	if err := s.forTests(ctx, on); err != nil {
		return j, err
	}
	return s.Queue(ctx, actor, "restore-test", store.NewJob{Job: core.Job{Kind: "restore-test", DeviceID: on.ID, Device: on.Name}, Wants: RestoreTestRequest{target.ID, why}, Key: key},
		fmt.Sprintf("%s on %s%s", target.Ref(), on.Name, core.Because(why)))
}

// forTests refuses a device whose configuration restore tests may not replace: only spares are for that, and one at
// which a second person has to approve pushes is not.
func (s *Service) forTests(ctx context.Context, on core.Device) error {
	switch {
	case on.Member != "":
		return fmt.Errorf("%w: %s is spoken to by way of %s; a restore test is made on a device of its own", ErrRestoreTest, on.Name, on.Parent)
	case !on.Spare:
		return fmt.Errorf("%w: %s is not marked as a spare, and a restore test replaces what runs there; an admin marks one that nobody needs: magpie device edit %s --spare", ErrRestoreTest, on.Name, on.Name)
	}
	rule, err := s.Store.As(job.Service).AskedApproval(ctx, on)
	if err == nil && rule != "" {
		err = fmt.Errorf("%w (%s), and a restore test waits for nobody: make it on a spare that no such rule names", push.ErrSecondPerson, rule)
	}
	return err
}

// restoreTestJob makes a restore test. Begun anew after a crash it finds its pushes again:
// each has a key of its own.
func (s *Service) restoreTestJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var req RestoreTestRequest
	var res RestoreTestResult
	err := errors.Join(q.OpenRequest(j, &req), q.OpenResult(j, &res))
	var target core.Version
	if err == nil {
		target, err = q.Version(ctx, store.ByID(req.VersionID))
	}
	if err != nil {
		s.endRestoreTest(j, l, core.Failed, "nothing was sent: "+err.Error(), nil)
		return
	}
	res.Ref, res.On = target.Ref(), j.Device
	if res.Push == "" {
		on, err := q.DeviceByID(ctx, j.DeviceID)
		if err == nil {
			err = s.forTests(ctx, on)
		}
		if err != nil {
			s.endRestoreTest(j, l, core.Refused, "nothing was sent: "+err.Error(), res)
			return
		}
		l.Step("putting %s on %s", res.Ref, j.Device)
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetTesting(ctx, j.DeviceID, j.ID) }); err != nil {
			s.endRestoreTest(j, l, core.Failed, "nothing was sent: "+err.Error(), res)
			return
		}
		pushed, said, err := s.restoreTestPush(ctx, j, target, push.Request{RestoreTest: target.Device, Note: req.Note, NoSave: true}, "out")
		switch {
		case errors.Is(context.Cause(ctx), job.ErrStopping):
			return
		case errors.Is(context.Cause(ctx), job.ErrCancelled):
			s.endRestoreTest(j, l, core.Cancelled, "cancelled by hand; nothing was sent", res)
			return
		case err != nil:
			s.endRestoreTest(j, l, core.Failed, "nothing was sent: "+err.Error(), res)
			return
		case pushed.ID == "":
			s.endRestoreTest(j, l, core.Refused, said+", so nothing would be proved; make it on a device that runs something else", res)
			return
		}
		res.Push = pushed.ID
		l.Result(res)
		l.Info("push %s", pushed.ID)
	}
	// From here on the other device is owed what it ran before: a cancel waits.
	owed, done := s.Lasting()
	defer done()
	pushed, err := s.Await(owed, res.Push, nil)
	if err != nil {
		return // the service stops; the next start goes on
	}
	var came push.Result
	if err := q.OpenResult(pushed, &came); err != nil {
		s.endRestoreTest(j, l, core.Unknown, "push "+pushed.ID+" ended, and what came of it cannot be read: "+err.Error(), res)
		return
	}
	res.Proved = pushed.Outcome == core.Verified || pushed.Outcome == core.NotSaved
	if pushed.Outcome == core.NotSaved {
		l.Info("it runs %s, pulled again and compared; startup was left alone", res.Ref)
	} else {
		l.Info("%s: %s", pushed.Outcome, pushed.Summary)
	}
	if came.BeforeID == "" || came.Sent == 0 || pushed.Outcome == core.Undone {
		res.Whole = came.Sent == 0 || pushed.Outcome == core.Undone
		s.endRestoreTest(j, l, core.Failed, fmt.Sprintf("%s was not proved: the push ended %s: %s", res.Ref, pushed.Outcome, pushed.Summary), res)
		return
	}
	before, err := q.Version(owed, store.ByID(came.BeforeID))
	if err != nil {
		s.endRestoreTest(j, l, core.Failed, fmt.Sprintf("%s; what ran on %s before cannot be read: %v", pushed.Summary, j.Device, err), res)
		return
	}
	if res.Back == "" {
		l.Step("putting back what ran there, %s", before.Ref())
		back, _, err := s.restoreTestPush(owed, j, before, push.Request{Note: "after the restore test " + j.ID, NoSave: true}, "back")
		switch {
		case errors.Is(context.Cause(owed), job.ErrStopping):
			return
		case err != nil:
			s.endRestoreTest(j, l, core.Failed, s.testedWords(res)+fmt.Sprintf("; but %s still runs it: %v; put it back: magpie push %s", j.Device, err, before.Ref()), res)
			return
		}
		res.Back = back.ID
		l.Result(res)
	}
	if res.Back != "" {
		back, err := s.Await(owed, res.Back, nil)
		if err != nil {
			return
		}
		l.Info("%s: %s", back.Outcome, back.Summary)
		if res.Whole = back.Outcome == core.Verified || back.Outcome == core.NotSaved; !res.Whole { // startup was not written either way
			s.endRestoreTest(j, l, core.Failed, s.testedWords(res)+fmt.Sprintf("; but what ran on %s before is not back: %s: %s", j.Device, back.Outcome, back.Summary), res)
			return
		}
	}
	res.Whole = true
	outcome, why := core.Done, ""
	if !res.Proved {
		outcome, why = core.Failed, fmt.Sprintf(" (%s: %s)", pushed.Outcome, pushed.Summary)
	}
	s.endRestoreTest(j, l, outcome, fmt.Sprintf("%s%s; %s runs %s again", s.testedWords(res), why, j.Device, before.Ref()), res)
}

// endRestoreTest ends a restore test. Where the other device runs its own again, or was never
// sent anything, its pulls count again; otherwise they go on to be set aside
// until it does.
func (s *Service) endRestoreTest(j core.Job, l *job.Log, outcome, summary string, res any) {
	r, _ := res.(RestoreTestResult)
	s.End(j, l, outcome, summary, res, func(q *store.Q) error {
		if r.Push != "" && !r.Whole {
			return nil
		}
		return q.SetTesting(context.Background(), j.DeviceID, "")
	})
}

func (s *Service) testedWords(res RestoreTestResult) string {
	if res.Proved {
		return fmt.Sprintf("%s was put on %s and proved", res.Ref, res.On)
	}
	return fmt.Sprintf("%s was put on %s and not proved", res.Ref, res.On)
}

// restoreTestPush previews and pushes one way of a restore test. It returns no job, and why,
// when there is nothing to send.
func (s *Service) restoreTestPush(ctx context.Context, j core.Job, target core.Version, req push.Request, way string) (pushed core.Job, said string, err error) {
	q := s.Store.As(job.Service)
	actor, err := s.Asker(ctx, j)
	if err != nil && way == "back" { // whoever asked for it, the unit is owed what it ran before
		actor, err = core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Operator}, nil
	}
	if err != nil {
		return pushed, "", err
	}
	on, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		return pushed, "", err
	}
	methods := s.Methods(on)
	if len(methods) == 0 {
		return pushed, "", fmt.Errorf("nothing can be pushed to %s", on.Name)
	}
	preview, made, err := s.Previewed(ctx, actor, on, target, push.PreviewRequest{Method: methods[0]}, j.ID+" look "+way)
	if err != nil {
		return pushed, "", err
	}
	if len(preview.Steps) == 0 {
		return pushed, fmt.Sprintf("%s runs %s already", on.Name, target.Ref()), nil
	}
	if preview.Factory {
		return pushed, "", fmt.Errorf("%s has factory settings, which no push can put back; set it up first, or put the version there for good: magpie push %s --to %s", on.Name, target.Ref(), on.Name)
	}
	req.Override = "it is a restore test, made on " + on.Name
	pushed, err = s.RequestPush(ctx, actor, made["preview"], made["hash"], req, store.OwnKey(actor, j.ID+" "+way))
	return pushed, "", err
}

// recurringTest is how a schedule has restore tests made: of each device's newest version, or
// of=WHICH, on the device on=NAME, one after the other. It pushes, so it is done for who
// saved the schedule, as long as they may.
func (s *Service) recurringTest() *job.Recurs {
	return &job.Recurs{Each: true, Serial: true, Takes: []string{"on!", "of"},
		Check: func(ctx context.Context, q *store.Q, with map[string]string) error {
			on, err := q.Device(ctx, with["on"])
			if err == nil {
				err = s.forTests(ctx, on)
			}
			if err != nil {
				return err
			}
			_, err = ref.ParseVersion("device@"+cmp.Or(with["of"], "latest"), ref.In(time.UTC, s.Now))
			return err
		},
		Begin: func(ctx context.Context, d job.Due) (jobs []core.Job, err error) {
			if !d.By.May(core.Operator) {
				return nil, fmt.Errorf("%s, who saved the schedule, may not push any more; somebody who may has to save it anew", d.By.Name)
			}
			on, err := s.Store.As(d.By).Device(ctx, d.With["on"])
			if err != nil {
				return nil, err
			}
			for _, x := range d.Devices {
				if x.ID == on.ID || x.Member != "" {
					continue // it is the spare itself, or not of its own
				}
				dia := s.DialectOf(x)
				if dia == nil {
					continue
				}
				r, err := ref.ParseVersion(x.Name+"/"+dia.Main()+"@"+cmp.Or(d.With["of"], "latest"), ref.Here{Zone: d.At.Location(), Now: d.At})
				if err != nil {
					return jobs, err
				}
				target, err := s.Version(ctx, d.By, r)
				if errors.Is(err, store.ErrNotFound) {
					continue // nothing was pulled of it yet
				}
				if err != nil {
					return jobs, err
				}
				j, err := s.RequestRestoreTest(ctx, d.By, target, on, "schedule "+d.Schedule, d.Key.For(x.ID))
				if err != nil {
					return jobs, err
				}
				jobs = append(jobs, j)
			}
			return jobs, nil
		}}
}
