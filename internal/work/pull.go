package work

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/diff"
	"magpie/internal/core/rules"
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
	Parts []PulledPart `json:"parts"`
}

// PulledPart is one part of a pull.
type PulledPart struct {
	Part      string `json:"part"`
	VersionID string `json:"version_id,omitempty"`
	Number    int    `json:"number,omitempty"`
	New       bool   `json:"new"`
	Absent    bool   `json:"absent,omitempty"`
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
	kept, err := visit.keep(context.WithoutCancel(ctx))
	if err != nil {
		s.end(j, l, core.Failed, "what was pulled could not be kept: "+err.Error(), nil)
		return
	}
	visit.close()
	s.end(j, l, core.Done, kept.summary(), kept.Result)
}

// visited opens a visit and fetches all parts. When that does not come to its
// end, it ends the job, or leaves it to be taken up at the next start, and
// returns false.
func (s *Service) visited(ctx context.Context, j core.Job, l *Log, v *visit) bool {
	err := v.open(ctx)
	if err == nil {
		err = v.fetch()
	}
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
	s      *Service
	d      core.Device
	dia    *dialect.Dialect
	pull   core.Pull
	l      *Log
	sess   *link.Session
	parts  map[string]link.Part
	closed bool
	unheld func()
}

func (s *Service) newVisit(j core.Job, d core.Device, reason string, l *Log) *visit {
	now := s.clock().UTC()
	if d.Latest == 0 && reason == core.ByHand {
		reason = core.FirstContact
	}
	v := &visit{s: s, d: d, dia: s.dialects[d.Dialect], l: l,
		pull: core.Pull{ID: store.NewID(now), DeviceID: d.ID, JobID: j.ID, RequestedAt: j.CreatedAt, Reason: reason, Actor: j.Actor}}
	if v.dia != nil {
		v.pull.DialectRev = v.dia.Revision
	}
	return v
}

// errLatched is why a device is not even tried.
var errLatched = errors.New("its login was refused before and is not tried again until a person says so")

// open leases the device, signs in and asks who it is.
func (v *visit) open(ctx context.Context) (err error) {
	if v.dia == nil {
		return fmt.Errorf("no dialect is named %q here", v.d.Dialect)
	}
	if v.d.Latched != nil {
		return fmt.Errorf("%w (since %s)", errLatched, v.d.Latched.Format("2006-01-02 15:04 MST"))
	}
	secret, err := v.s.Store.As(service).Secret(ctx, v.d)
	if err != nil {
		return err
	}
	if v.unheld, err = v.s.lease(ctx, v.d.ID, v.pull.JobID, v.l); err != nil {
		return err
	}
	v.l.Step("connecting to %s port %d as %s", v.d.Address, v.d.Port, secret.User)
	target := link.Target{Address: v.d.Address, Port: v.d.Port, HostKey: v.d.HostKey}
	cred := link.Credential{User: secret.User, Password: secret.Password, Key: []byte(secret.Key), Raise: secret.Raise}
	if v.sess, err = link.Open(ctx, v.dia, target, cred, v.s.sure); err != nil {
		v.unheld()
		return err
	}
	id, err := v.sess.Identity()
	if err != nil {
		v.close()
		return err
	}
	v.pull.Host, v.pull.Model, v.pull.Serial, v.pull.Release = id.Host, id.Model, id.Serial, id.Release
	v.l.Info("signed in: %s, %s, serial %s, release %s", id.Host, id.Model, id.Serial, id.Release)
	return nil
}

func (v *visit) close() {
	if v.sess != nil && !v.closed {
		v.closed = true
		v.sess.Close()
		v.unheld()
	}
}

// partNames lists the dialect's parts, running first.
func (v *visit) partNames() []string {
	names := []string{"running"}
	if _, ok := v.dia.Parts["startup"]; ok {
		names = append(names, "startup")
	}
	return names
}

// fetch gets every part, each proved whole.
func (v *visit) fetch() error {
	v.parts = map[string]link.Part{}
	for _, name := range v.partNames() {
		p, err := v.sess.Fetch(name)
		if err != nil {
			return err
		}
		v.parts[name] = p
		if p.Absent {
			v.l.Info("%s: the device has none", name)
		} else {
			v.l.Info("%s: %d lines, whole", name, len(text.Lines(p.Text)))
		}
	}
	at := v.s.clock().UTC().Truncate(time.Microsecond)
	v.pull.TakenAt = &at
	return nil
}

// kept is what keeping a visit led to.
type kept struct {
	Result  PullResult
	Device  core.Device
	Running core.Version
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
	return strings.Join(said, "; ")
}

// keep writes what was fetched, in one transaction: the pull, new versions or
// sightings, and how the device now stands.
func (v *visit) keep(ctx context.Context) (k kept, err error) {
	err = v.s.Store.Tx(ctx, service, func(q *store.Q) error {
		d, err := q.DeviceByID(ctx, v.d.ID)
		if err != nil {
			return err
		}
		k = kept{Device: d}
		v.pull.Result = "done"
		if err := q.AddPull(ctx, v.pull); err != nil {
			return err
		}
		for _, name := range v.partNames() {
			p, version, err := v.keepPart(ctx, q, name)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			k.Result.Parts = append(k.Result.Parts, p)
			if name == "running" {
				k.Running = version
				k.Device.Latest = version.Number
				if p.New {
					k.Device.LastChanged = v.pull.TakenAt
				}
			}
		}
		d = k.Device
		d.Host, d.Model, d.Serial, d.Release = v.pull.Host, v.pull.Model, v.pull.Serial, v.pull.Release
		d.Trouble, d.LastTried, d.LastPulled = "", v.pull.TakenAt, v.pull.TakenAt
		d.Unsaved = v.unsaved()
		if d.Drifted, err = v.s.drifted(ctx, q, d, v.dia, v.parts["running"].Text); err != nil {
			return err
		}
		d.State = standing(d)
		k.Device = d
		return q.SetStanding(ctx, d)
	})
	return k, err
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

func (v *visit) keepPart(ctx context.Context, q *store.Q, name string) (PulledPart, core.Version, error) {
	got := v.parts[name]
	out := PulledPart{Part: name, Absent: got.Absent}
	p, err := q.Part(ctx, v.d.ID, name, true)
	if err != nil {
		return out, core.Version{}, err
	}
	if got.Absent {
		return out, core.Version{}, q.CloseSeen(ctx, p.ID)
	}
	settled := v.dia.Settled(got.Text)
	fingerprint := v.s.Store.Keys().Hash("fingerprint", []byte(settled))
	latest, err := q.VersionLatest(ctx, v.d.ID, name, 0)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, latest, err
	}
	if err == nil && latest.Fingerprint == fingerprint {
		out.VersionID, out.Number = latest.ID, latest.Number
		return out, latest, q.Sight(ctx, latest, *v.pull.TakenAt)
	}
	next := core.Version{PullID: v.pull.ID, Fingerprint: fingerprint, TakenAt: *v.pull.TakenAt, Reason: v.pull.Reason, Actor: v.pull.Actor,
		Author: got.Author, Lines: len(text.Lines(got.Text)), DialectRev: v.pull.DialectRev, Device: v.d.Name, Part: name, DeviceID: v.d.ID}
	if err == nil {
		before, err := q.Content(ctx, latest.ContentID)
		if err != nil {
			return out, next, err
		}
		for _, e := range diff.Texts(v.dia.Split(v.dia.Settled(string(before))), v.dia.Split(settled)) {
			next.Removed += e.End - e.Start
			next.Added += e.To - e.From
		}
		if was := len(text.Lines(string(before))); next.Lines*2 < was {
			v.l.Warn("%s shrank from %d to %d lines; have a look whether that was meant", name, was, next.Lines)
		}
	}
	if next.ContentID, err = q.PutContent(ctx, []byte(got.Text)); err != nil {
		return out, next, err
	}
	if err := q.AddVersion(ctx, p, &next); err != nil {
		return out, next, err
	}
	out.VersionID, out.Number, out.New, out.Added, out.Removed = next.ID, next.Number, true, next.Added, next.Removed
	return out, next, nil
}

// unsaved tells whether running is not equivalent to startup.
func (v *visit) unsaved() bool {
	startup, ok := v.parts["startup"]
	if !ok {
		return false
	}
	return startup.Absent || !equivalent(v.dia, v.parts["running"].Text, startup.Text)
}

// equivalent compares under the dialect's rules, and byte for byte where the
// grammar cannot read a side.
func equivalent(d *dialect.Dialect, a, b string) bool {
	_, ta, errA := d.Parse(a)
	_, tb, errB := d.Parse(b)
	if errA != nil || errB != nil {
		return a == b
	}
	return rules.Equivalent(ta, tb)
}

// drifted tells whether running text is not equivalent to its baseline.
func (s *Service) drifted(ctx context.Context, q *store.Q, d core.Device, dia *dialect.Dialect, running string) (bool, error) {
	base, err := q.VersionBaseline(ctx, d.ID, "running")
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	raw, err := q.Content(ctx, base.ContentID)
	return err == nil && !equivalent(dia, string(raw), running), err
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
	now := v.s.clock().UTC()
	v.pull.Result, v.pull.Trouble = "failed", cause.Error()
	if err := q.AddPull(ctx, v.pull); err != nil {
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
	d.Trouble, d.LastTried = cause.Error(), &now
	switch {
	case errors.Is(cause, link.ErrLoginRefused):
		d.State = core.RefusedLogin
		if err := q.Latch(ctx, d, cause.Error()); err != nil {
			return err
		}
		if err := q.Audit(ctx, "login latched", d.Name, "the device refused it; nothing tries it again until a person says so"); err != nil {
			return err
		}
	case errors.Is(cause, errLatched):
		d.State = core.RefusedLogin
	case errors.Is(cause, link.ErrUnreachable):
		d.State = core.Unreachable
	default:
		d.State = core.Failing
	}
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
