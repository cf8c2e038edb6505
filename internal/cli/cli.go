// Package cli is the command line: it talks to a service through the API's
// client and to the person at the terminal.
package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
	"magpie/internal/run"
	vouch "magpie/internal/trust"
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
	cli.HelpPrinterCustom = printHelp
	root := a.root()
	if len(args) > 1 {
		if named := root.Command(args[1]); named != nil { // setting the others up takes longer than many a command itself
			root.Commands = []*cli.Command{named}
		}
	}
	for _, group := range root.Commands {
		if group.Action == nil && len(group.Commands) > 0 {
			group.Action = func(_ context.Context, c *cli.Command) error {
				if c.Args().Len() > 0 {
					return unknown(c)
				}
				return cli.ShowSubcommandHelp(c)
			}
		}
	}
	err := root.Run(ctx, helped(root, args))
	if err == nil && a.s.whole.err != nil {
		err = fmt.Errorf("what was to be said could not be written: %w", a.s.whole.err)
	}
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errDiffers):
		return exitDiffers
	}
	fmt.Fprintf(a.s.err, "%s %v\n", a.s.paint(strong, "magpie:"), err)
	return exitTrouble
}

// helped lets --help stand anywhere: behind a device's name it asks for the same
// as before it.
func helped(root *cli.Command, args []string) []string {
	asks := false
	out, at := args[:1:1], root
	for _, a := range args[1:] {
		if a == "--" {
			break
		}
		asks = asks || a == "--help" || a == "-h"
		if sub := at.Command(a); sub != nil {
			out, at = append(out, a), sub
		}
	}
	if !asks {
		return args
	}
	return append(out, "--help")
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

		ConfigureShellCompletionCommand: a.shellCompletion,
		Suggest:                         true,
		HideVersion:                     false,
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, c *cli.Command, err error, _ bool) error {
			return fmt.Errorf("%w; see: %s --help", err, c.FullName())
		},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "the service's `ADDRESS`", Sources: cli.EnvVars("MAGPIE_URL")},
			&cli.BoolFlag{Name: "json", Usage: "print the API's own objects"},
			&cli.StringFlag{Name: "in-zone", Usage: "read and write times in this `ZONE`, like Atlantic/Faroe, instead of the system's", Sources: cli.EnvVars("MAGPIE_ZONE")},
		},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			if chosen = c.String("in-zone"); chosen == "" {
				return ctx, nil
			}
			zone, err := ref.Zone(chosen)
			if err != nil {
				return ctx, fmt.Errorf("--in-zone: %w", err)
			}
			time.Local = zone
			return ctx, nil
		},
		Commands: slices.Concat(
			in("look", a.status(), a.device(), a.versions(), a.show(), a.diff(), a.search(), a.changes(), a.drift(), a.acknowledge(), a.rule(), a.mark(), a.removeVersion(), a.edit()),
			in("put back", a.push(), a.swap(), a.restore(), a.snapshot(), a.check(), a.restoreTest(), a.job(), a.relay()),
			in("routine", a.pull(), a.trigger(), a.schedule(), a.notification(), a.recipient(), a.mail(), a.retention()),
			in("files", a.export(), a.takeIn(), a.target(), a.backup(), a.sheet(), a.worksheet()),
			in("access", a.login(), a.logout(), a.user(), a.token(), a.session(), a.approval(), a.credential(), a.audit()),
			in("service", a.serve(), a.demo(), a.dialect(), a.key(), a.man()),
		),
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return unknown(c)
			}
			return cli.ShowAppHelp(c)
		},
	}
}

// in puts commands under a heading of the help.
func in(heading string, commands ...*cli.Command) []*cli.Command {
	for _, c := range commands {
		c.Category = heading
	}
	return commands
}

// kept is what login leaves behind for later commands.
type kept struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	trust
}

// trust is how a service's certificate is made sure of, where it is not by the system's
// authorities.
type trust struct {
	CA          string `json:"ca,omitempty"`          // PEM
	Fingerprint string `json:"fingerprint,omitempty"` // SHA256:…, of the certificate itself
}

// trusted reads what a command or the environment says of that.
func trusted(file, fingerprint string) (t trust, err error) {
	if file == "" {
		file = os.Getenv("MAGPIE_CA_FILE")
	}
	t.Fingerprint = cmp.Or(fingerprint, os.Getenv("MAGPIE_FINGERPRINT"))
	t.CA, err = readIf(file, "")
	return t, err
}

// http returns a client that trusts so; nil: as usual.
func (t trust) http() (*http.Client, error) {
	if t.CA == "" && t.Fingerprint == "" {
		return nil, nil
	}
	c, err := vouch.Client(t.CA)
	if err != nil {
		return nil, err
	}
	if t.Fingerprint != "" { // this one certificate, whoever vouches for it
		c.InsecureSkipVerify = true
		c.VerifyConnection = func(s tls.ConnectionState) error {
			sum := sha256.Sum256(s.PeerCertificates[0].Raw)
			if got := "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:]); got != t.Fingerprint {
				return fmt.Errorf("the service shows another certificate, %s instead of %s; if it was renewed, sign in anew with its fingerprint, otherwise somebody is in between", got, t.Fingerprint)
			}
			return nil
		}
	}
	return &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: c, ForceAttemptHTTP2: true}}, nil
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
	said, err := trusted("", "")
	if err != nil {
		return nil, err
	}
	if said == (trust{}) && out.URL == k.URL {
		said = k.trust
	}
	if out.HTTP, err = said.http(); err != nil {
		return nil, err
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

// described gives a command a longer text of help.
func (a *app) described(c *cli.Command, text string) *cli.Command {
	c.Description = text
	return c
}

// selecting is what the help of each command says that takes a selector.
const selecting = "A selector is a device's name or a pattern of names (quay-*), or KEY=PATTERN with name, site, kind, tag, dialect, state, model, release or spare (yes, no). " +
	"Words of one key widen the choice, different keys narrow it: site=skerrinsay kind=switch kind=router. all is the whole fleet; nothing is not."

// args checks how many arguments there are.
func args(c *cli.Command, least, most int) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < least || most >= 0 && len(got) > most {
		return nil, fmt.Errorf("usage: %s %s", c.FullName(), c.ArgsUsage)
	}
	for i, word := range got { // as of a variable that nobody set: nothing is not everything
		if strings.TrimSpace(word) == "" {
			return nil, fmt.Errorf("argument %d is empty; nothing was done: the word for the whole fleet is all", i+1)
		}
	}
	return got, nil
}

// do makes a command whose action has the client at hand.
func (a *app) do(name, argsUsage, usage string, flags []cli.Flag, least, most int, run func(ctx context.Context, c *cli.Command, s *client.Client, args []string) error) *cli.Command {
	text := ""
	if strings.Contains(argsUsage, "SELECTOR") {
		text = selecting
	}
	return &cli.Command{Name: name, ArgsUsage: argsUsage, Usage: usage, Description: text, Flags: flags, ShellComplete: a.complete(argsUsage), Action: func(ctx context.Context, c *cli.Command) error {
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
