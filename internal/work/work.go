// Package work holds the verbs: pull, preview, push, compare, drift. Long work
// is a job: a row that says what is wanted, taken by a node that leases the
// device, does it step by step with a log, and ends it with an outcome.
package work

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// service is who acts when no person does.
var service = job.Service

// Service does the work of one node.
type Service struct {
	*job.Runtime
	*state
}

// state is what all work of a node shares, besides its jobs.
type state struct {
	Inbox    link.Inbox // where devices send files to; nil when there is none
	limits   Limits
	rooms    *rooms
	mu       sync.Mutex
	dialects map[string]*dialect.Dialect // guarded by mu
	relays   map[string]openRelay        // guarded by mu
}

// New makes the service of a node. Dialects are recorded in the database, so
// that every pull can say by which revision it went.
func New(ctx context.Context, st *store.Store, dialects []*dialect.Dialect, node string, clock func() time.Time) (*Service, error) {
	jobs, err := job.New(ctx, st, node, clock)
	if err != nil {
		return nil, err
	}
	s := &Service{Runtime: jobs, state: &state{limits: DefaultLimits, rooms: newRooms(), dialects: map[string]*dialect.Dialect{}, relays: map[string]openRelay{}}}
	s.register()
	s.WhileBeating(s.syncDialects)
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
	return s, nil
}

// At returns the same service by another clock.
func (s *Service) At(clock func() time.Time) *Service { return s.on(s.Runtime.At(clock)) }

// on is the same service, in a job that goes by another clock.
func (s *Service) on(r *job.Runtime) *Service { return &Service{Runtime: r, state: s.state} }

// SetLimits says how many conversations this node holds at a time. It is
// called before Start.
func (s *Service) SetLimits(l Limits) {
	s.limits = l
	s.SetSessions(l.Sessions)
}

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
