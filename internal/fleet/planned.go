package fleet

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/store"
)

// MaxAhead is how far ahead a push can be planned.
const MaxAhead = 366 * 24 * time.Hour

// Plan is when a push is to be done.
type Plan struct {
	From  time.Time `json:"from"`
	Until time.Time `json:"until"` // it begins before this, or not at all
	Zone  string    `json:"zone"`  // IANA name, in which the times were meant
}

// PlanRequest is what a planned job is asked for.
type PlanRequest struct {
	PreviewID string       `json:"preview_id"`
	Push      push.Request `json:"push"`
	Plan
}

// PlanResult is how a planned push stands.
type PlanResult struct {
	Plan
	Preview  string `json:"preview_id"`     // the newest; what would be sent
	Rule     string `json:"rule,omitempty"` // the selector by which a second person has to approve
	Changed  bool   `json:"changed"`        // at its time something else would have been sent
	Approved string `json:"approved,omitempty"`
	Push     string `json:"push_id,omitempty"`
	Looks    int    `json:"looks"` // how often it was previewed again
}

// ErrPlan is returned for a plan that makes no sense.
var ErrPlan = errors.New("the plan cannot be kept")

// mayApprove tells whether somebody may approve a planned push: another than who
// planned it, where a rule says so, and what they looked at.
func (s *Service) mayApprove(ctx context.Context, q *store.Q, actor core.Actor, j core.Job, word, seen string) error {
	if word != "approve" {
		return nil
	}
	var res PlanResult
	if err := q.OpenResult(j, &res); err != nil || j.Kind != "planned" {
		return err
	}
	// The rules count that stand now, not those that stood when it was planned.
	d, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		return err
	}
	rule, err := q.AskedApproval(ctx, d)
	if err != nil {
		return err
	}
	if rule != "" && actor.ID == j.ActorID {
		return fmt.Errorf("%w (%s), and you planned it yourself", push.ErrSecondPerson, rule)
	}
	if seen != res.Preview {
		return fmt.Errorf("%w: what would be sent is in preview %s by now; look at that first", push.ErrPreviewChanged, res.Preview)
	}
	return nil
}

// RequestPlan queues a push of what a preview shows, to begin in a window of
// time.
func (s *Service) RequestPlan(ctx context.Context, actor core.Actor, previewID, hash string, req push.Request, plan Plan, key store.Key) (j core.Job, err error) {
	p, err := s.Shown(ctx, actor, previewID, hash)
	if err != nil {
		return j, err
	}
	now := s.Now()
	switch {
	case !plan.Until.After(plan.From):
		return j, fmt.Errorf("%w: it ends (%s) before it begins (%s)", ErrPlan, inZone(plan.Until, plan.Zone), inZone(plan.From, plan.Zone))
	case !plan.Until.After(now):
		return j, fmt.Errorf("%w: it ended %s, which is over", ErrPlan, inZone(plan.Until, plan.Zone))
	case plan.From.Sub(now) > MaxAhead:
		return j, fmt.Errorf("%w: it begins %s, more than a year ahead", ErrPlan, inZone(plan.From, plan.Zone))
	case len(p.Steps) == 0:
		return j, fmt.Errorf("%w: there is nothing to send, the device runs %s already", ErrPlan, p.Target)
	case p.Swap != nil || p.Where.Elsewhere() || req.EndSession != "":
		return j, fmt.Errorf("%w: a swap, another address or the end of somebody's session is for now, not for later", ErrPlan)
	}
	if err := s.Sound(ctx, actor, p, &req); err != nil {
		return j, err
	}
	return s.Queue(ctx, actor, "push planned", store.NewJob{Job: core.Job{Kind: "planned", DeviceID: p.DeviceID, Device: p.Device, UndoOf: p.UndoOf}, Wants: PlanRequest{previewID, req, plan}, Key: key},
		fmt.Sprintf("%s of %s, %d lines, from %s until %s%s", p.Method, p.Target, p.LineCount(), inZone(plan.From, plan.Zone), inZone(plan.Until, plan.Zone), core.Because(req.Note)+push.Overridden(p, req)))
}

func inZone(t time.Time, zone string) string {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		loc, zone = time.UTC, "UTC"
	}
	return t.In(loc).Format("2006-01-02 15:04") + " " + zone
}

// planned is a planned push under way.
type plannedPush struct {
	s   *Service
	j   core.Job
	l   *job.Log
	req PlanRequest
	p   push.Preview // as it was looked at last
	res PlanResult
}

// plannedJob goes on with a planned push from wherever it stands: it waits to be
// approved, waits for its time, previews again, and pushes only what was looked
// at.
func (s *Service) plannedJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	u := &plannedPush{s: s, j: j, l: l}
	papers := context.WithoutCancel(ctx)
	err := q.OpenRequest(j, &u.req)
	if err == nil {
		u.res = PlanResult{Plan: u.req.Plan, Preview: u.req.PreviewID}
		err = q.OpenResult(j, &u.res)
	}
	if err == nil && u.res.Push != "" {
		u.follow(ctx)
		return
	}
	if err == nil {
		_, err = q.Preview(papers, u.res.Preview, &u.p)
	}
	if err != nil {
		s.End(j, l, core.Failed, "nothing was sent: "+err.Error(), nil)
		return
	}
	d, err := q.DeviceByID(papers, j.DeviceID)
	if err == nil {
		u.res.Rule, err = q.AskedApproval(papers, d)
	}
	if err != nil {
		s.End(j, l, core.Failed, "nothing was sent: "+err.Error(), u.res)
		return
	}
	if j.Decision == "approve" && u.res.Approved == "" {
		u.res.Approved = j.DecidedBy
		l.Step("approved by %s", j.DecidedBy)
	}
	if why := u.unapproved(papers); why != "" {
		l.Warn("%s", why)
		u.res.Approved = ""
	}
	now := s.Now()
	switch {
	case j.Cancel:
		s.End(j, l, core.Cancelled, "cancelled by hand; nothing was sent", u.res)
	case j.Decision == "decline":
		s.End(j, l, core.Cancelled, "declined by "+j.DecidedBy+"; nothing was sent", u.res)
	case !now.Before(u.res.Until):
		s.End(j, l, core.Cancelled, fmt.Sprintf("its time was over at %s; nothing was sent", inZone(u.res.Until, u.res.Zone)), u.res)
	case (u.res.Rule != "" || u.res.Changed) && u.res.Approved == "":
		u.ask()
	case now.Before(u.res.From):
		u.park(core.AwaitsStart, u.res.From, fmt.Sprintf("begins %s; it is previewed again then", inZone(u.res.From, u.res.Zone)))
	default:
		u.begin(ctx)
	}
}

// unapproved tells why an approval that was given counts no more: a rule came
// since by which who planned it cannot have given it, or who gave it may not any
// more.
func (u *plannedPush) unapproved(ctx context.Context) string {
	by := u.res.Approved
	if by == "" {
		return ""
	}
	if u.res.Rule != "" && by == u.j.Actor {
		return fmt.Sprintf("%s approved it and planned it, and since then a second person is asked for (%s)", by, u.res.Rule)
	}
	if who, err := u.s.Store.As(job.Service).UserNamed(ctx, by); errors.Is(err, store.ErrNotFound) || err == nil && (who.Disabled || !who.Actor().May(core.Operator)) {
		return fmt.Sprintf("%s, who approved it, may not push any more", by)
	}
	return ""
}

// ask waits for a person's approval until the window is over.
func (u *plannedPush) ask() {
	why := fmt.Sprintf("a second person has to approve it (%s)", u.res.Rule)
	if u.res.Changed {
		why = "what would be sent is not what was planned any more, so somebody has to look at it again"
	}
	u.park(core.AwaitsApproval, u.res.Until, fmt.Sprintf("%s; it lapses %s", why, inZone(u.res.Until, u.res.Zone)))
}

func (u *plannedPush) park(awaits string, due time.Time, summary string) {
	u.l.Info("%s", summary)
	u.l.Park(awaits, &due, summary, u.res)
}

// begin previews the push again, and pushes if the same would be sent.
func (u *plannedPush) begin(ctx context.Context) {
	s := u.s
	actor, err := s.Asker(ctx, u.j)
	if err != nil {
		s.End(u.j, u.l, core.Refused, err.Error()+"; nothing was sent", u.res)
		return
	}
	u.l.Step("its time has come; looking at the device again")
	p, made, err := u.look(ctx, actor)
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
		return
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(u.j, u.l, core.Cancelled, "cancelled by hand; nothing was sent", u.res)
		return
	case err != nil:
		u.again(core.Failed, err)
		return
	case len(p.Steps) == 0:
		s.End(u.j, u.l, core.Done, fmt.Sprintf("nothing to send, the device runs %s already", p.Target), u.res)
		return
	}
	same := sameSend(u.p, p)
	u.p, u.res.Preview = p, made["preview"]
	if !same {
		u.res.Changed, u.res.Approved = true, ""
		u.ask()
		return
	}
	u.l.Step("the same would be sent as was looked at: %s", core.Count(p.LineCount(), "line", "lines"))
	req := u.req.Push
	req.ApprovedBy = u.res.Approved
	pushed, err := s.RequestPush(ctx, actor, u.res.Preview, made["hash"], req, store.OwnKey(actor, fmt.Sprintf("%s push %d", u.j.ID, u.res.Looks)))
	if claimed := (push.ErrClaimed{}); errors.As(err, &claimed) {
		u.again(core.Refused, err)
		return
	}
	if err != nil {
		s.End(u.j, u.l, core.Refused, "nothing was sent: "+err.Error(), u.res)
		return
	}
	u.res.Push = pushed.ID
	u.l.Step("push %s", pushed.ID)
	u.l.Result(u.res)
	u.follow(ctx)
}

// again waits and tries once more, as long as the window is open.
func (u *plannedPush) again(outcome string, cause error) {
	next := u.s.Now().Add(lookEvery)
	if !next.Before(u.res.Until) {
		u.s.End(u.j, u.l, outcome, "nothing was sent: "+cause.Error(), u.res)
		return
	}
	u.l.Warn("%v; looking again at %s", cause, core.ClockTime(next))
	u.park(core.AwaitsStart, next, fmt.Sprintf("%v; it is looked at again at %s", cause, core.ClockTime(next)))
}

// lookEvery is how often a device that cannot be looked at is tried again.
const lookEvery = time.Minute

// look makes a new preview of what was planned.
func (u *plannedPush) look(ctx context.Context, actor core.Actor) (p push.Preview, made map[string]string, err error) {
	s := u.s
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, u.j.DeviceID)
	if err != nil {
		return p, nil, err
	}
	target, err := q.Version(ctx, store.ByID(u.p.TargetID))
	if err != nil {
		return p, nil, err
	}
	u.res.Looks++
	return s.Previewed(ctx, actor, d, target, push.PreviewRequest{Method: u.p.Method, UndoOf: u.p.UndoOf, Only: u.p.Only, InPlace: u.p.InPlace, Exactly: u.p.Exactly}, fmt.Sprintf("%s look %d %d", u.j.ID, u.res.Looks, s.Now().Unix()))
}

// sameSend tells whether two previews would send the same to the same unit and
// lead to the same, and nothing new speaks against it.
func sameSend(a, b push.Preview) bool {
	return a.Serial == b.Serial && a.Method == b.Method && a.TargetID == b.TargetID && a.Predicted == b.Predicted &&
		reflect.DeepEqual(a.Warnings, b.Warnings) && reflect.DeepEqual(sent(a), sent(b)) && len(a.Changes) == len(b.Changes)
}

// sent is what goes over the wire; what a document is laid over does not count.
func sent(p push.Preview) (out []string) {
	for _, st := range p.Steps {
		out = append(out, st.Kind+" "+st.Block)
		out = append(out, st.Lines...)
		out = append(out, string(st.Content), st.ContentID)
	}
	return out
}

// follow waits until the push has ended, and ends as it did.
func (u *plannedPush) follow(ctx context.Context) {
	pushed, err := u.s.Await(context.WithoutCancel(ctx), u.res.Push, func(core.Job) bool { return ctx.Err() != nil })
	switch {
	case err != nil:
		u.l.Warn("push %s: %v", u.res.Push, err)
	case pushed.State != core.Ended && errors.Is(context.Cause(ctx), job.ErrCancelled):
		u.s.End(u.j, u.l, core.Done, "push "+pushed.ID+" has begun and goes on; cancel that", u.res)
	case pushed.State == core.Ended:
		u.s.End(u.j, u.l, pushed.Outcome, pushed.Summary, u.res)
	}
}
