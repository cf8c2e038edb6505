package grammar

import (
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
)

// Edit writes the content of an edit-config that makes a part of a datastore what
// target says (RFC 6241 §7.2): every element at target's top replaces the device's,
// and those that only current has are deleted. merge leaves both out: elements are
// laid over what is there. Where the part lies deeper, wrap is a document around it
// and under the path to it there; what wrap has at the end of the path is put in
// its place.
func (g XML) Edit(target, current, wrap, under string, merge bool) (string, error) {
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
		if merge {
			break
		}
		l := g.list(have, want, h.name, []string{h.name.Local})
		if l.find(want, h) != nil {
			continue
		}
		gone := &element{name: h.name}
		if l.is {
			gone.kids = l.key(h)
			if len(h.kids) == 0 {
				gone = h
			}
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
	return top.text(), nil
}

// Removal is the edit-config content (RFC 6241 §7.2) that takes away the entry that a filter stands around:
// the deepest element on the path under which a word tells from its neighbours.
func Removal(wrap, under string) (string, error) {
	top, err := readXML([]byte(wrap))
	if err != nil {
		return "", fmt.Errorf("the filter: %w", err)
	}
	var path []string
	entry := 0
	for _, seg := range strings.Split(under, " / ") {
		if path = append(path, seg); strings.Contains(seg, " ") {
			entry = len(path)
		}
	}
	if entry == 0 {
		return "", fmt.Errorf("the path %q leads to no entry of a list", under)
	}
	e, err := top.under(strings.Join(path[:entry], " / "))
	if err != nil {
		return "", fmt.Errorf("the filter: %w", err)
	}
	e.kids = slices.DeleteFunc(e.kids, func(k *element) bool { return len(k.kids) > 0 || k.value == "" })
	e.attrs = append(e.attrs, xml.Attr{Name: xml.Name{Space: netconfBase, Local: "operation"}, Value: "delete"})
	return top.text(), nil
}

func (e *element) text() string {
	var b strings.Builder
	for _, k := range e.kids {
		k.print(&b, "", "")
	}
	return b.String()
}

const netconfBase = "urn:ietf:params:xml:ns:netconf:base:1.0"

// list is what is known of the elements of one name in a block.
type list struct {
	is   bool     // there may be several
	keys []string // the leaves that tell them apart; none: the first (RFC 7950 §7.8.5)
}

// list tells whether elements of that name are a list: a rule gives them an
// identity, or one of two documents has several.
func (g XML) list(a, b *element, name xml.Name, path []string) (l list) {
	if g.Keys != nil {
		l.keys = g.Keys(path)
	}
	count := func(e *element) (n int) {
		for _, k := range e.kids {
			if k.name == name {
				n++
			}
		}
		return n
	}
	l.is = len(l.keys) > 0 || count(a) > 1 || count(b) > 1
	return l
}

// key is the leaves that tell an entry from others.
func (l list) key(e *element) (out []*element) {
	for _, name := range l.keys {
		for _, k := range e.kids {
			if k.name.Local == name && len(k.kids) == 0 {
				out = append(out, k)
			}
		}
	}
	if len(out) == 0 && len(e.kids) > 0 && len(e.kids[0].kids) == 0 {
		out = e.kids[:1]
	}
	return out
}

// find returns the element of a block that another block's element is: the entry of
// that key, the leaf-list's entry of that value, or the one of that name.
func (l list) find(in, e *element) *element {
	said := func(e *element) (out []string) {
		if len(e.kids) == 0 {
			return []string{e.canonical()}
		}
		for _, k := range l.key(e) {
			out = append(out, k.name.Local, k.canonical())
		}
		return out
	}
	for _, k := range in.kids {
		if k.name == e.name && (!l.is || slices.Equal(said(k), said(e))) {
			return k
		}
	}
	return nil
}

// Merge is the document that running becomes when by is laid over it with the
// operation merge (RFC 6241 §7.2): entries that both have are gone into, values are
// overwritten, all else is added at the end. It refuses, with an error that says
// which rule would help, where it cannot be known whether an element is the same as
// one that is there or another entry beside it.
func (g XML) Merge(running, by string) (string, error) {
	into, err := readXML([]byte(running))
	if err != nil {
		return "", fmt.Errorf("what runs: %w", err)
	}
	from, err := readXML([]byte(by))
	if err != nil {
		return "", fmt.Errorf("the document to be sent: %w", err)
	}
	if err := g.lay(into, from, nil); err != nil {
		return "", err
	}
	return into.text(), nil
}

func (g XML) lay(into, by *element, path []string) error {
	for _, k := range by.kids {
		here := append(slices.Clone(path), k.name.Local)
		l := g.list(into, by, k.name, here)
		at := l.find(into, k)
		if g.Choice != nil {
			if c := g.Choice(here); c != "" {
				into.kids = slices.DeleteFunc(into.kids, func(o *element) bool {
					return o.name.Space == k.name.Space && o.name.Local != k.name.Local && g.Choice(append(slices.Clone(path), o.name.Local)) == c
				})
			}
		}
		switch {
		case at == nil:
			into.kids = append(into.kids, k)
		case len(k.kids) == 0 || len(at.kids) == 0:
			if !l.is {
				*at = *k
			}
		default:
			if first, other := k.kids[0], at.kids[0]; !l.is && (g.Known == nil || !g.Known(here)) &&
				first.name == other.name && len(first.kids)+len(other.kids) == 0 && first.canonical() != other.canonical() {
				return fmt.Errorf("what merging would make of <%s> (line %d) cannot be said before it is done: no rule says whether there is one of them or a list; a rule for %q says that it is a list, one for %q that it is not",
					k.name.Local, k.first, strings.Join(here, " / ")+" {"+first.name.Local+"}", strings.Join(here, " / ")+" / "+first.name.Local+" <value>")
			}
			if err := g.lay(at, k, here); err != nil {
				return err
			}
		}
	}
	return nil
}
