package sim

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"magpie/internal/sim/box"
	"magpie/internal/sim/curlew"
	"magpie/internal/sim/dunlin"
	"magpie/internal/sim/fulmar"
	"magpie/internal/sim/gannet"
	"magpie/internal/sim/heron"
	"magpie/internal/sim/petrel"
	"magpie/internal/sim/plover"
	"magpie/internal/sim/skua"
	"magpie/internal/sim/tern"
)

// family is how a family's devices are made.
type family struct {
	port    int // of its usual transport
	restore func(kept json.RawMessage) (box.Model, error)
}

var families = map[string]family{
	"tern":   {box.SSH, restorer(tern.Restore)},
	"plover": {box.SSH, restorer(plover.Restore)},
	"heron":  {box.Netconf, restorer(heron.Restore)},
	"skua":   {box.HTTPS, restorer(skua.Restore)},
	"dunlin": {box.HTTP, restorer(dunlin.Restore)},
	"fulmar": {box.SSH, restorer(fulmar.Restore)},
	"curlew": {box.SSH, restorer(curlew.Restore)},
	"petrel": {box.SSH, restorer(petrel.Restore)},
	"gannet": {box.Netconf, restorer(gannet.Restore)},
}

// AllFamilies names every family of the scenario, for Open. There are others, whose habits
// are worth a test: curlew, gannet, petrel.
const AllFamilies = "plover,heron,skua,dunlin,fulmar"

// restorer makes a device of what was kept of it.
func restorer[S any, M box.Model](restore func(S) (M, error)) func(json.RawMessage) (box.Model, error) {
	return func(raw json.RawMessage) (box.Model, error) {
		var s S
		if err := json.Unmarshal(raw, &s); err != nil {
			return nil, err
		}
		return restore(s)
	}
}

// others are the devices of a family besides the routers.
func others(which string, r *rand.Rand, since time.Time) ([]Start, error) {
	var out []Start
	add := func(name, site, family string, build func(serial string) (box.Model, error)) {
		serial := fmt.Sprintf("%s-%06X", map[string]string{"plover": "PL7", "heron": "HN3", "skua": "SK5", "dunlin": "DN1", "fulmar": "FM2", "gannet": "GM3", "petrel": "PT1"}[family], r.IntN(1<<24))
		out = append(out, Start{name, site, family, func() (box.Model, error) { return build(serial) }})
	}
	switch which {
	case "plover":
		for i, site := range []string{"skerrinsay", "innisquill", "callowmere", "port-asterly", "control"} {
			name, net := site+"-sw1", first[[]int{0, 1, 2, 4, 8}[i]].net
			add(name, site, which, func(serial string) (box.Model, error) { return plover.New(name, serial, switchLines(name, net), since) })
		}
	case "heron":
		peer := fmt.Sprintf("HN3-%06X", r.IntN(1<<24))
		add("control-f1", "control", which, func(serial string) (box.Model, error) {
			return heron.New("control-f1", serial, peer, firewallConfig("control-f1"), 1)
		})
		add("port-asterly-f1", "port-asterly", which, func(serial string) (box.Model, error) {
			return heron.New("port-asterly-f1", serial, "", firewallConfig("port-asterly-f1"), 2)
		})
	case "skua":
		add("control-w1", "control", which, func(serial string) (box.Model, error) {
			return skua.New("control-w1", serial, controllerSettings, accessPoints())
		})
	case "dunlin":
		for _, site := range []string{"workshop", "dunvarrow"} {
			name := site + "-g1"
			add(name, site, which, func(serial string) (box.Model, error) {
				return dunlin.New(name, serial, gatewaySettings(name)), nil
			})
		}
	case "fulmar":
		add("skerrinsay-p1", "skerrinsay", which, func(serial string) (box.Model, error) {
			return fulmar.New("skerrinsay-p1", serial, stripLines("skerrinsay-p1", "quay house, cupboard two"))
		})
	case "curlew":
		for i, site := range []string{"callowmere", "wrackhaven"} {
			name, net := site+"-c1", first[2+4*i].net
			add(name, site, which, func(string) (box.Model, error) {
				return curlew.New(name, fmt.Sprintf("02-5e-%02x-%02x-%02x-0%d", r.IntN(256), r.IntN(256), r.IntN(256), i), lineRouter(name, net))
			})
		}
	case "petrel":
		add("workshop-k1", "workshop", which, func(serial string) (box.Model, error) {
			return petrel.New("workshop-k1", serial, handKept)
		})
	case "gannet":
		for i, release := range []string{"1.4", "2.0"} {
			add([]string{"skerrinsay-m1", "innisquill-m1"}[i], []string{"skerrinsay", "innisquill"}[i], which, func(serial string) (box.Model, error) {
				config := gannet.Generate(rand.New(rand.NewPCG(7, uint64(i))), gannet.Users{ServiceUser: ServiceWord, PersonUser: PersonWord})
				return gannet.New([]string{"skerrinsay-m1", "innisquill-m1"}[i], serial, release, config)
			})
		}
	default:
		return nil, fmt.Errorf("no family is named %q; there are %s", which, AllFamilies)
	}
	return out, nil
}

func switchLines(name string, net int) []string {
	l := []string{"system : name is " + name, "system : zone is <Atlantic/Faroe>",
		"keeper " + ServiceUser + " : rank is full", "keeper " + ServiceUser + " : word is plain <" + ServiceWord + ">",
		"keeper " + PersonUser + " : rank is full", "keeper " + PersonUser + " : word is plain <" + PersonWord + ">",
		"keeper lookout : rank is look", "keeper lookout : word is plain <demo-lookout-1>"}
	for n, label := range map[int]string{10: "cameras", 20: "tills", 40: "passenger wireless"} {
		l = append(l, fmt.Sprintf("strand %d : kept is yes", n), fmt.Sprintf("strand %d : label is <%s>", n, label))
	}
	l = append(l, fmt.Sprintf("gate : address is 10.%d.12.9/24", net), fmt.Sprintf("gate : via is 10.%d.12.1", net),
		"herald : community is <demo-gulls>", "herald : post 10.30.0.9 is yes")
	for p, label := range []string{"gangway one", "gangway two", "ticket kiosk 1", "ticket kiosk 2", "ticket hall", "boom gate", "access point, quay", "to the router"} {
		l = append(l, fmt.Sprintf("port %d : label is <%s>", p+1, label))
		switch {
		case p < 2:
			l = append(l, fmt.Sprintf("port %d : strand is 10", p+1))
		case p < 5:
			l = append(l, fmt.Sprintf("port %d : strand is 20", p+1))
		case p == 6:
			l = append(l, fmt.Sprintf("port %d : strand is 40", p+1))
		}
	}
	for p := 9; p <= plover.Ports; p++ {
		l = append(l, fmt.Sprintf("port %d : power is off", p))
	}
	return l
}

func lineRouter(name string, net int) []string {
	return []string{"call " + name, "never answer pings", "keeper " + ServiceUser + " word " + ServiceWord, "keeper " + PersonUser + " word " + PersonWord,
		"ask 10.30.0.5", "ask 10.30.0.6",
		"gate quay", "rung 10 lets tcp any to any", "rung 20 lets udp any to any", "rung 30 stops any any to any", "end",
		"pier 1", "says ticket hall, who is next?", fmt.Sprintf("carries 10.%d.1.1/24 as first", net), "gate in quay", "end",
		"pier 2", "says to the control centre!", fmt.Sprintf("carries 10.%d.2.1/24 as first", net), "never lit", "end",
		"choice main", "when 10.30.0.0/16 take pier 2", "when 10.0.0.0/8 take pier 1", "otherwise stop", "end",
		"at pier 1 choice main", "watch pier 1 every 10",
		fmt.Sprintf("path 10.30.0.0/16 cost 1 over 10.%d.2.254", net), "beacon every 5", "beacon tint green"}
}

// handKept is a file as people keep it.
const handKept = `# The workshop's router. Ask okonkwo before you change anything here.
name workshop-k1
keeper ` + ServiceUser + ` word ` + ServiceWord + `
keeper ` + PersonUser + ` word ` + PersonWord + `

# The slipway has its own rules since the winter storms.
shore slipway
{
    cost 5
    lets 10.40.0.0/16   # the cranes
}

link uplink {
    address 10.40.1.1/24
    mtu 1500
}
link slip {
    address 10.40.2.1/24
    on shore slipway
}

route 10.0.0.0/8 via 10.40.1.254
`

func firewallConfig(name string) string {
	ace := func(name, from, to, port, do string) string {
		ip := ""
		if from != "" {
			ip += "<source-ipv4-network>" + from + "</source-ipv4-network>"
		}
		if to != "" {
			ip += "<destination-ipv4-network>" + to + "</destination-ipv4-network>"
		}
		m := "<ipv4>" + ip + "</ipv4>"
		if port != "" {
			m += "<tcp><destination-port><operator>eq</operator><port>" + port + "</port></destination-port></tcp>"
		}
		return "<ace><name>" + name + "</name><matches>" + m + "</matches><actions><forwarding>" + do + "</forwarding></actions></ace>"
	}
	iface := func(name, note, address string) string {
		return `<interface><name>` + name + `</name><description>` + note + `</description><type xmlns:t="urn:ietf:params:xml:ns:yang:iana-if-type">t:ethernetCsmacd</type><enabled>true</enabled>` +
			`<ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><address><ip>` + address + `</ip><prefix-length>24</prefix-length></address></ipv4></interface>`
	}
	user := func(name, word string) string {
		return "<user><name>" + name + "</name><password>$5$sim$" + box.Seal("heron", word) + "</password></user>"
	}
	return `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>Brindle Sound Ferries, control centre</contact><hostname>` + name + `</hostname>` +
		`<clock><timezone-name>Atlantic/Faroe</timezone-name></clock><ntp><server><name>clock-a</name><udp><address>10.30.0.5</address></udp></server></ntp>` +
		`<authentication>` + user(ServiceUser, ServiceWord) + user(PersonUser, PersonWord) + `</authentication></system>` +
		`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">` + iface("outside", "to the mainland", "198.51.100.2") + iface("inside", "control centre", "10.30.0.1") + iface("tills", "ticket servers", "10.30.8.1") + `</interfaces>` +
		`<acls xmlns="urn:ietf:params:xml:ns:yang:ietf-access-control-list">` +
		`<acl><name>outside-in</name><aces>` + ace("mail", "", "10.30.0.25/32", "25", "accept") + ace("web", "", "10.30.0.80/32", "443", "accept") + ace("rest", "", "", "", "drop") + `</aces></acl>` +
		`<acl><name>tills-in</name><aces>` + ace("terminals", "10.0.0.0/8", "10.30.8.0/24", "443", "accept") + ace("rest", "", "", "", "drop") + `</aces></acl>` +
		`<attachment-points><interface><interface-id>outside</interface-id><ingress><acl-sets><acl-set><name>outside-in</name></acl-set></acl-sets></ingress></interface></attachment-points></acls>` +
		`<logical-network-elements xmlns="urn:ietf:params:xml:ns:yang:ietf-logical-network-element"><logical-network-element><name>passengers</name><managed>true</managed><root>` +
		`<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">` + iface("wireless", "passenger wireless", "10.30.40.1") + `</interfaces></root></logical-network-element></logical-network-elements>`
}

func stripLines(name, place string) []string {
	l := []string{"strip {", "name " + name + ";", "place " + place + ";", "}",
		"owner " + ServiceUser + " {", "word " + ServiceWord + ";", "}", "owner " + PersonUser + " {", "word " + PersonWord + ";", "}"}
	for i, what := range []string{"router", "switch", "ticket kiosk 1", "ticket kiosk 2", "boom gate"} {
		l = append(l, fmt.Sprintf("outlet %d {", i+1), "feeds "+what+";", "state on;", fmt.Sprintf("after %d;", 5*i), "}")
	}
	return append(l, "watch {", "every 60;", "alarm load {", "above 1800;", "tell 10.30.0.9;", "}", "}")
}

const controllerSettings = `{"name":"control-w1","beacon":120,
 "network":[{"ssid":"Brindle Passengers","strand":40,"security":"open"},{"ssid":"Brindle Crew","strand":41,"security":"key","key":"demo-crew-key-1"},{"ssid":"Brindle Tills","strand":20,"security":"key","key":"demo-tills-key-1","hidden":true}],
 "keeper":[{"name":"` + ServiceUser + `","word":"` + ServiceWord + `"},{"name":"` + PersonUser + `","word":"` + PersonWord + `"}],
 "report":{"to":["10.30.0.9"]}}`

func accessPoints() []*skua.Member {
	var out []*skua.Member
	for i, place := range []string{"skerrinsay quay", "skerrinsay hall", "innisquill quay", "callowmere quay", "port-asterly hall", "port-asterly quay"} {
		name := "ap-" + strings.ReplaceAll(place, " ", "-")
		out = append(out, &skua.Member{Name: name, Serial: fmt.Sprintf("SA2-%04d", 1107+i*13), Joined: true,
			Options: map[string]any{"place": place, "channel": 36 + 4*i, "power": "auto", "antenna": "sector"}})
	}
	return out
}

func gatewaySettings(name string) dunlin.Settings {
	return dunlin.Settings{Name: name, Address: "10.24.0.1", Users: map[string]string{ServiceUser: box.Seal("dunlin", ServiceWord), PersonUser: box.Seal("dunlin", PersonWord)},
		Wifi: []dunlin.Wifi{{Name: "Brindle Crew", Key: "demo-crew-key-1"}}, Forward: []string{"8443 to 10.24.0.80"}, Notes: map[string]string{"line": "leased, 20 Mbit/s"}}
}
