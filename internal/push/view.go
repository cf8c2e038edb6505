package push

import (
	"context"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

// What a job of this room has led to, as it goes over the wire.

// Made is the preview that a job of that kind has made.
type Made string

func viewPreview(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	r := map[string]string{}
	err := q.OpenResult(j, &r)
	return Made(r["preview"]), err
}

func viewPush(_ context.Context, q *store.Q, a core.Actor, j core.Job) (any, error) {
	var r Result
	err := q.OpenResult(j, &r)
	out := wireEnd(r)
	out.Begun = out.Begun || out.Sent > 0 // an earlier release did not write it down
	out.Remaining = visit.SeenBy(a, r.Remaining)
	out.Checks = make([]client.Checked, len(r.Checks))
	for i, c := range r.Checks {
		out.Checks[i] = wireChecked(c)
		out.Checks[i].Failed = c.Failed()
	}
	if r.Refused != nil && !a.Secrets {
		out.Refused.Text = r.Refused.Masked
	}
	return &out, err
}

var (
	wireEnd     = wire.Make[client.PushEnd, Result]("Remaining", "Checks")
	wireChecked = wire.Make[client.Checked, Checked]("Failed")
)
