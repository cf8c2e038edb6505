package curlew

import (
	"fmt"
	"math/rand/v2"
)

// Generate makes a valid configuration by chance. Few names are used, so that two of
// them overlap.
func Generate(r *rand.Rand) *Machine {
	m := &Machine{}
	maybe := func(p float64) bool { return r.Float64() < p }
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	say := func(format string, a ...any) {
		if line := fmt.Sprintf(format, a...); m.Type(line) != nil {
			panic(fmt.Sprintf("generated a line that is refused: %s: %v\n%s", line, m.Type(line), m.Text()))
		}
	}
	say("call quay-c%d", 1+r.IntN(3))
	if maybe(.4) {
		say("never answer pings")
	}
	for _, k := range []string{"harbour", "okonkwo"} {
		if maybe(.6) {
			say("keeper %s word w%d", k, r.IntN(3))
		}
	}
	asks := []string{"10.30.0.5", "10.30.0.6", "10.30.0.7"}
	r.Shuffle(len(asks), func(i, j int) { asks[i], asks[j] = asks[j], asks[i] })
	for _, a := range asks[:r.IntN(4)] {
		say("ask %s", a)
	}
	var gates []string
	for _, g := range []string{"north", "south"} {
		if !maybe(.7) {
			continue
		}
		gates = append(gates, g)
		say("gate %s", g)
		contents := []string{"lets tcp any to any", "lets udp any to any", "stops any 10.9.0.0/16 to any", "stops any any to any"}
		r.Shuffle(len(contents), func(i, j int) { contents[i], contents[j] = contents[j], contents[i] })
		for i, c := range contents[:1+r.IntN(4)] {
			say("rung %d %s", 10*(1+i)+5*r.IntN(2), c)
		}
		say("end")
	}
	var piers []int
	addresses := []string{"10.1.1.1/24", "10.1.2.1/24", "10.1.3.1/24", "10.1.4.1/24"}
	r.Shuffle(len(addresses), func(i, j int) { addresses[i], addresses[j] = addresses[j], addresses[i] })
	for n := 1; n <= 3; n++ {
		if !maybe(.7) {
			continue
		}
		piers = append(piers, n)
		say("pier %d", n)
		if maybe(.5) {
			say("says %s", one("ticket hall", "gangway", "end of the quay", "never lit"))
		}
		if maybe(.3) {
			say("room %d", 9000-r.IntN(2))
		}
		for _, role := range roles {
			if maybe(.5) && len(addresses) > 0 {
				say("carries %s as %s", addresses[0], role)
				addresses = addresses[1:]
			}
		}
		if maybe(.4) {
			say("never lit")
		}
		for _, way := range []string{"in", "out"} {
			if maybe(.5) && len(gates) > 0 {
				say("gate %s %s", way, gates[r.IntN(len(gates))])
			}
		}
		say("end")
	}
	var choices []string
	for _, c := range []string{"main", "storm"} {
		if len(piers) == 0 || !maybe(.6) {
			continue
		}
		choices = append(choices, c)
		say("choice %s", c)
		to := []string{"10.0.0.0/8", "10.2.0.0/16", "10.3.0.0/16"}
		r.Shuffle(len(to), func(i, j int) { to[i], to[j] = to[j], to[i] })
		for _, p := range to[:r.IntN(4)] {
			say("when %s take pier %d", p, piers[r.IntN(len(piers))])
		}
		if maybe(.7) {
			say("otherwise %s", one("stop", "pass"))
		}
		say("end")
	}
	for _, n := range piers {
		if maybe(.5) && len(choices) > 0 {
			say("at pier %d choice %s", n, choices[r.IntN(len(choices))])
		}
		if maybe(.5) {
			say("watch pier %d every %d", n, 10+r.IntN(2))
		}
	}
	for _, to := range []string{"10.7.0.0/16", "10.8.0.0/16"} {
		for _, over := range []string{"10.1.1.254", "10.1.2.254"} {
			if maybe(.5) {
				say("path %s cost %d over %s", to, 1+r.IntN(2), over)
			}
		}
	}
	if maybe(.6) {
		say("beacon every %d", 5+r.IntN(2))
		if maybe(.6) {
			say("beacon tint %s", one("green", "white"))
		}
	}
	return m
}
