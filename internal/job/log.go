package job

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// resumed opens the log of a job that was begun before.
func (r *Runtime) resumed(jobID string) (*Log, error) {
	last, err := r.Store.As(Service).LastEntry(context.Background(), jobID)
	return &Log{r: r, job: jobID, seq: last, loud: true}, err // what it said before is not read again
}

// Silent is the log of work that is no job.
func (r *Runtime) Silent() *Log { return &Log{r: r} }

// Add adds a line of a kind. masked is what who may not see secrets is shown, where
// that is something else.
func (l *Log) Add(kind, text, masked string) {
	l.entry(core.Entry{Kind: kind, Text: text, Masked: masked})
}

func (l *Log) entry(e core.Entry) {
	if l.job == "" {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.loud = l.loud || e.Kind == "warning" || e.Kind == "trouble"
	l.seq++
	e.Seq, e.At = l.seq, l.r.clock().UTC()
	if e.Masked == e.Text {
		e.Masked = ""
	}
	l.pending = append(l.pending, e)
	if l.timer == nil {
		l.timer = time.AfterFunc(l.pace(), l.Flush)
	}
}

// pace is how long lines may wait to be written: less while somebody watches.
// Watchers at other instances look once a second.
func (l *Log) pace() time.Duration {
	if l.r.Hub.watched(l.job) {
		return 150 * time.Millisecond
	}
	return time.Second
}

// Step says what is being done now.
func (l *Log) Step(format string, args ...any) { l.Add("step", fmt.Sprintf(format, args...), "") }

// Info says what was found.
func (l *Log) Info(format string, args ...any) { l.Add("info", fmt.Sprintf(format, args...), "") }

// Warn says what a person should look at.
func (l *Log) Warn(format string, args ...any) { l.Add("warning", fmt.Sprintf(format, args...), "") }

// Trouble says what went wrong.
func (l *Log) Trouble(text, masked string) { l.Add("trouble", text, masked) }

// Line shows a line of a conversation.
func (l *Log) Line(text, masked string) { l.Add("line", text, masked) }

// Keep keeps what came from a device and cannot be trusted to be masked.
func (l *Log) Keep(text string) { l.entry(core.Entry{Kind: "kept", Text: text, Secret: true}) }

// Mark is where the log stands; Rewind takes away what was added since, when a
// transaction that adds lines is run again. Lines are only added by the job's
// own goroutine.
func (l *Log) Mark() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seq
}

// Rewind takes away what was added since a mark.
func (l *Log) Rewind(to int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.pending) > 0 && l.pending[len(l.pending)-1].Seq > to {
		l.pending = l.pending[:len(l.pending)-1]
	}
	l.seq = to
}

// Only takes away, in a transaction that is open, what the log has so far, written or
// not: for work that came to nothing worth reading. What is to be looked at stays,
// with all around it.
func (l *Log) Only(ctx context.Context, q *store.Q) error {
	l.mu.Lock()
	if l.loud {
		l.mu.Unlock()
		return nil
	}
	l.pending = nil
	l.mu.Unlock()
	return q.DropEntries(ctx, l.job)
}

// Flush writes what is pending, if the job's end did not meanwhile.
func (l *Log) Flush() {
	l.flush.Lock()
	defer l.flush.Unlock()
	l.mu.Lock()
	nothing := len(l.pending) == 0
	l.timer = nil // it went off; what cannot be written now sets another
	l.mu.Unlock()
	if nothing {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := l.commit(ctx, func(*store.Q) error { return nil }); err != nil {
		slog.Warn("job's log not written yet", "job", l.job, "err", err)
	}
}

// Commit runs fn in a transaction that also writes what is pending.
func (l *Log) Commit(ctx context.Context, fn func(q *store.Q) error) error {
	l.flush.Lock()
	defer l.flush.Unlock()
	return l.commit(ctx, fn)
}

func (l *Log) commit(ctx context.Context, fn func(q *store.Q) error) error {
	var pending []core.Entry
	err := l.r.Guarded(ctx, l.job, func(q *store.Q) error {
		if err := fn(q); err != nil {
			return err
		}
		l.mu.Lock()
		pending = l.pending
		if l.timer != nil {
			l.timer.Stop()
			l.timer = nil
		}
		l.mu.Unlock()
		return q.AddEntries(ctx, l.job, pending)
	})
	l.mu.Lock()
	if err == nil {
		l.pending = l.pending[len(pending):]
	}
	if len(l.pending) > 0 && l.timer == nil {
		l.timer = time.AfterFunc(l.pace(), l.Flush)
	}
	l.mu.Unlock()
	if err == nil {
		l.r.Hub.Tell(l.job)
	}
	return err
}

// Result keeps what a job has led to so far.
func (l *Log) Result(v any) {
	ctx := context.Background()
	if err := l.Commit(ctx, func(q *store.Q) error { return q.SetResult(ctx, l.job, v) }); err != nil {
		l.Warn("what it led to so far could not be kept: %v", err)
	}
}

// Park sets the job aside to wait for a decision, or until due. Whatever happens
// then, it is taken up again: decided, due, or without a worker.
func (l *Log) Park(awaits string, due *time.Time, summary string, result any, also ...func(ctx context.Context, q *store.Q) error) {
	ctx := context.Background() // it waits for the database as long as it takes
	err := l.Commit(ctx, func(q *store.Q) error {
		for _, do := range also {
			if err := do(ctx, q); err != nil {
				return err
			}
		}
		if err := q.ParkJob(ctx, l.job, awaits, due, summary, result); err != nil {
			return err
		}
		return l.r.called(ctx, q, l.job, summary)
	})
	if err != nil {
		l.Trouble("it could not be set aside to wait: "+err.Error(), "")
		return
	}
	l.r.over(l.job)
	l.r.LookAnew() // it may be due soon
}

// called notes that a job waits for a person, where it does.
func (r *Runtime) called(ctx context.Context, q *store.Q, id, summary string) error {
	j, err := q.Job(ctx, id)
	if err != nil || !r.kinds[j.Kind].wait(j.Awaits).Calls {
		return err
	}
	return q.Happen(ctx, core.JobWaits, j.DeviceID, j.Device, j.ID, core.Happened{Kind: j.Kind, State: j.Awaits, By: j.Actor, Says: summary})
}

// Close writes what is left.
func (l *Log) Close() { l.Flush() }
