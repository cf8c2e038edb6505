package push

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// undo tries once to bring the device back to the version kept before the push. It
// works from what runs now, because after a break the last line sent is in doubt.
func (u *push) undo() (f Facts) {
	if u.before.ID == "" && !u.created() {
		u.close()
		f.Report, f.Outcome = Done, core.Differs
		u.said = "what was sent cannot be taken back: what the device ran before could not be read, so it was not kept. Pull it and push again"
		return f
	}
	left, err := u.undone(u.owed)
	f.Report = u.reported(err)
	if err != nil {
		mask, said := u.s.Masker(u.v.Dialect), err.Error()
		var at stepError
		if errors.As(err, &at) {
			said = mask.Answer(said, at.step.Secrets)
		}
		switch {
		case f.Report == Refused && u.st.Refusals > 0:
			u.l.Trouble("the device refuses the undo: "+mask.Answer(linkRefused(err).Words, nil), "")
		default:
			u.l.Warn("undoing: %s", said)
		}
		u.close()
		return f
	}
	u.res.Remaining = left
	switch {
	case len(left) > 0:
		f.Outcome, u.said = core.Differs, "undone but for "+core.Count(len(left), "line", "lines")
	case u.v.Unsaved() && !u.p.Unsaved && (u.v.Dialect.Change.Save != nil || !u.startup()):
		f.Outcome, u.said = core.NotSaved, "the device "+u.has()+" again what it "+u.had()+" before, "+u.res.Before+", but "+u.apart("that", "a restart would bring something else")
	default:
		u.res.Remaining = nil
		f.Outcome, u.said = core.Undone, "the device "+u.has()+" again what it "+u.had()+" before, "+u.res.Before
	}
	return f
}

// undone does it, and returns the lines that still differ.
func (u *push) undone(ctx context.Context) ([]visit.Difference, error) {
	s, q := u.s, u.s.Store.As(job.Service)
	if u.p.Swap != nil {
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return u.giveBack(ctx, q) }); err != nil {
			return nil, err
		}
	}
	if err := u.talking(ctx); err != nil {
		return nil, err
	}
	recalled := false
	if (u.st.UndoBy == byCommit || u.st.UndoBy == byDeed) && u.v.Session.Recalls() {
		if err := u.v.Session.Recall(u.st.Token); err == nil {
			recalled = true
			u.l.Info("the device went back, as it was told to")
		} else if linkRefused(err) == nil {
			return nil, err
		} // it went back by itself, or was never committed
	}
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(ctx); err != nil {
		return nil, err
	}
	doc := u.v.Dialect.Doc(u.p.Part)
	if u.created() {
		if err := u.uncreate(ctx); err != nil {
			return nil, err
		}
		return u.ends(ctx, recalled)
	}
	was, err := s.TextOf(ctx, q, doc, u.before.ContentID)
	if err != nil {
		return nil, err
	}
	passphrase, err := q.Passphrase(ctx, u.before.ID)
	if err != nil {
		return nil, err
	}
	method := u.p.Method
	if method == "merge" {
		method = "replace"
	}
	sc, err := s.script(u.v, doc, u.p.Part, ask{method: method, have: u.v.Parts[u.p.Part].Text, want: was, contentID: u.before.ContentID, passphrase: passphrase})
	if err != nil {
		return nil, err
	}
	more, err := u.elementsBack(ctx)
	if err != nil {
		return nil, err
	}
	sc.steps = beforeCommit(sc.steps, more, u.v.Session)
	if len(sc.steps) > 0 {
		if err := u.sendBack(ctx, sc.steps); err != nil {
			return nil, err
		}
		u.v.Renew(core.AfterPush)
		if err := u.v.Fetch(ctx); err != nil {
			return nil, err
		}
	}
	return u.ends(ctx, recalled)
}

// uncreate takes away the logical element that the push made, if it is there.
func (u *push) uncreate(ctx context.Context) error {
	if _, there := u.v.Parts[u.p.Part]; !there {
		return nil
	}
	element, _ := core.ElementOf(u.p.Part)
	drop := elementStep(u.v, Element{Part: u.p.Part, Name: element, Do: "remove"}, "")
	if err := u.sendBack(ctx, beforeCommit(nil, []SendStep{drop}, u.v.Session)); err != nil {
		return err
	}
	u.v.Renew(core.AfterPush)
	return u.v.Fetch(ctx)
}

// ends writes startup, keeps what runs after the undo, and lists what differs from what ran before the push.
func (u *push) ends(ctx context.Context, recalled bool) (left []visit.Difference, err error) {
	if u.p.Method == "stage" {
		err = u.startupBack(ctx)
	} else {
		err = u.savedBack()
	}
	if err != nil {
		return nil, err
	}
	if u.st.UndoBy == byTimer || u.st.UndoBy == byDeed && !recalled {
		if r := u.callOff("the device's own undo is called off"); r != Done && r != Nothing {
			return nil, u.err
		}
	}
	u.close()
	if _, err := u.v.Keep(ctx); err != nil {
		return nil, err
	}
	return u.against(ctx, u.v, u.before.ContentID)
}

// sendBack sends the steps of an undo.
func (u *push) sendBack(ctx context.Context, steps []SendStep) error {
	u.l.Step("undoing %s", core.Count(len(steps), "line", "lines"))
	if err := u.session().Begin(); err != nil {
		return err
	}
	for i, st := range steps {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		u.shown(i+1, st)
		if err := u.one(i+1, st, u.change(st), true); err != nil {
			return err
		}
	}
	return u.ended(ctx, steps)
}

// savedBack has startup hold what runs again, where it held that before and
// somebody has saved what was pushed since. That it cannot be written shows in the
// outcome.
func (u *push) savedBack() error {
	if u.p.Unsaved || !u.v.Unsaved() || !u.v.Session.Saves() {
		return nil
	}
	u.l.Step("startup holds what was pushed: somebody saved it; having it hold again what runs")
	if answer, err := u.v.Session.Save(); err != nil {
		u.l.Warn("not saved: %v", err)
	} else {
		u.l.Info("%s", answer)
	}
	u.v.Renew(core.AfterPush)
	return u.v.Fetch(u.owed)
}

// startupBack has startup hold again what it held before a staged push, when it
// does not.
func (u *push) startupBack(ctx context.Context) error {
	if u.p.StartupID == "" {
		return nil
	}
	q := u.s.Store.As(job.Service)
	before, err := q.Version(ctx, store.ByID(u.p.StartupID))
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
	if err := u.v.Session.Begin(); err != nil {
		return err
	}
	if err := u.v.Session.Send(link.Change{Kind: "stage", Part: "startup", Method: "stage", Content: link.Content{Bytes: raw}}); err != nil {
		return fmt.Errorf("putting back what startup held: %w", err)
	}
	if err := u.v.Session.Finish(); err != nil {
		return err
	}
	u.v.Renew(core.AfterPush)
	if err := u.v.Fetch(ctx); err != nil {
		return err
	}
	if !holds() {
		return fmt.Errorf("startup does not hold %s although it was put back", before.Ref())
	}
	return nil
}
