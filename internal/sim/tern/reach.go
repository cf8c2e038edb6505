package tern

import (
	"fmt"
	"net/netip"
	"strings"
)

// reaches tells whether a packet to an address finds a way out: by a lane that
// is not shut, or by a course whose next hop is reached by one.
func (d *Device) reaches(address string) bool {
	to, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	d.mu.Lock()
	lines := d.running.Lines()
	d.mu.Unlock()
	var near, far []netip.Prefix
	var via []netip.Addr
	var lane []netip.Prefix
	shut := false
	leave := func() {
		if !shut {
			near = append(near, lane...)
		}
		lane, shut = nil, false
	}
	for _, l := range lines {
		if !strings.HasPrefix(l, " ") {
			leave()
		}
		w := strings.Fields(l)
		switch {
		case len(w) == 1 && w[0] == "shut":
			shut = true
		case len(w) == 2 && (w[0] == "berth" || w[0] == "also-berth"):
			if p, err := netip.ParsePrefix(w[1]); err == nil {
				lane = append(lane, p)
			}
		case len(w) >= 4 && w[0] == "course" && w[2] == "via":
			p, err := netip.ParsePrefix(w[1])
			hop, err2 := netip.ParseAddr(w[3])
			if err == nil && err2 == nil {
				far, via = append(far, p), append(via, hop)
			}
		}
	}
	leave()
	in := func(a netip.Addr, all []netip.Prefix) bool {
		for _, p := range all {
			if p.Contains(a) {
				return true
			}
		}
		return false
	}
	if in(to, near) {
		return true
	}
	for i, p := range far {
		if p.Contains(to) && in(via[i], near) {
			return true
		}
	}
	return false
}

// lanes tells how each lane is: up, or shut by a line, or without a berth.
func (d *Device) lanes() (out []string) {
	d.mu.Lock()
	lines := d.running.Lines()
	d.mu.Unlock()
	name, how := "", ""
	tell := func() {
		if name != "" {
			out = append(out, fmt.Sprintf("lane %-12s %s", name, how))
		}
		name = ""
	}
	for _, l := range lines {
		w := strings.Fields(l)
		switch {
		case !strings.HasPrefix(l, " "):
			tell()
			if len(w) == 2 && w[0] == "lane" {
				name, how = w[1], "no berth"
			}
		case w[0] == "berth" && how == "no berth":
			how = "up  " + w[1]
		case w[0] == "shut":
			how = "shut"
		}
	}
	tell()
	return out
}
