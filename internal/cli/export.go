package cli

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

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
	}, 0, 100, a.doExport), "Into the folder of an earlier export (--as folder) it adds what is not there yet. A sealed file is read by anybody who has the key, without this service: age -d FILE | tar --zstd -xf -")
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
		added, there, err := unfold(f, c.String("to"))
		if err == nil {
			a.tell("%s added in %s, %d there already\n", count(added, "file", "files"), c.String("to"), there)
		}
		return err
	}
	r, err := a.received(c.String("to"), "exporting", get)
	if err == nil && r.name != "-" {
		a.tell("%s, %d KiB\n", r.name, r.size>>10)
	}
	return err
}

// manifestName is the file of an export that says what is in it.
const manifestName = "manifest.json"

// exported is what a manifest says of one file, kept as it came.
type exported struct {
	manifested
	raw json.RawMessage
}

func (x *exported) UnmarshalJSON(raw []byte) error {
	x.raw = bytes.Clone(raw)
	return json.Unmarshal(raw, &x.manifested)
}

func (x exported) MarshalJSON() ([]byte, error) { return x.raw, nil }

type manifest struct {
	MadeBy string     `json:"made_by"`
	MadeAt time.Time  `json:"made_at"`
	Files  []exported `json:"files"`
}

// unfold writes the files of an export into a folder that is not there yet, is empty, or holds an
// earlier export: then it adds what is not there yet. Nothing is overwritten but the manifest, and
// nothing is written at all where a file of the same name holds something else.
func unfold(f *os.File, folder string) (added, there int, err error) {
	var was manifest
	found, err := os.ReadDir(folder)
	if err == nil && len(found) > 0 {
		raw, err := os.ReadFile(filepath.Join(folder, manifestName))
		if errors.Is(err, fs.ErrNotExist) {
			return 0, 0, fmt.Errorf("%s is not empty and holds no export; nothing was written; name another folder", folder)
		}
		if err == nil {
			err = json.Unmarshal(raw, &was)
		}
		if err != nil {
			return 0, 0, fmt.Errorf("%s cannot be read as that of an export: %w; nothing was written; name another folder", filepath.Join(folder, manifestName), err)
		}
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return 0, 0, err
	}
	var is manifest
	has := map[string]bool{}
	err = unpacked(f, func(h *tar.Header, r io.Reader) error {
		if h.Name == manifestName {
			return json.NewDecoder(r).Decode(&is)
		}
		same, err := holds(filepath.Join(folder, h.Name), r)
		has[h.Name] = same
		return err
	})
	if err != nil {
		return 0, 0, err
	}
	if is.MadeAt.IsZero() {
		return 0, 0, errors.New("what the service sent was cut off; nothing was written; try again")
	}
	err = unpacked(f, func(h *tar.Header, r io.Reader) error {
		switch {
		case h.Name == manifestName:
			return nil
		case has[h.Name]:
			there++
			return nil
		}
		added++
		return written(filepath.Join(folder, h.Name), h.ModTime, func(w io.Writer) error { _, err := io.Copy(w, r); return err })
	})
	if err != nil {
		return added, there, err
	}
	// What an earlier export said of files that this one has not stays; what it left out may be here now.
	said := map[string]bool{}
	for _, x := range is.Files {
		said[x.Name] = true
	}
	for _, x := range was.Files {
		if !said[x.Name] {
			is.Files = append(is.Files, x)
		}
	}
	slices.SortFunc(is.Files, func(a, b exported) int {
		return cmp.Or(cmp.Compare(a.Device, b.Device), cmp.Compare(a.Part, b.Part), a.TakenAt.Compare(b.TakenAt), cmp.Compare(a.Name, b.Name))
	})
	return added, there, written(filepath.Join(folder, manifestName), is.MadeAt, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(is)
	})
}

// unpacked goes through the files of an archive, from its beginning.
func unpacked(f *os.File, each func(*tar.Header, io.Reader) error) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	z, err := zstd.NewReader(f)
	if err != nil {
		return err
	}
	defer z.Close()
	for t := tar.NewReader(z); ; {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if filepath.Base(h.Name) != h.Name {
			return fmt.Errorf("the archive holds %q, which leads elsewhere", h.Name)
		}
		if err := each(h, t); err != nil {
			return err
		}
	}
}

// holds tells whether a file is there and holds what is read; it is a mistake when it holds something else.
func holds(file string, r io.Reader) (bool, error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	here, came := sha256.New(), sha256.New()
	if _, err := io.Copy(here, f); err != nil {
		return false, err
	}
	if _, err := io.Copy(came, r); err != nil {
		return false, err
	}
	if !bytes.Equal(here.Sum(nil), came.Sum(nil)) {
		return false, fmt.Errorf("%s holds something else: it was changed, or one of the two exports is masked; nothing was written; name another folder", file)
	}
	return true, nil
}

// written makes a file whole or not at all.
func written(file string, at time.Time, write func(io.Writer) error) error {
	out, err := os.CreateTemp(filepath.Dir(file), ".magpie-*")
	if err != nil {
		return err
	}
	err = errors.Join(write(out), out.Close())
	if err == nil {
		err = errors.Join(os.Chtimes(out.Name(), at, at), os.Rename(out.Name(), file))
	}
	if err != nil {
		return errors.Join(err, os.Remove(out.Name()))
	}
	return nil
}
