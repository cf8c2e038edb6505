package push

import (
	"testing"
	"time"
)

// TestRounds: how often what is missing is sent too, and when not.
func TestRounds(t *testing.T) {
	three, none := 3, 0
	for _, c := range []struct {
		asked Request
		want  int
	}{{Request{}, 0}, {Request{Within: time.Minute}, 1}, {Request{Rounds: &three}, 3}, {Request{Rounds: &none, Within: time.Minute}, 0}} {
		if got := c.asked.rounds(); got != c.want {
			t.Errorf("%+v: %d", c.asked, got)
		}
	}
	s := State{Asked: Asked{Lines: 4, Rounds: 2}, Phase: Proving, Announced: 4, Answered: 4}
	more := Facts{Did: Prove, Report: Done, More: 2, Missing: 3}
	a := Decide(s, more)
	if a.Deed != Begin || a.More != 2 {
		t.Fatalf("%+v", a)
	}
	s = s.Before(a, more)
	if s.Lines != 6 || s.Round != 1 || s.More != 2 || s.Missing != 3 {
		t.Fatalf("%+v", s)
	}
	s.Phase, s.Announced, s.Answered = Proving, 6, 6
	for name, f := range map[string]Facts{
		"the last round brought nothing": {More: 2, Missing: 3},
		"there is nothing to send":       {Missing: 2},
		"a check is bad":                 {More: 2, Missing: 1, Bad: true},
		"somebody cancelled":             {More: 2, Missing: 1, Cancelled: true},
		"the time is over":               {More: 2, Missing: 1, Over: true},
		"the service stops":              {More: 2, Missing: 1, Stopping: true},
	} {
		f.Did, f.Report = Prove, Done
		if a := Decide(s, f); a.Deed == Begin {
			t.Errorf("%s, and another round is begun", name)
		}
	}
	if a := Decide(s, Facts{Did: Prove, Report: Done, More: 1, Missing: 1}); a.Deed != Begin {
		t.Errorf("%+v", a)
	}
	s.Round = 2
	if a := Decide(s, Facts{Did: Prove, Report: Done, More: 1, Missing: 1}); a.Deed == Begin {
		t.Error("a third round is begun")
	}
}

// TestAheadBroken: of lines that went at once, those that were taken are known, the first
// that was not is told, and nothing goes again.
func TestAheadBroken(t *testing.T) {
	s := State{Asked: Asked{Lines: 9}, Phase: Sending, Announced: 2, Answered: 2}
	a := s.next(Facts{Ahead: 5})
	if a.Deed != Send || a.Line != 3 || a.Last != 7 {
		t.Fatalf("%+v", a)
	}
	s = s.Before(a, Facts{}).After(Facts{Did: Send, Report: Refused, Taken: 2})
	if s.Announced != 7 || s.Answered != 4 {
		t.Errorf("%+v", s)
	}
	if said := s.known(); said != "the push broke off while sending: of 9 lines, 4 were taken and lines 5 to 7 are in doubt" {
		t.Error(said)
	}
	if a := Decide(s, Facts{Did: Send, Report: Refused, Taken: 2}); a.Deed != Undo {
		t.Errorf("%+v", a)
	}
	s.LeaveApplied = true
	if a := s.next(Facts{Ahead: 5}); a.Last != a.Line {
		t.Errorf("with what was applied left, %+v go at once", a)
	}
	if a := (State{Asked: Asked{Lines: 2}, Phase: Sending}).next(Facts{Ahead: 50}); a.Last != 2 {
		t.Errorf("%+v", a)
	}
}
