package retain

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC) // a Thursday

// TestJudge: what stays, by a line of versions: days ago, h for one taken by hand, ! for one
// that is protected; those that stay are named by their numbers.
func TestJudge(t *testing.T) {
	for _, c := range []struct {
		policy          Policy
		versions, stays string
	}{
		{Policy{Newest: 1}, "3 2 1 0", "4"},
		{Policy{Newest: 2}, "3 2 1 0", "3 4"},
		{Policy{Newest: 1}, "3! 2 1 0", "1 4"},
		{Policy{Newest: 1}, "3h 2h 1 0", "4"},
		{Policy{Newest: 1, ByHand: 1}, "3h 2h 1 0", "2 4"},
		{Policy{Newest: 2, ByHand: 2}, "3h 2 2 1h 1 0", "1 4 5 6"}, // those by hand push no others out
		{Policy{Newest: 1, ByHand: 10}, "9 8 7h 6 5 4 3 2 1 0", "3 10"},
		{Policy{Newest: 1, Daily: 3}, "3 2 2 1 1 0 0", "3 5 7"},
		{Policy{Newest: 1, Daily: 1}, "1 0 0", "3"},
		{Policy{Newest: 1, Weekly: 2}, "11 10 9 4 3 2 0", "4 7"}, // this week began three days ago, on Monday
		{Policy{Newest: 1, Monthly: 2}, "60 40 30 27 26 20 0", "5 7"},
		{Policy{Newest: 1, Monthly: 1}, "60 40 30 27 26 20 0", "7"},
		{Policy{Newest: 1}, "0", "1"},
		{Policy{Newest: 1}, "900", "1"},
	} {
		var versions []Version
		for i, w := range strings.Fields(c.versions) {
			days := 0
			fmt.Sscan(strings.TrimRight(w, "h!"), &days)
			v := Version{Number: i + 1, TakenAt: now.AddDate(0, 0, -days).Add(time.Duration(i) * time.Minute), ByHand: strings.Contains(w, "h")}
			if strings.Contains(w, "!") {
				v.Protected = "pinned"
			}
			versions = append(versions, v)
		}
		var stays []string
		for i, v := range Judge(c.policy, versions, now, time.UTC) {
			if v.Why == "" {
				t.Errorf("%s: %d goes or stays for no reason", c.versions, i+1)
			}
			if v.Stays {
				stays = append(stays, fmt.Sprint(i+1))
			}
		}
		if got := strings.Join(stays, " "); got != c.stays {
			t.Errorf("%+v of %s: %s stay, not %s", c.policy, c.versions, got, c.stays)
		}
	}
}

// TestWhatRanForLong: a version that ran for years until an hour ago outlives sixty changes made in a minute;
// of those, and of changes weeks ago, none stays that ran for a moment, but the last of its time.
func TestWhatRanForLong(t *testing.T) {
	hourAgo := now.Add(-time.Hour)
	versions := []Version{{Number: 1, TakenAt: now.AddDate(-6, 0, 0), RanUntil: hourAgo}}
	for n := range 60 {
		at := hourAgo.Add(time.Duration(n) * time.Second)
		versions = append(versions, Version{Number: n + 2, TakenAt: at, RanUntil: at})
	}
	for _, p := range []Policy{{Newest: 50, Monthly: 1}, {Newest: 1, Weekly: 1}, {Newest: 5, Daily: 1}} {
		got := Judge(p, versions, now, time.UTC)
		if !got[0].Stays || !strings.HasPrefix(got[0].Why, "the one that ran longest in its ") {
			t.Errorf("%+v: %+v", p, got[0])
		}
		if got[1].Stays {
			t.Errorf("%+v: %+v", p, got[1])
		}
	}
	// Where nobody asks for days, weeks or months, the number alone counts.
	if got := Judge(Policy{Newest: 50}, versions, now, time.UTC); got[0].Stays {
		t.Errorf("%+v", got[0])
	}
}

// TestProperties: whatever the history, the newest stays and all that is protected does; a
// policy that keeps more in every way loses nothing that one that keeps less has; and what stays
// once stays when it is judged again without what went.
func TestProperties(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 7))
		p := Policy{Newest: 1 + r.IntN(5), ByHand: r.IntN(4), Daily: r.IntN(10), Weekly: r.IntN(6), Monthly: r.IntN(5)}
		more := Policy{p.Newest + r.IntN(3), p.ByHand + r.IntN(3), p.Daily + r.IntN(3), p.Weekly + r.IntN(3), p.Monthly + r.IntN(3)}
		var versions []Version
		at := now.Add(-time.Duration(r.IntN(200*24)) * time.Hour)
		for n := range 1 + r.IntN(60) {
			v := Version{Number: n + 1, TakenAt: at, ByHand: r.IntN(4) == 0}
			if r.IntN(3) > 0 {
				v.RanUntil = at.Add(time.Duration(r.IntN(40*24*3600)) * time.Second)
			}
			if r.IntN(10) == 0 {
				v.Protected = "named"
			}
			versions = append(versions, v)
			at = at.Add(time.Duration(r.IntN(60*60*60)) * time.Second)
		}
		first, wider := Judge(p, versions, now, time.UTC), Judge(more, versions, now, time.UTC)
		var left []Version
		for i, v := range versions {
			if (v.Protected != "" || i == len(versions)-1) && !first[i].Stays {
				t.Fatalf("seed %d: %d goes", seed, v.Number)
			}
			if first[i].Stays && !wider[i].Stays {
				t.Fatalf("seed %d: %d stays by %+v and goes by %+v", seed, v.Number, p, more)
			}
			if first[i].Stays {
				left = append(left, v)
			}
		}
		again := Judge(p, left, now, time.UTC)
		if i := slices.IndexFunc(again, func(v Verdict) bool { return !v.Stays }); i >= 0 {
			t.Fatalf("seed %d: %d stayed, and goes a second time", seed, left[i].Number)
		}
	}
}

// TestSound: a policy that says nothing sensible is told so.
func TestSound(t *testing.T) {
	for _, p := range []Policy{{}, {Newest: -1}, {Newest: 1, Daily: -1}, {Newest: 200_000}} {
		if p.Sound() == nil {
			t.Errorf("%+v passes", p)
		}
	}
	if err := Default.Sound(); err != nil {
		t.Error(err)
	}
}
