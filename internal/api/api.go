// Package api serves the HTTP API, version 1, that openapi.yaml describes.
package api

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/work"
)

// Spec is the API's description, OpenAPI 3.1.
//
//go:embed openapi.yaml
var Spec []byte

// Server answers the API of one node.
type Server struct {
	Work    *work.Service
	Version string
	Node    string
	Clock   func() time.Time
	Console fs.FS // the built console; may hold nothing
	// Done is closed when the service stops, so that live events end.
	Done <-chan struct{}

	mu    sync.Mutex
	tries map[string]*attempts
}

// Handler is everything the service answers over HTTP.
func (s *Server) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	s.tries = map[string]*attempts{}
	g := gin.New()
	g.HandleMethodNotAllowed = true
	g.Use(s.guard)
	pages := newPages(s.Console)
	g.NoRoute(func(c *gin.Context) {
		if pages.serve(c) {
			return
		}
		fail(c, &client.Problem{Status: 404, Title: "no such address", Detail: "there is nothing at " + c.Request.URL.Path, Next: "the addresses there are stand in /openapi.yaml"})
	})
	g.NoMethod(func(c *gin.Context) {
		fail(c, &client.Problem{Status: 405, Title: "method not allowed", Detail: c.Request.Method + " is not for " + c.Request.URL.Path, Next: "what can be done here stands in /openapi.yaml"})
	})
	g.GET("/healthz", func(c *gin.Context) { c.String(200, "ok\n") })
	g.GET("/readyz", s.ready)
	g.GET("/openapi.yaml", func(c *gin.Context) { c.Data(200, "application/yaml", Spec) })
	g.GET("/metrics", gin.WrapH(s.metrics()))
	v := g.Group("/api/v1")
	v.POST("/login", s.login)
	v.POST("/session", s.openSession)
	reader, operator, admin := v.Group("", s.role(core.Reader)), v.Group("", s.role(core.Operator)), v.Group("", s.role(core.Admin))

	reader.DELETE("/session", s.closeSession)
	reader.GET("/me", s.me)
	reader.GET("/status", s.status)
	reader.GET("/tokens", s.tokens)
	reader.DELETE("/tokens/:id", s.dropToken)

	reader.GET("/devices", s.devices)
	reader.GET("/devices/:name", s.device)
	reader.GET("/devices/:name/versions", s.versions)
	admin.POST("/devices", s.addDevice)
	admin.PATCH("/devices/:name", s.editDevice)
	admin.DELETE("/devices/:name", s.removeDevice)
	operator.POST("/devices/:name/retry-login", s.retryLogin)
	operator.POST("/probe", s.probe) // who may swap a unit has to see its key
	admin.POST("/try", s.try)
	admin.POST("/devices-import", s.importDevices)

	reader.GET("/credentials", s.credentials)
	admin.POST("/credentials", s.addCredential)
	admin.PATCH("/credentials/:name", s.editCredential)
	admin.DELETE("/credentials/:name", s.removeCredential)
	admin.POST("/credentials/:name/attach", s.attachCredential)
	operator.POST("/credentials/:name/retry", s.retryCredential)

	reader.GET("/version", s.version)
	reader.GET("/version/text", s.versionText)
	operator.PATCH("/version", s.mark)
	operator.POST("/versions", s.edit)
	reader.GET("/diff", s.diff)
	reader.GET("/drift", s.drift)

	operator.POST("/pulls", s.pull)
	operator.POST("/previews", s.newPreview)
	reader.GET("/previews/:id", s.preview)
	operator.POST("/pushes", s.push)
	reader.GET("/jobs", s.jobs)
	reader.GET("/devices/:name/swaps", s.swaps)
	reader.GET("/jobs/:id", s.job)
	reader.GET("/jobs/:id/log", s.log)
	reader.GET("/jobs/:id/events", s.events)
	operator.POST("/surveys", s.survey)
	operator.POST("/restores", s.restore)
	operator.POST("/jobs/:id/cancel", s.cancel)
	operator.POST("/jobs/:id/confirm", s.decide("confirm"))
	operator.POST("/jobs/:id/undo", s.decide("undo"))
	operator.POST("/jobs/:id/restart", s.decide("restart"))
	operator.POST("/jobs/:id/approve", s.decide("approve"))
	operator.POST("/jobs/:id/decline", s.decide("decline"))
	operator.POST("/drills", s.drill)
	operator.GET("/sheet", s.sheet)
	reader.GET("/relays", s.relays)
	operator.GET("/relay", s.openRelay)
	reader.GET("/snapshots", s.snapshots)
	reader.GET("/snapshots/:name", s.snapshot)
	operator.POST("/snapshots", s.addSnapshot)
	operator.DELETE("/snapshots/:name", s.removeSnapshot)
	reader.GET("/approvals", s.approvals)
	admin.POST("/approvals", s.addApproval)
	admin.DELETE("/approvals/:id", s.removeApproval)

	reader.GET("/dialects", s.dialects)
	reader.GET("/dialects/:name", s.dialect)
	reader.POST("/dialect-check", s.checkDialect)
	reader.GET("/dialect-schema", s.dialectSchema)
	admin.POST("/dialects", s.loadDialect)
	admin.POST("/dialect-try", s.tryDialect)

	admin.GET("/users", s.users)
	admin.POST("/users", s.addUser)
	admin.PATCH("/users/:name", s.editUser)
	admin.GET("/audit", s.audit)
	admin.GET("/audit-check", s.checkAudit)
	return g
}

// guard sets the headers every answer has, and turns a breakdown into an error
// that says nothing of what was being worked on.
func (s *Server) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	h.Set("Referrer-Policy", "no-referrer")
	if !utf8.ValidString(c.Request.URL.Path) || !validQuery(c.Request.URL.RawQuery) {
		fail(c, bad("the address holds bytes that are no text", "encode it as UTF-8"))
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, 4<<20)
	defer func() {
		if p := recover(); p != nil {
			slog.Error("request broke down", "path", c.FullPath(), "panic", p)
			fail(c, &client.Problem{Status: 500, Title: "defect", Detail: "the service broke down on this request; this is a defect of ours", Next: "the service's log has more; please report it"})
		}
	}()
	c.Next()
}

func validQuery(raw string) bool {
	q, err := url.QueryUnescape(raw)
	return err == nil && utf8.ValidString(q)
}

func fail(c *gin.Context, p *client.Problem) {
	if p.Type == "" {
		p.Type = "about:blank"
	}
	raw, _ := json.Marshal(p)
	c.Abort()
	c.Data(p.Status, "application/problem+json", raw)
}

// problem words an error for whoever asked.
func problem(err error) *client.Problem {
	var p *client.Problem
	var claimed work.ErrClaimed
	var key *link.HostKeyError
	var timeout *link.TimeoutError
	var refused *link.Refused
	var part *link.Incomplete
	say := func(status int, title, next string) *client.Problem {
		return &client.Problem{Status: status, Title: title, Detail: err.Error(), Next: next}
	}
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &claimed):
		return say(409, "another push holds the device", "")
	case errors.Is(err, work.ErrChecks):
		return say(400, "checks that cannot be made", "")
	case errors.Is(err, work.ErrNotEditable):
		return say(400, "not kept", "")
	case errors.Is(err, work.ErrNothingToRestore), errors.Is(err, work.ErrNoSurvey):
		return say(409, "nothing to restore", "look at the devices again: magpie restore SELECTOR --to WHICH --preview")
	case errors.Is(err, work.ErrDoubts):
		return say(409, "the preview has doubts", "if it is to be done all the same, say why: despite")
	case errors.Is(err, work.ErrNoRestart):
		return say(400, "nothing to leave to later", "")
	case errors.Is(err, work.ErrPlan):
		return say(400, "not planned", "")
	case errors.Is(err, work.ErrSnapshot):
		return say(400, "no snapshot", "")
	case errors.Is(err, work.ErrRelay):
		return say(409, "no relay", "see which are open: magpie relay list")
	case errors.Is(err, work.ErrSheet):
		return say(409, "no carry sheet", "")
	case errors.Is(err, work.ErrDrill):
		return say(400, "no drill", "")
	case errors.Is(err, work.ErrWindow):
		return say(400, "no such window", "")
	case errors.Is(err, work.ErrSecondPerson):
		return say(403, "a second person is asked for", "see which rules there are: magpie approval list")
	case errors.Is(err, work.ErrTooLate):
		return say(409, "too late", "see what became of it: magpie job list")
	case errors.Is(err, work.ErrPreviewChanged):
		return say(409, "the preview changed", "")
	case errors.Is(err, work.ErrNotComparable):
		return say(400, "not comparable", "compare two versions of the same part")
	case errors.Is(err, work.ErrBreaker):
		return say(409, "credential set shut", "have a look why so many devices refuse it; then: magpie credential retry NAME")
	case errors.Is(err, work.ErrCannotMask):
		return say(403, "cannot be masked", "")
	case errors.Is(err, link.ErrLoginRefused):
		return say(502, "login refused", "")
	case errors.As(err, &key):
		return say(502, "the host key changed", "")
	case errors.As(err, &timeout), errors.Is(err, context.DeadlineExceeded):
		return say(504, "the device takes too long", "")
	case errors.Is(err, link.ErrUnreachable):
		return say(502, "unreachable", "")
	case errors.As(err, &refused):
		return say(502, "the device refused", "")
	case errors.As(err, &part):
		return say(502, "not whole", "")
	case errors.Is(err, store.ErrNotFound):
		return &client.Problem{Status: 404, Title: "not found", Detail: strings.TrimPrefix(err.Error(), store.ErrNotFound.Error()+": ")}
	case errors.Is(err, store.ErrTaken):
		return &client.Problem{Status: 409, Title: "already in use", Detail: firstLine(err), Next: "choose another name"}
	case errors.Is(err, context.Canceled):
		return say(499, "the request was broken off", "")
	}
	slog.Error("request failed", "err", err)
	return say(500, "it did not work", "the service's log may say more; if the database is away it is tried again by itself")
}

func firstLine(err error) string { return strings.SplitN(err.Error(), ": Error", 2)[0] }

func bad(detail, next string) *client.Problem {
	return &client.Problem{Status: 400, Title: "bad request", Detail: detail, Next: next}
}

// wrong is a bad request of which it is known what field is wrong.
func wrong(field, detail, next string) *client.Problem {
	return &client.Problem{Status: 400, Title: "bad request", Detail: detail, Next: next, Field: field}
}

// answer writes v, or the error.
func answer(c *gin.Context, status int, v any, err error) {
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.JSON(status, v)
}

// read reads a JSON body, unknown fields being errors.
func read(c *gin.Context, into any) bool {
	d := json.NewDecoder(c.Request.Body)
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, err := d.Token(); err != io.EOF {
			fail(c, bad("the body holds more than one JSON value", "send one"))
			return false
		}
		return true
	}
	fail(c, bad("the body cannot be read: "+strings.TrimPrefix(err.Error(), "json: "), "the fields there are stand in /openapi.yaml"))
	return false
}

// long is the most characters a note or reason may have.
const long = 2000

// limit reads how many rows are wanted.
func limit(c *gin.Context, usual, most int) (int, bool) {
	raw := c.Query("limit")
	if raw == "" {
		return usual, true
	}
	n, err := strconv.Atoi(raw)
	if err != nil || n < 1 || n > most {
		fail(c, bad(fmt.Sprintf("limit is %q; it takes 1 to %d", raw, most), ""))
		return 0, false
	}
	return n, true
}

func selector(c *gin.Context, words []string) (ref.Selector, bool) {
	sel, err := ref.ParseSelector(words)
	if err != nil {
		fail(c, bad(err.Error(), "a selector reads like: site=skerrinsay tag=core name=quay-*"))
		return sel, false
	}
	return sel, true
}

func (s *Server) reference(c *gin.Context, raw, field string) (ref.Version, bool) {
	if raw == "" {
		fail(c, bad(field+" is missing", "a version is named like skerrinsay-r1@17, skerrinsay-r1/startup@latest or skerrinsay-r1@2026-11-20T10:00Z"))
		return ref.Version{}, false
	}
	r, err := ref.ParseVersion(raw, time.UTC)
	if err != nil {
		fail(c, bad(err.Error(), "a version is named like skerrinsay-r1@17, skerrinsay-r1/startup@latest or skerrinsay-r1@2026-11-20T10:00Z"))
		return r, false
	}
	return r, true
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if _, err := s.Work.Store.As(core.Actor{}).Nodes(ctx); err != nil {
		c.String(503, "the database does not answer\n")
		return
	}
	c.String(200, "ready\n")
}

// metrics are gauges read from the database when asked for.
func (s *Server) metrics() http.Handler {
	reg := prometheus.NewRegistry()
	reg.MustRegister(&collector{s})
	return promhttp.HandlerFor(reg, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

type collector struct{ s *Server }

var (
	devicesDesc  = prometheus.NewDesc("magpie_devices", "Devices by state.", []string{"state"}, nil)
	jobsDesc     = prometheus.NewDesc("magpie_jobs", "Jobs that have not ended, by state.", []string{"state"}, nil)
	contentsDesc = prometheus.NewDesc("magpie_contents_bytes", "Bytes of stored configuration texts, packed and sealed.", nil, nil)
)

func (k *collector) Describe(out chan<- *prometheus.Desc) {
	out <- devicesDesc
	out <- jobsDesc
	out <- contentsDesc
}

func (k *collector) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	st, err := k.s.gather(ctx, core.Actor{Name: "service"})
	if err != nil {
		slog.Warn("metrics", "err", err)
		return
	}
	for state, n := range st.States {
		out <- prometheus.MustNewConstMetric(devicesDesc, prometheus.GaugeValue, float64(n), state)
	}
	for state, n := range map[string]int{"queued": st.Queued, "running": st.Running, "waiting": st.Waiting} {
		out <- prometheus.MustNewConstMetric(jobsDesc, prometheus.GaugeValue, float64(n), state)
	}
	out <- prometheus.MustNewConstMetric(contentsDesc, prometheus.GaugeValue, float64(st.Bytes))
}
