package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) edit() *cli.Command {
	return a.do("edit", "REF", "edit a version's text and keep it as another version; the device is not touched", []cli.Flag{
		&cli.StringFlag{Name: "file", Usage: "take the text from `FILE` instead of an editor"},
		&cli.StringFlag{Name: "note", Usage: "`WHAT` was changed"},
		&cli.StringFlag{Name: "override", Usage: "`WHY` it is kept although it hardly is what the device should run; kept with it"},
	}, 1, 1, a.doEdit)
}

func (a *app) doEdit(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	r, err := reference(got[0], "")
	if err != nil {
		return err
	}
	t, err := s.Text(ctx, r)
	if err != nil {
		return err
	}
	if t.Masked || t.Opaque {
		return fmt.Errorf("%s cannot be edited: its secrets are not shown to you, or it is an opaque file", t.Ref)
	}
	var text []byte
	if file := c.String("file"); file != "" {
		text, err = os.ReadFile(file)
	} else {
		text, err = a.inEditor(ctx, t)
	}
	if err != nil {
		return err
	}
	if string(text) == t.Text {
		a.tell("nothing was changed, so nothing is kept\n")
		return nil
	}
	v, err := s.Edit(ctx, client.NewVersion{Ref: t.Ref, Text: string(text), Note: c.String("note"), Override: c.String("override")})
	if client.IsStatus(err, 409) && c.String("override") == "" && a.s.asks {
		a.tell("%v\n", err)
		why, asked := a.s.ask(ctx, "Why is it kept all the same? (empty: it is not kept) ")
		if asked != nil || why == "" {
			return fmt.Errorf("nothing was kept")
		}
		v, err = s.Edit(ctx, client.NewVersion{Ref: t.Ref, Text: string(text), Note: c.String("note"), Override: why})
	}
	if err != nil {
		return err
	}
	a.print(c, v, func() {
		a.s.printf("Kept as %s (+%d −%d); it counts for nothing until it is pushed.\ncompare it: magpie diff %s %[1]s\npush it:    magpie push %[1]s\n", v.Ref, v.Added, v.Removed, t.Ref)
	})
	return nil
}

// inEditor lets a person edit a text. Its file is in a folder that nobody else
// may read, and is removed afterwards.
func (a *app) inEditor(ctx context.Context, t client.Text) ([]byte, error) {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		return nil, errors.New("no editor is named; set EDITOR, or give the text with --file")
	}
	dir, err := os.MkdirTemp("", "magpie-edit-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "version.cfg")
	if err := os.WriteFile(file, []byte(t.Text), 0o600); err != nil {
		return nil, err
	}
	// As other programs have it, EDITOR may hold options.
	cmd := exec.CommandContext(ctx, "sh", "-c", editor+` "$1"`, "sh", file)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("the editor %s: %w; nothing was kept", editor, err)
	}
	return os.ReadFile(file)
}
