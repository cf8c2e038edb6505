package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
)

// Touched is something that was written lately, by whichever instance.
type Touched struct {
	Topic   string `db:"topic"` // one of core.Topics
	ID      string `db:"id"`
	Name    string `db:"name"`   // a device's or part's name, a job's kind, the last deed
	Device  string `db:"device"` // about whom it is
	State   string `db:"state"`
	Outcome string `db:"outcome"`
	Log     int    `db:"log"`  // of a job that runs: the number of its log's last entry
	Gone    bool   `db:"gone"` // the device was taken out
	Mark    string `db:"mark"` // another one than before: it was written again
}

// Touched lists what was written within a span, by the database's own clock. What is
// committed late appears late, so a watcher asks for more than the time since it asked
// last, and tells by Mark what it has seen.
func (q *Q) Touched(ctx context.Context, within time.Duration) (out []Touched, err error) {
	us := within.Microseconds()
	for _, query := range []string{
		`SELECT 'device' AS topic, id, name, name AS device, state, '' AS outcome, 0 AS log, removed_at IS NOT NULL AS gone, changed_at AS mark
			FROM devices WHERE changed_at > NOW(6) - INTERVAL ? MICROSECOND`,
		`SELECT 'job' AS topic, id, kind AS name, device, state, outcome, 0 AS log, FALSE AS gone, changed_at AS mark
			FROM jobs WHERE changed_at > NOW(6) - INTERVAL ? MICROSECOND`,
		`SELECT 'part' AS topic, p.id, p.name, d.name AS device, '' AS state, '' AS outcome, 0 AS log, FALSE AS gone, p.changed_at AS mark
			FROM parts p JOIN devices d ON d.id = p.device_id WHERE p.changed_at > NOW(6) - INTERVAL ? MICROSECOND`,
	} {
		rows, err := list[Touched](ctx, q.ext, query, us)
		if err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	logs, err := list[Touched](ctx, q.ext, `SELECT 'log' AS topic, j.id, j.kind AS name, j.device, j.state, '' AS outcome, MAX(l.seq) AS log, FALSE AS gone, MAX(l.seq) AS mark
		FROM jobs j JOIN job_log l ON l.job_id = j.id WHERE j.state IN ('running', 'waiting') GROUP BY j.id, j.kind, j.device, j.state`)
	if err != nil {
		return nil, err
	}
	deed, err := get[Touched](ctx, q.ext, `SELECT 'deed' AS topic, '' AS id, action AS name, object AS device, '' AS state, '' AS outcome, 0 AS log, FALSE AS gone, seq AS mark FROM audit ORDER BY seq DESC LIMIT 1`)
	if errors.Is(err, ErrNotFound) {
		return append(out, logs...), nil
	}
	return append(append(out, logs...), deed), err
}

// VersionFilter is what versions are looked for by; what is empty picks all.
type VersionFilter struct {
	Find    []string // words that all stand in the name, the note, the author, who pulled it, the serial or the release
	Name    string   // a pattern with * and ?, as Release is
	Note    string   // a part of it
	By      string
	Reasons []string
	Serial  string
	Release string
	Part    string
}

// Empty tells whether it picks all.
func (f VersionFilter) Empty() bool {
	return len(f.Find)+len(f.Reasons) == 0 && f.Name+f.Note+f.By+f.Serial+f.Release+f.Part == ""
}

// where adds what a filter asks for. Letters are compared without regard to their case.
func (f VersionFilter) where() (query string, args []any) {
	const folded = ` COLLATE utf8mb4_general_ci`
	add := func(q string, a ...any) { query, args = query+`AND `+q+` `, append(args, a...) }
	for _, w := range f.Find {
		add(`CONCAT_WS('\n', v.name, (SELECT GROUP_CONCAT(n.name SEPARATOR '\n') FROM version_names n WHERE n.version_id = v.id), v.note, v.author, v.actor, x.serial, x.software)`+folded+` LIKE ?`, "%"+like.Replace(w)+"%")
	}
	if f.Name != "" {
		add(`CONCAT('\n', COALESCE(v.name, ''), '\n', COALESCE((SELECT GROUP_CONCAT(n.name SEPARATOR '\n') FROM version_names n WHERE n.version_id = v.id), ''), '\n')`+folded+` LIKE ?`, "%\n"+pattern(f.Name)+"\n%")
	}
	if f.Note != "" {
		add(`v.note`+folded+` LIKE ?`, "%"+like.Replace(f.Note)+"%")
	}
	if f.By != "" {
		add(`(v.author`+folded+` = ? OR v.actor`+folded+` = ?)`, f.By, f.By)
	}
	if f.Serial != "" {
		add(`x.serial`+folded+` = ?`, f.Serial)
	}
	if f.Release != "" {
		add(`x.software`+folded+` LIKE ?`, pattern(f.Release))
	}
	if f.Part != "" {
		add(`p.name = ?`, f.Part)
	}
	if len(f.Reasons) > 0 {
		add(`v.reason IN (?)`, f.Reasons)
	}
	return query, args
}

// like takes their meaning from the letters that mean something in a LIKE.
var like = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// pattern is a pattern with * and ? for a LIKE.
func pattern(p string) string {
	return strings.NewReplacer(`*`, `%`, `?`, `_`).Replace(like.Replace(p))
}

// Changes lists the versions that were taken in a span, newest first, of the devices
// that a selector picks, and of these what is looked for: at most n, of those before the one of id before (empty: from
// the newest). more tells whether there are older ones.
func (q *Q) Changes(ctx context.Context, sel ref.Selector, f VersionFilter, from, until time.Time, before string, n int) (out []core.Listed, more bool, err error) {
	straight := ""
	if sel.All() { // from the newest on, until there are enough
		straight = "STRAIGHT_JOIN"
	}
	query, args := listedColumns+`JOIN (SELECT `+straight+` v.id FROM versions v JOIN parts p ON p.id = v.part_id JOIN devices d ON d.id = p.device_id LEFT JOIN pulls x ON x.id = v.pull_id WHERE d.removed_at IS NULL AND v.taken_at >= ? AND v.taken_at <= ? `, []any{from.UTC(), until.UTC()}
	looked, with := f.where()
	query, args = query+looked, append(args, with...)
	if before != "" {
		query += `AND v.id < ? `
		args = append(args, before)
	}
	if !sel.All() {
		picked, err := q.Devices(ctx, sel)
		if err != nil || len(picked) == 0 {
			return []core.Listed{}, false, err
		}
		ids := make([]string, len(picked))
		for i, d := range picked {
			ids[i] = d.ID
		}
		query += `AND d.id IN (?) `
		args = append(args, ids)
	}
	if query, args, err = in(query+`ORDER BY v.id DESC LIMIT ?) picked ON picked.id = v.id ORDER BY v.id DESC`, append(args, n+1)...); err != nil {
		return nil, false, err
	}
	if out, err = list[core.Listed](ctx, q.ext, query, args...); len(out) > n {
		return out[:n], true, err
	}
	return out, false, err
}
