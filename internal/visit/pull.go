package visit

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// PullRequest is what a pull job is asked for.
type PullRequest struct {
	Reason string `json:"reason"`
	Author string `json:"author,omitempty"` // who changed it, if somebody said so
	Mark
}

// RequestPulls queues pulls of devices, all or none; those that are disabled are left out. key,
// if there is one, makes them the same pulls however often they are asked for. A name that a
// version of one of them has already is refused (store.ErrTaken).
func (s *Service) RequestPulls(ctx context.Context, actor core.Actor, devices []core.Device, reason string, mark Mark, key store.Key) (jobs []core.Job, err error) {
	if mark.Name != "" {
		if err := ref.VersionName(mark.Name); err != nil {
			return nil, err
		}
	}
	if some := Enabled(devices); len(some) > 0 {
		devices = some
	} else if len(devices) > 0 {
		return nil, fmt.Errorf("%s: %w", devices[0].Name, ErrDisabled)
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		all := make([]store.NewJob, len(devices))
		for i, d := range devices {
			all[i] = store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, Wants: PullRequest{Reason: reason, Mark: mark}}
			all[i].Key = key.For(d.ID)
		}
		if err := q.Once(ctx, key); err != nil {
			return err
		}
		if mark.Name != "" {
			if err := q.NameFree(ctx, mark.Name, devices); err != nil {
				return err
			}
		}
		if err := q.AddJobs(ctx, all); err != nil {
			return err
		}
		jobs = nil
		var deeds []store.AuditEntry
		for _, j := range all {
			jobs = append(jobs, j.Job)
			if !j.Old && reason != core.BySchedule { // those are noted with the run that begins them
				deeds = append(deeds, store.AuditEntry{Action: "pull", Object: j.Device, Detail: "job " + j.ID + ", " + reason + mark.said()})
			}
		}
		return q.AuditAll(ctx, deeds)
	})
	s.Kick()
	return jobs, err
}

// PullNow pulls a device at once, as a job of its own, and waits for its end.
func (s *Service) PullNow(ctx context.Context, actor core.Actor, d core.Device, reason string) (core.Job, error) {
	return s.AtOnce(ctx, actor, store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, Wants: PullRequest{Reason: reason}})
}

// pullJob is the road of a pull, top to bottom: lease, visit, keep, say.
func (s *Service) pullJob(ctx context.Context, j core.Job, l *job.Log) {
	var req PullRequest
	d, ok := s.Asked(ctx, j, l, &req)
	if !ok {
		return
	}
	visit := s.NewVisit(j, d, req.Reason, l)
	visit.pull, visit.author, visit.Mark = true, req.Author, req.Mark
	defer visit.Close()
	if !s.Visited(ctx, j, l, visit) {
		return
	}
	visit.hangUp()
	if err := s.endPull(j, l, visit, req.Reason != core.ByHand && visit.Pull.Reason != core.FirstPull); err != nil {
		s.End(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
	}
}

// endPull keeps what a visit brought, lets the device go and ends the job, in
// one transaction.
func (s *Service) endPull(j core.Job, l *job.Log, v *Visit, quiet bool) error {
	ctx := context.Background() // it waits for the database as long as it takes
	seq := l.Mark()
	err := l.Commit(ctx, func(q *store.Q) error {
		l.Rewind(seq)
		k, err := v.keepIn(ctx, q)
		if err != nil {
			return err
		}
		if quiet && k.unchanged() { // nobody asked by hand, and nothing came of it: its end says it all
			if err := l.Only(ctx, q); err != nil {
				return err
			}
		}
		outcome, summary := core.Done, k.Summary()
		if k.Unmarked != "" {
			outcome, summary = core.Failed, summary+"; "+k.Unmarked
			l.Trouble(k.Unmarked, "")
			l.Info("choose another name: magpie mark %s --name NAME", k.Running.Ref())
		}
		if len(v.missing) > 0 {
			outcome, summary = core.Failed, strings.Join(append([]string{summary}, v.missing...), "; ")
		}
		l.Add("end", outcome+": "+summary, "")
		return s.EndIn(ctx, q, j, outcome, summary, k.Result)
	})
	if err == nil {
		v.leased = false
	}
	return err
}

// Asked reads what a job was asked for and its device, which from then on is read by the dialect that
// was loaded last on any instance. ok is false when that ended
// the job, or when it is left to be taken up.
func (s *Service) Asked(ctx context.Context, j core.Job, l *job.Log, into any) (d core.Device, ok bool) {
	q := s.Store.As(job.Service)
	if err := q.OpenRequest(j, into); err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return d, false
	}
	d, err := q.DeviceByID(ctx, j.DeviceID)
	if err == nil {
		err = s.upToDate(ctx, q, d.Dialect)
	}
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

// Visited opens a visit and fetches all parts, again after a while if what
// kept it from that may pass. When it does not come to its end, it ends the
// job, or leaves it to be taken up at the next start, and returns false.
func (s *Service) Visited(ctx context.Context, j core.Job, l *job.Log, v *Visit) bool {
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
func (v *Visit) whole(ctx context.Context) error {
	for try := 0; ; try++ {
		err := v.Open(ctx)
		if err == nil {
			same, unsure := v.glance(ctx)
			if err = unsure; err == nil && !same {
				err = v.Fetch(ctx)
			}
			if err == nil {
				return nil
			}
			v.Close()
		}
		if errors.Is(err, job.ErrLeaseLost) {
			v.Log.Warn("%v; it begins anew as soon as that is over", err)
			if err := v.s.UntilSure(ctx); err != nil {
				return err
			}
			try--
			continue
		}
		if v.Dialect == nil || try >= v.Dialect.Reach.Retry.Times || !mayPass(err) || ctx.Err() != nil {
			return err
		}
		wait := v.Dialect.Span(v.Dialect.Reach.Retry.After, 5*time.Second) << try
		v.Log.Warn("%v; trying again in %s", err, wait)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// failPull notes a visit that brought nothing: the seen intervals end here, and
// a refused login is locked.
func (s *Service) failPull(j core.Job, l *job.Log, v *Visit, err error) {
	var part *link.Incomplete
	if errors.As(err, &part) && part.Got != "" {
		l.Keep(part.Got)
	}
	advice := v.Advice(err)
	l.Trouble(err.Error(), "")
	if advice != "" {
		l.Info("%s", advice)
	}
	outcome := core.Failed
	if errors.Is(err, link.ErrLoginRefused) {
		outcome = core.Refused
	}
	s.End(j, l, outcome, err.Error(), nil, func(q *store.Q) error {
		if v.Where.Address != "" || errors.Is(err, ErrNotTold) || errors.Is(err, ErrDisabled) { // it says nothing of the device at its own address
			return nil
		}
		return v.NoteFailure(context.Background(), q, err)
	})
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	return []job.Kind{{Name: "pull", Role: core.Operator, Does: "visits a device and keeps what it runs", Visits: true, Yields: true, Tries: 3, Repeats: true,
		Asks: func(context.Context, core.Actor, core.Job, []byte) (any, error) {
			return PullRequest{Reason: core.ByHand}, nil
		},
		Step: func(ctx context.Context, r *job.Run) { s.On(r.Runtime).pullJob(ctx, r.Job, r.Log) }, View: viewPull,
		Recurs: &job.Recurs{Each: true, Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
			return s.RequestPulls(ctx, d.Actor, d.Devices, core.BySchedule, Mark{}, d.Key)
		}}}}
}

// New makes an instance's visits, and registers the pull. Dialects are recorded in
// the database, so that every pull can say by which revision it went.
func New(ctx context.Context, jobs *job.Runtime, dialects []*dialect.Dialect) (*Service, error) {
	s := &Service{Runtime: jobs, state: &state{limits: DefaultLimits, sessions: newSessions(), attempts: newAttempts(), dialects: map[string]*dialect.Dialect{}, relays: map[string]openRelay{}}}
	s.Register(Kinds(s)...)
	s.WhenDialectsCome(s.syncDialects)
	for _, d := range dialects {
		newer, err := jobs.Store.As(job.Service).DialectInForce(ctx, d.Dialect, d.Source)
		if err != nil {
			return nil, err
		}
		if newer != "" {
			if d, err = dialect.Load(d.Dialect, []byte(newer)); err != nil {
				return nil, fmt.Errorf("the dialect loaded by hand: %w", err)
			}
		}
		if err := s.TakeDialect(ctx, d); err != nil {
			return nil, err
		}
	}
	s.syncDialects(ctx)
	return s, nil
}
