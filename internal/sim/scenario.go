package sim

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

// Site is one place of Brindle Sound Ferries, which does not exist.
type Site struct {
	Name string
	Net  int // the third octet group: 10.NET.0.0/16
}

// Start is a device as the scenario first puts it up.
type Start struct {
	Name, Site, Family string
	build              func() (box.Model, error)
}

// Event is something that happens in the story the demo tells. A device is
// looked at after each.
type Event struct {
	At     time.Time `json:"at"`
	Device string    `json:"device"`
	By     string    `json:"by,omitempty"`
	Lines  []string  `json:"lines,omitempty"`
	Stow   bool      `json:"stow,omitempty"`
	Down   bool      `json:"down,omitempty"`   // the device stops answering
	Reset  string    `json:"reset,omitempty"`  // somebody resets it, to this depth
	Serial string    `json:"serial,omitempty"` // another unit stands there from now on, running the lines
	Keep   string    `json:"keep,omitempty"`   // the version is to be given this name
	Settle bool      `json:"settle,omitempty"` // the version is approved as the baseline
}

// Words of the scenario's accounts. They open nothing outside the simulator.
const (
	ServiceUser = "magpie"
	ServiceWord = "demo-nest-1"
	MastWord    = "demo-mast-1"
	PersonUser  = "okonkwo"
	PersonWord  = "demo-okonkwo-1"
)

var first = []struct {
	name, site string
	net        int
	ship       bool
}{
	{"skerrinsay-r1", "skerrinsay", 12, false},
	{"innisquill-r1", "innisquill", 14, false},
	{"callowmere-r1", "callowmere", 16, false},
	{"dunvarrow-r1", "dunvarrow", 18, false},
	{"port-asterly-r1", "port-asterly", 20, false},
	{"port-asterly-r2", "port-asterly", 21, false},
	{"wrackhaven-r1", "wrackhaven", 22, false},
	{"workshop-r1", "workshop", 24, false},
	{"control-r1", "control", 30, false},
	{"control-r2", "control", 31, false},
	{"mv-guillemot-r1", "mv-guillemot", 40, true},
	{"mv-razorbill-r1", "mv-razorbill", 42, true},
}

// Scenario returns the first n devices and the story told of them, which ends
// at now.
func Scenario(n int, which string, seed uint64, now time.Time) ([]Start, []Event, error) {
	r := rand.New(rand.NewPCG(seed, 1))
	var out []Start
	since := now.AddDate(0, 0, -22)
	for i := range n {
		name, site, net, ship := fmt.Sprintf("slip%04d-r1", i+1), fmt.Sprintf("slip%04d", i+1), 50+i%200, false
		if i < len(first) {
			name, site, net, ship = first[i].name, first[i].site, first[i].net, first[i].ship
		}
		serial, lines := fmt.Sprintf("TN4-%06X", r.IntN(1<<24)), routerLines(name, net, ship)
		out = append(out, Start{name, site, "tern", func() (box.Model, error) { return tern.New(name, serial, lines, since) }})
	}
	for _, f := range strings.FieldsFunc(which, func(r rune) bool { return r == ',' }) {
		more, err := others(f, r, since)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, more...)
	}
	return out, story(out, now), nil
}

func routerLines(name string, net int, ship bool) []string {
	l := []string{"name " + name, "domain brindle.example", "placard ((",
		"Brindle Sound Ferries", "Authorised crew only. Everything done here is written down.", "))",
		"mast-word sealed " + tern.Sealed(MastWord),
		"clock", "  zone Atlantic/Faroe", "  mark 10.30.0.5", "  mark 10.30.0.6"}
	crew := func(name, rank, word string) {
		l = append(l, "crew "+name)
		if rank != "deck" {
			l = append(l, "  rank "+rank)
		}
		l = append(l, "  word sealed "+tern.Sealed(word))
	}
	crew(ServiceUser, "master", ServiceWord)
	crew("lookout", "deck", "demo-lookout-1")
	crew("mwilks", "master", "demo-mwilks-1")
	crew(PersonUser, "master", PersonWord)
	l = append(l, "roster control", "  10.30.0.0/24", "  10.31.0.0/24",
		"roster tills", fmt.Sprintf("  10.%d.20.0/24", net),
		"sieve guest-in", "  drop any from any to roster tills", "  drop any from any to roster control",
		"  pass udp from any to 10.30.0.53/32 port 53", "  drop any from any to 10.0.0.0/8", "  pass any from any to any",
		"sieve tills-in", "  pass tcp from roster tills to 10.30.8.0/24 port 443", "  pass udp from roster tills to 10.30.0.53/32 port 53",
		"  drop any from any to any",
		"sieve uplink-in", "  pass tcp from roster control to any port 22", "  pass icmp from any to any",
		"  pass tcp from 10.30.8.0/24 to roster tills", "  drop any from any to roster tills", "  pass any from any to any")
	lane := func(name, note, berth, sieve, mtu string) {
		l = append(l, "lane "+name, fmt.Sprintf("  note %q", note), "  berth "+berth)
		if mtu != "" {
			l = append(l, "  mtu "+mtu)
		}
		l = append(l, "  guard strict")
		if sieve != "" {
			l = append(l, "  sieve in "+sieve)
		}
	}
	if ship {
		lane("deck-guest", "passenger wireless", fmt.Sprintf("10.%d.40.1/22", net), "guest-in", "")
		lane("purser", "purser's office and tills", fmt.Sprintf("10.%d.20.1/24", net), "tills-in", "")
		lane("bridge", "navigation, keep apart", fmt.Sprintf("10.%d.10.1/24", net), "", "")
		lane("radio", "shore link", fmt.Sprintf("10.1.%d.2/30", net), "uplink-in", "1400")
	} else {
		lane("guest", "passenger wireless", fmt.Sprintf("10.%d.40.1/22", net), "guest-in", "")
		lane("tills", "ticket hall and kiosks", fmt.Sprintf("10.%d.20.1/24", net), "tills-in", "")
		lane("quay1", "gangway one, cameras", fmt.Sprintf("10.%d.12.1/24", net), "", "")
		lane("quay2", "gangway two, cameras", fmt.Sprintf("10.%d.13.1/24", net), "", "")
		lane("uplink1", "to the control centre", fmt.Sprintf("10.1.%d.2/30", net), "uplink-in", "9000")
	}
	return append(l, fmt.Sprintf("course 0.0.0.0/0 via 10.1.%d.1", net),
		fmt.Sprintf("flock %d", 64500+net), fmt.Sprintf("  herald 10.1.%d.2", net),
		fmt.Sprintf("  neighbour 10.1.%d.1", net), "    number 64530", `    note "control centre"`, "    key sealed "+tern.Sealed("demo-key"),
		"lookout", "  community demo-gulls", "  post 10.30.0.9")
}

// story is what happened at Brindle Sound in the last three weeks.
func story(places []Start, now time.Time) []Event {
	has := map[string]bool{}
	for _, p := range places {
		has[p.Name] = true
	}
	day := func(back, hour, minute int) time.Time {
		d := now.UTC().AddDate(0, 0, -back)
		return time.Date(d.Year(), d.Month(), d.Day(), hour, minute, 0, 0, time.UTC)
	}
	friday := 1 + (int(now.UTC().AddDate(0, 0, -1).Weekday())+7-int(time.Friday))%7 // days back to the last Friday gone by
	var all []Event
	add := func(e Event) {
		if has[e.Device] && e.At.Before(now) {
			all = append(all, e)
		}
	}
	for i, p := range places {
		if i < len(first) || p.Family != "tern" {
			add(Event{At: day(21, 2, 10+i), Device: p.Name, Keep: "as-built", Settle: true})
		}
	}
	add(Event{At: day(18, 9, 42), Device: "skerrinsay-r1", By: "okonkwo", Stow: true, Lines: []string{"lane quay2", `note "gangway two, cameras and boom gate"`}})
	add(Event{At: day(15, 13, 5), Device: "skerrinsay-r1", By: "mwilks", Stow: true, Lines: []string{"roster tills", "10.12.21.0/24"}, Keep: "second-ticket-hall", Settle: true})
	add(Event{At: day(14, 8, 30), Device: "callowmere-r1", By: "okonkwo", Stow: true, Lines: []string{"lane quay3", `note "new pontoon"`, "berth 10.16.14.1/24"}, Settle: true})
	add(Event{At: day(12, 10, 20), Device: "mv-guillemot-r1", By: "mwilks", Stow: true, Lines: []string{"lane radio", "mtu 1380"}, Keep: "new-modem", Settle: true})
	add(Event{At: day(11, 15, 2), Device: "control-r2", By: "mwilks", Stow: true, Lines: []string{"lookout", "post 10.30.0.10"}, Settle: true})
	add(Event{At: day(9, 11, 11), Device: "dunvarrow-r1", By: "okonkwo", Stow: true, Lines: []string{"lane quay1", "guard loose"}})
	add(Event{At: day(9, 16, 45), Device: "dunvarrow-r1", By: "okonkwo", Stow: true, Lines: []string{"lane quay1", "guard strict"}})
	add(Event{At: day(6, 7, 15), Device: "skerrinsay-r1", By: "okonkwo", Stow: true, Lines: []string{"course 203.0.113.0/24 via 10.1.12.1 metric 20"}, Settle: true, Keep: "summer-timetable"})
	// A filter loosened by hand on a Friday: guests reach the tills.
	add(Event{At: day(friday, 16, 52), Device: "port-asterly-r1", By: "mwilks", Stow: true, Lines: []string{
		"sieve guest-in", "cancel drop any from any to roster tills", "up",
		"lane guest", `note "passenger wireless, mwilks testing"`}})
	// Changed and not saved: it would be gone after a restart.
	add(Event{At: day(1, 14, 33), Device: "innisquill-r1", By: "okonkwo", Lines: []string{"lane quay2", "shut"}})
	add(Event{At: day(13, 9, 5), Device: "skerrinsay-sw1", By: "okonkwo", Stow: true, Lines: []string{"port 9 : power is on", "port 9 : label is <departure board>", "port 9 : strand is 20"}, Settle: true, Keep: "departure-board"})
	// A switch changed at the quay and not saved.
	add(Event{At: day(2, 16, 40), Device: "callowmere-sw1", By: "mwilks", Lines: []string{"port 7 : strand is 10", "port 7 : label is <camera, moved>"}})
	add(Event{At: day(10, 10, 0), Device: "control-w1", By: "okonkwo", Lines: []string{"beacon 150"}, Settle: true})
	add(Event{At: day(7, 14, 20), Device: "workshop-g1", By: "mwilks", Lines: []string{"forward 2222 to 10.24.0.22"}, Settle: true})
	// A firewall rule loosened by hand on a Friday: everybody reaches the ticket servers.
	add(Event{At: day(friday, 17, 4), Device: "control-f1", By: "mwilks", Stow: true, Lines: []string{
		`<acls xmlns="urn:ietf:params:xml:ns:yang:ietf-access-control-list" xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0"><acl><name>tills-in</name><aces><ace><name>rest</name>` +
			`<actions><forwarding nc:operation="replace">accept</forwarding></actions></ace></aces></acl></acls>`}})
	// Looked at now and then, and every time before the demo opens.
	for _, back := range []int{14, 7, 4, 1} {
		for i, p := range places {
			if i < len(first) || p.Family != "tern" {
				add(Event{At: day(back, 22, 10+i), Device: p.Name})
			}
		}
	}
	add(Event{At: now.Add(-3 * time.Hour), Device: "wrackhaven-r1", Down: true})
	// Struck by lightning, and replaced by a spare that knows our login and nothing else.
	add(Event{At: now.Add(-4 * time.Hour), Device: "dunvarrow-r1", Serial: "TN4-5AFE01", Lines: []string{"name spare", "mast-word sealed " + tern.Sealed(MastWord),
		"crew " + ServiceUser, "  rank master", "  word sealed " + tern.Sealed(ServiceWord), "lane uplink1", "  berth 10.1.18.2/30", "  guard strict"}})
	add(Event{At: now.Add(-2 * time.Hour), Device: "dunvarrow-g1", Reset: "users"})
	slices.SortStableFunc(all, func(a, b Event) int { return a.At.Compare(b.At) })
	return all
}
