package push

import (
	"errors"
	"time"

	"magpie/internal/link"
)

// peek tells whether somebody restarted a staged device already.
func (u *push) peek() Report {
	u.l.Step("%s asked for the restart", u.j.DecidedBy)
	var runs bool
	var err error
	for end := time.Now().Add(time.Minute); ; { // somebody may be restarting it just now
		if runs, err = u.runsStaged(); err == nil || u.owed.Err() != nil || !errors.Is(err, link.ErrUnreachable) || time.Now().After(end) {
			break
		}
		time.Sleep(time.Second)
	}
	switch {
	case err != nil:
		u.close()
		u.l.Trouble(err.Error(), "")
		return u.reported(err)
	case runs:
		u.l.Info("it runs %s already: somebody restarted it", u.p.Target)
		return Runs
	}
	return Done
}

// runsStaged opens a visit and tells whether the device runs what is staged.
func (u *push) runsStaged() (bool, error) {
	if err := u.reopen(u.owed); err != nil {
		return false, err
	}
	if err := u.v.Fetch(u.owed); err != nil {
		return false, err
	}
	restart := u.p.Steps[len(u.p.Steps)-1]
	return u.v.Dialect.Doc(u.p.Part).Equivalent(u.v.Parts[u.p.Part].Text, string(restart.Content)), nil
}
