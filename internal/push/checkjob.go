package push

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"magpie/client"
	"magpie/internal/check"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Checks by themselves: made of many devices, kept with their job, made again later and compared.

// MaxRows is how many checks one job makes.
const MaxRows = 2000

// checksAtOnce is how many checks of a job are made at a time.
const checksAtOnce = 8

// CheckRequest is what a check job is asked for: checks, each about a device or about none in particular.
type CheckRequest struct {
	Rows    []CheckRow `json:"rows"`
	Against string     `json:"against,omitempty"` // the check job with whose findings it is compared
}

// CheckRow is one check. Before is what an earlier job found, After what this one did.
type CheckRow struct {
	DeviceID string `json:"device_id,omitempty"`
	Device   string `json:"device,omitempty"`
	Checked
}

// CheckResult is what came of the checks.
type CheckResult struct {
	Against string     `json:"against,omitempty"`
	Rows    []CheckRow `json:"rows"`
}

// RequestChecks queues checks of some devices; without checks, whether each device takes connections. With again, the
// id of an earlier check job, its checks are made again, and what was good then and is bad now is told.
func (s *Service) RequestChecks(ctx context.Context, actor core.Actor, devices []core.Device, checks []string, again string, key store.Key) (j core.Job, err error) {
	req := CheckRequest{Against: again}
	if again != "" {
		if req.Rows, err = s.checkedBefore(ctx, actor, again); err != nil {
			return j, err
		}
	} else if req.Rows, err = s.rowsOf(ctx, actor, devices, checks); err != nil {
		return j, err
	}
	if len(req.Rows) > MaxRows {
		return j, fmt.Errorf("%w: there are %d, and at most %d are made", ErrChecks, len(req.Rows), MaxRows)
	}
	said := core.Count(len(req.Rows), "check", "checks")
	about := said
	if len(req.Rows) > 0 && !slices.ContainsFunc(req.Rows, func(r CheckRow) bool { return r.Device != req.Rows[0].Device }) {
		about = cmp.Or(req.Rows[0].Device, said)
	}
	return s.Queue(ctx, actor, "check", store.NewJob{Job: core.Job{Kind: "check", Device: about}, Wants: req, Key: key}, said)
}

// rowsOf reads checks of devices. What is about no device in particular is made once.
func (s *Service) rowsOf(ctx context.Context, actor core.Actor, devices []core.Device, checks []string) (rows []CheckRow, err error) {
	add := func(r CheckRow) {
		if !slices.ContainsFunc(rows, func(x CheckRow) bool { return x.DeviceID == r.DeviceID && x.Check == r.Check }) {
			rows = append(rows, r)
		}
	}
	if len(checks) > 0 && len(devices) == 0 {
		devices = []core.Device{{}}
	}
	for _, d := range devices {
		asked := checks
		if len(asked) == 0 {
			asked = []string{"device " + d.Name}
		}
		sound, err := s.readChecks(ctx, actor, d.ID, asked)
		if err != nil && d.Name != "" {
			err = fmt.Errorf("%s: %w", d.Name, err)
		}
		if err != nil {
			return nil, err
		}
		for _, text := range sound {
			c, err := check.Parse(text)
			switch {
			case err != nil:
				return nil, err
			case c.Kind == "state":
				add(CheckRow{DeviceID: d.ID, Device: d.Name, Checked: Checked{Check: text}})
			default:
				add(CheckRow{Checked: Checked{Check: text}})
			}
		}
	}
	return rows, nil
}

// ErrNoChecks is returned for a job that is no check job that came to its end.
var ErrNoChecks = errors.New("this is no check that is done")

// checkedBefore are the rows of an earlier check job, with what it found. Whoever asks must be allowed each check by
// themselves.
func (s *Service) checkedBefore(ctx context.Context, actor core.Actor, id string) ([]CheckRow, error) {
	q := s.Store.As(actor)
	j, err := q.Job(ctx, id)
	if err != nil {
		return nil, err
	}
	if j.Kind != "check" || j.Outcome != core.Done {
		return nil, fmt.Errorf("%w: %s", ErrNoChecks, id)
	}
	var was CheckResult
	if err := q.OpenResult(j, &was); err != nil {
		return nil, err
	}
	for i, r := range was.Rows {
		if r.DeviceID != "" {
			if err := s.Within(ctx, actor, r.DeviceID); err != nil {
				return nil, err
			}
		}
		if _, err := s.readChecks(ctx, actor, r.DeviceID, []string{r.Check}); err != nil {
			return nil, err
		}
		was.Rows[i].Before, was.Rows[i].After = r.After, nil
	}
	return was.Rows, nil
}

// checkJob makes the checks, a few at a time.
func (s *Service) checkJob(ctx context.Context, j core.Job, l *job.Log) {
	var req CheckRequest
	if err := s.Store.As(job.Service).OpenRequest(j, &req); err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	out := CheckResult{Against: req.Against, Rows: slices.Clone(req.Rows)}
	actor, err := s.Asker(ctx, j)
	var some errgroup.Group
	some.SetLimit(checksAtOnce)
	for i := range out.Rows {
		r := &out.Rows[i]
		some.Go(func() error {
			f := Finding{Said: "it was not made"}
			if err != nil {
				f.Said = err.Error()
			} else if ctx.Err() == nil {
				f = s.checkRow(ctx, actor, j, *r)
			}
			r.After = &f
			return nil
		})
	}
	_ = some.Wait() // what went wrong stands in the rows
	if errors.Is(context.Cause(ctx), job.ErrStopping) {
		return
	}
	good, bad, unknown, worse := 0, 0, 0, 0
	for _, r := range out.Rows {
		text := fmt.Sprintf("%s: %s, %s", r.Check, r.After.word(), r.After.Said)
		if r.Device != "" {
			text = r.Device + ": " + text
		}
		switch {
		case !r.After.Known:
			unknown++
		case r.After.Good:
			good++
		default:
			bad++
		}
		switch {
		case r.Failed():
			worse++
			l.Trouble(text+"; it was good before", "")
		case r.After.Good:
			l.Info("%s", text)
		default:
			l.Warn("%s", text)
		}
	}
	said := fmt.Sprintf("%d good, %d bad, %d not known", good, bad, unknown)
	if req.Against != "" {
		switch worse {
		case 0:
			said += "; none that was good is bad"
		case 1:
			said += "; 1 that was good is bad"
		default:
			said += fmt.Sprintf("; %d that were good are bad", worse)
		}
	}
	outcome := core.Done
	if errors.Is(context.Cause(ctx), job.ErrCancelled) {
		outcome, said = core.Cancelled, "cancelled by hand; "+said
	}
	s.End(j, l, outcome, said, out)
}

// checkRow makes one check for somebody, who may have lost what it takes since it was asked for.
func (s *Service) checkRow(ctx context.Context, actor core.Actor, j core.Job, r CheckRow) Finding {
	if r.DeviceID == "" {
		if _, err := s.readChecks(ctx, actor, "", []string{r.Check}); err != nil {
			return Finding{Said: err.Error()}
		}
		return s.make1(ctx, &visit.Visit{Pull: core.Pull{JobID: j.ID, Actor: j.Actor}}, r.Check)
	}
	if err := s.Within(ctx, actor, r.DeviceID); err != nil {
		return Finding{Said: err.Error()}
	}
	d, err := s.Store.As(actor).DeviceByID(ctx, r.DeviceID)
	if err != nil {
		return Finding{Said: "it cannot be asked: " + err.Error()}
	}
	asking, cancel := context.WithTimeoutCause(ctx, askWithin, errAsked)
	defer cancel()
	v := s.NewVisit(j, d, core.ByHand, s.Silent())
	if err := v.Open(asking); err != nil {
		return Finding{Said: "it cannot be asked: " + err.Error()}
	}
	defer v.Close()
	return s.make1(ctx, v, r.Check).against(r.Before)
}

// viewCheck is what came of checks.
func viewCheck(_ context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var r CheckResult
	err := q.OpenResult(j, &r)
	out := client.CheckEnd{Against: r.Against, Rows: make([]client.CheckRow, len(r.Rows))}
	for i, x := range r.Rows {
		out.Rows[i] = client.CheckRow{Device: x.Device, Checked: wireChecked(x.Checked)}
		out.Rows[i].Failed = x.Failed()
	}
	return &out, err
}

// asksChecks is the request of a check that is asked for like an earlier one.
func (s *Service) asksChecks(ctx context.Context, actor core.Actor, j core.Job, with []byte) (any, error) {
	var in struct {
		Again string `json:"again"`
	}
	if err := json.Unmarshal(with, &in); err != nil || in.Again == "" {
		return nil, fmt.Errorf("%w without an earlier check, again=JOB", job.ErrKind)
	}
	rows, err := s.checkedBefore(ctx, actor, in.Again)
	return CheckRequest{Rows: rows, Against: in.Again}, err
}
