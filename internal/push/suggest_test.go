package push

import (
	"fmt"
	"testing"
)

// TestAddresses: which addresses of a configuration are beside the device, whatever its
// family writes networks like.
func TestAddresses(t *testing.T) {
	for _, c := range []struct{ text, named, beside string }{
		{"lane quay1\n  address 10.1.22.1/24\nroute 0.0.0.0/0 10.1.22.254\n", "[10.1.22.254]", "[10.1.22.254]"},
		{"address 10.1.22.1 255.255.255.0\nneighbour 10.1.22.9\nclock 10.9.0.1", "[10.1.22.9 10.9.0.1]", "[10.1.22.9]"},
		{"address 10.1.22.1 255.0.255.0 neighbour 10.1.22.9", "[10.1.22.1 10.1.22.9]", "[]"}, // that is no mask
		{"address 10.0.0.1/30 peers 10.0.0.2 10.0.0.3 10.0.0.0", "[10.0.0.2 10.0.0.3 10.0.0.0]", "[10.0.0.2]"},
		{"loop 10.0.0.1/32 with 10.0.0.1 group 224.0.0.5 of 127.0.0.1", "[]", "[]"},
		{"drop 10.2.0.0/16 to 300.1.1.1", "[]", "[]"}, // a network and no address
	} {
		named, beside := addresses(c.text)
		if got := fmt.Sprint(named); got != c.named {
			t.Errorf("%q names %s, not %s", c.text, got, c.named)
		}
		if got := fmt.Sprint(beside); got != c.beside {
			t.Errorf("%q stands beside %s, not %s", c.text, got, c.beside)
		}
	}
}
