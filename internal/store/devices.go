package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
)

// Secret is what a credential keeps sealed.
type Secret struct {
	User       string `json:"user"`
	Password   string `json:"password,omitempty"`
	Key        string `json:"key,omitempty"` // a private key in PEM or OpenSSH form
	Privileged string `json:"raise,omitempty"`
	Agent      string `json:"agent,omitempty"` // the public key that the SSH agent signs with

	Passphrase      string `json:"passphrase,omitempty"` // what archives are encrypted under
	FactoryUser     string `json:"factory_user,omitempty"`
	FactoryPassword string `json:"factory_password,omitempty"`

	Earlier *Secret `json:"earlier,omitempty"` // what it was before it was last changed: a version put back may bring it back
}

const deviceColumns = `d.id, d.name, d.address, d.port, d.site, d.kind, d.tags, d.dialect, d.host_key, d.credential_id, d.created_at,
	d.state, d.state AS was, d.state_since, d.drifted, d.acknowledged_until, d.unsaved, d.trouble, d.host, d.model, d.serial, d.software, d.last_tried, d.last_pulled, d.last_changed, d.latest, d.proven_at, d.proven,
	d.note, d.fields, d.disabled, d.spare, d.revision, d.testing, d.transport, d.parent_id, d.member, d.jump_id, d.timeouts, d.ports, d.serials, COALESCE(u.name, '') AS parent, COALESCE(j.name, '') AS jump,
	l.since AS latched, COALESCE(c.user, '') AS login_user, COALESCE(c.name, '') AS set_name
	FROM devices d LEFT JOIN latches l ON l.device_id = d.id AND l.credential_id = d.credential_id LEFT JOIN credentials c ON c.id = d.credential_id
	LEFT JOIN devices u ON u.id = d.parent_id LEFT JOIN devices j ON j.id = d.jump_id
	WHERE d.removed_at IS NULL`

// RemovedDevice is a device that was taken out and of which there are versions still.
type RemovedDevice struct {
	core.Device
	RemovedAt time.Time `db:"removed_at"`
	Versions  int       `db:"versions"`
}

// removedColumns are those of deviceColumns, of devices that were taken out.
var removedColumns = strings.NewReplacer("d.removed_at IS NULL", "d.removed_at IS NOT NULL", "d.id,", `d.id, d.removed_at,
	(SELECT COUNT(*) FROM parts p JOIN versions v ON v.part_id = p.id WHERE p.device_id = d.id) AS versions,`).Replace(deviceColumns)

// RemovedDevices lists the devices that were taken out and of which there are versions still, the last first.
func (q *Q) RemovedDevices(ctx context.Context) ([]RemovedDevice, error) {
	return list[RemovedDevice](ctx, q.ext, `SELECT `+removedColumns+` HAVING versions > 0 ORDER BY d.removed_at DESC, d.id`)
}

// RemovedDevice finds one of them by its name, which is what it was called, ~ and the end of its id.
func (q *Q) RemovedDevice(ctx context.Context, name string) (RemovedDevice, error) {
	d, err := get[RemovedDevice](ctx, q.ext, `SELECT `+removedColumns+` AND d.name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		return d, q.named(ctx, "removed device", name, `SELECT name FROM devices WHERE removed_at IS NOT NULL`)
	}
	return d, err
}

// RemovedLike lists those of the removed devices that showed the same key as a device, or have a serial number of
// it: its earlier lives.
func (q *Q) RemovedLike(ctx context.Context, d core.Device) ([]RemovedDevice, error) {
	return list[RemovedDevice](ctx, q.ext, `SELECT `+removedColumns+` AND d.member = ? AND (d.host_key <> '' AND d.host_key = ? OR d.serial <> '' AND d.serial = ?)
		HAVING versions > 0 ORDER BY d.removed_at DESC LIMIT 5`, d.Member, d.HostKey, d.Serial)
}

// AnyDevice finds a device by its name, one that was taken out included.
func (q *Q) AnyDevice(ctx context.Context, name string) (core.Device, error) {
	if !ref.Removed(name) {
		return q.Device(ctx, name)
	}
	d, err := q.RemovedDevice(ctx, name)
	return d.Device, err
}

// Reinstate brings a device that was taken out back, with its history, under a name that is free.
func (q *Q) Reinstate(ctx context.Context, d core.Device, name string) error {
	n, err := q.exec(ctx, `UPDATE devices SET removed_at = NULL, name = ?, changed_at = ? WHERE id = ? AND removed_at IS NOT NULL`, name, q.clock().UTC(), d.ID)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("device %q: %w", name, ErrTaken)
	}
	if err == nil && n == 0 {
		return fmt.Errorf("removed device %q: %w", d.Name, ErrNotFound)
	}
	return err
}

// Removed lists the devices that were taken out and of which there are versions still.
func (q *Q) Removed(ctx context.Context) ([]core.Device, error) {
	return list[core.Device](ctx, q.ext, `SELECT `+strings.Replace(deviceColumns, "d.removed_at IS NULL", "d.removed_at IS NOT NULL", 1)+
		` AND EXISTS (SELECT 1 FROM parts p JOIN versions v ON v.part_id = p.id WHERE p.device_id = d.id) ORDER BY d.name`)
}

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
	if err != nil || sel.All() {
		return all, err
	}
	picked := all[:0]
	for _, d := range all {
		if Picks(sel, d) {
			picked = append(picked, d)
		}
	}
	return picked, nil
}

// Picks tells whether a selector picks a device.
func Picks(sel ref.Selector, d core.Device) bool { return sel.All() || sel.Match(subject(d)) }

// DevicesByID reads devices by their ids, 500 at a time. Removed ones are not among them.
func (q *Q) DevicesByID(ctx context.Context, ids []string) (out []core.Device, err error) {
	for part := range slices.Chunk(ids, 500) {
		query, args, err := in(`SELECT `+deviceColumns+` AND d.id IN (?) ORDER BY d.id`, part)
		if err != nil {
			return nil, err
		}
		some, err := list[core.Device](ctx, q.ext, query, args...)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// Speaking lists the devices of these dialects that are not disabled.
func (q *Q) Speaking(ctx context.Context, dialects []string) ([]core.Device, error) {
	query, args, err := in(`SELECT `+deviceColumns+` AND d.dialect IN (?) AND NOT d.disabled ORDER BY d.id`, dialects)
	if err != nil {
		return nil, err
	}
	return list[core.Device](ctx, q.ext, query, args...)
}

// DevicesAfter lists at most n of the devices a selector picks, by name, from
// behind one on. It reads no more than it has to; more tells whether any follow.
func (q *Q) DevicesAfter(ctx context.Context, sel ref.Selector, after string, n int) (picked []core.Device, more bool, err error) {
	for {
		rows, err := list[core.Device](ctx, q.ext, `SELECT `+deviceColumns+` AND d.name > ? ORDER BY d.name LIMIT ?`, after, n+1)
		if err != nil {
			return nil, false, err
		}
		for _, d := range rows {
			if !sel.All() && !sel.Match(subject(d)) {
				continue
			}
			if len(picked) == n {
				return picked, true, nil
			}
			picked = append(picked, d)
		}
		if len(rows) <= n {
			return picked, false, nil
		}
		after = rows[len(rows)-1].Name
	}
}

// Device returns the device of that name.
func (q *Q) Device(ctx context.Context, name string) (core.Device, error) {
	d, err := get[core.Device](ctx, q.often(), `SELECT `+deviceColumns+` AND d.name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		names, err := list[string](ctx, q.ext, `SELECT name FROM devices WHERE removed_at IS NULL`)
		if err != nil {
			return d, err
		}
		gone, e := list[string](ctx, q.ext, `SELECT name FROM devices WHERE removed_at IS NOT NULL AND name LIKE CONCAT(?, '~%') ORDER BY removed_at DESC LIMIT 1`,
			strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(name))
		if e != nil {
			return d, e
		}
		if len(gone) > 0 {
			return d, fmt.Errorf("device %q: %w; it was removed, and what was kept of it is %s's", name, ErrNotFound, gone[0])
		}
		return d, unknown("device", name, names)
	}
	return d, err
}

// unknown says that nothing of a kind has a name, and what may have been meant.
func unknown(kind, name string, names []string) error {
	if q := ref.Meant(name, names); q != "" {
		return fmt.Errorf("%s %q: %w; %s", kind, name, ErrNotFound, q)
	}
	return fmt.Errorf("%s %q: %w", kind, name, ErrNotFound)
}

// named looks for what may have been meant by a name that is nobody's.
func (q *Q) named(ctx context.Context, kind, name, query string) error {
	names, err := list[string](ctx, q.ext, query)
	if err != nil {
		return err
	}
	return unknown(kind, name, names)
}

// Selected lists the devices that a selector picks which is kept as words between blanks.
func (q *Q) Selected(ctx context.Context, words string) ([]core.Device, error) {
	sel, err := ref.ParseSelector(strings.Fields(words))
	if err != nil {
		return nil, err
	}
	return q.Devices(ctx, sel)
}

// DeviceByID returns the device of that id.
func (q *Q) DeviceByID(ctx context.Context, id string) (core.Device, error) {
	return get[core.Device](ctx, q.often(), `SELECT `+deviceColumns+` AND d.id = ?`, id)
}

// AnyDeviceByID finds a device by its id, one that was taken out included: whose a version is.
func (q *Q) AnyDeviceByID(ctx context.Context, id string) (core.Device, error) {
	d, err := q.DeviceByID(ctx, id)
	if errors.Is(err, ErrNotFound) {
		return get[core.Device](ctx, q.ext, `SELECT `+strings.Replace(deviceColumns, "d.removed_at IS NULL", "TRUE", 1)+` AND d.id = ?`, id)
	}
	return d, err
}

// Reread reads again what may have become of a device while it was visited: its
// name, what is expected there, and what is known of its versions. Nobody else
// changes it until the transaction ends.
func (q *Q) Reread(ctx context.Context, d *core.Device) error {
	type row struct {
		Name        string     `db:"name"`
		State       string     `db:"state"`
		Serials     core.Words `db:"serials"`
		Latest      int        `db:"latest"`
		LastChanged *time.Time `db:"last_changed"`
		Drifted     bool       `db:"drifted"`
		Known       *time.Time `db:"acknowledged_until"`
		Unsaved     bool       `db:"unsaved"`
		Testing     string     `db:"testing"`
	}
	r, err := get[row](ctx, q.ext, `SELECT name, state, serials, latest, last_changed, drifted, acknowledged_until, unsaved, testing FROM devices WHERE id = ? AND removed_at IS NULL FOR UPDATE`, d.ID)
	d.Name, d.Was, d.Serials, d.Latest, d.LastChanged, d.Drifted, d.Acknowledged, d.Unsaved, d.Testing = r.Name, r.State, r.Serials, r.Latest, r.LastChanged, r.Drifted, r.Known, r.Unsaved, r.Testing
	return err
}

// LockDevice returns a device that nobody else changes until the transaction
// ends. based is the revision that a change is based on, or 0; ErrRevision says
// that it is not the newest.
func (q *Q) LockDevice(ctx context.Context, id string, based int) (core.Device, error) {
	if err := q.lock(ctx, "devices", id, based); err != nil {
		return core.Device{}, err
	}
	return q.DeviceByID(ctx, id)
}

// Twin names another device that is registered at the same address, or "".
// Devices behind different jump hosts may have the same address, and so have
// those that another speaks for.
func (q *Q) Twin(ctx context.Context, d core.Device) (string, error) {
	if err := q.guard(ctx, "addresses"); err != nil {
		return "", err
	}
	name, err := get[string](ctx, q.ext, `SELECT name FROM devices WHERE address = ? AND port = ? AND jump_id = ? AND member = '' AND id <> ? AND removed_at IS NULL ORDER BY name LIMIT 1`, d.Address, d.Port, d.JumpID, d.ID)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return name, err
}

// AtAddress tells whether a device is registered at an address and port.
func (q *Q) AtAddress(ctx context.Context, address string, port int) (bool, error) {
	return get[bool](ctx, q.ext, `SELECT EXISTS (SELECT 1 FROM devices WHERE address = ? AND port = ? AND removed_at IS NULL)`, address, port)
}

// NameAt names another device that is registered at an address; empty: none is.
func (q *Q) NameAt(ctx context.Context, address, notID string) (string, error) {
	name, err := get[string](ctx, q.ext, `SELECT name FROM devices WHERE address = ? AND member = '' AND id <> ? AND removed_at IS NULL ORDER BY name LIMIT 1`, address, notID)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return name, err
}

// WithSerial lists other devices whose hardware gave this serial number the last
// time.
func (q *Q) WithSerial(ctx context.Context, serial, notID string) ([]string, error) {
	if serial == "" {
		return nil, nil
	}
	return list[string](ctx, q.ext, `SELECT name FROM devices WHERE serial = ? AND id <> ? AND removed_at IS NULL ORDER BY name LIMIT 5`, serial, notID)
}

// MemberDevice returns the device that a parent speaks for under a name.
func (q *Q) MemberDevice(ctx context.Context, parentID, member string) (core.Device, error) {
	return get[core.Device](ctx, q.ext, `SELECT `+deviceColumns+` AND d.parent_id = ? AND d.member = ?`, parentID, member)
}

// Children lists the devices that hang on one, by name.
func (q *Q) Children(ctx context.Context, id string) ([]core.Device, error) {
	return list[core.Device](ctx, q.ext, `SELECT `+deviceColumns+` AND d.parent_id = ? ORDER BY d.name`, id)
}

// AddDevice writes a new device and gives it its id. With a secret it gets a
// credential of its own; otherwise d.CredentialID is the set it uses.
func (q *Q) AddDevice(ctx context.Context, d *core.Device, s *Secret) error {
	now := q.clock().UTC()
	d.ID, d.CreatedAt, d.State = NewID(now), now, core.NeverPulled
	if s != nil {
		d.CredentialID = NewID(now)
		if err := q.putSecret(ctx, d.CredentialID, *s); err != nil {
			return err
		}
	}
	_, err := q.exec(ctx, `INSERT INTO devices (id, name, address, port, site, kind, tags, dialect, host_key, credential_id, created_at,
		state, drifted, unsaved, trouble, host, model, serial, software, latest, transport, parent_id, member, jump_id, timeouts, ports, serials, note, fields, disabled, spare)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, FALSE, FALSE, '', '', '', '', '', 0, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		d.ID, d.Name, d.Address, d.Port, d.Site, d.Kind, asJSON(d.Tags), d.Dialect, d.HostKey, d.CredentialID, d.CreatedAt, d.State,
		d.Transport, d.ParentID, d.Member, d.JumpID, asJSON(d.Timeouts), asJSON(d.Ports), asJSON(d.Serials), d.Note, asJSON(d.Fields), d.Disabled, d.Spare)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("device %q: %w", d.Name, ErrTaken)
	}
	return err
}

// asJSON writes a list or map that nobody else can fill with what JSON lacks.
func asJSON(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(raw)
}

// EditDevice rewrites what a person may change of a device that is locked.
func (q *Q) EditDevice(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `UPDATE devices SET name = ?, address = ?, port = ?, site = ?, kind = ?, tags = ?, dialect = ?, host_key = ?, credential_id = ?,
		transport = ?, parent_id = ?, member = ?, jump_id = ?, timeouts = ?, ports = ?, serials = ?, note = ?, fields = ?, disabled = ?, spare = ?, revision = revision + 1 WHERE id = ?`,
		d.Name, d.Address, d.Port, d.Site, d.Kind, asJSON(d.Tags), d.Dialect, d.HostKey, d.CredentialID,
		d.Transport, d.ParentID, d.Member, d.JumpID, asJSON(d.Timeouts), asJSON(d.Ports), asJSON(d.Serials), d.Note, asJSON(d.Fields), d.Disabled, d.Spare, d.ID)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("device %q: %w", d.Name, ErrTaken)
	}
	return err
}

// SetTesting notes that a job has put another device's version on a device, or,
// with an empty id, that what ran before is back.
func (q *Q) SetTesting(ctx context.Context, deviceID, jobID string) error {
	_, err := q.exec(ctx, `UPDATE devices SET testing = ? WHERE id = ?`, jobID, deviceID)
	return err
}

// Named lists other devices that go by a name: as a device, or as the host name
// that its unit gave the last time.
func (q *Q) Named(ctx context.Context, name, notID string) ([]string, error) {
	if name == "" {
		return nil, nil
	}
	return list[string](ctx, q.ext, `SELECT name FROM devices WHERE (name = ? OR host = ?) AND id <> ? AND member = '' AND removed_at IS NULL ORDER BY name LIMIT 5`, name, name, notID)
}

// RemoveDevice takes a device out of every list. Its versions stay in the
// database; its name becomes free.
func (q *Q) RemoveDevice(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `UPDATE devices SET removed_at = ?, name = CONCAT(LEFT(name, 40), '~', RIGHT(id, 8)) WHERE id = ?`, q.clock().UTC(), d.ID)
	return err
}

func (q *Q) putSecret(ctx context.Context, id string, s Secret) error {
	old, err := q.SecretOf(ctx, id)
	switch {
	case err == nil && (old.User != s.User || old.Password != s.Password || old.Key != s.Key || old.Agent != s.Agent || old.Privileged != s.Privileged):
		old.Earlier = nil
		s.Earlier = &old
	case err != nil && !errors.Is(err, ErrNotFound):
		return err
	}
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
	return q.UnlockLogin(ctx, d)
}

// Secret opens a device's credential.
func (q *Q) Secret(ctx context.Context, d core.Device) (Secret, error) {
	s, _, _, err := q.Access(ctx, d)
	return s, err
}

// Credential is a credential without its secrets: a device's own, or a named
// set that many share.
type Credential struct {
	ID               string     `db:"id"`
	Name             string     `db:"name"` // empty: a device's own
	User             string     `db:"user"`
	Selector         string     `db:"selector"` // which new devices get it
	ChangedAt        time.Time  `db:"changed_at"`
	BreakerOpenSince *time.Time `db:"breaker_since"` // its breaker is open
	BreakerWhy       string     `db:"breaker_reason"`
	Devices          int        `db:"devices"`
	Locked           int        `db:"latched"` // how many of them refused it
	Revision         int        `db:"revision"`
}

const credentialColumns = `SELECT c.id, c.revision, COALESCE(c.name, '') AS name, c.user, c.selector, c.changed_at, c.breaker_since, c.breaker_reason,
	(SELECT COUNT(*) FROM devices d WHERE d.credential_id = c.id AND d.removed_at IS NULL) AS devices,
	(SELECT COUNT(*) FROM latches l WHERE l.credential_id = c.id) AS latched FROM credentials c `

// Access opens a device's credential, and tells since when its breaker is open
// and which set it is.
func (q *Q) Access(ctx context.Context, d core.Device) (s Secret, open *time.Time, set string, err error) {
	type row struct {
		Name   string     `db:"name"`
		Sealed []byte     `db:"sealed"`
		Open   *time.Time `db:"breaker_since"`
	}
	r, err := get[row](ctx, q.ext, `SELECT COALESCE(name, '') AS name, sealed, breaker_since FROM credentials WHERE id = ?`, d.CredentialID)
	if err != nil {
		return s, nil, "", fmt.Errorf("credential of %s: %w", d.Name, err)
	}
	raw, err := q.keys.Open("credential", d.CredentialID, r.Sealed)
	if err != nil {
		return s, nil, "", err
	}
	err = json.Unmarshal(raw, &s)
	return s, r.Open, r.Name, err
}

// CredentialSet returns the set of that name.
func (q *Q) CredentialSet(ctx context.Context, name string) (Credential, error) {
	c, err := get[Credential](ctx, q.ext, credentialColumns+`WHERE c.name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		err = q.named(ctx, "credential set", name, `SELECT name FROM credentials WHERE name IS NOT NULL`)
	}
	return c, err
}

// LockCredentialSet returns a set that nobody else changes until the transaction
// ends. based is the revision that a change is based on, or 0; ErrRevision says
// that it is not the newest.
func (q *Q) LockCredentialSet(ctx context.Context, name string, based int) (Credential, error) {
	c, err := q.CredentialSet(ctx, name)
	if err != nil {
		return c, err
	}
	if err := q.lock(ctx, "credentials", c.ID, based); err != nil {
		return c, fmt.Errorf("credential set %s: %w", name, err)
	}
	return q.CredentialSet(ctx, name)
}

// CredentialSets lists the sets by name.
func (q *Q) CredentialSets(ctx context.Context) ([]Credential, error) {
	return list[Credential](ctx, q.ext, credentialColumns+`WHERE c.name IS NOT NULL ORDER BY c.name`)
}

// PutCredentialSet writes a set, new or changed. New secrets lift its latches
// and close its breaker.
func (q *Q) PutCredentialSet(ctx context.Context, c *Credential, s *Secret) error {
	if c.ID == "" {
		c.ID = NewID(q.clock())
	}
	if s != nil {
		if err := q.putSecret(ctx, c.ID, *s); err != nil {
			return err
		}
		if err := q.OpenCredential(ctx, c.ID); err != nil {
			return err
		}
	}
	_, err := q.exec(ctx, `UPDATE credentials SET name = ?, selector = ?, revision = revision + 1 WHERE id = ?`, c.Name, c.Selector, c.ID)
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("credential set %q: %w", c.Name, ErrTaken)
	}
	return err
}

// RemoveCredentialSet deletes a set that no device uses.
func (q *Q) RemoveCredentialSet(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `DELETE FROM credentials WHERE id = ?`, id)
	return err
}

// Attach gives devices a set instead of what they had. Their own credentials go.
func (q *Q) Attach(ctx context.Context, setID string, devices []core.Device) error {
	for _, d := range devices {
		if _, err := q.exec(ctx, `UPDATE devices SET credential_id = ?, revision = revision + 1 WHERE id = ?`, setID, d.ID); err != nil {
			return err
		}
		if _, err := q.exec(ctx, `DELETE FROM credentials WHERE id = ? AND name IS NULL AND NOT EXISTS (SELECT 1 FROM devices WHERE credential_id = ?)`, d.CredentialID, d.CredentialID); err != nil {
			return err
		}
	}
	return nil
}

// SecretOf opens a credential by its id.
func (q *Q) SecretOf(ctx context.Context, id string) (Secret, error) {
	return q.Secret(ctx, core.Device{CredentialID: id, Name: id})
}

// Refusals counts the devices that refused a credential since a time.
func (q *Q) Refusals(ctx context.Context, credentialID string, since time.Time) (int, error) {
	return get[int](ctx, q.ext, `SELECT COUNT(*) FROM latches WHERE credential_id = ? AND since >= ?`, credentialID, since)
}

// OpenBreaker opens a set's breaker: it is not tried anywhere.
func (q *Q) OpenBreaker(ctx context.Context, id, why string) error {
	_, err := q.exec(ctx, `UPDATE credentials SET breaker_since = ?, breaker_reason = ? WHERE id = ? AND breaker_since IS NULL`, q.clock().UTC(), why, id)
	return err
}

// OpenCredential lets a credential be tried again, everywhere.
func (q *Q) OpenCredential(ctx context.Context, id string) error {
	if _, err := q.exec(ctx, `DELETE FROM latches WHERE credential_id = ?`, id); err != nil {
		return err
	}
	_, err := q.exec(ctx, `UPDATE credentials SET breaker_since = NULL, breaker_reason = '' WHERE id = ?`, id)
	return err
}

// LockLogin notes a refused login: until UnlockLogin, nothing tries it again.
func (q *Q) LockLogin(ctx context.Context, d core.Device, reason string) error {
	_, err := q.exec(ctx, `INSERT INTO latches (device_id, credential_id, since, reason) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE reason = VALUES(reason)`, d.ID, d.CredentialID, q.clock().UTC(), reason)
	return err
}

// UnlockLogin lets the credential be tried again.
func (q *Q) UnlockLogin(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `DELETE FROM latches WHERE device_id = ? AND credential_id = ?`, d.ID, d.CredentialID)
	return err
}

// SetStanding writes what the last pull says of a device. latest and the times
// are left alone where nil or zero.
func (q *Q) SetStanding(ctx context.Context, d core.Device) error {
	_, err := q.exec(ctx, `UPDATE devices SET drifted = ?, acknowledged_until = ?, unsaved = ?, trouble = ?, host = ?, model = ?, serial = ?, software = ?,
		last_tried = ?, last_pulled = ?, last_changed = ?, latest = ?, serials = ?, state_since = IF(state = ?, state_since, ?), state = ? WHERE id = ?`,
		d.Drifted, d.Acknowledged, d.Unsaved, d.Trouble, d.Host, d.Model, d.Serial, d.Release, d.LastTried, d.LastPulled, d.LastChanged, d.Latest, asJSON(d.Serials), d.State, q.clock().UTC(), d.State, d.ID)
	if err != nil || d.State == d.Was {
		return err
	}
	says := d.Trouble
	if says == "" && d.Acknowledged != nil {
		says = "its drift is acknowledged until " + d.Acknowledged.UTC().Format("2006-01-02 15:04 MST")
	}
	return q.Happen(ctx, core.StateChanged, d.ID, d.Name, "", core.Happened{Was: d.Was, State: d.State, Says: says})
}

// KeepDialect records a dialect's text and returns its revision: the same as
// before for the same text. settled is false until DialectSettled was called
// for that revision.
func (q *Q) KeepDialect(ctx context.Context, name, source string) (revision int, settled bool, err error) {
	hash := q.keys.Hash("dialect", []byte(source))
	type row struct {
		Revision int    `db:"revision"`
		Hash     string `db:"hash"`
		Settled  bool   `db:"settled"`
	}
	last, err := get[row](ctx, q.ext, `SELECT revision, hash, settled FROM dialects WHERE name = ? ORDER BY revision DESC LIMIT 1`, name)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return 0, false, err
	}
	if last.Hash == hash {
		return last.Revision, last.Settled, nil
	}
	_, err = q.exec(ctx, `INSERT INTO dialects (name, revision, hash, source, loaded_at, settled) VALUES (?, ?, ?, ?, ?, FALSE)`, name, last.Revision+1, hash, source, q.clock().UTC())
	if errors.Is(err, ErrTaken) { // another instance was faster
		return q.KeepDialect(ctx, name, source)
	}
	return last.Revision + 1, false, err
}

// DialectSettled notes that all fingerprints follow a revision's rules.
func (q *Q) DialectSettled(ctx context.Context, name string, revision int) error {
	_, err := q.exec(ctx, `UPDATE dialects SET settled = TRUE WHERE name = ? AND revision = ?`, name, revision)
	return err
}

// DialectUploaded notes that a dialect came by the API, so that every instance takes
// it from here.
func (q *Q) DialectUploaded(ctx context.Context, name string, revision int) error {
	_, err := q.exec(ctx, `UPDATE dialects SET uploaded = TRUE WHERE name = ? AND revision = ?`, name, revision)
	return err
}

// DialectInForce returns the newest text of a dialect if it came by the API and
// the given text is an older one; otherwise "".
func (q *Q) DialectInForce(ctx context.Context, name, source string) (string, error) {
	type row struct {
		Revision int    `db:"revision"`
		Source   string `db:"source"`
		Uploaded bool   `db:"uploaded"`
	}
	last, err := get[row](ctx, q.ext, `SELECT revision, source, uploaded FROM dialects WHERE name = ? ORDER BY revision DESC LIMIT 1`, name)
	if errors.Is(err, ErrNotFound) || err == nil && !last.Uploaded {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	known, err := get[int](ctx, q.ext, `SELECT COUNT(*) FROM dialects WHERE name = ? AND hash = ?`, name, q.keys.Hash("dialect", []byte(source)))
	if err != nil || known == 0 {
		return "", err
	}
	return last.Source, nil
}

// Uploaded is the newest revision of a dialect that came by the API.
type Uploaded struct {
	Name     string `db:"name"`
	Revision int    `db:"revision"`
}

// DialectsUploaded lists the dialects whose newest revision came by the API.
func (q *Q) DialectsUploaded(ctx context.Context) ([]Uploaded, error) {
	return list[Uploaded](ctx, q.ext, `SELECT name, revision FROM dialects d WHERE uploaded AND revision = (SELECT MAX(revision) FROM dialects x WHERE x.name = d.name)`)
}

// DialectUploadedAs returns the newest revision of a dialect that came by the API, or 0.
func (q *Q) DialectUploadedAs(ctx context.Context, name string) (int, error) {
	return get[int](ctx, q.often(), `SELECT COALESCE(MAX(revision), 0) FROM dialects WHERE name = ? AND uploaded`, name)
}

// DialectSource returns the text of a revision, and whether all fingerprints follow its rules.
func (q *Q) DialectSource(ctx context.Context, name string, revision int) (source string, settled bool, err error) {
	type row struct {
		Source  string `db:"source"`
		Settled bool   `db:"settled"`
	}
	r, err := get[row](ctx, q.ext, `SELECT source, settled FROM dialects WHERE name = ? AND revision = ?`, name, revision)
	return r.Source, r.Settled, err
}

// LeaseFree takes the right to talk to a device that nobody has, in one
// statement that stands for itself. It returns the fencing number, or 0 when
// Lease has to look closer: somebody has it, or nobody ever had. It must not be
// called inside a transaction that may be run again.
func (q *Q) LeaseFree(ctx context.Context, deviceID, jobID, instance, incarnation string) (int64, error) {
	res, err := q.ext.ExecContext(ctx, `UPDATE leases SET fence = LAST_INSERT_ID(fence + 1), job_id = ?, instance = ?, incarnation = ? WHERE device_id = ? AND job_id = ''`, jobID, instance, incarnation, deviceID)
	if err != nil {
		return 0, plain(err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return 0, err
	}
	return res.LastInsertId()
}

// Lease takes the right to talk to a device. alive tells whether the instance and
// incarnation that hold it now still live. It returns the fencing number, or 0 and who
// holds it.
func (q *Q) Lease(ctx context.Context, deviceID, jobID, instance, incarnation string, alive func(job, instance, incarnation string) bool) (fence int64, holder string, err error) {
	type row struct {
		Fence       int64  `db:"fence"`
		JobID       string `db:"job_id"`
		Instance    string `db:"instance"`
		Incarnation string `db:"incarnation"`
	}
	if _, err := q.exec(ctx, `INSERT IGNORE INTO leases (device_id, fence, job_id, instance, incarnation) VALUES (?, 0, '', '', '')`, deviceID); err != nil {
		return 0, "", err
	}
	r, err := get[row](ctx, q.ext, `SELECT fence, job_id, instance, incarnation FROM leases WHERE device_id = ? FOR UPDATE`, deviceID)
	if err != nil {
		return 0, "", err
	}
	if r.JobID != "" && r.JobID != jobID && alive(r.JobID, r.Instance, r.Incarnation) {
		// A job hangs up before its end is written: one that has ended holds nothing, whatever became of
		// giving back.
		state, err := get[string](ctx, q.ext, `SELECT state FROM jobs WHERE id = ?`, r.JobID)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return 0, "", err
		}
		if state != core.Ended {
			return 0, r.JobID, nil
		}
	}
	_, err = q.exec(ctx, `UPDATE leases SET fence = ?, job_id = ?, instance = ?, incarnation = ? WHERE device_id = ?`, r.Fence+1, jobID, instance, incarnation, deviceID)
	return r.Fence + 1, "", err
}

// Unlease gives the right back, if it is still the one taken.
func (q *Q) Unlease(ctx context.Context, deviceID string, fence int64) error {
	_, err := q.exec(ctx, `UPDATE leases SET job_id = '' WHERE device_id = ? AND fence = ?`, deviceID, fence)
	return err
}

// Beat moves an instance's heartbeat on. Outside a transaction it is one statement, and rings no bell.
func (q *Q) Beat(ctx context.Context, instance, incarnation string, beat int64) error {
	_, err := q.exec(ctx, `INSERT INTO instances (id, incarnation, beat, at) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE incarnation = VALUES(incarnation), beat = VALUES(beat), at = VALUES(at)`, instance, incarnation, beat, q.clock().UTC())
	return err
}

// Instance is one running service.
type Instance struct {
	ID          string    `db:"id"`
	Incarnation string    `db:"incarnation"`
	Beat        int64     `db:"beat"`
	At          time.Time `db:"at"`
}

// Instances lists all instances that ever ran.
func (q *Q) Instances(ctx context.Context) ([]Instance, error) {
	return list[Instance](ctx, q.ext, `SELECT id, incarnation, beat, at FROM instances`)
}

// Began notes the device's own name for the session that has its lease, and
// returns that of the one before.
func (q *Q) Began(ctx context.Context, deviceID, session string) (last string, err error) {
	last, err = get[string](ctx, q.ext, `SELECT session FROM leases WHERE device_id = ? FOR UPDATE`, deviceID)
	if err != nil {
		return "", err
	}
	_, err = q.exec(ctx, `UPDATE leases SET session = ? WHERE device_id = ?`, session, deviceID)
	return last, err
}

// Swap is new hardware in a device's place.
type Swap struct {
	ID        string    `db:"id"`
	DeviceID  string    `db:"device_id"`
	Job       string    `db:"job_id"`
	At        time.Time `db:"at"`
	Actor     string    `db:"actor"`
	OldSerial string    `db:"old_serial"`
	OldModel  string    `db:"old_model"`
	NewSerial string    `db:"new_serial"`
	NewModel  string    `db:"new_model"`
	Version   string    `db:"version"`
	Outcome   string    `db:"outcome"`
	Note      string    `db:"note"`
}

// AddSwap writes a swap down.
func (q *Q) AddSwap(ctx context.Context, s Swap) error {
	now := q.clock().UTC()
	_, err := q.exec(ctx, `INSERT INTO swaps (id, device_id, job_id, at, actor, old_serial, old_model, new_serial, new_model, version, outcome, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		NewID(now), s.DeviceID, s.Job, now, s.Actor, s.OldSerial, s.OldModel, s.NewSerial, s.NewModel, s.Version, s.Outcome, s.Note)
	return err
}

// Swaps lists a device's swaps, newest first.
func (q *Q) Swaps(ctx context.Context, deviceID string) ([]Swap, error) {
	return list[Swap](ctx, q.ext, `SELECT id, device_id, job_id, at, actor, old_serial, old_model, new_serial, new_model, version, outcome, note FROM swaps WHERE device_id = ? ORDER BY id DESC`, deviceID)
}

// Leftover is a file that a device made for us and that may still lie there.
type Leftover struct {
	Part string `db:"part"`
	File string `db:"file"`
}

// Leave notes a file before the device makes it.
func (q *Q) Leave(ctx context.Context, deviceID, part, file string) error {
	_, err := q.exec(ctx, `INSERT INTO leftovers (device_id, part, file, at) VALUES (?, ?, ?, ?)`, deviceID, part, file, q.clock().UTC())
	return err
}

// Gone forgets a file that was removed.
func (q *Q) Gone(ctx context.Context, deviceID, file string) error {
	_, err := q.exec(ctx, `DELETE FROM leftovers WHERE device_id = ? AND file = ?`, deviceID, file)
	return err
}

// Leftovers lists the files that may still lie on a device.
func (q *Q) Leftovers(ctx context.Context, deviceID string) ([]Leftover, error) {
	return list[Leftover](ctx, q.ext, `SELECT part, file FROM leftovers WHERE device_id = ? ORDER BY at`, deviceID)
}

// StateCounts counts the devices by state.
func (q *Q) StateCounts(ctx context.Context) (map[string]int, error) {
	type row struct {
		State string `db:"state"`
		N     int    `db:"n"`
	}
	rows, err := list[row](ctx, q.ext, `SELECT state, COUNT(*) AS n FROM devices WHERE removed_at IS NULL AND NOT disabled GROUP BY state`)
	out := map[string]int{}
	for _, r := range rows {
		out[r.State] = r.N
	}
	return out, err
}
