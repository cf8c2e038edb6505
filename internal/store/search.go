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

// NewestOf lists the newest versions of the parts whose rows were written since a time, and tells when
// it looked; both by the database's clock.
func (q *Q) NewestOf(ctx context.Context, since time.Time) (all []Newest, looked time.Time, err error) {
	if looked, err = get[time.Time](ctx, q.ext, `SELECT NOW(6)`); err != nil {
		return nil, looked, err
	}
	all, err = list[Newest](ctx, q.ext, `SELECT p.id AS part_id, p.device_id, d.name AS device, p.name AS part, v.id AS version_id, v.number, v.content_id, v.taken_at
		FROM parts p JOIN devices d ON d.id = p.device_id JOIN versions v ON v.part_id = p.id
		AND v.number = (SELECT MAX(w.number) FROM versions w WHERE w.part_id = p.id AND w.aside = '')
		WHERE d.removed_at IS NULL AND p.changed_at >= ? ORDER BY d.name, p.name`, since.UTC())
	return all, looked, err
}
