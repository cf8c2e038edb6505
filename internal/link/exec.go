package link

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// execs runs each command in an SSH channel of its own.
type execs struct{ s *Session }

// ran is what came of a command.
type ran struct {
	out  string // what it wrote
	said string // what it wrote on its error stream
	exit int    // its status; 0 also where the device does not tell (RFC 4254 §6.10)
}

// words are what a command that failed said of it.
func (r ran) words() string {
	for _, said := range []string{r.said, r.out} {
		if s := strings.TrimSpace(said); s != "" {
			return cutTo(strings.Join(strings.Fields(strings.ReplaceAll(s, "\n", " / ")), " "), 400)
		}
	}
	return fmt.Sprintf("it ended with status %d, and said nothing", r.exit)
}

// run runs a command to its end. What it writes is kept as it is, or without what a terminal would
// make of it. An *Incomplete error holds what came.
func (e *execs) run(what, command string, verbatim bool) (r ran, err error) {
	if err := e.s.call.Guard(); err != nil {
		return r, err
	}
	ch, _, out, err := channel(e.s.client)
	if err != nil {
		return r, err
	}
	defer ch.Close()
	var said bounded
	ch.Stderr = &said
	if err := ch.Start(command); err != nil {
		return r, err
	}
	raw, err := drain(e.s.ctx, out, e.s.d.Answer, e.s.d.Idle, "reading "+what)
	if r.out = string(raw); !verbatim { // there is no terminal, but some programs write as if to one
		r.out = text.Terminal(r.out)
	}
	if err != nil {
		return r, &Incomplete{what, why(err), r.out[:min(len(r.out), most)], err}
	}
	var exit *ssh.ExitError
	if errors.As(ch.Wait(), &exit) {
		r.exit = exit.ExitStatus()
	}
	r.said = text.Terminal(said.String())
	return r, nil
}

// bounded keeps the first bytes that are written to it.
type bounded struct{ strings.Builder }

func (b *bounded) Write(p []byte) (int, error) {
	_, _ = b.Builder.Write(p[:min(len(p), max(0, most-b.Len()))])
	return len(p), nil
}

// read takes what a command writes for what was asked for, where that is whole. If it
// is not, its error stream says why.
func (e *execs) read(what string, src *dialect.Source, flaw func(string) string) (string, error) {
	command, err := e.s.expand(src.Exec)
	if err != nil {
		return "", err
	}
	r, err := e.run(what, command, e.s.verbatim)
	if err != nil {
		return "", err
	}
	wrong := flaw(r.out)
	if wrong == "" && (r.exit == 0 || strings.TrimSpace(r.out) != "") {
		return r.out, nil
	}
	for _, said := range []string{r.out, r.said} {
		if first, _, _ := strings.Cut(said, "\n"); first != "" {
			if a, refused := e.s.d.Refused(first); refused {
				return "", refusalOf(a, src.Exec)
			}
		}
	}
	if r.exit != 0 {
		return "", &Refused{Line: src.Exec, Means: "refused", Words: r.words()}
	}
	return "", &Incomplete{what, wrong, r.out[:min(len(r.out), most)], nil}
}

// step runs a command. It was refused where the dialect says so of its answer, or
// where its status says so and the answer does not show that it is done.
func (e *execs) step(st *dialect.Step) (string, error) {
	source := cmp.Or(st.Exec, st.Type)
	command, err := e.s.expand(source)
	if err != nil {
		return "", err
	}
	r, err := e.run(fmt.Sprintf("the answer to %q", source), command, false)
	if err != nil {
		return r.out, err
	}
	out := r.out
	if r.said != "" {
		out += r.said
	}
	if a, refused := e.s.d.Refused(out); refused {
		return out, refusalOf(a, source)
	}
	if r.exit != 0 && (st.Done == "" || !shows(e.s.d.Pattern(st.Done), out)) {
		return out, &Refused{Line: source, Means: "refused", Words: r.words()}
	}
	return out, nil
}

func (e *execs) close() {}
