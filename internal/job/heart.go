package job

import (
	"context"
	"hash/fnv"
	"log/slog"
	"time"

	"magpie/internal/store"
)

// How fast an instance's heart beats, how long it may miss before it stops
// sending, and how long others wait before they take its work for abandoned. The
// last must be well above the second.
const (
	beatEvery  = 2 * time.Second
	beatWithin = 3 * time.Second // and of a look at the agenda
	tidyEvery  = 300             // beats
	sendWithin = 10 * time.Second
	lapseAfter = 20 * time.Second
)

func (r *Runtime) beat(ctx context.Context, n int64) error {
	err := r.Store.As(Service).Beat(ctx, r.instance, r.incarnation, n)
	if err == nil {
		r.mu.Lock()
		r.lastBeat = time.Now()
		r.mu.Unlock()
	}
	return err
}

func (r *Runtime) beatOn(ctx context.Context) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for n := int64(2); ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		// A connection into nothing does not stop the heart: the next beat goes by another.
		within, done := context.WithTimeout(ctx, beatWithin)
		if err := r.beat(within, n); err != nil && ctx.Err() == nil {
			slog.Warn("heartbeat missed", "err", err)
		}
		done()
		if n%tidyEvery == 0 {
			if err := r.Store.Tidy(ctx); err != nil {
				slog.Warn("tidying up", "err", err)
			}
		}
	}
}

// watch looks which instances' hearts have moved since the last look.
func (r *Runtime) watch(ctx context.Context) {
	instances, err := r.Store.As(Service).Instances(ctx)
	if err != nil {
		return
	}
	r.saw(instances)
}

func (r *Runtime) saw(instances []store.Instance) {
	r.mu.Lock()
	defer r.mu.Unlock()
	blind := r.blind()
	defer r.lapsed()
	r.looked = time.Now()
	for _, n := range instances {
		// Who was not looked at for a while may have been kept from beating by the same.
		if old, ok := r.watched[n.ID]; blind || !ok || old.incarnation != n.Incarnation || old.beat != n.Beat {
			r.watched[n.ID] = heartbeat{incarnation: n.Incarnation, beat: n.Beat, moved: r.looked}
		}
	}
}

// lapsed has jobs looked for that were left, once a heart has stood still for long enough. r.mu is held.
func (r *Runtime) lapsed() {
	for id, h := range r.watched {
		if !h.lapsed && id != r.instance && time.Since(h.moved) >= lapseAfter {
			h.lapsed, r.left = true, true
			r.watched[id] = h
		}
	}
}

// blind tells whether the hearts of others were last seen too long ago, because the
// database was away, to say of any that it stands still.
func (r *Runtime) blind() bool { return time.Since(r.looked) > sendWithin }

// alive tells whether whoever holds a lease still lives: another instance whose
// heart moved lately, or a job of ours that is under way. An instance that was
// started again has no claim to what its earlier incarnation held.
func (r *Runtime) alive(job, instance, incarnation string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if instance == r.instance {
		_, ours := r.active[job]
		return incarnation == r.incarnation && ours
	}
	h := r.heard(instance, incarnation)
	return h.incarnation == incarnation && (r.blind() || time.Since(h.moved) < lapseAfter)
}

// heard returns what is known of another instance's heart. One that was never
// heard of may have started a moment ago, and is believed in from now on.
func (r *Runtime) heard(instance, incarnation string) heartbeat {
	h, known := r.watched[instance]
	if !known {
		h.moved = time.Now()
	}
	if h.incarnation == "" {
		h.incarnation = incarnation
	}
	r.watched[instance] = h
	return h
}

// instanceLives tells whether an instance's heart moved lately, as far as this one
// knows.
func (r *Runtime) instanceLives(instance string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return instance == r.instance || r.blind() || time.Since(r.heard(instance, "").moved) < lapseAfter
}

// Living lists the instances whose hearts moved lately, this one among them.
func (r *Runtime) Living(ctx context.Context) (ids []string, err error) {
	all, err := r.Store.As(Service).Instances(ctx)
	for _, n := range all {
		if n.ID != r.instance && r.instanceLives(n.ID) {
			ids = append(ids, n.ID)
		}
	}
	return append(ids, r.instance), err
}

// UntilSure waits until this instance is believed in again.
func (r *Runtime) UntilSure(ctx context.Context) error {
	for r.Sure() != nil {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(200 * time.Millisecond):
		}
	}
	return nil
}

// taking runs what makes work this instance's own. The database may have been away
// since that was begun, and this instance not be believed in any more.
func (r *Runtime) taking(ctx context.Context, fn func(q *store.Q) error) error {
	return r.Store.Tx(ctx, Service, func(q *store.Q) error {
		if err := r.Sure(); err != nil {
			return err
		}
		return fn(q)
	})
}

// Sure returns an error when this instance's own heartbeat is too old for others
// to go on believing in it. It is asked before every line that is sent.
func (r *Runtime) Sure() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.lastBeat) > sendWithin {
		return ErrLeaseLost
	}
	return nil
}

// Mine tells whether something that one instance at a time looks after is this one's share. Of
// those that live it falls to the one for which both give the greatest number, so that one more
// or less moves no others.
func (r *Runtime) Mine(id string, living []string) bool {
	most, mine := uint64(0), ""
	for _, i := range living {
		f := fnv.New64a()
		_, _ = f.Write([]byte(i + " " + id))
		if n := f.Sum64(); mine == "" || n > most || n == most && i < mine {
			mine, most = i, n
		}
	}
	return mine == r.instance
}

// Every does something time after time, until ctx ends, while this instance is sure that the others
// know of it (Sure). doing says in the log what went wrong.
func (r *Runtime) Every(ctx context.Context, span time.Duration, doing string, do func() error) {
	tick := time.NewTicker(span)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if r.Sure() != nil {
			continue
		}
		if err := do(); err != nil && ctx.Err() == nil {
			slog.Warn("trouble in "+doing, "err", err)
		}
	}
}
