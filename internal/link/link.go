// Package link talks to devices, as their dialect says.
package link

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"
)

// Target is where a device is reached.
type Target struct {
	Transport string // one of the dialect's; empty means its usual one
	Address   string // host name or IP address
	Port      int
	HostKey   string                                                      // the key accepted for it: an authorized_keys line, or a certificate's fingerprint as Probe gives it
	Through   []Hop                                                       // jump hosts, the nearest first
	Dial      func(ctx context.Context, address string) (net.Conn, error) // from where a connection is opened; nil: from here
	Ports     map[string]int                                              // for moving files, by protocol, where they are not the dialect's
}

// Hop is a jump host: SSH connections to what lies behind it go through it
// (RFC 4254 §7.2).
type Hop struct {
	Target
	Credential
}

// Credential is how to sign in. Agent is used before Key and Key before
// Password; every sign-in is a single attempt.
type Credential struct {
	User       string
	Password   string // also answers the one question of keyboard-interactive (RFC 4256); a token where HTTP wants a bearer
	Key        []byte // a private key in PEM or OpenSSH form
	Agent      string // the public key, as an authorized_keys line, that the SSH agent at SSH_AUTH_SOCK signs with
	Privileged string // the secret of the privileged mode
	Passphrase string // what archives are encrypted under

	Earlier *Credential // what it was before it was last changed; nil when that is not known

	FactoryUser, FactoryPassword string // what opens a unit with factory settings; empty when that is not known
}

// Factory is the credential of a unit with factory settings, if it is known.
func (c Credential) Factory() (Credential, bool) {
	return Credential{User: c.FactoryUser, Password: c.FactoryPassword}, c.FactoryUser != ""
}

// Identity is what a device says of itself.
type Identity struct {
	Host    string `json:"host,omitempty"`
	Model   string `json:"model,omitempty"`
	Serial  string `json:"serial"`
	Release string `json:"release,omitempty"`
	Factory bool   `json:"factory,omitempty"` // it has factory settings
}

// Member is a device that another speaks for.
type Member struct{ Name, Serial, Model, Release, State string }

// Part is one configuration document as fetched.
type Part struct {
	Text       string // the content, byte for byte; an opaque file's bytes
	Basin      Basin  // what has the content, in the place of Text, where it is opaque and larger than Limit
	Size       int64  // bytes of the content
	Author     string // who changed it last, if the device says
	Absent     bool   // the device has no such part
	Sign       string // the cheap sign of change, if the device has one
	Passphrase string // what the content is encrypted under
}

// ErrLoginRefused is returned when the device does not accept the user,
// password, key or privileged-mode secret. It must not be tried again unasked.
var ErrLoginRefused = errors.New("login refused")

// ErrUnreachable is returned when no connection comes about.
var ErrUnreachable = errors.New("unreachable")

// ErrCut is returned when the device ends the connection in mid-conversation.
var ErrCut = errors.New("the device closed the connection")

// HostKeyError is returned when a device shows another host key than the one
// accepted for it.
type HostKeyError struct {
	Accepted, Shown string // fingerprints, SHA-256 as OpenSSH prints them
	Key             string // the key shown, as in an authorized_keys line
}

func (e *HostKeyError) Error() string {
	if e.Accepted == "" {
		return fmt.Sprintf("no host key is accepted for it yet; it shows %s", e.Shown)
	}
	return fmt.Sprintf("the host key changed: accepted was %s, it shows %s", e.Accepted, e.Shown)
}

// TimeoutError is returned when a device takes longer than its dialect allows.
type TimeoutError struct {
	What string
	Took time.Duration
}

func (e *TimeoutError) Error() string { return fmt.Sprintf("%s: nothing came for %s", e.What, e.Took) }

// Refused is returned when the device refuses a line.
type Refused struct {
	Line   string // what was sent; the caller knows whether it holds a secret
	Means  string // refused, held, busy or login
	Words  string // the device's own
	Holder string // the device's name for the session that holds it, where it says so
	User   string // and whose that is
}

func (e *Refused) Error() string {
	switch e.Means {
	case "held":
		return "the device is " + e.Words
	case "busy":
		return "the device is busy: " + e.Words
	}
	return "the device answered: " + e.Words
}

// Incomplete is returned when what a device sent is not the whole part.
type Incomplete struct {
	Part string
	Why  string
	Got  string // what came, to be kept sealed
	Err  error  // what ended it, if anything did
}

func (e *Incomplete) Error() string { return fmt.Sprintf("%s is not complete: %s", e.Part, e.Why) }

// Unwrap returns what ended the transfer.
func (e *Incomplete) Unwrap() error { return e.Err }
