package push

import (
	"context"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/visit"
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
	out := &client.PushEnd{Target: r.Target, Before: r.Before, After: r.After, Sent: r.Sent, Total: r.Total, Saved: r.Saved, Remaining: visit.SeenBy(a, r.Remaining), Checks: make([]client.Checked, len(r.Checks))}
	for i, c := range r.Checks {
		out.Checks[i] = client.Checked{Check: c.Check, Before: viewFinding(c.Before), After: viewFinding(c.After), Failed: c.Failed()}
	}
	if r.Refused != nil {
		out.Refused = &client.Refusal{Line: r.Refused.Line, Text: r.Refused.Text, Block: r.Refused.Block, Answer: r.Refused.Answer}
		if !a.Secrets {
			out.Refused.Text = r.Refused.Masked
		}
	}
	return out, err
}

func viewFinding(f *Finding) *client.Finding {
	if f == nil {
		return nil
	}
	return &client.Finding{Good: f.Good, Known: f.Known, Said: f.Said}
}
