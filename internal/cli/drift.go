package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

func (a *app) drift() *cli.Command {
	return a.do("drift", "[SELECTOR…]", "judge devices against their baselines and the rules for their lines", []cli.Flag{
		&cli.BoolFlag{Name: "live", Usage: "look at the devices now, instead of at their newest versions"},
		&cli.StringFlag{Name: "report", Usage: "write a report instead, with what changed in a span of time: `FORM` html, csv or json"},
		&cli.StringFlag{Name: "since", Usage: "the report's span begins at this `TIME`; a week ago if not said"},
		&cli.StringFlag{Name: "until", Usage: "the report's span ends at this `TIME`; now if not said"},
	}, 0, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		if as := c.String("report"); as != "" {
			return a.driftReport(ctx, c, s, sel, as)
		}
		if c.IsSet("since") || c.IsSet("until") {
			return fmt.Errorf("--since and --until are the span of a report: --report html")
		}
		all, err := s.Drift(ctx, sel, c.Bool("live"))
		if err != nil {
			return err
		}
		drifted, unknown := 0, 0
		for _, d := range all {
			switch {
			case d.State == "drifted" && d.Known == nil:
				drifted++
			case d.State == "not known":
				unknown++
			}
		}
		a.print(c, all, func() { a.showDrift(all, drifted) })
		switch {
		case drifted > 0:
			return errDiffers
		case unknown > 0:
			return fmt.Errorf("%s could not be judged", count(unknown, "device", "devices"))
		}
		return nil
	})
}

func (a *app) showDrift(all []client.Drift, drifted int) {
	var others []client.Drift
	for _, d := range all {
		if d.State != "drifted" {
			others = append(others, d)
			continue
		}
		off, rules := d.Off()
		added := d.Baseline == "" && strings.Contains(d.Part, "+")
		switch head := a.s.paint(strong, d.Device) + "  " + a.s.paint(stateStyle(d.State), "drifted") + ":"; {
		case d.Running == "":
			a.s.printf("%s %s has no %s any more\n", head, d.Device, d.Part)
		case added:
			a.s.printf("%s %s is not in its baseline\n", head, d.Running)
		default:
			a.s.printf("%s %s runs %s off %s\n", head, d.Running, count(len(d.Differences), "line", "lines"), off)
		}
		if k := d.Known; k != nil {
			a.s.printf("  %s\n", a.s.paint(faint, fmt.Sprintf("acknowledged by %s until %s %s: %s", k.By, when(k.Until), zoneName(), k.Reason)))
		}
		if d.Since != nil {
			a.s.printf("  %s\n", a.s.paint(faint, cameIn(*d.Since)))
		}
		a.residuals(d.Differences)
		if l := left(d); l != "" {
			a.s.printf("  %s\n", a.s.paint(faint, l))
		}
		switch {
		case d.Running == "":
			a.s.printf("  see it: magpie show %s    put it right: magpie push %s\n", d.Baseline, d.Baseline)
		case added:
			a.s.printf("  see it: magpie show %s    take it away: magpie push %s@baseline    approve it: magpie mark %[1]s --baseline\n", d.Running, d.Device)
		case rules:
			a.s.printf("  which rules: magpie rule list\n")
		default:
			a.s.printf("  see it: magpie diff %s %s    put it right: magpie push %s\n", d.Baseline, d.Running, d.Baseline)
		}
		a.s.printf("\n")
	}
	if len(others) > 0 {
		list(a.s, others, cells[client.Drift]{
			"state":    func(d client.Drift) cell { return cell{d.State, stateStyle(d.State)} },
			"baseline": func(d client.Drift) cell { return cell{d.Baseline, faint} }})
	}
	if len(all) == 0 {
		a.s.printf("No device is in that state.\n")
	}
}

// driftReport writes a report out as it comes.
func (a *app) driftReport(ctx context.Context, c *cli.Command, s *client.Client, sel []string, as string) error {
	if c.Bool("live") {
		return fmt.Errorf("a report is of what was pulled last; pull first, and leave --live out")
	}
	since, err := spanTime(c, "since")
	if err != nil {
		return err
	}
	until, err := spanTime(c, "until")
	if err != nil {
		return err
	}
	text, err := s.DriftReport(ctx, sel, as, since, until)
	if err == nil {
		a.s.text(text)
	}
	return err
}

// left says what was left aside in judging.
func left(d client.Drift) string {
	var out []string
	if d.Ignored > 0 {
		out = append(out, count(d.Ignored, "line", "lines")+" ignored by rules: magpie rule list")
	}
	if d.Unsure > 0 {
		out = append(out, count(d.Unsure, "line", "lines")+" with secrets could not be wholly compared")
	}
	if gone := letGo(d.LetGo); gone != "" {
		out = append(out, "the dialect lets go: "+gone)
	}
	return strings.Join(out, "; ")
}

func (a *app) acknowledge() *cli.Command {
	return a.do("acknowledge", "SELECTOR…", "say that drift is known, until a time; other lines that differ are drift all the same", []cli.Flag{
		&cli.StringFlag{Name: "until", Usage: "the `TIME` at which it counts again, like 2026-12-24 or 14d"},
		&cli.StringFlag{Name: "note", Usage: "`WHY` it may stay as it is until then"},
		&cli.BoolFlag{Name: "withdraw", Usage: "have it count again now"},
	}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		var out client.Acknowledged
		var err error
		if c.Bool("withdraw") {
			if c.IsSet("until") || c.IsSet("note") {
				return fmt.Errorf("--withdraw goes alone")
			}
			out, err = s.Unacknowledge(ctx, sel)
		} else {
			n := client.NewAcknowledgement{Selector: sel, Reason: c.String("note")}
			if c.String("until") == "" || n.Reason == "" {
				return fmt.Errorf("say until when, and why: --until 14d --note WHY")
			}
			if n.Until, err = ref.ParseUntil(c.String("until"), here()); err != nil {
				return fmt.Errorf("--until: %w", err)
			}
			out, err = s.Acknowledge(ctx, n)
		}
		if err != nil {
			return err
		}
		a.print(c, out, func() {
			for _, p := range out.Parts {
				a.s.printf("%s\n", p)
			}
			for _, k := range out.Skipped {
				a.tell("%s: left as it was: %s\n", k.Device, k.Why)
			}
			what := "acknowledged"
			if c.Bool("withdraw") {
				what = "judged again"
			}
			a.tell("%s %s\n", count(len(out.Parts), "part is", "parts are"), what)
		})
		if len(out.Parts) == 0 {
			return errDiffers
		}
		return nil
	})
}

func (a *app) rule() *cli.Command {
	return &cli.Command{Name: "rule", Usage: "what people say of lines: ignored, required, forbidden", Commands: []*cli.Command{
		a.do("list", "", "list the rules", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Rules(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				list(a.s, all, cells[client.Rule]{
					"name": func(r client.Rule) cell { return cell{r.Name, strong} }})
				if len(all) == 0 {
					a.s.printf("There is none. One is made like this: magpie rule set no-old-clock --forbidden 'clock / mark 192.0.2.9' --of kind=router\n")
				}
			})
			return nil
		}),
		a.do("show", "RULE", "show a rule with the lines that it hides, misses or does not want now", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			f, err := s.Rule(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, f, func() { a.showOwnRule(f) })
			return nil
		}),
		a.do("set", "RULE", "say of lines that they do not count, have to be there, or must not", []cli.Flag{
			&cli.StringFlag{Name: "ignored", Usage: "lines on this `PATH` do not count, in comparisons and for drift"},
			&cli.StringFlag{Name: "required", Usage: "each block on this `PATH` has to have the line at its end"},
			&cli.StringFlag{Name: "forbidden", Usage: "there must be no line on this `PATH`"},
			&cli.StringFlag{Name: "per-device", Usage: "lines on this `PATH` differ from device to device: where two are compared they do not count"},
			&cli.StringFlag{Name: "template", Usage: "all lines of the text in this `FILE` have to be there; {{name}} stands for what is written down of a device"},
			&cli.StringFlag{Name: "of", Usage: "the devices of this `SELECTOR`"},
			&cli.StringFlag{Name: "dialect", Usage: "the `DIALECT` in whose words the path is, where the devices have several"},
			&cli.StringFlag{Name: "note", Usage: "`WHY`"},
		}, 1, 1, a.ruleSet),
		a.do("remove", "RULE", "take a rule away", nil, 1, 1, func(ctx context.Context, _ *cli.Command, s *client.Client, got []string) error {
			if err := s.RemoveRule(ctx, got[0]); err != nil {
				return err
			}
			a.tell("removed; its devices are judged anew\n")
			return nil
		}),
	}}
}

func (a *app) ruleSet(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := client.NewRule{Selector: strings.Fields(c.String("of")), Dialect: c.String("dialect"), Note: c.String("note")}
	for _, kind := range []string{"ignored", "required", "forbidden", "per-device", "template"} {
		if !c.IsSet(kind) {
			continue
		}
		if n.Kind != "" {
			return fmt.Errorf("a rule says one thing: --%s or --%s", n.Kind, kind)
		}
		n.Kind, n.Path = kind, c.String(kind)
	}
	if n.Kind == "template" {
		raw, err := os.ReadFile(n.Path)
		if err != nil {
			return err
		}
		n.Path, n.Text = "", string(raw)
	}
	switch {
	case n.Kind == "":
		return fmt.Errorf("say what the rule is: --ignored, --required, --forbidden or --per-device PATH, or --model FILE")
	case len(n.Selector) == 0:
		return fmt.Errorf("say for which devices: --of SELECTOR, or --of all")
	}
	r, err := s.SetRule(ctx, got[0], n)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		a.print(c, r, nil)
		return nil
	}
	if _, err := s.Watch(ctx, r.Job, nil, nil); err != nil {
		return err
	}
	f, err := s.Rule(ctx, r.Name)
	if err == nil {
		a.showOwnRule(f)
	}
	return err
}

func (a *app) showOwnRule(f client.RuleFinds) {
	r := f.Rule
	a.s.facts("rule", a.s.paint(strong, r.Name), "says", map[string]string{"ignored": "these lines do not count", "required": "these lines have to be there", "forbidden": "these lines must not be there", "per-device": "these lines differ from device to device", "template": "all lines of this text have to be there"}[r.Kind],
		"lines", r.Path, "of", strings.Join(r.Selector, " ")+", "+r.Dialect, "note", r.Note, "by", r.ChangedBy+", "+when(r.ChangedAt)+" "+zoneName())
	if f.Text != "" {
		if len(f.Variables) > 0 {
			a.s.printf("%s %s\n", a.s.paint(faint, "variables"), strings.Join(f.Variables, ", "))
		}
		a.s.printf("\n")
		a.s.text(strings.TrimSuffix(f.Text, "\n") + "\n")
	}
	if len(f.Items) > 0 {
		a.s.printf("\n")
		list(a.s, f.Items, cells[client.RuleLine]{"line": func(l client.RuleLine) cell {
			if l.Lacks {
				return cell{"− " + l.Line, removed}
			}
			return cell{"+ " + l.Line, added}
		}})
		a.s.printf("\n")
	}
	did := map[string]string{"ignored": "left aside", "required": "missing", "forbidden": "there that must not be", "per-device": "one device's own", "template": "missing"}[r.Kind]
	a.tell("%s %s on %d of %s\n", count(f.Lines, "line is", "lines are"), did, f.Devices, count(f.Looked, "device", "devices"))
	for _, d := range f.Unread {
		a.tell("%s could not be looked at\n", d)
	}
}
