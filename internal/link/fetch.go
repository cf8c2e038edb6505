package link

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"magpie/internal/core"
	"magpie/internal/core/grammar"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
)

// patienceForRest is how much longer is waited when a prompt shows but the
// part is not complete: what looked like a prompt may be a line of the part.
const patienceForRest = time.Second

// Identity asks the device who it is. From then on the session goes by what the
// dialect says of that model and release.
func (s *Session) Identity() (Identity, error) {
	i := &s.d.Identity
	out, err := s.lines("who it is", &i.Source)
	if err != nil {
		return Identity{}, fmt.Errorf("asking who it is: %w", err)
	}
	get := func(pattern, from string) string {
		if pattern == "" {
			return ""
		}
		v, ok := find(s.d.Pattern(pattern), from)
		if !ok {
			s.trace("looking for "+pattern, "", time.Now(), errors.New("no line of the answer matches"))
		}
		return v
	}
	var id Identity
	tells := func(t dialect.Traits, from string) {
		id.Host, id.Model = cmp.Or(id.Host, get(t.Host, from)), cmp.Or(id.Model, get(t.Model, from))
		id.Serial, id.Release = cmp.Or(id.Serial, get(t.Serial, from)), cmp.Or(id.Release, get(t.Release, from))
	}
	tells(i.Traits, out)
	for j := range i.Also {
		more, err := s.lines("who it is", &i.Also[j].Source)
		if err != nil {
			return Identity{}, fmt.Errorf("asking who it is: %w", err)
		}
		tells(i.Also[j].Traits, more)
	}
	if i.StandIn == "host-key" {
		id.Serial = standIn(s.call.Target.HostKey)
	}
	if id.Serial == "" {
		return id, fmt.Errorf("asking who it is: the answer names no serial number; identity.serial says how it looks")
	}
	s.d = s.call.Dialect.For(s.call.Target.Transport, id.Model, id.Release)
	if t, ok := s.sp.(*typist); ok {
		t.d = s.d
	}
	if own := get(i.Session, out); own != "" {
		s.own = own
	}
	s.vars["host"], s.vars["serial"], s.vars["model"], s.vars["release"] = id.Host, id.Serial, id.Model, id.Release
	if f := s.d.Factory; f != nil {
		if !reflect.DeepEqual(f.Source, i.Source) { // the same answer often tells
			if out, err = s.lines("whether it has factory settings", &f.Source); err != nil {
				return id, fmt.Errorf("asking whether it has factory settings: %w", err)
			}
		}
		re := s.d.Pattern(f.Shows)
		id.Factory = shows(re, out)
	}
	return id, nil
}

// standIn is what is taken for a serial number where the host key stands in for it.
func standIn(hostKey string) string {
	if hostKey == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(hostKey))
	return "key-" + hex.EncodeToString(sum[:6])
}

// lines reads a source and brings it into lines that patterns can be held to: a
// document becomes lines of words.
func (s *Session) lines(what string, src *dialect.Source) (string, error) {
	raw, err := s.source("", what, src, func(string) string { return "" })
	if err != nil {
		return "", err
	}
	out := flat(raw)
	if out != raw {
		s.trace("the same in lines, as patterns are held to it", out, time.Now(), nil)
	}
	return out, nil
}

// flat turns a document into lines: each leaf with the words of what is around
// it in front, joined by " / ". Other text stays as it is.
func flat(raw string) string {
	var root *grammar.Node
	err := errors.New("no document")
	switch t := strings.TrimSpace(raw); {
	case strings.HasPrefix(t, "{"):
		root, err = grammar.JSON{}.Parse(t)
	case strings.HasPrefix(t, "<"):
		root, err = grammar.XML{}.Parse(t)
	}
	if err != nil {
		return raw
	}
	var b strings.Builder
	var walk func(path string, n *grammar.Node)
	walk = func(path string, n *grammar.Node) {
		for _, k := range n.Kids {
			line := k.Text
			if k.Attrs > 0 { // each a line of its own, so that what a pattern says of the element holds
				words := grammar.Words(line, grammar.Quotes{})
				for i := len(words) - 2*k.Attrs; i+1 < len(words); i += 2 {
					b.WriteString(path + words[0].Text + " / " + words[i].Text + " " + words[i+1].Text + "\n")
				}
				line = line[:words[len(words)-2*k.Attrs-1].End]
			}
			b.WriteString(path + line + "\n")
			walk(path+line+" / ", k)
		}
	}
	walk("", root)
	return b.String()
}

// Elements lists the device's logical elements.
func (s *Session) Elements() ([]string, error) {
	e := s.d.Elements
	if e == nil {
		return nil, nil
	}
	out, err := s.lines("its logical elements", &e.Source)
	if err != nil {
		return nil, fmt.Errorf("asking for its logical elements: %w", err)
	}
	var names []string
	seen := map[string]bool{}
	for _, l := range text.Lines(out) {
		if m := s.d.Pattern(e.Each).FindStringSubmatch(l); m != nil && !seen[m[1]] {
			seen[m[1]] = true
			names = append(names, m[1])
		}
	}
	return names, nil
}

// Members lists the devices that this one speaks for.
func (s *Session) Members() ([]Member, error) {
	m := s.d.Members
	if m == nil {
		return nil, nil
	}
	out, err := s.lines("the devices it speaks for", &m.Source)
	if err != nil {
		return nil, fmt.Errorf("asking for the devices it speaks for: %w", err)
	}
	re := s.d.Pattern(m.Each)
	var all []Member
	seen := map[string]bool{}
	for _, l := range text.Lines(out) {
		found := re.FindStringSubmatch(l)
		if found == nil || seen[found[1]] {
			continue
		}
		name := strings.TrimSpace(found[1])
		seen[name] = true
		get := func(pattern string) string {
			if pattern == "" {
				return ""
			}
			v, _ := find(regexp.MustCompile("(?m)"+strings.ReplaceAll(pattern, "{member}", regexp.QuoteMeta(name))), out)
			return v
		}
		all = append(all, Member{name, get(m.Serial), get(m.Model), get(m.Release), get(m.Standing)})
	}
	return all, nil
}

// For speaks of a member from then on, by what the dialect says of members.
func (s *Session) For(member string) *Session {
	m := *s
	m.d = s.d.Member()
	m.vars = map[string]string{}
	for k, v := range s.vars {
		m.vars[k] = v
	}
	m.vars["member"] = member
	return m.respeak()
}

// Present tells whether a device that this one speaks for is there, by what it
// says of its standing.
func (s *Session) Present(m Member) bool {
	of := s.call.Dialect.Members
	return of == nil || of.Present == "" || s.d.Pattern(of.Present).MatchString(m.State)
}

// Adopt takes a device that this one speaks for back in.
func (s *Session) Adopt(member string) error {
	return s.For(member).steps(s.d.Members.Adopt)
}

// Echo has the device ask whether an address answers it. said is its answer.
func (s *Session) Echo(to string) (good bool, said string, err error) {
	e := s.d.Echo
	if e == nil {
		return false, "", fmt.Errorf("dialect %s does not say how it asks whether an address answers", s.d.Dialect)
	}
	s.vars["to"] = to
	out, err := s.lines("whether "+to+" answers", &e.Source)
	if err != nil {
		return false, "", err
	}
	re := s.d.Pattern(e.Good)
	return shows(re, out), firstLine(out, re), nil
}

// State reads an operational state: the entries that are there.
func (s *Session) State(name string) ([]string, error) {
	st := s.d.States[name]
	if st == nil {
		return nil, fmt.Errorf("dialect %s does not say how %s is read, under states", s.d.Dialect, name)
	}
	out, err := s.lines(name, &st.Source)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	entries := []string{}
	for _, l := range text.Lines(out) {
		if m := s.d.Pattern(st.Each).FindStringSubmatch(l); m != nil {
			entries = append(entries, strings.TrimSpace(m[1]))
		}
	}
	return entries, nil
}

// respeak binds the way of speaking to a copy of the session.
func (s *Session) respeak() *Session {
	switch sp := s.sp.(type) {
	case *typist:
		s.sp = &typist{sp.terminal, s}
	case *execs:
		s.sp = &execs{s}
	case *web:
		w := *sp
		w.s = s
		s.sp = &w
	case *netconf:
		n := *sp
		n.s = s
		s.sp = &n
	}
	return s
}

// Signs asks for the cheap signs of change of parts, each question once; of a part whose
// dialect knows none there is none. Parts that are fetched afterwards go with them.
func (s *Session) Signs(names []string) (map[string]string, error) {
	s.signs = map[string]string{}
	said := map[[2]string]string{} // by mode and command: of several parts one answer may tell
	for _, name := range names {
		p, ok := s.d.PartOf(name)
		if !ok || p.Sign == nil {
			continue
		}
		_, s.vars["element"], _ = strings.Cut(name, "+")
		key := [2]string{p.Sign.Mode, p.Sign.Command}
		answer, had := said[key]
		if !had || p.Sign.Command == "" {
			var err error
			if answer, err = s.lines("the sign of change of "+name, &p.Sign.Source); err != nil {
				return nil, fmt.Errorf("asking for the sign of change of %s: %w", name, err)
			}
			said[key] = answer
		}
		sign, ok := find(s.d.Pattern(p.Sign.Pattern), answer)
		if !ok {
			return nil, fmt.Errorf("asking for the sign of change of %s: the answer does not show %s", name, p.Sign.Pattern)
		}
		s.signs[name] = sign
	}
	return s.signs, nil
}

// Fetch gets one part and proves that it is whole. An *Incomplete error holds
// what came.
func (s *Session) Fetch(name string) (Part, error) { return s.FetchLarge(name, nil) }

// FetchLarge is Fetch, where an opaque part may be larger than Limit. What such a one is put into
// is opened by basin, and closed or dropped by who called; of one that is not complete, it is dropped.
func (s *Session) FetchLarge(name string, basin func() Basin) (Part, error) {
	p, ok := s.d.PartOf(name)
	if !ok {
		return Part{}, fmt.Errorf("dialect %s knows no part %q", s.d.Dialect, name)
	}
	_, s.vars["element"], _ = strings.Cut(name, "+")
	out := Part{}
	out.Sign = s.signs[name]
	delete(s.signs, name)                                // it is of what is fetched now, and of nothing later
	if out.Sign == "" && p.Sign != nil && p.Passphrase { // content that is encrypted anew each time tells nothing
		signs, err := s.Signs([]string{name})
		if err != nil {
			return out, err
		}
		out.Sign = signs[name]
		delete(s.signs, name)
	}
	var content string
	absent := false
	flaw := func(raw string) string {
		if p.Absent != "" && s.d.Pattern(p.Absent).MatchString(strings.TrimSpace(raw)) {
			absent = true
			return ""
		}
		// A datastore besides running may be empty, as startup is of a new device (RFC 6241 §8.7).
		if p.Datastore != "" && p.Datastore != "running" && holdsNothing(raw) {
			absent = true
			return ""
		}
		var wrong string
		content, wrong = s.shape(name, p, raw)
		return wrong
	}
	s.verbatim = verbatim(p)
	defer func() { s.verbatim = false }()
	if p.Absent != "" {
		s.absent = s.d.Pattern(p.Absent)
	}
	if basin != nil && s.form(p) == "opaque" && len(p.Unpack) == 0 {
		s.large = &flow{open: basin, proof: newProving(p.Whole)}
	}
	raw, err := s.source(name, name, &p.Source, flaw)
	large := s.large
	s.large = nil
	if err != nil && large != nil {
		large.anew()
	}
	if s.absent = nil; err != nil && p.Absent != "" && s.isAbsent(p, err) {
		return Part{Absent: true}, nil
	}
	if err != nil {
		return Part{}, err
	}
	if absent {
		return Part{Absent: true}, nil
	}
	if large != nil && large.basin != nil {
		out.Basin, out.Size = large.basin, large.size
	} else {
		out.Text, out.Size, out.Author = content, int64(len(content)), author(s.d, p, raw)
	}
	if p.Passphrase {
		out.Passphrase = s.vars["passphrase"]
	}
	return out, nil
}

// holdsNothing tells whether an answer is well-formed, and its data has no element.
func holdsNothing(raw string) bool {
	d := xml.NewDecoder(strings.NewReader(raw))
	for {
		t, err := d.Token()
		if err != nil {
			return errors.Is(err, io.EOF)
		}
		if e, ok := t.(xml.StartElement); ok && e.Name.Local != "rpc-reply" && e.Name.Local != "data" {
			return false
		}
	}
}

// isAbsent tells whether an error is a device's way of saying that it has no such part:
// in its answer to a step, in its refusal, or where a file should be.
func (s *Session) isAbsent(p *dialect.Part, err error) bool {
	var refused *Refused
	said := ""
	switch {
	case errors.Is(err, errAbsent):
		return true
	case errors.As(err, &refused):
		said = refused.Words
	case p.File != nil:
		said = err.Error()
	}
	return said != "" && s.d.Pattern(p.Absent).MatchString(said)
}

// errAbsent is how a step that makes a part says that the device has none.
var errAbsent = errors.New("the device has no such part")

// Candidate gets a part as it stands in the candidate datastore (RFC 6241 §8.3),
// where the device has one and the part is read from running.
func (s *Session) Candidate(name string) (text string, ok bool, err error) {
	n, is := s.sp.(*netconf)
	p, known := s.d.PartOf(name)
	if !is || !known || n.target() != "candidate" || p.Datastore != "running" {
		return "", false, nil
	}
	_, s.vars["element"], _ = strings.Cut(name, "+")
	src := p.Source
	src.Datastore = "candidate"
	_, err = s.source(name, name+" as it is loaded", &src, func(raw string) (wrong string) {
		text, wrong = s.shape(name, p, raw)
		return wrong
	})
	return text, true, err
}

// Discard throws away what is loaded and was not committed (RFC 6241 §8.3.4.2).
func (s *Session) Discard() error {
	n, is := s.sp.(*netconf)
	if !is {
		return nil
	}
	_, err := n.rpc("<discard-changes/>")
	return err
}

// source reads from a source: makes the device ready, reads, and tidies up,
// whatever happened.
func (s *Session) source(part, what string, src *dialect.Source, flaw func(string) string) (out string, err error) {
	if len(src.Tidy) > 0 {
		// The name is ours alone, so that what is removed later is what was made.
		b := make([]byte, 5)
		_, _ = rand.Read(b)
		s.vars["file"] = "mp" + hex.EncodeToString(b)
		if s.call.Left != nil {
			if err := s.call.Left(part, s.vars["file"]); err != nil {
				return "", fmt.Errorf("noting down what would have to be removed again: %w", err)
			}
		}
		defer func() {
			if e := s.tidy(part, src); e != nil && err == nil {
				err = e
			}
		}()
	}
	took := func() ([]byte, error) { return nil, nil }
	if src.Sent != "" {
		if s.call.Inbox == nil {
			return "", fmt.Errorf("this device sends %s to a server by %s, and this service has no inbox; see inbox in docs/operations.md", what, src.Sent)
		}
		host, port, path, wait, cancel, err := s.call.Inbox.Expect(s.ctx, src.Sent, s.call.Target.Address)
		if err != nil {
			return "", err
		}
		defer cancel()
		s.opened(src.Sent, "sends "+what, host, port, path)
		took = wait
	}
	err = s.steps(src.Make)
	s.absent = nil
	if err != nil {
		return "", fmt.Errorf("making %s: %w", what, err)
	}
	began := time.Now()
	switch {
	case src.File != nil || src.Sent != "":
		var err error
		to := s.taking()
		if src.Sent != "" {
			var raw []byte
			if raw, err = took(); err == nil {
				_, err = to.Write(raw)
			}
		} else {
			var path string
			if path, err = s.expand(src.File.Path); err == nil {
				err = s.getFile(src.File, path, to)
			}
		}
		s.trace("reading "+what, fmt.Sprintf("%d bytes", to.size), began, err)
		return s.judged(what, to, err, flaw)
	default:
		out, err = s.sp.read(what, src, flaw)
		if errors.Is(err, errExpired) {
			if err = s.renewed(src.Make); err == nil {
				out, err = s.sp.read(what, src, flaw)
			}
		}
		s.trace("reading "+what, out, began, err)
		return out, err
	}
}

// opened says in variables where the inbox stands open for the device, and warns
// of a protocol that hides nothing.
func (s *Session) opened(protocol, does, host string, port int, path string) {
	if protocol == "tftp" || protocol == "ftp" {
		s.call.Warn(fmt.Sprintf("the device %s by %s, which carries it unencrypted", does, protocol))
	}
	s.vars["inbox"], s.vars["inbox-port"], s.vars["inbox-path"] = host, fmt.Sprint(port), path
}

// taking is what a part is taken into: its flow, where it may be large.
func (s *Session) taking() *flow {
	if s.large == nil {
		return new(flow)
	}
	s.large.anew()
	return s.large
}

// judged returns what came, if it is whole. Of what ran over nothing is returned.
func (s *Session) judged(what string, to *flow, err error, flaw func(string) string) (string, error) {
	raw := to.held.Bytes()
	if err != nil {
		return "", s.cutOff(what, raw, err)
	}
	if to.basin != nil {
		if wrong := to.proof.wrong(s.vars); wrong != "" {
			return "", &Incomplete{what, wrong, string(raw), nil}
		}
		return "", nil
	}
	if wrong := flaw(string(raw)); wrong != "" {
		return "", &Incomplete{what, wrong, string(raw[:min(len(raw), most)]), nil}
	}
	return string(raw), nil
}

func (s *Session) cutOff(what string, raw []byte, err error) error {
	var refused *Refused
	if errors.As(err, &refused) || errors.Is(err, ErrLoginRefused) || errors.Is(err, ErrUnreachable) {
		return err
	}
	return &Incomplete{what, why(err), string(raw[:min(len(raw), most)]), err}
}

// tidy removes what the device made for us.
func (s *Session) tidy(part string, src *dialect.Source) error {
	if err := s.steps(src.Tidy); err != nil {
		return fmt.Errorf("removing %s from the device again: %w", s.vars["file"], err)
	}
	if s.call.Gone != nil {
		return s.call.Gone(part, s.vars["file"])
	}
	return nil
}

// Tidy removes a file that an earlier visit left behind.
func (s *Session) Tidy(part, file string) error {
	p, ok := s.d.PartOf(part)
	if !ok {
		return nil
	}
	s.vars["file"] = file
	return s.tidy(part, &p.Source)
}

// form is what a part is written in.
func (s *Session) form(p *dialect.Part) string { return cmp.Or(p.Form, s.d.Grammar.Form) }

// shape turns what came into the part's content, and tells what keeps it from
// being whole.
func (s *Session) shape(name string, p *dialect.Part, raw string) (content, wrong string) {
	if wrong := checkBytes(p.Whole, []byte(raw), s.vars); wrong != "" {
		return "", wrong
	}
	if len(p.Unpack) > 0 {
		un, err := unpack([]byte(raw), p.Unpack, p.Inside)
		if err != nil {
			return "", err.Error()
		}
		raw = string(un)
	}
	under, err := s.expand(p.Under)
	if err != nil {
		return "", err.Error()
	}
	switch s.form(p) {
	case "opaque":
		return raw, ""
	case "xml":
		raw, err = grammar.FormatXML([]byte(raw), under, p.Without...)
	case "json":
		raw, err = grammar.FormatJSON([]byte(raw), under, p.Without...)
	default:
		if !verbatim(p) {
			raw = strings.ReplaceAll(raw, "\r\n", "\n")
		}
	}
	if err != nil {
		return "", err.Error()
	}
	if raw, wrong = trim(s.d, p.Cut, raw); wrong != "" {
		return "", wrong
	}
	return raw, Check(s.d, p, raw)
}

// verbatim tells whether every byte of a part counts, carriage returns included.
func verbatim(p *dialect.Part) bool { return p.Exact || p.Encoding == "bytes" }

// trim cuts away what does not belong to a part.
func trim(d *dialect.Dialect, c dialect.Cut, src string) (out, wrong string) {
	lines := text.Lines(src)
	if c.Before != "" {
		at := index(d.Pattern(c.Before), lines)
		if at < 0 {
			return "", fmt.Sprintf("no line matches %s, with which it begins", c.Before)
		}
		lines = lines[at:]
	}
	if c.After != "" {
		at := -1
		for i, l := range lines {
			if d.Pattern(c.After).MatchString(l) {
				at = i
			}
		}
		if at < 0 {
			return "", fmt.Sprintf("no line matches %s, with which it ends", c.After)
		}
		lines = lines[:at+1]
	}
	if c.Before == "" && c.After == "" {
		return src, ""
	}
	return text.Join(lines), ""
}

func index(re *regexp.Regexp, lines []string) int {
	for i, l := range lines {
		if re.MatchString(l) {
			return i
		}
	}
	return -1
}

// most is how much of what cannot be used is kept for a look.
const most = 256 << 10

// came is what the device sent after a command, as far as it is kept.
func (s *terminal) came(command string) string {
	out := text.Terminal(string(s.buf[:min(len(s.buf), most)]))
	return strings.TrimPrefix(out, command+"\n")
}

func why(err error) string {
	if errors.Is(err, ErrCut) {
		return "the device closed the connection in the middle"
	}
	return err.Error()
}

// Check tells what keeps text from being the whole part, or "".
func Check(d *dialect.Dialect, p *dialect.Part, src string) string {
	lines := text.Lines(src)
	for i, l := range lines {
		if p.Encoding == "bytes" {
			break
		}
		if p.Exact {
			l = strings.TrimSuffix(l, "\r")
		}
		if p.Encoding != "latin-1" && !utf8.ValidString(l) {
			return fmt.Sprintf("line %d holds bytes that are no UTF-8; the part's encoding says how they are read (latin-1, bytes)", i+1)
		}
		if at := strings.IndexFunc(l, func(r rune) bool { return r < 32 && r != '\t' && r != '\f' || r == 127 }); at >= 0 {
			return fmt.Sprintf("line %d holds the control character %#02x; encoding: bytes keeps it", i+1, l[at])
		}
	}
	first := p.Whole.First
	if w := p.Whole; len(lines) == 0 && (w.Size != "" || w.Checksum != nil) && len(first)+len(w.Has) == 0 && w.Last == "" {
		return "" // the device itself says that it is empty
	}
	if len(lines) <= len(first) {
		return "only " + core.Count(len(lines), "line", "lines") + " came"
	}
	for i, pattern := range first {
		if !d.Pattern(pattern).MatchString(lines[i]) {
			return fmt.Sprintf("line %d is not how the part begins: it does not match %s", i+1, pattern)
		}
	}
	if p.Whole.Last != "" {
		last := d.Pattern(p.Whole.Last)
		m := last.FindStringSubmatch(lines[len(lines)-1])
		if m == nil {
			return "its end mark is missing: the last line does not match " + p.Whole.Last
		}
		if i := last.SubexpIndex("lines"); i > 0 {
			n := 0
			if _, err := fmt.Sscan(m[i], &n); err != nil || n != len(lines)-len(first)-1 {
				return fmt.Sprintf("its end mark counts %s lines, %d came", m[i], len(lines)-len(first)-1)
			}
		}
	}
	for _, pattern := range p.Whole.Has {
		if !shows(d.Pattern(pattern), src) {
			return fmt.Sprintf("no line matches %s, which is always there", pattern)
		}
	}
	return ""
}

// Lacks tells which line that is always there a text lacks, or "". Marks at its
// beginning and end, which only a device can make, are not asked for.
func Lacks(d *dialect.Dialect, p *dialect.Part, src string) string {
	for _, pattern := range p.Whole.Has {
		if !shows(d.Pattern(pattern), src) {
			return fmt.Sprintf("no line matches %s, which is always there", pattern)
		}
	}
	return ""
}

func author(d *dialect.Dialect, p *dialect.Part, src string) string {
	if p.Author == "" {
		return ""
	}
	v, _ := find(d.Pattern(p.Author), src)
	return v
}
