package store

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"

	"magpie/internal/core"
	"magpie/internal/seal"
)

//go:embed migrations/*.sql
var migrations embed.FS

// How often who prepares the database says that it is still at it, and how long
// the others hear nothing before one of them goes on in its place.
const (
	prepareBeat  = time.Second
	prepareQuiet = 20 * time.Second
)

// migrate brings the schema up to date, one instance at a time: whoever holds
// the row of preparing. Row locks hold on one server of a cluster only; that two
// cannot change the same row at once holds on all of them. A migration can be
// run again from its beginning, which is what follows when one was broken off.
func (s *Store) migrate(ctx context.Context) error {
	told := ""
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		err := s.prepare(ctx)
		if err == nil || ctx.Err() != nil || !(conflict(err) || lost(err) || errors.Is(err, errNotOurs)) || s.quit.over(time.Time{}) {
			return err
		}
		if err.Error() != told {
			told = err.Error()
			slog.Info("preparing the database is tried again", "err", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// errNotOurs: who prepares the database was not heard of for so long that
// another instance went on in its place.
var errNotOurs = errors.New("another instance went on with preparing the database")

func (s *Store) prepare(ctx context.Context) error {
	// Nobody has to be waited for where nothing is to be done.
	newest, err := newestMigration()
	if err != nil {
		return err
	}
	if have, err := get[int64](ctx, s.db, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied`); err == nil && have == newest {
		return nil
	} else if err != nil && number(err) != 1146 { // no such table
		return fmt.Errorf("reading the schema's version: %w", err)
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(database.DialectMySQL, s.db.DB, sub, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	hold, err := s.takePreparing(ctx)
	if err != nil {
		return fmt.Errorf("preparing the database: %w", err)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		hold(ctx, cancel)
	}()
	defer func() { cancel(nil); <-done }()
	err = s.upTo(ctx, p)
	if cause := context.Cause(ctx); err != nil && errors.Is(cause, errNotOurs) {
		return cause
	}
	return err
}

// newestMigration is the version of the schema that this program knows.
func newestMigration() (int64, error) {
	files, err := migrations.ReadDir("migrations") // sorted by name
	if err != nil {
		return 0, err
	}
	return goose.NumericComponent(files[len(files)-1].Name())
}

// upTo runs the migrations that are missing.
func (s *Store) upTo(ctx context.Context, p *goose.Provider) error {
	// The table of versions and its first row are two steps; whoever was stopped
	// in between left a table that could not be read.
	if _, err := s.db.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS goose_db_version (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
		version_id BIGINT NOT NULL, is_applied BOOLEAN NOT NULL, tstamp DATETIME NULL DEFAULT CURRENT_TIMESTAMP) ENGINE=InnoDB`); err != nil {
		return fmt.Errorf("preparing the database: %w", err)
	}
	if _, err := s.db.ExecContext(ctx, `INSERT INTO goose_db_version (version_id, is_applied) SELECT 0, TRUE FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM goose_db_version WHERE version_id = 0)`); err != nil {
		return fmt.Errorf("preparing the database: %w", err)
	}
	have, want, err := p.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("reading the schema's version: %w", err)
	}
	if have > want {
		return fmt.Errorf("%w: its schema is %d, this program knows %d; run the newer program, or restore the backup made before the upgrade", ErrNewer, have, want)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}

// takePreparing waits until this instance is the one that prepares the
// database. What it returns says so until ctx ends, and then lets go.
func (s *Store) takePreparing(ctx context.Context) (hold func(context.Context, context.CancelCauseFunc), err error) {
	if _, err := s.db.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS preparing (id INT NOT NULL PRIMARY KEY, holder VARCHAR(32) NOT NULL, beat BIGINT NOT NULL) ENGINE=InnoDB`); err != nil {
		return nil, err
	}
	if _, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO preparing VALUES (1, '', 0)`); err != nil {
		return nil, err
	}
	random := make([]byte, 8)
	_, _ = rand.Read(random)
	me, seen, since := hex.EncodeToString(random), preparing{Beat: -1}, time.Now()
	for told := false; ; {
		now, err := get[preparing](ctx, s.db, `SELECT holder, beat FROM preparing WHERE id = 1`)
		if err != nil {
			return nil, err
		}
		if now != seen {
			seen, since = now, time.Now()
		}
		if now.Holder == "" || time.Since(since) > prepareQuiet {
			res, err := s.db.ExecContext(ctx, `UPDATE preparing SET holder = ?, beat = beat + 1 WHERE id = 1 AND holder = ? AND beat = ?`, me, now.Holder, now.Beat)
			if err != nil {
				return nil, err
			}
			if n, err := res.RowsAffected(); err != nil || n == 1 {
				return func(ctx context.Context, lose context.CancelCauseFunc) { s.holdPreparing(ctx, me, lose) }, err
			}
			continue
		}
		if !told && time.Since(since) > prepareQuiet/4 {
			told = true
			slog.Info("another instance is preparing the database, or was stopped while it did; it is waited for", "at most", prepareQuiet)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

type preparing struct {
	Holder string
	Beat   int64
}

// holdPreparing says that this instance is still at it, until ctx ends. A
// schema change holds up all writing on a cluster, this one too: somebody else
// may go on in between, and is told apart.
func (s *Store) holdPreparing(ctx context.Context, me string, lose context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			end, cancel := context.WithTimeout(context.WithoutCancel(ctx), prepareQuiet)
			defer cancel()
			for end.Err() == nil {
				_, err := s.db.ExecContext(end, `UPDATE preparing SET holder = '', beat = beat + 1 WHERE id = 1 AND holder = ?`, me)
				if err == nil || !conflict(err) {
					return
				}
			}
			return
		case <-time.After(prepareBeat):
		}
		res, err := s.db.ExecContext(ctx, `UPDATE preparing SET beat = beat + 1 WHERE id = 1 AND holder = ?`, me)
		if err != nil {
			continue // the next one may get through; if none does, somebody else goes on
		}
		if n, err := res.RowsAffected(); err == nil && n == 0 {
			lose(errNotOurs)
		}
	}
}

// openKeys opens the data keys, or makes them in a database that has none.
func (s *Store) openKeys(ctx context.Context, master seal.Master) error {
	make1 := func() error {
		return s.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
			now := s.clock().UTC()
			hash, data := seal.NewBox(0), seal.NewBox(1)
			if _, err := q.ext.ExecContext(ctx, `INSERT INTO instance (id, master_id, hash_key, made_at) VALUES (1, ?, ?, ?)`, master.ID(), master.Wrap(hash), now); err != nil {
				return err
			}
			if _, err := q.ext.ExecContext(ctx, `INSERT INTO data_keys (id, wrapped, made_at) VALUES (1, ?, ?)`, master.Wrap(data), now); err != nil {
				return err
			}
			// The audit log begins with the keys: an end mark that is missing was taken away.
			begun := &Q{ext: q.ext, keys: seal.NewKeys(hash, data), clock: q.clock, actor: q.actor}
			_, err := begun.auditAnew(ctx)
			return err
		})
	}
	read := s.patient(core.Actor{Name: "service"})
	row, err := get[instance](ctx, read, `SELECT master_id, hash_key FROM instance WHERE id = 1`)
	if errors.Is(err, ErrNotFound) {
		if err := make1(); err != nil && !errors.Is(err, ErrTaken) {
			return fmt.Errorf("making the database's keys: %w", err)
		}
		row, err = get[instance](ctx, read, `SELECT master_id, hash_key FROM instance WHERE id = 1`)
	}
	if err != nil {
		return err
	}
	hash, err := master.Unwrap(0, row.HashKey)
	if err != nil {
		return fmt.Errorf("%w: the database was made with master key %s, this is %s; put the right key file in place (nothing was changed)", ErrMasterKey, row.MasterID, master.ID())
	}
	var rows []struct {
		ID      uint32
		Wrapped []byte
	}
	if err := sqlx.SelectContext(ctx, read, &rows, `SELECT id, wrapped FROM data_keys`); err != nil {
		return err
	}
	var boxes []seal.Box
	for _, r := range rows {
		b, err := master.Unwrap(r.ID, r.Wrapped)
		if err != nil {
			return fmt.Errorf("%w: data key %d does not open", ErrMasterKey, r.ID)
		}
		boxes = append(boxes, b)
	}
	s.keys = seal.NewKeys(hash, boxes...)
	// Whoever seals something for the key later on has it no more, but knows its recipient.
	to := master.Identity().Recipient().String()
	_, err = s.db.ExecContext(ctx, `UPDATE instance SET recipient = ? WHERE id = 1 AND recipient <> ?`, to, to)
	return err
}

// ForMaster names the master key and tells to whom is sealed what it shall open (an age
// recipient).
func (q *Q) ForMaster(ctx context.Context) (id, recipient string, err error) {
	type row struct {
		ID        string `db:"master_id"`
		Recipient string `db:"recipient"`
	}
	r, err := get[row](ctx, q.ext, `SELECT master_id, recipient FROM instance WHERE id = 1`)
	return r.ID, r.Recipient, err
}

type instance struct {
	MasterID string `db:"master_id"`
	HashKey  []byte `db:"hash_key"`
}

// Empty tells whether a database has never been used by this program.
func Empty(ctx context.Context, dsn string) (bool, error) {
	db, err := connect(ctx, dsn)
	if err != nil {
		return false, err
	}
	defer db.Close()
	var n int
	if err := db.GetContext(ctx, &n, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'instance'`); err != nil {
		return false, err
	}
	if n == 0 {
		return true, nil
	}
	err = db.GetContext(ctx, &n, `SELECT COUNT(*) FROM instance`)
	return n == 0, err
}

// Seen is what a database holds, as somebody finds it who changes nothing.
type Seen struct {
	Empty      bool  // it was never used
	Have, Want int64 // the schema's version, and the one that this program brings it to
	MasterID   string
}

// See looks at a database and changes nothing. ErrNewer says that a newer program has used
// it.
func See(ctx context.Context, dsn string) (s Seen, err error) {
	if s.Want, err = newestMigration(); err != nil {
		return s, err
	}
	if s.Empty, err = Empty(ctx, dsn); err != nil || s.Empty {
		return s, err
	}
	db, err := connect(ctx, dsn)
	if err != nil {
		return s, err
	}
	defer db.Close()
	if err := db.GetContext(ctx, &s.Have, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied`); err != nil {
		return s, err
	}
	if s.Have > s.Want {
		return s, fmt.Errorf("%w: its schema is %d, this program knows %d", ErrNewer, s.Have, s.Want)
	}
	err = db.GetContext(ctx, &s.MasterID, `SELECT master_id FROM instance WHERE id = 1`)
	return s, err
}

// SheetSetting is under which it is kept that a recovery sheet was verified.
const SheetSetting = "recovery sheet"

// Sheet is of which master key a recovery sheet was verified, and when.
type Sheet struct {
	KeyID string    `json:"key_id"`
	At    time.Time `json:"at"`
}

// SheetDue tells whether nobody verified a recovery sheet of the master key in use yet.
func (q *Q) SheetDue(ctx context.Context) (bool, error) {
	id, err := get[string](ctx, q.ext, `SELECT master_id FROM instance WHERE id = 1`)
	if err != nil {
		return false, err
	}
	var s Sheet
	_, _, err = q.Setting(ctx, SheetSetting, &s)
	if errors.Is(err, ErrNotFound) {
		return true, nil
	}
	return s.KeyID != id, err
}

// Rewrap seals the data keys under another master key, in one transaction. Whoever runs has
// them already; whoever starts needs the new one.
func (s *Store) Rewrap(ctx context.Context, master seal.Master) error {
	return s.Tx(ctx, core.Actor{Name: "service"}, func(q *Q) error {
		was, err := get[string](ctx, q.ext, `SELECT master_id FROM instance WHERE id = 1 FOR UPDATE`)
		if err != nil || was == master.ID() {
			return err
		}
		hash, boxes := s.keys.Boxes()
		if _, err := q.exec(ctx, `UPDATE instance SET master_id = ?, hash_key = ?, recipient = ? WHERE id = 1`, master.ID(), master.Wrap(hash), master.Identity().Recipient().String()); err != nil {
			return err
		}
		for _, b := range boxes {
			if _, err := q.exec(ctx, `UPDATE data_keys SET wrapped = ? WHERE id = ?`, master.Wrap(b), b.ID); err != nil {
				return err
			}
		}
		return q.Audit(ctx, "master key rotated", master.ID(), "instead of "+was)
	})
}
