package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"magpie/internal/run"
)

// onMachine makes a command that works on the service's own machine, by its configuration.
func (a *app) onMachine(name, argsUsage, usage string, flags []cli.Flag, n int, do func(ctx context.Context, c *cli.Command, cfg run.Config, got []string) error) *cli.Command {
	own := []cli.Flag{
		&cli.StringFlag{Name: "config", Usage: "configuration `FILE` of the service (YAML)"},
		&cli.StringFlag{Name: "data", Usage: "its data `FOLDER`"},
		&cli.StringFlag{Name: "master-key", Usage: "its master key `FILE`, if that is elsewhere"},
	}
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: argsUsage, Flags: append(flags, own...), Action: func(ctx context.Context, c *cli.Command) error {
		got, err := args(c, n, n)
		if err != nil {
			return err
		}
		said := map[string]string{}
		for _, f := range []string{"data", "master-key"} {
			if c.IsSet(f) {
				said[f] = c.String(f)
			}
		}
		cfg, err := run.LoadConfig(c.String("config"), said)
		if err != nil {
			return err
		}
		return do(ctx, c, cfg, got)
	}}
}

func (a *app) backupCheck(ctx context.Context, c *cli.Command, cfg run.Config, got []string) error {
	h, err := run.CheckBackup(ctx, cfg, got[0])
	if err != nil {
		return err
	}
	a.print(c, h, func() {
		holds := "everything, with its history"
		if !h.History {
			holds = "settings, devices and credentials, no versions"
		}
		a.s.facts("backup", a.s.paint(strong, got[0]), "made", when(h.MadeAt)+" "+zoneName()+" by "+h.MadeBy, "by program", fmt.Sprintf("version %s, schema %d", h.Program, h.Schema), "master key", h.MasterID,
			"holds", holds, "devices", fmt.Sprint(h.Devices), "versions", fmt.Sprint(h.Versions), "whole", fmt.Sprintf("yes: %d rows of %d tables", h.Rows, len(h.Tables)))
		for _, w := range h.InWay {
			a.s.printf("%s %s\n", a.s.paint(alarm, "in the way:"), w)
		}
		for _, w := range h.Beware {
			a.s.printf("%s %s\n", a.s.paint(faint, "beware:"), w)
		}
	})
	if len(h.InWay) > 0 {
		return errDiffers
	}
	return nil
}

func (a *app) backupRestore(ctx context.Context, _ *cli.Command, cfg run.Config, got []string) error {
	if err := run.RestoreBackup(ctx, cfg, got[0], func(format string, args ...any) { a.s.printf(format+"\n", args...) }); err != nil {
		return err
	}
	a.tell("Make sure that the service that it is of does not run any more: two would look after the same devices.\nThen: magpie serve --data %s\n", cfg.Data)
	return nil
}

// receiver takes what comes from the service.
type receiver io.Writer

// received is a file that came.
type received struct {
	name string
	size int64
}

// received writes what comes from the service into a file, which has its name once it is whole
// and overwrites nothing. An empty name: the one that the service gives it, in this folder; - is
// standard output.
func (a *app) received(to, title string, get func(w receiver) (name string, err error)) (r received, err error) {
	if to == "-" {
		_, err := get(os.Stdout) // byte for byte
		return received{name: to}, err
	}
	f, err := a.fetched(filepath.Dir(to), title, func(w receiver) (err error) {
		r.name, err = get(w)
		return err
	})
	if err != nil {
		return r, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if r.name = filepath.Base(r.name); to != "" {
		r.name = to
	}
	if _, err := os.Lstat(r.name); err == nil {
		return r, fmt.Errorf("%s is there already; nothing was overwritten", r.name)
	}
	if r.size, err = f.Seek(0, io.SeekEnd); err == nil {
		err = os.Rename(f.Name(), r.name)
	}
	return r, err
}

// progress shows how much of something went by; size -1: nobody knows of how much.
func progress(title string, size int64) *progressbar.ProgressBar {
	return progressbar.NewOptions64(size, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription(title), progressbar.OptionShowBytes(true),
		progressbar.OptionClearOnFinish(), progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))))
}

// fetched writes what comes from the service into a file that is to be removed or renamed, and
// shows how much it is.
func (a *app) fetched(dir, title string, get func(w receiver) error) (f *os.File, err error) {
	if f, err = os.CreateTemp(dir, ".magpie-*"); err != nil {
		return nil, err
	}
	bar := progress(title, -1)
	err = get(io.MultiWriter(f, bar))
	_ = bar.Finish()
	if err == nil {
		err = f.Sync()
	}
	if err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	return f, nil
}
