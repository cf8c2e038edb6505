package push

import (
	"context"
	"fmt"
	"strings"

	"magpie/internal/core"
	"magpie/internal/store"
)

// end ends the push and lets the device go. A push of which a line was refused or
// whose undo broke off is never equal, whatever the device runs: it says both.
func (u *push) end(outcome, summary string, also ...func(q *store.Q) error) {
	ctx := context.Background()
	u.close()
	u.res.Begun = u.res.Begun || u.st.Announced > 0
	place := outcome
	if r := u.res.Refused; r != nil && outcome == core.Verified {
		outcome = core.Refused
		if refused := u.refusedAt(r.Line); !strings.Contains(summary, refused) {
			summary = refused + "; all the same: " + summary
		}
	}
	if u.st.Undid && outcome == core.Verified {
		outcome, summary = core.Failed, "the undo broke off; all the same: "+summary
	}
	u.s.End(u.j, u.l, outcome, summary, u.res, append(also, func(q *store.Q) error {
		if err := u.closePlace(ctx, q, place); err != nil {
			return err
		}
		if err := u.proven(ctx, q, outcome); err != nil {
			return err
		}
		return q.Audit(ctx, "push ended", u.j.Device, fmt.Sprintf("job %s: %s: %s", u.j.ID, outcome, summary))
	})...)
}

// proven notes that the version was put on hardware and is there, and how long
// the device was away for it.
func (u *push) proven(ctx context.Context, q *store.Q, outcome string) error {
	equal := outcome == core.Verified || outcome == core.NotSaved && u.req.RestoreTest != "" // a restore test leaves startup alone
	if !equal || u.res.Sent == 0 || len(u.p.Only) > 0 {
		return nil
	}
	target, err := q.Version(ctx, store.ByID(u.p.TargetID))
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
		how = target.Ref() + " in a restore test on " + u.j.Device
	case target.DeviceID != u.j.DeviceID:
		how += " to " + u.j.Device
	}
	return q.SetProven(ctx, target.DeviceID, how)
}
