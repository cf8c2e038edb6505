package ref

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
)

func TestAddresses(t *testing.T) {
	for _, c := range []struct{ ranges, first, last, n, err string }{
		{"192.0.2.0/30", "192.0.2.1", "192.0.2.2", "2", ""},
		{"192.0.2.0/31", "192.0.2.0", "192.0.2.1", "2", ""},
		{"192.0.2.7", "192.0.2.7", "192.0.2.7", "1", ""},
		{"192.0.2.7/32", "192.0.2.7", "192.0.2.7", "1", ""},
		{"192.0.2.10-40", "192.0.2.10", "192.0.2.40", "31", ""},
		{"192.0.2.250-192.0.3.5", "192.0.2.250", "192.0.3.5", "12", ""},
		{"192.0.2.1-3 192.0.2.2-5", "192.0.2.1", "192.0.2.5", "5", ""},
		{"2001:db8::/120", "2001:db8::", "2001:db8::ff", "256", ""},
		{"2001:db8::1-2001:db8::3", "2001:db8::1", "2001:db8::3", "3", ""},
		{"10.0.0.0/20", "10.0.0.1", "10.0.15.254", "4094", ""},
		{"10.0.0.0/19", "", "", "", "more than 4096"},
		{"2001:db8::/64", "", "", "", "more than 4096"},
		{"::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "", "", "", "more than 4096"},
		{"192.0.2.5/24", "", "", "", "an address within 192.0.2.0/24"},
		{"192.0.2.9-3", "", "", "", "ends before it begins"},
		{"192.0.2.9-2001:db8::1", "", "", "", "no range"},
		{"quay", "", "", "", "no range"},
		{"192.0.2.1-", "", "", "", "no range"},
		{"fe80::1%eth0", "", "", "", "no range"},
	} {
		got, err := Addresses(strings.Fields(c.ranges))
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v", c.ranges, err)
			}
			continue
		}
		if err != nil || fmt.Sprint(len(got)) != c.n || got[0] != netip.MustParseAddr(c.first) || got[len(got)-1] != netip.MustParseAddr(c.last) {
			t.Errorf("%s: %d addresses, %v", c.ranges, len(got), err)
		}
	}
}

// FuzzAddresses: no words name more than there may be, or one twice.
func FuzzAddresses(f *testing.F) {
	f.Add("192.0.2.0/26 192.0.2.10-40")
	f.Add("::-::ffff")
	f.Add("255.255.255.0/24")
	f.Fuzz(func(t *testing.T, words string) {
		got, err := Addresses(strings.Fields(words))
		if err != nil {
			return
		}
		seen := map[netip.Addr]bool{}
		for _, a := range got {
			if seen[a] || !a.IsValid() {
				t.Fatalf("%q names %s twice", words, a)
			}
			seen[a] = true
		}
		if len(got) > MostAddresses {
			t.Fatalf("%q names %d", words, len(got))
		}
	})
}
