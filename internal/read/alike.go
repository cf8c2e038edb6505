package read

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
)

// Alike are devices of one site that have the same trouble.
type Alike struct {
	State      string
	Site       string
	Says       string // the trouble, without what differs from one to the other
	Devices    []string
	Since      *time.Time // when the first of them came into that state
	LastPulled *time.Time // the newest pull of any of them
	LastTried  *time.Time
}

var numbers = regexp.MustCompile(`[0-9]+`)

// TroubledAlike groups the devices that cannot be pulled by what keeps them from it and
// where they are, the largest group first. What an address, a name or a number makes
// different is the same trouble.
func TroubledAlike(devices []core.Device) (out []Alike) {
	groups := map[string]*Alike{}
	shown := map[string]string{} // by group, the words of its first
	for _, d := range devices {
		if !slices.Contains([]string{core.Unreachable, core.LoginRefused, core.PullFailing}, d.State) || d.Trouble == "" {
			continue
		}
		says := strings.TrimPrefix(d.Trouble, d.State+": ")
		for _, own := range []string{d.Address, d.Name, d.Serial} {
			if own != "" {
				says = strings.ReplaceAll(says, own, "…")
			}
		}
		key := d.State + "\x00" + d.Site + "\x00" + numbers.ReplaceAllString(says, "#")
		g := groups[key]
		if g == nil {
			g = &Alike{State: d.State, Site: d.Site}
			groups[key], shown[key] = g, says
		}
		if says != shown[key] { // only what all say is said of all
			shown[key] = numbers.ReplaceAllString(shown[key], "…")
		}
		g.Devices = append(g.Devices, d.Name)
		if d.Since != nil && (g.Since == nil || d.Since.Before(*g.Since)) {
			g.Since = d.Since
		}
		g.LastPulled, g.LastTried = later(g.LastPulled, d.LastPulled), later(g.LastTried, d.LastTried)
	}
	for key, g := range groups {
		g.Says = shown[key]
		slices.Sort(g.Devices)
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b Alike) int {
		return cmp.Or(len(b.Devices)-len(a.Devices), strings.Compare(a.Site, b.Site), strings.Compare(a.Devices[0], b.Devices[0]))
	})
	return out
}

func later(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.After(*a) {
		return b
	}
	return a
}
