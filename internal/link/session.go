package link

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// Limit is how many bytes of one answer are taken before a device is thought
// to have lost its mind.
const Limit = 16 << 20

// quiet is how long nothing must come before something that looks like a
// prompt is tried out with an empty line; doubt is the same once a device has
// shown two different ones.
const (
	quiet = 40 * time.Millisecond
	doubt = 400 * time.Millisecond
)

// Session is one conversation with a device's command line.
type Session struct {
	d       *dialect.Dialect
	c       Credential
	guard   func() error
	ctx     context.Context
	cancel  context.CancelFunc
	client  *ssh.Client
	in      io.WriteCloser
	chunks  chan []byte
	ended   error // why chunks was closed
	mode    string
	hosts   []string // names the prompt may show
	prompts map[string]*regexp.Regexp
	buf     []byte // what came since the last line was sent
	echoes  int    // how many newlines our own lines make on a terminal
	paged   int    // where in buf the last answered page ends
}

// Open signs in, finds the prompt and prepares the session as the dialect
// says. guard is asked before every line that is sent; its error stops the
// session. The context covers the session's whole life.
func Open(ctx context.Context, d *dialect.Dialect, t Target, c Credential, guard func() error) (*Session, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, d.Whole, &TimeoutError{What: "the whole visit", Took: d.Whole})
	client, stop, err := signIn(ctx, d, t, c)
	if err != nil {
		cancel()
		return nil, err
	}
	s := &Session{d: d, c: c, guard: guard, ctx: ctx, client: client, mode: d.Converse.Starts, chunks: make(chan []byte, 16)}
	s.cancel = func() { stop(); cancel() }
	if err := s.shell(); err != nil {
		s.Close()
		return nil, fmt.Errorf("opening a shell: %w", err)
	}
	if err := s.findPrompt(); err != nil {
		s.Close()
		return nil, fmt.Errorf("finding the prompt: %w", err)
	}
	for _, line := range d.Converse.Prepare {
		if _, err := s.Command(line); err != nil {
			s.Close()
			return nil, fmt.Errorf("preparing with %q: %w", line, err)
		}
	}
	return s, nil
}

func (s *Session) shell() error {
	ch, err := s.client.NewSession()
	if err != nil {
		return err
	}
	out, err := ch.StdoutPipe()
	if err != nil {
		return err
	}
	if s.in, err = ch.StdinPipe(); err != nil {
		return err
	}
	// RFC 4254 §6.2, §8: a terminal wide enough that lines do not wrap.
	if err := ch.RequestPty("dumb", 100, 512, ssh.TerminalModes{ssh.ECHO: 0}); err != nil {
		return err
	}
	if err := ch.Shell(); err != nil {
		return err
	}
	ctx := s.ctx // Close waits under a shorter one
	go func() {
		defer close(s.chunks)
		for {
			chunk := make([]byte, 32<<10)
			n, err := out.Read(chunk)
			if n > 0 {
				select {
				case s.chunks <- chunk[:n]:
				case <-ctx.Done():
					s.ended = context.Cause(ctx)
					return
				}
			}
			if err != nil {
				s.ended = ErrCut
				return
			}
		}
	}()
	return nil
}

// Close says goodbye, if the device still listens, and ends the connection.
func (s *Session) Close() {
	if s.in != nil && s.d.Converse.Goodbye != "" && s.ctx.Err() == nil && s.guard() == nil && len(s.hosts) > 0 {
		ctx, cancel := context.WithTimeout(s.ctx, 2*time.Second)
		s.ctx = ctx
		if s.Enter(s.d.Converse.Starts) == nil {
			_ = s.write(s.d.Converse.Goodbye)
			// The device hangs up by itself; that is the clean end.
			for waiting := true; waiting; {
				select {
				case _, waiting = <-s.chunks:
				case <-ctx.Done():
					waiting = false
				}
			}
		}
		cancel()
	}
	s.client.Close()
	s.cancel()
	for range s.chunks { // let the reader go
	}
}

func (s *Session) write(line string) error {
	if err := s.guard(); err != nil {
		return err
	}
	s.buf, s.paged, s.echoes = s.buf[:0], 0, 1+strings.Count(line, "\r")
	if _, err := io.WriteString(s.in, line+"\r"); err != nil {
		return ErrCut
	}
	return nil
}

// more waits for bytes. The first wait after a line may take longer.
func (s *Session) more(first bool, what string) error {
	wait := s.d.Idle
	if first {
		wait = s.d.Answer
	}
	return s.moreWithin(wait, what)
}

func (s *Session) moreWithin(wait time.Duration, what string) error {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case chunk, ok := <-s.chunks:
		if !ok {
			return s.ended
		}
		s.buf = append(s.buf, chunk...)
		if len(s.buf) > Limit {
			return fmt.Errorf("%s: more than %d MiB came and no end is in sight", what, Limit>>20)
		}
		return nil
	case <-timer.C:
		return &TimeoutError{What: what, Took: wait}
	case <-s.ctx.Done():
		return context.Cause(s.ctx)
	}
}

// tail is the unfinished last line of what came, as a person would see it.
func (s *Session) tail() string { return s.tailFrom(0) }

func (s *Session) tailFrom(start int) string {
	line := s.buf[max(start, bytes.LastIndexByte(s.buf, '\n')+1):]
	if len(line) > 2048 {
		return ""
	}
	return text.Terminal(string(line))
}

// findPrompt learns the device's prompt. What looks like one is believed only
// if nothing follows it and an empty line is answered with the same again.
func (s *Session) findPrompt() error {
	any := s.d.Prompt(s.d.Converse.Starts)
	settle := func(quiet time.Duration) (string, error) {
		deadline := time.Now().Add(s.d.Connect)
		for {
			if tail := s.tail(); any.MatchString(tail) {
				err := s.moreWithin(quiet, "")
				var late *TimeoutError
				if errors.As(err, &late) {
					return tail, nil
				} else if err != nil {
					return "", err
				}
				continue
			}
			left := time.Until(deadline)
			if left <= 0 {
				return "", &TimeoutError{What: "no prompt of the dialect came; the last line is " + fmt.Sprintf("%q", cutTo(s.tail(), 60)), Took: s.d.Connect}
			}
			if err := s.moreWithin(left, "waiting for a prompt"); err != nil {
				return "", err
			}
		}
	}
	seen, err := settle(quiet)
	if err != nil {
		return err
	}
	for try := range 5 {
		if err := s.write(""); err != nil {
			return err
		}
		for !bytes.Contains(s.buf, []byte("\n")) {
			if err := s.moreWithin(s.d.Connect, "waiting for the prompt again"); err != nil {
				return err
			}
		}
		wait := quiet
		if try > 0 {
			wait = doubt
		}
		again, err := settle(wait)
		if err != nil {
			return err
		}
		if again == seen {
			m := any.FindStringSubmatch(seen)
			s.hosts = []string{m[any.SubexpIndex("host")]}
			return nil
		}
		// The empty line may have been answered twice; let it all come in.
		if seen, err = settle(doubt); err != nil {
			return err
		}
	}
	return fmt.Errorf("the prompt is never the same twice; the last was %q", cutTo(seen, 60))
}

func cutTo(s string, n int) string {
	if len(s) > n {
		return s[:n] + "…"
	}
	return s
}

// exchange sends a line and reads until the last line matches one of the
// patterns. It returns which, and what came before, without the echo.
func (s *Session) exchange(line string, what string, ends ...*regexp.Regexp) (which int, out string, err error) {
	if err := s.write(line); err != nil {
		return 0, "", err
	}
	which, err = s.until(what, ends...)
	return which, s.output(line), err
}

// until reads until the last line matches one of the patterns. A page's end is
// answered on the way.
func (s *Session) until(what string, ends ...*regexp.Regexp) (int, error) {
	for first := true; ; first = false {
		tail := s.tail()
		for i, re := range ends {
			// An echo that looks like a prompt is not one.
			if re.MatchString(tail) && bytes.Count(s.buf, []byte("\n")) >= s.echoes {
				return i, nil
			}
		}
		if p := s.d.Converse.Pager; p != nil && s.d.Pattern(p.Shows).MatchString(s.tailFrom(s.paged)) {
			if err := s.guard(); err != nil {
				return 0, err
			}
			if _, err := io.WriteString(s.in, p.Answer); err != nil {
				return 0, ErrCut
			}
			s.paged, first = len(s.buf), true
		}
		if err := s.more(first, what); err != nil {
			return 0, err
		}
	}
}

// output is what came, without the echo of the line and without the last,
// unfinished line.
func (s *Session) output(line string) string {
	out := text.Terminal(string(s.buf))
	out = out[:strings.LastIndexByte(out, '\n')+1]
	for _, sent := range strings.Split(line, "\r") {
		if rest, ok := strings.CutPrefix(out, sent+"\n"); ok {
			out = rest
		}
	}
	return out
}

func (s *Session) prompt(mode string) *regexp.Regexp {
	if s.prompts[mode] == nil {
		if s.prompts == nil {
			s.prompts = map[string]*regexp.Regexp{}
		}
		s.prompts[mode] = s.d.Prompt(mode, s.hosts...)
	}
	return s.prompts[mode]
}

// refusal finds the first line that the dialect takes for a refusal.
func (s *Session) refusal(line, out string) error {
	for _, l := range text.Lines(out) {
		if means, words := s.d.Refused(l); means != "" {
			r := &Refused{Line: line, Means: means, Words: words}
			if means == "login" {
				return fmt.Errorf("%w: %w", ErrLoginRefused, r)
			}
			return r
		}
	}
	return nil
}

// Command sends a line in the mode the session is in and returns the answer.
// A refusal comes back as *Refused.
func (s *Session) Command(line string) (string, error) {
	_, out, err := s.exchange(line, fmt.Sprintf("waiting for the answer to %q", line), s.prompt(s.mode))
	if err != nil {
		return out, err
	}
	return out, s.refusal(line, out)
}

// Enter brings the session into a mode, through the modes in between.
func (s *Session) Enter(mode string) error {
	up := func(m string) (path []string) {
		for ; m != s.d.Converse.Starts; m = s.d.Converse.Modes[m].From {
			path = append(path, m)
		}
		return append(path, s.d.Converse.Starts)
	}
	way := up(mode)
	for !slices.Contains(way, s.mode) {
		m := s.d.Converse.Modes[s.mode]
		if _, out, err := s.exchange(m.Leave, "leaving "+s.mode, s.prompt(m.From)); err != nil {
			return err
		} else if err := s.refusal(m.Leave, out); err != nil {
			return err
		}
		s.mode = m.From
	}
	for i := slices.Index(way, s.mode) - 1; i >= 0; i-- {
		if err := s.step(way[i]); err != nil {
			return err
		}
	}
	return nil
}

// step enters a mode from the one below it, answering the question for a
// secret if there is one.
func (s *Session) step(mode string) error {
	m := s.d.Converse.Modes[mode]
	ends := []*regexp.Regexp{s.prompt(mode), s.prompt(s.mode)}
	if m.Asks != "" {
		ends = append(ends, regexp.MustCompile("(?:"+m.Asks+")$"))
	}
	which, out, err := s.exchange(m.Enter, "entering "+mode, ends...)
	if err != nil {
		return err
	}
	if which == 2 {
		s.echoes = 1
		if which, out, err = s.exchange(s.c.Raise, "answering the question for the raised-mode secret", ends[:2]...); err != nil {
			return err
		}
	}
	if which == 1 {
		if err := s.refusal(m.Enter, out); err != nil {
			return err
		}
		return &Refused{Line: m.Enter, Means: "refused", Words: strings.TrimSpace(out)}
	}
	s.mode = mode
	return nil
}

// Send sends lines of a change at once and reads the answer. hostname, if not
// empty, is a name the prompt may show from then on. *Refused is the device's
// refusal; any other error leaves it unknown whether the lines took effect.
func (s *Session) Send(lines []string, hostname string) error {
	if hostname != "" && !slices.Contains(s.hosts, hostname) {
		s.hosts, s.prompts = append(s.hosts, hostname), nil
	}
	all := strings.Join(lines, "\r")
	_, out, err := s.exchange(all, "waiting for the answer to a line", s.prompt(s.mode))
	if err != nil {
		return err
	}
	return s.refusal(lines[0], out)
}

// Save makes what runs the startup part, as the dialect says.
func (s *Session) Save() (answer string, err error) {
	save := s.d.Change.Save
	if err := s.Enter(save.Mode); err != nil {
		return "", err
	}
	out, err := s.Command(save.Command)
	out = strings.TrimSpace(out)
	if err == nil && save.Done != "" && !s.d.Pattern(save.Done).MatchString(out) {
		return out, fmt.Errorf("%q was answered with %q, which does not say that it is done", save.Command, cutTo(out, 120))
	}
	return out, err
}
