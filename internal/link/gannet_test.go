package link_test

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"magpie/internal/core/learn"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/gannet"
)

// TestGannet holds a server's habits against what is said of it in data: any
// configuration that it can have becomes any other, and back, exactly; what a merge is
// said to make is what it makes; and its own locks and timers are used.
func TestGannet(t *testing.T) {
	for _, release := range []string{"1.4", "2.0"} {
		t.Run(release, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(3, uint64(release[0])))
			config := func() string { return gannet.Generate(r, gannet.Users{"magpie": "w"}) }
			d, err := gannet.New("mast-a", "GM-1", release, config())
			if err != nil {
				t.Fatal(err)
			}
			s, err := open(t, link.Call{Dialect: shipped(t, "gannet"), Target: link.Target{Transport: "netconf", Address: stand(t, d), Port: box.Netconf}})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			if id, err := s.Identity(); err != nil || id.Serial != "GM-1" || id.Release != release {
				t.Fatalf("%+v, %v", id, err)
			}
			dia := shipped(t, "gannet").For("netconf", "Gannet M"+release[:1], release)
			doc := dia.Doc("running")
			// What its module says is what its dialect says.
			modules, err := s.Modules()
			if err != nil || len(modules) != 1 {
				t.Fatalf("%v, %d modules", err, len(modules))
			}
			drafted, missing, err := learn.Modules(modules)
			if err != nil || len(missing) > 0 {
				t.Fatalf("%v %q", err, missing)
			}
			yaml := learn.YAML(drafted)
			for _, path := range []string{"mast / feed {place} {number}', sequence: 'feed'", "mast / clock {clock}', sequence: 'clock'", "mast / tag {tag}'}", "mast / alarm {id} / over <over>', choice: 'when'",
				"mast / alarm {id} / tell / after <after>', default: '3'", "light {id}'}", "mast / beat <beat>', default: '60'"} {
				if !strings.Contains(yaml, path) {
					t.Errorf("%s is not drafted in\n%s", path, yaml)
				}
			}
			runs := func() string {
				t.Helper()
				p, err := s.Fetch("running")
				if err != nil {
					t.Fatal(err)
				}
				return p.Text
			}
			is := func() string { return strings.Join(d.Status().Running, "\n") }
			send := func(c link.Change) {
				t.Helper()
				c.Kind, c.Part = "load", "running"
				for _, err := range []error{s.Begin(), s.Send(c), s.Send(link.Change{Kind: "commit", Within: c.Within, Token: c.Token}), s.Finish()} {
					if err != nil {
						t.Fatalf("%v\nsending %s\n%s\nover\n%s", err, c.Method, c.Content.Bytes, c.Current)
					}
				}
			}
			put := func() (is_, shown string) {
				t.Helper()
				if err := d.Replace("GM-1", []string{config()}); err != nil {
					t.Fatal(err)
				}
				return is(), runs()
			}
			merged, refused := 0, 0
			for range 14 {
				isB, b := put()
				isA, a := put()
				send(link.Change{Method: "replace", Content: link.Content{Bytes: []byte(b)}, Current: a})
				if now := is(); now != isB {
					t.Fatalf("put back, it has\n%s\nand should have\n%s", now, isB)
				}
				send(link.Change{Method: "replace", Content: link.Content{Bytes: []byte(a)}, Current: b})
				if now := is(); now != isA {
					t.Fatalf("and back again, it has\n%s\nand should have\n%s", now, isA)
				}
				g, _ := doc.XML()
				said, err := g.Merge(a, b)
				if err != nil {
					refused++
					continue
				}
				merged++
				send(link.Change{Method: "merge", Content: link.Content{Bytes: []byte(b)}, Current: a})
				if now := runs(); !doc.Equivalent(now, said) {
					t.Fatalf("merging\n%s\ninto\n%s\nwas said to make\n%s\nand made\n%s", b, a, said, now)
				}
			}
			if merged < 8 {
				t.Errorf("only %d of %d merges were worked out", merged, merged+refused)
			}
			// Its own way back, which goes with the commit.
			was, a := put()
			_ = d.Amend("", []string{`<config><mast xmlns="urn:brindle:mast"><name>elsewhere</name></mast></config>`})
			changed, now := is(), runs()
			timer := s.UndoTimer()
			if timer == nil || timer.Returns != "before" {
				t.Fatalf("%+v", timer)
			}
			send(link.Change{Method: "replace", Content: link.Content{Bytes: []byte(a)}, Current: now, Within: time.Second, Token: "x"})
			if is() != was {
				t.Fatal("it was not committed")
			}
			for began := time.Now(); is() != changed; time.Sleep(20 * time.Millisecond) {
				if time.Since(began) > 5*time.Second {
					t.Fatal("it does not go back")
				}
			}
			for _, do := range []func() error{func() error { return s.Recall("x") }, func() error { return s.Confirm("x") }} {
				send(link.Change{Method: "replace", Content: link.Content{Bytes: []byte(a)}, Current: now, Within: time.Hour, Token: "x"})
				if err := do(); err != nil {
					t.Fatal(err)
				}
				if is() != changed {
					break // it was kept
				}
			}
			if is() != was {
				t.Error("told to keep it, it does not")
			}
		})
	}
}

// TestOtherMode: a server that treats defaults otherwise than its dialect says is not read
// (RFC 6243 §4.3).
func TestOtherMode(t *testing.T) {
	d, err := gannet.New("mast-a", "GM-1", "2.0", gannet.Generate(rand.New(rand.NewPCG(3, 4)), gannet.Users{"magpie": "w"}))
	if err != nil {
		t.Fatal(err)
	}
	at := stand(t, d)
	for mode, good := range map[string]bool{"trim": true, "explicit": false, "report-all": false} {
		dia := shipped(t, "gannet")
		dia.Grammar.Defaults = mode
		s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "netconf", Address: at, Port: box.Netconf}})
		if good != (err == nil) || err != nil && !strings.Contains(err.Error(), "mend grammar.defaults") {
			t.Errorf("%s: %v", mode, err)
		}
		if err == nil {
			s.Close()
		}
	}
}

// TestFirstRequestLost: a server that loses the first request of a session is asked once more,
// on a session of its own; one that stays silent is not asked for ever.
func TestFirstRequestLost(t *testing.T) {
	d, err := gannet.New("mast-a", "GM-1", "2.0", gannet.Generate(rand.New(rand.NewPCG(3, 5)), gannet.Users{"magpie": "w"}))
	if err != nil {
		t.Fatal(err)
	}
	at := stand(t, d)
	for lost, good := range map[int]bool{1: true, 2: false} {
		d.SetFaults(box.Faults{DropFirst: lost})
		dia := shipped(t, "gannet")
		dia.Answer = time.Second
		s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "netconf", Address: at, Port: box.Netconf}})
		if err == nil {
			_, err = s.Identity()
			if good && err == nil {
				_, err = s.Fetch("running")
			}
			s.Close()
		}
		var silent *link.TimeoutError
		if good != (err == nil) || err != nil && !errors.As(err, &silent) {
			t.Errorf("%d lost: %v", lost, err)
		}
	}
}

// TestEmptyStartup: a startup that holds nothing is none, and no part that was cut off; a running
// that holds nothing is not taken for all of it.
func TestEmptyStartup(t *testing.T) {
	config := gannet.Generate(rand.New(rand.NewPCG(3, 6)), gannet.Users{"magpie": "w"})
	d, err := gannet.Restore(gannet.State{Name: "mast-a", Serial: "GM-1", Release: "1.4", Running: config})
	if err != nil {
		t.Fatal(err)
	}
	dia := shipped(t, "gannet")
	s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "netconf", Address: stand(t, d), Port: box.Netconf}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if p, err := s.Fetch("startup"); err != nil || !p.Absent {
		t.Errorf("startup: %+v, %v", p, err)
	}
	if p, err := s.Fetch("running"); err != nil || p.Absent || p.Text == "" {
		t.Errorf("running: %+v, %v", p, err)
	}
	if err := d.Replace("GM-1", []string{""}); err != nil {
		t.Fatal(err)
	}
	var cut *link.Incomplete
	if p, err := s.Fetch("running"); !errors.As(err, &cut) {
		t.Errorf("an empty running: %+v, %v", p, err)
	}
}
