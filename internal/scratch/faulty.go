package scratch

import (
	"context"
	"database/sql/driver"
	"math/rand/v2"
	"net"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Faults stand between a store and its database: by seed they fail, delay or cut statements, and lose the answers
// of commits. What they do is what a server and a network do: a conflict rolls the transaction back, a cut
// connection may have taken the statement or not, a commit without an answer may have come about, may not, or may
// still. They count statements, too.
type Faults struct {
	mu    sync.Mutex
	rand  *rand.Rand
	rate  float64        // of statements that meet with something
	down  time.Time      // until then there is no server
	full  time.Time      // until then nothing can be written
	did   map[string]int // faults by kind
	asked map[string]int // statements by their words
}

// NewFaults makes faults of a seed; nothing happens before Rate.
func NewFaults(seed uint64) *Faults {
	return &Faults{rand: rand.New(rand.NewPCG(seed, 7)), did: map[string]int{}, asked: map[string]int{}}
}

// Rate says which share of statements meets with something; 0 ends it.
func (f *Faults) Rate(share float64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rate = share
}

// Fill has the server say for a while that its disk is full.
func (f *Faults) Fill(span time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.full = time.Now().Add(span)
}

// Down has the server be away for a while.
func (f *Faults) Down(span time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.down = time.Now().Add(span)
}

func (f *Faults) away() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return time.Now().Before(f.down)
}

// Did counts what happened, by kind.
func (f *Faults) Did() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := map[string]int{}
	for k, n := range f.did {
		out[k] = n
	}
	return out
}

// Asked counts the statements since the last call, by their words.
func (f *Faults) Asked() map[string]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := f.asked
	f.asked = map[string]int{}
	return out
}

// Through wraps a driver.
func (f *Faults) Through(c driver.Connector) driver.Connector { return faultyConnector{c, f} }

// The kinds of faults.
const (
	none       = ""
	slow       = "slow"
	deadlock   = "deadlock"
	waited     = "lock wait time-out"
	cutBefore  = "cut before"
	cutAfter   = "cut after"
	noRoom     = "full"
	lostBefore = "commit lost before"
	lostAfter  = "commit lost after"
	lostOnWay  = "commit still on its way"
)

var (
	blanks  = regexp.MustCompile(`\s+`)
	literal = regexp.MustCompile(`'(?:[^'\\\\]|\\\\.|'')*'|\b\d+\b|_binary`)
	several = regexp.MustCompile(`(\(?\?(, \?)*\)?)(, \(\?(, \?)*\))*`)
)

// pick counts a statement and says what it meets with.
func (f *Faults) pick(query string, kinds ...string) string {
	words := blanks.ReplaceAllString(strings.TrimSpace(query), " ")
	words = several.ReplaceAllString(literal.ReplaceAllString(words, "?"), "$1")
	f.mu.Lock()
	defer f.mu.Unlock()
	f.asked[words]++
	writes := !strings.HasPrefix(words, "SELECT") && !strings.HasPrefix(words, "COMMIT") && !strings.HasPrefix(words, "START")
	if writes && time.Now().Before(f.full) {
		f.did[noRoom]++
		return noRoom
	}
	if f.rand.Float64() >= f.rate {
		return none
	}
	kind := kinds[f.rand.IntN(len(kinds))]
	f.did[kind]++
	return kind
}

type faultyConnector struct {
	driver.Connector
	f *Faults
}

func (c faultyConnector) Connect(ctx context.Context) (driver.Conn, error) {
	if c.f.away() {
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	}
	conn, err := c.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return &faultyConn{conn: conn.(mysqlConn), f: c.f}, nil
}

// mysqlConn is what the driver's connections can do.
type mysqlConn interface {
	driver.Conn
	driver.ConnBeginTx
	driver.ConnPrepareContext
	driver.ExecerContext
	driver.QueryerContext
	driver.NamedValueChecker
	driver.Pinger
	driver.SessionResetter
	driver.Validator
}

type faultyConn struct {
	conn mysqlConn
	f    *Faults
	in   bool // a transaction
	cut  bool
}

func (c *faultyConn) Close() error { return c.conn.Close() }
func (c *faultyConn) Begin() (driver.Tx, error) {
	return c.BeginTx(context.Background(), driver.TxOptions{})
}
func (c *faultyConn) Prepare(query string) (driver.Stmt, error)  { return c.conn.Prepare(query) }
func (c *faultyConn) CheckNamedValue(v *driver.NamedValue) error { return c.conn.CheckNamedValue(v) }
func (c *faultyConn) IsValid() bool                              { return !c.cut && c.conn.IsValid() }
func (c *faultyConn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	st, err := c.conn.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	return &faultyStmt{st.(mysqlStmt), c, query}, nil
}

// mysqlStmt is what the driver's prepared statements can do.
type mysqlStmt interface {
	driver.Stmt
	driver.StmtExecContext
	driver.StmtQueryContext
	driver.NamedValueChecker
}

type faultyStmt struct {
	mysqlStmt
	c     *faultyConn
	query string
}

func (s *faultyStmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	then, err := s.c.meets(ctx, s.query)
	if err != nil {
		return nil, err
	}
	rows, err := s.mysqlStmt.QueryContext(ctx, args)
	if then == cutAfter {
		if err == nil {
			_ = rows.Close()
		}
		return nil, s.c.drop()
	}
	return rows, err
}

func (c *faultyConn) Ping(ctx context.Context) error {
	if c.cut {
		return driver.ErrBadConn
	}
	return c.conn.Ping(ctx)
}

func (c *faultyConn) ResetSession(ctx context.Context) error {
	if c.cut {
		return driver.ErrBadConn
	}
	return c.conn.ResetSession(ctx)
}

func (c *faultyConn) BeginTx(ctx context.Context, opts driver.TxOptions) (driver.Tx, error) {
	if c.cut {
		return nil, driver.ErrBadConn
	}
	tx, err := c.conn.BeginTx(ctx, opts)
	if err != nil {
		return nil, err
	}
	c.in = true
	return &faultyTx{tx, c}, nil
}

// drop ends the connection.
func (c *faultyConn) drop() error {
	c.cut = true
	_ = c.conn.Close()
	return mysql.ErrInvalidConn
}

// meets does what a statement meets with before it is asked; then is what it meets with after.
func (c *faultyConn) meets(ctx context.Context, query string) (then string, err error) {
	if c.f.away() {
		return none, c.drop()
	}
	if c.cut {
		return none, mysql.ErrInvalidConn
	}
	kind := c.f.pick(query, slow, slow, deadlock, waited, cutBefore, cutAfter)
	switch kind {
	case slow:
		c.f.mu.Lock()
		span := time.Duration(c.f.rand.IntN(30)) * time.Millisecond
		c.f.mu.Unlock()
		time.Sleep(span)
	case deadlock: // the server rolls the transaction back
		if c.in {
			if _, err := c.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK", nil); err != nil {
				return none, c.drop()
			}
			c.in = false
		}
		return none, &mysql.MySQLError{Number: 1213, Message: "Deadlock found when trying to get lock; try restarting transaction"}
	case waited: // only the statement is rolled back
		return none, &mysql.MySQLError{Number: 1205, Message: "Lock wait timeout exceeded; try restarting transaction"}
	case noRoom:
		return none, &mysql.MySQLError{Number: 1114, Message: "The table 'x' is full"}
	case cutBefore:
		return none, c.drop()
	}
	return kind, nil
}

func (c *faultyConn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	then, err := c.meets(ctx, query)
	if err != nil {
		return nil, err
	}
	res, err := c.conn.ExecContext(ctx, query, args)
	if then == cutAfter {
		return nil, c.drop()
	}
	return res, err
}

func (c *faultyConn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	then, err := c.meets(ctx, query)
	if err != nil {
		return nil, err
	}
	rows, err := c.conn.QueryContext(ctx, query, args)
	if then == cutAfter {
		if err == nil {
			_ = rows.Close()
		}
		return nil, c.drop()
	}
	return rows, err
}

type faultyTx struct {
	tx driver.Tx
	c  *faultyConn
}

func (t *faultyTx) Rollback() error {
	t.c.in = false
	if t.c.cut {
		return nil
	}
	return t.tx.Rollback()
}

func (t *faultyTx) Commit() error {
	t.c.in = false
	if t.c.f.away() {
		return t.c.drop()
	}
	if t.c.cut {
		return mysql.ErrInvalidConn
	}
	switch t.c.f.pick("COMMIT", slow, deadlock, lostBefore, lostAfter, lostOnWay) {
	case deadlock: // a cluster's conflict, which shows at commit
		_ = t.tx.Rollback()
		return &mysql.MySQLError{Number: 1213, Message: "Deadlock found when trying to get lock; try restarting transaction"}
	case lostBefore:
		_ = t.tx.Rollback() // the server finds the connection gone
		return t.c.drop()
	case lostAfter:
		_ = t.tx.Commit()
		return t.c.drop()
	case lostOnWay:
		t.c.cut = true
		go func() {
			time.Sleep(60 * time.Millisecond)
			_ = t.tx.Commit()
			_ = t.c.conn.Close()
		}()
		return mysql.ErrInvalidConn
	}
	return t.tx.Commit()
}
