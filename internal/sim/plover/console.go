package plover

import (
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	xssh "golang.org/x/crypto/ssh"

	"magpie/internal/sim/box"
)

type gossh = xssh.KeyboardInteractiveChallenge

// console talks to one keeper who has signed in.
func (d *Device) console(ctx context.Context, rw io.ReadWriteCloser, user string, tty, greet bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(ctx, func() { rw.Close() })()
	defer d.Enter(cancel)()
	t := box.NewTerminal(rw, tty)
	t.More, t.Rows = "== space shows more ==", 20
	defer t.Out.Flush()
	if b := d.Faults().Banner; greet && b != "" {
		t.Print(b)
	}
	working := false
	defer func() {
		if working {
			d.letWork()
		}
	}()
	for ctx.Err() == nil {
		d.Lock()
		host := d.running.get("system : name")
		d.Unlock()
		mark := ":"
		if working {
			mark = "+"
		}
		fmt.Fprintf(t.Out, "(%s) %s ", host, mark)
		line, err := t.ReadLine(true)
		if err != nil {
			return
		}
		line = strings.TrimSpace(line)
		if err := d.Wait(ctx, line); err != nil {
			return
		}
		if line == "" {
			continue
		}
		if working && strings.Contains(line, " : ") {
			_ = t.Out.Flush()
			err := d.Apply(ctx, func() error {
				d.Lock()
				defer d.Unlock()
				d.factory = false
				return d.running.Take(line)
			})
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				t.Print("no: " + err.Error())
			}
			continue
		}
		end, err := d.command(ctx, t, user, line, &working)
		if err != nil {
			t.Print("no: " + err.Error())
		}
		if end {
			return
		}
	}
}

func (d *Device) letWork() {
	d.Lock()
	d.holder = ""
	d.Unlock()
}

func (d *Device) command(ctx context.Context, t *box.Terminal, user, line string, working *bool) (end bool, err error) {
	w := strings.Fields(line)
	switch {
	case line == "part":
		return true, nil
	case line == "tell me":
		d.Lock()
		host, serial, factory := d.running.get("system : name"), d.Serial, d.factory
		d.Unlock()
		t.Print("switch is "+host, "kind is "+d.Model, "number is "+serial, "edition is "+d.Release)
		if factory {
			t.Print("settings are those of the maker")
		}
	case line == "tell sums":
		d.Lock()
		running, kept := d.running.plain(), []string{}
		if c, err := Parse(strings.Split(string(d.files[Kept]), "\n")); err == nil {
			kept = c.plain()
		}
		d.Unlock()
		sum := func(settings []string) uint32 { return crc32.ChecksumIEEE([]byte(strings.Join(settings, "\n"))) }
		t.Print(fmt.Sprintf("running is %08x over %d settings", sum(running), len(running)), fmt.Sprintf("kept is %08x over %d settings", sum(kept), len(kept)))
	case line == "tell disk":
		d.Lock()
		used := 0
		for _, f := range d.files {
			used += len(f)
		}
		d.Unlock()
		if d.Faults().FullDisk {
			used = Disk
		}
		t.Print(fmt.Sprintf("%d of %d bytes are free", Disk-used, Disk))
	case line == "tell all":
		d.Lock()
		raw := d.file("running", d.weakLocked(user))
		d.Unlock()
		var b strings.Builder
		if err := d.Show(ctx, &b, raw, "port 1 : label is <x>\n"); err != nil {
			_, _ = t.Out.WriteString(b.String())
			return true, nil
		}
		return t.Page(strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")) != nil, nil
	case len(w) == 4 && w[0] == "write" && w[1] == "all" && w[2] == "as":
		if d.Busy() {
			return false, fmt.Errorf("busy, again in a while")
		}
		weak := d.weak(user)
		d.Lock()
		raw := d.file("running", weak)
		d.Unlock()
		if d.Faults().FullDisk {
			return false, fmt.Errorf("the disk is full")
		}
		d.Lock()
		d.files[w[3]] = raw
		d.Unlock()
		d.Env.Changed()
		t.Print(fmt.Sprintf("%s has %d bytes", w[3], len(raw)))
	case len(w) == 7 && w[0] == "send" && w[1] == "all" && w[2] == "to" && w[5] == "as":
		weak := d.weak(user)
		d.Lock()
		raw := d.file("running", weak)
		d.Unlock()
		if err := box.SendTFTP(d.Env.Address, w[3]+":"+w[4], w[6], raw); err != nil {
			return false, err
		}
		t.Print("sent")
	case len(w) == 7 && w[0] == "bring" && w[1] == "all" && w[2] == "from" && w[5] == "as" && *working:
		raw, err := box.FetchTFTP(d.Env.Address, w[3]+":"+w[4], w[6])
		if err != nil {
			return false, err
		}
		c, err := Parse(strings.Split(string(raw), "\n"))
		if err == nil {
			err = d.Apply(ctx, func() error {
				d.Lock()
				defer d.Unlock()
				d.running = c
				return nil
			})
		}
		if err != nil {
			return false, err
		}
		t.Print("taken over")
	case len(w) == 2 && w[0] == "wipe":
		d.Lock()
		_, ok := d.files[w[1]]
		delete(d.files, w[1])
		d.Unlock()
		if !ok || w[1] == Kept {
			return false, fmt.Errorf("there is no %s", w[1])
		}
		d.Env.Changed()
		t.Print(w[1] + " is gone")
	case line == "work":
		if d.weak(user) {
			return false, fmt.Errorf("rank look only looks")
		}
		f := d.Faults()
		d.Lock()
		defer d.Unlock()
		holder := d.holder
		if f.HeldBy != "" {
			holder = f.HeldBy
		}
		if holder != "" {
			return false, fmt.Errorf("work is held by %s", holder)
		}
		d.holder, *working = user, true
	case line == "rest" && *working:
		d.letWork()
		*working = false
	case line == "keep all":
		if d.Faults().RefuseStow || d.Faults().FullDisk {
			return false, fmt.Errorf("the disk is full")
		}
		t.Print(fmt.Sprintf("%d settings kept", d.Stow()))
	case len(w) == 3 && w[0] == "take" && w[1] == "in" && *working:
		raw, err := d.read(w[2])
		if err != nil {
			return false, fmt.Errorf("there is no %s", w[2])
		}
		n := 0
		for i, l := range strings.Split(string(raw), "\n") {
			if l == "" || l[0] == '#' || strings.HasPrefix(l, "system : awake ") {
				continue
			}
			err := d.Apply(ctx, func() error {
				d.Lock()
				defer d.Unlock()
				return d.running.Take(l)
			})
			if err != nil {
				return false, fmt.Errorf("line %d: %w; the %d before it were taken", i+1, err, n)
			}
			n++
		}
		t.Print(fmt.Sprintf("%d lines taken", n))
	case line == "restart":
		d.Lock()
		same := strings.Join(d.running.plain(), "\n") == func() string {
			c, _ := Parse(strings.Split(string(d.files[Kept]), "\n"))
			return strings.Join(c.plain(), "\n")
		}()
		d.Unlock()
		if !same {
			answer, err := t.Ask("Keep what runs first, yes or no? ", true)
			if err != nil {
				return true, nil
			}
			if strings.TrimSpace(answer) == "yes" {
				d.Stow()
			}
		}
		t.Print("Restarting.")
		_ = t.Out.Flush()
		d.Restart()
		return true, nil
	default:
		return false, fmt.Errorf("%q is not understood here", w[0])
	}
	return false, nil
}

func (d *Device) weakLocked(user string) bool {
	return d.running.get("keeper "+user+" : rank") != "full"
}
