package read

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/store"
)

// DriftRequest is what a drift job is asked for.
type DriftRequest struct {
	Selector string `json:"selector"` // words, separated by blanks
	Live     string `json:"live,omitempty"`
}

// DriftResult is how many devices stand to their baselines. It holds no
// configuration text.
type DriftResult struct {
	Judged  int            `json:"judged"`
	States  map[string]int `json:"states"`
	Drifted []string       `json:"drifted"`   // parts, each with how many lines differ
	Unknown []string       `json:"not_known"` // parts, each with why
}

// Register makes the kinds of jobs of this room known.
func (s *Service) Register() { s.Runtime.Register(Kinds(s)...) }

// Kinds are the kinds of jobs of this room.
func Kinds(s *Service) []job.Kind {
	return []job.Kind{{Name: "baseline", Role: core.Operator, Does: "approves versions as baselines, once a second person agrees", May: s.mayAgree,
		Step: func(ctx context.Context, r *job.Run) {
			(&Service{Service: s.On(r.Runtime)}).baselineJob(ctx, r.Job, r.Log)
		},
		Awaits: []job.Wait{{For: core.AwaitsAgreement, Calls: true, Means: "a second person", Words: []job.Word{{Say: "approve", Does: "Let what waits for a second person go ahead; it takes another than who asked for it"}, {Say: "decline", Does: "Call it off"}}}},
	}, {Name: "drift", Role: core.Operator, Does: "judges devices against their baselines and the rules for their lines: selector=WORDS, live=yes to look at them now", Tries: 3, Repeats: true,
		Asks: func(_ context.Context, _ core.Actor, _ core.Job, with []byte) (any, error) {
			var req DriftRequest
			if err := json.Unmarshal(with, &req); err != nil {
				return nil, fmt.Errorf("%w with that: %v", job.ErrKind, err)
			}
			if _, err := ref.ParseSelector(strings.Fields(req.Selector)); err != nil {
				return nil, fmt.Errorf("%w without devices, selector=WORDS: %w", job.ErrKind, err)
			}
			if err := liveSound(req.Live); err != nil {
				return nil, fmt.Errorf("%w with %w", job.ErrKind, err)
			}
			return req, nil
		},
		Step: func(ctx context.Context, r *job.Run) {
			(&Service{Service: s.On(r.Runtime)}).driftJob(ctx, r.Job, r.Log)
		},
		Recurs: &job.Recurs{Takes: []string{"live"},
			Check: func(_ context.Context, _ *store.Q, with map[string]string) error { return liveSound(with["live"]) },
			Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
				j, err := s.Queue(ctx, d.Actor, "drift", store.NewJob{Job: core.Job{Kind: "drift"}, Wants: DriftRequest{d.Selector, d.With["live"]}, Key: d.Key}, "by schedule "+d.Schedule)
				return []core.Job{j}, err
			}},
		View: func(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
			var out DriftResult
			err := q.OpenResult(j, &out)
			return out, err
		},
	}}
}

func liveSound(live string) error {
	if live != "" && live != "yes" {
		return fmt.Errorf("live=%s: it is yes, or left out", live)
	}
	return nil
}

// driftJob judges one device after the other, and says in its log which have
// drifted.
func (s *Service) driftJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var req DriftRequest
	var devices []core.Device
	err := q.OpenRequest(j, &req)
	if err == nil {
		devices, err = q.Selected(ctx, req.Selector)
	}
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	l.Step("judging %s", core.Count(len(devices), "device", "devices"))
	out := DriftResult{States: map[string]int{}, Drifted: []string{}, Unknown: []string{}}
	for _, d := range devices {
		switch cause := context.Cause(ctx); {
		case errors.Is(cause, job.ErrStopping):
			return // the next start begins anew
		case errors.Is(cause, job.ErrCancelled):
			s.End(j, l, core.Cancelled, fmt.Sprintf("cancelled by hand after %d of %d devices", out.Judged, len(devices)), out)
			return
		}
		err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
			_, err := s.Rejudge(ctx, q, d.ID)
			return err
		})
		var parts []string
		if err == nil {
			parts, err = s.JudgedParts(ctx, job.Service, d)
		}
		if err != nil { // nothing of it can be judged
			out.States["not known"]++
			out.Unknown = append(out.Unknown, d.Name+": "+err.Error())
			l.Warn("%s: %v", d.Name, err)
			parts = nil
		}
		for _, part := range parts {
			one, err := s.Drift(ctx, job.Service, d, part, req.Live != "")
			if err != nil {
				one.State, one.Trouble = "not known", err.Error()
			}
			out.States[one.State]++
			name := d.Name + "/" + part
			switch one.State {
			case core.Drifted:
				out.Drifted = append(out.Drifted, fmt.Sprintf("%s: %s", name, core.Count(len(one.Differences), "line differs", "lines differ")))
				l.Info("%s has drifted: %s", name, core.Count(len(one.Differences), "line differs", "lines differ"))
			case "not known":
				out.Unknown = append(out.Unknown, name+": "+one.Trouble)
				l.Warn("%s: %s", name, one.Trouble)
			}
		}
		if out.Judged++; out.Judged%100 == 0 {
			l.Info("%d of %d devices are judged", out.Judged, len(devices))
		}
	}
	s.End(j, l, core.Done, fmt.Sprintf("%s judged: %d in sync, %d drifted, %d without a baseline, %d not known",
		core.Count(out.Judged, "device", "devices"), out.States[core.InSync], out.States[core.Drifted], out.States["no baseline"], out.States["not known"]), out)
}
