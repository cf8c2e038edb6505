package read

import (
	"context"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// baselineRequest are the versions that somebody wants to be baselines: those, whatever is pulled meanwhile.
type baselineRequest struct {
	Versions []core.Version `json:"versions"`
	Rule     string         `json:"rule"` // the selector by which a second person has to approve
}

// BaselineResult is what a second person is asked about.
type BaselineResult struct {
	Versions []string `json:"versions"`
	Rule     string   `json:"rule"`
	Approved string   `json:"approved,omitempty"`
}

// open is for how long a second person is waited for.
const open = 30 * 24 * time.Hour

// AskBaselines asks a second person to approve versions as baselines. Nothing changes before that.
func (s *Service) AskBaselines(ctx context.Context, actor core.Actor, versions []core.Version) (core.Job, error) {
	q := s.Store.As(job.Service)
	req := baselineRequest{Versions: versions}
	for _, v := range versions {
		rule, err := askedOf(ctx, q, v.DeviceID)
		if err != nil {
			return core.Job{}, err
		}
		if rule != "" {
			req.Rule = rule
		}
	}
	n := core.Job{Kind: "baseline"}
	if len(versions) == 1 {
		n.DeviceID, n.Device = versions[0].DeviceID, versions[0].Device
	}
	j, err := s.Queue(ctx, actor, "baseline", store.NewJob{Job: n, Wants: req}, refsOf(versions))
	s.Kick()
	return j, err
}

func refsOf(versions []core.Version) string {
	refs := make([]string, len(versions))
	for i, v := range versions {
		refs[i] = v.Ref()
	}
	return strings.Join(refs, ", ")
}

// mayAgree tells whether somebody may approve baselines: not who asked for them.
func (s *Service) mayAgree(_ context.Context, _ *store.Q, actor core.Actor, j core.Job, word, _ string) error {
	if word == "approve" && actor.ID == j.ActorID {
		return fmt.Errorf("%w, and you asked for it yourself", ErrSecondPerson)
	}
	return nil
}

// baselineJob waits for a second person, and then makes the versions the baselines of their parts: all, or none.
func (s *Service) baselineJob(ctx context.Context, j core.Job, l *job.Log) {
	var req baselineRequest
	if err := s.Store.As(job.Service).OpenRequest(j, &req); err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	res := BaselineResult{Rule: req.Rule}
	for _, v := range req.Versions {
		res.Versions = append(res.Versions, v.Ref())
	}
	what := core.Count(len(req.Versions), "version", "versions")
	due := j.CreatedAt.Add(open)
	switch {
	case j.Cancel:
		s.End(j, l, core.Cancelled, "cancelled by hand; no baseline was changed", res)
	case j.Decision == "decline":
		s.End(j, l, core.Cancelled, "declined by "+j.DecidedBy+"; no baseline was changed", res)
	case j.Decision == "approve":
		res.Approved = j.DecidedBy
		err := s.Store.Tx(context.WithoutCancel(ctx), core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Operator}, func(q *store.Q) error {
			for _, v := range req.Versions {
				v, err := q.LockVersion(ctx, v)
				if err == nil {
					err = s.setBaseline(ctx, q, v, true)
				}
				if err == nil {
					err = q.Audit(ctx, "mark", v.Ref(), " baseline true; approved by "+j.DecidedBy)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", v.Ref(), err)
				}
			}
			return nil
		})
		if err != nil {
			s.End(j, l, core.Failed, "no baseline was changed: "+err.Error(), res)
			return
		}
		s.End(j, l, core.Done, fmt.Sprintf("%s approved by %s", what, j.DecidedBy), res)
	case !s.Now().Before(due):
		s.End(j, l, core.Cancelled, "nobody approved it in time; no baseline was changed", res)
	default:
		l.Park(core.AwaitsAgreement, &due, fmt.Sprintf("a second person has to approve %s as baselines (%s): %s", what, req.Rule, refsOf(req.Versions)), res)
	}
}
