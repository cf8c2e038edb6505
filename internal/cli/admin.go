package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) user() *cli.Command {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "role", Usage: "`ROLE`: reader, operator, admin"},
		&cli.BoolFlag{Name: "secrets", Usage: "may see secrets unmasked (--secrets=false: no longer)"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_NEW_PASSWORD)"},
	}
	fill := func(ctx context.Context, c *cli.Command, n *client.NewUser) (err error) {
		if c.IsSet("scope") {
			words := strings.Fields(c.String("scope"))
			n.Scope = &words
		}
		if c.IsSet("subject") {
			v := c.String("subject")
			n.Subject = &v
		}
		n.Role, n.Lasting = c.String("role"), c.Bool("lasting")
		if c.IsSet("secrets") {
			v := c.Bool("secrets")
			n.Secrets = &v
		}
		if c.Bool("password") || c.String("password-file") != "" || n.Name != "" && c.String("subject") == "" {
			n.Password, err = a.s.secret(ctx, "New password", "MAGPIE_NEW_PASSWORD", c.String("password-file"))
		}
		return err
	}
	flags = append(flags, &cli.StringFlag{Name: "scope", Usage: "operator for the devices of this `SELECTOR` only, a reader beyond; empty: for all"})
	flags = append(flags, &cli.BoolFlag{Name: "lasting", Usage: "the password stays; otherwise another one has to be chosen at the first sign-in"})
	flags = append(flags, &cli.StringFlag{Name: "subject", Usage: "the `ID` by which the provider of sign-ins knows the user; a user who is added with it needs no password here"})
	show := func(u client.User) {
		state := ""
		switch {
		case u.Disabled:
			state = "disabled"
		case u.MustChange:
			state = "chooses a password of their own at the first sign-in"
		}
		a.s.facts("user", a.s.paint(strong, u.Name), "role", u.Role, "for", strings.Join(u.Scope, " "), "sees secrets", yes(u.Secrets), "known elsewhere as", u.Subject, "state", state)
	}
	return &cli.Command{Name: "user", Usage: "who may sign in", Commands: []*cli.Command{
		a.do("list", "", "list users", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Users(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				list(a.s, all, cells[client.User]{"disabled": func(u client.User) cell {
					if u.Disabled {
						return cell{"disabled", plain}
					}
					return cell{"may sign in", plain}
				}})
			})
			return nil
		}),
		a.do("password", "", "choose another password of your own", []cli.Flag{
			&cli.StringFlag{Name: "old-file", Usage: "`FILE` that holds the password you have (or set MAGPIE_PASSWORD)"},
			&cli.StringFlag{Name: "new-file", Usage: "`FILE` that holds the new one (or set MAGPIE_NEW_PASSWORD)"},
			&cli.StringFlag{Name: "code", Usage: "the one-time `CODE` that your device shows now, if your sign-ins take one"},
		}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			old, err := a.s.secret(ctx, "The password you have", "MAGPIE_PASSWORD", c.String("old-file"))
			if err != nil {
				return err
			}
			if err := a.ownPassword(ctx, s, old, c.String("new-file"), c.String("code")); err != nil {
				return err
			}
			a.tell("changed; your other sessions and tokens have ended\n")
			return nil
		}),
		a.do("codes", "", "have your sign-ins take one-time codes (RFC 6238)", []cli.Flag{
			&cli.BoolFlag{Name: "off", Usage: "have them take none any more"},
			&cli.StringFlag{Name: "code", Usage: "with --off: a `CODE` of your device, or a recovery code"},
		}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			if c.Bool("off") {
				if err := s.DropCodes(ctx, c.String("code")); err != nil {
					return err
				}
				a.tell("your sign-ins take no codes any more\n")
				return nil
			}
			made, err := s.MakeCodes(ctx)
			if err != nil {
				return err
			}
			a.tell("Give this to the device that is to make codes, as text or as an address:\n\n  %s\n  %s\n\n", made.Secret, made.URL)
			code, err := a.s.ask(ctx, "The code that it shows now: ")
			if err != nil {
				return err
			}
			r, err := s.UseCodes(ctx, code)
			if err != nil {
				return err
			}
			a.print(c, r, func() {
				a.s.printf("Your sign-ins take a code from now on. For the day on which the device is lost, each good once; keep them elsewhere:\n\n")
				for _, one := range r.Codes {
					a.s.printf("  %s\n", one)
				}
			})
			return nil
		}),
		a.do("add", "NAME", "add a user", flags, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewUser{Name: got[0]}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			u, err := s.AddUser(ctx, n)
			if err != nil {
				return err
			}
			a.print(c, u, func() { show(u) })
			return nil
		}),
		a.do("edit", "NAME", "change a user's role, rights or password", append([]cli.Flag{
			&cli.BoolFlag{Name: "password", Usage: "ask for a new password; ends all the user's tokens"},
			&cli.BoolFlag{Name: "disabled", Usage: "may no longer sign in (--disabled=false: may again)"},
			&cli.BoolFlag{Name: "no-codes", Usage: "sign-ins take no one-time codes any more: the device that made them is lost"},
		}, flags...), 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewUser{NoCodes: c.Bool("no-codes")}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			if c.IsSet("disabled") {
				v := c.Bool("disabled")
				n.Disabled = &v
			}
			u, err := s.EditUser(ctx, got[0], n)
			if err != nil {
				return err
			}
			a.print(c, u, func() { show(u) })
			return nil
		}),
	}}
}

// ownPassword chooses another password.
func (a *app) ownPassword(ctx context.Context, s *client.Client, old, file, code string) error {
	word, err := a.s.secret(ctx, "New password, 10 characters or more", "MAGPIE_NEW_PASSWORD", file)
	if err == nil {
		_, err = s.SetOwnPassword(ctx, client.NewPassword{Old: old, New: word, Code: code})
	}
	return err
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) token() *cli.Command {
	return &cli.Command{Name: "token", Usage: "your tokens; magpie login makes one", Commands: []*cli.Command{
		a.do("list", "", "list your tokens", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Tokens(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				list(a.s, all, nil)
			})
			return nil
		}),
		a.do("add", "NAME", "make a token for a program", []cli.Flag{
			&cli.StringFlag{Name: "role", Usage: "it is for this `ROLE` at most; all that you may, if not said"},
			&cli.StringFlag{Name: "scope", Usage: "of an operator's: good for the devices of this `SELECTOR`, and for looking"},
			&cli.BoolFlag{Name: "masked", Usage: "it sees no secrets"},
			&cli.IntFlag{Name: "days", Value: 90, Usage: "it ends after so many `DAYS`"},
			&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds your password (or set MAGPIE_PASSWORD)"},
		}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			word, err := a.s.secret(ctx, "Your password", "MAGPIE_PASSWORD", c.String("password-file"))
			if err != nil {
				return err
			}
			t, err := s.AddToken(ctx, client.NewToken{Name: got[0], Role: c.String("role"), Scope: strings.Fields(c.String("scope")), Masked: c.Bool("masked"), Days: c.Int("days"), Password: word})
			if err != nil {
				return err
			}
			a.print(c, t, func() {
				a.tell("The token, which is not shown again; it ends %s %s:\n", when(t.Expires), zoneName())
				a.s.printf("%s\n", t.Token)
			})
			return nil
		}),
		a.do("drop", "TOKEN", "end one of your tokens", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			if err := s.DropToken(ctx, got[0]); err != nil {
				return err
			}
			if !c.Bool("json") {
				a.s.printf("The token was ended.\n")
			}
			return nil
		}),
	}}
}

func (a *app) session() *cli.Command {
	return &cli.Command{Name: "session", Usage: "the browsers that are signed in: your own; for an admin everybody's", Commands: []*cli.Command{
		a.do("list", "", "list sessions, newest first", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Sessions(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("Nobody is signed in with a browser.\n")
					return
				}
				list(a.s, all, nil)
			})
			return nil
		}),
		a.do("end", "[SESSION]", "end one, or all of yours, or of a user", []cli.Flag{&cli.StringFlag{Name: "user", Usage: "all of this `USER`'s"}}, 0, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) (err error) {
			switch {
			case len(got) == 1 && c.String("user") != "":
				return fmt.Errorf("name one session, or --user and all of theirs")
			case len(got) == 1:
				err = s.EndSession(ctx, got[0])
			default:
				err = s.EndSessions(ctx, c.String("user"))
			}
			if err == nil {
				a.tell("ended; whoever used it has to sign in again\n")
			}
			return err
		}),
	}}
}

func (a *app) audit() *cli.Command {
	return &cli.Command{Name: "audit", Usage: "who did what", Commands: []*cli.Command{
		a.do("list", "", "list what was done, newest first", []cli.Flag{
			&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many"},
			&cli.Int64Flag{Name: "before", Usage: "only rows below this `NUMBER`", HideDefault: true},
			&cli.StringFlag{Name: "about", Usage: "only what was done to this `NAME`: a device with its versions, a user, a set"},
			&cli.StringFlag{Name: "who", Usage: "only what this `USER` did"},
			&cli.StringFlag{Name: "since", Usage: "only from this `TIME` on"},
		}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			since, err := spanTime(c, "since")
			if err != nil {
				return err
			}
			page, err := s.Audit(ctx, client.AuditFilter{About: c.String("about"), Actor: c.String("who"), Since: since}, c.Int64("before"), c.Int("limit"))
			if err != nil {
				return err
			}
			a.print(c, page, func() {
				list(a.s, page.Items, cells[client.AuditEntry]{
					"seq":   func(d client.AuditEntry) cell { return cell{fmt.Sprint(d.Seq), faint} },
					"actor": func(d client.AuditEntry) cell { return cell{d.Actor, strong} }})
			})
			return nil
		}),
		a.do("export", "", "write the log out, newest first, a line of JSON a row, each with its code", []cli.Flag{
			&cli.StringFlag{Name: "since", Usage: "only from this `TIME` on"},
		}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			since, err := spanTime(c, "since")
			if err != nil {
				return err
			}
			enc := json.NewEncoder(a.s.out)
			enc.SetEscapeHTML(false)
			for before := int64(0); ; {
				page, err := s.Audit(ctx, client.AuditFilter{Since: since}, before, 1000)
				if err != nil {
					return err
				}
				for _, d := range page.Items {
					before = d.Seq
					if err := enc.Encode(d); err != nil {
						return err
					}
				}
				if page.Next == "" {
					return nil
				}
			}
		}),
		a.do("check", "", "prove that the log is as it was written", []cli.Flag{
			&cli.StringFlag{Name: "end", Usage: "a row's `NUMBER:CODE` as kept elsewhere; tells of a database that was put back to an earlier state"},
		}, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			r, err := s.CheckAudit(ctx, c.String("end"))
			if err != nil {
				return err
			}
			a.print(c, r, func() {
				if r.Sound {
					a.s.printf("sound: %s, none changed, none missing\n", count(int(r.Rows), "row", "rows"))
				} else {
					a.s.printf("%s after %d sound rows: %s\n", a.s.paint(alarm, "tampered with"), r.Rows, r.Trouble)
				}
			})
			if !r.Sound {
				return errDiffers
			}
			return nil
		}),
	}}
}
