package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

// checkWords is how a check is written, for people.
const checkWords = "tcp HOST:PORT; http URL [STATUS]; dns NAME [at SERVER]; ssh HOST[:PORT]; ping ADDRESS; from DEVICE ping ADDRESS; device NAME; children; state NAME"

func (a *app) check() *cli.Command {
	return a.described(a.do("check", "[SELECTOR…]", "look whether devices and what hangs on them answer, and compare with an earlier look", []cli.Flag{
		&cli.StringSliceFlag{Name: "check", Usage: "a `CHECK`, as often as wanted: " + checkWords},
		&cli.StringFlag{Name: "again", Usage: "the checks of this `JOB` once more; what was good then and is bad now is told"},
	}, 0, 100, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		n := client.NewCheck{Selector: sel, Checks: c.StringSlice("check"), Again: c.String("again")}
		if len(sel) == 0 && len(n.Checks) == 0 && n.Again == "" {
			return errors.New("name devices (magpie check site=callowmere), checks (--check 'tcp 10.0.0.1:53'), or an earlier look (--again JOB)")
		}
		j, err := s.Check(ctx, n, onceKey())
		if err != nil {
			return err
		}
		return a.checked(ctx, c, s, j)
	}), "Without --check each device is looked at for whether it takes connections. children and state are about each of the devices that are picked; the others are made once. "+
		"What comes of it is kept with the job. The exit status is 1 where a check is bad or could not be made, and with --again where one that was good is bad.")
}

// checked waits for checks and shows what came of them.
func (a *app) checked(ctx context.Context, c *cli.Command, s *client.Client, j client.Job) error {
	j, err := s.Watch(ctx, j.ID, nil, nil)
	if err != nil {
		return err
	}
	end, err := client.CheckEndOf(j)
	if err != nil {
		return err
	}
	wrong := j.Outcome != "done"
	for _, r := range end.Rows {
		wrong = wrong || r.Failed || end.Against == "" && (r.After == nil || !r.After.Good)
	}
	a.print(c, j, func() {
		rows := make([][]cell, len(end.Rows))
		for i, r := range end.Rows {
			rows[i] = []cell{{r.Device, strong}, {r.Check, plain}, finding(r.Before, false), finding(r.After, r.Failed), {r.After.Said, faint}}
			if end.Against == "" {
				rows[i] = append(rows[i][:2:2], rows[i][3:]...)
			}
		}
		head := []string{"device", "check", "was", "is", "it says"}
		if end.Against == "" {
			head = []string{"device", "check", "is", "it says"}
		}
		a.s.table(head, rows)
		a.s.printf("%s\n", j.Summary)
		a.s.printf("%s\n", a.s.paint(faint, "the same again later: magpie check --again "+j.ID))
	})
	if wrong {
		return errDiffers
	}
	return nil
}

// finding words what came of a check.
func finding(f *client.Finding, failed bool) cell {
	switch {
	case f == nil:
		return cell{"", plain}
	case !f.Known:
		return cell{"not known", faint}
	case f.Good:
		return cell{"good", calm}
	case failed:
		return cell{"bad", alarm}
	}
	return cell{"bad", removed}
}
