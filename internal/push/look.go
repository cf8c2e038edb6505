package push

import (
	"context"
	"fmt"

	"magpie/internal/core"
)

// look pulls the device and says what it runs. It sends nothing: the undo is
// offered, not done.
func (u *push) look() (f Facts) {
	err := u.reopen(u.ctx)
	if err == nil {
		err = u.v.Fetch(u.owed)
	}
	u.close()
	if err == nil {
		f.Outcome, u.said, err = u.found(context.Background())
	}
	f.Report = u.reported(err)
	return f
}

// found keeps what a look brought and compares it: with what was asked for, then
// with what ran before.
func (u *push) found(ctx context.Context) (outcome, said string, err error) {
	if left, err := u.differs(ctx, u.v); err == nil && len(left) == 0 {
		if err := u.takePlace(); err != nil {
			return "", "", err
		}
	}
	k, err := u.v.Keep(ctx)
	if err != nil {
		return "", "", err
	}
	u.res.After = k.Versions[u.p.Part].Ref()
	outcome, summary, err := u.verdict(ctx, u.v)
	if err != nil {
		return "", "", err
	}
	if outcome != core.Differs || u.merged(u.v) {
		return outcome, "looked at since: " + summary, nil
	}
	left, err := u.against(ctx, u.v, u.before.ContentID)
	if err != nil {
		return "", "", err
	}
	if len(left) == 0 {
		u.res.Remaining = nil
		if u.v.Unsaved() && !u.p.Unsaved {
			return core.NotSaved, fmt.Sprintf("looked at since: the device runs what it ran before, %s, but startup does not hold that: a restart would bring something else; to have startup hold what runs: magpie push %s; to go on: magpie push %s --method %s",
				u.res.Before, u.res.Before, u.p.Target, u.p.Method), nil
		}
		return core.Undone, "looked at since: the device runs what it ran before, " + u.res.Before, nil
	}
	return core.Differs, fmt.Sprintf("looked at since and kept as %s: %s from %s; to go back to what ran before: magpie push %s; to finish it: magpie push %s",
		u.res.After, core.Count(len(u.res.Remaining), "line differs", "lines differ"), u.p.Target, u.res.Before, u.p.Target), nil
}
