package curlew

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"magpie/internal/sim/box"
)

// Device is one simulated router. What is typed takes effect at once and is kept at
// once. It has no serial number: its board has an address burnt in.
type Device struct {
	box.Base
	m       *Machine
	factory bool
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Board string
	Lines       []string
	Factory     bool
	Faults      box.Faults
}

// New makes a router with its configuration, written as it shows it. board is the
// address burnt into it.
func New(name, board string, lines []string) (*Device, error) {
	return Restore(State{Name: name, Board: board, Lines: lines})
}

// Restore makes a router from kept state.
func Restore(s State) (*Device, error) {
	m, err := Parse(s.Lines)
	if err != nil {
		return nil, err
	}
	d := &Device{m: m, factory: s.Factory}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Board, "Curlew L2", "6.3"
	d.Base.SetFaults(s.Faults)
	return d, nil
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.m.Lines(), d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("curlew")
	st.Running, st.Factory = d.m.Lines(), d.factory
	return st
}

// Amend types lines as somebody afloat would.
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	d.m.Leave()
	for _, l := range lines {
		if err := d.m.Type(l); err != nil {
			return err
		}
	}
	d.m.Leave()
	return nil
}

// Stow does nothing: what is typed is kept.
func (d *Device) Stow() int { return 0 }

// Restart takes the router down and up.
func (d *Device) Restart() {
	d.HangUp()
	d.Lock()
	d.Restarts++
	d.Unlock()
	d.Env.Restarted()
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(board string, lines []string) error {
	factory := lines == nil
	if factory {
		lines = []string{"call curlew", "keeper yard word yard"}
	}
	m, err := Parse(lines)
	if err != nil {
		return err
	}
	d.Lock()
	d.m, d.Serial, d.factory = m, board, factory
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Reset takes the router back to factory settings.
func (d *Device) Reset(string) error { return d.Replace(d.Status().Serial, nil) }

// Serve listens for SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	return d.ServeSSH(e, func(user, word string) bool {
		d.Lock()
		defer d.Unlock()
		return slices.Contains(d.m.keepers, pair{user, "kept " + box.Seal("curlew", word)})
	}, d.console)
}

func (d *Device) console(ctx context.Context, rw io.ReadWriteCloser, tty bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { rw.Close() })()
	defer d.Enter(cancel)()
	t := box.NewTerminal(rw, tty)
	defer t.Out.Flush()
	afloat, prompt := false, ""
	// A question mark shows help, a tab completes, an exclamation mark recalls; after
	// ^V they stand for themselves.
	eaten := func() {}
	t.Next = 0x16
	t.Acts = map[byte]func(){'\t': eaten, '!': eaten, '?': func() {
		t.Print("", "tell, afloat, ashore, away; or a line of the configuration")
		_, _ = t.Out.WriteString(prompt)
	}}
	for {
		d.Lock()
		name, block := d.m.name, d.m.block
		d.Unlock()
		prompt = name + "~ "
		if afloat {
			if prompt = name + "+ "; block != "" {
				prompt = name + "/" + block + "+ "
			}
		}
		_, _ = t.Out.WriteString(prompt)
		line, err := t.ReadLine(true)
		line = strings.TrimSpace(line)
		if err != nil || d.Wait(ctx, line) != nil {
			return
		}
		switch {
		case line == "":
		case line == "away":
			return
		case line == "tell maker":
			t.Print("model: "+d.Model, "release: "+d.Release)
		case line == "tell board":
			d.Lock()
			t.Print("board: " + d.Serial)
			d.Unlock()
		case line == "tell all":
			d.Lock()
			lines := d.m.Lines()
			d.Unlock()
			all := strings.Join(append(append([]string{"= all of " + name}, lines...), fmt.Sprintf("= %d lines", len(lines))), "\n") + "\n"
			var b strings.Builder
			err := d.Show(ctx, &b, []byte(all), "gate sound\n  rung 5 lets any any to any\nend\n")
			t.Print(strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")...)
			if err != nil {
				return
			}
		case line == "afloat" && !afloat:
			if h := d.Faults().HeldBy; h != "" {
				t.Print("no: " + h + " is afloat")
				break
			}
			afloat = true
			d.Lock()
			d.m.Leave()
			d.Unlock()
		case line == "ashore" && afloat:
			afloat = false
			d.Lock()
			d.m.Leave()
			d.Unlock()
			d.Env.Changed()
		case afloat:
			_ = t.Out.Flush()
			err := d.Apply(ctx, func() error {
				d.Lock()
				defer d.Unlock()
				d.factory = false
				return d.m.Type(line)
			})
			if ctx.Err() != nil {
				return
			}
			if err != nil { // in two lines, and in words of its own each time
				t.Print(err.Error(), "nothing was changed")
			} else if strings.HasPrefix(line, "watch ") {
				t.Print("(watching begins)")
			}
		default:
			t.Print("what is " + line)
		}
	}
}
