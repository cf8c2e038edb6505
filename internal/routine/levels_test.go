package routine

import (
	"strings"
	"testing"

	"magpie/internal/core"
)

// TestInLevels: what hangs on others comes after those, or before, where their dialect says
// so; who is spoken for comes with who speaks; a ring of parents ends.
func TestInLevels(t *testing.T) {
	for _, c := range []struct{ devices, last, want string }{
		{"b a c", "", "a b c"},
		{"r1 sw1<r1 sw2<sw1 r2", "", "r1 r2 | sw1 | sw2"},
		{"sw1<elsewhere r1", "", "r1 sw1"},
		{"w1 ap1<w1!member ap2<w1!member r1", "", "r1 w1"},
		{"w1 sw1<w1 sw2<w1 cam<sw1", "w1", "sw1 sw2 | cam w1"},
		{"w1 sw1<w1 cam<sw1", "w1 sw1", "cam | sw1 | w1"},
		{"ap1<w1!member", "", "ap1"},
		{"a<b b<a c<a", "", "3"},
	} {
		var all []core.Device
		for _, w := range strings.Fields(c.devices) {
			w, member, _ := strings.Cut(w, "!")
			name, parent, _ := strings.Cut(w, "<")
			all = append(all, core.Device{ID: name, Name: name, ParentID: parent, Member: member})
		}
		var got []string
		n := 0
		for _, l := range inLevels(all, func(d core.Device) bool { return strings.Contains(" "+c.last+" ", " "+d.Name+" ") }) {
			var names []string
			for _, d := range l {
				names = append(names, d.Name)
				n++
			}
			got = append(got, strings.Join(names, " "))
		}
		if out := strings.Join(got, " | "); c.want != "3" && out != c.want || c.want == "3" && n != 3 {
			t.Errorf("%s: %s, expected %s", c.devices, out, c.want)
		}
	}
}
