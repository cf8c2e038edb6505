package cli

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// shells are those that completion is installed for.
var shells = []string{"bash", "zsh", "fish"}

// shellCompletion shows the command that prints completion scripts, and adds one that
// installs them.
func (a *app) shellCompletion(c *cli.Command) {
	c.Hidden, c.Usage = false, "completion of commands and names in the shell"
	c.Commands = append(c.Commands, &cli.Command{Name: "install", Usage: "install completion for your shell", Flags: []cli.Flag{
		&cli.StringFlag{Name: "shell", Usage: "`SHELL`: bash, zsh or fish; the one you use if not said"},
	}, Action: func(ctx context.Context, c *cli.Command) error {
		if _, err := args(c, 0, 0); err != nil {
			return err
		}
		shell := c.String("shell")
		if shell == "" {
			shell = filepath.Base(os.Getenv("SHELL"))
		}
		if !slices.Contains(shells, shell) {
			return fmt.Errorf("completion is there for %s, not for %q; say --shell", strings.Join(shells, ", "), shell)
		}
		done, err := a.installCompletion(ctx, shell)
		if err == nil {
			a.s.printf("%s", done)
		}
		return err
	}})
}

// installCompletion writes a shell's script where that shell looks for it.
func (a *app) installCompletion(ctx context.Context, shell string) (said string, err error) {
	program, err := os.Executable()
	if err != nil {
		return "", err
	}
	script, err := exec.CommandContext(ctx, program, "completion", shell).Output()
	if err != nil {
		return "", fmt.Errorf("making the script: %w", err)
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	data := cmp.Or(os.Getenv("XDG_DATA_HOME"), filepath.Join(home, ".local", "share"))
	config := cmp.Or(os.Getenv("XDG_CONFIG_HOME"), filepath.Join(home, ".config"))
	path := map[string]string{
		"bash": filepath.Join(data, "bash-completion", "completions", "magpie"),
		"zsh":  filepath.Join(data, "zsh", "site-functions", "_magpie"),
		"fish": filepath.Join(config, "fish", "completions", "magpie.fish"),
	}[shell]
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	if err := os.WriteFile(path, script, 0o644); err != nil {
		return "", err
	}
	said = "Installed: " + path + "\n"
	if shell == "zsh" { // which looks into no folder of one's own by itself
		rc := filepath.Join(cmp.Or(os.Getenv("ZDOTDIR"), home), ".zshrc")
		line := "fpath=(" + filepath.Dir(path) + " $fpath); autoload -Uz compinit && compinit # magpie"
		was, err := os.ReadFile(rc)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		if !strings.Contains(string(was), line) {
			if len(was) > 0 && !bytes.HasSuffix(was, []byte("\n")) {
				line = "\n" + line
			}
			if err := os.WriteFile(rc, append(was, line+"\n"...), 0o644); err != nil {
				return "", err
			}
			said += "A line was added to " + rc + ", so that zsh looks there.\n"
		}
	}
	return said + "It is there in the next shell you open.\n", nil
}

// manual is the page that internal/gen makes of Commands, written down when the program is built, so that the
// program itself need not know how.
//
//go:embed magpie.1
var manual string

// Commands is the root of the tree of commands, for what is made from it.
func Commands() *cli.Command { return (&app{s: newScreen()}).root() }

// man prints the manual page, which is made from what --help is made of.
func (a *app) man() *cli.Command {
	return &cli.Command{Name: "man", Usage: "print the manual page: magpie man | man -l -", Action: func(_ context.Context, c *cli.Command) error {
		if _, err := args(c, 0, 0); err != nil {
			return err
		}
		a.s.text(manual)
		return nil
	}}
}
