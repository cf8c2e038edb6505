package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) retention() *cli.Command {
	return &cli.Command{Name: "retention", Usage: "for how long versions stay", Commands: []*cli.Command{
		a.do("list", "", "list the policies; the first that picks a device holds", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Retentions(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				list(a.s, all, cells[client.Retention]{
					"name": func(r client.Retention) cell { return cell{r.Name, strong} }})
				a.tell("Whatever they say, these stay: pinned, named, baselines, in a snapshot, the newest of a part, needed by a push under way.\n")
			})
			return nil
		}),
		a.do("set", "POLICY", "say for how long versions stay; what is not said is as it was, or as usual", []cli.Flag{
			&cli.StringFlag{Name: "of", Usage: "the devices of this `SELECTOR`; everything-else has none"},
			&cli.IntFlag{Name: "newest", Usage: "the newest `N` of those taken by themselves", HideDefault: true},
			&cli.IntFlag{Name: "by-hand", Usage: "the newest `N` of those that a person asked for", HideDefault: true},
			&cli.IntFlag{Name: "daily", Usage: "the last of each day, for `N` days", HideDefault: true},
			&cli.IntFlag{Name: "weekly", Usage: "the last of each week, for `N` weeks", HideDefault: true},
			&cli.IntFlag{Name: "monthly", Usage: "the last of each month, for `N` months", HideDefault: true},
			&cli.StringFlag{Name: "note", Usage: "`WHY`"},
		}, 1, 1, a.retentionSet),
		a.do("remove", "POLICY", "take a policy away; of everything-else: back to the usual one", nil, 1, 1, func(ctx context.Context, _ *cli.Command, s *client.Client, got []string) error {
			if err := s.RemoveRetention(ctx, got[0]); err != nil {
				return err
			}
			a.tell("removed; the next policy that picks its devices holds\n")
			return nil
		}),
		a.do("preview", "[SELECTOR…]", "which versions would be deleted now, and by what rule", nil, 0, 100, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
			p, err := s.PreviewRetention(ctx, sel)
			if err != nil {
				return err
			}
			a.print(c, p, func() {
				list(a.s, p.Items, cells[client.GoingVersion]{})
				if p.Go > len(p.Items) {
					a.s.printf("… and %d more\n", p.Go-len(p.Items))
				}
				a.tell("%s would be deleted, %d stay. Nothing was done.\n", count(p.Go, "version", "versions"), p.Stay)
			})
			return nil
		}),
		a.do("run", "", "delete what has had its time, now; once a day that is done by itself", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			return a.doJob(ctx, c, s, "retention", nil)
		}),
	}}
}

// retentionSet changes a policy, or makes one on the ground of the usual one.
func (a *app) retentionSet(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	all, err := s.Retentions(ctx)
	if err != nil {
		return err
	}
	usual := all[len(all)-1]
	n := client.NewRetention{Newest: usual.Newest, ByHand: usual.ByHand, Daily: usual.Daily, Weekly: usual.Weekly, Monthly: usual.Monthly}
	known := false
	for _, r := range all {
		if r.Name == got[0] {
			known = true
			n = client.NewRetention{Selector: r.Selector, Newest: r.Newest, ByHand: r.ByHand, Daily: r.Daily, Weekly: r.Weekly, Monthly: r.Monthly, Note: r.Note}
		}
	}
	if got[0] == usual.Name {
		n.Selector = nil
	} else if !known && c.String("of") == "" {
		return fmt.Errorf("a new policy needs --of SELECTOR: the devices that it is for")
	}
	if c.IsSet("of") {
		n.Selector = strings.Fields(c.String("of"))
	}
	for flag, into := range map[string]*int{"newest": &n.Newest, "by-hand": &n.ByHand, "daily": &n.Daily, "weekly": &n.Weekly, "monthly": &n.Monthly} {
		if c.IsSet(flag) {
			*into = c.Int(flag)
		}
	}
	if c.IsSet("note") {
		n.Note = c.String("note")
	}
	r, err := s.SetRetention(ctx, got[0], n)
	if err != nil {
		return err
	}
	a.print(c, r, func() {
		a.s.facts("policy", a.s.paint(strong, r.Name), "of", strings.Join(r.Selector, " "), "keeps", r.Says, "note", r.Note)
		a.tell("See what would go: magpie retention preview\n")
	})
	return nil
}
