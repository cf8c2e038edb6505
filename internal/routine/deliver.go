package routine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// The bounds of sending.
const (
	sendWithin = time.Minute         // one message, once
	sendLease  = 5 * time.Minute     // how long a message is somebody's who sends it; clocks of instances may differ by the rest
	sendFirst  = 30 * time.Second    // until it is tried again, doubled each time
	sendMost   = 15 * time.Minute    // between tries
	sendFor    = 3 * 24 * time.Hour  // until it is given up
	sendAtOnce = 8                   // messages at a time
	lateAfter  = 15 * time.Minute    // from then on a message that waits is a trouble
	givenUpFor = 14 * 24 * time.Hour // how long one that was given up is a trouble
)

// Step is one step of a conversation in which somebody is told something.
type Step struct {
	Name string // what was done, in a few words
	Says string // what came of it
	OK   bool
}

// steps are those of one conversation. The first that fails is the last.
type steps struct {
	all  []Step
	ctx  context.Context
	hand func() error // called before a message is handed over
}

// do does a step. said is what came of it.
func (s *steps) do(name string, does func() (said string, err error)) error {
	if err := s.ctx.Err(); err != nil {
		return fmt.Errorf("%s: it took too long", name)
	}
	said, err := does()
	if err != nil {
		s.all = append(s.all, Step{name, err.Error(), false})
		return fmt.Errorf("%s: %w", name, err)
	}
	s.all = append(s.all, Step{name, said, true})
	return nil
}

// send puts what is to be told into the outbox, and sends what is in it, until ctx ends.
func (s *Service) send(ctx context.Context) {
	s.Woken(ctx, lookEvery, "telling people", func() error { return errors.Join(s.Tell(ctx), s.Send(ctx), s.sendAudit(ctx)) },
		store.ForMessages)
}

// Send sends what is due in the outbox, once each.
func (s *Service) Send(ctx context.Context) error {
	q := s.Store.As(job.Service)
	due, err := q.DueMessages(ctx, 4*sendAtOnce)
	if err != nil || len(due) == 0 {
		return err
	}
	all, err := q.Recipients(ctx)
	if err != nil {
		return err
	}
	byID := map[string]store.Recipient{}
	for _, r := range all {
		byID[r.ID] = r
	}
	places := make(chan struct{}, sendAtOnce)
	var sending sync.WaitGroup
	for _, m := range due {
		places <- struct{}{}
		sending.Go(func() {
			defer func() { <-places }()
			if err := s.sendOne(ctx, m, byID[m.RecipientID]); err != nil {
				slog.Warn("a message's state cannot be kept", "message", m.ID, "err", err)
			}
		})
	}
	sending.Wait()
	return nil
}

// sendOne sends a message, if nobody else does.
func (s *Service) sendOne(ctx context.Context, m store.Message, to store.Recipient) error {
	begun := time.Now()
	stop := ctx // ends when the service stops: the conversation does, and what is noted of it does not
	ctx, release := context.WithTimeout(context.WithoutCancel(ctx), 3*sendWithin)
	defer release()
	tx := func(fn func(q *store.Q) error) error { return s.Store.Tx(ctx, job.Service, fn) }
	mine := false
	if err := tx(func(q *store.Q) (err error) {
		mine, err = q.TakeMessage(ctx, m, s.Now().Add(sendLease))
		return err
	}); err != nil || !mine {
		return err
	}
	if m.Shut {
		return tx(func(q *store.Q) error {
			return q.MessageFailed(ctx, m.ID, "it does not open: it was changed in the database, so it cannot be sent", m.Handed, nil)
		})
	}
	handed := m.Handed
	within, cancel := context.WithTimeout(stop, sendWithin)
	defer cancel()
	talk := &steps{ctx: within, hand: func() error {
		handed = true
		return tx(func(q *store.Q) error { return q.HandMessage(ctx, m.ID) })
	}}
	err := s.converse(talk, to, m, m.Handed)
	if err == nil {
		return tx(func(q *store.Q) error { return q.MessageSent(ctx, m.ID) })
	}
	if answered := new(refusedError); errors.As(err, &answered) { // the other side said no: it did not come
		handed = m.Handed
	}
	var next *time.Time
	if s.Now().Sub(m.MadeAt) < sendFor && to.ID != "" {
		wait := min(sendFirst<<min(m.Tries, 10), sendMost)
		at := s.Now().Add(wait)
		next = &at
	}
	if stop.Err() != nil && time.Since(begun) < sendWithin { // the service stops: at once after the next start
		at := s.Now()
		next = &at
	}
	return tx(func(q *store.Q) error { return q.MessageFailed(ctx, m.ID, err.Error(), handed, next) })
}

// refusedError is an answer of the other side that it does not take a message.
type refusedError struct{ said string }

func (r *refusedError) Error() string { return r.said }

// again is what a message says that may have come before.
const again = "This may have reached you before: the connection was lost while it was handed over.\n\n"

// errShut is why a recipient cannot be told of which nobody knows how to reach it.
var errShut = errors.New("how to reach it does not open any more: it was changed in the database; say it anew: magpie recipient edit NAME")

// converse tells a recipient.
func (s *Service) converse(talk *steps, to store.Recipient, m store.Message, twice bool) error {
	if twice {
		m.Text = again + m.Text
	}
	if to.Shut {
		return errShut
	}
	switch to.Kind {
	case core.ByMail:
		server, _, _, err := s.MailServer(talk.ctx, job.Service)
		if err != nil {
			return err
		}
		return talk.mail(server, m)
	case core.ByWebhook:
		return talk.post(to, m, s.Now())
	case core.BySyslog:
		return talk.syslog(to, m, s.Instance())
	}
	return errors.New("its recipient is gone")
}

// TestRecipient tells a recipient that this is a test, and lists the steps of that up to the
// first that failed. address is one of a mail's; empty: the first.
func (s *Service) TestRecipient(ctx context.Context, actor core.Actor, to store.Recipient) ([]Step, error) {
	if err := s.Store.Tx(ctx, actor, func(q *store.Q) error { return q.Audit(ctx, "recipient tested", to.Name, to.Kind) }); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin/2)
	defer cancel()
	talk := &steps{ctx: ctx, hand: func() error { return nil }}
	now := s.Now()
	m := store.Message{ID: store.NewID(now), Rule: "test", MadeAt: now, Told: core.Told{Subject: "a test", Text: "This is a test. " + actor.Name + " asked for it at " + now.Format("2006-01-02 15:04 MST") + ".\n",
		Items: []core.ToldItem{{Event: "test", At: now.Format(time.RFC3339), By: actor.Name, Says: "a test"}}}}
	for _, m.Address = range to.Addresses() {
		if err := s.converse(talk, to, m, false); err != nil {
			if len(talk.all) == 0 || talk.all[len(talk.all)-1].OK { // it did not come to a step
				talk.all = append(talk.all, Step{"begin", err.Error(), false})
			}
			break
		}
	}
	return talk.all, nil
}

// Unsent counts the messages that wait for long, and those that were given up lately.
func (s *Service) Unsent(ctx context.Context) (late, givenUp int, err error) {
	now := s.Now()
	return s.Store.As(job.Service).Unsent(ctx, now.Add(-lateAfter), now.Add(-givenUpFor))
}
