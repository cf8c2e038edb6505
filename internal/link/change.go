package link

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/dialect"
)

// Change is one thing sent in a push.
type Change struct {
	Kind     string   // line, live, load, commit, stage or restart
	Lines    []string // of a line: it, and the delimited text that follows it
	Hostname string   // a name that the prompt may show from then on
	Part     string   // of a load: which part
	Method   string   // of a load: replace, merge, upload…
	Content  Content  // of a load: the document or file
	Current  string   // of a load: what runs now

	Passphrase string // of a load: what the file is encrypted under

	Within time.Duration // of a commit: confirmed, undone by the device after this unless Confirm is called
	Drop   bool          // of a load: the logical element that is the part is taken away
	Token  string        // by which it is known again then
}

// Begin makes the device ready to be changed: enters the mode, takes the locks.
// Where a session holds the device that this service left behind, or whose end a
// person asked for, that is ended first.
func (s *Session) Begin() error {
	if s.call.Began != nil && s.own != "" {
		if err := s.call.Began(s.own); err != nil {
			return fmt.Errorf("noting down the session: %w", err)
		}
	}
	err := s.begin()
	var r *Refused
	if !errors.As(err, &r) || r.Means != "held" || r.Holder == "" {
		return err
	}
	end, e := s.mayEnd(r)
	if e == nil && end {
		if e = s.endSession(r.Holder); e == nil {
			return s.begin()
		}
		e = fmt.Errorf("ending session %s: %w", r.Holder, e)
	}
	if e != nil {
		return fmt.Errorf("%w; %w", err, e)
	}
	return err
}

// PassFirstRun gets past the page that a unit with factory settings shows before
// everything else.
func (s *Session) PassFirstRun() error {
	if s.d.Factory == nil || len(s.d.Factory.FirstRun) == 0 {
		return fmt.Errorf("dialect %s does not say how its first-run page is passed, under factory", s.d.Dialect)
	}
	return s.steps(s.d.Factory.FirstRun)
}

// mayEnd tells whether the session that holds the device may be ended.
func (s *Session) mayEnd(r *Refused) (bool, error) {
	if s.call.Ours != nil && s.call.Ours(r.Holder) && s.holder(r) == s.call.Credential.User {
		s.call.Warn("an earlier session of this service, " + r.Holder + ", still held the device; it is ended")
		return true, nil
	}
	if s.call.MayEnd == nil {
		return false, nil
	}
	end, err := s.call.MayEnd(r.Holder)
	if err == nil && end {
		s.call.Warn("session " + r.Holder + " of somebody else held the device; it is ended, as was asked for")
	}
	return end, err
}

// holder is whose session it is that holds the device. Names of sessions come
// again after a restart, so a name alone does not make one ours.
func (s *Session) holder(r *Refused) string {
	if n, ok := s.sp.(*netconf); ok {
		return n.userOf(r.Holder)
	}
	return r.User
}

func (s *Session) endSession(session string) error {
	if n, ok := s.sp.(*netconf); ok {
		_, err := n.rpc("<kill-session><session-id>" + xmlText(session) + "</session-id></kill-session>")
		return err
	}
	if s.d.Held == nil {
		return fmt.Errorf("dialect %s does not say how, under held", s.d.Dialect)
	}
	s.vars["session"] = session
	return s.steps(s.d.Held.End)
}

func refusalOf(a dialect.Refusing, line string) *Refused {
	return &Refused{Line: line, Means: a.Means, Words: a.Words, Holder: a.Session, User: a.User}
}

func (s *Session) begin() error {
	switch sp := s.sp.(type) {
	case *netconf:
		return sp.begin()
	case *typist:
		if len(s.d.Change.Load) == 0 {
			return sp.Enter(s.d.Change.Mode)
		}
	}
	return nil
}

// Send sends one change. *Refused is the device's refusal; any other error
// leaves it unknown whether it took effect.
func (s *Session) Send(c Change) error {
	_, s.vars["element"], _ = strings.Cut(c.Part, "+")
	if un := s.d.Change.Undo; un != nil && un.With == c.Kind && c.Within > 0 {
		s.lasts(c.Within)
		return s.carry(c, un.Arm)
	}
	switch c.Kind {
	case "live":
		return s.carry(c, s.d.Change.Live)
	case "stage":
		return s.carry(c, s.d.Change.Stage.Load)
	case "restart":
		return s.restart()
	}
	switch sp := s.sp.(type) {
	case *typist:
		if c.Kind == "line" {
			return sp.send(c.Lines, c.Hostname)
		}
	case *netconf:
		switch c.Kind {
		case "load":
			if c.Drop {
				return sp.remove(c)
			}
			return sp.load(c)
		case "commit":
			return sp.commit(c.Within, c.Token)
		}
	}
	if c.Kind != "load" || len(s.d.Change.Load) == 0 {
		return fmt.Errorf("dialect %s does not say how to send a %s", s.d.Dialect, c.Kind)
	}
	if by := s.d.Change.Offer; by != "" {
		if s.call.Inbox == nil {
			return fmt.Errorf("this device fetches its configuration from a server by %s, and this service has no inbox; see inbox in docs/operations.md", by)
		}
		raw, err := c.Content.whole("what is offered to be fetched")
		if err != nil {
			return err
		}
		host, port, path, cancel, err := s.call.Inbox.Offer(s.ctx, by, s.call.Target.Address, raw)
		if err != nil {
			return err
		}
		defer cancel()
		s.opened(by, "fetches "+c.Part, host, port, path)
	}
	return s.carry(c, s.d.Change.Load)
}

// carry does the steps that put a document or file on the device.
func (s *Session) carry(c Change, steps []dialect.Step) error {
	s.putting = c.Content
	if c.Content.From == nil {
		s.raw["content"] = c.Content.Bytes
	}
	if c.Passphrase != "" {
		s.vars["passphrase"] = c.Passphrase
	}
	s.vars["part"], s.vars["method"] = c.Part, c.Method
	defer func() {
		s.putting = Content{}
		delete(s.raw, "content")
	}()
	return s.steps(steps)
}

// restart restarts the device into its startup part. That it hangs up in the
// middle is how it is meant to end.
func (s *Session) restart() error {
	err := s.steps(s.d.Change.Stage.Restart)
	if errors.Is(err, ErrCut) {
		return nil
	}
	return err
}

// Finish leaves what Begin entered.
func (s *Session) Finish() error {
	switch sp := s.sp.(type) {
	case *netconf:
		return sp.finish()
	case *typist:
		if m, ok := s.d.Converse.Modes[s.d.Change.Mode]; ok && m.From != "" && len(s.d.Change.Load) == 0 {
			return sp.Enter(m.From)
		}
	}
	return nil
}

// Commits tells whether what is loaded has to be committed.
func (s *Session) Commits() bool {
	n, ok := s.sp.(*netconf)
	return ok && n.target() == "candidate"
}

// Validates tells whether the device checks what was loaded before it is committed
// (RFC 6241 §8.6).
func (s *Session) Validates() bool {
	n, ok := s.sp.(*netconf)
	return ok && n.validates()
}

// Whole tells whether logical elements can go along with the main part: their documents are laid into the
// same datastore, below the path where each is read.
func (s *Session) Whole(part string) bool {
	_, ok := s.sp.(*netconf)
	p, _ := s.d.PartOf(part)
	return ok && p != nil && p.Under != ""
}

// Saves tells whether what runs can be made the startup part.
func (s *Session) Saves() bool {
	n, ok := s.sp.(*netconf)
	return s.d.Change.Save != nil || ok && n.can(capStartup) && !slices.Contains(s.d.Change.Without, "save")
}

// Save makes what runs the startup part.
func (s *Session) Save() (answer string, err error) {
	if save := s.d.Change.Save; save != nil && len(save.Steps) > 0 {
		return "saved, as the dialect says", s.steps(save.Steps)
	}
	switch sp := s.sp.(type) {
	case *netconf:
		if s.d.Change.Save == nil {
			return sp.save()
		}
	case *typist:
		save := s.d.Change.Save
		if err := sp.Enter(save.Mode); err != nil {
			return "", err
		}
		out, err := sp.Command(save.Command)
		out = strings.TrimSpace(out)
		if err == nil && save.Done != "" && !s.d.Pattern(save.Done).MatchString(out) {
			return out, fmt.Errorf("%q was answered with %q, which does not say that it is done", save.Command, cutTo(out, 120))
		}
		return out, err
	}
	return "", fmt.Errorf("dialect %s does not say how to save", s.d.Dialect)
}

// send sends lines of a change at once and reads the answer. hostname, if not
// empty, is a name the prompt may show from then on.
func (s *terminal) send(lines []string, hostname string) error {
	if hostname != "" && !slices.Contains(s.hosts, hostname) {
		s.hosts, s.prompts = append(s.hosts, hostname), nil
	}
	all := strings.Join(lines, "\r")
	_, out, err := s.exchange(all, "waiting for the answer to a line", s.prompt(s.mode))
	if err != nil {
		return err
	}
	return s.accepts(lines[0], out)
}

// accepts tells whether an answer takes a line.
func (s *terminal) accepts(line, out string) error {
	if err := s.refusal(line, out); err != nil {
		return err
	}
	if said := s.talk(out); s.d.Change.Silent && said != "" {
		return &Refused{Line: line, Means: "refused", Words: said}
	}
	return nil
}
