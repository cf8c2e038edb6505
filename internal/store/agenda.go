package store

import (
	"context"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Bell wakes those who wait for something to be written.
type Bell struct {
	mu sync.Mutex
	c  chan struct{}
}

// Rung is closed at the next ring. Whoever looks at the database takes it before.
func (b *Bell) Rung() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.c == nil {
		b.c = make(chan struct{})
	}
	return b.c
}

// Ring wakes all who wait; without a bell nobody does.
func (b *Bell) Ring() {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.c != nil {
		close(b.c)
		b.c = nil
	}
}

// Topic is a kind of work that the agenda tells of.
type Topic string

// The topics.
const (
	ForJobs      Topic = "jobs"      // to be begun, or taken up
	ForSchedules Topic = "schedules" // due
	ForNotices   Topic = "notices"   // of changes, to be pulled for
	ForMessages  Topic = "messages"  // to be put together, or sent
	ForCopies    Topic = "copies"    // to be made elsewhere
)

// Agenda is what there is to do, whoever wrote it: read by one statement, a few times a minute.
type Agenda struct {
	Due       map[Topic]time.Time // the first time at which there is something to look at; past: now
	Audit     int64               // the number of the audit log's last row
	Dialects  string              // changes with the dialects that came by the API
	Instances []Instance
}

// someTime stands for now in what the agenda reads.
var someTime = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// Agenda reads it for an instance.
func (q *Q) Agenda(ctx context.Context, instance string) (a Agenda, err error) {
	type row struct {
		Queued    bool       `db:"queued"`
		Decided   bool       `db:"decided"`
		Parked    *time.Time `db:"parked"`
		Scheduled *time.Time `db:"scheduled"`
		Noticed   bool       `db:"noticed"`
		Happened  bool       `db:"happened"`
		Untold    bool       `db:"untold"`
		Sending   *time.Time `db:"sending"`
		Copying   bool       `db:"copying"`
		Audit     int64      `db:"audit"`
		Dialects  string     `db:"dialects"`
		Instances string     `db:"instances"`
	}
	r, err := get[row](ctx, q.often(), `SELECT
		EXISTS (SELECT 1 FROM jobs WHERE state = 'queued' AND for_instance IN ('', ?)) AS queued,
		EXISTS (SELECT 1 FROM jobs WHERE state = 'waiting' AND instance = '' AND (decision <> '' OR cancel)) AS decided,
		(SELECT MIN(due_at) FROM jobs WHERE state = 'waiting' AND instance = '') AS parked,
		(SELECT MIN(next_at) FROM schedules) AS scheduled,
		EXISTS (SELECT 1 FROM notices) AS noticed,
		EXISTS (SELECT 1 FROM events) AS happened,
		EXISTS (SELECT 1 FROM tellings t JOIN tell_rules r ON r.id = t.rule_id WHERE t.batch = '' AND NOT r.paused AND r.digest = '') AS untold,
		(SELECT MIN(next_at) FROM messages) AS sending,
		EXISTS (SELECT 1 FROM targets t WHERE NOT t.paused AND (t.next_at IS NULL OR t.next_at <= ?) AND (t.reached_at IS NULL OR t.failing_at IS NOT NULL
			OR EXISTS (SELECT 1 FROM copies c WHERE c.target_id = t.id AND c.state = 'waiting') OR EXISTS (SELECT 1 FROM copies c WHERE c.target_id = t.id AND c.state = 'leaving')
			OR EXISTS (SELECT 1 FROM copies c WHERE c.target_id = t.id AND c.state = 'dropped'))) AS copying,
		COALESCE((SELECT seq FROM audit_end WHERE id = 1), 0) AS audit,
		COALESCE((SELECT GROUP_CONCAT(CONCAT(name, ' ', revision) ORDER BY name, revision) FROM dialects WHERE uploaded), '') AS dialects,
		COALESCE((SELECT GROUP_CONCAT(CONCAT_WS(' ', id, incarnation, beat) ORDER BY id SEPARATOR '\n') FROM instances), '') AS instances`,
		instance, q.clock().UTC())
	if err != nil {
		return a, err
	}
	a = Agenda{Due: map[Topic]time.Time{}, Audit: r.Audit, Dialects: r.Dialects}
	now := func(topic Topic, is bool) {
		if is {
			a.Due[topic] = someTime
		}
	}
	at := func(topic Topic, t *time.Time) {
		if first, known := a.Due[topic]; t != nil && (!known || t.Before(first)) {
			a.Due[topic] = *t
		}
	}
	now(ForJobs, r.Queued || r.Decided)
	at(ForJobs, r.Parked)
	at(ForSchedules, r.Scheduled)
	now(ForNotices, r.Noticed)
	now(ForMessages, r.Happened || r.Untold)
	at(ForMessages, r.Sending)
	now(ForCopies, r.Copying)
	for line := range strings.Lines(r.Instances) {
		words := strings.Fields(line)
		if len(words) != 3 {
			continue
		}
		beat, err := strconv.ParseInt(words[2], 10, 64)
		if err != nil {
			continue
		}
		a.Instances = append(a.Instances, Instance{ID: words[0], Incarnation: words[1], Beat: beat})
	}
	return a, nil
}
