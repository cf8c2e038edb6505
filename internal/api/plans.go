package api

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core/ref"
	"magpie/internal/fleet"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// planOf reads when a push is to be done.
func planOf(c *gin.Context, in client.NewPush) (p fleet.Plan, ok bool) {
	if in.From == nil || in.Until == nil {
		fail(c, bad("a planned push has a beginning and an end, and only one of from and until is given", "give both; it begins between them, or not at all"))
		return p, false
	}
	if in.Zone == "" {
		in.Zone = "UTC"
	}
	if _, err := ref.Zone(in.Zone); err != nil {
		fail(c, wrong("zone", err.Error(), ""))
		return p, false
	}
	return fleet.Plan{From: in.From.UTC().Truncate(time.Millisecond), Until: in.Until.UTC().Truncate(time.Millisecond), Zone: in.Zone}, true
}

var wiredApproval = wire.Make[client.Approval, store.Approval]("Selector")

func wireApproval(a store.Approval) client.Approval {
	out := wiredApproval(a)
	out.Selector = strings.Fields(a.Selector)
	return out
}

func (s *Server) approvals(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).Approvals(c.Request.Context())
	list(c, all, err, func(a store.Approval) string { return a.ID }, wireApproval)
}

func (s *Server) addApproval(c *gin.Context) {
	var in client.NewApproval
	if !readBody(c, &in) {
		return
	}
	text, ok := s.selectorText(c, in.Selector)
	if !ok {
		return
	}
	// A name of nobody's would protect nobody; a pattern may be for devices to come.
	sel, _ := ref.ParseSelector(in.Selector)
	for _, name := range sel.Names() {
		if _, err := s.Jobs.Store.As(actor(c)).Device(c.Request.Context(), name); err != nil {
			fail(c, problem(err))
			return
		}
	}
	var a store.Approval
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
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
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
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

// restoreTest tries a version out on another device.
func (s *Server) restoreTest(c *gin.Context) {
	var in client.NewRestoreTest
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	r, ok := s.reference(c, in.Ref, "ref")
	if !ok {
		return
	}
	ctx := c.Request.Context()
	target, err := s.Visits.Version(ctx, actor(c), r)
	if err != nil {
		fail(c, problem(err))
		return
	}
	on, err := s.Jobs.Store.As(actor(c)).Device(ctx, in.On)
	if err != nil {
		fail(c, problem(err))
		return
	}
	j, err := s.Fleet.RequestRestoreTest(ctx, actor(c), target, on, in.Note, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

var wireSnapshot = wire.Make[client.Snapshot, store.Snapshot]("Versions")

func (s *Server) snapshots(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).Snapshots(c.Request.Context())
	list(c, all, err, func(x store.Snapshot) string { return x.Name }, wireSnapshot)
}

func (s *Server) snapshot(c *gin.Context) {
	q := s.Jobs.Store.As(actor(c))
	x, err := q.Snapshot(c.Request.Context(), c.Param("name"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	out := wireSnapshot(x)
	all, err := q.SnapshotListed(c.Request.Context(), x.ID)
	for _, v := range all {
		out.Versions = append(out.Versions, wireVersion(v))
	}
	answer(c, 200, out, err)
}

func (s *Server) addSnapshot(c *gin.Context) {
	var in client.NewSnapshot
	if !readBody(c, &in) {
		return
	}
	text, ok := s.selectorText(c, in.Selector)
	if !ok {
		return
	}
	if !noted(c, "note", in.Note) {
		return
	}
	devs, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	if !s.within(c, devs...) {
		return
	}
	x, err := s.Fleet.MakeSnapshot(c.Request.Context(), actor(c), store.Snapshot{Name: in.Name, Selector: text, Note: in.Note}, devs, in.At)
	answer(c, http.StatusCreated, wireSnapshot(x), err)
}

var wiredPartDiff = wire.Make[client.PartDiff, read.PartDiff]()

// snapshotDiff compares two moments of many devices.
func (s *Server) snapshotDiff(c *gin.Context) {
	if c.Query("from") == "" {
		fail(c, wrong("from", "no snapshot and no time is named", "name a snapshot, or a time like 2026-11-20T10:00Z"))
		return
	}
	d, err := s.Read.CompareMoments(c.Request.Context(), actor(c), c.Query("from"), c.Query("to"))
	out := client.MomentDiff{From: d.From, To: d.To, Same: d.Same, Parts: []client.PartDiff{}, Oldest: d.Oldest, OldestAt: d.OldestAt}
	for _, p := range d.Parts {
		out.Parts = append(out.Parts, wiredPartDiff(p))
	}
	answer(c, http.StatusOK, out, err)
}

func (s *Server) removeSnapshot(c *gin.Context) {
	ctx, name := c.Request.Context(), c.Param("name")
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		if err := q.RemoveSnapshot(ctx, name); err != nil {
			return err
		}
		return q.Audit(ctx, "snapshot removed", name, "its versions stay")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(http.StatusNoContent)
}

// sheet says what a person types at a unit so that the service can reach it.
func (s *Server) sheet(c *gin.Context) {
	r, ok := s.reference(c, c.Query("ref"), "ref")
	if !ok {
		return
	}
	a, ctx := actor(c), c.Request.Context()
	secrets := c.Query("secrets") == "true"
	if secrets && !a.Secrets {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "you may not see secrets", Next: "leave secrets out, or ask an admin for the right: magpie user edit NAME --secrets"})
		return
	}
	target, err := s.Visits.Version(ctx, a, r)
	if err != nil {
		fail(c, problem(err))
		return
	}
	if secrets && !s.saw(c, target.Device, "bootstrap sheet with its secrets") {
		return
	}
	x, err := s.Pushes.BootstrapSheet(ctx, a, target, secrets)
	answer(c, 200, x, err)
}
