package work

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Log writes a job's log. Lines are gathered and written a few times a second,
// and always before something is done that must not go unrecorded.
type Log struct {
	s   *Service
	job string

	mu      sync.Mutex
	seq     int
	pending []core.Entry
	timer   *time.Timer
	flush   sync.Mutex
}

// resumed opens the log of a job that was begun before.
func (s *Service) resumed(jobID string) (*Log, error) {
	last, err := s.Store.As(service).LastEntry(context.Background(), jobID)
	return &Log{s: s, job: jobID, seq: last}, err
}

// silent is the log of work that is no job.
func (s *Service) silent() *Log { return &Log{s: s} }

func (l *Log) add(kind, text, masked string) {
	l.entry(core.Entry{Kind: kind, Text: text, Masked: masked})
}

func (l *Log) entry(e core.Entry) {
	if l.job == "" {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seq++
	e.Seq, e.At = l.seq, l.s.clock().UTC()
	if e.Masked == e.Text {
		e.Masked = ""
	}
	l.pending = append(l.pending, e)
	if l.timer == nil {
		l.timer = time.AfterFunc(l.pace(), l.Flush)
	}
}

// pace is how long lines may wait to be written: less while somebody watches.
// Watchers at other nodes look once a second.
func (l *Log) pace() time.Duration {
	if l.s.Hub.watched(l.job) {
		return 150 * time.Millisecond
	}
	return time.Second
}

// Step says what is being done now.
func (l *Log) Step(format string, args ...any) { l.add("step", fmt.Sprintf(format, args...), "") }

// Info says what was found.
func (l *Log) Info(format string, args ...any) { l.add("info", fmt.Sprintf(format, args...), "") }

// Warn says what a person should look at.
func (l *Log) Warn(format string, args ...any) { l.add("warning", fmt.Sprintf(format, args...), "") }

// Trouble says what went wrong.
func (l *Log) Trouble(text, masked string) { l.add("trouble", text, masked) }

// Line shows a line of a conversation.
func (l *Log) Line(text, masked string) { l.add("line", text, masked) }

// Keep keeps what came from a device and cannot be trusted to be masked.
func (l *Log) Keep(text string) { l.entry(core.Entry{Kind: "kept", Text: text, Secret: true}) }

// mark is where the log stands; rewind takes away what was added since, when a
// transaction that adds lines is run again. Lines are only added by the job's
// own goroutine.
func (l *Log) mark() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seq
}

func (l *Log) rewind(to int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.pending) > 0 && l.pending[len(l.pending)-1].Seq > to {
		l.pending = l.pending[:len(l.pending)-1]
	}
	l.seq = to
}

// Flush writes what is pending.
func (l *Log) Flush() {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := l.commit(ctx, func(*store.Q) error { return nil }); err != nil {
		slog.Warn("job's log not written yet", "job", l.job, "err", err)
	}
}

// commit runs fn in a transaction that also writes what is pending.
func (l *Log) commit(ctx context.Context, fn func(q *store.Q) error) error {
	l.flush.Lock()
	defer l.flush.Unlock()
	var pending []core.Entry
	err := l.s.Store.Tx(ctx, service, func(q *store.Q) error {
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
		l.s.Hub.Tell(l.job)
	}
	return err
}

// result keeps what a job has led to so far.
func (l *Log) result(v any) {
	ctx := context.Background()
	if err := l.commit(ctx, func(q *store.Q) error { return q.SetResult(ctx, l.job, v) }); err != nil {
		l.Warn("what it led to so far could not be kept: %v", err)
	}
}

// park sets the job aside to wait for a decision, or until due. Whatever happens
// then, it is taken up again: decided, due, or without a worker.
func (l *Log) park(awaits string, due *time.Time, summary string, result any, also ...func(ctx context.Context, q *store.Q) error) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	err := l.commit(ctx, func(q *store.Q) error {
		for _, do := range also {
			if err := do(ctx, q); err != nil {
				return err
			}
		}
		return q.ParkJob(ctx, l.job, awaits, due, summary, result)
	})
	if err != nil {
		l.Trouble("it could not be set aside to wait: "+err.Error(), "")
	}
}

// Close writes what is left.
func (l *Log) Close() {
	l.mu.Lock()
	left := len(l.pending)
	l.mu.Unlock()
	if left > 0 {
		l.Flush()
	}
}

// Hub tells whoever watches a job that there may be more to read. It is a
// hint: a watcher on another node looks now and then all the same.
type Hub struct {
	mu      sync.Mutex
	waiting map[string]map[chan struct{}]bool
}

func newHub() *Hub { return &Hub{waiting: map[string]map[chan struct{}]bool{}} }

// Watch returns a channel that gets a hint when the job changes, and the
// function that ends the watch.
func (h *Hub) Watch(job string) (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting[job] == nil {
		h.waiting[job] = map[chan struct{}]bool{}
	}
	h.waiting[job][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.waiting[job], c)
		if len(h.waiting[job]) == 0 {
			delete(h.waiting, job)
		}
	}
}

// watched tells whether somebody watches a job here.
func (h *Hub) watched(job string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.waiting[job]) > 0
}

// Tell gives the hint.
func (h *Hub) Tell(job string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.waiting[job] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}
