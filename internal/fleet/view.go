package fleet

import (
	"context"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// What a job of this room has led to, as it goes over the wire.

var (
	wirePlan           = wire.Make[client.Plan, PlanResult]()
	wireLearned        = wire.Make[client.Learned, LearnResult]()
	wireRestoreTest    = wire.Make[client.RestoreTest, RestoreTestResult]()
	wireRestorePreview = wire.Make[client.RestorePreview, RestorePreview]()
	wireRestore        = wire.Make[client.Restore, RestoreResult]()
)

// seen opens a job's result and shows it.
func seen[T, R any](q *store.Q, j core.Job, show func(R) T) (any, error) {
	var r R
	err := q.OpenResult(j, &r)
	out := show(r)
	return &out, err
}

func viewPlanned(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	return seen(q, j, wirePlan)
}

// viewLearn shows a draft to who may see secrets: it quotes lines of configurations.
func viewLearn(_ context.Context, q *store.Q, a core.Actor, j core.Job) (any, error) {
	return seen(q, j, func(r LearnResult) client.Learned {
		out := wireLearned(r)
		if !a.Secrets {
			out.Draft = ""
		}
		return out
	})
}

func viewRestoreTest(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	return seen(q, j, wireRestoreTest)
}

func viewRestorePreview(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	return seen(q, j, wireRestorePreview)
}

// viewRestore says how the pushes of a restore stand by now.
func viewRestore(ctx context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var kept RestoreResult
	if err := q.OpenResult(j, &kept); err != nil {
		return nil, err
	}
	r, err := kept.now(ctx, q)
	out := wireRestore(r)
	return &out, err
}
