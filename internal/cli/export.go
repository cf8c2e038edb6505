package cli

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) export() *cli.Command {
	return a.described(a.do("export", "[SELECTOR…]", "take versions out as files, with a manifest", []cli.Flag{
		&cli.StringFlag{Name: "to", Usage: "`FILE` or, with --as folder, folder to write; named by the service in this folder if not said; - is standard output"},
		&cli.StringFlag{Name: "as", Value: "tar.zst", Usage: "`FORM`: tar.zst, zip or folder"},
		&cli.StringFlag{Name: "snapshot", Usage: "what this `SNAPSHOT` holds, instead of the newest of the devices"},
		&cli.BoolFlag{Name: "history", Usage: "all versions of the devices"},
		&cli.BoolFlag{Name: "masked", Usage: "without the secrets"},
		&cli.StringSliceFlag{Name: "recipient", Usage: "seal it to this age `RECIPIENT`; may be given more than once"},
		&cli.StringFlag{Name: "passphrase-file", Usage: "`FILE` with the passphrase to seal it under (or set MAGPIE_EXPORT_PASSPHRASE)"},
	}, 0, 100, a.doExport), "A sealed file is read by anybody who has the key, without this service: age -d FILE | tar --zstd -xf -")
}

func (a *app) worksheet() *cli.Command {
	return a.do("worksheet", "SELECTOR…", "the key facts of devices, to be ticked off while they are set up on another platform by hand", []cli.Flag{
		&cli.StringFlag{Name: "as", Value: "html", Usage: "`FORM`: html, which prints well, or csv"},
		&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "`FILE` to write, which must not exist yet; standard output if not said"},
	}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
		text, err := s.Worksheet(ctx, sel, c.String("as"))
		if err != nil {
			return err
		}
		if file := c.String("output"); file != "" && file != "-" {
			if err = writeNew(file, text); err == nil {
				a.tell("%s was written\n", file)
			}
			return err
		}
		_, err = io.WriteString(a.s.out, text)
		return err
	})
}

func (a *app) doExport(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
	n := client.NewExport{Selector: sel, Snapshot: c.String("snapshot"), History: c.Bool("history"), Masked: c.Bool("masked"), As: c.String("as"), Recipients: c.StringSlice("recipient")}
	if len(sel) == 0 && n.Snapshot == "" {
		return fmt.Errorf("name devices, or a snapshot: %s site=callowmere, %[1]s all, %[1]s --snapshot NAME", c.FullName())
	}
	folder := n.As == "folder"
	if folder {
		n.As = "tar.zst"
		if len(n.Recipients) > 0 || c.String("passphrase-file") != "" {
			return errors.New("a folder is not sealed; leave --as out, or --recipient and --passphrase-file")
		}
		if c.String("to") == "" || c.String("to") == "-" {
			return errors.New("name the folder with --to")
		}
	}
	var err error
	if n.Passphrase, err = a.s.secretIf(ctx, "Passphrase", "MAGPIE_EXPORT_PASSPHRASE", c.String("passphrase-file")); err != nil {
		return err
	}
	get := func(w receiver) (string, error) { return s.ExportVersions(ctx, n, w) }
	if folder {
		f, err := a.fetched(filepath.Dir(c.String("to")), "exporting", func(w receiver) error { _, err := get(w); return err })
		if err != nil {
			return err
		}
		defer os.Remove(f.Name())
		defer f.Close()
		files, err := unfold(f, c.String("to"))
		if err == nil {
			a.tell("%s in %s\n", count(files, "file", "files"), c.String("to"))
		}
		return err
	}
	r, err := a.received(c.String("to"), "exporting", get)
	if err == nil && r.name != "-" {
		a.tell("%s, %d KiB\n", r.name, r.size>>10)
	}
	return err
}

// unfold writes the files of an export into a folder that is not there yet, or empty.
func unfold(f *os.File, folder string) (n int, err error) {
	if there, err := os.ReadDir(folder); err == nil && len(there) > 0 {
		return 0, fmt.Errorf("%s is not empty; nothing was overwritten", folder)
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return 0, err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	z, err := zstd.NewReader(f)
	if err != nil {
		return 0, err
	}
	defer z.Close()
	for t := tar.NewReader(z); ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
		if filepath.Base(h.Name) != h.Name {
			return n, fmt.Errorf("the archive holds %q, which leads elsewhere", h.Name)
		}
		out, err := os.OpenFile(filepath.Join(folder, h.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return n, err
		}
		_, err = io.Copy(out, t)
		if err := errors.Join(err, out.Close(), os.Chtimes(out.Name(), h.ModTime, h.ModTime)); err != nil {
			return n, err
		}
	}
}
