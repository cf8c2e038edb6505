package store

import (
	"context"
	"fmt"
	"time"
)

// Proposal is what answered at an address where no device was registered.
type Proposal struct {
	ID          string     `db:"id"`
	Address     string     `db:"address"`
	Port        int        `db:"port"`
	Transport   string     `db:"transport"`
	HostKey     string     `db:"host_key"` // or certificate, as Probe of link gives it
	Says        string     `db:"says"`     // its greeting
	FoundAt     time.Time  `db:"found_at"`
	SeenAt      time.Time  `db:"seen_at"`
	DismissedAt *time.Time `db:"dismissed_at"`

	Same string `db:"same"` // a device registered elsewhere that shows the same key
}

// Propose notes what answered. What was dismissed stays so as long as it shows the same key.
func (q *Q) Propose(ctx context.Context, p Proposal) error {
	now := q.clock().UTC()
	_, err := q.exec(ctx, `INSERT INTO proposals (id, address, port, transport, host_key, says, found_at, seen_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE dismissed_at = IF(host_key = VALUES(host_key), dismissed_at, NULL), transport = VALUES(transport), host_key = VALUES(host_key),
		says = VALUES(says), seen_at = VALUES(seen_at)`, NewID(now), p.Address, p.Port, p.Transport, p.HostKey, shorten(p.Says, 255), now, now)
	return err
}

const proposalColumns = `SELECT p.id, p.address, p.port, p.transport, p.host_key, p.says, p.found_at, p.seen_at, p.dismissed_at,
	COALESCE((SELECT MIN(d.name) FROM devices d WHERE d.host_key = p.host_key AND p.host_key <> '' AND d.removed_at IS NULL), '') AS same FROM proposals p
	WHERE NOT EXISTS (SELECT 1 FROM devices d WHERE d.address = p.address AND d.port = p.port AND d.removed_at IS NULL)`

// Proposals lists what answered where no device is registered yet, but for what was dismissed.
func (q *Q) Proposals(ctx context.Context) ([]Proposal, error) {
	return list[Proposal](ctx, q.ext, proposalColumns+` AND p.dismissed_at IS NULL ORDER BY p.found_at DESC, p.id`)
}

// Dismiss takes a proposal off the list.
func (q *Q) Dismiss(ctx context.Context, id string) (Proposal, error) {
	p, err := get[Proposal](ctx, q.ext, proposalColumns+` AND p.id = ?`, id)
	if err != nil {
		return p, fmt.Errorf("proposal %q: %w", id, err)
	}
	_, err = q.exec(ctx, `UPDATE proposals SET dismissed_at = ? WHERE id = ?`, q.clock().UTC(), id)
	return p, err
}
