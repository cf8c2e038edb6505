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
// out as a default, of what there is one at a time. texts are the modules by name. Of
// modules only the top elements named in top are drafted; nil: all. missing are modules
// that others need and that were not there.
func Modules(texts map[string]string, top []string) (out []Rule, missing []string, err error) {
	ms := yang.NewModules()
	var names []string
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if err := ms.Parse(texts[name], name+".yang"); err != nil {
			return nil, nil, fmt.Errorf("module %s: %w", name, err)
		}
		names = append(names, name)
	}
	for _, e := range ms.Process() {
		missing = append(missing, e.Error())
	}
	for _, name := range names {
		m := ms.Modules[name]
		if m == nil {
			continue // a submodule, or one that could not be read
		}
		e := yang.ToEntry(m)
		for _, k := range children(e) {
			if top == nil || slices.Contains(top, k.Name) {
				module(&out, k, nil, "")
			}
		}
	}
	return out, missing, nil
}

// children are an element's, in the order of their names: the library keeps no other.
func children(e *yang.Entry) (out []*yang.Entry) {
	for _, k := range e.Dir {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b *yang.Entry) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// module drafts the rules of an element and of what lies below it.
func module(out *[]Rule, e *yang.Entry, path []string, choice string) {
	if e.ReadOnly() || e.Kind == yang.NotificationEntry || e.RPC != nil {
		return
	}
	switch {
	case e.IsChoice():
		for _, c := range children(e) {
			for _, k := range caseOf(c) {
				module(out, k, path, e.Name)
			}
		}
		return
	case e.IsCase():
		for _, k := range children(e) {
			module(out, k, path, choice)
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
		module(out, k, below, "")
	}
}

// caseOf is what a case holds; one that is short for itself holds itself.
func caseOf(c *yang.Entry) []*yang.Entry {
	if c.IsCase() {
		return children(c)
	}
	return []*yang.Entry{c}
}
