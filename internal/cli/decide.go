package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

// What a person says to a job that waits.
var decisions = []struct{ word, does string }{
	{"confirm", "keep what a push did that waits to be confirmed; of a restore: of all its pushes"},
	{"undo", "undo a push now that waits; of a restore: all its pushes"},
	{"restart", "restart the device of a push that left the restart to later"},
	{"approve", "let a planned push go ahead: shows what would be sent, and asks"},
	{"decline", "call a planned push off"},
}

// decide are the commands that say something to a job.
func (a *app) decide() (out []*cli.Command) {
	for _, d := range decisions {
		flags := []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}
		out = append(out, a.do(d.word, "JOB", d.does, flags, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			return a.say(ctx, c, s, d.word, got[0])
		}))
	}
	return out
}

// sayOther says a word to a job that this program has no command for: the service
// knows what its kinds of jobs take.
func (a *app) sayOther(ctx context.Context, c *cli.Command) error {
	got := c.Args().Slice()
	if len(got) == 0 {
		return cli.ShowSubcommandHelp(c)
	}
	if len(got) != 2 || misspelt(c) != "" {
		return unknown(c)
	}
	s, err := a.client(c)
	if err != nil {
		return err
	}
	kinds, err := s.JobKinds(ctx)
	if err != nil {
		return err
	}
	for _, k := range kinds {
		for _, w := range k.Awaits {
			if slices.Contains(words(w), got[0]) {
				return a.say(ctx, c, s, got[0], got[1])
			}
		}
	}
	return unknown(c)
}

// words are what answers a thing that a job waits for.
func words(w client.JobAwait) (says []string) {
	for _, x := range w.Words {
		says = append(says, x.Say)
	}
	return says
}

// say says a word to a job, and follows what comes of it.
func (a *app) say(ctx context.Context, c *cli.Command, s *client.Client, word, id string) error {
	var j client.Job
	var err error
	if word == "approve" {
		j, err = a.approve(ctx, c, s, id)
	} else {
		j, err = s.Say(ctx, id, word, "")
	}
	switch {
	case err != nil:
		return err
	case j.Kind == "planned":
		return a.followPlan(ctx, c, s, j)
	case j.Kind == "push":
		return a.followPush(ctx, c, s, j)
	case j.Kind == "restore":
		return a.decidedAll(ctx, c, s, j.ID)
	}
	return a.jobWatch(ctx, c, s, []string{j.ID})
}

// jobKinds lists what the service can be asked for.
func (a *app) jobKinds(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	kinds, err := s.JobKinds(ctx)
	if err != nil {
		return err
	}
	a.print(c, kinds, func() {
		list(a.s, kinds, cells[client.JobKind]{
			"awaits": func(k client.JobKind) cell {
				var waits []string
				for _, w := range k.Awaits {
					waits = append(waits, fmt.Sprintf("%s (%s)", w.Means, strings.Join(words(w), ", ")))
				}
				return cell{strings.Join(waits, "; "), plain}
			},
			"asked": func(k client.JobKind) cell {
				if !k.Asked {
					return cell{}
				}
				return cell{"magpie job ask " + k.Name, faint}
			}})
	})
	return nil
}

// jobAsk asks for a job by its kind's name.
func (a *app) jobAsk(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := client.NewJob{Kind: got[0], With: map[string]any{}}
	if len(got) == 2 {
		n.Device = got[1]
	}
	for _, pair := range c.StringSlice("with") {
		k, v, ok := strings.Cut(pair, "=")
		if !ok {
			return fmt.Errorf("--with %s: write it as NAME=VALUE", pair)
		}
		n.With[k] = v
	}
	j, err := s.Ask(ctx, n, onceKey())
	if err != nil {
		return err
	}
	return a.jobWatch(ctx, c, s, []string{j.ID})
}

// unknown says that there is no such command, and which was meant.
func unknown(c *cli.Command) error {
	next := "see: " + c.FullName() + " --help"
	if meant := misspelt(c); meant != "" {
		next = meant
	}
	return fmt.Errorf("%s has no command %q; %s", c.FullName(), c.Args().First(), next)
}

// misspelt says which of its commands was meant by its first word; empty when none
// is near.
func misspelt(c *cli.Command) string {
	var names []string
	for _, sub := range c.VisibleCommands() {
		names = append(names, sub.Name)
	}
	return ref.Meant(c.Args().First(), names)
}
