// Package heron simulates the Heron family of firewalls: NETCONF over SSH
// (RFC 6241, 6242), configured by the IETF's YANG models (RFC 7317, 8343, 8344,
// 8519, 8530), with a candidate, a startup datastore, logical elements, and a
// second unit that may answer in the first one's place.
package heron

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Namespaces of the models spoken here.
const (
	nsNetconf = "urn:ietf:params:xml:ns:netconf:base:1.0"
	nsSystem  = "urn:ietf:params:xml:ns:yang:ietf-system"
	nsIf      = "urn:ietf:params:xml:ns:yang:ietf-interfaces"
	nsIP      = "urn:ietf:params:xml:ns:yang:ietf-ip"
	nsACL     = "urn:ietf:params:xml:ns:yang:ietf-access-control-list"
	nsLNE     = "urn:ietf:params:xml:ns:yang:ietf-logical-network-element"
	nsHW      = "urn:ietf:params:xml:ns:yang:ietf-hardware"
	nsIfType  = "urn:ietf:params:xml:ns:yang:iana-if-type"
)

// node is an element of a datastore.
type node struct {
	Space, Name string
	Text        string
	Op          string // the operation attribute of an edit
	Kids        []*node
}

// keys of the lists of the models.
var keys = map[string]string{"interface": "name", "address": "ip", "acl": "name", "ace": "name", "user": "name", "server": "name", "logical-network-element": "name", "component": "name"}

func (n *node) key() string {
	k, ok := keys[n.Name]
	if !ok {
		return ""
	}
	if c := n.kid(k); c != nil {
		return c.Text
	}
	return ""
}

func (n *node) kid(name string) *node {
	for _, k := range n.Kids {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// at goes down a path of names; a name may have a key behind a blank.
func (n *node) at(path ...string) *node {
	for _, p := range path {
		name, key, keyed := strings.Cut(p, " ")
		i := slices.IndexFunc(n.Kids, func(k *node) bool { return k.Name == name && (!keyed || k.key() == key) })
		if i < 0 {
			return nil
		}
		n = n.Kids[i]
	}
	return n
}

func (n *node) clone() *node {
	c := *n
	c.Kids = nil
	for _, k := range n.Kids {
		c.Kids = append(c.Kids, k.clone())
	}
	return &c
}

// parse reads the elements of a document.
func parse(raw []byte) (*node, error) {
	d := xml.NewDecoder(bytes.NewReader(raw))
	top := &node{}
	open := []*node{top}
	prefixes := []map[string]string{{}}
	for {
		tok, err := d.Token()
		if err == io.EOF {
			return top, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := tok.(type) {
		case xml.StartElement:
			n := &node{Space: t.Name.Space, Name: t.Name.Local}
			known := map[string]string{}
			for k, v := range prefixes[len(prefixes)-1] {
				known[k] = v
			}
			for _, a := range t.Attr {
				switch {
				case a.Name.Space == "xmlns":
					known[a.Name.Local] = a.Value
				case a.Name.Local == "operation" && a.Name.Space == nsNetconf:
					n.Op = a.Value
				case a.Name.Local == "type" || a.Name.Local == "message-id":
					n.Kids = append(n.Kids, &node{Name: "@" + a.Name.Local, Text: a.Value})
				}
			}
			up := open[len(open)-1]
			up.Kids = append(up.Kids, n)
			open, prefixes = append(open, n), append(prefixes, known)
		case xml.EndElement:
			n := open[len(open)-1]
			n.Text = strings.TrimSpace(n.Text)
			// An identity is kept without the prefix it came under.
			if p, local, ok := strings.Cut(n.Text, ":"); ok && prefixes[len(prefixes)-1][p] == nsIfType {
				n.Text = "ianaift:" + local
			}
			open, prefixes = open[:len(open)-1], prefixes[:len(prefixes)-1]
		case xml.CharData:
			open[len(open)-1].Text += string(t)
		}
	}
}

// print writes elements, in the manner of style.
func (n *node) print(b *strings.Builder, s style, space string, depth int) {
	for _, k := range n.Kids {
		if strings.HasPrefix(k.Name, "@") {
			continue
		}
		name, decl := k.Name, ""
		if s.prefixes {
			name = s.prefix(k.Space) + ":" + name
		} else if k.Space != space {
			decl = ` xmlns="` + k.Space + `"`
		}
		if strings.HasPrefix(k.Text, "ianaift:") {
			decl += ` xmlns:ianaift="` + nsIfType + `"`
		}
		if s.chatty {
			b.WriteString("\n" + strings.Repeat("\t", depth))
			if depth == 2 {
				b.WriteString("<!-- " + k.Name + " -->\n")
			}
		}
		b.WriteString("<" + name + decl + ">")
		_ = xml.EscapeText(b, []byte(k.Text))
		k.print(b, s, k.Space, depth+1)
		b.WriteString("</" + name + ">")
	}
	if s.chatty && len(n.Kids) > 0 {
		b.WriteString("\n")
	}
}

// style is how a unit writes XML: every one is right, and none like another.
type style struct {
	prefixes bool // prefixes everywhere, declared on the envelope
	chatty   bool // white space and comments
	chunk    int  // how long chunks are, at most
	old      bool // speaks NETCONF 1.0 only
}

// nsMonitor is RFC 6022's.
const nsMonitor = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"

var known = []string{nsNetconf, nsSystem, nsIf, nsIP, nsACL, nsLNE, nsHW, nsMonitor}

func (s style) prefix(space string) string {
	return "p" + strconv.Itoa(slices.Index(known, space))
}

func (s style) declarations() string {
	var b strings.Builder
	for _, k := range known {
		fmt.Fprintf(&b, " xmlns:%s=%q", s.prefix(k), k)
	}
	return b.String()
}

// filter keeps what a subtree filter picks (RFC 6241 §6).
func filter(n, f *node) *node {
	out := &node{Space: n.Space, Name: n.Name, Text: n.Text}
	for _, want := range f.Kids {
		if strings.HasPrefix(want.Name, "@") {
			continue
		}
		for _, k := range n.Kids {
			if k.Name != want.Name || want.Space != "" && k.Space != want.Space {
				continue
			}
			// A leaf with text picks entries (content match, §6.2.5).
			if !slices.ContainsFunc(want.Kids, func(c *node) bool {
				return len(c.Kids) == 0 && c.Text != "" && !strings.HasPrefix(c.Name, "@") && (k.kid(c.Name) == nil || k.kid(c.Name).Text != c.Text)
			}) {
				rest := &node{}
				matched := false
				for _, c := range want.Kids {
					if strings.HasPrefix(c.Name, "@") {
						continue
					}
					if len(c.Kids) == 0 && c.Text != "" {
						matched = true
					}
					rest.Kids = append(rest.Kids, c)
				}
				onlyMatches := matched && !slices.ContainsFunc(rest.Kids, func(c *node) bool { return c.Text == "" })
				if len(rest.Kids) == 0 || onlyMatches {
					out.Kids = append(out.Kids, k)
				} else if part := filter(k, rest); len(part.Kids) > 0 {
					out.Kids = append(out.Kids, part)
				}
			}
		}
	}
	return out
}

// fault is an rpc-error to be.
type fault struct{ kind, tag, path, message, info string }

func (f fault) Error() string { return f.tag + ": " + f.message }

// edit lays an edit over a datastore (RFC 6241 §7.2).
func edit(into, by *node, op string, path string) error {
	for _, e := range by.Kids {
		if strings.HasPrefix(e.Name, "@") {
			continue
		}
		here := path + "/" + e.Name
		if k := e.key(); k != "" {
			here += "[" + k + "]"
		}
		do := op
		if e.Op != "" {
			do = e.Op
		}
		at := slices.IndexFunc(into.Kids, func(k *node) bool {
			if k.Name != e.Name || k.Space != e.Space {
				return false
			}
			if _, list := keys[e.Name]; list && len(e.Kids) > 0 {
				return k.key() == e.key()
			}
			return true
		})
		clean := func() *node { c := e.clone(); c.strip(); return c }
		switch do {
		case "delete", "remove":
			if at < 0 && do == "delete" {
				return fault{"application", "data-missing", here, "there is nothing to delete", ""}
			}
			if at >= 0 {
				into.Kids = slices.Delete(into.Kids, at, at+1)
			}
		case "create":
			if at >= 0 {
				return fault{"application", "data-exists", here, "it is there already", ""}
			}
			into.Kids = append(into.Kids, clean())
		case "replace":
			if at >= 0 {
				into.Kids[at] = clean()
			} else {
				into.Kids = append(into.Kids, clean())
			}
		default:
			if at < 0 {
				n := &node{Space: e.Space, Name: e.Name, Text: e.Text}
				into.Kids = append(into.Kids, n)
				at = len(into.Kids) - 1
			}
			into.Kids[at].Text = e.Text
			if err := edit(into.Kids[at], e, do, here); err != nil {
				return err
			}
		}
	}
	return nil
}

func (n *node) strip() {
	n.Op = ""
	n.Kids = slices.DeleteFunc(n.Kids, func(k *node) bool { return strings.HasPrefix(k.Name, "@") })
	for _, k := range n.Kids {
		k.strip()
	}
}

// validate tells what is wrong with a configuration.
func validate(top *node) error {
	sys := top.at("system")
	if sys == nil || sys.kid("hostname") == nil || sys.kid("hostname").Text == "" {
		return fault{"application", "data-missing", "/sys:system/sys:hostname", "a unit cannot be without its name", ""}
	}
	if err := validateElement(top, ""); err != nil {
		return err
	}
	if lne := top.at("logical-network-elements"); lne != nil {
		for _, e := range lne.Kids {
			if root := e.kid("root"); root != nil {
				if err := validateElement(root, "/lne:logical-network-element["+e.key()+"]"); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func validateElement(top *node, path string) error {
	lanes := map[string]bool{}
	if ifs := top.at("interfaces"); ifs != nil {
		for _, i := range ifs.Kids {
			lanes[i.key()] = true
			where := path + "/if:interfaces/if:interface[" + i.key() + "]"
			if i.key() == "" {
				return fault{"application", "missing-element", where, "an interface needs its name", ""}
			}
			if ip := i.kid("ipv4"); ip != nil {
				if m := ip.kid("mtu"); m != nil {
					if v, err := strconv.Atoi(m.Text); err != nil || v < 576 || v > 9216 {
						return fault{"application", "invalid-value", where + "/ip:ipv4/ip:mtu", fmt.Sprintf("%q is not a number from 576 to 9216", m.Text), ""}
					}
				}
			}
		}
	}
	if acls := top.at("acls"); acls != nil {
		if points := acls.at("attachment-points"); points != nil {
			for _, p := range points.Kids {
				id := p.kid("interface-id")
				if id == nil || !lanes[id.Text] {
					return fault{"application", "data-missing", path + "/acl:acls/acl:attachment-points", "an attachment point refers to an interface that is not there", "<bad-element>interface-id</bad-element>"}
				}
			}
		}
		for _, a := range acls.Kids {
			if a.Name != "acl" {
				continue
			}
			aces := a.kid("aces")
			if aces == nil {
				continue
			}
			for _, e := range aces.Kids {
				f := e.at("actions", "forwarding")
				if f == nil || f.Text != "accept" && f.Text != "drop" {
					return fault{"application", "invalid-value", path + "/acl:acls/acl:acl[" + a.key() + "]/acl:aces/acl:ace[" + e.key() + "]", "forwarding is accept or drop", ""}
				}
			}
		}
	}
	return nil
}

// lines is a configuration a line at a time, for the control port.
func (n *node) lines() []string {
	var out []string
	var walk func(path string, n *node)
	walk = func(path string, n *node) {
		for _, k := range n.Kids {
			here := path + "/" + k.Name
			if key := k.key(); key != "" {
				here += "[" + key + "]"
			}
			if len(k.Kids) == 0 {
				here += "=" + k.Text
				out = append(out, here)
			}
			walk(here, k)
		}
	}
	walk("", n)
	return out
}
