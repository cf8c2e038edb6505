package api

import (
	"context"
	"crypto/sha256"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/retain"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// gather counts the fleet's states, the jobs, and what is kept.
func (s *Server) gather(ctx context.Context, a core.Actor) (client.Status, error) {
	q := s.Jobs.Store.As(a)
	st := client.Status{Version: s.Version, Instance: s.Instance, States: map[string]int{}, Order: core.States, Attend: []client.Device{}, Alike: []client.Alike{}}
	all, err := q.Devices(ctx, ref.All())
	if err != nil {
		return st, err
	}
	for _, d := range all {
		st.Devices++
		if d.Disabled {
			st.Disabled++
			continue
		}
		st.States[d.State]++
		if d.LastProven == nil {
			st.NeverProven++
		}
	}
	for _, state := range core.States {
		for _, d := range all {
			if d.State == state && !d.Disabled && state != core.InSync && len(st.Attend) < 50 {
				st.Attend = append(st.Attend, s.wireDevice(d))
			}
		}
	}
	for _, g := range read.TroubledAlike(visit.Enabled(all)) {
		if len(g.Devices) > 1 {
			st.Alike = append(st.Alike, client.Alike(g))
		}
	}
	if st.Damaged, err = q.DamageCount(ctx); err != nil {
		return st, err
	}
	if st.SheetDue, err = q.SheetDue(ctx); err != nil {
		return st, err
	}
	if err := s.elsewhere(ctx, q, &st); err != nil {
		return st, err
	}
	if st.Untold, st.GivenUp, err = s.Routine.Unsent(ctx); err != nil {
		return st, err
	}
	counts, err := q.JobCounts(ctx)
	if err != nil {
		return st, err
	}
	st.Queued, st.Running, st.Waiting = counts[core.Queued], counts[core.Running], counts[core.Waiting]
	st.Contents, st.Bytes, err = s.contents(ctx, q)
	return st, err
}

// elsewhere tells how what is kept elsewhere stands, and for how long there is room here.
func (s *Server) elsewhere(ctx context.Context, q *store.Q, st *client.Status) error {
	targets, err := q.Targets(ctx)
	if err != nil {
		return err
	}
	st.Targets, st.Failing = len(targets), []string{}
	for _, t := range targets {
		if t.FailingAt != nil && !t.Paused {
			st.Failing = append(st.Failing, t.Name)
		}
	}
	backups, err := q.AllBackups(ctx)
	if err != nil {
		return err
	}
	for _, b := range backups { // newest first
		if st.BackupAt == nil {
			st.BackupAt = &b.MadeAt
		}
		if b.ProvenAt != nil && (st.ProvenAt == nil || b.ProvenAt.After(*st.ProvenAt)) {
			st.ProvenAt = b.ProvenAt
		}
	}
	sizes, err := q.Sizes(ctx, s.Clock().AddDate(0, -1, 0))
	if err != nil {
		return err
	}
	st.Growth = retain.Growth(sizes)
	if s.Routine.Room != nil {
		free, _ := s.Routine.Room()
		room := int64(free)
		st.Room, st.FullIn = &room, retain.FullIn(room, st.Growth)
	}
	if err := s.Jobs.Store.HasRoom(); err != nil {
		st.Halted = err.Error()
	}
	return nil
}

// contents tells how many texts are kept and their bytes, as of the last minute:
// adding them up takes reading of all there are.
func (s *Server) contents(ctx context.Context, q *store.Q) (int64, int64, error) {
	s.mu.Lock()
	k := s.kept
	s.mu.Unlock()
	if now := s.Clock(); k.at.IsZero() || now.Sub(k.at) >= time.Minute || now.Before(k.at) {
		n, bytes, err := q.ContentsCount(ctx)
		if err != nil {
			return 0, 0, err
		}
		k.at, k.n, k.bytes = now, n, bytes
		s.mu.Lock()
		s.kept = k
		s.mu.Unlock()
	}
	return k.n, k.bytes, nil
}

// briefly is how long the status waits for a database that is away: a person who asks
// at three in the morning is told what was known last, and how old that is.
const briefly = 2 * time.Second

// recently is how long somebody who was signed in is taken to be so while the
// database, which would know better, is away.
const recently = 15 * time.Minute

// lastStatus is the status as it was gathered last, and who has seen it lately: they
// may see it again while the database is away.
type lastStatus struct {
	mu   sync.Mutex
	st   client.Status
	at   time.Time
	seen map[[32]byte]time.Time // by the token's hash
}

// keep keeps a status that was just gathered for somebody.
func (l *lastStatus) keep(st client.Status, token string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	l.st, l.at = st, now
	if l.seen == nil || len(l.seen) > 1000 {
		l.seen = map[[32]byte]time.Time{}
	}
	l.seen[sha256.Sum256([]byte(token))] = now
}

// answers answers with the status as it was last, if that is what is asked for, by
// somebody who saw it lately.
func (l *lastStatus) answers(c *gin.Context, token string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	seen, ok := l.seen[sha256.Sum256([]byte(token))]
	if c.FullPath() != "/api/v1/status" || !ok || time.Since(seen) > recently {
		return false
	}
	st, at := l.st, l.at.UTC()
	st.AsOf = &at
	c.AbortWithStatusJSON(http.StatusOK, st)
	return true
}

// brief is a request's context; of one for the status, for a short while only.
func (s *Server) brief(c *gin.Context) (context.Context, context.CancelFunc) {
	if c.FullPath() == "/api/v1/status" {
		return context.WithTimeout(c.Request.Context(), briefly)
	}
	return c.Request.Context(), func() {}
}

func (s *Server) status(c *gin.Context) {
	ctx, cancel := s.brief(c)
	defer cancel()
	st, err := s.gather(ctx, actor(c))
	switch {
	case err == nil:
		s.last.keep(st, c.GetString("word"))
	case !errors.Is(err, store.ErrDatabase) && !errors.Is(err, context.DeadlineExceeded):
	case s.last.answers(c, c.GetString("word")):
		return
	case errors.Is(err, context.DeadlineExceeded):
		err = errors.Join(store.ErrDatabase, err)
	}
	answer(c, 200, st, err)
}
