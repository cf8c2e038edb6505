package push

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// push is one push under way.
type push struct {
	s     *Service
	j     core.Job
	l     *job.Log
	again bool // it was begun before
	req   Request
	p     Preview
	st    State
	v     *visit.Visit
	res   Result

	more    []SendStep // of further rounds; lost when another takes it up, which sends nothing again
	before  core.Version
	members []string      // that it speaks for and that were there before
	away    time.Duration // how long it was away for its restart
	brought bool          // the version brought back the login that was used before
	saveErr error         // why startup could not be written
	said    string        // what the last deed found
	err     error         // why the last deed came to nothing

	ctx  context.Context // ends with a cancel, or when the service is to stop
	owed context.Context // ends only when the service must go: for what is owed to the device
}

// errWindow is the cause of a context ended because nobody confirmed in time.
var errWindow = errors.New("nobody confirmed it in time")

// errOtherUnit is why nothing more is sent to a device: the unit that answers is
// not the one that was pushed to.
var errOtherUnit = errors.New("other hardware answers now, so nothing more was sent to it")

// errRemoved is why a push is not gone on with.
var errRemoved = errors.New("the device was removed")

// visit makes a visit of this push: to the device's own address, or to where
// the unit is for now.
func (u *push) visit(d core.Device, reason string) *visit.Visit {
	v := u.s.NewVisit(u.j, d, reason, u.l).GoTo(u.p.Where, "")
	v.Brought = &u.brought
	for _, e := range u.p.Elements {
		if e.Do == "remove" && e.Cannot == "" {
			v.Removes = append(v.Removes, e.Part)
		}
	}
	return v
}

// after is the visit to try for the nth time after a restart: what was put
// there may have given the unit the device's own address back, or not yet.
func (u *push) after(d core.Device, n int) *visit.Visit {
	v := u.visit(d, core.AfterPush)
	ways := []visit.Where{{}, u.p.Where}
	if r := u.p.Where.Relay; r != "" {
		ways = append(ways, visit.Where{Relay: r})
	}
	if u.p.Where.Elsewhere() {
		v.GoTo(ways[n%len(ways)], "")
	}
	return v
}

// device reads the push's device.
func (u *push) device(ctx context.Context) (core.Device, error) {
	d, err := u.s.Store.As(job.Service).DeviceByID(ctx, u.j.DeviceID)
	if errors.Is(err, store.ErrNotFound) {
		err = errRemoved
	}
	return d, err
}

// reopen opens another visit, to the unit that was pushed to and no other. A login
// that is refused is locked, so that it is not tried again and again: the push
// waits until a person says that it is right, or changes it.
func (u *push) reopen(ctx context.Context) error {
	u.close() // another conversation would find the device held by this one
	d, err := u.device(ctx)
	if err != nil {
		return err
	}
	u.v = u.after(d, u.st.Tries)
	if err := u.v.Open(ctx); err != nil {
		if errors.Is(err, link.ErrLoginRefused) {
			u.l.Trouble(err.Error(), "")
			if a := u.v.Advice(err); a != "" {
				u.l.Info("%s", a)
			}
			bg := context.Background()
			if e := u.l.Commit(bg, func(q *store.Q) error { return u.v.NoteFailure(bg, q, err) }); e != nil {
				u.l.Warn("not locked: %v", e)
			}
		}
		return err
	}
	if s := u.v.Pull.Serial; s != u.p.Serial && !(u.v.Dialect.Identity.Pair && slices.Contains(u.v.Device.Serials, s)) {
		u.close()
		return fmt.Errorf("%w (serial %s, not %s)", errOtherUnit, s, u.p.Serial)
	}
	return nil
}

// talking makes sure of a visit that is open.
func (u *push) talking(ctx context.Context) error {
	if u.v != nil && u.v.IsOpen() && u.st.Tries == 0 {
		return nil
	}
	return u.reopen(ctx)
}

func (u *push) close() {
	if u.v != nil {
		u.v.Close()
	}
}

// save writes the state down, and what is pending of the log, before the deed. It
// is not broken off by a cancel: what is done must be written down.
func (u *push) save() error {
	ctx := context.Background()
	return u.l.Commit(ctx, func(q *store.Q) error { return u.saveIn(ctx, q) })
}

// saveIn does so in a transaction that is open.
func (u *push) saveIn(ctx context.Context, q *store.Q) error {
	return q.PutJournal(ctx, store.Journal{JobID: u.j.ID, DeviceID: u.j.DeviceID, PreviewID: u.req.PreviewID, BeforeID: u.before.ID,
		Phase: string(u.st.Phase), Total: u.st.Lines, Announced: u.st.Announced, Answered: u.st.Answered,
		UndoBy: u.st.UndoBy, Token: u.st.Token, Due: u.st.Due}, u.st)
}

// tell says in the list of jobs what a push waits for meanwhile.
func (u *push) tell(summary string) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := u.l.Commit(ctx, func(q *store.Q) error { return q.SetJobState(ctx, u.j.ID, core.Waiting, summary) }); err != nil {
		slog.Warn("job's state not kept", "job", u.j.ID, "err", err)
	}
}

// window limits a context to the window, if there is one and nobody confirmed yet.
func (u *push) window(ctx context.Context) (context.Context, context.CancelFunc) {
	if u.st.Due == nil || u.st.Kept != "" {
		return ctx, func() {}
	}
	return context.WithTimeoutCause(ctx, u.st.Due.Sub(u.s.Now()), errWindow)
}

// reported is what an error says of a deed.
func (u *push) reported(err error) Report {
	u.err = err
	switch {
	case err == nil:
		return Done
	case errors.Is(err, job.ErrLeaseLost):
		return Unsure
	case errors.Is(err, errOtherUnit):
		return Other
	case errors.Is(err, errRemoved):
		return Removed
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, visit.ErrLoginLocked):
		return Locked
	case linkRefused(err) != nil:
		return Refused
	}
	return Lost
}
