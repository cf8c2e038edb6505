// Package fulmar simulates the Fulmar family of power strips with a network
// socket: one command line over SSH, settings in braces, and what is typed takes
// effect at once and is kept at once.
package fulmar

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"magpie/internal/sim/box"
)

// node is a setting, or a block of them.
type node struct {
	Line string
	Kids []*node
}

// blocks are the words that open a block, by the block they stand in.
var blocks = map[string][]string{"": {"strip", "owner", "outlet", "watch"}, "watch": {"alarm"}}

// leaves are the settings of each kind of block.
var leaves = map[string][]string{"": {}, "strip": {"name", "place"}, "owner": {"word"}, "outlet": {"feeds", "state", "after"}, "watch": {"every"}, "alarm": {"above", "tell"}}

// Device is one simulated power strip.
type Device struct {
	box.Base
	top     *node
	factory bool
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial string
	Lines        []string
	Factory      bool
	Faults       box.Faults
}

// New makes a strip with its settings, written as it shows them.
func New(name, serial string, lines []string) (*Device, error) {
	return Restore(State{Name: name, Serial: serial, Lines: lines})
}

// Restore makes a strip from kept state.
func Restore(s State) (*Device, error) {
	d := &Device{top: &node{}, factory: s.Factory}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Fulmar F8", "2.2"
	d.Base.SetFaults(s.Faults)
	return d, d.load(s.Lines)
}

func (d *Device) load(lines []string) error {
	top := &node{}
	at := []*node{top}
	for i, l := range lines {
		l = strings.TrimSpace(l)
		switch {
		case l == "" || strings.HasPrefix(l, "//"):
		case l == "}":
			at = at[:len(at)-1]
		default:
			head, block := strings.CutSuffix(l, " {")
			n, err := take(at, strings.TrimSuffix(head, ";"))
			if err != nil {
				return fmt.Errorf("line %d: %w", i+1, err)
			}
			if block {
				at = append(at, n)
			}
		}
	}
	d.Lock()
	d.top = top
	d.Unlock()
	return nil
}

func kind(n *node) string { w, _, _ := strings.Cut(n.Line, " "); return w }

// take lays a line into the innermost open block.
func take(at []*node, line string) (*node, error) {
	here := at[len(at)-1]
	word, value, _ := strings.Cut(line, " ")
	if slices.Contains(blocks[kind(here)], word) {
		if word != "strip" && word != "watch" && value == "" {
			return nil, fmt.Errorf("%s needs a name", word)
		}
		for _, k := range here.Kids {
			if k.Line == line {
				return k, nil
			}
		}
		n := &node{Line: line}
		here.Kids = append(here.Kids, n)
		return n, nil
	}
	if !slices.Contains(leaves[kind(here)], word) {
		return nil, fmt.Errorf("%q means nothing here", word)
	}
	if value == "" {
		return nil, fmt.Errorf("%s needs a value", word)
	}
	if word == "state" && value != "on" && value != "off" {
		return nil, fmt.Errorf("state is on or off")
	}
	if word == "word" && !strings.HasPrefix(value, "kept ") {
		line = "word kept " + box.Seal("fulmar", value)
	}
	for _, k := range here.Kids {
		if kind(k) == word {
			k.Line = line
			return k, nil
		}
	}
	n := &node{Line: line}
	here.Kids = append(here.Kids, n)
	return n, nil
}

func (d *Device) lines() []string {
	var out []string
	var walk func(n *node, pad string)
	walk = func(n *node, pad string) {
		for _, k := range n.Kids {
			if slices.Contains(blocks[kind(n)], kind(k)) {
				out = append(out, pad+k.Line+" {")
				walk(k, pad+"    ")
				out = append(out, pad+"}")
			} else {
				out = append(out, pad+k.Line+";")
			}
		}
	}
	walk(d.top, "")
	return out
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, d.lines(), d.factory, f})
}

// Status returns what the control port shows.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("fulmar")
	st.Running, st.Factory = d.lines(), d.factory
	return st
}

// Amend types lines as somebody in amend mode would; "out" leaves a block.
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	at := []*node{d.top}
	for _, l := range lines {
		var err error
		if at, err = d.typed(at, l); err != nil {
			return err
		}
	}
	return nil
}

// typed takes one line; blocks that are entered stay open.
func (d *Device) typed(at []*node, line string) ([]*node, error) {
	here := at[len(at)-1]
	if line == "out" {
		if len(at) == 1 {
			return at, fmt.Errorf("no block is open")
		}
		return at[:len(at)-1], nil
	}
	if what, ok := strings.CutPrefix(line, "drop "); ok {
		i := slices.IndexFunc(here.Kids, func(k *node) bool { return k.Line == what || strings.HasPrefix(k.Line, what+" ") })
		if i < 0 {
			return at, fmt.Errorf("there is no %s", what)
		}
		here.Kids = slices.Delete(here.Kids, i, i+1)
		return at, nil
	}
	n, err := take(at, line)
	if err == nil && slices.Contains(blocks[kind(here)], kind(n)) {
		return append(slices.Clone(at), n), nil
	}
	return at, err
}

// Stow does nothing: what is typed is kept.
func (d *Device) Stow() int { return 0 }

// Restart takes the strip down and up.
func (d *Device) Restart() {
	d.HangUp()
	d.Lock()
	d.Restarts++
	d.Unlock()
	d.Env.Restarted()
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	factory := lines == nil
	if factory {
		lines = []string{"strip {", "name fulmar;", "}", "owner yard {", "word yard;", "}"}
	}
	if err := d.load(lines); err != nil {
		return err
	}
	d.Lock()
	d.Serial, d.factory = serial, factory
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Reset takes the strip back to factory settings.
func (d *Device) Reset(string) error { return d.Replace(d.Status().Serial, nil) }

func (d *Device) find(path ...string) string {
	n := d.top
	for _, p := range path {
		i := slices.IndexFunc(n.Kids, func(k *node) bool { return k.Line == p || strings.HasPrefix(k.Line, p+" ") })
		if i < 0 {
			return ""
		}
		n = n.Kids[i]
	}
	return n.Line
}

// Serve listens for SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	return d.ServeSSH(e, func(user, word string) bool {
		d.Lock()
		defer d.Unlock()
		return d.find("owner "+user, "word") == "word kept "+box.Seal("fulmar", word)
	}, d.console)
}

func (d *Device) console(ctx context.Context, rw io.ReadWriteCloser, tty bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { rw.Close() })()
	defer d.Enter(cancel)()
	t := box.NewTerminal(rw, tty)
	defer t.Out.Flush()
	if b := d.Faults().Banner; b != "" {
		t.Print(b)
	}
	t.More, t.Rows = "-more, or x to stop-", 20
	var at []*node
	for {
		d.Lock()
		name := strings.TrimPrefix(d.find("strip", "name"), "name ")
		d.Unlock()
		mark := "=>"
		if at != nil {
			mark = "=*>"
			if n := len(at) - 1; n > 0 {
				mark = "=" + kind(at[n]) + "*>"
			}
		}
		fmt.Fprintf(t.Out, "%s %s ", name, mark)
		line, err := t.ReadLine(true)
		line = strings.TrimSpace(line)
		if err != nil || d.Wait(ctx, line) != nil {
			return
		}
		switch {
		case line == "":
		case line == "quit":
			return
		case line == "pages off":
			t.Rows = 0
		case line == "view unit":
			d.Lock()
			t.Print("name    "+name, "model   "+d.Model, "number  "+d.Serial, "version "+d.Release)
			d.Unlock()
		case line == "view all":
			d.Lock()
			lines := d.lines()
			d.Unlock()
			text := strings.Join(append(append([]string{"// settings of " + name}, lines...), fmt.Sprintf("// %d lines", len(lines))), "\n") + "\n"
			var b strings.Builder
			if d.Show(ctx, &b, []byte(text), "outlet 9 {\n}\n") != nil {
				_, _ = t.Out.WriteString(b.String())
				return
			}
			if t.Page(strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")) != nil {
				return
			}
		case line == "amend" && at == nil:
			if h := d.Faults().HeldBy; h != "" {
				t.Print("!! " + h + " is amending")
				break
			}
			d.Lock()
			at = []*node{d.top}
			d.Unlock()
		case line == "done" && at != nil:
			at = nil
		case at != nil:
			_ = t.Out.Flush()
			err := d.Apply(ctx, func() (err error) {
				d.Lock()
				defer d.Unlock()
				d.factory = false
				at, err = d.typed(at, line)
				return err
			})
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				t.Print("!! " + err.Error())
			}
		default:
			t.Print(fmt.Sprintf("!! %q means nothing here", line))
		}
	}
}
