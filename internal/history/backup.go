package history

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// backupFormat is of how a backup is written. One of a greater number is of a newer program.
const backupFormat = 1

// piece is about how many bytes of a table stand in one file of a backup.
const piece = 4 << 20

// Names of files in a backup: what it is, first, and what it comes to, last.
const (
	aboutFile = "about.json"
	endFile   = "end.json"
)

// About is what a backup says of itself.
type About struct {
	Format  int          `json:"format"`
	Program string       `json:"program"` // the version of the program that made it
	MadeAt  time.Time    `json:"made_at"`
	MadeBy  string       `json:"made_by"`
	Targets []TargetName `json:"targets"` // where its copies are kept
	store.Dump
}

// TargetName is a target in words.
type TargetName struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Where string `json:"where"`
}

// Errors of reading a backup.
var (
	ErrNoBackup  = errors.New("this is no backup of a service")
	ErrCutOff    = errors.New("the backup is cut off, or was changed")
	ErrNotOurKey = errors.New("the backup does not open with this key")
)

// WriteBackup writes the whole service out, sealed, as it is at one moment.
func (s *Service) WriteBackup(ctx context.Context, actor core.Actor, history bool, to []age.Recipient, program string, out io.Writer) (about About, err error) {
	targets, err := s.Store.As(job.Service).Targets(ctx)
	if err != nil {
		return about, err
	}
	about = About{Format: backupFormat, Program: program, MadeAt: s.Now(), MadeBy: actor.Name, Targets: []TargetName{}}
	for _, t := range targets {
		about.Targets = append(about.Targets, TargetName{t.Name, t.Kind, t.Where})
	}
	sealed, err := age.Encrypt(out, to...)
	if err != nil {
		return about, err
	}
	z, err := zstd.NewWriter(sealed, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return about, err
	}
	w := &backupWriter{tar: tarball{tar.NewWriter(z), z}, at: about.MadeAt, sums: map[string]*store.Summer{}}
	err = s.Store.Dumping(ctx, history, func(d store.Dump) error {
		about.Dump = d
		return w.json(aboutFile, about)
	}, w.row)
	if err == nil {
		err = w.end()
	}
	for _, c := range []io.Closer{w.tar, sealed} {
		if err == nil {
			err = c.Close()
		}
	}
	return about, err
}

// backupWriter gathers rows into files.
type backupWriter struct {
	tar  tarball
	at   time.Time
	now  string // the table whose rows are gathered
	n    int    // its files so far
	rows bytes.Buffer
	sums map[string]*store.Summer
}

func (w *backupWriter) file(name string, text []byte) error {
	return w.tar.add(name, w.at, int64(len(text)), written(text))
}

func (w *backupWriter) json(name string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err == nil {
		err = w.file(name, append(raw, '\n'))
	}
	return err
}

func (w *backupWriter) row(t store.Table, line []byte) error {
	if t.Name != w.now || w.rows.Len() > piece {
		if err := w.flush(); err != nil {
			return err
		}
	}
	if t.Name != w.now {
		w.now, w.n = t.Name, 0
		w.sums[t.Name] = &store.Summer{}
	}
	w.sums[t.Name].Add(line)
	_, err := w.rows.Write(line)
	return err
}

func (w *backupWriter) flush() error {
	if w.rows.Len() == 0 {
		return nil
	}
	w.n++
	err := w.file(fmt.Sprintf("%s/%06d.jsonl", w.now, w.n), w.rows.Bytes())
	w.rows.Reset()
	return err
}

func (w *backupWriter) end() error {
	if err := w.flush(); err != nil {
		return err
	}
	sums := map[string]store.Sum{}
	for name, s := range w.sums {
		sums[name] = s.Sum()
	}
	return w.json(endFile, sums)
}

// Taker is given what a backup holds, in its order. rows is called for each table, also for one
// that has none, and then for each piece of it.
type Taker struct {
	About func(About) error
	Table func(t store.Table) error
	Rows  func(t store.Table, lines [][]byte) error
}

// ReadBackup reads a backup to its end and makes sure that it is whole. What it comes to is
// returned by table; id names it.
func ReadBackup(in io.Reader, ids []age.Identity, take Taker) (about About, sums map[string]store.Sum, id string, err error) {
	opened, err := age.Decrypt(in, ids...)
	var noMatch *age.NoIdentityMatchError
	switch {
	case errors.As(err, &noMatch):
		return about, nil, "", fmt.Errorf("%w: it is sealed for the master key of the service that it is from, and for whom else that was asked for", ErrNotOurKey)
	case err != nil:
		return about, nil, "", fmt.Errorf("%w: %w", ErrNoBackup, err)
	}
	z, err := zstd.NewReader(opened, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	if err != nil {
		return about, nil, "", err
	}
	defer z.Close()
	r := &backupReader{take: take, sums: map[string]*store.Summer{}}
	if err := r.read(tar.NewReader(z)); err != nil {
		return r.about, nil, "", err
	}
	// What follows the archive's end: nothing, and the seal's last piece says so.
	if n, err := io.Copy(io.Discard, z); err != nil || n > 64<<10 {
		return r.about, nil, "", fmt.Errorf("%w: %w", ErrCutOff, err)
	}
	var whole store.Summer
	for _, t := range r.about.Tables {
		whole.Add([]byte(t.Name + " " + r.end[t.Name].SHA256 + "\n"))
	}
	return r.about, r.end, whole.Sum().SHA256, nil
}

type backupReader struct {
	take  Taker
	about About
	next  int // the table that comes next
	sums  map[string]*store.Summer
	end   map[string]store.Sum
}

func (r *backupReader) read(in *tar.Reader) error {
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrCutOff, err)
		}
		if r.end != nil || h.Size > 1<<30 {
			return fmt.Errorf("%w: something stands where nothing should: %s", ErrCutOff, h.Name)
		}
		raw, err := io.ReadAll(in)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrCutOff, err)
		}
		if err := r.file(h.Name, raw); err != nil {
			return err
		}
	}
	if r.end == nil {
		return fmt.Errorf("%w: its last file is missing", ErrCutOff)
	}
	return nil
}

func (r *backupReader) file(name string, raw []byte) error {
	table, _, isRows := strings.Cut(name, "/")
	switch {
	case name == aboutFile && r.about.Format == 0:
		if err := json.Unmarshal(raw, &r.about); err != nil || r.about.Format < 1 {
			return fmt.Errorf("%w: what it says of itself cannot be read", ErrNoBackup)
		}
		if r.about.Format > backupFormat || r.about.Schema > store.NewestSchema() {
			return fmt.Errorf("%w: the backup was made by version %s of the program; this one knows neither its form nor its tables: use a program that is as new", store.ErrNewer, r.about.Program)
		}
		return r.take.About(r.about)
	case r.about.Format == 0:
		return fmt.Errorf("%w: it begins with %s", ErrNoBackup, name)
	case name == endFile:
		if err := r.upTo(len(r.about.Tables)); err != nil {
			return err
		}
		if err := json.Unmarshal(raw, &r.end); err != nil {
			return fmt.Errorf("%w: its end cannot be read", ErrCutOff)
		}
		for _, t := range r.about.Tables {
			got := r.sums[t.Name].Sum()
			if want, ok := r.end[t.Name]; ok && got != want || !ok && got.Rows > 0 || got.Rows != t.Rows {
				return fmt.Errorf("%w: table %s has %d rows instead of %d, or others", ErrCutOff, t.Name, got.Rows, t.Rows)
			}
			r.end[t.Name] = got
		}
		return nil
	case isRows:
		i := slices.IndexFunc(r.about.Tables, func(t store.Table) bool { return t.Name == table })
		if i < 0 || i < r.next-1 {
			return fmt.Errorf("%w: %s stands where it should not", ErrCutOff, name)
		}
		if err := r.upTo(i + 1); err != nil {
			return err
		}
		lines := bytes.SplitAfter(bytes.TrimSuffix(raw, []byte("\n")), []byte("\n"))
		for i, l := range lines {
			if !bytes.HasSuffix(l, []byte("\n")) {
				lines[i] = append(bytes.Clone(l), '\n')
			}
			r.sums[table].Add(lines[i])
		}
		return r.take.Rows(r.about.Tables[i], lines)
	}
	return fmt.Errorf("%w: nobody knows its file %s", ErrNoBackup, name)
}

// upTo tells of the tables up to one.
func (r *backupReader) upTo(n int) error {
	for ; r.next < n; r.next++ {
		t := r.about.Tables[r.next]
		r.sums[t.Name] = &store.Summer{}
		if err := r.take.Table(t); err != nil {
			return err
		}
	}
	return nil
}

// Nothing takes nothing: for a look at a backup.
var Nothing = Taker{func(About) error { return nil }, func(store.Table) error { return nil }, func(store.Table, [][]byte) error { return nil }}

// Into takes a backup into a database. want is what it comes to, from having read it before; say
// hears how far it is.
func Into(ctx context.Context, l *store.Loader, want map[string]store.Sum, say func(t store.Table, whole bool)) (take Taker, end func() error) {
	now := store.Table{}
	finish := func() error {
		if now.Name == "" || l.Has(now) {
			return nil
		}
		if err := l.Whole(ctx, now, want[now.Name]); err != nil {
			return err
		}
		say(now, true)
		return nil
	}
	return Taker{
		About: func(About) error { return nil },
		Table: func(t store.Table) error {
			if err := finish(); err != nil {
				return err
			}
			now = t
			if l.Has(t) {
				return nil
			}
			say(t, false)
			return l.Empty(ctx, t)
		},
		Rows: func(t store.Table, lines [][]byte) error {
			if err := ctx.Err(); err != nil || l.Has(t) {
				return err
			}
			return l.Fill(ctx, t, lines)
		},
	}, finish
}
