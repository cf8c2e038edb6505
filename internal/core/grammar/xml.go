package grammar

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

// Keys tells which children identify an entry of a list: given the names of
// the elements from the outermost to the entry's own. nil: not known.
type Keys func(path []string) []string

// XML is the grammar of XML documents as FormatXML writes them: every element
// begins on a line of its own.
//
// An element becomes a node whose words are its local name, then the values of the
// children that identify it, or the element's own value, then its attributes, each as
// @name and value. What an element is called is its namespace (Node.Space) and its local
// name (RFC 7950 §5.3); paths of rules speak of local names.
type XML struct {
	Keys   Keys
	Known  func(path []string) bool   // whether a rule speaks of an element or of what lies below it; nil: of none
	Choice func(path []string) string // the choice an element belongs to (RFC 7950 §7.9); nil, or empty: none
}

// element is an XML element read.
type element struct {
	name    xml.Name
	attrs   []xml.Attr // without declarations of namespaces
	value   string
	valueAt Span
	tag     string // the start tag as it is written, and where it begins in its first line
	column  int
	spaces  []xml.Attr // the prefixes that the value or an attribute uses, with what they stand for
	first   int        // line of the start tag
	last    int
	kids    []*element
}

// Parse reads src, which may hold several elements side by side.
func (g XML) Parse(src string) (*Node, error) {
	top, err := readXML([]byte(src))
	if err != nil {
		return nil, err
	}
	root := &Node{}
	g.nodes(root, top, nil)
	return root, nil
}

// lineIndex is where each line begins.
type lineIndex []int

func newLineIndex(src []byte) lineIndex {
	idx := lineIndex{0}
	for i, b := range src {
		if b == '\n' {
			idx = append(idx, i+1)
		}
	}
	return idx
}

func (idx lineIndex) line(offset int) int {
	i, found := slices.BinarySearch(idx, offset)
	if !found {
		i--
	}
	return i + 1
}

// deepest is how deep documents may nest: real ones stay below 40.
const deepest = 200

// xmlError says where a document is not well-formed.
func xmlError(idx lineIndex, d *xml.Decoder, err error) *Error {
	var s *xml.SyntaxError
	msg := err.Error()
	if errors.As(err, &s) {
		msg = s.Msg
	}
	return &Error{idx.line(int(d.InputOffset())), "not well-formed XML: " + msg}
}

func newXMLDecoder(src []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(src))
	d.Strict = true
	d.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("its encoding is %q; only UTF-8 is read", charset)
	}
	return d
}

func readXML(src []byte) (*element, error) {
	idx := newLineIndex(src)
	d := newXMLDecoder(src)
	top := &element{}
	open := []*element{top}
	prefixes := []map[string]string{{}}
	for {
		from := int(d.InputOffset())
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, xmlError(idx, d, err)
		}
		at := open[len(open)-1]
		switch t := tok.(type) {
		case xml.StartElement:
			if len(open) > deepest {
				return nil, &Error{idx.line(from), fmt.Sprintf("nested deeper than %d elements", deepest)}
			}
			if at.value != "" {
				if strings.TrimSpace(at.value) != "" {
					return nil, &Error{idx.line(from), fmt.Sprintf("<%s> mixes text and elements", at.name.Local)}
				}
				at.value, at.valueAt = "", Span{} // layout on one line
			}
			e := &element{name: t.Name, first: idx.line(from), tag: string(src[from:d.InputOffset()])}
			e.column = from - idx[e.first-1]
			e.last = e.first
			known := prefixes[len(prefixes)-1]
			for _, a := range t.Attr {
				switch {
				case a.Name.Space == "xmlns":
					known = with(known, a.Name.Local, a.Value)
				case a.Name.Space != "" || a.Name.Local != "xmlns":
					e.attrs = append(e.attrs, a)
				}
			}
			at.kids = append(at.kids, e)
			open, prefixes = append(open, e), append(prefixes, known)
		case xml.EndElement:
			at.last = idx.line(int(d.InputOffset()) - 1)
			at.spaces = at.used(prefixes[len(prefixes)-1])
			open, prefixes = open[:len(open)-1], prefixes[:len(prefixes)-1]
		case xml.CharData:
			if strings.TrimSpace(string(t)) == "" && at.value == "" && (len(open) == 1 || len(at.kids) > 0 || strings.ContainsAny(string(t), "\r\n")) {
				continue // layout
			}
			if len(open) == 1 || len(at.kids) > 0 {
				if strings.TrimSpace(string(t)) == "" {
					continue
				}
				return nil, &Error{idx.line(from), "text outside of any element, or between elements"}
			}
			line := idx.line(from)
			if at.value == "" {
				at.valueAt = Span{line, from - idx[line-1], 0}
			}
			at.value += string(t)
			at.valueAt.End = int(d.InputOffset()) - idx[at.valueAt.Line-1]
		}
	}
	if len(open) > 1 {
		return nil, &Error{len(idx), fmt.Sprintf("the document ends inside of <%s>", open[len(open)-1].name.Local)}
	}
	return top, nil
}

func (g XML) nodes(up *Node, e *element, path []string) {
	count := map[xml.Name]int{}
	for _, k := range e.kids {
		count[k.name]++
	}
	for _, k := range e.kids {
		here := append(slices.Clone(path), k.name.Local)
		n := &Node{Line: k.first, Space: k.name.Space}
		if k.last != k.first {
			n.Last = k.last
		}
		line := []string{k.name.Local}
		n.Spans = []Span{{}}
		n.Ident = 1
		skip := map[*element]bool{}
		if len(k.kids) == 0 {
			if v := k.canonical(); v != "" {
				line = append(line, Quote(v))
				n.Spans = append(n.Spans, k.valueAt)
			}
			if count[k.name] > 1 {
				n.Ident = len(line) // an entry of a leaf-list is told by its value
			}
		} else {
			for _, key := range g.keysOf(here, k, count[k.name] > 1) {
				line = append(line, Quote(key.canonical()))
				n.Spans = append(n.Spans, key.valueAt)
				n.Ident++
				n.Keys = append(n.Keys, key.name.Local)
				skip[key] = true
			}
		}
		for _, a := range k.attrs {
			name := "@" + a.Name.Local
			if a.Name.Space != "" {
				name += "{" + a.Name.Space + "}"
			}
			line = append(line, name, Quote(k.resolved(a.Value)))
			n.Spans = append(n.Spans, Span{}, k.attributeAt(a))
			n.Attrs++
		}
		n.Text = strings.Join(line, " ")
		rest := *k
		rest.kids = slices.DeleteFunc(slices.Clone(k.kids), func(c *element) bool { return skip[c] })
		if len(k.kids) > 0 {
			g.nodes(n, &rest, here)
		}
		up.Kids = append(up.Kids, n)
	}
}

// attributeAt is where an attribute's value stands in the start tag; the zero Span where it is
// not found as it is written by FormatXML.
func (e *element) attributeAt(a xml.Attr) Span {
	value := attribute(a.Value)
	for at := 0; ; {
		n := strings.Index(e.tag[at:], a.Name.Local+"="+value)
		if n < 0 {
			return Span{}
		}
		at += n + len(a.Name.Local) + 1
		before := e.tag[:at-len(a.Name.Local)-1]
		if strings.HasSuffix(before, " ") || strings.HasSuffix(before, ":") && !strings.HasSuffix(before, " xmlns:") {
			return Span{e.first, e.column + at + 1, e.column + at + len(value) - 1}
		}
	}
}

// keysOf finds the children that identify an entry: those that the rules name, or, of an
// element that has siblings of its name, the first leaf (RFC 7950 §7.8.5: keys come first).
// A leaf that says more than its value, by an attribute or a namespace, is no key.
func (g XML) keysOf(path []string, e *element, repeated bool) (out []*element) {
	key := func(k *element) bool { return len(k.kids)+len(k.attrs) == 0 && k.name.Space == e.name.Space }
	if g.Keys != nil {
		names := g.Keys(path)
		repeated = repeated && len(names) == 0 // an entry without its key has none
		for _, name := range names {
			if i := slices.IndexFunc(e.kids, func(k *element) bool { return k.name.Local == name && key(k) }); i >= 0 {
				out = append(out, e.kids[i])
			}
		}
	}
	if len(out) == 0 && repeated && key(e.kids[0]) {
		out = e.kids[:1]
	}
	return out
}

// prefixed finds names with a prefix in a value: all of it (an identity, RFC 7950
// §9.10.3), or within a path (§9.13.2, and XPath).
var prefixed = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_.-]*):([A-Za-z_*])`)

// used lists the prefixes in scope that the element's value and attributes make use
// of: whatever is not a name of an element has no other way to keep its namespace.
func (e *element) used(scope map[string]string) (out []xml.Attr) {
	texts := []string{e.value}
	for _, a := range e.attrs {
		texts = append(texts, a.Value)
	}
	seen := map[string]bool{}
	for _, t := range texts {
		for _, m := range prefixed.FindAllStringSubmatch(t, -1) {
			if space := scope[m[1]]; space != "" && !seen[m[1]] {
				seen[m[1]] = true
				out = append(out, xml.Attr{Name: xml.Name{Local: m[1]}, Value: space})
			}
		}
	}
	slices.SortFunc(out, func(a, b xml.Attr) int { return strings.Compare(a.Name.Local, b.Name.Local) })
	return out
}

// canonical is the element's value with prefixes replaced by the namespaces they
// stand for, so that it does not matter which prefix a device chose.
func (e *element) canonical() string { return e.resolved(e.value) }

// resolved is a text of the element with prefixes replaced by the namespaces they stand for.
func (e *element) resolved(v string) string {
	if len(e.spaces) == 0 {
		return v
	}
	space := map[string]string{}
	for _, a := range e.spaces {
		space[a.Name.Local] = "{" + a.Value + "}"
	}
	if p, local, ok := strings.Cut(v, ":"); ok && space[p] != "" && !strings.ContainsAny(local, ":/[ ") {
		return local + space[p]
	}
	return prefixed.ReplaceAllStringFunc(v, func(m string) string {
		p, rest, _ := strings.Cut(m, ":")
		if space[p] == "" {
			return m
		}
		return space[p] + rest
	})
}

// Quote writes a value as one word: as it is, or between double quotes where it
// holds blanks or quotes itself.
func Quote(v string) string {
	if v != "" && !strings.ContainsAny(v, " \t\n\r\"\\") {
		return v
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\u0022`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(v) + `"`
}

// FormatXML writes XML with one element a line, two blanks for each level, and
// namespaces declared where they change: the form in which documents are kept
// and compared. Prefixes of elements, comments, processing instructions and white
// space between elements are not kept; values, attributes and the prefixes that
// those use are. src may hold
// several elements side by side. Of the document only what lies under a path is
// written, if one is given, and not what lies at the paths of without.
func FormatXML(src []byte, under string, without ...string) (string, error) {
	top, err := readXML(src)
	if err != nil {
		return "", err
	}
	if top, err = top.under(under); err != nil {
		return "", err
	}
	for _, w := range without {
		top.drop(strings.Split(w, " / "))
	}
	var b strings.Builder
	for _, k := range top.kids {
		k.print(&b, "", "")
	}
	return b.String(), nil
}

func (e *element) print(b *strings.Builder, indent, space string) {
	head := indent + "<" + e.name.Local
	if e.name.Space != space {
		head += " xmlns=" + attribute(e.name.Space)
	}
	for _, a := range e.spaces {
		head += " xmlns:" + a.Name.Local + "=" + attribute(a.Value)
	}
	taken := slices.Clone(e.spaces)
	for _, a := range e.attrs {
		switch a.Name.Space {
		case "":
			head += " " + a.Name.Local + "=" + attribute(a.Value)
		case xmlSpace:
			head += " xml:" + a.Name.Local + "=" + attribute(a.Value)
		default: // it needs a prefix: ours, always the same
			p := free(taken)
			taken = append(taken, p)
			head += fmt.Sprintf(" xmlns:%s=%s %s:%s=%s", p.Name.Local, attribute(a.Name.Space), p.Name.Local, a.Name.Local, attribute(a.Value))
		}
	}
	switch {
	case len(e.kids) > 0:
		b.WriteString(head + ">\n")
		for _, k := range e.kids {
			k.print(b, indent+"  ", e.name.Space)
		}
		b.WriteString(indent + "</" + e.name.Local + ">\n")
	case e.value != "":
		b.WriteString(head + ">" + escape(e.value) + "</" + e.name.Local + ">\n")
	default:
		b.WriteString(head + "/>\n")
	}
}

// xmlSpace is the namespace that the prefix xml stands for everywhere.
const xmlSpace = "http://www.w3.org/XML/1998/namespace"

// free is a prefix of ours that is not taken.
func free(taken []xml.Attr) xml.Attr {
	p := xml.Attr{Name: xml.Name{Local: "a"}}
	for n := 2; slices.ContainsFunc(taken, func(t xml.Attr) bool { return t.Name.Local == p.Name.Local }); n++ {
		p.Name.Local = fmt.Sprintf("a%d", n)
	}
	return p
}

// is tells whether a segment of a path names the element: by its name, and by
// values that children of it have.
func (e *element) is(segment string) bool {
	words := Words(segment, Quotes{})
	if len(words) == 0 || e.name.Local != words[0].Text {
		return false
	}
	for _, w := range words[1:] {
		if !slices.ContainsFunc(e.kids, func(k *element) bool { return len(k.kids) == 0 && Quote(k.canonical()) == w.Text }) {
			return false
		}
	}
	return true
}

func (e *element) under(path string) (*element, error) {
	if path == "" {
		return e, nil
	}
	for _, seg := range strings.Split(path, " / ") {
		i := slices.IndexFunc(e.kids, func(k *element) bool { return k.is(seg) })
		if i < 0 {
			return nil, &Error{e.first, fmt.Sprintf("the document has no %q", seg)}
		}
		e = e.kids[i]
	}
	return e, nil
}

func (e *element) drop(path []string) {
	if len(path) == 1 {
		e.kids = slices.DeleteFunc(e.kids, func(k *element) bool { return k.is(path[0]) })
		return
	}
	for _, k := range e.kids {
		if k.is(path[0]) {
			k.drop(path[1:])
		}
	}
}

func with(m map[string]string, k, v string) map[string]string {
	out := make(map[string]string, len(m)+1)
	for k, v := range m {
		out[k] = v
	}
	out[k] = v
	return out
}

var escaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\n", "&#10;", "\r", "&#13;", "\t", "&#9;")

func escape(v string) string { return escaper.Replace(v) }

func attribute(v string) string { return `"` + strings.ReplaceAll(escape(v), `"`, "&quot;") + `"` }
