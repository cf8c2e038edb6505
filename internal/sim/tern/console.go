package tern

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

type mode int

const (
	deck mode = iota
	aloft
	chart
)

// Console is one sign-in at a device.
type Console struct {
	Device *Device
	User   string
	From   string
	TTY    bool // echo what is typed, page what is shown

	in    *bufio.Reader
	out   *bufio.Writer
	mode  mode
	sheet int
	seat  int
	ctx   context.Context
}

var errBye = errors.New("bye")

// Serve talks over rw until the user leaves, the context ends or the
// connection breaks. With a command, only that is run.
func (c *Console) Serve(ctx context.Context, rw io.ReadWriteCloser, command string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { rw.Close() })()
	c.ctx, c.in, c.out, c.sheet = ctx, bufio.NewReader(rw), bufio.NewWriter(rw), 24
	c.seat = c.Device.enter(cancel)
	defer c.Device.leave(c.seat)
	defer func() {
		if c.mode == chart {
			c.Device.leaveChart()
		}
		c.out.Flush()
	}()
	if command != "" {
		c.sheet = 0
		_ = c.command(command)
		return
	}
	if b := c.Device.Faults().Banner; b != "" {
		c.print(b)
	}
	c.print("Welcome aboard, " + c.User + ".")
	for ctx.Err() == nil {
		c.prompt()
		line, err := c.readLine(true)
		if err != nil {
			return
		}
		if err := c.command(line); err != nil {
			return
		}
	}
}

func (c *Console) prompt() {
	trail, typing := c.Device.trail()
	if c.mode == chart && typing {
		return
	}
	host := c.Device.host()
	switch c.mode {
	case deck:
		fmt.Fprintf(c.out, "%s ~ ", host)
	case aloft:
		fmt.Fprintf(c.out, "%s ~~ ", host)
	case chart:
		if trail != "" {
			trail = "/" + strings.Fields(trail)[0]
		}
		fmt.Fprintf(c.out, "%s chart%s ~~ ", host, trail)
	}
}

func (c *Console) newline() string {
	if c.TTY {
		return "\r\n"
	}
	return "\n"
}

func (c *Console) print(lines ...string) {
	for _, l := range lines {
		c.out.WriteString(strings.ReplaceAll(l, "\n", c.newline()) + c.newline())
	}
}

func (c *Console) refuse(err error) { c.print("?! " + err.Error()) }

// readLine reads up to Enter, echoing and taking backspaces on a terminal.
func (c *Console) readLine(echo bool) (string, error) {
	var line []byte
	echo = echo && c.TTY
	for {
		if c.in.Buffered() == 0 {
			c.out.Flush()
		}
		b, err := c.in.ReadByte()
		if err != nil {
			return "", err
		}
		switch b {
		case '\r', '\n':
			if b == '\r' && c.in.Buffered() > 0 {
				if next, _ := c.in.Peek(1); next[0] == '\n' {
					_, _ = c.in.ReadByte()
				}
			}
			if c.TTY {
				c.out.WriteString("\r\n")
			}
			return string(line), nil
		case 8, 127:
			if len(line) > 0 {
				line = line[:len(line)-1]
				if echo {
					c.out.WriteString("\b \b")
				}
			}
		case 3, 21: // interrupt and "kill line"
			line = line[:0]
			c.out.WriteString("\r\n")
		case 4:
			if len(line) == 0 {
				return "", io.EOF
			}
		default:
			line = append(line, b)
			if echo {
				c.out.WriteByte(b)
			}
		}
	}
}

// page shows lines a sheet at a time.
func (c *Console) page(lines []string) error {
	const more = "((space turns the sheet, q puts it away))"
	for i, l := range lines {
		if c.TTY && c.sheet > 0 && i > 0 && i%c.sheet == 0 {
			c.out.WriteString(more)
			c.out.Flush()
			b, err := c.in.ReadByte()
			if err != nil {
				return err
			}
			c.out.WriteString("\r" + strings.Repeat(" ", len(more)) + "\r")
			if b == 'q' {
				return nil
			}
		}
		c.print(l)
	}
	return nil
}

func (c *Console) command(line string) error {
	f := c.Device.Faults()
	if f.SlowMS > 0 {
		c.out.Flush()
		select {
		case <-time.After(time.Duration(f.SlowMS) * time.Millisecond):
		case <-c.ctx.Done():
			return c.ctx.Err()
		}
	}
	if f.Hang != "" && strings.TrimSpace(line) == f.Hang {
		c.out.Flush()
		<-c.ctx.Done()
		return c.ctx.Err()
	}
	if c.mode == chart {
		return c.amend(line)
	}
	w := strings.Fields(line)
	if len(w) == 0 {
		return nil
	}
	switch cmd := strings.Join(w, " "); {
	case cmd == "bye":
		return errBye
	case cmd == "aloft":
		return c.raise()
	case cmd == "alow":
		c.mode = deck
	case w[0] == "hail" && len(w) == 2:
		if c.Device.reaches(w[1]) {
			c.print(w[1] + " hails back, 1 ms.")
		} else {
			c.print("No hail from " + w[1] + ".")
		}
	case cmd == "recite unit":
		c.unit()
	case cmd == "recite changes":
		c.print(c.Device.changes()...)
	case cmd == "recite lanes":
		c.print(c.Device.lanes()...)
	case cmd == "recite running" || cmd == "recite startup":
		return c.recite(w[1], f)
	case w[0] == "sheet" && len(w) == 2:
		n := 0
		if _, err := fmt.Sscanf(w[1], "%d", &n); err != nil && w[1] != "endless" {
			c.refuse(fmt.Errorf("sheet takes a number of lines, or: endless"))
			return nil
		}
		c.sheet = n
	case c.mode == deck && (cmd == "amend" || w[0] == "stow" || w[0] == "restart"):
		c.refuse(fmt.Errorf("%s is for those aloft", w[0]))
	case cmd == "amend":
		if err := c.Device.takeChart(fmt.Sprintf("%s at seat %d from %s since %s", c.User, c.seat, c.From, c.Device.Clock().UTC().Format("15:04"))); err != nil {
			c.refuse(err)
			return nil
		}
		c.mode = chart
	case c.mode == aloft && w[0] == "unseat" && len(w) == 2:
		if err := c.Device.unseat(w[1]); err != nil {
			c.refuse(err)
			return nil
		}
		c.print("Seat " + w[1] + " is empty.")
	case cmd == "stow running":
		if f.RefuseStow {
			c.refuse(fmt.Errorf("the locker is full, nothing was stowed"))
			return nil
		}
		c.print(fmt.Sprintf("Stowed %d lines.", c.Device.Stow()))
	case w[0] == "restart":
		return c.restart(w[1:])
	default:
		c.refuse(fmt.Errorf("unknown word %q", w[0]))
	}
	return nil
}

func (c *Console) raise() error {
	if c.mode != deck {
		return nil
	}
	if c.Device.rank(c.User) != "master" {
		c.refuse(fmt.Errorf("rank deck stays on deck"))
		return nil
	}
	if want := c.Device.mast(); want != "" {
		c.out.WriteString("Mast word: ")
		word, err := c.readLine(false)
		if err != nil {
			return err
		}
		if Sealed(word) != want {
			c.refuse(fmt.Errorf("that is not the mast word"))
			return nil
		}
	}
	c.mode = aloft
	return nil
}

func (c *Console) unit() {
	d := c.Device
	d.mu.Lock()
	model, release, serial, factory := d.Model, d.Release, d.Serial, d.factory
	d.mu.Unlock()
	c.print("host      "+d.host(), "model     "+model, "release   "+release, "serial    "+serial, fmt.Sprintf("seat      %d", c.seat))
	if factory {
		c.print("settings  as from the yard")
	}
}

func (c *Console) recite(part string, f Faults) error {
	lines, err := c.Device.recite(part, f.Weak || c.mode == deck)
	if err != nil {
		c.refuse(err)
		return nil
	}
	if f.Endless {
		for c.ctx.Err() == nil {
			c.print("lane endless")
		}
		return c.ctx.Err()
	}
	if f.Garbage > 0 {
		junk := make([]byte, f.Garbage)
		for i := range junk {
			junk[i] = byte(i*37 + 129)
		}
		half := len(lines) / 2
		lines = append(append(append([]string{}, lines[:half]...), string(junk)), lines[half:]...)
	}
	if f.CutAfter > 0 {
		all := strings.Join(lines, c.newline())
		c.out.WriteString(all[:min(f.CutAfter, len(all))])
		return errBye
	}
	return c.page(lines)
}

func (c *Console) amend(line string) error {
	if _, typing := c.Device.trail(); !typing {
		switch strings.TrimSpace(line) {
		case "":
			return nil
		case "ashore":
			c.Device.leaveChart()
			c.mode = aloft
			return nil
		}
	}
	c.out.Flush()
	err := c.Device.typeLine(c.ctx, c.User, line)
	if c.ctx.Err() != nil {
		return c.ctx.Err()
	}
	if err != nil {
		c.refuse(err)
	}
	return nil
}

func (c *Console) restart(w []string) error {
	switch {
	case len(w) == 1 && w[0] == "now":
		if c.Device.dirty() {
			c.out.WriteString("What runs is not stowed and would be lost. Restart (go/stay)? ")
			answer, err := c.readLine(true)
			if err != nil {
				return err
			}
			if strings.TrimSpace(answer) != "go" {
				c.print("Staying.")
				return nil
			}
		}
		c.print("Restarting.")
		c.out.Flush()
		c.Device.Restart()
		return errBye
	case len(w) == 3 && w[0] == "in" && (w[2] == "minutes" || w[2] == "seconds"):
		unit := time.Minute
		if w[2] == "seconds" {
			unit = time.Second
		}
		var n int
		if _, err := fmt.Sscanf(w[1], "%d", &n); err != nil || n < 1 || n > 1440 {
			c.refuse(fmt.Errorf("%q is not a number from 1 to 1440", w[1]))
			return nil
		}
		c.Device.restartIn(time.Duration(n) * unit)
		c.print(fmt.Sprintf("Will restart in %d %s.", n, w[2]))
	case len(w) == 1 && w[0] == "cancel":
		if c.Device.restartIn(0) {
			c.print("The restart is off.")
		} else {
			c.refuse(fmt.Errorf("no restart is waiting"))
		}
	default:
		c.refuse(fmt.Errorf("restart takes: now, in NUMBER minutes, or cancel"))
	}
	return nil
}
