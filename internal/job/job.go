// Package job is the runtime of long work. Work is a row that says what is
// wanted; an instance of the service takes it, does it step by step with a log,
// lets it wait for a person or a time, and ends it with an outcome. Whatever dies
// in between, an instance that lives takes the row up again.
//
// The runtime knows no verb. What kinds of work there are is registered, one call
// a kind: see Kind.
//
//	queued ──take──▶ running ──end──▶ ended
//	                  │   ▲
//	             park │   │ decided, due, cancelled, or whoever held it is gone
//	                  ▼   │
//	                 waiting
package job

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Kick makes the dispatcher look for work now.
func (r *Runtime) Kick() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// held is a job that is under way here.
type held struct {
	cancel context.CancelCauseFunc
	light  bool // it talks to no device by itself, and takes no session
	yields bool // its device failed lately, and it was let in by the share of such

	noJob   bool             // it counts as under way, and is no job: see Hold
	over    bool             // it was ended, or parked
	leases  map[string]int64 // of the devices that it holds, with their fencing numbers
	hangUps []func()         // its conversations
}

// places tells how many sessions are free, and how many of those are for jobs whose
// devices failed lately. r.mu is held.
func (r *Runtime) places() (free, yielding int) {
	free, yielding = r.sessions, max(1, r.sessions/3)
	for _, h := range r.active {
		if !h.light {
			free--
		}
		if h.yields {
			yielding--
		}
	}
	return free, min(free, yielding)
}

type heartbeat struct {
	incarnation string
	beat        int64
	moved       time.Time // when we last saw it move, by our own clock
	lapsed      bool      // it was looked since whether it left something
}

// Service is who acts when no person does.
var Service = core.Actor{Name: "service", Role: core.Admin, Secrets: true}

// ErrLeaseLost is returned when this instance can no longer be sure that it alone
// talks to a device.
var ErrLeaseLost = errors.New("this instance has lost touch with the database, so it must not send anything more")

// ErrStopping is the cause of a context ended because the service stops.
var ErrStopping = errors.New("the service is stopping")

// ErrCancelled is the cause of a context ended because a person cancelled the
// job.
var ErrCancelled = errors.New("cancelled")

// Kind is one kind of job: all that the runtime, the API, the command line and
// the console have to know of it.
type Kind struct {
	Name string
	Role string // the least that asking for one takes
	Does string // what it does, in a few words

	// Visits tells whether it talks to a device by itself, and so counts against the
	// sessions. Others only wait for jobs that do.
	Visits bool

	// Yields tells whether it lets others go first where its device failed lately: such
	// jobs hold a third of the sessions at most, so that devices that accept and say
	// nothing keep nobody else waiting.
	Yields bool

	// Tells tells whether people can be told that one ended well. That one did not, they are told of every kind.
	Tells bool

	// Tries is how often it is begun before it is given up, where whoever did it
	// died each time. 0: it goes on for as long as that takes.
	Tries int

	// Awaits is what it can wait for.
	Awaits []Wait

	// Asks makes the request of a job that is asked for by its name alone, of with what
	// comes with that, as JSON. nil: it is asked for in a way of its own.
	Asks func(ctx context.Context, actor core.Actor, j core.Job, with []byte) (wants any, err error)

	// Repeats tells whether one like an earlier one can be asked for: it looks at things
	// anew, and sends nothing that a person has to have looked at.
	Repeats bool

	// Recurs is how it is begun by a schedule, time after time. nil: it makes no sense by
	// itself.
	Recurs *Recurs

	// Passes are the jobs that a word said to this one is passed on to: those it began,
	// of which some may wait. nil: words are for itself.
	Passes func(q *store.Q, j core.Job) (ids []string, err error)

	// View is what a job has led to, as an actor may see it: a type of package client,
	// which the API puts into its field. nil: nothing.
	View func(ctx context.Context, q *store.Q, actor core.Actor, j core.Job) (any, error)

	// May tells whether somebody may say a word to a job that waits. seen is what
	// they say they looked at. nil: whoever has the role.
	May func(ctx context.Context, q *store.Q, actor core.Actor, j core.Job, word, seen string) error

	// Step goes on with a job from wherever it stands: at its beginning, decided,
	// due, cancelled, or after whoever did it died (Run.Again). It ends the job,
	// parks it, or returns and leaves it to be taken up again.
	Step func(ctx context.Context, r *Run)

	// End is what has to happen whenever a job of the kind ends, in the same
	// transaction: what it holds is let go. nil: nothing.
	End func(ctx context.Context, q *store.Q, j core.Job, outcome string) error
}

// Recurs is how a kind of job is begun by a schedule.
type Recurs struct {
	Each   bool     // a job for every device; otherwise one for all
	Serial bool     // one device after the other
	Takes  []string // words that go with it; those with an exclamation mark have to
	Check  func(ctx context.Context, q *store.Q, with map[string]string) error
	Begin  func(ctx context.Context, d Due) ([]core.Job, error)
}

// Due is what is to be begun at one time that a schedule was due.
type Due struct {
	Actor    core.Actor // the schedule itself
	By       core.Actor // who saved it last, for what not everybody may; no role: they may nothing any more
	Schedule string
	At       time.Time // in the schedule's zone
	Devices  []core.Device
	Selector string
	With     map[string]string
	Key      store.Key // asked for twice it is begun once
}

// Wait is one thing that a kind of job can wait for.
type Wait struct {
	For   string // its name, as jobs carry it
	Means string // who or what that is, in words that follow "waits for"
	Calls bool   // it goes no further until a person says a word, or a time is over
	Words []Word // what a person can say to it
}

// Word is one thing that a person can say to a job that waits.
type Word struct {
	Say  string // the word
	Does string // what it does, as a summary
	Sees bool   // it goes with what the person looked at before
}

// wait finds what a kind waits for by its name.
func (k Kind) wait(name string) (w Wait) {
	if i := slices.IndexFunc(k.Awaits, func(w Wait) bool { return w.For == name }); i >= 0 {
		w = k.Awaits[i]
	}
	return w
}

// takes tells whether a word answers it.
func (w Wait) takes(word string) bool {
	return slices.ContainsFunc(w.Words, func(x Word) bool { return x.Say == word })
}

// said lists its words.
func (w Wait) said() (words []string) {
	for _, x := range w.Words {
		words = append(words, x.Say)
	}
	return words
}

// Run is a job under way.
type Run struct {
	Job core.Job
	*Log
	*Runtime
	Again bool // it was begun before
}

// Runtime is one instance's share of the work.
type Runtime struct {
	*state
	Store *store.Store
	clock func() time.Time
}

// state is what all work of an instance shares.
type state struct {
	Hub         *Hub
	kinds       map[string]Kind
	instance    string
	incarnation string

	mu       sync.Mutex
	sessions int                  // how many jobs that visit devices run at a time
	looked   time.Time            // when the hearts of others were last seen
	lastBeat time.Time            // monotonic, of the last heartbeat the database took
	watched  map[string]heartbeat // other instances' hearts
	active   map[string]held      // by job
	kick     chan struct{}
	until    context.Context // ends when Stop is asked for: nothing more is begun
	stop     context.CancelFunc
	heart    context.CancelFunc // ends the heart, once all work is let go
	done     sync.WaitGroup     // the dispatcher
	still    sync.WaitGroup     // the heart
	running  sync.WaitGroup
	dialects []func(context.Context)
	noted    noted
	anew     chan struct{} // the agenda is to be read now
	left     bool          // there may be jobs to be taken up

	complained time.Time // when it was said last that there is no room; the dispatcher's
}

// noted is what this instance knows of the agenda.
type noted struct {
	due      map[store.Topic]time.Time
	audit    int64
	dialects string
	bell     store.Bell // rings after each look
}

// At returns the same runtime by another clock.
func (r *Runtime) At(clock func() time.Time) *Runtime {
	return &Runtime{state: r.state, Store: r.Store.At(clock), clock: clock}
}

// Now is the time by the runtime's clock.
func (r *Runtime) Now() time.Time { return r.clock().UTC() }

// Instance is the instance's name, and Incarnation names this run of it.
func (r *Runtime) Instance() string { return r.instance }

// Incarnation names this run of the instance.
func (r *Runtime) Incarnation() string { return r.incarnation }

// Register makes a kind of job known. It is called before Start, once a kind.
func (r *Runtime) Register(kinds ...Kind) {
	for _, k := range kinds {
		if _, ok := r.kinds[k.Name]; ok || k.Name == "" || k.Step == nil {
			panic(fmt.Sprintf("kind of job %q: registered twice, or without a name or step", k.Name))
		}
		r.kinds[k.Name] = k
	}
}

// Kind finds a kind by its name.
func (r *Runtime) Kind(name string) (Kind, bool) {
	k, ok := r.kinds[name]
	return k, ok
}

// Kinds lists the kinds of jobs by name.
func (r *Runtime) Kinds() []Kind {
	return slices.SortedFunc(maps.Values(r.kinds), func(a, b Kind) int { return strings.Compare(a.Name, b.Name) })
}

// KindNames lists their names.
func (r *Runtime) KindNames() (names []string) {
	for _, k := range r.Kinds() {
		names = append(names, k.Name)
	}
	return names
}

// Words lists what can be said to jobs that wait, of these kinds, each word once.
func Words(kinds []Kind) (words []Word) {
	for _, k := range kinds {
		for _, w := range k.Awaits {
			for _, word := range w.Words {
				at := slices.IndexFunc(words, func(x Word) bool { return x.Say == word.Say })
				if at < 0 {
					words = append(words, word)
				} else if word.Sees && !words[at].Sees { // what says more of it
					words[at] = word
				}
			}
		}
	}
	slices.SortFunc(words, func(a, b Word) int { return strings.Compare(a.Say, b.Say) })
	return words
}

// SetSessions says how many jobs that visit devices run at a time.
func (r *Runtime) SetSessions(n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sessions = n
}

// WhenDialectsCome has something done when dialects came by the API of any instance. It is called before
// Start.
func (r *Runtime) WhenDialectsCome(do func(context.Context)) { r.dialects = append(r.dialects, do) }

// awaitEvery is how often it is looked at a job of which this instance hears nothing.
const awaitEvery = time.Second

// over notes that a job is ended or parked: nobody has to look for it once its goroutine is gone. Where that is
// not kept in the database, what writes it says that it is left (Runtime.left).
func (r *Runtime) over(jobID string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h, known := r.active[jobID]; known {
		h.over = true
		r.active[jobID] = h
	}
}

// lookAgain has jobs looked for that were left, soon.
func (r *Runtime) lookAgain() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.left = true
}

// Guarded runs fn in a transaction that comes to nothing if this instance does
// not hold the job any more: whoever took it over may have written since, and
// what was meant here is stale.
func (r *Runtime) Guarded(ctx context.Context, jobID string, fn func(q *store.Q) error) error {
	return r.Store.Tx(ctx, Service, func(q *store.Q) error {
		if jobID != "" {
			if mine, err := q.HoldJob(ctx, jobID, r.instance, r.incarnation); err != nil {
				return err
			} else if !mine {
				return fmt.Errorf("job %s: %w", jobID, ErrLeaseLost)
			}
		}
		return fn(q)
	})
}

// Log writes a job's log. Lines are gathered and written a few times a second,
// and always before something is done that must not go unrecorded.
type Log struct {
	r   *Runtime
	job string

	mu      sync.Mutex
	seq     int
	pending []core.Entry
	loud    bool // something in it is to be looked at, written or not
	timer   *time.Timer
	flush   sync.Mutex
}
