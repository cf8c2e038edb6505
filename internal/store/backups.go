package store

import (
	"context"
	"errors"
	"time"
)

// BackupRow is a backup of the whole service, as it is known here.
type BackupRow struct {
	ID       string     `db:"id"`
	TargetID string     `db:"target_id"`
	Target   string     `db:"target"`
	Path     string     `db:"path"`
	MadeAt   time.Time  `db:"made_at"`
	MadeBy   string     `db:"made_by"`
	History  bool       `db:"history"`
	Bytes    int64      `db:"bytes"`
	Devices  int        `db:"devices"`
	Versions int        `db:"versions"`
	ProvenAt *time.Time `db:"proven_at"`
	Trouble  string     `db:"trouble"`
}

const backupColumns = `SELECT b.id, b.target_id, COALESCE(t.name, '') AS target, b.path, b.made_at, b.made_by, b.history, b.bytes, b.devices, b.versions, b.proven_at, b.trouble
	FROM backups b LEFT JOIN targets t ON t.id = b.target_id `

// Backup returns a backup by its id, or by its path; without either the newest with history, or
// the newest at all.
func (q *Q) Backup(ctx context.Context, id string) (BackupRow, error) {
	if id != "" {
		b, err := get[BackupRow](ctx, q.ext, backupColumns+`WHERE b.id = ? OR b.path = ?`, id, id)
		if errors.Is(err, ErrNotFound) {
			return b, q.named(ctx, "backup", id, `SELECT id FROM backups`)
		}
		return b, err
	}
	b, err := get[BackupRow](ctx, q.ext, backupColumns+`ORDER BY b.history DESC, b.made_at DESC LIMIT 1`)
	if errors.Is(err, ErrNotFound) {
		err = errors.Join(errors.New("no backup was made yet; make one: magpie backup make --to TARGET"), err)
	}
	return b, err
}

// AllBackups lists the backups, newest first.
func (q *Q) AllBackups(ctx context.Context) ([]BackupRow, error) {
	return list[BackupRow](ctx, q.ext, backupColumns+`ORDER BY b.made_at DESC, b.id DESC`)
}

// Backups lists those of one kind at a target, newest first.
func (q *Q) Backups(ctx context.Context, targetID string, history bool) ([]BackupRow, error) {
	return list[BackupRow](ctx, q.ext, backupColumns+`WHERE b.target_id = ? AND b.history = ? ORDER BY b.made_at DESC, b.id DESC`, targetID, history)
}

// AddBackup keeps that a backup was made.
func (q *Q) AddBackup(ctx context.Context, b *BackupRow) error {
	b.ID = NewID(q.clock())
	_, err := q.exec(ctx, `INSERT INTO backups (id, target_id, path, made_at, made_by, history, bytes, devices, versions) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		b.ID, b.TargetID, b.Path, b.MadeAt.UTC(), b.MadeBy, b.History, b.Bytes, b.Devices, b.Versions)
	return err
}

// DropBackups forgets backups.
func (q *Q) DropBackups(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	query, args, err := in(`DELETE FROM backups WHERE id IN (?)`, ids)
	if err == nil {
		_, err = q.exec(ctx, query, args...)
	}
	return err
}

// BackupProved notes that a backup was restored elsewhere and was as it should be, or why not.
func (q *Q) BackupProved(ctx context.Context, id string, at *time.Time, trouble string) error {
	_, err := q.exec(ctx, `UPDATE backups SET proven_at = COALESCE(?, proven_at), trouble = ? WHERE id = ?`, at, shorten(trouble, 1000), id)
	return err
}
