package plover

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// Disk is how many bytes a switch's disk holds, and Kept the file on it that it
// starts with.
const (
	Disk = 24 << 10
	Kept = "kept.set"
)

// Device is one simulated switch.
type Device struct {
	box.Base
	running *Config
	files   map[string][]byte
	holder  string
	born    time.Time
	factory bool
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial string
	Running      []string
	Files        map[string][]byte
	Born         time.Time
	Factory      bool
	Faults       box.Faults
}

// New makes a switch running the given settings, kept as what it starts with.
func New(name, serial string, lines []string, at time.Time) (*Device, error) {
	c, err := Parse(lines)
	if err != nil {
		return nil, fmt.Errorf("configuration of %s: %w", name, err)
	}
	d := &Device{running: c, files: map[string][]byte{}, born: at}
	d.init(name, serial)
	d.files[Kept] = d.file("kept", false)
	return d, nil
}

// Restore makes a switch from kept state.
func Restore(s State) (*Device, error) {
	c, err := Parse(s.Running)
	if err != nil {
		return nil, fmt.Errorf("kept state of %s: %w", s.Name, err)
	}
	d := &Device{running: c, files: s.Files, born: s.Born, factory: s.Factory}
	d.init(s.Name, s.Serial)
	d.Base.SetFaults(s.Faults)
	return d, nil
}

func (d *Device) init(name, serial string) {
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = name, serial, "Plover P24", "7.1"
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.running.plain(), d.files, d.born, d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("plover")
	st.Running, st.Factory = d.running.plain(), d.factory
	if c, err := Parse(strings.Split(string(d.files[Kept]), "\n")); err == nil {
		st.Startup = c.plain()
	}
	for name := range d.files {
		if name != Kept {
			st.Files = append(st.Files, name)
		}
	}
	slices.Sort(st.Files)
	return st
}

// file is running as a file: settings, then a line that counts and sums them.
func (d *Device) file(what string, weak bool) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# %s of %s, Plover P24\n", what, d.Name)
	lines := d.running.Lines(weak)
	for _, l := range lines {
		b.WriteString(l + "\n")
	}
	fmt.Fprintf(&b, "system : awake is %d\n", int(d.Env.Clock().Sub(d.born).Seconds()))
	if weak {
		b.WriteString("# for rank look only\n")
		return b.Bytes()
	}
	fmt.Fprintf(&b, "# sum %08x over %d settings\n", crc32.ChecksumIEEE(b.Bytes()), len(lines)+1)
	return b.Bytes()
}

// Amend takes lines as somebody at the switch would type them.
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	for i, l := range lines {
		if err := d.running.Take(l); err != nil {
			return ErrLine{i + 1, l, err.Error()}
		}
	}
	return nil
}

// Stow makes what runs what the switch starts with.
func (d *Device) Stow() int {
	d.Lock()
	d.files[Kept] = d.file("kept", false)
	n := len(d.running.settings)
	d.Unlock()
	d.Env.Changed()
	return n
}

// Restart brings the switch down and up again with its startup file.
func (d *Device) Restart() {
	d.HangUp()
	d.Lock()
	// A line it cannot take is passed over at the start.
	c := &Config{}
	for _, l := range strings.Split(string(d.files[Kept]), "\n") {
		if !strings.HasPrefix(l, "system : awake ") {
			_ = c.Take(l)
		}
	}
	if c.get("system : name") == "" {
		c.settings = append(c.settings, setting{"system", "name", "plover"})
	}
	d.running, d.holder, d.born = c, "", d.Env.Clock()
	d.Restarts++
	d.Unlock()
	d.Env.Changed()
	d.Env.Restarted()
}

// FactoryLines are what a switch runs that nobody has set up.
func FactoryLines() []string {
	return []string{"system : name is plover", "keeper yard : rank is full", "keeper yard : word is plain <yard>"}
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	factory := lines == nil
	if factory {
		lines = FactoryLines()
	}
	c, err := Parse(lines)
	if err != nil {
		return err
	}
	d.Lock()
	d.Serial, d.running, d.files, d.factory = serial, c, map[string][]byte{}, factory
	d.files[Kept] = d.file("kept", false)
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Reset takes the switch back to factory settings.
func (d *Device) Reset(string) error {
	d.Lock()
	serial := d.Serial
	d.Unlock()
	return d.Replace(serial, nil)
}

func (d *Device) check(user, word string) bool {
	d.Lock()
	kept := d.running.get("keeper " + user + " : word")
	d.Unlock()
	return d.SignIn(kept != "" && kept == "kept "+box.Seal("plover", word))
}

func (d *Device) weak(user string) bool {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return f.Weak || d.running.get("keeper "+user+" : rank") != "full"
}

// Serve listens for SSH with SFTP, Telnet and TFTP.
func (d *Device) Serve(e box.Env) (func(), error) {
	d.Lock()
	d.Env = e
	d.Unlock()
	sshL, err := e.Listen(box.SSH)
	if err != nil {
		return nil, err
	}
	telL, err := e.Listen(box.Telnet)
	if err != nil {
		sshL.Close()
		return nil, err
	}
	udp, err := net.ListenPacket("udp", net.JoinHostPort(e.Address, fmt.Sprint(box.TFTP)))
	if err != nil {
		sshL.Close()
		telL.Close()
		return nil, err
	}
	s := &gssh.Server{
		Handler: func(s gssh.Session) {
			tty := box.OnTerminal(s)
			d.console(s.Context(), s, s.User(), tty, true)
			_ = s.Exit(0)
		},
		// This family signs people in by questions only (RFC 4256).
		KeyboardInteractiveHandler: func(ctx gssh.Context, ask gossh) bool {
			answers, err := ask(ctx.User(), "", []string{"Word: "}, []bool{false})
			return err == nil && len(answers) == 1 && d.check(ctx.User(), answers[0])
		},
		SubsystemHandlers: map[string]gssh.SubsystemHandler{"sftp": d.sftp},
	}
	s.AddHostKey(e.HostKey)
	end := box.Serving(sshL, s)
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		for {
			c, err := telL.Accept()
			if err != nil {
				return
			}
			go d.telnet(ctx, c)
		}
	}()
	go box.ServeTFTP(udp, func(name string) ([]byte, error) { return d.read(name) }, d.write)
	return func() { cancel(); end(); telL.Close(); udp.Close() }, nil
}

func (d *Device) telnet(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	tn := box.NewTelnet(conn)
	t := box.NewTerminal(tn, true)
	if b := d.Faults().Banner; b != "" {
		t.Print(b)
	}
	t.Print("Brindle Sound Ferries, keepers only.")
	user, err := t.Ask("Who: ", true)
	if err != nil {
		return
	}
	word, err := t.Ask("Word: ", false)
	if err != nil {
		return
	}
	if !d.check(user, word) {
		t.Print("That did not open.")
		_ = t.Out.Flush()
		return
	}
	_ = t.Out.Flush()
	d.console(ctx, tn, user, true, false)
}

// read returns a file's content.
func (d *Device) read(name string) ([]byte, error) {
	d.Lock()
	defer d.Unlock()
	if raw, ok := d.files[strings.TrimPrefix(name, "/")]; ok {
		return raw, nil
	}
	return nil, os.ErrNotExist
}

// write puts a file on the disk.
func (d *Device) write(name string, data []byte) error {
	name = strings.TrimPrefix(name, "/")
	d.Lock()
	used := len(data)
	for n, raw := range d.files {
		if n != name {
			used += len(raw)
		}
	}
	full := used > Disk
	d.Unlock()
	if full || d.Faults().FullDisk {
		return fmt.Errorf("the disk is full")
	}
	err := d.Apply(context.Background(), func() error {
		d.Lock()
		defer d.Unlock()
		d.files[name] = data
		return nil
	})
	return err
}

// sftp serves the disk.
func (d *Device) sftp(s gssh.Session) {
	ctx, cancel := context.WithCancel(s.Context())
	defer cancel()
	defer d.Enter(func() { s.Close() })()
	box.ServeSFTP(s, &box.Disk{Base: &d.Base, Ctx: ctx, Room: Disk, Cut: func() { s.Close() }, Read: d.read, Write: d.write, Files: func() map[string][]byte {
		d.Lock()
		defer d.Unlock()
		return maps.Clone(d.files)
	}})
}
