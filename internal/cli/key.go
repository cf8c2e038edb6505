package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/internal/run"
)

// key is what is done with the master key, on the machine that has it.
func (a *app) key() *cli.Command {
	words := &cli.StringFlag{Name: "words-file", Usage: "`FILE` with the words; asked for if not said"}
	return &cli.Command{Name: "key", Usage: "the master key, on the service's own machine", Commands: []*cli.Command{
		a.onMachine("sheet", "", "print the recovery sheet: the master key as words, to be kept on paper", nil, 0, func(_ context.Context, c *cli.Command, cfg run.Config, _ []string) error {
			id, all, err := run.RecoverySheet(cfg)
			if err != nil {
				return err
			}
			a.s.printf("Recovery sheet of a Steady Magpie service\nmaster key %s, printed %s\n\n", id, time.Now().UTC().Format("2006-01-02"))
			for i := 0; i < len(all); i += 4 {
				for k, w := range all[i:min(i+4, len(all))] {
					a.s.printf("  %2d %-10s", i+k+1, w)
				}
				a.s.printf("\n")
			}
			a.s.printf("\nWhoever has these words and the database reads every configuration; without\nthem, and without the key file, nobody does. Keep the sheet where the machine\nis not. The key file is made of it by: magpie key restore --to master.key\n")
			a.tell("Once it is on paper, prove it by typing it back: magpie key verify\n")
			return nil
		}),
		a.onMachine("verify", "", "prove a recovery sheet by typing its words back", []cli.Flag{words}, 0, func(ctx context.Context, c *cli.Command, cfg run.Config, _ []string) error {
			text, err := a.keyWords(ctx, c)
			if err != nil {
				return err
			}
			id, err := run.VerifySheet(ctx, cfg, text)
			if err == nil {
				a.s.printf("The sheet is right: it is master key %s. The service reminds nobody of it any more.\n", id)
			}
			return err
		}),
		a.onMachine("restore", "", "make the key file of a recovery sheet's words", []cli.Flag{words, &cli.StringFlag{Name: "to", Value: "master.key", Usage: "`FILE` to write; never overwritten"}}, 0, func(ctx context.Context, c *cli.Command, _ run.Config, _ []string) error {
			text, err := a.keyWords(ctx, c)
			if err != nil {
				return err
			}
			id, err := run.RestoreKey(c.String("to"), text)
			if err == nil {
				a.s.printf("%s holds master key %s.\n", c.String("to"), id)
			}
			return err
		}),
		a.onMachine("identity", "", "print the key as an age identity, to open copies and backups without the service", []cli.Flag{&cli.BoolFlag{Name: "words", Usage: "of a recovery sheet's words, which are asked for"}, words}, 0, func(ctx context.Context, c *cli.Command, cfg run.Config, _ []string) error {
			var text *string
			if c.Bool("words") || c.String("words-file") != "" {
				words, err := a.keyWords(ctx, c)
				if err != nil {
					return err
				}
				text = &words
			}
			id, err := run.KeyIdentity(cfg, text)
			if err == nil {
				a.s.printf("%s\n", id)
			}
			return err
		}),
		a.onMachine("rotate", "", "make another master key, while the service runs", nil, 0, func(ctx context.Context, c *cli.Command, cfg run.Config, _ []string) error {
			was, is, err := run.RotateKey(ctx, cfg)
			if err == nil {
				a.s.printf("The master key is %s now, and was %s; the old key file is kept beside it, for older backups of the database.\nCopy the new key file to where the old one was copied, and to the other instances; print a new recovery sheet: magpie key sheet\n", is, was)
			}
			return err
		}),
	}}
}

// keyWords reads the words of a recovery sheet.
func (a *app) keyWords(ctx context.Context, c *cli.Command) (string, error) {
	if file := c.String("words-file"); file != "" {
		return a.s.secret(ctx, "Words", "", file)
	}
	a.tell("Type the 24 words of the sheet, on one line or several; an empty line ends them.\n")
	var all []string
	for len(strings.Fields(strings.Join(all, " "))) < 24 {
		line, err := a.s.ask(ctx, fmt.Sprintf("%2d: ", len(strings.Fields(strings.Join(all, " ")))+1))
		if err == io.EOF || err == nil && line == "" {
			break
		}
		if err != nil {
			return "", err
		}
		all = append(all, line)
	}
	return strings.Join(all, " "), nil
}
