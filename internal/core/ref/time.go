package ref

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Here is where and when somebody reads: the zone in which times are meant that say none, and
// the moment that yesterday and -7d are counted from.
type Here struct {
	Zone *time.Location
	Now  time.Time
}

// In is the moment of a clock, read in a zone.
func In(zone *time.Location, clock func() time.Time) Here { return Here{zone, clock()} }

// days are words for days.
var days = []string{"today", "yesterday"}

var (
	looksTimed = once(`^\d{4}-\d\d`)
	dated      = once(`^\d{4}-\d\d-\d\d$`)
	backwards  = once(`^-\d+[a-z]*$`)
	onwards    = once(`^\+?\d+[mhdw]$`)
	weekdays   = once(`(?i)^last[ -](mon|tues|wednes|thurs|fri|satur|sun)day$`)
)

// isTime tells whether a word is meant as a time, rightly written or not.
func isTime(s string) bool {
	s, _ = inBrackets(s)
	return looksTimed().MatchString(s) || backwards().MatchString(s) || weekdays().MatchString(s) || slices.Contains(days, s)
}

// inBrackets takes the name of a zone off a time, as RFC 9557 §3.1 writes it:
// 2026-11-20T10:00[Atlantic/Faroe].
func inBrackets(s string) (rest, zone string) {
	if i := strings.IndexByte(s, '['); i > 0 && strings.HasSuffix(s, "]") {
		return s[:i], s[i+1 : len(s)-1]
	}
	return s, ""
}

// ParseTime reads a time: 2026-11-20T10:00Z, with an offset or Z (RFC 3339), with the name of a
// zone in brackets (RFC 9557), or without, which means here's; a blank is as good as the T, UTC as
// Z. 2026-11-20, today, yesterday and last tuesday (the last one before today) mean the end of that day; -7d is that many days ago by the
// calendar, -90m, -12h and -2w alike.
func ParseTime(s string, here Here) (time.Time, error) {
	at, isDay, err := parse(s, here)
	if isDay {
		at = at.AddDate(0, 0, 1).Add(-time.Nanosecond)
	}
	return at, err
}

// ParseSince reads a time from which on something is meant: as ParseTime does, but a day means
// its beginning.
func ParseSince(s string, here Here) (time.Time, error) {
	at, _, err := parse(s, here)
	return at, err
}

// ParseUntil reads a time to which something holds: as ParseTime does, and 14d is that many days from now by
// the calendar, 90m, 12h and 2w alike.
func ParseUntil(s string, here Here) (time.Time, error) {
	if !onwards().MatchString(s) {
		at, err := ParseTime(s, here)
		if err != nil && !isTime(s) {
			err = fmt.Errorf("%q is no time; write 2026-12-24, 2026-12-24T10:00, 2026-12-24T10:00Z, or 14d for so many days from now", s)
		}
		return at, err
	}
	back, err := ago("-"+strings.TrimPrefix(s, "+"), here.Now)
	if err != nil {
		return back, err
	}
	switch digits := strings.TrimLeft(s[:len(s)-1], "+"); s[len(s)-1] {
	case 'd', 'w': // so many days of the calendar, however long they are
		n, _ := strconv.Atoi(digits)
		if s[len(s)-1] == 'w' {
			n *= 7
		}
		return here.Now.In(here.Zone).AddDate(0, 0, n), nil
	}
	return here.Now.Add(here.Now.Sub(back)), nil
}

// parse reads a time, or a day, as its beginning.
func parse(s string, here Here) (at time.Time, isDay bool, err error) {
	raw, named := inBrackets(s)
	zone := here.Zone
	if named != "" {
		if zone, err = Zone(named); err != nil {
			return at, false, fmt.Errorf("%q is no time: %w", s, err)
		}
	}
	now := here.Now.In(zone)
	if m := weekdays().FindStringSubmatch(raw); m != nil {
		for back := 1; ; back++ {
			day := time.Date(now.Year(), now.Month(), now.Day()-back, 0, 0, 0, 0, zone)
			if strings.EqualFold(day.Weekday().String(), m[1]+"day") {
				return day, true, nil
			}
		}
	}
	// As it is printed: a blank in the place of the T, which RFC 3339 §5.6 leaves to us, and UTC in that of Z.
	if day, clock, blank := strings.Cut(raw, " "); blank {
		if at, utc := strings.CutSuffix(clock, " UTC"); utc {
			clock = at + "Z"
		}
		raw = day + "T" + clock
	}
	if i := slices.Index(days, raw); i >= 0 {
		return time.Date(now.Year(), now.Month(), now.Day()-i, 0, 0, 0, 0, zone), true, nil
	}
	if backwards().MatchString(raw) {
		at, err = ago(raw, now)
		return at, false, err
	}
	if day, err := time.ParseInLocation(time.DateOnly, raw, zone); err == nil {
		return day, true, nil
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04Z07:00"} {
		if at, err := time.Parse(form, raw); err == nil {
			return at, false, agrees(at, s, named, zone)
		}
	}
	for _, form := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if at, err := time.ParseInLocation(form, raw, zone); err == nil {
			return at, false, nil
		}
	}
	return at, false, fmt.Errorf("%q is no time; write 2026-11-20, 2026-11-20T10:00, 2026-11-20T10:00Z, yesterday, last tuesday or -7d", s)
}

// agrees tells whether an offset is one that a zone named besides has then (RFC 9557 §3.4).
func agrees(at time.Time, s, named string, zone *time.Location) error {
	if named == "" || strings.Contains(s, "Z[") { // Z says nothing of where it was
		return nil
	}
	_, said := at.Zone()
	if _, is := at.In(zone).Zone(); is != said {
		return fmt.Errorf("%q contradicts itself: %s was %s off UTC then", s, named, at.In(zone).Format("-07:00"))
	}
	return nil
}

// ago counts back from now.
func ago(raw string, now time.Time) (time.Time, error) {
	digits := strings.TrimLeft(strings.TrimRight(raw, "abcdefghijklmnopqrstuvwxyz"), "-")
	n, err := strconv.Atoi(digits)
	if err != nil || n > 1_000_000 {
		return time.Time{}, fmt.Errorf("%q is no time: it is too far back", raw)
	}
	switch strings.TrimLeft(raw, "-0123456789") {
	case "m":
		return now.Add(-time.Duration(n) * time.Minute), nil
	case "h":
		return now.Add(-time.Duration(n) * time.Hour), nil
	case "d":
		return now.AddDate(0, 0, -n), nil
	case "w":
		return now.AddDate(0, 0, -7*n), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; count back in minutes, hours, days or weeks: -90m, -12h, -7d, -2w", raw)
}

// Zone finds a time zone by its name in the IANA database.
func Zone(name string) (*time.Location, error) {
	if zone, err := time.LoadLocation(name); err == nil && name != "Local" && name != "" {
		return zone, nil
	}
	return nil, fmt.Errorf("zone %q is not known; write it as the IANA time zone database does, like Atlantic/Faroe", name)
}
