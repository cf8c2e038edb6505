package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) credential() *cli.Command {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "user `NAME`"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_DEVICE_PASSWORD)"},
		&cli.StringFlag{Name: "key-file", Usage: "`FILE` with a private key"},
		&cli.StringFlag{Name: "agent-key", Usage: "`FILE` with the public key that the service's SSH agent signs with"},
		&cli.StringFlag{Name: "privileged-secret-file", Usage: "`FILE` that holds the privileged mode's secret (or set MAGPIE_DEVICE_PRIVILEGED_SECRET)"},
		&cli.StringFlag{Name: "passphrase-file", Usage: "`FILE` that holds what archives are to be encrypted under (or set MAGPIE_DEVICE_PASSPHRASE)"},
		&cli.StringFlag{Name: "factory-user", Usage: "user `NAME` of a unit with factory settings"},
		&cli.StringFlag{Name: "factory-password-file", Usage: "`FILE` that holds its password (or set MAGPIE_FACTORY_PASSWORD)"},
		&cli.StringFlag{Name: "selector", Usage: "new devices that this `SELECTOR` picks get the set, like: 'site=skerrinsay kind=switch'"},
	}
	fill := func(ctx context.Context, c *cli.Command, n *client.NewCredentialSet, add bool) (err error) {
		n.User, n.FactoryUser = c.String("user"), c.String("factory-user")
		if c.IsSet("selector") {
			v := c.String("selector")
			n.Selector = &v
		}
		for flag, into := range map[string]*string{"key-file": &n.Key, "agent-key": &n.Agent} {
			if f := c.String(flag); f != "" {
				raw, err := os.ReadFile(f)
				if err != nil {
					return err
				}
				*into = string(raw)
			}
		}
		n.Agent = strings.TrimSpace(n.Agent)
		keyed := n.Key != "" || n.Agent != ""
		for _, x := range []struct {
			flag, env, ask string
			into           *string
			must           bool
		}{
			{"password-file", "MAGPIE_DEVICE_PASSWORD", "Password", &n.Password, !keyed && (add || c.Bool("password"))},
			{"privileged-secret-file", "MAGPIE_DEVICE_PRIVILEGED_SECRET", "Secret of the privileged mode", &n.Privileged, false},
			{"passphrase-file", "MAGPIE_DEVICE_PASSPHRASE", "Passphrase of archives", &n.Passphrase, false},
			{"factory-password-file", "MAGPIE_FACTORY_PASSWORD", "Password of a unit with factory settings", &n.FactoryPassword, n.FactoryUser != ""},
		} {
			if x.must || c.String(x.flag) != "" || os.Getenv(x.env) != "" && !keyed {
				if *x.into, err = a.s.secret(ctx, x.ask, x.env, c.String(x.flag)); err != nil {
					return err
				}
			}
		}
		return nil
	}
	show := func(c *cli.Command, set client.CredentialSet, said string) {
		a.print(c, set, func() {
			a.s.printf("%s: %s; %s\n", set.Name, said, count(set.Devices, "device uses it", "devices use it"))
		})
	}
	return &cli.Command{Name: "credential", Usage: "logins that many devices share", Commands: []*cli.Command{
		a.do("list", "", "list credential sets", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.CredentialSets(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("No credential sets. Make one: magpie credential add NAME --user USER\n")
					return
				}
				list(a.s, all, cells[client.CredentialSet]{"locked": func(x client.CredentialSet) cell {
					switch {
					case x.BreakerOpenSince != nil:
						return cell{"breaker open since " + when(*x.BreakerOpenSince) + ": " + x.BreakerWhy, alarm}
					case x.Locked > 0:
						return cell{fmt.Sprintf("refused by %d", x.Locked), alarm}
					}
					return cell{}
				}})
			})
			return nil
		}),
		a.do("add", "NAME", "make a credential set", flags, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewCredentialSet{Name: got[0]}
			if err := fill(ctx, c, &n, true); err != nil {
				return err
			}
			set, err := s.AddCredentialSet(ctx, n)
			if err == nil {
				show(c, set, "made; give it to devices: magpie credential attach "+set.Name+" SELECTOR")
			}
			return err
		}),
		a.do("edit", "NAME", "change a set, for all devices that use it at once", append([]cli.Flag{
			&cli.BoolFlag{Name: "password", Usage: "ask for a new password"}, &cli.StringFlag{Name: "name", Usage: "new `NAME`"}}, flags...), 1, 1,
			func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
				n := client.NewCredentialSet{Name: c.String("name")}
				if err := fill(ctx, c, &n, false); err != nil {
					return err
				}
				set, err := s.EditCredentialSet(ctx, got[0], n)
				if err == nil {
					show(c, set, "changed")
				}
				return err
			}),
		a.do("attach", "NAME SELECTOR…", "give devices a set instead of what they had", nil, 2, -1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			set, err := s.AttachCredentialSet(ctx, got[0], got[1:])
			if err == nil {
				show(c, set, "attached")
			}
			return err
		}),
		a.do("retry", "NAME", "the set is right after all: try it again everywhere", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			set, err := s.RetryCredentialSet(ctx, got[0])
			if err == nil {
				show(c, set, "may be tried again")
			}
			return err
		}),
		a.do("remove", "NAME", "delete a set that no device uses", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			if err := s.RemoveCredentialSet(ctx, got[0]); err != nil {
				return err
			}
			if !c.Bool("json") {
				a.s.printf("%s was removed.\n", got[0])
			}
			return nil
		}),
	}}
}
