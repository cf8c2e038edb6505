// Package sim runs a fleet of simulated network devices: real listeners on
// loopback addresses, one address a device, speaking real protocols. It
// imports nothing of the product, so what it says about it is evidence.
package sim

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	gssh "github.com/gliderlabs/ssh"
	"golang.org/x/crypto/ssh"

	"magpie/internal/sim/box"
)

// Port is where a simulated router listens.
const Port = box.SSH

// Unit is a device with its listeners.
type Unit struct {
	box.Model
	Name    string
	Family  string
	Site    string
	Address string // without the port

	fleet     *Fleet
	keySeed   int
	cert, key []byte       // PEM
	fixed     atomic.Int64 // when not zero, the unit's clock stands still here
	mu        sync.Mutex
	stop      func()
}

// Fleet is a set of units in one 127/16 block of their own.
type Fleet struct {
	Units []*Unit
	Story []Event

	dir   string
	block int // the second octet
	seed  uint64
	hold  net.Listener // keeps the block, also while units are down
}

type fleetFile struct {
	Block    int    `json:"block"`
	Seed     uint64 `json:"seed"`
	Count    int    `json:"count"`
	Families string `json:"families"`
}

type unitFile struct {
	Model     json.RawMessage
	KeySeed   int
	Cert, Key []byte
}

// Open starts the fleet kept in dir, or makes one of n devices there, of the
// families that are named (comma-separated; empty: routers). n and families
// only matter for a new fleet.
func Open(dir string, n int, which string, seed uint64, now time.Time) (*Fleet, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f := &Fleet{dir: dir, seed: seed}
	kept := fleetFile{}
	path := filepath.Join(dir, "fleet.json")
	raw, err := os.ReadFile(path)
	fresh := errors.Is(err, os.ErrNotExist)
	switch {
	case fresh:
		kept = fleetFile{Seed: seed, Count: n, Families: which}
	case err != nil:
		return nil, err
	default:
		if err := json.Unmarshal(raw, &kept); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	f.seed, f.block = kept.Seed, kept.Block
	places, story, err := Scenario(kept.Count, kept.Families, kept.Seed, now)
	if err != nil {
		return nil, err
	}
	f.Story = story
	for i, p := range places {
		u := &Unit{fleet: f, Name: p.Name, Family: p.Family, Site: p.Site}
		state := unitFile{}
		raw, err := os.ReadFile(f.statePath(p.Name))
		if err == nil {
			if err = json.Unmarshal(raw, &state); err == nil {
				u.keySeed, u.cert, u.key = state.KeySeed, state.Cert, state.Key
				u.Model, err = families[p.Family].restore(state.Model)
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", f.statePath(p.Name), err)
			}
		} else if u.Model, err = p.build(); err != nil {
			return nil, err
		}
		u.Address = fmt.Sprintf("%d.%d", (i+1)/250, (i+1)%250+1)
		f.Units = append(f.Units, u)
	}
	if err := f.listen(fresh); err != nil {
		f.Close()
		return nil, err
	}
	if fresh {
		kept.Block = f.block
		raw, _ := json.Marshal(kept)
		if err := os.WriteFile(path, raw, 0o600); err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

// listen finds a block no other fleet uses, or takes its own again.
func (f *Fleet) listen(fresh bool) error {
	hosts := make([]string, len(f.Units))
	for i, u := range f.Units {
		hosts[i] = u.Address
	}
	tries := 1
	if fresh {
		tries = 40
	}
	var last error
	for range tries {
		if fresh {
			f.block = 2 + rand.IntN(250)
		}
		if f.hold, last = net.Listen("tcp", fmt.Sprintf("127.%d.255.254:2222", f.block)); last != nil {
			continue
		}
		for i, u := range f.Units {
			u.Address = fmt.Sprintf("127.%d.%s", f.block, hosts[i])
			if u.Faults().Down {
				continue
			}
			if last = u.up(); last != nil {
				break
			}
		}
		if last == nil {
			return nil
		}
		f.Close()
	}
	return fmt.Errorf("no free loopback block for the fleet: %w", last)
}

// now is the unit's clock.
func (u *Unit) now() time.Time {
	if at := u.fixed.Load(); at != 0 {
		return time.Unix(0, at)
	}
	return time.Now()
}

// SetClock makes the unit's clock stand still at a time, or run again when at
// is zero.
func (u *Unit) SetClock(at time.Time) {
	if at.IsZero() {
		u.fixed.Store(0)
		return
	}
	u.fixed.Store(at.UnixNano())
}

// FactoryAddress is where units answer whose settings are the maker's and name
// an address: all at the same one.
func (f *Fleet) FactoryAddress() string { return fmt.Sprintf("127.%d.250.1", f.block) }

// Unit returns the unit of that name, or nil.
func (f *Fleet) Unit(name string) *Unit {
	for _, u := range f.Units {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// Close stops every listener and connection.
func (f *Fleet) Close() {
	for _, u := range f.Units {
		u.down()
	}
	if f.hold != nil {
		f.hold.Close()
		f.hold = nil
	}
}

func (f *Fleet) statePath(name string) string { return filepath.Join(f.dir, name+".unit.json") }

func (u *Unit) save() {
	u.mu.Lock()
	defer u.mu.Unlock()
	path := u.fleet.statePath(u.Name)
	kept, err := u.Model.Keep()
	var raw []byte
	if err == nil {
		raw, err = json.Marshal(unitFile{kept, u.keySeed, u.cert, u.key})
	}
	if err == nil {
		if err = os.WriteFile(path+".new", raw, 0o600); err == nil {
			err = os.Rename(path+".new", path)
		}
	}
	if err != nil {
		slog.Error("unit state not kept", "unit", u.Name, "err", err)
	}
}

// hostKey is made from the fleet's seed, so that it outlives a restart.
func (u *Unit) hostKey() gssh.Signer {
	sum := sha256.Sum256([]byte(fmt.Sprintf("%d/%s/%d", u.fleet.seed, u.Name, u.keySeed)))
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(sum[:]))
	if err != nil {
		panic(err)
	}
	return signer
}

// NewHostKey gives the unit another host key and certificate, as a reset does.
func (u *Unit) NewHostKey() error {
	u.keySeed++
	u.cert, u.key = nil, nil
	u.down()
	if err := u.up(); err != nil {
		return err
	}
	u.save()
	return nil
}

func (u *Unit) up() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.stop != nil {
		return nil
	}
	e := box.Env{Address: u.Address, HostKey: u.hostKey(), Clock: u.now, Changed: u.save, Restarted: u.bounce}
	if u.Family != "tern" && u.Family != "plover" {
		if u.cert == nil {
			var err error
			if u.cert, u.key, err = box.NewCertificate(u.Address); err != nil {
				return err
			}
		}
		var err error
		if e.TLS, err = tls.X509KeyPair(u.cert, u.key); err != nil {
			return err
		}
	}
	if a, ok := u.Model.(interface{ Astray() bool }); ok && a.Astray() {
		e.Address = u.fleet.FactoryAddress()
	}
	stop, err := u.Model.Serve(e)
	if err != nil {
		return err
	}
	u.stop = stop
	return nil
}

func (u *Unit) down() {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.stop != nil {
		u.stop()
		u.stop = nil
	}
}

// bounce is a restart as seen from outside: away, then back.
func (u *Unit) bounce() {
	go func() {
		f := u.Faults()
		u.down()
		if f.NoReturn {
			return
		}
		time.Sleep(300*time.Millisecond + time.Duration(f.SlowRestart)*time.Millisecond)
		if err := u.up(); err != nil {
			slog.Error("unit did not come back", "unit", u.Name, "err", err)
		}
	}()
}

// SetFaults gives the unit faults and takes it off the network or back.
func (u *Unit) SetFaults(f box.Faults) error {
	u.Model.SetFaults(f)
	if f.Down {
		u.down()
		return nil
	}
	return u.up()
}
