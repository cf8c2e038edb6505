package store

import (
	"context"
	"database/sql"

	"github.com/jmoiron/sqlx"
)

// transaction is a database transaction that cannot be misused: once a statement of it met a conflict or
// lost its connection, the server has rolled it back, and every later statement fails with the same error
// instead of committing by itself. Who swallows that error still does not get past Tx, which runs it again.
type transaction struct {
	*sqlx.Tx
	limit limit // of each statement
	fault error // the first conflict, or loss of the connection; nil: none
	wrote bool  // a statement was executed that may have written
}

// met notes an error that ends the transaction.
func (t *transaction) met(err error) error {
	if err != nil && t.fault == nil && (conflict(err) || lost(err)) {
		t.fault = err
	}
	return err
}

func (t *transaction) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if t.fault != nil {
		return nil, t.fault
	}
	rows, err := t.Tx.QueryContext(ctx, query, args...)
	return rows, t.met(err)
}

func (t *transaction) QueryxContext(ctx context.Context, query string, args ...any) (*sqlx.Rows, error) {
	if t.fault != nil {
		return nil, t.fault
	}
	rows, err := t.Tx.QueryxContext(ctx, query, args...)
	return rows, t.met(err)
}

func (t *transaction) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if t.fault != nil {
		return nil, t.fault
	}
	t.wrote = true
	res, err := t.Tx.ExecContext(ctx, query, args...)
	return res, t.met(err)
}
