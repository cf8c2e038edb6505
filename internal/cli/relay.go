package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) relay() *cli.Command {
	return &cli.Command{Name: "relay", Usage: "lend this machine's network reach to the pushes of one device",
		Description: "For a unit that the service cannot reach yet, from a machine beside it: magpie relay open DEVICE --at ADDRESS",
		Commands: []*cli.Command{
			a.do("open", "DEVICE", "lend it, and say what is done with it, until Ctrl-C", []cli.Flag{
				&cli.StringFlag{Name: "at", Usage: "the unit is at this `ADDRESS`, HOST or HOST:PORT; the device's own if not said"},
				&cli.DurationFlag{Name: "for", Value: time.Hour, Usage: "for this `TIME` at most"},
			}, 1, 1, a.relayOpen),
			a.do("list", "", "the relays that are open", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
				all, err := s.Relays(ctx)
				if err != nil {
					return err
				}
				a.print(c, all, func() {
					if len(all) == 0 {
						a.s.printf("No relay is open. To lend the reach of a machine beside a unit, on that machine: magpie relay open DEVICE --at ADDRESS\n")
						return
					}
					list(a.s, all, nil)
				})
				return nil
			}),
		}}
}

func (a *app) relayOpen(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := client.NewRelay{Device: got[0], At: c.String("at"), For: c.Duration("for")}
	opened := false
	n.Opened = func(id string, reaches []string) {
		opened = true
		a.s.printf("relay %s is open for %s, until %s %s\n", a.s.paint(strong, id), got[0], when(time.Now().Add(n.For)), zoneName())
		a.s.printf("it connects to %s, and nowhere else\n", strings.Join(reaches, ", "))
		a.s.printf("now push through it, here or anywhere: magpie push %s --relay %s (or magpie swap)\n", got[0], id)
		a.s.printf("Ctrl-C ends it\n\n")
	}
	n.Used = func(address string, err error) {
		at := a.s.paint(faint, time.Now().In(zone()).Format("15:04:05"))
		if err != nil {
			a.s.printf("%s  %s: %s\n", at, address, a.s.paint(alarm, err.Error()))
			return
		}
		a.s.printf("%s  connected to %s\n", at, address)
	}
	err := s.Relay(ctx, n)
	switch {
	case err != nil && ctx.Err() == nil:
		return err
	case !opened && ctx.Err() == nil:
		return errors.New("the connection ended before the relay was open")
	case ctx.Err() == nil:
		return fmt.Errorf("the relay has ended: its time is over, or the service closed the connection")
	}
	a.tell("the relay is closed\n")
	return nil
}
