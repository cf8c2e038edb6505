package work

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// visit is one conversation with a device for the sake of its parts.
type visit struct {
	s       *Service
	d       core.Device
	at      core.Device // who is talked to: the device, or the one that speaks for it
	dia     *dialect.Dialect
	pull    core.Pull
	id      link.Identity
	l       *job.Log
	sess    *link.Session
	names   []string // of the parts, the main one first
	parts   map[string]link.Part
	members []*memberVisit
	closed  bool
	leased  bool
	swaps   bool   // other hardware is expected
	by      string // id of who asked for it; empty: the service
	maker   bool   // only the login of a unit with factory settings is tried
	where   Where  // when it is not at the device's own address
	accept  string // fingerprint of a key to be accepted there
	brought *bool  // after a push: whether the device knows the login that was used before; nil when that cannot be
	ends    string // somebody's session that holds the device and may be ended
	why     string // in the words of who asked for that
	fence   int64  // of the lease
	unheld  func() // gives the lease back
	leave   func() // makes room for another conversation
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

func (s *Service) newVisit(j core.Job, d core.Device, reason string, l *job.Log) *visit {
	now := s.Now()
	if d.Latest == 0 && reason == core.ByHand {
		reason = core.FirstContact
	}
	v := &visit{s: s, d: d, at: d, by: j.ActorID, dia: s.dialectOf(d), l: l,
		pull: core.Pull{ID: store.NewID(now), DeviceID: d.ID, JobID: j.ID, RequestedAt: j.CreatedAt, Reason: reason, Actor: j.Actor}}
	if v.dia != nil {
		v.pull.DialectRev = v.dia.Revision
	}
	return v
}

// dialectOf returns a device's dialect, as it is for its model and release and
// with its own time-outs; nil if there is none.
func (s *Service) dialectOf(d core.Device) *dialect.Dialect {
	dia := s.Dialect(d.Dialect)
	if dia == nil {
		return nil
	}
	dia = dia.For(d.Transport, d.Model, d.Release)
	if d.Member != "" && dia.Members != nil {
		dia = dia.Member()
	}
	own := *dia
	own.Scope = d.ID
	if len(d.Timeouts) > 0 {
		for name, into := range map[string]*time.Duration{"connect": &own.Connect, "answer": &own.Answer, "idle": &own.Idle, "whole": &own.Whole} {
			if t, err := time.ParseDuration(d.Timeouts[name]); err == nil {
				*into = t
			}
		}
	}
	return &own
}

// errLatched is why a device is not even tried.
var errLatched = errors.New("its login was refused before and is not tried again until a person says so")

// open leases the device, signs in and asks who it is.
func (v *visit) open(ctx context.Context) (err error) {
	if v.dia == nil {
		return fmt.Errorf("no dialect is named %q here", v.d.Dialect)
	}
	q := v.s.Store.As(service)
	if v.d.Member != "" {
		if v.at, err = q.DeviceByID(ctx, v.d.ParentID); err != nil {
			return fmt.Errorf("the device that speaks for it: %w", err)
		}
	}
	if v.at.Latched != nil {
		return fmt.Errorf("%w (since %s)", errLatched, v.at.Latched.Format("2006-01-02 15:04 MST"))
	}
	target, cred, err := v.s.way(ctx, v.at)
	if err == nil {
		target, err = v.aim(target)
	}
	if err == nil {
		cred, err = v.told(ctx, target, cred)
	}
	if err == nil {
		if target, err = v.keyed(ctx, target); err != nil {
			err = v.nothingThere(target, err)
		}
	}
	if err != nil {
		return err
	}
	leave, err := v.s.room(ctx, v.at, v.l)
	if err != nil {
		return err
	}
	v.leave = leave
	if v.fence, v.unheld, err = v.s.Lease(ctx, v.at.ID, v.pull.JobID, v.l); err != nil {
		leave()
		return err
	}
	v.leased = true
	letGo := func() { v.leased = false; v.unheld(); leave() }
	as := cred.User
	if v.at.SetName != "" {
		as += ", credential set " + v.at.SetName
	}
	v.l.Step("connecting to %s port %d as %s", target.Address, target.Port, as)
	base := v.s.dialectOf(v.at)
	last := ""
	call := link.Call{Dialect: base, Target: target, Credential: cred, Name: v.at.Name, Guard: v.s.Sure,
		Warn: func(what string) { v.l.Warn("%s", what) }, Inbox: v.s.inbox(),
		Left: func(part, file string) error {
			return v.s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Leave(ctx, v.at.ID, part, file) })
		},
		Gone: func(_, file string) error {
			return v.s.Store.Tx(context.WithoutCancel(ctx), service, func(q *store.Q) error { return q.Gone(context.WithoutCancel(ctx), v.at.ID, file) })
		},
		// We have the lease, so a session of ours that still holds the device is one left behind.
		Ours:   func(session string) bool { return last != "" && last == session },
		MayEnd: v.mayEnd,
		Began: func(session string) error {
			return v.s.Store.Tx(ctx, service, func(q *store.Q) (err error) { last, err = q.Began(ctx, v.at.ID, session); return err })
		},
	}
	if v.sess, err = v.signIn(ctx, call); err != nil {
		letGo()
		return err
	}
	v.closed = false
	if err := v.sweep(ctx); err != nil {
		v.close()
		return err
	}
	id := v.id
	v.l.Info("signed in: %s, %s, serial %s, release %s", id.Host, id.Model, id.Serial, id.Release)
	if v.d.Member != "" {
		return v.findMember()
	}
	v.dia = v.sess.Dialect()
	v.pull.Host, v.pull.Model, v.pull.Serial, v.pull.Release = id.Host, id.Model, id.Serial, id.Release
	return nil
}

// mayEnd tells whether a person asked for the end of a session that holds the
// device, and writes the deed down before it is done.
func (v *visit) mayEnd(session string) (bool, error) {
	if v.ends == "" || v.ends != session {
		return false, nil
	}
	actor := core.Actor{Name: v.pull.Actor}
	return true, v.s.Store.Tx(context.Background(), actor, func(q *store.Q) error {
		return q.Audit(context.Background(), "session ended", v.at.Name, fmt.Sprintf("session %s, which held the device, by job %s%s", session, v.pull.JobID, note(v.why)))
	})
}

// signIn opens the session and asks the device who it is. Where the usual login
// is refused others are tried, each once: after a push the one that was used
// before the credential was last changed, which the version may have brought
// back; then that of a unit with factory settings, which is believed only if the
// unit then says that it has them.
func (v *visit) signIn(ctx context.Context, call link.Call) (*link.Session, error) {
	if v.maker { // the device's own login is not for whoever is there
		sess, err := link.Open(ctx, call)
		if err == nil {
			if v.id, err = sess.Identity(); err == nil && v.id.Factory {
				return sess, nil
			}
			sess.Close()
		}
		if err == nil || errors.Is(err, link.ErrLoginRefused) {
			err = fmt.Errorf("%w: the unit there has no factory settings that the maker's login opens", ErrNotTold)
		}
		return nil, v.nothingThere(call.Target, err)
	}
	earlier := call.Credential.Earlier
	if v.brought == nil || v.pull.Reason != core.AfterPush {
		earlier = nil
	}
	if earlier != nil && *v.brought { // the usual one was refused already
		call.Credential = *earlier
	}
	sess, err := link.Open(ctx, call)
	if errors.Is(err, link.ErrLoginRefused) && earlier != nil && !*v.brought {
		v.l.Info("%v; trying the login that was used before it was changed here, once", err)
		now := call
		now.Credential = *earlier
		if again, e := link.Open(ctx, now); e == nil {
			v.l.Warn("the version brought the login back that was used before it was changed here: change it on the device, or change the credential here; until then a pull is refused")
			*v.brought = true
			sess, err = again, nil
		}
	}
	if err == nil {
		if v.id, err = sess.Identity(); err != nil {
			sess.Close()
		}
		return sess, err
	}
	factory, known := call.Credential.Factory()
	if !errors.Is(err, link.ErrLoginRefused) || !known {
		return nil, err
	}
	v.l.Info("%v; trying the login of a unit with factory settings, once", err)
	call.Credential = factory
	if sess, e := link.Open(ctx, call); e == nil {
		if v.id, e = sess.Identity(); e == nil && v.id.Factory {
			return sess, nil
		}
		sess.Close()
	}
	return nil, err
}

// sweep removes files that earlier visits left on the device.
func (v *visit) sweep(ctx context.Context) error {
	if dia := v.s.Dialect(v.at.Dialect); dia == nil || !dia.MakesFiles() {
		return nil
	}
	left, err := v.s.Store.As(service).Leftovers(ctx, v.at.ID)
	if err != nil {
		return err
	}
	for _, f := range left {
		v.l.Info("removing %s, which a visit that broke off left on the device", f.File)
		if err := v.sess.Tidy(f.Part, f.File); err != nil {
			// It may have been gone before it was there.
			v.l.Warn("%v", err)
			var refused *link.Refused
			if !errors.As(err, &refused) {
				return err
			}
			if err := v.s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Gone(ctx, v.at.ID, f.File) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// findMember looks the device up at the one that speaks for it.
func (v *visit) findMember() error {
	all, err := v.sess.Members()
	if err == nil {
		err = fmt.Errorf("%w: %s does not list %s among the devices it speaks for", link.ErrUnreachable, v.at.Name, v.d.Member)
		for _, m := range all {
			if m.Name == v.d.Member {
				v.id = link.Identity{Host: m.Name, Serial: m.Serial, Model: m.Model, Release: m.Release}
				v.pull.Host, v.pull.Model, v.pull.Serial, v.pull.Release = m.Name, m.Model, m.Serial, m.Release
				return nil
			}
		}
	}
	v.close()
	return err
}

// close ends the conversation and lets the device go.
func (v *visit) close() {
	v.hangUp()
	if v.leased {
		v.leased = false
		v.unheld()
	}
}

// hangUp ends the conversation; the device's lease is still held.
func (v *visit) hangUp() {
	if v.sess != nil && !v.closed {
		v.closed = true
		v.sess.Close()
		v.leave()
	}
}

// unlease lets the device go in a transaction that is open.
func (v *visit) unlease(ctx context.Context, q *store.Q) error {
	if !v.leased {
		return nil
	}
	return q.Unlease(ctx, v.at.ID, v.fence)
}

// fetch gets every part, each proved whole: those of the device, of its logical
// elements, and of the devices it speaks for.
func (v *visit) fetch() (err error) {
	sess := v.sess
	if v.d.Member != "" {
		sess = sess.For(v.d.Member)
	}
	elements, err := sess.Elements()
	if err != nil {
		return err
	}
	v.names, v.parts, v.members = partNames(v.dia, elements), map[string]link.Part{}, nil
	err = fetchParts(sess, v.dia, v.names, v.parts, v.l)
	if err != nil && v.id.Factory {
		// A first-run page may stand before everything else.
		v.l.Info("it has factory settings, and shows nothing of them: %v", err)
		v.names, err = nil, nil
	}
	if err != nil {
		return err
	}
	if v.dia.Members != nil && v.d.Member == "" {
		if err := v.fetchMembers(); err != nil {
			return err
		}
	}
	at := v.s.Now().Truncate(time.Microsecond)
	v.pull.TakenAt = &at
	return nil
}

// partNames lists the parts to fetch, the main one first.
func partNames(dia *dialect.Dialect, elements []string) []string {
	names := dia.PartNames()
	for _, e := range elements {
		for base := range dia.Parts {
			if strings.HasSuffix(base, "+") {
				names = append(names, base+e)
			}
		}
	}
	return names
}

func fetchParts(sess *link.Session, dia *dialect.Dialect, names []string, into map[string]link.Part, l *job.Log) error {
	for _, name := range names {
		p, err := sess.Fetch(name)
		if err != nil {
			return err
		}
		into[name] = p
		switch {
		case p.Absent:
			l.Info("%s: the device has none", name)
		case dia.Doc(name).Opaque():
			l.Info("%s: %d bytes, whole", name, len(p.Text))
		default:
			l.Info("%s: %d lines, whole", name, len(text.Lines(p.Text)))
		}
	}
	return nil
}

// fetchMembers gets the parts of the devices that this one speaks for. One that
// cannot be had is that device's trouble, not this one's.
func (v *visit) fetchMembers() error {
	all, err := v.sess.Members()
	if err != nil {
		return err
	}
	if len(all) > 0 {
		v.l.Step("fetching %d devices it speaks for", len(all))
	}
	for _, m := range all {
		one := &memberVisit{Member: m, dia: v.dia.Member(), parts: map[string]link.Part{}}
		one.names = one.dia.PartNames()
		one.err = fetchParts(v.sess.For(m.Name), one.dia, one.names, one.parts, v.s.Silent())
		if one.err != nil {
			v.l.Warn("%s: %v", m.Name, one.err)
			var refused *link.Refused
			if !errors.As(one.err, &refused) && !errors.As(one.err, new(*link.Incomplete)) {
				return one.err // the conversation itself broke
			}
		}
		v.members = append(v.members, one)
	}
	return nil
}
