package push

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// startup tells whether what follows what is pushed is a startup part.
func (u *push) startup() bool {
	name, _, _ := u.v.Dialect.Follower()
	return name == "startup"
}

// has and had word how a device has what was pushed: it runs it, or has it as a file.
func (u *push) has() string {
	if !u.startup() {
		return "has"
	}
	return "runs"
}

func (u *push) had() string {
	if !u.startup() {
		return "had"
	}
	return "ran"
}

// apart says that a part does not follow the other, and of startup what that means.
func (u *push) apart(what, means string) string {
	name, of, _ := u.v.Dialect.Follower()
	if u.startup() {
		return "startup does not hold " + what + ": " + means
	}
	return fmt.Sprintf("what is %s is not what %s says: %s", name, of, u.v.Dialect.UnsavedWord())
}

// prove pulls the device again and makes the checks. It reports whether what runs
// is what was asked for, where startup is to be written of it.
func (u *push) prove() (f Facts) {
	ctx := context.Background()
	if u.st.Announced == u.st.Lines {
		u.res.Sent = u.res.Total
	}
	within, cancel := u.window(u.owed)
	defer cancel()
	if err := u.talking(within); err != nil {
		f.Report = u.reported(err)
		return f
	}
	u.l.Step("pulling again, to verify it")
	u.settle()
	u.regather(ctx)
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(ctx); err != nil {
		u.l.Trouble("the verification could not be pulled: "+err.Error(), "")
		f.Report = u.reported(err)
		return f
	}
	if u.st.Kept == "" {
		u.checkAfter(within)
	}
	f.Report, f.Bad = Done, u.failed() != ""
	if u.st.Round < u.st.Rounds && u.st.Kept == "" {
		f.More, f.Missing = u.missing(ctx)
	}
	if u.st.final() && u.st.Saves { // otherwise the verdict alone compares
		if left, err := u.differs(ctx, u.v); err == nil {
			f.Matches = len(left) == 0 || u.merged(u.v)
		}
		if !f.Matches {
			u.l.Warn("not saved to startup, because what runs is not what was asked for")
		}
	}
	return f
}

// saveStartup makes what runs the startup part, and pulls once more, so that
// startup is proved too. That it could not be written does not end the push: the
// outcome will say that it is unsaved.
func (u *push) saveStartup() Report {
	u.l.Step("what runs is verified; saving to startup")
	answer, err := "", error(nil)
	if written, e := u.startupWritten(); e != nil {
		err = e
	} else if written {
		err = fmt.Errorf("somebody wrote startup since the push began, and that is kept and not overwritten; look: magpie diff %[1]s/startup %[1]s; to have startup hold what runs: magpie push %[2]s", u.j.Device, u.p.Target)
	} else {
		answer, err = u.v.Session.Save()
	}
	if u.saveErr = err; err != nil {
		u.l.Warn("not saved: %v", err)
	} else {
		u.l.Info("%s", answer)
		u.res.Saved = true
	}
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(u.owed); err != nil {
		u.l.Trouble("the verification of startup could not be pulled: "+err.Error(), "")
		return u.reported(err)
	}
	return Done
}

// noStartup stands for startup's version where the device had none.
const noStartup = "none"

// startupWritten tells whether startup, as it was just read, holds neither what it held
// when the push began nor what runs: somebody wrote it in between.
func (u *push) startupWritten() (bool, error) {
	now, ok := u.v.Parts["startup"]
	doc := u.v.Dialect.Doc(u.p.Part)
	if !ok || now.Absent || doc.Equivalent(now.Text, u.v.Parts[u.p.Part].Text) {
		return false, nil
	}
	switch u.st.Startup {
	case "": // checked by an older program, which did not say
		return false, nil
	case noStartup:
		return true, nil
	}
	q := u.s.Store.As(job.Service)
	was, err := q.Version(context.Background(), store.ByID(u.st.Startup))
	if err != nil {
		return false, err
	}
	raw, err := q.Content(context.Background(), was.ContentID)
	return err == nil && !doc.Equivalent(now.Text, string(raw)), err
}

// judge keeps what was pulled, and compares it with what was asked for.
func (u *push) judge() (f Facts) {
	ctx := context.Background()
	u.close()
	var k visit.Kept
	err := u.ownNow(ctx)
	if err == nil {
		err = u.takePlace()
	}
	if err == nil {
		k, err = u.v.Keep(ctx)
	}
	if err != nil {
		u.l.Trouble("the verification could not be kept: "+err.Error(), "")
		f.Report = u.reported(err)
		return f
	}
	after := k.Versions[u.p.Part]
	u.l.Info("kept as %s", after.Ref())
	u.res.After = after.Ref()
	f.Report = Done
	f.Outcome, u.said, err = u.verdict(ctx, u.v)
	if u.req.NameAfter != "" && err == nil && (f.Outcome == core.Verified || f.Outcome == core.NotSaved) {
		if why := u.v.Name(ctx, after, u.req.NameAfter); why != "" {
			u.l.Warn("%s", why)
		}
	}
	final := u.st.final()
	switch {
	case err != nil:
		f.Outcome, u.said = core.Unknown, "the device was pulled as "+after.Ref()+" but could not be compared: "+err.Error()
		return f
	case f.Outcome == core.NotSaved && !final: // startup is written when it is confirmed
		u.said = fmt.Sprintf("the device %s %s, pulled again and compared", u.has(), u.p.Target)
	case u.saveErr != nil && (f.Outcome == core.NotSaved || f.Outcome == core.Verified):
		f.Outcome, u.said = core.NotSaved, fmt.Sprintf("the device runs %s, pulled again and compared, but saving to startup failed: %v", u.p.Target, u.saveErr)
	case f.Outcome == core.Differs && final && !u.res.Saved && u.v.Unsaved() && len(u.p.Steps) > 0:
		u.said += "; it was not saved to startup"
	}
	if u.brought {
		u.said += "; it knows the login that was used before it was changed here"
	}
	u.said += u.stragglers()
	return f
}

// ownNow lets a device's pulls count again that runs what a person pushed there,
// although a restore test left something else on it.
func (u *push) ownNow(ctx context.Context) error {
	if u.v.Device.Testing == "" || u.req.RestoreTest != "" {
		return nil
	}
	if left, err := u.differs(ctx, u.v); err != nil || len(left) > 0 {
		return nil // the verdict says so
	}
	return u.s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetTesting(ctx, u.j.DeviceID, "") })
}

// verdict compares what was just pulled with what was asked for.
func (u *push) verdict(ctx context.Context, v *visit.Visit) (outcome, summary string, err error) {
	target, err := u.s.Store.As(job.Service).Version(ctx, store.ByID(u.p.TargetID))
	if err != nil {
		return "", "", err
	}
	u.res.Remaining, err = u.differs(ctx, v)
	if err != nil {
		return "", "", err
	}
	if len(u.res.Remaining) > 0 && v.Dialect.Doc(u.p.Part).Opaque() && v.Parts[u.p.Part].Passphrase != "" {
		return core.Unknown, "the device took " + u.p.Target + "; its file is encrypted anew each time, so it cannot be compared", nil
	}
	switch n := len(u.res.Remaining); {
	case n > 0 && u.merged(v):
		return core.Differs, fmt.Sprintf("all of %s is there; %s left, as the preview said", u.p.Target, core.Count(n, "other line was", "other lines were")), nil
	case n > 0:
		return core.Differs, fmt.Sprintf("%s from %s", core.Count(n, "line still differs", "lines still differ"), u.p.Target), nil
	case v.Unsaved():
		return core.NotSaved, fmt.Sprintf("the device %s %s, but %s", u.has(), u.p.Target, u.apart("it", "a restart would lose it")), nil
	}
	gone, err := u.s.goneElements(ctx, u.p)
	if err != nil {
		return "", "", err
	}
	if len(gone) > 0 {
		return core.Differs, fmt.Sprintf("the device %s %s, but logical %s not there any more: %s; a push of %s does not bring that back", u.has(), u.p.Target, map[bool]string{true: "element is", false: "elements are"}[len(gone) == 1], strings.Join(gone, ", "), u.p.Part), nil
	}
	for _, e := range u.p.Elements {
		if e.Cannot != "" {
			return core.Differs, fmt.Sprintf("the device %s %s, but logical element %s was not put back: %s", u.has(), u.p.Target, e.Name, e.Cannot), nil
		}
	}
	return core.Verified, fmt.Sprintf("the device %s %s, pulled again and compared", u.has(), u.p.Target) + u.setAside() + u.resalted(ctx, v, target) + u.letGo(ctx, v, target), nil
}

// setAside says how much of the version did not go there.
func (u *push) setAside() string {
	if len(u.p.SetAside) == 0 {
		return ""
	}
	return fmt.Sprintf("; set aside: %s to other hardware", core.Count(len(u.p.SetAside), "line that belongs", "lines that belong"))
}

// resalted counts the lines whose secrets the device has salted anew since the
// version: they are there, and cannot be compared.
func (u *push) resalted(ctx context.Context, v *visit.Visit, target core.Version) string {
	raw, err := u.s.Store.As(job.Service).Content(ctx, target.ContentID)
	doc := v.Dialect.Doc(u.p.Part)
	if err != nil || doc.Opaque() {
		return ""
	}
	n, then := 0, doc.Salted(string(raw))
	for _, l := range doc.Salted(v.Parts[u.p.Part].Text) {
		if !slices.Contains(then, l) {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; %s salted anew by the device could not be compared", core.Count(n, "secret", "secrets"))
}

// goneElements are the logical elements that the device had, has no more, and that somebody wants there.
// What the push takes care of is left out.
func (s *Service) goneElements(ctx context.Context, push Preview) (gone []string, err error) {
	parts, err := s.Store.As(job.Service).Parts(ctx, push.DeviceID)
	for _, p := range parts {
		of := func(e Element) bool { return e.Part == p.Name }
		if element, _ := core.ElementOf(p.Name); p.Lost() && !slices.ContainsFunc(push.Elements, of) {
			gone = append(gone, element)
		}
	}
	return gone, err
}

// letGo counts what differs from the version and counts for nothing by the dialect's rules.
func (u *push) letGo(ctx context.Context, v *visit.Visit, target core.Version) string {
	doc := v.Dialect.Doc(u.p.Part)
	if doc.Opaque() || len(u.p.Only) > 0 {
		return ""
	}
	raw, err := u.s.Store.As(job.Service).Content(ctx, target.ContentID)
	if err != nil {
		return ""
	}
	if gone := doc.LetGo(string(raw), v.Parts[u.p.Part].Text).Words(); gone != "" {
		return "; the dialect lets go: " + gone
	}
	return ""
}

// settle gives the device the time that its dialect says it needs before what it
// shows can be believed.
func (u *push) settle() {
	span := u.v.Dialect.Span(u.v.Dialect.Change.Settle, 0)
	if span == 0 || len(u.p.Steps) == 0 {
		return
	}
	u.l.Info("giving it %s to settle", core.Span(span))
	select {
	case <-time.After(span):
	case <-u.owed.Done():
	}
}
