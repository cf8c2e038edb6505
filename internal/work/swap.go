package work

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Where is where a unit is spoken to for one push, when that is not the
// device's own address: a factory address, or a bench.
type Where struct {
	Address string `json:"address,omitempty"` // HOST or HOST:PORT; empty: the device's own
	Relay   string `json:"relay,omitempty"`   // through whose machine; empty: from the service itself
	Key     string `json:"key,omitempty"`     // the host key or certificate accepted for it; empty: the device's own
}

// Swap is other hardware that takes a device's place.
type Swap struct {
	OldSerials []string `json:"old_serials"`
	OldModel   string   `json:"old_model"`
	NewSerial  string   `json:"new_serial"`
	NewModel   string   `json:"new_model"`
	NewRelease string   `json:"new_release"`
	OldKey     string   `json:"old_key"` // to be given back when the swap is undone
}

// goTo makes a visit go where a unit is for now. accept is the fingerprint of
// the key that a person accepted for it.
func (v *visit) goTo(w Where, accept string) *visit {
	v.where, v.accept = w, accept
	return v
}

// aim is where a visit goes.
func (v *visit) aim(t link.Target) (link.Target, error) {
	if v.where.Address != "" {
		host, port, err := net.SplitHostPort(v.where.Address)
		if err != nil {
			host, port = v.where.Address, ""
		}
		t.Address, t.HostKey = host, ""
		if n, err := strconv.Atoi(port); err == nil {
			t.Port = n
		}
	}
	if v.where.Relay != "" {
		dial, err := v.s.relay(v.where.Relay, v.d.ID)
		if err != nil {
			return t, fmt.Errorf("%w: %w", link.ErrUnreachable, err)
		}
		t.Dial, t.Through = dial, nil
	}
	if v.where.Key != "" {
		t.HostKey = v.where.Key
	} else if v.accept != "" && v.accept != link.Fingerprint(v.at.HostKey) {
		t.HostKey = "" // it is looked at, once it is clear that it may be
	}
	return t, nil
}

// transport is what a target is spoken to over.
func (v *visit) transport(t link.Target) string {
	if t.Transport != "" {
		return t.Transport
	}
	return v.dia.Reach.Transport
}

// keyed gives a target the key that is accepted there.
func (v *visit) keyed(ctx context.Context, t link.Target) (link.Target, error) {
	switch {
	case !link.Shows(v.transport(t)):
	case v.where.Key != "":
		t.HostKey = v.where.Key
	case v.accept != "":
		key, shown, err := link.Probe(ctx, t, v.dia.Connect)
		if err != nil {
			return t, err
		}
		if shown != v.accept {
			return t, &link.HostKeyError{Accepted: v.accept, Shown: shown, Key: key}
		}
		t.HostKey, v.where.Key = key, key
	}
	return t, nil
}

// words is what the audit log has of it.
func (w Where) words() (said string) {
	if w.Address != "" {
		said += ", at " + w.Address
	}
	if w.Relay != "" {
		said += ", through relay " + w.Relay
	}
	if w.Key != "" {
		said += ", to the key " + link.Fingerprint(w.Key)
	}
	return said
}

// elsewhere tells whether a visit goes to another address than the device's.
func (w Where) elsewhere() bool { return w.Address != "" || w.Relay != "" }

// admit tells whether a push may go to the unit that answers, and as what: nil
// when it is the device's own hardware.
func admit(v *visit, d core.Device, swap bool) (*Swap, error) {
	own := len(d.Serials) == 0 || slices.Contains(d.Serials, v.pull.Serial)
	switch {
	case own && swap:
		return nil, fmt.Errorf("serial %s is the device's own hardware, so there is nothing to swap; to put a version back: magpie push %s", v.pull.Serial, d.Name)
	case own:
		return nil, nil // reset, maybe: the same unit all the same
	case !swap:
		return nil, fmt.Errorf("%s; %w: if it is to take the device's place: magpie swap %s; if it was there all along: magpie device edit %s --serial %s",
			d.Trouble, ErrOtherHardware, d.Name, d.Name, v.pull.Serial)
	}
	return &Swap{OldSerials: d.Serials, OldModel: v.d.Model, NewSerial: v.pull.Serial, NewModel: v.pull.Model, NewRelease: v.pull.Release, OldKey: d.HostKey}, nil
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
func (u *push) visit(d core.Device, reason string) *visit {
	v := u.s.newVisit(u.j, d, reason, u.l).goTo(u.p.Where, "")
	v.brought = &u.brought
	return v
}

// after is the visit to try for the nth time after a restart: what was put
// there may have given the unit the device's own address back, or not yet.
func (u *push) after(d core.Device, n int) *visit {
	v := u.visit(d, core.AfterPush)
	ways := []Where{{}, u.p.Where}
	if r := u.p.Where.Relay; r != "" {
		ways = append(ways, Where{Relay: r})
	}
	if u.p.Where.elsewhere() {
		v.goTo(ways[n%len(ways)], "")
	}
	return v
}
