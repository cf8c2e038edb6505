package store

import (
	"context"
	"fmt"
	"time"
)

// Relay is a machine that lends its network reach to the pushes of one device.
type Relay struct {
	ID          string    `db:"id"`
	DeviceID    string    `db:"device_id"`
	Device      string    `db:"device"`
	Instance    string    `db:"instance"` // which holds the connection
	Incarnation string    `db:"incarnation"`
	ActorID     string    `db:"actor_id"`
	Actor       string    `db:"actor"`
	Address     string    `db:"address"` // where the unit is; empty: at the device's own
	OpenedAt    time.Time `db:"opened_at"`
	Until       time.Time `db:"until_at"`
}

const relayColumns = `SELECT r.id, r.device_id, d.name AS device, r.instance, r.incarnation, r.actor_id, r.actor, r.address, r.opened_at, r.until_at FROM relays r
	JOIN devices d ON d.id = r.device_id JOIN instances n ON n.id = r.instance AND n.incarnation = r.incarnation WHERE r.until_at > ? `

// AddRelay notes a relay down.
func (q *Q) AddRelay(ctx context.Context, r *Relay) error {
	now := q.clock().UTC()
	r.ID, r.ActorID, r.Actor, r.OpenedAt = NewID(now), q.actor.ID, q.actor.Name, now
	_, err := q.exec(ctx, `INSERT INTO relays (id, device_id, instance, incarnation, actor_id, actor, address, opened_at, until_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.ID, r.DeviceID, r.Instance, r.Incarnation, r.ActorID, r.Actor, r.Address, r.OpenedAt, r.Until)
	return err
}

// Relays lists the relays that are open, newest first.
func (q *Q) Relays(ctx context.Context) ([]Relay, error) {
	return list[Relay](ctx, q.ext, relayColumns+`ORDER BY r.id DESC`, q.clock().UTC())
}

// Relay returns a relay that is open.
func (q *Q) Relay(ctx context.Context, id string) (Relay, error) {
	r, err := get[Relay](ctx, q.ext, relayColumns+`AND r.id = ?`, q.clock().UTC(), id)
	if err != nil {
		err = fmt.Errorf("relay %q: %w", id, err)
	}
	return r, err
}

// RemoveRelay forgets a relay, and those that lapsed or whose instance is gone.
func (q *Q) RemoveRelay(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `DELETE FROM relays WHERE id = ? OR until_at < ?`, id, q.clock().UTC())
	return err
}
