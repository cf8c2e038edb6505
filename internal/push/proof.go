package push

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// against lists what keeps what a visit found from being what was kept.
func (u *push) against(ctx context.Context, v *visit.Visit, contentID string) ([]visit.Difference, error) {
	raw, err := u.s.Store.As(job.Service).Content(ctx, contentID)
	if err != nil {
		return nil, err
	}
	return u.s.Differences(v.Dialect.Doc(u.p.Part), v.Parts[u.p.Part].Text, string(raw))
}

// differs lists what keeps what a visit found from being what was asked for: the
// version, or where not all of it was to go there, what was predicted.
func (u *push) differs(ctx context.Context, v *visit.Visit) ([]visit.Difference, error) {
	if len(u.p.Only) > 0 || len(u.p.SetAside) > 0 {
		return u.s.Differences(v.Dialect.Doc(u.p.Part), v.Parts[u.p.Part].Text, u.p.Predicted)
	}
	target, err := u.s.Store.As(job.Service).VersionByID(ctx, u.p.TargetID)
	if err != nil {
		return nil, err
	}
	return u.against(ctx, v, target.ContentID)
}

// phase writes down how far the push is. Once it was confirmed that stands, so
// that whoever takes it up goes on to keep it.
func (u *push) phase(name string) error {
	if u.keeping {
		name = "keeping"
	}
	u.journal.Phase = name
	return u.record()
}

// save makes what runs the startup part, once what runs is proved to be what was
// asked for, and pulls once more, so that startup is proved too. That it could
// not be written does not end the push: the outcome will say that it is unsaved.
// The error is that it could not be pulled.
func (u *push) save(ctx context.Context) error {
	if u.req.NoSave || u.p.Method == "stage" || !u.v.Session.Saves() {
		return nil
	}
	left, err := u.differs(ctx, u.v)
	if err != nil {
		return nil // the verdict says so
	}
	if len(left) > 0 && !u.merged(left) {
		u.l.Warn("not saved to startup, because what runs is not what was asked for")
		return nil
	}
	u.l.Step("what runs is proved; saving to startup")
	if u.saveErr = u.phase("saving"); u.saveErr != nil {
		return nil
	}
	answer, err := u.v.Session.Save()
	if err != nil {
		u.l.Warn("not saved: %v", err)
		u.saveErr = err
	} else {
		u.l.Info("%s", answer)
		u.res.Saved = true
	}
	if err := u.phase("proving"); err != nil {
		u.l.Warn("journal: %v", err)
	}
	u.v.Renew(core.AfterPush)
	return u.v.Fetch()
}

// merged tells whether the lines that differ are those that the preview said
// would be left.
func (u *push) merged(left []visit.Difference) bool {
	return u.p.Method == "merge" && len(left) == len(u.p.Remains)
}

// prove pulls the device again and ends the push with what it finds, or lets it
// wait to be confirmed.
func (u *push) prove() {
	outcome, summary, ok := u.proof(u.journal.Due == nil)
	switch {
	case !ok:
		u.s.settleLater(u.j, u.l)
	case u.journal.Due != nil && u.failed() != "":
		lasting, done := u.s.Lasting()
		defer done()
		u.takeBack(lasting, u.failed())
	case u.journal.Due != nil && outcome != core.Unknown:
		u.park(outcome, summary)
	case u.failed() != "":
		u.finish(outcome, summary+"; but "+u.failed())
	default:
		u.finish(outcome, summary)
	}
}

// proof pulls the device again and says how it stands: equal to what was asked
// for, or with the lines that differ. It returns false when that is not known
// yet. A proof that is final has startup written once what runs is proved, and
// proves that as well; one that is not leaves startup aside.
func (u *push) proof(final bool) (outcome, summary string, ok bool) {
	ctx := context.Background()
	u.l.Step("pulling again, to prove it")
	if err := u.phase("proving"); err != nil {
		u.l.Warn("journal: %v", err)
	}
	u.settled()
	u.regather(ctx)
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(); err != nil {
		u.l.Trouble("the proof could not be pulled: "+err.Error(), "")
		u.v.Close()
		return "", "", false
	}
	if !final || u.journal.Due == nil {
		within, cancel := u.windowed(ctx)
		u.checkAfter(within)
		cancel()
	}
	if final {
		if err := u.save(ctx); err != nil {
			u.l.Trouble("the proof of startup could not be pulled: "+err.Error(), "")
			u.v.Close()
			return "", "", false
		}
	}
	u.v.Close()
	var k visit.Kept
	var err error
	if err = u.ownNow(ctx); err == nil {
		err = u.takePlace()
	}
	if err == nil {
		k, err = u.v.Keep(ctx)
	}
	if err != nil {
		u.l.Trouble("the proof could not be kept: "+err.Error(), "")
		return "", "", false
	}
	after := k.Versions[u.p.Part]
	u.l.Info("kept as %s", after.Ref())
	u.res.After = after.Ref()
	outcome, summary, err = u.verdict(ctx, u.v)
	switch {
	case err != nil:
		return core.Unknown, "the device was pulled as " + after.Ref() + " but could not be compared: " + err.Error(), true
	case outcome == core.NotSaved && !final: // startup is written when it is confirmed
		summary = fmt.Sprintf("the device runs %s, pulled again and compared", u.p.Target)
	case u.saveErr != nil && (outcome == core.NotSaved || outcome == core.Equal):
		outcome, summary = core.NotSaved, fmt.Sprintf("the device runs %s, pulled again and compared, but saving to startup failed: %v", u.p.Target, u.saveErr)
	case outcome == core.Residuals && final && !u.res.Saved && u.v.Unsaved() && len(u.p.Steps) > 0:
		summary += "; it was not saved to startup"
	}
	if u.brought {
		summary += "; it knows the login that was used before it was changed here"
	}
	return outcome, summary + u.stragglers(), true
}

// ownNow lets a device's pulls count again that runs what a person pushed there,
// although a drill left something else on it.
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
	target, err := u.s.Store.As(job.Service).VersionByID(ctx, u.p.TargetID)
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
	case n > 0 && u.merged(u.res.Remaining):
		return core.Residuals, fmt.Sprintf("all of %s is there; %d other lines were left, as the preview said", u.p.Target, n), nil
	case n > 0:
		return core.Residuals, fmt.Sprintf("%d lines still differ from %s", n, u.p.Target), nil
	case v.Unsaved():
		return core.NotSaved, fmt.Sprintf("the device runs %s, but startup does not hold it: a restart would lose it", u.p.Target), nil
	}
	return core.Equal, fmt.Sprintf("the device runs %s, pulled again and compared", u.p.Target) + u.setAside() + u.resalted(ctx, v, target), nil
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

// proven notes that the version was put on hardware and is there, and how long
// the device was away for it.
func (u *push) proven(ctx context.Context, q *store.Q, outcome string) error {
	equal := outcome == core.Equal || outcome == core.NotSaved && u.req.RestoreTest != "" // a drill leaves startup alone
	if !equal || u.res.Sent == 0 || len(u.p.Only) > 0 {
		return nil
	}
	target, err := q.VersionByID(ctx, u.p.TargetID)
	if err != nil {
		return err
	}
	if u.away > 0 {
		if err := q.SetAway(ctx, u.j.ID, u.away); err != nil {
			return err
		}
	}
	how := target.Ref() + " by a push"
	switch {
	case u.req.RestoreTest != "":
		how = target.Ref() + " in a drill on " + u.j.Device
	case target.DeviceID != u.j.DeviceID:
		how += " to " + u.j.Device
	}
	return q.SetProven(ctx, target.DeviceID, how)
}

// finish ends the push and lets the device go. A push of which a line was refused
// or whose undo broke off is never equal, whatever the device runs: it says both.
func (u *push) finish(outcome, summary string, also ...func(q *store.Q) error) {
	ctx := context.Background()
	place := outcome
	if r := u.res.Refused; r != nil && outcome == core.Equal {
		outcome = core.Refused
		if refused := fmt.Sprintf("the device refused line %d of %d", r.Line, u.res.Total); !strings.Contains(summary, refused) {
			summary = refused + "; all the same: " + summary
		}
	}
	if u.journal.Phase == "undoing" && outcome == core.Equal {
		outcome, summary = core.Failed, "the undo broke off; all the same: "+summary
	}
	u.s.End(u.j, u.l, outcome, summary, u.res, append(also, func(q *store.Q) error {
		if err := u.settlePlace(ctx, q, place); err != nil {
			return err
		}
		if err := u.proven(ctx, q, outcome); err != nil {
			return err
		}
		return q.Audit(ctx, "push ended", u.j.Device, fmt.Sprintf("job %s: %s: %s", u.j.ID, outcome, summary))
	})...)
}
