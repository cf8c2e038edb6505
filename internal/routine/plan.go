package routine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/when"
	"magpie/internal/store"
)

// Deed is one thing that a schedule does.
type Deed struct {
	Kind string            `json:"kind"`
	With map[string]string `json:"with,omitempty"`
}

// Plan is what a schedule does, and when it does not.
type Plan struct {
	Deeds     []Deed   `json:"deeds"`
	Blackouts []string `json:"blackouts"`
	Zone      string   `json:"zone"`
	zone      *time.Location
}

// said lists the deeds.
func (p Plan) said() string {
	var all []string
	for _, d := range p.Deeds {
		all = append(all, d.said())
	}
	return strings.Join(all, ", then ")
}

func (d Deed) said() string {
	out := d.Kind
	for _, k := range slices.Sorted(maps.Keys(d.With)) {
		out += " " + k + "=" + d.With[k]
	}
	return out
}

// Wrong is what is wrong with a schedule, and with which field of it.
type Wrong struct {
	Field string
	Says  string
}

func (w Wrong) Error() string { return w.Says }

// Wanted is a schedule as somebody asks for it.
type Wanted struct {
	Name      string
	Rule      string
	Zone      string
	Deeds     []Deed
	Selector  string
	Spread    string
	Blackouts []string
	Paused    bool
	Note      string
}

// Recurring are the kinds that a schedule can begin.
func (s *Service) Recurring() (names []string) {
	for _, k := range s.Runtime.Kinds() {
		if k.Recurs != nil {
			names = append(names, k.Name)
		}
	}
	return names
}

// MostSpread is over how long a run can be spread.
const MostSpread = 24 * time.Hour

// Check makes a schedule of what somebody asks for, and keeps nothing. What makes no
// sense is Wrong, with its field.
func (s *Service) Check(ctx context.Context, actor core.Actor, w Wanted, now time.Time) (x store.Schedule, err error) {
	no := func(field, format string, args ...any) (store.Schedule, error) {
		return x, Wrong{field, fmt.Sprintf(format, args...)}
	}
	if err := ref.DeviceName(w.Name); err != nil {
		return no("name", "%s", strings.Replace(err.Error(), "device", "schedule", 1))
	}
	zone, err := ref.Zone(w.Zone)
	if err != nil {
		return no("zone", "%s", err)
	}
	rule, err := when.Parse(w.Rule, zone, now)
	if err != nil {
		return no("rule", "%v", err)
	}
	next := rule.Next(now)
	if next.IsZero() {
		return no("rule", "%s in %s is over", rule, w.Zone)
	}
	if len(w.Deeds) == 0 {
		return no("deeds", "it does nothing; what can be done by itself: %s", strings.Join(s.Recurring(), ", "))
	}
	for _, d := range w.Deeds {
		if err := s.sound(ctx, actor, d); err != nil {
			return no("deeds", "%v", err)
		}
	}
	var spread time.Duration
	if w.Spread != "" {
		if spread, err = when.ParseSpan(w.Spread); err != nil {
			return no("spread", "%v", err)
		}
	}
	if spread > MostSpread || spread%time.Second != 0 {
		return no("spread", "a run is spread over whole seconds, a day at most")
	}
	after := rule.Next(next)
	if !after.IsZero() && spread >= after.Sub(next) {
		return no("spread", "it is due every %s, so it cannot be spread over %s", when.Span(after.Sub(next)), when.Span(spread))
	}
	blackouts := []string{}
	for _, b := range w.Blackouts {
		window, err := when.ParseWindow(b, zone, now)
		if err != nil {
			return no("blackouts", "%v", err)
		}
		blackouts = append(blackouts, window.String())
	}
	deeds, _ := json.Marshal(w.Deeds)
	outs, _ := json.Marshal(blackouts)
	x = store.Schedule{Name: w.Name, Rule: rule.String(), Zone: w.Zone, FromAt: now, Deeds: string(deeds), Selector: w.Selector, SpreadS: int(spread / time.Second),
		Blackouts: string(outs), Paused: w.Paused, Note: w.Note}
	if !w.Paused {
		x.NextAt = nextAfter(rule, now)
	}
	return x, nil
}

// nextAfter is when a rule is due next, as it is kept; nil: never again.
func nextAfter(rule when.Rule, now time.Time) *time.Time {
	at := rule.Next(now).UTC()
	if at.IsZero() {
		return nil
	}
	return &at
}

// sound checks one thing that a schedule is to do.
func (s *Service) sound(ctx context.Context, actor core.Actor, d Deed) error {
	k, known := s.Kind(d.Kind)
	if !known || k.Recurs == nil {
		return fmt.Errorf("%q cannot be done by itself; what can: %s", d.Kind, strings.Join(s.Recurring(), ", "))
	}
	if !actor.May(k.Role) {
		return fmt.Errorf("to have a %s done one has to be %s", k.Name, k.Role)
	}
	var may []string
	for _, t := range k.Recurs.Takes {
		word, must := strings.CutSuffix(t, "!")
		may = append(may, word)
		if must && d.With[word] == "" {
			return fmt.Errorf("a %s needs %s=…", k.Name, word)
		}
	}
	for word := range d.With {
		if !slices.Contains(may, word) {
			return fmt.Errorf("a %s takes nothing called %s%s", k.Name, word, map[bool]string{true: "; it takes " + strings.Join(may, ", ")}[len(may) > 0])
		}
	}
	if k.Recurs.Check == nil {
		return nil
	}
	return k.Recurs.Check(ctx, s.Store.As(actor), d.With)
}

// opened reads a schedule as it is kept.
func opened(x store.Schedule) (rule when.Rule, p Plan, err error) {
	p.Zone = x.Zone
	if p.zone, err = time.LoadLocation(x.Zone); err == nil {
		err = errors.Join(json.Unmarshal([]byte(x.Deeds), &p.Deeds), json.Unmarshal([]byte(x.Blackouts), &p.Blackouts))
	}
	if err == nil {
		rule, err = when.Parse(x.Rule, p.zone, x.FromAt)
	}
	if err != nil {
		err = fmt.Errorf("schedule %s: %w", x.Name, err)
	}
	return rule, p, err
}

// Run begins a schedule now, besides the times that it is due.
func (s *Service) Run(ctx context.Context, actor core.Actor, name, note string, key store.Key) (j core.Job, err error) {
	now := s.Now()
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		x, err := q.Schedule(ctx, name)
		if err != nil {
			return err
		}
		_, plan, err := opened(x)
		if err != nil {
			return err
		}
		if old, asked, err := q.Asked(ctx, key); err != nil || asked {
			j = old
			return err
		}
		last, err := q.LastRun(ctx, x.ID)
		if err != nil {
			return err
		}
		if last.UnderWay() {
			return fmt.Errorf("%w: job %s of it is still under way", ErrUnderWay, last.JobID)
		}
		x.SpreadS = 0 // who asks for it now wants it now
		if j, err = s.begin(ctx, q, actor, x, plan, now, 0, note, key); err != nil {
			return err
		}
		return q.AddRun(ctx, store.ScheduleRun{ScheduleID: x.ID, DueAt: now, Schedule: x.Name, JobID: j.ID})
	})
	s.Kick()
	return j, err
}

// ErrUnderWay is returned where a schedule is asked to run while it runs.
var ErrUnderWay = errors.New("it runs already")

// Pause stops a schedule from being due, or has it be due again.
func (s *Service) Pause(ctx context.Context, actor core.Actor, name string, paused bool) (x store.Schedule, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if x, err = q.LockSchedule(ctx, name); err != nil {
			return err
		}
		rule, _, err := opened(x)
		if err != nil {
			return err
		}
		x.Paused, x.NextAt = paused, nil
		if !paused {
			x.NextAt = nextAfter(rule, s.Now())
		}
		if err := q.EditSchedule(ctx, &x); err != nil {
			return err
		}
		return q.Audit(ctx, map[bool]string{true: "schedule paused", false: "schedule resumed"}[paused], x.Name, x.Rule+" "+x.Zone)
	})
	return x, err
}

// detailOf is a schedule in a line, for the audit log.
func detailOf(x store.Schedule, p Plan) string {
	return fmt.Sprintf("%s %s, %s of %s%s", x.Rule, x.Zone, p.said(), x.Selector, core.Because(x.Note))
}

// Save keeps a schedule: a new one, or, where was is a name, what was changed of that.
func (s *Service) Save(ctx context.Context, actor core.Actor, was string, w Wanted) (x store.Schedule, err error) {
	if x, err = s.Check(ctx, actor, w, s.Now()); err != nil {
		return x, err
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		detail := detailOf(x, Plan{Deeds: w.Deeds})
		if was == "" {
			if err := q.AddSchedule(ctx, &x); err != nil {
				return err
			}
			return q.Audit(ctx, "schedule added", x.Name, detail)
		}
		old, err := q.LockSchedule(ctx, was)
		if err != nil {
			return err
		}
		x.ID, x.MadeBy, x.MadeAt = old.ID, old.MadeBy, old.MadeAt
		if old.Rule == x.Rule && old.Zone == x.Zone { // what it counts from stays
			x.FromAt = old.FromAt
			if rule, _, err := opened(x); err == nil && x.NextAt != nil {
				x.NextAt = nextAfter(rule, s.Now())
			}
		}
		if err := q.EditSchedule(ctx, &x); err != nil {
			return err
		}
		before := ""
		if _, plan, err := opened(old); err == nil {
			before = detailOf(old, plan)
		}
		return q.Audit(ctx, "schedule changed", x.Name, core.Instead(detail, before))
	})
	return x, err
}

// Remove forgets a schedule. What it did stays.
func (s *Service) Remove(ctx context.Context, actor core.Actor, name string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		x, err := q.Schedule(ctx, name)
		if err != nil {
			return err
		}
		if err := q.RemoveSchedule(ctx, x.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "schedule removed", x.Name, x.Rule+" "+x.Zone)
	})
}
