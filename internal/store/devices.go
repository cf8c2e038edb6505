package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
)

// Secret is what a credential keeps sealed.
type Secret struct {
	User     string `json:"user"`
	Password string `json:"password,omitempty"`
	Key      string `json:"key,omitempty"` // a private key in PEM or OpenSSH form
	Raise    string `json:"raise,omitempty"`
}

const deviceColumns = `d.id, d.name, d.address, d.port, d.site, d.kind, d.tags, d.dialect, d.host_key, d.credential_id, d.created_at,
	d.state, d.drifted, d.unsaved, d.trouble, d.host, d.model, d.serial, d.software, d.last_tried, d.last_pulled, d.last_changed, d.latest,
	l.since AS latched, COALESCE(c.user, '') AS login_user
	FROM devices d LEFT JOIN latches l ON l.device_id = d.id AND l.credential_id = d.credential_id LEFT JOIN credentials c ON c.id = d.credential_id
	WHERE d.removed_at IS NULL`

// Devices lists the devices a selector picks, by name.
func (q *Q) Devices(ctx context.Context, sel ref.Selector) ([]core.Device, error) {
	query, args := `SELECT `+deviceColumns, []any{}
	if exact := sel.Exact(); len(exact) > 0 {
		var err error
		if query, args, err = in(query+` AND d.name IN (?)`, exact); err != nil {
			return nil, err
		}
	}
	all, err := list[core.Device](ctx, q.ext, query+` ORDER BY d.name`, args...)
	if err != nil || sel.Empty() {
		return all, err
	}
	picked := all[:0]
	for _, d := range all {
		if sel.Match(ref.Subject{Name: d.Name, Site: d.Site, Kind: d.Kind, Dialect: d.Dialect, State: d.State, Tags: d.Tags}) {
			picked = append(picked, d)
		}
	}
	return picked, nil
}

// Device returns the device of that name.
func (q *Q) Device(ctx context.Context, name string) (core.Device, error) {
	d, err := get[core.Device](ctx, q.ext, `SELECT `+deviceColumns+` AND d.name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("device %q: %w", name, ErrNotFound)
	}
	return d, err
}

// DeviceByID returns the device of that id.
func (q *Q) DeviceByID(ctx context.Context, id string) (core.Device, error) {
	return get[core.Device](ctx, q.ext, `SELECT `+deviceColumns+` AND d.id = ?`, id)
}

// AddDevice writes a new device and its credential and gives it its id.
func (q *Q) AddDevice(ctx context.Context, d *core.Device, s Secret) error {
	now := q.clock().UTC()
	d.ID, d.CredentialID, d.CreatedAt, d.State = NewID(now), NewID(now), now, core.NeverPulled
	tags, err := json.Marshal(d.Tags)
	if err != nil {
		return err
	}
	if err := q.putSecret(ctx, d.CredentialID, s); err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO devices (id, name, address, port, site, kind, tags, dialect, host_key, credential_id, created_at,
		state, drifted, unsaved, trouble, host, model, serial, software, latest) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, FALSE, FALSE, '', '', '', '', '', 0)`,
		d.ID, d.Name, d.Address, d.Port, d.Site, d.Kind, string(tags), d.Dialect, d.HostKey, d.CredentialID, d.CreatedAt, d.State)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("device %q: %w", d.Name, ErrTaken)
	}
	return err
}

// EditDevice rewrites what a person may change of a device.
func (q *Q) EditDevice(ctx context.Context, d core.Device) error {
	tags, err := json.Marshal(d.Tags)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `UPDATE devices SET name = ?, address = ?, port = ?, site = ?, kind = ?, tags = ?, dialect = ?, host_key = ? WHERE id = ?`,
		d.Name, d.Address, d.Port, d.Site, d.Kind, string(tags), d.Dialect, d.HostKey, d.ID)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("device %q: %w", d.Name, ErrTaken)
	}
	return err
}

// RemoveDevice takes a device out of every list. Its versions stay in the
// database; its name becomes free.
func (q *Q) RemoveDevice(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `UPDATE devices SET removed_at = ?, name = CONCAT(LEFT(name, 40), '~', RIGHT(id, 8)) WHERE id = ?`, q.clock().UTC(), d.ID)
	return err
}

func (q *Q) putSecret(ctx context.Context, id string, s Secret) error {
	raw, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO credentials (id, user, sealed, changed_at) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE user = VALUES(user), sealed = VALUES(sealed), changed_at = VALUES(changed_at)`,
		id, s.User, q.keys.Seal("credential", id, raw), q.clock().UTC())
	return err
}

// SetSecret replaces a device's credential and lifts its latch.
func (q *Q) SetSecret(ctx context.Context, d core.Device, s Secret) error {
	if err := q.putSecret(ctx, d.CredentialID, s); err != nil {
		return err
	}
	return q.Unlatch(ctx, d)
}

// Secret opens a device's credential.
func (q *Q) Secret(ctx context.Context, d core.Device) (s Secret, err error) {
	sealed, err := get[[]byte](ctx, q.ext, `SELECT sealed FROM credentials WHERE id = ?`, d.CredentialID)
	if err != nil {
		return s, fmt.Errorf("credential of %s: %w", d.Name, err)
	}
	raw, err := q.keys.Open("credential", d.CredentialID, sealed)
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(raw, &s)
}

// Latch notes a refused login: until Unlatch, nothing tries it again.
func (q *Q) Latch(ctx context.Context, d core.Device, reason string) error {
	_, err := q.exec(ctx, `INSERT INTO latches (device_id, credential_id, since, reason) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE reason = VALUES(reason)`, d.ID, d.CredentialID, q.clock().UTC(), reason)
	return err
}

// Unlatch lets the credential be tried again.
func (q *Q) Unlatch(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `DELETE FROM latches WHERE device_id = ? AND credential_id = ?`, d.ID, d.CredentialID)
	return err
}

// SetStanding writes what the last pull says of a device. latest and the times
// are left alone where nil or zero.
func (q *Q) SetStanding(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `UPDATE devices SET state = ?, drifted = ?, unsaved = ?, trouble = ?, host = ?, model = ?, serial = ?, software = ?,
		last_tried = ?, last_pulled = ?, last_changed = ?, latest = ? WHERE id = ?`,
		d.State, d.Drifted, d.Unsaved, d.Trouble, d.Host, d.Model, d.Serial, d.Release, d.LastTried, d.LastPulled, d.LastChanged, d.Latest, d.ID)
	return err
}

// KeepDialect records a dialect's text and returns its revision: the same as
// before for the same text.
func (q *Q) KeepDialect(ctx context.Context, name, source string) (int, error) {
	hash := q.keys.Hash("dialect", []byte(source))
	type row struct {
		Revision int    `db:"revision"`
		Hash     string `db:"hash"`
	}
	last, err := get[row](ctx, q.ext, `SELECT revision, hash FROM dialects WHERE name = ? ORDER BY revision DESC LIMIT 1`, name)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return 0, err
	}
	if last.Hash == hash {
		return last.Revision, nil
	}
	_, err = q.exec(ctx, `INSERT INTO dialects (name, revision, hash, source, loaded_at) VALUES (?, ?, ?, ?, ?)`, name, last.Revision+1, hash, source, q.clock().UTC())
	if errors.Is(err, ErrTaken) { // another node was faster
		return q.KeepDialect(ctx, name, source)
	}
	return last.Revision + 1, err
}

// Lease takes the right to talk to a device. alive tells whether the node and
// life that hold it now still live. It returns the fencing number, or 0 and who
// holds it.
func (q *Q) Lease(ctx context.Context, deviceID, jobID, node, life string, alive func(job, node, life string) bool) (fence int64, holder string, err error) {
	type row struct {
		Fence int64  `db:"fence"`
		JobID string `db:"job_id"`
		Node  string `db:"node"`
		Life  string `db:"life"`
	}
	if _, err := q.exec(ctx, `INSERT IGNORE INTO leases (device_id, fence, job_id, node, life) VALUES (?, 0, '', '', '')`, deviceID); err != nil {
		return 0, "", err
	}
	r, err := get[row](ctx, q.ext, `SELECT fence, job_id, node, life FROM leases WHERE device_id = ? FOR UPDATE`, deviceID)
	if err != nil {
		return 0, "", err
	}
	if r.JobID != "" && r.JobID != jobID && alive(r.JobID, r.Node, r.Life) {
		return 0, r.JobID, nil
	}
	_, err = q.exec(ctx, `UPDATE leases SET fence = ?, job_id = ?, node = ?, life = ? WHERE device_id = ?`, r.Fence+1, jobID, node, life, deviceID)
	return r.Fence + 1, "", err
}

// Unlease gives the right back, if it is still the one taken.
func (q *Q) Unlease(ctx context.Context, deviceID string, fence int64) error {
	_, err := q.exec(ctx, `UPDATE leases SET job_id = '' WHERE device_id = ? AND fence = ?`, deviceID, fence)
	return err
}

// Beat moves a node's heartbeat on.
func (q *Q) Beat(ctx context.Context, node, life string, beat int64) error {
	_, err := q.exec(ctx, `INSERT INTO nodes (id, life, beat, at) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE life = VALUES(life), beat = VALUES(beat), at = VALUES(at)`, node, life, beat, q.clock().UTC())
	return err
}

// Node is one running service.
type Node struct {
	ID   string    `db:"id"`
	Life string    `db:"life"`
	Beat int64     `db:"beat"`
	At   time.Time `db:"at"`
}

// Nodes lists all nodes that ever ran.
func (q *Q) Nodes(ctx context.Context) ([]Node, error) {
	return list[Node](ctx, q.ext, `SELECT id, life, beat, at FROM nodes`)
}
