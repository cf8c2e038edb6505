package visit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// Foreign says what speaks for a version's being another device's, though it
// stands under this one: the host name in it, or the hardware it was taken from.
func Foreign(ctx context.Context, q *store.Q, d core.Device, what, host string, from core.Pull) (warnings []string, err error) {
	for _, h := range []string{host, from.Host} {
		if h == "" || h == d.Name || len(warnings) > 0 {
			continue
		}
		others, err := q.Named(ctx, h, d.ID)
		if err != nil {
			return nil, err
		}
		if len(others) > 0 && (d.Host != h || slices.Contains(others, h)) {
			warnings = append(warnings, fmt.Sprintf("%s has the host name %s, which is that of %s", what, h, strings.Join(others, ", ")))
		}
	}
	if from.Serial != "" && !slices.Contains(d.Serials, from.Serial) {
		others, err := q.WithSerial(ctx, from.Serial, d.ID)
		if err != nil {
			return nil, err
		}
		if len(others) > 0 {
			warnings = append(warnings, fmt.Sprintf("%s was taken from the unit with serial %s, which is that of %s", what, from.Serial, strings.Join(others, ", ")))
		}
	}
	return warnings, nil
}

// HostOf is the host name that a configuration gives its device; empty when the
// dialect does not say where it stands.
func HostOf(doc *dialect.Doc, src string) string {
	if doc.Opaque() {
		return ""
	}
	_, top, err := doc.Parse(src)
	if err != nil {
		return ""
	}
	for it := range every(top) {
		if h := it.Hostname(); h != "" {
			return h
		}
	}
	for _, f := range (rules.Masker{Table: doc.Table, Tag: func(string) string { return "" }}).KeyFacts(top, doc.KeyFacts()) {
		if f.Name == "host name" && len(f.Values) == 1 {
			return f.Values[0]
		}
	}
	return ""
}

// every goes over all items below one.
func every(top *rules.Item) func(yield func(*rules.Item) bool) {
	return func(yield func(*rules.Item) bool) {
		var walk func(it *rules.Item) bool
		walk = func(it *rules.Item) bool {
			for _, k := range it.Kids {
				if !yield(k) || !walk(k) {
					return false
				}
			}
			return true
		}
		walk(top)
	}
}

// CutsOff says in what way a configuration would keep the service from ever
// reaching the device again: the account it signs in with, the address it goes
// to, or every line by which the device is reached, is in what runs and not in
// what is to run.
func CutsOff(doc *dialect.Doc, d core.Device, user, have, want string) (warnings []string) {
	if doc.Opaque() || have == "" {
		return nil
	}
	_, is, err := doc.Parse(have)
	if err != nil {
		return nil
	}
	_, should, err := doc.Parse(want)
	if err != nil {
		return nil
	}
	holds := func(top *rules.Item, word string) bool {
		for it := range every(top) {
			if slices.ContainsFunc(strings.FieldsFunc(it.Line, func(r rune) bool { return strings.ContainsRune(" \t/\"'<>;", r) }), func(w string) bool { return w == word }) {
				return true
			}
		}
		return false
	}
	ways := func(top *rules.Item) (n int) {
		for it := range every(top) {
			if it.Rule != nil && it.Rule.Reach {
				n++
			}
		}
		return n
	}
	if user != "" && holds(is, user) && !holds(should, user) {
		warnings = append(warnings, fmt.Sprintf("it takes away the account %s, by which this service signs in: nothing here could reach the device afterwards", user))
	}
	if holds(is, d.Address) && !holds(should, d.Address) {
		warnings = append(warnings, fmt.Sprintf("it takes away the address %s, by which this service reaches the device", d.Address))
	}
	if ways(is) > 0 && ways(should) == 0 {
		warnings = append(warnings, "it takes away every line by which the device is reached")
	}
	return warnings
}
