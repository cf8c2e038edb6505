package routine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// RunRequest is what one time that a schedule was due asks for: what the schedule said
// then, whatever becomes of it meanwhile.
type RunRequest struct {
	Due      time.Time `json:"due"`
	Missed   int       `json:"missed"`
	Plan     Plan      `json:"plan"`
	Selector string    `json:"selector"`
	SpreadS  int       `json:"spread_s"`
	SavedBy  string    `json:"saved_by"`
	SavedID  string    `json:"saved_by_id"`
}

// RunResult is how far a run has come.
type RunResult struct {
	Due     time.Time `json:"due"`
	Zone    string    `json:"zone"`
	Missed  int       `json:"missed"`
	Devices int       `json:"devices"` // selected when it began
	Deed    int       `json:"deed"`    // those before it are done
}

// runOf is a run under way.
type runOf struct {
	s   *Service
	j   core.Job
	l   *job.Log
	req RunRequest
	res RunResult
	due job.Due
}

// runJob does one deed of a schedule after the other: it begins the jobs, in order and
// spread over time, and waits for their end. Begun anew after a crash it finds its jobs
// again: each has a key of its own.
func (s *Service) runJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	u := &runOf{s: s, j: j, l: l}
	err := errors.Join(q.OpenRequest(j, &u.req), q.OpenResult(j, &u.res))
	var devices []core.Device
	if err == nil {
		if devices, err = q.Selected(ctx, u.req.Selector); err == nil {
			devices = visit.Enabled(devices)
		}
	}
	if errors.Is(context.Cause(ctx), job.ErrStopping) {
		return
	}
	if err != nil {
		s.End(j, l, core.Failed, "nothing was done: "+err.Error(), nil)
		return
	}
	zone, err := time.LoadLocation(u.req.Plan.Zone)
	if err != nil {
		zone = time.UTC
	}
	u.res = RunResult{u.req.Due, u.req.Plan.Zone, u.req.Missed, len(devices), u.res.Deed}
	u.due = job.Due{Actor: core.Actor{Name: j.Actor, Role: core.Operator}, By: s.saver(ctx, u.req), Schedule: j.Device, At: u.req.Due.In(zone), Selector: u.req.Selector}
	if u.req.Missed > 0 {
		l.Warn("nobody was there %s since %s; this run makes up for all of that", times(u.req.Missed), u.due.At.Format("2006-01-02 15:04 MST"))
	}
	if len(devices) == 0 {
		s.End(j, l, core.Failed, "nothing was done: no device that is visited is "+u.req.Selector+" any more", u.res)
		return
	}
	for ; u.res.Deed < len(u.req.Plan.Deeds); u.res.Deed++ {
		l.Result(u.res)
		if err := u.do(ctx, u.req.Plan.Deeds[u.res.Deed], devices); err != nil {
			u.broken(ctx, err)
			return
		}
	}
	u.end(core.Done, "")
}

// saver is who saved the schedule last, with what they may now.
func (s *Service) saver(ctx context.Context, req RunRequest) core.Actor {
	u, err := s.Store.As(job.Service).UserByID(ctx, req.SavedID)
	if err != nil || u.Disabled {
		return core.Actor{ID: req.SavedID, Name: req.SavedBy}
	}
	return u.Actor()
}

// broken ends a run that did not come to its end, or leaves it to be taken up.
func (u *runOf) broken(ctx context.Context, err error) {
	switch cause := context.Cause(ctx); {
	case errors.Is(cause, job.ErrStopping):
	case errors.Is(cause, job.ErrCancelled):
		u.end(core.Cancelled, "cancelled by hand; what was begun goes on")
	default:
		u.end(core.Failed, err.Error())
	}
}

// do does one deed.
func (u *runOf) do(ctx context.Context, d Deed, devices []core.Device) error {
	kind, known := u.s.Kind(d.Kind)
	if !known || kind.Recurs == nil {
		return fmt.Errorf("%s cannot be done by itself any more", d.Kind)
	}
	due := u.due
	due.With, due.Devices = d.With, devices
	due.Key = store.OwnKey(u.due.Actor, fmt.Sprintf("%s %d", u.j.ID, u.res.Deed))
	if !kind.Recurs.Each {
		u.l.Step("%s", d.said())
		if err := u.beginJobs(ctx, kind, due); err != nil {
			return err
		}
		return u.over(ctx)
	}
	levels := inLevels(devices, u.s.turnsLast)
	n := 0
	for _, l := range levels {
		n += len(l)
	}
	u.l.Step("%s of %s%s", d.said(), core.Count(n, "device", "devices"), spreadSaid(u.req.SpreadS))
	if left := len(devices) - n; left > 0 {
		u.l.Info("%s with those that speak for them", core.Count(left, "device goes", "devices go"))
	}
	spread := time.Duration(u.req.SpreadS) * time.Second
	done := 0
	for _, level := range levels {
		for len(level) > 0 {
			// Those whose time has come: all of them, where nothing is spread.
			ready := 0
			for ready < len(level) && !u.s.Now().Before(u.j.CreatedAt.Add(spread*time.Duration(done+ready)/time.Duration(n))) {
				ready++
			}
			if kind.Recurs.Serial {
				ready = min(ready, 1)
			}
			if ready == 0 {
				if err := pause(ctx); err != nil {
					return err
				}
				continue
			}
			due.Devices = level[:ready]
			if err := u.beginJobs(ctx, kind, due); err != nil {
				return err
			}
			level, done = level[ready:], done+ready
			if kind.Recurs.Serial {
				if err := u.over(ctx); err != nil {
					return err
				}
			}
		}
		// Who hangs on others comes after those.
		if err := u.over(ctx); err != nil {
			return err
		}
	}
	return nil
}

func spreadSaid(seconds int) string {
	if seconds == 0 {
		return ""
	}
	return ", spread over " + core.Span(time.Duration(seconds)*time.Second)
}

// beginJobs queues the jobs of a deed, and notes whose they are.
func (u *runOf) beginJobs(ctx context.Context, kind job.Kind, due job.Due) error {
	jobs, err := kind.Recurs.Begin(ctx, due)
	if err != nil {
		return err
	}
	var ids []string
	for _, j := range jobs {
		ids = append(ids, j.ID)
	}
	return u.s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetPartOf(ctx, ids, u.j.ID) })
}

// over waits until all jobs of the run have ended.
func (u *runOf) over(ctx context.Context) error {
	hint, stop := u.s.Hub.Watch(job.Any)
	defer stop()
	for {
		counts, err := u.s.Store.As(job.Service).PartCounts(ctx, u.j.ID)
		if err != nil || !slices.ContainsFunc(counts, func(c store.PartCount) bool { return c.State != core.Ended }) {
			return err
		}
		select { // a job here got on; or one elsewhere may have
		case <-hint:
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
		if err := pause(ctx); err != nil {
			return err
		}
	}
}

// pause waits a moment for others to get on.
func pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(150 * time.Millisecond):
		return nil
	}
}

// end ends a run with what came of its jobs, and with why it did not come to its end.
func (u *runOf) end(outcome, trouble string) {
	q := u.s.Store.As(job.Service)
	bad := false
	said := []string{}
	counts, err := q.PartCounts(context.Background(), u.j.ID)
	if err != nil {
		said = append(said, "what came of it cannot be read: "+err.Error())
	}
	kinds := map[string][]string{}
	for _, c := range counts {
		word := c.Outcome
		if c.State != core.Ended {
			word = "under way"
		} else if !slices.Contains(core.Well, c.Outcome) {
			bad = true
		}
		kinds[c.Kind] = append(kinds[c.Kind], fmt.Sprintf("%d %s", c.N, word))
	}
	for _, d := range u.req.Plan.Deeds {
		if of := kinds[d.Kind]; len(of) > 0 {
			said = append(said, d.Kind+": "+strings.Join(of, ", "))
			delete(kinds, d.Kind)
		}
	}
	if bad {
		said = append(said, u.notWell(q))
	}
	if u.req.Missed > 0 {
		said = append(said, "made up for "+core.Count(u.req.Missed, "missed time", "missed times"))
	}
	if trouble != "" {
		said = append([]string{trouble}, said...)
	} else if bad {
		outcome = core.Failed
	}
	u.s.End(u.j, u.l, outcome, strings.Join(said, "; "), u.res)
}

// named is how many of the jobs that did not end well are named at the end of a run.
const named = 3

// notWell names the first of the jobs that did not end well, and why.
func (u *runOf) notWell(q *store.Q) string {
	bad, err := q.NotWell(context.Background(), u.j.ID, named+1)
	if err != nil {
		return err.Error()
	}
	var said []string
	for i, j := range bad {
		if i == named {
			said = append(said, "and others")
			break
		}
		said = append(said, strings.TrimSuffix(j.Device+": "+j.Summary, "."))
	}
	return strings.Join(said, "; ")
}

func times(n int) string {
	if n >= mostMissed {
		return fmt.Sprintf("%d times or more", n)
	}
	return core.Count(n, "time", "times")
}

// inLevels puts devices in the order of their dependence: first those that need nobody
// before them, then those that need these, and so on. Who hangs on another comes after that
// one, or before it, where last says that its turn is the last. Who is spoken for by another
// of them is left out: that one's visit brings it along.
func inLevels(devices []core.Device, last func(core.Device) bool) (levels [][]core.Device) {
	among, before := map[string]core.Device{}, map[string][]string{}
	for _, d := range devices {
		among[d.ID] = d
	}
	var taken []core.Device
	for _, d := range devices {
		up, hangs := among[d.ParentID]
		switch {
		case hangs && d.Member != "":
			continue
		case hangs && last(up):
			before[up.ID] = append(before[up.ID], d.ID)
		case hangs:
			before[d.ID] = append(before[d.ID], up.ID)
		}
		taken = append(taken, d)
	}
	level := map[string]int{}
	var of func(id string, under int) int
	of = func(id string, under int) (n int) {
		if n, known := level[id]; known || under > len(among) { // a ring ends, too
			return n
		}
		for _, b := range before[id] {
			n = max(n, of(b, under+1)+1)
		}
		level[id] = n
		return n
	}
	for _, d := range taken {
		n := of(d.ID, 0)
		for len(levels) <= n {
			levels = append(levels, nil)
		}
		levels[n] = append(levels[n], d)
	}
	for i := range levels {
		slices.SortFunc(levels[i], func(a, b core.Device) int { return strings.Compare(a.Name, b.Name) })
	}
	return levels
}

// turnsLast tells whether a device is taken after those that hang on it.
func (s *Service) turnsLast(d core.Device) bool {
	dia := s.DialectOf(d)
	return dia != nil && dia.Turn == "last"
}

// viewRun is how a run stands.
func viewRun(ctx context.Context, q *store.Q, _ core.Actor, j core.Job) (any, error) {
	var res RunResult
	if err := q.OpenResult(j, &res); err != nil {
		return nil, err
	}
	out := &client.ScheduledRun{Schedule: j.Device, Due: res.Due, Zone: res.Zone, Missed: res.Missed, Devices: res.Devices, Parts: []client.RunPart{}}
	counts, err := q.PartCounts(ctx, j.ID)
	for _, c := range counts {
		out.Parts = append(out.Parts, client.RunPart{Kind: c.Kind, State: c.State, Outcome: c.Outcome, Count: c.N})
	}
	return out, err
}
