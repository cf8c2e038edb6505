package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/job"
	"magpie/internal/routine"
	"magpie/internal/store"
	"magpie/internal/wire"
)

var wiredSchedule = wire.Make[client.Schedule, store.Schedule]("Deeds", "Selector", "Spread", "Blackouts", "Devices", "Next", "Last", "Clocks", "Same")

// wireSchedule is a schedule with what it will do, and what it did.
func (s *Server) wireSchedule(ctx context.Context, x store.Schedule) (client.Schedule, error) {
	out := wiredSchedule(x)
	out.Selector = strings.Fields(x.Selector)
	v, err := s.Routine.See(ctx, x)
	if err != nil {
		return out, err
	}
	out.Deeds, out.Blackouts, out.Next, out.Clocks, out.Same = []client.Deed{}, v.Blackouts, []client.NextRun{}, v.Clocks, v.Same
	for _, d := range v.Deeds {
		out.Deeds = append(out.Deeds, client.Deed(d))
	}
	for _, n := range v.Next {
		out.Next = append(out.Next, client.NextRun{At: n.At.UTC(), Local: n.At.Format("Mon 2006-01-02 15:04 MST"), LeftOut: n.LeftOut})
	}
	if x.SpreadS > 0 {
		out.Spread = v.Spread
	}
	out.Devices = v.Devices
	if v.Last != nil {
		last := wireItem(*v.Last)
		out.Last = &last
	}
	return out, nil
}

func wireItem(i routine.Item) client.AgendaItem { return client.AgendaItem(i) }

// wanted reads a schedule that somebody asks for.
func (s *Server) wanted(c *gin.Context) (w routine.Wanted, ok bool) {
	var in client.NewSchedule
	if !readBody(c, &in) {
		return w, false
	}
	text, ok := s.selectorText(c, in.Selector)
	if !ok || !noted(c, "note", in.Note) {
		return w, false
	}
	if _, ok := s.chosen(c, in.Selector); !ok { // one that is about nobody is a mistake
		return w, false
	}
	w = routine.Wanted{Name: in.Name, Rule: in.Rule, Zone: in.Zone, Selector: text, Spread: in.Spread, Blackouts: in.Blackouts, Paused: in.Paused, Note: in.Note}
	for _, d := range in.Deeds {
		w.Deeds = append(w.Deeds, routine.Deed(d))
	}
	return w, true
}

func (s *Server) answerSchedule(c *gin.Context, status int, x store.Schedule, err error) {
	var out client.Schedule
	if err == nil {
		out, err = s.wireSchedule(c.Request.Context(), x)
	}
	answer(c, status, out, err)
}

func (s *Server) schedules(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).Schedules(c.Request.Context())
	out := make([]client.Schedule, 0, len(all))
	for _, x := range all {
		if err == nil {
			var w client.Schedule
			w, err = s.wireSchedule(c.Request.Context(), x)
			out = append(out, w)
		}
	}
	list(c, out, err, func(x client.Schedule) string { return x.Name }, func(x client.Schedule) client.Schedule { return x })
}

func (s *Server) schedule(c *gin.Context) {
	x, err := s.Jobs.Store.As(actor(c)).Schedule(c.Request.Context(), c.Param("name"))
	s.answerSchedule(c, 200, x, err)
}

func (s *Server) addSchedule(c *gin.Context) {
	if w, ok := s.wanted(c); ok {
		x, err := s.Routine.Save(c.Request.Context(), actor(c), "", w)
		s.answerSchedule(c, http.StatusCreated, x, err)
	}
}

func (s *Server) editSchedule(c *gin.Context) {
	if w, ok := s.wanted(c); ok {
		x, err := s.Routine.Save(c.Request.Context(), actor(c), c.Param("name"), w)
		s.answerSchedule(c, 200, x, err)
	}
}

// checkSchedule says what a schedule would do, and keeps nothing.
func (s *Server) checkSchedule(c *gin.Context) {
	w, ok := s.wanted(c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	x, err := s.Routine.Check(ctx, actor(c), w, s.Clock().UTC())
	if was := c.Query("was"); err == nil && was != "" {
		var old store.Schedule
		if old, err = s.Jobs.Store.As(actor(c)).Schedule(ctx, was); err == nil {
			x.ID, x.MadeBy, x.MadeAt = old.ID, old.MadeBy, old.MadeAt
		}
	}
	s.answerSchedule(c, 200, x, err)
}

func (s *Server) removeSchedule(c *gin.Context) {
	gone(c, s.Routine.Remove(c.Request.Context(), actor(c), c.Param("name")))
}

func (s *Server) runSchedule(c *gin.Context) {
	var in client.NewRun
	k, ok := s.asked(c, &in)
	if !ok || !noted(c, "note", in.Note) {
		return
	}
	j, err := s.Routine.Run(c.Request.Context(), actor(c), c.Param("name"), in.Note, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

// pauseSchedule stops a schedule from being due, or has it be due again.
func (s *Server) pauseSchedule(paused bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		x, err := s.Routine.Pause(c.Request.Context(), actor(c), c.Param("name"), paused)
		s.answerSchedule(c, 200, x, err)
	}
}

// mostAgenda is how long a span of the agenda can be.
const mostAgenda = 62 * 24 * time.Hour

// agenda lists when schedules were due and will be.
func (s *Server) agenda(c *gin.Context) {
	now := s.Clock().UTC()
	from, ok := s.instant(c, "from", now.Add(-24*time.Hour))
	if !ok {
		return
	}
	until, ok := s.instant(c, "until", now.Add(7*24*time.Hour))
	if !ok {
		return
	}
	if !until.After(from) || until.Sub(from) > mostAgenda {
		fail(c, wrong("until", fmt.Sprintf("the agenda of %s to %s is asked for", from.Format(time.RFC3339), until.Format(time.RFC3339)), "ask for a span that ends after it begins, of 62 days at most"))
		return
	}
	all, err := s.Routine.Agenda(c.Request.Context(), from, until)
	list(c, all, err, func(i routine.Item) string { return i.At.UTC().Format("20060102T150405.000000Z") + " " + i.Schedule }, wireItem)
}

// recurring are the kinds of jobs that a schedule can begin.
func recurring(kinds []job.Kind) (names []string) {
	for _, k := range kinds {
		if k.Recurs != nil {
			names = append(names, k.Name)
		}
	}
	return names
}

// notices takes in that devices were said to have changed.
func (s *Server) notices(c *gin.Context) {
	var in client.NewNotice
	if !readBody(c, &in) {
		return
	}
	if len([]rune(in.Author)) > 128 {
		fail(c, wrong("author", "the author has more than 128 characters", ""))
		return
	}
	devs, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	if !s.within(c, devs...) {
		return
	}
	for _, d := range devs {
		if err := s.Routine.Noticed(c.Request.Context(), d, in.Author, "api"); err != nil {
			fail(c, problem(err))
			return
		}
	}
	c.Status(http.StatusNoContent)
}
