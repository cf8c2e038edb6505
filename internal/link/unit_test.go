package link_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"magpie/internal/core/learn"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
	"magpie/internal/sim/gannet"
)

// TestUnit: a session's device as one that things are tried out at: what it shows in
// entries, what it says to lines, and the name in its prompt that a line changes.
func TestUnit(t *testing.T) {
	d, err := curlew.New("quay-c1", "02-5e-00-00-00-01", []string{"call quay-c1", "keeper magpie word w", "pier 1", "says ticket hall, who is next?", "end"})
	if err != nil {
		t.Fatal(err)
	}
	s, err := open(t, link.Call{Dialect: shipped(t, "curlew"), Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if s.Called() != "quay-c1" {
		t.Errorf("it is called %q", s.Called())
	}
	u := s.Unit("running", s.Called())
	shows := func() []string {
		t.Helper()
		all, err := u.Shows()
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, e := range all {
			out = append(out, e.String())
		}
		return out
	}
	if got := shows(); !slices.Contains(got, "pier 1 / says ticket hall, who is next?") || !slices.Contains(got, "call quay-c1") {
		t.Errorf("%q", got)
	}
	for _, c := range []struct {
		lines   []string
		refused int
		says    string
		then    string
	}{
		{[]string{"ask 10.30.0.5", "pier 1", "says what?", "end"}, -1, "", "pier 1 / says what?"},
		{[]string{"ask 10.30.0.6", "nonsense", "ask 10.30.0.7"}, 1, "nothing was changed", "ask 10.30.0.6"},
		{[]string{"call elsewhere"}, -1, "", "call elsewhere"},
		{[]string{"call quay-c1", "strike ask 10.30.0.6"}, -1, "", "call quay-c1"},
	} {
		n, words, err := u.Types(c.lines)
		if err != nil || n != c.refused || !strings.Contains(words, c.says) {
			t.Errorf("%q: refused %d, %q, %v", c.lines, n, words, err)
		}
		if got := shows(); !slices.Contains(got, c.then) || slices.Contains(got, "ask 10.30.0.7") {
			t.Errorf("after %q: %q", c.lines, got)
		}
	}
	if later, err := u.Later(); err != nil || len(later) != len(shows()) {
		t.Errorf("%v, %v", later, err)
	}
}

// TestUnitOfBanners: a text over several lines is typed as one.
func TestUnitOfBanners(t *testing.T) {
	_, at := unit(t, mangler{})
	s, err := open(t, link.Call{Dialect: ternDialect(t), Target: at})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	u := s.Unit("running", "r1")
	n, words, err := u.Types([]string{"placard ((", "Brindle Sound", "lane quay9", "))"})
	if err != nil || n != -1 {
		t.Fatalf("%d %q %v", n, words, err)
	}
	all, err := u.Shows()
	if err != nil || slices.ContainsFunc(all, func(e learn.Entry) bool { return e.Line == "lane quay9" }) {
		t.Errorf("%v %v", all, err)
	}
}

// TestWhoHolds: whose session it is that holds a device is asked for and told.
func TestWhoHolds(t *testing.T) {
	for _, release := range []string{"1.4", "2.0"} {
		d, err := gannet.New("mast-a", "GM-1", release, `<config><mast xmlns="urn:brindle:mast"><name>mast-a</name><user><name>magpie</name><word>w</word></user><user><name>mwilks</name><word>w</word></user></mast></config>`)
		if err != nil {
			t.Fatal(err)
		}
		at := link.Target{Transport: "netconf", Address: stand(t, d), Port: box.Netconf}
		enter := func(user string) *link.Session {
			t.Helper()
			s, err := open(t, link.Call{Dialect: shipped(t, "gannet"), Target: at, Credential: link.Credential{User: user, Password: "w"}})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(s.Close)
			if _, err := s.Identity(); err != nil {
				t.Fatal(err)
			}
			return s
		}
		first, second := enter("mwilks"), enter("magpie")
		if err := first.Begin(); err != nil {
			t.Fatal(err)
		}
		var refused *link.Refused
		if err := second.Begin(); !errors.As(err, &refused) || refused.Means != "held" || refused.User != "mwilks" || !strings.Contains(refused.Words, "of mwilks") {
			t.Errorf("release %s: %v", release, err)
		}
		if err := first.Finish(); err != nil {
			t.Fatal(err)
		}
		if err := second.Begin(); err != nil {
			t.Errorf("release %s: let go, it is still held: %v", release, err)
		}
	}
}
