// Package when works out when what comes again is due: "daily 02:00" in a zone, over
// the days on which clocks change there.
//
// A rule is one line:
//
//	once 2026-11-30 22:00
//	every 30m                      or 6h, 2d: counted in elapsed time
//	daily 02:00                    or 02:00,14:00
//	weekly mon,thu 02:00
//	monthly 1,15 02:00             or last; a day that a month lacks is its last
//	yearly 11-30 02:00
//	cron 0 2 * * 1-5               minute, hour, day, month, day of the week (0 is Sunday)
//
// A time of day that is left out when clocks go forward is made up as much later as
// they do; one that comes twice when they go back counts once, the first time, unless
// the line is due in every hour anyway.
package when

import (
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"magpie/internal/core"
)

// ErrRule is returned for a line that is no rule.
var ErrRule = errors.New("that is no time to be due")

// Forms are how a rule can be written, for whoever wrote it otherwise.
var Forms = []string{"once 2026-11-30 22:00", "every 30m", "daily 02:00", "weekly mon,thu 02:00", "monthly 1,last 02:00", "yearly 11-30 02:00", "cron 0 2 * * 1-5"}

// Rule says when something is due.
type Rule struct {
	text  string
	zone  *time.Location
	from  time.Time     // what every is counted from
	every time.Duration // in elapsed time; 0: by the clock on the wall
	walls func(after time.Time) time.Time
	each  bool // it is due in both passes of an hour that comes twice
}

// String is the rule's line, as it is written best.
func (r Rule) String() string { return r.text }

// Zone is in which its times of day are meant.
func (r Rule) Zone() *time.Location { return r.zone }

// Parse reads a rule. Its times are meant in a zone; what is counted in elapsed time
// is counted from the beginning of the day of from there.
func Parse(line string, zone *time.Location, from time.Time) (Rule, error) {
	no := func(format string, args ...any) (Rule, error) {
		return Rule{}, fmt.Errorf("%w: %q: %s; it is one of: %s", ErrRule, line, fmt.Sprintf(format, args...), strings.Join(Forms, " · "))
	}
	words := strings.Fields(strings.ToLower(line))
	if len(words) == 0 {
		return no("it is empty")
	}
	y, m, d := from.In(zone).Date()
	r := Rule{zone: zone, from: time.Date(y, m, d, 0, 0, 0, 0, zone)}
	form, words := words[0], words[1:]
	needs := map[string]int{"every": 1, "daily": 1, "weekly": 2, "monthly": 2, "yearly": 2, "cron": 5}
	if form == "once" {
		words = strings.Fields(strings.Replace(strings.Join(words, " "), "t", " ", 1))
		needs[form] = 2
	}
	n, known := needs[form]
	if !known {
		return no("it does not begin with once, every, daily, weekly, monthly, yearly or cron")
	}
	if len(words) != n {
		return no("%s takes %d words after it, and there are %d", form, n, len(words))
	}
	var times []time.Duration
	var err error
	if form != "every" && form != "cron" {
		if times, words[n-1], err = clockTimes(words[n-1]); err != nil {
			return no("%v", err)
		}
	}
	r.text = form + " " + strings.Join(words, " ")
	on := func(fits func(day time.Time) bool) {
		r.walls = func(after time.Time) time.Time { return nextOn(after, fits, times) }
	}
	switch form {
	case "once":
		day, err := time.Parse("2006-01-02", words[0])
		if err != nil || len(times) != 1 {
			return no("after once stands one day and one time, as 2026-11-30 22:00")
		}
		at := day.Add(times[0])
		r.walls = func(after time.Time) time.Time {
			if at.After(after) {
				return at
			}
			return time.Time{}
		}
	case "every":
		if r.every, err = ParseSpan(words[0]); err != nil {
			return no("%v", err)
		}
		if r.every < time.Minute || r.every%time.Minute != 0 || r.every > 366*24*time.Hour {
			return no("every takes whole minutes, at least one, at most a year")
		}
		r.text = "every " + Span(r.every)
	case "daily":
		on(func(time.Time) bool { return true })
	case "weekly":
		days, said, err := weekdays(words[0])
		if err != nil {
			return no("%v", err)
		}
		r.text = "weekly " + said + " " + words[1]
		on(func(day time.Time) bool { return slices.Contains(days, day.Weekday()) })
	case "monthly":
		days, err := monthDays(words[0])
		if err != nil {
			return no("%v", err)
		}
		on(func(day time.Time) bool {
			last := day.AddDate(0, 0, 1).Month() != day.Month()
			return slices.ContainsFunc(days, func(d int) bool { return d == day.Day() || last && d > day.Day() })
		})
	case "yearly":
		date, err := time.Parse("2006-01-02", "2024-"+words[0])
		if err != nil {
			return no("a day of the year is month and day, as 11-30")
		}
		on(func(day time.Time) bool {
			leaps := date.Month() == time.February && date.Day() == 29 && day.Day() == 28 && day.AddDate(0, 0, 1).Month() == time.March
			return day.Month() == date.Month() && (day.Day() == date.Day() || leaps)
		})
	case "cron":
		spec, err := cron.ParseStandard(strings.Join(words, " "))
		if err != nil {
			return no("%v", err)
		}
		r.walls = spec.Next
		if s, ok := spec.(*cron.SpecSchedule); ok {
			s.Location = time.UTC // a wall has no zone
			r.each = bits.OnesCount64(s.Hour&(1<<24-1)) == 24
		}
		if spec.Next(from.UTC()).IsZero() {
			return no("no day is like that")
		}
	}
	return r, nil
}

// Next returns when it is due next after a time; the zero time: never again.
func (r Rule) Next(after time.Time) (next time.Time) {
	if r.every > 0 {
		gone := after.Sub(r.from)
		n := gone / r.every
		if gone < 0 && gone%r.every != 0 {
			n--
		}
		return r.from.Add((n + 1) * r.every).In(r.zone)
	}
	const shift = 3 * time.Hour // clocks change by less
	for w := r.walls(wall(after.In(r.zone)).Add(-shift)); !w.IsZero(); w = r.walls(w) {
		if !next.IsZero() && w.After(wall(next).Add(shift)) {
			break
		}
		for _, at := range r.instants(w) {
			if at.After(after) && (next.IsZero() || at.Before(next)) {
				next = at
			}
		}
	}
	return next
}

// Last returns when it was due last after one time and up to another; the zero time:
// never between them.
func (r Rule) Last(after, until time.Time) (last time.Time) {
	for back := time.Minute; ; back *= 2 { // from the end, in steps that grow
		from := until.Add(-back)
		if from.Before(after) {
			from = after
		}
		if at := r.Next(from); !at.IsZero() && !at.After(until) {
			for ; !at.IsZero() && !at.After(until); at = r.Next(at) {
				last = at
			}
			return last
		}
		if !from.After(after) {
			return last
		}
	}
}

// Count tells how often it was due after one time and up to another, as far as most.
func (r Rule) Count(after, until time.Time, most int) (n int) {
	for at := r.Next(after); n < most && !at.IsZero() && !at.After(until); at = r.Next(at) {
		n++
	}
	return n
}

// wall is what a clock on the wall shows, as if it were in UTC.
func wall(t time.Time) time.Time {
	_, off := t.Zone()
	return t.UTC().Add(time.Duration(off) * time.Second)
}

// instants are when a clock on the wall shows a time: once as a rule. One that it leaves
// out is as much later as the clock is put forward.
func (r Rule) instants(w time.Time) (out []time.Time) {
	before, after := r.offset(w.Add(-24*time.Hour)), r.offset(w.Add(24*time.Hour))
	for _, off := range []time.Duration{max(before, after), min(before, after)} { // the greater is the earlier
		if at := w.Add(-off).In(r.zone); wall(at).Equal(w) && !slices.ContainsFunc(out, at.Equal) {
			out = append(out, at)
		}
	}
	if len(out) == 0 {
		return []time.Time{w.Add(-before).In(r.zone)}
	}
	if !r.each {
		out = out[:1]
	}
	return out
}

func (r Rule) offset(at time.Time) time.Duration {
	_, off := at.In(r.zone).Zone()
	return time.Duration(off) * time.Second
}

// nextOn is the next of some times of day on days that fit, on a wall.
func nextOn(after time.Time, fits func(time.Time) bool, times []time.Duration) time.Time {
	day := after.Truncate(24 * time.Hour)
	for range 9 * 366 { // the 29th of February may be eight years away
		if fits(day) {
			for _, t := range times {
				if at := day.Add(t); at.After(after) {
					return at
				}
			}
		}
		day = day.AddDate(0, 0, 1)
	}
	return time.Time{}
}

// clockTimes reads times of day, and writes them as they are written best.
func clockTimes(word string) (times []time.Duration, said string, err error) {
	for _, w := range strings.Split(word, ",") {
		t, err := time.Parse("15:04", w)
		if err != nil {
			return nil, word, fmt.Errorf("%q is no time of day, as 02:00", w)
		}
		times = append(times, time.Duration(t.Hour())*time.Hour+time.Duration(t.Minute())*time.Minute)
	}
	slices.Sort(times)
	times = slices.Compact(times)
	var all []string
	for _, t := range times {
		all = append(all, fmt.Sprintf("%02d:%02d", t/time.Hour, t%time.Hour/time.Minute))
	}
	return times, strings.Join(all, ","), nil
}

var dayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

func weekdays(word string) (days []time.Weekday, said string, err error) {
	var all []int
	for _, w := range strings.Split(word, ",") {
		i := slices.IndexFunc(dayNames, func(n string) bool {
			return w == n || len(w) > 3 && strings.HasPrefix(strings.ToLower(time.Weekday((slices.Index(dayNames, n)+1)%7).String()), w)
		})
		if i < 0 {
			return nil, "", fmt.Errorf("%q is no day of the week, as mon or sat", w)
		}
		all = append(all, i)
	}
	slices.Sort(all)
	var names []string
	for _, i := range slices.Compact(all) {
		days = append(days, time.Weekday((i+1)%7))
		names = append(names, dayNames[i])
	}
	return days, strings.Join(names, ","), nil
}

func monthDays(word string) (days []int, err error) {
	for _, w := range strings.Split(word, ",") {
		if w == "last" {
			w = "31"
		}
		d, err := strconv.Atoi(w)
		if err != nil || d < 1 || d > 31 {
			return nil, fmt.Errorf("%q is no day of a month: 1 to 31, or last", w)
		}
		days = append(days, d)
	}
	return days, nil
}

// ParseSpan reads a length of time: 30m, 6h, 2d, 1d12h.
func ParseSpan(word string) (time.Duration, error) {
	days, rest, found := strings.Cut(word, "d")
	if !found {
		days, rest = "0", word
	}
	n, err := strconv.Atoi(days)
	var d time.Duration
	if rest != "" && err == nil {
		d, err = time.ParseDuration(rest)
	}
	if err != nil || n < 0 || d < 0 || n > 3660 {
		return 0, fmt.Errorf("%q is no length of time, as 30m, 6h or 2d", word)
	}
	return time.Duration(n)*24*time.Hour + d, nil
}

// Span writes a length of time as ParseSpan reads it.
func Span(d time.Duration) (out string) {
	if n := d / (24 * time.Hour); n > 0 {
		out = fmt.Sprintf("%dd", n)
		if d %= 24 * time.Hour; d == 0 {
			return out
		}
	}
	return out + core.Span(d)
}
