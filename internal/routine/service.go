// Package routine is what is done by itself: schedules that begin jobs of every kind
// that makes sense time after time, pulls after a device was said to have changed, and
// telling people what happened.
package routine

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Service keeps the routine of one instance.
type Service struct {
	*visit.Service
	*state

	// Differ is what a version changed, as somebody sees it who may not see secrets. It is
	// set before Watch.
	Differ func(ctx context.Context, device, part string, number int) (string, error)
	// Room tells how much of the data folder's disk is free, in bytes. nil: nobody knows.
	Room func() (free, total uint64)
}

// state is what all work of an instance shares.
type state struct {
	notices *notices
	hearing hearing
	telling telling
}

// New makes it and registers its kind of job.
func New(v *visit.Service) *Service {
	s := &Service{Service: v, state: &state{notices: &notices{pending: map[string]said{}, written: map[string]time.Time{}}}}
	s.Register(Kinds(s)...)
	return s
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	return []job.Kind{{Name: "scheduled", Tells: true, Role: core.Operator, Does: "does what a schedule says", View: viewRun,
		Step: func(ctx context.Context, r *job.Run) {
			(&Service{Service: s.On(r.Runtime), state: s.state}).runJob(ctx, r.Job, r.Log)
		}}}
}

// lookEvery is how often it is looked what is due.
const lookEvery = time.Second

// Watch begins what is due, until ctx ends. Every instance does; of each time that
// something is due one of them has it.
func (s *Service) Watch(ctx context.Context) {
	var sending sync.WaitGroup
	defer sending.Wait()
	sending.Go(func() { s.send(ctx) })
	sending.Go(func() { s.hear(ctx) })
	s.Woken(ctx, lookEvery, "looking what is due", func() error { return s.Look(ctx) }, store.ForSchedules, store.ForNotices)
	last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := s.writeDown(last); err != nil {
		slog.Warn("change triggers are lost", "err", err)
	}
}

// Look begins what is due now.
func (s *Service) Look(ctx context.Context) error {
	noticed := s.heed(ctx)
	due, err := s.Store.As(job.Service).DueSchedules(ctx, s.Now(), 100)
	if err != nil {
		return err
	}
	err = noticed
	for _, x := range due {
		err = errors.Join(err, s.take(ctx, x))
	}
	if len(due) > 0 {
		s.Kick()
	}
	return err
}

// late is how much later than it was due something is begun without a word about it.
const late = time.Minute

// mostMissed is how many missed times are counted.
const mostMissed = 1000

// take begins what a schedule is due to do, if nobody else has, and moves it on to
// the next time. What was missed is made up once.
func (s *Service) take(ctx context.Context, x store.Schedule) error {
	rule, plan, err := opened(x)
	if err != nil {
		return err
	}
	now, was := s.Now(), *x.NextAt
	due, missed := was, 0
	if now.Sub(was) > late {
		if last := rule.Last(was, now); !last.IsZero() {
			due = last
		}
		missed = rule.Count(was.Add(-time.Millisecond), now, mostMissed) - 1
		if now.Sub(due) > late { // the last one is made up, too
			missed++
		}
	}
	why, err := s.leftOut(ctx, x, plan, due, now)
	if err != nil {
		return err
	}
	actor := core.Actor{Name: "schedule " + x.Name, Role: core.Operator}
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if mine, err := q.Advance(ctx, x.ID, was, nextAfter(rule, now)); err != nil || !mine {
			return err
		}
		run := store.ScheduleRun{ScheduleID: x.ID, DueAt: due, Schedule: x.Name, Missed: missed, Why: why}
		if why == "" {
			j, err := s.begin(ctx, q, actor, x, plan, due, missed, "", store.OwnKey(actor, x.ID+" "+due.UTC().Format(time.RFC3339Nano)))
			if err != nil {
				return err
			}
			run.JobID = j.ID
		}
		return q.AddRun(ctx, run)
	})
}

// begin queues the job of one time that a schedule is due.
func (s *Service) begin(ctx context.Context, q *store.Q, actor core.Actor, x store.Schedule, plan Plan, due time.Time, missed int, note string, key store.Key) (core.Job, error) {
	n := store.NewJob{Job: core.Job{Kind: "scheduled", Device: x.Name}, Wants: RunRequest{due, missed, plan, x.Selector, x.SpreadS, x.ChangedBy, x.ChangedByID}, Key: key}
	if err := q.AddJob(ctx, &n); err != nil || n.Old {
		return n.Job, err
	}
	return n.Job, q.Audit(ctx, "scheduled run", x.Name, "job "+n.ID+", "+plan.said()+" of "+x.Selector+core.Because(note))
}

// leftOut tells why nothing is done this time; empty: it is.
func (s *Service) leftOut(ctx context.Context, x store.Schedule, plan Plan, due, now time.Time) (string, error) {
	for _, at := range []time.Time{due, now} {
		if why, err := plan.blackedOut(x, at); err != nil || why != "" {
			return why, err
		}
	}
	last, err := s.Store.As(job.Service).LastRun(ctx, x.ID)
	if err == nil && last.UnderWay() {
		return "the run that was due " + last.DueAt.In(plan.zone).Format("2006-01-02 15:04") + " was still under way", nil
	}
	return "", err
}
