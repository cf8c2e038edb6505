// Package store keeps everything in MariaDB. It is the only place with SQL.
//
// It relies on nothing but rows: no named locks, no table locks, no
// auto-increment, so that it works the same on one server and on a cluster
// where a conflict may show only at commit.
package store

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"database/sql/driver"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"

	"magpie/internal/core"
	"magpie/internal/seal"
)

// ErrNotFound is returned when there is no such row.
var ErrNotFound = errors.New("not found")

// ErrTaken is returned when a name or key is in use already.
var ErrTaken = errors.New("already in use")

// ErrRevision is returned when a change is based on another revision of a row
// than the newest: somebody changed it since.
var ErrRevision = errors.New("somebody changed it since you looked")

// ErrKeyUsed is returned when an idempotency key was used for another request.
var ErrKeyUsed = errors.New("this idempotency key was used for another request")

// ErrDatabase is what errors of the database are: it is away, or says something
// that nobody expected. They are ours, and no fact about anything else.
var ErrDatabase = errors.New("the database")

// ErrNewer is returned by Open when a newer program has used the database.
var ErrNewer = errors.New("the database belongs to a newer version of this program")

// ErrMasterKey is returned by Open when the master key is not the database's.
var ErrMasterKey = errors.New("wrong master key")

// Store is the database of one service.
type Store struct {
	db    *sqlx.DB
	dsn   string
	cut   *cutting // where large contents are cut
	keys  *seal.Keys
	clock func() time.Time
	quit  *quit

	prepared *sync.Map // statements that are asked often, by their words

	full *atomic.Int64 // when the database said last that it has no room, in Unix nanoseconds

	// Wrote rings when this instance wrote something.
	Wrote *Bell

	// Room tells why nothing more can be kept; nil, where there is room or nobody knows. It is set before
	// anything is asked of the store.
	Room func() error
}

// ErrNoRoom is returned where nothing more is kept, since the disk is about to be full.
var ErrNoRoom = errors.New("there is no room")

// HasRoom tells whether there is room for more (ErrNoRoom).
func (s *Store) HasRoom() error {
	if at := s.full.Load(); at != 0 && time.Since(time.Unix(0, at)) < fullFor {
		return fmt.Errorf("%w in the database: what is under way waits for it", ErrNoRoom)
	}
	if s.Room == nil {
		return nil
	}
	return s.Room()
}

// fullFor is how long a database that had no room is taken for full. Work that waits asks it again each second.
const fullFor = 5 * time.Second

// quit tells those who wait for a database that is away that nobody waits for
// them any more.
type quit struct {
	once sync.Once
	c    chan struct{}
}

// GiveUp ends all waiting for a database that is away.
func (s *Store) GiveUp() { s.quit.once.Do(func() { close(s.quit.c) }) }

// Pause waits before something is tried again. It returns false where that makes no sense any more: ctx has
// ended, or nobody waits for the database any more (GiveUp).
func (s *Store) Pause(ctx context.Context, span time.Duration) bool {
	select {
	case <-time.After(span):
		return true
	case <-s.quit.c:
	case <-ctx.Done():
	}
	return false
}

// Q asks and writes on behalf of an actor. Tx gives one inside a transaction.
type Q struct {
	ext   sqlx.ExtContext
	keys  *seal.Keys
	clock func() time.Time
	actor core.Actor
	room  func() error
}

// Open connects, brings the schema up to date and opens the data keys, or makes
// them under master in a database that has none.
func Open(ctx context.Context, dsn string, master seal.Master, clock func() time.Time, through ...Through) (*Store, error) {
	db, err := connect(ctx, dsn, through...)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, dsn: dsn, cut: &cutting{}, prepared: &sync.Map{}, full: &atomic.Int64{}, Wrote: &Bell{}, clock: clock, quit: &quit{c: make(chan struct{})}}
	if half, err := halfRestored(ctx, s.patient(core.Actor{Name: "service"})); err != nil || half {
		db.Close()
		return nil, cmp.Or(err, ErrHalfRestored)
	}
	if err := s.migrate(ctx); err != nil {
		db.Close()
		return nil, err
	}
	if err := s.openKeys(ctx, master); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// Through is what stands between a store and its database's driver: a test's, that counts, or lets things fail.
type Through func(driver.Connector) driver.Connector

// connect opens a database. Its errors say what is wrong with the setting, or
// with the database.
func connect(ctx context.Context, dsn string, through ...Through) (*sqlx.DB, error) {
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the database setting cannot be read: %w; it looks like user:password@tcp(host:3306)/name", err)
	}
	cfg.ParseTime, cfg.Loc, cfg.MultiStatements = true, time.UTC, false
	cfg.ClientFoundRows = true
	// One round trip a statement instead of three. What would be larger than the
	// server's packets still goes as a prepared statement, in pieces.
	cfg.InterpolateParams, cfg.MaxAllowedPacket = true, 0
	cfg.Timeout = 5 * time.Second
	// A connection into nothing ends some time: no statement of ours takes as long before it answers.
	cfg.ReadTimeout, cfg.WriteTimeout = 3*time.Minute, 30*time.Second
	// Columns hold microseconds. A time that says more is compared with them row by row, and no key is
	// of use.
	if err := cfg.Apply(mysql.TimeTruncate(time.Microsecond)); err != nil {
		return nil, err
	}
	cfg.Logger = &mysql.NopLogger{}
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["time_zone"] = "'+00:00'"
	cfg.Params["tx_isolation"] = "'READ-COMMITTED'"
	conn, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	for _, wrap := range through {
		conn = wrap(conn)
	}
	db := sqlx.NewDb(sql.OpenDB(conn), "mysql")
	db.SetMaxOpenConns(40)
	db.SetMaxIdleConns(20)
	if err := ping(ctx, db, cfg); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// ping asks whether the database is there, and words it when it is not.
func ping(ctx context.Context, db *sqlx.DB, cfg *mysql.Config) error {
	err := db.PingContext(ctx)
	if err == nil {
		return nil
	}
	where := fmt.Sprintf("%s at %s", cfg.DBName, cfg.Addr)
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		switch my.Number {
		case 1045:
			return fmt.Errorf("database %s does not accept user %s with the password in the setting", where, cfg.User)
		case 1049, 1044:
			return fmt.Errorf("database %s does not exist, or user %s may not use it; create it and grant all rights on it", where, cfg.User)
		}
	}
	return fmt.Errorf("database %s does not answer: %w", where, err)
}

// At returns the same store by another clock.
func (s *Store) At(clock func() time.Time) *Store {
	c := *s
	c.clock = clock
	return &c
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Keys are the data keys of the database.
func (s *Store) Keys() *seal.Keys { return s.keys }

// As returns what an actor asks through, outside any transaction.
func (s *Store) As(actor core.Actor) *Q {
	return &Q{ext: s.patient(actor), keys: s.keys, clock: s.clock, actor: actor, room: s.HasRoom}
}

// patience is how long a lost database is waited for while a person waits. The
// service's own work waits for as long as it takes.
const patience = 20 * time.Second

func (s *Store) patient(actor core.Actor) patient {
	return patient{s.db, s.prepared, s.quit, until(actor), limitOf(actor)}
}

// until is when somebody's patience ends; the zero time is never.
func until(actor core.Actor) time.Time {
	if actor.Name == "service" && actor.ID == "" {
		return time.Time{}
	}
	return time.Now().Add(patience)
}

// over tells whether waiting is over.
func (s *quit) over(deadline time.Time) bool {
	select {
	case <-s.c:
		return true
	default:
		return !deadline.IsZero() && time.Now().After(deadline)
	}
}

// Tx runs fn in a transaction and commits it. When the database gives up on it
// (a conflict, a lock waited for too long, a lost connection) it is run again
// from the start, so fn must do nothing but ask and write. A commit whose
// answer was lost is looked up.
func (s *Store) Tx(ctx context.Context, actor core.Actor, fn func(q *Q) error) error {
	deadline := until(actor)
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		id := NewID(s.clock())
		committing, err := s.once(ctx, actor, id, fn)
		if err != nil && committing && lost(err) {
			// What fn made has to be what was kept: it is not run again before it is certain that
			// this commit does not come about any more.
			kept, err2 := s.settle(ctx, id, limitOf(actor), deadline)
			if err2 != nil {
				return fmt.Errorf("it is not known whether the database kept this: %w", errors.Join(err, err2))
			}
			if kept {
				s.Wrote.Ring()
				return nil
			}
		}
		if err == nil && committing {
			s.Wrote.Ring()
		}
		noRoom := full(err) && deadline.IsZero() // a full disk is no reason to end work: it waits, as for a database that is away
		if err == nil || ctx.Err() != nil || !(lost(err) || conflict(err) || noRoom) || s.quit.over(deadline) {
			return plain(err)
		}
		if noRoom {
			if was := s.full.Swap(time.Now().UnixNano()); time.Since(time.Unix(0, was)) > time.Minute {
				slog.Warn("the database has no room; work that is under way waits", "err", err)
			}
			wait = time.Second
		}
		slog.Debug("transaction is tried again", "err", err)
		select {
		case <-time.After(wait):
		case <-s.quit.c:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// settle tells whether the transaction of an id was kept, whose commit gave no answer. If it was not, it
// will not be any more: its id is taken, and a commit that is still on its way meets that. Waits for one
// that still holds its row.
func (s *Store) settle(ctx context.Context, id string, l limit, deadline time.Time) (kept bool, err error) {
	for wait := 10 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		within, cancel := l.within(ctx)
		_, err = s.db.ExecContext(within, `INSERT INTO commits (id, at, void) VALUES (?, ?, TRUE)`, id, s.clock().UTC())
		err = silent(within, err)
		cancel()
		if number(err) == 1062 { // it was kept, or an earlier round of this took the id and got no answer
			var void bool
			if err = s.db.QueryRowxContext(ctx, `SELECT void FROM commits WHERE id = ?`, id).Scan(&void); err == nil {
				return !void, nil
			}
		}
		if err == nil {
			return false, nil
		}
		if ctx.Err() != nil || !lost(err) && !conflict(err) || s.quit.over(deadline) {
			return false, plain(err)
		}
		select {
		case <-time.After(wait):
		case <-s.quit.c:
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
}

func (s *Store) once(ctx context.Context, actor core.Actor, id string, fn func(q *Q) error) (committing bool, err error) {
	limit := limitOf(actor)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := limit.after(func() { cancel(errSilent) })
	tx, err := s.db.BeginTxx(ctx, nil)
	silence()
	if err != nil {
		return false, silent(ctx, err)
	}
	defer func() { _ = tx.Rollback() }()
	t := &transaction{Tx: tx, limit: limit}
	err = fn(&Q{ext: t, keys: s.keys, clock: s.clock, actor: actor, room: s.HasRoom})
	if t.fault != nil { // whatever was made of it
		return false, t.fault
	}
	if err != nil {
		return false, err
	}
	if !t.wrote { // there is nothing that could be in doubt
		return false, limit.commit(tx)
	}
	if _, err := t.ExecContext(ctx, `INSERT INTO commits (id, at) VALUES (?, ?)`, id, s.clock().UTC()); err != nil {
		return false, err
	}
	return true, limit.commit(tx)
}

// errSilent is why a statement was given up: the database did not answer it in time.
var errSilent = fmt.Errorf("%w to a statement in %s", os.ErrDeadlineExceeded, patience)

// limit is how long one statement may take while a person waits; 0: as long as a connection may be silent.
type limit time.Duration

func limitOf(actor core.Actor) limit {
	if until(actor).IsZero() {
		return 0
	}
	return limit(patience)
}

// after calls what ends a statement when its time is over; stop calls that off.
func (l limit) after(end func()) (stop func()) {
	if l == 0 {
		return func() {}
	}
	t := time.AfterFunc(time.Duration(l), end)
	return func() { t.Stop() }
}

// within is a context for one statement.
func (l limit) within(ctx context.Context) (context.Context, context.CancelFunc) {
	if l == 0 {
		return ctx, func() {}
	}
	return context.WithTimeoutCause(ctx, time.Duration(l), errSilent)
}

// silent is the error of a statement, where it is that the database did not answer.
func silent(ctx context.Context, err error) error {
	if err != nil && errors.Is(context.Cause(ctx), errSilent) {
		return errSilent
	}
	return err
}

// commit commits, and gives up waiting for the answer when the time for that is over: whether it came about is
// then not known.
func (l limit) commit(tx *sqlx.Tx) error {
	if l == 0 {
		return tx.Commit()
	}
	done := make(chan error, 1)
	go func() { done <- tx.Commit() }()
	select {
	case err := <-done:
		return err
	case <-time.After(time.Duration(l)):
		return errSilent
	}
}

// keysLast is how long an idempotency key is remembered.
const keysLast = 30 * 24 * time.Hour

// Tidy removes the traces of commits old enough to be beyond doubt, idempotency
// keys that nobody can mean any more, and sessions and tokens that have run out.
func (s *Store) Tidy(ctx context.Context) error {
	now := s.clock().UTC()
	_, err1 := s.db.ExecContext(ctx, `DELETE FROM commits WHERE at < ? LIMIT 10000`, now.Add(-24*time.Hour))
	_, err2 := s.db.ExecContext(ctx, `DELETE FROM tokens WHERE expires_at < ? LIMIT 10000`, now)
	_, err3 := s.db.ExecContext(ctx, `DELETE FROM asked WHERE at < ? LIMIT 10000`, now.Add(-keysLast))
	_, err4 := s.db.ExecContext(ctx, `UPDATE jobs SET idem_key = NULL WHERE state = 'ended' AND idem_key LIKE 'u %' AND created_at < ? LIMIT 10000`, now.Add(-keysLast))
	return errors.Join(err1, err2, err3, err4)
}

func number(err error) uint16 {
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		return my.Number
	}
	return 0
}

// conflict: a deadlock, a lock waited for too long, a row changed underneath, a
// instance that is not ready.
func conflict(err error) bool {
	switch number(err) {
	case 1213, 1205, 1020, 1047, 1180:
		return true
	}
	return false
}

func lost(err error) bool {
	var network net.Error
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) ||
		errors.As(err, &network) || number(err) == 1053 || number(err) == 1927 || number(err) == 1040
}

// full: the server's disk, or a table, is full. Some of its errors carry the operating system's number for that.
func full(err error) bool {
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		return false
	}
	switch my.Number {
	case 1021, 1114:
		return true
	case 3, 1026, 1030: // it cannot write a file; it got an error from a storage engine
		return strings.Contains(my.Message, "rrcode: 28") || strings.Contains(my.Message, "rrno: 28") ||
			strings.Contains(my.Message, "error 28")
	}
	return false
}

func plain(err error) error {
	switch {
	case err == nil, errors.Is(err, ErrDatabase), errors.Is(err, ErrTaken):
		return err
	case full(err):
		return fmt.Errorf("%w: %w says: %w", ErrNoRoom, ErrDatabase, err)
	case number(err) == 1062:
		return fmt.Errorf("%w: %w", ErrTaken, err)
	case number(err) != 0:
		return fmt.Errorf("%w says: %w", ErrDatabase, err)
	case lost(err):
		return fmt.Errorf("%w does not answer: %w", ErrDatabase, err)
	}
	return err
}

// patient asks again while the database is away, until its time is over.
type patient struct {
	*sqlx.DB
	prepared *sync.Map // see Store
	quit     *quit
	until    time.Time
	limit    limit
}

func (p patient) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	return p.asking(ctx, func() (*sqlx.Rows, error) { return p.DB.QueryxContext(ctx, query, args...) })
}

func (p patient) asking(ctx context.Context, ask func() (*sqlx.Rows, error)) (*sqlx.Rows, error) {
	for wait := 20 * time.Millisecond; ; wait = min(2*wait, time.Second) {
		rows, err := ask()
		if err == nil || !(lost(err) || conflict(err)) || ctx.Err() != nil || p.quit.over(p.until) {
			return rows, err
		}
		select {
		case <-time.After(wait):
		case <-p.quit.c:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// often asks what is asked many times a second, in words that never change: the database reads
// them once a connection, not each time.
type often struct{ patient }

func (o often) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	return o.asking(ctx, func() (*sqlx.Rows, error) {
		known, ok := o.prepared.Load(query)
		if !ok {
			st, err := o.PreparexContext(ctx, query)
			if err != nil {
				return nil, err
			}
			if known, ok = o.prepared.LoadOrStore(query, st); ok {
				_ = st.Close()
			}
		}
		return known.(*sqlx.Stmt).QueryxContext(ctx, args...)
	})
}

// often is how what is asked often is asked: in a transaction like all else.
func (q *Q) often() sqlx.QueryerContext {
	if p, ok := q.ext.(patient); ok {
		return often{p}
	}
	return q.ext
}

// limited is who asks within a time.
type limited interface{ bound() limit }

func (p patient) bound() limit      { return p.limit }
func (t *transaction) bound() limit { return t.limit }

// selected reads rows, within the time that who asks has for a statement.
func selected(ctx context.Context, q sqlx.QueryerContext, rows any, query string, args ...any) error {
	within, cancel := bounded(ctx, q)
	defer cancel()
	return silent(within, sqlx.SelectContext(within, q, rows, query, args...))
}

// bounded is a context for one statement, within the time that who asks has for it.
func bounded(ctx context.Context, asks any) (context.Context, context.CancelFunc) {
	if l, is := asks.(limited); is {
		return l.bound().within(ctx)
	}
	return ctx, func() {}
}

// get asks for one row.
func get[T any](ctx context.Context, q sqlx.QueryerContext, query string, args ...any) (T, error) {
	var rows []T
	if err := selected(ctx, q, &rows, query, args...); err != nil {
		var none T
		return none, plain(err)
	}
	if len(rows) == 0 {
		var none T
		return none, ErrNotFound
	}
	return rows[0], nil
}

func list[T any](ctx context.Context, q sqlx.QueryerContext, query string, args ...any) ([]T, error) {
	rows := []T{}
	err := selected(ctx, q, &rows, query, args...)
	return rows, plain(err)
}

// lock takes a row for the rest of the transaction and holds its revision
// against the one that a change is based on; 0 is based on none.
func (q *Q) lock(ctx context.Context, table, id string, based int) error {
	revision, err := get[int](ctx, q.ext, `SELECT revision FROM `+table+` WHERE id = ? FOR UPDATE`, id)
	if err == nil && based != 0 && based != revision {
		return fmt.Errorf("%w: it is at revision %d, the change is based on %d", ErrRevision, revision, based)
	}
	return err
}

// guard makes whatever several changes have to agree about be done one at a
// time: two that run together conflict, wherever they run.
func (q *Q) guard(ctx context.Context, name string) error {
	_, err := q.exec(ctx, `UPDATE guards SET n = n + 1 WHERE name = ?`, name)
	return err
}

func (q *Q) exec(ctx context.Context, query string, args ...any) (int64, error) {
	within, cancel := bounded(ctx, q.ext)
	defer cancel()
	res, err := q.ext.ExecContext(within, query, args...)
	if err != nil {
		return 0, plain(silent(within, err))
	}
	return res.RowsAffected()
}

// in expands a list for use as (?).
func in(query string, args ...any) (string, []any, error) { return sqlx.In(query, args...) }

var idLetters = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// NewID makes an identifier: 16 letters and digits, sortable by time, 32 bits of
// them random.
func NewID(at time.Time) string { return newIDs(at, 1)[0] }

// newIDs makes identifiers that sort in their order: the random bits are those
// of the first, counted on.
func newIDs(at time.Time, n int) []string {
	var b [10]byte
	var ms [8]byte
	binary.BigEndian.PutUint64(ms[:], uint64(at.UnixMilli()))
	copy(b[:6], ms[2:])
	_, _ = rand.Read(b[6:])
	first := binary.BigEndian.Uint32(b[6:])
	if n > 1 {
		first /= 2 // room to count on
	}
	ids := make([]string, n)
	for i := range ids {
		binary.BigEndian.PutUint32(b[6:], first+uint32(i))
		ids[i] = idLetters.EncodeToString(b[:])
	}
	return ids
}

// values are the places of many rows in one statement.
func values(row string, n int) string {
	return strings.TrimSuffix(strings.Repeat(row+", ", n), ", ")
}
