package gannet

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// Device is one simulated mast controller.
type Device struct {
	box.Base
	prefixes prefixes
	running  *data
	startup  *data
	cand     *data
	factory  bool
	locks    map[string]int
	held     int // the session that holds the configuration, of release 2
	users    map[int]string
	next     int
	back     *time.Timer // of a commit that is not kept yet
	before   *data
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial, Release string
	Running, Startup      string
	Factory               bool
	Faults                box.Faults
}

// New makes a controller that runs a configuration, one document, saved as its startup.
func New(name, serial, release, config string) (*Device, error) {
	return Restore(State{Name: name, Serial: serial, Release: release, Running: config, Startup: config})
}

// Restore makes a controller from kept state.
func Restore(s State) (*Device, error) {
	d := &Device{factory: s.Factory, locks: map[string]int{}, users: map[int]string{}, next: 10}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Gannet M"+s.Release[:1], s.Release
	d.prefixes = prefixes{nsMast: "gm", nsKinds: "gk"}
	if d.old() { // each release has others
		d.prefixes = prefixes{nsMast: "of", nsKinds: "net"}
	}
	var err error
	if d.running, err = read(s.Running); err != nil {
		return nil, fmt.Errorf("configuration of %s: %w", s.Name, err)
	}
	if d.startup, err = read(s.Startup); err != nil {
		return nil, fmt.Errorf("startup of %s: %w", s.Name, err)
	}
	d.cand = d.running.clone()
	d.Base.SetFaults(s.Faults)
	return d, nil
}

// old tells whether it is of release 1.
func (d *Device) old() bool { return strings.HasPrefix(d.Release, "1.") }

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.Release, d.running.text(), d.startup.text(), d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("gannet")
	st.Running, st.Startup, st.Factory = strings.Split(d.running.text(), "><"), strings.Split(d.startup.text(), "><"), d.factory
	return st
}

// Amend edits what runs: the lines are one document around an edit.
func (d *Device) Amend(_ string, lines []string) error {
	by, err := parse([]byte(strings.Join(lines, "\n")))
	if err != nil {
		return err
	}
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	next := d.running.clone()
	if wrong := edit(next, by.kids[0], "merge", ""); len(wrong) > 0 {
		return wrong
	}
	d.running, d.cand = next, next.clone()
	return nil
}

// Stow copies running to startup.
func (d *Device) Stow() int {
	d.Lock()
	d.startup = d.running.clone()
	d.Unlock()
	d.Env.Changed()
	return len(d.startup.kids)
}

// Restart brings the unit down and up with what its startup holds.
func (d *Device) Restart() {
	d.HangUp()
	d.Lock()
	d.running, d.locks, d.held = d.startup.clone(), map[string]int{}, 0
	d.cand = d.running.clone()
	d.Restarts++
	d.Unlock()
	d.Env.Changed()
	d.Env.Restarted()
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	config := strings.Join(lines, "\n")
	if lines == nil {
		config = `<config><mast xmlns="` + nsMast + `"><name>gannet</name><user><name>yard</name><word>yard</word></user></mast></config>`
	}
	n, err := read(config)
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
func (d *Device) Reset(string) error { return d.Replace(d.Status().Serial, nil) }

// knows tells whether a user has that word.
func (d *Device) knows(user, word string) bool {
	d.Lock()
	defer d.Unlock()
	for _, u := range d.running.kid("mast").kids {
		if u.is.name == "user" && u.kid("name").value == user && u.kid("word") != nil && u.kid("word").value == word {
			return true
		}
	}
	return false
}

// Serve listens for NETCONF over SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	return d.Listen(e, box.Netconf, d.knows, &gssh.Server{SubsystemHandlers: map[string]gssh.SubsystemHandler{"netconf": d.serve}})
}

// goBack undoes a commit that nobody kept.
func (d *Device) goBack() {
	d.Lock()
	if d.back != nil {
		d.back.Stop()
		d.back = nil
		d.running, d.cand = d.before, d.before.clone()
	}
	d.Unlock()
	d.Env.Changed()
}
