package cli

import (
	"context"
	"fmt"
	"magpie/client"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
)

func (a *app) deviceImport(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	raw, err := os.ReadFile(got[0])
	if err != nil {
		return err
	}
	as := "csv"
	if strings.HasSuffix(got[0], ".yaml") || strings.HasSuffix(got[0], ".yml") {
		as = "yaml"
	}
	look := c.Bool("preview")
	out, err := s.Import(ctx, client.NewDevices{File: string(raw), As: as, Preview: look, SkipBad: c.Bool("skip-bad"), AcceptKeys: c.Bool("accept-keys")})
	if err != nil {
		return fmt.Errorf("%s: %w", got[0], err)
	}
	a.print(c, out, func() { a.showImported(out, look) })
	if len(out.Bad) > 0 || look && out.New+len(out.Changes) > 0 {
		return errDiffers
	}
	return nil
}

// showImported says what an import came to, or would.
func (a *app) showImported(out client.Imported, look bool) {
	keys := 0
	for i, b := range out.Bad {
		if b.Column == "host_key" && strings.Contains(b.Detail, "no host key is given") {
			keys++
			out.Bad[i].Next = "give it in the column host_key, or accept whatever the devices show now: --accept-keys"
		}
	}
	if len(out.Bad) > 0 {
		list(a.s, out.Bad, cells[client.BadRow]{
			"detail": func(b client.BadRow) cell { return cell{b.Detail, alarm} },
			"next":   func(b client.BadRow) cell { return cell{b.Next, faint} }})
	}
	if len(out.Changes) > 0 && (look || len(out.Changed) > 0) {
		var rows [][]cell
		for _, x := range out.Changes {
			rows = append(rows, []cell{{x.Device, strong}, {x.Column, plain}, {x.From, removed}, {x.To, added}})
		}
		a.s.table([]string{"device", "what", "is", map[bool]string{true: "would be", false: "was, and now is"}[look]}, rows)
	}
	edited := map[string]bool{}
	for _, x := range out.Changes {
		edited[x.Device] = true
	}
	switch done := len(out.Added) + len(out.Changed); {
	case look:
		a.s.printf("%s would be added, %d changed, %d are as the file has them. Nothing was done.\n", count(out.New, "device", "devices"), len(edited), out.Same)
	case done > 0 || len(out.Bad) == 0:
		a.s.printf("%s added", count(len(out.Added), "device was", "devices were"))
		if len(out.Changed)+out.Same > 0 {
			a.s.printf(", %d changed, %d are as the file has them", len(out.Changed), out.Same)
		}
		if len(out.Added) > 0 {
			a.s.printf(". Pull them for the first time: magpie pull %s\n", "state=never-pulled")
		} else {
			a.s.printf(".\n")
		}
	case keys == len(out.Bad):
		a.s.printf("Nothing was added. --accept-keys accepts the keys that the devices show now; compare a few with what the devices themselves say.\n")
	default:
		a.s.printf("Nothing was added. --skip-bad adds the rows that are right.\n")
	}
}

// deviceExport writes devices as a file.
func (a *app) deviceExport(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
	text, err := s.Export(ctx, sel, c.String("as"))
	if err != nil {
		return err
	}
	a.s.printf("%s", text)
	all, err := s.Devices(ctx, sel)
	if err != nil {
		return err
	}
	own := 0
	for _, d := range all {
		if d.Credential == "" && d.Member == "" {
			own++
		}
	}
	if own > 0 {
		a.tell("%s a login of its own, which stays here; fill in user and password where the file is read\n", count(own, "device has", "devices have"))
	}
	return nil
}

// deviceColumns are the columns that a file of devices may have besides name, address and dialect.
const deviceColumns = "credential, disabled, fields, host_key, jump, kind, note, parent, password, port, privileged_secret, serial, site, spare, tags, transport, user"
