package store

import (
	"context"
	"time"
)

// Newest is a part's newest version that counts, as a search needs it.
type Newest struct {
	PartID    string    `db:"part_id"`
	DeviceID  string    `db:"device_id"`
	Device    string    `db:"device"`
	Part      string    `db:"part"`
	VersionID string    `db:"version_id"`
	Number    int       `db:"number"`
	ContentID string    `db:"content_id"`
	TakenAt   time.Time `db:"taken_at"`
}

// NamesNow are the names of devices by their ids, without those that were taken out.
func (q *Q) NamesNow(ctx context.Context, ids []string) (map[string]string, error) {
	out := map[string]string{}
	if len(ids) == 0 {
		return out, nil
	}
	query, args, err := in(`SELECT id, name FROM devices WHERE removed_at IS NULL AND id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	rows, err := list[struct {
		ID   string `db:"id"`
		Name string `db:"name"`
	}](ctx, q.ext, query, args...)
	for _, r := range rows {
		out[r.ID] = r.Name
	}
	return out, err
}

// Touch tells when a part's row was written last, by the database's clock.
type Touch struct {
	PartID string    `db:"id"`
	At     time.Time `db:"changed_at"`
}

// Clock is what time it is by the database's clock.
func (q *Q) Clock(ctx context.Context) (time.Time, error) {
	return get[time.Time](ctx, q.ext, `SELECT NOW(6)`)
}

// PartsTouched lists the parts whose rows were written since a time by the database's clock.
func (q *Q) PartsTouched(ctx context.Context, since time.Time) ([]Touch, error) {
	return list[Touch](ctx, q.ext, `SELECT id, changed_at FROM parts WHERE changed_at >= ?`, since.UTC())
}

const newest = `SELECT p.id AS part_id, p.device_id, d.name AS device, p.name AS part, v.id AS version_id, v.number, v.content_id, v.taken_at
		FROM parts p JOIN devices d ON d.id = p.device_id JOIN versions v ON v.part_id = p.id
		AND v.number = (SELECT MAX(w.number) FROM versions w WHERE w.part_id = p.id AND w.aside = '')
		WHERE d.removed_at IS NULL`

// NewestOfAll lists the newest versions of all parts.
func (q *Q) NewestOfAll(ctx context.Context) ([]Newest, error) {
	return list[Newest](ctx, q.ext, newest)
}

// NewestOf lists the newest versions of these parts, of which there is at least one.
func (q *Q) NewestOf(ctx context.Context, partIDs []string) ([]Newest, error) {
	query, args, err := in(newest+` AND p.id IN (?)`, partIDs)
	if err != nil {
		return nil, err
	}
	return list[Newest](ctx, q.ext, query, args...)
}
