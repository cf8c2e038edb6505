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
// An element becomes a node whose words are its name, then the values of the
// children that identify it, or the element's own value. Names are local names;
// a namespace is written behind a name, in braces, only where two siblings of
// one local name differ in it.
type XML struct {
	Keys Keys
}

// element is an XML element read.
type element struct {
	name    xml.Name
	attrs   []xml.Attr // without declarations of namespaces
	value   string
	valueAt Span
	prefix  xml.Attr // of a value that is a name with a prefix: what the prefix stands for
	first   int      // line of the start tag
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
				return nil, &Error{idx.line(from), fmt.Sprintf("<%s> mixes text and elements", at.name.Local)}
			}
			e := &element{name: t.Name, first: idx.line(from)}
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
			if m := qname.FindStringSubmatch(strings.TrimSpace(at.value)); m != nil {
				if space := prefixes[len(prefixes)-1][m[1]]; space != "" {
					at.prefix = xml.Attr{Name: xml.Name{Local: m[1]}, Value: space}
				}
			}
			open, prefixes = open[:len(open)-1], prefixes[:len(prefixes)-1]
		case xml.CharData:
			if strings.TrimSpace(string(t)) == "" && at.value == "" {
				continue
			}
			if len(open) == 1 || len(at.kids) > 0 {
				if strings.TrimSpace(string(t)) == "" {
					continue
				}
				return nil, &Error{idx.line(from), "text outside of any element, or between elements"}
			}
			line := idx.line(from)
			at.value += string(t)
			at.valueAt = Span{line, from - idx[line-1], int(d.InputOffset()) - idx[line-1]}
		}
	}
	if len(open) > 1 {
		return nil, &Error{len(idx), fmt.Sprintf("the document ends inside of <%s>", open[len(open)-1].name.Local)}
	}
	return top, nil
}

// names gives each child its word: the local name, with the namespace behind
// it where siblings need it to be told apart.
func names(e *element) []string {
	spaces := map[string]string{}
	clash := map[string]bool{}
	for _, k := range e.kids {
		if s, ok := spaces[k.name.Local]; ok && s != k.name.Space {
			clash[k.name.Local] = true
		}
		spaces[k.name.Local] = k.name.Space
	}
	out := make([]string, len(e.kids))
	for i, k := range e.kids {
		out[i] = k.name.Local
		if clash[k.name.Local] {
			out[i] += "{" + k.name.Space + "}"
		}
	}
	return out
}

func (g XML) nodes(up *Node, e *element, path []string) {
	words := names(e)
	count := map[string]int{}
	for _, w := range words {
		count[w]++
	}
	for i, k := range e.kids {
		here := append(slices.Clone(path), words[i])
		n := &Node{Line: k.first}
		if k.last != k.first {
			n.Last = k.last
		}
		line := []string{words[i]}
		n.Spans = []Span{{}}
		n.Ident = 1
		skip := map[*element]bool{}
		if len(k.kids) == 0 {
			if v := k.canonical(); v != "" {
				line = append(line, Quote(v))
				n.Spans = append(n.Spans, k.valueAt)
			}
			if count[words[i]] > 1 {
				n.Ident = len(line) // an entry of a leaf-list is told by its value
			}
		} else {
			for _, key := range g.keysOf(here, k, count[words[i]] > 1) {
				line = append(line, Quote(key.canonical()))
				n.Spans = append(n.Spans, key.valueAt)
				n.Ident++
				skip[key] = true
			}
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

// keysOf finds the children that identify an entry: those that the rules name,
// or, of an element that has siblings of its name, the first leaf (RFC 7950
// §7.8.5: keys come first).
func (g XML) keysOf(path []string, e *element, repeated bool) (out []*element) {
	if g.Keys != nil {
		for _, name := range g.Keys(path) {
			for _, k := range e.kids {
				if k.name.Local == name && len(k.kids) == 0 {
					out = append(out, k)
				}
			}
		}
	}
	if len(out) == 0 && repeated && len(e.kids[0].kids) == 0 {
		out = e.kids[:1]
	}
	return out
}

var qname = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_.-]*):([A-Za-z_][A-Za-z0-9_.-]*)$`)

// canonical is the element's value with a prefix replaced by the namespace it
// stands for (RFC 7950 §9.10.3), so that it does not matter which prefix a
// device chose.
func (e *element) canonical() string {
	v := strings.TrimSpace(e.value)
	if e.prefix.Value != "" {
		return strings.TrimPrefix(v, e.prefix.Name.Local+":") + "{" + e.prefix.Value + "}"
	}
	return v
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
// and compared. Prefixes, comments, processing instructions and white space
// between elements are not kept; values and other attributes are. src may hold
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
	if e.prefix.Value != "" {
		head += " xmlns:" + e.prefix.Name.Local + "=" + attribute(e.prefix.Value)
	}
	for _, a := range e.attrs {
		if a.Name.Space == "" {
			head += " " + a.Name.Local + "=" + attribute(a.Value)
		} else { // it needs a prefix: ours, always the same
			head += fmt.Sprintf(" xmlns:a=%s a:%s=%s", attribute(a.Name.Space), a.Name.Local, attribute(a.Value))
			break
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

// is tells whether a segment of a path names the element: by its name, and by
// values that children of it have.
func (e *element) is(segment string) bool {
	words := Words(segment, "")
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

// ReplaceXML writes the content of an edit-config that makes a part of a
// datastore what target says (RFC 6241 §7.2): every element at target's top
// replaces the device's, and those that only current has are deleted. merge
// leaves both out: elements are laid over what is there. Where the part lies
// deeper, wrap is a document around it and under the path to it there; what
// wrap has at the end of the path is put in its place.
func ReplaceXML(target, current, wrap, under string, merge bool) (string, error) {
	want, err := readXML([]byte(target))
	if err != nil {
		return "", fmt.Errorf("the document to be sent: %w", err)
	}
	have, err := readXML([]byte(current))
	if err != nil {
		return "", fmt.Errorf("what runs: %w", err)
	}
	operation := func(e *element, op string) *element {
		c := *e
		c.attrs = append(slices.Clone(e.attrs), xml.Attr{Name: xml.Name{Space: netconfBase, Local: "operation"}, Value: op})
		return &c
	}
	var kids []*element
	for _, k := range want.kids {
		if !merge {
			k = operation(k, "replace")
		}
		kids = append(kids, k)
	}
	for _, h := range have.kids {
		// Only of a name that stands there more than once it is known to be a list.
		same := func(e *element) bool { return e.name == h.name }
		list := len(slices.DeleteFunc(slices.Clone(have.kids), func(e *element) bool { return !same(e) })) > 1 ||
			len(slices.DeleteFunc(slices.Clone(want.kids), func(e *element) bool { return !same(e) })) > 1
		if merge || slices.ContainsFunc(want.kids, func(w *element) bool { return same(w) && (!list || sameKey(w, h)) }) {
			continue
		}
		gone := &element{name: h.name}
		if list && len(h.kids) > 0 {
			gone.kids = h.kids[:1] // an entry's key
		}
		kids = append(kids, operation(gone, "delete"))
	}
	top := &element{kids: kids}
	if wrap != "" {
		if top, err = readXML([]byte(wrap)); err != nil {
			return "", fmt.Errorf("the filter: %w", err)
		}
		inner, err := top.under(under)
		if err != nil {
			return "", fmt.Errorf("the filter: %w", err)
		}
		inner.kids = kids
	}
	var b strings.Builder
	for _, k := range top.kids {
		k.print(&b, "", "")
	}
	return b.String(), nil
}

const netconfBase = "urn:ietf:params:xml:ns:netconf:base:1.0"

// sameKey tells whether two elements of one name are one entry of a list: keys
// come first (RFC 7950 §7.8.5).
func sameKey(a, b *element) bool {
	return len(a.kids) > 0 && len(b.kids) > 0 && a.kids[0].name == b.kids[0].name && a.kids[0].value == b.kids[0].value
}
