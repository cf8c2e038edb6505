package visit

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// ours tells whether an error is of our own making: the database, the end of the
// service. It says nothing of the device.
func ours(err error) bool {
	return errors.Is(err, job.ErrLeaseLost) || errors.Is(err, job.ErrStopping) || errors.Is(err, store.ErrDatabase) || errors.Is(err, context.Canceled)
}

// mayPass tells whether what went wrong may be over in a while. A refused login
// never is: nothing tries it again by itself.
func mayPass(err error) bool {
	var refused *link.Refused
	switch {
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, ErrLoginLocked), errors.Is(err, ErrBreaker):
		return false
	case errors.As(err, &refused):
		return refused.Means == "busy" || refused.Means == "held"
	}
	return errors.Is(err, link.ErrUnreachable)
}

// NoteFailure writes a visit that brought nothing.
func (v *Visit) NoteFailure(ctx context.Context, q *store.Q, cause error) error {
	if ours(cause) {
		return nil
	}
	d, err := q.LockDevice(ctx, v.Device.ID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	state := core.PullFailing
	switch {
	case errors.Is(cause, link.ErrLoginRefused):
		state = core.LoginRefused
		// The credential is the one of who was talked to.
		if err := v.s.refusedLogin(ctx, q, v.Speaker, cause); err != nil {
			return err
		}
	case errors.Is(cause, ErrLoginLocked), errors.Is(cause, ErrBreaker):
		state = core.LoginRefused
	case errors.Is(cause, link.ErrUnreachable):
		state = core.Unreachable
	}
	return noteTrouble(ctx, q, d, v.Pull, state, cause, v.s.Now())
}

// Advice says what a person can do about a failed visit.
func (v *Visit) Advice(err error) string {
	var key *link.HostKeyError
	var refused *link.Refused
	var part *link.Incomplete
	switch {
	case errors.Is(err, ErrNotTold):
		return "somebody who may see secrets can go on; or give the credential set the maker's login: magpie credential edit NAME --factory-user USER"
	case errors.As(err, &key) && v.Swaps:
		return fmt.Sprintf("if this is the new unit's key: magpie swap %s --accept-key %s", v.Device.Name, key.Shown)
	case errors.As(err, &key):
		return fmt.Sprintf("if the device was reset or replaced and you know this key to be its own: magpie device trust %s", v.Device.Name)
	case errors.Is(err, ErrBreaker):
		return "have a look why so many devices refuse it; when it is right: magpie credential retry NAME"
	case (errors.Is(err, link.ErrLoginRefused) || errors.Is(err, ErrLoginLocked)) && v.Speaker.Credential != "":
		return fmt.Sprintf("nothing tries credential set %[1]s there again until you change it (magpie credential edit %[1]s --password), give the device another (magpie credential attach SET %[2]s), or say that it is right (magpie device edit %[2]s --retry-login)", v.Speaker.Credential, v.Device.Name)
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, ErrLoginLocked):
		return fmt.Sprintf("nothing tries this login there again until you change it (magpie device edit %s --password) or say it is right (magpie device edit %s --retry-login)", v.Device.Name, v.Device.Name)
	case errors.As(err, &refused) && refused.Means == "held":
		how := "wait until they are done, or ask them; then run it again"
		if refused.Holder != "" && refused.Holder != "0" {
			how += fmt.Sprintf("; if they are gone, a push can end their session: --end-session %s --note WHY", refused.Holder)
		}
		return how
	case errors.As(err, &refused) && refused.Means == "busy":
		return "run it again in a while"
	case errors.As(err, &part):
		return "no version was made; what came is kept with this job for those who may see secrets"
	case errors.Is(err, link.ErrUnreachable) && v.Where.Address != "":
		return fmt.Sprintf("check that the unit has power and that %s can be reached from here, then run it again", v.Where.Address)
	case errors.Is(err, link.ErrUnreachable):
		return fmt.Sprintf("check that the device has power and that %s port %d can be reached from here, then run it again", v.Device.Address, v.Device.Port)
	}
	return ""
}
