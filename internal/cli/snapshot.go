package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

func (a *app) snapshot() *cli.Command {
	return &cli.Command{Name: "snapshot", Usage: "named sets of versions, one of each device's parts", Commands: []*cli.Command{
		a.do("list", "", "list snapshots, newest first", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Snapshots(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("No snapshots. To make one: magpie snapshot make NAME SELECTOR…\n")
					return
				}
				list(a.s, all, cells[client.Snapshot]{
					"count": func(x client.Snapshot) cell { return cell{count(x.Count, "version", "versions"), plain} },
					"note":  func(x client.Snapshot) cell { return cell{x.Note, faint} }})
			})
			return nil
		}),
		a.do("make", "NAME SELECTOR…", "name the versions that devices have now, or had at a time", []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "as they were at this `TIME`, like 2026-11-16T09:00 or 2026-11-16; as they were last pulled if not said"},
			&cli.StringFlag{Name: "note", Usage: "`WHY`"},
			&cli.StringSliceFlag{Name: "check", Usage: "a `CHECK` made of its devices now, as often as wanted, to be made again afterwards: " + checkWords},
		}, 2, 100, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewSnapshot{Name: got[0], Selector: got[1:], Note: c.String("note")}
			if at := c.String("at"); at != "" {
				t, err := ref.ParseTime(at, here())
				if err != nil {
					return fmt.Errorf("--at: %w", err)
				}
				n.At = &t
			}
			x, err := s.AddSnapshot(ctx, n)
			if err != nil {
				return err
			}
			whole, err := s.Snapshot(ctx, x.Name)
			if err != nil {
				return err
			}
			a.print(c, x, func() {
				defer a.snapshotAge(whole, n.At != nil)
				a.s.printf("%s holds %s of %s. To put all of it back: magpie restore --snapshot %s\n", a.s.paint(strong, x.Name), count(x.Count, "version", "versions"), several(strings.Fields(x.Selector)), x.Name)
			})
			if checks := c.StringSlice("check"); len(checks) > 0 {
				j, err := s.Check(ctx, client.NewCheck{Selector: n.Selector, Checks: checks}, onceKey())
				if err != nil {
					return fmt.Errorf("the snapshot was made, its checks were not: %w", err)
				}
				return a.checked(ctx, c, s, j)
			}
			return nil
		}),
		a.do("show", "NAME", "the versions of a snapshot", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			x, err := s.Snapshot(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, x, func() {
				a.s.facts("snapshot", a.s.paint(strong, x.Name), "of", x.Selector, "made", fmt.Sprintf("%s %s by %s", when(x.MadeAt), zoneName(), x.MadeBy), "note", x.Note)
				a.s.printf("\n")
				list(a.s, x.Versions, nil, "device", "part", "number", "name", "seen_from", "seen_until")
			})
			return nil
		}),
		a.do("compare", "NAME|TIME [NAME|TIME]", "what differs between a snapshot and another, or a time, or now", nil, 1, 2, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			for i, word := range got {
				if at, err := ref.ParseTime(word, here()); err == nil {
					got[i] = at.UTC().Format(time.RFC3339Nano)
				}
			}
			d, err := s.CompareSnapshots(ctx, got[0], strings.Join(got[1:], ""))
			if err != nil {
				return err
			}
			a.print(c, d, func() {
				if len(d.Parts) > 0 {
					list(a.s, d.Parts, cells[client.PartDiff]{"device": func(p client.PartDiff) cell { return cell{p.Device, strong} }})
					p := d.Parts[0]
					if p.From > 0 && p.To > 0 {
						a.tell("See how: magpie diff %s/%s@%d @%d\n", p.Device, p.Part, p.From, p.To)
					}
				}
				a.s.printf("From %s to %s: %s, %d unchanged.\n", d.From, d.To, count(len(d.Parts), "part differs", "parts differ"), d.Same)
				if d.OldestAt != nil && time.Since(*d.OldestAt) > lately {
					a.s.printf("Now is as last pulled, %s the longest ago: %s. What changed since is not known.\n", d.Oldest, ago(d.OldestAt))
				}
			})
			if len(d.Parts) > 0 {
				return errDiffers
			}
			return nil
		}),
		a.do("remove", "NAME", "forget a snapshot; its versions stay", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			if err := s.RemoveSnapshot(ctx, got[0]); err != nil {
				return err
			}
			a.tell("forgotten; its versions stay\n")
			return nil
		}),
	}}
}

// lately is how long ago what was pulled need not be said.
const lately = 10 * time.Minute

// snapshotAge says how long ago what a snapshot holds was last seen to run; of one of an earlier time it does not.
func (a *app) snapshotAge(x client.Snapshot, earlier bool) {
	var oldest client.Version
	for _, v := range x.Versions {
		if oldest.Ref == "" || v.SeenUntil.Before(oldest.SeenUntil) {
			oldest = v
		}
	}
	if earlier || oldest.Ref == "" || time.Since(oldest.SeenUntil) < lately {
		return
	}
	a.s.printf("It is as last pulled, %s the longest ago: %s. To have what runs now: magpie pull %s, then a snapshot.\n",
		oldest.Device, ago(&oldest.SeenUntil), x.Selector)
}
