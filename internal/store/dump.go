package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Table is one table of a dump.
type Table struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Bytes   []bool   `json:"bytes"` // which columns hold bytes; in a row these are base64
	Rows    int64    `json:"rows"`
}

// Dump is what a dump holds.
type Dump struct {
	Schema   int64   `json:"schema"`
	MasterID string  `json:"master_key"`
	History  bool    `json:"history"`
	Devices  int     `json:"devices"`
	Versions int     `json:"versions"`
	Tables   []Table `json:"tables"`
}

// Sum is what a table's rows come to: how many, and the SHA-256 of their lines.
type Sum struct {
	Rows   int64  `json:"rows"`
	SHA256 string `json:"sha256"`
}

// passing are the tables with what counts for a running instance only.
var passing = []string{"goose_db_version", "commits", "asked", "claims", "events", "instances", "leases", "notices", "relays"}

// sometimes are those of them that are there only while something is done.
var sometimes = []string{"preparing", "restoring"}

// historical are the tables with what was taken and done.
var historical = []string{"versions", "contents", "chunks", "content_chunks", "seen", "pulls", "parts", "snapshots", "snapshot_versions", "previews", "pushes", "jobs", "job_log", "swaps", "damage", "copies", "backups", "sizes",
	"schedule_runs", "tellings", "messages", "acknowledgements"}

// Dumping hands out the whole database as it is at one moment: begin gets what there is, row each
// row as a line of JSON, in an order that is always the same.
func (s *Store) Dumping(ctx context.Context, history bool, begin func(Dump) error, row func(t Table, line []byte) error) error {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return plain(err)
	}
	defer func() { _ = tx.Rollback() }()
	d := Dump{History: history}
	if d.Schema, err = get[int64](ctx, tx, `SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied`); err != nil {
		return err
	}
	if d.MasterID, err = get[string](ctx, tx, `SELECT master_id FROM instance WHERE id = 1`); err != nil {
		return err
	}
	if d.Devices, err = get[int](ctx, tx, `SELECT COUNT(*) FROM devices WHERE removed_at IS NULL`); err != nil {
		return err
	}
	if history {
		if d.Versions, err = get[int](ctx, tx, `SELECT COUNT(*) FROM versions`); err != nil {
			return err
		}
	}
	if d.Tables, err = tablesOf(ctx, tx, history); err != nil {
		return err
	}
	for i := range d.Tables {
		if d.Tables[i].Rows, err = get[int64](ctx, tx, "SELECT COUNT(*) FROM `"+d.Tables[i].Name+"`"); err != nil {
			return err
		}
	}
	if err := begin(d); err != nil {
		return err
	}
	for _, t := range d.Tables {
		if err := eachRow(ctx, tx, t, func(line []byte) error { return row(t, line) }); err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
	}
	return nil
}

// tablesOf lists the tables of a dump, with their columns.
func tablesOf(ctx context.Context, q sqlx.QueryerContext, history bool) (out []Table, err error) {
	type column struct {
		Table  string `db:"t"`
		Column string `db:"c"`
		Type   string `db:"d"`
	}
	// The schema is named: otherwise the server looks into all that it has.
	schema, err := get[string](ctx, q, `SELECT DATABASE()`)
	if err != nil {
		return nil, err
	}
	cols, err := list[column](ctx, q, `SELECT table_name AS t, column_name AS c, data_type AS d FROM information_schema.columns WHERE table_schema = ? AND is_generated = 'NEVER' ORDER BY table_name, ordinal_position`, schema)
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Concat(passing, historical) { // one that was renamed would go, or stay, unseen
		if !slices.ContainsFunc(cols, func(c column) bool { return c.Table == name }) {
			return nil, fmt.Errorf("the dump has a rule for table %s, and there is none of that name", name)
		}
	}
	for _, c := range cols {
		if slices.Contains(passing, c.Table) || slices.Contains(sometimes, c.Table) || !history && slices.Contains(historical, c.Table) {
			continue
		}
		if len(out) == 0 || out[len(out)-1].Name != c.Table {
			out = append(out, Table{Name: c.Table})
		}
		t := &out[len(out)-1]
		t.Columns = append(t.Columns, c.Column)
		t.Bytes = append(t.Bytes, strings.HasSuffix(c.Type, "blob") || strings.HasSuffix(c.Type, "binary"))
	}
	return out, nil
}

// eachRow hands out the rows of a table as lines of JSON, by its primary key.
func eachRow(ctx context.Context, q sqlx.QueryerContext, t Table, row func(line []byte) error) error {
	schema, err := get[string](ctx, q, `SELECT DATABASE()`)
	if err != nil {
		return err
	}
	key, err := list[string](ctx, q, `SELECT column_name FROM information_schema.statistics WHERE table_schema = ? AND table_name = ? AND index_name = 'PRIMARY' ORDER BY seq_in_index`, schema, t.Name)
	if err != nil {
		return err
	}
	if len(key) == 0 {
		return fmt.Errorf("it has no primary key")
	}
	rows, err := q.QueryxContext(ctx, "SELECT `"+strings.Join(t.Columns, "`, `")+"` FROM `"+t.Name+"` ORDER BY `"+strings.Join(key, "`, `")+"`")
	if err != nil {
		return plain(err)
	}
	defer rows.Close()
	values, into := make([]any, len(t.Columns)), make([]any, len(t.Columns))
	for i := range values {
		into[i] = &values[i]
	}
	var line bytes.Buffer
	enc := json.NewEncoder(&line)
	enc.SetEscapeHTML(false)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		out := make([]*string, len(values))
		for i, v := range values {
			out[i] = said(v, t.Bytes[i])
		}
		line.Reset()
		if err := enc.Encode(out); err != nil {
			return err
		}
		if err := row(line.Bytes()); err != nil {
			return err
		}
	}
	return plain(rows.Err())
}

// said is a value as a dump has it; nil: NULL.
func said(v any, raw bool) *string {
	var s string
	switch v := v.(type) {
	case nil:
		return nil
	case []byte:
		if s = string(v); raw {
			s = base64.StdEncoding.EncodeToString(v)
		}
	case time.Time:
		s = v.UTC().Format("2006-01-02 15:04:05.000000")
	default:
		s = fmt.Sprint(v)
	}
	return &s
}

// Summer adds up the lines of a table.
type Summer struct {
	rows int64
	h    hash.Hash
}

// Add counts a line.
func (s *Summer) Add(line []byte) {
	if s.h == nil {
		s.h = sha256.New()
	}
	s.rows++
	s.h.Write(line)
}

// Sum is what the lines came to.
func (s *Summer) Sum() Sum {
	if s.h == nil {
		s.h = sha256.New()
	}
	return Sum{s.rows, hex.EncodeToString(s.h.Sum(nil))}
}
