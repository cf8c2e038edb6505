// Package api serves the HTTP API, version 1, that openapi.yaml describes.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"slices"
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
	"magpie/internal/fleet"
	"magpie/internal/history"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/push"
	"magpie/internal/read"
	"magpie/internal/routine"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

// Server answers the API of one instance.
type Server struct {
	Jobs     *job.Runtime
	Visits   *visit.Service
	Pushes   *push.Service
	Fleet    *fleet.Service
	Read     *read.Service
	Routine  *routine.Service
	Syslog   *routine.Syslog // nil: nothing is listened to
	Version  string
	Instance string
	Clock    func() time.Time
	Console  fs.FS // the built console; may hold nothing
	// Done is closed when the service stops, so that live events end.
	Done <-chan struct{}

	// Proxies are the addresses and networks of those whose word is taken for where
	// a request came from and whether it came by TLS.
	Proxies []string

	// History looks after what is kept.
	History *history.Service

	// Provider signs people in besides passwords, if it is there.
	Provider *Provider

	throttle *throttle
	refused  *refusals
	hashing  *line // of passwords, which takes much memory
	checking *line // of dialects

	last     lastStatus
	watchers *watchers

	mu    sync.Mutex
	looks map[string]time.Time // what was written down of who looked at what
	kept  struct {             // the texts that are kept, when they were last counted
		at       time.Time
		n, bytes int64
	}
}

// Handler is everything the service answers over HTTP.
func (s *Server) Handler() http.Handler {
	wire.Ready()
	gin.SetMode(gin.ReleaseMode)
	s.throttle, s.refused = newThrottle(s.Clock), &refusals{now: s.Clock, m: map[string]*refused{}}
	s.hashing, s.checking = newLine(2, 32), newLine(2, 8)
	s.looks = map[string]time.Time{}
	s.watchers = s.watching()
	g := gin.New()
	g.HandleMethodNotAllowed = true
	g.UseRawPath = true                // a name with a slash in it is a name still, and told of as one
	_ = g.SetTrustedProxies(s.Proxies) // they were checked when the settings were read
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
	spec := sync.OnceValues(func() ([]byte, error) { return Describe(s.kinds()) })
	g.GET("/openapi.yaml", func(c *gin.Context) {
		if raw, err := spec(); err != nil {
			fail(c, problem(err))
		} else {
			c.Data(200, "application/yaml", raw)
		}
	})
	g.GET("/metrics", gin.WrapH(s.metrics()))
	v := g.Group("/api/v1")
	for _, r := range s.routes(s.kinds()) {
		do := []gin.HandlerFunc{r.asked, r.do}
		if strings.HasPrefix(r.path, "/jobs/:id") {
			do = slices.Insert(do, 0, s.wholeID)
		}
		if r.role == nobody {
			do = slices.Insert(do, 0, func(c *gin.Context) { c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, mostLogin) })
		} else {
			do = slices.Insert(do, 0, s.role(r))
		}
		if r.stream > 0 {
			do = slices.Insert(do, 0, streamed(r.stream))
		}
		v.Handle(r.method, r.path, do...)
		if r.method == "GET" && r.status != 101 {
			v.HEAD(r.path, do...)
		}
	}
	go s.sweep()
	return g
}

// guard sets the headers every answer has, and turns a breakdown into an error
// that says nothing of what was being worked on.
func (s *Server) guard(c *gin.Context) {
	h := c.Writer.Header()
	id, begun := store.NewID(time.Now()), time.Now()
	h.Set("X-Request-Id", id)
	defer func() { logged(c, id, begun) }()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	h.Set("Referrer-Policy", "no-referrer")
	if !utf8.ValidString(c.Request.URL.Path) || !validQuery(c.Request.URL.RawQuery) {
		fail(c, bad("the address holds bytes that are no text", "encode it as UTF-8"))
		return
	}
	for _, words := range [][]string{{c.Request.URL.Path}, slices.Concat(slices.Collect(maps.Values(c.Request.URL.Query()))...)} {
		for _, w := range words {
			if p := printable("the address", w); p != nil {
				fail(c, p)
				return
			}
		}
	}
	bounded(c)
	defer func() {
		p := recover()
		if err, ok := p.(error); ok && errors.Is(err, http.ErrAbortHandler) {
			panic(p) // an answer that was begun cannot be made good: whoever reads it is to see that it was cut
		}
		if p != nil {
			slog.Error("request broke down", "request", id, "path", c.FullPath(), "panic", p)
			fail(c, &client.Problem{Status: 500, Title: "defect", Detail: "the service broke down on this request; this is a defect of ours", Next: "the service's log has more; please report it"})
		}
	}()
	c.Next()
}

// logged writes a request into the service's log, under the id that its answer carries: what
// changes something, and what went wrong. Of the address only its pattern is said.
func logged(c *gin.Context, id string, begun time.Time) {
	status := c.Writer.Status()
	read := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if read && status < 500 {
		return
	}
	level := slog.LevelInfo
	if status >= 500 {
		level = slog.LevelWarn
	}
	who := nobody
	if a, ok := c.Get("actor"); ok {
		who = a.(core.Actor).Name
	}
	slog.Log(c.Request.Context(), level, "request", "request", id, "method", c.Request.Method, "path", c.FullPath(), "status", status, "ms", time.Since(begun).Milliseconds(), "who", who, "job", c.GetString("job"))
}

func validQuery(raw string) bool {
	q, err := url.QueryUnescape(raw)
	return err == nil && utf8.ValidString(q)
}

func fail(c *gin.Context, p *client.Problem) {
	if p.Type == "" {
		p.Type = "about:blank"
	}
	if p.Cause != nil { // its words are for the log
		slog.Error("request failed", "request", c.Writer.Header().Get("X-Request-Id"), "err", p.Cause)
	}
	raw, _ := json.Marshal(p)
	c.Abort()
	c.Data(p.Status, "application/problem+json", raw)
}

// problem words an error for whoever asked.
func problem(err error) *client.Problem {
	var p *client.Problem
	var claimed push.ErrClaimed
	var key *link.HostKeyError
	var timeout *link.TimeoutError
	var refused *link.Refused
	var part *link.Incomplete
	var amiss routine.Wrong
	say := func(status int, title, next string) *client.Problem {
		return &client.Problem{Status: status, Title: title, Detail: err.Error(), Next: next}
	}
	switch {
	case errors.As(err, &p):
		return p
	case errors.Is(err, store.ErrNoRoom): // RFC 4918, section 11.5
		detail := err.Error()
		if errors.Is(err, store.ErrDatabase) {
			detail = "the disk of the service's database is full; nothing half-done was kept"
		}
		return &client.Problem{Cause: err, Status: 507, Title: "no room", Detail: detail, Next: "make room on that disk; what was queued before goes on by itself then"}
	case errors.Is(err, store.ErrDatabase): // its own words are for the log
		return &client.Problem{Cause: err, Status: 503, Title: "the database is away", Detail: "the service's database does not answer, or would not take what was asked of it; nothing half-done was kept", Next: "try again in a moment; the service's log says what the database said"}
	case errors.Is(err, store.ErrRevision):
		return say(412, "changed since", "look at it again, then make your change on top of what it is now")
	case errors.Is(err, store.ErrKeyUsed):
		return say(422, "key used for another request", "use a new Idempotency-Key for each thing you ask for")
	case errors.As(err, new(*ref.NameError)):
		return say(400, "no name for a version", "choose another name")
	case errors.Is(err, push.ErrOutside):
		return say(403, "not allowed", "ask somebody whose role holds there")
	case errors.Is(err, visit.ErrDisabled):
		return say(409, "the device is disabled", "enable it first: magpie device edit NAME --disabled=false")
	case errors.Is(err, visit.ErrMayNot):
		return say(403, "not allowed any more", "")
	case errors.Is(err, visit.ErrNotTold), errors.Is(err, push.ErrNotHanded):
		return say(403, "not allowed", "ask somebody who may see secrets, or an admin for the right: magpie user edit NAME --secrets")
	case errors.Is(err, errBusy):
		return say(503, "busy", "try again in a moment")
	case errors.As(err, &claimed):
		return say(409, "another push holds the device", "")
	case errors.Is(err, push.ErrChecks):
		return say(400, "checks that cannot be made", "")
	case errors.Is(err, read.ErrNotEditable):
		return say(400, "not kept", "")
	case errors.Is(err, read.ErrUnlikely):
		return say(409, "hardly the device's", "if it is to be kept all the same, say why: override")
	case errors.Is(err, fleet.ErrNothingToRestore), errors.Is(err, fleet.ErrNoRestorePreview):
		return say(409, "nothing to restore", "look at the devices again: magpie restore SELECTOR --to WHICH --preview")
	case errors.Is(err, push.ErrWarnings):
		return say(409, "warnings speak against it", "if it is to be done all the same, say why: override")
	case errors.Is(err, push.ErrNoRestart):
		return say(400, "nothing to leave to later", "")
	case errors.Is(err, fleet.ErrPlan):
		return say(400, "not planned", "")
	case errors.As(err, &amiss):
		return wrong(amiss.Field, amiss.Says, "")
	case errors.Is(err, routine.ErrTold):
		return say(409, "somebody is told there", "change or remove the rule first: magpie notification list")
	case errors.Is(err, read.ErrIndexing):
		return &client.Problem{Cause: err, Status: 503, Title: "not yet", Detail: err.Error(), Next: "texts are searched in memory only, and are read anew when the service has started; ask again in a moment"}
	case errors.Is(err, read.ErrSearch):
		return say(400, "not searched", "")
	case errors.Is(err, routine.ErrNotTried):
		return say(409, "not tried", "see how it stands: magpie notification messages")
	case errors.Is(err, routine.ErrUnderWay):
		return say(409, "it runs already", "follow it: magpie job watch JOB")
	case errors.Is(err, fleet.ErrSnapshot):
		return say(400, "no snapshot", "")
	case errors.Is(err, visit.ErrMayNotClose):
		return say(403, "not allowed", "ask them, or an admin")
	case errors.Is(err, visit.ErrRelay):
		return say(409, "no relay", "see which are open: magpie relay list")
	case errors.Is(err, push.ErrBootstrapSheet):
		return say(409, "no bootstrap sheet", "")
	case errors.Is(err, fleet.ErrRestoreTest):
		return say(400, "no restore test", "")
	case errors.Is(err, push.ErrWindow), errors.Is(err, push.ErrNoWayBack):
		return say(400, "no such window", "")
	case errors.Is(err, push.ErrSecondPerson):
		return say(403, "a second person is asked for", "see which rules there are: magpie approval list")
	case errors.Is(err, read.ErrSecondPerson):
		return say(403, "a second person is asked for", "ask one: magpie device baseline DEVICE --to WHICH makes a job that somebody else approves")
	case errors.Is(err, job.ErrRepeat):
		return say(409, "not repeated", "look at it anew, for instance: magpie push REF")
	case errors.Is(err, job.ErrKind):
		return say(400, "not asked for", "see which there are: magpie job kinds")
	case errors.Is(err, job.ErrRole):
		return say(403, "not allowed", "ask somebody who has it, or an admin for the role")
	case errors.Is(err, job.ErrEnded):
		return say(409, "ended already", "see what became of it: magpie job show JOB")
	case errors.Is(err, job.ErrTooLate):
		return say(409, "too late", "see what became of it: magpie job show JOB")
	case errors.Is(err, push.ErrPreviewChanged):
		return say(409, "the preview changed", "")
	case errors.Is(err, read.ErrNotComparable):
		return say(400, "not comparable", "compare two versions of the same part")
	case errors.Is(err, visit.ErrBreaker):
		return say(409, "breaker open", "have a look why so many devices refuse it; then: magpie credential retry NAME")
	case errors.Is(err, visit.ErrCannotMask):
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
		return say(502, "not complete", "")
	case errors.Is(err, store.ErrAmbiguous):
		return say(409, "not clear", "give more of it")
	case errors.Is(err, store.ErrDamaged):
		out := say(500, "damaged", "if a copy elsewhere has it, a scrub mends it: magpie job ask scrub")
		out.Cause = err
		return out
	case errors.Is(err, store.ErrNotFound):
		return notFound(err)
	case errors.Is(err, store.ErrTaken):
		return &client.Problem{Status: 409, Title: "already in use", Detail: firstLine(err), Next: "choose another name"}
	case errors.Is(err, context.Canceled):
		return say(499, "the request was broken off", "")
	}
	out := say(500, "it did not work", "the service's log may say more; if the database is away it is tried again by itself")
	out.Cause = err
	return out
}

// notFound says what was not found in so many words, and what may have been meant.
func notFound(err error) *client.Problem {
	said, next, _ := strings.Cut(err.Error(), store.ErrNotFound.Error()+"; ")
	if next != "" {
		said += store.ErrNotFound.Error()
	}
	return &client.Problem{Status: 404, Title: "not found", Detail: said, Next: next}
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

func (s *Server) reference(c *gin.Context, raw, field string) (ref.Version, bool) {
	if raw == "" {
		fail(c, bad(field+" is missing", "a version is named like skerrinsay-r1@17, skerrinsay-r1/startup@latest or skerrinsay-r1@2026-11-20T10:00Z"))
		return ref.Version{}, false
	}
	r, err := ref.ParseVersion(raw, ref.In(time.UTC, s.Clock))
	if err != nil {
		fail(c, bad(err.Error(), "a version is named like skerrinsay-r1@17, skerrinsay-r1/startup@latest or skerrinsay-r1@2026-11-20T10:00Z"))
		return r, false
	}
	return r, true
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 2*time.Second)
	defer cancel()
	if _, err := s.Jobs.Store.As(core.Actor{}).Instances(ctx); err != nil {
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
	noticesDesc  = prometheus.NewDesc("magpie_syslog_messages_total", "Messages taken in since the start: change triggers, others, and from addresses of no device.", []string{"what"}, nil)
	hearingDesc  = prometheus.NewDesc("magpie_notification_sessions", "Sessions by which devices tell this instance of changes (RFC 5277).", []string{"state"}, nil)
	untoldDesc   = prometheus.NewDesc("magpie_messages_untold", "Messages to people that wait for a quarter of an hour or longer, or were given up in the last two weeks.", []string{"state"}, nil)
	roomDesc     = prometheus.NewDesc("magpie_data_bytes", "Bytes of the disk with the data folder.", []string{"which"}, nil)
	contentsDesc = prometheus.NewDesc("magpie_contents_bytes", "Bytes of stored configuration texts, packed and sealed.", nil, nil)
)

func (k *collector) Describe(out chan<- *prometheus.Desc) {
	out <- devicesDesc
	out <- jobsDesc
	out <- contentsDesc
	out <- noticesDesc
	out <- hearingDesc
	out <- untoldDesc
	out <- roomDesc
}

func (k *collector) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if k.s.Syslog != nil {
		h := k.s.Syslog.Heard
		for what, n := range map[string]int64{"notice": h.Notices.Load(), "other": h.Other.Load(), "unknown sender": h.Unknown.Load()} {
			out <- prometheus.MustNewConstMetric(noticesDesc, prometheus.CounterValue, float64(n), what)
		}
	}
	open, wanted := k.s.Routine.Hearing()
	out <- prometheus.MustNewConstMetric(hearingDesc, prometheus.GaugeValue, float64(open), "open")
	out <- prometheus.MustNewConstMetric(hearingDesc, prometheus.GaugeValue, float64(wanted-open), "broken")
	q := k.s.Jobs.Store.As(core.Actor{Name: "service"})
	states, err := q.StateCounts(ctx)
	jobs, err2 := q.JobCounts(ctx)
	late, givenUp, err3 := k.s.Routine.Unsent(ctx)
	_, bytes, err4 := k.s.contents(ctx, q)
	if err := errors.Join(err, err2, err3, err4); err != nil {
		slog.Warn("metrics", "err", err)
		return
	}
	gauge := func(d *prometheus.Desc, n float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, n, labels...)
	}
	for _, state := range core.States {
		gauge(devicesDesc, float64(states[state]), state)
	}
	for _, state := range []string{core.Queued, core.Running, core.Waiting} {
		gauge(jobsDesc, float64(jobs[state]), state)
	}
	gauge(contentsDesc, float64(bytes))
	gauge(untoldDesc, float64(late), "waiting")
	gauge(untoldDesc, float64(givenUp), "given up")
	if k.s.Routine.Room != nil {
		free, total := k.s.Routine.Room()
		gauge(roomDesc, float64(free), "free")
		gauge(roomDesc, float64(total), "total")
	}
}
