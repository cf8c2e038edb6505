package api

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
)

// How sign-ins are slowed down: so many failures are free, each further one
// doubles the wait up to its bound, and what nobody did for a while is forgotten.
const (
	pairFree, pairMost = 5, 5 * time.Minute
	peerFree, peerMost = 30, time.Minute
	forgetAfter        = 15 * time.Minute
	mostCounted        = 4096 // names with addresses, and addresses; those beyond share one count
)

// throttle counts failed sign-ins, by name and address and by address alone, so
// that neither one name nor many at a time are guessed at. Nobody is locked out
// for good.
type throttle struct {
	mu    sync.Mutex
	now   func() time.Time
	pairs map[string]*failures
	peers map[string]*failures
	swept time.Time // when what is to be forgotten was looked for last
}

type failures struct {
	n     int
	until time.Time
	last  time.Time
}

func newThrottle(now func() time.Time) *throttle {
	return &throttle{now: now, pairs: map[string]*failures{}, peers: map[string]*failures{}}
}

// peer is the address that failures are counted under: of IPv6 the network that
// one host can choose its addresses from (RFC 4291 §2.5.4).
func peer(ip string) string {
	a, err := netip.ParseAddr(ip)
	if err != nil {
		return "unknown"
	}
	if a = a.Unmap(); a.Is6() {
		p, _ := a.Prefix(64)
		return p.String()
	}
	return a.String()
}

func pairKey(name, from string) string { return from + " " + name }

// wait tells how long a sign-in has to wait.
func (t *throttle) wait(name, from string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	var wait time.Duration
	now := t.now()
	for _, f := range []*failures{t.pairs[pairKey(name, from)], t.peers[from], t.peers[overflow(t.peers, from)]} {
		if f != nil && now.Sub(f.last) < forgetAfter {
			wait = max(wait, f.until.Sub(now))
		}
	}
	return wait
}

// overflow is under which key something is counted when too much is counted
// already.
func overflow(m map[string]*failures, key string) string {
	if _, ok := m[key]; !ok && len(m) >= mostCounted {
		return "others"
	}
	return key
}

// failed counts a sign-in that failed.
func (t *throttle) failed(name, from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.count(t.pairs, pairKey(name, from), pairFree, pairMost)
	t.count(t.peers, from, peerFree, peerMost)
}

func (t *throttle) count(m map[string]*failures, key string, free int, most time.Duration) {
	now := t.now()
	if len(m) >= mostCounted && now.Sub(t.swept) >= time.Minute { // looking through all is not for every try
		t.swept = now
		for _, m := range []map[string]*failures{t.pairs, t.peers} {
			for k, f := range m {
				if now.Sub(f.last) >= forgetAfter {
					delete(m, k)
				}
			}
		}
	}
	key = overflow(m, key)
	f := m[key]
	if f == nil || now.Sub(f.last) >= forgetAfter {
		f = &failures{}
		m[key] = f
	}
	f.last = now
	if f.n++; f.n >= free {
		f.until = now.Add(min(time.Second<<min(f.n-free, 9), most))
	}
}

// passed forgives the name at the address. The address's other failures stay.
func (t *throttle) passed(name, from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.pairs, pairKey(name, from))
}

// refusals counts refused sign-ins for the audit log: the first of an address is
// written at once, the others of that minute together.
type refusals struct {
	mu  sync.Mutex
	now func() time.Time
	m   map[string]*refused
}

type refused struct {
	since time.Time
	more  int
	names []string
}

// note counts one, and tells whether it is to be written down by itself.
func (r *refusals) note(name, from string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.m) >= mostCounted && r.m[from] == nil {
		from = "others"
	}
	f := r.m[from]
	if f == nil {
		r.m[from] = &refused{since: r.now()}
		return true
	}
	f.more++
	if len(f.names) < 3 && !slices.Contains(f.names, name) {
		f.names = append(f.names, name)
	}
	return false
}

// due returns what is to be written down of the minutes that are over.
func (r *refusals) due() (said []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for from, f := range r.m {
		if r.now().Sub(f.since) < time.Minute {
			continue
		}
		delete(r.m, from)
		if f.more > 0 {
			said = append(said, fmt.Sprintf("from %s: %d more within a minute, as %s", from, f.more, strings.Join(f.names, ", ")))
			r.m[from] = &refused{since: r.now()} // whoever goes on is counted on
		}
	}
	return said
}

// line lets a few do something costly at a time; the others wait in line, and
// when the line is too long they are turned away.
type line struct {
	places chan struct{}
	queue  chan struct{}
}

func newLine(atOnce, waiting int) *line {
	return &line{make(chan struct{}, atOnce), make(chan struct{}, atOnce+waiting)}
}

// errBusy is returned when a line is full, or does not move.
var errBusy = errors.New("too many ask for this at once")

// enter waits for a place, at most so long. The function returned leaves it.
func (l *line) enter(ctx context.Context, most time.Duration) (leave func(), err error) {
	select {
	case l.queue <- struct{}{}:
	default:
		return nil, errBusy
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	select {
	case l.places <- struct{}{}:
		return func() { <-l.places; <-l.queue }, nil
	case <-ctx.Done():
		<-l.queue
		return nil, errBusy
	}
}
