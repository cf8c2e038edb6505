package link_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"runtime"
	"strings"
	"testing"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

func ternDialect(t testing.TB) *dialect.Dialect {
	t.Helper()
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := dialect.Load("tern.yaml", src)
	if err != nil {
		t.Fatal(err)
	}
	d.Answer, d.Idle, d.Connect = 3*time.Second, 3*time.Second, 5*time.Second
	return d
}

// mangler changes how a device's bytes arrive, without changing the bytes.
type mangler struct {
	gssh.Session
	oneByOne bool
	after    string // pause when this has been written
	pause    time.Duration
	before   string // written before everything else
	began    bool
}

func (m *mangler) Write(b []byte) (int, error) {
	if !m.began {
		m.began = true
		if m.before != "" {
			if _, err := io.WriteString(m.Session, m.before); err != nil {
				return 0, err
			}
			time.Sleep(m.pause)
		}
	}
	total := len(b)
	for len(b) > 0 {
		n := len(b)
		if m.oneByOne {
			n = 1
		}
		if at := bytes.Index(b, []byte(m.after)); m.after != "" && at >= 0 {
			n = at + len(m.after)
		}
		if _, err := m.Session.Write(b[:n]); err != nil {
			return 0, err
		}
		if m.after != "" && bytes.HasSuffix(b[:n], []byte(m.after)) {
			time.Sleep(m.pause)
		}
		b = b[n:]
	}
	return total, nil
}

// unit is a simulated router behind a server whose bytes can be mangled.
func unit(t testing.TB, m mangler, lines ...string) (*tern.Device, link.Target) {
	t.Helper()
	d, err := tern.New("r1", "TN4-1", append([]string{"name r1", "mast-word sealed " + tern.Sealed("mast"), "crew magpie", "  rank master", "  word sealed " + tern.Sealed("w")}, lines...), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &gssh.Server{
		PasswordHandler: func(ctx gssh.Context, word string) bool { return d.CheckWord(ctx.User(), word) },
		Handler: func(sess gssh.Session) {
			mine := m
			mine.Session = sess
			_, _, tty := sess.Pty()
			(&tern.Console{Device: d, User: sess.User(), From: "here", TTY: tty}).Serve(sess.Context(), &mine, "")
			_ = sess.Exit(0)
		},
	}
	t.Cleanup(box.Serving(l, s))
	at := l.Addr().(*net.TCPAddr)
	target := link.Target{Address: "127.0.0.1", Port: at.Port}
	if target.HostKey, _, err = link.Probe(context.Background(), target, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	return d, target
}

var cred = link.Credential{User: "magpie", Password: "w", Privileged: "mast"}

func sure() error { return nil }

func TestHoweverTheBytesArrive(t *testing.T) {
	placard := []string{"placard ((", "r1 ~~ ", ".. end of running, 2 lines", "r1 ~ ", "))"}
	for _, c := range []struct {
		name string
		m    mangler
	}{
		{"as they are", mangler{}},
		{"one by one", mangler{oneByOne: true}},
		{"with a pause after a line that looks like the prompt", mangler{after: "\r\nr1 ~~ ", pause: 300 * time.Millisecond}},
		{"with a pause after a line that looks like the end", mangler{after: "2 lines\r\n", pause: 300 * time.Millisecond}},
		{"after a banner that stops where a prompt would", mangler{before: "Beware of r1 \r\nr9 ~ ", pause: 300 * time.Millisecond}},
		{"after a banner in the unit's own prompt", mangler{before: "r1 ~ ", pause: 200 * time.Millisecond}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, target := unit(t, c.m, placard...)
			s, err := link.Open(context.Background(), link.Call{Dialect: ternDialect(t), Target: target, Credential: cred, Guard: sure})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			id, err := s.Identity()
			if err != nil || id != (link.Identity{Host: "r1", Model: "Tern R4", Serial: "TN4-1", Release: "4.2.1"}) {
				t.Fatalf("%+v, %v", id, err)
			}
			for range 2 {
				p, err := s.Fetch("running")
				if err != nil {
					t.Fatal(err)
				}
				if want := strings.Join(d.Status().Running, "\n"); !strings.Contains(p.Text, want) {
					t.Fatalf("fetched\n%s\nit runs\n%s", p.Text, want)
				}
			}
		})
	}
}

// TestPushConversation: lines, a refusal, a delimited text, and a name that
// changes the prompt under us.
func TestPushConversation(t *testing.T) {
	d, target := unit(t, mangler{})
	s, err := link.Open(context.Background(), link.Call{Dialect: ternDialect(t), Target: target, Credential: cred, Guard: sure})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Begin(); err != nil {
		t.Fatal(err)
	}
	if err := s.Send(link.Change{Kind: "line", Lines: []string{"placard ((", "r1 chart ~~ ", "?! no refusal", "))"}}); err != nil {
		t.Errorf("a placard was taken for a refusal: %v", err)
	}
	for _, c := range []struct {
		line, host string
		words      string
	}{
		{"name renamed", "renamed", ""},
		{"lane q", "", ""},
		{"mtu 1", "", `"1" is not a number from 576 to 9216`},
		{"mtu 9000", "", ""},
		{"up", "", ""},
	} {
		err := s.Send(link.Change{Kind: "line", Lines: []string{c.line}, Hostname: c.host})
		var r *link.Refused
		if c.words == "" && err != nil || c.words != "" && (!errors.As(err, &r) || r.Words != c.words || r.Line != c.line) {
			t.Fatalf("%s: %v", c.line, err)
		}
	}
	if answer, err := s.Save(); err != nil || !strings.HasPrefix(answer, "Stowed ") {
		t.Errorf("%q, %v", answer, err)
	}
	if p, err := s.Fetch("running"); err != nil || !strings.Contains(p.Text, "name renamed\n") || p.Author != "magpie" {
		t.Errorf("%+v, %v", p, err)
	}
	if got := strings.Join(d.Status().Running, "\n"); !strings.Contains(got, "lane q\n  mtu 9000") {
		t.Errorf("it runs\n%s", got)
	}
}

// TestGuardStopsTheSession: once the guard says no, nothing more is sent.
func TestGuardStopsTheSession(t *testing.T) {
	d, target := unit(t, mangler{})
	ok := true
	no := errors.New("no longer sure")
	s, err := link.Open(context.Background(), link.Call{Dialect: ternDialect(t), Target: target, Credential: cred, Guard: func() error {
		if ok {
			return nil
		}
		return no
	}})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Begin(); err != nil {
		t.Fatal(err)
	}
	ok = false
	if err := s.Send(link.Change{Kind: "line", Lines: []string{"lane q"}}); !errors.Is(err, no) {
		t.Errorf("%v", err)
	}
	s.Close()
	if st := d.Status(); st.Typed != 0 {
		t.Errorf("%d lines arrived", st.Typed)
	}
}

func TestWhatGoesWrong(t *testing.T) {
	_, target := unit(t, mangler{})
	other := target
	_, stranger := unit(t, mangler{})
	other.HostKey = stranger.HostKey
	closed := target
	closed.Port = 1
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	mute := target
	mute.Port = l.Addr().(*net.TCPAddr).Port // takes connections and says nothing
	patient, hasty := ternDialect(t), ternDialect(t)
	hasty.Connect = 500 * time.Millisecond
	for _, c := range []struct {
		name   string
		target link.Target
		cred   link.Credential
		is     func(err error) bool
	}{
		{"a wrong password", target, link.Credential{User: "magpie", Password: "x"}, func(err error) bool { return errors.Is(err, link.ErrLoginRefused) }},
		{"a key that cannot be read", target, link.Credential{User: "magpie", Key: []byte("x")}, func(err error) bool { return err != nil && !errors.Is(err, link.ErrLoginRefused) }},
		{"another host key", other, cred, func(err error) bool {
			var k *link.HostKeyError
			return errors.As(err, &k) && k.Accepted == link.Fingerprint(stranger.HostKey) && k.Shown == link.Fingerprint(target.HostKey)
		}},
		{"nobody there", closed, cred, func(err error) bool { return errors.Is(err, link.ErrUnreachable) }},
		{"somebody mute", mute, cred, func(err error) bool {
			return errors.Is(err, link.ErrUnreachable) || errors.As(err, new(*link.TimeoutError))
		}},
	} {
		with := patient
		if c.target.Port == mute.Port {
			with = hasty
		}
		if _, err := link.Open(context.Background(), link.Call{Dialect: with, Target: c.target, Credential: c.cred, Guard: sure}); !c.is(err) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// A wrong secret of the privileged mode counts as a refused login.
	wrong := cred
	wrong.Privileged = "x"
	s, err := link.Open(context.Background(), link.Call{Dialect: ternDialect(t), Target: target, Credential: wrong, Guard: sure})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Fetch("running"); !errors.Is(err, link.ErrLoginRefused) {
		t.Errorf("a wrong privileged-mode secret: %v", err)
	}
}

// TestNothingIsLeftBehind: after many sessions, good and bad, no goroutine and no
// connection remains.
func TestNothingIsLeftBehind(t *testing.T) {
	d, target := unit(t, mangler{})
	dia := ternDialect(t)
	dia.Idle, dia.Answer = 300*time.Millisecond, 300*time.Millisecond
	before := runtime.NumGoroutine()
	for i := range 12 {
		d.SetFaults([]tern.Faults{{}, {CutAfter: 40}, {Hang: "recite running"}, {Garbage: 50}}[i%4])
		ctx, cancel := context.WithCancel(context.Background())
		s, err := link.Open(ctx, link.Call{Dialect: dia, Target: target, Credential: cred, Guard: sure})
		if err != nil {
			t.Fatal(err)
		}
		if i%5 == 4 {
			cancel()
		}
		_, _ = s.Fetch("running")
		s.Close()
		cancel()
	}
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end) && (runtime.NumGoroutine() > before+2 || d.Status().Sessions > 0); time.Sleep(20 * time.Millisecond) {
	}
	if n, left := runtime.NumGoroutine(), d.Status().Sessions; n > before+2 || left > 0 {
		all := make([]byte, 1<<16)
		t.Errorf("%d goroutines before, %d after; %d sessions left\n%s", before, n, left, all[:runtime.Stack(all, true)])
	}
}

// FuzzCheck: text that is not what a device sent is never taken for whole, and
// nothing breaks the check.
func FuzzCheck(f *testing.F) {
	whole := ".. running of r1, read 2026-11-20 10:00:00\n.. last amended x by y\nname r1\n.. end of running, 1 lines\n"
	f.Add(whole)
	f.Add(whole[:40])
	d := ternDialect(f)
	f.Fuzz(func(t *testing.T, s string) {
		if link.Check(d, d.Parts["running"], s) != "" {
			return
		}
		if !strings.HasPrefix(s, ".. running of ") || !strings.Contains(s, "\nname ") || !strings.Contains(s, "\n.. end of running, ") {
			t.Errorf("taken for whole: %q", s)
		}
	})
}
