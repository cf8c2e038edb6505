// Package history looks after what is kept: which versions stay, that all of them read back, and
// that nothing else grows without end.
package history

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Service looks after the history for one instance.
type Service struct{ *visit.Service }

// New makes it and registers its kinds of jobs.
func New(v *visit.Service) *Service {
	s := &Service{v}
	s.Register(Kinds(s)...)
	return s
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	step := func(do func(*Service, context.Context, core.Job, *job.Log)) func(context.Context, *job.Run) {
		return func(ctx context.Context, r *job.Run) { do(&Service{s.On(r.Runtime)}, ctx, r.Job, r.Log) }
	}
	whole := func(kind string) *job.Recurs { // whatever devices a schedule picks
		return &job.Recurs{Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
			j, err := s.ask(ctx, d.Actor, kind, d.Key)
			return []core.Job{j}, err
		}}
	}
	asks := func(context.Context, core.Actor, core.Job, []byte) (any, error) { return struct{}{}, nil }
	return []job.Kind{
		{Name: "retention", Role: core.Admin, Does: "deletes versions that have had their time, and what else has", Tries: 10, Repeats: true, Asks: asks, Step: step((*Service).retentionJob), Recurs: whole("retention")},
		{Name: "scrub", Role: core.Admin, Does: "reads everything that is kept back, and names what is damaged", Tries: 10, Repeats: true, Asks: asks, Step: step((*Service).scrubJob), Recurs: whole("scrub")},
	}
}

// ask begins a job of this room.
func (s *Service) ask(ctx context.Context, actor core.Actor, kind string, key store.Key) (core.Job, error) {
	return s.Queue(ctx, actor, kind, store.NewJob{Job: core.Job{Kind: kind}, Wants: struct{}{}, Key: key}, "")
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
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if s.Sure() != nil {
			continue
		}
		if err := s.Look(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("looking whether versions have had their time", "err", err)
		}
	}
}

// Look begins the day's retention, if it is due.
func (s *Service) Look(ctx context.Context) error {
	now := s.Now()
	var last daily
	_, _, err := s.Store.As(job.Service).Setting(ctx, dailySetting, &last)
	switch {
	case errors.Is(err, store.ErrNotFound): // the first day is not over
		return s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetSetting(ctx, dailySetting, daily{now}) })
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
