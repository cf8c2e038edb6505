// Package box holds what simulated devices of every family have in common: the
// faults they can be told to have, what the control port shows of them, and the
// listeners through which they are reached.
package box

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"strconv"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Ports at which simulated devices listen, each on an address of its own.
const (
	SSH     = 2222
	Telnet  = 2323
	Netconf = 8300
	HTTPS   = 8443
	HTTP    = 8080
	TFTP    = 6969
)

// Faults are what a device can be told to do wrong. The zero value is a
// healthy device.
type Faults struct {
	SlowMS      int    `json:"slow_ms,omitempty"`      // wait this long before each answer
	Hang        string `json:"hang,omitempty"`         // never answer this command, path or operation
	CutAfter    int    `json:"cut_after,omitempty"`    // drop the connection after so many bytes of a part
	DropFirst   int    `json:"drop_first,omitempty"`   // so many NETCONF sessions that lose their first request
	HoldLine    int    `json:"hold_line,omitempty"`    // stop before the Nth change, until released
	HoldApplied bool   `json:"hold_applied,omitempty"` // hold after the change took effect instead of before
	RefuseLine  int    `json:"refuse_line,omitempty"`  // refuse the Nth change
	IgnoreLine  int    `json:"ignore_line,omitempty"`  // accept the Nth change and do nothing
	RefuseLogin bool   `json:"refuse_login,omitempty"`
	HeldBy      string `json:"held_by,omitempty"` // somebody else has the right to change it
	Busy        int    `json:"busy,omitempty"`    // answer "busy" so many times
	Banner      string `json:"banner,omitempty"`  // shown at login
	Weak        bool   `json:"weak,omitempty"`    // every account sees less than everything
	Garbage     int    `json:"garbage,omitempty"` // so many random bytes in the middle of a part
	Endless     bool   `json:"endless,omitempty"` // a part that never ends
	FullDisk    bool   `json:"full_disk,omitempty"`
	Sizes       string `json:"sizes,omitempty"`        // of files by SFTP: "none", none can be asked for; "zero", each is 0
	Expire      int    `json:"expire,omitempty"`       // end the web session after so many requests, once
	SlowRestart int    `json:"slow_restart,omitempty"` // so many milliseconds longer until it is back
	NoReturn    bool   `json:"no_return,omitempty"`    // a restart it never comes back from
	RefuseStow  bool   `json:"refuse_stow,omitempty"`
	Stray       string `json:"stray,omitempty"` // an access point that does not come back when it is asked for
	Down        bool   `json:"down,omitempty"`  // not listening at all
}

// Status is what the control port shows of a device.
type Status struct {
	Name     string   `json:"name"`
	Family   string   `json:"family"`
	Serial   string   `json:"serial"`
	Running  []string `json:"running"`
	Startup  []string `json:"startup"`
	Logins   int      `json:"logins"`
	Refused  int      `json:"refused"`
	Recitals int      `json:"recitals"` // parts shown
	Sessions int      `json:"sessions"`
	Holding  bool     `json:"holding"`
	Typed    int      `json:"typed"` // changes since faults were set
	Files    []string `json:"files"` // on its disk
	Restarts int      `json:"restarts"`
	Factory  bool     `json:"factory"`
	Faults   Faults   `json:"faults"`
}

// Model is a simulated device of some family.
type Model interface {
	Status() Status
	Faults() Faults
	SetFaults(Faults)
	LetGo()                                      // lets a held change go on
	Amend(by string, lines []string) error       // changes what runs, as somebody at the device would
	Stow() int                                   // makes what runs the startup part
	Restart()                                    // as somebody pulling the plug
	Replace(serial string, lines []string) error // puts another unit in its place; nil lines: with factory settings
	Reset(depth string) error                    // takes it back to factory settings
	Keep() (json.RawMessage, error)              // what must outlive the simulator
	Serve(e Env) (stop func(), err error)        // begins to listen
}

// Env is where a device stands.
type Env struct {
	Address   string
	HostKey   ssh.Signer
	TLS       tls.Certificate
	Clock     func() time.Time
	Changed   func() // to be called, without locks held, when what is kept has changed
	Restarted func() // to be called when it goes down for a restart
}

// Listen opens a TCP port at the device's address.
func (e Env) Listen(port int) (net.Listener, error) {
	return net.Listen("tcp", net.JoinHostPort(e.Address, strconv.Itoa(port)))
}

// NewCertificate makes a self-signed certificate and its key, in PEM form.
func NewCertificate(address string) (cert, key []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: address},
		NotBefore: time.Unix(1700000000, 0), NotAfter: time.Unix(4000000000, 0), IPAddresses: []net.IP{net.ParseIP(address)}}
	raw, err := x509.CreateCertificate(rand.Reader, t, t, &k.PublicKey, k)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalECPrivateKey(k)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}), err
}

// Base is the part of a device that is the same in every family. Its lock
// guards the family's own state too.
type Base struct {
	sync.Mutex
	Name, Model, Serial, Release string
	Env                          Env

	faults   Faults
	typed    int
	holding  bool
	release  chan struct{}
	expired  bool
	Logins   int
	Refused  int
	Reads    int
	Restarts int
	sessions map[int]context.CancelFunc
	nextID   int
}

// Init makes the base ready.
func (b *Base) Init() {
	b.release, b.sessions = make(chan struct{}), map[int]context.CancelFunc{}
	b.Env = Env{Clock: time.Now, Changed: func() {}, Restarted: func() {}}
}

// Faults returns the faults in force.
func (b *Base) Faults() Faults {
	b.Lock()
	defer b.Unlock()
	return b.faults
}

// SetFaults replaces the faults and counts changes from one again. What is held
// is let go.
func (b *Base) SetFaults(f Faults) {
	b.Lock()
	b.faults, b.typed, b.expired = f, 0, false
	close(b.release)
	b.release = make(chan struct{})
	b.Unlock()
	b.Env.Changed()
}

// LetGo lets a held change go on.
func (b *Base) LetGo() {
	b.Lock()
	defer b.Unlock()
	b.faults.HoldLine = 0
	close(b.release)
	b.release = make(chan struct{})
}

// Busy answers "busy" as often as the faults say.
func (b *Base) Busy() bool {
	b.Lock()
	defer b.Unlock()
	if b.faults.Busy > 0 {
		b.faults.Busy--
		return true
	}
	return false
}

// DropsFirst tells whether a NETCONF session that begins loses its first request.
func (b *Base) DropsFirst() bool {
	b.Lock()
	defer b.Unlock()
	if b.faults.DropFirst > 0 {
		b.faults.DropFirst--
		return true
	}
	return false
}

// Expires tells whether the web session is to end with this request: once.
func (b *Base) Expires(request int) bool {
	b.Lock()
	defer b.Unlock()
	if b.faults.Expire > 0 && request > b.faults.Expire && !b.expired {
		b.expired = true
		return true
	}
	return false
}

// Common fills in what every family's status has. The lock must be held.
func (b *Base) Common(family string) Status {
	return Status{Name: b.Name, Family: family, Serial: b.Serial, Logins: b.Logins, Refused: b.Refused, Recitals: b.Reads, Sessions: len(b.sessions),
		Holding: b.holding, Typed: b.typed, Restarts: b.Restarts, Faults: b.faults, Running: []string{}, Startup: []string{}, Files: []string{}}
}

// Enter counts a session in; leave counts it out.
func (b *Base) Enter(cancel context.CancelFunc) (leave func()) {
	b.Lock()
	defer b.Unlock()
	b.nextID++
	id := b.nextID
	b.sessions[id] = cancel
	return func() {
		b.Lock()
		defer b.Unlock()
		delete(b.sessions, id)
	}
}

// HangUp ends every session.
func (b *Base) HangUp() {
	b.Lock()
	defer b.Unlock()
	for _, cancel := range b.sessions {
		cancel()
	}
}

// SignIn counts an attempt and tells whether it may succeed: ok is what the
// family thinks of user and word.
func (b *Base) SignIn(ok bool) bool {
	b.Lock()
	defer b.Unlock()
	b.Logins++
	if ok = ok && !b.faults.RefuseLogin; !ok {
		b.Refused++
	}
	return ok
}

// ErrRefused is a change the device was told to refuse.
var ErrRefused = errors.New("the unit will not have that")

// Apply takes one change with the faults in force: held, refused, or accepted
// and not applied.
func (b *Base) Apply(ctx context.Context, do func() error) error {
	b.Lock()
	b.typed++
	n, f, release := b.typed, b.faults, b.release
	b.Unlock()
	hold := func() error {
		if n != f.HoldLine {
			return nil
		}
		b.setHolding(true)
		defer b.setHolding(false)
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
		return ErrRefused
	}
	if n != f.IgnoreLine {
		if err := do(); err != nil {
			return err
		}
		b.Env.Changed()
	}
	if f.HoldApplied {
		return hold()
	}
	return nil
}

func (b *Base) setHolding(on bool) {
	b.Lock()
	b.holding = on
	b.Unlock()
}

// Wait is slow, or hangs, as the faults say. what is what was asked for.
func (b *Base) Wait(ctx context.Context, what string) error {
	f := b.Faults()
	if f.Hang != "" && f.Hang == what {
		<-ctx.Done()
		return ctx.Err()
	}
	if f.SlowMS > 0 {
		select {
		case <-time.After(time.Duration(f.SlowMS) * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// ErrCut is that the connection is to be dropped now.
var ErrCut = errors.New("cut")

// Show writes a part with the faults in force. filler is what an endless part
// goes on with. ErrCut means that the connection must be dropped.
func (b *Base) Show(ctx context.Context, w io.Writer, content []byte, filler string) error {
	b.Lock()
	b.Reads++
	f := b.faults
	b.Unlock()
	if f.Garbage > 0 {
		junk := make([]byte, f.Garbage)
		for i := range junk {
			junk[i] = byte(i*37 + 129)
		}
		half := len(content) / 2
		content = append(append(append([]byte{}, content[:half]...), junk...), content[half:]...)
	}
	if f.CutAfter > 0 {
		_, _ = w.Write(content[:min(f.CutAfter, len(content))])
		return ErrCut
	}
	if f.Endless {
		_, _ = w.Write(content[:len(content)/2])
		for ctx.Err() == nil {
			if _, err := io.WriteString(w, filler); err != nil {
				return ErrCut
			}
		}
		return ErrCut
	}
	_, err := w.Write(content)
	return err
}

// Seal is how simulated devices keep a word that was typed in the open.
func Seal(family, plain string) string {
	sum := sha256.Sum256([]byte(family + ":" + plain))
	return fmt.Sprintf("%x", sum[:10])
}
