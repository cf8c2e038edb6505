package petrel

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// File is where the configuration is kept.
const File = "etc/petrel.conf"

// Device is one simulated router.
type Device struct {
	box.Base
	files   map[string][]byte
	loaded  *Config
	before  *Config // what it goes back to, while a load is for a time only
	back    *time.Timer
	factory bool
}

// State is what outlives a restart of the simulator.
type State struct {
	Name, Serial, File, Loaded string
	Factory                    bool
	Faults                     box.Faults
}

// New makes a router that has loaded its file.
func New(name, serial, file string) (*Device, error) {
	return Restore(State{Name: name, Serial: serial, File: file, Loaded: file})
}

// Restore makes a router from kept state.
func Restore(s State) (*Device, error) {
	c, err := parse(s.Loaded)
	if err != nil {
		return nil, fmt.Errorf("what %s has loaded: %w", s.Name, err)
	}
	d := &Device{loaded: c, files: map[string][]byte{File: []byte(s.File)}, factory: s.Factory}
	d.Base.Init()
	d.Name, d.Serial, d.Model, d.Release = s.Name, s.Serial, "Petrel K1", "0.9"
	d.Base.SetFaults(s.Faults)
	return d, nil
}

// Keep returns what must outlive the simulator.
func (d *Device) Keep() (json.RawMessage, error) {
	f := d.Faults()
	d.Lock()
	defer d.Unlock()
	return json.Marshal(State{d.Name, d.Serial, string(d.files[File]), strings.Join(d.loaded.Lines(), "\n") + "\n", d.factory, f})
}

// Status returns what the control port shows: as running what is loaded, as startup
// the file.
func (d *Device) Status() box.Status {
	d.Lock()
	defer d.Unlock()
	st := d.Common("petrel")
	st.Running, st.Startup, st.Factory = d.loaded.Lines(), strings.Split(string(d.files[File]), "\n"), d.factory
	for name := range d.files {
		if name != File {
			st.Files = append(st.Files, name)
		}
	}
	return st
}

// Amend writes the file anew, as somebody with an editor would, and loads nothing.
func (d *Device) Amend(_ string, lines []string) error {
	d.Lock()
	d.files[File] = []byte(strings.Join(lines, "\n"))
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Stow loads the file.
func (d *Device) Stow() int {
	_ = d.load(0)
	return len(d.Status().Running)
}

// Restart brings the router down and up with its file.
func (d *Device) Restart() {
	d.HangUp()
	_ = d.load(0)
	d.Lock()
	d.Restarts++
	d.Unlock()
	d.Env.Restarted()
}

// Replace puts another unit in this one's place; without lines one with factory
// settings.
func (d *Device) Replace(serial string, lines []string) error {
	src := strings.Join(lines, "\n")
	if lines == nil {
		src = "name petrel\nkeeper yard word yard\n"
	}
	c, err := parse(src)
	if err != nil {
		return err
	}
	d.Lock()
	d.Serial, d.loaded, d.files, d.factory = serial, c, map[string][]byte{File: []byte(src)}, lines == nil
	d.Unlock()
	d.Env.Changed()
	return nil
}

// Reset takes the router back to factory settings.
func (d *Device) Reset(string) error { return d.Replace(d.Status().Serial, nil) }

// load loads the file: for good, or for so long.
func (d *Device) load(within time.Duration) error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	c, err := parse(string(d.files[File]))
	if err != nil {
		return err
	}
	if d.back != nil {
		if within == 0 {
			return errors.New("a load is waiting to be kept: keep it or go back")
		}
		d.back.Stop()
	} else {
		d.before = d.loaded
	}
	if within > 0 {
		d.back = time.AfterFunc(within, func() { _ = d.goBack() })
	}
	d.loaded, d.factory = c, false
	return nil
}

// goBack has it run what it had loaded before.
func (d *Device) goBack() error {
	d.Lock()
	defer func() { d.Unlock(); d.Env.Changed() }()
	if d.back == nil {
		return errors.New("no load is waiting to be kept")
	}
	d.back.Stop()
	d.back, d.loaded = nil, d.before
	return nil
}

// Serve listens for SSH.
func (d *Device) Serve(e box.Env) (func(), error) {
	return d.Listen(e, box.SSH, func(user, word string) bool {
		d.Lock()
		defer d.Unlock()
		return d.loaded.knows(user, word)
	}, &gssh.Server{Handler: d.run, SubsystemHandlers: map[string]gssh.SubsystemHandler{"sftp": d.sftp}})
}

func (d *Device) read(name string) ([]byte, error) {
	d.Lock()
	defer d.Unlock()
	raw, ok := d.files[strings.TrimPrefix(name, "/")]
	if !ok {
		return nil, fmt.Errorf("%s: no such file", name)
	}
	return raw, nil
}

func (d *Device) sftp(s gssh.Session) {
	ctx, cancel := context.WithCancel(s.Context())
	defer cancel()
	defer d.Enter(func() { s.Close() })()
	box.ServeSFTP(s, &box.Disk{Base: &d.Base, Ctx: ctx, Room: 64 << 10, Cut: func() { s.Close() }, Read: d.read,
		Write: func(name string, content []byte) error {
			return d.Apply(ctx, func() error {
				d.Lock()
				defer d.Unlock()
				d.files[strings.TrimPrefix(name, "/")] = bytes.Clone(content)
				return nil
			})
		},
		Files: func() map[string][]byte { return map[string][]byte{} }})
}

// run does one command of its shell.
func (d *Device) run(s gssh.Session) {
	ctx := s.Context()
	defer d.Enter(func() { s.Close() })()
	w := strings.Fields(strings.ReplaceAll(s.RawCommand(), "'", ""))
	if len(w) == 0 {
		fmt.Fprintln(s, "This router is spoken to a command at a time.")
		_ = s.Exit(1)
		return
	}
	if d.Wait(ctx, s.RawCommand()) != nil {
		return
	}
	fail := func(err error) {
		fmt.Fprintln(s.Stderr(), w[0]+": "+err.Error())
		_ = s.Exit(1)
	}
	out, err := "", error(nil)
	switch {
	case w[0] == "cat" && len(w) == 2, w[0] == "sha256sum" && len(w) == 2:
		var raw []byte
		if raw, err = d.read(w[1]); err == nil && w[0] == "cat" {
			if d.Show(ctx, s, raw, "# and on\n") != nil {
				s.Close()
			}
			return
		}
		out = fmt.Sprintf("%x  %s\n", sha256.Sum256(raw), w[1])
	case w[0] == "mv" && len(w) == 3:
		err = d.Apply(ctx, func() error {
			raw, err := d.read(w[1])
			if err == nil {
				d.Lock()
				delete(d.files, strings.TrimPrefix(w[1], "/"))
				d.files[strings.TrimPrefix(w[2], "/")] = raw
				d.Unlock()
			}
			return err
		})
	case w[0] == "rm" && len(w) == 2:
		d.Lock()
		delete(d.files, strings.TrimPrefix(w[1], "/"))
		d.Unlock()
	case w[0] != "petrel":
		err = os.ErrNotExist
	case len(w) == 2 && w[1] == "about":
		d.Lock()
		out = fmt.Sprintf("model %s\nrelease %s\ncalled %s\n", d.Model, d.Release, d.loaded.name())
		if d.factory {
			out += "as made\n"
		}
		d.Unlock()
	case len(w) == 2 && w[1] == "serial":
		d.Lock()
		out = d.Serial + "\n"
		d.Unlock()
	case len(w) == 2 && w[1] == "shown":
		d.Lock()
		out = strings.Join(d.loaded.Lines(), "\n") + "\n"
		d.Unlock()
	case len(w) == 3 && w[1] == "check":
		var raw []byte
		if raw, err = d.read(w[2]); err == nil {
			_, err = parse(string(raw))
		}
	case len(w) == 2 && w[1] == "load":
		err = d.Apply(ctx, func() error { return d.load(0) })
	case len(w) == 4 && w[1] == "load" && w[2] == "--back-after":
		n, e := strconv.Atoi(w[3])
		if err = e; err == nil {
			err = d.Apply(ctx, func() error { return d.load(time.Duration(n) * time.Second) })
		}
	case len(w) == 2 && w[1] == "keep":
		d.Lock()
		if d.back == nil {
			err = errors.New("no load is waiting to be kept")
		} else {
			d.back.Stop()
			d.back = nil
		}
		d.Unlock()
	case len(w) == 2 && w[1] == "back":
		err = d.goBack()
	default:
		err = fmt.Errorf("what is %s?", strings.Join(w[1:], " "))
	}
	if err != nil {
		fail(err)
		return
	}
	_, _ = s.Write([]byte(out))
	_ = s.Exit(0)
}
