package routine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/when"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Item is a time that a schedule was due, or will be.
type Item struct {
	At       time.Time
	Schedule string
	Does     string
	Devices  int
	SpreadS  int
	NotWell  int
	Future   bool
	Job      string
	State    string
	Summary  string
	Missed   int
}

// Next is a time that a schedule will be due, in its zone.
type Next struct {
	At      time.Time
	LeftOut string
}

// Seen is what a schedule does, will do and did.
type Seen struct {
	Plan
	Spread  string
	Devices int
	Next    []Next
	Last    *Item
	Clocks  []string
	Same    []string
}

// nextShown is how many of the next times are shown.
const nextShown = 5

// See works out what a schedule will do and did.
func (s *Service) See(ctx context.Context, x store.Schedule) (v Seen, err error) {
	rule, plan, err := opened(x)
	if err != nil {
		return v, err
	}
	v = Seen{Plan: plan, Spread: when.Span(time.Duration(x.SpreadS) * time.Second), Clocks: []string{}, Same: []string{}}
	devices, err := s.Store.As(job.Service).Selected(ctx, x.Selector)
	if err != nil {
		return v, err
	}
	v.Devices = len(devices)
	now := s.Now()
	for at := rule.Next(now); !at.IsZero() && len(v.Next) < nextShown; at = rule.Next(at) {
		n := Next{At: at}
		if n.LeftOut, err = plan.blackedOut(x, at); err != nil {
			return v, err
		}
		v.Next = append(v.Next, n)
	}
	v.Clocks = clocks(rule.Changes(now), x.Zone)
	if x.ID != "" {
		last, err := s.Store.As(job.Service).LastRun(ctx, x.ID)
		if err != nil {
			return v, err
		}
		if last.JobID != "" {
			i := itemOf(last, plan, x)
			v.Last = &i
		}
	}
	v.Same, err = s.same(ctx, x, plan, devices)
	return v, err
}

// clocks says what happens when clocks change: each day on which something does, or one
// sentence that nothing will.
func clocks(all []when.Change, zone string) []string {
	out, days := []string{}, []string{}
	for _, c := range all {
		days = append(days, c.At.Format("2006-01-02"))
		if c.Touches {
			out = append(out, c.Says)
		}
	}
	switch {
	case len(out) > 0:
	case len(days) == 0:
		out = append(out, "they do not change in "+zone+" within a year")
	default:
		out = append(out, "they change in "+zone+" on "+strings.Join(days, " and ")+"; that touches none of its times")
	}
	return out
}

// blackedOut tells why nothing is done at a time; empty: something is.
func (p Plan) blackedOut(x store.Schedule, at time.Time) (string, error) {
	for _, b := range p.Blackouts {
		w, err := when.ParseWindow(b, p.zone, x.FromAt)
		if err != nil {
			return "", err
		}
		if until, ok := w.Covers(at); ok {
			return "blackout until " + until.In(p.zone).Format("2006-01-02 15:04") + " (" + b + ")", nil
		}
	}
	return "", nil
}

// same lists, in words, the other schedules that do the same to the same devices.
func (s *Service) same(ctx context.Context, x store.Schedule, plan Plan, devices []core.Device) ([]string, error) {
	out := []string{}
	all, err := s.Store.As(job.Service).Schedules(ctx)
	if err != nil {
		return nil, err
	}
	mine := map[string]bool{}
	for _, d := range devices {
		mine[d.ID] = true
	}
	for _, o := range all {
		if o.ID == x.ID || o.Paused {
			continue
		}
		_, other, err := opened(o)
		if err != nil {
			return nil, err
		}
		var both []string
		for _, d := range plan.Deeds {
			if slices.ContainsFunc(other.Deeds, func(e Deed) bool { return e.said() == d.said() }) {
				both = append(both, d.said())
			}
		}
		if len(both) == 0 {
			continue
		}
		theirs, err := s.Store.As(job.Service).Selected(ctx, o.Selector)
		if err != nil {
			return nil, err
		}
		n := 0
		for _, d := range theirs {
			if mine[d.ID] {
				n++
			}
		}
		if n > 0 {
			out = append(out, fmt.Sprintf("%s does %s of %d of these devices too: %s %s", o.Name, strings.Join(both, ", "), n, o.Rule, o.Zone))
		}
	}
	return out, nil
}

// itemOf is a time that a schedule was due.
func itemOf(r store.ScheduleRun, plan Plan, x store.Schedule) Item {
	i := Item{At: r.DueAt, Schedule: r.Schedule, Does: plan.said(), SpreadS: x.SpreadS, Job: r.JobID, Missed: r.Missed, Summary: r.Summary}
	switch {
	case r.JobID == "":
		i.State, i.Summary = "left out", r.Why
	case r.State == "":
		i.State, i.Summary = "forgotten", "its job is not kept any more"
	case r.State == core.Ended:
		i.State = r.Outcome
	default:
		i.State = r.State
	}
	return i
}

// mostItems is how many times of one schedule an agenda lists.
const mostItems = 3000

// Agenda lists when schedules were due and will be, between two moments, in order of time
// and name.
func (s *Service) Agenda(ctx context.Context, from, until time.Time) (out []Item, err error) {
	q, now := s.Store.As(job.Service), s.Now()
	all, err := q.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	plans, byID, counts := map[string]Plan{}, map[string]store.Schedule{}, map[string]int{}
	for _, x := range all {
		rule, plan, err := opened(x)
		if err != nil {
			return nil, err
		}
		devices, err := s.Store.As(job.Service).Selected(ctx, x.Selector)
		if err != nil {
			return nil, err
		}
		plans[x.ID], byID[x.ID], counts[x.ID] = plan, x, len(devices)
		if x.NextAt == nil {
			continue
		}
		after := *x.NextAt
		if after.Before(from) {
			after = from
		}
		at := rule.Next(after.Add(-time.Millisecond)) // at that very moment, too
		for n := 0; n < mostItems && !at.IsZero() && !at.After(until); n, at = n+1, rule.Next(at) {
			i := Item{At: at.UTC(), Schedule: x.Name, Does: plan.said(), Devices: len(devices), SpreadS: x.SpreadS, Future: at.After(now), State: "due"}
			if i.Summary, err = plan.blackedOut(x, at); err != nil {
				return nil, err
			}
			if i.Summary != "" {
				i.State = "left out"
			}
			out = append(out, i)
		}
	}
	runs, err := q.Runs(ctx, from, until, mostItems)
	if err != nil {
		return nil, err
	}
	var jobs []string
	for _, r := range runs {
		if r.JobID != "" {
			jobs = append(jobs, r.JobID)
		}
	}
	bad, err := q.NotWellCounts(ctx, jobs)
	for _, r := range runs {
		i := itemOf(r, plans[r.ScheduleID], byID[r.ScheduleID])
		i.Devices, i.NotWell = counts[r.ScheduleID], bad[r.JobID]
		out = append(out, i)
	}
	slices.SortStableFunc(out, func(a, b Item) int { return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Schedule, b.Schedule)) })
	return out, err
}
