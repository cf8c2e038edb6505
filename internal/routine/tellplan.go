package routine

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"slices"
	"strconv"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/when"
	"magpie/internal/store"
)

// hostPort tells what is wrong with a host and port.
func hostPort(address string) error {
	host, port, err := net.SplitHostPort(address)
	if n, e := strconv.Atoi(port); err != nil || e != nil || host == "" || n < 1 || n > 65535 {
		return fmt.Errorf("%q is no host and port; write it like mail.example:587", address)
	}
	return nil
}

// mailAddress reads an address of RFC 5322.
func mailAddress(s string) (string, error) {
	a, err := mail.ParseAddress(s)
	if err != nil || a.Name != "" {
		return "", fmt.Errorf("%q is no mail address; write it like noc@ferries.example", s)
	}
	return a.Address, nil
}

// SaveMailServer keeps who takes mail. An empty password keeps the one there was, for the
// same server and user.
func (s *Service) SaveMailServer(ctx context.Context, actor core.Actor, m core.MailServer) error {
	if err := hostPort(m.Server); err != nil {
		return Wrong{"server", err.Error()}
	}
	if !slices.Contains(core.MailSecurities, m.Security) {
		return Wrong{"security", fmt.Sprintf("%q keeps nothing private; it is one of %s", m.Security, strings.Join(core.MailSecurities, ", "))}
	}
	from, err := mailAddress(m.From)
	if err != nil {
		return Wrong{"from", err.Error()}
	}
	m.From = from
	if m.CA != "" {
		if _, err := tlsTo("", m.CA); err != nil {
			return Wrong{"ca", err.Error()}
		}
	}
	if m.Console != "" {
		if err := soundURL(m.Console); err != nil {
			return Wrong{"console", err.Error()}
		}
	}
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		var was core.MailServer
		if _, _, err := q.Setting(ctx, mailSetting, &was); err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if m.User != "" && m.Password == "" {
			if was.Server != m.Server || was.User != m.User || was.Security != m.Security {
				return Wrong{"password", "the password is missing; the one that is kept goes to no other server, and no other way"}
			}
			m.Password = was.Password
		}
		if m.User == "" {
			m.Password = ""
		}
		if err := q.SetSetting(ctx, mailSetting, m); err != nil {
			return err
		}
		return q.Audit(ctx, "mail server set", m.Server, m.Security+", from "+m.From+core.Because(m.User))
	})
}

// RemoveMailServer forgets who takes mail.
func (s *Service) RemoveMailServer(ctx context.Context, actor core.Actor) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		var was core.MailServer
		if _, _, err := q.Setting(ctx, mailSetting, &was); errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("the mail server: %w", store.ErrNotFound)
		}
		if err := q.SetSetting(ctx, mailSetting, nil); err != nil {
			return err
		}
		return q.Audit(ctx, "mail server removed", was.Server, "")
	})
}

// SaveRecipient keeps who can be told. was is its name, if it is there already; audit has the
// audit log sent there, from now on. A webhook gets a secret where none is given and none is
// kept for its address; fresh says so.
func (s *Service) SaveRecipient(ctx context.Context, actor core.Actor, was, name, kind string, way core.Way, audit bool) (r store.Recipient, fresh bool, err error) {
	if err := ref.DeviceName(name); err != nil {
		return r, false, Wrong{"name", strings.Replace(err.Error(), "device", "recipient", 1)}
	}
	if way, err = soundWay(kind, way); err != nil {
		return r, false, err
	}
	if audit && kind != core.BySyslog {
		return r, false, Wrong{"audit", "the audit log is sent by syslog only"}
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		r, fresh = store.Recipient{}, false
		way := way
		deed, before := "recipient added", ""
		if was != "" {
			if r, err = q.Recipient(ctx, was); err != nil {
				return err
			}
			if r.Kind != kind {
				return Wrong{"kind", "it is told by " + r.Kind + "; make another one for " + kind}
			}
			deed, before = "recipient changed", r.Kind+": "+placeOf(r.Way)
		}
		if kind == core.ByWebhook && way.Secret == "" {
			if way.Secret = r.Secret; way.Secret == "" || r.URL != way.URL { // a secret goes with one address
				b := make([]byte, 24)
				_, _ = rand.Read(b)
				way.Secret, fresh = base64.RawURLEncoding.EncodeToString(b), true
			}
		}
		r.Name, r.Kind, r.Way = name, kind, way
		switch {
		case !audit:
			r.AuditSeq = nil
		case r.AuditSeq == nil:
			end, err := q.AuditEnd(ctx)
			if err != nil {
				return err
			}
			r.AuditSeq = &end.Seq
		}
		if err := q.SaveRecipient(ctx, &r); err != nil {
			return err
		}
		return q.Audit(ctx, deed, r.Name, core.Instead(r.Kind+": "+placeOf(r.Way), before))
	})
	return r, fresh, err
}

// soundWay checks how a recipient is to be reached.
func soundWay(kind string, w core.Way) (out core.Way, err error) {
	switch kind {
	case core.ByMail:
		if len(w.To) == 0 || len(w.To) > 50 {
			return w, Wrong{"to", "a recipient by mail has one to 50 addresses"}
		}
		for _, a := range w.To {
			a, err := mailAddress(a)
			if err != nil {
				return w, Wrong{"to", err.Error()}
			}
			if !slices.Contains(out.To, a) {
				out.To = append(out.To, a)
			}
		}
		return out, nil
	case core.ByWebhook:
		if err := soundURL(w.URL); err != nil {
			return w, Wrong{"url", err.Error()}
		}
		if w.Secret != "" && len(w.Secret) < 16 {
			return w, Wrong{"secret", "the secret has less than 16 characters; leave it out, and one is made"}
		}
		out = core.Way{URL: w.URL, Secret: w.Secret, CA: w.CA}
	case core.BySyslog:
		if err := hostPort(w.Address); err != nil {
			return w, Wrong{"address", err.Error()}
		}
		if w.Transport == "" {
			w.Transport = "tls"
		}
		if !slices.Contains(core.SyslogTransports, w.Transport) {
			return w, Wrong{"transport", fmt.Sprintf("%q is no way for syslog; it is one of %s", w.Transport, strings.Join(core.SyslogTransports, ", "))}
		}
		out = core.Way{Address: w.Address, Transport: w.Transport, CA: w.CA}
	default:
		return w, Wrong{"kind", fmt.Sprintf("%q is no way to tell people; it is one of %s", kind, strings.Join(core.RecipientKinds, ", "))}
	}
	if out.CA != "" {
		if _, err := tlsTo("", out.CA); err != nil {
			return w, Wrong{"ca", err.Error()}
		}
	}
	return out, nil
}

// RemoveRecipient forgets who can be told. One whom a rule tells stays.
func (s *Service) RemoveRecipient(ctx context.Context, actor core.Actor, name string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		r, err := q.Recipient(ctx, name)
		if err != nil {
			return err
		}
		rules, err := q.NotificationRules(ctx)
		if err != nil {
			return err
		}
		for _, x := range rules {
			if slices.Contains(x.Recipients, r.ID) {
				return fmt.Errorf("%w: the rule %s tells %s", ErrTold, x.Name, name)
			}
		}
		if err := q.RemoveRecipient(ctx, r.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "recipient removed", name, "")
	})
}

// ErrTold is returned where a recipient is told by a rule.
var ErrTold = errors.New("somebody is told there")

// WantedRule is a notification rule as somebody asks for it.
type WantedRule struct {
	Name       string
	Events     []string
	Selector   string
	Recipients []string // names
	Days       int
	Digest     string
	Zone       string
	Quiet      []string
	Paused     bool
	Note       string
}

// daysUnproven is after how many days without proof people are told, where nothing is said.
const daysUnproven = 90

// SaveNotificationRule keeps of what people are told. was is its name, if it is there already.
func (s *Service) SaveNotificationRule(ctx context.Context, actor core.Actor, was string, w WantedRule) (r store.NotificationRule, err error) {
	if err := ref.DeviceName(w.Name); err != nil {
		return r, Wrong{"name", strings.Replace(err.Error(), "device", "rule", 1)}
	}
	now := s.Now()
	if w.Zone == "" {
		w.Zone = "UTC"
	}
	zone, err := ref.Zone(w.Zone)
	if err != nil {
		return r, Wrong{"zone", err.Error()}
	}
	var events []string
	for _, e := range w.Events {
		if !slices.ContainsFunc(core.NotificationEvents, func(x core.NotificationEvent) bool { return x.Name == e }) {
			return r, Wrong{"events", fmt.Sprintf("nobody can be told of %q; there are %s", e, strings.Join(eventNames(), ", "))}
		}
		if !slices.Contains(events, e) {
			events = append(events, e)
		}
	}
	if len(events) == 0 {
		return r, Wrong{"events", "it tells of nothing; there are " + strings.Join(eventNames(), ", ")}
	}
	if w.Days < 0 || w.Days > 3650 {
		return r, Wrong{"days", "days without proof are 1 to 3650"}
	}
	if slices.Contains(events, core.TellUnproven) {
		w.Days = cmp.Or(w.Days, daysUnproven)
	} else if w.Days > 0 {
		return r, Wrong{"days", "days belong to the event " + core.TellUnproven + ", which the rule does not tell of"}
	}
	if w.Digest != "" {
		rule, err := when.Parse(w.Digest, zone, now)
		if err == nil && rule.Next(rule.Next(now)).IsZero() {
			err = fmt.Errorf("%s comes once only; a digest comes time after time", rule)
		}
		if err != nil {
			return r, Wrong{"digest", err.Error()}
		}
		w.Digest = rule.String()
	}
	quiet := core.Words{}
	for _, line := range w.Quiet {
		x, err := when.ParseWindow(line, zone, now)
		if err != nil {
			return r, Wrong{"quiet", err.Error()}
		}
		quiet = append(quiet, x.String())
	}
	if len(w.Recipients) == 0 {
		return r, Wrong{"recipients", "it tells nobody; make a recipient first, then name it"}
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		r = store.NotificationRule{}
		deed, before := "notification rule added", ""
		if was != "" {
			if r, err = q.LockNotificationRule(ctx, was); err != nil {
				return err
			}
			all, err := q.Recipients(ctx)
			if err != nil {
				return err
			}
			var told []string
			for _, id := range r.Recipients {
				for _, to := range all {
					if to.ID == id {
						told = append(told, to.Name)
					}
				}
			}
			deed, before = "notification rule changed", strings.Join(r.Events, ", ")+" of "+r.Selector+" to "+strings.Join(told, ", ")+core.Because(r.Note)
		}
		ids := core.Words{}
		for _, name := range w.Recipients {
			to, err := q.Recipient(ctx, name)
			if err != nil {
				return err
			}
			ids = append(ids, to.ID)
		}
		r.Name, r.Events, r.Selector, r.Recipients, r.Days, r.Digest, r.Zone = w.Name, events, w.Selector, ids, w.Days, w.Digest, w.Zone
		r.Quiet, r.FromAt, r.Paused, r.Note = quiet, now, w.Paused, w.Note
		if err := q.SaveNotificationRule(ctx, &r); err != nil {
			return err
		}
		return q.Audit(ctx, deed, r.Name, core.Instead(strings.Join(events, ", ")+" of "+r.Selector+" to "+strings.Join(w.Recipients, ", ")+core.Because(w.Note), before))
	})
	return r, err
}

func eventNames() (names []string) {
	for _, e := range core.NotificationEvents {
		names = append(names, e.Name)
	}
	return names
}

// PauseNotificationRule stops a rule from telling, or has it tell again. What it had gathered and not
// told is forgotten.
func (s *Service) PauseNotificationRule(ctx context.Context, actor core.Actor, name string, paused bool) (r store.NotificationRule, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if r, err = q.LockNotificationRule(ctx, name); err != nil || r.Paused == paused {
			return err
		}
		r.Paused = paused
		if err := q.SaveNotificationRule(ctx, &r); err != nil {
			return err
		}
		if err := q.ForgetUntold(ctx, r.ID); err != nil {
			return err
		}
		return q.Audit(ctx, map[bool]string{true: "notification rule paused", false: "notification rule resumed"}[paused], name, "")
	})
	return r, err
}

// RemoveNotificationRule forgets a rule; what it told stays.
func (s *Service) RemoveNotificationRule(ctx context.Context, actor core.Actor, name string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		r, err := q.NotificationRule(ctx, name)
		if err != nil {
			return err
		}
		if err := q.RemoveNotificationRule(ctx, r.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "notification rule removed", name, "")
	})
}

// NextDigest is when what a rule gathers is told next; zero: at once.
func NextDigest(r store.NotificationRule, now time.Time) time.Time {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil || r.Digest == "" {
		return time.Time{}
	}
	rule, err := when.Parse(r.Digest, zone, r.FromAt)
	if err != nil {
		return time.Time{}
	}
	return rule.Next(now)
}

// ErrNotTried is said of a message that cannot be tried now.
var ErrNotTried = errors.New("not tried")

// Retry has a message tried now that waits or was given up.
func (s *Service) Retry(ctx context.Context, actor core.Actor, id string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		m, err := q.Message(ctx, id)
		if err != nil {
			return err
		}
		switch tried, err := q.RetryMessage(ctx, id); {
		case err != nil:
			return err
		case tried:
			return q.Audit(ctx, "message tried again", id, m.Recipient)
		case m.State == core.ToBeSent:
			return fmt.Errorf("message %s is %w: it is being sent at this moment", id, ErrNotTried)
		}
		return fmt.Errorf("message %s is %w: it is %s", id, ErrNotTried, m.State)
	})
}

// placeOf is where a way leads.
func placeOf(w core.Way) string { return cmp.Or(strings.Join(w.To, ", "), w.URL, w.Address) }
