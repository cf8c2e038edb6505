package api

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// tag puts tags on many devices, or takes them off: on all of them, or on none.
func (s *Server) tag(c *gin.Context) {
	var in client.NewTags
	if !readBody(c, &in) {
		return
	}
	if len(in.Add)+len(in.Drop) == 0 {
		fail(c, bad("neither a tag to add nor one to drop is named", "name at least one"))
		return
	}
	for _, tags := range [][]string{in.Add, in.Drop} {
		err := checkTags(tags)
		if slices.Contains(tags, "") {
			err = bad("an empty word is no tag", "")
		}
		if err != nil {
			fail(c, problem(err))
			return
		}
	}
	devices, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	out := client.Page[client.Device]{Items: []client.Device{}}
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		out.Items = out.Items[:0]
		for _, was := range devices {
			d, err := q.LockDevice(ctx, was.ID, 0)
			if err != nil {
				return err
			}
			tags := slices.DeleteFunc(slices.Clone(d.Tags), func(t string) bool { return slices.Contains(in.Drop, t) })
			for _, t := range in.Add {
				if !slices.Contains(tags, t) {
					tags = append(tags, t)
				}
			}
			if slices.Equal(tags, d.Tags) {
				continue
			}
			said := core.Became("tags", strings.Join(tags, ", "), strings.Join(d.Tags, ", "))
			before := d
			d.Tags = tags
			if err := s.Visits.Edit(ctx, q, before, d); err != nil {
				return err
			}
			if err := q.Audit(ctx, "device edited", d.Name, said); err != nil {
				return err
			}
			if d, err = q.DeviceByID(ctx, d.ID); err != nil {
				return err
			}
			out.Items = append(out.Items, s.wireDevice(d))
		}
		return nil
	})
	answer(c, 200, out, err)
}

// baselines approves a version of each of many devices, of its main part. Devices that
// have none of that name or time are left as they are, and listed.
func (s *Server) baselines(c *gin.Context) {
	var in client.NewBaselines
	if !readBody(c, &in) {
		return
	}
	devices, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	which := in.Which
	if which == "" {
		which = "latest"
	}
	var asked []core.Version // of devices for which a second person has to approve
	var done []string
	out, on := client.Baselined{Items: []client.Version{}, Skipped: []client.Skipped{}}, true
	for _, d := range devices {
		r, ok := s.reference(c, d.Name+"@"+which, "which")
		if !ok {
			return
		}
		if r.Which == "live" {
			fail(c, wrong("which", "what is only looked at cannot be a baseline", "pull first, and take latest"))
			return
		}
		v, err := s.Read.SetMark(c.Request.Context(), actor(c), r, read.Mark{Baseline: &on})
		if errors.Is(err, read.ErrSecondPerson) {
			if v, err = s.Read.Version(c.Request.Context(), actor(c), r); err == nil {
				asked = append(asked, v)
				continue
			}
		}
		switch {
		case errors.Is(err, store.ErrNotFound):
			out.Skipped = append(out.Skipped, client.Skipped{Device: d.Name, Why: "it has no version " + which})
		case err != nil:
			fail(c, problem(fmt.Errorf("%s, after %s: %w", d.Name, core.Count(len(done), "device", "devices"), err)))
			return
		default:
			done = append(done, v.ID)
		}
	}
	if len(asked) > 0 {
		j, err := s.Read.AskBaselines(c.Request.Context(), actor(c), asked)
		if err != nil {
			fail(c, problem(err))
			return
		}
		out.Job, out.Waiting = j.ID, len(asked)
	}
	known, err := s.Jobs.Store.As(actor(c)).Listed(c.Request.Context(), done...)
	out.Items = wire.List(wireVersion, known)
	answer(c, 200, out, err)
}
