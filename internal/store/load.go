package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"

	"magpie/internal/core"
	"magpie/internal/seal"
)

// ErrNotEmpty is returned when a backup is to be restored into a database that is in use.
var ErrNotEmpty = errors.New("the database is not empty")

// ErrHalfRestored is returned by Open for a database into which a backup was not restored to its
// end.
var ErrHalfRestored = errors.New("restoring a backup into this database was broken off; restore the same backup again, and it goes on where it was")

// Loader takes a dump into a database that was empty.
type Loader struct {
	db   *sqlx.DB
	id   string
	done []string // tables that are whole already
	has  []Table  // that the database has
}

// NewestSchema is the newest version of the schema that this program knows.
func NewestSchema() int64 {
	n, err := newestMigration()
	if err != nil {
		panic(err) // they are part of the program
	}
	return n
}

// Load begins to take a dump in, or goes on with it. id names the dump. A database that is in
// use is left as it is (ErrNotEmpty); one in which there is a user and nothing else counts as
// empty.
func Load(ctx context.Context, dsn, id string, schema int64) (l *Loader, err error) {
	db, err := connect(ctx, dsn)
	if err != nil {
		return nil, err
	}
	l = &Loader{db: db, id: id}
	defer func() {
		if err != nil {
			db.Close()
		}
	}()
	half, err := halfRestored(ctx, db)
	if err != nil {
		return nil, err
	}
	if half {
		was, err := get[string](ctx, db, `SELECT name FROM restoring WHERE what = 'dump'`)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		if was != "" && was != id {
			return nil, fmt.Errorf("%w: another backup was being restored into it; restore that one to its end, or begin with an empty database", ErrNotEmpty)
		}
		if was != "" {
			l.done, err = list[string](ctx, db, `SELECT name FROM restoring WHERE what = 'table'`)
			return l, err
		}
	}
	if err := l.inUse(ctx); err != nil {
		return nil, err
	}
	if err := l.begin(ctx, schema); err != nil {
		return nil, err
	}
	return l, nil
}

func halfRestored(ctx context.Context, q sqlx.QueryerContext) (bool, error) {
	n, err := get[int](ctx, q, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'restoring'`)
	return n > 0, err
}

// inUse tells whether there is something that would be lost.
func (l *Loader) inUse(ctx context.Context) error {
	for table, most := range map[string]int{"devices": 0, "versions": 0, "credentials": 0, "schedules": 0, "users": 1} {
		there, err := get[int](ctx, l.db, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?`, table)
		if err != nil {
			return err
		}
		if there == 0 {
			continue
		}
		n, err := get[int](ctx, l.db, "SELECT COUNT(*) FROM `"+table+"`")
		if err != nil {
			return err
		}
		if n > most {
			return fmt.Errorf("%w: it has %s; a backup is restored into an empty service only, so give another data folder", ErrNotEmpty, core.Count(n, strings.TrimSuffix(table, "s"), table))
		}
	}
	return nil
}

// begin empties the database and makes the tables as the dump knows them.
func (l *Loader) begin(ctx context.Context, schema int64) error {
	if _, err := l.db.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS restoring (what VARCHAR(16) NOT NULL, name VARCHAR(64) NOT NULL, PRIMARY KEY (what, name)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin`); err != nil {
		return plain(err)
	}
	tables, err := list[string](ctx, l.db, `SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name <> 'restoring'`)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if _, err := l.db.ExecContext(ctx, "DROP TABLE `"+t+"`"); err != nil {
			return plain(err)
		}
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(database.DialectMySQL, l.db.DB, sub, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	if _, err := p.UpTo(ctx, schema); err != nil {
		return fmt.Errorf("making the tables: %w", err)
	}
	_, err = l.db.ExecContext(ctx, `INSERT INTO restoring (what, name) VALUES ('dump', ?)`, l.id)
	return plain(err)
}

// Has tells whether a table is whole already.
func (l *Loader) Has(t Table) bool { return slices.Contains(l.done, t.Name) }

// Empty makes a table ready to be filled.
func (l *Loader) Empty(ctx context.Context, t Table) error {
	if l.has == nil {
		var err error
		if l.has, err = tablesOf(ctx, l.db, true); err != nil {
			return err
		}
	}
	known := l.has
	i := slices.IndexFunc(known, func(k Table) bool { return k.Name == t.Name })
	if i < 0 || !slices.Equal(known[i].Columns, t.Columns) {
		return fmt.Errorf("table %s is not as the backup has it", t.Name)
	}
	_, err := l.db.ExecContext(ctx, "DELETE FROM `"+t.Name+"`")
	return plain(err)
}

// Fill writes rows of a table, as a dump has them.
func (l *Loader) Fill(ctx context.Context, t Table, lines [][]byte) error {
	var args []any
	size, n := 0, 0
	flush := func() error {
		if n == 0 {
			return nil
		}
		row := "(" + values("?", len(t.Columns)) + ")"
		_, err := l.db.ExecContext(ctx, "INSERT INTO `"+t.Name+"` (`"+strings.Join(t.Columns, "`, `")+"`) VALUES "+values(row, n), args...)
		args, size, n = nil, 0, 0
		return plain(err)
	}
	for _, line := range lines {
		var row []*string
		if err := json.Unmarshal(line, &row); err != nil || len(row) != len(t.Columns) {
			return fmt.Errorf("table %s: a row cannot be read", t.Name)
		}
		for i, v := range row {
			switch {
			case v == nil:
				args = append(args, nil)
			case t.Bytes[i]:
				raw, err := base64.StdEncoding.DecodeString(*v)
				if err != nil {
					return fmt.Errorf("table %s: a row cannot be read", t.Name)
				}
				args = append(args, raw)
			default:
				args = append(args, *v)
			}
		}
		size, n = size+len(line), n+1
		if size > 1<<20 || len(args) > 10_000 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// Whole says that a table has all its rows. What it has is held against what the dump says.
func (l *Loader) Whole(ctx context.Context, t Table, want Sum) error {
	var got Summer
	if err := eachRow(ctx, l.db, t, func(line []byte) error { got.Add(line); return nil }); err != nil {
		return err
	}
	if got.Sum() != want {
		return fmt.Errorf("table %s does not read back as it was: %d rows instead of %d, or others", t.Name, got.rows, want.Rows)
	}
	_, err := l.db.ExecContext(ctx, `INSERT IGNORE INTO restoring (what, name) VALUES ('table', ?)`, t.Name)
	if err == nil {
		l.done = append(l.done, t.Name)
	}
	return plain(err)
}

// Finish makes a service's database of it: up to date, with no work under way, and with the fact
// in its audit log.
func (l *Loader) Finish(ctx context.Context, d Dump, master seal.Master, clock func() time.Time, said string) error {
	s := &Store{db: l.db, full: &atomic.Int64{}, Wrote: &Bell{}, clock: clock, quit: &quit{c: make(chan struct{})}}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	if err := s.openKeys(ctx, master); err != nil {
		return err
	}
	err := s.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
		for _, statement := range []string{
			`DELETE FROM tokens WHERE kind = 'session'`,
			`UPDATE jobs SET state = 'ended', outcome = 'cancelled', summary = 'it was under way when the backup was made that this service was restored from' WHERE state <> 'ended'`,
			`UPDATE messages SET state = 'dropped', next_at = NULL WHERE state = 'waiting'`,
		} {
			if _, err := q.exec(ctx, statement); err != nil {
				return err
			}
		}
		if !d.History {
			if _, err := q.exec(ctx, `UPDATE devices SET state = ?, drifted = FALSE, acknowledged_until = NULL, unsaved = FALSE, trouble = '', latest = 0, last_tried = NULL, last_pulled = NULL, last_changed = NULL, testing = ''`, core.NeverPulled); err != nil {
				return err
			}
		}
		return q.Audit(ctx, "service restored", "", said)
	})
	if err != nil {
		return err
	}
	_, err = l.db.ExecContext(ctx, `DROP TABLE restoring`)
	return plain(err)
}

// Contents reads everything that was loaded back with the keys of another store, and tells how
// many texts there were, and which do not read back.
func (l *Loader) Contents(ctx context.Context, keys *seal.Keys) (n int, damaged []string, err error) {
	q := &Q{ext: l.db, keys: keys, clock: time.Now, actor: core.Actor{Name: "service"}}
	for after := ""; ; {
		ids, err := q.ContentsAfter(ctx, after, 500)
		if err != nil || len(ids) == 0 {
			return n, damaged, err
		}
		for _, id := range ids {
			err := q.ContentTo(ctx, id, io.Discard)
			if errors.Is(err, ErrDamaged) {
				damaged, err = append(damaged, id), nil
			}
			if err != nil {
				return n, damaged, err
			}
			after, n = id, n+1
		}
	}
}

// Close ends the connection; what is not finished stays as it is.
func (l *Loader) Close() error { return l.db.Close() }

// Scratch makes an empty database beside the store's own, to try something in; drop takes it
// away again.
func (s *Store) Scratch(ctx context.Context, name string) (dsn string, drop func() error, err error) {
	cfg, err := mysql.ParseDSN(s.dsn)
	if err != nil {
		return "", nil, err
	}
	cfg.DBName += "_" + name
	drop = func() error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		_, err := s.db.ExecContext(ctx, "DROP DATABASE IF EXISTS `"+cfg.DBName+"`")
		return plain(err)
	}
	if err := drop(); err != nil {
		return "", nil, err
	}
	if _, err := s.db.ExecContext(ctx, "CREATE DATABASE `"+cfg.DBName+"`"); err != nil {
		return "", nil, fmt.Errorf("making database %s to try it in (the database's user needs the right to): %w", cfg.DBName, plain(err))
	}
	return cfg.FormatDSN(), drop, nil
}
