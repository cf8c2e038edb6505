package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
)

// OwnRule is what people say of lines of devices of theirs.
type OwnRule struct {
	Name      string    `db:"name"`
	Kind      string    `db:"kind"` // one of rules.OwnKinds
	Selector  string    `db:"selector"`
	Dialect   string    `db:"dialect"` // in whose words the path is written
	Path      string    `db:"path"`
	Note      string    `db:"note"`
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`
	Body      []byte    `db:"body"` // of a model: its text, sealed
	Text      string    `db:"-"`    // the same, as Unseal opens it and SaveOwnRule seals it
}

const ownRuleColumns = `SELECT name, kind, selector, dialect, path, note, changed_by, changed_at, body FROM own_rules`

// Unseal opens the text of a model.
func (q *Q) Unseal(r *OwnRule) error {
	if r.Kind != rules.Template {
		return nil
	}
	raw, err := q.keys.Open("rule", r.Name, r.Body)
	r.Text = string(raw)
	return err
}

// Values are what variables of a model text stand for on a device: what people wrote down of it, and
// its name, site and address.
func Values(d core.Device) map[string]string {
	out := map[string]string{}
	for k, v := range d.Fields {
		out[strings.ToLower(k)] = v
	}
	out["name"], out["site"], out["address"] = d.Name, d.Site, d.Address
	return out
}

// OwnRules lists the rules by name.
func (q *Q) OwnRules(ctx context.Context) ([]OwnRule, error) {
	return list[OwnRule](ctx, q.ext, ownRuleColumns+` ORDER BY name`)
}

// OwnRule returns the rule of that name.
func (q *Q) OwnRule(ctx context.Context, name string) (OwnRule, error) {
	r, err := get[OwnRule](ctx, q.ext, ownRuleColumns+` WHERE name = ?`, name)
	if err != nil {
		return r, q.named(ctx, "rule", name, `SELECT name FROM own_rules`)
	}
	return r, nil
}

// SaveOwnRule keeps a rule, in the place of an earlier one of its name.
func (q *Q) SaveOwnRule(ctx context.Context, r *OwnRule) error {
	r.ChangedBy, r.ChangedAt = q.actor.Name, q.clock().UTC()
	r.Body = nil
	if r.Kind == rules.Template {
		r.Body = q.keys.Seal("rule", r.Name, []byte(r.Text))
	}
	_, err := q.exec(ctx, `INSERT INTO own_rules (name, kind, selector, dialect, path, note, changed_by, changed_at, body) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE kind = VALUES(kind), selector = VALUES(selector), dialect = VALUES(dialect), path = VALUES(path), note = VALUES(note), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at), body = VALUES(body)`,
		r.Name, r.Kind, r.Selector, r.Dialect, r.Path, r.Note, r.ChangedBy, r.ChangedAt, r.Body)
	return err
}

// RemoveOwnRule takes a rule away.
func (q *Q) RemoveOwnRule(ctx context.Context, name string) error {
	n, err := q.exec(ctx, `DELETE FROM own_rules WHERE name = ?`, name)
	if err == nil && n == 0 {
		return q.named(ctx, "rule", name, `SELECT name FROM own_rules`)
	}
	return err
}

// OwnRulesFor lists the rules that hold for a device, compiled.
func (q *Q) OwnRulesFor(ctx context.Context, d core.Device) ([]rules.Own, error) {
	all, err := list[OwnRule](ctx, q.ext, ownRuleColumns+` WHERE dialect = ? ORDER BY name`, d.Dialect)
	if err != nil {
		return nil, err
	}
	var out []rules.Own
	for _, r := range all {
		sel, err := ref.ParseSelector(strings.Fields(r.Selector))
		if err != nil {
			return nil, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		if !sel.Match(subject(d)) {
			continue
		}
		if err := q.Unseal(&r); err != nil {
			return nil, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		o := rules.Own{Name: r.Name, Kind: r.Kind, Path: r.Path, Text: rules.Fill(r.Text, Values(d))}
		if err := o.Compile(); err != nil {
			return nil, fmt.Errorf("rule %s: %w", r.Name, err)
		}
		out = append(out, o)
	}
	return out, nil
}

// Acknowledgement is somebody's word that drift of a part is known, until a time.
type Acknowledgement struct {
	DeviceID string     `db:"device_id"`
	Part     string     `db:"part"`
	Reason   string     `db:"reason"`
	Actor    string     `db:"actor"`
	At       time.Time  `db:"at"`
	Until    time.Time  `db:"until_at"`
	Marks    core.Words `db:"marks"` // keyed hashes of the lines that differ
}

// Acknowledge keeps the word, in the place of an earlier one of its part.
func (q *Q) Acknowledge(ctx context.Context, a Acknowledgement) error {
	_, err := q.exec(ctx, `REPLACE INTO acknowledgements (device_id, part, reason, actor, at, until_at, marks) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		a.DeviceID, a.Part, a.Reason, a.Actor, a.At.UTC(), a.Until.UTC(), asJSON(a.Marks))
	return err
}

// Unacknowledge takes the word of a part back, and tells whether there was one.
func (q *Q) Unacknowledge(ctx context.Context, deviceID, part string) (bool, error) {
	n, err := q.exec(ctx, `DELETE FROM acknowledgements WHERE device_id = ? AND part = ?`, deviceID, part)
	return n > 0, err
}

// Acknowledged lists what is acknowledged of a device, by part.
func (q *Q) Acknowledged(ctx context.Context, deviceID string) (map[string]Acknowledgement, error) {
	all, err := list[Acknowledgement](ctx, q.ext, `SELECT device_id, part, reason, actor, at, until_at, marks FROM acknowledgements WHERE device_id = ?`, deviceID)
	out := map[string]Acknowledgement{}
	for _, a := range all {
		out[a.Part] = a
	}
	return out, err
}

// Lapsed lists the devices whose acknowledged drift counts again at a time.
func (q *Q) Lapsed(ctx context.Context, now time.Time) ([]string, error) {
	return list[string](ctx, q.ext, `SELECT id FROM devices WHERE acknowledged_until <= ? AND removed_at IS NULL ORDER BY id LIMIT 1000`, now.UTC())
}
