package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) notification() *cli.Command {
	flags := []cli.Flag{
		&cli.StringSliceFlag{Name: "of", Usage: "`SELECTOR` of the devices it is about; all if not said"},
		&cli.StringSliceFlag{Name: "to", Usage: "`RECIPIENT`, as often as wanted"},
		&cli.IntFlag{Name: "days", Usage: "`DAYS` without proof, for the event unproven; 90 if not said"},
		&cli.StringFlag{Name: "digest", Usage: "tell what was gathered time after time, like \"daily 07:00\": `WHEN`; at once if not said"},
		&cli.StringSliceFlag{Name: "quiet", Usage: "`WHEN` nothing is told, like \"daily 22:00 for 9h\"; what happens then is told afterwards"},
		&cli.StringFlag{Name: "zone", Usage: "the time `ZONE` that its times are meant in; your own if not said"},
		&cli.StringFlag{Name: "note", Usage: "`WHY`"},
	}
	return &cli.Command{Name: "notification", Usage: "of what people are told", Commands: []*cli.Command{
		a.do("list", "", "list the notification rules", nil, 0, 0, a.tellList),
		a.do("show", "RULE", "a rule", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.NotificationRule(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, r, func() { a.showRule(r) })
			return nil
		}),
		a.do("events", "", "list the events that people can be told of", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.NotificationEvents(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() { list(a.s, all, nil) })
			return nil
		}),
		a.do("add", "RULE EVENT…", "have people told of events", append([]cli.Flag{&cli.BoolFlag{Name: "paused", Usage: "not yet"}}, flags...), 2, 20, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewNotificationRule{Name: got[0], Events: got[1:], Selector: []string{"all"}, Zone: ianaZone(), Paused: c.Bool("paused")}
			fillRule(c, &n)
			r, err := s.AddNotificationRule(ctx, n)
			return a.savedRule(c, r, err)
		}),
		a.do("edit", "RULE", "change a rule", append([]cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "another `NAME`"},
			&cli.StringSliceFlag{Name: "event", Usage: "`EVENT`, in the place of those there were"},
		}, flags...), 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.NotificationRule(ctx, got[0])
			if err != nil {
				return err
			}
			n := client.NewNotificationRule{Name: cmp.Or(c.String("name"), r.Name), Events: r.Events, Selector: r.Selector, Recipients: r.Recipients, Days: r.Days, Digest: r.Digest, Zone: r.Zone, Quiet: r.Quiet, Paused: r.Paused, Note: r.Note}
			if c.IsSet("event") {
				n.Events = c.StringSlice("event")
				if !slices.Contains(n.Events, "unproven") {
					n.Days = 0
				}
			}
			fillRule(c, &n)
			r, err = s.EditNotificationRule(ctx, got[0], n)
			return a.savedRule(c, r, err)
		}),
		a.pauseRule("pause", "let a rule tell nobody any more; what it did not tell yet is forgotten", true),
		a.pauseRule("resume", "let a rule tell people again, of what happens from now on", false),
		a.do("remove", "RULE", "forget a rule", []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.NotificationRule(ctx, got[0])
			if err != nil {
				return err
			}
			if err := a.meant(ctx, c, fmt.Sprintf("%s of %s to %s: type yes to forget it: ", strings.Join(r.Events, ", "), several(r.Selector), strings.Join(r.Recipients, ", "))); err != nil {
				return err
			}
			if err := s.RemoveNotificationRule(ctx, got[0]); err != nil {
				return err
			}
			a.tell("forgotten; nobody is told by it any more\n")
			return nil
		}),
		a.do("messages", "", "what people were told and are to be, newest first", []cli.Flag{
			&cli.StringFlag{Name: "state", Usage: "`STATE`: waiting, sent, failed or dropped"},
			&cli.IntFlag{Name: "limit", Value: 30, Usage: "at most `N`"},
		}, 0, 0, a.messages),
		a.do("message", "MESSAGE", "a message with its text", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			m, err := s.Message(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, m, func() { a.showMessage(m) })
			return nil
		}),
		a.do("retry", "MESSAGE", "try a message now", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			m, err := s.RetryMessage(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, m, func() { a.s.printf("It is tried now. See what comes of it: magpie notification message %s\n", m.ID) })
			return nil
		}),
	}}
}

// fillRule puts what flags say into a rule.
func fillRule(c *cli.Command, n *client.NewNotificationRule) {
	words := func(flag string, into *[]string) {
		if c.IsSet(flag) {
			*into = slices.DeleteFunc(c.StringSlice(flag), func(w string) bool { return w == "" })
		}
	}
	words("of", &n.Selector)
	words("to", &n.Recipients)
	words("quiet", &n.Quiet)
	for flag, into := range map[string]*string{"digest": &n.Digest, "zone": &n.Zone, "note": &n.Note} {
		if c.IsSet(flag) {
			*into = c.String(flag)
		}
	}
	if c.IsSet("days") {
		n.Days = c.Int("days")
	}
}

// savedRule shows a rule as it was kept.
func (a *app) savedRule(c *cli.Command, r client.NotificationRule, err error) error {
	if err != nil {
		return err
	}
	a.print(c, r, func() { a.showRule(r) })
	return nil
}

func (a *app) showRule(r client.NotificationRule) {
	told := "at once"
	if r.Digest != "" {
		told = r.Digest + " in " + r.Zone
		if r.Next != nil {
			told += ", next " + when(*r.Next) + " " + zoneName()
		}
	}
	state := ""
	if r.Paused {
		state = a.s.paint(removed, "paused")
	}
	days := ""
	if r.Days > 0 {
		days = count(r.Days, "day", "days") + " without proof"
	}
	quiet := strings.Join(r.Quiet, "\n")
	if quiet != "" {
		quiet += " in " + r.Zone
	}
	a.s.facts("rule", a.s.paint(strong, r.Name), "state", state, "tells of", strings.Join(r.Events, ", "), "unproven", days,
		"of", fmt.Sprintf("%s (%s now)", strings.Join(r.Selector, " "), count(r.Devices, "device", "devices")), "to", strings.Join(r.Recipients, ", "),
		"when", told, "quiet", quiet, "note", r.Note, "saved", fmt.Sprintf("%s %s by %s", when(r.ChangedAt), zoneName(), r.ChangedBy))
}

func (a *app) tellList(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	all, err := s.NotificationRules(ctx)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("Nobody is told anything. First who: magpie recipient add NAME mail --to ADDRESS\nthen of what: magpie notification add RULE failed drifted --to NAME\n")
			return
		}
		list(a.s, all, cells[client.NotificationRule]{
			"digest": func(r client.NotificationRule) cell { return cell{cmp.Or(r.Digest, "at once"), plain} },
			"paused": func(r client.NotificationRule) cell {
				return cell{map[bool]string{true: "paused"}[r.Paused], removed}
			}})
	})
	return nil
}

func (a *app) pauseRule(name, usage string, paused bool) *cli.Command {
	return a.do(name, "RULE", usage, nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
		r, err := s.PauseNotificationRule(ctx, got[0], paused)
		return a.savedRule(c, r, err)
	})
}

func messageStyle(state string) string {
	return map[string]string{"waiting": removed, "sent": calm, "failed": alarm}[state]
}

func (a *app) messages(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	all, err := s.Messages(ctx, c.String("state"), c.Int("limit"))
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("No messages.\n")
			return
		}
		list(a.s, all, cells[client.Message]{
			"state":     func(m client.Message) cell { return cell{m.State, messageStyle(m.State)} },
			"recipient": func(m client.Message) cell { return cell{cmp.Or(m.Address, m.Recipient), plain} },
		})
	})
	return nil
}

func (a *app) showMessage(m client.Message) {
	state := a.s.paint(messageStyle(m.State), m.State)
	if m.EndedAt != nil {
		state += " " + when(*m.EndedAt) + " " + zoneName()
	}
	next := ""
	if m.NextAt != nil {
		next = when(*m.NextAt) + " " + zoneName()
	}
	a.s.facts("message", m.ID, "state", state, "rule", m.Rule, "to", strings.TrimSpace(m.Recipient+" "+m.Address), "made", when(m.MadeAt)+" "+zoneName(),
		"tries", fmt.Sprint(m.Tries), "trouble", m.Trouble, "next try", next, "subject", m.Subject)
	a.s.printf("\n%s", m.Text)
}

func (a *app) recipient() *cli.Command {
	flags := []cli.Flag{
		&cli.StringSliceFlag{Name: "to", Usage: "mail: `ADDRESS`, as often as wanted"},
		&cli.StringFlag{Name: "webhook", Usage: "webhook: `URL`"},
		&cli.StringFlag{Name: "secret-file", Usage: "webhook: `FILE` with what its requests are signed with (or set MAGPIE_WEBHOOK_SECRET); one is made if not said"},
		&cli.StringFlag{Name: "address", Usage: "syslog: `HOST:PORT`"},
		&cli.StringFlag{Name: "transport", Usage: "syslog: `WAY`, udp, tcp or tls; tls if not said"},
		&cli.BoolFlag{Name: "audit", Usage: "syslog: send the audit log there, too, from now on"},
		&cli.StringFlag{Name: "ca-file", Usage: "webhook, syslog: `FILE` with certificates that vouch for the other side; the system's if not said"},
	}
	fill := func(ctx context.Context, c *cli.Command, n *client.NewRecipient) (err error) {
		if c.IsSet("to") {
			n.To = c.StringSlice("to")
		}
		for flag, into := range map[string]*string{"webhook": &n.URL, "address": &n.Address, "transport": &n.Transport} {
			if c.IsSet(flag) {
				*into = c.String(flag)
			}
		}
		if c.IsSet("audit") {
			n.Audit = c.Bool("audit")
		}
		if n.CA, err = readIf(c.String("ca-file"), n.CA); err != nil {
			return err
		}
		if f := c.String("secret-file"); f != "" || os.Getenv("MAGPIE_WEBHOOK_SECRET") != "" {
			n.Secret, err = a.s.secret(ctx, "Secret", "MAGPIE_WEBHOOK_SECRET", f)
		}
		return err
	}
	saved := func(c *cli.Command, r client.Recipient, err error) error {
		if err != nil {
			return err
		}
		a.print(c, r, func() {
			a.showRecipient(r)
			if r.Secret != "" {
				a.s.printf("\nIts requests are signed (RFC 9421, hmac-sha256) with this secret, which is not shown again:\n\n  %s\n", r.Secret)
			}
			a.s.printf("\nTry it: magpie recipient test %s\n", r.Name)
		})
		return nil
	}
	return &cli.Command{Name: "recipient", Usage: "who can be told, and by what way", Commands: []*cli.Command{
		a.do("list", "", "list who can be told", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Recipients(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("Nobody can be told. For instance: magpie recipient add noc mail --to noc@ferries.example\n")
					return
				}
				list(a.s, all, cells[client.Recipient]{"to": func(r client.Recipient) cell { return cell{reached(r), plain} }})
			})
			return nil
		}),
		a.do("show", "RECIPIENT", "how somebody is told", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.Recipient(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, r, func() { a.showRecipient(r) })
			return nil
		}),
		a.do("add", "NAME KIND", "make somebody known who can be told, by mail, webhook or syslog", flags, 2, 2, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewRecipient{Name: got[0], Kind: got[1]}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			r, err := s.AddRecipient(ctx, n)
			return saved(c, r, err)
		}),
		a.do("edit", "RECIPIENT", "change how somebody is told", append([]cli.Flag{&cli.StringFlag{Name: "name", Usage: "another `NAME`"}}, flags...), 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.Recipient(ctx, got[0])
			if err != nil {
				return err
			}
			n := client.NewRecipient{Name: cmp.Or(c.String("name"), r.Name), Kind: r.Kind, To: r.To, URL: r.URL, Address: r.Address, Transport: r.Transport, CA: r.CA, Audit: r.Audit}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			r, err = s.EditRecipient(ctx, got[0], n)
			return saved(c, r, err)
		}),
		a.do("test", "RECIPIENT", "tell them that this is a test, and show each step of that", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			t, err := s.TestRecipient(ctx, got[0])
			if err != nil {
				return err
			}
			a.print(c, t, func() {
				list(a.s, t.Steps, cells[client.TestStep]{"ok": func(x client.TestStep) cell {
					if x.OK {
						return cell{"yes", calm}
					}
					return cell{"no", alarm}
				}})
			})
			if !t.OK {
				return errDiffers
			}
			return nil
		}),
		a.do("remove", "RECIPIENT", "forget somebody whom no rule tells", []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := s.Recipient(ctx, got[0])
			if err != nil {
				return err
			}
			if err := a.meant(ctx, c, fmt.Sprintf("%s %s: type yes to forget it: ", r.Kind, reached(r))); err != nil {
				return err
			}
			if err := s.RemoveRecipient(ctx, got[0]); err != nil {
				return err
			}
			a.tell("forgotten\n")
			return nil
		}),
	}}
}

// readIf reads a file, if one is named.
func readIf(file, otherwise string) (string, error) {
	if file == "" {
		return otherwise, nil
	}
	raw, err := os.ReadFile(file)
	return string(raw), err
}

// reached is where somebody is told.
func reached(r client.Recipient) string {
	where := cmp.Or(strings.Join(r.To, ", "), r.URL, r.Address)
	if r.Transport != "" {
		where += " by " + r.Transport
	}
	return where
}

func (a *app) showRecipient(r client.Recipient) {
	audit := ""
	if r.Audit {
		audit = "is sent there, too"
	}
	a.s.facts("recipient", a.s.paint(strong, r.Name), "by", r.Kind, "to", reached(r), "audit log", audit, "told by", strings.Join(r.Rules, ", "), "saved", fmt.Sprintf("%s %s by %s", when(r.ChangedAt), zoneName(), r.ChangedBy))
}

func (a *app) mail() *cli.Command {
	show := func(c *cli.Command, m client.MailServer) {
		a.print(c, m, func() {
			if m.Server == "" {
				a.s.printf("No mail server is set. Set it: magpie mail set HOST:PORT --from ADDRESS\n")
				return
			}
			user := m.User
			if m.Password {
				user += ", with a password"
			}
			saved := m.ChangedBy
			if m.ChangedAt != nil {
				saved = when(*m.ChangedAt) + " " + zoneName() + " by " + saved
			}
			a.s.facts("mail server", a.s.paint(strong, m.Server), "by", m.Security, "user", user, "from", m.From, "vouched for", map[bool]string{true: "by certificates of its own"}[m.CA != ""], "console", m.Console, "saved", saved)
		})
	}
	return &cli.Command{Name: "mail", Usage: "the mail server by which people are told", Commands: []*cli.Command{
		a.do("show", "", "who takes mail", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			m, err := s.MailServer(ctx)
			if err == nil {
				show(c, m)
			}
			return err
		}),
		a.do("set", "HOST:PORT", "say who takes mail", []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "`ADDRESS` that mail comes from"},
			&cli.StringFlag{Name: "security", Usage: "starttls, tls or none; as it was, at first starttls: `HOW`"},
			&cli.StringFlag{Name: "user", Usage: "user `NAME` to sign in with"},
			&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_MAIL_PASSWORD)"},
			&cli.StringFlag{Name: "ca-file", Usage: "`FILE` with certificates that vouch for the server; the system's if not said"},
			&cli.StringFlag{Name: "console", Usage: "`URL` at which people reach the console, for links"},
		}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			was, err := s.MailServer(ctx)
			if err != nil {
				return err
			}
			n := client.NewMailServer{Server: got[0], Security: cmp.Or(was.Security, "starttls"), User: was.User, From: was.From, CA: was.CA, Console: was.Console}
			for flag, into := range map[string]*string{"from": &n.From, "security": &n.Security, "user": &n.User, "console": &n.Console} {
				if c.IsSet(flag) {
					*into = c.String(flag)
				}
			}
			if n.CA, err = readIf(c.String("ca-file"), n.CA); err != nil {
				return err
			}
			if f := c.String("password-file"); f != "" || os.Getenv("MAGPIE_MAIL_PASSWORD") != "" || n.User != "" && n.User != was.User {
				if n.Password, err = a.s.secret(ctx, "Password of "+n.User, "MAGPIE_MAIL_PASSWORD", f); err != nil {
					return err
				}
			}
			m, err := s.SetMailServer(ctx, n)
			if err == nil {
				show(c, m)
			}
			return err
		}),
		a.do("remove", "", "forget who takes mail; messages wait", []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			if err := a.meant(ctx, c, "Mail waits until another server is set: type yes to forget this one: "); err != nil {
				return err
			}
			if err := s.RemoveMailServer(ctx); err != nil {
				return err
			}
			a.tell("forgotten; mail waits until another one is set\n")
			return nil
		}),
	}}
}
