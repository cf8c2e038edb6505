// Package history looks after what is kept: which versions stay, that all of them read back, and
// that nothing else grows without end.
package history

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Service looks after the history for one instance.
type Service struct {
	*visit.Service
	Spool   string // where files lie on their way to a target, sealed
	Program string // the program's version
	sized   string // the day on which it was noted last how much there is
}

// New makes it and registers its kinds of jobs.
func New(v *visit.Service, spool, program string) *Service {
	s := &Service{Service: v, Spool: spool, Program: program}
	s.Register(Kinds(s)...)
	return s
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	whole := func(kind string) *job.Recurs { // whatever devices a schedule picks
		return &job.Recurs{Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
			j, err := s.ask(ctx, d.Actor, kind, d.Key)
			return []core.Job{j}, err
		}}
	}
	asks := func(context.Context, core.Actor, core.Job, []byte) (any, error) { return struct{}{}, nil }
	return append([]job.Kind{
		{Name: "retention", Role: core.Admin, Does: "deletes versions that have had their time, and what else has", Tries: 10, Repeats: true, Asks: asks, Step: s.step((*Service).retentionJob), Recurs: whole("retention")},
		{Name: "scrub", Role: core.Admin, Does: "reads everything that is kept back, and names what is damaged", Tries: 10, Repeats: true, Asks: asks, Step: s.step((*Service).scrubJob), Recurs: whole("scrub")},
		{Name: targetCheckKind, Role: core.Admin, Does: "looks whether the copies at targets are there and open", Tries: 10, Repeats: true, Asks: s.asksTargetCheck,
			Step: s.step((*Service).targetCheckJob), Recurs: whole(targetCheckKind)},
	}, s.backupKinds()...)
}

// step makes a step of a job of something that this room does.
func (s *Service) step(do func(*Service, context.Context, core.Job, *job.Log)) func(context.Context, *job.Run) {
	return func(ctx context.Context, r *job.Run) {
		do(&Service{Service: s.On(r.Runtime), Spool: s.Spool, Program: s.Program}, ctx, r.Job, r.Log)
	}
}

// ask begins a job of this room.
func (s *Service) ask(ctx context.Context, actor core.Actor, kind string, key store.Key) (core.Job, error) {
	return s.askWith(ctx, actor, kind, struct{}{}, key)
}

func (s *Service) askWith(ctx context.Context, actor core.Actor, kind string, wants any, key store.Key) (core.Job, error) {
	return s.Queue(ctx, actor, kind, store.NewJob{Job: core.Job{Kind: kind}, Wants: wants, Key: key}, "")
}

// daily is when the retention was begun by itself last.
type daily struct {
	At time.Time `json:"at"`
}

const (
	dailySetting = "retention: daily"
	lookEvery    = time.Minute
	every        = 24 * time.Hour
)

// Watch has what has had its time deleted once a day, by whichever instance is first, until ctx
// ends.
func (s *Service) Watch(ctx context.Context) {
	s.Every(ctx, lookEvery, "looking whether versions have had their time", func() error { return s.Look(ctx) })
}

// Look begins the day's retention, if it is due.
func (s *Service) Look(ctx context.Context) error {
	if err := s.lookTargets(ctx); err != nil {
		return err
	}
	now := s.Now()
	if day := now.Format(time.DateOnly); day != s.sized {
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.NoteSize(ctx) }); err != nil {
			return err
		}
		s.sized = day
	}
	var last daily
	_, _, err := s.Store.As(job.Service).Setting(ctx, dailySetting, &last)
	switch {
	case errors.Is(err, store.ErrNotFound): // the first day is not over
		return s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.FirstSetting(ctx, dailySetting, daily{now}) })
	case err != nil:
		return err
	case now.Sub(last.At) < every:
		return nil
	}
	if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetSetting(ctx, dailySetting, daily{now}) }); err != nil {
		return err
	}
	_, err = s.ask(ctx, core.Actor{Name: "retention", Role: core.Admin}, "retention", store.OwnKey(job.Service, fmt.Sprintf("retention %s", last.At.UTC().Format(time.RFC3339Nano))))
	s.Kick()
	return err
}
