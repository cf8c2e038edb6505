// Package work holds the verbs: pull, preview, push, compare, drift. Long work
// is a job: a row that says what is wanted, taken by a node that leases the
// device, does it step by step with a log, and ends it with an outcome.
package work

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// How fast a node's heart beats, how long it may miss before it stops sending,
// and how long others wait before they take its work for abandoned. The last
// must be well above the second.
const (
	beatEvery  = 2 * time.Second
	sendWithin = 10 * time.Second
	lapseAfter = 20 * time.Second
)

// service is who acts when no person does.
var service = core.Actor{Name: "service", Role: core.Admin, Secrets: true}

// ErrLeaseLost is returned when this node can no longer be sure that it alone
// talks to a device.
var ErrLeaseLost = errors.New("this node has lost touch with the database, so it must not send anything more")

// ErrStopping is the cause of a context ended because the service stops.
var ErrStopping = errors.New("the service is stopping")

// ErrCancelled is the cause of a context ended because a person cancelled the
// job.
var ErrCancelled = errors.New("cancelled")

// Service does the work of one node.
type Service struct {
	*state
	Store *store.Store
	clock func() time.Time
}

// state is what all work of a node shares.
type state struct {
	Hub      *Hub
	Inbox    link.Inbox // where devices send files to; nil when there is none
	limits   Limits
	rooms    *rooms
	dialects map[string]*dialect.Dialect // guarded by mu
	relays   map[string]openRelay        // guarded by mu
	node     string
	life     string

	mu       sync.Mutex
	lastBeat time.Time            // monotonic, of the last heartbeat the database took
	watched  map[string]heartbeat // other nodes' hearts
	active   map[string]context.CancelCauseFunc
	light    map[string]bool // of the active jobs: those that only wait for others, and talk to no device
	kick     chan struct{}
	until    context.Context // ends with Stop
	stop     context.CancelFunc
	done     sync.WaitGroup
	running  sync.WaitGroup
}

type heartbeat struct {
	life  string
	beat  int64
	moved time.Time // when we last saw it move, by our own clock
}

// New makes the service of a node. Dialects are recorded in the database, so
// that every pull can say by which revision it went.
func New(ctx context.Context, st *store.Store, dialects []*dialect.Dialect, node string, clock func() time.Time) (*Service, error) {
	life := make([]byte, 8)
	_, _ = rand.Read(life)
	s := &Service{Store: st, clock: clock, state: &state{Hub: newHub(), limits: DefaultLimits, rooms: newRooms(), dialects: map[string]*dialect.Dialect{}, relays: map[string]openRelay{}, node: node, life: hex.EncodeToString(life),
		watched: map[string]heartbeat{}, active: map[string]context.CancelCauseFunc{}, light: map[string]bool{}, kick: make(chan struct{}, 1)}}
	for _, d := range dialects {
		newer, err := st.As(service).DialectInForce(ctx, d.Dialect, d.Source)
		if err != nil {
			return nil, err
		}
		if newer != "" {
			if d, err = dialect.Load(d.Dialect, []byte(newer)); err != nil {
				return nil, fmt.Errorf("the dialect loaded by hand: %w", err)
			}
		}
		if err := s.TakeDialect(ctx, d); err != nil {
			return nil, err
		}
	}
	s.syncDialects(ctx)
	return s, s.beat(ctx, 1)
}

// At returns the same service by another clock.
func (s *Service) At(clock func() time.Time) *Service {
	return &Service{state: s.state, Store: s.Store.At(clock), clock: clock}
}

// Now is the time by the service's clock.
func (s *Service) Now() time.Time { return s.clock().UTC() }

// SetLimits says how many conversations this node holds at a time. It is
// called before Start.
func (s *Service) SetLimits(l Limits) { s.limits = l }

// TakeDialect takes a dialect into use, in the place of one of its name, and
// records it. If what it says of lines changed, the fingerprints of the newest
// versions of its devices are worked out anew from what is kept, so that the
// fleet does not seem to have changed.
func (s *Service) TakeDialect(ctx context.Context, d *dialect.Dialect) error {
	var settled bool
	err := s.Store.Tx(ctx, service, func(q *store.Q) (err error) {
		d.Revision, settled, err = q.KeepDialect(ctx, d.Dialect, d.Source)
		return err
	})
	if err != nil {
		return fmt.Errorf("recording dialect %s: %w", d.Dialect, err)
	}
	s.mu.Lock()
	s.dialects[d.Dialect] = d
	s.mu.Unlock()
	if settled {
		return nil
	}
	if err := s.refingerprint(ctx, d); err != nil {
		return fmt.Errorf("dialect %s: working out fingerprints anew: %w", d.Dialect, err)
	}
	return s.Store.Tx(ctx, service, func(q *store.Q) error { return q.DialectSettled(ctx, d.Dialect, d.Revision) })
}

// syncDialects takes dialects into use that came by the API, maybe of another
// node.
func (s *Service) syncDialects(ctx context.Context) {
	q := s.Store.As(service)
	all, err := q.DialectsUploaded(ctx)
	if err != nil {
		return // the database is away; the next beat comes again
	}
	for _, u := range all {
		if d := s.Dialect(u.Name); d != nil && d.Revision >= u.Revision {
			continue
		}
		source, err := q.DialectSource(ctx, u.Name, u.Revision)
		var d *dialect.Dialect
		if err == nil {
			d, err = dialect.Load(u.Name, []byte(source))
		}
		if err == nil {
			err = s.TakeDialect(ctx, d)
		}
		if err != nil {
			slog.Warn("a dialect that was loaded cannot be used", "dialect", u.Name, "revision", u.Revision, "err", err)
			continue
		}
		slog.Info("dialect in use", "dialect", u.Name, "revision", u.Revision)
	}
}

// Dialect returns a dialect by name, or nil.
func (s *Service) Dialect(name string) *dialect.Dialect {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.dialects[name]
}

// Dialects lists the dialects by name.
func (s *Service) Dialects() []*dialect.Dialect {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.SortedFunc(maps.Values(s.dialects), func(a, b *dialect.Dialect) int { return strings.Compare(a.Dialect, b.Dialect) })
}

// Alive keeps this node's heart beating, which its work depends on. Start does
// so too; this is for work before that.
func (s *Service) Alive() {
	if s.stop != nil {
		return
	}
	s.until, s.stop = context.WithCancel(context.Background())
	s.done.Add(1)
	go func() { defer s.done.Done(); s.heart(s.until) }()
}

// Start begins taking jobs.
func (s *Service) Start() {
	s.Alive()
	s.done.Add(1)
	go func() { defer s.done.Done(); s.dispatch(s.until) }()
}

// Stop takes no more jobs, lets those under way come to an end for the given
// time, and then breaks them off; they are taken up again at the next start.
func (s *Service) Stop(grace time.Duration) {
	s.stop()
	s.done.Wait()
	ended := make(chan struct{})
	go func() { s.running.Wait(); close(ended) }()
	select {
	case <-ended:
		return
	case <-time.After(grace):
	}
	s.mu.Lock()
	for _, cancel := range s.active {
		cancel(ErrStopping)
	}
	s.mu.Unlock()
	<-ended
}

// Kick makes the dispatcher look for work now.
func (s *Service) Kick() {
	select {
	case s.kick <- struct{}{}:
	default:
	}
}

func (s *Service) beat(ctx context.Context, n int64) error {
	err := s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Beat(ctx, s.node, s.life, n) })
	if err == nil {
		s.mu.Lock()
		s.lastBeat = time.Now()
		s.mu.Unlock()
	}
	return err
}

func (s *Service) heart(ctx context.Context) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for n := int64(2); ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := s.beat(ctx, n); err != nil && ctx.Err() == nil {
			slog.Warn("heartbeat missed", "err", err)
		}
		s.watch(ctx)
		s.syncDialects(ctx)
		if n%30 == 0 {
			if err := s.Store.Tidy(ctx); err != nil {
				slog.Warn("tidying up", "err", err)
			}
		}
	}
}

// watch looks which nodes' hearts have moved since the last look.
func (s *Service) watch(ctx context.Context) {
	nodes, err := s.Store.As(service).Nodes(ctx)
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, n := range nodes {
		if old, ok := s.watched[n.ID]; !ok || old.life != n.Life || old.beat != n.Beat {
			s.watched[n.ID] = heartbeat{n.Life, n.Beat, time.Now()}
		}
	}
}

// alive tells whether whoever holds a lease still lives: another node whose
// heart moved lately, or a job of ours that is under way. A node that was
// started again has no claim to what its earlier life held.
func (s *Service) alive(job, node, life string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if node == s.node {
		_, ours := s.active[job]
		return life == s.life && ours
	}
	h, known := s.watched[node]
	if !known {
		s.watched[node] = heartbeat{life: life, moved: time.Now()}
		return true
	}
	return h.life == life && time.Since(h.moved) < lapseAfter
}

// sure returns an error when this node's own heartbeat is too old for others to
// go on believing in it. It is asked before every line that is sent.
func (s *Service) sure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.lastBeat) > sendWithin {
		return ErrLeaseLost
	}
	return nil
}

// dispatch takes queued jobs and takes up those whose node died.
func (s *Service) dispatch(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	s.watch(ctx)
	s.recover(ctx)
	for round := 1; ; {
		looked := time.Now()
		s.take(ctx)
		s.unpark(ctx)
		s.cancelAsked(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if round++; round%4 == 0 {
				s.recover(ctx)
			}
		case <-s.kick:
			// Many jobs may end at once: let the places they leave be filled together.
			time.Sleep(50*time.Millisecond - time.Since(looked))
		}
	}
}

func (s *Service) take(ctx context.Context) {
	for {
		s.mu.Lock()
		free := s.limits.Sessions - len(s.active) + len(s.light)
		s.mu.Unlock()
		if free <= 0 || ctx.Err() != nil {
			return
		}
		var jobs []core.Job
		err := s.Store.Tx(ctx, service, func(q *store.Q) (err error) {
			jobs, err = q.TakeJobs(ctx, s.node, s.life, min(free, 16))
			return err
		})
		if err != nil && ctx.Err() == nil {
			slog.Warn("looking for work", "err", err)
		}
		for _, j := range jobs {
			s.begin(j, j.Tries > 1, s.do)
		}
		if len(jobs) < min(free, 16) {
			return
		}
	}
}

func (s *Service) cancelAsked(ctx context.Context) {
	s.mu.Lock()
	var ids []string
	for id := range s.active {
		ids = append(ids, id)
	}
	s.mu.Unlock()
	asked, err := s.Store.As(service).Cancelled(ctx, ids)
	if err != nil {
		return
	}
	for _, id := range asked {
		s.mu.Lock()
		cancel := s.active[id]
		s.mu.Unlock()
		if cancel != nil {
			cancel(ErrCancelled)
		}
	}
}

// begin runs a job on its own goroutine. begun: it has a log from before.
func (s *Service) begin(j core.Job, begun bool, do func(ctx context.Context, j core.Job, l *Log)) {
	ctx, cancel := context.WithCancelCause(context.Background())
	s.mu.Lock()
	s.active[j.ID] = cancel
	if slices.Contains([]string{"survey", "restore", "planned", "drill"}, j.Kind) {
		s.light[j.ID] = true
	}
	s.mu.Unlock()
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		defer s.Kick()
		defer func() {
			s.mu.Lock()
			delete(s.active, j.ID)
			delete(s.light, j.ID)
			s.mu.Unlock()
			cancel(nil)
		}()
		l := &Log{s: s, job: j.ID}
		if begun {
			var err error
			if l, err = s.resumed(j.ID); err != nil {
				slog.Warn("job's log cannot be read", "job", j.ID, "err", err)
				return
			}
		}
		defer l.Close()
		defer func() {
			if p := recover(); p != nil {
				slog.Error("job broke down", "job", j.ID, "panic", p, "stack", string(debug.Stack()))
				s.end(j, l, core.Failed, "the program broke down in the middle; this is a defect of ours, please report it", nil)
			}
		}()
		do(ctx, j, l)
	}()
}

// Kinds are the kinds of jobs.
var Kinds = []string{"pull", "preview", "push", "planned", "survey", "restore", "drill"}

func (s *Service) do(ctx context.Context, j core.Job, l *Log) {
	switch j.Kind {
	case "pull":
		s.pullJob(ctx, j, l)
	case "preview":
		s.previewJob(ctx, j, l)
	case "push":
		s.pushJob(ctx, j, l)
	case "planned":
		s.plannedJob(ctx, j, l)
	case "drill":
		s.drillJob(ctx, j, l)
	case "survey":
		s.surveyJob(ctx, j, l)
	case "restore":
		s.restoreJob(ctx, j, l)
	default:
		s.end(j, l, core.Failed, fmt.Sprintf("this version of the program knows no job of kind %q", j.Kind), nil)
	}
}

// queue queues a job once, however often it is asked for with its key, and writes
// the deed down. More may be done in the same transaction, for a new one.
func (s *Service) queue(ctx context.Context, actor core.Actor, deed string, n store.NewJob, detail string, also ...func(ctx context.Context, q *store.Q, j core.Job) error) (j core.Job, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		n := n
		err := q.AddJob(ctx, &n)
		if j = n.Job; err != nil || n.Old {
			return err
		}
		for _, do := range also {
			if err := do(ctx, q, j); err != nil {
				return err
			}
		}
		return q.Audit(ctx, deed, j.Device, "job "+j.ID+", "+detail)
	})
	s.Kick()
	return j, err
}

// end ends a job with its outcome. More may be written in the same
// transaction.
func (s *Service) end(j core.Job, l *Log, outcome, summary string, result any, also ...func(q *store.Q) error) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	l.add("end", outcome+": "+summary, "")
	err := l.commit(ctx, func(q *store.Q) error {
		for _, do := range also {
			if err := do(q); err != nil {
				return err
			}
		}
		return q.EndJob(ctx, j.ID, outcome, summary, result)
	})
	if err != nil {
		// The row still says "running" under this life; recovery will find it.
		slog.Error("job's end not kept", "job", j.ID, "outcome", outcome, "err", err)
	}
}

// lease takes the right to talk to a device, waiting for whoever has it. The
// function returned gives it back.
func (s *Service) lease(ctx context.Context, deviceID, jobID string, l *Log) (fence int64, giveBack func(), err error) {
	said := false
	fence, err = s.Store.As(service).LeaseFree(ctx, deviceID, jobID, s.node, s.life)
	if err == nil && fence > 0 {
		return fence, s.unleased(deviceID, fence), nil
	}
	for { // an answer that got lost is found out here, too: the holder is this job
		var holder string
		err := s.Store.Tx(ctx, service, func(q *store.Q) (err error) {
			fence, holder, err = q.Lease(ctx, deviceID, jobID, s.node, s.life, s.alive)
			return err
		})
		if err != nil {
			return 0, nil, fmt.Errorf("taking the device's lease: %w", err)
		}
		if holder == "" {
			return fence, s.unleased(deviceID, fence), nil
		}
		if !said {
			said = true
			l.Info("waiting: job %s is talking to the device", holder)
		}
		select {
		case <-ctx.Done():
			return 0, nil, context.Cause(ctx)
		case <-time.After(150 * time.Millisecond):
		}
	}
}

// unleased makes the function that gives a lease back.
func (s *Service) unleased(deviceID string, fence int64) func() {
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if err := s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Unlease(ctx, deviceID, fence) }); err != nil {
			slog.Warn("lease not given back; it lapses by itself", "device", deviceID, "err", err)
		}
	}
}
