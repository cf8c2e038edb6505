package ref

import (
	"errors"
	"strings"
	"testing"
	"time"
)

// now is when the tests read.
var now = time.Date(2026, 11, 29, 10, 30, 0, 0, time.UTC)

func TestParseVersion(t *testing.T) {
	faroe := time.FixedZone("WET", 0)
	east := time.FixedZone("EET", 2*3600)
	for _, c := range []struct {
		in   string
		zone *time.Location
		want string // as printed; empty: an error
		says string
	}{
		{"r1", faroe, "r1@latest", ""},
		{"r1/startup", faroe, "r1/startup@latest", ""},
		{"r1@17", faroe, "r1@17", ""},
		{"r1@previous", faroe, "r1@previous", ""},
		{"r1@as-built", faroe, "r1@as-built", ""},
		{"r1/running@live", faroe, "r1@live", ""},
		{"r1@2026-11-20", east, "r1@2026-11-20[EET]", ""},
		{"r1@2026-11-20T10:00", east, "r1@2026-11-20T08:00:00Z", ""},
		{"r1@2026-11-20T10:00Z", east, "r1@2026-11-20T10:00:00Z", ""},
		{"r1@2026-11-20 10:00", east, "r1@2026-11-20T08:00:00Z", ""}, // as it is printed
		{"r1@2026-11-20 10:00 UTC", east, "r1@2026-11-20T10:00:00Z", ""},
		{"r1@2026-11-20 10:00:30+01:00", east, "r1@2026-11-20T09:00:30Z", ""},
		{"r1@2026-11-20 10:00 CET", east, "", "is no time"},
		{"r1@2026-11-20  10:00", east, "", "is no time"},
		{"r1@2026-11-20T10:00:30+01:00", east, "r1@2026-11-20T09:00:30Z", ""},
		{"r1@first", faroe, "r1@first", ""},
		{"r1@yesterday", east, "r1@2026-11-28T21:59:59.999999999Z", ""},
		{"r1@today", faroe, "r1@2026-11-29T23:59:59.999999999Z", ""},
		{"r1@last saturday", faroe, "r1@2026-11-28T23:59:59.999999999Z", ""},
		{"r1@last-Sunday", faroe, "r1@2026-11-22T23:59:59.999999999Z", ""}, // today is one, too
		{"r1@last-monday[Atlantic/Faroe]", east, "r1@2026-11-23T23:59:59.999999999Z", ""},
		{"r1@last-day", faroe, "r1@last-day", ""},
		{"r1@-7d", faroe, "r1@2026-11-22T10:30:00Z", ""},
		{"r1@-90m", faroe, "r1@2026-11-29T09:00:00Z", ""},
		{"r1@-2w[Atlantic/Faroe]", east, "r1@2026-11-15T10:30:00Z", ""},
		{"r1@-40d[Atlantic/Faroe]", east, "r1@2026-10-20T09:30:00Z", ""}, // the same time of day, before clocks went back
		{"r1@2026-07-20T10:00[Atlantic/Faroe]", east, "r1@2026-07-20T09:00:00Z", ""},
		{"r1@2026-07-20[Atlantic/Faroe]", east, "r1@2026-07-20[Atlantic/Faroe]", ""},
		{"r1@2026-07-20T10:00+01:00[Atlantic/Faroe]", east, "r1@2026-07-20T09:00:00Z", ""},
		{"r1@2026-07-20T10:00+02:00[Atlantic/Faroe]", east, "", "contradicts itself"},
		{"r1@2026-07-20T10:00[Atlantic/Faro]", east, "", "is not known"},
		{"r1@-7", faroe, "", "versions count from 1"},
		{"r1@-7y", faroe, "", "count back in minutes"},
		{"r1@-99999999999999999999d", faroe, "", "too far back"},
		{"r1@", faroe, "", "nothing follows the @"},
		{"r1@0", faroe, "", "versions count from 1"},
		{"r1@imported:2026-11-20T10:00", east, "r1@imported:2026-11-20T08:00:00Z", ""},
		{"r1@imported:2026-11-20", faroe, "r1@imported:2026-11-20T23:59:59.999999999Z", ""},
		{"r1@imported:2026-13-20", faroe, "", "is no time"},
		{"r1@imported:from home", faroe, "r1@imported:from home", ""},
		{"r1~01ABCDEF@3", faroe, "r1~01ABCDEF@3", ""},
		{"r1~01@3", faroe, "", "cannot be a device's name"},
		{"r1@2026-13-20", faroe, "", "is no time"},
		{"r 1", faroe, "", "cannot be a device's name"},
		{"r1/Run ning", faroe, "", "is no part"},
		{"r1@<x>", faroe, "", "cannot be a version's name"},
		{"", faroe, "", "cannot be a device's name"},
	} {
		v, err := ParseVersion(c.in, Here{c.zone, now})
		switch {
		case c.want == "" && (err == nil || !strings.Contains(err.Error(), c.says)):
			t.Errorf("%q: %v, %v", c.in, v, err)
		case c.want != "" && (err != nil || v.String() != c.want):
			t.Errorf("%q: %s, %v, want %s", c.in, v, err, c.want)
		}
	}
}

func TestSelector(t *testing.T) {
	d := Subject{Name: "quay-sw1", Site: "skerrinsay", Kind: "switch", Dialect: "plover", State: "drifted", Tags: []string{"core", "edge"}}
	for words, want := range map[string]bool{
		"quay-*": true, "quay-sw1": true, "quay-sw2": false, "site=skerrinsay": true, "site=skerrinsay kind=router": false,
		"tag=core": true, "tag=lab": false, "tag=lab tag=edge": true, "quay-sw2 quay-sw1": true, "state=drifted dialect=pl?ver": true,
	} {
		s, err := ParseSelector([]string{words})
		if err != nil || s.Match(d) != want {
			t.Errorf("%q picks it: %v, %v", words, !want, err)
		}
	}
	for words, says := range map[string]string{"colour=red": "is no key", "name=[": "is no pattern", "site=": "is no pattern", "": "empty", "  ": "empty", "all tag=core": "nothing can stand beside it",
		"sites=quay": "did you mean site?"} {
		if _, err := ParseSelector([]string{words}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", words, err)
		}
	}
	if s, _ := ParseSelector([]string{"a", "b"}); len(s.Exact()) != 2 {
		t.Errorf("exact: %v", s.Exact())
	}
	if s, _ := ParseSelector([]string{"a", "b*"}); s.Exact() != nil || len(s.Names()) != 1 {
		t.Errorf("not exact: %v %v", s.Exact(), s.Names())
	}
}

// TestNothingIsChosenByAccident: no words, empty words and the zero selector pick
// nobody; the whole fleet has a word of its own, which is no name.
func TestNothingIsChosenByAccident(t *testing.T) {
	d := Subject{Name: "quay-sw1", Site: "skerrinsay", State: "never pulled"}
	for _, words := range [][]string{nil, {}, {""}, {"quay-sw1", ""}, {" "}, {"\t"}} {
		if s, err := ParseSelector(words); !errors.Is(err, ErrNoSelector) || s.Match(Subject{}) {
			t.Errorf("%q: %v", words, err)
		}
	}
	if (Selector{}).Match(d) || (Selector{}).All() {
		t.Error("the zero selector picks")
	}
	if s, err := ParseSelector([]string{"all"}); err != nil || !s.Match(d) || !All().Match(d) {
		t.Errorf("all: %v", err)
	}
	if DeviceName("all") == nil {
		t.Error("a device can be named all")
	}
	if s, err := ParseSelector([]string{"state=never-pulled"}); err != nil || !s.Match(d) || s.Known("state", []string{"never pulled"}) != nil {
		t.Errorf("a state with a blank: %v", err)
	}
	if s, _ := ParseSelector([]string{"state=in-syn"}); s.Known("state", []string{"in sync", "drifted"}) == nil || !strings.Contains(s.Known("state", []string{"in sync", "drifted"}).Error(), "did you mean in-sync?") {
		t.Error("a state that there is not is taken")
	}
	fleet := []Subject{d, {Name: "skerrinsay-r1", Site: "skerrinsay", Tags: []string{"edge"}}}
	for words, want := range map[string]string{"skerinsay-r1": "skerinsay-r1 did you mean skerrinsay-r1?", "site=skerinsay": "site=skerinsay did you mean skerrinsay?", "quay-* tag=egde": "tag=egde did you mean edge?",
		"state=drifted": " ", "quay-sw1 site=skerrinsay": " ", "name=x*": "x* "} {
		s, err := ParseSelector([]string{words})
		if err != nil {
			t.Fatal(err)
		}
		if word, meant := s.Nobody(fleet); word+" "+meant != want {
			t.Errorf("%q: %q %q, want %q", words, word, meant, want)
		}
	}
}

// TestNear: a slip is found, and nothing is guessed where nothing is like it.
func TestNear(t *testing.T) {
	names := []string{"skerrinsay-r1", "skerrinsay-r2", "innisquill-r1", "control-f1", "baseline"}
	for word, want := range map[string]string{"skerinsay-r1": "skerrinsay-r1", "control": "control-f1", "SKERRINSAY-R2": "skerrinsay-r2", "basline": "baseline", "baesline": "baseline", "": "", "zzz": "", "r1": ""} {
		got := Near(word, names)
		if want == "" && len(got) > 0 || want != "" && (len(got) == 0 || got[0] != want) {
			t.Errorf("%q: %v, want %q", word, got, want)
		}
	}
}

func FuzzParseSelector(f *testing.F) {
	f.Add("site=a tag=b*", "x")
	f.Fuzz(func(t *testing.T, a, b string) {
		s, err := ParseSelector([]string{a, b})
		if err != nil {
			return
		}
		if strings.TrimSpace(a) == "" || strings.TrimSpace(b) == "" {
			t.Errorf("%q %q is taken", a, b)
		}
		if s.Match(Subject{}) && !s.All() && !strings.ContainsAny(a+b, "*?[") {
			t.Errorf("%q %q picks what has no name", a, b)
		}
	})
}

func FuzzParseVersion(f *testing.F) {
	f.Add("r1/startup@2026-11-20T10:00")
	f.Fuzz(func(t *testing.T, s string) {
		v, err := ParseVersion(s, Here{time.UTC, now})
		if err != nil {
			return
		}
		again, err := ParseVersion(v.String(), Here{time.UTC, now})
		if err != nil || again.String() != v.String() {
			t.Errorf("%q is printed as %q, which is read as %q, %v", s, v, again, err)
		}
	})
}

// TestUntil: a time to come, by the calendar where days are counted.
func TestUntil(t *testing.T) {
	zone, err := Zone("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	here := Here{zone, time.Date(2026, 3, 28, 12, 0, 0, 0, zone)} // a day before the clocks go forward
	for s, want := range map[string]string{"1d": "2026-03-29T12:00:00+02:00", "+2w": "2026-04-11T12:00:00+02:00", "24h": "2026-03-29T13:00:00+02:00", "90m": "2026-03-28T13:30:00+01:00", "2026-04-01": "2026-04-01T23:59:59+02:00", "2026-04-01T10:00": "2026-04-01T10:00:00+02:00"} {
		if at, err := ParseUntil(s, here); err != nil || at.Format(time.RFC3339) != want {
			t.Errorf("%s is %s, %v; want %s", s, at.Format(time.RFC3339), err, want)
		}
	}
	for _, s := range []string{"soon", "14", "d", "14y", "", "99999999d"} {
		if at, err := ParseUntil(s, here); err == nil {
			t.Errorf("%q was taken as %s", s, at)
		}
	}
}
