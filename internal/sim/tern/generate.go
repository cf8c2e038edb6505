package tern

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Generate makes a random valid configuration. Small numbers of names are used
// on purpose, so that two of them overlap.
func Generate(r *rand.Rand) *Machine {
	m := &Machine{}
	do := func(format string, a ...any) {
		if err := m.Type(fmt.Sprintf(format, a...)); err != nil {
			panic(fmt.Sprintf("tern generator typed %q: %v", fmt.Sprintf(format, a...), err))
		}
	}
	maybe := func(p float64) bool { return r.Float64() < p }
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	some := func(of []string, p float64) (out []string) {
		for _, s := range of {
			if maybe(p) {
				out = append(out, s)
			}
		}
		return out
	}
	secret := func() string { return Sealed(fmt.Sprint(r.IntN(4))) }
	do("name r%d", 1+r.IntN(3))
	if maybe(.7) {
		do("domain %s.example", pick("ferries", "sound"))
	}
	if maybe(.6) {
		do("placard ((")
		for range 1 + r.IntN(3) {
			do("%s", pick("Brindle Sound Ferries", "", "  crew only", "r1 ~~ ", ".. end of running, 3 lines", "lane quay1", "cancel all"))
		}
		do("))")
	}
	if maybe(.8) {
		do("mast-word sealed %s", secret())
	}
	if maybe(.8) {
		do("clock")
		if maybe(.5) {
			do("zone %s", pick("UTC", "Atlantic/Faroe"))
		}
		for _, a := range some([]string{"10.0.0.5", "10.0.0.6", "2001:db8::5"}, .5) {
			do("mark %s", a)
		}
		do("up")
	}
	for _, u := range some([]string{"harbour", "okonkwo", "vane"}, .6) {
		do("crew %s", u)
		do("rank %s", pick("deck", "master"))
		do("word sealed %s", secret())
		do("up")
	}
	rosters := some([]string{"staff", "kiosks", "ships"}, .6)
	for _, n := range rosters {
		do("roster %s", n)
		for _, p := range some([]string{"10.40.12.0/24", "10.40.13.0/24", "192.0.2.0/24", "2001:db8:1::/48"}, .5) {
			do("%s", p)
		}
		do("up")
	}
	side := func() string {
		if len(rosters) > 0 && maybe(.4) {
			return "roster " + rosters[r.IntN(len(rosters))]
		}
		return pick("any", "10.40.12.0/24", "198.51.100.0/24")
	}
	sieves := some([]string{"quay-in", "quay-out", "core", "guest"}, .6)
	for _, n := range sieves {
		do("sieve %s", n)
		for range r.IntN(7) {
			line := fmt.Sprintf("%s %s from %s to %s", pick("pass", "drop"), pick("tcp", "udp", "any"), side(), side())
			if maybe(.4) {
				line += fmt.Sprintf(" port %d", 1+r.IntN(3))
			}
			_ = m.Type(line) // an entry that is there already is refused, which is fine
		}
		do("up")
	}
	useSieves := func() {
		for _, dir := range []string{"in", "out"} {
			if len(sieves) > 0 && maybe(.4) {
				do("sieve %s %s", dir, sieves[r.IntN(len(sieves))])
			}
		}
	}
	for i, n := range some([]string{"quay1", "quay2", "uplink1", "guest"}, .7) {
		do("lane %s", n)
		if maybe(.6) {
			do(`note "%s"`, pick("ticket hall", "gangway  two", "spare"))
		}
		if maybe(.7) {
			do("berth 10.40.%d.%d/24", i, 1+r.IntN(3))
		}
		for _, a := range some([]string{"10.50.0.1/24", "2001:db8:40::1/64"}, .3) {
			do("also-berth %s", a)
		}
		if maybe(.3) {
			do("hull 02:00:5e:10:00:0%d", 1+r.IntN(3))
		}
		if maybe(.4) {
			do("mtu %s", pick("1500", "9000"))
		}
		switch r.IntN(4) {
		case 0:
			do("guard loose")
		case 1:
			do("cancel guard")
		}
		useSieves()
		if maybe(.2) {
			do("shut")
		}
		do("up")
	}
	for _, p := range some([]string{"0.0.0.0/0", "10.0.0.0/8", "203.0.113.0/24"}, .5) {
		line := fmt.Sprintf("course %s via 10.40.0.%d", p, 1+r.IntN(2))
		if maybe(.3) {
			line += fmt.Sprintf(" metric %d", 1+r.IntN(2))
		}
		do("%s", line)
	}
	for _, f := range some([]string{"64512", "64513"}, .4) {
		do("flock %s", f)
		if maybe(.5) {
			do("herald 10.40.0.%d", 1+r.IntN(2))
		}
		for _, n := range some([]string{"10.40.0.1", "10.40.0.2"}, .6) {
			do("neighbour %s", n)
			do("number %d", 64512+r.IntN(2))
			if maybe(.5) {
				do("key sealed %s", secret())
			}
			useSieves()
			do("up")
		}
		do("up")
	}
	if maybe(.5) {
		do("lookout")
		for _, c := range some([]string{"gulls-only", "terns-too"}, .5) {
			do("community %s", c)
		}
		for _, p := range some([]string{"10.0.0.9", "10.0.0.10"}, .5) {
			do("post %s", p)
		}
		do("up")
	}
	return m
}

// Text is the configuration as one string, each line ended by a newline.
func (c *Config) Text() string {
	lines := c.Lines()
	if len(lines) == 0 {
		return ""
	}
	return strings.Join(lines, "\n") + "\n"
}
