package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

// target is where copies are kept.
func (a *app) target() *cli.Command {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "`USER` to sign in as"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` with the password (or set MAGPIE_TARGET_PASSWORD)"},
		&cli.StringFlag{Name: "key-file", Usage: "`FILE` with a private SSH key"},
		&cli.StringFlag{Name: "host-key", Usage: "the SSH server's host key, its `FINGERPRINT`, accepted"},
		&cli.StringFlag{Name: "ca-file", Usage: "`FILE` with certificates that vouch for an HTTPS server; the system's if not said"},
		&cli.StringSliceFlag{Name: "recipient", Usage: "seal its files to this age `RECIPIENT`, too; may be given more than once"},
		&cli.BoolFlag{Name: "keep", Usage: "what is deleted here stays there"},
		&cli.BoolFlag{Name: "paused", Usage: "copy nothing there for now"},
		&cli.StringFlag{Name: "note", Usage: "`WHY`"},
		&cli.BoolFlag{Name: "unreached", Usage: "keep it although it cannot be reached now"},
	}
	fill := func(ctx context.Context, c *cli.Command, n *client.NewTarget) (err error) {
		for flag, into := range map[string]*string{"user": &n.User, "host-key": &n.HostKey, "note": &n.Note} {
			if c.IsSet(flag) {
				*into = c.String(flag)
			}
		}
		for flag, into := range map[string]*bool{"keep": &n.Keep, "paused": &n.Paused, "unreached": &n.Unreached} {
			if c.IsSet(flag) {
				*into = c.Bool(flag)
			}
		}
		if c.IsSet("recipient") {
			n.Recipients = c.StringSlice("recipient")
		}
		if n.CA, err = readIf(c.String("ca-file"), n.CA); err != nil {
			return err
		}
		if n.Key, err = readIf(c.String("key-file"), ""); err != nil {
			return err
		}
		n.Password, err = a.s.secretIf(ctx, "Password", "MAGPIE_TARGET_PASSWORD", c.String("password-file"))
		return err
	}
	files := &cli.StringFlag{Name: "files", Value: "sealed", Usage: "`HOW` its files are: sealed; or readable: masked, or plain with the secrets in them. It cannot be changed afterwards"}
	saved := func(c *cli.Command, t client.Target, err error) error {
		if err != nil {
			return err
		}
		a.print(c, t, func() { a.showTarget(t) })
		return nil
	}
	return &cli.Command{Name: "target", Usage: "where copies of versions, and backups of the service, are kept", Commands: []*cli.Command{
		a.do("list", "", "list the targets, and how they stand", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Targets(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() { a.listTargets(all) })
			return nil
		}),
		a.do("show", "TARGET", "a target", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			t, err := s.Target(ctx, got[0])
			return saved(c, t, err)
		}),
		a.described(a.do("add", "TARGET KIND WHERE", "have copies of all versions kept at another place", append([]cli.Flag{files, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, flags...), 3, 3, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			n := client.NewTarget{Name: got[0], Kind: got[1], Where: got[2], Files: c.String("files")}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			if n.Files == "plain" {
				a.tell("Whoever reads %s reads passwords and keys of all devices.\n", n.Where)
				if err := a.meant(ctx, c, "type yes to keep plain files there: "); err != nil {
					return err
				}
			}
			t, err := s.AddTarget(ctx, n)
			return saved(c, t, err)
		}), "KIND and WHERE are: folder /srv/copies (on the service's machine), sftp sftp://host/srv/copies,\nhttp https://host/copies (WebDAV, or PUT and GET alone), git ssh://git@host/copies.git.\nFiles are sealed (age), or readable with --files masked or plain: DEVICE/PART.cfg is what was pulled last.\nA Git repository gets masked text, a commit a version."),
		a.do("edit", "TARGET", "change a target", append([]cli.Flag{&cli.StringFlag{Name: "name", Usage: "another `NAME`"}, &cli.StringFlag{Name: "where", Usage: "another `ADDRESS`"}}, flags...), 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			t, err := s.Target(ctx, got[0])
			if err != nil {
				return err
			}
			n := client.NewTarget{Name: cmp.Or(c.String("name"), t.Name), Kind: t.Kind, Where: cmp.Or(c.String("where"), t.Where), User: t.User, HostKey: t.HostKey, CA: t.CA, Recipients: t.Recipients, Files: t.Files, Keep: t.Keep, Paused: t.Paused, Note: t.Note}
			if err := fill(ctx, c, &n); err != nil {
				return err
			}
			t, err = s.EditTarget(ctx, got[0], n)
			return saved(c, t, err)
		}),
		a.do("remove", "TARGET", "forget a target; what is there stays there", []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			t, err := s.Target(ctx, got[0])
			if err != nil {
				return err
			}
			if err := a.meant(ctx, c, fmt.Sprintf("%s %s has %s: type yes to forget it: ", t.Kind, t.Where, count(t.There, "version", "versions"))); err != nil {
				return err
			}
			if err := s.RemoveTarget(ctx, got[0]); err != nil {
				return err
			}
			a.tell("forgotten; what is there stays there\n")
			return nil
		}),
		a.do("retry", "TARGET", "try a target now", []cli.Flag{&cli.BoolFlag{Name: "again", Usage: "copy everything anew that it was thought to have"}}, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			t, err := s.RetryTarget(ctx, got[0], c.Bool("again"))
			return saved(c, t, err)
		}),
		a.do("check", "[TARGET]", "look whether the copies at a target, or at all, are there and open; what is missing is copied anew", nil, 0, 1,
			func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
				with := map[string]any{"open": true}
				if len(got) == 1 {
					with["target"] = got[0]
				}
				return a.doJob(ctx, c, s, "target-check", with)
			}),
		a.do("copies", "REF", "where copies of a version are", nil, 1, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			r, err := reference(got[0], "")
			if err != nil {
				return err
			}
			all, err := s.CopiesOf(ctx, r)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("It is here only. Have copies kept elsewhere: magpie target add --help\n")
					return
				}
				list(a.s, all, cells[client.CopyOf]{"state": func(x client.CopyOf) cell { return cell{x.State, targetStyle(x.State)} }})
			})
			return nil
		}),
	}}
}

func targetStyle(state string) string {
	switch state {
	case "failing", "left out":
		return alarm
	case "in step", "there":
		return calm
	}
	return plain
}

func (a *app) listTargets(all []client.Target) {
	if len(all) == 0 {
		a.s.printf("There are none: what is kept is on this service's disk only.\nHave copies kept elsewhere, for instance: magpie target add vault folder /mnt/vault\n")
		return
	}
	list(a.s, all, cells[client.Target]{
		"state": func(t client.Target) cell { return cell{t.State, targetStyle(t.State)} },
		"bytes": func(t client.Target) cell { return cell{bytesOf(t.Bytes), plain} },
		"where": func(t client.Target) cell { return cell{t.Where, faint} }})
	for _, t := range all {
		if t.Trouble != "" {
			a.s.printf("%s: %s\n", t.Name, t.Trouble)
		}
	}
}

func bytesOf(n int64) string {
	for _, u := range []struct {
		size int64
		name string
	}{{1 << 40, "TiB"}, {1 << 30, "GiB"}, {1 << 20, "MiB"}, {1 << 10, "KiB"}} {
		if n >= u.size {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.size), u.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

func (a *app) showTarget(t client.Target) {
	room := ""
	if t.Room != nil {
		room = bytesOf(*t.Room) + " free"
		if t.FullIn != nil {
			room += fmt.Sprintf(", for %s as things went lately", count(*t.FullIn, "day", "days"))
		}
	}
	since := ""
	if t.FailingAt != nil {
		since = "since " + when(*t.FailingAt) + ", tried again " + whenp(t.NextAt)
	}
	left := ""
	if t.LeftOut > 0 {
		left = count(t.LeftOut, "version", "versions") + " cannot be there"
	}
	keeps := ""
	if t.Keep {
		keeps = "what is deleted here, too"
	}
	a.s.facts("target", a.s.paint(strong, t.Name), "kind", t.Kind, "where", t.Where, "user", t.User, "host key", t.HostKey, "sealed to", strings.Join(t.Recipients, ", "), "files", map[string]string{"masked": "readable, secrets hidden", "plain": "readable, with the secrets"}[t.Files], "keeps", keeps, "note", t.Note,
		"state", strings.TrimSpace(a.s.paint(targetStyle(t.State), t.State)+" "+since), "trouble", t.Trouble, "there", fmt.Sprintf("%s, %s", count(t.There, "version", "versions"), bytesOf(t.Bytes)), "waiting", fmt.Sprint(t.Waiting), "left out", left, "room", room)
}

// backup is of the service itself.
func (a *app) backup() *cli.Command {
	return &cli.Command{Name: "backup", Usage: "backups of the service itself", Commands: []*cli.Command{
		a.do("make", "", "write the whole service into one sealed file, at a target or here", []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "`TARGET` that it is put to"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "`FILE` to write instead, which must not exist yet; - is standard output"},
			&cli.BoolFlag{Name: "settings-only", Usage: "without versions, jobs and what was done"},
			&cli.IntFlag{Name: "keep", Usage: "how many of its kind stay at the target: `N`", HideDefault: true},
			&cli.StringSliceFlag{Name: "recipient", Usage: "with --output: seal it to this age `RECIPIENT`, too"},
		}, 0, 0, a.backupMake),
		a.do("list", "", "list the backups that are known, newest first", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			all, err := s.Backups(ctx)
			if err != nil {
				return err
			}
			a.print(c, all, func() {
				if len(all) == 0 {
					a.s.printf("None was made yet. Make one: magpie backup make --to TARGET\n")
					return
				}
				list(a.s, all, cells[client.Backup]{
					"history": func(b client.Backup) cell {
						return cell{map[bool]string{true: "all", false: "settings"}[b.History], plain}
					},
					"bytes": func(b client.Backup) cell { return cell{bytesOf(b.Bytes), plain} },
					"proven_at": func(b client.Backup) cell {
						if b.Trouble != "" {
							return cell{"failed", alarm}
						}
						return cell{cmp.Or(whenp(b.ProvenAt), "never"), faint}
					}})
				for _, b := range all {
					if b.Trouble != "" {
						a.s.printf("%s: %s\n", b.ID, b.Trouble)
					}
				}
			})
			return nil
		}),
		a.do("test", "[BACKUP]", "restore a backup into a scratch database, and hold it against what was backed up", nil, 0, 1, func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			with := map[string]any{}
			if len(got) > 0 {
				with["backup"] = got[0]
			}
			return a.doJob(ctx, c, s, "backup-test", with)
		}),
		a.onMachine("check", "FILE", "say what a backup holds and what is in the way of restoring it here; nothing is changed", nil, 1, a.backupCheck),
		a.described(a.onMachine("restore", "FILE", "restore a backup into a service that has nothing yet", nil, 1, a.backupRestore),
			"The service must not run; --data names an empty folder, and the master key of the service\nthat the backup is of lies in it or is named. Broken off, the same command goes on where it was."),
	}}
}

// doJob asks for a job of a kind, waits for its end and says what came of it.
func (a *app) doJob(ctx context.Context, c *cli.Command, s *client.Client, kind string, with map[string]any) error {
	j, err := s.Ask(ctx, client.NewJob{Kind: kind, With: with}, onceKey())
	if err == nil {
		j, err = s.Watch(ctx, j.ID, nil, nil)
	}
	if err != nil {
		return err
	}
	a.print(c, j, func() { a.s.printf("%s: %s\n", j.Outcome, j.Summary) })
	if j.Outcome != "done" {
		return errDiffers
	}
	return nil
}

func (a *app) backupMake(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	to, file := c.String("to"), c.String("output")
	if (to == "") == (file == "") {
		return errors.New("say where it goes: --to TARGET, or --output FILE")
	}
	if to != "" {
		if len(c.StringSlice("recipient")) > 0 {
			return errors.New("--recipient goes with --output; a target has its own recipients")
		}
		with := map[string]any{"to": to}
		if c.Bool("settings-only") {
			with["history"] = "no"
		}
		if c.IsSet("keep") {
			with["keep"] = fmt.Sprint(c.Int("keep"))
		}
		return a.doJob(ctx, c, s, "backup", with)
	}
	n, err := a.received(file, "backing up", func(w receiver) (string, error) {
		return s.WriteBackup(ctx, client.NewBackup{Settings: c.Bool("settings-only"), Recipients: c.StringSlice("recipient")}, w)
	})
	if err != nil || n.name == "-" {
		return err
	}
	a.tell("%s, %s; it opens with the service's master key\nsee what it holds: magpie backup check %[1]s --master-key FILE\n", n.name, bytesOf(n.size))
	return nil
}
