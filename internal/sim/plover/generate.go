package plover

import (
	"fmt"
	"math/rand/v2"
)

// Generate makes a valid configuration at random. Few names are used, so that two of
// them overlap.
func Generate(r *rand.Rand) []string {
	maybe := func(p float64) bool { return r.Float64() < p }
	out := []string{fmt.Sprintf("system : name is quay-sw%d", 1+r.IntN(3))}
	say := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	if maybe(.5) {
		say("system : zone is <%s>", []string{"UTC", "Atlantic/Faroe"}[r.IntN(2)])
	}
	for _, k := range []string{"harbour", "okonkwo"} {
		if maybe(.6) {
			say("keeper %s : rank is %s", k, []string{"full", "look"}[r.IntN(2)])
		}
	}
	strands := []int{1}
	for _, n := range []int{20, 30, 40} {
		if maybe(.6) {
			strands = append(strands, n)
			say("strand %d : kept is yes", n)
			if maybe(.7) {
				say("strand %d : label is <%s>", n, []string{"tills", "cameras on the quay", "is nothing", "a : b is c"}[r.IntN(4)])
			}
		}
	}
	if maybe(.7) {
		say("gate : address is 10.12.12.%d/24", 2+r.IntN(3))
	}
	if maybe(.5) {
		say("herald : community is <%s>", []string{"gulls", "terns"}[r.IntN(2)])
	}
	for p := 1; p <= 6; p++ {
		if maybe(.5) {
			say("port %d : label is <%s>", p, []string{"ticket kiosk 2", "gangway", "port 3 : strand is 20"}[r.IntN(3)])
		}
		if maybe(.5) {
			say("port %d : strand is %d", p, strands[r.IntN(len(strands))])
		}
		if maybe(.3) {
			say("port %d : power is %s", p, []string{"on", "off"}[r.IntN(2)])
		}
	}
	return out
}
