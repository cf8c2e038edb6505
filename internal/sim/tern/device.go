package tern

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"
)

// Faults are what a device can be told to do wrong. The zero value is a
// healthy device.
type Faults struct {
	SlowMS      int    `json:"slow_ms,omitempty"`      // wait this long before each answer
	Hang        string `json:"hang,omitempty"`         // never answer this command
	CutAfter    int    `json:"cut_after,omitempty"`    // drop the connection after so many bytes of a recital
	HoldLine    int    `json:"hold_line,omitempty"`    // stop before the Nth line typed in amend mode, until released
	HoldApplied bool   `json:"hold_applied,omitempty"` // hold after the line took effect instead of before
	RefuseLine  int    `json:"refuse_line,omitempty"`  // refuse the Nth line typed in amend mode
	IgnoreLine  int    `json:"ignore_line,omitempty"`  // accept the Nth line and do nothing
	RefuseLogin bool   `json:"refuse_login,omitempty"`
	HeldBy      string `json:"held_by,omitempty"` // somebody else is in amend mode
	Busy        int    `json:"busy,omitempty"`    // answer "busy" to so many amend commands
	Banner      string `json:"banner,omitempty"`  // shown at login
	Weak        bool   `json:"weak,omitempty"`    // every account sees a shortened chart
	Garbage     int    `json:"garbage,omitempty"` // so many random bytes in the middle of a recital
	Endless     bool   `json:"endless,omitempty"` // a recital that never ends
	RefuseStow  bool   `json:"refuse_stow,omitempty"`
	Down        bool   `json:"down,omitempty"` // not listening at all
}

// Device is one simulated unit.
type Device struct {
	Name    string
	Model   string
	Serial  string
	Release string
	Clock   func() time.Time
	Save    func() // called, unlocked, whenever state changed that must outlive a restart

	mu        sync.Mutex
	running   *Machine
	startup   []string
	stowedAt  time.Time
	amendedAt time.Time
	amendedBy string
	faults    Faults
	typed     int // lines typed in amend mode since faults were set
	holding   bool
	release   chan struct{}
	holder    string // who is in amend mode
	logins    int
	refused   int
	reads     int
	sessions  map[int]context.CancelFunc
	nextID    int
	restartAt *time.Timer
	OnRestart func() // called, unlocked, when the unit goes down
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Model, Serial, Release string
	Running, Startup             []string
	StowedAt, AmendedAt          time.Time
	AmendedBy                    string
	Faults                       Faults
}

// Status is what the control port shows of a device.
type Status struct {
	Name     string   `json:"name"`
	Serial   string   `json:"serial"`
	Running  []string `json:"running"`
	Startup  []string `json:"startup"`
	Logins   int      `json:"logins"`
	Refused  int      `json:"refused"`
	Recitals int      `json:"recitals"`
	Sessions int      `json:"sessions"`
	Holding  bool     `json:"holding"`
	Typed    int      `json:"typed"`
	Faults   Faults   `json:"faults"`
}

// New makes a device running the given configuration, saved as its startup.
func New(name, serial string, lines []string, at time.Time) (*Device, error) {
	m, err := Parse(lines)
	if err != nil {
		return nil, fmt.Errorf("configuration of %s: %w", name, err)
	}
	d := &Device{Name: name, Model: "Tern R4", Serial: serial, Release: "4.2.1", running: m,
		startup: m.Lines(), stowedAt: at, amendedAt: at, amendedBy: "yard"}
	d.init()
	return d, nil
}

// Restore makes a device from kept state.
func Restore(s State) (*Device, error) {
	m, err := Parse(s.Running)
	if err != nil {
		return nil, fmt.Errorf("kept state of %s: %w", s.Name, err)
	}
	d := &Device{Name: s.Name, Model: s.Model, Serial: s.Serial, Release: s.Release, running: m, startup: s.Startup,
		stowedAt: s.StowedAt, amendedAt: s.AmendedAt, amendedBy: s.AmendedBy, faults: s.Faults}
	d.init()
	return d, nil
}

func (d *Device) init() {
	d.sessions = map[int]context.CancelFunc{}
	d.release = make(chan struct{})
	d.Clock = time.Now
	d.Save = func() {}
	d.OnRestart = func() {}
}

// State returns what must be kept.
func (d *Device) State() State {
	d.mu.Lock()
	defer d.mu.Unlock()
	return State{d.Name, d.Model, d.Serial, d.Release, d.running.Lines(), slices.Clone(d.startup), d.stowedAt, d.amendedAt, d.amendedBy, d.faults}
}

// Status returns what the control port shows.
func (d *Device) Status() Status {
	d.mu.Lock()
	defer d.mu.Unlock()
	return Status{d.Name, d.Serial, d.running.Lines(), slices.Clone(d.startup), d.logins, d.refused, d.reads,
		len(d.sessions), d.holding, d.typed, d.faults}
}

// SetFaults replaces the faults and counts amended lines from one again. Lines
// held are let go.
func (d *Device) SetFaults(f Faults) {
	d.mu.Lock()
	d.faults, d.typed = f, 0
	close(d.release)
	d.release = make(chan struct{})
	d.mu.Unlock()
	d.Save()
}

// Faults returns the faults in force.
func (d *Device) Faults() Faults {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.faults
}

// LetGo lets a held line go on.
func (d *Device) LetGo() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.faults.HoldLine = 0
	close(d.release)
	d.release = make(chan struct{})
}

// Amend types lines as somebody at the console would, all or the first refused.
func (d *Device) Amend(by string, lines []string) error {
	d.mu.Lock()
	defer func() { d.mu.Unlock(); d.Save() }()
	d.running.Leave()
	defer d.running.Leave()
	for i, line := range lines {
		if err := d.running.Type(line); err != nil {
			return fmt.Errorf("line %d: %q: %w", i+1, line, err)
		}
	}
	d.amendedAt, d.amendedBy = d.Clock(), by
	return nil
}

// Stow saves running as startup.
func (d *Device) Stow() int {
	d.mu.Lock()
	d.startup, d.stowedAt = d.running.Lines(), d.Clock()
	n := len(d.startup)
	d.mu.Unlock()
	d.Save()
	return n
}

// Replace puts another unit in this one's place.
func (d *Device) Replace(serial string, lines []string) error {
	m, err := Parse(lines)
	if err != nil {
		return err
	}
	d.mu.Lock()
	d.Serial, d.running, d.startup = serial, m, nil
	d.mu.Unlock()
	d.Save()
	return nil
}

// Restart brings the unit down and up again with its startup configuration.
func (d *Device) Restart() {
	d.mu.Lock()
	for _, end := range d.sessions {
		end()
	}
	m, err := Parse(d.startup)
	if err != nil {
		panic(err) // the startup was rendered by this simulator
	}
	d.running, d.holder = m, ""
	d.amendedAt, d.amendedBy = d.Clock(), "restart"
	d.mu.Unlock()
	d.Save()
	d.OnRestart()
}

// CheckWord tells whether the user may sign in with the word.
func (d *Device) CheckWord(user, word string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	sealed, _, _ := d.running.Word(user)
	ok := sealed != "" && sealed == Sealed(word) && !d.faults.RefuseLogin
	d.count(ok)
	return ok
}

// CheckBadge tells whether the user may sign in with the public key, given as
// "type base64".
func (d *Device) CheckBadge(user, badge string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, _, badges := d.running.Word(user)
	ok := slices.Contains(badges, badge) && !d.faults.RefuseLogin
	if ok {
		d.count(true)
	}
	return ok
}

func (d *Device) count(ok bool) {
	d.logins++
	if !ok {
		d.refused++
	}
}

func (d *Device) rank(user string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, rank, _ := d.running.Word(user)
	return rank
}

// host is the name the prompt shows.
func (d *Device) host() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if n := d.running.Value("name"); n != "" {
		return n
	}
	return "tern"
}

// recite renders running or startup as the device shows it.
func (d *Device) recite(part string, weak bool) ([]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.reads++
	stamp := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }
	lines := d.running.Lines()
	head := []string{fmt.Sprintf(".. running of %s, read %s", d.Name, stamp(d.Clock())),
		fmt.Sprintf(".. last amended %s by %s", stamp(d.amendedAt), d.amendedBy)}
	if part == "startup" {
		if d.startup == nil {
			return nil, fmt.Errorf("nothing is stowed")
		}
		lines = slices.Clone(d.startup)
		head = []string{fmt.Sprintf(".. startup of %s, stowed %s", d.Name, stamp(d.stowedAt))}
	}
	// The clock's correction is the unit's own business and never the same twice.
	for i, line := range lines {
		if line == "clock" {
			at := d.Clock()
			if part == "startup" {
				at = d.stowedAt
			}
			r := rand.New(rand.NewPCG(uint64(at.UnixNano()), 7))
			lines = slices.Insert(lines, i+1, fmt.Sprintf("  skew +0.%04d", r.IntN(10000)))
			break
		}
	}
	foot := fmt.Sprintf(".. end of %s, %d lines", part, len(lines))
	if weak {
		lines = shorten(lines)
		foot = fmt.Sprintf(".. end of %s, shortened for rank deck", part)
	}
	return append(append(head, lines...), foot), nil
}

// shorten leaves out what only a master may see.
func shorten(lines []string) (out []string) {
	skip := false
	for _, line := range lines {
		w := strings.Fields(line)
		if !strings.HasPrefix(line, " ") {
			skip = len(w) > 0 && (w[0] == "crew" || w[0] == "mast-word" || w[0] == "lookout")
		}
		if !skip && !(len(w) == 3 && w[1] == "sealed") {
			out = append(out, line)
		}
	}
	return out
}

// typeLine takes one amend line from a console, with the faults in force.
func (d *Device) typeLine(ctx context.Context, user, line string) error {
	d.mu.Lock()
	d.typed++
	n, f, release := d.typed, d.faults, d.release
	d.mu.Unlock()
	hold := func() error {
		if n != f.HoldLine {
			return nil
		}
		d.setHolding(true)
		defer d.setHolding(false)
		select {
		case <-release:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if !f.HoldApplied {
		if err := hold(); err != nil {
			return err
		}
	}
	if n == f.RefuseLine {
		return fmt.Errorf("the unit will not have that line")
	}
	if n != f.IgnoreLine || strings.TrimSpace(line) == "up" {
		d.mu.Lock()
		err := d.running.Type(line)
		if err == nil {
			d.amendedAt, d.amendedBy = d.Clock(), user
		}
		d.mu.Unlock()
		if err != nil {
			return err
		}
		d.Save()
	}
	if f.HoldApplied {
		return hold()
	}
	return nil
}

func (d *Device) setHolding(on bool) {
	d.mu.Lock()
	d.holding = on
	d.mu.Unlock()
}

// takeChart enters amend mode for one console at a time.
func (d *Device) takeChart(who string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case d.faults.Busy > 0:
		d.faults.Busy--
		return fmt.Errorf("busy, try again shortly")
	case d.faults.HeldBy != "":
		return fmt.Errorf("the chart is held by %s", d.faults.HeldBy)
	case d.holder != "":
		return fmt.Errorf("the chart is held by %s", d.holder)
	}
	d.holder = who
	d.running.Leave()
	return nil
}

func (d *Device) leaveChart() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.holder = ""
	d.running.Leave()
}

func (d *Device) enter(cancel context.CancelFunc) int {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.nextID++
	d.sessions[d.nextID] = cancel
	return d.nextID
}

func (d *Device) leave(id int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.sessions, id)
}

// trail returns the innermost open block and whether a placard is being typed.
func (d *Device) trail() (string, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running.Trail(), d.running.Typing()
}

func (d *Device) dirty() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return !slices.Equal(d.running.Lines(), d.startup)
}

// restartIn arms or, with zero, disarms the restart timer, the only undo this
// family has.
func (d *Device) restartIn(after time.Duration) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	armed := d.restartAt != nil && d.restartAt.Stop()
	d.restartAt = nil
	if after > 0 {
		d.restartAt = time.AfterFunc(after, d.Restart)
	}
	return armed
}

func (d *Device) mast() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return strings.TrimPrefix(d.running.Value("mast-word"), "sealed ")
}
