package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/seal"
)

// Event is something that happened and that people may want to be told of.
type Event struct {
	ID       string    `db:"id"`
	At       time.Time `db:"at"`
	Kind     string    `db:"kind"` // core.Changed, core.Stands, core.EndedSo or core.Awaits
	DeviceID string    `db:"device_id"`
	Device   string    `db:"device"`
	JobID    string    `db:"job_id"`
	Body     []byte    `db:"body"`
	core.Happened
}

// Happen writes down that something happened, in the transaction in which it did.
func (q *Q) Happen(ctx context.Context, kind, deviceID, device, jobID string, what core.Happened) error {
	raw, err := json.Marshal(what)
	if err != nil {
		return err
	}
	id := NewID(q.clock())
	_, err = q.exec(ctx, `INSERT INTO events (id, at, kind, device_id, device, job_id, body) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		id, q.clock().UTC(), kind, deviceID, shorten(device, 64), jobID, q.keys.Seal("event", id, raw))
	return err
}

// Events tells whether anything happened that nobody looked at.
func (q *Q) Events(ctx context.Context) (bool, error) {
	n, err := list[string](ctx, q.ext, `SELECT id FROM events LIMIT 1`)
	return len(n) > 0, err
}

// TakeEvents takes the oldest events out: what is read in this transaction is read by
// nobody else, if it is committed.
func (q *Q) TakeEvents(ctx context.Context, limit int) ([]Event, error) {
	all, err := list[Event](ctx, q.ext, `SELECT id, at, kind, device_id, device, job_id, body FROM events ORDER BY id LIMIT ? FOR UPDATE`, limit)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	ids := make([]string, len(all))
	var out []Event
	for i := range all {
		ids[i] = all[i].ID
		raw, e := q.keys.Open("event", all[i].ID, all[i].Body)
		if e == nil {
			e = json.Unmarshal(raw, &all[i].Happened)
		}
		if e != nil { // it was changed where it lies: the others are told all the same, and that it was lost is on record
			if err := q.Audit(ctx, "event lost", all[i].Device, fmt.Sprintf("%s of %s does not open; nobody was told of it", all[i].Kind, all[i].At.UTC().Format(time.RFC3339))); err != nil {
				return nil, err
			}
			continue
		}
		out = append(out, all[i])
	}
	query, args, err := in(`DELETE FROM events WHERE id IN (?)`, ids)
	if err == nil {
		_, err = q.exec(ctx, query, args...)
	}
	return out, err
}

// Recipient is who can be told.
type Recipient struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	Kind      string    `db:"kind"` // one of core.RecipientKinds
	Body      []byte    `db:"body"`
	AuditSeq  *int64    `db:"audit_seq"` // the last row of the audit log that was sent there; nil: the log is not
	ChangedBy string    `db:"changed_by"`
	ChangedAt time.Time `db:"changed_at"`
	core.Way
	Shut bool `db:"-"` // how to reach it does not open: it was changed where it lies
}

// Addresses are those that each get a message of their own: of a mail's all, elsewhere the one that has no name.
func (r Recipient) Addresses() []string {
	if r.Kind == core.ByMail && !r.Shut {
		return r.To
	}
	return []string{""}
}

const recipientColumns = `SELECT id, name, kind, body, audit_seq, changed_by, changed_at FROM recipients `

// Recipients lists who can be told, by name.
func (q *Q) Recipients(ctx context.Context) ([]Recipient, error) {
	all, err := list[Recipient](ctx, q.ext, recipientColumns+`ORDER BY name`)
	for i := range all {
		err = errors.Join(err, q.openWay(&all[i]))
	}
	return all, err
}

// Recipient returns the one of that name.
func (q *Q) Recipient(ctx context.Context, name string) (Recipient, error) {
	r, err := get[Recipient](ctx, q.ext, recipientColumns+`WHERE name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		return r, q.named(ctx, "recipient", name, `SELECT name FROM recipients`)
	}
	if err != nil {
		return r, err
	}
	return r, q.openWay(&r)
}

// openWay opens how to reach a recipient. One that does not open holds the others up in nothing.
func (q *Q) openWay(r *Recipient) error {
	raw, err := q.keys.Open("recipient", r.ID, r.Body)
	if r.Shut = errors.Is(err, seal.ErrWrongKey); r.Shut {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &r.Way)
	}
	if err != nil {
		err = fmt.Errorf("recipient %s: %w", r.Name, err)
	}
	return err
}

// SaveRecipient keeps one; without an id it is new.
func (q *Q) SaveRecipient(ctx context.Context, r *Recipient) error {
	isNew := r.ID == ""
	if isNew {
		r.ID = NewID(q.clock())
	}
	raw, err := json.Marshal(r.Way)
	if err != nil {
		return err
	}
	r.Body, r.ChangedBy, r.ChangedAt = q.keys.Seal("recipient", r.ID, raw), q.actor.Name, q.clock().UTC()
	if isNew {
		_, err = q.exec(ctx, `INSERT INTO recipients (id, name, kind, body, audit_seq, changed_by, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			r.ID, r.Name, r.Kind, r.Body, r.AuditSeq, r.ChangedBy, r.ChangedAt)
	} else {
		_, err = q.exec(ctx, `UPDATE recipients SET name = ?, kind = ?, body = ?, audit_seq = ?, changed_by = ?, changed_at = ? WHERE id = ?`,
			r.Name, r.Kind, r.Body, r.AuditSeq, r.ChangedBy, r.ChangedAt, r.ID)
	}
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("recipient %q: %w", r.Name, ErrTaken)
	}
	return err
}

// RemoveRecipient forgets one, with what was still to be sent there.
func (q *Q) RemoveRecipient(ctx context.Context, id string) error {
	if _, err := q.exec(ctx, `UPDATE messages SET state = 'dropped', next_at = NULL, ended_at = ?, trouble = 'the recipient was removed' WHERE recipient_id = ? AND state = 'waiting'`, q.clock().UTC(), id); err != nil {
		return err
	}
	_, err := q.exec(ctx, `DELETE FROM recipients WHERE id = ?`, id)
	return err
}

// SentAudit notes how much of the audit log was sent to a recipient. Of several who try
// it tells one that it was it.
func (q *Q) SentAudit(ctx context.Context, id string, from, to int64) (bool, error) {
	n, err := q.exec(ctx, `UPDATE recipients SET audit_seq = ? WHERE id = ? AND audit_seq = ?`, to, id, from)
	return n == 1, err
}

// AuditFrom lists the audit log from behind a row on, oldest first.
func (q *Q) AuditFrom(ctx context.Context, after int64, limit int) ([]AuditEntry, error) {
	return list[AuditEntry](ctx, q.ext, `SELECT * FROM audit WHERE seq > ? ORDER BY seq LIMIT ?`, after, limit)
}

// Setting reads what the service is set to into a value. ErrNotFound: it is not set.
func (q *Q) Setting(ctx context.Context, name string, into any) (by string, at time.Time, err error) {
	type row struct {
		Body      []byte    `db:"body"`
		ChangedBy string    `db:"changed_by"`
		ChangedAt time.Time `db:"changed_at"`
	}
	r, err := get[row](ctx, q.ext, `SELECT body, changed_by, changed_at FROM settings WHERE name = ?`, name)
	if err != nil {
		return "", at, err
	}
	raw, err := q.keys.Open("setting", name, r.Body)
	if err == nil {
		err = json.Unmarshal(raw, into)
	}
	return r.ChangedBy, r.ChangedAt, err
}

// SetSetting keeps what the service is set to; nil forgets it.
func (q *Q) SetSetting(ctx context.Context, name string, value any) error {
	if value == nil {
		_, err := q.exec(ctx, `DELETE FROM settings WHERE name = ?`, name)
		return err
	}
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO settings (name, body, changed_by, changed_at) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE body = VALUES(body), changed_by = VALUES(changed_by), changed_at = VALUES(changed_at)`,
		name, q.keys.Seal("setting", name, raw), q.actor.Name, q.clock().UTC())
	return err
}

// Named is a setting of which there are many, each by a name.
type Named[T any] struct {
	Name  string
	Value T
	By    string
	At    time.Time
}

// Settings lists the settings whose names begin with a prefix, by name.
func Settings[T any](ctx context.Context, q *Q, prefix string) ([]Named[T], error) {
	names, err := list[string](ctx, q.ext, `SELECT name FROM settings WHERE LEFT(name, ?) = ? ORDER BY name`, len(prefix), prefix)
	out := make([]Named[T], 0, len(names))
	for _, n := range names {
		if err != nil {
			return nil, err
		}
		one := Named[T]{Name: n}
		one.By, one.At, err = q.Setting(ctx, n, &one.Value)
		out = append(out, one)
	}
	return out, err
}

// ForgetSetting forgets one of those. Of a name that is nobody's it says what may have been meant.
func (q *Q) ForgetSetting(ctx context.Context, kind, prefix, name string) error {
	n, err := q.exec(ctx, `DELETE FROM settings WHERE name = ?`, prefix+name)
	if err != nil || n > 0 {
		return err
	}
	names, err := list[string](ctx, q.ext, `SELECT SUBSTRING(name, ?) FROM settings WHERE LEFT(name, ?) = ?`, len(prefix)+1, len(prefix), prefix)
	if err != nil {
		return err
	}
	return unknown(kind, name, names)
}

// FirstSetting keeps what the service is set to where nothing is yet: of several who are first at
// the same moment, one is.
func (q *Q) FirstSetting(ctx context.Context, name string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO settings (name, body, changed_by, changed_at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE name = VALUES(name)`,
		name, q.keys.Seal("setting", name, raw), q.actor.Name, q.clock().UTC())
	return err
}

// NotificationRule says of what people are told.
type NotificationRule struct {
	ID         string     `db:"id"`
	Name       string     `db:"name"`
	Events     core.Words `db:"events"`
	Selector   string     `db:"selector"`
	Recipients core.Words `db:"recipients"` // their ids
	Days       int        `db:"days"`       // without proof, for the event unproven
	Digest     string     `db:"digest"`     // when what was gathered is told, as package when reads it; empty: at once
	Zone       string     `db:"zone"`
	Quiet      core.Words `db:"quiet"` // when nothing is told
	FromAt     time.Time  `db:"from_at"`
	Paused     bool       `db:"paused"`
	Note       string     `db:"note"`
	ChangedBy  string     `db:"changed_by"`
	ChangedAt  time.Time  `db:"changed_at"`
}

const ruleColumns = `SELECT id, name, events, selector, recipients, days, digest, zone, quiet, from_at, paused, note, changed_by, changed_at FROM tell_rules `

// NotificationRules lists the rules by name.
func (q *Q) NotificationRules(ctx context.Context) ([]NotificationRule, error) {
	return list[NotificationRule](ctx, q.ext, ruleColumns+`ORDER BY name`)
}

// NotificationRule returns the one of that name.
func (q *Q) NotificationRule(ctx context.Context, name string) (NotificationRule, error) {
	return q.tellRule(ctx, name, "")
}

// LockNotificationRule returns the rule of that name; nobody else changes it until the transaction ends.
func (q *Q) LockNotificationRule(ctx context.Context, name string) (NotificationRule, error) {
	return q.tellRule(ctx, name, " FOR UPDATE")
}

func (q *Q) tellRule(ctx context.Context, name, lock string) (NotificationRule, error) {
	r, err := get[NotificationRule](ctx, q.ext, ruleColumns+`WHERE name = ?`+lock, name)
	if errors.Is(err, ErrNotFound) {
		err = q.named(ctx, "rule", name, `SELECT name FROM tell_rules`)
	}
	return r, err
}

// SaveNotificationRule keeps one; without an id it is new.
func (q *Q) SaveNotificationRule(ctx context.Context, r *NotificationRule) (err error) {
	r.ChangedBy, r.ChangedAt = q.actor.Name, q.clock().UTC()
	if r.ID == "" {
		r.ID = NewID(q.clock())
		_, err = q.exec(ctx, `INSERT INTO tell_rules (id, name, events, selector, recipients, days, digest, zone, quiet, from_at, paused, note, changed_by, changed_at) VALUES `+
			values(`(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, 1),
			r.ID, r.Name, asJSON(r.Events), r.Selector, asJSON(r.Recipients), r.Days, r.Digest, r.Zone, asJSON(r.Quiet), r.FromAt, r.Paused, r.Note, r.ChangedBy, r.ChangedAt)
	} else {
		_, err = q.exec(ctx, `UPDATE tell_rules SET name = ?, events = ?, selector = ?, recipients = ?, days = ?, digest = ?, zone = ?, quiet = ?, from_at = ?, paused = ?, note = ?, changed_by = ?, changed_at = ? WHERE id = ?`,
			r.Name, asJSON(r.Events), r.Selector, asJSON(r.Recipients), r.Days, r.Digest, r.Zone, asJSON(r.Quiet), r.FromAt, r.Paused, r.Note, r.ChangedBy, r.ChangedAt, r.ID)
	}
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("rule %q: %w", r.Name, ErrTaken)
	}
	return err
}

// RemoveNotificationRule forgets a rule, with what it had not told yet.
func (q *Q) RemoveNotificationRule(ctx context.Context, id string) error {
	if _, err := q.exec(ctx, `DELETE FROM tellings WHERE rule_id = ?`, id); err != nil {
		return err
	}
	_, err := q.exec(ctx, `DELETE FROM tell_rules WHERE id = ?`, id)
	return err
}

// Telling is one thing that a rule has to tell of, or did.
type Telling struct {
	RuleID   string    `db:"rule_id"`
	About    string    `db:"about"` // what it is told of once
	At       time.Time `db:"at"`
	Event    string    `db:"event"` // one of core.NotificationEvents
	DeviceID string    `db:"device_id"`
	Device   string    `db:"device"`
	JobID    string    `db:"job_id"`
	Batch    string    `db:"batch"`
	Body     []byte    `db:"body"`
	core.Happened
}

// AddTellings keeps what rules have to tell of; what a rule told of already stays told.
func (q *Q) AddTellings(ctx context.Context, all []Telling) error {
	for _, t := range all {
		raw, err := json.Marshal(t.Happened)
		if err != nil {
			return err
		}
		if _, err := q.exec(ctx, `INSERT IGNORE INTO tellings (rule_id, about, at, event, device_id, device, job_id, batch, body) VALUES (?, ?, ?, ?, ?, ?, ?, '', ?)`,
			t.RuleID, t.About, t.At.UTC(), t.Event, t.DeviceID, t.Device, t.JobID, q.keys.Seal("telling", t.RuleID+t.About, raw)); err != nil {
			return err
		}
	}
	return nil
}

// ForgetUntold forgets what a rule has gathered and not told.
func (q *Q) ForgetUntold(ctx context.Context, ruleID string) error {
	_, err := q.exec(ctx, `DELETE FROM tellings WHERE rule_id = ? AND batch = ''`, ruleID)
	return err
}

// Untold is how much a rule has gathered.
type Untold struct {
	RuleID string    `db:"rule_id"`
	Since  time.Time `db:"since"`
	N      int       `db:"n"`
}

// AllUntold lists the rules that have something to tell.
func (q *Q) AllUntold(ctx context.Context) ([]Untold, error) {
	return list[Untold](ctx, q.ext, `SELECT rule_id, MIN(at) AS since, COUNT(*) AS n FROM tellings WHERE batch = '' GROUP BY rule_id`)
}

// Untold lists what a rule has to tell, oldest first.
func (q *Q) Untold(ctx context.Context, ruleID string, limit int) ([]Telling, error) {
	all, err := list[Telling](ctx, q.ext, `SELECT rule_id, about, at, event, device_id, device, job_id, batch, body FROM tellings WHERE batch = '' AND rule_id = ? ORDER BY at, about LIMIT ?`, ruleID, limit)
	if err != nil {
		return nil, err
	}
	var out []Telling
	for i := range all {
		raw, e := q.keys.Open("telling", all[i].RuleID+all[i].About, all[i].Body)
		if e == nil {
			e = json.Unmarshal(raw, &all[i].Happened)
		}
		if e != nil { // it was changed where it lies: what is known of it without is told
			all[i].Happened = core.Happened{Says: "what is known of it besides does not open"}
		}
		out = append(out, all[i])
	}
	return out, nil
}

// Tell notes what was told with a batch. false: somebody else tells it.
func (q *Q) Tell(ctx context.Context, batch, ruleID string, abouts []string) (bool, error) {
	query, args, err := in(`UPDATE tellings SET batch = ? WHERE rule_id = ? AND batch = '' AND about IN (?)`, batch, ruleID, abouts)
	if err != nil {
		return false, err
	}
	n, err := q.exec(ctx, query, args...)
	return int(n) == len(abouts), err
}

// Message is something that is to be sent to somebody, or was.
type Message struct {
	ID          string     `db:"id"`
	Rule        string     `db:"rule"`
	RecipientID string     `db:"recipient_id"`
	Recipient   string     `db:"recipient"`
	Address     string     `db:"address"` // of a mail
	Batch       string     `db:"batch"`   // what is told; several recipients are told the same
	MadeAt      time.Time  `db:"made_at"`
	State       string     `db:"state"` // one of core.MessageStates
	NextAt      *time.Time `db:"next_at"`
	Tries       int        `db:"tries"`
	Handed      bool       `db:"handed"` // it was being handed over when the last try ended, so it may have come
	EndedAt     *time.Time `db:"ended_at"`
	Trouble     string     `db:"trouble"`
	Body        []byte     `db:"body"`
	Shut        bool       `db:"-"` // it does not open: it was changed where it lies
	core.Told
}

const messageColumns = `SELECT id, rule, recipient_id, recipient, address, batch, made_at, state, next_at, tries, handed, ended_at, trouble, body FROM messages `

func (q *Q) openTold(all []Message, err error) ([]Message, error) {
	for i := range all {
		raw, e := q.keys.Open("message", all[i].ID, all[i].Body)
		if e == nil {
			e = json.Unmarshal(raw, &all[i].Told)
		}
		if e != nil { // it was changed where it lies: the others are sent all the same
			all[i].Told, all[i].Shut = core.Told{Subject: "‹this message does not open›"}, true
		}
	}
	return all, err
}

// AddMessage puts a message into the outbox.
func (q *Q) AddMessage(ctx context.Context, m Message) error {
	now := q.clock().UTC()
	m.ID = NewID(now)
	raw, err := json.Marshal(m.Told)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO messages (id, rule, recipient_id, recipient, address, batch, made_at, state, next_at, tries, handed, trouble, body) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 0, FALSE, '', ?)`,
		m.ID, m.Rule, m.RecipientID, m.Recipient, m.Address, m.Batch, now, core.ToBeSent, now, q.keys.Seal("message", m.ID, raw))
	return err
}

// DueMessages lists the messages that are to be sent now.
func (q *Q) DueMessages(ctx context.Context, limit int) ([]Message, error) {
	return q.openTold(list[Message](ctx, q.ext, messageColumns+`WHERE next_at <= ? ORDER BY next_at LIMIT ?`, q.clock().UTC(), limit))
}

// Messages lists the outbox, newest first, from before an id (empty: from the newest).
// state narrows it.
func (q *Q) Messages(ctx context.Context, state, before string, limit int) ([]Message, error) {
	return q.openTold(list[Message](ctx, q.ext, messageColumns+`WHERE (? = '' OR state = ?) AND (? = '' OR id < ?) ORDER BY id DESC LIMIT ?`, state, state, before, before, limit))
}

// Message returns one.
func (q *Q) Message(ctx context.Context, id string) (Message, error) {
	all, err := q.openTold(list[Message](ctx, q.ext, messageColumns+`WHERE id = ?`, id))
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("message %q: %w", id, ErrNotFound)
	}
	if err != nil {
		return Message{}, err
	}
	return all[0], nil
}

// TakeMessage takes a message to be sent until some time. Of several who try it tells one
// that it was it.
func (q *Q) TakeMessage(ctx context.Context, m Message, until time.Time) (bool, error) {
	n, err := q.exec(ctx, `UPDATE messages SET held = TRUE, next_at = ?, tries = tries + 1 WHERE id = ? AND state = ? AND next_at = ? AND tries = ?`, until.UTC(), m.ID, core.ToBeSent, m.NextAt, m.Tries)
	return n == 1, err
}

// HandMessage notes that a message is about to be handed over.
func (q *Q) HandMessage(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `UPDATE messages SET handed = TRUE WHERE id = ?`, id)
	return err
}

// MessageSent notes that it was taken.
func (q *Q) MessageSent(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `UPDATE messages SET state = ?, next_at = NULL, ended_at = ?, trouble = '', handed = FALSE, held = FALSE WHERE id = ?`, core.Sent, q.clock().UTC(), id)
	return err
}

// MessageFailed notes why it was not taken, and when it is tried again; nil: it is failed.
// handed says that it may have come all the same.
func (q *Q) MessageFailed(ctx context.Context, id, trouble string, handed bool, next *time.Time) error {
	state, ended := core.ToBeSent, (*time.Time)(nil)
	if next == nil {
		now := q.clock().UTC()
		state, ended = core.GivenUp, &now
	}
	_, err := q.exec(ctx, `UPDATE messages SET state = ?, next_at = ?, ended_at = ?, trouble = ?, handed = ?, held = FALSE WHERE id = ? AND state = ?`, state, next, ended, shorten(trouble, 512), handed, id, core.ToBeSent)
	return err
}

// RetryMessage has a message tried now that waits or was failed. Any other is left as it is,
// and one that is being sent to whoever sends it.
func (q *Q) RetryMessage(ctx context.Context, id string) (bool, error) {
	now := q.clock().UTC()
	n, err := q.exec(ctx, `UPDATE messages SET state = ?, next_at = ?, ended_at = NULL, held = FALSE WHERE id = ? AND state IN (?, ?) AND NOT (held AND next_at > ?)`,
		core.ToBeSent, now, id, core.ToBeSent, core.GivenUp, now)
	return n == 1, err
}

// Unsent counts the messages that wait since before a time, and those that were failed since
// another.
func (q *Q) Unsent(ctx context.Context, before, since time.Time) (late, givenUp int, err error) {
	if late, err = get[int](ctx, q.ext, `SELECT COUNT(*) FROM messages WHERE next_at IS NOT NULL AND made_at < ?`, before.UTC()); err == nil {
		givenUp, err = get[int](ctx, q.ext, `SELECT COUNT(*) FROM messages WHERE state = ? AND ended_at > ?`, core.GivenUp, since.UTC())
	}
	return late, givenUp, err
}

// ForgetTold removes what was told long ago.
func (q *Q) ForgetTold(ctx context.Context, messages, tellings time.Time) error {
	_, err := q.exec(ctx, `DELETE FROM messages WHERE made_at < ? AND next_at IS NULL LIMIT 1000`, messages.UTC())
	if err == nil {
		_, err = q.exec(ctx, `DELETE FROM tellings WHERE at < ? AND batch <> '' LIMIT 1000`, tellings.UTC())
	}
	return err
}

// PartDevices lists the devices of the jobs that a job began.
func (q *Q) PartDevices(ctx context.Context, jobID string) ([]string, error) {
	return list[string](ctx, q.ext, `SELECT DISTINCT device_id FROM jobs WHERE part_of = ? AND device_id <> '' LIMIT 1000`, jobID)
}

// ProblemDevices lists the devices of the jobs that one began and that did not end well.
func (q *Q) ProblemDevices(ctx context.Context, jobID string) ([]string, error) {
	query, args, err := in(`SELECT DISTINCT device_id FROM jobs WHERE part_of = ? AND state = 'ended' AND outcome NOT IN (?) LIMIT 1000`, jobID, core.Well)
	if err != nil {
		return nil, err
	}
	return list[string](ctx, q.ext, query, args...)
}
