// Package visit is one conversation with a device, and what is kept of it: the
// pull. A visit finds the way and the login that may be shown there, leases the
// device, signs in, asks who it is, fetches every part and proves it whole, and
// writes versions and sightings.
package visit

import (
	"context"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Limits are how many conversations one instance holds at a time. 0 means no limit
// of that kind.
type Limits struct {
	Sessions int // in all
	Site     int // with devices of one site
	Jump     int // through one jump host
}

// DefaultLimits suit one instance of modest size.
var DefaultLimits = Limits{Sessions: 48, Jump: 8}

// sessions counts the conversations under way.
type sessions struct {
	mu    sync.Mutex
	taken map[string]int
	left  chan struct{} // closed and made anew whenever a conversation ends
}

func newSessions() *sessions { return &sessions{taken: map[string]int{}, left: make(chan struct{})} }

// Dialer opens a connection from somewhere else.
type Dialer func(ctx context.Context, address string) (net.Conn, error)

// openRelay is a relay whose connection this instance holds.
type openRelay struct {
	store.Relay
	dial Dialer
}

// Service makes the visits of one instance.
type Service struct {
	*job.Runtime
	*state
}

// Mender puts a damaged content right by a copy elsewhere, and says by whose; empty: there is none.
type Mender func(ctx context.Context, contentID string) (from string, err error)

// state is what all visits of an instance share.
type state struct {
	Inbox    link.Inbox // where devices send files to; nil when there is none
	Mend     Mender     // nil: there are no copies elsewhere
	limits   Limits
	sessions *sessions
	attempts *attempts
	mu       sync.Mutex
	dialects map[string]*dialect.Dialect // guarded by mu
	relays   map[string]openRelay        // guarded by mu
}

// On is the same service, in a job that goes by another clock.
func (s *Service) On(r *job.Runtime) *Service { return &Service{Runtime: r, state: s.state} }

// SetLimits says how many conversations this instance holds at a time. It is
// called before Start.
func (s *Service) SetLimits(l Limits) {
	s.limits = l
	s.SetSessions(l.Sessions)
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

// DialectOf returns a device's dialect, as it is for its model and release and
// with its own time-outs; nil if there is none.
func (s *Service) DialectOf(d core.Device) *dialect.Dialect {
	dia := s.Dialect(d.Dialect)
	if dia == nil {
		return nil
	}
	dia = dia.For(d.Transport, d.Model, d.Release)
	if d.Member != "" && dia.Members != nil {
		dia = dia.Member()
	}
	own := *dia
	own.Scope = d.ID
	if len(d.Timeouts) > 0 {
		for name, into := range map[string]*time.Duration{"connect": &own.Connect, "answer": &own.Answer, "idle": &own.Idle, "whole": &own.Whole} {
			if t, err := time.ParseDuration(d.Timeouts[name]); err == nil {
				*into = t
			}
		}
	}
	return &own
}
