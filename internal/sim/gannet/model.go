// Package gannet simulates the Gannet family of mast controllers: NETCONF over SSH
// (RFC 6241, 6242) with a YANG model of their own, and with habits that servers have.
// Prefixes are declared on the outermost element of an answer only, and a value that
// is a path means nothing without them. Lists have several keys, or an order that
// counts. Release 1 answers ok to a commit that follows a validate, and commits
// nothing. Release 2 knows none of the standard's locks, confirmed commits and startup
// datastore, and has operations of its own for each.
package gannet

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Namespaces spoken here.
const (
	nsMast    = "urn:brindle:mast"
	nsKinds   = "urn:brindle:mast-kinds"
	nsNetconf = "urn:ietf:params:xml:ns:netconf:base:1.0"
	nsMonitor = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"
)

type kind int

const (
	leaf kind = iota
	leafList
	container
	list
)

// schema is a node of the model.
type schema struct {
	name   string
	kind   kind
	keys   []string
	byUser bool   // the order of its entries counts
	def    string // the value that is not shown
	names  bool   // its value holds names with prefixes
	choice string // of the leaves of one choice there is one at a time
	number [2]int // the least and the most
	kids   []*schema
}

var model = &schema{kind: container, kids: []*schema{
	{name: "mast", kind: container, kids: []*schema{
		{name: "name"},
		{name: "beat", def: "60", number: [2]int{5, 600}},
		{name: "user", kind: list, keys: []string{"name"}, kids: []*schema{{name: "name"}, {name: "word"}}},
		{name: "clock", kind: leafList, byUser: true},
		{name: "tag", kind: leafList},
		{name: "feed", kind: list, keys: []string{"place", "number"}, byUser: true, kids: []*schema{
			{name: "place"}, {name: "number", number: [2]int{1, 99}}, {name: "note"}, {name: "kind", names: true}, {name: "from", names: true}}},
		{name: "alarm", kind: list, keys: []string{"id"}, kids: []*schema{
			{name: "id"}, {name: "watches", names: true}, {name: "over", choice: "when", number: [2]int{0, 1000}}, {name: "under", choice: "when", number: [2]int{0, 1000}},
			{name: "tell", kind: container, kids: []*schema{{name: "after", def: "3", number: [2]int{1, 60}}, {name: "to", kind: leafList}}}}},
	}},
	{name: "light", kind: list, keys: []string{"id"}, kids: []*schema{{name: "id"}, {name: "colour"}}},
}}

// Module is the model as get-schema shows it (RFC 6022 §3).
const Module = `module brindle-mast {
  yang-version 1.1;
  namespace "urn:brindle:mast";
  prefix mast;
  revision 2026-03-01;
  identity feed-kind;
  container mast {
    leaf name { type string; mandatory true; }
    leaf beat { type uint16 { range "5..600"; } default 60; }
    list user { key name; leaf name { type string; } leaf word { type string; } }
    leaf-list clock { type string; ordered-by user; }
    leaf-list tag { type string; }
    list feed {
      key "place number";
      ordered-by user;
      leaf place { type string; }
      leaf number { type uint8 { range "1..99"; } }
      leaf note { type string; }
      leaf kind { type identityref { base feed-kind; } }
      leaf from { type instance-identifier { require-instance false; } }
    }
    list alarm {
      key id;
      leaf id { type string; }
      leaf watches { type string; }
      choice when {
        leaf over { type uint16; }
        leaf under { type uint16; }
      }
      container tell {
        leaf after { type uint8; default 3; }
        leaf-list to { type string; }
      }
    }
  }
  list light { key id; leaf id { type string; } leaf colour { type string; } }
}
`

// data is a node of a datastore.
type data struct {
	is    *schema
	value string // with names as {namespace}name
	kids  []*data
}

func (s *schema) kid(name string) *schema {
	for _, k := range s.kids {
		if k.name == name {
			return k
		}
	}
	return nil
}

func (d *data) kid(name string) *data {
	for _, k := range d.kids {
		if k.is.name == name {
			return k
		}
	}
	return nil
}

func (d *data) key() string {
	out := ""
	for _, k := range d.is.keys {
		if c := d.kid(k); c != nil {
			out += "[" + c.value + "]"
		}
	}
	if d.is.kind == leafList {
		out = "[" + d.value + "]"
	}
	return out
}

func (d *data) clone() *data {
	c := &data{is: d.is, value: d.value}
	for _, k := range d.kids {
		c.kids = append(c.kids, k.clone())
	}
	return c
}

// element is XML as it came.
type element struct {
	name  xml.Name
	op    string
	text  string
	scope map[string]string
	kids  []*element
}

func (e *element) kid(name string) *element {
	for _, k := range e.kids {
		if k.name.Local == name {
			return k
		}
	}
	return nil
}

func (e *element) says(name string) string {
	if k := e.kid(name); k != nil {
		return k.text
	}
	return ""
}

func parse(raw []byte) (*element, error) {
	d := xml.NewDecoder(bytes.NewReader(raw))
	top := &element{scope: map[string]string{}}
	open := []*element{top}
	for {
		tok, err := d.Token()
		if err == io.EOF {
			return top, nil
		}
		if err != nil {
			return nil, err
		}
		up := open[len(open)-1]
		switch t := tok.(type) {
		case xml.StartElement:
			e := &element{name: t.Name, scope: map[string]string{}}
			for k, v := range up.scope {
				e.scope[k] = v
			}
			for _, a := range t.Attr {
				switch {
				case a.Name.Space == "xmlns":
					e.scope[a.Name.Local] = a.Value
				case a.Name.Local == "operation" && a.Name.Space == nsNetconf:
					e.op = a.Value
				case a.Name.Local == "message-id":
					e.kids = append(e.kids, &element{name: xml.Name{Local: "@id"}, text: a.Value})
				}
			}
			up.kids = append(up.kids, e)
			open = append(open, e)
		case xml.EndElement:
			up.text = strings.TrimSpace(up.text)
			open = open[:len(open)-1]
		case xml.CharData:
			up.text += string(t)
		}
	}
}

// fault is an rpc-error to be.
type fault struct{ tag, path, message, session string }

func (f fault) Error() string { return f.tag + ": " + f.message }

// faults are all that is wrong with an edit.
type faults []fault

func (f faults) Error() string { return f[0].Error() }

var prefixed = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_.-]*):([A-Za-z_])`)

// value reads a leaf's value: where it holds names, each prefix has to be declared.
func (e *element) value(s *schema, path string) (string, *fault) {
	if s.number[1] > 0 {
		if n, err := strconv.Atoi(e.text); err != nil || n < s.number[0] || n > s.number[1] {
			return "", &fault{"invalid-value", path, fmt.Sprintf("%q is not a number from %d to %d", e.text, s.number[0], s.number[1]), ""}
		}
	}
	if !s.names {
		return e.text, nil
	}
	var wrong *fault
	out := prefixed.ReplaceAllStringFunc(e.text, func(m string) string {
		p, rest, _ := strings.Cut(m, ":")
		space := e.scope[p]
		if space == "" {
			wrong = &fault{"invalid-value", path, fmt.Sprintf("the prefix %q is not declared", p), ""}
		}
		return "{" + space + "}" + rest
	})
	return out, wrong
}

// edit lays an edit over a datastore (RFC 6241 §7.2), and lists what is wrong with it.
func edit(into *data, by *element, op, path string) (wrong faults) {
	for _, e := range by.kids {
		if strings.HasPrefix(e.name.Local, "@") {
			continue
		}
		here := path + "/mast:" + e.name.Local
		s := into.is.kid(e.name.Local)
		if s == nil || e.name.Space != nsMast {
			wrong = append(wrong, fault{"unknown-element", here, e.name.Local + " is not known here", ""})
			continue
		}
		do := op
		if e.op != "" {
			do = e.op
		}
		n := &data{is: s}
		if s.kind == leaf || s.kind == leafList {
			if do != "delete" && do != "remove" || s.kind == leafList {
				v, bad := e.value(s, here)
				if bad != nil {
					wrong = append(wrong, *bad)
					continue
				}
				n.value = v
			}
		}
		missing := false
		for _, k := range s.keys {
			if c := e.kid(k); c == nil {
				wrong = append(wrong, fault{"missing-element", here, "an entry of " + s.name + " needs its " + k, ""})
				missing = true
			} else {
				n.kids = append(n.kids, &data{is: s.kid(k), value: c.text})
			}
		}
		if missing {
			continue
		}
		here += n.key()
		at := slices.IndexFunc(into.kids, func(k *data) bool { return k.is == s && (k.key() == n.key() || s.kind == leaf || s.kind == container) })
		fresh := func() {
			if bad := edit(n, e, "merge", here); bad != nil {
				wrong = append(wrong, bad...)
			}
		}
		switch do {
		case "delete", "remove":
			if at < 0 && do == "delete" {
				wrong = append(wrong, fault{"data-missing", here, "there is nothing to delete", ""})
			}
			if at >= 0 {
				into.kids = slices.Delete(into.kids, at, at+1)
			}
			continue
		case "create":
			if at >= 0 {
				wrong = append(wrong, fault{"data-exists", here, "it is there already", ""})
				continue
			}
		}
		if s.choice != "" {
			into.kids = slices.DeleteFunc(into.kids, func(k *data) bool { return k.is.choice == s.choice && k.is != s })
			at = slices.IndexFunc(into.kids, func(k *data) bool { return k.is == s })
		}
		switch {
		case at < 0:
			fresh()
			into.kids = append(into.kids, n)
		case do == "replace" || s.kind == leaf || s.kind == leafList:
			fresh()
			into.kids[at] = n
		default:
			wrong = append(wrong, edit(into.kids[at], e, do, here)...)
		}
	}
	return wrong
}

// validate tells what is wrong with a configuration as a whole.
func validate(top *data) (wrong faults) {
	mast := top.kid("mast")
	if mast == nil || mast.kid("name") == nil {
		return faults{{"data-missing", "/mast:mast/mast:name", "a mast cannot be without its name", ""}}
	}
	if mast.kid("user") == nil {
		wrong = append(wrong, fault{"data-missing", "/mast:mast/mast:user", "nobody could sign in", ""})
	}
	for _, k := range mast.kids {
		if k.is.name == "alarm" && k.kid("watches") == nil {
			wrong = append(wrong, fault{"data-missing", "/mast:mast/mast:alarm" + k.key(), "an alarm has to watch something", ""})
		}
	}
	return wrong
}

// print writes a datastore as the unit does: with its own prefixes, without defaults,
// with lists whose order does not count in the order of their keys.
func (d *data) print(b *strings.Builder, p prefixes) {
	kids := slices.Clone(d.kids)
	slices.SortStableFunc(kids, func(a, c *data) int {
		if a.is == c.is && !a.is.byUser {
			return strings.Compare(a.key(), c.key())
		}
		return slices.Index(d.is.kids, a.is) - slices.Index(d.is.kids, c.is)
	})
	for _, k := range kids {
		var inner strings.Builder
		k.print(&inner, p)
		if k.is.kind == leaf && k.value == k.is.def && k.is.def != "" || k.is.kind == container && inner.Len() == 0 {
			continue
		}
		v := k.value
		for space, prefix := range p {
			v = strings.ReplaceAll(v, "{"+space+"}", prefix+":")
		}
		b.WriteString("<" + p[nsMast] + ":" + k.is.name + ">")
		_ = xml.EscapeText(b, []byte(v))
		b.WriteString(inner.String() + "</" + p[nsMast] + ":" + k.is.name + ">")
	}
}

// prefixes are a unit's own, by namespace.
type prefixes map[string]string

func (p prefixes) declared() string {
	var all []string
	for space, prefix := range p {
		all = append(all, fmt.Sprintf(" xmlns:%s=%q", prefix, space))
	}
	slices.Sort(all)
	return strings.Join(all, "")
}

// text is a datastore as it is kept.
func (d *data) text() string {
	var b strings.Builder
	p := prefixes{nsMast: "m", nsKinds: "k"}
	d.print(&b, p)
	return "<config" + p.declared() + ">" + b.String() + "</config>"
}

// read makes a datastore of a document around which one element stands.
func read(src string) (*data, error) {
	d := &data{is: model}
	if src == "" {
		return d, nil // a datastore that holds nothing
	}
	top, err := parse([]byte(src))
	if err != nil {
		return nil, err
	}
	if wrong := edit(d, top.kids[0], "merge", ""); len(wrong) > 0 {
		return nil, wrong
	}
	if wrong := validate(d); len(wrong) > 0 {
		return nil, wrong
	}
	return d, nil
}

// pick is what of a datastore a subtree filter wants: whole top elements (RFC 6241 §6).
func (d *data) pick(filter *element) *data {
	out := &data{is: d.is}
	for _, k := range d.kids {
		if slices.ContainsFunc(filter.kids, func(e *element) bool { return e.name.Local == k.is.name }) {
			out.kids = append(out.kids, k)
		}
	}
	return out
}
