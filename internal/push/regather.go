package push

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/link"
)

// regather takes the devices that this one speaks for back in after it has
// restarted, and waits for them. Those that were not there before are not
// waited for.
func (u *push) regather(ctx context.Context) {
	of := u.v.Dialect.Members
	if of == nil || len(of.Adopt) == 0 || u.v.Device.Member != "" || u.v.Dialect.Restarts == 0 || len(u.p.Steps) == 0 {
		return
	}
	missing := func() (out []string, err error) {
		all, err := u.v.Session.Members()
		if err != nil {
			return nil, err
		}
		there := map[string]bool{}
		for _, m := range all {
			there[m.Name] = u.v.Session.Present(m)
		}
		for _, name := range u.members {
			if !there[name] {
				out = append(out, name)
			}
		}
		return out, nil
	}
	away, err := missing()
	if err != nil {
		u.l.Warn("which of the devices it speaks for are there is not known: %v", err)
		return
	}
	if len(away) == 0 {
		return
	}
	u.l.Step("taking %s back in", core.Count(len(away), "device", "devices"))
	why := map[string]string{}
	for _, name := range away {
		if err := u.v.Session.Adopt(name); err != nil {
			why[name] = err.Error()
			u.l.Warn("%s: %v", name, err)
		}
	}
	for end := time.Now().Add(u.v.Dialect.Span(of.Rejoin, time.Minute)); ; {
		if away, err = missing(); err != nil || len(away) == 0 || time.Now().After(end) || ctx.Err() != nil {
			break
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
	if err != nil {
		u.l.Warn("which of the devices it speaks for came back is not known: %v", err)
		return
	}
	u.l.Info("%d of %d devices it speaks for are back", len(u.members)-len(away), len(u.members))
	u.res.Stragglers = nil
	for _, name := range away {
		reason := why[name]
		if reason == "" {
			reason = fmt.Sprintf("it was asked for and did not come back within %s", of.Rejoin)
		}
		u.res.Stragglers = append(u.res.Stragglers, name+": "+reason)
		u.l.Trouble(name+" is not back: "+reason, "")
	}
}

// stragglers words who did not come back; empty when all did.
func (u *push) stragglers() string {
	if len(u.res.Stragglers) == 0 {
		return ""
	}
	var names []string
	for _, s := range u.res.Stragglers {
		name, _, _ := strings.Cut(s, ":")
		names = append(names, name)
	}
	return fmt.Sprintf("; not back: %s", strings.Join(names, ", "))
}

// gathered notes which of the devices it speaks for are there before a push.
func (u *push) gathered() {
	u.members = nil
	for _, m := range u.v.Members {
		if u.v.Session.Present(link.Member{Name: m.Name, State: m.State}) {
			u.members = append(u.members, m.Name)
		}
	}
	slices.Sort(u.members)
}
