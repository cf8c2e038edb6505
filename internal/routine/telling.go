package routine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/when"
	"magpie/internal/job"
	"magpie/internal/store"
)

// gather is how long what happens is gathered before people are told of it at once, so
// that what happens together is told together.
const gather = 20 * time.Second

// mostTold is how many things one message tells of.
const mostTold = 200

// errRaced is returned when another instance told it meanwhile.
var errRaced = errors.New("told by another instance")

// telling is an instance's share of telling people.
type telling struct {
	looked     time.Time            // when it was looked last what is so without happening
	auditAfter map[string]time.Time // by recipient, when the audit log is tried again
}

// Tell puts what is due to be told into the outbox.
func (s *Service) Tell(ctx context.Context) error {
	err := errors.Join(s.heedEvents(ctx), s.lookHourly(ctx))
	if err != nil {
		return err
	}
	q := s.Store.As(job.Service)
	untold, err := q.AllUntold(ctx)
	if err != nil || len(untold) == 0 {
		return err
	}
	rules, err := q.NotificationRules(ctx)
	if err != nil {
		return err
	}
	for _, u := range untold {
		i := slices.IndexFunc(rules, func(r store.NotificationRule) bool { return r.ID == u.RuleID })
		if i < 0 || rules[i].Paused {
			continue
		}
		due, err := ready(rules[i], u.Since, s.Now())
		if err == nil && due {
			err = s.tell(ctx, rules[i])
		}
		if err != nil {
			slog.Warn("people cannot be told", "rule", rules[i].Name, "err", err)
		}
	}
	return nil
}

// ready tells whether what a rule has gathered since a time is to be told now.
func ready(r store.NotificationRule, since, now time.Time) (bool, error) {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		return false, err
	}
	if r.Digest == "" {
		if now.Sub(since) < gather {
			return false, nil
		}
	} else {
		rule, err := when.Parse(r.Digest, zone, r.FromAt)
		if err != nil {
			return false, err
		}
		if at := rule.Next(since); at.IsZero() || at.After(now) {
			return false, nil
		}
	}
	for _, line := range r.Quiet {
		w, err := when.ParseWindow(line, zone, r.FromAt)
		if err != nil {
			return false, err
		}
		if _, quiet := w.Covers(now); quiet {
			return false, nil
		}
	}
	return true, nil
}

// tell puts what a rule has gathered into the outbox, for each of its recipients.
func (s *Service) tell(ctx context.Context, r store.NotificationRule) error {
	q := s.Store.As(job.Service)
	items, err := q.Untold(ctx, r.ID, mostTold)
	if err != nil || len(items) == 0 {
		return err
	}
	mail, _, _, err := s.MailServer(ctx, job.Service)
	if err != nil && !errors.Is(err, ErrNoMail) {
		return err
	}
	told, err := s.compose(ctx, q, r, items, mail.Console)
	if err != nil {
		return err
	}
	all, err := q.Recipients(ctx)
	if err != nil {
		return err
	}
	var abouts []string
	for _, t := range items {
		abouts = append(abouts, t.About)
	}
	err = s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		batch := store.NewID(s.Now())
		if mine, err := q.Tell(ctx, batch, r.ID, abouts); err != nil || !mine {
			return cmp.Or(err, errRaced)
		}
		for _, to := range all {
			if !slices.Contains(r.Recipients, to.ID) {
				continue
			}
			m := store.Message{Rule: r.Name, RecipientID: to.ID, Recipient: to.Name, Batch: batch, Told: told}
			for _, a := range to.Addresses() { // one each, so that none gets twice what another was refused
				m.Address = a
				if err := q.AddMessage(ctx, m); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if errors.Is(err, errRaced) {
		return nil
	}
	return err
}

// The bounds of what a message tells of texts.
const (
	mostLines    = 200  // of one difference
	mostAllLines = 2000 // of all
)

// order of events in a message, worst first.
var order = []string{core.TellFailed, core.TellWaiting, core.TellCapacity, core.TellDrifted, core.TellChanged, core.TellCopies, core.TellUnproven, core.TellRecovered, core.TellDone}

// heads are what stands above them.
var heads = map[string]string{core.TellFailed: "Failed", core.TellWaiting: "Waiting for a person", core.TellCapacity: "Room", core.TellCopies: "Copies elsewhere", core.TellDrifted: "Drifted or not saved",
	core.TellChanged: "Changed", core.TellUnproven: "Not proven", core.TellRecovered: "In sync again", core.TellDone: "Went well"}

// compose writes what is told, with secrets masked.
func (s *Service) compose(ctx context.Context, q *store.Q, r store.NotificationRule, items []store.Telling, console string) (out core.Told, err error) {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		return out, err
	}
	slices.SortStableFunc(items, func(a, b store.Telling) int {
		return cmp.Compare(slices.Index(order, a.Event), slices.Index(order, b.Event))
	})
	devices := map[string]core.Device{}
	counts, named, left := map[string]int{}, []string{}, mostAllLines
	for _, t := range items {
		d, known := devices[t.DeviceID]
		if !known && t.DeviceID != "" {
			if d, err = q.DeviceByID(ctx, t.DeviceID); err != nil && !errors.Is(err, store.ErrNotFound) {
				return out, err
			}
			devices[t.DeviceID] = d
		}
		i := core.ToldItem{Event: t.Event, At: t.At.UTC().Format(time.RFC3339), Device: t.Device, Site: d.Site, Part: t.Part, Version: t.Number, By: t.By, Reason: t.Reason, Says: s.sentence(t), Job: t.JobID, Added: t.Added, Removed: t.Removed}
		if t.Event == core.TellChanged && s.Differ != nil && d.ID != "" {
			i.Difference = cutLines(s.difference(ctx, t), min(mostLines, left))
			left -= strings.Count(i.Difference, "\n")
		}
		out.Items = append(out.Items, i)
		counts[t.Event]++
		if t.Device != "" && !slices.Contains(named, t.Device) {
			named = append(named, t.Device)
		}
	}
	out.Subject = subject(counts, named)
	out.Text = written(out.Items, r, zone, console)
	return out, nil
}

// difference is what a version changed, as somebody sees it who may not see secrets.
func (s *Service) difference(ctx context.Context, t store.Telling) string {
	text, err := s.Differ(ctx, t.Device, t.Part, t.Number)
	if err != nil {
		return "(the difference cannot be shown: " + err.Error() + ")\n"
	}
	return text
}

func cutLines(text string, most int) string {
	lines := strings.SplitAfter(text, "\n")
	if len(lines) <= most+1 {
		return text
	}
	if most <= 0 {
		return ""
	}
	return strings.Join(lines[:most], "") + fmt.Sprintf("… and %d lines more\n", len(lines)-1-most)
}

// sentence says what happened in one.
func (s *Service) sentence(t store.Telling) string {
	switch t.Event {
	case core.TellChanged:
		return fmt.Sprintf("%s %d%s%s", t.Part, t.Number, core.PlusMinus(t.Added, t.Removed), by(t))
	case core.TellRecovered:
		return "in sync again; it was " + t.Was
	case core.TellDrifted:
		return map[bool]string{true: "drifted: it does not run its baseline", false: "what it runs is not saved"}[t.State == core.Drifted]
	case core.TellWaiting:
		return "a " + t.Kind + " waits: " + t.Says
	case core.TellDone:
		said := "a " + t.Kind + " ended " + t.State
		if t.By != "" {
			said += ", asked for by " + t.By
		}
		return said + ": " + t.Says
	case core.TellFailed:
		if t.Kind != "" {
			return "a " + t.Kind + " ended " + t.State + ": " + t.Says
		}
		return t.State + ": " + t.Says
	}
	return t.Says
}

func by(t store.Telling) string {
	switch {
	case t.By == "":
		return ""
	case t.Reason != "":
		return fmt.Sprintf(" by %s, %s", t.By, t.Reason)
	}
	return " by " + t.By
}

// words of events in a subject.
var words = map[string]string{core.TellFailed: "failed", core.TellWaiting: "waiting", core.TellCapacity: "disk nearly full", core.TellCopies: "copies not elsewhere", core.TellDrifted: "drifted", core.TellChanged: "changed", core.TellUnproven: "not proven", core.TellRecovered: "in sync again", core.TellDone: "went well"}

// subject says how much of what, and of whom.
func subject(counts map[string]int, named []string) string {
	var all []string
	for _, e := range order {
		switch n := counts[e]; {
		case n == 0:
		case e == core.TellCapacity || e == core.TellCopies:
			all = append(all, words[e])
		default:
			all = append(all, fmt.Sprintf("%d %s", n, words[e]))
		}
	}
	out := strings.Join(all, ", ")
	if len(named) > 3 {
		named = append(named[:2:2], fmt.Sprintf("%d more", len(named)-2))
	}
	if len(named) > 0 {
		out += ": " + strings.Join(named, ", ")
	}
	return out
}

// written is a message for people to read.
func written(items []core.ToldItem, r store.NotificationRule, zone *time.Location, console string) string {
	var b strings.Builder
	last := ""
	for _, i := range items {
		if i.Event != last {
			fmt.Fprintf(&b, "%s%s\n\n", map[bool]string{true: "\n"}[last != ""], heads[i.Event])
			last = i.Event
		}
		at, _ := time.Parse(time.RFC3339, i.At)
		who := i.Device
		if i.Site != "" {
			who += " (" + i.Site + ")"
		}
		fmt.Fprintf(&b, "  %s  %s%s%s\n", at.In(zone).Format("2006-01-02 15:04 MST"), who, map[bool]string{true: ": "}[who != ""], i.Says)
		if link := linkOf(console, i); link != "" {
			fmt.Fprintf(&b, "  %s\n", link)
		}
		if i.Difference != "" {
			b.WriteString("\n")
			for line := range strings.Lines(i.Difference) {
				b.WriteString("    " + line)
			}
			b.WriteString("\n")
		}
	}
	fmt.Fprintf(&b, "\n-- \nTold by the rule %s: %s of %s. Secrets are masked.\n", r.Name, strings.Join(r.Events, ", "), r.Selector)
	return b.String()
}

// linkOf is where the console shows it.
func linkOf(console string, i core.ToldItem) string {
	base := strings.TrimSuffix(console, "/")
	switch {
	case base == "":
		return ""
	case i.Event == core.TellChanged:
		return fmt.Sprintf("%s/compare?from=%s&to=%s", base, url.QueryEscape(fmt.Sprintf("%s/%s@%d", i.Device, i.Part, i.Version-1)), url.QueryEscape(fmt.Sprintf("%s/%s@%d", i.Device, i.Part, i.Version)))
	case i.Job != "":
		return base + "/jobs/" + i.Job
	case i.Device != "":
		return base + "/devices/" + i.Device
	}
	return ""
}
