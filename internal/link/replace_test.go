package link_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"magpie/dialects"
	"magpie/internal/core/grammar"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
)

// randomFirewall makes a valid configuration in the IETF's models (RFC 7317,
// 8343, 8344, 8519). Few names are used, so that two of them overlap.
func randomFirewall(r *rand.Rand) string {
	maybe := func(p float64) bool { return r.Float64() < p }
	var b strings.Builder
	say := func(format string, a ...any) { fmt.Fprintf(&b, format, a...) }
	say(`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>control-f%d</hostname>`, 1+r.IntN(3))
	if maybe(.5) {
		say(`<contact>%s</contact>`, []string{"the duty officer", "a &lt;b&gt; &amp; c", "ночь"}[r.IntN(3)])
	}
	if maybe(.5) {
		say(`<ntp><server><name>one</name><udp><address>10.30.0.%d</address></udp></server></ntp>`, 5+r.IntN(2))
	}
	say(`<authentication><user><name>magpie</name><password>$0$w</password></user>`)
	if maybe(.5) {
		say(`<user><name>okonkwo</name><password>$0$%d</password></user>`, r.IntN(3))
	}
	say(`</authentication></system><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">`)
	lanes := []string{}
	for _, name := range []string{"inside", "outside", "guests"} {
		if len(lanes) == 0 || maybe(.6) {
			lanes = append(lanes, name)
			say(`<interface><name>%s</name>`, name)
			if maybe(.5) {
				say(`<description>%s</description>`, []string{"to the world", "to the quay"}[r.IntN(2)])
			}
			if maybe(.6) {
				say(`<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip">`)
				if maybe(.5) {
					say(`<mtu>%d</mtu>`, 1400+100*r.IntN(2))
				}
				for i := range r.IntN(3) {
					say(`<address><ip>10.%d.0.1</ip><prefix-length>%d</prefix-length></address>`, i+r.IntN(2)*4, 24+r.IntN(2))
				}
				say(`</ipv4>`)
			}
			say(`</interface>`)
		}
	}
	say(`</interfaces>`)
	if maybe(.7) {
		say(`<acls xmlns="urn:ietf:params:xml:ns:yang:ietf-access-control-list">`)
		for _, name := range []string{"in", "out"} {
			if maybe(.6) {
				say(`<acl><name>%s</name><aces>`, name)
				order := []string{"tills", "dns", "rest"}
				r.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
				for _, ace := range order[:1+r.IntN(3)] {
					say(`<ace><name>%s</name><actions><forwarding>%s</forwarding></actions></ace>`, ace, []string{"accept", "drop"}[r.IntN(2)])
				}
				say(`</aces></acl>`)
			}
		}
		if maybe(.5) {
			say(`<attachment-points><interface><interface-id>%s</interface-id></interface></attachment-points>`, lanes[r.IntN(len(lanes))])
		}
		say(`</acls>`)
	}
	return b.String()
}

// TestDocumentsReplaceEachOther: whatever two valid documents a firewall runs
// and should run, what is sent makes it run the one that it should, order and
// all; and back.
func TestDocumentsReplaceEachOther(t *testing.T) {
	rounds := 60
	if testing.Short() {
		rounds = 10
	}
	_, target := newHeron(t, 2)
	dia := shipped(t, "heron")
	s, err := open(t, link.Call{Dialect: dia, Target: target})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	doc := dia.Doc("running")
	put := func(want string) string {
		t.Helper()
		now, err := s.Fetch("running")
		if err != nil {
			t.Fatal(err)
		}
		for _, do := range []func() error{
			s.Begin,
			func() error {
				return s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(want)}, Current: now.Text})
			},
			func() error { return s.Send(link.Change{Kind: "commit"}) },
			s.Finish,
		} {
			if err := do(); err != nil {
				t.Fatalf("%v\nfrom\n%s\nto\n%s", err, now.Text, want)
			}
		}
		after, err := s.Fetch("running")
		if err != nil {
			t.Fatal(err)
		}
		if !doc.Equivalent(after.Text, want) {
			t.Fatalf("from\n%s\nto\n%s\nit runs\n%s", now.Text, want, after.Text)
		}
		return now.Text
	}
	r := rand.New(rand.NewPCG(4, 6))
	for range rounds {
		want, err := grammar.FormatXML([]byte("<data>"+randomFirewall(r)+"</data>"), "data")
		if err != nil {
			t.Fatal(err)
		}
		before := put(want)
		if r.IntN(3) == 0 {
			put(before) // the undo
		}
	}
}

// TestConfirmedCommit: what was committed with a window goes back by itself,
// even when its session is gone; a token confirms or recalls it from another
// session; another token does not.
func TestConfirmedCommit(t *testing.T) {
	d, target := newHeron(t, 0)
	runs := func() string { return strings.Join(d.Status().Running, "\n") }
	begin := runs()
	commit := func(token string, within time.Duration) {
		t.Helper()
		s, err := open(t, link.Call{Dialect: shipped(t, "heron"), Target: target})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if un := s.UndoTimer(); un == nil || un.By != link.ByCommit {
			t.Fatalf("%+v", un)
		}
		now, err := s.Fetch("running")
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Begin(); err != nil {
			t.Fatal(err)
		}
		if err := s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(strings.Replace(now.Text, "to the world", "to the sound", 1))}, Current: now.Text}); err != nil {
			t.Fatal(err)
		}
		if err := s.Send(link.Change{Kind: "commit", Within: within, Token: token}); err != nil {
			t.Fatal(err)
		}
		if err := s.Finish(); err != nil {
			t.Fatal(err)
		}
	}
	other := func() *link.Session {
		t.Helper()
		s, err := open(t, link.Call{Dialect: shipped(t, "heron"), Target: target})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Close)
		return s
	}
	wait := func(want string) {
		t.Helper()
		for end := time.Now().Add(5 * time.Second); runs() != want; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it runs\n%s", runs())
			}
		}
	}
	commit("one", time.Second)
	if runs() == begin {
		t.Fatal("nothing was committed")
	}
	wait(begin) // by itself
	commit("two", time.Minute)
	if err := other().Recall("none"); err == nil {
		t.Error("another token recalled it")
	}
	if err := other().Recall("two"); err != nil || runs() != begin {
		t.Errorf("recalled: %v\n%s", err, runs())
	}
	begun := time.Now()
	commit("three", 4*time.Second) // as long as two sign-ins can take where much else runs
	if err := other().Confirm("none"); err == nil {
		t.Error("another token confirmed it")
	}
	if err := other().Confirm("three"); err != nil {
		t.Error(err)
	}
	time.Sleep(time.Until(begun.Add(5 * time.Second))) // its time to confirm, and some more
	if runs() == begin {
		t.Error("confirmed, and it went back")
	}
}

// TestWithout: what a dialect leaves out of NETCONF is not asked for, although the device
// says that it can.
func TestWithout(t *testing.T) {
	src, err := dialects.Files.ReadFile("heron.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, what := range []string{"lock", "validate"} {
		d, target := newHeron(t, 0)
		d.SetFaults(box.Faults{Hang: what})
		dia, err := dialect.Load("heron.yaml", []byte(strings.Replace(string(src), "\n  target: candidate\n", "\n  target: candidate\n  without: ["+what+", confirm]\n", 1)))
		if err != nil {
			t.Fatal(err)
		}
		dia.Answer, dia.Idle, dia.Connect = 2*time.Second, 2*time.Second, 5*time.Second
		s, err := open(t, link.Call{Dialect: dia, Target: target})
		if err != nil {
			t.Fatal(err)
		}
		if un := s.UndoTimer(); un != nil {
			t.Errorf("%+v", un)
		}
		now, err := s.Fetch("running")
		if err == nil {
			err = s.Begin()
		}
		if err == nil {
			err = s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(strings.Replace(now.Text, "to the world", "to the sound", 1))}, Current: now.Text})
		}
		if err == nil {
			err = s.Send(link.Change{Kind: "commit"})
		}
		if err != nil || !strings.Contains(strings.Join(d.Status().Running, "\n"), "to the sound") {
			t.Errorf("without %s: %v", what, err)
		}
		s.Close()
	}
}
