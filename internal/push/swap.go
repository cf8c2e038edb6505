package push

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Swap is other hardware that takes a device's place.
type Swap struct {
	OldSerials []string `json:"old_serials"`
	OldModel   string   `json:"old_model"`
	NewSerial  string   `json:"new_serial"`
	NewModel   string   `json:"new_model"`
	NewRelease string   `json:"new_release"`
	OldKey     string   `json:"old_key"` // to be given back when the swap is undone
}

// admit tells whether a push may go to the unit that answers, and as what: nil
// when it is the device's own hardware.
func admit(v *visit.Visit, d core.Device, swap bool) (*Swap, error) {
	own := len(d.Serials) == 0 || slices.Contains(d.Serials, v.Pull.Serial)
	switch {
	case own && swap:
		return nil, fmt.Errorf("serial %s is the device's own hardware, so there is nothing to swap; to put a version back: magpie push %s", v.Pull.Serial, d.Name)
	case own:
		return nil, nil // reset, maybe: the same unit all the same
	case !swap:
		return nil, fmt.Errorf("%s; %w: if it is to take the device's place: magpie swap %s; if it was there all along: magpie device edit %s --serial %s",
			d.Trouble, ErrOtherHardware, d.Name, d.Name, v.Pull.Serial)
	}
	return &Swap{OldSerials: d.Serials, OldModel: v.Device.Model, NewSerial: v.Pull.Serial, NewModel: v.Pull.Model, NewRelease: v.Pull.Release, OldKey: d.HostKey}, nil
}

// takePlace makes the unit that was pushed to the device's hardware. It is called
// when what it runs is proved, so that what it ran before never counts.
func (u *push) takePlace() error {
	ctx := context.Background()
	if u.p.Swap == nil && u.p.Where.Key == "" {
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
		if u.p.Swap != nil && !u.placed(d) {
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
	if err != nil || !u.placed(d) {
		return nil
	}
	d.Serials, d.HostKey = core.Words(u.p.Swap.OldSerials), u.p.Swap.OldKey
	return q.EditDevice(ctx, d)
}

// settlePlace writes the swap down, or gives the place back when the push came
// to nothing.
func (u *push) settlePlace(ctx context.Context, q *store.Q, outcome string) error {
	if u.p.Swap == nil {
		return nil
	}
	if slices.Contains([]string{core.Undone, core.Failed, core.Refused, core.Cancelled}, outcome) {
		return u.giveBack(ctx, q)
	}
	d, err := q.DeviceByID(ctx, u.j.DeviceID)
	if err != nil || !u.placed(d) {
		return nil
	}
	err = q.AddSwap(ctx, store.Swap{DeviceID: u.j.DeviceID, JobID: u.j.ID, Actor: u.j.Actor, OldSerial: strings.Join(u.p.Swap.OldSerials, ", "), OldModel: u.p.Swap.OldModel,
		NewSerial: u.p.Swap.NewSerial, NewModel: u.p.Swap.NewModel, Version: u.p.Target, Outcome: outcome, Note: u.req.Note})
	if err != nil {
		return err
	}
	return q.Audit(ctx, "swap", u.j.Device, fmt.Sprintf("job %s: serial %s took the place of %s, with %s", u.j.ID, u.p.Swap.NewSerial, strings.Join(u.p.Swap.OldSerials, " or "), u.p.Target))
}

// visit makes a visit of this push: to the device's own address, or to where
// the unit is for now.
func (u *push) visit(d core.Device, reason string) *visit.Visit {
	v := u.s.NewVisit(u.j, d, reason, u.l).GoTo(u.p.Where, "")
	v.Brought = &u.brought
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
