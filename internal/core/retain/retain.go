// Package retain says which versions of a part stay and which may go, and by what rule.
package retain

import (
	"fmt"
	"slices"
	"time"
)

// Policy is for how long versions stay. The newest always does.
type Policy struct {
	Newest  int // so many of those that were taken by themselves
	ByHand  int // so many of those that a person asked for; they count for nothing else
	Daily   int // the last one of each day, and the one that ran longest in it, for so many days
	Weekly  int // of each week (Monday to Sunday, ISO 8601), for so many weeks
	Monthly int // of each month, for so many months
}

// Default is what holds where nothing else is said.
var Default = Policy{Newest: 50, ByHand: 50, Daily: 60, Weekly: 53, Monthly: 60}

// Sound tells what of a policy makes no sense.
func (p Policy) Sound() error {
	for _, x := range []struct {
		what string
		n    int
	}{{"newest", p.Newest}, {"by hand", p.ByHand}, {"daily", p.Daily}, {"weekly", p.Weekly}, {"monthly", p.Monthly}} {
		if x.n < 0 || x.n > 100_000 {
			return fmt.Errorf("%s is %d; it takes 0 to 100000", x.what, x.n)
		}
	}
	if p.Newest < 1 {
		return fmt.Errorf("newest is 0; the newest version always stays, so it takes 1 at least")
	}
	return nil
}

// String writes a policy as people read it.
func (p Policy) String() string {
	return fmt.Sprintf("the newest %d, one a day for %d days, one a week for %d weeks, one a month for %d months; %d taken by hand", p.Newest, p.Daily, p.Weekly, p.Monthly, p.ByHand)
}

// Version is what counts of one for that.
type Version struct {
	Number    int
	TakenAt   time.Time
	RanUntil  time.Time // when it was last seen to run; not after TakenAt: it was seen once, or never ran
	ByHand    bool
	Protected string // why it stays whatever the policy says; empty: nothing does
}

// Verdict is whether a version stays, and why.
type Verdict struct {
	Stays bool
	Why   string
}

// Judge says of each version of a part whether it stays; in the order of the versions. Days,
// weeks and months are those of zone.
func Judge(p Policy, versions []Version, now time.Time, zone *time.Location) []Verdict {
	out := make([]Verdict, len(versions))
	order := make([]int, len(versions)) // newest first
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return versions[b].Number - versions[a].Number })
	stays := func(i int, why string) {
		if !out[i].Stays {
			out[i] = Verdict{true, why}
		}
	}
	automatic, byHand := 0, 0
	type span struct {
		n    int
		key  func(t time.Time) string
		next func(t time.Time) time.Time // the beginning of the one after that of t
		from time.Time
		why  string
		seen map[string]bool
	}
	midnight := func(t time.Time, days int) time.Time {
		return time.Date(t.Year(), t.Month(), t.Day()+days, 0, 0, 0, 0, zone)
	}
	local := now.In(zone)
	today := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, zone)
	spans := []span{
		{p.Daily, func(t time.Time) string { return t.Format("2006-01-02") },
			func(t time.Time) time.Time { return midnight(t, 1) }, today.AddDate(0, 0, 1-p.Daily), "day", map[string]bool{}},
		{p.Weekly, func(t time.Time) string { y, w := t.ISOWeek(); return fmt.Sprint(y, " ", w) },
			func(t time.Time) time.Time { return midnight(t, 7-(int(t.Weekday())+6)%7) }, today.AddDate(0, 0, -(int(today.Weekday())+6)%7-7*(p.Weekly-1)), "week", map[string]bool{}},
		{p.Monthly, func(t time.Time) string { return t.Format("2006-01") },
			func(t time.Time) time.Time { return time.Date(t.Year(), t.Month()+1, 1, 0, 0, 0, 0, zone) }, time.Date(local.Year(), local.Month()-time.Month(max(p.Monthly-1, 0)), 1, 0, 0, 0, 0, zone), "month", map[string]bool{}},
	}
	for rank, i := range order {
		v := versions[i]
		if v.Protected != "" {
			stays(i, v.Protected)
		}
		if rank == 0 {
			stays(i, "the newest")
		}
		if v.ByHand {
			if byHand++; byHand <= p.ByHand {
				stays(i, fmt.Sprintf("one of the newest %d taken by hand", p.ByHand))
			}
		} else if automatic++; automatic <= p.Newest {
			stays(i, fmt.Sprintf("one of the newest %d", p.Newest))
		}
		at := v.TakenAt.In(zone)
		for _, s := range spans {
			if s.n == 0 || at.Before(s.from) {
				continue
			}
			if k := s.key(at); !s.seen[k] {
				s.seen[k] = true
				stays(i, "the last of its "+s.why)
			}
		}
	}
	// What ran for long and was changed a moment ago is worth more than what came in between.
	for _, s := range spans {
		type most struct {
			i   int
			ran time.Duration
		}
		longest := map[string]most{}
		for _, i := range order {
			v := versions[i]
			for t, until := latest(v.TakenAt, s.from).In(zone), v.RanUntil; s.n > 0 && t.Before(until); {
				end := s.next(t)
				ran, k := min(until.Sub(t), end.Sub(t)), s.key(t)
				if ran > longest[k].ran {
					longest[k] = most{i, ran}
				}
				t = end
			}
		}
		for _, m := range longest {
			stays(m.i, "the one that ran longest in its "+s.why)
		}
	}
	for i := range out {
		if !out[i].Stays {
			out[i].Why = fmt.Sprintf("beyond %s", p)
		}
	}
	return out
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
