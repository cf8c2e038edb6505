package tern

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	gssh "github.com/gliderlabs/ssh"
	"golang.org/x/crypto/ssh"

	"magpie/internal/sim/box"
)

// Faults and Status are those of every family.
type (
	Faults = box.Faults
	Status = box.Status
)

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
	restarts  int
	factory   bool
	once      sync.Once
	OnRestart func() // called, unlocked, when the unit goes down
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Model, Serial, Release string
	Running, Startup             []string
	StowedAt, AmendedAt          time.Time
	AmendedBy                    string
	Faults                       Faults
	Factory                      bool
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
		stowedAt: s.StowedAt, amendedAt: s.AmendedAt, amendedBy: s.AmendedBy, faults: s.Faults, factory: s.Factory}
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
	return State{d.Name, d.Model, d.Serial, d.Release, d.running.Lines(), slices.Clone(d.startup), d.stowedAt, d.amendedAt, d.amendedBy, d.faults, d.factory}
}

// changes says when what runs and what is stowed were last changed.
func (d *Device) changes() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	said := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05.000000") }
	stowed := "stowed   never"
	if d.startup != nil {
		stowed = "stowed   " + said(d.stowedAt)
	}
	return []string{"amended  " + said(d.amendedAt), stowed}
}

// Status returns what the control port shows.
func (d *Device) Status() Status {
	d.mu.Lock()
	defer d.mu.Unlock()
	startup := slices.Clone(d.startup)
	if startup == nil {
		startup = []string{}
	}
	return Status{Name: d.Name, Family: "tern", Serial: d.Serial, Running: d.running.Lines(), Startup: startup, Logins: d.logins, Refused: d.refused,
		Recitals: d.reads, Sessions: len(d.sessions), Holding: d.holding, Typed: d.typed, Restarts: d.restarts, Factory: d.factory, Faults: d.faults, Files: []string{}}
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
	d.factory = false
	d.startup, d.stowedAt = d.running.Lines(), d.Clock()
	n := len(d.startup)
	d.mu.Unlock()
	d.Save()
	return n
}

// FactoryLines are what a unit runs that nobody has set up.
func FactoryLines() []string {
	return []string{"name tern", "crew yard", "  rank master", "  word sealed " + Sealed("yard"), "lane uplink1", "  guard strict"}
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	factory := lines == nil
	if factory {
		lines = FactoryLines()
	}
	m, err := Parse(lines)
	if err != nil {
		return err
	}
	d.mu.Lock()
	d.Serial, d.running, d.startup, d.factory = serial, m, nil, factory
	d.mu.Unlock()
	d.Save()
	return nil
}

// Reset takes the unit back to factory settings. There is only one depth.
func (d *Device) Reset(string) error { return d.Replace(d.Serial, nil) }

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) { return json.Marshal(d.State()) }

// Serve listens for SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	l, err := e.Listen(box.SSH)
	if err != nil {
		return nil, err
	}
	d.once.Do(func() { d.Clock, d.Save, d.OnRestart = e.Clock, e.Changed, e.Restarted })
	s := &gssh.Server{
		Handler: d.serve,
		// What routers speak: the curves, nothing newer.
		ServerConfigCallback: func(gssh.Context) *ssh.ServerConfig {
			return &ssh.ServerConfig{Config: ssh.Config{KeyExchanges: []string{ssh.KeyExchangeCurve25519, ssh.KeyExchangeECDHP256}}}
		},
		PasswordHandler: func(ctx gssh.Context, word string) bool { return d.CheckWord(ctx.User(), word) },
		PublicKeyHandler: func(ctx gssh.Context, key gssh.PublicKey) bool {
			return d.CheckBadge(ctx.User(), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))))
		},
	}
	s.AddHostKey(e.HostKey)
	return box.Serving(l, s), nil
}

func (d *Device) serve(s gssh.Session) {
	tty := box.OnTerminal(s)
	from, _, _ := net.SplitHostPort(s.RemoteAddr().String())
	c := &Console{Device: d, User: s.User(), From: from, TTY: tty}
	c.Serve(s.Context(), s, s.RawCommand())
	_ = s.Exit(0)
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
	if d.restartAt != nil { // what was to come is forgotten by a restart
		d.restartAt.Stop()
		d.restartAt = nil
	}
	d.restarts++
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

// unseat ends another session, and returns when it is gone.
func (d *Device) unseat(seat string) error {
	id, _ := strconv.Atoi(seat)
	d.mu.Lock()
	cancel := d.sessions[id]
	d.mu.Unlock()
	if cancel == nil {
		return fmt.Errorf("nobody has seat %s", seat)
	}
	cancel()
	for range 200 {
		d.mu.Lock()
		_, there := d.sessions[id]
		d.mu.Unlock()
		if !there {
			return nil
		}
		time.Sleep(5 * time.Millisecond)
	}
	return fmt.Errorf("whoever has seat %s will not go", seat)
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
