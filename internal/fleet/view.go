package fleet

import (
	"context"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
)

// What a job of this room has led to, as it goes over the wire.

func viewPlanned(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var r PlanResult
	err := q.OpenResult(j, &r)
	return &client.Plan{From: r.From, Until: r.Until, Zone: r.Zone, Preview: r.PreviewID, Changed: r.Changed, Rule: r.Rule, Approved: r.Approved, Push: r.PushID}, err
}

func viewRestoreTest(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var r RestoreTestResult
	err := q.OpenResult(j, &r)
	return &client.RestoreTest{Ref: r.Ref, On: r.On, Push: r.PushID, Back: r.BackID, Proved: r.Proved, Whole: r.Whole}, err
}

func viewRestorePreview(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var r RestorePreview
	err := q.OpenResult(j, &r)
	out := &client.RestorePreview{Which: r.Which, Rows: make([]client.RestorePreviewRow, len(r.Rows))}
	for i, x := range r.Rows {
		out.Rows[i] = client.RestorePreviewRow{Device: x.Device, Target: x.Target, Preview: x.PreviewID, Lines: x.Lines, Skip: x.Skip, Refused: x.Refused, Warnings: x.Warnings}
		if x.Warnings == nil {
			out.Rows[i].Warnings = []string{}
		}
	}
	return out, err
}

// viewRestore says how the pushes of a restore stand by now.
func viewRestore(ctx context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var kept RestoreResult
	if err := q.OpenResult(j, &kept); err != nil {
		return nil, err
	}
	r, err := kept.now(ctx, q)
	out := &client.Restore{Which: r.Which, Rows: make([]client.Restored, len(r.Rows))}
	for i, x := range r.Rows {
		out.Rows[i] = client.Restored{Device: x.Device, Target: x.Target, Job: x.JobID, Outcome: x.Outcome, Summary: x.Summary}
	}
	return out, err
}
