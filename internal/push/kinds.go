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
	s.Register(Kinds(s)...)
	return s
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	undo := job.Word{Say: "undo", Does: "Undo a push that waits, now"}
	return []job.Kind{
		{Name: "preview", Role: core.Operator, Does: "works out what a push would send", Visits: true, Tries: 3,
			Step: func(ctx context.Context, r *job.Run) { s.on(r.Runtime).previewJob(ctx, r.Job, r.Log) }, View: viewPreview},
		{Name: "push", Tells: true, Role: core.Operator, Does: "makes a device run a version", Visits: true,
			Awaits: []job.Wait{
				{For: core.AwaitsConfirm, Calls: true, Means: "a person to keep what it did", Words: []job.Word{{Say: "confirm", Does: "Keep what a push that waits to be confirmed did"}, undo}},
				{For: core.AwaitsRestart, Calls: true, Means: "a person to let the device be restarted", Words: []job.Word{{Say: "restart", Does: "Restart a device whose startup was written by a push that left the restart to later"}, undo}},
			},
			Step: func(ctx context.Context, r *job.Run) { s.on(r.Runtime).step(ctx, r) }, View: viewPush,
			End: func(ctx context.Context, q *store.Q, j core.Job, _ string) error { return q.Unclaim(ctx, j.ID) }},
		{Name: "check", Tells: true, Role: core.Operator, Does: "makes checks, and compares them with an earlier one's: again=JOB", Tries: 3, Asks: s.asksChecks,
			Step: func(ctx context.Context, r *job.Run) { s.on(r.Runtime).checkJob(ctx, r.Job, r.Log) }, View: viewCheck},
	}
}
