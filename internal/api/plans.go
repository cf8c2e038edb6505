package api

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/work"
)

// planOf reads when a push is to be done.
func planOf(c *gin.Context, in client.NewPush) (p work.Plan, ok bool) {
	if in.From == nil || in.Until == nil {
		fail(c, bad("a planned push has a beginning and an end, and only one of from and until is given", "give both; it begins between them, or not at all"))
		return p, false
	}
	if in.Zone == "" {
		in.Zone = "UTC"
	}
	if _, err := time.LoadLocation(in.Zone); err != nil || in.Zone == "Local" {
		fail(c, wrong("zone", "zone "+in.Zone+" is not known", "write it as the IANA time zone database does, like Atlantic/Faroe or UTC"))
		return p, false
	}
	return work.Plan{From: in.From.UTC().Truncate(time.Millisecond), Until: in.Until.UTC().Truncate(time.Millisecond), Zone: in.Zone}, true
}

func wireApproval(a store.Approval) client.Approval {
	return client.Approval{ID: a.ID, Selector: strings.Fields(a.Selector), MadeBy: a.MadeBy, MadeAt: a.MadeAt}
}

func (s *Server) approvals(c *gin.Context) {
	all, err := s.Work.Store.As(actor(c)).Approvals(c.Request.Context())
	out := []client.Approval{}
	for _, a := range all {
		out = append(out, wireApproval(a))
	}
	answer(c, 200, out, err)
}

func (s *Server) addApproval(c *gin.Context) {
	var in client.NewApproval
	if !read(c, &in) {
		return
	}
	text := strings.Join(in.Selector, " ")
	if _, err := ref.ParseSelector(in.Selector); err != nil || text == "" || len(text) > 255 {
		fail(c, wrong("selector", "this selects no devices: "+text, "name devices, or select them like site=control kind=firewall; name=* selects all"))
		return
	}
	var a store.Approval
	err := s.Work.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
		if a, err = q.AddApproval(c.Request.Context(), text); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "approval asked for", text, "pushes to these devices need a second person")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.JSON(http.StatusCreated, wireApproval(a))
}

func (s *Server) removeApproval(c *gin.Context) {
	err := s.Work.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		text, err := q.RemoveApproval(c.Request.Context(), c.Param("id"))
		if err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "approval no longer asked for", text, "")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(http.StatusNoContent)
}
