package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// AuditEntry is one row of the audit log.
type AuditEntry struct {
	Seq    int64     `db:"seq"`
	At     time.Time `db:"at"`
	Actor  string    `db:"actor"`
	Action string    `db:"action"`
	Object string    `db:"object"`
	Detail string    `db:"detail"`
	MAC    string    `db:"mac"`
	Form   int       `db:"form"` // how its fields are put together for the code
}

// AuditEnd is how far the log has come: the number of its last row, and that row's code.
type AuditEnd struct {
	Seq   int64  `db:"seq"`
	MAC   string `db:"mac"`
	Proof string `db:"proof"`
}

// AuditEnd returns the log's end.
func (q *Q) AuditEnd(ctx context.Context) (AuditEnd, error) {
	return get[AuditEnd](ctx, q.ext, `SELECT seq, mac, proof FROM audit_end WHERE id = 1`)
}

// Audit writes down what the actor does, in the same transaction as the deed.
// detail never holds secrets or configuration text.
func (q *Q) Audit(ctx context.Context, action, object, detail string) error {
	return q.AuditAll(ctx, []AuditEntry{{Action: action, Object: object, Detail: detail}})
}

// AuditAll writes down several deeds of the actor.
func (q *Q) AuditAll(ctx context.Context, deeds []AuditEntry) error {
	if len(deeds) == 0 {
		return nil
	}
	end, err := get[AuditEnd](ctx, q.ext, `SELECT seq, mac, proof FROM audit_end WHERE id = 1 FOR UPDATE`)
	if errors.Is(err, ErrNotFound) {
		if end, err = q.auditAnew(ctx); err == nil {
			deeds = append([]AuditEntry{{Action: logLost, Object: "audit log", Detail: fmt.Sprintf("the log's end mark was gone; it goes on after row %d", end.Seq)}}, deeds...)
		}
	}
	if err != nil {
		return err
	}
	now := q.clock().UTC().Truncate(time.Microsecond)
	for part := range slices.Chunk(deeds, 200) {
		var rows []any
		for _, d := range part {
			d.Seq, d.At, d.Actor, d.Form = end.Seq+1, now, q.actor.Name, prefixed
			d.Object = shorten(d.Object, 255)
			end = AuditEnd{Seq: d.Seq, MAC: q.mac(d, end.MAC)}
			rows = append(rows, d.Seq, d.At, d.Actor, d.Action, d.Object, d.Detail, end.MAC, d.Form)
		}
		if _, err := q.exec(ctx, `INSERT INTO audit (seq, at, actor, action, object, detail, mac, form) VALUES `+
			values(`(?, ?, ?, ?, ?, ?, ?, ?)`, len(part)), rows...); err != nil {
			return err
		}
	}
	_, err = q.exec(ctx, `UPDATE audit_end SET seq = ?, mac = ?, proof = ? WHERE id = 1`, end.Seq, end.MAC, q.proof(end))
	return err
}

// prefixed is the form of a row in which each field's length stands before it,
// so that no two rows read the same.
const prefixed = 1

// logLost is the deed that the log begins again with when its end mark was gone.
// Nobody without the keys can write a sound one, nor leave it out.
const logLost = "audit log lost its end"

// auditAnew makes an end mark where there is none, after whatever rows there
// are. A database is made with one, so somebody took it away.
func (q *Q) auditAnew(ctx context.Context) (end AuditEnd, err error) {
	last, err := get[AuditEntry](ctx, q.ext, `SELECT * FROM audit ORDER BY seq DESC LIMIT 1`)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return end, err
	}
	end.Seq, end.MAC = last.Seq, last.MAC
	if _, err := q.exec(ctx, `INSERT IGNORE INTO audit_end (id, seq, mac, proof) VALUES (1, ?, ?, ?)`, end.Seq, end.MAC, q.proof(end)); err != nil {
		return end, err
	}
	return get[AuditEnd](ctx, q.ext, `SELECT seq, mac, proof FROM audit_end WHERE id = 1 FOR UPDATE`)
}

func shorten(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

func (q *Q) mac(d AuditEntry, before string) string {
	if d.Form != prefixed { // rows of earlier versions
		return q.keys.Hash("audit row", fmt.Appendf(nil, "%d\x00%s\x00%s\x00%s\x00%s\x00%s\x00%s", d.Seq, d.At.Format(time.RFC3339Nano), d.Actor, d.Action, d.Object, d.Detail, before))
	}
	var all []byte
	for _, f := range []string{fmt.Sprint(d.Seq), d.At.Format(time.RFC3339Nano), d.Actor, d.Action, d.Object, d.Detail, before} {
		all = binary.BigEndian.AppendUint64(all, uint64(len(f)))
		all = append(all, f...)
	}
	return q.keys.Hash("audit row, prefixed", all)
}

func (q *Q) proof(e AuditEnd) string {
	return q.keys.Hash("audit end", fmt.Appendf(nil, "%d\x00%s", e.Seq, e.MAC))
}

// DeedFilter narrows the audit log; what is empty narrows nothing.
type DeedFilter struct {
	About string // a device, user or whatever else something was done to; a device's versions count as the device
	Actor string
	Since time.Time
}

// Deeds lists the audit log, newest first, from before a sequence number (0:
// from the end).
func (q *Q) Deeds(ctx context.Context, f DeedFilter, before int64, limit int) ([]AuditEntry, error) {
	if before <= 0 {
		before = 1 << 62
	}
	query, args := `SELECT * FROM audit WHERE seq < ?`, []any{before}
	if f.About != "" {
		query += ` AND (object = ? OR object LIKE ? OR object LIKE ?)`
		like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(f.About)
		args = append(args, f.About, like+"@%", like+"/%")
	}
	if f.Actor != "" {
		query += ` AND actor = ?`
		args = append(args, f.Actor)
	}
	if !f.Since.IsZero() {
		query += ` AND at >= ?`
		args = append(args, f.Since.UTC())
	}
	return list[AuditEntry](ctx, q.ext, query+` ORDER BY seq DESC LIMIT ?`, append(args, limit)...)
}

// VerifyAudit reads the whole log and returns how many rows are sound. The error says where
// the first change, gap or cut is. kept is the log's end at some time as somebody kept it
// elsewhere (its number and code; none: zero): it tells of a log that was put back to an
// earlier state as a whole, which its own end cannot.
func (q *Q) VerifyAudit(ctx context.Context, kept AuditEnd) (int64, error) {
	end, err := get[AuditEnd](ctx, q.ext, `SELECT seq, mac, proof FROM audit_end WHERE id = 1`)
	if errors.Is(err, ErrNotFound) {
		return 0, errors.New("the log's end mark is missing: the log was removed, or its end was")
	}
	if err != nil {
		return 0, err
	}
	if q.proof(end) != end.Proof {
		return 0, fmt.Errorf("the log's end mark was changed")
	}
	mac, seq, lostAt := "", int64(0), int64(0)
	for {
		rows, err := list[AuditEntry](ctx, q.ext, `SELECT * FROM audit WHERE seq > ? ORDER BY seq LIMIT 1000`, seq)
		if err != nil {
			return seq, err
		}
		for _, d := range rows {
			if d.Seq != seq+1 {
				return seq, fmt.Errorf("rows %d to %d are missing", seq+1, d.Seq-1)
			}
			if q.mac(d, mac) != d.MAC {
				return seq, fmt.Errorf("row %d was changed, or the one before it", d.Seq)
			}
			if d.Seq == kept.Seq && d.MAC != kept.MAC {
				return seq, fmt.Errorf("row %d is another one than the one that was kept elsewhere: the log was put back to an earlier state before that row, and went on from there", d.Seq)
			}
			if d.Action == logLost && lostAt == 0 {
				lostAt = d.Seq
			}
			mac, seq = d.MAC, d.Seq
		}
		if len(rows) == 0 {
			break
		}
	}
	if seq != end.Seq || mac != end.MAC {
		return seq, fmt.Errorf("the log ends at row %d but had %d: its tail was cut off", seq, end.Seq)
	}
	if kept.Seq > seq {
		return seq, fmt.Errorf("the log ends at row %d, and row %d was seen elsewhere: the database was put back to an earlier state, and what was done between is missing", seq, kept.Seq)
	}
	if lostAt > 0 {
		return seq, fmt.Errorf("before row %d the log had been removed, or its end had: what was done until then may be missing", lostAt)
	}
	return seq, nil
}
