package dialect

import (
	"bytes"
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
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"magpie/internal/core/change"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
)

// Schema is the published JSON Schema (draft 2020-12) of dialect files.
//
//go:embed schema.json
var Schema []byte

// Problem is one thing wrong in a dialect file.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Path   string `json:"path"` // where in the data, like rules[3].path
	Text   string `json:"text"`
}

func (p Problem) String() string {
	s := fmt.Sprintf("%s:%d:%d: ", p.File, p.Line, p.Column)
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

var schema = func() *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		panic(err)
	}
	c := jsonschema.NewCompiler()
	c.RegisterFormat(&jsonschema.Format{Name: "re2", Validate: func(v any) error {
		s, ok := v.(string)
		if !ok {
			return nil
		}
		_, err := regexp.Compile(strings.ReplaceAll(s, "{host}", "x"))
		return err
	}})
	c.AssertFormat()
	if err := c.AddResource("dialect.json", doc); err != nil {
		panic(err)
	}
	return c.MustCompile("dialect.json")
}()

// Load reads and checks a dialect file. The error is of type Problems.
func Load(name string, source []byte) (*Dialect, error) {
	l := loader{name: name}
	tree, err := parser.ParseBytes(source, 0)
	if err != nil {
		return nil, l.syntax(err)
	}
	if len(tree.Docs) != 1 || tree.Docs[0].Body == nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: "a dialect file is one YAML document; this has " + strconv.Itoa(len(tree.Docs))}}
	}
	l.root = tree.Docs[0].Body
	var any any
	if err := yaml.Unmarshal(source, &any); err != nil {
		return nil, l.syntax(err)
	}
	raw, err := json.Marshal(any)
	if err != nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: err.Error()}}
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, Problems{{File: name, Line: 1, Column: 1, Text: err.Error()}}
	}
	if err := schema.Validate(value); err != nil {
		l.invalid(err.(*jsonschema.ValidationError))
		return nil, l.sorted()
	}
	d := &Dialect{Source: string(source), patterns: map[string]*regexp.Regexp{}}
	if err := yaml.Unmarshal(source, &d.File); err != nil {
		return nil, l.syntax(err)
	}
	l.compile(d)
	if len(l.found) > 0 {
		return nil, l.sorted()
	}
	return d, nil
}

type loader struct {
	name  string
	root  ast.Node
	found Problems
}

func (l *loader) sorted() Problems {
	slices.SortStableFunc(l.found, func(a, b Problem) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return l.found
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

func (l *loader) invalid(e *jsonschema.ValidationError) {
	if len(e.Causes) == 0 {
		text := e.ErrorKind.LocalizedString(message.NewPrinter(language.English))
		l.at(e.InstanceLocation, "%s", text)
		return
	}
	for _, c := range e.Causes {
		l.invalid(c)
	}
}

// compile checks what a schema cannot and makes what the rest of the program
// works with.
func (l *loader) compile(d *Dialect) {
	l.spans(d)
	l.modes(d)
	re := func(source string, path ...string) {
		if source == "" {
			return
		}
		c, err := regexp.Compile(source)
		if err != nil {
			l.at(path, "%v", err)
			return
		}
		d.patterns[source] = c
	}
	group := func(source string, path ...string) {
		re(source, path...)
		if c := d.patterns[source]; source != "" && c != nil && c.NumSubexp() < 1 {
			l.at(path, "needs a group in round brackets around what is looked for")
		}
	}
	if p := d.Converse.Pager; p != nil {
		re(p.Shows, "converse", "pager", "shows")
	}
	for i, r := range d.Refusals {
		re(r.Pattern, "refusals", strconv.Itoa(i), "pattern")
	}
	group(d.Identity.Host, "identity", "host")
	group(d.Identity.Model, "identity", "model")
	group(d.Identity.Serial, "identity", "serial")
	group(d.Identity.Release, "identity", "release")
	for name, p := range d.Parts {
		re(p.Absent, "parts", name, "absent")
		group(p.Author, "parts", name, "author")
		re(p.Whole.Last, "parts", name, "whole", "last")
		for i, f := range p.Whole.First {
			re(f, "parts", name, "whole", "first", strconv.Itoa(i))
		}
		for i, h := range p.Whole.Has {
			re(h, "parts", name, "whole", "has", strconv.Itoa(i))
		}
	}
	if d.Change.Save != nil {
		re(d.Change.Save.Done, "change", "save", "done")
	}
	d.Blocks = &grammar.Blocks{Indent: max(d.Grammar.Indent, 1), Comments: d.Grammar.Comments}
	for i, x := range d.Grammar.Delimited {
		re(x.Opens, "grammar", "delimited", strconv.Itoa(i), "opens")
		re(x.Closes, "grammar", "delimited", strconv.Itoa(i), "closes")
		d.Blocks.Delimited = append(d.Blocks.Delimited, grammar.Delimited{Opens: d.patterns[x.Opens], Closes: d.patterns[x.Closes]})
	}
	l.rules(d)
	d.Language = &change.Language{Table: d.Table, Remove: d.Change.Remove, Leave: d.Change.Leave}
}

func (l *loader) spans(d *Dialect) {
	span := func(source, name string, otherwise time.Duration) time.Duration {
		if source == "" {
			return otherwise
		}
		v, err := time.ParseDuration(source)
		if err != nil || v <= 0 {
			l.at([]string{"reach", "timeouts", name}, "%q is no span of time; write 500ms, 20s, 5m", source)
		}
		return v
	}
	t := d.Reach.Timeouts
	d.Connect = span(t.Connect, "connect", 10*time.Second)
	d.Answer = span(t.Answer, "answer", 60*time.Second)
	d.Idle = span(t.Idle, "idle", 20*time.Second)
	d.Whole = span(t.Whole, "whole", 10*time.Minute)
}

// modes checks that every mode named exists and can be reached.
func (l *loader) modes(d *Dialect) {
	known := func(mode string, path ...string) {
		if _, ok := d.Converse.Modes[mode]; !ok {
			l.at(path, "no mode is named %q under converse.modes", mode)
		}
	}
	known(d.Converse.Starts, "converse", "starts")
	known(d.Identity.Mode, "identity", "mode")
	known(d.Change.Mode, "change", "mode")
	if d.Change.Save != nil {
		known(d.Change.Save.Mode, "change", "save", "mode")
	}
	for name, p := range d.Parts {
		known(p.Mode, "parts", name, "mode")
	}
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
	d.Table = &rules.Table{}
	defined := map[string]bool{}
	for _, r := range d.Rules {
		defined[r.Defines] = true
	}
	seen := map[string]int{}
	for i, r := range d.Rules {
		at := func(keys ...string) []string { return append([]string{"rules", strconv.Itoa(i)}, keys...) }
		c := &rules.Rule{Path: r.Path, Ordered: r.Ordered, Overwrites: r.Overwrites, Permanent: r.Permanent, Volatile: r.Volatile,
			Default: r.Default, Writes: r.Writes, Defines: r.Defines, Secret: r.Secret, Hostname: r.Hostname}
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
		if err := c.Compile(); err != nil {
			l.at(at("path"), "%v", err)
			continue
		}
		d.Table.Rules = append(d.Table.Rules, c)
	}
}
