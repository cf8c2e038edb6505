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
	noisy = 1500 * time.Millisecond // the same before a prompt is asked for again behind which something was written
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
	noise   int    // where in buf a prompt stands behind which the device wrote something; 0: nowhere
	woken   bool   // what wakes the line was sent
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
		if woke, err := s.wake(); err != nil {
			return fmt.Errorf("signing in: %w", err)
		} else if woke {
			continue
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
	s.buf, s.paged, s.noise, s.echoes = s.buf[:0], 0, 0, 1+strings.Count(line, "\r")
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
			if woke, err := s.wake(); err != nil {
				return "", err
			} else if woke {
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

// wake sends what the dialect says wakes the line, once: when it shows what asks for that, or, where
// nothing asks, when it says nothing. It tells whether something came or was sent.
func (s *terminal) wake() (bool, error) {
	w := s.d.Converse.Wake
	if w == nil || s.woken {
		return false, nil
	}
	if w.Shows == "" {
		var late *TimeoutError
		if err := s.moreWithin(doubt, ""); err == nil {
			s.woken = len(bytes.TrimSpace(s.buf)) > 0
			return true, nil
		} else if !errors.As(err, &late) {
			return false, err
		}
	} else if !s.d.Pattern(w.Shows).MatchString(strings.TrimRight(text.Terminal(string(s.buf)), "\n")) {
		return false, nil
	}
	s.woken = true
	if err := s.guard(); err != nil {
		return false, err
	}
	if _, err := io.WriteString(s.st, w.Answer); err != nil {
		return false, ErrCut
	}
	s.buf = s.buf[:0]
	return true, nil
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
		paged, err := s.page()
		if err == nil && !paged {
			err = s.await(first, what, ends)
		}
		if err != nil {
			return 0, s.instead(err)
		}
	}
}

// page answers a page's end, if one is shown: on the unfinished line, or on the last one, once nothing
// follows it.
func (s *terminal) page() (bool, error) {
	p := s.d.Converse.Pager
	if p == nil {
		return false, nil
	}
	shows := s.d.Pattern(p.Shows)
	if tail := s.tailFrom(s.paged); !shows.MatchString(tail) {
		lines := text.Lines(text.Terminal(string(s.buf[min(max(s.paged, len(s.buf)-2048), len(s.buf)):])))
		if tail != "" || len(lines) == 0 || !shows.MatchString(lines[len(lines)-1]) {
			return false, nil
		}
		var late *TimeoutError
		if err := s.moreWithin(quiet, ""); err == nil {
			return true, nil // it is looked at again
		} else if !errors.As(err, &late) {
			return false, err
		}
	}
	if err := s.guard(); err != nil {
		return false, err
	}
	if _, err := io.WriteString(s.st, p.Answer); err != nil {
		return false, ErrCut
	}
	s.paged = len(s.buf)
	return true, s.more(true, "waiting for the next page")
}

// await waits for bytes. Where none come for a while, and a line begins with a prompt that was waited for,
// the device wrote something behind its prompt: an empty line then has it show the prompt again.
func (s *terminal) await(first bool, what string, ends []*regexp.Regexp) error {
	wait := s.d.Idle
	if first {
		wait = s.d.Answer
	}
	if wait <= noisy || s.noise > 0 {
		return s.moreWithin(wait, what)
	}
	err := s.moreWithin(noisy, what)
	var late *TimeoutError
	if !errors.As(err, &late) {
		return err
	}
	if at := s.behindPrompt(ends); at > 0 {
		if err := s.guard(); err != nil {
			return err
		}
		s.noise = at
		if _, err := io.WriteString(s.st, "\r"); err != nil {
			return ErrCut
		}
		if err := s.moreWithin(s.d.Idle, what); err != nil {
			return err
		}
		for err == nil { // all of it: what comes late would be taken for the answer to the next line
			err = s.moreWithin(doubt, "")
		}
		return nil
	}
	return s.moreWithin(wait-noisy, what)
}

// behindPrompt is where in buf a line begins, behind the echo, that begins with a prompt; 0: nowhere.
func (s *terminal) behindPrompt(ends []*regexp.Regexp) int {
	var begin []*regexp.Regexp
	for _, re := range ends {
		if whole := re.String(); strings.HasPrefix(whole, "^") {
			begin = append(begin, regexp.MustCompile(strings.TrimSuffix(whole, "$")))
		}
	}
	from := max(0, len(s.buf)-64<<10)
	for n, echoes := from, s.echoes; n < len(s.buf); {
		nl := bytes.IndexByte(s.buf[n:], '\n')
		if nl < 0 {
			return 0
		}
		if line := text.Terminal(string(bytes.TrimRight(s.buf[n:n+nl], "\r"))); echoes <= 0 {
			if slices.ContainsFunc(begin, func(re *regexp.Regexp) bool { return re.MatchString(line) }) {
				return n
			}
		}
		n, echoes = n+nl+1, echoes-1
	}
	return 0
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

// output is what came, without the echo of the line, without the last, unfinished line, and without
// what the device wrote behind its prompt.
func (s *terminal) output(line string) string {
	raw := s.buf
	if s.noise > 0 {
		raw = raw[:s.noise]
	}
	out := text.Terminal(string(raw))
	out = out[:strings.LastIndexByte(out, '\n')+1]
	for _, sent := range strings.Split(line, "\r") {
		rest, ok := unechoed(out, sent)
		if !ok {
			rest, ok = unechoed(out, s.keys(sent))
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

// unechoed takes the echo of a line off what came: as it was sent, broken over several lines where the
// screen is narrow, or, where the line editor scrolled it, its end behind a mark.
func unechoed(out, sent string) (rest string, ok bool) {
	if rest, ok = strings.CutPrefix(out, sent+"\n"); ok || sent == "" {
		return rest, ok
	}
	first, rest, _ := strings.Cut(out, "\n")
	if len(first) > 8 && strings.IndexByte("$<>^", first[0]) >= 0 && strings.HasSuffix(sent, strings.TrimRight(first[1:], " ")) {
		return rest, true
	}
	i, j := 0, 0
	for i < len(out) && j < len(sent) {
		switch {
		case out[i] == sent[j]:
			i, j = i+1, j+1
		case out[i] == '\n' && j > 8:
			i++
		case out[i] == ' ' && i+1 < len(out) && out[i+1] == '\n' && j > 8: // some write a blank at the edge
			i += 2
		default:
			return out, false
		}
	}
	if j == len(sent) && i < len(out) && out[i] == '\n' {
		return out[i+1:], true
	}
	return out, false
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
