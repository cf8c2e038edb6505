package fleet

import (
	"context"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/store"
)

// New makes it and registers its kinds of jobs.
func New(p *push.Service) *Service {
	s := &Service{p}
	s.Register(Kinds(s)...)
	return s
}

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	decline := job.Word{Say: "decline", Does: "Call a planned push off"}
	step := func(do func(s *Service, ctx context.Context, j core.Job, l *job.Log)) func(context.Context, *job.Run) {
		return func(ctx context.Context, r *job.Run) {
			do(&Service{&push.Service{Service: s.On(r.Runtime)}}, ctx, r.Job, r.Log)
		}
	}
	return []job.Kind{
		{Name: "planned", Role: core.Operator, Does: "begins a push at its time", May: s.mayApprove, Step: step((*Service).plannedJob), View: viewPlanned,
			Awaits: []job.Wait{
				{For: core.AwaitsApproval, Calls: true, Means: "a second person", Words: []job.Word{{Say: "approve", Does: "Let a planned push go ahead; where a rule asks for a second person, it takes another than who planned it", Sees: true}, decline}},
				{For: core.AwaitsStart, Means: "its time", Words: []job.Word{decline}},
			}},
		{Name: "restore-preview", Role: core.Operator, Does: "looks what putting many devices back would take", Tries: 3, Repeats: true, Step: step((*Service).restorePreviewJob), View: viewRestorePreview},
		{Name: "restore", Tells: true, Role: core.Operator, Does: "puts many devices back", Step: step((*Service).restoreJob), View: viewRestore, Passes: pushesOf},
		{Name: "learn", Role: core.Admin, Does: "drafts the rules of a dialect", Visits: true, Step: func(ctx context.Context, r *job.Run) {
			(&Service{&push.Service{Service: s.On(r.Runtime)}}).learnJob(ctx, r)
		}, View: viewLearn,
			End: func(ctx context.Context, q *store.Q, j core.Job, _ string) error { return q.Unclaim(ctx, j.ID) }},
		{Name: "restore-test", Tells: true, Role: core.Operator, Does: "tries a version out on another device", Repeats: true, Step: step((*Service).restoreTestJob), View: viewRestoreTest, Recurs: s.recurringTest()},
		{Name: "discovery", Role: core.Admin, Does: "looks what answers at addresses", Tries: 3, Repeats: true, Step: step((*Service).sweepJob)},
		{Name: "snapshot", Tells: true, Role: core.Operator, Does: "names the versions that devices have", Repeats: true, Step: step((*Service).snapshotJob), Recurs: s.recurringSnapshot()},
	}
}
