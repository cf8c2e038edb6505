// Package tern simulates the Tern family of routers: its configuration
// language, its command line and its manners. It knows nothing of the product
// that talks to it, so what it reports about that product is evidence.
//
// A Tern configuration is made of indented blocks. Changes take effect line by
// line and only ever add or take away; there is no "replace". Lines are kept
// in an order of the device's own, settings at their default value are left
// out, and creating a lane writes a guard line nobody typed.
package tern

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
)

// node is one line of the configuration with what hangs below it.
type node struct {
	key  string   // the words that tell it from its siblings
	line string   // the words as shown
	text []string // verbatim lines of a placard
	kids []*node
	spec *spec
}

// spec says how one kind of line behaves on the device.
type spec struct {
	word    string // leading words; "" takes any line
	ident   int    // how many words identify it, counted from the first
	over    bool   // typing it again with another value replaces the value
	def     string // the whole line at its default, which is left out
	kids    []*spec
	block   bool
	ordered bool
	writes  []string // lines the device adds by itself when the block is made
	fixed   bool     // cannot be cancelled
	check   func(c *Config, words []string) error
}

// Config is a Tern configuration held in memory.
type Config struct {
	root []*node
}

var rootSpecs []*spec

func init() {
	sieveUse := func(dir string) *spec {
		return &spec{word: "sieve " + dir, ident: 2, over: true, check: func(c *Config, w []string) error {
			if len(w) != 3 {
				return fmt.Errorf("sieve %s takes one name", dir)
			}
			if c.find("sieve "+w[2]) == nil {
				return fmt.Errorf("no sieve is named %s", w[2])
			}
			return nil
		}}
	}
	note := &spec{word: "note", ident: 1, over: true, check: quoted}
	sealed := func(word string) *spec {
		return &spec{word: word, ident: 1, over: true, check: func(_ *Config, w []string) error {
			if len(w) != 3 || (w[1] != "sealed" && w[1] != "open") {
				return fmt.Errorf("%s takes: sealed DIGEST, or: open WORD", word)
			}
			return nil
		}}
	}
	rootSpecs = []*spec{
		{word: "name", ident: 1, over: true, fixed: true, check: nameWord},
		{word: "domain", ident: 1, over: true, check: words(2)},
		{word: "placard", ident: 1, over: true},
		sealed("mast-word"),
		{word: "clock", ident: 1, block: true, kids: []*spec{
			{word: "zone", ident: 1, over: true, def: "zone UTC", check: words(2)},
			{word: "mark", ident: 2, check: address(1)},
		}},
		{word: "crew", ident: 2, block: true, check: nameWord, kids: []*spec{
			{word: "rank", ident: 1, over: true, def: "rank deck", check: oneOf(1, "deck", "master")},
			sealed("word"),
			{word: "badge", ident: 3, check: words(3)},
		}},
		{word: "roster", ident: 2, block: true, check: nameWord, kids: []*spec{
			{word: "", ident: 1, check: prefix(0)},
		}},
		{word: "sieve", ident: 2, block: true, ordered: true, check: nameWord, kids: []*spec{
			{word: "pass", ident: -1, check: sieveEntry},
			{word: "drop", ident: -1, check: sieveEntry},
		}},
		{word: "lane", ident: 2, block: true, writes: []string{"guard strict"}, check: nameWord, kids: []*spec{
			note,
			{word: "berth", ident: 1, check: prefix(1)},
			{word: "also-berth", ident: 2, check: prefix(1)},
			{word: "mtu", ident: 1, over: true, def: "mtu 1500", check: number(1, 576, 9216)},
			{word: "guard", ident: 1, over: true, check: oneOf(1, "strict", "loose")},
			sieveUse("in"),
			sieveUse("out"),
			{word: "hull", ident: 1, over: true, check: hull},
			{word: "shut", ident: 1, check: words(1)},
		}},
		{word: "course", ident: 2, over: true, check: course},
		{word: "flock", ident: 2, block: true, check: numberName, kids: []*spec{
			{word: "herald", ident: 1, over: true, check: address(1)},
			{word: "neighbour", ident: 2, block: true, check: address(1), kids: []*spec{
				note,
				{word: "number", ident: 1, over: true, check: number(1, 1, 4294967295)},
				sealed("key"),
				sieveUse("in"),
				sieveUse("out"),
			}},
		}},
		{word: "lookout", ident: 1, block: true, kids: []*spec{
			{word: "community", ident: 2, check: words(2)},
			{word: "post", ident: 2, check: address(1)},
		}},
	}
}

func words(n int) func(*Config, []string) error {
	return func(_ *Config, w []string) error {
		if len(w) != n {
			return fmt.Errorf("%s takes %d word(s) after it", w[0], n-1)
		}
		return nil
	}
}

func nameWord(_ *Config, w []string) error {
	if len(w) != 2 {
		return fmt.Errorf("%s takes one name", w[0])
	}
	for i, r := range w[1] {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == '-' || r == '_')) {
			return fmt.Errorf("%q is no name: letters first, then letters, digits, - and _", w[1])
		}
	}
	return nil
}

func numberName(c *Config, w []string) error { return number(1, 1, 4294967295)(c, w) }

func number(at int, low, high int64) func(*Config, []string) error {
	return func(_ *Config, w []string) error {
		var n int64
		if len(w) != at+1 {
			return fmt.Errorf("%s takes one number", w[0])
		}
		if _, err := fmt.Sscanf(w[at], "%d", &n); err != nil || fmt.Sprint(n) != w[at] || n < low || n > high {
			return fmt.Errorf("%q is not a number from %d to %d", w[at], low, high)
		}
		return nil
	}
}

func oneOf(at int, allowed ...string) func(*Config, []string) error {
	return func(_ *Config, w []string) error {
		if len(w) != at+1 || !slices.Contains(allowed, w[at]) {
			return fmt.Errorf("%s takes one of: %s", w[0], strings.Join(allowed, ", "))
		}
		return nil
	}
}

func address(at int) func(*Config, []string) error {
	return func(_ *Config, w []string) error {
		if len(w) != at+1 {
			return fmt.Errorf("%s takes one address", w[0])
		}
		if _, err := netip.ParseAddr(w[at]); err != nil {
			return fmt.Errorf("%q is no address", w[at])
		}
		return nil
	}
}

// hull is an address burnt into one unit (IEEE 802).
func hull(_ *Config, w []string) error {
	if len(w) != 2 {
		return fmt.Errorf("hull takes one address, like 02:00:5e:10:00:01")
	}
	if a, err := net.ParseMAC(w[1]); err != nil || len(a) != 6 {
		return fmt.Errorf("%q is no hull address", w[1])
	}
	return nil
}

func prefix(at int) func(*Config, []string) error {
	return func(_ *Config, w []string) error {
		if len(w) != at+1 {
			return fmt.Errorf("an address with its length is wanted, like 10.0.0.1/24")
		}
		if _, err := netip.ParsePrefix(w[at]); err != nil {
			return fmt.Errorf("unknown word %q", strings.Join(w, " "))
		}
		return nil
	}
}

func quoted(_ *Config, w []string) error {
	if len(w) != 2 {
		return fmt.Errorf(`%s takes a text between "quotes"`, w[0])
	}
	s := w[1]
	if len(s) < 2 || s[0] != '"' || s[len(s)-1] != '"' || strings.Contains(s[1:len(s)-1], `"`) {
		return fmt.Errorf(`%s takes a text between "quotes"`, w[0])
	}
	return nil
}

func course(_ *Config, w []string) error {
	if len(w) != 4 && len(w) != 6 || w[2] != "via" || len(w) == 6 && w[4] != "metric" {
		return fmt.Errorf("course takes: PREFIX via ADDRESS [metric NUMBER]")
	}
	if _, err := netip.ParsePrefix(w[1]); err != nil {
		return fmt.Errorf("%q is no prefix", w[1])
	}
	if _, err := netip.ParseAddr(w[3]); err != nil {
		return fmt.Errorf("%q is no address", w[3])
	}
	return nil
}

// sieveEntry checks: pass|drop PROTOCOL from SIDE to SIDE [port NUMBER], with
// SIDE one of any, a prefix, or: roster NAME.
func sieveEntry(c *Config, w []string) error {
	usage := fmt.Errorf("%s takes: PROTOCOL from SIDE to SIDE [port NUMBER]", w[0])
	if len(w) < 4 || w[2] != "from" {
		return usage
	}
	if !slices.Contains([]string{"any", "tcp", "udp", "icmp"}, w[1]) {
		return fmt.Errorf("unknown protocol %q", w[1])
	}
	side := func(rest []string) ([]string, error) {
		switch {
		case len(rest) == 0:
			return nil, usage
		case rest[0] == "any":
			return rest[1:], nil
		case rest[0] == "roster" && len(rest) > 1:
			if c.find("roster "+rest[1]) == nil {
				return nil, fmt.Errorf("no roster is named %s", rest[1])
			}
			return rest[2:], nil
		}
		if _, err := netip.ParsePrefix(rest[0]); err != nil {
			return nil, fmt.Errorf("%q is no side: any, a prefix, or: roster NAME", rest[0])
		}
		return rest[1:], nil
	}
	rest, err := side(w[3:])
	if err != nil {
		return err
	}
	if len(rest) == 0 || rest[0] != "to" {
		return usage
	}
	if rest, err = side(rest[1:]); err != nil {
		return err
	}
	if len(rest) == 0 {
		return nil
	}
	if len(rest) != 2 || rest[0] != "port" {
		return usage
	}
	return number(1, 1, 65535)(c, rest)
}

// find returns the top-level node with that key, or nil.
func (c *Config) find(key string) *node {
	for _, n := range c.root {
		if n.key == key {
			return n
		}
	}
	return nil
}

// userOf names the first line that uses the sieve or roster, or "".
func (c *Config) userOf(kind, name string) string {
	var walk func(trail string, ns []*node) string
	walk = func(trail string, ns []*node) string {
		for _, n := range ns {
			w := strings.Fields(n.line)
			switch {
			case kind == "sieve" && n.spec != nil && strings.HasPrefix(n.spec.word, "sieve ") && w[2] == name:
				return trail
			case kind == "roster" && (w[0] == "pass" || w[0] == "drop"):
				for i, word := range w[:len(w)-1] {
					if word == "roster" && w[i+1] == name {
						return trail
					}
				}
			}
			if s := walk(strings.TrimSpace(trail+" "+n.key), n.kids); s != "" {
				return s
			}
		}
		return ""
	}
	return walk("", c.root)
}

// Lines renders the configuration as the device shows it, in its own order,
// without header and end mark.
func (c *Config) Lines() []string {
	var out []string
	emit(&out, 0, c.root, rootSpecs)
	return out
}

func emit(out *[]string, depth int, ns []*node, specs []*spec) {
	pad := strings.Repeat("  ", depth)
	ordered := slices.Clone(ns)
	rank := func(n *node) int { return slices.Index(specs, n.spec) }
	slices.SortStableFunc(ordered, func(a, b *node) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return strings.Compare(a.key, b.key)
	})
	if len(specs) > 0 && specs[0].word == "pass" { // a sieve keeps the order it was typed in
		ordered = ns
	}
	for _, n := range ordered {
		if n.spec.def != "" && n.line == n.spec.def {
			continue
		}
		*out = append(*out, pad+n.line)
		*out = append(*out, n.text...)
		emit(out, depth+1, n.kids, n.spec.kids)
	}
}
