package job

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"magpie/internal/store"
)

// agendaEvery is how often an instance looks what there is to do that it did not write itself, and
// whose hearts beat.
const agendaEvery = 4 * time.Second

// Alive keeps this instance's heart beating, which its work depends on. Start
// does so too; this is for work before that.
func (r *Runtime) Alive() {
	if r.stop != nil {
		return
	}
	r.until, r.stop = context.WithCancel(context.Background())
	beating, ends := context.WithCancel(context.Background())
	r.heart = ends
	r.still.Go(func() { r.beatOn(beating) })
	r.still.Go(func() { r.follow(beating) })
}

// follow reads the agenda again and again, until ctx ends. What another instance wrote, or a person in
// the database, is met so; what this one wrote rings at once (Store.Wrote).
func (r *Runtime) follow(ctx context.Context) {
	for {
		wait := agendaEvery
		within, done := context.WithTimeout(ctx, beatWithin)
		a, err := r.Store.As(Service).Agenda(within, r.instance)
		done()
		if err == nil {
			wait = r.note(ctx, a)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		case <-r.anew:
		}
	}
}

// note takes what was read, wakes those whom it is for, and tells when to look next.
func (r *Runtime) note(ctx context.Context, a store.Agenda) (wait time.Duration) {
	r.saw(a.Instances)
	now := r.Now()
	wait = agendaEvery
	for _, at := range a.Due {
		if until := at.Sub(now); until > 0 {
			wait = min(wait, until+time.Millisecond)
		}
	}
	r.mu.Lock()
	dialects := r.noted.dialects != a.Dialects
	r.noted.due, r.noted.dialects = a.Due, a.Dialects
	if r.noted.audit != a.Audit { // somebody did something: there may be more to tell of it
		r.noted.audit = a.Audit
		r.noted.due[store.ForMessages] = time.Time{}
	}
	r.mu.Unlock()
	if dialects {
		for _, do := range r.dialects {
			do(ctx)
		}
	}
	r.noted.bell.Ring()
	if r.isDue(store.ForJobs) {
		r.Kick()
	}
	return wait
}

// isDue tells whether there is something to do, by the agenda.
func (r *Runtime) isDue(topic store.Topic) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	at, known := r.noted.due[topic]
	return known && !at.After(r.Now())
}

// Expect has something looked at that is not in the database yet.
func (r *Runtime) Expect(topic store.Topic) {
	r.mu.Lock()
	if r.noted.due == nil {
		r.noted.due = map[store.Topic]time.Time{}
	}
	r.noted.due[topic] = time.Time{}
	r.mu.Unlock()
	r.noted.bell.Ring()
}

// LookAnew has the agenda read now: somebody wrote to the database who does not say so.
func (r *Runtime) LookAnew() {
	select {
	case r.anew <- struct{}{}:
	default:
	}
}

// slow is after how long something is done that nothing asked for.
const slow = 5 * time.Minute

// Woken does something at once, and again whenever this instance wrote something, or the agenda says
// that there is something to do of its topics, but not more often than once a span; and rarely without being asked
// for. It returns when ctx ends. doing says in the log what went wrong.
func (r *Runtime) Woken(ctx context.Context, span time.Duration, doing string, do func() error, topics ...store.Topic) {
	for {
		wrote, began, again := r.Store.Wrote.Rung(), time.Now(), slow
		if r.Sure() != nil {
			again = span
		} else if err := do(); err != nil && ctx.Err() == nil {
			slog.Warn("trouble in "+doing, "err", err)
			again = max(span, 5*time.Second)
		}
		for rare := time.After(again); ; {
			read := r.noted.bell.Rung()
			var due <-chan time.Time
			if slices.ContainsFunc(topics, r.isDue) {
				due = time.After(span - time.Since(began))
			}
			select {
			case <-ctx.Done():
				return
			case <-read:
				continue
			case <-due:
			case <-wrote:
			case <-rare:
			}
			break
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(span - time.Since(began)):
		}
	}
}
