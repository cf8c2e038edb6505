package link_test

import (
	"errors"
	"strings"
	"testing"

	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/petrel"
)

// TestCommandsThatFail: a command run by itself has refused where its status says so,
// with what it wrote on its error stream, unless its answer shows that it is done; a part
// that is not there is absent, and one that cannot be had says why.
func TestCommandsThatFail(t *testing.T) {
	bare := strings.Replace(source(t, "petrel"), "errors:\n  - {pattern: '^petrel: (.*)', means: refused}\n", "", 1)
	session := func(change ...string) *link.Session {
		t.Helper()
		d, err := petrel.New("workshop-k1", "PT-1", "name workshop-k1\nkeeper magpie word w\n")
		if err != nil {
			t.Fatal(err)
		}
		dia, err := dialect.Load("petrel.yaml", []byte(strings.NewReplacer(change...).Replace(bare)))
		if err != nil {
			t.Fatal(err)
		}
		s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH}})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.Close)
		return s
	}
	var refused *link.Refused
	// A step.
	s := session("{exec: petrel load}", "{exec: petrel nonsense}")
	if err := s.Send(link.Change{Kind: "live", Part: "file"}); !errors.As(err, &refused) || refused.Words != "petrel: what is nonsense?" {
		t.Errorf("%v", err)
	}
	s = session("{exec: petrel load}", "{exec: petrel nonsense, done: 'what is'}")
	if err := s.Send(link.Change{Kind: "live", Part: "file"}); err != nil {
		t.Errorf("its answer shows that it is done, and yet: %v", err)
	}
	// A source.
	s = session("exec: petrel shown", "exec: cat /etc/nothing")
	if _, err := s.Fetch("loaded"); !errors.As(err, &refused) || !strings.Contains(refused.Words, "no such file") {
		t.Errorf("%v", err)
	}
	s = session("exec: petrel shown", "exec: cat /etc/nothing\n    absent: 'no such file'")
	if p, err := s.Fetch("loaded"); err != nil || !p.Absent {
		t.Errorf("%+v, %v", p, err)
	}
	// A step under make says that there is no such part.
	s = session("sha256sum /etc/petrel.conf, keep", "sha256sum /etc/nothing, keep", "exact: true", "exact: true\n    absent: 'no such file'")
	if p, err := s.Fetch("file"); err != nil || !p.Absent {
		t.Errorf("%+v, %v", p, err)
	}
	s = session("sha256sum /etc/petrel.conf, keep", "sha256sum /etc/nothing, keep")
	if _, err := s.Fetch("file"); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
	// Who it is.
	s = session("exec: petrel serial", "exec: petrel number")
	if _, err := s.Identity(); !errors.As(err, &refused) || !strings.Contains(err.Error(), "what is number?") {
		t.Errorf("%v", err)
	}
}

// TestTryShows: what patterns are held to is shown where it is not what the device sent,
// and which pattern found nothing.
func TestTryShows(t *testing.T) {
	d, err := petrel.New("workshop-k1", "PT-1", "name workshop-k1\nkeeper magpie word w\n")
	if err != nil {
		t.Fatal(err)
	}
	dia, err := dialect.Load("petrel.yaml", []byte(strings.Replace(source(t, "petrel"), `model: '^model (.+)$'`, `model: '^kind (.+)$'`, 1)))
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH},
		Trace: func(x link.Exchange) {
			if x.Err != nil {
				said = append(said, x.Sent+": "+x.Err.Error())
			}
		}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if id, err := s.Identity(); err != nil || id.Model != "" {
		t.Errorf("%+v, %v", id, err)
	}
	if len(said) != 1 || said[0] != "looking for ^kind (.+)$: no line of the answer matches" {
		t.Errorf("%q", said)
	}
}
