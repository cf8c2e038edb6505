package grammar

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// JSON is the grammar of JSON documents (RFC 8259) as FormatJSON writes them.
//
// A member becomes a node whose words are its name and its value. An array of
// objects becomes one node an entry, told by the members that the rules name,
// by a "name" or "id" that every entry has, or by its place; an array of other
// values one node a value.
type JSON struct {
	Keys Keys
}

// Parse reads src, one object, or one array, whose entries are called entry.
func (g JSON) Parse(src string) (*Node, error) {
	v, err := readJSON(src)
	if err != nil {
		return nil, err
	}
	root := &Node{}
	switch {
	case v.members != nil:
		g.nodes(root, v, nil)
	case v.entries != nil:
		g.entries(root, "entry", v, []string{"entry"})
	default:
		return nil, &Error{1, "the document is neither an object nor an array"}
	}
	return root, nil
}

func readJSON(src string) (*jsonValue, error) {
	p := &jsonReader{d: json.NewDecoder(strings.NewReader(src)), idx: newLineIndex([]byte(src)), src: src}
	p.d.UseNumber()
	v, err := p.value(0)
	if err == nil {
		if _, more := p.d.Token(); more != io.EOF {
			err = p.fail("something follows the document")
		}
	}
	return v, err
}

// jsonValue is a value read: an object (members), an array (entries) or a word.
type jsonValue struct {
	word        string
	raw         string // as it was written, of a value that is neither object nor array
	at          Span
	first, last int
	names       []string
	members     []*jsonValue // of an object, in order; not nil even if empty
	entries     []*jsonValue // of an array; not nil even if empty
}

type jsonReader struct {
	d   *json.Decoder
	idx lineIndex
	src string
}

func (p *jsonReader) fail(msg string) *Error {
	return &Error{p.idx.line(int(p.d.InputOffset())), "not well-formed JSON: " + msg}
}

func (p *jsonReader) token() (json.Token, error) {
	tok, err := p.d.Token()
	if err == io.EOF {
		return nil, p.fail("it ends in the middle")
	}
	if err != nil {
		var s *json.SyntaxError
		if errors.As(err, &s) {
			return nil, &Error{p.idx.line(int(s.Offset)), "not well-formed JSON: " + s.Error()}
		}
		return nil, p.fail(err.Error())
	}
	return tok, nil
}

func (p *jsonReader) value(depth int) (*jsonValue, error) {
	if depth > deepest {
		return nil, p.fail(fmt.Sprintf("nested deeper than %d", deepest))
	}
	tok, err := p.token()
	if err != nil {
		return nil, err
	}
	end := int(p.d.InputOffset())
	line := p.idx.line(end - 1)
	v := &jsonValue{first: line, last: line}
	switch t := tok.(type) {
	case json.Delim:
		if t == '{' {
			v.members = []*jsonValue{}
		} else {
			v.entries = []*jsonValue{}
		}
		for p.d.More() {
			if t == '{' {
				name, err := p.token()
				if err != nil {
					return nil, err
				}
				v.names = append(v.names, name.(string))
			}
			k, err := p.value(depth + 1)
			if err != nil {
				return nil, err
			}
			if t == '{' {
				v.members = append(v.members, k)
			} else {
				v.entries = append(v.entries, k)
			}
		}
		if _, err := p.token(); err != nil {
			return nil, err
		}
		v.last = p.idx.line(int(p.d.InputOffset()) - 1)
		return v, nil
	case string:
		// A text that reads like another kind of value is told from it by quotes.
		if v.word = Quote(t); !strings.HasPrefix(v.word, `"`) && json.Valid([]byte(t)) {
			v.word = `"` + t + `"`
		}
	case json.Number:
		v.word = t.String()
	case bool:
		v.word = strconv.FormatBool(t)
	case nil:
		v.word = "null"
	}
	start := end
	if s, ok := tok.(string); ok {
		// Back to the opening quote: the text as written may hold escapes.
		raw := p.src[:end-1]
		start = strings.LastIndexByte(raw, '"')
		for start > 0 && backslashes(raw[:start])%2 == 1 {
			start = strings.LastIndexByte(raw[:start], '"')
		}
		_ = s
		start, end = start+1, end-1
	} else {
		start = end - len(v.word)
	}
	if v.raw = p.src[start:end]; start > 0 && p.src[start-1] == '"' {
		v.raw = `"` + v.raw + `"`
	}
	v.at = Span{line, start - p.idx[line-1], end - p.idx[line-1]}
	return v, nil
}

func backslashes(s string) int { return len(s) - len(strings.TrimRight(s, `\`)) }

func (g JSON) nodes(up *Node, v *jsonValue, path []string) {
	for i, m := range v.members {
		here := append(slices.Clone(path), v.names[i])
		name := Quote(v.names[i])
		switch {
		case m.entries != nil:
			g.entries(up, name, m, here)
		case m.members != nil:
			n := &Node{Text: name, Line: m.first, Last: m.last, Ident: 1, Spans: []Span{{}}}
			up.Kids = append(up.Kids, n)
			g.nodes(n, m, here)
		default:
			up.Kids = append(up.Kids, &Node{Text: name + " " + m.word, Line: m.first, Ident: 1, Spans: []Span{{}, m.at}})
		}
	}
}

func (g JSON) entries(up *Node, name string, list *jsonValue, path []string) {
	if len(list.entries) == 0 {
		up.Kids = append(up.Kids, &Node{Text: name + " []", Line: list.first, Ident: 1, Spans: []Span{{}, {}}})
		return
	}
	keys := g.keysOf(path, list.entries)
	from := len(up.Kids)
	defer func() { // where the list begins and ends is said of its first entry
		if len(up.Kids) > from {
			up.Kids[from].Also = append(up.Kids[from].Also, list.first, list.last)
		}
	}()
	for i, e := range list.entries {
		if e.members == nil {
			word := e.word
			if e.entries != nil {
				word = fmt.Sprintf("[%d]", i)
			}
			n := &Node{Text: name + " " + word, Line: e.first, Ident: 2, Spans: []Span{{}, e.at}}
			up.Kids = append(up.Kids, n)
			if e.entries != nil {
				g.entries(n, "entry", e, append(slices.Clone(path), "entry"))
			}
			continue
		}
		n := &Node{Line: e.first, Last: e.last, Ident: 1, Spans: []Span{{}}}
		words := []string{name}
		rest := &jsonValue{members: []*jsonValue{}}
		for j, m := range e.members { // a name that stands twice is a key once
			if !slices.Contains(keys, e.names[j]) || slices.Index(e.names, e.names[j]) != j {
				rest.names, rest.members = append(rest.names, e.names[j]), append(rest.members, m)
			}
		}
		for _, k := range keys {
			at := slices.Index(e.names, k)
			words, n.Spans = append(words, e.members[at].word), append(n.Spans, e.members[at].at)
		}
		if len(keys) == 0 {
			words, n.Spans = append(words, fmt.Sprintf("[%d]", i)), append(n.Spans, Span{})
		}
		n.Text, n.Ident, n.Keys = strings.Join(words, " "), len(words), keys
		up.Kids = append(up.Kids, n)
		g.nodes(n, rest, path)
	}
}

// keysOf finds the members that tell entries apart: only ones that every entry
// has, with a plain value.
func (g JSON) keysOf(path []string, entries []*jsonValue) []string {
	all := func(name string) bool {
		for _, e := range entries {
			at := slices.Index(e.names, name)
			if at < 0 || e.members[at].members != nil || e.members[at].entries != nil {
				return false
			}
		}
		return len(entries) > 0
	}
	unique := func(name string) bool {
		seen := map[string]bool{}
		for _, e := range entries {
			w := e.members[slices.Index(e.names, name)].word
			if seen[w] {
				return false
			}
			seen[w] = true
		}
		return true
	}
	var out []string
	if g.Keys != nil {
		for _, k := range g.Keys(path) {
			if all(k) {
				out = append(out, k)
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	for _, k := range []string{"name", "id"} {
		if all(k) && unique(k) {
			return []string{k}
		}
	}
	return nil
}

// FormatJSON writes a JSON document with one member or value a line, two
// blanks for each level. Order, numbers and texts stay as they were written. Of
// the document only what lies under a path is written, if one is given, and not
// what lies at the paths of without.
func FormatJSON(src []byte, under string, without ...string) (string, error) {
	if !utf8.Valid(src) {
		return "", &Error{1, "not well-formed JSON: it is not UTF-8"}
	}
	v, err := readJSON(string(src))
	if err != nil {
		return "", err
	}
	if under != "" {
		for _, seg := range strings.Split(under, " / ") {
			if v = v.kid(seg); v == nil {
				return "", &Error{1, fmt.Sprintf("the document has no %q", seg)}
			}
		}
	}
	for _, w := range without {
		v.drop(strings.Split(w, " / "))
	}
	var b strings.Builder
	v.print(&b, "")
	b.WriteByte('\n')
	return b.String(), nil
}

func (v *jsonValue) print(b *strings.Builder, indent string) {
	switch {
	case v.members != nil || v.entries != nil:
		kids, marks := v.members, "{}"
		if v.members == nil {
			kids, marks = v.entries, "[]"
		}
		b.WriteByte(marks[0])
		for i, k := range kids {
			b.WriteString("\n" + indent + "  ")
			if v.members != nil {
				name, _ := json.Marshal(v.names[i])
				b.Write(name)
				b.WriteString(": ")
			}
			k.print(b, indent+"  ")
			if i < len(kids)-1 {
				b.WriteByte(',')
			}
		}
		if len(kids) > 0 {
			b.WriteString("\n" + indent)
		}
		b.WriteByte(marks[1])
	default:
		b.WriteString(v.raw)
	}
}

// kid finds what a segment of a path names: a member, or the entry of a list
// that has members of the values that follow the name.
func (v *jsonValue) kid(segment string) *jsonValue {
	words := Words(segment, Quotes{})
	if len(words) == 0 {
		return nil
	}
	i := slices.Index(v.names, words[0].Text)
	if i < 0 {
		return nil
	}
	k := v.members[i]
	if len(words) == 1 {
		return k
	}
	at := slices.IndexFunc(k.entries, func(e *jsonValue) bool { return e.has(words[1:]) })
	if at < 0 {
		return nil
	}
	return k.entries[at]
}

func (v *jsonValue) has(words []Word) bool {
	for _, w := range words {
		if !slices.ContainsFunc(v.members, func(m *jsonValue) bool { return m.members == nil && m.entries == nil && m.word == w.Text }) {
			return false
		}
	}
	return true
}

func (v *jsonValue) drop(path []string) {
	words := Words(path[0], Quotes{})
	if len(words) == 0 {
		return
	}
	i := slices.Index(v.names, words[0].Text)
	switch {
	case i < 0:
	case len(path) == 1 && len(words) == 1:
		v.names, v.members = slices.Delete(v.names, i, i+1), slices.Delete(v.members, i, i+1)
	case len(path) == 1:
		v.members[i].entries = slices.DeleteFunc(v.members[i].entries, func(e *jsonValue) bool { return e.has(words[1:]) })
	case v.members[i].entries != nil:
		for _, e := range v.members[i].entries {
			if e.has(words[1:]) {
				e.drop(path[1:])
			}
		}
	default:
		v.members[i].drop(path[1:])
	}
}
