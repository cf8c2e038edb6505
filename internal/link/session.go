package link

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// Limit is how many bytes of one answer are taken before a device is thought
// to have lost its mind.
const Limit = 16 << 20

// ErrEndless is returned when a device sends more than Limit.
var ErrEndless = fmt.Errorf("more than %d MiB came and no end is in sight", Limit>>20)

// Call is what a conversation is opened with.
type Call struct {
	Dialect    *dialect.Dialect
	Target     Target
	Credential Credential
	Name       string       // the device's name here: {name}
	Guard      func() error // asked before everything that is sent; its error stops the session
	Warn       func(string) // told what a person should know of the way; may be nil
	Trace      func(Exchange)
	Began      func(session string) error // told the device's own name for this session before it may hold the device; may be nil
	Ours       func(session string) bool  // tells whether a session that holds the device is one this service left behind; may be nil
	Inbox      Inbox                      // where devices send files to; nil when there is none
	// MayEnd tells whether a person asked for the end of somebody else's session
	// that holds the device, and notes down that it is ended; may be nil.
	MayEnd func(session string) (bool, error)
	// Left is told before a device makes a file that has to be removed again, and
	// Gone after it was. Either may be nil.
	Left, Gone func(part, file string) error
}

// Exchange is one thing said to a device and its answer, for those who look
// over the shoulder. Secrets of the credential are taken out.
type Exchange struct {
	Sent, Answer string
	Took         time.Duration
	Err          error
}

// Inbox receives files that devices were told to send, and hands out those they
// were told to fetch.
type Inbox interface {
	// Expect opens a one-time path for a protocol. host and port are where the
	// device reaches it.
	Expect(ctx context.Context, protocol, from string) (host string, port int, path string, wait func() ([]byte, error), cancel func(), err error)
	// Offer opens a one-time path at which a device may fetch a file.
	Offer(ctx context.Context, protocol, from string, content []byte) (host string, port int, path string, cancel func(), err error)
}

// speaker is one way of speaking.
type speaker interface {
	// read gets what a source names. flaw tells what keeps it from being whole,
	// or "": some ways can wait for more.
	read(what string, src *dialect.Source, flaw func(string) string) (string, error)
	// step does a step and returns its answer.
	step(st *dialect.Step) (string, error)
	close()
}

// Session is one conversation with a device, whatever it speaks. It is not
// safe for concurrent use.
type Session struct {
	call     Call
	d        *dialect.Dialect
	ctx      context.Context
	cancel   func()
	vars     map[string]string
	signs    map[string]string // of change, by part, as they were asked for last
	raw      map[string][]byte // {content}, and other values that are no text
	putting  Content           // what steps that put a file put
	sp       speaker
	client   *ssh.Client    // where SSH is spoken
	large    *flow          // while a part is read that may be larger than Limit
	absent   *regexp.Regexp // while a part is made: how the device says that it has none
	verbatim bool           // while a part is fetched of which every byte counts
	own      string         // the device's name for this session, where it has one
	once     *sync.Once
}

// Open signs in and makes the session ready. The context covers the session's
// whole life.
func Open(ctx context.Context, call Call) (*Session, error) {
	d := call.Dialect.For(call.Target.Transport, "", "")
	way, ok := d.Way(call.Target.Transport)
	if !ok {
		return nil, fmt.Errorf("dialect %s does not speak %s", d.Dialect, call.Target.Transport)
	}
	if call.Target.Port == 0 {
		call.Target.Port = way.Port
	}
	if call.Warn == nil {
		call.Warn = func(string) {}
	}
	ctx, cancel := context.WithTimeoutCause(ctx, d.Whole, &TimeoutError{What: "the whole visit", Took: d.Whole})
	s := &Session{call: call, d: d, ctx: ctx, cancel: cancel, once: new(sync.Once), raw: map[string][]byte{}}
	c := call.Credential
	s.vars = map[string]string{"user": c.User, "password": c.Password, "privileged_secret": c.Privileged, "raise": c.Privileged, "passphrase": c.Passphrase,
		"name": call.Name, "address": call.Target.Address}
	err := s.speak(way)
	if err != nil {
		cancel()
		return nil, err
	}
	return s, nil
}

func (s *Session) speak(way dialect.Way) (err error) {
	t, c, d := s.call.Target, s.call.Credential, s.d
	switch way.Transport {
	case dialect.SSH, dialect.Netconf:
		client, stop, err := signIn(s.ctx, d.Reach.Legacy, d.Connect, t, c, s.call.Warn)
		if err != nil {
			return err
		}
		s.client = client
		done := s.cancel
		s.cancel = func() { stop(); client.Close(); done() }
		if way.Transport == dialect.Netconf {
			if s.sp, err = newNetconf(s, client); err != nil {
				s.cancel()
				return err
			}
			return nil
		}
		if len(d.Converse.Modes) == 0 {
			s.sp = &execs{s}
			return nil
		}
		st, err := shell(client)
		if err != nil {
			s.cancel()
			return fmt.Errorf("opening a shell: %w", err)
		}
		return s.talk(st, true)
	case dialect.Telnet:
		s.call.Warn("Telnet carries password and configuration unencrypted")
		conn, stop, err := dialThrough(s.ctx, t, d.Connect)
		if err != nil {
			return err
		}
		_ = conn.SetDeadline(time.Time{})
		done := s.cancel
		s.cancel = func() { stop(); conn.Close(); done() }
		tn := newTelnet(conn)
		return s.talk(&stream{tn, tn, func() { conn.Close() }}, false)
	default:
		s.sp, err = newWeb(s, way)
		return err
	}
}

func (s *Session) talk(st *stream, signedIn bool) error {
	term, err := newTerminal(s.ctx, s.call, s.d, st, signedIn)
	if err != nil {
		s.cancel()
		return err
	}
	s.sp = &typist{term, s}
	return nil
}

// Close ends the conversation cleanly, if the device still listens.
func (s *Session) Close() {
	s.once.Do(func() {
		s.sp.close()
		s.cancel()
	})
}

// Dialect is the dialect as it is for the device that answered: known once
// Identity has been asked.
func (s *Session) Dialect() *dialect.Dialect { return s.d }

var variable = regexp.MustCompile(`\{([a-z][a-z0-9-]*)\}`)

// expand puts values in the place of {names}. What no name stands for is an
// error: a command with a hole in it is never sent.
func (s *Session) expand(source string) (string, error) {
	return s.expandFor(source, func(_, v string) string { return v })
}

// expandFor does so with each value encoded for where it goes, by its name.
func (s *Session) expandFor(source string, encode func(name, value string) string) (out string, err error) {
	out = variable.ReplaceAllStringFunc(source, func(m string) string {
		name := m[1 : len(m)-1]
		if raw, ok := s.raw[name]; ok {
			return encode(name, string(raw))
		}
		if name == "content" && s.putting.From != nil {
			_, err = s.putting.whole("a text that it is put into")
			return ""
		}
		v, ok := s.vars[name]
		if !ok {
			err = fmt.Errorf("the dialect uses {%s} in %q, and nothing gave it a value by then", name, source)
		}
		return encode(name, v)
	})
	return out, err
}

// alike encodes every value in one way, whatever its name.
func alike(encode func(string) string) func(name, value string) string {
	return func(_, v string) string { return encode(v) }
}

// hide takes the credential's secrets out of what is shown to a person.
func (s *Session) hide(text string) string {
	for _, v := range []string{s.call.Credential.Password, s.call.Credential.Privileged, s.call.Credential.Passphrase} {
		if len(v) > 2 {
			text = strings.ReplaceAll(text, v, "‹secret›")
		}
	}
	return text
}

func (s *Session) trace(sent, answer string, began time.Time, err error) {
	if s.call.Trace != nil {
		s.call.Trace(Exchange{Sent: s.hide(sent), Answer: s.hide(answer), Took: time.Since(began), Err: err})
	}
}

// Target is where the session was opened.
func (s *Session) Target() Target { return s.call.Target }

// steps does steps one after the other.
func (s *Session) steps(steps []dialect.Step) error {
	for i := range steps {
		err := s.step(&steps[i])
		if errors.Is(err, errExpired) {
			// It was not done: the device asked who we are instead.
			if err = s.renewed(steps[:i]); err == nil {
				err = s.step(&steps[i])
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// renewed signs in again where a web session ended, and does those steps again
// that only read: what they found may have belonged to the old session.
func (s *Session) renewed(before []dialect.Step) error {
	w, ok := s.sp.(*web)
	if !ok {
		return errExpired
	}
	if err := w.renew(); err != nil {
		return err
	}
	for i := range before {
		if strings.HasPrefix(before[i].Ask, "GET ") {
			if err := s.step(&before[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// step does a step, again and again if it is to be done until something shows.
func (s *Session) step(st *dialect.Step) error {
	what := s.describe(st)
	began := time.Now()
	within, every := s.d.Span(st.Within, 0), s.d.Span(st.Every, time.Second)
	for {
		if err := s.call.Guard(); err != nil {
			return err
		}
		at := time.Now()
		out, err := s.one(st)
		s.trace(what, out, at, err)
		if s.absent != nil && s.absent.MatchString(strings.TrimSpace(out)) {
			return errAbsent
		}
		if err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		if st.Fails != "" && shows(s.d.Pattern(st.Fails), out) {
			return fmt.Errorf("%s: %w", what, &Refused{Line: what, Means: "refused", Words: firstLine(out, s.d.Pattern(st.Fails))})
		}
		if st.Until != "" && !shows(s.d.Pattern(st.Until), out) {
			if time.Since(began) > within {
				return fmt.Errorf("%s: %w", what, &TimeoutError{What: fmt.Sprintf("the answer never showed %s", st.Until), Took: within})
			}
			select {
			case <-time.After(every):
			case <-s.ctx.Done():
				return context.Cause(s.ctx)
			}
			continue
		}
		if st.Done != "" && !shows(s.d.Pattern(st.Done), out) {
			return fmt.Errorf("%s: %w", what, &notDone{cutTo(strings.TrimSpace(s.hide(out)), 120)})
		}
		for name, pattern := range st.Keep {
			v, ok := find(s.d.Pattern(pattern), out)
			if !ok {
				return fmt.Errorf("%s: the answer does not show %s, which {%s} is taken from", what, pattern, name)
			}
			s.vars[name] = v
		}
		return nil
	}
}

// notDone is an answer that does not say that a step is done.
type notDone struct{ answer string }

func (n *notDone) Error() string {
	return fmt.Sprintf("was answered with %q, which does not say that it is done", n.answer)
}

// answered takes an answer that does not say that a step is done for the device's no:
// where a timer is taken off, or gone back by, there may be none any more.
func answered(err error) error {
	var n *notDone
	if errors.As(err, &n) {
		return fmt.Errorf("%w: %w", err, &Refused{Means: "refused", Words: n.answer})
	}
	return err
}

func (s *Session) one(st *dialect.Step) (string, error) {
	if st.Put != nil {
		path, err := s.expand(st.Put.Path)
		if err != nil {
			return "", err
		}
		return "", s.putFile(st.Put, path, s.putting)
	}
	if st.Exec != "" {
		return (&execs{s}).step(st)
	}
	return s.sp.step(st)
}

// describe names a step without the secrets that may stand in it.
func (s *Session) describe(st *dialect.Step) string {
	switch {
	case st.Type != "":
		return fmt.Sprintf("%q", st.Type)
	case st.Exec != "":
		return fmt.Sprintf("%q", st.Exec)
	case st.Ask != "":
		return st.Ask
	case st.RPC != "":
		return "rpc " + cutTo(strings.TrimSpace(st.RPC), 40)
	}
	return "putting " + st.Put.Path + " by " + st.Put.Over
}

// find returns the first group of a pattern's first match in an answer.
func find(re *regexp.Regexp, src string) (string, bool) {
	if m := re.FindStringSubmatch(src); m != nil {
		return strings.TrimSpace(m[1]), true
	}
	return "", false
}

// shows tells whether an answer matches.
func shows(re *regexp.Regexp, src string) bool { return re.MatchString(src) }

func firstLine(src string, re *regexp.Regexp) string {
	for _, l := range text.Lines(src) {
		if re.MatchString(l) {
			return strings.TrimSpace(l)
		}
	}
	return cutTo(strings.TrimSpace(src), 160)
}

// typist types at a command line.
type typist struct {
	*terminal
	s *Session
}

func (t *typist) read(what string, src *dialect.Source, flaw func(string) string) (string, error) {
	if src.Exec != "" {
		return (&execs{t.s}).read(what, src, flaw)
	}
	command, err := t.s.expand(src.Command)
	if err != nil {
		return "", err
	}
	if err := t.Enter(src.Mode); err != nil {
		return "", err
	}
	if err := t.write(command); err != nil {
		return "", err
	}
	for {
		if _, err := t.until("reading "+what, t.prompt(t.mode)); err != nil {
			return "", &Incomplete{what, why(err), t.came(command), err}
		}
		out := t.output(command)
		wrong := flaw(out)
		if wrong == "" {
			return out, nil
		}
		if first, _, _ := strings.Cut(out, "\n"); first != "" {
			if err := t.refusal(command, first); err != nil {
				return "", err
			}
		}
		err = t.moreWithin(patienceForRest, "")
		var late *TimeoutError
		if errors.As(err, &late) {
			return "", &Incomplete{what, wrong, t.came(command), nil}
		} else if err != nil {
			return "", &Incomplete{what, why(err), t.came(command), err}
		}
	}
}

func (t *typist) step(st *dialect.Step) (string, error) {
	line, err := t.s.expand(st.Type)
	if err != nil {
		return "", err
	}
	if err := t.Enter(st.Mode); err != nil {
		return "", err
	}
	out, err := t.answer(line, st.Answers, t.s.expand)
	if err != nil {
		return out, err
	}
	return out, t.refusal(st.Type, out)
}
