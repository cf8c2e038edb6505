package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

func (a *app) schedule() *cli.Command {
	what := func() []cli.Flag {
		return []cli.Flag{
			&cli.StringSliceFlag{Name: "do", Usage: "`KIND` of job, with what goes with it, as pull or \"restore-test on=spare-r1\"; several are done one after the other; pull if not said"},
			&cli.StringFlag{Name: "zone", Usage: "the time `ZONE` that its times are meant in, like Atlantic/Faroe; your own if not said"},
			&cli.StringFlag{Name: "spread", Usage: "over how long its devices are spread, like 2h: a `SPAN`"},
			&cli.StringSliceFlag{Name: "not", Usage: "`WHEN` it is left out, like \"weekly fri 16:00 for 62h\", as often as wanted"},
			&cli.StringFlag{Name: "note", Usage: "`WHY`"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		}
	}
	const rules = `WHEN is one of, in quotes: "once 2026-11-30 22:00" · "every 30m" · "daily 02:00" · "weekly mon,thu 02:00" · "monthly 1,last 02:00" · "yearly 11-30 02:00" · "cron 0 2 * * 1-5"`
	said := func(c *cli.Command) *cli.Command { c.Description = rules + "\n\n" + c.Description; return c }
	return &cli.Command{Name: "schedule", Usage: "what is done by itself, time after time", Commands: []*cli.Command{
		a.do("list", "", "list schedules", nil, 0, 0, a.scheduleList),
		a.do("show", "SCHEDULE", "a schedule, what it will do and what it did", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			x, err := s.Schedule(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, x, func() { a.showSchedule(x) })
			return nil
		}),
		said(a.do("add", "NAME WHEN SELECTOR…", "have something done by itself", append(what(), &cli.BoolFlag{Name: "paused", Usage: "not yet"}), 3, 100, a.scheduleAdd)),
		said(a.do("edit", "SCHEDULE", "change a schedule", append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "another `NAME`"},
			&cli.StringFlag{Name: "when", Usage: "`WHEN`"},
			&cli.StringSliceFlag{Name: "of", Usage: "`SELECTOR` of other devices"},
		}, what()...), 1, 1, a.scheduleEdit)),
		a.do("run", "SCHEDULE", "do it now, and follow it", []cli.Flag{&cli.StringFlag{Name: "note", Usage: "`WHY`"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			j, err := s.RunSchedule(ctx, got[0], client.NewRun{Note: c.String("note")}, onceKey())
			if err != nil {
				return err
			}
			return a.jobWatch(ctx, c, s, []string{j.ID})
		}),
		a.schedulePause("pause", "let a schedule not be due any more", true),
		a.schedulePause("resume", "let a schedule be due again; what was left out meanwhile is not made up", false),
		a.do("remove", "SCHEDULE", "forget a schedule; what it did stays", []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			x, err := s.Schedule(ctx, got[0])
			if err != nil {
				return err
			}
			if err := a.meant(ctx, c, fmt.Sprintf("%s %s, %s of %s: type yes to forget it: ", x.Rule, x.Zone, deedsSaid(x.Deeds), several(x.Selector))); err != nil {
				return err
			}
			if err := s.RemoveSchedule(ctx, got[0]); err != nil {
				return err
			}
			a.tell("forgotten; what it did stays\n")
			return nil
		}),
		a.do("agenda", "", "when schedules were due and will be, in order of time", []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "a `TIME`; a day ago if not said"},
			&cli.StringFlag{Name: "until", Usage: "a `TIME`; in two days if not said"},
		}, 0, 0, a.agenda),
	}}
}

// meant asks whether something is meant, unless --yes says so.
func (a *app) meant(ctx context.Context, c *cli.Command, question string) error {
	if c.Bool("yes") {
		return nil
	}
	answer, err := a.s.ask(ctx, question)
	if err != nil {
		return fmt.Errorf("%w; say --yes", err)
	}
	if answer != "yes" {
		return fmt.Errorf("nothing was changed")
	}
	return nil
}

func deedsSaid(all []client.Deed) string {
	var out []string
	for _, d := range all {
		said := d.Kind
		for _, k := range slices.Sorted(maps.Keys(d.With)) {
			said += " " + k + "=" + d.With[k]
		}
		out = append(out, said)
	}
	return strings.Join(out, ", then ")
}

// deeds reads what is to be done.
func deeds(words []string) (out []client.Deed, err error) {
	for _, w := range words {
		f := strings.Fields(w)
		if len(f) == 0 {
			return nil, fmt.Errorf("--do says nothing; it is a kind of job, like pull")
		}
		d := client.Deed{Kind: f[0]}
		for _, pair := range f[1:] {
			k, v, ok := strings.Cut(pair, "=")
			if !ok {
				return nil, fmt.Errorf("--do %q: %q is no NAME=VALUE", w, pair)
			}
			if d.With == nil {
				d.With = map[string]string{}
			}
			d.With[k] = v
		}
		out = append(out, d)
	}
	return out, nil
}

func (a *app) scheduleList(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	all, err := s.Schedules(ctx)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("Nothing is done by itself. To have everything pulled every night: magpie schedule add nightly \"daily 02:00\" all\n")
			return
		}
		list(a.s, all, cells[client.Schedule]{
			"name":  func(x client.Schedule) cell { return cell{x.Name, strong} },
			"deeds": func(x client.Schedule) cell { return cell{deedsSaid(x.Deeds), plain} },
			"next": func(x client.Schedule) cell {
				switch {
				case x.Paused:
					return cell{"paused", removed}
				case len(x.Next) == 0:
					return cell{"never again", faint}
				}
				return cell{when(x.Next[0].At), plain}
			},
			"last": func(x client.Schedule) cell {
				if x.Last == nil {
					return cell{"", plain}
				}
				return cell{x.Last.State, stateStyle(x.Last.State)}
			}})
	})
	return nil
}

// showSchedule shows a schedule as it is kept, or would be.
func (a *app) showSchedule(x client.Schedule) {
	state := ""
	if x.Paused {
		state = a.s.paint(removed, "paused")
	}
	spread := ""
	if x.Spread != "" {
		spread = "over " + x.Spread
	}
	kept := ""
	if x.ChangedBy != "" {
		kept = fmt.Sprintf("%s %s by %s", when(x.ChangedAt), zoneName(), x.ChangedBy)
		if !x.ChangedAt.Equal(x.MadeAt) {
			kept += fmt.Sprintf("; made %s by %s", when(x.MadeAt), x.MadeBy)
		}
	}
	last := ""
	if x.Last != nil {
		last = fmt.Sprintf("%s %s: %s: %s", when(x.Last.At), zoneName(), a.s.paint(stateStyle(x.Last.State), x.Last.State), x.Last.Summary)
	}
	a.s.facts("schedule", a.s.paint(strong, x.Name), "when", x.Rule+" in "+x.Zone, "state", state, "does", deedsSaid(x.Deeds),
		"to", fmt.Sprintf("%s (%s now)", strings.Join(x.Selector, " "), count(x.Devices, "device", "devices")), "spread", spread, "left out", strings.Join(x.Blackouts, "\n"),
		"note", x.Note, "saved", kept, "last", last)
	if len(x.Next) > 0 {
		a.s.printf("\n%s\n", map[bool]string{false: "Due next:", true: "It is paused; otherwise it would be due next:"}[x.Paused])
		var rows [][]cell
		for _, n := range x.Next {
			mine := ""
			if !strings.Contains(n.Local, when(n.At)) {
				mine = when(n.At) + " " + zoneName()
			}
			rows = append(rows, []cell{{n.Local, plain}, {mine, faint}, {n.LeftOut, removed}})
		}
		a.s.table([]string{"there", "here", ""}, rows)
	}
	a.s.printf("\n")
	for _, w := range x.Clocks {
		a.s.printf("%s %s\n", a.s.paint(faint, "clocks:"), w)
	}
	for _, w := range x.Same {
		a.s.printf("\n%s %s\n", a.s.paint(alarm, "note:"), w)
	}
}

func (a *app) scheduleAdd(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := client.NewSchedule{Name: got[0], Rule: got[1], Selector: got[2:], Zone: ianaZone(), Paused: c.Bool("paused")}
	return a.saveSchedule(ctx, c, s, "", n)
}

func (a *app) scheduleEdit(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	x, err := s.Schedule(ctx, got[0])
	if err != nil {
		return err
	}
	n := client.NewSchedule{Name: x.Name, Rule: x.Rule, Zone: x.Zone, Deeds: x.Deeds, Selector: x.Selector, Spread: x.Spread, Blackouts: x.Blackouts, Paused: x.Paused, Note: x.Note}
	if w := c.String("name"); w != "" {
		n.Name = w
	}
	if w := c.String("when"); w != "" {
		n.Rule = w
	}
	if w := c.StringSlice("of"); len(w) > 0 {
		n.Selector = w
	}
	return a.saveSchedule(ctx, c, s, x.Name, n)
}

// saveSchedule shows what a schedule will do, asks, and keeps it; what was kept is read
// back and shown.
func (a *app) saveSchedule(ctx context.Context, c *cli.Command, s *client.Client, was string, n client.NewSchedule) (err error) {
	if w := c.StringSlice("do"); len(w) > 0 || n.Deeds == nil {
		if len(w) == 0 {
			w = []string{"pull"}
		}
		if n.Deeds, err = deeds(w); err != nil {
			return err
		}
	}
	if c.IsSet("zone") {
		n.Zone = c.String("zone")
	}
	if c.IsSet("spread") {
		n.Spread = c.String("spread")
	}
	if c.IsSet("not") {
		n.Blackouts = slices.DeleteFunc(c.StringSlice("not"), func(w string) bool { return w == "" })
	}
	if c.IsSet("note") {
		n.Note = c.String("note")
	}
	x, err := s.CheckSchedule(ctx, was, n)
	if err != nil {
		return err
	}
	if !c.Bool("yes") {
		a.showSchedule(x)
		if err := a.meant(ctx, c, "\nType yes to keep it: "); err != nil {
			return err
		}
	}
	if was == "" {
		x, err = s.AddSchedule(ctx, n)
	} else {
		x, err = s.EditSchedule(ctx, was, n)
	}
	if err != nil {
		return err
	}
	if x, err = s.Schedule(ctx, x.Name); err != nil {
		return err
	}
	a.print(c, x, func() {
		if c.Bool("yes") {
			a.showSchedule(x)
		}
		a.s.printf("\nIt is kept, by %s.\n", x.ChangedBy)
	})
	return nil
}

func (a *app) schedulePause(name, does string, paused bool) *cli.Command {
	return a.do(name, "SCHEDULE", does, nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		x, err := s.PauseSchedule(ctx, got[0], paused)
		if err != nil {
			return err
		}
		a.print(c, x, func() {
			switch {
			case paused:
				a.s.printf("%s is paused; to have it again: magpie schedule resume %[1]s\n", x.Name)
			case len(x.Next) == 0:
				a.s.printf("%s is over: it is never due again\n", x.Name)
			default:
				a.s.printf("%s is due next %s\n", x.Name, x.Next[0].Local)
			}
		})
		return nil
	})
}

func (a *app) agenda(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	from, until := time.Now().Add(-24*time.Hour), time.Now().Add(48*time.Hour)
	for _, f := range []struct {
		name string
		into *time.Time
	}{{"from", &from}, {"until", &until}} {
		if raw := c.String(f.name); raw != "" {
			read := ref.ParseTime
			if f.name == "from" {
				read = ref.ParseSince
			}
			t, err := read(raw, here())
			if err != nil {
				return fmt.Errorf("--%s: %w", f.name, err)
			}
			*f.into = t
		}
	}
	all, err := s.Agenda(ctx, from, until)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("Nothing was due from %s to %s %s, and nothing will be.\n", when(from), when(until), zoneName())
			return
		}
		list(a.s, all, cells[client.AgendaItem]{
			"schedule": func(i client.AgendaItem) cell { return cell{i.Schedule, strong} },
			"state": func(i client.AgendaItem) cell {
				if i.Future && i.State == "due" {
					return cell{"due", faint}
				}
				return cell{i.State, stateStyle(i.State)}
			}})
	})
	return nil
}

// showRun shows how the jobs stand that a schedule had begun.
func (a *app) showRun(j client.Job) {
	var rows [][]cell
	for _, p := range j.Scheduled.Parts {
		word := p.State
		if p.State == "ended" {
			word = p.Outcome
		}
		rows = append(rows, []cell{{p.Kind, plain}, {word, stateStyle(word)}, {fmt.Sprint(p.Count), plain}})
	}
	if len(rows) == 0 {
		return
	}
	a.s.printf("\n")
	a.s.table([]string{"kind", "state", "jobs"}, rows)
	a.s.printf("\nEach of them: magpie job list --part-of %s\n", j.ID)
}

// trigger says that devices were changed.
func (a *app) trigger() *cli.Command {
	return a.do("trigger", "SELECTOR…", "say that devices were changed: they are pulled once it is quiet about them", []cli.Flag{&cli.StringFlag{Name: "author", Usage: "`WHO` changed them"}}, 1, -1,
		func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
			if err := s.Notice(ctx, client.NewNotice{Selector: sel, Author: c.String("author")}); err != nil {
				return err
			}
			a.tell("noted; pulled half a minute after the last that is said of it, five minutes after the first at the latest\n")
			return nil
		})
}
