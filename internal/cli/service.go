package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/run"
)

func (a *app) tell(format string, args ...any) { fmt.Fprintf(a.s.err, format, args...) }

// logs sets up the service's own log, on standard error.
func logs(form string, level slog.Level) {
	how := &slog.HandlerOptions{Level: level}
	if form == "json" {
		slog.SetDefault(slog.New(slog.NewJSONHandler(os.Stderr, how)))
		return
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, how)))
}

// proven says when a backup was last proved.
func proven(at *time.Time) string {
	if at == nil {
		return "which was never proved: magpie backup test"
	}
	return "and last proved " + ago(at)
}

func (a *app) serve() *cli.Command {
	flags := []cli.Flag{&cli.StringFlag{Name: "config", Usage: "configuration `FILE` (YAML)"},
		&cli.BoolFlag{Name: "check", Usage: "only look whether it would come up so, and say what is in the way"}}
	for _, s := range run.Settings {
		switch {
		case s.Flag == "":
		case s.Yes():
			flags = append(flags, &cli.BoolFlag{Name: s.Flag, Usage: s.Usage})
		default:
			flags = append(flags, &cli.StringFlag{Name: s.Flag, Usage: s.Usage})
		}
	}
	return &cli.Command{
		Name: "serve", Usage: "run the service",
		Description: "Without a database setting the service starts a MariaDB server of its own in its data\nfolder. A database of yours is named in the configuration file or in MAGPIE_DATABASE.\nWhat flags say goes before the environment, and that before the file.",
		Flags:       flags,
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c, 0, 0); err != nil {
				return err
			}
			said := map[string]string{}
			for _, s := range run.Settings {
				if s.Flag != "" && c.IsSet(s.Flag) {
					said[s.Flag] = fmt.Sprint(c.Value(s.Flag))
				}
			}
			cfg, err := run.LoadConfig(c.String("config"), said)
			if err != nil {
				return err
			}
			if c.Bool("check") {
				found, err := run.Check(cfg)
				for _, line := range found {
					a.s.printf("%s\n", line)
				}
				return err
			}
			logs(cfg.Log, slog.LevelInfo)
			n, err := run.Prepare(ctx, cfg, a.tell)
			if err != nil {
				return err
			}
			defer n.Close()
			return n.Serve(ctx, func(url string) { a.tell("Steady Magpie %s is up at %s\n", run.Version, url) })
		},
	}
}

func (a *app) demo() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run the service with a simulated fleet and a history to look at",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8470", Usage: "`ADDRESS:PORT` to answer on"},
			&cli.StringFlag{Name: "data", Value: "demo", Usage: "`FOLDER` the demo keeps everything in"},
			&cli.IntFlag{Name: "routers", Aliases: []string{"devices"}, Value: 12, Usage: "how many routers a new demo has; switches, firewalls, gateways and a wireless controller with its access points come with them"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := args(c, 0, 0); err != nil {
				return err
			}
			logs("text", slog.LevelWarn)
			err := run.Demo(ctx, run.Config{Listen: c.String("listen"), Data: c.String("data"), Log: "text"}, c.Int("routers"), a.tell)
			if errors.Is(err, context.Canceled) && ctx.Err() != nil {
				err = nil
			}
			return err
		},
	}
}

func (a *app) login() *cli.Command {
	return &cli.Command{
		Name: "login", ArgsUsage: "[ADDRESS]", Usage: "sign in to a service",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "user", Usage: "user `NAME`"},
			&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_PASSWORD)"},
			&cli.StringFlag{Name: "code", Usage: "the one-time `CODE` that your device shows now, or a recovery code, if your sign-ins take one"},
			&cli.StringFlag{Name: "token-file", Usage: "`FILE` with a token that you made in the console, for who has no password here"},
			&cli.StringFlag{Name: "new-password-file", Usage: "`FILE` with the password to choose at a first sign-in (or set MAGPIE_NEW_PASSWORD)"},
			&cli.StringFlag{Name: "ca-file", Usage: "`FILE` with certificates that vouch for the service; the system's if not said"},
			&cli.StringFlag{Name: "fingerprint", Usage: "the service's own certificate, as it was shown at its start: `SHA256:…`"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			got, err := args(c, 0, 1)
			if err != nil {
				return err
			}
			s, err := a.client(c)
			if len(got) == 1 {
				s, err = &client.Client{URL: got[0]}, nil
			}
			if err != nil {
				return err
			}
			if !strings.Contains(s.URL, "://") {
				s.URL = "http://" + s.URL
			}
			s.Token = ""
			trust, err := trusted(c.String("ca-file"), c.String("fingerprint"))
			if err != nil {
				return err
			}
			if s.HTTP, err = trust.http(); err != nil {
				return err
			}
			if file := c.String("token-file"); file != "" {
				raw, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				s.Token = strings.TrimSpace(string(raw))
				me, err := s.Me(ctx)
				if err != nil {
					return err
				}
				return a.signedIn(c, s, trust, me, nil)
			}
			user := c.String("user")
			if user == "" {
				if user, err = a.s.ask(ctx, "User: "); err != nil {
					return fmt.Errorf("name the user with --user: %w", err)
				}
			}
			password, err := a.s.secret(ctx, "Password of "+user, "MAGPIE_PASSWORD", c.String("password-file"))
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			in := client.Login{User: user, Password: password, Name: "command line on " + host, Code: c.String("code")}
			g, err := s.Login(ctx, in)
			if p := new(client.Problem); errors.As(err, &p) && p.Field == "code" && in.Code == "" {
				if in.Code, err = a.s.ask(ctx, "The code that your device shows now: "); err != nil {
					return fmt.Errorf("this user's sign-ins take a one-time code; say it with --code: %w", err)
				}
				g, err = s.Login(ctx, in)
			}
			if unsure := new(tls.CertificateVerificationError); errors.As(err, &unsure) {
				return fmt.Errorf("%w; if the service made its certificate itself, say --fingerprint SHA256:… as it showed that at its start; otherwise --ca-file names who vouches for it", err)
			}
			if err != nil {
				return err
			}
			if s.Token = g.Token; g.Me.MustChange {
				a.tell("The password you have was given to you; choose one of your own.\n")
				if err := a.ownPassword(ctx, s, password, c.String("new-password-file"), ""); err != nil {
					return err
				}
			}
			return a.signedIn(c, s, trust, g.Me, &g.Expires)
		},
	}
}

// signedIn keeps by what the next commands sign in, and says as whom.
func (a *app) signedIn(c *cli.Command, s *client.Client, trust trust, me client.Me, until *time.Time) error {
	path, err := keptPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	raw, _ := json.Marshal(kept{s.URL, s.Token, trust})
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		return err
	}
	a.print(c, me, func() {
		secrets := "secrets are masked"
		if me.Secrets {
			secrets = "secrets are shown"
		}
		ends := ""
		if until != nil {
			ends = fmt.Sprintf(", until %s %s", when(*until), zoneName())
		}
		a.s.printf("Signed in to %s as %s (%s; %s)%s.\n", s.URL, me.User, me.Role, secrets, ends)
	})
	return nil
}

func (a *app) logout() *cli.Command {
	return a.do("logout", "", "sign out and forget the token", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
		path, err := keptPath()
		if err != nil {
			return err
		}
		ended := s.Logout(ctx)
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		if ended != nil && !client.IsStatus(ended, 401) {
			return fmt.Errorf("the token is forgotten here, but the service could not be told: %w", ended)
		}
		a.s.printf("Signed out.\n")
		return nil
	})
}

func (a *app) status() *cli.Command {
	return a.do("status", "", "how the fleet is: what needs a look, worst first", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
		st, err := s.Status(ctx)
		if err != nil {
			return err
		}
		a.print(c, st, func() {
			if st.AsOf != nil {
				a.s.printf("%s this was so %s (%s %s)\n", a.s.paint(alarm, "The service's database is away;"), ago(st.AsOf), when(*st.AsOf), zoneName())
			}
			var states []string
			for _, name := range st.Order {
				if n := st.States[name]; n > 0 {
					states = append(states, a.s.paint(stateStyle(name), fmt.Sprintf("%d %s", n, name)))
				}
			}
			if st.Disabled > 0 {
				states = append(states, a.s.paint(faint, fmt.Sprintf("%d disabled", st.Disabled)))
			}
			a.s.printf("%s: %s\n", count(st.Devices, "device", "devices"), strings.Join(states, ", "))
			var work []string
			for _, w := range []struct {
				n    int
				word string
			}{{st.Running, "running"}, {st.Queued, "queued"}, {st.Waiting, "waiting"}} {
				if w.n > 0 {
					work = append(work, fmt.Sprintf("%d %s", w.n, w.word))
				}
			}
			if len(work) > 0 {
				a.s.printf("jobs: %s\n", strings.Join(work, ", "))
			}
			a.s.printf("%s kept, %s packed and sealed\n", count(int(st.Contents), "text", "texts"), size(st.Bytes))
			if st.Halted != "" {
				a.s.printf("%s\n", a.s.paint(alarm, st.Halted))
			}
			if st.FullIn != nil && *st.FullIn < 90 {
				a.s.printf("%s\n", a.s.paint(alarm, fmt.Sprintf("the disk is full in %s, as things went lately", count(*st.FullIn, "day", "days"))))
			}
			if len(st.Failing) > 0 {
				a.s.printf("%s\n", a.s.paint(alarm, "copies wait for "+strings.Join(st.Failing, ", ")+"; see: magpie target list"))
			}
			if st.BackupAt != nil {
				a.s.printf("the service was backed up %s, %s\n", ago(st.BackupAt), proven(st.ProvenAt))
			}
			if st.Damaged > 0 {
				a.s.printf("%s\n", a.s.paint(alarm, fmt.Sprintf("%s not read back as they were kept; see: magpie job list --kind scrub", count(st.Damaged, "text does", "texts do"))))
			}
			if st.SheetDue {
				a.s.printf("%s\n", a.s.paint(alarm, "no recovery sheet of the master key was verified yet;\non the service's machine: magpie key sheet, then magpie key verify"))
			}
			if n := st.Untold + st.GivenUp; n > 0 {
				a.s.printf("%s\n", a.s.paint(alarm, fmt.Sprintf("people were not told: %d wait, %d failed; see: magpie notification messages", st.Untold, st.GivenUp)))
			}
			if len(st.Attend) == 0 {
				return
			}
			for _, g := range st.Alike {
				a.s.printf("%s\n", a.s.paint(alarm, alike(g)))
			}
			a.s.printf("\n")
			list(a.s, st.Attend, cells[client.Device]{
				"state":   func(d client.Device) cell { return cell{stateWord(d), stateStyle(d.State)} },
				"name":    func(d client.Device) cell { return cell{d.Name, strong} },
				"trouble": func(d client.Device) cell { return cell{next(d), plain} }}, "state", "name", "site", "last_pulled", "trouble")
		})
		return nil
	})
}

// alike says in one sentence what many devices have in common.
func alike(g client.Alike) string {
	where, since := "", "; none was ever pulled"
	if g.Site != "" {
		where = " at " + g.Site
	}
	if g.Since != nil {
		since = fmt.Sprintf(" since %s %s", when(*g.Since), zoneName())
	} else if g.LastPulled != nil {
		since = fmt.Sprintf("; none was pulled since %s %s", when(*g.LastPulled), zoneName())
	}
	return fmt.Sprintf("%s%s %s: %s%s", count(len(g.Devices), "device", "devices"), where, g.State, g.Says, since)
}

// stateWord is a device's state, with "unsaved" beside a worse one.
func stateWord(d client.Device) string {
	switch {
	case d.Disabled:
		return "disabled"
	case d.Apart != nil && d.State == "drifted":
		return "drifted, " + d.Apart.Word
	case d.State == "in sync" && d.Acknowledged != nil:
		return "in sync, drift acknowledged"
	case d.Apart != nil && d.State == "unsaved":
		return d.Apart.Word
	}
	return d.State
}

// next says what somebody would do about a device's state.
func next(d client.Device) string {
	switch d.State {
	case "drifted":
		return "magpie drift " + d.Name
	case "in sync":
		if d.Acknowledged != nil {
			return "until " + when(*d.Acknowledged) + " " + zoneName() + ": magpie drift " + d.Name
		}
	case "unsaved":
		if a := d.Apart; a != nil && a.Follows != "running" {
			return fmt.Sprintf("magpie diff %[1]s/%[2]s %[1]s/%[3]s", d.Name, a.Part, a.Follows)
		}
		return fmt.Sprintf("magpie diff %[1]s/startup %[1]s", d.Name)
	case "never pulled":
		return "magpie pull " + d.Name
	case "login refused":
		return fmt.Sprintf("magpie device edit %s --password, or --retry-login", d.Name)
	}
	return strings.TrimPrefix(d.Trouble, d.State+": ")
}

// size prints a number of bytes.
func size(n int64) string {
	if n < 1<<20 {
		return fmt.Sprintf("%d KiB", (n+1023)>>10)
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}
