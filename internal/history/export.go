package history

import (
	"archive/tar"
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Forms that an export can have.
const (
	TarZst = "tar.zst" // ustar and PAX (POSIX.1-2001), packed by Zstandard (RFC 8878)
	Zip    = "zip"
)

// ErrExport is returned for an export that makes no sense.
var ErrExport = errors.New("nothing can be exported like that")

// Export is which versions leave as files, and in what form.
type Export struct {
	Devices  []core.Device
	Versions []core.Version // instead, those of a snapshot
	History  bool           // of the devices all versions, not the newest only
	Plain    bool           // with the secrets in them
	As       string

	Recipients []string // age recipients to which it is sealed (age-encryption.org/v1)
	Passphrase string   // or a passphrase under which it is
}

// File is one file of an export, as its manifest has it.
type File struct {
	Name    string    `json:"name"`
	SHA256  string    `json:"sha256"`
	Bytes   int64     `json:"bytes"`
	Device  string    `json:"device"`
	Part    string    `json:"part"`
	Number  int       `json:"number"`
	TakenAt time.Time `json:"taken_at"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	Author  string    `json:"author,omitempty"`
	Called  string    `json:"called,omitempty"` // the version's name
	Note    string    `json:"note,omitempty"`
	Masked  bool      `json:"masked"`
	Left    string    `json:"left_out,omitempty"` // why its content is not there
}

// Manifest says what an export holds. It is its last file, so one that was cut off has none.
type Manifest struct {
	MadeBy string    `json:"made_by"`
	MadeAt time.Time `json:"made_at"`
	Files  []File    `json:"files"`
}

// archive takes files one after the other.
type archive interface {
	add(name string, at time.Time, size int64, write func(io.Writer) error) error
	Close() error
}

type tarball struct {
	*tar.Writer
	z *zstd.Encoder
}

func (t tarball) add(name string, at time.Time, size int64, write func(io.Writer) error) error {
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: at, Format: tar.FormatPAX}); err != nil {
		return err
	}
	return write(t)
}

func (t tarball) Close() error { return errors.Join(t.Writer.Close(), t.z.Close()) }

type zipped struct{ *zip.Writer }

func (z zipped) add(name string, at time.Time, _ int64, write func(io.Writer) error) error {
	w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at})
	if err == nil {
		err = write(w)
	}
	return err
}

// written writes what is held.
func written(content []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(content)
		return err
	}
}

// Sound tells what of an export makes no sense, and reads to whom it is sealed.
func (x Export) Sound() (to []age.Recipient, err error) {
	if x.As != TarZst && x.As != Zip {
		return nil, fmt.Errorf("%w: %q is no form of it; it is %s or %s", ErrExport, x.As, TarZst, Zip)
	}
	if x.Passphrase != "" && len(x.Recipients) > 0 {
		return nil, fmt.Errorf("%w: it is sealed to recipients or under a passphrase, not both", ErrExport)
	}
	if x.Passphrase != "" {
		if len(x.Passphrase) < 10 {
			return nil, fmt.Errorf("%w: the passphrase has %d characters; it takes at least 10", ErrExport, len(x.Passphrase))
		}
		r, err := age.NewScryptRecipient(x.Passphrase)
		return []age.Recipient{r}, err
	}
	return recipients(x.Recipients)
}

// scrypting lets one passphrase be worked on at a time: scrypt (RFC 7914) takes 256 MiB for each.
var scrypting = make(chan struct{}, 1)

// sealTo begins to seal an export. Who waits for a turn and leaves takes none.
func sealTo(ctx context.Context, x Export, out io.Writer, to []age.Recipient) (io.WriteCloser, error) {
	if x.Passphrase != "" {
		select {
		case scrypting <- struct{}{}:
			defer func() { <-scrypting }()
		case <-ctx.Done():
			return nil, fmt.Errorf("sealing under a passphrase: %w", context.Cause(ctx))
		}
	}
	return age.Encrypt(out, to...)
}

// Write writes an export out, one version at a time in memory.
func (s *Service) Write(ctx context.Context, actor core.Actor, x Export, out io.Writer) error {
	to, err := x.Sound()
	if err != nil {
		return err
	}
	closers := []io.Closer{}
	if len(to) > 0 {
		w, err := sealTo(ctx, x, out, to)
		if err != nil {
			return err
		}
		out, closers = w, append(closers, w)
	}
	var a archive
	if x.As == Zip {
		a = zipped{zip.NewWriter(out)}
	} else {
		z, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
		if err != nil {
			return err
		}
		a = tarball{tar.NewWriter(z), z}
	}
	now := s.Now()
	m := Manifest{MadeBy: actor.Name, MadeAt: now, Files: []File{}}
	put := func(d core.Device, v core.Version) error {
		f, content, err := s.fileOf(ctx, x, d, v)
		if err != nil {
			return err
		}
		if f.Left == "" {
			sum := sha256.New()
			if err := a.add(f.Name, v.TakenAt, f.Bytes, func(w io.Writer) error { return content(io.MultiWriter(w, sum)) }); err != nil {
				return err
			}
			f.SHA256 = hex.EncodeToString(sum.Sum(nil))
		}
		m.Files = append(m.Files, f)
		return nil
	}
	if err := s.each(ctx, x, put); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(m, "", "  ")
	if err == nil {
		err = a.add("manifest.json", now, int64(len(raw)+1), written(append(raw, '\n')))
	}
	if err == nil {
		err = a.Close()
	}
	for _, c := range closers {
		if err == nil {
			err = c.Close()
		}
	}
	return err
}

// each goes through the versions of an export.
func (s *Service) each(ctx context.Context, x Export, put func(core.Device, core.Version) error) error {
	q := s.Store.As(job.Service)
	for _, v := range x.Versions {
		d, err := q.DeviceByID(ctx, v.DeviceID)
		if err == nil {
			err = put(d, v)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", v.Ref(), err)
		}
	}
	for _, d := range x.Devices {
		parts, err := q.Parts(ctx, d.ID)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if err := s.eachOf(ctx, q, x, d, p.Name, put); err != nil {
				return err
			}
		}
	}
	return nil
}

// eachOf goes through the versions of one part: the newest that counts, or all, newest first.
func (s *Service) eachOf(ctx context.Context, q *store.Q, x Export, d core.Device, part string, put func(core.Device, core.Version) error) error {
	if !x.History {
		v, err := q.Version(ctx, store.Latest(d.ID, part, 0))
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err == nil {
			err = put(d, v)
		}
		if err != nil {
			return fmt.Errorf("%s: %s: %w", d.Name, part, err)
		}
		return nil
	}
	for before := 0; ; {
		rows, err := q.Versions(ctx, d.ID, part, before, 200)
		if err != nil || len(rows) == 0 {
			return err
		}
		for _, v := range rows {
			before = v.Number
			if err := put(d, v.Version); err != nil {
				return fmt.Errorf("%s: %w", v.Ref(), err)
			}
		}
	}
}

// fileName is how a version is named as a file; one without lines is no text.
func fileName(v core.Version) string {
	ending := "cfg"
	if v.Lines == 0 {
		ending = "bin"
	}
	return ref.FileName(v.Device, strings.ReplaceAll(v.Part, "+", "-"), v.TakenAt, fmt.Sprintf("v%d", v.Number), ending)
}

// fileOf is a version as a file, and what writes its content.
func (s *Service) fileOf(ctx context.Context, x Export, d core.Device, v core.Version) (f File, write func(io.Writer) error, err error) {
	f = File{Device: d.Name, Part: v.Part, Number: v.Number, TakenAt: v.TakenAt, Reason: v.Reason, By: v.Actor, Author: v.Author, Called: v.Name, Note: v.Note, Masked: !x.Plain}
	var doc *dialect.Doc
	if dia := s.DialectOf(d); dia != nil {
		doc = dia.Doc(v.Part)
	}
	f.Name = fileName(v)
	opaque := doc == nil || doc.Opaque()
	q := s.Store.As(job.Service)
	content, err := q.Content(ctx, v.ContentID)
	if errors.Is(err, store.ErrLarge) && x.Plain {
		f.Bytes = int64(v.Size)
		return f, func(w io.Writer) error { return q.ContentTo(ctx, v.ContentID, w) }, nil
	}
	if errors.Is(err, store.ErrLarge) {
		f.Left = "nothing in it can be masked, and it may hold secrets"
		return f, nil, nil
	}
	if errors.Is(err, store.ErrDamaged) {
		f.Left = err.Error()
		return f, nil, nil
	}
	if err != nil {
		return f, nil, err
	}
	if !x.Plain {
		if opaque {
			f.Left = "nothing in it can be masked, and it may hold secrets"
			return f, nil, nil
		}
		masked, err := s.Masked(doc, string(content))
		if err != nil {
			return f, nil, err
		}
		content = []byte(masked)
	}
	f.Bytes = int64(len(content))
	return f, written(content), nil
}
