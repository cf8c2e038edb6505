package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) sheet() *cli.Command {
	return a.do("sheet", "REF", "a bootstrap sheet: the least to type at a unit's console so that the service can reach it, to be printed", []cli.Flag{
		&cli.BoolFlag{Name: "secrets", Usage: "with the secrets, which are hidden otherwise; written to the audit log"},
	}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := reference(got[0], "")
		if err != nil {
			return err
		}
		x, err := s.BootstrapSheet(ctx, r, c.Bool("secrets"))
		if err != nil {
			return err
		}
		a.print(c, x, func() { a.showSheet(x) })
		return nil
	})
}

func (a *app) showSheet(x client.BootstrapSheet) {
	a.s.printf("%s\n\n", a.s.paint(strong, "Bootstrap sheet for "+x.Device))
	a.s.facts("version", x.Target, "sought at", x.At, "signs in as", x.User)
	if x.File != nil {
		a.s.printf("\nThis family takes its configuration as a whole; there are no lines to type. Carry the file:\n\n")
		a.s.facts("write it", "magpie show "+x.Target+" > FILE", "part", x.File.Part, "size", count(x.File.Bytes, "byte", "bytes"), "SHA-256", x.File.SHA256)
		a.s.printf("\nThen let the service take over: magpie push %s (with --at ADDRESS while the unit has the maker's address).\n", x.Target)
		return
	}
	width := 0
	for _, l := range x.Lines {
		width = max(width, len([]rune(l.Text)))
	}
	a.s.printf("\n%s to type at the console, in this order:\n\n", count(len(x.Lines), "line", "lines"))
	for i, l := range x.Lines {
		text := l.Text
		if l.Why != "" {
			text += strings.Repeat(" ", width-len([]rune(l.Text))+2) + a.s.paint(faint, "("+l.Why+")")
		}
		a.s.printf("  %s  %s\n", a.s.paint(faint, fmt.Sprintf("%3d", i+1)), text)
	}
	if x.Untold {
		a.s.printf("\nNo line of it holds the address at which it is sought, so all that carry a way are listed; leave out what is not needed.\n")
	}
	if x.Hidden > 0 {
		a.s.printf("\nThe secrets of %s are hidden; with --secrets they are shown.\n", count(x.Hidden, "line", "lines"))
	}
	a.s.printf("\nThen let the service take over: magpie push %s (other hardware: magpie swap %s). It puts all of it there, and proves it.\n", x.Target, x.Device)
}
