package fulmar

import (
	"fmt"
	"math/rand/v2"
)

// Generate makes a valid configuration at random. Few names are used, so that two of
// them overlap.
func Generate(r *rand.Rand) []string {
	maybe := func(p float64) bool { return r.Float64() < p }
	var out []string
	say := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	say("strip {")
	say("name strip%d;", 1+r.IntN(3))
	if maybe(.6) {
		say("place %s;", []string{"under the desk", "rack 3", "watch"}[r.IntN(3)])
	}
	say("}")
	for _, o := range []string{"magpie", "okonkwo"} {
		if maybe(.8) {
			say("owner %s {", o)
			if maybe(.8) {
				say("word w%d;", r.IntN(3))
			}
			say("}")
		}
	}
	for n := 1; n <= 4; n++ {
		if maybe(.6) {
			say("outlet %d {", n)
			if maybe(.6) {
				say("feeds %s;", []string{"a kettle", "outlet 3", "drop state"}[r.IntN(3)])
			}
			if maybe(.7) {
				say("state %s;", []string{"on", "off"}[r.IntN(2)])
			}
			if maybe(.4) {
				say("after %d;", r.IntN(4))
			}
			say("}")
		}
	}
	if maybe(.7) {
		say("watch {")
		if maybe(.5) {
			say("every %d;", 10+r.IntN(3))
		}
		for _, a := range []string{"load", "heat"} {
			if maybe(.6) {
				say("alarm %s {", a)
				if maybe(.7) {
					say("above %d;", 100*(1+r.IntN(3)))
				}
				if maybe(.5) {
					say("tell 10.30.0.%d;", 5+r.IntN(2))
				}
				say("}")
			}
		}
		say("}")
	}
	return out
}
