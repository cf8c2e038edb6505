package routine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/retain"
	"magpie/internal/job"
	"magpie/internal/store"
)

// bad are the states of devices that cannot be worked with as they are.
var bad = []string{core.LoginRefused, core.Unreachable, core.HardwareChanged, core.FactoryDefaults, core.PullFailing}

// tells tells of which event people are told when something happened; empty: of none.
func tells(e store.Event) string {
	switch e.Kind {
	case core.VersionKept:
		return core.TellChanged
	case core.JobEnded:
		return core.TellFailed
	case core.JobWaits:
		return core.TellWaiting
	case core.JobWentWell:
		return core.TellDone
	}
	switch {
	case slices.Contains(bad, e.State):
		return core.TellFailed
	case e.State == core.Drifted, e.State == core.Unsaved:
		return core.TellDrifted
	case e.State == core.InSync && e.Was != core.NeverPulled:
		return core.TellRecovered
	}
	return ""
}

// mostEvents is how many events are looked at in one transaction.
const mostEvents = 200

// heedEvents gives each rule what it has to tell of, once each.
func (s *Service) heedEvents(ctx context.Context) error {
	q := s.Store.As(job.Service)
	for {
		some, err := q.Events(ctx)
		if err != nil || !some {
			return err
		}
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
			all, err := q.TakeEvents(ctx, mostEvents)
			if err != nil {
				return err
			}
			of, ids, err := concerned(ctx, q, all)
			if err != nil {
				return err
			}
			rules, err := s.matching(ctx, q, ids)
			if err != nil {
				return err
			}
			var out []store.Telling
			for _, e := range all {
				event := tells(e)
				for _, m := range rules {
					if m.takes(event, e, of[e.ID]) {
						out = append(out, store.Telling{RuleID: m.ID, About: about(e), At: e.At, Event: event, DeviceID: e.DeviceID, Device: e.Device, JobID: e.JobID, Happened: e.Happened})
					}
				}
			}
			return q.AddTellings(ctx, out)
		}); err != nil {
			return err
		}
	}
}

// concerned lists the devices that each event is about, and all of them: its own, or of work of no one device
// those for which it did not end well, or all where all of it did.
func concerned(ctx context.Context, q *store.Q, all []store.Event) (of map[string][]string, ids []string, err error) {
	of = map[string][]string{}
	for _, e := range all {
		switch {
		case e.DeviceID != "":
			of[e.ID] = []string{e.DeviceID}
		case e.JobID != "":
			look := q.ProblemDevices
			if e.Kind == core.JobWentWell {
				look = q.PartDevices
			}
			if of[e.ID], err = look(ctx, e.JobID); err != nil {
				return nil, nil, err
			}
		}
		ids = append(ids, of[e.ID]...)
	}
	slices.Sort(ids)
	return of, slices.Compact(ids), nil
}

// about names what is told of once: that a job waits for the same thing again, or that one
// version was kept, is the same whoever says it.
func about(e store.Event) string {
	switch e.Kind {
	case core.VersionKept:
		return "version " + e.VersionID
	case core.JobEnded, core.JobWentWell:
		return "job " + e.JobID
	case core.JobWaits:
		return "wait " + e.JobID + " " + e.State
	}
	return "event " + e.ID
}

// match is a rule with the devices that it is about.
type match struct {
	store.NotificationRule
	all     bool
	devices map[string]core.Device
}

// matching reads the rules that are in force, with those of some devices that each is about. The devices are
// read once, however many rules there are.
func (s *Service) matching(ctx context.Context, q *store.Q, ids []string) (out []match, err error) {
	rules, err := q.NotificationRules(ctx)
	if err != nil {
		return nil, err
	}
	devices, err := q.DevicesByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, r := range rules {
		if r.Paused {
			continue
		}
		m := match{NotificationRule: r, devices: map[string]core.Device{}}
		sel, err := ref.ParseSelector(strings.Fields(r.Selector))
		if err != nil {
			return nil, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		m.all = sel.All()
		for _, d := range devices {
			if m.all || store.Picks(sel, d) {
				m.devices[d.ID] = d
			}
		}
		out = append(out, m)
	}
	return out, nil
}

// takes tells whether a rule tells of an event. Work of no one device is told of where it
// did not end well for one of the rule's.
func (m match) takes(event string, e store.Event, about []string) bool {
	if event == "" || !slices.Contains(m.Events, event) {
		return false
	}
	return m.all || slices.ContainsFunc(about, func(id string) bool { _, mine := m.devices[id]; return mine })
}

// lookHourly looks for what does not happen but is so: devices of which nothing was proved
// for long, a disk that fills up.
func (s *Service) lookHourly(ctx context.Context) error {
	now := s.Now()
	if now.Sub(s.telling.looked) < time.Hour {
		return nil
	}
	q := s.Store.As(job.Service)
	all, err := q.Devices(ctx, ref.All())
	if err != nil {
		return err
	}
	ids := make([]string, len(all))
	for i, d := range all {
		ids[i] = d.ID
	}
	rules, err := s.matching(ctx, q, ids)
	if err != nil {
		return err
	}
	sizes, err := q.Sizes(ctx, now.AddDate(0, -1, 0))
	if err != nil {
		return err
	}
	growth := retain.Growth(sizes)
	var out []store.Telling
	for _, m := range rules {
		if slices.Contains(m.Events, core.TellUnproven) {
			for _, d := range m.devices {
				if t, ok := unproven(m.NotificationRule, d, now); ok {
					out = append(out, t)
				}
			}
		}
		if says := s.tight(growth); says != "" && slices.Contains(m.Events, core.TellCapacity) {
			out = append(out, store.Telling{RuleID: m.ID, About: "capacity " + s.Instance() + " " + now.Format("2006-01-02"), At: now, Event: core.TellCapacity, Happened: core.Happened{Says: says}})
		}
	}
	copies, err := s.copiesWait(ctx, q, rules, growth, now)
	if err != nil {
		return err
	}
	for part := range slices.Chunk(append(out, copies...), mostEvents) {
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.AddTellings(ctx, part) }); err != nil {
			return err
		}
	}
	s.telling.looked = now
	return s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		return q.ForgetTold(ctx, now.Add(-keepMessages), now.Add(-keepTellings))
	})
}

// How long it is kept what people were told, and that they were.
const (
	keepMessages = 30 * 24 * time.Hour
	keepTellings = 400 * 24 * time.Hour
)

// unproven tells of a device of which nothing was put back and proved for as long as a rule
// says; once for each time that becomes so.
func unproven(r store.NotificationRule, d core.Device, now time.Time) (t store.Telling, ok bool) {
	since, says := d.CreatedAt, "nothing of it was ever put back and proved"
	if d.LastProven != nil {
		since, says = *d.LastProven, "last proved "+d.LastProven.UTC().Format("2006-01-02")+": "+d.Proven
	}
	if r.Days == 0 || now.Sub(since) < time.Duration(r.Days)*24*time.Hour {
		return t, false
	}
	return store.Telling{RuleID: r.ID, About: fmt.Sprintf("unproven %s %d", d.ID, since.Unix()), At: now, Event: core.TellUnproven, DeviceID: d.ID, Device: d.Name, Happened: core.Happened{Says: says}}, true
}

// soon is how many days ahead it is told that there will be no room.
const soon = 30

// copiesWait tells of targets that have not done what they were asked for an hour, and of those
// that will be full; once a day each.
func (s *Service) copiesWait(ctx context.Context, q *store.Q, rules []match, growth int64, now time.Time) (out []store.Telling, err error) {
	targets, err := q.Targets(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range targets {
		says := ""
		switch {
		case t.Paused:
		case t.FailingAt != nil && now.Sub(*t.FailingAt) >= time.Hour:
			says = fmt.Sprintf("target %s has not done what it was asked since %s: %s", t.Name, t.FailingAt.UTC().Format("2006-01-02 15:04 MST"), t.Trouble)
		case t.Room != nil:
			if n := retain.FullIn(*t.Room, growth); n != nil && *n <= soon {
				says = fmt.Sprintf("target %s has %d MiB left, for %d days as things went lately", t.Name, *t.Room>>20, *n)
			}
		}
		for _, m := range rules {
			if says != "" && slices.Contains(m.Events, core.TellCopies) {
				out = append(out, store.Telling{RuleID: m.ID, About: "copies " + t.ID + " " + now.Format("2006-01-02"), At: now, Event: core.TellCopies, Happened: core.Happened{Says: says}})
			}
		}
	}
	return out, nil
}

// tight tells that the disk is nearly full; empty: it is not, or nobody knows.
func (s *Service) tight(growth int64) string {
	if s.Room == nil {
		return ""
	}
	free, total := s.Room()
	if n := retain.FullIn(int64(free), growth); total > 0 && n != nil && *n <= soon {
		return fmt.Sprintf("instance %s: the disk of its data folder has %d MiB left, for %d days as things went lately", s.Instance(), free>>20, *n)
	}
	if total == 0 || free >= total/10 && free >= 1<<30 {
		return ""
	}
	return fmt.Sprintf("instance %s: the disk of its data folder has %d MiB left of %d MiB", s.Instance(), free>>20, total>>20)
}
