package link_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
)

// TestAhead: lines that are typed before the first is answered are each held to their
// echo and their answer; the first that is refused is told, with what went on behind it.
func TestAhead(t *testing.T) {
	d, err := curlew.New("quay-c1", "02-5e-00-00-00-01", []string{"call quay-c1", "keeper magpie word w", "ask 10.30.0.5"})
	if err != nil {
		t.Fatal(err)
	}
	dia := shipped(t, "curlew")
	s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Begin(); err != nil {
		t.Fatal(err)
	}
	of := func(lines ...string) (out []link.Change) {
		for _, l := range lines {
			out = append(out, link.Change{Kind: "line", Lines: []string{l}})
		}
		return out
	}
	var many []string
	for i := range 200 {
		many = append(many, fmt.Sprintf("path 10.%d.0.0/16 cost 1 over 10.12.2.254", i))
	}
	for rest := many; len(rest) > 0; {
		n := s.Ahead(rest)
		if n < 20 && len(rest) > 20 || n > 40 {
			t.Fatalf("%d of %d lines go at once", n, len(rest))
		}
		if taken, err := s.SendLines(of(rest[:n]...)); err != nil || taken != n {
			t.Fatalf("%d of %d: %v", taken, n, err)
		}
		rest = rest[n:]
	}
	if has := strings.Join(d.Status().Running, "\n"); strings.Count(has, "path 10.") != 200 {
		t.Errorf("it has\n%s", has)
	}
	// Eaten keys, a name that the prompt shows from then on, and an answer that is harmless.
	renamed := of("pier 1", "says who, when?", "end", "call elsewhere", "watch pier 1 every 10", "says no")
	renamed[3].Hostname = "elsewhere"
	taken, err := s.SendLines(renamed)
	var refused *link.Refused
	if !errors.As(err, &refused) || taken != 5 || refused.Line != "says no" || strings.Contains(refused.Words, "ahead") || !strings.Contains(strings.Join(d.Status().Running, "\n"), "says who, when?") {
		t.Errorf("%d, %v\n%s", taken, err, strings.Join(d.Status().Running, "\n"))
	}
	// In the middle.
	taken, err = s.SendLines(of("ask 10.30.0.6", "says nothing here", "ask 10.30.0.7", "says again", "ask 10.30.0.8"))
	if !errors.As(err, &refused) || taken != 1 || refused.Line != "says nothing here" || !strings.HasSuffix(refused.Words, "; 2 lines were typed ahead behind it, and taken") {
		t.Errorf("%d, %v", taken, err)
	}
	// The conversation goes on where it was.
	if err := s.Finish(); err != nil {
		t.Fatal(err)
	}
	if p, err := s.Fetch("running"); err != nil || !strings.Contains(p.Text, "ask 10.30.0.8") {
		t.Errorf("%v\n%s", err, p.Text)
	}
	// A device that hangs up in the midst leaves it unknown how much was taken.
	if err := s.Begin(); err != nil {
		t.Fatal(err)
	}
	d.SetFaults(box.Faults{HoldLine: 3})
	go func() {
		for !d.Status().Holding {
			time.Sleep(time.Millisecond)
		}
		d.HangUp()
	}()
	if taken, err = s.SendLines(of("ask 10.30.0.9", "ask 10.30.0.10", "ask 10.30.0.11", "ask 10.30.0.12")); err == nil || errors.As(err, &refused) || taken != 2 {
		t.Errorf("%d, %v", taken, err)
	}
}
