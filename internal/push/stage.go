package push

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
)

// errOverwritten is why a device is not restarted: startup no longer holds what
// was put there.
var errOverwritten = errors.New("startup does not hold what was put there: somebody saved over it; the device was not restarted")

// holds makes sure, just before the restart, that startup still is what was put
// there.
func (u *push) holds(restart SendStep) error {
	got, err := u.v.Session.Fetch("startup")
	if err != nil {
		return fmt.Errorf("reading startup before the restart: %w", err)
	}
	if got.Absent || !u.v.Dialect.Doc("running").Equivalent(got.Text, string(restart.Content)) {
		return errOverwritten
	}
	u.l.Info("startup was read again, and holds it")
	return nil
}

// hold leaves the restart to a person. The device stays claimed, so that nothing
// of ours writes startup meanwhile.
func (u *push) hold() {
	u.v.Close()
	u.journal.Phase = "staged"
	summary := fmt.Sprintf("startup holds %s; the device still runs %s, and goes on to do so until it is restarted", u.p.Target, u.res.Before)
	u.l.Step("the restart is left to a person")
	u.l.Park(core.AwaitsRestart, nil, summary, u.res, u.journaled)
}

// unhold takes up a push whose restart was left to a person.
func (u *push) unhold(ctx context.Context) {
	switch {
	case u.j.Cancel:
		u.takeBack(ctx, "cancelled by hand")
		return
	case u.j.Decision != "restart":
		u.takeBack(ctx, u.j.DecidedBy+" asked to undo it")
		return
	}
	u.l.Step("%s asked for the restart", u.j.DecidedBy)
	var running bool
	var err error
	for end := time.Now().Add(time.Minute); ; { // somebody may be restarting it just now
		if running, err = u.lookAgain(ctx); err == nil || ctx.Err() != nil || !errors.Is(err, link.ErrUnreachable) || time.Now().After(end) {
			break
		}
		u.v.Close()
		u.v = u.after(u.v.Device, 0)
		time.Sleep(time.Second)
	}
	if err != nil {
		u.v.Close()
		u.l.Trouble(err.Error(), "")
		u.l.Park(core.AwaitsRestart, nil, fmt.Sprintf("startup holds %s; the device was not restarted: %v", u.p.Target, err), u.res)
		return
	}
	defer func() { u.v.Close() }()
	if running {
		u.l.Info("it runs %s already: somebody restarted it", u.p.Target)
		u.landed()
		return
	}
	if err := u.arm(); err != nil {
		u.broken(ctx, err)
		return
	}
	within, cancel := u.windowed(ctx)
	defer cancel()
	if err := u.send(within, u.p.Steps[len(u.p.Steps)-1:], "restarting"); err != nil {
		u.broken(within, err)
		return
	}
	u.landed()
}

// lookAgain opens a visit and tells whether the device runs what is staged.
func (u *push) lookAgain(ctx context.Context) (runs bool, err error) {
	if err := u.open(ctx, u.v); err != nil {
		return false, err
	}
	if err := u.sameUnit(); err != nil {
		return false, err
	}
	if err := u.v.Fetch(); err != nil {
		return false, err
	}
	restart := u.p.Steps[len(u.p.Steps)-1]
	return u.v.Dialect.Doc(u.p.Part).Equivalent(u.v.Parts[u.p.Part].Text, string(restart.Content)), nil
}

// startupBack has startup hold again what it held before a staged push, when it
// does not.
func (u *push) startupBack(ctx context.Context) error {
	if u.p.Method != "stage" || u.p.StartupID == "" {
		return nil
	}
	q := u.s.Store.As(job.Service)
	before, err := q.VersionByID(ctx, u.p.StartupID)
	if err != nil {
		return err
	}
	raw, err := q.Content(ctx, before.ContentID)
	if err != nil {
		return err
	}
	holds := func() bool {
		now := u.v.Parts["startup"]
		return !now.Absent && u.v.Dialect.Doc("running").Equivalent(now.Text, string(raw))
	}
	if holds() {
		return nil
	}
	u.l.Step("putting back what startup held, %s", before.Ref())
	u.journal.Phase = "undoing"
	if err := u.record(); err != nil {
		return err
	}
	if err := u.v.Session.Begin(); err != nil {
		return err
	}
	if err := u.v.Session.Send(link.Change{Kind: "stage", Part: "startup", Method: "stage", Content: raw}); err != nil {
		return fmt.Errorf("putting back what startup held: %w", err)
	}
	if err := u.v.Session.Finish(); err != nil {
		return err
	}
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(); err != nil {
		return err
	}
	if !holds() {
		return fmt.Errorf("startup does not hold %s although it was put back", before.Ref())
	}
	return nil
}

// settled gives the device the time that its dialect says it needs before what it
// shows can be believed.
func (u *push) settled() {
	span := u.v.Dialect.Span(u.v.Dialect.Change.Settle, 0)
	if span == 0 || len(u.p.Steps) == 0 {
		return
	}
	u.l.Info("giving it %s to settle", core.Span(span))
	lasting, done := u.s.Lasting()
	defer done()
	select {
	case <-time.After(span):
	case <-lasting.Done():
	}
}
