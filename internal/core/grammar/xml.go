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
	name       xml.Name
	value      string
	valueAt    Span
	first      int // line of the start tag
	last       int
	kids       []*element
	namespaces []xml.Attr
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
			e := &element{name: t.Name, first: idx.line(from)}
			e.last = e.first
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" {
					e.namespaces = append(e.namespaces, a)
				}
			}
			at.kids = append(at.kids, e)
			open = append(open, e)
		case xml.EndElement:
			at.last = idx.line(int(d.InputOffset()) - 1)
			open = open[:len(open)-1]
		case xml.CharData:
			if strings.TrimSpace(string(t)) == "" {
				continue
			}
			if len(open) == 1 {
				return nil, &Error{idx.line(from), "text outside of any element"}
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

// canonical is the element's value with a prefix that its own tag declares
// replaced by the namespace (RFC 7950 §9.10.3), so that it does not matter
// which prefix a device chose.
func (e *element) canonical() string {
	v := strings.TrimSpace(e.value)
	if m := qname.FindStringSubmatch(v); m != nil {
		for _, a := range e.namespaces {
			if a.Name.Local == m[1] {
				return m[2] + "{" + a.Value + "}"
			}
		}
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
// several elements side by side.
func FormatXML(src []byte) (string, error) {
	idx := newLineIndex(src)
	d := newXMLDecoder(src)
	var b strings.Builder
	type level struct {
		name     xml.Name
		prefixes map[string]string
		text     strings.Builder
		head     string // the start tag without its ">"
		kids     bool
	}
	open := []*level{{prefixes: map[string]string{}}}
	pad := func() { b.WriteString(strings.Repeat("  ", len(open)-2)) }
	for {
		from := int(d.InputOffset())
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", xmlError(idx, d, err)
		}
		at := open[len(open)-1]
		switch t := tok.(type) {
		case xml.StartElement:
			if len(open) > deepest {
				return "", &Error{idx.line(from), fmt.Sprintf("nested deeper than %d elements", deepest)}
			}
			if len(open) > 1 && !at.kids {
				at.kids = true
				if strings.TrimSpace(at.text.String()) != "" {
					return "", &Error{idx.line(from), fmt.Sprintf("<%s> mixes text and elements", at.name.Local)}
				}
				pad()
				b.WriteString(at.head + ">\n")
			}
			n := &level{name: t.Name, prefixes: at.prefixes, head: "<" + t.Name.Local}
			if t.Name.Space != at.name.Space {
				n.head += " xmlns=" + attribute(t.Name.Space)
			}
			for _, a := range t.Attr {
				switch {
				case a.Name.Space == "xmlns":
					if n.prefixes[a.Name.Local] != a.Value {
						n.prefixes = with(n.prefixes, a.Name.Local, a.Value)
					}
				case a.Name.Space == "" && a.Name.Local == "xmlns":
				case a.Name.Space == "":
					n.head += " " + a.Name.Local + "=" + attribute(a.Value)
				default:
					// An attribute in a namespace needs a prefix: ours, always the same.
					n.head += fmt.Sprintf(" xmlns:a=%s a:%s=%s", attribute(a.Name.Space), a.Name.Local, attribute(a.Value))
				}
			}
			open = append(open, n)
		case xml.EndElement:
			if at.kids {
				pad()
				b.WriteString("</" + at.name.Local + ">\n")
			} else {
				v := at.text.String()
				if strings.TrimSpace(v) == "" {
					v = ""
				}
				if m := qname.FindStringSubmatch(strings.TrimSpace(v)); m != nil && at.prefixes[m[1]] != "" {
					at.head += " xmlns:" + m[1] + "=" + attribute(at.prefixes[m[1]])
				}
				pad()
				if v == "" {
					b.WriteString(at.head + "/>\n")
				} else {
					b.WriteString(at.head + ">" + escape(v) + "</" + at.name.Local + ">\n")
				}
			}
			open = open[:len(open)-1]
		case xml.CharData:
			if strings.TrimSpace(string(t)) == "" && (at.kids || len(open) == 1) {
				continue
			}
			if at.kids || len(open) == 1 {
				return "", &Error{idx.line(from), "text between elements"}
			}
			at.text.Write(t)
		}
	}
	if len(open) > 1 {
		return "", &Error{len(idx), fmt.Sprintf("the document ends inside of <%s>", open[len(open)-1].name.Local)}
	}
	return b.String(), nil
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
