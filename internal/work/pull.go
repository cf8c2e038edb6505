package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

// PullRequest is what a pull job is asked for.
type PullRequest struct {
	Reason string `json:"reason"`
}

// PullResult is what came of a pull.
type PullResult struct {
	Parts   []PulledPart `json:"parts"`
	Found   []string     `json:"found,omitempty"` // devices registered because this one speaks for them
	Members struct {
		Pulled  int `json:"pulled"`
		Changed int `json:"changed"`
		Failed  int `json:"failed"`
	} `json:"members"`
}

// PulledPart is one part of a pull.
type PulledPart struct {
	Part      string `json:"part"`
	VersionID string `json:"version_id,omitempty"`
	Number    int    `json:"number,omitempty"`
	New       bool   `json:"new"`
	Absent    bool   `json:"absent,omitempty"`
	Aside     string `json:"aside,omitempty"` // why it counts for nothing
	Added     int    `json:"added"`
	Removed   int    `json:"removed"`
}

// RequestPull queues a pull of a device.
func (s *Service) RequestPull(ctx context.Context, actor core.Actor, d core.Device, reason, key string) (j core.Job, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if j, err = q.AddJob(ctx, core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, PullRequest{reason}, key); err != nil {
			return err
		}
		return q.Audit(ctx, "pull", d.Name, "job "+j.ID+", "+reason)
	})
	s.Kick()
	return j, err
}

// PullNow pulls a device at once, as a job of its own, and waits for its end.
func (s *Service) PullNow(ctx context.Context, actor core.Actor, d core.Device, reason string) (j core.Job, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if j, err = q.AddJob(ctx, core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name}, PullRequest{reason}, ""); err != nil {
			return err
		}
		return q.TakeJob(ctx, &j, s.node, s.life)
	})
	if err != nil {
		return j, err
	}
	ended := make(chan struct{})
	s.begin(j, func(ctx context.Context, j core.Job, l *Log) {
		defer close(ended)
		s.pullJob(ctx, j, l)
	})
	<-ended
	return s.Store.As(actor).Job(ctx, j.ID)
}

// pullJob is the road of a pull, top to bottom: lease, visit, keep, say.
func (s *Service) pullJob(ctx context.Context, j core.Job, l *Log) {
	q := s.Store.As(service)
	var req PullRequest
	if err := q.OpenRequest(j, &req); err != nil {
		s.end(j, l, core.Failed, err.Error(), nil)
		return
	}
	d, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		s.end(j, l, core.Failed, "the device was removed", nil)
		return
	}
	visit := s.newVisit(j, d, req.Reason, l)
	defer visit.close()
	if !s.visited(ctx, j, l, visit) {
		return
	}
	visit.hangUp()
	if err := s.endPull(j, l, visit); err != nil {
		s.end(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
	}
}

// endPull keeps what a visit brought, lets the device go and ends the job, in
// one transaction.
func (s *Service) endPull(j core.Job, l *Log, v *visit) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	seq := l.mark()
	err := l.commit(ctx, func(q *store.Q) error {
		l.rewind(seq)
		k, err := v.keepIn(ctx, q)
		if err != nil {
			return err
		}
		if err := v.unlease(ctx, q); err != nil {
			return err
		}
		l.add("end", core.Done+": "+k.summary(), "")
		return q.EndJob(ctx, j.ID, core.Done, k.summary(), k.Result)
	})
	if err == nil {
		v.leased = false
	}
	return err
}

// visited opens a visit and fetches all parts, again after a while if what
// kept it from that may pass. When it does not come to its end, it ends the
// job, or leaves it to be taken up at the next start, and returns false.
func (s *Service) visited(ctx context.Context, j core.Job, l *Log, v *visit) bool {
	err := v.whole(ctx)
	switch {
	case errors.Is(context.Cause(ctx), ErrStopping):
	case errors.Is(context.Cause(ctx), ErrCancelled):
		s.end(j, l, core.Cancelled, "cancelled by hand", nil)
	case err != nil:
		s.failPull(j, l, v, err)
	default:
		return true
	}
	return false
}

// whole opens the visit and fetches every part, with the dialect's patience.
func (v *visit) whole(ctx context.Context) error {
	for try := 0; ; try++ {
		err := v.open(ctx)
		if err == nil {
			if err = v.fetch(); err == nil {
				return nil
			}
			v.close()
		}
		if v.dia == nil || try >= v.dia.Reach.Retry.Times || !mayPass(err) || ctx.Err() != nil {
			return err
		}
		wait := v.dia.Span(v.dia.Reach.Retry.After, 5*time.Second) << try
		v.l.Warn("%v; trying again in %s", err, wait)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// mayPass tells whether what went wrong may be over in a while. A refused login
// never is: nothing tries it again by itself.
func mayPass(err error) bool {
	var refused *link.Refused
	switch {
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, errLatched), errors.Is(err, ErrBreaker):
		return false
	case errors.As(err, &refused):
		return refused.Means == "busy" || refused.Means == "held"
	}
	return errors.Is(err, link.ErrUnreachable)
}

// failPull notes a visit that brought nothing: the seen intervals end here, and
// a refused login is latched.
func (s *Service) failPull(j core.Job, l *Log, v *visit, err error) {
	var part *link.Incomplete
	if errors.As(err, &part) && part.Got != "" {
		l.Keep(part.Got)
	}
	advice := v.advice(err)
	l.Trouble(err.Error(), "")
	if advice != "" {
		l.Info("%s", advice)
	}
	outcome := core.Failed
	if errors.Is(err, link.ErrLoginRefused) {
		outcome = core.Refused
	}
	s.end(j, l, outcome, err.Error(), nil, func(q *store.Q) error { return v.noteFailure(context.Background(), q, err) })
}

// visit is one conversation with a device for the sake of its parts.
type visit struct {
	s       *Service
	d       core.Device
	at      core.Device // who is talked to: the device, or the one that speaks for it
	dia     *dialect.Dialect
	pull    core.Pull
	id      link.Identity
	l       *Log
	sess    *link.Session
	names   []string // of the parts, the main one first
	parts   map[string]link.Part
	members []*memberVisit
	closed  bool
	leased  bool
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

func (s *Service) newVisit(j core.Job, d core.Device, reason string, l *Log) *visit {
	now := s.clock().UTC()
	if d.Latest == 0 && reason == core.ByHand {
		reason = core.FirstContact
	}
	v := &visit{s: s, d: d, at: d, dia: s.dialectOf(d), l: l,
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
	if len(d.Timeouts) > 0 {
		own := *dia
		for name, into := range map[string]*time.Duration{"connect": &own.Connect, "answer": &own.Answer, "idle": &own.Idle, "whole": &own.Whole} {
			if t, err := time.ParseDuration(d.Timeouts[name]); err == nil {
				*into = t
			}
		}
		dia = &own
	}
	return dia
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
	if err != nil {
		return err
	}
	leave, err := v.s.room(ctx, v.at, v.l)
	if err != nil {
		return err
	}
	v.leave = leave
	if v.fence, v.unheld, err = v.s.lease(ctx, v.at.ID, v.pull.JobID, v.l); err != nil {
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
	last, err := q.LastSession(ctx, v.at.ID)
	if err != nil {
		letGo()
		return err
	}
	call := link.Call{Dialect: base, Target: target, Credential: cred, Name: v.at.Name, Guard: v.s.sure,
		Warn: func(what string) { v.l.Warn("%s", what) }, Inbox: v.s.inbox(),
		Left: func(part, file string) error {
			return v.s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Leave(ctx, v.at.ID, part, file) })
		},
		Gone: func(_, file string) error {
			return v.s.Store.Tx(context.WithoutCancel(ctx), service, func(q *store.Q) error { return q.Gone(context.WithoutCancel(ctx), v.at.ID, file) })
		},
		// We have the lease, so a session of ours that still holds the device is one left behind.
		Ours: func(session string) bool { return last != "" && last == session },
		Began: func(session string) error {
			return v.s.Store.Tx(ctx, service, func(q *store.Q) error { return q.Began(ctx, v.at.ID, session) })
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

// signIn opens the session and asks the device who it is. Where the login is
// refused and the one of a unit with factory settings is known, that is tried,
// once: it is believed only if the unit then says that it has them.
func (v *visit) signIn(ctx context.Context, call link.Call) (*link.Session, error) {
	sess, err := link.Open(ctx, call)
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
	at := v.s.clock().UTC().Truncate(time.Microsecond)
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

func fetchParts(sess *link.Session, dia *dialect.Dialect, names []string, into map[string]link.Part, l *Log) error {
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
		one.err = fetchParts(v.sess.For(m.Name), one.dia, one.names, one.parts, v.s.silent())
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

// kept is what keeping a visit led to.
type kept struct {
	Result  PullResult
	Device  core.Device
	Running core.Version // the main part's

	Versions map[string]core.Version // by part
}

func (k kept) summary() string {
	var said []string
	for _, p := range k.Result.Parts {
		switch {
		case p.Absent:
			said = append(said, p.Part+" absent")
		case !p.New:
			said = append(said, fmt.Sprintf("%s unchanged, still %d", p.Part, p.Number))
		case p.Number == 1:
			said = append(said, fmt.Sprintf("%s 1, the first", p.Part))
		default:
			said = append(said, fmt.Sprintf("%s %d (+%d −%d)", p.Part, p.Number, p.Added, p.Removed))
		}
	}
	if m := k.Result.Members; m.Pulled+m.Failed > 0 {
		line := fmt.Sprintf("%d devices it speaks for, %d changed", m.Pulled, m.Changed)
		if n := len(k.Result.Found); n > 0 {
			line += fmt.Sprintf(", %d new here", n)
		}
		if m.Failed > 0 {
			line += fmt.Sprintf(", %d failed", m.Failed)
		}
		said = append(said, line)
	}
	summary := strings.Join(said, "; ")
	if k.Device.State == core.OtherUnit || k.Device.State == core.AtFactory {
		summary = k.Device.Trouble + "; set aside: " + summary
	}
	return summary
}

// keep writes what was fetched, in one transaction: the pull, new versions or
// sightings, and how the device now stands.
func (v *visit) keep(ctx context.Context) (k kept, err error) {
	err = v.s.Store.Tx(ctx, service, func(q *store.Q) (err error) {
		k, err = v.keepIn(ctx, q)
		return err
	})
	return k, err
}

// keepIn does so in a transaction that is open.
func (v *visit) keepIn(ctx context.Context, q *store.Q) (k kept, err error) {
	d, err := q.DeviceByID(ctx, v.d.ID)
	if err != nil {
		return k, err
	}
	k.Versions = map[string]core.Version{}
	if err := v.keepDevice(ctx, q, &d, v.dia, v.pull, v.names, v.parts, v.id.Factory, v.l, &k); err != nil {
		return k, err
	}
	return k, v.keepMembers(ctx, q, d, &k)
}

// keepDevice writes one device's share of a visit.
func (v *visit) keepDevice(ctx context.Context, q *store.Q, d *core.Device, dia *dialect.Dialect, pull core.Pull, names []string, parts map[string]link.Part, factory bool, l *Log, k *kept) error {
	pull.Result = "done"
	if err := q.AddPull(ctx, pull); err != nil {
		return err
	}
	aside, why := judge(*d, dia, pull, factory)
	if aside != "" {
		l.Warn("%s; what was pulled is kept, but counts for nothing", why)
	} else if !slices.Contains(d.Serials, pull.Serial) {
		d.Serials = append(d.Serials, pull.Serial)
	}
	drifted := false
	for _, name := range names {
		kept, err := q.Part(ctx, d.ID, name, true)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		p, version, err := v.keepPart(ctx, q, *d, kept, dia.Doc(name), pull, parts[name], aside, l)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		k.Result.Parts, k.Versions[name] = append(k.Result.Parts, p), version
		if aside == "" && !p.Absent && kept.Baseline != "" {
			off, err := v.s.drifted(ctx, q, *d, dia.Doc(name), name, parts[name].Text)
			if err != nil {
				return err
			}
			drifted = drifted || off
		}
		if name == dia.Main() {
			k.Running = version
			if aside == "" {
				d.Latest = version.Number
				if p.New {
					d.LastChanged = pull.TakenAt
				}
			}
		}
	}
	d.Host, d.Model, d.Serial, d.Release = pull.Host, pull.Model, pull.Serial, pull.Release
	d.Trouble, d.LastTried, d.LastPulled = why, pull.TakenAt, pull.TakenAt
	if aside != "" {
		d.State = aside
	} else {
		d.Unsaved, d.Drifted = unsaved(dia, parts), drifted
		d.State = standing(*d)
	}
	k.Device = *d
	return q.SetStanding(ctx, *d)
}

// judge tells whether what answered is what is expected there; if not, why the
// visit is set aside, in a word and in a sentence.
func judge(d core.Device, dia *dialect.Dialect, p core.Pull, factory bool) (aside, why string) {
	switch {
	case factory:
		return core.AtFactory, fmt.Sprintf("the unit that answers has factory settings (serial %s)", p.Serial)
	case len(d.Serials) == 0 || slices.Contains(d.Serials, p.Serial):
		return "", ""
	case dia.Identity.Pair && len(d.Serials) < 2:
		return "", "" // the other half of a pair
	}
	return core.OtherUnit, fmt.Sprintf("other hardware answers: serial %s (%s), expected is %s", p.Serial, p.Model, strings.Join(d.Serials, " or "))
}

// keepMembers writes what a visit brought of the devices that the visited one
// speaks for; those that are new are registered.
func (v *visit) keepMembers(ctx context.Context, q *store.Q, parent core.Device, k *kept) error {
	for _, m := range v.members {
		d, err := q.MemberDevice(ctx, parent.ID, m.Name)
		if errors.Is(err, store.ErrNotFound) {
			d = core.Device{Name: memberName(m.Name), Address: parent.Address, Port: parent.Port, Site: parent.Site, Kind: m.dia.Kind, Dialect: parent.Dialect,
				HostKey: parent.HostKey, CredentialID: parent.CredentialID, ParentID: parent.ID, Member: m.Name, Transport: parent.Transport}
			if _, err := q.Device(ctx, d.Name); err == nil {
				d.Name = memberName(parent.Name + "-" + m.Name)
			}
			if err := q.AddDevice(ctx, &d, nil); err != nil {
				return fmt.Errorf("registering %s, which %s speaks for: %w", m.Name, parent.Name, err)
			}
			if err := q.Audit(ctx, "device discovered", d.Name, parent.Name+" speaks for it as "+m.Name); err != nil {
				return err
			}
			k.Result.Found = append(k.Result.Found, d.Name)
		} else if err != nil {
			return err
		}
		pull := v.pull
		pull.ID, pull.DeviceID, pull.Host, pull.Model, pull.Serial, pull.Release = store.NewID(v.s.clock()), d.ID, m.Name, m.Model, m.Serial, m.Release
		if m.err != nil {
			if err := noteTrouble(ctx, q, d, pull, core.Failing, m.err, *v.pull.TakenAt); err != nil {
				return err
			}
			k.Result.Members.Failed++
			continue
		}
		mine := kept{Versions: map[string]core.Version{}}
		if err := v.keepDevice(ctx, q, &d, m.dia, pull, m.names, m.parts, false, v.s.silent(), &mine); err != nil {
			return fmt.Errorf("%s: %w", m.Name, err)
		}
		k.Result.Members.Pulled++
		for _, p := range mine.Result.Parts {
			if p.New {
				k.Result.Members.Changed++
				break
			}
		}
	}
	return nil
}

// memberName makes a device's name of what its parent calls it.
func memberName(s string) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-', r == '.', r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, s)
	out = strings.Trim(out, "-._")
	return out[:min(len(out), 60)]
}

// standing is a device's state by what is known of it, worst first.
func standing(d core.Device) string {
	switch {
	case d.Drifted:
		return core.Drifted
	case d.Unsaved:
		return core.Unsaved
	case d.Latest == 0:
		return core.NeverPulled
	}
	return core.Steady
}

func (v *visit) keepPart(ctx context.Context, q *store.Q, d core.Device, p core.Part, doc *dialect.Doc, pull core.Pull, got link.Part, aside string, l *Log) (PulledPart, core.Version, error) {
	name := p.Name
	out := PulledPart{Part: name, Absent: got.Absent, Aside: aside}
	if got.Absent {
		return out, core.Version{}, q.CloseSeen(ctx, p.ID)
	}
	settled := doc.Settled(got.Text)
	if got.Passphrase != "" && got.Sign != "" {
		// Encrypted anew each time: only the device can tell whether it changed.
		settled = "sign " + pull.Serial + " " + got.Sign
	}
	fingerprint := v.s.Store.Keys().Hash("fingerprint", []byte(settled))
	latest, err := q.Newest(ctx, p, aside != "")
	latest.Device, latest.DeviceID, latest.Part = d.Name, d.ID, name
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, latest, err
	}
	if err == nil && latest.Fingerprint == fingerprint {
		out.VersionID, out.Number = latest.ID, latest.Number
		if aside != "" {
			return out, latest, q.CloseSeen(ctx, p.ID)
		}
		return out, latest, q.Sight(ctx, latest, *pull.TakenAt)
	}
	next := core.Version{PullID: pull.ID, Fingerprint: fingerprint, TakenAt: *pull.TakenAt, Reason: pull.Reason, Actor: pull.Actor, Aside: aside,
		Author: got.Author, DialectRev: pull.DialectRev, Device: d.Name, Part: name, DeviceID: d.ID, Sign: got.Sign}
	if !doc.Opaque() {
		next.Lines = len(text.Lines(got.Text))
	}
	if err == nil && !doc.Opaque() {
		before, err := q.Content(ctx, latest.ContentID)
		if err != nil {
			return out, next, err
		}
		for _, e := range diff.Texts(doc.Split(doc.Settled(string(before))), doc.Split(settled)) {
			next.Removed += e.End - e.Start
			next.Added += e.To - e.From
		}
		if was := len(text.Lines(string(before))); next.Lines*2 < was {
			l.Warn("%s shrank from %d to %d lines; have a look whether that was meant", name, was, next.Lines)
		}
	}
	if next.ContentID, err = q.PutContent(ctx, []byte(got.Text)); err != nil {
		return out, next, err
	}
	if err := q.AddVersion(ctx, p, &next, got.Passphrase); err != nil {
		return out, next, err
	}
	next.Size = len(got.Text)
	out.VersionID, out.Number, out.New, out.Added, out.Removed = next.ID, next.Number, true, next.Added, next.Removed
	return out, next, nil
}

// unsaved tells whether running is not equivalent to startup, where a device
// has both.
func (v *visit) unsaved() bool { return unsaved(v.dia, v.parts) }

func unsaved(dia *dialect.Dialect, parts map[string]link.Part) bool {
	startup, ok := parts["startup"]
	running, both := parts["running"]
	if !ok || !both {
		return false
	}
	return startup.Absent || !dia.Doc("running").Equivalent(running.Text, startup.Text)
}

// drifted tells whether a part's text is not equivalent to its baseline.
func (s *Service) drifted(ctx context.Context, q *store.Q, d core.Device, doc *dialect.Doc, part, now string) (bool, error) {
	base, err := q.VersionBaseline(ctx, d.ID, part)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	raw, err := q.Content(ctx, base.ContentID)
	return err == nil && !doc.Equivalent(string(raw), now), err
}

// noteFailure writes a visit that brought nothing.
func (v *visit) noteFailure(ctx context.Context, q *store.Q, cause error) error {
	d, err := q.DeviceByID(ctx, v.d.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	state := core.Failing
	switch {
	case errors.Is(cause, link.ErrLoginRefused):
		state = core.RefusedLogin
		// The credential is the one of who was talked to.
		if err := v.s.refusedLogin(ctx, q, v.at, cause); err != nil {
			return err
		}
	case errors.Is(cause, errLatched), errors.Is(cause, ErrBreaker):
		state = core.RefusedLogin
	case errors.Is(cause, link.ErrUnreachable):
		state = core.Unreachable
	}
	return noteTrouble(ctx, q, d, v.pull, state, cause, v.s.clock().UTC())
}

// noteTrouble writes a visit that brought nothing: the seen intervals end here.
func noteTrouble(ctx context.Context, q *store.Q, d core.Device, pull core.Pull, state string, cause error, now time.Time) error {
	pull.Result, pull.Trouble = "failed", cause.Error()
	if err := q.AddPull(ctx, pull); err != nil {
		return err
	}
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range parts {
		if err := q.CloseSeen(ctx, p.ID); err != nil {
			return err
		}
	}
	d.Trouble, d.LastTried, d.State = cause.Error(), &now, state
	return q.SetStanding(ctx, d)
}

// advice says what a person can do about a failed visit.
func (v *visit) advice(err error) string {
	var key *link.HostKeyError
	var refused *link.Refused
	var part *link.Incomplete
	switch {
	case errors.As(err, &key):
		return fmt.Sprintf("if the device was reset or replaced and you know this key to be its own: magpie device trust %s", v.d.Name)
	case errors.Is(err, ErrBreaker):
		return "have a look why so many devices refuse it; when it is right: magpie credential retry NAME"
	case errors.Is(err, link.ErrLoginRefused), errors.Is(err, errLatched):
		return fmt.Sprintf("nothing tries this login there again until you change it (magpie device edit %s --password) or say it is right (magpie device edit %s --retry-login)", v.d.Name, v.d.Name)
	case errors.As(err, &refused) && refused.Means == "held":
		return "wait until they are done, or ask them; then run it again"
	case errors.As(err, &refused) && refused.Means == "busy":
		return "run it again in a while"
	case errors.As(err, &part):
		return "no version was made; what came is kept with this job for those who may see secrets"
	case errors.Is(err, link.ErrUnreachable):
		return fmt.Sprintf("check that the device has power and that %s port %d can be reached from here, then run it again", v.d.Address, v.d.Port)
	}
	return ""
}
