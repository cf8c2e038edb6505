package push

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// check opens the visit, keeps what runs, holds it against the preview and makes
// the checks.
func (u *push) check() Report {
	if err := u.s.MayStill(u.ctx, u.j); errors.Is(err, visit.ErrMayNot) {
		u.said = err.Error() + "; nothing was sent"
		return Stale
	} else if err != nil {
		return u.reported(err)
	}
	u.l.Step("pulling what runs now, to keep it")
	err := u.v.Open(u.ctx)
	if err == nil {
		err = u.v.Fetch(u.ctx)
	}
	if err == nil && u.v.Identity.Factory && len(u.v.Names) == 0 {
		// A first-run page stands in the way, and the preview said so.
		u.l.Step("passing the first-run page")
		if err = u.v.Session.PassFirstRun(); err == nil {
			err = u.v.Fetch(u.ctx)
		}
	}
	if err != nil {
		if u.ctx.Err() == nil {
			u.l.Trouble(err.Error(), "")
			if a := u.v.Advice(err); a != "" {
				u.l.Info("%s", a)
			}
		}
		return u.reported(err)
	}
	u.v.Mark = visit.Mark{Name: u.req.NameBefore}
	u.v.Sound = true // it is what the push is undone to
	k, err := u.v.Keep(context.WithoutCancel(u.ctx))
	u.v.Mark = visit.Mark{}
	if k.Unmarked != "" {
		u.l.Warn("%s", k.Unmarked)
	}
	if err != nil {
		return u.reported(fmt.Errorf("what runs could not be kept: %w", err))
	}
	u.before = k.Versions[u.p.Part]
	u.st.Startup = cmp.Or(k.Versions["startup"].ID, noStartup)
	if u.before.ID == "" {
		u.res.Before = u.p.Base
		u.l.Warn("what runs is not kept (%s)", u.p.Base)
	} else {
		u.res.Before, u.res.BeforeID = u.before.Ref(), u.before.ID
		u.l.Info("kept as %s: %s", u.res.Before, k.Summary())
	}
	moved := u.elementsMoved(k)
	switch {
	case u.req.RestoreTest != "" && !k.Device.Spare: // it waited for the device, and the mark was taken away
		u.said = fmt.Sprintf("%s is not marked as a spare any more; nothing was sent", k.Device.Name)
	case u.v.Unreadable != u.p.Unreadable, u.p.Unreadable != "" && u.v.Came != u.p.Came:
		u.said = "the device changed since the preview: what it runs is not what could not be read then; nothing was sent; preview it again"
	case u.v.Pull.Serial != u.p.Serial:
		u.said = fmt.Sprintf("other hardware answers: serial %s, the preview saw %s; nothing was sent", u.v.Pull.Serial, u.p.Serial)
	case k.Device.State == core.HardwareChanged && u.p.Swap == nil:
		u.said = k.Device.Trouble + "; nothing was sent"
	case u.v.Identity.Factory != u.p.Factory:
		u.said = "the unit was reset or set up since the preview; nothing was sent; preview it again"
	case u.v.Dialect.Revision != u.p.DialectRev:
		u.said = "the dialect was changed since the preview; nothing was sent; preview it again"
	case u.p.Fingerprint != "" && u.before.Fingerprint != u.p.Fingerprint:
		u.said = fmt.Sprintf("the device changed since the preview (it ran %s, now %s); nothing was sent; preview it again", u.p.Base, u.res.Before)
	case moved != "":
		u.said = fmt.Sprintf("logical element %s changed since the preview; nothing was sent; preview it again", moved)
	case u.p.Method == "stage" && k.Versions["startup"].ID != u.p.StartupID:
		u.said = "startup was written since the preview; nothing was sent; preview it again"
	default:
		loaded, err := u.s.loaded(u.v)
		if err != nil {
			return u.reported(err)
		}
		if !slices.Equal(loaded, u.p.Loaded) {
			u.said = "somebody loaded something into the candidate since the preview, or took it out; nothing was sent; preview it again"
			return Stale
		}
		u.gathered()
		u.checkBefore(u.ctx)
		return Done
	}
	return Stale
}

// unchecked ends a push whose check could not be made: what kept it from that is
// noted with the device, unless a person or the end of the service did.
func (u *push) unchecked() []func(q *store.Q) error {
	if u.err == nil || u.ctx.Err() != nil {
		return nil
	}
	cause := u.err
	return []func(q *store.Q) error{func(q *store.Q) error { return u.v.NoteFailure(context.Background(), q, cause) }}
}
