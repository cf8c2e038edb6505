package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/dialect"
)

func (a *app) dialect() *cli.Command {
	return &cli.Command{Name: "dialect", Usage: "how families of devices are spoken to", Commands: []*cli.Command{
		a.do("list", "", "list dialects", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Dialects(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				list(a.s, all, nil)
			})
			return nil
		}),
		a.do("show", "DIALECT", "print a dialect file", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			d, err := s.Dialect(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, d, func() { a.s.printf("%s", d.Source) })
			return nil
		}),
		{Name: "check", ArgsUsage: "FILE…", Usage: "check dialect files; needs no service", Action: func(ctx context.Context, c *cli.Command) error {
			files, err := args(c, 1, -1)
			if err != nil {
				return err
			}
			found, unsound := dialect.Problems{}, false
			for _, f := range files {
				raw, err := os.ReadFile(f)
				if err != nil {
					return err
				}
				d, err := dialect.Load(f, raw)
				if err != nil {
					found = append(found, err.(dialect.Problems)...)
					unsound = true
					continue
				}
				found = append(found, d.Doubts...)
				if !c.Bool("json") {
					a.s.printf("%s: sound; dialect %s, %s, %s\n", f, d.Dialect, count(len(d.Rules), "rule", "rules"), count(len(d.Parts), "part", "parts"))
					gone := d.LetsGo()
					if len(gone) == 0 {
						a.s.printf("  every difference counts\n")
					} else {
						a.s.printf("  every difference counts, but not:\n")
					}
					for _, g := range gone {
						a.s.printf("    %s\n", a.s.paint(faint, g))
					}
				}
			}
			a.print(c, found, func() {
				for _, p := range found {
					a.s.printf("%s\n", p)
				}
			})
			if unsound {
				return errDiffers
			}
			return nil
		}},
		{Name: "explain", ArgsUsage: "FILE LINE", Usage: "how a line is read and changed; needs no service. Blocks around it stand before it, joined by \" / \"",
			Action: a.dialectExplain},
		a.do("learn", "DIALECT", "draft the rules of a dialect: from versions, from logs of typed sessions, and from experiments on a unit that nobody needs", []cli.Flag{
			&cli.StringSliceFlag{Name: "of", Usage: "`DEVICES` whose versions are read, as a selector; as often as wanted"},
			&cli.StringFlag{Name: "on", Usage: "a `DEVICE` that shows its YANG modules, or that things may be tried out at"},
			&cli.StringSliceFlag{Name: "log", Usage: "`FILE` with a log of a typed session; as often as wanted"},
			&cli.BoolFlag{Name: "experiment", Usage: "type lines at that device to see what they do; each experiment is undone, and what ran before is proved to run again"},
			&cli.IntFlag{Name: "most", HideDefault: true, Usage: "type `N` lines at most; 2,000 if not said"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write the draft to `FILE`, which must not exist yet"},
			&cli.StringFlag{Name: "note", Usage: "`WHY`, kept in the audit log"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		}, 1, 1, a.dialectLearn),
		a.do("load", "FILE", "check a dialect file and take it into use, on every instance", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			raw, err := os.ReadFile(got[0])
			if err != nil {
				return err
			}
			d, err := s.LoadDialect(ctx, filepath.Base(got[0]), string(raw))
			if err != nil {
				return err
			}
			a.print(c, d, func() { a.s.printf("%s is in use, revision %d.\n", d.Name, d.Revision) })
			return nil
		}),
		a.do("try", "FILE", "run a dialect file against a live device, step by step; changes nothing, keeps nothing", []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "host `NAME` or IP address", Required: true},
			&cli.IntFlag{Name: "port", Usage: "TCP `PORT`", HideDefault: true},
			&cli.StringFlag{Name: "transport", Usage: "`WAY` to speak to it, where the dialect knows several"},
			&cli.StringSliceFlag{Name: "file-port", Usage: "`PROTOCOL=PORT` for moving files, like tftp=6969"},
			&cli.StringFlag{Name: "user", Usage: "user `NAME` to sign in with", Required: true},
			&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_DEVICE_PASSWORD)"},
			&cli.StringFlag{Name: "key-file", Usage: "`FILE` with a private key to sign in with"},
			&cli.StringFlag{Name: "privileged-secret-file", Usage: "`FILE` that holds the privileged mode's secret (or set MAGPIE_DEVICE_PRIVILEGED_SECRET)"},
			&cli.StringFlag{Name: "passphrase-file", Usage: "`FILE` that holds what archives are to be encrypted under (or set MAGPIE_DEVICE_PASSPHRASE)"},
			&cli.StringFlag{Name: "accept-key", Usage: "accept the host key with this `FINGERPRINT` without asking"},
		}, 1, 1, a.dialectTry),
	}}
}

func (a *app) dialectTry(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	raw, err := os.ReadFile(got[0])
	if err != nil {
		return err
	}
	d, err := dialect.Load(filepath.Base(got[0]), raw)
	if err != nil {
		return fmt.Errorf("the file is not sound yet:\n%w", err)
	}
	n := fromFlags(c)
	way, ok := d.Way(n.Transport)
	if !ok {
		return fmt.Errorf("the dialect does not speak %s", n.Transport)
	}
	if n.Port == 0 {
		n.Port = way.Port
	}
	if way.Transport != dialect.Telnet && way.Transport != dialect.HTTP {
		p, err := s.Probe(ctx, way.Transport, n.Address, n.Port)
		if err != nil {
			return err
		}
		if err := a.acceptKey(ctx, p, c.String("accept-key"), ""); err != nil {
			return err
		}
		n.HostKey = p.HostKey
	}
	if err := a.secrets(ctx, c, &n, true, d.Raised()); err != nil {
		return err
	}
	t, err := s.TryDialect(ctx, client.DialectTrial{Source: string(raw), Device: n})
	if err != nil {
		return err
	}
	a.print(c, t, func() { a.showTrial(t) })
	for _, p := range t.Tried.Parts {
		if p.Trouble != "" {
			return errDiffers
		}
	}
	if t.Trouble != "" {
		return errDiffers
	}
	return nil
}

// dialectLearn drafts rules, and shows or keeps the draft.
func (a *app) dialectLearn(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := client.NewLearn{Of: c.StringSlice("of"), On: c.String("on"), Experiment: c.Bool("experiment"), Most: c.Int("most"), Note: c.String("note")}
	if file := c.String("output"); file != "" {
		if _, err := os.Lstat(file); err == nil {
			return fmt.Errorf("%s is there already; nothing was asked", file)
		}
	}
	for _, f := range c.StringSlice("log") {
		raw, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		n.Logs = append(n.Logs, string(raw))
	}
	if n.Experiment && !c.Bool("yes") {
		name, err := a.s.ask(ctx, fmt.Sprintf("For a while lines are typed at %s and taken back, among them its addresses and names; nobody may need it meanwhile. Type its name to go ahead: ", n.On))
		if err != nil {
			return fmt.Errorf("%w; give --yes", err)
		}
		if name != n.On {
			a.tell("nothing was typed\n")
			return errDiffers
		}
	}
	j, err := s.Learn(ctx, got[0], n, onceKey())
	if err != nil {
		return err
	}
	seen := a.logLine
	if c.Bool("json") {
		seen = nil
	}
	if j, err = s.Watch(ctx, j.ID, seen, nil); err != nil {
		return fmt.Errorf("%w\nit goes on without this terminal; follow it: magpie job watch %s", err, j.ID)
	}
	draft := ""
	if j.Learned != nil {
		draft = j.Learned.Draft
	}
	if file := c.String("output"); file != "" && draft != "" {
		if err := writeNew(file, draft); err != nil {
			a.s.printf("\n%s", draft)
			return err
		}
	}
	a.print(c, j, func() {
		if c.String("output") == "" && draft != "" {
			a.s.printf("\n%s", draft)
		}
		a.s.printf("\n%s: %s\n", a.s.paint(stateStyle(j.Outcome), j.Outcome), j.Summary)
		if file := c.String("output"); file != "" && draft != "" {
			a.s.printf("the draft is in %s; read it, and put it into the dialect file in place of its rules\n", file)
		}
	})
	if j.Outcome != "done" {
		return errDiffers
	}
	return nil
}

// showTrial shows what was said to a device, and where it went wrong.
func (a *app) showTrial(t client.DialectTried) {
	for _, p := range t.Problems {
		a.s.printf("line %d column %d: %s: %s\n", p.Line, p.Column, p.Path, p.Text)
	}
	for i, x := range t.Exchanges {
		mark, style := "ok", faint
		if x.Trouble != "" {
			mark, style = "no", alarm
		}
		a.s.printf("%s %s  %s\n", a.s.paint(style, fmt.Sprintf("%2d %s", i+1, mark)), a.s.paint(strong, x.Sent), a.s.paint(faint, fmt.Sprintf("%d ms", x.MS)))
		lines := strings.Split(strings.TrimRight(x.Answer, "\n"), "\n")
		const most = 12
		for j, l := range lines {
			if len(lines) > most+4 && j == most-4 {
				a.s.printf("      %s\n", a.s.paint(faint, fmt.Sprintf("… %d lines more …", len(lines)-most)))
			}
			if len(lines) <= most+4 || j < most-4 || j >= len(lines)-4 {
				a.s.printf("      %s\n", l)
			}
		}
		if x.Trouble != "" {
			a.s.printf("      %s\n", a.s.paint(alarm, x.Trouble))
		}
	}
	if t.Tried.Serial != "" {
		a.s.printf("\n")
		said := []string{"host name", t.Tried.Host, "model", t.Tried.Model, "serial", t.Tried.Serial, "release", t.Tried.Release, "devices it speaks for", strings.Join(t.Tried.Members, ", ")}
		for _, p := range t.Tried.Parts {
			what := count(p.Lines, "line", "lines") + ", complete"
			switch {
			case p.Trouble != "":
				what = a.s.paint(alarm, p.Trouble)
			case p.Absent:
				what = "the device has none"
			case p.Lines == 0:
				what = fmt.Sprintf("%d bytes, complete", p.Bytes)
			}
			if p.Unread > 0 {
				what += "\n" + a.s.paint(alarm, count(p.Unread, "line", "lines")+" that the grammar cannot read; "+p.FirstUnread)
			}
			if p.Clashes > 0 {
				what += "\n" + a.s.paint(alarm, count(p.Clashes, "line", "lines")+" that a rule takes for another; the first: "+p.FirstClash)
			}
			if p.Unruled > 0 {
				what += "\n" + count(p.Unruled, "line", "lines") + " that no rule speaks of; the first: " + p.FirstUnruled
			}
			said = append(said, "part "+p.Name, what)
		}
		a.s.facts(said...)
	}
	if t.Trouble != "" {
		a.s.printf("\n%s %s\n", a.s.paint(alarm, "stopped:"), t.Trouble)
	}
	for _, w := range t.Tried.Warnings {
		a.s.printf("note: %s\n", w)
	}
}

// dialectExplain tells how a dialect file reads a line.
func (a *app) dialectExplain(_ context.Context, c *cli.Command) error {
	got, err := args(c, 2, 2)
	if err != nil {
		return err
	}
	raw, err := os.ReadFile(got[0])
	if err != nil {
		return err
	}
	d, err := dialect.Load(got[0], raw)
	if err != nil {
		return err
	}
	read, err := d.Explain(got[1])
	if err != nil {
		return err
	}
	a.print(c, read, func() {
		for i, e := range read {
			rule := e.Rule
			if rule == "" {
				rule = "none"
			}
			a.s.printf("%s%s  %s\n", strings.Repeat("  ", i), a.s.paint(strong, e.Line), a.s.paint(faint, "rule: "+rule))
		}
		e := read[len(read)-1]
		var captures []string
		for _, p := range e.Captures {
			captures = append(captures, p[0]+" = "+p[1])
		}
		none := func(lines []string) string {
			switch {
			case len(lines) == 0 && e.Trouble != "":
				return ""
			case len(lines) == 0:
				return "nothing is typed"
			}
			return strings.Join(lines, "\n")
		}
		a.s.printf("\n")
		a.s.facts("told by", e.Identity, "value", e.Value, "captures", strings.Join(captures, ", "), "which says", strings.Join(e.Says, "\n"),
			"to add", none(e.Add), "to remove", none(e.Remove), "note", e.Trouble)
	})
	return nil
}
