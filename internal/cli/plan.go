package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

// planFlags say when a push is to be done.
func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "from", Category: "when", Usage: "do it later: from this `TIME` on, like 22:00, 2026-11-24T22:00 or now; it is previewed again then, and asks if something else would be sent"},
		&cli.StringFlag{Name: "until", Category: "when", Usage: "begin before this `TIME`, or not at all; an hour after --from if not said"},
		&cli.StringFlag{Name: "zone", Category: "when", Usage: "the time `ZONE` of --from and --until, like Atlantic/Faroe; your own if not said"},
	}
}

// plan reads when a push is to be done; nil is now.
func plan(c *cli.Command, now time.Time) (from, until *time.Time, zoneName string, err error) {
	if c.String("from") == "" {
		if c.String("until")+c.String("zone") != "" {
			return nil, nil, "", fmt.Errorf("--until and --zone belong to --from, the time from which on it is to be done")
		}
		return nil, nil, "", nil
	}
	loc, zoneName := zone(), ianaZone()
	if z := c.String("zone"); z != "" {
		if loc, err = ref.Zone(z); err != nil {
			return nil, nil, "", fmt.Errorf("--zone: %w", err)
		}
		zoneName = z
	}
	f, err := clockOrTime(c.String("from"), now, loc)
	if err != nil {
		return nil, nil, "", fmt.Errorf("--from %w", err)
	}
	u := f.Add(time.Hour)
	if s := c.String("until"); s != "" {
		if u, err = clockOrTime(s, f, loc); err != nil {
			return nil, nil, "", fmt.Errorf("--until %w", err)
		}
	}
	return &f, &u, zoneName, nil
}

// clockOrTime reads now, a time of day (the next one after a moment), or a day
// and time.
func clockOrTime(s string, after time.Time, loc *time.Location) (time.Time, error) {
	if s == "now" {
		return after, nil
	}
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	if t, err := time.ParseInLocation("15:04", s, loc); err == nil {
		d := after.In(loc)
		next := time.Date(d.Year(), d.Month(), d.Day(), t.Hour(), t.Minute(), 0, 0, loc)
		if next.Before(after) {
			next = time.Date(d.Year(), d.Month(), d.Day()+1, t.Hour(), t.Minute(), 0, 0, loc)
		}
		return next, nil
	}
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02T15:04:05"} {
		if t, err := time.ParseInLocation(form, s, loc); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write it like 22:00, 2026-11-24T22:00 or now", s)
}

// ianaZone names the reader's own time zone as the IANA database does; UTC when
// the system does not say.
func ianaZone() string {
	name := strings.TrimPrefix(os.Getenv("TZ"), ":")
	if chosen != "" {
		name = chosen
	} else if name == "" {
		target, _ := os.Readlink("/etc/localtime")
		_, name, _ = strings.Cut(target, "zoneinfo/")
	}
	if _, err := time.LoadLocation(name); err != nil || name == "" {
		return "UTC"
	}
	return strings.TrimPrefix(name, "Etc/")
}

// showPlan shows how a planned push stands.
func (a *app) showPlan(j client.Job) {
	p := j.Plan
	loc, err := time.LoadLocation(p.Zone)
	if err != nil {
		loc = time.UTC
	}
	at := func(t time.Time) string {
		s := t.In(loc).Format("2006-01-02 15:04") + " " + p.Zone
		if mine := when(t); mine != t.In(loc).Format("2006-01-02 15:04") {
			s += " (" + mine + " " + zoneName() + ")"
		}
		return s
	}
	a.s.facts("device", a.s.paint(strong, j.Device), "begins", at(p.From), "or not after", at(p.Until), "second person", p.Rule, "approved by", p.Approved, "push", p.Push, "now", j.Summary)
	switch j.Awaits {
	case "approval":
		a.s.printf("\nto approve it: magpie job approve %s; to decline it: magpie job decline %[1]s; what would be sent: magpie job show %[1]s\n", j.ID)
	case "start":
		a.s.printf("\nto call it off: magpie job decline %s\n", j.ID)
	}
}

// approve shows what a planned push would send, and lets it go ahead.
func (a *app) approve(ctx context.Context, c *cli.Command, s *client.Client, id string) (client.Job, error) {
	j, err := s.Job(ctx, id)
	if err != nil {
		return j, err
	}
	if j.Awaits == "agreement" { // baselines: what they are stands in the job
		return s.Say(ctx, id, "approve", "")
	}
	if j.Plan == nil {
		return j, fmt.Errorf("job %s is a %s, not a planned push", id, j.Kind)
	}
	p, err := s.Preview(ctx, j.Plan.Preview)
	if err != nil {
		return j, err
	}
	if !c.Bool("json") {
		a.showPreview(p, false, "")
	}
	if !c.Bool("yes") {
		name, err := a.s.ask(ctx, fmt.Sprintf("\nApprove this, planned by %s? Type the device's name to approve it: ", j.Actor))
		if err != nil {
			return j, fmt.Errorf("%w; look at it with magpie job show %s, then give --yes", err, id)
		}
		if name != p.Device {
			return j, fmt.Errorf("not approved")
		}
	}
	return s.Approve(ctx, id, j.Plan.Preview)
}

// followPlan shows a planned push as it stands now: it goes on by itself.
func (a *app) followPlan(ctx context.Context, c *cli.Command, s *client.Client, j client.Job) error {
	for end := time.Now().Add(5 * time.Second); j.State != "ended" && (j.Awaits == "" || j.Plan == nil) && time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		next, err := s.Job(ctx, j.ID)
		if err != nil {
			return err
		}
		if j = next; j.Plan != nil && j.Plan.Push != "" {
			push, err := s.Job(ctx, j.Plan.Push)
			if err != nil {
				return err
			}
			a.tell("push %s\n", push.ID)
			return a.followPush(ctx, c, s, push)
		}
	}
	a.print(c, j, func() {
		if j.Plan != nil {
			a.showPlan(j)
		} else {
			a.jobHead(j)
		}
	})
	return nil
}

func (a *app) approval() *cli.Command {
	return &cli.Command{Name: "approval", Usage: "which devices nobody pushes to alone", Commands: []*cli.Command{
		a.do("list", "", "list the rules", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Approvals(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("No rules: everyone who may push does so alone. To ask for a second person: magpie approval add SELECTOR…\n")
					return
				}
				list(a.s, all, cells[client.Approval]{
					"id": func(r client.Approval) cell { return cell{r.ID, faint} }})
			})
			return nil
		}),
		a.do("add", "SELECTOR…", "from now on a second person approves pushes to these devices", nil, 1, 20, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.AddApproval(ctx, got)
			if err != nil {
				return err
			}
			a.print(c, r, func() {
				a.s.printf("Pushes to %s are approved by a second person from now on.\n", several(r.Selector))
			})
			return nil
		}),
		a.do("remove", "RULE", "they need nobody's approval any more", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			if err := s.RemoveApproval(ctx, got[0]); err != nil {
				return err
			}
			a.tell("removed\n")
			return nil
		}),
	}}
}

func (a *app) restoreTest() *cli.Command {
	return a.do("restore-test", "REF", "prove that a version can be put back: puts it on another device of the family, proves it, puts back what ran there", []cli.Flag{
		&cli.StringFlag{Name: "on", Required: true, Usage: "the `DEVICE` it is tried out on: a spare of its family"},
		&cli.StringFlag{Name: "note", Usage: "`WHY`, kept in the audit log"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
	}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := reference(got[0], "")
		if err != nil {
			return err
		}
		if on := c.String("on"); !c.Bool("yes") {
			name, err := a.s.ask(ctx, fmt.Sprintf("For a while %s will run %s, with its names and addresses. Type its name to go ahead: ", on, r))
			if err != nil {
				return fmt.Errorf("%w; give --yes", err)
			}
			if name != on {
				a.tell("nothing was sent\n")
				return errDiffers
			}
		}
		j, err := s.NewRestoreTest(ctx, client.NewRestoreTest{Ref: r, On: c.String("on"), Note: c.String("note")}, onceKey())
		if err != nil {
			return err
		}
		seen := a.logLine
		if c.Bool("json") {
			seen = nil
		}
		if j, err = s.Watch(ctx, j.ID, seen, nil); err != nil {
			return fmt.Errorf("%w\nthe restore test goes on without this terminal; follow it: magpie job watch %s", err, j.ID)
		}
		a.print(c, j, func() { a.s.printf("\n%s: %s\n", a.s.paint(stateStyle(j.Outcome), j.Outcome), j.Summary) })
		if j.Outcome != "done" {
			return errDiffers
		}
		return nil
	})
}
