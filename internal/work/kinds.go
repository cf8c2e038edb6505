package work

import (
	"context"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// register makes the kinds of jobs known: each is one entry here and nowhere
// else.
func (s *Service) register() {
	// step goes on with a job by the clock that it was begun by.
	step := func(do func(s *Service, ctx context.Context, j core.Job, l *job.Log)) func(context.Context, *job.Run) {
		return func(ctx context.Context, r *job.Run) { do(s.on(r.Runtime), ctx, r.Job, r.Log) }
	}
	decided := map[string][]string{core.AwaitsConfirm: {"confirm", "undo"}, core.AwaitsRestart: {"restart", "undo"}}
	s.Register(
		job.Kind{Name: "pull", Role: core.Operator, Does: "visits a device and keeps what it runs", Visits: true, Tries: 3, Step: step((*Service).pullJob)},
		job.Kind{Name: "preview", Role: core.Operator, Does: "works out what a push would send", Visits: true, Tries: 3, Step: step((*Service).previewJob)},
		job.Kind{Name: "push", Role: core.Operator, Does: "makes a device run a version", Visits: true, Awaits: decided,
			Step: func(ctx context.Context, r *job.Run) {
				if r.Again {
					s.on(r.Runtime).settle(ctx, r.Job, r.Log)
				} else {
					s.on(r.Runtime).pushJob(ctx, r.Job, r.Log)
				}
			},
			End: func(ctx context.Context, q *store.Q, j core.Job, _ string) error { return q.Unclaim(ctx, j.ID) }},
		job.Kind{Name: "planned", Role: core.Operator, Does: "begins a push at its time", May: s.mayApprove,
			Awaits: map[string][]string{core.AwaitsApproval: {"approve", "decline"}, core.AwaitsStart: {"decline"}}, Step: step((*Service).plannedJob)},
		job.Kind{Name: "survey", Role: core.Operator, Does: "looks what putting many devices back would take", Tries: 3, Step: step((*Service).surveyJob)},
		job.Kind{Name: "restore", Role: core.Operator, Does: "puts many devices back", Step: step((*Service).restoreJob)},
		job.Kind{Name: "drill", Role: core.Operator, Does: "tries a version out on another device", Step: step((*Service).drillJob)},
	)
}
