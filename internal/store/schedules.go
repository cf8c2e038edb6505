package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"magpie/internal/core"
)

// Schedule is what is done by itself, time after time.
type Schedule struct {
	ID          string     `db:"id"`
	Name        string     `db:"name"`
	Rule        string     `db:"rule"` // as package when reads it
	Zone        string     `db:"zone"` // IANA name
	FromAt      time.Time  `db:"from_at"`
	Deeds       string     `db:"deeds"` // JSON
	Selector    string     `db:"selector"`
	SpreadS     int        `db:"spread_s"`  // over how many seconds its devices are spread
	Blackouts   string     `db:"blackouts"` // JSON
	Paused      bool       `db:"paused"`
	Note        string     `db:"note"`
	MadeBy      string     `db:"made_by"`
	MadeAt      time.Time  `db:"made_at"`
	ChangedBy   string     `db:"changed_by"`
	ChangedByID string     `db:"changed_by_id"`
	ChangedAt   time.Time  `db:"changed_at"`
	NextAt      *time.Time `db:"next_at"`
}

// ScheduleRun is one time that a schedule was due.
type ScheduleRun struct {
	ScheduleID string    `db:"schedule_id"`
	DueAt      time.Time `db:"due_at"`
	Schedule   string    `db:"schedule"` // its name then
	JobID      string    `db:"job_id"`   // none: nothing was done
	Missed     int       `db:"missed"`   // how often it was due before and nobody was there; this run makes up for those
	Why        string    `db:"why"`      // nothing was done

	Kind    string     `db:"kind"` // of its job, as the rest
	State   string     `db:"state"`
	Outcome string     `db:"outcome"`
	Summary string     `db:"summary"`
	Actor   string     `db:"actor"`
	EndedAt *time.Time `db:"ended_at"`
}

// UnderWay tells whether what was begun then goes on still.
func (r ScheduleRun) UnderWay() bool {
	return r.JobID != "" && r.State != "" && r.State != core.Ended
}

const scheduleColumns = `SELECT id, name, rule, zone, from_at, deeds, selector, spread_s, blackouts, paused, note, made_by, made_at, changed_by, changed_by_id, changed_at, next_at FROM schedules `

// Schedules lists schedules by name.
func (q *Q) Schedules(ctx context.Context) ([]Schedule, error) {
	return list[Schedule](ctx, q.ext, scheduleColumns+`ORDER BY name`)
}

// Schedule returns the schedule of that name.
func (q *Q) Schedule(ctx context.Context, name string) (Schedule, error) {
	return q.schedule(ctx, name, "")
}

func (q *Q) schedule(ctx context.Context, name, lock string) (Schedule, error) {
	s, err := get[Schedule](ctx, q.ext, scheduleColumns+`WHERE name = ?`+lock, name)
	if errors.Is(err, ErrNotFound) {
		err = q.named(ctx, "schedule", name, `SELECT name FROM schedules`)
	}
	return s, err
}

// LockSchedule returns the schedule of that name; nobody else changes it until the transaction ends.
func (q *Q) LockSchedule(ctx context.Context, name string) (Schedule, error) {
	return q.schedule(ctx, name, " FOR UPDATE")
}

// AddSchedule keeps a new schedule. ErrTaken says that its name is.
func (q *Q) AddSchedule(ctx context.Context, s *Schedule) error {
	now := q.clock().UTC()
	s.ID, s.MadeBy, s.MadeAt = NewID(now), q.actor.Name, now
	s.ChangedBy, s.ChangedByID, s.ChangedAt = q.actor.Name, q.actor.ID, now
	_, err := q.exec(ctx, `INSERT INTO schedules (id, name, rule, zone, from_at, deeds, selector, spread_s, blackouts, paused, note, made_by, made_at, changed_by, changed_by_id, changed_at, next_at)
		VALUES `+values(`(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, 1),
		s.ID, s.Name, s.Rule, s.Zone, s.FromAt, s.Deeds, s.Selector, s.SpreadS, s.Blackouts, s.Paused, s.Note, s.MadeBy, s.MadeAt, s.ChangedBy, s.ChangedByID, s.ChangedAt, s.NextAt)
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("schedule %q: %w", s.Name, ErrTaken)
	}
	return err
}

// EditSchedule keeps what was changed of a schedule.
func (q *Q) EditSchedule(ctx context.Context, s *Schedule) error {
	s.ChangedBy, s.ChangedByID, s.ChangedAt = q.actor.Name, q.actor.ID, q.clock().UTC()
	_, err := q.exec(ctx, `UPDATE schedules SET name = ?, rule = ?, zone = ?, from_at = ?, deeds = ?, selector = ?, spread_s = ?, blackouts = ?, paused = ?, note = ?, changed_by = ?, changed_by_id = ?, changed_at = ?, next_at = ? WHERE id = ?`,
		s.Name, s.Rule, s.Zone, s.FromAt, s.Deeds, s.Selector, s.SpreadS, s.Blackouts, s.Paused, s.Note, s.ChangedBy, s.ChangedByID, s.ChangedAt, s.NextAt, s.ID)
	if errors.Is(err, ErrTaken) {
		err = fmt.Errorf("schedule %q: %w", s.Name, ErrTaken)
	}
	return err
}

// RemoveSchedule forgets a schedule; what it did stays.
func (q *Q) RemoveSchedule(ctx context.Context, id string) error {
	_, err := q.exec(ctx, `DELETE FROM schedules WHERE id = ?`, id)
	return err
}

// DueSchedules lists those that are due by a time, the most overdue first.
func (q *Q) DueSchedules(ctx context.Context, now time.Time, limit int) ([]Schedule, error) {
	return list[Schedule](ctx, q.ext, scheduleColumns+`WHERE next_at <= ? ORDER BY next_at LIMIT ?`, now.UTC(), limit)
}

// Advance moves a schedule from one time that it is due to the next, nil if there is
// none. Of several who try, it tells one that it was it.
func (q *Q) Advance(ctx context.Context, id string, from time.Time, to *time.Time) (bool, error) {
	n, err := q.exec(ctx, `UPDATE schedules SET next_at = ? WHERE id = ? AND next_at = ?`, to, id, from.UTC())
	return n == 1, err
}

// AddRun notes a time that a schedule was due.
func (q *Q) AddRun(ctx context.Context, r ScheduleRun) error {
	_, err := q.exec(ctx, `INSERT INTO schedule_runs (schedule_id, due_at, schedule, job_id, missed, why) VALUES (?, ?, ?, ?, ?, ?)`,
		r.ScheduleID, r.DueAt.UTC(), r.Schedule, r.JobID, r.Missed, shorten(r.Why, 255))
	return err
}

const runColumns = `SELECT r.schedule_id, r.due_at, r.schedule, r.job_id, r.missed, r.why, COALESCE(j.kind, '') AS kind, COALESCE(j.state, '') AS state,
	COALESCE(j.outcome, '') AS outcome, COALESCE(j.summary, '') AS summary, COALESCE(j.actor, '') AS actor, j.ended_at FROM schedule_runs r LEFT JOIN jobs j ON j.id = r.job_id `

// Runs lists the times that schedules were due between two moments, the newest first.
func (q *Q) Runs(ctx context.Context, from, until time.Time, limit int) ([]ScheduleRun, error) {
	return list[ScheduleRun](ctx, q.ext, runColumns+`WHERE r.due_at >= ? AND r.due_at <= ? ORDER BY r.due_at DESC, r.schedule_id LIMIT ?`, from.UTC(), until.UTC(), limit)
}

// LastRun returns the last time that a schedule was due and something was done; a zero
// one if there was none.
func (q *Q) LastRun(ctx context.Context, scheduleID string) (ScheduleRun, error) {
	r, err := get[ScheduleRun](ctx, q.ext, runColumns+`WHERE r.schedule_id = ? AND r.job_id <> '' ORDER BY r.due_at DESC LIMIT 1`, scheduleID)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return r, err
}

// SetPartOf notes that jobs were begun by another.
func (q *Q) SetPartOf(ctx context.Context, ids []string, job string) error {
	if len(ids) == 0 {
		return nil
	}
	query, args, err := in(`UPDATE jobs SET part_of = ? WHERE id IN (?) AND part_of = ''`, job, ids)
	if err == nil {
		_, err = q.exec(ctx, query, args...)
	}
	return err
}

// PartCount is how many jobs that one began stand alike.
type PartCount struct {
	Kind    string `db:"kind"`
	State   string `db:"state"`
	Outcome string `db:"outcome"`
	N       int    `db:"n"`
}

// PartCounts counts the jobs that one began.
func (q *Q) PartCounts(ctx context.Context, job string) ([]PartCount, error) {
	if known, ok := ctx.Value(counted{}).(map[string][]PartCount); ok {
		return known[job], nil
	}
	return list[PartCount](ctx, q.ext, `SELECT kind, state, outcome, COUNT(*) AS n FROM jobs WHERE part_of = ? GROUP BY kind, state, outcome ORDER BY kind, state, outcome`, job)
}

// counted is where a context keeps what CountParts read.
type counted struct{}

// CountParts reads the counts of many jobs at once: PartCounts with the context returned answers for these, and
// for no others, by them.
func (q *Q) CountParts(ctx context.Context, jobs []string) (context.Context, error) {
	out := map[string][]PartCount{}
	type row struct {
		PartOf string `db:"part_of"`
		PartCount
	}
	for part := range slices.Chunk(jobs, 500) {
		query, args, err := in(`SELECT part_of, kind, state, outcome, COUNT(*) AS n FROM jobs WHERE part_of IN (?) GROUP BY part_of, kind, state, outcome
			ORDER BY kind, state, outcome`, part)
		if err != nil {
			return ctx, err
		}
		rows, err := list[row](ctx, q.ext, query, args...)
		if err != nil {
			return ctx, err
		}
		for _, r := range rows {
			out[r.PartOf] = append(out[r.PartOf], r.PartCount)
		}
	}
	return context.WithValue(ctx, counted{}, out), nil
}

// NotWell lists jobs that one began and that did not end well: at most n.
func (q *Q) NotWell(ctx context.Context, job string, n int) ([]core.Job, error) {
	query, args, err := in(jobColumns+`WHERE part_of = ? AND state = 'ended' AND outcome NOT IN (?) ORDER BY id LIMIT ?`, job, core.Well, n)
	if err != nil {
		return nil, err
	}
	return list[core.Job](ctx, q.ext, query, args...)
}

// NotWellCounts counts, for each of some jobs, those that it began and that did not end
// well.
func (q *Q) NotWellCounts(ctx context.Context, jobs []string) (map[string]int, error) {
	type row struct {
		PartOf string `db:"part_of"`
		N      int    `db:"n"`
	}
	out := map[string]int{}
	for part := range slices.Chunk(jobs, 500) {
		query, args, err := in(`SELECT part_of, COUNT(*) AS n FROM jobs WHERE part_of IN (?) AND state = 'ended' AND outcome NOT IN (?) GROUP BY part_of`, part, core.Well)
		if err != nil {
			return nil, err
		}
		rows, err := list[row](ctx, q.ext, query, args...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.PartOf] = r.N
		}
	}
	return out, nil
}
