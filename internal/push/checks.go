package push

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"magpie/internal/check"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// MaxChecks is how many checks one push may have.
const MaxChecks = 20

// How long a check that was good may be bad after a push before it counts: a
// device needs a while to find its ways again.
const (
	recheckEvery = 3 * time.Second
	recheckFor   = 15 * time.Second
)

// askWithin is how long another device that is to make a check is waited for: it
// may be in the middle of something, or no further conversation allowed.
const askWithin = 10 * time.Second

var errAsked = fmt.Errorf("it was busy, or no further conversation was allowed, for %s", core.Span(askWithin))

// ErrChecks is returned for checks that cannot be made.
var ErrChecks = errors.New("the checks cannot be made")

// ErrOutside is returned where a device is beyond the scope of who asks.
var ErrOutside = errors.New("the device is beyond what they may push to")

// Within tells whether devices are all within what somebody's role is for.
func (s *Service) Within(ctx context.Context, actor core.Actor, ids ...string) error {
	for _, scope := range actor.Scopes {
		theirs, err := s.Store.As(actor).Selected(ctx, scope)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if !slices.ContainsFunc(theirs, func(x core.Device) bool { return x.ID == id }) {
				return fmt.Errorf("%w: %s is %s for %s only", ErrOutside, actor.Name, core.Operator, scope)
			}
		}
	}
	return nil
}

// readChecks reads checks and looks whether the devices that should make them
// can.
func (s *Service) readChecks(ctx context.Context, actor core.Actor, deviceID string, all []string) (out []string, err error) {
	if len(all) > MaxChecks {
		return nil, fmt.Errorf("%w: there are %d, and at most %d are made", ErrChecks, len(all), MaxChecks)
	}
	for _, text := range all {
		c, err := check.Parse(text)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrChecks, err)
		}
		if err := s.mayDial(ctx, actor, c); err != nil {
			return nil, err
		}
		if (c.Kind == "children" || c.Kind == "state") && deviceID == "" {
			return nil, fmt.Errorf("%w: %s is about a device, and none is named", ErrChecks, c)
		}
		if c.From != "" {
			d, err := s.Store.As(actor).Device(ctx, c.From)
			if err != nil {
				return nil, fmt.Errorf("%w: %w", ErrChecks, err)
			}
			if err := s.Within(ctx, actor, d.ID); err != nil {
				return nil, fmt.Errorf("%s: %w", c, err)
			}
			if dia := s.DialectOf(d); dia == nil || dia.Echo == nil {
				return nil, fmt.Errorf("%w: %s cannot be told to ping: its dialect does not say how, under echo", ErrChecks, c.From)
			}
		}
		switch c.Kind {
		case "device":
			if _, err := s.Store.As(actor).Device(ctx, c.Target); err != nil {
				return nil, fmt.Errorf("%w: %w", ErrChecks, err)
			}
		case "children":
			kids, err := s.Store.As(actor).Children(ctx, deviceID)
			if err != nil {
				return nil, err
			}
			some := false
			for _, k := range kids {
				some = some || k.Member == ""
				if one := "device " + k.Name; k.Member == "" && !slices.Contains(out, one) {
					out = append(out, one)
				}
			}
			if !some {
				return nil, fmt.Errorf("%w: no device hangs on this one that could be asked by itself, so children checks nothing", ErrChecks)
			}
			continue
		case "state":
			d, err := s.Store.As(actor).DeviceByID(ctx, deviceID)
			if err != nil {
				return nil, err
			}
			if dia := s.DialectOf(d); dia == nil || dia.States[c.Target] == nil {
				return nil, fmt.Errorf("%w: the dialect of %s does not say how %q is read, under states", ErrChecks, d.Name, c.Target)
			}
		}
		if !slices.Contains(out, c.String()) {
			out = append(out, c.String())
		}
	}
	return out, nil
}

// ChecksSound tells what is wrong with checks of a push to a device.
func (s *Service) ChecksSound(ctx context.Context, actor core.Actor, deviceID string, all []string) error {
	_, err := s.readChecks(ctx, actor, deviceID, all)
	return err
}

// ChecksFailed counts the checks of a push that were good before it and are bad after it.
func ChecksFailed(q *store.Q, j core.Job) (n int, err error) {
	var r Result
	if err := q.OpenResult(j, &r); err != nil {
		return 0, err
	}
	for _, c := range r.Checks {
		if c.Failed() {
			n++
		}
	}
	return n, nil
}

// mayDial tells why this service does not dial the host of a check for somebody. It is no scanner: who may not
// see secrets has registered addresses of their devices asked, and only an administrator this machine and its link.
func (s *Service) mayDial(ctx context.Context, actor core.Actor, c check.Check) error {
	host := c.Host()
	if host == "" || actor.May(core.Admin) {
		return nil
	}
	scopes := actor.Scopes
	if len(scopes) == 0 {
		scopes = []string{"all"}
	}
	for _, scope := range scopes {
		devices, err := s.Store.As(actor).Selected(ctx, scope)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(devices, func(d core.Device) bool { return d.Address == host }) {
			return nil
		}
	}
	if !actor.Secrets {
		return fmt.Errorf("%w: %s: %s is no address of a device of yours, and who may not see secrets has nothing else asked; ask a device instead: device NAME, or from DEVICE ping ADDRESS", ErrChecks, c, host)
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return fmt.Errorf("%w: %s: %s has no address now: %w", ErrChecks, c, host, err)
	}
	for _, a := range found {
		if a = a.Unmap(); a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast() || a.IsMulticast() || a.IsUnspecified() {
			return fmt.Errorf("%w: %s: %s is this machine or its link (%s), which an administrator alone has asked", ErrChecks, c, host, a)
		}
	}
	return nil
}

// make1 makes a check, over the visit that is open where its device is to ask.
func (s *Service) make1(ctx context.Context, v *visit.Visit, text string) Finding {
	c, err := check.Parse(text)
	if err != nil {
		return Finding{Said: err.Error()}
	}
	switch c.Kind {
	case "state":
		entries, err := v.Session.State(c.Target)
		if err != nil {
			return Finding{Said: err.Error()}
		}
		return Finding{Good: true, Known: true, Said: listed(entries), Entries: entries}
	case "device":
		d, err := s.Store.As(job.Service).Device(ctx, c.Target)
		if err != nil {
			return Finding{Said: err.Error()}
		}
		c = check.Check{Kind: "tcp", Target: net.JoinHostPort(d.Address, strconv.Itoa(d.Port))}
	}
	if c.From == "" {
		good, said, err := c.Run(ctx)
		return Finding{Good: good, Known: err == nil, Said: said}
	}
	from := v
	if c.From != v.Device.Name || v.Session == nil {
		d, err := s.Store.As(job.Service).Device(ctx, c.From)
		if err != nil {
			return Finding{Said: err.Error()}
		}
		// Two pushes may ask each other's device, and each has its own: neither waits
		// for ever.
		asking, cancel := context.WithTimeoutCause(ctx, askWithin, errAsked)
		defer cancel()
		from = s.NewVisit(core.Job{ID: v.Pull.JobID, Actor: v.Pull.Actor}, d, core.ByHand, s.Silent())
		if err := from.Open(asking); err != nil {
			return Finding{Said: "it cannot be asked: " + err.Error()}
		}
		defer from.Close()
	}
	good, said, err := from.Session.Echo(c.Target)
	if err != nil {
		return Finding{Said: "it cannot be asked: " + err.Error()}
	}
	return Finding{Good: good, Known: true, Said: said}
}

// listed words the entries of a state.
func listed(entries []string) string {
	if len(entries) == 0 {
		return "none"
	}
	return fmt.Sprintf("%d: %s", len(entries), strings.Join(entries[:min(len(entries), 8)], ", "))
}

// against holds a state to what it was before: what is missing makes it bad.
func (f Finding) against(before *Finding) Finding {
	if before == nil || !before.Known || !f.Known || before.Entries == nil {
		return f
	}
	var gone []string
	for _, e := range before.Entries {
		if !slices.Contains(f.Entries, e) {
			gone = append(gone, e)
		}
	}
	if len(gone) > 0 {
		f.Good, f.Said = false, "gone: "+strings.Join(gone[:min(len(gone), 8)], ", ")
	}
	return f
}

func (f Finding) word() string {
	switch {
	case !f.Known:
		return "not known"
	case f.Good:
		return "good"
	}
	return "bad"
}

// checkBefore makes the checks before anything is sent, and keeps what came of
// them with the job.
func (u *push) checkBefore(ctx context.Context) {
	if len(u.req.Checks) == 0 {
		return
	}
	u.l.Step("checking what is good before: %s", core.Count(len(u.req.Checks), "check", "checks"))
	u.res.Checks = nil
	for _, text := range u.req.Checks {
		f := u.s.make1(ctx, u.v, text)
		u.l.Info("%s: %s, %s", text, f.word(), f.Said)
		u.res.Checks = append(u.res.Checks, Checked{Check: text, Before: &f})
	}
	u.l.Result(u.res)
}

// checkAfter makes them again. What was good is given a while to become so
// again.
func (u *push) checkAfter(ctx context.Context) {
	if len(u.res.Checks) == 0 {
		return
	}
	u.l.Step("checking again: %s", core.Count(len(u.res.Checks), "check", "checks"))
	said := false
	for end := time.Now().Add(recheckFor); ; {
		bad := 0
		for i := range u.res.Checks {
			c := &u.res.Checks[i]
			if c.After != nil && (c.After.Good || !c.Failed()) {
				continue
			}
			f := u.s.make1(ctx, u.v, c.Check).against(c.Before)
			if c.After = &f; c.Failed() {
				bad++
			}
		}
		if bad > 0 && !said {
			said = true
			u.l.Info("%s that were good are not; looking again for up to %s", core.Count(bad, "check", "checks"), recheckFor)
		}
		if bad == 0 || time.Now().After(end) || ctx.Err() != nil {
			break
		}
		select {
		case <-time.After(recheckEvery):
		case <-ctx.Done():
		}
	}
	for _, c := range u.res.Checks {
		text := fmt.Sprintf("%s: was %s, is %s, %s", c.Check, c.Before.word(), c.After.word(), c.After.Said)
		if c.Failed() {
			u.l.Trouble(text, "")
		} else {
			u.l.Info("%s", text)
		}
	}
}

// failed words the checks that were good and are bad; empty when there is none.
func (u *push) failed() string {
	var out []string
	for _, c := range u.res.Checks {
		if c.Failed() {
			out = append(out, fmt.Sprintf("%s was good and is bad (%s)", c.Check, c.After.Said))
		}
	}
	return strings.Join(out, "; ")
}
