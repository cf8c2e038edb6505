package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
)

// Approval is a selector of devices to which nobody pushes alone.
type Approval struct {
	ID       string    `db:"id"`
	Selector string    `db:"selector"`
	MadeBy   string    `db:"made_by"`
	MadeAt   time.Time `db:"made_at"`
}

// Approvals lists which devices nobody pushes to alone.
func (q *Q) Approvals(ctx context.Context) ([]Approval, error) {
	return list[Approval](ctx, q.ext, `SELECT id, selector, made_by, made_at FROM approvals ORDER BY id`)
}

// AddApproval asks for a second person on the devices of a selector. ErrTaken
// says that it stands there already.
func (q *Q) AddApproval(ctx context.Context, selector string) (a Approval, err error) {
	now := q.clock().UTC()
	a = Approval{ID: NewID(now), Selector: selector, MadeBy: q.actor.Name, MadeAt: now}
	_, err = q.exec(ctx, `INSERT INTO approvals (id, selector, made_by, made_at) VALUES (?, ?, ?, ?)`, a.ID, a.Selector, a.MadeBy, a.MadeAt)
	return a, err
}

// RemoveApproval takes one away and returns its selector.
func (q *Q) RemoveApproval(ctx context.Context, id string) (string, error) {
	sel, err := get[string](ctx, q.ext, `SELECT selector FROM approvals WHERE id = ? FOR UPDATE`, id)
	if err != nil {
		return "", fmt.Errorf("approval rule %q: %w", id, err)
	}
	_, err = q.exec(ctx, `DELETE FROM approvals WHERE id = ?`, id)
	return sel, err
}

// AskedApproval returns the selector by which a second person has to approve
// pushes to a device; empty when none does.
func (q *Q) AskedApproval(ctx context.Context, d core.Device) (string, error) {
	all, err := q.Approvals(ctx)
	if err != nil {
		return "", err
	}
	for _, a := range all {
		sel, err := ref.ParseSelector(strings.Fields(a.Selector))
		if err != nil {
			return "", fmt.Errorf("approval rule %q: %w", a.Selector, err)
		}
		if sel.Match(subject(d)) {
			return a.Selector, nil
		}
	}
	return "", nil
}

func subject(d core.Device) ref.Subject {
	return ref.Subject{Name: d.Name, Site: d.Site, Kind: d.Kind, Dialect: d.Dialect, State: d.State, Model: d.Model, Release: d.Release, Spare: d.Spare, Tags: d.Tags}
}

// SetProven notes that a version of a device was put on hardware and proved equal;
// how says which version, where and by what.
func (q *Q) SetProven(ctx context.Context, deviceID, how string) error {
	_, err := q.exec(ctx, `UPDATE devices SET proven_at = ?, proven = ? WHERE id = ?`, q.clock().UTC(), how, deviceID)
	return err
}

// Away returns how long a device was away for the restarts of past pushes, the
// newest first.
func (q *Q) Away(ctx context.Context, deviceID string, limit int) ([]time.Duration, error) {
	type row struct {
		MS int64 `db:"ms"`
	}
	rows, err := list[row](ctx, q.ext, `SELECT away_ms AS ms FROM pushes WHERE device_id = ? AND away_ms > 0 ORDER BY job_id DESC LIMIT ?`, deviceID, limit)
	out := make([]time.Duration, len(rows))
	for i, r := range rows {
		out[i] = time.Duration(r.MS) * time.Millisecond
	}
	return out, err
}

// SetAway notes how long a push's restart took.
func (q *Q) SetAway(ctx context.Context, jobID string, d time.Duration) error {
	_, err := q.exec(ctx, `UPDATE pushes SET away_ms = ? WHERE job_id = ?`, d.Milliseconds(), jobID)
	return err
}

// Snapshot is a named set of versions, one a device's part, of one time.
type Snapshot struct {
	ID       string    `db:"id"`
	Name     string    `db:"name"`
	Selector string    `db:"selector"`
	Note     string    `db:"note"`
	MadeBy   string    `db:"made_by"`
	MadeAt   time.Time `db:"made_at"`
	Count    int       `db:"versions"`
}

const snapshotColumns = `SELECT s.id, s.name, s.selector, s.note, s.made_by, s.made_at, (SELECT COUNT(*) FROM snapshot_versions v WHERE v.snapshot_id = s.id) AS versions FROM snapshots s `

// Snapshots lists snapshots, newest first.
func (q *Q) Snapshots(ctx context.Context) ([]Snapshot, error) {
	return list[Snapshot](ctx, q.ext, snapshotColumns+`ORDER BY s.id DESC`)
}

// Snapshot returns the snapshot of that name.
func (q *Q) Snapshot(ctx context.Context, name string) (Snapshot, error) {
	s, err := get[Snapshot](ctx, q.ext, snapshotColumns+`WHERE s.name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		err = q.named(ctx, "snapshot", name, `SELECT name FROM snapshots`)
	}
	return s, err
}

// ofMoment picks of each part of some devices the version that counted at a time.
const ofMoment = ` FROM parts p JOIN versions v ON v.part_id = p.id AND v.number = (SELECT MAX(w.number) FROM versions w WHERE w.part_id = p.id AND w.aside = '' AND w.taken_at <= ?)
	JOIN devices d ON d.id = p.device_id WHERE d.id IN (?)`

// AddSnapshot makes a named set of the versions that devices' parts had at a time, in one
// statement however many there are. ErrTaken says that the name is; s.Count how many there were.
func (q *Q) AddSnapshot(ctx context.Context, s *Snapshot, deviceIDs []string, at time.Time) error {
	if err := q.guard(ctx, "retention"); err != nil { // nothing of it goes meanwhile
		return err
	}
	now := q.clock().UTC()
	s.ID, s.MadeBy, s.MadeAt = NewID(now), q.actor.Name, now
	if _, err := q.exec(ctx, `INSERT INTO snapshots (id, name, selector, note, made_by, made_at) VALUES (?, ?, ?, ?, ?, ?)`, s.ID, s.Name, s.Selector, s.Note, s.MadeBy, s.MadeAt); err != nil {
		return err
	}
	query, args, err := in(`INSERT INTO snapshot_versions (snapshot_id, version_id, device_id) SELECT ?, v.id, p.device_id`+ofMoment, s.ID, at.UTC(), deviceIDs)
	if err != nil {
		return err
	}
	n, err := q.exec(ctx, query, args...)
	s.Count = int(n)
	return err
}

// Now is a time at which whatever is the newest ran, whoever's clock says what.
var Now = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// Moment lists the versions that devices' parts had at a time, one a part.
func (q *Q) Moment(ctx context.Context, deviceIDs []string, at time.Time) ([]core.Version, error) {
	if len(deviceIDs) == 0 {
		return nil, nil
	}
	query, args, err := in(`SELECT v.id, v.part_id, d.id AS device_id, d.name AS device, p.name AS part, v.number, v.content_id, v.fingerprint, v.taken_at`+ofMoment+` ORDER BY d.name, p.name`, at.UTC(), deviceIDs)
	if err != nil {
		return nil, err
	}
	return list[core.Version](ctx, q.ext, query, args...)
}

// RemoveSnapshot forgets a set; its versions stay.
func (q *Q) RemoveSnapshot(ctx context.Context, name string) error {
	s, err := q.Snapshot(ctx, name)
	if err != nil {
		return err
	}
	if _, err := q.exec(ctx, `DELETE FROM snapshot_versions WHERE snapshot_id = ?`, s.ID); err != nil {
		return err
	}
	_, err = q.exec(ctx, `DELETE FROM snapshots WHERE id = ?`, s.ID)
	return err
}

// SnapshotVersions lists the versions of a snapshot, by device and part.
func (q *Q) SnapshotVersions(ctx context.Context, id string) ([]core.Version, error) {
	return list[core.Version](ctx, q.ext, versionColumns+versionTables+ofSnapshot, id)
}

// SnapshotListed lists them with what is known of them besides.
func (q *Q) SnapshotListed(ctx context.Context, id string) ([]core.Listed, error) {
	return list[core.Listed](ctx, q.ext, listedColumns+ofSnapshot, id)
}

const ofSnapshot = `WHERE v.id IN (SELECT version_id FROM snapshot_versions WHERE snapshot_id = ?) ORDER BY d.name, p.name`
