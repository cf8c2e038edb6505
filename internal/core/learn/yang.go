package learn

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/openconfig/goyang/pkg/yang"
)

// Modules drafts the rules of documents from the YANG modules that a server shows
// (RFC 7950): what tells the entries of a list apart, where order counts, what is left
// out as a default, of what there is one at a time, and what is secret because nobody may
// read it by default (RFC 8341 §3.4.4). texts are the modules by name; all of them are
// drafted, whether there is data of them or not. A path that modules draft differently, for
// elements of one name in several namespaces, keeps only what they agree on, and every
// secret. notes are modules that others need and that were not there, and such paths.
func Modules(texts map[string]string) (out []Rule, notes []string, err error) {
	ms := yang.NewModules()
	var names []string
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if err := ms.Parse(texts[name], name+".yang"); err != nil {
			return nil, nil, fmt.Errorf("module %s: %w", name, err)
		}
		names = append(names, name)
	}
	for _, e := range ms.Process() {
		notes = append(notes, e.Error())
	}
	for _, name := range names {
		m := ms.Modules[name]
		if m == nil {
			continue // a submodule, or one that could not be read
		}
		e := yang.ToEntry(m)
		for _, k := range children(e) {
			module(&out, k, nil, "", false)
		}
	}
	out, apart := onePath(out)
	return out, append(notes, apart...), nil
}

// onePath makes one rule of those of one path: a rule's path speaks of names without their
// namespaces. It keeps what all of them say, and every secret. apart names the paths of
// which something was left out.
func onePath(in []Rule) (out []Rule, apart []string) {
	at := map[string]int{}
	for _, r := range in {
		i, known := at[r.Path]
		if !known {
			at[r.Path] = len(out)
			out = append(out, r)
			continue
		}
		var both []Key
		lost := false
		for _, k := range append(slices.Clone(out[i].Keys), r.Keys...) {
			switch agreed := slices.Contains(out[i].Keys, k) && slices.Contains(r.Keys, k); {
			case !agreed && k.Name != "secret":
				lost = true
			case !slices.Contains(both, k):
				both = append(both, k)
			}
		}
		if out[i].Keys = both; lost {
			apart = append(apart, fmt.Sprintf("%s is said of elements in several namespaces, and differently: only what "+
				"their modules agree on is drafted", r.Path))
		}
	}
	return out, apart
}

// children are an element's, in the order of their names: the library keeps no other.
func children(e *yang.Entry) (out []*yang.Entry) {
	for _, k := range e.Dir {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b *yang.Entry) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// denied tells whether nobody may read the element by default (RFC 8341 §3.4.4).
func denied(e *yang.Entry) bool {
	return slices.ContainsFunc(e.Exts, func(s *yang.Statement) bool {
		_, word, _ := strings.Cut(s.Keyword, ":")
		return word == "default-deny-all"
	})
}

// module drafts the rules of an element and of what lies below it. choice is the choice that
// the element is a whole case of; secret: nobody may read it by default.
func module(out *[]Rule, e *yang.Entry, path []string, choice string, secret bool) {
	secret = secret || denied(e)
	if e.ReadOnly() || e.Kind == yang.NotificationEntry || e.RPC != nil {
		return
	}
	switch {
	case e.IsChoice():
		for _, c := range children(e) {
			// What one case holds stands together (RFC 7950 §7.9.2): only an element that is
			// a case by itself has the others for rivals.
			of, rival := caseOf(c), e.Name
			if len(of) > 1 {
				rival = ""
			}
			for _, k := range of {
				module(out, k, path, rival, secret || denied(c))
			}
		}
		return
	case e.IsCase():
		for _, k := range children(e) {
			module(out, k, path, choice, secret)
		}
		return
	}
	r := Rule{}
	key := func(name, value string) { r.Keys = append(r.Keys, Key{name, value}) }
	seg := e.Name
	byUser := e.ListAttr != nil && e.ListAttr.OrderedByUser
	switch {
	case e.IsList():
		for _, k := range strings.Fields(e.Key) {
			seg += " {" + k + "}"
		}
		r.Why = append(r.Why, "a list, its module says")
	case e.IsLeafList():
		seg += " {" + e.Name + "}"
		r.Why = append(r.Why, "a leaf-list, its module says")
	case e.IsLeaf():
		seg += " <" + e.Name + ">"
		if d, ok := e.SingleDefaultValue(); ok && d != "" {
			key("default", quote(d))
			r.Why = append(r.Why, "its default, its module says")
		}
	}
	if secret && (e.IsLeaf() || e.IsLeafList()) {
		key("secret", "["+e.Name+"]")
		r.Why = append(r.Why, "nobody may read it by default, its module says")
	}
	if byUser {
		key("sequence", quote(e.Name))
	}
	if choice != "" {
		key("choice", quote(choice))
		r.Why = append(r.Why, "one of a choice, its module says")
	}
	below := append(slices.Clone(path), seg)
	r.Path = strings.Join(below, " / ")
	isKey := e.Parent != nil && e.Parent.IsList() && slices.Contains(strings.Fields(e.Parent.Key), e.Name)
	if (len(r.Keys) > 0 || e.IsList() || e.IsLeafList()) && !isKey {
		*out = append(*out, r)
	}
	for _, k := range children(e) {
		module(out, k, below, "", secret)
	}
}

// caseOf is what a case holds; one that is short for itself holds itself.
func caseOf(c *yang.Entry) []*yang.Entry {
	if c.IsCase() {
		return children(c)
	}
	return []*yang.Entry{c}
}
