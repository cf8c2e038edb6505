// Package cli is the command line: it talks to a service through the API's
// client and to the person at the terminal.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/run"
)

// Exit statuses.
const (
	exitDone    = 0 // done, or the same
	exitDiffers = 1 // differs, drifted, or the device refused
	exitTrouble = 2 // wrong usage or trouble
)

// differs is returned by commands that worked and found a difference.
var errDiffers = errors.New("differs")

// Main runs the program and returns its exit status.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{s: newScreen()}
	err := a.root().Run(ctx, args)
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errDiffers):
		return exitDiffers
	}
	fmt.Fprintf(os.Stderr, "%s %v\n", a.s.paint(strong, "magpie:"), err)
	return exitTrouble
}

type app struct {
	s *screen
}

func (a *app) root() *cli.Command {
	return &cli.Command{
		Name:                  "magpie",
		Usage:                 "keeps the configurations of network devices, and puts them back",
		Version:               run.Version,
		EnableShellCompletion: true,
		Suggest:               true,
		HideVersion:           false,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, c *cli.Command, err error, _ bool) error {
			return fmt.Errorf("%w; see: %s --help", err, c.FullName())
		},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "the service's `ADDRESS`", Sources: cli.EnvVars("MAGPIE_URL")},
			&cli.BoolFlag{Name: "json", Usage: "print the API's own objects"},
		},
		Commands: []*cli.Command{
			a.serve(), a.demo(), a.login(), a.logout(), a.status(),
			a.device(), a.credential(), a.dialect(), a.pull(), a.versions(), a.show(), a.mark(), a.edit(), a.diff(), a.drift(), a.push(), a.swap(), a.restore(), a.snapshot(), a.drill(), a.relay(), a.sheet(), a.approval(),
			a.job(), a.user(), a.token(), a.audit(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return fmt.Errorf("there is no command %q; see: magpie --help", c.Args().First())
			}
			return cli.ShowAppHelp(c)
		},
	}
}

// kept is what login leaves behind for later commands.
type kept struct {
	URL   string `json:"url"`
	Token string `json:"token"`
}

func keptPath() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "magpie", "login.json"), err
}

// client returns the client of the service that is signed in to.
func (a *app) client(c *cli.Command) (*client.Client, error) {
	k := kept{}
	if path, err := keptPath(); err == nil {
		if raw, err := os.ReadFile(path); err == nil {
			if err := json.Unmarshal(raw, &k); err != nil {
				return nil, fmt.Errorf("%s cannot be read: %w; sign in anew: magpie login", path, err)
			}
		}
	}
	out := &client.Client{URL: k.URL, Token: k.Token}
	if u := c.String("url"); u != "" && u != k.URL {
		out.URL, out.Token = u, ""
	}
	if t := os.Getenv("MAGPIE_TOKEN"); t != "" {
		out.Token = t
	}
	if out.URL == "" {
		return nil, errors.New("no service is named; sign in first: magpie login http://ADDRESS:PORT (or set MAGPIE_URL and MAGPIE_TOKEN)")
	}
	return out, nil
}

// print writes v as JSON if that was asked for, else calls show.
func (a *app) print(c *cli.Command, v any, show func()) {
	if c.Bool("json") {
		enc := json.NewEncoder(a.s.out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		_ = enc.Encode(v)
		return
	}
	show()
}

// args checks how many arguments there are.
func args(c *cli.Command, least, most int) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < least || most >= 0 && len(got) > most {
		return nil, fmt.Errorf("usage: %s %s", c.FullName(), c.ArgsUsage)
	}
	return got, nil
}

// do makes a command whose action has the client at hand.
func (a *app) do(name, argsUsage, usage string, flags []cli.Flag, least, most int, run func(ctx context.Context, c *cli.Command, s *client.Client, args []string) error) *cli.Command {
	return &cli.Command{Name: name, ArgsUsage: argsUsage, Usage: usage, Flags: flags, Action: func(ctx context.Context, c *cli.Command) error {
		got, err := args(c, least, most)
		if err != nil {
			return err
		}
		s, err := a.client(c)
		if err != nil {
			return err
		}
		return run(ctx, c, s, got)
	}}
}
