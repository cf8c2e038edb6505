package push

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Request is what a push job is asked for.
type Request struct {
	PreviewID string `json:"preview_id"`
	NoSave    bool   `json:"no_save"`
	Note      string `json:"note"` // why, in the words of who asks

	LeaveApplied bool `json:"leave,omitempty"`        // when a line is refused: what was applied before it stays
	HoldRestart  bool `json:"hold_restart,omitempty"` // of a staged push: the restart is left to a person

	EndSession string `json:"end_session,omitempty"` // somebody's session that holds the device, to be ended first

	Checks    []string      `json:"checks,omitempty"`     // made before and after; see check.Check
	Override  string        `json:"despite,omitempty"`    // why it is done although the preview has doubts
	Within    time.Duration `json:"within,omitempty"`     // it undoes itself unless it is confirmed in this time; 0: it does not
	Due       *time.Time    `json:"due,omitempty"`        // with Within: it ends at this time, as that of others does
	WhenEqual bool          `json:"when_equal,omitempty"` // it confirms itself when it is proved equal

	ApprovedBy  string `json:"approved_by,omitempty"` // the second person; set by the plan, not by who asks
	RestoreTest string `json:"drill,omitempty"`       // the device whose version is tried out here; set by the drill
}

// Result is what came of a push.
type Result struct {
	Target    string             `json:"target"`
	Before    string             `json:"before,omitempty"` // the version kept before
	BeforeID  string             `json:"before_id,omitempty"`
	After     string             `json:"after,omitempty"`
	Sent      int                `json:"sent"`  // lines the device took
	Total     int                `json:"total"` // lines previewed
	Saved     bool               `json:"saved"`
	Remaining []visit.Difference `json:"residuals"`
	Refused   *Refusal           `json:"refused,omitempty"`
	Checks    []Checked          `json:"checks,omitempty"`

	Stragglers []string `json:"stragglers,omitempty"` // devices it speaks for that did not come back, and why
}

// Refusal is the line a device would not take.
type Refusal struct {
	Line   int    `json:"line"` // from 1, counted as in the preview
	Text   string `json:"text"`
	Masked string `json:"masked"`
	Block  string `json:"block,omitempty"`
	Answer string `json:"answer"` // masked
}

// ErrClaimed is returned when another push holds the device.
type ErrClaimed struct{ Job string }

func (e ErrClaimed) Error() string {
	return fmt.Sprintf("push %s holds this device; wait for it to end, or look at it: magpie job watch %s", e.Job, e.Job)
}

// ErrPreviewChanged is returned when a push names another hash than the
// preview has.
var ErrPreviewChanged = errors.New("this is not the preview that was shown; look at it again before pushing")

// RequestPush queues a push of what a preview shows. hash is the preview's, as
// it was shown.
func (s *Service) RequestPush(ctx context.Context, actor core.Actor, previewID, hash string, req Request, key store.Key) (j core.Job, err error) {
	// Asked for before, it is that push, whatever has become of its window since.
	if old, asked, err := s.Store.As(actor).Asked(ctx, key); err != nil || asked {
		return old, err
	}
	p, err := s.Shown(ctx, actor, previewID, hash)
	if err != nil {
		return j, err
	}
	if err := s.Sound(ctx, actor, p, &req); err != nil {
		return j, err
	}
	if req.Due != nil && req.Due.Sub(s.Now()) < MinWindow {
		return j, fmt.Errorf("%w: the one that all share ends at %s", ErrWindow, core.ClockTime(*req.Due))
	}
	alone, err := s.mayAlone(ctx, actor, p, req)
	if err != nil {
		return j, err
	}
	node := ""
	if p.Where.Relay != "" {
		d, err := s.Store.As(actor).DeviceByID(ctx, p.DeviceID)
		if err != nil {
			return j, err
		}
		r, err := s.UseRelay(ctx, actor, p.Where.Relay, d)
		if err != nil {
			return j, err
		}
		node = r.Node
	}
	if err := s.mayHand(ctx, actor, p); err != nil {
		return j, err
	}
	req.PreviewID = previewID
	return s.Queue(ctx, actor, "push", store.NewJob{Job: core.Job{Kind: "push", DeviceID: p.DeviceID, Device: p.Device, UndoOf: p.UndoOf, ForNode: node}, Wants: req, Key: key},
		fmt.Sprintf("%s of %s onto %s, %d lines%s", p.Method, p.Target, p.Base, p.LineCount(), core.Because(req.Note)+Overridden(p, req)+alone)+p.Where.Words(), s.claim)
}

// claim gives a push its device.
func (s *Service) claim(ctx context.Context, q *store.Q, j core.Job) error {
	holder, err := q.Claim(ctx, j.DeviceID, j.ID)
	if err == nil && holder != "" {
		err = ErrClaimed{holder}
	}
	return err
}

// Sound tells what is wrong with a push that is asked for, now or for later, and
// reads its checks.
func (s *Service) Sound(ctx context.Context, actor core.Actor, p Preview, req *Request) (err error) {
	if err := WindowSound(req.Within); err != nil {
		return err
	}
	if req.HoldRestart && !slices.ContainsFunc(p.Steps, func(st SendStep) bool { return st.Kind == "restart" }) {
		return ErrNoRestart
	}
	if len(p.Warnings) > 0 && strings.TrimSpace(req.Override) == "" {
		return fmt.Errorf("%w: %s", ErrWarnings, strings.Join(p.Warnings, "; "))
	}
	req.Checks, err = s.readChecks(ctx, actor, p.DeviceID, req.Checks)
	return err
}

// WindowSound tells whether a window is neither too short nor too long; nought is
// none.
func WindowSound(within time.Duration) error {
	if within != 0 && (within < MinWindow || within > MaxWindow) {
		return fmt.Errorf("%w: it is %s", ErrWindow, within)
	}
	return nil
}

// Shown opens a preview, if it is the one that was shown.
func (s *Service) Shown(ctx context.Context, actor core.Actor, id, hash string) (p Preview, err error) {
	row, err := s.Store.As(actor).Preview(ctx, id, &p)
	if err != nil {
		return p, err
	}
	if real, err := s.previewHash(p); err != nil || real != row.Hash || hash != row.Hash {
		return p, errors.Join(ErrPreviewChanged, err)
	}
	return p, nil
}

// ErrNoRestart is returned where a restart is to be left to later and there is
// none.
var ErrNoRestart = errors.New("this push restarts nothing, so no restart can be left to later; that is for method stage")

// ErrDoubts is returned when a preview has doubts and nobody said why it is
// pushed all the same.
var ErrWarnings = errors.New("the preview has doubts")

// Overridden words why a push is done although warnings speak against it.
func Overridden(p Preview, req Request) string {
	if len(p.Warnings) == 0 {
		return ""
	}
	return fmt.Sprintf("; done although %s, because: %s", strings.Join(p.Warnings, "; "), req.Override)
}

// ErrWindow is returned for a window that is too short or too long.
var ErrWindow = fmt.Errorf("the window in which to confirm is from %s to %s", core.Span(MinWindow), core.Span(MaxWindow))

// push is one push under way.
type push struct {
	s       *Service
	j       core.Job
	l       *job.Log
	req     Request
	p       Preview
	v       *visit.Visit
	journal store.Journal
	res     Result
	before  core.Version
	looks   int           // how often a push that broke off was looked at
	members []string      // that it speaks for and that were there before
	away    time.Duration // how long it was away for its restart
	brought bool          // the version brought back the login that was used before
	keeping bool          // it was confirmed, and the journal says so until its end
	saveErr error         // why startup could not be written
}

// pushJob is the road of a push: visit, keep what runs, check that it is what
// the preview saw, send line by line, save, pull again, compare.
func (s *Service) pushJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	u := &push{s: s, j: j, l: l}
	err := q.OpenRequest(j, &u.req)
	if err == nil {
		_, err = q.Preview(ctx, u.req.PreviewID, &u.p)
	}
	d, err2 := q.DeviceByID(ctx, j.DeviceID)
	if err = errors.Join(err, err2); err != nil {
		u.finish(core.Failed, "nothing was sent: "+err.Error())
		return
	}
	u.res = Result{Target: u.p.Target, Total: u.p.LineCount()}
	u.journal = store.Journal{JobID: j.ID, DeviceID: d.ID, PreviewID: u.req.PreviewID, Phase: "checking", Total: len(u.p.Steps)}
	u.v = u.visit(d, core.BeforePush)
	u.v.Ends, u.v.Why = u.req.EndSession, u.req.Note
	if err := s.MayStill(ctx, j); errors.Is(err, visit.ErrMayNot) {
		u.finish(core.Refused, err.Error()+"; nothing was sent")
		return
	} else if err != nil {
		u.finish(core.Failed, "nothing was sent: "+err.Error())
		return
	}
	if done := u.check(ctx); done {
		return
	}
	defer func() { u.v.Close() }() // whichever visit is the last: an undo may open another
	if err := u.arm(); err != nil {
		u.broken(ctx, err)
		return
	}
	within, cancel := u.windowed(ctx)
	defer cancel()
	steps := u.p.Steps
	if u.req.HoldRestart { // it is the last of them
		steps = steps[:len(steps)-1]
	}
	if err := u.send(within, steps, "sending"); err != nil {
		u.broken(within, err)
		return
	}
	if u.req.HoldRestart {
		u.hold()
		return
	}
	u.landed()
}

// landed goes on when all was sent.
func (u *push) landed() {
	u.res.Sent = u.res.Total
	u.prove()
}

// check opens the visit, keeps what runs and compares it with the preview. It
// tells whether the push ended there.
func (u *push) check(ctx context.Context) (ended bool) {
	u.l.Step("pulling what runs now, to keep it")
	err := u.v.Open(ctx)
	if err == nil {
		err = u.v.Fetch()
	}
	if err == nil && u.v.Identity.Factory && len(u.v.Names) == 0 {
		// A first-run page stands in the way, and the preview said so.
		u.l.Step("passing the first-run page")
		if err = u.v.Session.PassFirstRun(); err == nil {
			err = u.v.Fetch()
		}
	}
	if err != nil {
		u.v.Close()
		switch {
		case errors.Is(context.Cause(ctx), job.ErrStopping):
			u.finish(core.Failed, "the service was stopped; nothing was sent")
		case errors.Is(context.Cause(ctx), job.ErrCancelled):
			u.finish(core.Cancelled, "cancelled by hand; nothing was sent")
		default:
			u.l.Trouble(err.Error(), "")
			if a := u.v.Advice(err); a != "" {
				u.l.Info("%s", a)
			}
			u.finish(core.Failed, "nothing was sent: "+err.Error(), func(q *store.Q) error { return u.v.NoteFailure(context.Background(), q, err) })
		}
		return true
	}
	k, err := u.v.Keep(context.WithoutCancel(ctx))
	if err != nil {
		u.v.Close()
		u.finish(core.Failed, "nothing was sent: what runs could not be kept: "+err.Error())
		return true
	}
	u.before = k.Versions[u.p.Part]
	u.res.Before, u.res.BeforeID, u.journal.BeforeID = u.before.Ref(), u.before.ID, u.before.ID
	u.l.Info("kept as %s: %s", u.before.Ref(), k.Summary())
	refuse := ""
	switch {
	case u.v.Pull.Serial != u.p.Serial:
		refuse = fmt.Sprintf("other hardware answers: serial %s, the preview saw %s; nothing was sent", u.v.Pull.Serial, u.p.Serial)
	case k.Device.State == core.OtherUnit && u.p.Swap == nil:
		refuse = k.Device.Trouble + "; nothing was sent"
	case u.v.Identity.Factory != u.p.Factory:
		refuse = "the unit was reset or set up since the preview; nothing was sent; preview it again"
	case u.p.Fingerprint != "" && u.before.Fingerprint != u.p.Fingerprint:
		refuse = fmt.Sprintf("the device changed since the preview (it ran %s, now %s); nothing was sent; preview it again", u.p.Base, u.before.Ref())
	case u.p.Method == "stage" && k.Versions["startup"].ID != u.p.StartupID:
		refuse = "startup was written since the preview; nothing was sent; preview it again"
	case u.v.Dialect.Revision != u.p.DialectRev:
		refuse = "the dialect was changed since the preview; nothing was sent; preview it again"
	}
	if refuse != "" {
		u.v.Close()
		u.finish(core.Refused, refuse)
		return true
	}
	u.gathered()
	u.checkBefore(ctx)
	return false
}

// send types the steps, announcing each in the journal before it goes.
func (u *push) send(ctx context.Context, steps []SendStep, phase string) error {
	if len(steps) == 0 {
		return nil
	}
	if steps[0].ours() {
		u.l.Step("%s %s", phase, core.Count(len(steps), "step", "steps"))
	} else {
		u.l.Step("%s %s", phase, core.Count(len(steps), "line", "lines"))
	}
	sess := u.v.Session
	if u.v.Device.Member != "" {
		sess = sess.For(u.v.Device.Member)
	}
	if phase == "sending" && len(u.p.Loaded) > 0 {
		u.l.Step("throwing away what somebody loaded and did not commit")
		if err := sess.Discard(); err != nil {
			return err
		}
	}
	if err := sess.Begin(); err != nil {
		return err
	}
	u.journal.Phase, u.journal.Total, u.journal.Announced, u.journal.Answered = phase, len(steps), 0, 0
	for i, st := range steps {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		indent := strings.Repeat("  ", st.Depth)
		if st.ours() {
			indent = st.Kind + " "
		}
		u.l.Line(fmt.Sprintf("%3d  %s%s", i+1, indent, strings.Join(st.Lines, "\n")), fmt.Sprintf("%3d  %s%s", i+1, indent, strings.Join(st.Masked, "\n")))
		u.journal.Announced, u.journal.Answered = i+1, i
		if err := u.record(); err != nil {
			return fmt.Errorf("line %d was not sent, because it could not be announced: %w", i+1, err)
		}
		if st.Kind == "restart" {
			if err := u.holds(st); err != nil {
				return stepError{i + 1, st, err}
			}
		}
		if st.Kind == "commit" && i > 0 && u.p.Method == "replace" {
			if err := u.valid(sess, string(steps[i-1].Content)); err != nil {
				return stepError{i + 1, st, err}
			}
		}
		c := st.change(u.p.Part, u.p.Method)
		if phase == "sending" && u.journal.UndoBy == link.ByCommit && c.Kind == "commit" {
			c.Within, c.Token = u.journal.Due.Sub(u.s.Now())+grace(u.req.Within), u.journal.Token
		}
		if err := sess.Send(c); err != nil {
			return stepError{i + 1, st, err}
		}
		if phase != "undoing" {
			u.res.Sent++
		}
	}
	u.journal.Answered = len(steps)
	if down, back := absence(steps, u.v.Dialect); back > 0 {
		return u.restarted(ctx, down, back)
	}
	if err := sess.Finish(); err != nil {
		return fmt.Errorf("after the last line: %w", err)
	}
	return nil
}

// valid reads what was loaded once more before it is committed: it must be what
// was asked for.
func (u *push) valid(sess *link.Session, want string) error {
	loaded, ok, err := sess.Candidate(u.p.Part)
	if err != nil || !ok {
		return err
	}
	off, err := u.s.Differences(u.v.Dialect.Doc(u.p.Part), loaded, want)
	if err != nil {
		return err
	}
	if len(off) > 0 {
		u.res.Remaining = off
		return fmt.Errorf("what was loaded is not what was asked for, %s differ; it was not committed", core.Count(len(off), "line", "lines"))
	}
	u.l.Info("what was loaded was read again, and is what was asked for")
	return nil
}

// ours tells whether a step is in our words, and no line to be typed.
func (st SendStep) ours() bool {
	return slices.Contains([]string{"load", "commit", "stage", "restart", "live"}, st.Kind)
}

// change is a step as it is sent.
func (st SendStep) change(part, method string) link.Change {
	if st.ours() {
		return link.Change{Kind: st.Kind, Part: part, Method: method, Content: st.Content, Current: string(st.Current), Passphrase: st.Passphrase}
	}
	return link.Change{Kind: "line", Lines: st.Lines, Hostname: st.Hostname}
}

// restarted waits until the device is back from a restart and opens another
// visit. down is how long it may still answer as it was.
func (u *push) restarted(ctx context.Context, down, within time.Duration) error {
	u.l.Step("the device restarts; waiting up to %s for it to be back", core.Span(within))
	at := u.v.Session.Target()
	u.v.Close()
	began := time.Now()
	for down > 0 && ctx.Err() == nil && link.Listens(ctx, at) {
		if time.Since(began) >= down {
			u.l.Warn("it went on answering for %s; whether it restarted shows in the proof", core.Span(down))
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	for n := 0; ; n++ {
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		d, err := u.s.Store.As(job.Service).DeviceByID(ctx, u.j.DeviceID)
		if err != nil {
			return err
		}
		v := u.after(d, n)
		if err = v.Open(ctx); err == nil {
			u.v = v
			u.away = time.Since(began)
			u.l.Info("back after %s", u.away.Round(time.Second))
			return nil
		}
		if errors.Is(err, link.ErrLoginRefused) || time.Since(began) > within {
			return fmt.Errorf("the device did not come back as it should: %w", err)
		}
	}
}

// record writes the journal, and what is pending of the log. It is not broken
// off by a cancel: what was done must be written down.
func (u *push) record() error {
	ctx := context.Background()
	return u.l.Commit(ctx, func(q *store.Q) error { return q.PutJournal(ctx, u.journal) })
}
