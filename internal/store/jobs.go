package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/pack"
)

const jobColumns = `SELECT id, kind, device_id, device, state, outcome, summary, actor, actor_id, granted, created_at, started_at, ended_at, cancel, instance, incarnation, tries, undo_of, part_of, due_at, awaits, decision, decided_by, for_instance, request, result FROM jobs `

// NewJob is a job to be queued. Its request is kept sealed. However often a job
// is asked for with one key, it is one.
type NewJob struct {
	core.Job
	Wants any
	Key   Key
	Old   bool // it was asked for before: the job is the earlier one
}

// Key makes asking twice ask once. The zero Key does nothing.
type Key struct {
	words string // what is kept
	older string // what an earlier version kept instead
	hash  string // of the request; empty for the service's own
}

// KeyOf is the key that somebody gave with a request. hash binds it to what was
// asked for.
func KeyOf(actor core.Actor, given, hash string) Key {
	if given == "" {
		return Key{}
	}
	return Key{words: "u " + actor.ID + " " + given, hash: hash}
}

// OwnKey is a key of the service's own, which nobody else can give.
func OwnKey(actor core.Actor, words string) Key {
	return Key{words: "s " + words, older: actor.ID + " " + words}
}

// For is the key's share for one of the jobs that a request makes.
func (k Key) For(subject string) Key {
	if k.words != "" {
		k.words += " " + subject
	}
	k.hash = ""
	return k
}

// Once notes down what a key was used for. ErrKeyUsed says that it was another
// request.
func (q *Q) Once(ctx context.Context, k Key) error {
	if k.words == "" || k.hash == "" {
		return nil
	}
	if _, err := q.exec(ctx, `INSERT IGNORE INTO asked (idem_key, hash, at) VALUES (?, ?, ?)`, k.words, k.hash, q.clock().UTC()); err != nil {
		return err
	}
	kept, err := get[string](ctx, q.ext, `SELECT hash FROM asked WHERE idem_key = ? FOR UPDATE`, k.words)
	if err == nil && kept != k.hash {
		err = ErrKeyUsed
	}
	return err
}

// AddJob queues a job.
func (q *Q) AddJob(ctx context.Context, j *NewJob) error {
	all := []NewJob{*j}
	err := q.AddJobs(ctx, all)
	*j = all[0]
	return err
}

// AddJobs queues jobs, and fills in what they are now.
func (q *Q) AddJobs(ctx context.Context, all []NewJob) error {
	if q.room != nil {
		if err := q.room(); err != nil {
			return err
		}
	}
	const atOnce = 200
	now := q.clock().UTC()
	ids := newIDs(now, len(all))
	var rows []any
	flush := func() error {
		const columns = 13
		n := len(rows) / columns
		if n == 0 {
			return nil
		}
		_, err := q.exec(ctx, `INSERT INTO jobs (outcome, summary, cancel, instance, incarnation, tries, result, id, kind, device_id, device, state, actor, actor_id, granted, created_at, undo_of, for_instance, idem_key, request)
			VALUES `+values(`('', '', FALSE, '', '', 0, '', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, n), rows...)
		rows = rows[:0]
		return err
	}
	earlier, err := q.askedBefore(ctx, all)
	if err != nil {
		return err
	}
	for i := range all {
		j := &all[i]
		var idem any
		if j.Key.words != "" {
			idem = j.Key.words
			if old, asked := earlier[j.Key.words]; asked {
				j.Job, j.Old = old, true
				continue
			}
		}
		raw, err := json.Marshal(j.Wants)
		if err != nil {
			return err
		}
		j.ID, j.State, j.CreatedAt, j.Actor, j.ActorID = ids[i], core.Queued, now, q.actor.Name, q.actor.ID
		j.Request = q.keys.Seal("job request", j.ID, raw)
		if j.Granted = nil; q.actor.ID != "" {
			grant, err := json.Marshal(granted{q.actor.Role, q.actor.Secrets, q.actor.Scopes})
			if err != nil {
				return err
			}
			j.Granted = q.keys.Seal("grant", j.ID, grant)
		}
		rows = append(rows, j.ID, j.Kind, j.DeviceID, j.Device, j.State, j.Actor, j.ActorID, j.Granted, j.CreatedAt, j.UndoOf, j.ForInstance, idem, j.Request)
		if (i+1)%atOnce == 0 {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

// askedBefore lists, by the words of their keys, the jobs that were asked for before, and notes down what the
// keys are used for: ErrKeyUsed says that one was for another request. It asks once for many, but for keys that
// people gave, of which a request has one.
func (q *Q) askedBefore(ctx context.Context, all []NewJob) (map[string]core.Job, error) {
	out, shorter := map[string]core.Job{}, map[string]string{}
	var words []string
	for _, j := range all {
		if j.Key.words == "" {
			continue
		}
		if j.Key.hash != "" {
			if err := q.Once(ctx, j.Key); err != nil {
				return nil, err
			}
			if _, _, err := q.Asked(ctx, j.Key); err != nil {
				return nil, err
			}
		}
		words = append(words, j.Key.words)
		if j.Key.older != "" {
			words = append(words, j.Key.older)
			shorter[j.Key.older] = j.Key.words
		}
	}
	type row struct {
		core.Job
		Idem string `db:"idem_key"`
	}
	for part := range slices.Chunk(words, 500) {
		query, args, err := in(strings.Replace(jobColumns, "SELECT ", "SELECT idem_key, ", 1)+`WHERE idem_key IN (?)`, part)
		if err != nil {
			return nil, err
		}
		rows, err := list[row](ctx, q.ext, query, args...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[cmp.Or(shorter[r.Idem], r.Idem)] = r.Job
		}
	}
	return out, nil
}

// granted is what is kept of who asked for a job: what they might then.
type granted struct {
	Role    string   `json:"role"`
	Secrets bool     `json:"secrets"`
	Scopes  []string `json:"scopes,omitempty"`
}

// Grant is under what a job was asked for. Of a job of which nothing is kept, or what is kept does not
// open, it is that of an operator who may not see secrets: what is not known grants nothing.
func (q *Q) Grant(j core.Job) core.Actor {
	least := core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Operator}
	if j.Granted == nil {
		return least
	}
	var g granted
	raw, err := q.keys.Open("grant", j.ID, j.Granted)
	if err == nil {
		err = json.Unmarshal(raw, &g)
	}
	if err != nil {
		least.Role = core.Reader
		return least
	}
	return core.Actor{ID: j.ActorID, Name: j.Actor, Role: g.Role, Secrets: g.Secrets, Scopes: g.Scopes}
}

// Asked returns the job that a key was used for; ok is false when it was for
// none. ErrKeyUsed says that it was for another request.
func (q *Q) Asked(ctx context.Context, k Key) (j core.Job, ok bool, err error) {
	if k.words == "" {
		return j, false, nil
	}
	hash, err := get[string](ctx, q.ext, `SELECT hash FROM asked WHERE idem_key = ?`, k.words)
	if err == nil && k.hash != "" && hash != k.hash {
		err = ErrKeyUsed
	}
	if err != nil && !errors.Is(err, ErrNotFound) {
		return j, false, err
	}
	j, err = get[core.Job](ctx, q.ext, jobColumns+`WHERE idem_key IN (?, ?) LIMIT 1`, k.words, cmp.Or(k.older, k.words))
	if errors.Is(err, ErrNotFound) {
		return j, false, nil
	}
	return j, err == nil, err
}

// OpenRequest reads a job's request.
func (q *Q) OpenRequest(j core.Job, into any) error {
	raw, err := q.keys.Open("job request", j.ID, j.Request)
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, into)
}

// sealResult makes a job's result ready to be kept; nil is none.
func (q *Q) sealResult(id string, result any) ([]byte, error) {
	if result == nil {
		return []byte{}, nil
	}
	raw, err := json.Marshal(result)
	return q.keys.Seal("job result", id, raw), err
}

// OpenResult reads a job's result, if it has one, or says that it does not open (ErrDamaged).
func (q *Q) OpenResult(j core.Job, into any) error {
	if len(j.Result) == 0 {
		return nil
	}
	raw, err := q.keys.Open("job result", j.ID, j.Result)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return json.Unmarshal(raw, into)
}

// idLength is how many characters an id has; leastBeginning how many at least
// name it.
const idLength, leastBeginning = 16, 4

// JobID completes the beginning of a job's id, if it is the beginning of one only.
func (q *Q) JobID(ctx context.Context, beginning string) (string, error) {
	none := fmt.Errorf("job %q: %w", beginning, ErrNotFound)
	if len(beginning) >= idLength {
		return beginning, nil
	}
	if len(beginning) < leastBeginning || strings.Trim(beginning, "0123456789abcdefghjkmnpqrstvwxyz") != "" {
		return "", none
	}
	ids, err := list[string](ctx, q.ext, `SELECT id FROM jobs WHERE id >= ? AND id <= ? ORDER BY id DESC LIMIT 4`, beginning, beginning+strings.Repeat("z", idLength-len(beginning)))
	switch {
	case err != nil:
		return "", err
	case len(ids) == 0:
		return "", none
	case len(ids) == 1:
		return ids[0], nil
	}
	more := ""
	if len(ids) == 4 {
		ids, more = ids[:3], " and others"
	}
	return "", fmt.Errorf("job %q: %w: more than one begins like that: %s%s", beginning, ErrAmbiguous, strings.Join(ids, ", "), more)
}

// ErrAmbiguous is returned for the beginning of more than one id.
var ErrAmbiguous = errors.New("not clear")

// Job returns a job by its id.
func (q *Q) Job(ctx context.Context, id string) (core.Job, error) {
	j, err := get[core.Job](ctx, q.ext, jobColumns+`WHERE id = ?`, id)
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("job %q: %w", id, ErrNotFound)
	}
	return j, err
}

// JobsStand reads how jobs stand, by id: state, outcome and summary.
func (q *Q) JobsStand(ctx context.Context, ids []string) (map[string]core.Job, error) {
	out := map[string]core.Job{}
	for part := range slices.Chunk(ids, 500) {
		query, args, err := in(`SELECT id, state, outcome, summary FROM jobs WHERE id IN (?)`, part)
		if err != nil {
			return nil, err
		}
		rows, err := list[core.Job](ctx, q.ext, query, args...)
		if err != nil {
			return nil, err
		}
		for _, j := range rows {
			out[j.ID] = j
		}
	}
	return out, nil
}

// JobFilter narrows a list of jobs.
type JobFilter struct {
	Before string // ids below this one
	State  string
	Kind   string
	Device string // name
	PartOf string // the job that began them

	Outcome      string
	Actor        string
	Since, Until time.Time // when they were asked for; zero: at any time
	DeviceIDs    []string  // of these only; nil: of any
	Limit        int
}

// Jobs lists jobs, newest first.
func (q *Q) Jobs(ctx context.Context, f JobFilter) ([]core.Job, error) {
	query, args := jobColumns+`WHERE TRUE`, []any{}
	for _, c := range []struct{ column, value string }{{"id < ?", f.Before}, {"state = ?", f.State}, {"kind = ?", f.Kind}, {"device = ?", f.Device}, {"part_of = ?", f.PartOf}, {"outcome = ?", f.Outcome}, {"actor = ?", f.Actor}} {
		if c.value != "" {
			query, args = query+" AND "+c.column, append(args, c.value)
		}
	}
	for _, c := range []struct {
		column string
		at     time.Time
	}{{"created_at >= ?", f.Since}, {"created_at <= ?", f.Until}} {
		if !c.at.IsZero() {
			query, args = query+" AND "+c.column, append(args, c.at.UTC())
		}
	}
	if f.DeviceIDs != nil {
		query, args = query+" AND device_id IN (?)", append(args, f.DeviceIDs)
	}
	query, args, err := in(query+` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)...)
	if err != nil {
		return nil, err
	}
	return list[core.Job](ctx, q.ext, query, args...)
}

// usualOf is how many past jobs tell how long one takes.
const usualOf = 9

// Usual is how long a job like this one usually takes: the middle one of the last of its
// kind, about its device, that came to a good end; 0 where there are none.
func (q *Q) Usual(ctx context.Context, j core.Job) (time.Duration, error) {
	query, args, err := in(jobColumns+`WHERE device_id = ? AND device = ? AND kind = ? AND state = 'ended' AND outcome IN (?) AND started_at IS NOT NULL ORDER BY id DESC LIMIT ?`, j.DeviceID, j.Device, j.Kind, core.Well, usualOf)
	if err != nil {
		return 0, err
	}
	rows, err := list[core.Job](ctx, q.ext, query, args...)
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	var took []time.Duration
	for _, r := range rows {
		took = append(took, r.EndedAt.Sub(*r.StartedAt))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

// TakeJobs makes up to limit queued jobs this instance's and returns them. Jobs of
// the kinds that yield to others come after those, and fewer, where their device
// failed lately; which they are is returned too.
func (q *Q) TakeJobs(ctx context.Context, instance, incarnation string, limit int, kinds []string, fewer int) ([]core.Job, map[string]bool, error) {
	const failed = `(kind IN (?) AND device_id IN (SELECT id FROM devices WHERE state IN (?)))`
	ill := []string{core.Unreachable, core.PullFailing, core.LoginRefused}
	if len(kinds) == 0 {
		kinds = []string{""}
	}
	some := func(which string, limit int) ([]core.Job, error) {
		query, args, err := in(jobColumns+`WHERE state = 'queued' AND for_instance IN ('', ?) AND `+which+` ORDER BY id LIMIT ? FOR UPDATE SKIP LOCKED`, instance, kinds, ill, limit)
		if err != nil {
			return nil, err
		}
		return list[core.Job](ctx, q.ext, query, args...)
	}
	queued, err := some("NOT "+failed, limit)
	if err != nil {
		return nil, nil, err
	}
	yields := map[string]bool{}
	if rest := min(limit-len(queued), fewer); rest > 0 {
		late, err := some(failed, rest)
		if err != nil {
			return nil, nil, err
		}
		for _, j := range late {
			yields[j.ID] = true
		}
		queued = append(queued, late...)
	}
	if len(queued) == 0 {
		return nil, nil, nil
	}
	now := q.clock().UTC()
	ids := make([]string, len(queued))
	for i := range queued {
		ids[i] = queued[i].ID
		take(&queued[i], instance, incarnation, now)
	}
	query, args, err := in(`UPDATE jobs SET state = 'running', instance = ?, incarnation = ?, tries = tries + 1, started_at = ? WHERE id IN (?)`, instance, incarnation, now, ids)
	if err != nil {
		return nil, nil, err
	}
	_, err = q.exec(ctx, query, args...)
	return queued, yields, err
}

// TakeJob makes a queued job this instance's.
func (q *Q) TakeJob(ctx context.Context, j *core.Job, instance, incarnation string) error {
	now := q.clock().UTC()
	n, err := q.exec(ctx, `UPDATE jobs SET state = 'running', instance = ?, incarnation = ?, tries = tries + 1, started_at = ? WHERE id = ? AND state = 'queued'`, instance, incarnation, now, j.ID)
	if err != nil {
		return err
	}
	if n == 0 {
		return ErrNotFound
	}
	take(j, instance, incarnation, now)
	return nil
}

func take(j *core.Job, instance, incarnation string, now time.Time) {
	j.State, j.Instance, j.Incarnation, j.Tries, j.StartedAt = core.Running, instance, incarnation, j.Tries+1, &now
}

// Unended lists jobs that are running or waiting, but for those that are
// parked: of each, who holds it.
func (q *Q) Unended(ctx context.Context) ([]core.Job, error) {
	return list[core.Job](ctx, q.ext, `SELECT id, kind, instance, incarnation FROM jobs WHERE state IN ('running', 'waiting') AND instance <> '' ORDER BY id`)
}

// ParkJob lets a job wait for a decision, or until due, or for whichever comes
// first. awaits says for what. No instance holds it meanwhile.
func (q *Q) ParkJob(ctx context.Context, id, awaits string, due *time.Time, summary string, result any) error {
	sealed, err := q.sealResult(id, result)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `UPDATE jobs SET state = 'waiting', instance = '', incarnation = '', awaits = ?, due_at = ?, decision = '', decided_by = '', summary = ?, result = ? WHERE id = ? AND state <> 'ended'`,
		awaits, due, summary, sealed, id)
	return err
}

// DecideJob says what becomes of a parked job that waits for one of these. It
// returns false when it is too late for that, or when the job waits for something
// else.
func (q *Q) DecideJob(ctx context.Context, id, decision string, awaits []string) (bool, error) {
	query, args, err := in(`UPDATE jobs SET decision = ?, decided_by = ? WHERE id = ? AND state = 'waiting' AND instance = '' AND decision = '' AND NOT cancel AND (due_at IS NULL OR due_at > ?) AND awaits IN (?)`,
		decision, q.actor.Name, id, q.clock().UTC(), awaits)
	if err != nil {
		return false, err
	}
	n, err := q.exec(ctx, query, args...)
	return n > 0, err
}

// SetResult keeps what is known so far of what a job led to.
func (q *Q) SetResult(ctx context.Context, id string, result any) error {
	sealed, err := q.sealResult(id, result)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `UPDATE jobs SET result = ? WHERE id = ? AND state <> 'ended'`, sealed, id)
	return err
}

// Decided tells whether a parked job is to be taken up.
func (q *Q) Decided(ctx context.Context) (bool, error) {
	return get[bool](ctx, q.ext, `SELECT EXISTS (SELECT 1 FROM jobs WHERE state = 'waiting' AND instance = '' AND (decision <> '' OR cancel OR due_at <= ?))`, q.clock().UTC())
}

// WaitedFor lists the instances that jobs not yet begun wait for.
func (q *Q) WaitedFor(ctx context.Context) ([]string, error) {
	return list[string](ctx, q.ext, `SELECT DISTINCT for_instance FROM jobs WHERE state = 'queued' AND for_instance <> ''`)
}

// FreeJobs lets any instance take the jobs not yet begun that wait for one.
func (q *Q) FreeJobs(ctx context.Context, instance string) error {
	_, err := q.exec(ctx, `UPDATE jobs SET for_instance = '' WHERE state = 'queued' AND for_instance = ?`, instance)
	return err
}

// Unpark makes parked jobs that are decided, cancelled or due this instance's, but
// for those of which another instance that lives is better placed.
func (q *Q) Unpark(ctx context.Context, instance, incarnation string, lives func(instance string) bool) ([]core.Job, error) {
	jobs, err := list[core.Job](ctx, q.ext, jobColumns+`WHERE state = 'waiting' AND instance = '' AND (decision <> '' OR cancel OR due_at <= ?) ORDER BY id LIMIT 16 FOR UPDATE SKIP LOCKED`, q.clock().UTC())
	if err != nil {
		return nil, err
	}
	jobs = slices.DeleteFunc(jobs, func(j core.Job) bool { return j.ForInstance != "" && j.ForInstance != instance && lives(j.ForInstance) })
	for i := range jobs {
		if _, err := q.exec(ctx, `UPDATE jobs SET state = 'running', instance = ?, incarnation = ? WHERE id = ?`, instance, incarnation, jobs[i].ID); err != nil {
			return nil, err
		}
		jobs[i].State, jobs[i].Instance, jobs[i].Incarnation = core.Running, instance, incarnation
	}
	return jobs, nil
}

// HoldJob locks a job for the rest of the transaction, and tells whether it is
// this instance's in this incarnation of it.
func (q *Q) HoldJob(ctx context.Context, id, instance, incarnation string) (bool, error) {
	type holder struct {
		Instance    string `db:"instance"`
		Incarnation string `db:"incarnation"`
	}
	h, err := get[holder](ctx, q.ext, `SELECT instance, incarnation FROM jobs WHERE id = ? AND state <> 'ended' FOR UPDATE`, id)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return h.Instance == instance && h.Incarnation == incarnation, err
}

// AdoptJob gives a job of an instance that died to this one, which counts as a try, and
// reads it whole. It tells whether it was still to be had.
func (q *Q) AdoptJob(ctx context.Context, j *core.Job, instance, incarnation, state string) (bool, error) {
	n, err := q.exec(ctx, `UPDATE jobs SET state = ?, instance = ?, incarnation = ?, tries = tries + 1 WHERE id = ? AND instance = ? AND incarnation = ? AND state IN ('running', 'waiting')`, state, instance, incarnation, j.ID, j.Instance, j.Incarnation)
	if err == nil && n > 0 {
		*j, err = q.Job(ctx, j.ID)
	}
	return n > 0, err
}

// SetJobState changes a job between running and waiting.
func (q *Q) SetJobState(ctx context.Context, id, state, summary string) error {
	_, err := q.exec(ctx, `UPDATE jobs SET state = ?, summary = ? WHERE id = ? AND state <> 'ended'`, state, summary, id)
	return err
}

// EndJob ends a job, once. summary holds no configuration text; result is kept
// sealed.
func (q *Q) EndJob(ctx context.Context, id, outcome, summary string, result any) error {
	sealed, err := q.sealResult(id, result)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `UPDATE jobs SET state = 'ended', outcome = ?, summary = ?, ended_at = ?, result = ? WHERE id = ? AND state <> 'ended'`,
		outcome, summary, q.clock().UTC(), sealed, id)
	return err
}

// CancelJob asks a job to stop. A queued one ends at once.
func (q *Q) CancelJob(ctx context.Context, id string) error {
	n, err := q.exec(ctx, `UPDATE jobs SET state = 'ended', outcome = 'cancelled', summary = 'cancelled before it began', ended_at = ?, cancel = TRUE WHERE id = ? AND state = 'queued'`, q.clock().UTC(), id)
	if err != nil || n > 0 {
		return err
	}
	_, err = q.exec(ctx, `UPDATE jobs SET cancel = TRUE WHERE id = ? AND state <> 'ended'`, id)
	return err
}

// Cancelled lists which of the jobs are asked to stop.
func (q *Q) Cancelled(ctx context.Context, ids []string) ([]string, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := in(`SELECT id FROM jobs WHERE cancel AND id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	return list[string](ctx, q.ext, query, args...)
}

// DropEntries takes a job's log away.
func (q *Q) DropEntries(ctx context.Context, jobID string) error {
	_, err := q.exec(ctx, `DELETE FROM job_log WHERE job_id = ?`, jobID)
	return err
}

// AddEntries writes lines of a job's log.
func (q *Q) AddEntries(ctx context.Context, jobID string, entries []core.Entry) error {
	for len(entries) > 0 {
		n := min(len(entries), 50)
		var args []any
		for _, e := range entries[:n] {
			raw, err := json.Marshal(e)
			if err != nil {
				return err
			}
			args = append(args, jobID, e.Seq, q.keys.Seal("job log", fmt.Sprintf("%s %d", jobID, e.Seq), raw))
		}
		// One that is there was written before, and the answer got lost.
		if _, err := q.exec(ctx, `INSERT IGNORE INTO job_log (job_id, seq, sealed) VALUES `+values("(?, ?, ?)", n), args...); err != nil {
			return err
		}
		entries = entries[n:]
	}
	return nil
}

// LastEntry returns the highest sequence number of a job's log.
func (q *Q) LastEntry(ctx context.Context, jobID string) (int, error) {
	return get[int](ctx, q.ext, `SELECT COALESCE(MAX(seq), 0) FROM job_log WHERE job_id = ?`, jobID)
}

// Entries reads a job's log from after a sequence number on.
func (q *Q) Entries(ctx context.Context, jobID string, after, limit int) ([]core.Entry, error) {
	type row struct {
		Seq    int    `db:"seq"`
		Sealed []byte `db:"sealed"`
	}
	rows, err := list[row](ctx, q.ext, `SELECT seq, sealed FROM job_log WHERE job_id = ? AND seq > ? ORDER BY seq LIMIT ?`, jobID, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]core.Entry, len(rows))
	for i, r := range rows {
		raw, err := q.keys.Open("job log", fmt.Sprintf("%s %d", jobID, r.Seq), r.Sealed)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(raw, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PutPreview keeps a preview, sealed, and returns its id.
func (q *Q) PutPreview(ctx context.Context, deviceID, jobID, hash string, preview any) (string, error) {
	id := NewID(q.clock())
	raw, err := json.Marshal(preview)
	if err != nil {
		return "", err
	}
	_, err = q.exec(ctx, `INSERT INTO previews (id, device_id, job_id, hash, made_at, sealed) VALUES (?, ?, ?, ?, ?, ?)`,
		id, deviceID, jobID, hash, q.clock().UTC(), q.keys.Seal("preview", id, pack.Alone(raw)))
	return id, err
}

// PreviewRow is what is known of a preview without opening it.
type PreviewRow struct {
	ID       string    `db:"id"`
	DeviceID string    `db:"device_id"`
	JobID    string    `db:"job_id"`
	Hash     string    `db:"hash"`
	MadeAt   time.Time `db:"made_at"`
	Sealed   []byte    `db:"sealed"`
}

// Preview opens a preview.
func (q *Q) Preview(ctx context.Context, id string, into any) (PreviewRow, error) {
	r, err := get[PreviewRow](ctx, q.ext, `SELECT id, device_id, job_id, hash, made_at, sealed FROM previews WHERE id = ?`, id)
	if err != nil {
		return r, fmt.Errorf("preview %q: %w", id, err)
	}
	packed, err := q.keys.Open("preview", id, r.Sealed)
	if err != nil {
		return r, err
	}
	raw, err := pack.Unpack(packed, nil)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(raw, into)
}

// Journal is how far a push has come. Lines are counted from 1 within a phase.
type Journal struct {
	JobID     string    `db:"job_id"`
	DeviceID  string    `db:"device_id"`
	PreviewID string    `db:"preview_id"`
	BeforeID  string    `db:"before_id"` // the version kept before the push
	Phase     string    `db:"phase"`     // the push machine's
	Total     int       `db:"total"`
	Announced int       `db:"announced"` // about to be sent, or sent
	Answered  int       `db:"answered"`  // sent, and the device took it
	ChangedAt time.Time `db:"changed_at"`

	UndoBy string     `db:"undo_by"` // what takes it back: commit or timer, the device's own; service; empty: nothing
	Token  string     `db:"token"`   // by which the device knows its own undo again
	Due    *time.Time `db:"due_at"`  // when it is undone unless it is confirmed
	State  *string    `db:"state"`   // all that decides what comes next, as JSON; nil: left by a program that kept none
}

// PutJournal writes how far a push has come, and its state. It is written before
// the deed.
func (q *Q) PutJournal(ctx context.Context, j Journal, state any) error {
	raw, err := json.Marshal(state)
	if err != nil {
		return err
	}
	_, err = q.exec(ctx, `INSERT INTO pushes (job_id, device_id, preview_id, before_id, phase, total, announced, answered, changed_at, undo_by, token, due_at, state) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE before_id = VALUES(before_id), phase = VALUES(phase), total = VALUES(total), announced = VALUES(announced), answered = VALUES(answered), changed_at = VALUES(changed_at),
		undo_by = VALUES(undo_by), token = VALUES(token), due_at = VALUES(due_at), state = VALUES(state)`,
		j.JobID, j.DeviceID, j.PreviewID, j.BeforeID, j.Phase, j.Total, j.Announced, j.Answered, q.clock().UTC(), j.UndoBy, j.Token, j.Due, string(raw))
	return err
}

// PreviewOf returns the preview that a push does what it shows of; empty for other jobs.
func (q *Q) PreviewOf(ctx context.Context, jobID string) (string, error) {
	id, err := get[string](ctx, q.ext, `SELECT preview_id FROM pushes WHERE job_id = ?`, jobID)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return id, err
}

// Journal reads how far a push had come, and its state into what it is given. saved
// is false where none was kept.
func (q *Q) Journal(ctx context.Context, jobID string, into any) (j Journal, saved bool, err error) {
	j, err = get[Journal](ctx, q.ext, `SELECT job_id, device_id, preview_id, before_id, phase, total, announced, answered, changed_at, undo_by, token, due_at, state FROM pushes WHERE job_id = ?`, jobID)
	if err != nil || j.State == nil || into == nil {
		return j, false, err
	}
	return j, true, json.Unmarshal([]byte(*j.State), into)
}

// Claim gives a device to one open push. It returns the job that has it
// already, if one does.
func (q *Q) Claim(ctx context.Context, deviceID, jobID string) (holder string, err error) {
	_, err = q.exec(ctx, `INSERT INTO claims (device_id, job_id, since) VALUES (?, ?, ?)`, deviceID, jobID, q.clock().UTC())
	if !errors.Is(err, ErrTaken) {
		return "", err
	}
	holder, err = get[string](ctx, q.ext, `SELECT job_id FROM claims WHERE device_id = ?`, deviceID)
	if holder == jobID {
		holder = ""
	}
	return holder, err
}

// Unclaim ends a push's hold.
func (q *Q) Unclaim(ctx context.Context, jobID string) error {
	_, err := q.exec(ctx, `DELETE FROM claims WHERE job_id = ?`, jobID)
	return err
}

// JobCounts counts the jobs that have not ended, by state.
func (q *Q) JobCounts(ctx context.Context) (map[string]int, error) {
	type row struct {
		State string `db:"state"`
		N     int    `db:"n"`
	}
	rows, err := list[row](ctx, q.ext, `SELECT state, COUNT(*) AS n FROM jobs WHERE state IN ('queued', 'running', 'waiting') GROUP BY state`)
	out := map[string]int{}
	for _, r := range rows {
		out[r.State] = r.N
	}
	return out, err
}
