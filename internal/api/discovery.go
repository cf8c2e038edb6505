package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/fleet"
	"magpie/internal/link"
	"magpie/internal/store"
)

// sweepRoutes are the operations by which devices are found.
func (s *Server) sweepRoutes() []route {
	const admin = core.Admin
	return []route{
		{"POST", "/discoveries", admin, s.sweepRange, about{id: "discovery", tag: "devices", does: "Look what answers at addresses", more: "At the ports of the dialects that are loaded; host key and greeting only, nobody signs in. What is not registered there becomes a proposal.", once: true, takes: client.NewDiscovery{}, status: 202, gives: client.Job{}}},
		{"GET", "/proposals", admin, s.proposals, about{id: "listProposals", tag: "devices", does: "What answered where no device is registered", more: "Accepted by adding a device there.", gives: client.Page[client.Proposal]{}}},
		{"DELETE", "/proposals/:id", admin, s.dismiss, about{id: "dismissProposal", tag: "devices", does: "Take a proposal off the list", more: "It comes back when another key is shown there.", status: 204}},
	}
}

func (s *Server) sweepRange(c *gin.Context) {
	var in client.NewDiscovery
	key, ok := s.asked(c, &in)
	if !ok {
		return
	}
	if len(in.Ranges) == 0 {
		fail(c, wrong("ranges", "no range of addresses is named", "name one like 192.0.2.0/26"))
		return
	}
	if _, err := ref.Addresses(in.Ranges); err != nil {
		fail(c, wrong("ranges", err.Error(), ""))
		return
	}
	j, err := s.Fleet.Discover(c.Request.Context(), actor(c), fleet.DiscoveryRequest{Ranges: in.Ranges, Ways: in.Ways}, key)
	if errors.Is(err, fleet.ErrDoor) {
		err = wrong("ways", err.Error(), "")
	}
	s.answerJob(c, http.StatusAccepted, j, err)
}

func (s *Server) proposals(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).Proposals(c.Request.Context())
	list(c, rows, err, func(p store.Proposal) string { return p.ID }, func(p store.Proposal) client.Proposal {
		out := client.Proposal{ID: p.ID, Address: p.Address, Port: p.Port, Transport: p.Transport, HostKey: p.HostKey, Fingerprint: link.Fingerprint(p.HostKey), Says: p.Says, FoundAt: p.FoundAt, SeenAt: p.SeenAt, Same: p.Same, Dialects: []string{}}
		for _, d := range s.Visits.Dialects() {
			if slices.ContainsFunc(d.Ways(), func(w dialect.Way) bool { return w.Transport == p.Transport }) {
				out.Dialects = append(out.Dialects, d.Dialect)
			}
		}
		slices.Sort(out.Dialects)
		return out
	})
}

func (s *Server) dismiss(c *gin.Context) {
	ctx := c.Request.Context()
	gone(c, s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		p, err := q.Dismiss(ctx, c.Param("id"))
		if err != nil {
			return err
		}
		return q.Audit(ctx, "proposal dismissed", p.Address, fmt.Sprintf("port %d, %s %s", p.Port, p.Transport, p.Says))
	}))
}
