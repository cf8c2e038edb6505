package history

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"filippo.io/age"

	"magpie/internal/core"
	"magpie/internal/history/place"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Backup is what a job that backs the service up is asked for.
type Backup struct {
	Target  string `json:"target"` // its name
	History bool   `json:"history"`
	Keep    int    `json:"keep"` // how many of its kind stay at the target; older ones are removed
}

// BackupTest is what a job that proves a backup is asked for.
type BackupTest struct {
	Backup string `json:"backup"` // its id
}

// usualKeep is how many backups of a kind stay at a target where nobody says.
const usualKeep = 14

// BackupOf reads what a backup is asked for with.
func (s *Service) BackupOf(ctx context.Context, q *store.Q, with map[string]string) (b Backup, err error) {
	b = Backup{Target: with["to"], History: true, Keep: usualKeep}
	t, err := q.Target(ctx, b.Target)
	if err != nil {
		return b, err
	}
	if t.Kind == place.Git {
		return b, fmt.Errorf("target %s is a Git repository; a backup goes to a folder or a server that takes files", t.Name)
	}
	switch with["history"] {
	case "", "yes":
	case "no":
		b.History = false
	default:
		return b, fmt.Errorf("history is %q; it is yes or no", with["history"])
	}
	if n := with["keep"]; n != "" {
		if b.Keep, err = strconv.Atoi(n); err != nil || b.Keep < 1 || b.Keep > 10_000 {
			return b, fmt.Errorf("keep is %q; it takes a number from 1 to 10000", n)
		}
	}
	return b, nil
}

// backupKinds are the kinds of jobs by which the service is backed up.
func (s *Service) backupKinds() []job.Kind {
	words := func(raw []byte) (with map[string]string, err error) {
		if len(raw) > 0 {
			err = json.Unmarshal(raw, &with)
		}
		return with, err
	}
	return []job.Kind{
		{Name: "backup", Tells: true, Role: core.Admin, Does: "writes the whole service into one sealed file, at a target", Tries: 3, Repeats: true, Step: s.step((*Service).backupJob),
			Asks: func(ctx context.Context, actor core.Actor, _ core.Job, raw []byte) (any, error) {
				with, err := words(raw)
				if err != nil {
					return nil, err
				}
				return s.BackupOf(ctx, s.Store.As(actor), with)
			},
			Recurs: &job.Recurs{Takes: []string{"to!", "history", "keep"},
				Check: func(ctx context.Context, q *store.Q, with map[string]string) error {
					_, err := s.BackupOf(ctx, q, with)
					return err
				},
				Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
					b, err := s.BackupOf(ctx, s.Store.As(d.Actor), d.With)
					if err != nil {
						return nil, err
					}
					j, err := s.askWith(ctx, d.Actor, "backup", b, d.Key)
					return []core.Job{j}, err
				}}},
		{Name: "backup-test", Tells: true, Role: core.Admin, Does: "restores a backup into a scratch database and holds it against what was backed up", Tries: 3, Repeats: true, Step: s.step((*Service).backupTestJob),
			Asks: func(ctx context.Context, actor core.Actor, _ core.Job, raw []byte) (any, error) {
				with, err := words(raw)
				if err != nil {
					return nil, err
				}
				b, err := s.Store.As(actor).Backup(ctx, with["backup"])
				return BackupTest{b.ID}, err
			},
			Recurs: &job.Recurs{Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
				b, err := s.Store.As(d.Actor).Backup(ctx, "")
				if errors.Is(err, store.ErrNotFound) {
					return nil, nil // none was made yet
				}
				if err != nil {
					return nil, err
				}
				j, err := s.askWith(ctx, d.Actor, "backup-test", BackupTest{b.ID}, d.Key)
				return []core.Job{j}, err
			}}},
	}
}

// For is to whom a backup is sealed: the master key in use, this service, and others.
func (s *Service) For(ctx context.Context, others []string) ([]age.Recipient, error) {
	id, err := s.identity(ctx)
	if err != nil {
		return nil, err
	}
	_, master, err := s.Store.As(job.Service).ForMaster(ctx)
	if err != nil {
		return nil, err
	}
	return recipients(append([]string{id.Recipient().String(), master}, others...))
}

// end ends a job that came to nothing, or leaves it to whoever takes it up when the service stops.
func (s *Service) endBadly(ctx context.Context, j core.Job, l *job.Log, err error) {
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, "cancelled by hand", nil)
	default:
		s.End(j, l, core.Failed, err.Error(), nil)
	}
}

// backupJob writes a backup and puts it to its target.
func (s *Service) backupJob(ctx context.Context, j core.Job, l *job.Log) {
	var b Backup
	err := s.Store.As(job.Service).OpenRequest(j, &b)
	if err == nil {
		err = s.backUp(ctx, j, b, l)
	}
	if err != nil {
		s.endBadly(ctx, j, l, err)
	}
}

func (s *Service) backUp(ctx context.Context, j core.Job, b Backup, l *job.Log) error {
	t, err := s.Store.As(job.Service).Target(ctx, b.Target)
	if err != nil {
		return err
	}
	p, err := s.reach(ctx, t)
	if err != nil {
		return fmt.Errorf("target %s: %w", t.Name, err)
	}
	defer p.Close()
	to, err := s.For(ctx, t.Recipients)
	if err != nil {
		return err
	}
	// It is written here first: a server wants to know how long a file is.
	file, done, err := s.SpoolFile()
	if err != nil {
		return err
	}
	defer done()
	l.Step("writing it down")
	about, err := s.WriteBackup(ctx, core.Actor{Name: j.Actor}, b.History, to, s.Program, file)
	if err != nil {
		return err
	}
	size, err := file.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	kind := map[bool]string{true: "whole", false: "settings"}[b.History]
	row := store.BackupRow{TargetID: t.ID, Path: "backups/magpie_" + about.MadeAt.UTC().Format("20060102T150405Z") + "_" + kind + "_" + j.ID + ".backup.age", MadeAt: about.MadeAt, MadeBy: j.Actor, History: b.History, Bytes: size,
		Devices: about.Devices, Versions: about.Versions}
	l.Step("putting %d KiB to %s", size>>10, t.Name)
	if err := p.Put(ctx, row.Path, size, file); err != nil {
		return fmt.Errorf("target %s: %w", t.Name, err)
	}
	summary := fmt.Sprintf("%s of %s and %s at %s: %s", core.Count(int(size>>10), "KiB", "KiB"), core.Count(about.Devices, "device", "devices"), core.Count(about.Versions, "version", "versions"), t.Name, row.Path)
	old, err := s.Store.As(job.Service).Backups(ctx, t.ID, b.History)
	if err != nil {
		return err
	}
	var gone []string
	for i, x := range old {
		if i+1 < b.Keep { // the new one is one of them
			continue
		}
		if err := p.Remove(ctx, x.Path); err != nil {
			l.Warn("%s, which had its time, is still there: %v", x.Path, err)
			continue
		}
		gone = append(gone, x.ID)
		l.Info("%s had its time and was removed", x.Path)
	}
	s.End(j, l, core.Done, summary, nil, func(q *store.Q) error {
		if err := q.AddBackup(ctx, &row); err != nil {
			return err
		}
		if err := q.DropBackups(ctx, gone); err != nil {
			return err
		}
		return q.Audit(ctx, "backup made", row.ID, summary)
	})
	return nil
}

// backupTestJob restores a backup into a scratch database, and says what came of it.
func (s *Service) backupTestJob(ctx context.Context, j core.Job, l *job.Log) {
	var r BackupTest
	err := s.Store.As(job.Service).OpenRequest(j, &r)
	var b store.BackupRow
	if err == nil {
		b, err = s.Store.As(job.Service).Backup(ctx, r.Backup)
	}
	// There is one scratch database.
	if err == nil {
		var release func()
		if release, err = s.OneAtATime(ctx, "scratch", j.ID, l, "it has the scratch database"); err == nil {
			defer release()
		}
	}
	var said string
	tried := false
	if err == nil {
		said, tried, err = s.proveBackup(ctx, b, l)
	}
	if ctx.Err() != nil {
		s.endBadly(ctx, j, l, ctx.Err())
		return
	}
	note := func(q *store.Q) error {
		if b.ID == "" || err != nil && (!tried || errors.Is(err, store.ErrDatabase)) {
			return nil // that nothing could be tried is no fact about the backup
		}
		if err != nil {
			return q.BackupProved(ctx, b.ID, nil, err.Error())
		}
		now := s.Now()
		return q.BackupProved(ctx, b.ID, &now, "")
	}
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil, note)
		return
	}
	s.End(j, l, core.Done, said, nil, note)
}

// proveBackup does what a restore would, in a database of its own. tried: it came so far that an error is one of
// the backup.
func (s *Service) proveBackup(ctx context.Context, b store.BackupRow, l *job.Log) (said string, tried bool, err error) {
	q := s.Store.As(job.Service)
	targets, err := q.Targets(ctx)
	if err != nil {
		return "", false, err
	}
	var t store.Target
	for _, x := range targets {
		if x.ID == b.TargetID {
			t = x
		}
	}
	p, err := place.Open(ctx, way(t))
	if err != nil {
		return "", false, fmt.Errorf("target %s: %w", t.Name, err)
	}
	defer p.Close()
	file, err := p.Get(ctx, b.Path)
	if err != nil {
		return "", false, fmt.Errorf("target %s: %w", t.Name, err)
	}
	defer file.Close()
	id, err := s.identity(ctx)
	if err != nil {
		return "", false, err
	}
	dsn, drop, err := s.Store.Scratch(ctx, "proof")
	if err != nil {
		return "", false, err
	}
	defer func() { err = errors.Join(err, drop()) }()
	var into *store.Loader
	defer func() {
		if into != nil {
			into.Close()
		}
	}()
	from := &watched{Reader: file}
	about, sums, _, err := ReadBackup(from, []age.Identity{id}, Taker{
		About: func(a About) (err error) {
			l.Step("restoring what was backed up at %s", a.MadeAt.UTC().Format(time.RFC3339))
			into, err = store.Load(ctx, dsn, "proof", a.Schema)
			return err
		},
		Table: func(t store.Table) error { return into.Empty(ctx, t) },
		Rows:  func(t store.Table, lines [][]byte) error { return into.Fill(ctx, t, lines) },
	})
	if err != nil {
		return "", from.err == nil, err
	}
	rows := int64(0)
	for _, t := range about.Tables {
		if err := into.Whole(ctx, t, sums[t.Name]); err != nil {
			return "", true, err
		}
		rows += t.Rows
	}
	l.Step("%d rows of %d tables are there as they were; reading every text back", rows, len(about.Tables))
	texts, damaged, err := into.Contents(ctx, s.Store.Keys())
	if err != nil {
		return "", true, err
	}
	said = fmt.Sprintf("%s of %s: %s restored, every hash equal, %s read back", b.Path, cmp.Or(t.Name, "a target"), core.Count(int(rows), "row", "rows"), core.Count(texts-len(damaged), "text", "texts"))
	if len(damaged) == 0 {
		return said, true, nil
	}
	neither, err := s.damagedHere(ctx, q, damaged)
	return said + "; " + neither, true, err
}

// watched notes why reading ended before the end.
type watched struct {
	io.Reader
	err error
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	if err != nil && err != io.EOF {
		w.err = err
	}
	return n, err
}

// damagedHere says which versions have texts that a backup cannot give back: it is as good as it can
// be where they do not read back here either, and not where they do.
func (s *Service) damagedHere(ctx context.Context, q *store.Q, contentIDs []string) (string, error) {
	var refs []string
	for _, id := range contentIDs {
		versions, err := q.VersionsWith(ctx, id)
		if err != nil {
			return "", err
		}
		for _, v := range versions {
			refs = append(refs, v.Ref())
		}
		err = q.ContentTo(ctx, id, io.Discard)
		switch {
		case errors.Is(err, store.ErrDamaged), errors.Is(err, store.ErrNotFound):
		case err != nil:
			return "", err
		default:
			return "", fmt.Errorf("%s reads back here and not in the backup: it was made when that was damaged; make another: magpie backup make", strings.Join(refs, ", "))
		}
	}
	return fmt.Sprintf("%s not, and here neither: %s", core.Count(len(contentIDs), "text does", "texts do"), strings.Join(refs[:min(len(refs), 20)], ", ")), nil
}

// ClearSpool removes what an earlier run of the service left behind when it was killed.
func (s *Service) ClearSpool() error {
	left, err := filepath.Glob(filepath.Join(s.Spool, "backup-*"))
	for _, f := range left {
		err = errors.Join(err, os.Remove(f))
	}
	return err
}
