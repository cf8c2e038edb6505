package read

import (
	"testing"
	"time"

	"magpie/internal/core"
)

// TestTroubledAlike: many that fail alike are one line; what only some of them say is not
// said of all.
func TestTroubledAlike(t *testing.T) {
	early, late := time.Date(2026, 11, 26, 2, 0, 0, 0, time.UTC), time.Date(2026, 11, 26, 2, 14, 0, 0, time.UTC)
	device := func(name, site, address, state, trouble string, pulled *time.Time) core.Device {
		return core.Device{Name: name, Site: site, Address: address, State: state, Trouble: trouble, LastPulled: pulled, Since: pulled}
	}
	got := TroubledAlike([]core.Device{
		device("dunvarrow-r1", "dunvarrow", "192.0.2.1", core.Unreachable, "unreachable: no connection to 192.0.2.1 port 22: no route to host", &early),
		device("dunvarrow-r2", "dunvarrow", "192.0.2.2", core.Unreachable, "unreachable: no connection to 192.0.2.2 port 2222: no route to host", &late),
		device("dunvarrow-r3", "dunvarrow", "192.0.2.3", core.Unreachable, "unreachable: no connection to 192.0.2.3 port 22: no route to host", nil),
		device("dunvarrow-r4", "dunvarrow", "192.0.2.4", core.Unreachable, "unreachable: no connection to 192.0.2.4 port 22: connection refused", nil),
		device("callowmere-r1", "callowmere", "192.0.2.5", core.Unreachable, "unreachable: no connection to 192.0.2.5 port 22: no route to host", nil),
		device("skerrinsay-r1", "skerrinsay", "192.0.2.6", core.LoginRefused, "the login was refused", nil),
		device("skerrinsay-r2", "skerrinsay", "192.0.2.7", core.InSync, "", &late),
		device("skerrinsay-r3", "skerrinsay", "192.0.2.8", core.Drifted, "", &late),
	})
	if len(got) != 4 {
		t.Fatalf("%+v", got)
	}
	if g := got[0]; len(g.Devices) != 3 || g.Site != "dunvarrow" || g.Says != "no connection to … port …: no route to host" || !g.LastPulled.Equal(late) || !g.Since.Equal(early) {
		t.Errorf("%+v", g)
	}
	if g := got[1]; g.Site != "callowmere" || g.Says != "no connection to … port 22: no route to host" || g.LastPulled != nil {
		t.Errorf("%+v", g)
	}
	for _, g := range got[1:] {
		if len(g.Devices) != 1 {
			t.Errorf("%+v", g)
		}
	}
}
