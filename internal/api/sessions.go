package api

import (
	"context"
	"fmt"
	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"maps"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

func (s *Server) tokens(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).Tokens(c.Request.Context(), actor(c).ID)
	list(c, rows, err, func(t store.Token) string { return t.ID }, func(t store.Token) client.Token {
		return client.Token{ID: t.ID, Name: t.Name, MadeAt: t.MadeAt, UsedAt: t.UsedAt, Expires: t.ExpiresAt, Role: t.Role, Masked: t.Masked, Scope: strings.Fields(t.Scope)}
	})
}

// sessions lists the browsers that are signed in: one's own; an admin sees all.
func (s *Server) sessions(c *gin.Context) {
	a, own := actor(c), c.MustGet("token").(store.Token).ID
	rows, err := s.theirSessions(c.Request.Context(), a)
	list(c, rows, err, func(x store.Session) string { return x.ID }, func(x store.Session) client.Session {
		return client.Session{ID: x.ID, User: x.User, From: x.Name, MadeAt: x.MadeAt, UsedAt: x.UsedAt, Expires: x.ExpiresAt, This: x.ID == own}
	})
}

// theirSessions are the sessions that somebody may see and end.
func (s *Server) theirSessions(ctx context.Context, a core.Actor) ([]store.Session, error) {
	whose := a.ID
	if a.May(core.Admin) {
		whose = ""
	}
	return s.Jobs.Store.As(a).Sessions(ctx, whose)
}

// endSession ends one of them.
func (s *Server) endSession(c *gin.Context) {
	s.endSessions(c, func(x store.Session) bool { return x.ID == c.Param("id") }, fmt.Errorf("session %q: %w", c.Param("id"), store.ErrNotFound))
}

// endOthers ends all sessions of a user but the one that asks: one's own, or, for an
// admin, another's.
func (s *Server) endOthers(c *gin.Context) {
	a, user := actor(c), c.Query("user")
	switch {
	case user == "":
		user = a.Name
	case user != a.Name && !a.May(core.Admin):
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "only an admin ends the sessions of others", Next: "ask an admin"})
		return
	default:
		if _, err := s.Jobs.Store.As(a).UserNamed(c.Request.Context(), user); err != nil {
			fail(c, problem(err))
			return
		}
	}
	own := c.MustGet("token").(store.Token).ID
	s.endSessions(c, func(x store.Session) bool { return x.User == user && x.ID != own }, nil)
}

func (s *Server) endSessions(c *gin.Context, which func(store.Session) bool, none error) {
	ctx, a := c.Request.Context(), actor(c)
	all, err := s.theirSessions(ctx, a)
	var ids []string
	users := map[string]bool{}
	for _, x := range all {
		if which(x) {
			ids, users[x.User] = append(ids, x.ID), true
		}
	}
	if err == nil && len(ids) == 0 {
		err = none
	}
	if err == nil && len(ids) > 0 {
		err = s.Jobs.Store.Tx(ctx, a, func(q *store.Q) error {
			if err := q.EndSessions(ctx, ids); err != nil {
				return err
			}
			return q.Audit(ctx, "sessions ended", strings.Join(slices.Sorted(maps.Keys(users)), ", "), core.Count(len(ids), "session", "sessions"))
		})
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

func (s *Server) dropToken(c *gin.Context) {
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		if err := q.DropToken(c.Request.Context(), actor(c).ID, c.Param("id")); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "token dropped", c.Param("id"), "")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}
