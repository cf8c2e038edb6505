package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) restore() *cli.Command {
	return a.do("restore", "SELECTOR…", "put many devices back at once: shows what each would take, asks, pushes the first alone and then the others", []cli.Flag{
		&cli.StringFlag{Name: "to", Usage: "`WHICH` version of each: baseline, previous, a name, or a time like 2026-11-16T09:00"},
		&cli.StringFlag{Name: "snapshot", Usage: "the versions of this snapshot `NAME`; without a selector all of its devices"},
		&cli.StringFlag{Name: "within", Usage: "undo each by itself unless it is confirmed in this `TIME`, like 5m"},
		&cli.BoolFlag{Name: "together", Usage: "with --within: one window for all, which begins with the restore"},
		&cli.IntFlag{Name: "at-once", Value: 4, Usage: "so many at a time, after the first alone"},
		&cli.IntFlag{Name: "stop-after", Value: 1, Usage: "stop after `N` pushes that did not end well"},
		&cli.StringFlag{Name: "override", Usage: "`WHY` it is done where previews have warnings"},
		&cli.StringFlag{Name: "note", Usage: "`WHY`, kept in the audit log"},
		&cli.StringSliceFlag{Name: "check", Usage: "`CHECK` made before and after each push, as often as wanted; one that was good and is bad counts as a push that did not end well: " + checkWords},
		&cli.BoolFlag{Name: "preview", Usage: "show what it would take, and stop"},
		&cli.BoolFlag{Name: "lines", Usage: "show the lines that would be sent to each"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
	}, 0, 100, a.doRestore)
}

// decidedAll waits until all pushes of a restore that were decided have ended.
func (a *app) decidedAll(ctx context.Context, c *cli.Command, s *client.Client, id string) error {
	a.tell("waiting for each to come to its end ...\n")
	for end := time.Now().Add(5 * time.Minute); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		j, err := s.Job(ctx, id)
		if err != nil {
			return err
		}
		if j.Restore == nil || !slices.ContainsFunc(j.Restore.Rows, func(r client.Restored) bool { return r.Outcome == "waiting" || r.Outcome == "running" }) {
			break
		}
	}
	return a.restored(ctx, c, s, id)
}

func (a *app) doRestore(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	if err := window(c); err != nil {
		return err
	}
	ask := client.NewRestorePreview{Selector: got, Snapshot: c.String("snapshot")}
	switch {
	case ask.Snapshot == "" && (len(got) == 0 || c.String("to") == ""), ask.Snapshot != "" && c.String("to") != "":
		return fmt.Errorf("usage: %s SELECTOR… --to WHICH, or --snapshot NAME; for instance: %s site=callowmere --to 2026-11-16T09:00", c.FullName(), c.FullName())
	case c.Bool("together") && c.String("within") == "":
		return fmt.Errorf("--together makes one window of all; give --within TIME as well")
	case ask.Snapshot == "":
		r, err := reference("x@"+c.String("to"), "")
		if err != nil {
			return err
		}
		_, ask.Which, _ = strings.Cut(r, "@")
	}
	if ask.Selector == nil {
		ask.Selector = []string{}
	}
	j, err := s.NewRestorePreview(ctx, ask)
	if err != nil {
		return err
	}
	a.tell("looking at %s ...\n", j.Device)
	if j, err = s.Watch(ctx, j.ID, nil, nil); err != nil {
		return err
	}
	if j.RestorePreview == nil {
		return fmt.Errorf("nothing was sent: %s", j.Summary)
	}
	todo := 0
	for _, x := range j.RestorePreview.Rows {
		if x.Skip == "" {
			todo++
		}
	}
	if !c.Bool("json") || c.Bool("preview") || todo == 0 {
		var previews []client.Preview
		for _, x := range j.RestorePreview.Rows {
			if c.Bool("lines") && x.Preview != "" && x.Skip == "" {
				p, err := s.Preview(ctx, x.Preview)
				if err != nil {
					return err
				}
				previews = append(previews, p)
			}
		}
		a.print(c, j, func() {
			a.showRestorePreview(j)
			for _, p := range previews {
				a.s.printf("\n%s, to run %s:\n", a.s.paint(strong, p.Device), p.Target)
				a.steps(p)
				if len(p.Remaining) > 0 {
					a.s.printf("%s would still differ:\n", count(len(p.Remaining), "line", "lines"))
					a.residuals(p.Remaining)
				}
			}
		})
	}
	if todo == 0 {
		for _, x := range j.RestorePreview.Rows {
			if x.Refused {
				return fmt.Errorf("nothing can be done for any of these devices; why stands beside each")
			}
		}
		return nil
	}
	if c.Bool("preview") {
		return nil
	}
	if !c.Bool("yes") {
		answer, err := a.s.ask(ctx, fmt.Sprintf("\nPush to %s? Type the number of devices to go ahead: ", count(todo, "device", "devices")))
		if err != nil {
			return fmt.Errorf("%w; look at it with --preview, then give --yes", err)
		}
		if answer != fmt.Sprint(todo) {
			a.tell("nothing was sent\n")
			return errDiffers
		}
	}
	if j, err = s.NewRestore(ctx, client.NewRestore{RestorePreview: j.ID, Within: c.String("within"), Together: c.Bool("together"), AtOnce: c.Int("at-once"), StopAfter: c.Int("stop-after"), Note: c.String("note"), Override: c.String("override"), Checks: c.StringSlice("check")}, onceKey()); err != nil {
		return err
	}
	a.tell("restore %s\n", j.ID)
	seen := a.logLine
	if c.Bool("json") {
		seen = nil
	}
	if _, err = s.Watch(ctx, j.ID, seen, nil); err != nil {
		return fmt.Errorf("%w\nit goes on without this terminal; follow it: magpie job watch %s", err, j.ID)
	}
	return a.restored(ctx, c, s, j.ID)
}

// restored shows how each device of a restore stands by now.
func (a *app) restored(ctx context.Context, c *cli.Command, s *client.Client, id string) error {
	j, err := s.Job(ctx, id)
	if err != nil {
		return err
	}
	a.print(c, j, func() { a.showRestore(j) })
	for _, r := range j.Restore.Rows {
		if r.Outcome != "verified" && r.Outcome != "skipped" && r.Outcome != "waiting" && r.Outcome != "running" {
			return errDiffers
		}
	}
	return nil
}

func (a *app) showRestorePreview(j client.Job) {
	list(a.s, j.RestorePreview.Rows, cells[client.RestorePreviewRow]{"lines": func(r client.RestorePreviewRow) cell {
		switch {
		case r.Refused:
			return cell{r.Skip, alarm}
		case r.Skip != "":
			return cell{r.Skip, faint}
		}
		return cell{count(r.Lines, "line", "lines") + " to send", plain}
	}})
	for _, r := range j.RestorePreview.Rows {
		for _, d := range r.Warnings {
			a.s.printf("\n%s %s: %s\n", a.s.paint(alarm, "warning:"), r.Device, d)
		}
	}
	a.s.printf("\n%s\n", j.Summary)
}

func (a *app) showRestore(j client.Job) {
	waits := 0
	for _, r := range j.Restore.Rows {
		if r.Outcome == "waiting" {
			waits++
		}
	}
	a.s.printf("\n")
	list(a.s, j.Restore.Rows, cells[client.Restored]{
		"outcome": func(r client.Restored) cell { return cell{r.Outcome, stateStyle(r.Outcome)} },
		"job":     func(r client.Restored) cell { return cell{r.Job, faint} }})
	a.s.printf("\n%s: %s\n", a.s.paint(stateStyle(j.Outcome), j.Outcome), j.Summary)
	if waits > 0 {
		a.s.printf("%s to be confirmed; keep all: magpie job confirm %s; undo all: magpie job undo %[2]s\n", count(waits, "push waits", "pushes wait"), j.ID)
	}
}
