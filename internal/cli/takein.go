package cli

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"magpie/client"
	"magpie/internal/core/ref"
)

// How much of what is packed is opened.
const (
	mostUnpacked = 256 << 20 // bytes in all
	mostFiles    = 10_000
	mostOneFile  = 16 << 20
	mostSent     = 1 << 20 // bytes of one request, before base64
)

func (a *app) takeIn() *cli.Command {
	return a.described(a.do("import", "FILE|FOLDER…", "take configurations in that were made elsewhere, as versions", []cli.Flag{
		&cli.StringFlag{Name: "device", Usage: "the `DEVICE` whose they are, where neither their names nor their beginnings say it"},
		&cli.StringFlag{Name: "part", Usage: "the `PART` that they are"},
		&cli.StringFlag{Name: "at", Usage: "the `TIME` of which they are, where their names do not say it"},
		&cli.StringFlag{Name: "date-order", Usage: "the `ORDER` of the numbers of dates in their names: " + strings.Join(ref.DateOrders, ", ")},
		&cli.StringFlag{Name: "name", Usage: "a `NAME` for the version; with one file only"},
		&cli.StringFlag{Name: "note", Usage: "a `TEXT` to them"},
		&cli.BoolFlag{Name: "preview", Usage: "say what would become of them, and do nothing"},
	}, 1, 1000, a.doTakeIn), "Folders are gone through; .gz, .zip, .tar, .tar.gz and .tar.zst are opened, magpie export's own among them. What is taken in is set aside: it is newest of nothing and counts for no drift, and can be looked at, compared and pushed.")
}

// found is a file on its way in.
type foundFile struct {
	name     string
	content  []byte
	modified time.Time
}

func (a *app) doTakeIn(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	if len(got) == 1 && c.String("device") != "" && c.String("part") != "" {
		if st, err := os.Stat(got[0]); err == nil && st.Mode().IsRegular() && st.Size() > mostOneFile {
			return a.takeLarge(ctx, c, s, got[0], st)
		}
	}
	var files []foundFile
	left := mostUnpacked
	add := func(name string, modified time.Time, content []byte) error {
		if left -= len(content); left < 0 || len(files) == mostFiles {
			return fmt.Errorf("there is too much in it: %d files, %d MiB at the most", mostFiles, mostUnpacked>>20)
		}
		files = append(files, foundFile{name, content, modified})
		return nil
	}
	for _, g := range got {
		err := filepath.WalkDir(g, func(p string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			info, err := d.Info()
			if err != nil || !info.Mode().IsRegular() {
				return err
			}
			within := func(name string, modified time.Time, content []byte) error {
				if rel, err := filepath.Rel(filepath.Dir(filepath.Clean(g)), name); err == nil {
					name = rel
				}
				return add(name, modified, content)
			}
			if err := opened(p, info, within); err != nil {
				return fmt.Errorf("%s: %w", p, err)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	known := manifests(files)
	n := client.NewImport{Zone: zone().String(), Preview: c.Bool("preview"), DateOrder: c.String("date-order")}
	if n.Zone == "Local" {
		n.Zone = ""
	}
	if c.String("name") != "" && len(files) != 1 {
		return fmt.Errorf("--name is for one file; there are %d", len(files))
	}
	var at *time.Time
	if w := c.String("at"); w != "" {
		t, err := ref.ParseTime(w, here())
		if err != nil {
			return fmt.Errorf("--at: %w", err)
		}
		at = &t
	}
	var all []client.TakenIn
	sent := 0
	send := func() error {
		if len(n.Files) == 0 {
			return nil
		}
		out, err := s.ImportVersions(ctx, n)
		all = append(all, out...)
		n.Files, sent = nil, 0
		return err
	}
	for _, f := range files {
		if path.Base(f.name) == manifestName {
			continue
		}
		x := client.ImportFile{File: f.name, Content: base64.StdEncoding.EncodeToString(f.content), Device: c.String("device"), Part: c.String("part"), TakenAt: at, Name: c.String("name"), Note: c.String("note")}
		if m, ok := known[f.name]; ok && x.Device == "" {
			x.Device, x.Part, x.TakenAt, x.Name = m.Device, m.Part, &m.TakenAt, m.Called
			x.Note = strings.TrimSpace(m.Note + "\n" + x.Note)
		}
		if !f.modified.IsZero() {
			x.Modified = &f.modified
		}
		if sent += len(f.content); sent > mostSent || len(n.Files) == 500 {
			if err := send(); err != nil {
				return err
			}
		}
		n.Files = append(n.Files, x)
	}
	if err := send(); err != nil {
		return err
	}
	count1 := map[string]int{}
	for _, t := range all {
		count1[t.Became]++
	}
	a.print(c, all, func() {
		list(a.s, all, cells[client.TakenIn]{"became": func(t client.TakenIn) cell {
			if t.Became == "refused" {
				return cell{t.Became, alarm}
			}
			return cell{t.Became, plain}
		}, "number": func(t client.TakenIn) cell {
			if t.Number == 0 {
				return cell{}
			}
			return cell{fmt.Sprint(t.Number), plain}
		}})
		word := "added"
		if c.Bool("preview") {
			word = "would be added"
		}
		a.s.printf("%d %s, %d there already, %d refused.\n", count1["added"], word, count1["there already"], count1["refused"])
	})
	if count1["refused"] > 0 {
		return errDiffers
	}
	return nil
}

// takeLarge takes one large file in, as it is, while it is read.
func (a *app) takeLarge(ctx context.Context, c *cli.Command, s *client.Client, file string, st fs.FileInfo) error {
	if c.Bool("preview") {
		return fmt.Errorf("%s has %s; what is so large cannot be previewed", file, bytesOf(st.Size()))
	}
	at := st.ModTime()
	if w := c.String("at"); w != "" {
		var err error
		if at, err = ref.ParseTime(w, here()); err != nil {
			return fmt.Errorf("--at: %w", err)
		}
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	bar := progress("sending", st.Size())
	t, err := s.ImportFile(ctx, map[string]string{"file": filepath.Base(file), "device": c.String("device"), "part": c.String("part"), "taken_at": at.UTC().Format(time.RFC3339Nano), "name": c.String("name"), "note": c.String("note")}, io.TeeReader(f, bar))
	_ = bar.Finish()
	if err != nil {
		return err
	}
	a.print(c, []client.TakenIn{t}, func() { list(a.s, []client.TakenIn{t}, nil) })
	return nil
}

// manifested is what a manifest of an export says of a file.
type manifested struct {
	Name    string    `json:"name"`
	Device  string    `json:"device"`
	Part    string    `json:"part"`
	TakenAt time.Time `json:"taken_at"`
	Called  string    `json:"called"`
	Note    string    `json:"note"`
	Masked  bool      `json:"masked"`
}

// manifests reads what exports say of their files, by the names that these have here.
func manifests(files []foundFile) map[string]manifested {
	out := map[string]manifested{}
	for _, f := range files {
		if path.Base(f.name) != manifestName {
			continue
		}
		var m struct{ Files []manifested }
		if json.Unmarshal(f.content, &m) != nil {
			continue
		}
		for _, x := range m.Files {
			if x.Device != "" && !x.Masked {
				out[strings.TrimSuffix(f.name, manifestName)+x.Name] = x
			}
		}
	}
	return out
}

// opened hands a file on, or what is packed in it.
func opened(p string, info fs.FileInfo, add func(string, time.Time, []byte) error) error {
	f, err := os.Open(p)
	if err != nil {
		return err
	}
	defer f.Close()
	lower := strings.ToLower(p)
	switch {
	case strings.HasSuffix(lower, ".zip"):
		z, err := zip.NewReader(f, info.Size())
		if err != nil {
			return err
		}
		for _, x := range z.File {
			if x.FileInfo().IsDir() {
				continue
			}
			r, err := x.Open()
			if err != nil {
				return err
			}
			err = bounded(p+"/"+x.Name, x.Modified, r, add)
			if err := errors.Join(err, r.Close()); err != nil {
				return err
			}
		}
		return nil
	case strings.HasSuffix(lower, ".tar.zst"), strings.HasSuffix(lower, ".tzst"):
		z, err := zstd.NewReader(f, zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		return untar(p, z, add)
	case strings.HasSuffix(lower, ".tar.gz"), strings.HasSuffix(lower, ".tgz"):
		z, err := gzip.NewReader(f)
		if err != nil {
			return err
		}
		return untar(p, z, add)
	case strings.HasSuffix(lower, ".tar"):
		return untar(p, f, add)
	case strings.HasSuffix(lower, ".gz"):
		z, err := gzip.NewReader(f)
		if err != nil {
			return err
		}
		return bounded(p[:len(p)-3], info.ModTime(), z, add)
	}
	return bounded(p, info.ModTime(), f, add)
}

func untar(p string, r io.Reader, add func(string, time.Time, []byte) error) error {
	for t := tar.NewReader(r); ; {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if err := bounded(p+"/"+h.Name, h.ModTime, t, add); err != nil {
			return err
		}
	}
}

// bounded reads one file up to what is taken in.
func bounded(name string, modified time.Time, r io.Reader, add func(string, time.Time, []byte) error) error {
	var b bytes.Buffer
	n, err := io.Copy(&b, io.LimitReader(r, mostOneFile+1))
	if err != nil {
		return err
	}
	if n > mostOneFile {
		return fmt.Errorf("%s has more than %d MiB", name, mostOneFile>>20)
	}
	return add(name, modified, b.Bytes())
}
