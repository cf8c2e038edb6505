package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

// deviceSweep has addresses looked at, and says what answered.
func (a *app) deviceSweep(ctx context.Context, c *cli.Command, s *client.Client, ranges []string) error {
	j, err := s.Discover(ctx, client.NewDiscovery{Ranges: ranges, Ways: c.StringSlice("over")})
	if err != nil {
		return err
	}
	if j, err = s.Watch(ctx, j.ID, nil, nil); err != nil {
		return err
	}
	if j.Outcome != "done" {
		return fmt.Errorf("the discovery ended %s: %s", j.Outcome, j.Summary)
	}
	a.tell("%s\n", j.Summary)
	return a.showProposals(ctx, c, s)
}

// showProposals lists what answered where no device is registered.
func (a *app) showProposals(ctx context.Context, c *cli.Command, s *client.Client) error {
	all, err := s.Proposals(ctx)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("Nothing is proposed. Look what answers: magpie device discover 192.0.2.0/26\n")
			return
		}
		list(a.s, all, cells[client.Proposal]{
			"says":        func(p client.Proposal) cell { return cell{p.Says, plain} },
			"fingerprint": func(p client.Proposal) cell { return cell{p.Fingerprint, faint} },
		})
		a.tell("Register one: magpie device add NAME --proposal %s --dialect DIALECT --user USER\n", all[0].ID)
	})
	return nil
}
