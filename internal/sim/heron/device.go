package heron

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// Device is one simulated firewall, or a pair of them under one address.
type Device struct {
	box.Base
	Peer string // serial of the other unit of a pair; empty when there is none

	style    style
	running  *node
	startup  *node
	cand     *node
	factory  bool
	locks    map[string]int // datastore -> session
	live     map[int]session
	hearers  map[int]*peer // that subscribed to notifications
	next     int
	rollback *time.Timer // of a confirmed commit
	before   *node       // what it goes back to
	persist  string
	owner    int
}

// session is somebody signed in, and how that is ended.
type session struct {
	user string
	end  func()
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial, Peer string
	Style              int
	Running, Startup   string
	Factory            bool
	Faults             box.Faults
}

// New makes a firewall running a configuration, saved as its startup. Style
// picks how it writes XML.
func New(name, serial, peer, config string, style int) (*Device, error) {
	return Restore(State{Name: name, Serial: serial, Peer: peer, Style: style, Running: config, Startup: config})
}

// Restore makes a firewall from kept state.
func Restore(s State) (*Device, error) {
	d := &Device{Peer: s.Peer, factory: s.Factory, locks: map[string]int{}, live: map[int]session{}, hearers: map[int]*peer{}}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Heron H2", "3.0.5"
	d.style = []style{{chunk: 4096}, {prefixes: true, chatty: true, chunk: 7}, {old: true, chatty: true}, {prefixes: true, chunk: 1 << 20}}[s.Style%4]
	var err error
	if d.running, err = load(s.Running); err != nil {
		return nil, fmt.Errorf("configuration of %s: %w", s.Name, err)
	}
	if d.startup, err = load(s.Startup); err != nil {
		return nil, fmt.Errorf("startup of %s: %w", s.Name, err)
	}
	d.cand = d.running.clone()
	d.Base.SetFaults(s.Faults)
	d.next = 100
	return d, nil
}

func load(config string) (*node, error) {
	n, err := parse([]byte(config))
	if err != nil {
		return nil, err
	}
	n.strip()
	return n, validate(n)
}

func text(n *node) string {
	var b strings.Builder
	n.print(&b, style{}, "", 0)
	return b.String()
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	i := slices.IndexFunc([]bool{!d.style.prefixes && !d.style.old, d.style.chatty && d.style.prefixes, d.style.old, true}, func(b bool) bool { return b })
	return json.Marshal(State{d.Name, d.Serial, d.Peer, i, text(d.running), text(d.startup), d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("heron")
	st.Running, st.Startup, st.Factory = d.running.lines(), d.startup.lines(), d.factory
	return st
}

// Amend edits what runs: the lines are one XML document of edits.
func (d *Device) Amend(by string, lines []string) error {
	what, err := parse([]byte(strings.Join(lines, "\n")))
	if err != nil {
		return err
	}
	d.Lock()
	next := d.running.clone()
	if err = edit(next, what, "merge", ""); err == nil {
		err = validate(next)
	}
	if err == nil {
		d.running, d.cand = next, next.clone()
		d.tell("running", by, 1)
	}
	d.Unlock()
	d.Env.Changed()
	return err
}

// Load leaves changes in the candidate that nobody commits; without lines it throws away
// what is there.
func (d *Device) Load(lines []string) error {
	if len(lines) == 0 {
		d.Lock()
		defer d.Unlock()
		d.cand = d.running.clone()
		return nil
	}
	by, err := parse([]byte(strings.Join(lines, "\n")))
	if err != nil {
		return err
	}
	d.Lock()
	defer d.Unlock()
	return edit(d.cand, by, "merge", "")
}

// Stow copies running to startup.
func (d *Device) Stow() int {
	d.Lock()
	d.startup = d.running.clone()
	n := len(d.startup.lines())
	d.Unlock()
	d.Env.Changed()
	return n
}

// Restart brings the unit down and up again with its startup datastore.
func (d *Device) Restart() {
	d.HangUp()
	d.Lock()
	d.running, d.locks = d.startup.clone(), map[string]int{}
	d.cand = d.running.clone()
	d.Restarts++
	d.Unlock()
	d.Env.Changed()
	d.Env.Restarted()
}

// FactoryConfig is what a unit runs that nobody has set up.
const FactoryConfig = `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>heron</hostname><authentication><user><name>yard</name><password>$0$yard</password></user></authentication></system>`

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	config := strings.Join(lines, "\n")
	if lines == nil {
		config = FactoryConfig
	}
	n, err := load(config)
	if err != nil {
		return err
	}
	d.Lock()
	d.Serial, d.running, d.startup, d.cand, d.factory = serial, n, n.clone(), n.clone(), lines == nil
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Reset takes the unit back to factory settings.
func (d *Device) Reset(string) error {
	d.Lock()
	serial := d.Serial
	d.Unlock()
	return d.Replace(serial, nil)
}

// Takeover lets the other unit of the pair answer from now on.
func (d *Device) Takeover() {
	d.Lock()
	d.Serial, d.Peer = d.Peer, d.Serial
	d.Unlock()
	d.HangUp()
	d.Env.Changed()
}

// knows tells whether a user has that word.
func (d *Device) knows(user, word string) bool {
	d.Lock()
	defer d.Unlock()
	u := d.running.at("system", "authentication", "user "+user, "password")
	return u != nil && (u.Text == "$0$"+word || u.Text == "$5$sim$"+box.Seal("heron", word))
}

// Serve listens for NETCONF over SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	return d.Listen(e, box.Netconf, d.knows, &gssh.Server{
		SubsystemHandlers: map[string]gssh.SubsystemHandler{"netconf": d.netconf},
		Handler: func(s gssh.Session) {
			fmt.Fprintln(s, "This unit is spoken to by NETCONF.")
			_ = s.Exit(1)
		},
	})
}

// state is what get answers besides the configuration.
func (d *Device) state() *node {
	leaf := func(name, text string) *node { return &node{nsHW, name, text, "", nil} }
	hw := &node{nsHW, "hardware", "", "", nil}
	unit := func(name, serial string) *node {
		return &node{nsHW, "component", "", "", []*node{leaf("name", name), leaf("class", "chassis"), leaf("serial-num", serial), leaf("model-name", d.Model), leaf("software-rev", d.Release)}}
	}
	hw.Kids = append(hw.Kids, unit("unit-here", d.Serial))
	if d.Peer != "" {
		hw.Kids = append(hw.Kids, unit("unit-there", d.Peer))
	}
	origin := "kept"
	if d.factory {
		origin = "maker"
	}
	platform := &node{nsSystem, "platform", "", "", []*node{{nsSystem, "os-name", "Heron", "", nil}, {nsSystem, "os-release", d.Release, "", nil}, {nsSystem, "os-version", origin, "", nil}}}
	sessions := &node{nsMonitor, "sessions", "", "", nil}
	for id, s := range d.live {
		sessions.Kids = append(sessions.Kids, &node{nsMonitor, "session", "", "", []*node{{nsMonitor, "session-id", strconv.Itoa(id), "", nil}, {nsMonitor, "username", s.user, "", nil}}})
	}
	top := d.running.clone()
	top.Kids = append(top.Kids, hw, &node{nsMonitor, "netconf-state", "", "", []*node{sessions}}, &node{nsSystem, "system-state", "", "", []*node{platform}})
	return top
}
