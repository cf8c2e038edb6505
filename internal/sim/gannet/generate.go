package gannet

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
)

// Users are the accounts that every configuration made here has, with their words.
type Users map[string]string

// Generate makes a valid configuration at random, as one document.
func Generate(r *rand.Rand, users Users) string {
	var b strings.Builder
	some := func(n int) int { return r.IntN(n + 1) }
	leaf := func(name string, v any) { fmt.Fprintf(&b, "<%s>%v</%s>", name, v, name) }
	maybe := func(name string, v any) {
		if r.IntN(2) == 0 {
			leaf(name, v)
		}
	}
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	b.WriteString(`<config xmlns:net="urn:brindle:mast" xmlns:of="` + nsKinds + `"><mast xmlns="` + nsMast + `">`)
	leaf("name", pick("mast-a", "mast-b"))
	maybe("beat", pick("30", "60", "120"))
	for _, name := range slices.Sorted(maps.Keys(users)) {
		fmt.Fprintf(&b, "<user><name>%s</name><word>%s</word></user>", name, users[name])
	}
	if r.IntN(2) == 0 {
		fmt.Fprintf(&b, "<user><name>%s</name><word>w</word></user>", pick("mwilks", "tferris"))
	}
	clocks := r.Perm(4)
	for _, c := range clocks[:some(3)] {
		leaf("clock", fmt.Sprintf("10.30.0.%d", 5+c))
	}
	for _, t := range r.Perm(4)[:some(3)] {
		leaf("tag", []string{"north", "quay", "spare", "high tide"}[t])
	}
	for _, f := range r.Perm(6)[:some(5)] {
		b.WriteString("<feed>")
		leaf("place", []string{"deck", "hold", "deck", "hold", "bridge", "bridge"}[f])
		leaf("number", []string{"1", "1", "2", "2", "1", "3"}[f])
		maybe("note", pick("ticket hall", "a &lt; b &amp; c", "net:work"))
		maybe("kind", pick("of:radio", "of:wire"))
		maybe("from", "/net:mast/net:feed[net:place='"+pick("deck", "hold")+"'][net:number='1']")
		b.WriteString("</feed>")
	}
	for _, a := range r.Perm(4)[:some(4)] {
		b.WriteString("<alarm>")
		leaf("id", []string{"load", "wind", "door", "heat"}[a])
		leaf("watches", pick("/net:mast/net:beat", "count(/net:mast/net:feed) &gt; 3"))
		maybe(pick("over", "under"), some(9)*100)
		if r.IntN(2) == 0 {
			b.WriteString("<tell>")
			maybe("after", pick("1", "3", "5"))
			for _, t := range r.Perm(3)[:some(2)] {
				leaf("to", []string{"watch", "office", "bridge"}[t])
			}
			b.WriteString("</tell>")
		}
		b.WriteString("</alarm>")
	}
	b.WriteString("</mast>")
	for _, l := range r.Perm(3)[:some(3)] {
		fmt.Fprintf(&b, `<light xmlns=%q><id>%d</id><colour>%s</colour></light>`, nsMast, l+1, pick("red", "white", "green"))
	}
	b.WriteString("</config>")
	return b.String()
}
