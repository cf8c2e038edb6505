package api

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// retentionRoutes are the operations by which it is said how long versions stay.
func (s *Server) retentionRoutes() []route {
	const reader, admin = core.Reader, core.Admin
	return []route{
		{"GET", "/retention", reader, s.retentions, about{id: "listRetention", tag: "retention", does: "For how long versions stay", more: "The first policy that picks a device holds; the last is for all.", gives: client.Page[client.Retention]{}}},
		{"PUT", "/retention/:name", admin, s.setRetention, about{id: "setRetention", tag: "retention", does: "Say for how long versions stay", more: "Nothing is deleted by that; the next run of retention does.", takes: client.NewRetention{}, gives: client.Retention{}}},
		{"DELETE", "/retention/:name", admin, s.removeRetention, about{id: "removeRetention", tag: "retention", does: "Take a policy away", more: "Of everything-else: back to the usual one.", status: 204}},
		{"GET", "/retention-preview", reader, s.previewRetention, about{id: "previewRetention", tag: "retention", does: "Which versions would be deleted now, and by what rule", query: []param{{"selector", "string", false, "of these devices, words separated by blanks"}}, gives: client.RetentionPreview{}}},
	}
}

var wiredRetention = wire.Make[client.Retention, store.Retention]("Says", "Selector")

func wireRetention(r store.Retention) client.Retention {
	out := wiredRetention(r)
	out.Says, out.Selector = r.Policy().String(), strings.Fields(r.Selector)
	return out
}

func (s *Server) retentions(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).Retentions(c.Request.Context())
	list(c, rows, err, func(r store.Retention) string { return fmt.Sprintf("%07d %s", r.Place, r.Name) }, wireRetention)
}

func (s *Server) setRetention(c *gin.Context) {
	var in client.NewRetention
	if !readBody(c, &in) || !noted(c, "note", in.Note) {
		return
	}
	r := store.Retention{Name: c.Param("name"), Newest: in.Newest, ByHand: in.ByHand, Daily: in.Daily, Weekly: in.Weekly, Monthly: in.Monthly, Note: in.Note}
	if err := ref.DeviceName(r.Name); err != nil {
		fail(c, wrong("name", strings.Replace(err.Error(), "device's name", "policy's name", 1), ""))
		return
	}
	if err := r.Policy().Sound(); err != nil {
		fail(c, wrong("newest", err.Error(), ""))
		return
	}
	if r.Name != store.EverythingElse {
		text, ok := s.selectorText(c, in.Selector)
		if !ok {
			return
		}
		if _, ok := s.chosen(c, in.Selector); !ok {
			return
		}
		r.Selector = text
	} else if len(in.Selector) > 0 {
		fail(c, wrong("selector", store.EverythingElse+" is for all devices that no other policy picks", "leave the selector out, or choose another name"))
		return
	}
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		all, err := q.Retentions(ctx)
		if err != nil {
			return err
		}
		before := ""
		for _, old := range all {
			if old.Name == r.Name {
				r.Place, before = old.Place, old.Policy().String()+" of "+old.Selector
			}
		}
		if err := q.SaveRetention(ctx, &r); err != nil {
			return err
		}
		return q.Audit(ctx, "retention set", r.Name, core.Instead(r.Policy().String()+" of "+r.Selector, before)+core.Because(r.Note))
	})
	answer(c, 200, wireRetention(r), err)
}

func (s *Server) removeRetention(c *gin.Context) {
	ctx, name := c.Request.Context(), c.Param("name")
	gone(c, s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		if err := q.RemoveRetention(ctx, name); err != nil {
			return err
		}
		return q.Audit(ctx, "retention removed", name, "")
	}))
}

// mostGoing is how many versions a preview lists; it counts all.
const mostGoing = 5000

func (s *Server) previewRetention(c *gin.Context) {
	devices, ok := s.picked(c, strings.Fields(cmp.Or(c.Query("selector"), "all")), false)
	if !ok {
		return
	}
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	policies, err := q.Retentions(ctx)
	if c.Query("selector") == "" && err == nil { // of those that were removed, too
		var gone []core.Device
		gone, err = q.Removed(ctx)
		devices = append(devices, gone...)
	}
	out := client.RetentionPreview{Items: []client.GoingVersion{}}
	now := s.Jobs.Now()
	for _, d := range devices {
		if err != nil {
			break
		}
		var judged, e = s.History.Judge(ctx, q, policies, d, now)
		if err = e; err != nil {
			break
		}
		out.Stay += judged.Stay
		out.Go += len(judged.Going)
		for _, g := range judged.Going {
			if len(out.Items) < mostGoing {
				v := core.Version{Device: g.Device, Part: g.Part, Number: g.Number}
				out.Items = append(out.Items, client.GoingVersion{Ref: v.Ref(), TakenAt: g.TakenAt.In(time.UTC), Reason: g.Reason, Policy: judged.Policy.Name, Why: g.Why})
			}
		}
	}
	answer(c, 200, out, err)
}
