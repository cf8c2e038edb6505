package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

var wiredJob = wire.Make[client.Job, core.Job]("Awaits", "Preview", "Pull", "Push", "Plan", "RestoreTest", "Learned", "RestorePreview", "Restore", "Scheduled", "UsualMS", "Result")

func (s *Server) wireJob(ctx context.Context, a core.Actor, j core.Job) (client.Job, error) {
	out := wiredJob(j)
	if j.State == core.Waiting && j.Instance == "" && j.Decision == "" {
		out.Awaits = j.Awaits
	}
	q := s.Jobs.Store.As(a)
	if len(j.Result) == 0 {
		return out, nil
	}
	k, ok := s.Jobs.Kind(j.Kind)
	if !ok || k.View == nil {
		return out, nil
	}
	led, err := k.View(ctx, q, a, j)
	switch led := led.(type) {
	case *client.PullEnd:
		out.Pull = led
	case push.Made:
		out.Preview = string(led)
	case *client.PushEnd:
		out.Push = led
	case *client.Plan:
		out.Plan = led
	case *client.RestoreTest:
		out.RestoreTest = led
	case *client.Learned:
		out.Learned = led
	case *client.RestorePreview:
		out.RestorePreview = led
	case *client.Restore:
		out.Restore = led
	case *client.ScheduledRun:
		out.Scheduled = led
	default:
		out.Result = led
	}
	if errors.Is(err, store.ErrDamaged) { // one that was changed where it lies keeps no list from being shown
		slog.Error("what came of a job does not open", "job", j.ID, "err", err)
		out.Summary, err = out.Summary+"; the rest of what came of it does not open: it was changed in the database", nil
	}
	return out, err
}

var wiredEntry = wire.Make[client.Entry, core.Entry]()

func (s *Server) wireEntry(a core.Actor, e core.Entry) client.Entry {
	out := wiredEntry(e)
	if !a.Secrets {
		if e.Masked != "" {
			out.Text = e.Masked
		}
		if e.Secret {
			out.Text = fmt.Sprintf("%d bytes that came from the device are kept here for those who may see secrets", len(e.Text))
		}
	}
	return out
}

// answerJob answers with a job, or with what went wrong.
func (s *Server) answerJob(c *gin.Context, status int, j core.Job, err error) {
	var w client.Job
	c.Set("job", j.ID)
	if err == nil {
		w, err = s.wireJob(c.Request.Context(), actor(c), j)
	}
	answer(c, status, w, err)
}

// answerJobs answers with a page of jobs, or with what went wrong.
func (s *Server) answerJobs(c *gin.Context, status int, jobs []core.Job, next string, err error) {
	out := client.Page[client.Job]{Items: make([]client.Job, len(jobs)), Next: next}
	ctx := c.Request.Context()
	if err == nil {
		ids := make([]string, len(jobs))
		for i, j := range jobs {
			ids[i] = j.ID
		}
		ctx, err = s.Jobs.Store.As(actor(c)).CountParts(ctx, ids)
	}
	for i := 0; i < len(jobs) && err == nil; i++ {
		out.Items[i], err = s.wireJob(ctx, actor(c), jobs[i])
	}
	answer(c, status, out, err)
}

func (s *Server) pull(c *gin.Context) {
	var in client.NewPull
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	devs, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	if !s.within(c, devs...) {
		return
	}
	if !noted(c, "note", in.Note) {
		return
	}
	jobs, err := s.Visits.RequestPulls(c.Request.Context(), actor(c), devs, core.ByHand, visit.Mark{Name: in.Name, Note: in.Note}, k)
	if errors.Is(err, store.ErrTaken) {
		err = &client.Problem{Status: 409, Title: "already in use", Detail: firstLine(err) + "; no device was visited", Next: "choose another name, or take it from that version: magpie mark REF --name \"\"", Field: "name"}
	}
	s.answerJobs(c, http.StatusAccepted, jobs, "", err)
}

// check asks for checks by themselves.
func (s *Server) check(c *gin.Context) {
	var in client.NewCheck
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	var devices []core.Device
	switch {
	case in.Again != "" && len(in.Selector)+len(in.Checks) > 0:
		fail(c, wrong("again", "an earlier check is named, and others besides", "give one of them"))
		return
	case in.Again != "":
		id, err := s.Jobs.Store.As(actor(c)).JobID(ctx, in.Again)
		if err != nil {
			fail(c, problem(err))
			return
		}
		in.Again = id
	case len(in.Selector)+len(in.Checks) == 0:
		fail(c, bad("neither devices nor checks are named", "name devices like site=callowmere, or checks like tcp HOST:PORT"))
		return
	case len(in.Selector) > 0:
		if devices, ok = s.chosen(c, in.Selector); !ok || !s.within(c, devices...) {
			return
		}
	}
	j, err := s.Pushes.RequestChecks(ctx, actor(c), devices, in.Checks, in.Again, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

func (s *Server) newPreview(c *gin.Context) {
	var in client.NewPreview
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	var target core.Version
	var err error
	var r ref.Version
	switch {
	case in.UndoOf != "" && in.Ref != "":
		err = bad("both ref and undo_of are given", "give one: a version to push, or the push to undo")
	case in.UndoOf != "":
		if in.UndoOf, err = q.JobID(ctx, in.UndoOf); err == nil {
			target, err = s.undoTarget(ctx, q, in.UndoOf)
		}
	default:
		if r, ok = s.reference(c, in.Ref, "ref"); !ok {
			return
		}
		if r.Which == "live" {
			err = bad("what a device runs now cannot be pushed as it is", "pull it first, then push the version")
		} else {
			target, err = s.Visits.Version(ctx, actor(c), r)
		}
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	to := target.Device
	if in.To != "" {
		to = in.To
	}
	d, err := q.Device(ctx, to)
	var from core.Device
	if err == nil {
		from, err = q.AnyDeviceByID(ctx, target.DeviceID)
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	if !s.within(c, d, from) { // a version's secrets go where it goes
		return
	}
	if len(in.Only) > 100 {
		fail(c, bad(fmt.Sprintf("%d blocks are chosen, and at most 100 can be", len(in.Only)), "push the whole version, or name the blocks by their beginning"))
		return
	}
	if len(in.At) > 255 || strings.ContainsAny(in.At, " /\t\n") {
		fail(c, bad(fmt.Sprintf("at is %q, which is no address", in.At), "write it as HOST or HOST:PORT"))
		return
	}
	offers := s.Pushes.Methods(d)
	if in.Method == "" && len(offers) > 0 {
		in.Method = offers[0]
	}
	if dia := s.Visits.Dialect(d.Dialect); dia != nil && !slices.Contains(offers, in.Method) {
		fail(c, bad(fmt.Sprintf("dialect %s does not offer method %q", d.Dialect, in.Method), "it offers "+strings.Join(offers, ", ")))
		return
	}
	j, err := s.Pushes.RequestPreview(ctx, actor(c), d, target,
		push.PreviewRequest{Method: in.Method, UndoOf: in.UndoOf, Only: in.Only, InPlace: in.InPlace, Exactly: in.Exactly, Swap: in.Swap, At: in.At, Accept: in.AcceptKey, Relay: in.Relay,
			Which: r.Which, Alone: r.Named}, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

// wholeID completes the job's id in the address, so that its beginning is enough.
func (s *Server) wholeID(c *gin.Context) {
	id, err := s.Jobs.Store.As(actor(c)).JobID(c.Request.Context(), c.Param("id"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Set("job", id)
}

func jobID(c *gin.Context) string { return c.GetString("job") }

// undoTarget is the version that was kept before a push.
func (s *Server) undoTarget(ctx context.Context, q *store.Q, id string) (core.Version, error) {
	j, err := q.Job(ctx, id)
	if err != nil {
		return core.Version{}, err
	}
	if j.Kind != "push" {
		return core.Version{}, bad(fmt.Sprintf("job %s is a %s, not a push", id, j.Kind), "see the pushes: magpie job list --kind push")
	}
	if j.State != core.Ended {
		return core.Version{}, &client.Problem{Status: 409, Title: "not ended", Detail: fmt.Sprintf("push %s has not ended", id), Next: "wait for it, or cancel it: magpie job cancel " + id}
	}
	journal, _, err := q.Journal(ctx, id, nil)
	if err != nil || journal.BeforeID == "" {
		return core.Version{}, &client.Problem{Status: 409, Title: "nothing to undo", Detail: fmt.Sprintf("push %s sent nothing", id)}
	}
	v, err := q.Version(ctx, store.ByID(journal.BeforeID))
	if errors.Is(err, store.ErrNotFound) {
		return v, &client.Problem{Status: 409, Title: "nothing to go back to", Detail: fmt.Sprintf("what ran before push %s was deleted since", id),
			Next: "see what is kept: magpie versions " + j.Device}
	}
	return v, err
}

var wirePreview = wire.Make[client.Preview, push.Preview]("ID", "Approval", "Hash", "MadeAt", "At", "Relay", "Methods", "Masked", "Lines", "Assumed", "Changes", "Remaining", "SetAside", "Loaded", "Suggested", "LetGo")

func (s *Server) preview(c *gin.Context) {
	a := actor(c)
	p, row, err := s.Pushes.Preview(c.Request.Context(), a, c.Param("id"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	if a.Secrets && p.HoldsSecrets() && !s.saw(c, p.Device, "preview "+row.ID) {
		return
	}
	out := wirePreview(p)
	out.ID, out.Hash, out.MadeAt, out.At, out.Relay = row.ID, row.Hash, row.MadeAt, p.Where.Address, p.Where.Relay
	out.LetGo = wireLetGo(p.LetGo)
	out.Methods, out.Masked, out.Lines = []string{}, !a.Secrets, len(p.Steps)
	out.Changes, out.Remaining, out.SetAside, out.Loaded = visit.SeenBy(a, p.Changes), visit.SeenBy(a, p.Remaining), visit.SeenBy(a, p.SetAside), visit.SeenBy(a, p.Loaded)
	for _, st := range p.Steps {
		if st.Assumed {
			out.Assumed++
		}
	}
	if !a.Secrets {
		out.Predicted = p.PredictedRed
		for i, st := range p.Steps {
			out.Steps[i].Lines = st.Masked
		}
	}
	if d, err := s.Jobs.Store.As(a).Device(c.Request.Context(), p.Device); err == nil {
		out.Methods = orNone(s.Pushes.Methods(d))
		if out.Approval, err = s.Jobs.Store.As(a).AskedApproval(c.Request.Context(), d); err != nil {
			fail(c, problem(err))
			return
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		fail(c, problem(err))
		return
	}
	if out.Suggested, err = s.Pushes.Suggest(c.Request.Context(), a, p); err != nil {
		fail(c, problem(err))
		return
	}
	out.Suggested = orNone(out.Suggested)
	c.JSON(200, out)
}

// orNone makes a list of nothing where there is none.
func orNone(list []string) []string { return append([]string{}, list...) }

func (s *Server) push(c *gin.Context) {
	var in client.NewPush
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	if !noted(c, "note", in.Note) {
		return
	}
	if in.EndSession != "" && in.Note == "" {
		fail(c, bad("somebody's session is to be ended, and no note says why", "give the reason as the note; whoever it is may ask"))
		return
	}
	within, ok := window(c, in.Within)
	if !ok {
		return
	}
	if in.Rounds != nil && (*in.Rounds < 0 || *in.Rounds > push.MostRounds) {
		fail(c, bad(fmt.Sprintf("%d further rounds", *in.Rounds), fmt.Sprintf("0 to %d can be asked for", push.MostRounds)))
		return
	}
	if in.WhenVerified && within == 0 {
		fail(c, bad("a push without a window needs no confirming", "give within as well, or leave when_verified out"))
		return
	}
	if !s.withinPreview(c, in.Preview) {
		return
	}
	for _, line := range in.Checks { // some visit other devices
		if f := strings.Fields(line); len(f) > 1 && (f[0] == "from" || f[0] == "device") && !s.withinNamed(c, f[1]) {
			return
		}
	}
	req := push.Request{NoSave: in.NoSave, LeaveApplied: in.Leave, HoldRestart: in.HoldRestart, Note: in.Note, EndSession: in.EndSession, Within: within, Checks: in.Checks, Override: in.Override, WhenVerified: in.WhenVerified, Rounds: in.Rounds, NameBefore: in.NameBefore, NameAfter: in.NameAfter}
	var j core.Job
	var err error
	if in.From == nil && in.Until == nil {
		j, err = s.Pushes.RequestPush(c.Request.Context(), actor(c), in.Preview, in.Hash, req, k)
	} else if plan, good := planOf(c, in); good {
		j, err = s.Fleet.RequestPlan(c.Request.Context(), actor(c), in.Preview, in.Hash, req, plan, k)
	} else {
		return
	}
	s.answerJob(c, http.StatusAccepted, j, err)
}

// window reads the time in which a push has to be confirmed.
func window(c *gin.Context, given string) (time.Duration, bool) {
	if given == "" {
		return 0, true
	}
	d, err := time.ParseDuration(given)
	if err != nil {
		fail(c, bad(fmt.Sprintf("%q is no span of time", given), "write the window like 90s, 10m or 2h"))
		return 0, false
	}
	if d < push.MinWindow || d > push.MaxWindow {
		fail(c, bad(fmt.Sprintf("the window of %s is not between %s and %s", given, core.Span(push.MinWindow), core.Span(push.MaxWindow)), "choose one in which the change can be looked at"))
		return 0, false
	}
	return d, true
}

func (s *Server) ask(c *gin.Context) {
	var in client.NewJob
	k, ok := s.asked(c, &in)
	if !ok {
		return
	}
	var d core.Device
	var err error
	if in.Device != "" {
		if d, err = s.Jobs.Store.As(actor(c)).Device(c.Request.Context(), in.Device); err != nil {
			fail(c, problem(err))
			return
		}
	}
	with, err := json.Marshal(in.With)
	if err != nil {
		fail(c, problem(err))
		return
	}
	j, err := s.Jobs.Ask(c.Request.Context(), actor(c), in.Kind, d, with, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

// repeat asks for a job like an earlier one.
func (s *Server) repeat(c *gin.Context) {
	var in client.NewRun
	k, ok := s.asked(c, &in)
	if !ok || !noted(c, "note", in.Note) {
		return
	}
	if !s.withinJob(c, jobID(c)) {
		return
	}
	j, err := s.Jobs.Repeat(c.Request.Context(), actor(c), jobID(c), in.Note, k)
	s.answerJob(c, http.StatusAccepted, j, err)
}

func (s *Server) jobKinds(c *gin.Context) {
	list(c, s.kinds(), nil, func(k job.Kind) string { return k.Name }, func(k job.Kind) client.JobKind {
		out := client.JobKind{Name: k.Name, Does: k.Does, Role: k.Role, Visits: k.Visits, Asked: k.Asks != nil, Recurs: k.Recurs != nil, Repeats: k.Repeats, Takes: []string{}, Awaits: []client.JobAwait{}}
		if k.Recurs != nil {
			out.Takes = append(out.Takes, k.Recurs.Takes...)
		}
		for _, w := range k.Awaits {
			a := client.JobAwait{For: w.For, Means: w.Means, Words: []client.JobWord{}}
			for _, x := range w.Words {
				a.Words = append(a.Words, client.JobWord{Say: x.Say, Does: x.Does})
			}
			out.Awaits = append(out.Awaits, a)
		}
		return out
	})
}

func (s *Server) jobs(c *gin.Context) {
	n, ok := limit(c, 50, 1000)
	if !ok {
		return
	}
	for _, f := range []struct {
		what, given string
		known       []string
	}{{"state", c.Query("state"), core.JobStates}, {"kind", c.Query("kind"), s.Jobs.KindNames()}, {"outcome", c.Query("outcome"), core.Outcomes}} {
		if f.given != "" && !slices.Contains(f.known, f.given) {
			fail(c, wrong(f.what, fmt.Sprintf("%q is no %s of a job; they are %s", f.given, f.what, strings.Join(f.known, ", ")), ref.Meant(f.given, f.known)))
			return
		}
	}
	f := store.JobFilter{Before: c.Query("cursor"), State: c.Query("state"), Kind: c.Query("kind"), Device: c.Query("device"), PartOf: c.Query("part_of"), Outcome: c.Query("outcome"), Actor: c.Query("actor"), Limit: n}
	if f.Since, ok = s.instant(c, "since", f.Since); !ok {
		return
	}
	if f.Until, ok = s.instant(c, "until", f.Until); !ok {
		return
	}
	if words := c.Query("selector"); words != "" {
		devs, ok := s.chosen(c, strings.Fields(words))
		if !ok {
			return
		}
		for _, d := range devs {
			f.DeviceIDs = append(f.DeviceIDs, d.ID)
		}
	}
	rows, err := s.Jobs.Store.As(actor(c)).Jobs(c.Request.Context(), f)
	if name := c.Query("device"); err == nil && name != "" && len(rows) == 0 {
		_, err = s.Jobs.Store.As(actor(c)).Device(c.Request.Context(), name) // a name that is nobody's is told
	}
	next := ""
	if len(rows) == n {
		next = rows[n-1].ID
	}
	s.answerJobs(c, http.StatusOK, rows, next, err)
}

func (s *Server) job(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	j, err := q.Job(ctx, jobID(c))
	var w client.Job
	if err == nil {
		w, err = s.wireJob(c.Request.Context(), actor(c), j)
	}
	if err == nil && (j.State == core.Running || j.State == core.Queued) {
		var usual time.Duration
		usual, err = q.Usual(ctx, j)
		w.UsualMS = usual.Milliseconds()
	}
	if err == nil && w.Preview == "" { // which preview a push shows, from its first moment on
		w.Preview, err = q.PreviewOf(ctx, j.ID)
	}
	answer(c, http.StatusOK, w, err)
}

func (s *Server) log(c *gin.Context) {
	n, ok := limit(c, client.EntriesAtOnce, client.EntriesAtOnce)
	if !ok {
		return
	}
	after, ok := cursor(c)
	if !ok {
		return
	}
	q := s.Jobs.Store.As(actor(c))
	if _, err := q.Job(c.Request.Context(), jobID(c)); err != nil {
		fail(c, problem(err))
		return
	}
	rows, err := q.Entries(c.Request.Context(), jobID(c), int(after), n)
	if err == nil && !s.sawLog(c, actor(c), jobID(c), rows) {
		return
	}
	next := ""
	if len(rows) == n {
		next = strconv.Itoa(rows[n-1].Seq)
	}
	answer(c, 200, pageOf(rows, next, func(e core.Entry) client.Entry { return s.wireEntry(actor(c), e) }), err)
}

// sawLog writes down that somebody is shown secrets in a job's log, if they are.
func (s *Server) sawLog(c *gin.Context, a core.Actor, id string, rows []core.Entry) bool {
	hides := func(e core.Entry) bool { return e.Masked != "" || e.Secret }
	return !a.Secrets || !slices.ContainsFunc(rows, hides) || s.saw(c, "job "+id, "its log")
}

// events sends a job's log and its changes as they come (server-sent events,
// WHATWG HTML §9.2), from after the event id the watcher has seen last. It ends
// when the job has ended.
func (s *Server) events(c *gin.Context) {
	id, a := jobID(c), actor(c)
	q := s.Jobs.Store.As(a)
	after, _ := strconv.Atoi(c.GetHeader("Last-Event-ID"))
	if _, err := q.Job(c.Request.Context(), id); err != nil {
		fail(c, problem(err))
		return
	}
	hint, stop := s.Jobs.Hub.Watch(id)
	defer stop()
	c.Header("Content-Type", "text/event-stream")
	send := func(event, id string, v any) {
		raw, _ := json.Marshal(v)
		fmt.Fprintf(c.Writer, "event: %s\n", event)
		if id != "" {
			fmt.Fprintf(c.Writer, "id: %s\n", id)
		}
		fmt.Fprintf(c.Writer, "data: %s\n\n", raw)
	}
	last := ""
	quiet := time.Now()
	for {
		// Whoever was disabled, or may see less by now, is shown no more than that.
		now, err := s.still(c, a, core.Reader)
		if err != nil {
			return
		}
		a, q = now, s.Jobs.Store.As(now)
		// The job is read before its log: when it has ended, the log is whole.
		j, err := q.Job(c.Request.Context(), id)
		if err != nil {
			return
		}
		rows, err := q.Entries(c.Request.Context(), id, after, client.EntriesAtOnce)
		if err != nil || !s.sawLog(c, a, id, rows) {
			return
		}
		for _, e := range rows {
			send("log", strconv.Itoa(e.Seq), s.wireEntry(a, e))
			after = e.Seq
		}
		if len(rows) == client.EntriesAtOnce {
			c.Writer.Flush()
			continue // there are more
		}
		w, err := s.wireJob(c.Request.Context(), a, j)
		if err != nil {
			return
		}
		if raw, _ := json.Marshal(w); string(raw) != last {
			send("job", "", w)
			last, quiet = string(raw), time.Now()
		} else if time.Since(quiet) > 15*time.Second {
			fmt.Fprint(c.Writer, ": still here\n\n")
			quiet = time.Now()
		}
		c.Writer.Flush()
		if j.State == core.Ended {
			return
		}
		select {
		case <-hint:
		case <-time.After(time.Second):
		case <-s.Done:
			return
		case <-c.Request.Context().Done():
			return
		}
	}
}

// decide keeps a push that waits, or takes it back now.
func (s *Server) decide(decision string) gin.HandlerFunc {
	return func(c *gin.Context) {
		ctx, id := c.Request.Context(), jobID(c)
		if !s.withinJob(c, id) {
			return
		}
		j, err := s.Jobs.Decide(ctx, actor(c), id, decision, c.Query("preview"))
		s.answerJob(c, http.StatusOK, j, err)
	}
}

func (s *Server) cancel(c *gin.Context) {
	if !s.withinJob(c, jobID(c)) {
		return
	}
	j, err := s.Jobs.Cancel(c.Request.Context(), actor(c), jobID(c))
	s.answerJob(c, http.StatusOK, j, err)
}
