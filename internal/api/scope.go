package api

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
)

// Roles for some devices. Who has one may do what is marked so in the table of operations, to
// these devices, and nothing else above looking: an operation that is not marked is refused, so
// that one that is forgotten is closed.

// outside says that something is beyond somebody's devices.
func outside(a core.Actor, what string) *client.Problem {
	return &client.Problem{Status: 403, Title: "not allowed", Detail: fmt.Sprintf("%s; %s is %s for %s only", what, a.Name, core.Operator, strings.Join(a.Scopes, " and ")), Next: "ask somebody whose role holds there"}
}

// within tells whether all of some devices are somebody's to work with; if not, the answer says
// so.
func (s *Server) within(c *gin.Context, devices ...core.Device) bool {
	a := actor(c)
	for _, scope := range a.Scopes {
		theirs, err := s.Jobs.Store.As(a).Selected(c.Request.Context(), scope)
		if err != nil {
			fail(c, problem(err))
			return false
		}
		for _, d := range devices {
			if !slices.ContainsFunc(theirs, func(x core.Device) bool { return x.ID == d.ID }) {
				if once := s.once(c, "refused", c.Request.Method+" "+c.FullPath()+" "+d.Name); once {
					if err := s.wrote(c.Request.Context(), a, "refused", d.Name, c.Request.Method+" "+c.FullPath()+", beyond "+scope); err != nil {
						fail(c, problem(err))
						return false
					}
				}
				fail(c, outside(a, "this is about "+d.Name))
				return false
			}
		}
	}
	return true
}

// withinNamed does so for a device by its name.
func (s *Server) withinNamed(c *gin.Context, name string) bool {
	if len(actor(c).Scopes) == 0 {
		return true
	}
	d, err := s.Jobs.Store.As(actor(c)).Device(c.Request.Context(), name)
	if err != nil {
		fail(c, problem(err))
		return false
	}
	return s.within(c, d)
}

// withinIDs does so for devices by their ids; none are nobody's who has some.
func (s *Server) withinIDs(c *gin.Context, ids []string, what string) bool {
	a := actor(c)
	if len(a.Scopes) == 0 {
		return true
	}
	devices, err := s.Jobs.Store.As(a).DevicesByID(c.Request.Context(), ids)
	switch {
	case err != nil:
		fail(c, problem(err))
		return false
	case len(ids) == 0 || len(devices) < len(ids): // one that was removed is nobody's
		fail(c, outside(a, what))
		return false
	}
	return s.within(c, devices...)
}

// withinJob does so for the device of a job, or for all devices of a restore or its preview.
func (s *Server) withinJob(c *gin.Context, id string) bool {
	a := actor(c)
	if len(a.Scopes) == 0 {
		return true
	}
	q := s.Jobs.Store.As(a)
	j, err := q.Job(c.Request.Context(), id)
	if err != nil {
		fail(c, problem(err))
		return false
	}
	ids := []string{j.DeviceID}
	if j.DeviceID == "" {
		if ids, err = s.Fleet.DevicesOf(c.Request.Context(), j); err != nil {
			fail(c, problem(err))
			return false
		}
	}
	return s.withinIDs(c, ids, "this is about a job of many devices")
}

// withinPreview does so for the device of a preview.
func (s *Server) withinPreview(c *gin.Context, id string) bool {
	a := actor(c)
	if len(a.Scopes) == 0 {
		return true
	}
	q := s.Jobs.Store.As(a)
	var any json.RawMessage
	p, err := q.Preview(c.Request.Context(), id, &any)
	var d core.Device
	if err == nil {
		d, err = q.DeviceByID(c.Request.Context(), p.DeviceID)
	}
	if err != nil {
		fail(c, problem(err))
		return false
	}
	return s.within(c, d)
}

// soundScope checks for which devices somebody is to be an operator.
func (s *Server) soundScope(c *gin.Context, field, scope, role string) error {
	if scope == "" {
		return nil
	}
	if role != core.Operator {
		return wrong(field, "a scope belongs to the role operator: readers see everything, and what admins do is about everything", "")
	}
	if p := keepable(field, scope); p != nil {
		return p
	}
	devices, err := s.Jobs.Store.As(actor(c)).Selected(c.Request.Context(), scope)
	if err != nil {
		return wrong(field, err.Error(), "")
	}
	if len(devices) == 0 {
		return wrong(field, "no device is "+scope, "")
	}
	return nil
}
