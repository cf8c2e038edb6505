package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

// moving are the commands by which devices go from one service to another.
func (a *app) moving() []*cli.Command {
	return []*cli.Command{
		a.do("recipient", "", "to whom devices are sealed that are to be taken over here", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			to, err := s.OwnRecipient(ctx)
			if err == nil {
				a.print(c, client.OwnRecipient{Recipient: to}, func() { a.s.printf("%s\n", to) })
			}
			return err
		}),
		a.described(a.do("transfer-out", "SELECTOR…", "write devices out, with credentials and all versions, for another service", []cli.Flag{
			&cli.StringSliceFlag{Name: "recipient", Usage: "the other service's own `RECIPIENT`, which it says with: magpie device recipient", Required: true},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "`FILE` to write; named by the service in this folder if not said; - is standard output"},
		}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
			r, err := a.received(c.String("output"), "handing over", func(w receiver) (string, error) {
				return s.HandOver(ctx, client.NewHandOver{Selector: sel, Recipients: c.StringSlice("recipient")}, w)
			})
			if err == nil && r.name != "-" {
				a.tell("%s, %s; at the other service: magpie device transfer-in %[1]s --preview\nNothing was changed here: remove the devices once the other service looks after them.\n", r.name, bytesOf(r.size))
			}
			return err
		}), selecting),
		a.do("transfer-in", "FILE", "take in devices that another service transferred", []cli.Flag{
			&cli.BoolFlag{Name: "preview", Usage: "only say what would become of them"},
			&cli.StringSliceFlag{Name: "rename", Usage: "`THERE=HERE`: call a device otherwise here; as often as wanted"},
			&cli.StringSliceFlag{Name: "leave", Usage: "leave a `DEVICE` out; as often as wanted"},
		}, 1, 1, a.takeOver),
	}
}

func (a *app) takeOver(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	rename := map[string]string{}
	for _, pair := range c.StringSlice("rename") {
		was, is, ok := strings.Cut(pair, "=")
		if !ok {
			return fmt.Errorf("--rename %q names no device there and here; write it as THERE=HERE", pair)
		}
		rename[was] = is
	}
	f, err := os.Open(got[0])
	if err != nil {
		return err
	}
	defer f.Close()
	all, err := s.TakeOver(ctx, f, rename, c.StringSlice("leave"), c.Bool("preview"))
	if err != nil {
		return err
	}
	clash, come := 0, 0
	for _, x := range all {
		switch x.Becomes {
		case "clashes":
			clash++
		case "taken over":
			come++
		}
	}
	a.print(c, all, func() {
		list(a.s, all, cells[client.Coming]{
			"becomes": func(x client.Coming) cell {
				return cell{x.Becomes, map[string]string{"clashes": alarm, "taken over": calm}[x.Becomes]}
			},
			"why": func(x client.Coming) cell { return cell{x.Why, alarm} }})
		switch {
		case clash > 0:
			a.tell("%s: call them otherwise with --rename THERE=HERE, or leave them out with --leave. Nothing was taken.\n", count(clash, "name clashes", "names clash"))
		case c.Bool("preview"):
			a.tell("%s would be taken over. Nothing was taken.\n", count(come, "device", "devices"))
		default:
			a.tell("%s taken over. Pull them: magpie pull all\n", count(come, "device was", "devices were"))
		}
	})
	if clash > 0 {
		return errDiffers
	}
	return nil
}
