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

	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// quiet is how long nothing must come before something that looks like a
// prompt is tried out with an empty line; doubt is the same once a device has
// shown two different ones.
const (
	quiet = 40 * time.Millisecond
	doubt = 400 * time.Millisecond
)

// stream is what a command line is typed into and read from.
type stream struct {
	io.Reader
	io.Writer
	close func()
}

// terminal is a conversation with a device's command line.
type terminal struct {
	d       *dialect.Dialect
	c       Credential
	guard   func() error
	ctx     context.Context
	st      *stream
	p       *pump
	mode    string
	hosts   []string // names the prompt may show
	prompts map[string]*regexp.Regexp
	buf     []byte // what came since the last line was sent
	echoes  int    // how many newlines our own lines make on a terminal
	silent  bool   // the device echoes nothing
	paged   int    // where in buf the last answered page ends
}

// newTerminal signs in where the transport did not, finds the prompt and
// prepares the session as the dialect says. The stream is closed on an error.
func newTerminal(ctx context.Context, call Call, d *dialect.Dialect, st *stream, signedIn bool) (*terminal, error) {
	s := &terminal{d: d, c: call.Credential, guard: call.Guard, ctx: ctx, st: st, mode: d.Converse.Starts, p: newPump(ctx, st)}
	err := error(nil)
	if !signedIn {
		err = s.login()
	}
	if err == nil {
		if err = s.findPrompt(); err != nil {
			err = fmt.Errorf("finding the prompt: %w", err)
		}
	}
	for _, line := range d.Converse.Prepare {
		if err != nil {
			break
		}
		if _, err = s.Command(line); err != nil {
			err = fmt.Errorf("preparing with %q: %w", line, err)
		}
	}
	if err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// login answers the device's own questions for user and password, each once.
func (s *terminal) login() error {
	ask := s.d.Converse.Login
	deadline := time.Now().Add(s.d.Connect)
	start := s.d.Prompt(s.d.Converse.Starts)
	asks := func(pattern string) bool {
		return pattern != "" && regexp.MustCompile("(?:"+pattern+")$").MatchString(s.tail())
	}
	user, password := ask.User != "", true // still to be asked
	for {
		if !password && ask.Refused != "" {
			for _, l := range text.Lines(text.Terminal(string(s.buf))) {
				if s.d.Pattern(ask.Refused).MatchString(l) {
					return fmt.Errorf("%w for user %s: the device answered: %s", ErrLoginRefused, s.c.User, strings.TrimSpace(l))
				}
			}
		}
		wants := ""
		switch {
		case asks(ask.Password):
			wants = "password"
		case asks(ask.User):
			wants = "user"
		case !password && start.MatchString(s.tail()):
			return nil
		}
		// Nothing may follow a question: a banner can hold one.
		wait := max(time.Until(deadline), 0)
		if wants != "" {
			wait = quiet
		}
		err := s.moreWithin(wait, "signing in")
		var late *TimeoutError
		switch {
		case err == nil:
			continue
		case !errors.As(err, &late):
			if !password && errors.Is(err, ErrCut) {
				return fmt.Errorf("%w for user %s: the device hung up after the password", ErrLoginRefused, s.c.User)
			}
			return fmt.Errorf("signing in: %w", err)
		case wants == "":
			return fmt.Errorf("signing in: %w", &TimeoutError{What: fmt.Sprintf("neither a question of the dialect's login nor a prompt came; the last line is %q", cutTo(s.tail(), 60)), Took: s.d.Connect})
		case wants == "password" && !password, wants == "user" && !user && !password:
			return fmt.Errorf("%w for user %s: the device asks again", ErrLoginRefused, s.c.User)
		case wants == "user" && !user:
			return fmt.Errorf("signing in: the device asks for the user twice; the last line is %q", cutTo(s.tail(), 60))
		case wants == "user":
			user = false
			err = s.write(s.c.User)
		default:
			password = false
			err = s.write(s.c.Password)
		}
		if err != nil {
			return fmt.Errorf("signing in: %w", err)
		}
	}
}

// close says goodbye, if the device still listens, and ends the connection.
func (s *terminal) close() {
	if s.d.Converse.Goodbye != "" && s.ctx.Err() == nil && s.guard() == nil && len(s.hosts) > 0 {
		ctx, cancel := context.WithTimeout(s.ctx, 2*time.Second)
		s.ctx, s.p.ctx = ctx, ctx
		if s.Enter(s.d.Converse.Starts) == nil {
			_ = s.write(s.d.Converse.Goodbye)
			// The device hangs up by itself; that is the clean end.
			for err := error(nil); err == nil; {
				_, err = s.p.next(s.d.Idle, "waiting for the device to hang up")
			}
		}
		cancel()
	}
	s.st.close()
	s.p.stop()
	for range s.p.chunks { // let the reader go
	}
}

func (s *terminal) write(line string) error {
	if err := s.guard(); err != nil {
		return err
	}
	s.buf, s.paged, s.echoes = s.buf[:0], 0, 1+strings.Count(line, "\r")
	if s.silent {
		s.echoes = 0
	}
	if _, err := io.WriteString(s.st, s.keys(line)+"\r"); err != nil {
		return ErrCut
	}
	return nil
}

// more waits for bytes. The first wait after a line may take longer.
func (s *terminal) more(first bool, what string) error {
	wait := s.d.Idle
	if first {
		wait = s.d.Answer
	}
	return s.moreWithin(wait, what)
}

func (s *terminal) moreWithin(wait time.Duration, what string) error {
	chunk, err := s.p.next(wait, what)
	if err != nil {
		return eofIsCut(err)
	}
	s.buf = append(s.buf, chunk...)
	if len(s.buf) > Limit {
		s.buf = s.buf[:Limit]
		return fmt.Errorf("%s: %w", what, ErrEndless)
	}
	return nil
}

// tail is the unfinished last line of what came, as a person would see it.
func (s *terminal) tail() string { return s.tailFrom(0) }

func (s *terminal) tailFrom(start int) string {
	line := s.buf[max(start, bytes.LastIndexByte(s.buf, '\n')+1):]
	if len(line) > 2048 {
		return ""
	}
	return text.Terminal(string(line))
}

// findPrompt learns the device's prompt. What looks like one is believed only
// if nothing follows it and an empty line is answered with the same again.
func (s *terminal) findPrompt() error {
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
		if err := s.moreWithin(s.d.Connect, "waiting for the prompt again"); err != nil {
			return err
		}
		wait := quiet
		if try > 0 {
			wait = doubt
		}
		again, err := settle(wait)
		if err == nil && !bytes.Contains(s.buf, []byte("\n")) {
			// It may not echo what is typed at all; or the echo is still on its way.
			again, err = settle(doubt)
		}
		if err != nil {
			return err
		}
		s.silent = !bytes.Contains(s.buf, []byte("\n"))
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
func (s *terminal) exchange(line string, what string, ends ...*regexp.Regexp) (which int, out string, err error) {
	if err := s.write(line); err != nil {
		return 0, "", err
	}
	which, err = s.until(what, ends...)
	return which, s.output(line), err
}

// until reads until the last line matches one of the patterns. A page's end is
// answered on the way.
func (s *terminal) until(what string, ends ...*regexp.Regexp) (int, error) {
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
			if _, err := io.WriteString(s.st, p.Answer); err != nil {
				return 0, ErrCut
			}
			s.paged, first = len(s.buf), true
		}
		if err := s.more(first, what); err != nil {
			return 0, s.instead(err)
		}
	}
}

// instead adds to a time-out what stands where a prompt was waited for, if that looks like
// one. Other text may hold secrets, and is not shown.
func (s *terminal) instead(err error) error {
	var late *TimeoutError
	tail := s.tail()
	if !errors.As(err, &late) || len(tail) > 60 || !promptLike.MatchString(tail) {
		return err
	}
	more := *late
	more.What += fmt.Sprintf("; no prompt of mode %s came, but %q", s.mode, tail)
	return &more
}

var promptLike = regexp.MustCompile(`^\S{1,40}( \S{1,10})?[^\w\s"']\s*$`)

// output is what came, without the echo of the line and without the last,
// unfinished line.
func (s *terminal) output(line string) string {
	out := text.Terminal(string(s.buf))
	out = out[:strings.LastIndexByte(out, '\n')+1]
	for _, sent := range strings.Split(line, "\r") {
		rest, ok := strings.CutPrefix(out, sent+"\n")
		if !ok {
			rest, ok = strings.CutPrefix(out, s.keys(sent)+"\n")
		}
		if !ok && !s.silent {
			rest, ok = strings.CutPrefix(out, "\n") // some line editors show that Enter was pressed, and nothing else
		}
		if ok {
			out = rest
		}
	}
	return out
}

func (s *terminal) prompt(mode string) *regexp.Regexp {
	if s.prompts[mode] == nil {
		if s.prompts == nil {
			s.prompts = map[string]*regexp.Regexp{}
		}
		s.prompts[mode] = s.d.Prompt(mode, s.hosts...)
	}
	return s.prompts[mode]
}

// refusal tells whether the dialect takes an answer for a refusal.
func (s *terminal) refusal(line, out string) error {
	a, refused := s.d.Refused(out)
	if !refused {
		return nil
	}
	r := refusalOf(a, line)
	if a.Means == "login" {
		return fmt.Errorf("%w: %w", ErrLoginRefused, r)
	}
	return r
}

// talk is what an answer says where an accepted line answers nothing: all that is not
// harmless, on one line.
func (s *terminal) talk(out string) string {
	for _, p := range s.d.Change.Harmless {
		out = s.d.Pattern(p).ReplaceAllString(out, "")
	}
	var said []string
	for _, l := range text.Lines(out) {
		if l = strings.TrimSpace(l); l != "" {
			said = append(said, l)
		}
	}
	return strings.Join(said, " / ")
}

// keys is a line as it has to be typed.
func (s *terminal) keys(line string) string {
	if len(s.d.Converse.Keys) == 0 {
		return line
	}
	var b strings.Builder
	for _, r := range line {
		if typed, ok := s.d.Converse.Keys[string(r)]; ok {
			b.WriteString(typed)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Command sends a line in the mode the session is in and returns the answer.
// A refusal comes back as *Refused.
func (s *terminal) Command(line string) (string, error) {
	_, out, err := s.exchange(line, fmt.Sprintf("waiting for the answer to %q", line), s.prompt(s.mode))
	if err != nil {
		return out, err
	}
	return out, s.refusal(line, out)
}

// Enter brings the session into a mode, through the modes in between.
func (s *terminal) Enter(mode string) error {
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
		if err := s.raise(way[i]); err != nil {
			return err
		}
	}
	return nil
}

// raise enters a mode from the one below it, answering the question for a
// secret if there is one.
func (s *terminal) raise(mode string) error {
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
		if which, out, err = s.exchange(s.c.Privileged, "answering the question for the privileged-mode secret", ends[:2]...); err != nil {
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

// answer types a line and answers the questions it leads to, each at most so
// often as it is listed.
func (s *terminal) answer(line string, answers []dialect.Answer, expand func(string) (string, error)) (string, error) {
	ends := []*regexp.Regexp{s.prompt(s.mode)}
	var replies []string
	for _, a := range answers {
		reply, err := expand(a.Reply)
		if err != nil {
			return "", err
		}
		ends, replies = append(ends, regexp.MustCompile("(?:"+a.Asks+")$")), append(replies, reply)
	}
	var all strings.Builder
	for {
		which, out, err := s.exchange(line, fmt.Sprintf("waiting for the answer to %q", line), ends...)
		all.WriteString(out)
		if err != nil || which == 0 {
			return all.String(), err
		}
		line = replies[which-1]
		if replies = slices.Delete(slices.Clone(replies), which-1, which); which > 0 {
			ends = slices.Delete(slices.Clone(ends), which, which+1)
		}
	}
}
