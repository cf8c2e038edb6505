package when

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

const layout = "2006-01-02 15:04 -07"

// TestNext reads the next times of rules as an engineer would write them down, over the
// days on which clocks change.
func TestNext(t *testing.T) {
	for _, c := range []struct{ rule, zone, after, next string }{
		{"daily 02:00", "UTC", "2026-11-26 08:00", "2026-11-27 02:00 +00, 2026-11-28 02:00 +00"},
		{"daily 14:00, 02:00", "UTC", "2026-11-26 08:00", "error"},
		{"daily 14:00,02:00", "UTC", "2026-11-26 08:00", "2026-11-26 14:00 +00, 2026-11-27 02:00 +00"},
		{"once 2026-11-30T22:00", "Atlantic/Faroe", "2026-11-26 08:00", "2026-11-30 22:00 +00, never"},
		{"Weekly Monday,thu 2:00", "UTC", "2026-11-26 08:00", "2026-11-30 02:00 +00, 2026-12-03 02:00 +00"},
		{"monthly 31 02:00", "UTC", "2027-01-30 08:00", "2027-01-31 02:00 +00, 2027-02-28 02:00 +00, 2027-03-31 02:00 +00, 2027-04-30 02:00 +00"},
		{"monthly 30,last 02:00", "UTC", "2027-01-29 08:00", "2027-01-30 02:00 +00, 2027-01-31 02:00 +00, 2027-02-28 02:00 +00, 2027-03-30 02:00 +00"},
		{"yearly 02-29 02:00", "UTC", "2027-01-30 08:00", "2027-02-28 02:00 +00, 2028-02-29 02:00 +00, 2029-02-28 02:00 +00"},
		{"cron 0 2 * * 1-5", "UTC", "2026-11-27 08:00", "2026-11-30 02:00 +00, 2026-12-01 02:00 +00"},
		{"every 6h", "UTC", "2026-11-26 08:00", "2026-11-26 12:00 +00, 2026-11-26 18:00 +00"},
		{"every 90m", "UTC", "2026-11-26 08:00", "2026-11-26 09:00 +00, 2026-11-26 10:30 +00"},
		// Clocks forward at 01:00 to 02:00, and back at 02:00 to 01:00.
		{"daily 01:30", "Atlantic/Faroe", "2027-03-27 12:00", "2027-03-28 02:30 +01, 2027-03-29 01:30 +01"},
		{"daily 01:30,02:30", "Atlantic/Faroe", "2027-03-27 12:00", "2027-03-28 02:30 +01, 2027-03-29 01:30 +01"},
		{"daily 01:30", "Atlantic/Faroe", "2026-10-24 12:00", "2026-10-25 01:30 +01, 2026-10-26 01:30 +00"},
		{"cron 30 * * * *", "Atlantic/Faroe", "2026-10-24 23:45", "2026-10-25 00:30 +01, 2026-10-25 01:30 +01, 2026-10-25 01:30 +00, 2026-10-25 02:30 +00"},
		{"cron 30 * * * *", "Atlantic/Faroe", "2027-03-28 00:10", "2027-03-28 00:30 +00, 2027-03-28 02:30 +01, 2027-03-28 03:30 +01"},
		{"cron 30 1,2 * * *", "Atlantic/Faroe", "2026-10-24 23:45", "2026-10-25 01:30 +01, 2026-10-25 02:30 +00, 2026-10-26 01:30 +00"},
		{"every 6h", "Atlantic/Faroe", "2026-10-25 00:30", "2026-10-25 05:00 +00, 2026-10-25 11:00 +00"},
		// By half an hour; and at midnight, so that a day begins at one.
		{"daily 02:15", "Australia/Lord_Howe", "2026-10-03 12:00", "2026-10-04 02:45 +11, 2026-10-05 02:15 +11"},
		{"daily 00:00", "America/Santiago", "2026-09-05 12:00", "2026-09-06 01:00 -03, 2026-09-07 00:00 -03"},
		{"daily 23:30", "America/Santiago", "2027-04-03 12:00", "2027-04-03 23:30 -03, 2027-04-04 23:30 -04"},
	} {
		z := zone(t, c.zone)
		at, err := time.ParseInLocation("2006-01-02 15:04", c.after, z)
		if err != nil {
			t.Fatal(err)
		}
		r, err := Parse(c.rule, z, time.Date(2026, 10, 24, 9, 12, 0, 0, z))
		if c.rule == "every 90m" || c.zone == "UTC" && strings.HasPrefix(c.rule, "every") {
			r, err = Parse(c.rule, z, at)
		}
		if (c.next == "error") != errors.Is(err, ErrRule) {
			t.Errorf("%s: %v", c.rule, err)
		}
		if err != nil {
			continue
		}
		for i, want := range strings.Split(c.next, ", ") {
			got := "never"
			if at = r.Next(at); !at.IsZero() {
				got = at.Format(layout)
			}
			if got != want {
				t.Errorf("%s in %s, run %d: %s, expected %s", c.rule, c.zone, i+1, got, want)
				break
			}
		}
		if again, err := Parse(r.String(), z, at); err != nil || again.String() != r.String() {
			t.Errorf("%s is written %q, which reads as %q: %v", c.rule, r, again, err)
		}
	}
}

// TestNoRule says of each line why it is no rule, and how it would be one.
func TestNoRule(t *testing.T) {
	for line, why := range map[string]string{
		"":                          "empty",
		"nightly":                   "does not begin with",
		"daily":                     "takes 1 words",
		"daily 25:00":               "no time of day",
		"weekly 02:00":              "takes 2 words",
		"weekly someday 02:00":      "no day of the week",
		"weekly tu 02:00":           "no day of the week",
		"monthly 32 02:00":          "no day of a month",
		"yearly 02-30 02:00":        "month and day",
		"every 10s":                 "whole minutes",
		"every -1h":                 "no length of time",
		"every 9999d":               "no length of time",
		"cron 0 2 30 2 *":           "no day is like that",
		"cron 61 * * * *":           "61",
		"once 2026-11-31 02:00":     "one day and one time",
		"once tomorrow 02:00":       "one day",
		"once 2026-11-30 2:00,3:00": "one time",
	} {
		if _, err := Parse(line, time.UTC, time.Now()); !errors.Is(err, ErrRule) || !strings.Contains(err.Error(), why) || !strings.Contains(err.Error(), Forms[2]) {
			t.Errorf("%q: %v", line, err)
		}
	}
	for _, line := range []string{"weekly fri 16:00", "fri for 2h", "daily 02:00 for long", "daily 02:00 for 0m"} {
		if _, err := ParseWindow(line, time.UTC, time.Now()); !errors.Is(err, ErrRule) {
			t.Errorf("%q: %v", line, err)
		}
	}
}

// TestAsOftenAsStated walks the minutes around changes of clocks, and holds every rule to
// what clocks on the wall showed: each time of day that a day has is met once, one that
// it lacks is made up once, and one in every hour is met in each hour there was.
func TestAsOftenAsStated(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 11))
	for _, name := range []string{"Atlantic/Faroe", "Australia/Lord_Howe", "America/Santiago", "Antarctica/Troll", "Europe/Berlin", "UTC"} {
		z := zone(t, name)
		for range 40 {
			hour, minute := rnd.IntN(4), rnd.IntN(60)
			if rnd.IntN(3) == 0 {
				hour = []int{23, 0, 12}[rnd.IntN(3)]
			}
			line := fmt.Sprintf("daily %02d:%02d", hour, minute)
			each := rnd.IntN(3) == 0
			if each {
				line = fmt.Sprintf("cron %d * * * *", minute)
			}
			r, err := Parse(line, z, time.Now())
			if err != nil {
				t.Fatal(err)
			}
			from := time.Date(2026, time.Month(1+rnd.IntN(12)), 1+rnd.IntN(28), 0, 0, 0, 0, time.UTC)
			if _, end := from.In(z).ZoneBounds(); rnd.IntN(4) > 0 && !end.IsZero() {
				from = end.Add(-30 * time.Hour).UTC()
			}
			until := from.Add(60 * time.Hour)
			var want []time.Time
			met := map[string]bool{}
			for at := from.Add(time.Minute); !at.After(until); at = at.Add(time.Minute) {
				w := wall(at.In(z))
				// What the clock jumped over is made up as much later.
				fits := func(w time.Time) bool { return w.Minute() == minute && (each || w.Hour() == hour) }
				due := fits(w) && (each || !met[w.Format(layout)])
				if step := r.offset(at) - r.offset(at.Add(-3*time.Hour)); step > 0 {
					if skipped := w.Add(-step); !slices.ContainsFunc(r.instants(skipped), func(x time.Time) bool { return wall(x).Equal(skipped) }) {
						due = due || fits(skipped)
					}
				}
				if due {
					want = append(want, at)
				}
				if fits(w) {
					met[w.Format(layout)] = true
				}
			}
			var got []time.Time
			for at := r.Next(from); !at.After(until); at = r.Next(at) {
				got = append(got, at)
			}
			// What was met before the walk began is not known to it.
			if !slices.EqualFunc(got, want, time.Time.Equal) && len(want) > 0 {
				t.Errorf("%s in %s from %s:\n got %v\nwant %v", r, name, from, got, want)
			}
			if last := r.Last(from, until); len(got) > 0 && !last.Equal(got[len(got)-1]) || len(got) == 0 && !last.IsZero() {
				t.Errorf("%s: last at %s, and met at %v", r, last, got)
			}
			if n := r.Count(from, until, 1000); n != len(got) {
				t.Errorf("%s: %d counted, %d met", r, n, len(got))
			}
		}
	}
}

// TestChanges says before anything is saved what daylight saving will do.
func TestChanges(t *testing.T) {
	z := zone(t, "Atlantic/Faroe")
	from := time.Date(2026, 11, 26, 0, 0, 0, 0, z)
	for line, want := range map[string][2]string{
		"daily 01:30":       {"2027-03-28, at 01:00, clocks go forward to 02:00: 01:30 is left out, and made up at 02:30", "2027-10-31, at 02:00, clocks go back to 01:00: 01:30 comes twice, and counts once, the first time"},
		"daily 05:00":       {"none of its times", "none of its times"},
		"weekly mon 01:30":  {"none of its times", "none of its times"},
		"cron 15 * * * *":   {"01:15 is left out, and made up at 02:15", "01:15 comes twice, and counts both times"},
		"cron */10 1 * * *": {"01:00 is left out, and made up at 02:00; 01:10 is left out, and made up at 02:10; 01:20 is left out, and made up at 02:20; and so on", "and so on"},
		"every 30m":         {"same times of day", "same times of day"},
		"every 6h":          {"due 1h later by the clock", "due 1h earlier by the clock"},
	} {
		r, err := Parse(line, z, from)
		if err != nil {
			t.Fatal(err)
		}
		got := r.Changes(from)
		if len(got) != 2 || !strings.Contains(got[0].Says, want[0]) || !strings.Contains(got[1].Says, want[1]) {
			t.Errorf("%s: %v", line, got)
		}
	}
	if r, err := Parse("daily 01:30", time.UTC, from); err != nil || len(r.Changes(from)) != 0 {
		t.Error("UTC has no daylight saving")
	}
}

// TestWindow: a window covers what is between its beginning and its end.
func TestWindow(t *testing.T) {
	z := zone(t, "Atlantic/Faroe")
	w, err := ParseWindow("weekly fri 16:00 for 62h", z, time.Now())
	if err != nil || w.String() != "weekly fri 16:00 for 2d14h" {
		t.Fatal(w, err)
	}
	for at, want := range map[string]string{
		"2026-11-27 15:59": "", "2026-11-27 16:00": "2026-11-30 06:00", "2026-11-29 12:00": "2026-11-30 06:00", "2026-11-30 05:59": "2026-11-30 06:00", "2026-11-30 06:00": "",
	} {
		moment, _ := time.ParseInLocation("2006-01-02 15:04", at, z)
		until, ok := w.Covers(moment)
		if ok != (want != "") || ok && until.In(z).Format("2006-01-02 15:04") != want {
			t.Errorf("%s: %v until %s, expected %q", at, ok, until, want)
		}
	}
	all, err := ParseWindow("daily 00:00 for 30h", z, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if until, ok := all.Covers(time.Date(2026, 11, 26, 3, 0, 0, 0, z)); !ok || until.In(z).Format("2006-01-02 15:04") != "2026-11-27 06:00" {
		t.Errorf("windows that overlap end with the last of them: %s", until)
	}
}

// FuzzParse: what is read is written so that it reads the same, and is due after the time it
// was asked for.
func FuzzParse(f *testing.F) {
	for _, line := range Forms {
		f.Add(line, int64(1764144000))
	}
	f.Fuzz(func(t *testing.T, line string, seconds int64) {
		z := time.UTC
		if seconds%2 == 0 {
			z = zone(t, "Atlantic/Faroe")
		}
		at := time.Unix(seconds%4e9, 0).UTC()
		r, err := Parse(line, z, at)
		if err != nil {
			return
		}
		again, err := Parse(r.String(), z, at)
		if err != nil || again.String() != r.String() {
			t.Fatalf("%q is written %q: %v", line, r, err)
		}
		next := r.Next(at)
		if !next.IsZero() && !next.After(at) || !again.Next(at).Equal(next) {
			t.Fatalf("%q after %s: %s and %s", line, at, next, again.Next(at))
		}
	})
}
