package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/retain"
	"magpie/internal/seal"
)

// Target is a place where copies of versions are kept.
type Target struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	Kind      string    `db:"kind"`
	Where     string    `db:"place"`
	Body      []byte    `db:"body"`
	Keep      bool      `db:"keep"` // what is deleted here stays there
	Paused    bool      `db:"paused"`
	Note      string    `db:"note"`
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`

	ReachedAt *time.Time `db:"reached_at"` // when it did last what it was asked
	FailingAt *time.Time `db:"failing_at"` // since when it has not; nil: it does
	NextAt    *time.Time `db:"next_at"`    // not before that it is tried again
	Tries     int        `db:"tries"`
	Trouble   string     `db:"trouble"`
	Room      *int64     `db:"free_bytes"` // where it says so

	Sealed      // what is kept of it sealed
	Shut   bool `db:"-"` // that does not open: it was changed where it lies
}

// Sealed is what of a target nobody may read: how to get in, and to whom its files are sealed
// besides.
type Sealed struct {
	User       string   `json:"user,omitempty"`
	Password   string   `json:"password,omitempty"`
	Key        string   `json:"key,omitempty"`
	HostKey    string   `json:"host_key,omitempty"`
	CA         string   `json:"ca,omitempty"`
	Recipients []string `json:"recipients,omitempty"` // age recipients, besides the service itself
	Files      string   `json:"files,omitempty"`      // how its files are; empty: sealed. It is kept sealed itself, so that nobody makes them readable in the database
}

// Standing is how a target stands.
type Standing struct {
	TargetID string `db:"target_id"`
	There    int    `db:"there"`
	Waiting  int    `db:"waiting"`
	LeftOut  int    `db:"left_out"`
	Bytes    int64  `db:"bytes"`
}

const targetColumns = `SELECT id, name, kind, place, body, keep, paused, note, changed_by, changed_at, reached_at, failing_at, next_at, tries, trouble, free_bytes FROM targets `

// ErrShut is returned for a target of which what is sealed does not open.
var ErrShut = errors.New("how to get in, and to whom its files are sealed, does not open any more: it was changed in the database; remove it, which leaves what is there, and add it anew")

// Targets lists the targets, by name.
func (q *Q) Targets(ctx context.Context) ([]Target, error) {
	all, err := list[Target](ctx, q.ext, targetColumns+`ORDER BY name`)
	for i := range all {
		err = errors.Join(err, q.openTarget(&all[i]))
	}
	return all, err
}

// Target returns the one of that name.
func (q *Q) Target(ctx context.Context, name string) (Target, error) {
	t, err := get[Target](ctx, q.ext, targetColumns+`WHERE name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		return t, q.named(ctx, "target", name, `SELECT name FROM targets`)
	}
	if err != nil {
		return t, err
	}
	return t, q.openTarget(&t)
}

// readableTarget is under what a target is sealed whose files are readable: an instance of a release that knows
// of none does not open it, and copies nothing there.
const readableTarget = "readable target"

// openTarget opens what is sealed of a target. One that does not open holds the others up in nothing.
func (q *Q) openTarget(t *Target) error {
	raw, err := q.keys.Open("target", t.ID, t.Body)
	if errors.Is(err, seal.ErrWrongKey) {
		raw, err = q.keys.Open(readableTarget, t.ID, t.Body)
	}
	if t.Shut = errors.Is(err, seal.ErrWrongKey); t.Shut {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &t.Sealed)
	}
	if err != nil {
		err = fmt.Errorf("target %s: %w", t.Name, err)
	}
	return err
}

// SaveTarget keeps one. Without an id it is new, and a copy of every version there is waits for
// it.
func (q *Q) SaveTarget(ctx context.Context, t *Target) error {
	isNew := t.ID == ""
	if isNew {
		t.ID = NewID(q.clock())
	}
	raw, err := json.Marshal(t.Sealed)
	if err != nil {
		return err
	}
	purpose := "target"
	if t.Files != "" {
		purpose = readableTarget
	}
	t.Body, t.ChangedBy, t.ChangedAt = q.keys.Seal(purpose, t.ID, raw), q.actor.Name, q.clock().UTC()
	if isNew {
		_, err = q.exec(ctx, `INSERT INTO targets (id, name, kind, place, body, keep, paused, note, changed_by, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			t.ID, t.Name, t.Kind, t.Where, t.Body, t.Keep, t.Paused, t.Note, t.ChangedBy, t.ChangedAt)
		if err == nil {
			_, err = q.exec(ctx, `INSERT INTO copies (target_id, version_id, state) SELECT ?, id, ? FROM versions`, t.ID, core.CopyWaits)
		}
	} else {
		_, err = q.exec(ctx, `UPDATE targets SET name = ?, place = ?, body = ?, keep = ?, paused = ?, note = ?, changed_by = ?, changed_at = ?, next_at = NULL, tries = 0 WHERE id = ?`,
			t.Name, t.Where, t.Body, t.Keep, t.Paused, t.Note, t.ChangedBy, t.ChangedAt, t.ID)
	}
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("target %q: %w", t.Name, ErrTaken)
	}
	return err
}

// CatchUp puts versions on their way to a target that were kept at the moment in which it was
// made, and did not see each other.
func (q *Q) CatchUp(ctx context.Context, targetID string) error {
	_, err := q.exec(ctx, `INSERT IGNORE INTO copies (target_id, version_id, state) SELECT ?, v.id, 'waiting' FROM versions v LEFT JOIN copies c ON c.version_id = v.id AND c.target_id = ? WHERE c.version_id IS NULL`, targetID, targetID)
	return err
}

// RemoveTarget forgets a target; what is there stays there.
func (q *Q) RemoveTarget(ctx context.Context, id string) error {
	if _, err := q.exec(ctx, `DELETE FROM copies WHERE target_id = ?`, id); err != nil {
		return err
	}
	if _, err := q.exec(ctx, `DELETE FROM backups WHERE target_id = ?`, id); err != nil {
		return err
	}
	_, err := q.exec(ctx, `DELETE FROM targets WHERE id = ?`, id)
	return err
}

// TargetDid notes that a target did what it was asked, and how much room it has; nil: it does
// not say.
func (q *Q) TargetDid(ctx context.Context, id string, room *int64) error {
	_, err := q.exec(ctx, `UPDATE targets SET reached_at = ?, failing_at = NULL, next_at = NULL, tries = 0, trouble = '', free_bytes = ? WHERE id = ?`, q.clock().UTC(), room, id)
	return err
}

// TargetFailed notes that a target did not, and when it is tried again.
func (q *Q) TargetFailed(ctx context.Context, id, trouble string, next time.Time) error {
	_, err := q.exec(ctx, `UPDATE targets SET failing_at = COALESCE(failing_at, ?), next_at = ?, tries = tries + 1, trouble = ? WHERE id = ?`, q.clock().UTC(), next.UTC(), shorten(trouble, 1000), id)
	return err
}

// Standings tells how the targets stand, by their ids.
func (q *Q) Standings(ctx context.Context) (map[string]Standing, error) {
	rows, err := list[Standing](ctx, q.ext, `SELECT target_id, CAST(SUM(state = 'there') AS SIGNED) AS there, CAST(SUM(state IN ('waiting', 'leaving')) AS SIGNED) AS waiting, CAST(SUM(state = 'left out') AS SIGNED) AS left_out,
		CAST(SUM(IF(state = 'there', bytes, 0)) AS SIGNED) AS bytes FROM copies GROUP BY target_id`)
	by := map[string]Standing{}
	for _, r := range rows {
		by[r.TargetID] = r
	}
	return by, err
}

// Copy is what a target has of a version, or is to have.
type Copy struct {
	TargetID  string     `db:"target_id"`
	VersionID string     `db:"version_id"`
	State     string     `db:"state"` // one of core.CopyStates
	Path      string     `db:"path"`
	Bytes     int64      `db:"bytes"`
	At        *time.Time `db:"at"`
	Trouble   string     `db:"trouble"`
}

const copyColumns = `SELECT target_id, version_id, state, path, bytes, at, trouble FROM copies `

// CopiesDue lists what a target is to get or to lose, in the order in which it came about. What it did not take
// is not among it: see CopiesMissed.
func (q *Q) CopiesDue(ctx context.Context, targetID, state string, limit int) ([]Copy, error) {
	return list[Copy](ctx, q.ext, copyColumns+`WHERE target_id = ? AND state = ? AND (state <> 'waiting' OR trouble = '') ORDER BY version_id LIMIT ?`, targetID, state, limit)
}

// CopiesThere lists what a target should have, from after a version's id on.
func (q *Q) CopiesThere(ctx context.Context, targetID, after string, limit int) ([]Copy, error) {
	return list[Copy](ctx, q.ext, copyColumns+`WHERE target_id = ? AND state = 'there' AND version_id > ? ORDER BY version_id LIMIT ?`, targetID, after, limit)
}

// CopiesLost has copies made anew that are not where they should be.
func (q *Q) CopiesLost(ctx context.Context, targetID string, versionIDs []string) error {
	if len(versionIDs) == 0 {
		return nil
	}
	query, args, err := in(`UPDATE copies SET state = 'waiting', trouble = '' WHERE target_id = ? AND state = 'there' AND version_id IN (?)`, targetID, versionIDs)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, query, args...)
	return err
}

// CopiesMissed lists what a target is to get and did not take.
func (q *Q) CopiesMissed(ctx context.Context, targetID string, limit int) ([]Copy, error) {
	return list[Copy](ctx, q.ext, copyColumns+`WHERE target_id = ? AND state = 'waiting' AND trouble <> '' ORDER BY version_id LIMIT ?`, targetID, limit)
}

// CopiesOf lists the copies of a version that are somewhere or on their way there.
func (q *Q) CopiesOf(ctx context.Context, versionID string) ([]Copy, error) {
	return list[Copy](ctx, q.ext, copyColumns+`WHERE version_id = ? ORDER BY target_id`, versionID)
}

// CopiesWith lists the copies that hold a content.
func (q *Q) CopiesWith(ctx context.Context, contentID string) ([]Copy, error) {
	return list[Copy](ctx, q.ext, `SELECT c.target_id, c.version_id, c.state, c.path, c.bytes, c.at, c.trouble FROM copies c JOIN versions v ON v.id = c.version_id
		WHERE v.content_id = ? AND c.state = 'there' ORDER BY c.at DESC`, contentID)
}

// Copied notes what came of copies. One whose version was deleted meanwhile is to leave again.
func (q *Q) Copied(ctx context.Context, all []Copy) error {
	for _, c := range all {
		if _, err := q.exec(ctx, `UPDATE copies SET state = IF(state = 'dropped', 'leaving', ?), path = ?, bytes = ?, at = ?, trouble = ? WHERE target_id = ? AND version_id = ?`,
			c.State, c.Path, c.Bytes, q.clock().UTC(), shorten(c.Trouble, 255), c.TargetID, c.VersionID); err != nil {
			return err
		}
	}
	return nil
}

// Unreadable is why a copy is left out whose version is damaged.
const Unreadable = "it does not read back here"

// CopyReadable has copies tried once more that were left out because their versions did not read
// back: something was mended, and they, or what they build on, may read back again.
func (q *Q) CopyReadable(ctx context.Context) error {
	_, err := q.exec(ctx, `UPDATE copies SET state = 'waiting', trouble = '' WHERE state = 'left out' AND trouble = ?`, Unreadable)
	return err
}

// CopyGone notes that a target has a version no more.
func (q *Q) CopyGone(ctx context.Context, c Copy) error {
	_, err := q.exec(ctx, `DELETE FROM copies WHERE target_id = ? AND version_id = ?`, c.TargetID, c.VersionID)
	return err
}

// CopyAgain has copies made anew of what a target was thought to have, or left out.
func (q *Q) CopyAgain(ctx context.Context, targetID string) (int64, error) {
	return q.exec(ctx, `UPDATE copies SET state = 'waiting', trouble = '' WHERE target_id = ? AND state IN ('there', 'left out')`, targetID)
}

// toCopy puts a new version on its way to every target.
func (q *Q) toCopy(ctx context.Context, versionID string) error {
	_, err := q.exec(ctx, `INSERT INTO copies (target_id, version_id, state) SELECT id, ?, 'waiting' FROM targets`, versionID)
	return err
}

// dropCopies has the copies of versions that are deleted leave their targets, but for those that
// keep what is deleted here. What is on its way just now leaves when it has arrived.
func (q *Q) dropCopies(ctx context.Context, versionIDs []string) error {
	for _, statement := range []string{
		`DELETE c FROM copies c JOIN targets t ON t.id = c.target_id WHERE c.version_id IN (?) AND (c.state = 'left out' OR t.keep OR t.kind = 'git')`,
		`UPDATE copies SET state = IF(state = 'there', 'leaving', 'dropped') WHERE version_id IN (?)`,
	} {
		query, args, err := in(statement, versionIDs)
		if err == nil {
			_, err = q.exec(ctx, query, args...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// DropUnsent forgets copies that were not on their way when their versions were deleted.
func (q *Q) DropUnsent(ctx context.Context, targetID string) error {
	_, err := q.exec(ctx, `DELETE FROM copies WHERE target_id = ? AND state = 'dropped'`, targetID)
	return err
}

// NoteSize keeps how much there is today.
func (q *Q) NoteSize(ctx context.Context) error {
	_, bytes, err := q.ContentsCount(ctx)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO sizes (day, versions, bytes) SELECT ?, COUNT(*), ? FROM versions ON DUPLICATE KEY UPDATE versions = VALUES(versions), bytes = VALUES(bytes)`, q.clock().UTC().Format(time.DateOnly), bytes)
	if err == nil {
		_, err = q.exec(ctx, `DELETE FROM sizes WHERE day < ?`, q.clock().UTC().AddDate(-2, 0, 0).Format(time.DateOnly))
	}
	return err
}

// Sizes lists how much there was, day by day, oldest first, from a day on.
func (q *Q) Sizes(ctx context.Context, from time.Time) ([]retain.Size, error) {
	return list[retain.Size](ctx, q.ext, `SELECT day, versions, bytes FROM sizes WHERE day >= ? ORDER BY day`, from.UTC().Format(time.DateOnly))
}

// TargetNow has a target tried at once.
func (q *Q) TargetNow(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `UPDATE targets SET next_at = NULL, tries = 0 WHERE id = ?`, id)
	return err
}

// MarkAnew lets a place be marked as a target's again whose mark is gone.
func (q *Q) MarkAnew(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `UPDATE targets SET reached_at = NULL WHERE id = ?`, id)
	return err
}
