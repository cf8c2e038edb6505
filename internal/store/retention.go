package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/retain"
)

// Retention is a policy for how long versions stay.
type Retention struct {
	Name      string    `db:"name"`
	Place     int       `db:"place"` // the first that picks a device holds
	Selector  string    `db:"selector"`
	Newest    int       `db:"newest"`
	ByHand    int       `db:"by_hand"`
	Daily     int       `db:"daily"`
	Weekly    int       `db:"weekly"`
	Monthly   int       `db:"monthly"`
	Note      string    `db:"note"`
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`
}

// Policy is what it says.
func (r Retention) Policy() retain.Policy {
	return retain.Policy{Newest: r.Newest, ByHand: r.ByHand, Daily: r.Daily, Weekly: r.Weekly, Monthly: r.Monthly}
}

// EverythingElse is the name of the policy that holds where no other does.
const EverythingElse = "everything-else"

// Retentions lists the policies in the order in which they hold; the last is for all.
func (q *Q) Retentions(ctx context.Context) ([]Retention, error) {
	all, err := list[Retention](ctx, q.ext, `SELECT name, place, selector, newest, by_hand, daily, weekly, monthly, note, changed_by, changed_at FROM retention ORDER BY place, name`)
	if err != nil {
		return nil, err
	}
	for _, r := range all {
		if r.Name == EverythingElse {
			return all, nil
		}
	}
	d := retain.Default
	return append(all, Retention{Name: EverythingElse, Place: lastPlace, Selector: "all", Newest: d.Newest, ByHand: d.ByHand, Daily: d.Daily, Weekly: d.Weekly, Monthly: d.Monthly, ChangedBy: "service"}), nil
}

const lastPlace = 1_000_000

// RetentionFor picks the policy that holds for a device.
func RetentionFor(all []Retention, d core.Device) (Retention, error) {
	for _, r := range all {
		sel, err := ref.ParseSelector(strings.Fields(r.Selector))
		if err != nil {
			return r, fmt.Errorf("retention %s: %w", r.Name, err)
		}
		if r.Name == EverythingElse || sel.Match(subject(d)) {
			return r, nil
		}
	}
	return Retention{}, ErrNotFound
}

// SaveRetention keeps a policy: a new one, before that for all others, or what was changed of
// one.
func (q *Q) SaveRetention(ctx context.Context, r *Retention) error {
	if err := q.guard(ctx, "retention"); err != nil {
		return err
	}
	if r.Name == EverythingElse {
		r.Place, r.Selector = lastPlace, "all"
	} else if r.Place == 0 {
		last, err := get[int](ctx, q.ext, `SELECT COALESCE(MAX(place), 0) FROM retention WHERE place < ?`, lastPlace)
		if err != nil {
			return err
		}
		r.Place = last + 10
	}
	r.ChangedBy, r.ChangedAt = q.actor.Name, q.clock().UTC()
	_, err := q.exec(ctx, `INSERT INTO retention (name, place, selector, newest, by_hand, daily, weekly, monthly, note, changed_by, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE place = VALUES(place), selector = VALUES(selector), newest = VALUES(newest), by_hand = VALUES(by_hand), daily = VALUES(daily), weekly = VALUES(weekly),
		monthly = VALUES(monthly), note = VALUES(note), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`,
		r.Name, r.Place, r.Selector, r.Newest, r.ByHand, r.Daily, r.Weekly, r.Monthly, r.Note, r.ChangedBy, r.ChangedAt)
	return err
}

// RemoveRetention takes a policy away.
func (q *Q) RemoveRetention(ctx context.Context, name string) error {
	n, err := q.exec(ctx, `DELETE FROM retention WHERE name = ?`, name)
	if err == nil && n == 0 {
		return q.named(ctx, "retention", name, `SELECT name FROM retention`)
	}
	return err
}

// Kept is a version as retention looks at it.
type Kept struct {
	ID        string    `db:"id"`
	PartID    string    `db:"part_id"`
	Part      string    `db:"part"`
	Number    int       `db:"number"`
	ContentID string    `db:"content_id"`
	TakenAt   time.Time `db:"taken_at"`
	RanUntil  time.Time `db:"ran_until"` // when it was last seen
	Reason    string    `db:"reason"`
	Name      string    `db:"name"`
	Protected string    `db:"protected"` // why nothing may delete it; empty: nothing keeps it
}

// KeptOf lists a device's versions with what protects each: a pin, a name, being a baseline, a
// snapshot, the newest of its part that counts, a push that has not ended or a claim, or a push that may yet be
// undone (UndoStays).
func (q *Q) KeptOf(ctx context.Context, deviceID string) ([]Kept, error) {
	return list[Kept](ctx, q.ext, `SELECT v.id, v.part_id, p.name AS part, v.number, v.content_id, v.taken_at, v.reason,
		COALESCE((SELECT MAX(s.until_at) FROM seen s WHERE s.version_id = v.id), v.taken_at) AS ran_until, COALESCE(v.name, '') AS name,
		CASE WHEN v.pinned THEN 'pinned' WHEN v.name IS NOT NULL THEN 'named' WHEN v.id = p.baseline_id THEN 'the baseline'
		WHEN EXISTS (SELECT 1 FROM snapshot_versions s WHERE s.version_id = v.id) THEN 'in a snapshot'
		WHEN v.number = (SELECT MAX(w.number) FROM versions w WHERE w.part_id = v.part_id AND w.aside = '') THEN 'the newest'
		WHEN EXISTS (SELECT 1 FROM pushes u WHERE u.before_id = v.id AND u.changed_at > ?) THEN 'what a push of late can be undone to'
		WHEN EXISTS (SELECT 1 FROM claims c WHERE c.device_id = p.device_id) THEN 'a push is under way'
		WHEN EXISTS (SELECT 1 FROM jobs j JOIN previews w ON w.job_id = j.id WHERE j.device_id = p.device_id AND j.state <> 'ended') THEN 'a job is under way'
		ELSE '' END AS protected
		FROM versions v JOIN parts p ON p.id = v.part_id WHERE p.device_id = ? ORDER BY p.name, v.number`, q.clock().UTC().Add(-UndoStays), deviceID)
}

// UndoStays is how long what ran before a push is kept, so that it can be undone.
const UndoStays = 14 * 24 * time.Hour

// DeleteVersions removes versions of a device for good, if nothing protects them now: their
// seen intervals, their pulls where nothing else came of these, and contents that nobody has
// any more. It returns how many went and the bytes that were given back.
func (q *Q) DeleteVersions(ctx context.Context, deviceID string, ids []string) (n int, bytes int64, err error) {
	if err := q.guard(ctx, "retention"); err != nil { // no snapshot is made meanwhile
		return 0, 0, err
	}
	if _, err := q.LockDevice(ctx, deviceID, 0); err != nil {
		return 0, 0, err
	}
	now, err := q.KeptOf(ctx, deviceID)
	if err != nil {
		return 0, 0, err
	}
	may := map[string]Kept{}
	for _, k := range now {
		if k.Protected == "" {
			may[k.ID] = k
		}
	}
	var gone, contents []string
	for _, id := range ids {
		if k, ok := may[id]; ok {
			gone, contents = append(gone, id), append(contents, k.ContentID)
		}
	}
	if len(gone) == 0 {
		return 0, 0, nil
	}
	query, args, err := in(`SELECT DISTINCT pull_id FROM versions WHERE id IN (?)`, gone)
	if err != nil {
		return 0, 0, err
	}
	pulls, err := list[string](ctx, q.ext, query, args...)
	if err != nil {
		return 0, 0, err
	}
	for _, x := range []struct {
		statement string
		args      []any
	}{
		{`DELETE FROM seen WHERE version_id IN (?)`, []any{gone}},
		{`DELETE FROM version_names WHERE version_id IN (?)`, []any{gone}},
		{`DELETE FROM versions WHERE id IN (?)`, []any{gone}},
		{`DELETE FROM pulls WHERE id IN (?) AND NOT EXISTS (SELECT 1 FROM versions v WHERE v.pull_id = pulls.id)`, []any{pulls}},
	} {
		query, args, err := in(x.statement, x.args...)
		if err != nil {
			return 0, 0, err
		}
		if _, err := q.exec(ctx, query, args...); err != nil {
			return 0, 0, err
		}
	}
	if err := q.dropCopies(ctx, gone); err != nil {
		return 0, 0, err
	}
	_, bytes, err = q.DropContents(ctx, contents)
	return len(gone), bytes, err
}

// SameText lists at most n versions that have a content, of removed devices, too.
func (q *Q) SameText(ctx context.Context, contentID string, n int) ([]core.Version, error) {
	return list[core.Version](ctx, q.ext, `SELECT v.id, d.id AS device_id, d.name AS device, p.name AS part, v.number FROM versions v JOIN parts p ON p.id = v.part_id
		JOIN devices d ON d.id = p.device_id WHERE v.content_id = ? ORDER BY d.name, p.name, v.number LIMIT ?`, contentID, n)
}

// ContentsAfter lists the ids of contents in their order, beyond one.
func (q *Q) ContentsAfter(ctx context.Context, after string, limit int) ([]string, error) {
	return list[string](ctx, q.ext, `SELECT id FROM contents WHERE id > ? ORDER BY id LIMIT ?`, after, limit)
}

// NoteDamage keeps what a scrub found of some contents: why those that are damaged do not read
// back. The others do.
func (q *Q) NoteDamage(ctx context.Context, read []string, damaged map[string]string) error {
	query, args, err := in(`DELETE FROM damage WHERE content_id IN (?)`, read)
	if err != nil {
		return err
	}
	if _, err := q.exec(ctx, query, args...); err != nil {
		return err
	}
	for id, why := range damaged {
		if _, err := q.exec(ctx, `INSERT INTO damage (content_id, found_at, why) VALUES (?, ?, ?)`, id, q.clock().UTC(), shorten(why, 255)); err != nil {
			return err
		}
	}
	return nil
}

// DamageCount tells how many contents are known not to read back.
func (q *Q) DamageCount(ctx context.Context) (int, error) {
	return get[int](ctx, q.ext, `SELECT COUNT(*) FROM damage`)
}

// Damaged is a version whose content does not read back.
type Damaged struct {
	core.Version
	FoundAt time.Time `db:"found_at"`
	Why     string    `db:"why"`
}

// DamagedVersions lists the versions whose contents a scrub found damaged.
func (q *Q) DamagedVersions(ctx context.Context, limit int) ([]Damaged, error) {
	return list[Damaged](ctx, q.ext, `SELECT v.id, v.part_id, d.id AS device_id, d.name AS device, p.name AS part, v.number, v.content_id, x.found_at, x.why
		FROM damage x JOIN versions v ON v.content_id = x.content_id JOIN parts p ON p.id = v.part_id JOIN devices d ON d.id = p.device_id ORDER BY d.name, p.name, v.number LIMIT ?`, limit)
}

// Stays are for how long stays what is kept for a while only.
type Stays struct{ Quiet, Previews, Logs, Jobs time.Duration }

// Age is one thing that has its time.
type Age struct {
	find   string // the ids of what remove takes away, by the key of something else; empty: it finds that itself
	remove string
	before time.Time
}

// Ages are pulls by a schedule that found nothing new, previews, logs of jobs, jobs, failed visits, runs of
// schedules and pieces of large contents that never became whole: those that have had their time.
func Ages(now time.Time, stay Stays) []Age {
	quiet, previews, logs, jobs := now.Add(-stay.Quiet), now.Add(-stay.Previews), now.Add(-stay.Logs), now.Add(-stay.Jobs)
	return []Age{
		{remove: `DELETE FROM previews WHERE made_at < ? AND id NOT IN (SELECT preview_id FROM pushes) AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.id = previews.job_id AND j.state <> 'ended') LIMIT 2000`, before: previews},
		{find: `SELECT j.id FROM jobs j WHERE j.state = 'ended' AND j.ended_at < ? AND EXISTS (SELECT 1 FROM job_log l WHERE l.job_id = j.id) LIMIT 200`, remove: `DELETE FROM job_log WHERE job_id IN (?)`, before: logs},
		{find: `SELECT j.id FROM jobs j WHERE j.state = 'ended' AND j.ended_at < ? AND j.kind = 'pull' AND j.outcome = 'done' AND (SELECT COUNT(*) FROM job_log l WHERE l.job_id = j.id) = 1 LIMIT 2000`, remove: `DELETE FROM job_log WHERE job_id IN (?)`, before: quiet},
		{remove: `DELETE FROM jobs WHERE state = 'ended' AND ended_at < ? AND kind = 'pull' AND outcome = 'done' AND NOT EXISTS (SELECT 1 FROM job_log l WHERE l.job_id = jobs.id) AND NOT EXISTS (SELECT 1 FROM versions v JOIN pulls p ON p.id = v.pull_id WHERE p.job_id = jobs.id) LIMIT 2000`, before: quiet},
		{remove: `DELETE FROM pulls WHERE result = 'failed' AND requested_at < ? LIMIT 2000`, before: logs},
		{remove: `DELETE FROM schedule_runs WHERE due_at < ? LIMIT 2000`, before: jobs},
		{remove: `DELETE FROM jobs WHERE state = 'ended' AND ended_at < ? AND NOT EXISTS (SELECT 1 FROM job_log l WHERE l.job_id = jobs.id) LIMIT 2000`, before: jobs},
		{remove: `DELETE FROM chunks WHERE at < ? AND NOT EXISTS (SELECT 1 FROM content_chunks c WHERE c.chunk_id = chunks.id) LIMIT 500`, before: now.Add(-piecesOpen)},
		{remove: `DELETE FROM pushes WHERE NOT EXISTS (SELECT 1 FROM jobs j WHERE j.id = pushes.job_id) AND ? IS NOT NULL LIMIT 2000`, before: jobs},
	}
}

// Aged takes a piece of such things away, and tells whether there may be more of them.
func (q *Q) Aged(ctx context.Context, a Age) (more bool, err error) {
	statement, args := a.remove, []any{a.before.UTC()}
	if a.find != "" {
		ids, err := list[string](ctx, q.ext, a.find, args...)
		if err != nil || len(ids) == 0 {
			return false, err
		}
		if statement, args, err = in(a.remove, ids); err != nil {
			return false, err
		}
	}
	n, err := q.exec(ctx, statement, args...)
	if err != nil {
		return false, fmt.Errorf("%s: %w", a.remove[:40], err)
	}
	return n > 0, nil
}

// VersionsWith lists the versions that have a content.
func (q *Q) VersionsWith(ctx context.Context, contentID string) ([]core.Version, error) {
	return list[core.Version](ctx, q.ext, versionColumns+versionTables+`WHERE v.content_id = ? ORDER BY v.id`, contentID)
}

// WithContent is the number of a part's newest version with a content, or 0.
func (q *Q) WithContent(ctx context.Context, partID, contentID string) (int, error) {
	return get[int](ctx, q.ext, `SELECT COALESCE(MAX(number), 0) FROM versions WHERE part_id = ? AND content_id = ?`, partID, contentID)
}
