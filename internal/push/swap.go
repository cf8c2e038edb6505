package push

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/store"
)

// takePlace makes the unit that was pushed to the device's hardware. It is called
// when what it runs is proved, so that what it ran before never counts. A key that was
// accepted without a swap was accepted for that push: the place keeps its own.
func (u *push) takePlace() error {
	ctx := context.Background()
	if u.p.Swap == nil {
		return nil
	}
	return u.l.Commit(ctx, func(q *store.Q) error {
		d, err := q.LockDevice(ctx, u.j.DeviceID, 0)
		if err != nil {
			return err
		}
		if key := u.p.Where.Key; key != "" && key != d.HostKey {
			d.HostKey = key
			if err := q.Audit(ctx, "host key accepted", d.Name, fmt.Sprintf("%s, by %s, who began job %s", link.Fingerprint(key), u.j.Actor, u.j.ID)); err != nil {
				return err
			}
		}
		if !u.placed(d) {
			d.Serials = core.Words{u.p.Swap.NewSerial}
			u.l.Step("serial %s takes the place of %s", u.p.Swap.NewSerial, strings.Join(u.p.Swap.OldSerials, " or "))
		}
		return q.EditDevice(ctx, d)
	})
}

func (u *push) placed(d core.Device) bool {
	return u.p.Swap != nil && slices.Equal(d.Serials, []string{u.p.Swap.NewSerial})
}

// giveBack gives the place back to the hardware that had it.
func (u *push) giveBack(ctx context.Context, q *store.Q) error {
	d, err := q.LockDevice(ctx, u.j.DeviceID, 0)
	if errors.Is(err, store.ErrNotFound) || err == nil && !u.placed(d) {
		return nil
	}
	if err != nil {
		return err
	}
	d.Serials, d.HostKey = core.Words(u.p.Swap.OldSerials), u.p.Swap.OldKey
	return q.EditDevice(ctx, d)
}

// closePlace writes the swap down, or gives the place back when the push came
// to nothing.
func (u *push) closePlace(ctx context.Context, q *store.Q, outcome string) error {
	if u.p.Swap == nil {
		return nil
	}
	if slices.Contains([]string{core.Undone, core.Failed, core.Refused, core.Cancelled}, outcome) {
		return u.giveBack(ctx, q)
	}
	d, err := q.DeviceByID(ctx, u.j.DeviceID)
	if errors.Is(err, store.ErrNotFound) || err == nil && !u.placed(d) {
		return nil
	}
	if err != nil {
		return err
	}
	err = q.AddSwap(ctx, store.Swap{DeviceID: u.j.DeviceID, Job: u.j.ID, Actor: u.j.Actor, OldSerial: strings.Join(u.p.Swap.OldSerials, ", "), OldModel: u.p.Swap.OldModel,
		NewSerial: u.p.Swap.NewSerial, NewModel: u.p.Swap.NewModel, Version: u.p.Target, Outcome: outcome, Note: u.req.Note})
	if err != nil {
		return err
	}
	return q.Audit(ctx, "swap", u.j.Device, fmt.Sprintf("job %s: serial %s took the place of %s, with %s", u.j.ID, u.p.Swap.NewSerial, strings.Join(u.p.Swap.OldSerials, " or "), u.p.Target))
}
