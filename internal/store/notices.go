package store

import (
	"context"
	"time"
)

// Notice is what was said of a device whose configuration changed, since it was pulled for
// that last.
type Notice struct {
	DeviceID string    `db:"device_id"`
	FirstAt  time.Time `db:"first_at"`
	LastAt   time.Time `db:"last_at"`
	Author   string    `db:"author"` // who changed it, if that was said
	Inlet    string    `db:"inlet"`  // the way it came in last
	Said     int       `db:"said"`   // how often
}

// Noticed notes that a device was said to have changed, so often.
func (q *Q) Noticed(ctx context.Context, deviceID, author, inlet string, said int) error {
	now := q.clock().UTC()
	_, err := q.exec(ctx, `INSERT INTO notices (device_id, first_at, last_at, author, inlet, said) VALUES (?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE last_at = VALUES(last_at), author = IF(VALUES(author) = '', author, VALUES(author)), inlet = VALUES(inlet), said = said + VALUES(said)`,
		deviceID, now, now, shorten(author, 128), inlet, said)
	return err
}

// DueNotices lists the devices of which nothing was said since one time, or something
// since before another.
func (q *Q) DueNotices(ctx context.Context, quietSince, latest time.Time, limit int) ([]Notice, error) {
	return list[Notice](ctx, q.ext, `SELECT device_id, first_at, last_at, author, inlet, said FROM notices WHERE last_at <= ? OR first_at <= ? ORDER BY first_at LIMIT ?`, quietSince.UTC(), latest.UTC(), limit)
}

// TakeNotice takes a device's notice out, if nothing was said since; of several who
// try, it tells one that it was it.
func (q *Q) TakeNotice(ctx context.Context, n Notice) (bool, error) {
	k, err := q.exec(ctx, `DELETE FROM notices WHERE device_id = ? AND last_at = ?`, n.DeviceID, n.LastAt)
	return k == 1, err
}
