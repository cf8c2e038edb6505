package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// PullRequest is what a pull job is asked for.
type PullRequest struct {
	Reason string `json:"reason"`
}

// PullResult is what came of a pull.
type PullResult struct {
	Parts   []PulledPart `json:"parts"`
	Found   []string     `json:"found,omitempty"` // devices registered because this one speaks for them
	Members struct {
		Pulled  int `json:"pulled"`
		Changed int `json:"changed"`
		Failed  int `json:"failed"`
	} `json:"members"`
}

// PulledPart is one part of a pull.
type PulledPart struct {
	Part      string `json:"part"`
	VersionID string `json:"version_id,omitempty"`
	Number    int    `json:"number,omitempty"`
	New       bool   `json:"new"`
	Absent    bool   `json:"absent,omitempty"`
	Aside     string `json:"aside,omitempty"` // why it counts for nothing
	Added     int    `json:"added"`
	Removed   int    `json:"removed"`
}

// RequestPulls queues pulls of devices, all or none. key, if there is one, makes
// them the same pulls however often they are asked for.
func (s *Service) RequestPulls(ctx context.Context, actor core.Actor, devices []core.Device, reason string, key store.Key) (jobs []core.Job, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		all := make([]store.NewJob, len(devices))
		for i, d := range devices {
			all[i] = store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, Wants: PullRequest{reason}}
			all[i].Key = key.For(d.ID)
		}
		if err := q.Once(ctx, key); err != nil {
			return err
		}
		if err := q.AddJobs(ctx, all); err != nil {
			return err
		}
		jobs = nil
		var deeds []store.Deed
		for _, j := range all {
			jobs = append(jobs, j.Job)
			if !j.Old {
				deeds = append(deeds, store.Deed{Action: "pull", Object: j.Device, Detail: "job " + j.ID + ", " + reason})
			}
		}
		return q.AuditAll(ctx, deeds)
	})
	s.Kick()
	return jobs, err
}

// PullNow pulls a device at once, as a job of its own, and waits for its end.
func (s *Service) PullNow(ctx context.Context, actor core.Actor, d core.Device, reason string) (core.Job, error) {
	return s.AtOnce(ctx, actor, store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, Wants: PullRequest{reason}})
}

// pullJob is the road of a pull, top to bottom: lease, visit, keep, say.
func (s *Service) pullJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(service)
	var req PullRequest
	if err := q.OpenRequest(j, &req); err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	d, ok := s.deviceOf(ctx, j, l)
	if !ok {
		return
	}
	visit := s.newVisit(j, d, req.Reason, l)
	defer visit.close()
	if !s.visited(ctx, j, l, visit) {
		return
	}
	visit.hangUp()
	if err := s.endPull(j, l, visit); err != nil {
		s.End(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
	}
}

// endPull keeps what a visit brought, lets the device go and ends the job, in
// one transaction.
func (s *Service) endPull(j core.Job, l *job.Log, v *visit) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	seq := l.Mark()
	err := l.Commit(ctx, func(q *store.Q) error {
		l.Rewind(seq)
		k, err := v.keepIn(ctx, q)
		if err != nil {
			return err
		}
		if err := v.unlease(ctx, q); err != nil {
			return err
		}
		l.Add("end", core.Done+": "+k.summary(), "")
		return s.EndIn(ctx, q, j, core.Done, k.summary(), k.Result)
	})
	if err == nil {
		v.leased = false
	}
	return err
}

// deviceOf reads a job's device. ok is false when that ended the job, or when it
// is left to be taken up.
func (s *Service) deviceOf(ctx context.Context, j core.Job, l *job.Log) (d core.Device, ok bool) {
	d, err := s.Store.As(service).DeviceByID(ctx, j.DeviceID)
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, "cancelled by hand", nil)
	case errors.Is(err, store.ErrNotFound):
		s.End(j, l, core.Failed, "the device was removed", nil)
	case err != nil:
		s.End(j, l, core.Failed, err.Error(), nil)
	default:
		return d, true
	}
	return d, false
}

// ours tells whether an error is of our own making: the database, the end of the
// service. It says nothing of the device.
func ours(err error) bool {
	return errors.Is(err, job.ErrLeaseLost) || errors.Is(err, job.ErrStopping) || errors.Is(err, store.ErrDatabase) || errors.Is(err, context.Canceled)
}

// visited opens a visit and fetches all parts, again after a while if what
// kept it from that may pass. When it does not come to its end, it ends the
// job, or leaves it to be taken up at the next start, and returns false.
func (s *Service) visited(ctx context.Context, j core.Job, l *job.Log, v *visit) bool {
	err := v.whole(ctx)
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, "cancelled by hand", nil)
	case err != nil:
		s.failPull(j, l, v, err)
	default:
		return true
	}
	return false
}

// whole opens the visit and fetches every part, with the dialect's patience.
func (v *visit) whole(ctx context.Context) error {
	for try := 0; ; try++ {
		err := v.open(ctx)
		if err == nil {
			if err = v.fetch(); err == nil {
				return nil
			}
			v.close()
		}
		if errors.Is(err, job.ErrLeaseLost) {
			v.l.Warn("%v; it begins anew as soon as that is over", err)
			if err := v.s.UntilSure(ctx); err != nil {
				return err
			}
			try--
			continue
		}
		if v.dia == nil || try >= v.dia.Reach.Retry.Times || !mayPass(err) || ctx.Err() != nil {
			return err
		}
		wait := v.dia.Span(v.dia.Reach.Retry.After, 5*time.Second) << try
		v.l.Warn("%v; trying again in %s", err, wait)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// mayPass tells whether what went wrong may be over in a while. A refused login
// never is: nothing tries it again by itself.
func mayPass(err error) bool {
	var refused *link.Refused
	switch {
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, errLatched), errors.Is(err, ErrBreaker):
		return false
	case errors.As(err, &refused):
		return refused.Means == "busy" || refused.Means == "held"
	}
	return errors.Is(err, link.ErrUnreachable)
}

// failPull notes a visit that brought nothing: the seen intervals end here, and
// a refused login is latched.
func (s *Service) failPull(j core.Job, l *job.Log, v *visit, err error) {
	var part *link.Incomplete
	if errors.As(err, &part) && part.Got != "" {
		l.Keep(part.Got)
	}
	advice := v.advice(err)
	l.Trouble(err.Error(), "")
	if advice != "" {
		l.Info("%s", advice)
	}
	outcome := core.Failed
	if errors.Is(err, link.ErrLoginRefused) {
		outcome = core.Refused
	}
	s.End(j, l, outcome, err.Error(), nil, func(q *store.Q) error {
		if v.where.Address != "" || errors.Is(err, ErrNotTold) { // it says nothing of the device at its own address
			return nil
		}
		return v.noteFailure(context.Background(), q, err)
	})
}

// noteFailure writes a visit that brought nothing.
func (v *visit) noteFailure(ctx context.Context, q *store.Q, cause error) error {
	if ours(cause) {
		return nil
	}
	d, err := q.LockDevice(ctx, v.d.ID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	state := core.Failing
	switch {
	case errors.Is(cause, link.ErrLoginRefused):
		state = core.RefusedLogin
		// The credential is the one of who was talked to.
		if err := v.s.refusedLogin(ctx, q, v.at, cause); err != nil {
			return err
		}
	case errors.Is(cause, errLatched), errors.Is(cause, ErrBreaker):
		state = core.RefusedLogin
	case errors.Is(cause, link.ErrUnreachable):
		state = core.Unreachable
	}
	return noteTrouble(ctx, q, d, v.pull, state, cause, v.s.Now())
}

// noteTrouble writes a visit that brought nothing: the seen intervals end here.
func noteTrouble(ctx context.Context, q *store.Q, d core.Device, pull core.Pull, state string, cause error, now time.Time) error {
	pull.Result, pull.Trouble = "failed", cause.Error()
	if err := q.AddPull(ctx, pull); err != nil {
		return err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range parts {
		if err := q.CloseSeen(ctx, p.ID); err != nil {
			return err
		}
	}
	d.Trouble, d.LastTried, d.State = cause.Error(), &now, state
	return q.SetStanding(ctx, d)
}

// advice says what a person can do about a failed visit.
func (v *visit) advice(err error) string {
	var key *link.HostKeyError
	var refused *link.Refused
	var part *link.Incomplete
	switch {
	case errors.Is(err, ErrNotTold):
		return "somebody who may see secrets can go on; or give the credential set the maker's login: magpie credential edit NAME --factory-user USER"
	case errors.As(err, &key) && v.swaps:
		return fmt.Sprintf("if this is the new unit's key: magpie swap %s --accept-key %s", v.d.Name, key.Shown)
	case errors.As(err, &key):
		return fmt.Sprintf("if the device was reset or replaced and you know this key to be its own: magpie device trust %s", v.d.Name)
	case errors.Is(err, ErrBreaker):
		return "have a look why so many devices refuse it; when it is right: magpie credential retry NAME"
	case (errors.Is(err, link.ErrLoginRefused) || errors.Is(err, errLatched)) && v.at.SetName != "":
		return fmt.Sprintf("nothing tries credential set %[1]s there again until you change it (magpie credential edit %[1]s --password), give the device another (magpie credential attach SET %[2]s), or say that it is right (magpie device edit %[2]s --retry-login)", v.at.SetName, v.d.Name)
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, errLatched):
		return fmt.Sprintf("nothing tries this login there again until you change it (magpie device edit %s --password) or say it is right (magpie device edit %s --retry-login)", v.d.Name, v.d.Name)
	case errors.As(err, &refused) && refused.Means == "held":
		how := "wait until they are done, or ask them; then run it again"
		if refused.Holder != "" && refused.Holder != "0" {
			how += fmt.Sprintf("; if they are gone, a push can end their session: --end-session %s --note WHY", refused.Holder)
		}
		return how
	case errors.As(err, &refused) && refused.Means == "busy":
		return "run it again in a while"
	case errors.As(err, &part):
		return "no version was made; what came is kept with this job for those who may see secrets"
	case errors.Is(err, link.ErrUnreachable) && v.where.Address != "":
		return fmt.Sprintf("check that the unit has power and that %s can be reached from here, then run it again", v.where.Address)
	case errors.Is(err, link.ErrUnreachable):
		return fmt.Sprintf("check that the device has power and that %s port %d can be reached from here, then run it again", v.d.Address, v.d.Port)
	}
	return ""
}
