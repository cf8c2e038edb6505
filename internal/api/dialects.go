package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/fleet"
	"magpie/internal/link"
	"magpie/internal/store"
)

func (s *Server) wireDialect(d *dialect.Dialect) client.Dialect {
	w := client.Dialect{Name: d.Dialect, Title: d.Title, Kind: d.Kind, Revision: d.Revision, Port: d.Reach.Port, Parts: slices.Sorted(maps.Keys(d.Parts)),
		Methods: d.Change.Methods, Privileged: d.Raised(), Ways: []client.Way{}}
	if w.Methods == nil {
		w.Methods = []string{}
	}
	for _, way := range d.Ways() {
		w.Ways = append(w.Ways, client.Way{Transport: way.Transport, Port: way.Port, ShowsKey: link.Shows(way.Transport)})
	}
	return w
}

func (s *Server) dialects(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).Devices(c.Request.Context(), ref.All())
	count := map[string]int{}
	for _, d := range all {
		count[d.Dialect]++
	}
	list(c, s.Visits.Dialects(), err, func(d *dialect.Dialect) string { return d.Dialect }, func(d *dialect.Dialect) client.Dialect {
		w := s.wireDialect(d)
		w.Devices = count[w.Name]
		return w
	})
}

func (s *Server) meantDialect(name string) string {
	var names []string
	for _, d := range s.Visits.Dialects() {
		names = append(names, d.Dialect)
	}
	if q := ref.Meant(name, names); q != "" {
		return q
	}
	return "magpie dialect list"
}

func (s *Server) dialect(c *gin.Context) {
	d := s.Visits.Dialect(c.Param("name"))
	if d == nil {
		fail(c, &client.Problem{Status: 404, Title: "not found", Detail: fmt.Sprintf("dialect %q: not found", c.Param("name")), Next: s.meantDialect(c.Param("name"))})
		return
	}
	w := s.wireDialect(d)
	w.Source = d.Source
	sel, _ := ref.ParseSelector([]string{"dialect=" + w.Name})
	devs, err := s.Jobs.Store.As(actor(c)).Devices(c.Request.Context(), sel)
	w.Devices = len(devs)
	answer(c, 200, w, err)
}

// checkWithin is how long a dialect file may take to be checked. One that is
// within its bounds takes a hundredth.
const checkWithin = 5 * time.Second

// load checks a dialect file, a few at a time. ok is false when it could not be
// checked, and that was answered.
func (s *Server) load(c *gin.Context, name string, source []byte) (d *dialect.Dialect, out []client.DialectProblem, ok bool) {
	leave, err := s.checking.enter(c.Request.Context(), checkWithin)
	if err != nil {
		fail(c, problem(err))
		return nil, nil, false
	}
	type checked struct {
		d   *dialect.Dialect
		err error
	}
	done := make(chan checked, 1)
	go func() {
		defer leave() // not before it has come to its end
		d, err := dialect.Load(cut(name, 100), source)
		done <- checked{d, err}
	}()
	out = []client.DialectProblem{}
	select {
	case got := <-done:
		d, err = got.d, got.err
	case <-time.After(checkWithin):
		fail(c, bad(fmt.Sprintf("the dialect file takes more than %s to check", checkWithin), "make it smaller, or its patterns simpler"))
		return nil, nil, false
	}
	if err != nil {
		for _, p := range err.(dialect.Problems) {
			out = append(out, client.DialectProblem(p))
		}
	}
	return d, out, true
}

// yamlKinds are the media types of a dialect file (RFC 9512).
var yamlKinds = []string{"application/yaml", "text/yaml", "text/plain"}

func (s *Server) checkDialect(c *gin.Context) {
	source, ok := body(c, yamlKinds...)
	if !ok {
		return
	}
	if d, out, ok := s.load(c, c.DefaultQuery("name", "dialect.yaml"), source); ok {
		if d != nil {
			for _, p := range d.Doubts {
				out = append(out, client.DialectProblem(p))
			}
		}
		c.JSON(200, client.Page[client.DialectProblem]{Items: out})
	}
}

func (s *Server) dialectSchema(c *gin.Context) {
	c.Data(200, "application/schema+json", dialect.Schema)
}

// loadDialect takes a dialect into use, on every instance.
func (s *Server) loadDialect(c *gin.Context) {
	source, ok := body(c, yamlKinds...)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	d, wrong, ok := s.load(c, c.DefaultQuery("name", "dialect.yaml"), source)
	if !ok {
		return
	}
	if len(wrong) > 0 {
		fail(c, bad(fmt.Sprintf("the dialect is not sound: line %d column %d: %s: %s", wrong[0].Line, wrong[0].Column, wrong[0].Path, wrong[0].Text),
			fmt.Sprintf("there are %d problems; see them all: magpie dialect check FILE", len(wrong))))
		return
	}
	err := s.Visits.TakeDialect(ctx, d)
	if err == nil {
		err = s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
			if err := q.DialectUploaded(ctx, d.Dialect, d.Revision); err != nil {
				return err
			}
			return q.Audit(ctx, "dialect loaded", d.Dialect, fmt.Sprintf("revision %d", d.Revision))
		})
	}
	answer(c, 200, s.wireDialect(d), err)
}

// tryDialect runs a dialect file against a live device, shows what is said, and
// keeps nothing.
func (s *Server) tryDialect(c *gin.Context) {
	var in client.DialectTrial
	if !readBody(c, &in) {
		return
	}
	out := client.DialectTried{Problems: []client.DialectProblem{}, Exchanges: []client.Exchange{}}
	dia, wrong, ok := s.load(c, "dialect.yaml", []byte(in.Source))
	if !ok {
		return
	}
	if len(wrong) > 0 {
		out.Problems = wrong
		c.JSON(200, out)
		return
	}
	n := in.Device
	e := entry{own: &store.Secret{}}
	e.d.Name, e.d.Address, e.d.Port, e.d.Transport, e.d.HostKey = "trial", n.Address, n.Port, n.Transport, n.HostKey
	if n.Ports != nil {
		e.d.Ports = *n.Ports
	}
	if err := fillSecret(e.own, n.User, n.Password, n.Key, n.Agent, n.Privileged, n.Passphrase); err != nil {
		fail(c, problem(err))
		return
	}
	way, ok := dia.Way(n.Transport)
	if !ok {
		fail(c, bad(fmt.Sprintf("the dialect does not speak %s", n.Transport), ""))
		return
	}
	if e.d.Port == 0 {
		e.d.Port = way.Port
	}
	if err := checkReach(e.d.Address, e.d.Port); err != nil {
		fail(c, problem(err))
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), 10*time.Minute)
	defer cancel()
	e.d.Dialect = dia.Dialect
	if err := s.wrote(ctx, actor(c), "dialect tried", dia.Dialect, e.reach()); err != nil {
		fail(c, problem(err))
		return
	}
	tried, err := s.attempt(ctx, s.Jobs.Store.As(actor(c)), dia, e, func(x link.Exchange) {
		w := client.Exchange{Sent: x.Sent, Answer: x.Answer, MS: x.Took.Milliseconds()}
		if x.Err != nil {
			w.Trouble = x.Err.Error()
		}
		if len(w.Answer) > 20000 {
			w.Answer = w.Answer[:20000] + "…"
		}
		out.Exchanges = append(out.Exchanges, w)
	})
	out.Tried = tried
	if err != nil {
		out.Trouble = err.Error()
	}
	c.JSON(200, out)
}

// learn queues the drafting of a dialect's rules.
func (s *Server) learn(c *gin.Context) {
	var in client.NewLearn
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	if !actor(c).Secrets {
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "a draft quotes lines of configurations", Next: "ask an admin who may see secrets"})
		return
	}
	if in.Most < 0 || in.Most > 100_000 {
		fail(c, bad(fmt.Sprintf("%d lines", in.Most), "1 to 100,000 can be typed; 2,000 if nothing is said"))
		return
	}
	req := fleet.LearnRequest{Dialect: c.Param("name"), Logs: in.Logs, Experiment: in.Experiment, Most: in.Most, Note: in.Note}
	if len(in.Of) > 0 {
		sel, ok := s.selector(c, in.Of)
		if !ok {
			return
		}
		devices, err := s.pick(ctx, actor(c), sel, true)
		if err != nil {
			fail(c, problem(err))
			return
		}
		for _, d := range devices {
			if d.Dialect == req.Dialect && d.Member == "" {
				req.Of = append(req.Of, d.ID)
			}
		}
		if len(req.Of) == 0 {
			fail(c, bad("no device chosen is spoken to by dialect "+req.Dialect, "choose some that are"))
			return
		}
	}
	var on *core.Device
	if in.On != "" {
		d, err := q.Device(ctx, in.On)
		if err != nil {
			fail(c, problem(err))
			return
		}
		on = &d
	}
	j, err := s.Fleet.RequestLearn(ctx, actor(c), req, on, k)
	if errors.Is(err, fleet.ErrLearn) {
		err = &client.Problem{Status: 422, Title: "nothing can be learned", Detail: err.Error(), Next: "name devices whose versions are read, and a device of that dialect that things may be tried out at"}
	}
	s.answerJob(c, http.StatusAccepted, j, err)
}
