package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/pack"
)

// Part returns a device's part, making it if asked to.
func (q *Q) Part(ctx context.Context, deviceID, name string, lock bool) (core.Part, error) {
	query := `SELECT id, device_id, name, last_number, baseline_id, sign, fetched_at, gone_at FROM parts WHERE device_id = ? AND name = ?`
	if !lock {
		return get[core.Part](ctx, q.ext, query, deviceID, name)
	}
	p, err := get[core.Part](ctx, q.ext, query+` FOR UPDATE`, deviceID, name)
	if !errors.Is(err, ErrNotFound) {
		return p, err
	}
	p = core.Part{ID: NewID(q.clock()), DeviceID: deviceID, Name: name}
	_, err = q.exec(ctx, `INSERT INTO parts (id, device_id, name, last_number, baseline_id) VALUES (?, ?, ?, 0, '')`, p.ID, p.DeviceID, p.Name)
	return p, err
}

// PartGone notes since when a device has a logical element no more; nil: it has it again.
func (q *Q) PartGone(ctx context.Context, partID string, since *time.Time) error {
	_, err := q.exec(ctx, `UPDATE parts SET gone_at = ?, changed_at = NOW(6) WHERE id = ?`, since, partID)
	if err == nil && since != nil { // what is there again later was not there in between
		_, err = q.exec(ctx, `UPDATE seen s JOIN versions v ON v.id = s.version_id SET s.open = FALSE WHERE v.part_id = ? AND s.open`, partID)
	}
	return err
}

// NoteSign keeps the sign of change that a part had when it was fetched whole.
func (q *Q) NoteSign(ctx context.Context, partID, sign string, at time.Time) error {
	_, err := q.exec(ctx, `UPDATE parts SET sign = ?, fetched_at = ? WHERE id = ?`, sign, at.UTC(), partID)
	return err
}

// Parts lists a device's parts.
func (q *Q) Parts(ctx context.Context, deviceID string) ([]core.Part, error) {
	return list[core.Part](ctx, q.ext, `SELECT id, device_id, name, last_number, baseline_id, sign, fetched_at, gone_at FROM parts WHERE device_id = ? ORDER BY name`, deviceID)
}

const (
	versionColumns = `SELECT v.id, v.part_id, d.id AS device_id, d.name AS device, p.name AS part, v.number, v.content_id, v.pull_id, v.fingerprint, v.taken_at,
	v.reason, v.actor, v.author, COALESCE(v.name, '') AS name, v.note, v.pinned, v.id = p.baseline_id AS baseline, c0.size, v.line_count, v.added, v.removed, v.dialect_rev, v.aside, v.sign`
	versionTables = ` FROM versions v JOIN parts p ON p.id = v.part_id JOIN devices d ON d.id = p.device_id JOIN contents c0 ON c0.id = v.content_id `

	// What is known of a version besides takes twice as long as all else: only who shows it asks.
	listedColumns = versionColumns + `,
	COALESCE((SELECT MIN(from_at) FROM seen s WHERE s.version_id = v.id), v.taken_at) AS seen_from,
	COALESCE((SELECT MAX(until_at) FROM seen s WHERE s.version_id = v.id), v.taken_at) AS seen_until,
	COALESCE((SELECT MAX(open) FROM seen s WHERE s.version_id = v.id), FALSE) AS seen_open,
	COALESCE((SELECT SUM(sightings) FROM seen s WHERE s.version_id = v.id), 0) AS sightings,
	COALESCE((SELECT GROUP_CONCAT(n.name ORDER BY n.given_at DESC SEPARATOR '\n') FROM version_names n WHERE n.version_id = v.id), '') AS more_names,
	COALESCE(x.serial, '') AS serial, COALESCE(x.software, '') AS software,
	1 + (SELECT COUNT(*) FROM copies y JOIN targets t ON t.id = y.target_id WHERE y.version_id = v.id AND y.state = 'there' AND t.kind <> 'git') AS copies` +
		versionTables + `LEFT JOIN pulls x ON x.id = v.pull_id `
)

// Pick says which version is meant.
type Pick struct {
	where string
	args  []any
	steps int // that it takes to read its text, where that is known
}

// ByID picks a version by its id.
func ByID(id string) Pick { return Pick{where: `WHERE v.id = ?`, args: []any{id}} }

// ByNumber picks a part's version of that number.
func ByNumber(deviceID, part string, number int) Pick {
	return Pick{`WHERE p.device_id = ? AND p.name = ? AND v.number = ?`, []any{deviceID, part, number}, pack.Steps(number)}
}

// ByName picks a part's version of that name.
func ByName(deviceID, part, name string) Pick {
	return Pick{where: `WHERE p.device_id = ? AND p.name = ? AND (v.name = ? OR v.id = (SELECT n.version_id FROM version_names n WHERE n.part_id = p.id AND n.name = ?))`,
		args: []any{deviceID, part, name, name}}
}

// Baseline picks a part's baseline.
func Baseline(deviceID, part string) Pick {
	return Pick{where: `WHERE p.device_id = ? AND p.name = ? AND v.id = p.baseline_id`, args: []any{deviceID, part}}
}

// Latest picks a part's newest version, or the nth before it, of those that count.
func Latest(deviceID, part string, back int) Pick {
	return Pick{where: ofPart + `AND v.aside = '' ORDER BY v.number DESC LIMIT 1 OFFSET ?) picked ON picked.id = v.id`, args: []any{deviceID, part, back}}
}

// First picks a part's oldest version, of those that count and are still there.
func First(deviceID, part string) Pick {
	return Pick{where: ofPart + `AND v.aside = '' ORDER BY v.number LIMIT 1) picked ON picked.id = v.id`, args: []any{deviceID, part}}
}

// At picks the version last seen at or before a time.
func At(deviceID, part string, at time.Time) Pick {
	return Pick{where: ofPart + `AND v.taken_at <= ? AND v.aside = '' ORDER BY v.number DESC LIMIT 1) picked ON picked.id = v.id`, args: []any{deviceID, part, at.UTC()}}
}

// AtWithImported picks, of the versions that count and those that were imported, the one whose
// time is the last at or before a time.
func AtWithImported(deviceID, part string, at time.Time) Pick {
	return Pick{where: ofPart + `AND v.taken_at <= ? AND v.aside IN ('', 'imported') ORDER BY v.taken_at DESC, v.number DESC LIMIT 1) picked
		ON picked.id = v.id`, args: []any{deviceID, part, at.UTC()}}
}

// SeenAt picks the version of a part that was seen at a time, and not only before it and after it.
func SeenAt(deviceID, part string, at time.Time) Pick {
	return Pick{where: ofPart + `AND v.aside = '' AND EXISTS (SELECT 1 FROM seen s WHERE s.version_id = v.id AND s.from_at <= ? AND s.until_at >= ?)
		ORDER BY v.number DESC LIMIT 1) picked ON picked.id = v.id`, args: []any{deviceID, part, at.UTC(), at.UTC()}}
}

// After picks the version that came after one of a number, of those that count and are still
// there.
func After(deviceID, part string, number int) Pick {
	return Pick{where: ofPart + `AND v.number > ? AND v.aside = '' ORDER BY v.number LIMIT 1) picked ON picked.id = v.id`, args: []any{deviceID, part, number}}
}

// Version returns the version that is picked.
func (q *Q) Version(ctx context.Context, p Pick) (core.Version, error) {
	return get[core.Version](ctx, q.often(), versionColumns+versionTables+p.where, p.args...)
}

// ofPart picks versions of one part, by their ids alone: what else is known of them is gathered
// for those that are picked.
const ofPart = `JOIN (SELECT v.id FROM versions v JOIN parts p ON p.id = v.part_id WHERE p.device_id = ? AND p.name = ? `

// Listed returns versions as lists show them, in the order of their ids here.
func (q *Q) Listed(ctx context.Context, ids ...string) ([]core.Listed, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := in(listedColumns+`WHERE v.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	out, err := list[core.Listed](ctx, q.ext, query, args...)
	slices.SortFunc(out, func(a, b core.Listed) int { return slices.Index(ids, a.ID) - slices.Index(ids, b.ID) })
	return out, err
}

// Versions lists a part's versions, newest first, with numbers below before (0:
// from the newest).
func (q *Q) Versions(ctx context.Context, deviceID, part string, before, limit int) ([]core.Listed, error) {
	if before <= 0 {
		before = 1 << 30
	}
	return list[core.Listed](ctx, q.ext, listedColumns+ofPart+`AND v.number < ? ORDER BY v.number DESC LIMIT ?) picked ON picked.id = v.id ORDER BY v.number DESC`, deviceID, part, before, limit)
}

// VersionsThatCount lists a part's versions before a number, newest first, without those set aside.
func (q *Q) VersionsThatCount(ctx context.Context, partID string, before, limit int) ([]core.Version, error) {
	return list[core.Version](ctx, q.ext, versionColumns+versionTables+`WHERE v.part_id = ? AND v.number < ? AND v.aside = '' ORDER BY v.number DESC LIMIT ?`, partID, before, limit)
}

// LockVersion returns a version whose marks nobody else changes until the
// transaction ends, nor its device.
func (q *Q) LockVersion(ctx context.Context, v core.Version) (core.Version, error) {
	if _, err := q.LockDevice(ctx, v.DeviceID, 0); err != nil {
		return v, err
	}
	if _, err := get[string](ctx, q.ext, `SELECT id FROM versions WHERE id = ? FOR UPDATE`, v.ID); err != nil {
		return v, err
	}
	return q.Version(ctx, ByID(v.ID))
}

// VersionNames lists the names of a part's versions.
func (q *Q) VersionNames(ctx context.Context, deviceID, part string) ([]string, error) {
	return list[string](ctx, q.ext, `SELECT v.name FROM versions v JOIN parts p ON p.id = v.part_id WHERE p.device_id = ? AND p.name = ? AND v.name IS NOT NULL
		UNION SELECT n.name FROM version_names n JOIN parts p ON p.id = n.part_id WHERE p.device_id = ? AND p.name = ?`, deviceID, part, deviceID, part)
}

// Head is a part and what a pull has to know of its newest version, of those
// that count or of those set aside. VersionID is empty when there is none.
type Head struct {
	core.Part
	VersionID   string `db:"version_id"`
	Number      int    `db:"number"`
	ContentID   string `db:"content_id"`
	Fingerprint string `db:"fingerprint"`
	Damaged     bool   `db:"damaged"` // a scrub found that it does not read back
}

// Heads returns a device's parts of these names with their newest versions,
// making parts that are not there yet. Their rows stay locked.
func (q *Q) Heads(ctx context.Context, deviceID string, names []string, aside bool) (map[string]Head, error) {
	rows, err := list[Head](ctx, q.ext, `SELECT p.id, p.device_id, p.name, p.last_number, p.baseline_id, p.sign, p.fetched_at, p.gone_at, COALESCE(v.id, '') AS version_id, COALESCE(v.number, 0) AS number,
		COALESCE(v.content_id, '') AS content_id, COALESCE(v.fingerprint, '') AS fingerprint, EXISTS (SELECT 1 FROM damage x WHERE x.content_id = v.content_id) AS damaged FROM parts p LEFT JOIN versions v ON v.part_id = p.id
		AND v.number = (SELECT MAX(w.number) FROM versions w WHERE w.part_id = p.id AND (w.aside <> '') = ?) WHERE p.device_id = ? FOR UPDATE`, aside, deviceID)
	if err != nil {
		return nil, err
	}
	heads := map[string]Head{}
	for _, h := range rows {
		heads[h.Name] = h
	}
	for _, name := range names {
		if _, ok := heads[name]; ok {
			continue
		}
		p, err := q.Part(ctx, deviceID, name, true)
		if err != nil {
			return nil, err
		}
		heads[name] = Head{Part: p}
	}
	return heads, nil
}

// AddVersion writes the next version of a part and opens its seen interval,
// closing that of the version before. One that is set aside leaves the
// intervals closed. passphrase is what its content is encrypted under, if it
// is.
func (q *Q) AddVersion(ctx context.Context, p core.Part, v *core.Version, passphrase string) error {
	v.ID, v.PartID, v.Number = NewID(q.clock()), p.ID, p.Last+1
	if _, err := q.exec(ctx, `UPDATE parts SET last_number = ? WHERE id = ?`, v.Number, p.ID); err != nil {
		return err
	}
	if p.Last > 0 && v.Aside != core.Edited && v.Aside != core.Imported {
		if err := q.CloseSeen(ctx, p.ID); err != nil {
			return err
		}
	}
	sealed := []byte{}
	if passphrase != "" {
		sealed = q.keys.Seal("passphrase", v.ID, []byte(passphrase))
	}
	if _, err := q.exec(ctx, `INSERT INTO versions (id, part_id, number, content_id, pull_id, fingerprint, taken_at, reason, actor, author, name, note, pinned, line_count, added, removed, dialect_rev,
		aside, sign, passphrase) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, NULL, '', FALSE, ?, ?, ?, ?, ?, ?, ?)`, v.ID, v.PartID, v.Number, v.ContentID, v.PullID, v.Fingerprint, v.TakenAt, v.Reason, v.Actor,
		v.Author, v.Lines, v.Added, v.Removed, v.DialectRev, v.Aside, v.Sign, sealed); err != nil {
		return err
	}
	if err := q.toCopy(ctx, v.ID); err != nil || v.Aside != "" {
		return err
	}
	_, err := q.exec(ctx, `INSERT INTO seen (version_id, from_at, until_at, open, sightings) VALUES (?, ?, ?, TRUE, 0)`, v.ID, v.TakenAt, v.TakenAt)
	return err
}

// AdoptVersion writes a version that comes from another service, with its own number, marks and
// seen intervals.
func (q *Q) AdoptVersion(ctx context.Context, p core.Part, v *core.Version, seen []Interval, passphrase string) error {
	v.ID, v.PartID = NewID(q.clock()), p.ID
	if err := q.CountOn(ctx, p.ID, v.Number); err != nil {
		return err
	}
	sealed := []byte{}
	if passphrase != "" {
		sealed = q.keys.Seal("passphrase", v.ID, []byte(passphrase))
	}
	var name any
	if v.Name != "" {
		name = v.Name
	}
	if _, err := q.exec(ctx, `INSERT INTO versions (id, part_id, number, content_id, pull_id, fingerprint, taken_at, reason, actor, author, name, note, pinned, line_count, added, removed, dialect_rev,
		aside, sign, passphrase) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, v.ID, v.PartID, v.Number, v.ContentID, v.PullID, v.Fingerprint, v.TakenAt, v.Reason, v.Actor,
		v.Author, name, v.Note, v.Pinned, v.Lines, v.Added, v.Removed, v.DialectRev, v.Aside, v.Sign, sealed); err != nil {
		return err
	}
	for _, i := range seen {
		if _, err := q.exec(ctx, `INSERT INTO seen (version_id, from_at, until_at, open, sightings) VALUES (?, ?, ?, FALSE, ?)`, v.ID, i.From, i.Until, i.Sightings); err != nil {
			return err
		}
	}
	return q.toCopy(ctx, v.ID)
}

// CountOn makes the next version of a part have a number beyond last.
func (q *Q) CountOn(ctx context.Context, partID string, last int) error {
	_, err := q.exec(ctx, `UPDATE parts SET last_number = GREATEST(last_number, ?) WHERE id = ?`, last, partID)
	return err
}

// Passphrase opens what a version's content is encrypted under; empty when it
// is not.
func (q *Q) Passphrase(ctx context.Context, versionID string) (string, error) {
	sealed, err := get[[]byte](ctx, q.ext, `SELECT passphrase FROM versions WHERE id = ?`, versionID)
	if err != nil || len(sealed) == 0 {
		return "", err
	}
	raw, err := q.keys.Open("passphrase", versionID, sealed)
	return string(raw), err
}

// SetFingerprint writes a version's fingerprint, worked out anew.
func (q *Q) SetFingerprint(ctx context.Context, versionID, fingerprint string) error {
	_, err := q.exec(ctx, `UPDATE versions SET fingerprint = ? WHERE id = ?`, fingerprint, versionID)
	return err
}

// Sight extends the seen intervals of versions, or opens others after a gap.
func (q *Q) Sight(ctx context.Context, versionIDs []string, at time.Time) error {
	if len(versionIDs) == 0 {
		return nil
	}
	query, args, err := in(`UPDATE seen SET until_at = GREATEST(until_at, ?), sightings = sightings + 1 WHERE version_id IN (?) AND open`, at, versionIDs)
	if err != nil {
		return err
	}
	n, err := q.exec(ctx, query, args...)
	if err != nil || n == int64(len(versionIDs)) {
		return err
	}
	if query, args, err = in(`SELECT version_id FROM seen WHERE version_id IN (?) AND open`, versionIDs); err != nil {
		return err
	}
	open, err := list[string](ctx, q.ext, query, args...)
	if err != nil {
		return err
	}
	for _, id := range versionIDs {
		if slices.Contains(open, id) {
			continue
		}
		if _, err = q.exec(ctx, `INSERT INTO seen (version_id, from_at, until_at, open, sightings) VALUES (?, ?, ?, TRUE, 1)
			ON DUPLICATE KEY UPDATE open = TRUE, sightings = sightings + 1`, id, at, at); err != nil {
			return err
		}
	}
	return nil
}

// CloseSeen ends the open interval of a part: from now on it is not known.
func (q *Q) CloseSeen(ctx context.Context, partID string) error {
	_, err := q.exec(ctx, `UPDATE seen s JOIN versions v ON v.id = s.version_id SET s.open = FALSE WHERE v.part_id = ? AND s.open`, partID)
	return err
}

// Interval is a time in which a version was seen without a gap.
type Interval struct {
	VersionID string    `db:"version_id"`
	From      time.Time `db:"from_at"`
	Until     time.Time `db:"until_at"`
	Open      bool      `db:"open"`
	Sightings int       `db:"sightings"`
}

// SeenOf lists when a version was seen, oldest first.
func (q *Q) SeenOf(ctx context.Context, versionID string) ([]Interval, error) {
	return list[Interval](ctx, q.ext, `SELECT version_id, from_at, until_at, open, sightings FROM seen WHERE version_id = ? ORDER BY from_at`, versionID)
}

// SeenIntervals lists when the versions of a part were seen, oldest first.
func (q *Q) SeenIntervals(ctx context.Context, partID string) ([]Interval, error) {
	return list[Interval](ctx, q.ext, `SELECT s.version_id, s.from_at, s.until_at, s.open, s.sightings FROM seen s JOIN versions v ON v.id = s.version_id
		WHERE v.part_id = ? ORDER BY s.from_at`, partID)
}

// NameFree tells whether no version of these devices has a name; ErrTaken says which has: the
// first device's, and of its parts the main one if it is among them.
func (q *Q) NameFree(ctx context.Context, name string, devices []core.Device) error {
	ids := make([]string, len(devices))
	for i, d := range devices {
		ids[i] = d.ID
	}
	query, args, err := in(`SELECT d.name AS device, p.name AS part, v.number FROM versions v JOIN parts p ON p.id = v.part_id JOIN devices d ON d.id = p.device_id
		WHERE (v.name = ? OR EXISTS (SELECT 1 FROM version_names n WHERE n.version_id = v.id AND n.name = ?)) AND d.id IN (?) ORDER BY d.name, p.name <> ?, p.name LIMIT 1`, name, name, ids, core.Running)
	if err != nil {
		return err
	}
	type row struct {
		Device string `db:"device"`
		Part   string `db:"part"`
		Number int    `db:"number"`
	}
	r, err := get[row](ctx, q.ext, query, args...)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return fmt.Errorf("name %q: %w: it is %s", name, ErrTaken, core.Version{Device: r.Device, Part: r.Part, Number: r.Number}.Ref())
}

// nameOf tells which version of a part has a name, as its newest or a further one; empty: none. It
// locks the part, so that no other gets that name meanwhile.
func (q *Q) nameOf(ctx context.Context, partID, name string) (versionID string, err error) {
	if _, err := get[string](ctx, q.ext, `SELECT id FROM parts WHERE id = ? FOR UPDATE`, partID); err != nil {
		return "", err
	}
	versionID, err = get[string](ctx, q.ext, `SELECT id FROM versions WHERE part_id = ? AND name = ? UNION SELECT version_id FROM version_names WHERE part_id = ? AND name = ? LIMIT 1`, partID, name, partID, name)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return versionID, err
}

// NameAgain gives a version one more name; the one it had stays a name of it. ErrTaken says that another
// version of the part has it. The version is locked.
func (q *Q) NameAgain(ctx context.Context, v core.Version, name, actor string, at time.Time) error {
	has, err := q.nameOf(ctx, v.PartID, name)
	switch {
	case err != nil:
		return err
	case has == v.ID:
		return nil
	case has != "":
		return fmt.Errorf("name %q: %w for another version of %s", name, ErrTaken, v.Device)
	}
	if v.Name != "" {
		if _, err := q.exec(ctx, `INSERT INTO version_names (part_id, name, version_id, actor, given_at) VALUES (?, ?, ?, ?, ?)`, v.PartID, v.Name, v.ID, actor, at.UTC()); err != nil {
			return err
		}
	}
	v.Name = name
	return q.MarkVersion(ctx, v)
}

// MarkVersion writes a version's newest name, note and pin. Without a name it has none any more, further
// ones included.
func (q *Q) MarkVersion(ctx context.Context, v core.Version) error {
	var name any
	if v.Name != "" {
		name = v.Name
		has, err := q.nameOf(ctx, v.PartID, v.Name)
		if err != nil {
			return err
		}
		if has != "" && has != v.ID {
			return fmt.Errorf("name %q: %w for another version of %s", v.Name, ErrTaken, v.Device)
		}
		if _, err := q.exec(ctx, `DELETE FROM version_names WHERE part_id = ? AND name = ?`, v.PartID, v.Name); err != nil {
			return err
		}
	} else if _, err := q.exec(ctx, `DELETE FROM version_names WHERE version_id = ?`, v.ID); err != nil {
		return err
	}
	_, err := q.exec(ctx, `UPDATE versions SET name = ?, note = ?, pinned = ? WHERE id = ?`, name, v.Note, v.Pinned, v.ID)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("name %q: %w for another version of %s", v.Name, ErrTaken, v.Device)
	}
	if err == nil { // whoever watches watches parts, of which there are fewer
		_, err = q.exec(ctx, `UPDATE parts SET changed_at = NOW(6) WHERE id = ?`, v.PartID)
	}
	return err
}

// SetBaseline makes a version its part's baseline; an empty id takes it away.
func (q *Q) SetBaseline(ctx context.Context, partID, versionID string) error {
	_, err := q.exec(ctx, `UPDATE parts SET baseline_id = ? WHERE id = ?`, versionID, partID)
	return err
}

// AddPull writes a visit.
func (q *Q) AddPull(ctx context.Context, p core.Pull) error {
	_, err := q.exec(ctx, `INSERT INTO pulls (id, device_id, job_id, requested_at, taken_at, reason, actor, dialect_rev, host, model, serial, software, result, trouble)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, p.ID, p.DeviceID, p.JobID, p.RequestedAt, p.TakenAt, p.Reason, p.Actor, p.DialectRev, p.Host, p.Model, p.Serial, p.Release, p.Result, p.Trouble)
	return err
}

// PullByID returns one visit.
func (q *Q) PullByID(ctx context.Context, id string) (core.Pull, error) {
	return get[core.Pull](ctx, q.ext, `SELECT * FROM pulls WHERE id = ?`, id)
}

// ContentsCount tells how many texts are kept and their bytes, sealed. It reads an index, not the texts.
func (q *Q) ContentsCount(ctx context.Context) (n, bytes int64, err error) {
	type row struct {
		N     int64 `db:"n"`
		Bytes int64 `db:"bytes"`
	}
	r, err := get[row](ctx, q.ext, `SELECT COUNT(*) AS n, COALESCE(SUM(bytes), 0) AS bytes FROM contents`)
	return r.N, r.Bytes, err
}
