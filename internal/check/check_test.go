package check_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"

	"magpie/internal/check"
)

func TestParse(t *testing.T) {
	for in, out := range map[string]string{
		"tcp 10.0.0.1:443":              "",
		"  tcp   [2001:db8::1]:22 ":     "tcp [2001:db8::1]:22",
		"ssh r1":                        "ssh r1:22",
		"http https://a.example/x":      "",
		"http http://a.example 204":     "",
		"dns quay.example":              "",
		"dns quay.example at 192.0.2.1": "dns quay.example at 192.0.2.1:53",
		"ping 2001:db8::1":              "",
		"from r1 ping 10.0.0.1":         "",
	} {
		c, err := check.Parse(in)
		if out == "" {
			out = in
		}
		if err != nil || c.String() != out {
			t.Errorf("%q is %q, %v", in, c, err)
		}
		if again, err := check.Parse(c.String()); err != nil || again != c {
			t.Errorf("%q does not come back: %+v, %v", c, again, err)
		}
	}
	for in, why := range map[string]string{
		"": "no target", "tcp": "no target", "tcp 10.0.0.1": "no port", "tcp a:99999": "no port", "http ftp://x": "no http", "http http://u:p@x/": "password",
		"http http://x ok": "no HTTP status", "ping quay": "no IP address", "look x": "no kind of check", "tcp a:1 b": "too much", "from r1 tcp a:1": "only be told to ping", "from r1": "only be told", "from r1 ping 10.0.0.1;restart": "no IP address",
	} {
		if _, err := check.Parse(in); !errors.Is(err, check.ErrSyntax) || !strings.Contains(err.Error(), why) {
			t.Errorf("%q: %v", in, err)
		}
	}
}

// TestRun asks real listeners, there and gone.
func TestRun(t *testing.T) {
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/no" {
			w.WriteHeader(503)
		}
	}))
	defer web.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = c.Write([]byte("authorised people only\r\nSSH-2.0-none\r\n"))
			c.Close()
		}
	}()
	nobody := refusing(t)
	for _, c := range []struct {
		check string
		good  bool
		said  string
	}{
		{"tcp " + l.Addr().String(), true, "connected in "},
		{"tcp " + nobody, false, "connection refused"},
		{"ssh " + l.Addr().String(), true, "SSH-2.0-none in "},
		{"ssh " + web.Listener.Addr().String(), false, ""},
		{"http " + web.URL, true, "200 OK"},
		{"http " + web.URL + "/no", false, "503"},
		{"http " + web.URL + "/no 503", true, "503"},
		{"http http://" + nobody, false, "refused"},
		{"dns localhost", true, "127.0.0.1"},
		{"dns none.invalid at " + nobody, false, ""},
		{"ping 127.0.0.1", true, "answered in "},
	} {
		p, err := check.Parse(c.check)
		if err != nil {
			t.Fatal(err)
		}
		good, said, err := p.Run(context.Background())
		if errors.Is(err, check.ErrNotHere) {
			t.Logf("%s: %v", c.check, err)
			continue
		}
		if err != nil || good != c.good || !strings.Contains(said, c.said) {
			t.Errorf("%s: %v, %q, %v", c.check, good, said, err)
		}
	}
}

// refusing is an address that refuses connections for as long as the test runs: its
// port is taken and not listened at, so that no other program is given it.
func refusing(t *testing.T) string {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Close(fd) })
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		t.Fatal(err)
	}
	at, err := syscall.Getsockname(fd)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("127.0.0.1:%d", at.(*syscall.SockaddrInet4).Port)
}

func FuzzParse(f *testing.F) {
	f.Add("from r1 ping 10.0.0.1")
	f.Add("http http://x 200")
	f.Fuzz(func(t *testing.T, s string) {
		if c, err := check.Parse(s); err == nil {
			if again, err := check.Parse(c.String()); err != nil || again != c {
				t.Errorf("%q became %+v, read again %+v, %v", s, c, again, err)
			}
		}
	})
}
