package fleet

import (
	"context"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/push"
)

// New makes it and registers its kinds of jobs.
func New(p *push.Service) *Service {
	s := &Service{p}
	step := func(do func(s *Service, ctx context.Context, j core.Job, l *job.Log)) func(context.Context, *job.Run) {
		return func(ctx context.Context, r *job.Run) {
			do(&Service{&push.Service{Service: s.On(r.Runtime)}}, ctx, r.Job, r.Log)
		}
	}
	s.Register(
		job.Kind{Name: "planned", Role: core.Operator, Does: "begins a push at its time", May: s.mayApprove, Step: step((*Service).plannedJob),
			Awaits: []job.Wait{
				{For: core.AwaitsApproval, Means: "a second person", Words: []string{"approve", "decline"}},
				{For: core.AwaitsStart, Means: "its time", Words: []string{"decline"}},
			}},
		job.Kind{Name: "survey", Role: core.Operator, Does: "looks what putting many devices back would take", Tries: 3, Step: step((*Service).restorePreviewJob)},
		job.Kind{Name: "restore", Role: core.Operator, Does: "puts many devices back", Step: step((*Service).restoreJob)},
		job.Kind{Name: "drill", Role: core.Operator, Does: "tries a version out on another device", Step: step((*Service).restoreTestJob)},
	)
	return s
}
