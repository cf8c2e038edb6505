package visit

import (
	"fmt"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// Renew makes the visit count as another pull of the same job.
func (v *Visit) Renew(reason string) {
	v.Pull.ID, v.Pull.Reason, v.Pull.RequestedAt = store.NewID(v.s.Now()), reason, v.s.Now()
}

// Visit is one conversation with a device for the sake of its parts.
type Visit struct {
	s        *Service
	Device   core.Device
	Speaker  core.Device // who is talked to: the device, or the one that speaks for it
	Dialect  *dialect.Dialect
	Pull     core.Pull
	Identity link.Identity
	Log      *job.Log
	Session  *link.Session
	Names    []string // of the parts, the main one first
	Parts    map[string]link.Part
	Members  []*memberVisit
	Mark              // what the versions are given that it keeps, or finds still current
	Sound    bool     // what is unchanged has to read back, or is kept once more
	author   string   // who changed it, if whoever asked for the pull knew
	pull     bool     // it is for keeping only: what cannot be had does not cost the rest
	glanced  bool     // nothing was fetched: by its signs nothing changed
	missing  []string // parts that could not be had, and why
	// Overwrites says that the main part is about to be written anew: if what came of it is not complete,
	// that costs the visit nothing. Unreadable then says why it is not, and Came is the keyed hash of what came.
	Overwrites bool
	Unreadable string
	Removes    []string // parts of logical elements that a push takes away
	Came       string
	closed     bool
	leased     bool
	Swaps      bool       // other hardware is expected
	by         string     // id of who asked for it; empty: the service
	grant      core.Actor // under what it was asked for
	maker      bool       // only the login of a unit with factory settings is tried
	Where      Where      // when it is not at the device's own address
	accept     string     // fingerprint of a key to be accepted there
	Brought    *bool      // after a push: whether the device knows the login that was used before; nil when that cannot be
	Ends       string     // somebody's session that holds the device and may be ended
	Why        string     // in the words of who asked for that
	fence      int64      // of the lease
	unheld     func()     // gives the lease back
	leave      func()     // makes room for another conversation
}

// memberVisit is what a visit brought of a device that the visited one speaks
// for.
type memberVisit struct {
	link.Member
	dia   *dialect.Dialect
	names []string
	parts map[string]link.Part
	err   error
}

func (s *Service) NewVisit(j core.Job, d core.Device, reason string, l *job.Log) *Visit {
	now := s.Now()
	if d.Latest == 0 && reason == core.ByHand {
		reason = core.FirstPull
	}
	v := &Visit{s: s, Device: d, Speaker: d, by: j.ActorID, grant: s.Store.As(job.Service).Grant(j), Dialect: s.DialectOf(d), Log: l,
		Pull: core.Pull{ID: store.NewID(now), DeviceID: d.ID, JobID: j.ID, RequestedAt: j.CreatedAt, Reason: reason, Actor: j.Actor}}
	if v.Dialect != nil {
		v.Pull.DialectRev = v.Dialect.Revision
	}
	return v
}

// Close ends the conversation and lets the device go.
func (v *Visit) Close() {
	v.hangUp()
	if v.leased {
		v.leased = false
		v.unheld()
	}
}

// IsOpen tells whether the device is being talked to.
func (v *Visit) IsOpen() bool { return v.Session != nil && !v.closed }

// hangUp ends the conversation; the device's lease is still held.
func (v *Visit) hangUp() {
	if v.Session != nil && !v.closed {
		v.closed = true
		v.Session.Close()
		v.leave()
	}
}

// Where is where a unit is spoken to for one push, when that is not the
// device's own address: a factory address, or a bench.
type Where struct {
	Address string `json:"address,omitempty"` // HOST or HOST:PORT; empty: the device's own
	Relay   string `json:"relay,omitempty"`   // through whose machine; empty: from the service itself
	Key     string `json:"key,omitempty"`     // the host key or certificate accepted for it; empty: the device's own
}

// Mark is what the versions are given that a pull brings, or finds still current.
type Mark struct {
	Name string `json:"name,omitempty"`
	Note string `json:"note,omitempty"`
}

// said is what the audit log has of it.
func (m Mark) said() (out string) {
	if m.Name != "" {
		out = fmt.Sprintf(", named %q", m.Name)
	}
	return out + core.Because(m.Note)
}
