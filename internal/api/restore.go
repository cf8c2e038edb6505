package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core/ref"
	"magpie/internal/fleet"
)

// restorePreview looks what putting many devices back would take.
func (s *Server) restorePreview(c *gin.Context) {
	var in client.NewRestorePreview
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	if in.Snapshot != "" {
		if in.Which != "" {
			fail(c, bad("both a version and a snapshot are named", "give one: the snapshot holds a version of each"))
			return
		}
		in.Which = in.Snapshot
		if len(in.Selector) == 0 {
			in.Selector = []string{"all"}
		}
	}
	if len(in.Selector) == 0 || in.Which == "" {
		fail(c, bad("no devices are selected, or it is not said to which version", `select them like site=callowmere, and name a version that each has: baseline, previous, a name, a time`))
		return
	}
	if in.Which == "live" {
		fail(c, bad("what devices run now cannot be pushed to them", "name baseline, previous, a version's name, or a time"))
		return
	}
	if _, err := ref.ParseVersion("x@"+in.Which, ref.In(time.UTC, s.Clock)); err != nil {
		fail(c, wrong("which", err.Error(), "name baseline, previous, a version's name, or a time"))
		return
	}
	devs, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	var err error
	if in.Snapshot != "" {
		if devs, err = s.Fleet.InSnapshot(ctx, actor(c), in.Snapshot, devs); err != nil {
			fail(c, problem(err))
			return
		}
	}
	if !s.within(c, devs...) {
		return
	}
	j, err := s.Fleet.RequestRestorePreview(ctx, actor(c), devs, in.Which, in.Snapshot, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

// restore pushes what a restore preview shows.
func (s *Server) restore(c *gin.Context) {
	var in client.NewRestore
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	within, ok := window(c, in.Within)
	if !ok {
		return
	}
	if !noted(c, "note", in.Note) {
		return
	}
	if len(actor(c).Scopes) > 0 {
		ids, err := s.Fleet.PreviewedDevices(c.Request.Context(), in.RestorePreview)
		if err != nil {
			fail(c, problem(err))
			return
		}
		if !s.withinIDs(c, ids, "this is about a restore of many devices") {
			return
		}
	}
	j, err := s.Fleet.RequestRestore(c.Request.Context(), actor(c), fleet.RestoreRequest{RestorePreviewID: in.RestorePreview, Within: within, Together: in.Together, AtOnce: in.AtOnce, StopAfter: in.StopAfter, Note: in.Note, Override: in.Override, Checks: in.Checks}, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}
