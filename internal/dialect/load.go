package dialect

import (
	"cmp"
	_ "embed"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"magpie/internal/core/change"
	"magpie/internal/core/find"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
)

// Problem is one thing wrong in a dialect file.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Path   string `json:"path"` // where in the data, like rules[3].path
	Text   string `json:"text"`

	Warning bool `json:"warning,omitempty"` // it is allowed, and hardly meant
}

func (p Problem) String() string {
	s := fmt.Sprintf("%s:%d:%d: ", p.File, p.Line, p.Column)
	if p.Warning {
		s += "warning: "
	}
	if p.Path != "" {
		s += p.Path + ": "
	}
	return s + p.Text
}

// Problems is the error of Load: everything found wrong, in file order.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

// Load reads and checks a dialect file. The error is of type Problems.
func Load(name string, source []byte) (*Dialect, error) {
	l := loader{name: name, text: string(source)}
	if bad := l.within(source); bad != nil {
		return nil, bad
	}
	tree, err := parser.ParseBytes(source, 0)
	if err != nil {
		return nil, l.syntax(err)
	}
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: "a dialect file is one YAML document; this has " + strconv.Itoa(len(tree.Docs))}}
	}
	l.root = tree.Docs[0].Body
	if bad := l.plain(l.root); bad != nil {
		return nil, bad
	}
	var file any
	if err := yaml.Unmarshal(source, &file); err != nil {
		return nil, l.syntax(err)
	}
	raw, err := json.Marshal(file)
	if err != nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: err.Error()}}
	}
	var value any
	if err := json.Unmarshal(raw, &value); err != nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: err.Error()}}
	}
	if language().check(language(), nil, value, l.at); len(l.found) > 0 {
		return nil, l.sorted()
	}
	d := &Dialect{Source: string(source)}
	if err := yaml.Unmarshal(source, &d.File); err != nil {
		return nil, l.syntax(err)
	}
	l.compile(d)
	if len(l.found) == 0 {
		l.warn(d)
	}
	l.variants(d, file)
	if len(l.found) > 0 {
		return nil, l.sorted()
	}
	d.Doubts = l.doubts
	return d, nil
}

// variants makes the whole dialect as it is for each variant.
func (l *loader) variants(d *Dialect, file any) {
	for i, v := range d.Variants {
		l.d = d
		at := []string{"variants", strconv.Itoa(i)}
		out := &variant{transport: v.Transport, from: v.From, below: v.Below, is: &Dialect{Source: d.Source}}
		l.pattern(v.Model, under(at, "model")...)
		l.pattern(v.Release, under(at, "release")...)
		out.model, out.release = d.patterns[v.Model], d.patterns[v.Release]
		merged := overlay(file, v.Sets).(map[string]any)
		delete(merged, "variants")
		raw, err := json.Marshal(merged)
		if err == nil {
			var value any
			if err = json.Unmarshal(raw, &value); err == nil {
				l.where = under(at, "sets")
				found := len(l.found)
				if language().check(language(), nil, value, l.at); len(l.found) > found {
					l.where = nil
					continue
				}
				if err = yaml.Unmarshal(raw, &out.is.File); err == nil {
					for _, name := range v.Lacks {
						delete(out.is.Parts, name)
						out.is.Change.Methods = slices.DeleteFunc(out.is.Change.Methods, func(m string) bool { return m == name })
					}
					l.compile(out.is)
				}
				l.where = nil
			}
		}
		if err != nil {
			l.at(at, "%v", err)
			continue
		}
		d.variants = append(d.variants, out)
	}
}

// overlay lays one value over another: mappings are merged, all else is
// replaced.
func overlay(below, above any) any {
	b, ok := below.(map[string]any)
	a, ok2 := above.(map[string]any)
	if !ok || !ok2 {
		return above
	}
	out := map[string]any{}
	for k, v := range b {
		out[k] = v
	}
	for k, v := range a {
		if old, ok := out[k]; ok {
			v = overlay(old, v)
		}
		out[k] = v
	}
	return out
}

type loader struct {
	name  string
	root  ast.Node
	d     *Dialect
	found Problems
	where []string // what every path is below: a variant

	doubts Problems
	text   string
	kept   map[string][]string // names that steps keep, and where
}

// doubt notes what is allowed and hardly meant.
func (l *loader) doubt(path []string, format string, args ...any) {
	found := l.found
	l.at(path, format, args...)
	p := l.found[len(found)]
	p.Warning = true
	l.doubts, l.found = append(l.doubts, p), found
}

func (l *loader) sorted() Problems {
	slices.SortStableFunc(l.found, func(a, b Problem) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return l.found[:min(len(l.found), mostProblems)]
}

var position = regexp.MustCompile(`^\[(\d+):(\d+)\] ([^\n]*)`)

// syntax turns the YAML reader's error into a problem.
func (l *loader) syntax(err error) Problems {
	p := Problem{File: l.name, Line: 1, Column: 1, Text: strings.SplitN(err.Error(), "\n", 2)[0]}
	if m := position.FindStringSubmatch(err.Error()); m != nil {
		p.Line, _ = strconv.Atoi(m[1])
		p.Column, _ = strconv.Atoi(m[2])
		p.Text = m[3]
	}
	return Problems{p}
}

// at notes a problem at a place in the data.
func (l *loader) at(path []string, format string, args ...any) {
	path = append(slices.Clone(l.where), path...)
	p := Problem{File: l.name, Path: dotted(path), Text: fmt.Sprintf(format, args...)}
	p.Line, p.Column = l.locate(path)
	l.found = append(l.found, p)
}

func dotted(path []string) string {
	var b strings.Builder
	for _, s := range path {
		if _, err := strconv.Atoi(s); err == nil {
			b.WriteString("[" + s + "]")
			continue
		}
		if b.Len() > 0 {
			b.WriteByte('.')
		}
		b.WriteString(s)
	}
	return b.String()
}

// locate finds the deepest node on the path that exists.
func (l *loader) locate(path []string) (line, column int) {
	n := l.root
	pos := n.GetToken().Position
	line, column = 1, 1
	if pos != nil {
		line, column = pos.Line, pos.Column
	}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		p := m.Values[0].Key.GetToken().Position
		line, column = p.Line, p.Column
	}
	for _, step := range path {
		var next ast.Node
		switch t := n.(type) {
		case *ast.MappingNode:
			for _, v := range t.Values {
				if v.Key.GetToken().Value == step {
					next = v.Value
					p := v.Key.GetToken().Position
					line, column = p.Line, p.Column
				}
			}
		case *ast.MappingValueNode:
			if t.Key.GetToken().Value == step {
				next = t.Value
				p := t.Key.GetToken().Position
				line, column = p.Line, p.Column
			}
		case *ast.SequenceNode:
			if i, err := strconv.Atoi(step); err == nil && i < len(t.Values) {
				next = t.Values[i]
				if p := next.GetToken().Position; p != nil {
					line, column = p.Line, p.Column
				}
				if m, ok := next.(*ast.MappingNode); ok && len(m.Values) > 0 {
					p := m.Values[0].Key.GetToken().Position
					line, column = p.Line, p.Column
				}
			}
		}
		if next == nil {
			return line, column
		}
		n = next
	}
	return line, column
}

// compile checks what a schema cannot and makes what the rest of the program
// works with.
func (l *loader) compile(d *Dialect) {
	l.d = d
	d.patterns, d.spans = map[string]*regexp.Regexp{}, map[string]time.Duration{}
	t := d.Reach.Timeouts
	d.Connect = l.span(t.Connect, 10*time.Second, "reach", "timeouts", "connect")
	d.Answer = l.span(t.Answer, 60*time.Second, "reach", "timeouts", "answer")
	d.Idle = l.span(t.Idle, 20*time.Second, "reach", "timeouts", "idle")
	d.Whole = l.span(t.Whole, 10*time.Minute, "reach", "timeouts", "whole")
	l.span(d.Reach.Retry.After, 0, "reach", "retry", "after")
	if un := d.Change.Undo; un != nil {
		l.steps(un.Arm, "change", "undo", "arm")
		l.steps(un.Disarm, "change", "undo", "disarm")
		l.steps(un.Recall, "change", "undo", "recall")
		switch c := d.Change; {
		case un.With == "load" && len(c.Load) == 0, un.With == "live" && len(c.Live) == 0:
			l.at([]string{"change", "undo", "with"}, "the timer goes with change.%s, which is not there", un.With)
		case un.With == "commit" && !l.speaks(Netconf):
			l.at([]string{"change", "undo", "with"}, "the timer goes with NETCONF's commit, which is not spoken here")
		}
		l.span(un.From, 0, "change", "undo", "from")
		l.span(un.To, 0, "change", "undo", "to")
		l.span(un.Back, 0, "change", "undo", "back")
	}
	for name, steps := range d.Change.Instead {
		l.steps(steps, "change", "instead", name)
	}
	d.Restarts = l.span(d.Change.Restarts, 0, "change", "restarts")
	l.span(d.Change.Settle, 0, "change", "settle")
	l.steps(d.Change.Live, "change", "live")
	for i, p := range d.Change.Least {
		if err := (&rules.Rule{Path: strings.ReplaceAll(p, "{user}", "somebody")}).Compile(); err != nil {
			l.at([]string{"change", "least", strconv.Itoa(i)}, "%v", err)
		}
	}
	if st := d.Change.Stage; st != nil {
		l.steps(st.Load, "change", "stage", "load")
		l.steps(st.Restart, "change", "stage", "restart")
		l.span(st.Down, 0, "change", "stage", "down")
		l.span(st.Back, 0, "change", "stage", "back")
	}
	l.ways()
	l.modes()
	if _, ok := d.Way(Netconf); d.Notifications && !ok {
		l.at([]string{"notifications"}, "notifications come by NETCONF, which no transport of this dialect is")
	}
	for i, n := range d.Notices {
		l.pattern(n.Pattern, "change_triggers", strconv.Itoa(i), "pattern")
	}
	if p := d.Converse.Pager; p != nil {
		l.pattern(p.Shows, "converse", "pager", "shows")
	}
	if w := d.Converse.Wake; w != nil {
		l.pattern(w.Shows, "converse", "wake", "shows")
	}
	if p := d.Converse.Login; p != nil {
		l.pattern(p.User, "converse", "login", "user")
		l.pattern(p.Password, "converse", "login", "password")
		l.pattern(p.Refused, "converse", "login", "refused")
	}
	l.pattern(d.Web.Refused, "web", "refused")
	l.pattern(d.Web.Expired, "web", "expired")
	l.steps(d.Web.Login, "web", "login")
	l.steps(d.Web.Logout, "web", "logout")
	for i, r := range d.Refusals {
		l.pattern(r.Pattern, "errors", strconv.Itoa(i), "pattern")
	}
	for i, p := range d.Change.Harmless {
		l.pattern(p, "change", "harmless", strconv.Itoa(i))
		if !d.Change.Silent {
			l.at([]string{"change", "harmless"}, "says what may be answered, and silent does not say that nothing else may")
		}
	}
	if d.Held != nil {
		l.steps(d.Held.End, "held", "end")
	}
	if d.Echo != nil {
		l.source(d.Echo.Source, "echo")
		l.pattern(d.Echo.Good, "echo", "good")
	}
	for name, st := range d.States {
		l.source(st.Source, "states", name)
		l.group(st.Each, "states", name, "each")
	}
	id := d.Identity
	l.group(id.Session, "identity", "session")
	l.source(id.Source, "identity")
	l.traits(id.Traits, "identity")
	told := id.Serial != ""
	for i, more := range id.Also {
		at := []string{"identity", "also", strconv.Itoa(i)}
		l.source(more.Source, at...)
		l.traits(more.Traits, at...)
		told = told || more.Serial != ""
	}
	switch byKey := id.StandIn == "host-key"; {
	case byKey && told:
		l.at([]string{"identity", "fallback"}, "the host key stands in for a serial number, and one is read as well")
	case !byKey && !told:
		l.at([]string{"identity"}, "needs serial, here or in also; where a device has none, identity.fallback says what stands in for it")
	}
	if e := d.Elements; e != nil {
		l.source(e.Source, "elements")
		l.group(e.Each, "elements", "each")
	}
	if m := d.Members; m != nil {
		l.source(m.Source, "members")
		l.group(m.Each, "members", "each")
		for key, p := range map[string]string{"serial": m.Serial, "model": m.Model, "release": m.Release, "standing": m.Standing} {
			// {member} is put in when it is known.
			if c, err := regexp.Compile(strings.ReplaceAll(p, "{member}", "x")); err != nil {
				l.at([]string{"members", key}, "%v", err)
			} else if p != "" && c.NumSubexp() < 1 {
				l.at([]string{"members", key}, "needs a group in round brackets around what is looked for")
			}
		}
		l.steps(m.Load, "members", "load")
		l.steps(m.Adopt, "members", "take_in")
		l.pattern(m.Present, "members", "present")
		l.span(m.Rejoin, 0, "members", "rejoin")
		if len(m.Methods) > 0 && len(m.Load) == 0 && !l.speaks(Netconf) {
			l.at([]string{"members", "methods"}, "needs members.load: the steps that put a document there")
		}
		l.parts(m.Parts, "members", "parts")
	}
	l.parts(d.Parts, "parts")
	if f := d.Factory; f != nil {
		l.steps(f.FirstRun, "factory", "first-run")
		l.source(f.Source, "factory")
		l.pattern(f.Shows, "factory", "shows")
	}
	for i, f := range d.Fit {
		at := []string{"fit", strconv.Itoa(i)}
		l.group(f.Pattern, under(at, "pattern")...)
		if f.Path != "" {
			if err := (&rules.Rule{Path: f.Path}).Compile(); err != nil {
				l.at(under(at, "path"), "%v", err)
			}
		}
	}
	if d.Change.Save != nil {
		l.pattern(d.Change.Save.Done, "change", "save", "done")
		l.steps(d.Change.Save.Steps, "change", "save", "steps")
	}
	l.steps(d.Change.Load, "change", "load")
	l.rules(d)
	l.form()
	l.change()
}

func (l *loader) traits(t Traits, path ...string) {
	l.group(t.Host, under(path, "host")...)
	l.group(t.Model, under(path, "model")...)
	l.group(t.Serial, under(path, "serial")...)
	l.group(t.Release, under(path, "release")...)
}

// pattern compiles a pattern of the file. It is held to a whole answer, in which ^ and $
// stand for the beginning and end of a line.
func (l *loader) pattern(source string, path ...string) {
	if source == "" {
		return
	}
	if _, err := regexp.Compile(source); err != nil { // told as it was written
		l.at(path, "%v", err)
		return
	}
	l.d.patterns[source] = regexp.MustCompile("(?m)" + source)
}

// group compiles a pattern that must have a group around what is looked for.
func (l *loader) group(source string, path ...string) {
	l.pattern(source, path...)
	if c := l.d.patterns[source]; source != "" && c != nil && c.NumSubexp() < 1 {
		l.at(path, "needs a group in round brackets around what is looked for")
	}
}

func (l *loader) span(source string, otherwise time.Duration, path ...string) time.Duration {
	if source == "" {
		return otherwise
	}
	v, err := time.ParseDuration(source)
	if err != nil || v <= 0 {
		l.at(path, "%q is no span of time; write 500ms, 20s, 5m", source)
	}
	l.d.spans[source] = v
	return v
}

// ways checks that what the transports need is there.
func (l *loader) ways() {
	d := l.d
	for _, w := range d.Ways() {
		switch w.Transport {
		case SSH, Telnet:
			if w.Transport == Telnet && d.Converse.Login == nil {
				l.at([]string{"reach"}, "telnet signs nobody in by itself: converse.login has to say how the device asks")
			}
			if len(d.Converse.Modes) == 0 && !d.execOnly() {
				l.at([]string{"reach"}, "a command line is spoken to over %s, so converse has to say how its prompts look", w.Transport)
			}
		case HTTP, HTTPS:
			if d.Web.Auth == "steps" && len(d.Web.Login) == 0 {
				l.at([]string{"web", "auth"}, "signing in by steps needs web.login")
			}
		}
	}
}

// execOnly tells whether no command line is ever opened.
func (d *Dialect) execOnly() bool {
	only := d.Identity.Exec != ""
	for _, p := range d.Parts {
		only = only && p.Command == ""
	}
	return only
}

func (l *loader) speaks(transports ...string) bool {
	for _, w := range l.d.Ways() {
		if slices.Contains(transports, w.Transport) {
			return true
		}
	}
	return false
}

func under(path []string, more ...string) []string { return append(slices.Clone(path), more...) }

func (l *loader) mode(mode string, path []string) {
	if mode == "" {
		return
	}
	if _, ok := l.d.Converse.Modes[mode]; !ok {
		l.at(path, "no mode is named %q under converse.modes", mode)
	}
}

// steps checks a list of steps.
func (l *loader) steps(steps []Step, path ...string) {
	for i, st := range steps {
		at := under(path, strconv.Itoa(i))
		kinds := 0
		for _, set := range []bool{st.Type != "", st.Exec != "", st.Ask != "", st.RPC != "", st.Put != nil} {
			if set {
				kinds++
			}
		}
		if kinds != 1 {
			l.at(at, "is one of type, exec, ask, rpc and put; this has %d of them", kinds)
		}
		switch {
		case st.Type != "" && !l.speaks(SSH, Telnet):
			l.at(under(at, "type"), "no command line is spoken to here; reach.transport is %s", l.d.Reach.Transport)
		case st.Exec != "" && !l.speaks(SSH):
			l.at(under(at, "exec"), "exec runs a command over SSH; reach.transport is %s", l.d.Reach.Transport)
		case st.Type != "" && st.Mode == "":
			l.at(at, "a typed line needs the mode it is typed in")
		case st.Ask != "" && !l.speaks(HTTP, HTTPS):
			l.at(under(at, "ask"), "nothing is asked over HTTP here; reach.transport is %s", l.d.Reach.Transport)
		case st.RPC != "" && !l.speaks(Netconf):
			l.at(under(at, "rpc"), "no NETCONF is spoken here; reach.transport is %s", l.d.Reach.Transport)
		}
		if st.Ask != "" && !asks.MatchString(st.Ask) {
			l.at(under(at, "ask"), "is a method and a path, like: GET /status")
		}
		l.mode(st.Mode, under(at, "mode"))
		l.pattern(st.Done, under(at, "done")...)
		l.pattern(st.Fails, under(at, "fails")...)
		l.pattern(st.Until, under(at, "until")...)
		for name, p := range st.Keep {
			l.group(p, under(at, "keep", name)...)
			if l.kept == nil {
				l.kept = map[string][]string{}
			}
			l.kept[name] = under(at, "keep", name)
		}
		for j, a := range st.Answers {
			l.pattern(a.Asks, under(at, "answers", strconv.Itoa(j), "asks")...)
		}
		l.span(st.Every, 0, under(at, "every")...)
		l.span(st.Within, 0, under(at, "within")...)
		if st.Until != "" && st.Within == "" {
			l.at(under(at, "until"), "needs within: nothing is waited for without an end")
		}
	}
}

var asks = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE) (/|\{)`)

// source checks where something is read from.
func (l *loader) source(s Source, path ...string) {
	l.steps(s.Make, under(path, "make")...)
	l.steps(s.Tidy, under(path, "tidy")...)
	var from []string
	for _, x := range []struct {
		key string
		set bool
	}{{"command", s.Command != ""}, {"exec", s.Exec != ""}, {"datastore", s.Datastore != ""}, {"state", s.State != ""},
		{"resource", s.Resource != ""}, {"file", s.File != nil}, {"sent", s.Sent != ""}} {
		if x.set {
			from = append(from, x.key)
		}
	}
	if len(from) != 1 {
		l.at(path, "is read from exactly one of command, exec, datastore, state, resource, file and sent; this has %d of them", len(from))
		return
	}
	switch from[0] {
	case "command":
		if !l.speaks(SSH, Telnet) {
			l.at(under(path, "command"), "no command line is spoken to here; reach.transport is %s", l.d.Reach.Transport)
		} else if s.Mode == "" {
			l.at(path, "a command needs the mode it is typed in")
		}
	case "exec":
		if !l.speaks(SSH) {
			l.at(under(path, "exec"), "exec runs a command over SSH; reach.transport is %s", l.d.Reach.Transport)
		}
	case "datastore", "state":
		if !l.speaks(Netconf) {
			l.at(under(path, from[0]), "no NETCONF is spoken here; reach.transport is %s", l.d.Reach.Transport)
		}
	case "resource":
		if !l.speaks(HTTP, HTTPS) {
			l.at(under(path, "resource"), "nothing is asked over HTTP here; reach.transport is %s", l.d.Reach.Transport)
		}
	}
	l.mode(s.Mode, under(path, "mode"))
}

func (l *loader) parts(parts map[string]*Part, path ...string) {
	for name, p := range parts {
		at := under(path, name)
		if p.Sign != nil {
			l.source(p.Sign.Source, under(at, "change_token")...)
			l.group(p.Sign.Pattern, under(at, "change_token", "pattern")...)
		}
		l.source(p.Source, at...)
		l.pattern(p.Absent, under(at, "absent")...)
		l.group(p.Author, under(at, "author")...)
		l.pattern(p.Cut.Before, under(at, "cut", "before")...)
		l.pattern(p.Cut.After, under(at, "cut", "after")...)
		l.pattern(p.Whole.Last, under(at, "complete", "last")...)
		for i, f := range p.Whole.First {
			l.pattern(f, under(at, "complete", "first", strconv.Itoa(i))...)
		}
		for i, h := range p.Whole.Has {
			l.pattern(h, under(at, "complete", "has", strconv.Itoa(i))...)
		}
		if w := p.Whole; w.Last == "" && !w.Document && w.Length == nil && w.Checksum == nil && w.Size == "" {
			l.at(under(at, "complete"), "says nothing that a cut-off part would lack; give one of last, document, length, checksum and size")
		}
		if strings.HasSuffix(name, "+") != p.Each {
			l.at(at, "a part of each logical element is written with a + behind its name and each: true")
		} else if p.Each && l.d.Elements == nil {
			l.at(at, "elements has to say which logical elements there are")
		}
		for i, m := range p.KeyFacts {
			if err := (&rules.Rule{Path: m.Path}).Compile(); err != nil {
				l.at(under(at, "key_facts", strconv.Itoa(i), "path"), "%v", err)
			}
		}
	}
}

// form makes the grammar.
func (l *loader) form() {
	d, g := l.d, l.d.Grammar
	switch g.Form {
	case "xml":
		d.grammar = grammar.XML{Keys: d.Table.Keys, Known: d.Table.Known, Choice: d.Table.Choice}
		return
	case "json":
		d.grammar = grammar.JSON{Keys: d.Table.Keys}
		return
	case "braces":
		d.grammar = grammar.Braces{Comments: g.Comments, Quotes: grammar.Quotes{Pairs: g.Quotes, Escape: d.Table.Escape}}
		return
	case "opaque":
		return
	}
	b := &grammar.Blocks{Flat: g.Form == "flat", Indent: max(g.Indent, 1), Comments: g.Comments, Trailing: g.Trailing, Quotes: grammar.Quotes{Pairs: g.Quotes, Escape: d.Table.Escape}, Continues: g.Continues}
	if m := g.Marks; m != nil {
		l.pattern(m.Opens, "grammar", "marks", "opens")
		l.pattern(m.Closes, "grammar", "marks", "closes")
		b.Marks = &grammar.Marks{Opens: d.patterns[m.Opens], Closes: d.patterns[m.Closes], Open: cmp.Or(m.Open, "{head}"), Close: m.Close, End: m.End}
	}
	for i, x := range g.Delimited {
		l.pattern(x.Opens, "grammar", "delimited", strconv.Itoa(i), "opens")
		del := grammar.Delimited{Opens: d.patterns[x.Opens], Must: find.Must(x.Opens)}
		if named := placeholder.FindAllStringSubmatch(x.Closes, -1); len(named) > 0 && del.Opens != nil {
			at := []string{"grammar", "delimited", strconv.Itoa(i), "closes"}
			for _, m := range named {
				if del.Opens.SubexpIndex(m[1]) < 0 {
					l.at(at, "{%s} is no group of opens; write (?P<%s>…) there", m[1], m[1])
				}
			}
			if _, err := regexp.Compile(placeholder.ReplaceAllString(x.Closes, "x")); err != nil {
				l.at(at, "%v", err)
			}
			del.Chosen = x.Closes
		} else {
			l.pattern(x.Closes, "grammar", "delimited", strconv.Itoa(i), "closes")
			del.Closes = d.patterns[x.Closes]
		}
		b.Delimited = append(b.Delimited, del)
	}
	l.pattern(g.Closer, "grammar", "closer")
	b.Closer = d.patterns[g.Closer]
	l.pattern(g.Header, "grammar", "header")
	b.Header = d.patterns[g.Header]
	d.Blocks, d.grammar = b, b
}

// change checks that each method offered can be done.
func (l *loader) change() {
	d, c := l.d, l.d.Change
	lines := d.Blocks != nil && c.Remove != ""
	for i, m := range c.Methods {
		at := []string{"change", "methods", strconv.Itoa(i)}
		switch {
		case (m == "merge" || m == "replace") && lines:
			if c.Mode == "" {
				l.at(at, "lines are typed in a mode: change.mode has to name it")
			}
		case m == "stage":
			if c.Stage == nil || d.Parts["startup"] == nil || d.Parts["running"] == nil {
				l.at(at, "needs change.stage, and the parts running and startup, by which it is proved")
			}
		case m == "upload":
			if len(c.Load) == 0 {
				l.at(at, "needs change.load: the steps that put a file on the device")
			}
		case m == "merge" && d.Grammar.Form == "json":
			l.at(at, "what merging would make of a JSON document is not worked out, so it cannot be previewed; only lines and XML are merged")
		case (m == "replace" || m == "merge") && l.speaks(Netconf):
		case m == "replace" && len(c.Load) > 0:
		default:
			l.at(at, "nothing here says how: lines need change.mode, remove and leave; documents NETCONF or change.load")
		}
	}
	if d.Blocks != nil {
		d.Language = &change.Language{Table: d.Table, Remove: c.Remove, Leave: c.Leave}
	}
	if len(c.Without) > 0 && !l.speaks(Netconf) {
		l.at([]string{"change", "without"}, "leaves out steps of NETCONF, which is not spoken here")
	}
	if len(c.Instead) > 0 && !l.speaks(Netconf) {
		l.at([]string{"change", "instead"}, "says what is done in place of NETCONF's operations, which is not spoken here")
	}
	if (len(c.Instead["lock"]) > 0) != (len(c.Instead["unlock"]) > 0) {
		l.at([]string{"change", "instead"}, "says how to lock or how to unlock, and has to say both")
	}
	if c.Offer != "" && len(c.Load) == 0 {
		l.at([]string{"change", "offer"}, "needs change.load: the steps that have the device fetch it")
	}
	l.mode(c.Mode, []string{"change", "mode"})
	if s := c.Save; s != nil {
		if s.Command != "" && s.Mode == "" {
			l.at([]string{"change", "save"}, "a command needs the mode it is typed in")
		}
		l.mode(s.Mode, []string{"change", "save", "mode"})
	}
	l.idle(lines)
	l.follows()
}

// idle tells of what would never be done by any method.
func (l *loader) idle(lines bool) {
	c := l.d.Change
	whole := slices.Contains(c.Methods, "upload") || !lines && len(c.Methods) > 0
	if len(c.Load) > 0 && !whole {
		l.at([]string{"change", "load"}, "is never done: methods of this dialect send lines")
	}
	if len(c.Live) > 0 && !slices.ContainsFunc(c.Methods, func(m string) bool { return m != "stage" }) {
		l.at([]string{"change", "live"}, "is never done: method stage restarts the device instead")
	}
}

// follows checks which part comes of which.
func (l *loader) follows() {
	for name, p := range l.d.Parts {
		at := []string{"parts", name}
		if p.Follows != "" {
			other := l.d.Parts[p.Follows]
			if other == nil || p.Follows == name {
				l.at(append(at, "follows"), "no other part is named %q", p.Follows)
			} else if other.Follows != "" {
				l.at(append(at, "follows"), "%s itself follows %s", p.Follows, other.Follows)
			}
		} else if p.Otherwise != "" && name != "startup" {
			l.at(append(at, "unsaved_word"), "is a state of a part that follows another; say which with follows")
		}
	}
	if n := len(l.d.followers()); n > 1 {
		l.at([]string{"parts"}, "%d parts follow others; one can", n)
	}
}

// modes checks that every mode can be reached.
func (l *loader) modes() {
	d := l.d
	if len(d.Converse.Modes) == 0 {
		return
	}
	l.mode(d.Converse.Starts, []string{"converse", "initial_mode"})
	for name, m := range d.Converse.Modes {
		path := []string{"converse", "modes", name}
		if !strings.Contains(m.Prompt, "{host}") {
			l.at(append(path, "prompt"), "does not say where {host} stands; a prompt without it could be any line")
		}
		if m.Asks != "" {
			if c, err := regexp.Compile(m.Asks); err == nil {
				d.patterns[m.Asks] = c
			}
		}
		if name == d.Converse.Starts {
			continue
		}
		if m.From == "" || m.Enter == "" || m.Leave == "" {
			l.at(path, "needs from, enter and leave: only the mode a session starts in goes without")
			continue
		}
		for seen, at := map[string]bool{}, name; at != d.Converse.Starts; at = d.Converse.Modes[at].From {
			if _, ok := d.Converse.Modes[at]; !ok || seen[at] {
				l.at(append(path, "from"), "does not lead back to %q, where a session starts", d.Converse.Starts)
				break
			}
			seen[at] = true
		}
	}
}

func (l *loader) rules(d *Dialect) {
	d.Table = &rules.Table{Quotes: d.Grammar.Quotes, Denial: d.Grammar.Denial, Free: d.Grammar.Order == "free", Blanks: d.Grammar.Blanks == "free"}
	l.pattern(d.Grammar.Withheld, "grammar", "withheld")
	d.Table.Withheld = d.patterns[d.Grammar.Withheld]
	d.Table.Document = d.Grammar.Form == "xml" || d.Grammar.Form == "json"
	if a := d.Grammar.Assign; a != "" {
		d.Table.Assign = a[0]
	}
	if e := d.Grammar.Escape; e != "" {
		d.Table.Escape = e[0]
	}
	for i, p := range d.Grammar.Secrets {
		l.pattern(p, "grammar", "secrets", strconv.Itoa(i))
		if re := d.patterns[p]; re != nil {
			d.Table.Secrets = append(d.Table.Secrets, re)
		}
	}
	// Of a server in explicit mode what was set to its default is data like any other
	// (RFC 6243 §2.3).
	idle := d.Table.Document && d.Grammar.Defaults != "trim" && d.Grammar.Defaults != "report-all"
	if !d.Table.Document && d.Grammar.Defaults != "" {
		l.at([]string{"grammar", "defaults"}, "is said of XML and JSON only")
	}
	defined := map[string]bool{}
	for _, r := range d.Rules {
		defined[r.Defines] = true
	}
	seen := map[string]int{}
	for i, r := range d.Rules {
		at := func(keys ...string) []string { return append([]string{"rules", strconv.Itoa(i)}, keys...) }
		c := &rules.Rule{Path: r.Path, Ordered: r.Ordered, Free: r.Order == "free", Overwrites: r.Overwrites, Permanent: r.Permanent, Reach: r.Reach, Volatile: r.Volatile,
			Default: r.Default, Writes: r.Writes, Defines: r.Defines, Named: r.Named, Secret: r.Secret, Salted: r.Salted, Hostname: r.Hostname, Hardware: r.Hardware,
			Remove: r.Remove, Single: r.Single, Choice: r.Choice, SingleBy: r.SingleBy, Unique: r.Unique, Empties: r.Empties, Sequence: r.Sequence, Beside: r.Beside}
		if first, twice := seen[r.Path]; twice {
			l.at(at("path"), "the same path stands in rules[%d], which would always win", first)
		}
		seen[r.Path] = i
		for space, source := range r.Uses {
			re, err := regexp.Compile(source)
			if err != nil || re.NumSubexp() < 1 {
				l.at(at("uses", space), "needs a pattern with a group around the name")
				continue
			}
			if !defined[space] {
				l.at(at("uses", space), "no rule defines %q", space)
			}
			c.Uses = append(c.Uses, rules.Use{Space: space, Name: re})
		}
		if idle && c.Default != "" {
			l.doubt(at("default"), "lets nothing go: grammar.defaults does not say trim or report-all (RFC 6243 §2)")
			c.Default = ""
		}
		if err := c.Compile(); err != nil {
			l.at(at("path"), "%v", err)
			continue
		}
		l.elsewhere(c, r, at)
		d.Table.Rules = append(d.Table.Rules, c)
	}
	d.Table.Compile()
}

// elsewhere adds to a rule what it says of other lines.
func (l *loader) elsewhere(c *rules.Rule, r Rule, at func(...string) []string) {
	path := func(p string, keys ...string) *rules.Rule {
		other := &rules.Rule{Path: p}
		if err := other.Compile(); err != nil {
			l.at(at(keys...), "%v", err)
			return nil
		}
		return other
	}
	for i, p := range r.Takes {
		if other := path(p, "takes", strconv.Itoa(i)); other != nil {
			c.Takes = append(c.Takes, other)
		}
	}
	if r.GoesWith != "" {
		c.GoesWith = path(r.GoesWith, "goes_with")
	}
	if r.Ordered && r.Order == "free" {
		l.at(at("order"), "says that the order below it is free, and ordered says that it matters")
	}
	l.pattern(r.Before, at("before")...)
	if c.Before = l.d.patterns[r.Before]; r.Before == "" {
		c.Before = nil
	} else if !r.Ordered && r.Sequence == "" {
		l.at(at("before"), "says where new lines go, and neither ordered nor sequence says that their order matters")
	}
	for _, m := range placeholder.FindAllStringSubmatch(r.Remove, -1) {
		if name := m[1]; name != "line" && name != "identity" && !c.Has(name) {
			l.at(at("remove"), "{%s} is no capture of the path, nor line or identity", name)
		}
	}
	if r.Beside != "" && r.Defines == "" {
		l.at(at("make_before_break"), "only a block that has a name (defines) can stand beside itself")
	}
}

var placeholder = regexp.MustCompile(`\{([\w-]+)\}`)
