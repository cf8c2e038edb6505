package link_test

import (
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	gossh "golang.org/x/crypto/ssh"

	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/plover"
)

// shipped loads a dialect that ships, with less patience.
func shipped(t testing.TB, name string) *dialect.Dialect {
	t.Helper()
	src, err := dialects.Files.ReadFile(name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := dialect.Load(name+".yaml", src)
	if err != nil {
		t.Fatal(err)
	}
	d.Answer, d.Idle, d.Connect = 4*time.Second, 4*time.Second, 5*time.Second
	return d
}

// stand puts a simulated device on a loopback address of its own.
func stand(t testing.TB, m box.Model) (address string) {
	t.Helper()
	_, key, _ := ed25519.GenerateKey(nil)
	signer, err := gossh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for range 50 {
		address = fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 1+rand.IntN(250))
		cert, secret, err := box.NewCertificate(address)
		if err != nil {
			t.Fatal(err)
		}
		e := box.Env{Address: address, HostKey: signer, Clock: time.Now, Changed: func() {}, Restarted: func() {}}
		if e.TLS, err = tls.X509KeyPair(cert, secret); err != nil {
			t.Fatal(err)
		}
		stop, err := m.Serve(e)
		if err == nil {
			t.Cleanup(stop)
			return address
		}
	}
	t.Fatal("no free loopback address")
	return ""
}

func newPlover(t testing.TB) (*plover.Device, string) {
	t.Helper()
	d, err := plover.New("quay-sw1", "PL-1", []string{"system : name is quay-sw1", "system : zone is <Atlantic/Faroe>", "keeper magpie : rank is full",
		"keeper magpie : word is plain <w>", "strand 20 : kept is yes", "strand 20 : label is <tills>", "port 3 : label is <ticket kiosk 2>", "port 3 : strand is 20",
		"gate : address is 10.12.12.9/24", "herald : community is <gulls>"}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return d, stand(t, d)
}

// open signs in to a device as its dialect says.
func open(t testing.TB, call link.Call) (*link.Session, error) {
	t.Helper()
	return link.Open(context.Background(), called(t, call))
}

// called fills a call with what is not said: the usual login, and the key that is shown.
func called(t testing.TB, call link.Call) link.Call {
	t.Helper()
	if call.Guard == nil {
		call.Guard = sure
	}
	if call.Credential.User == "" {
		call.Credential = cred
	}
	if link.Shows(call.Target.Transport) && call.Target.HostKey == "" {
		var err error
		if call.Target.HostKey, _, err = link.Probe(context.Background(), call.Target, 5*time.Second); err != nil {
			t.Fatal(err)
		}
	}
	return call
}

func TestPlover(t *testing.T) {
	for _, way := range []struct {
		transport string
		port      int
	}{{"ssh", box.SSH}, {"telnet", box.Telnet}} {
		t.Run(way.transport, func(t *testing.T) {
			d, address := newPlover(t)
			left := map[string]bool{}
			s, err := open(t, link.Call{Dialect: shipped(t, "plover"),
				Target: link.Target{Transport: way.transport, Address: address, Port: way.port, Ports: map[string]int{"tftp": box.TFTP}},
				Left:   func(_, file string) error { left[file] = true; return nil },
				Gone:   func(_, file string) error { delete(left, file); return nil }})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			id, err := s.Identity()
			if err != nil || id != (link.Identity{Host: "quay-sw1", Model: "Plover P24", Serial: "PL-1", Release: "7.1"}) {
				t.Fatalf("%+v, %v", id, err)
			}
			p, err := s.Fetch("running")
			if err != nil || !strings.Contains(p.Text, "port 3 : label is <ticket kiosk 2>\n") {
				t.Fatalf("%v\n%s", err, p.Text)
			}
			if files := d.Status().Files; len(files) > 0 || len(left) > 0 {
				t.Errorf("left on the device: %v, noted %v", files, left)
			}
			again, err := s.Fetch("running")
			if err != nil {
				t.Fatal(err)
			}
			doc := s.Dialect().Doc("running")
			if p.Text == again.Text || doc.Settled(p.Text) != doc.Settled(again.Text) || !doc.Equivalent(p.Text, again.Text) {
				t.Errorf("salted anew, and so changed:\n%s\n%s", doc.Settled(p.Text), doc.Settled(again.Text))
			}
			if st, err := s.Fetch("startup"); err != nil || !doc.Equivalent(p.Text, st.Text) {
				t.Errorf("%v\n%s", err, st.Text)
			}
			if err := s.Begin(); err != nil {
				t.Fatal(err)
			}
			for _, l := range []string{"port 4 : label is <new one>", "port 3 : strand is nothing", "system : name is quay-sw9"} {
				if err := s.Send(link.Change{Kind: "line", Lines: []string{l}, Hostname: "quay-sw9"}); err != nil {
					t.Fatalf("%s: %v", l, err)
				}
			}
			if err := s.Send(link.Change{Kind: "line", Lines: []string{"port 99 : label is <x>"}}); err == nil || !strings.Contains(err.Error(), "there is no port 99") {
				t.Errorf("%v", err)
			}
			if err := s.Finish(); err != nil {
				t.Fatal(err)
			}
			if said, err := s.Save(); err != nil || !strings.HasSuffix(said, "settings kept") {
				t.Errorf("%q, %v", said, err)
			}
			if got := strings.Join(d.Status().Startup, "\n"); !strings.Contains(got, "port 4 : label is <new one>") {
				t.Errorf("it starts with\n%s", got)
			}
		})
	}
}

// TestOneAttempt: however a device asks, a wrong word is sent once.
func TestOneAttempt(t *testing.T) {
	for _, way := range []struct {
		transport string
		port      int
	}{{"ssh", box.SSH}, {"telnet", box.Telnet}} {
		d, address := newPlover(t)
		_, err := open(t, link.Call{Dialect: shipped(t, "plover"), Target: link.Target{Transport: way.transport, Address: address, Port: way.port},
			Credential: link.Credential{User: "magpie", Password: "wrong"}})
		if err == nil || !strings.Contains(err.Error(), "login refused") {
			t.Errorf("%s: %v", way.transport, err)
		}
		if st := d.Status(); st.Logins != 1 || st.Refused != 1 {
			t.Errorf("%s: %d attempts arrived", way.transport, st.Logins)
		}
	}
}

// TestSizesBySFTP: a server that gives 0 for each size, or knows of none, is read to the end of
// the file; one that breaks off is not taken for such a server.
func TestSizesBySFTP(t *testing.T) {
	d, address := newPlover(t)
	s, err := open(t, link.Call{Dialect: shipped(t, "plover"),
		Target: link.Target{Transport: "ssh", Address: address, Port: box.SSH, Ports: map[string]int{"tftp": box.TFTP}},
		Left:   func(_, _ string) error { return nil }, Gone: func(_, _ string) error { return nil }})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, sizes := range []string{"", "zero", "none"} {
		d.SetFaults(box.Faults{Sizes: sizes})
		if p, err := s.Fetch("running"); err != nil || !strings.Contains(p.Text, "port 3 : label is <ticket kiosk 2>\n") {
			t.Errorf("sizes %q: %v\n%s", sizes, err, p.Text)
		}
	}
	d.SetFaults(box.Faults{Sizes: "none", CutAfter: 60})
	if p, err := s.Fetch("running"); err == nil {
		t.Errorf("cut off, and taken for all of it:\n%s", p.Text)
	}
}
