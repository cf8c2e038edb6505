package push

import (
	"context"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// New makes an instance's pushes, and registers preview and push.
func New(v *visit.Service) *Service {
	s := &Service{v}
	s.Register(
		job.Kind{Name: "preview", Role: core.Operator, Does: "works out what a push would send", Visits: true, Tries: 3,
			Step: func(ctx context.Context, r *job.Run) { s.on(r.Runtime).previewJob(ctx, r.Job, r.Log) }},
		job.Kind{Name: "push", Role: core.Operator, Does: "makes a device run a version", Visits: true,
			Awaits: []job.Wait{
				{For: core.AwaitsConfirm, Means: "a person to keep what it did", Words: []string{"confirm", "undo"}},
				{For: core.AwaitsRestart, Means: "a person to let the device be restarted", Words: []string{"restart", "undo"}},
			},
			Step: func(ctx context.Context, r *job.Run) { s.on(r.Runtime).step(ctx, r) },
			End:  func(ctx context.Context, q *store.Q, j core.Job, _ string) error { return q.Unclaim(ctx, j.ID) }},
	)
	return s
}
