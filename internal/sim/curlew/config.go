// Package curlew simulates the Curlew family of line routers: one command line over
// SSH, lines that take effect as they are typed, and habits that make a configuration
// hard to put back. It was written from what such devices do, not from what a dialect
// can say.
package curlew

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"magpie/internal/sim/box"
)

// Config is what a router runs.
type Config struct {
	name    string
	deaf    bool // it never answers pings
	keepers []pair
	asks    []string // in order
	gates   []*gate
	choices []*choice
	piers   []*pier
	watches []pair // by pier
	paths   []path
	beacon  string
	tint    string
}

type pair struct{ key, value string }

type path struct{ to, cost, over string }

// gate is a filter. Without rungs there is none.
type gate struct {
	name  string
	rungs []pair // by number, in its order
}

// choice sends traffic somewhere by where it goes.
type choice struct {
	name      string
	whens     []pair // prefix -> pier, in order
	otherwise string
}

type pier struct {
	number, says, room, in, out, choice string
	carries                             [2]string // first and second
	dark                                bool      // never lit
}

var roles = []string{"first", "second"}

// Parse reads a configuration as Lines writes it.
func Parse(lines []string) (*Machine, error) {
	m := &Machine{}
	// What it shows first may need what it shows later.
	for i, l := range lines {
		if err := m.Type(strings.TrimSpace(l)); err != nil {
			return nil, fmt.Errorf("line %d, %q: %w", i+1, l, err)
		}
	}
	m.Leave()
	return m, nil
}

// Lines are the configuration as the router shows it.
func (c *Config) Lines() (out []string) {
	say := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	if c.name != "" {
		say("call %s", c.name)
	}
	if c.deaf {
		say("never answer pings")
	}
	for _, k := range c.keepers {
		say("keeper %s word %s", k.key, k.value)
	}
	for _, a := range c.asks {
		say("ask %s", a)
	}
	for _, g := range c.gates {
		say("gate %s", g.name)
		for _, r := range g.rungs {
			say("  rung %s %s", r.key, r.value)
		}
		say("end")
	}
	for _, p := range c.piers { // choices name them
		p.lines(say)
	}
	for _, ch := range c.choices {
		say("choice %s", ch.name)
		for _, w := range ch.whens {
			say("  when %s take pier %s", w.key, w.value)
		}
		if ch.otherwise != "" {
			say("  otherwise %s", ch.otherwise)
		}
		say("end")
	}
	for _, p := range c.piers {
		if p.choice != "" {
			say("at pier %s choice %s", p.number, p.choice)
		}
	}
	for _, w := range c.watches {
		say("watch pier %s every %s", w.key, w.value)
	}
	for _, p := range c.paths {
		say("path %s cost %s over %s", p.to, p.cost, p.over)
	}
	if c.beacon != "" {
		say("beacon every %s", c.beacon)
	}
	if c.tint != "" {
		say("beacon tint %s", c.tint)
	}
	return out
}

func (p *pier) lines(say func(string, ...any)) {
	say("pier %s", p.number)
	if p.says != "" {
		say("  says %s", p.says)
	}
	if p.room != "" {
		say("  room %s", p.room)
	}
	for i, a := range p.carries {
		if a != "" {
			say("  carries %s as %s", a, roles[i])
		}
	}
	if p.dark {
		say("  never lit")
	}
	if p.in != "" {
		say("  gate in %s", p.in)
	}
	if p.out != "" {
		say("  gate out %s", p.out)
	}
	say("end")
}

// Text is the configuration as one text.
func (c *Config) Text() string { return strings.Join(c.Lines(), "\n") + "\n" }

func (c *Config) pier(number string) *pier {
	for _, p := range c.piers {
		if p.number == number {
			return p
		}
	}
	return nil
}

func (c *Config) gate(name string) *gate {
	for _, g := range c.gates {
		if g.name == name {
			return g
		}
	}
	return nil
}

func (c *Config) choice(name string) *choice {
	for _, x := range c.choices {
		if x.name == name {
			return x
		}
	}
	return nil
}

// user says which pier uses a gate or a choice.
func (c *Config) user(kind, name string) string {
	for _, p := range c.piers {
		if kind == "gate" && (p.in == name || p.out == name) || kind == "choice" && p.choice == name {
			return "pier " + p.number
		}
	}
	return ""
}

// Machine takes lines as they are typed.
type Machine struct {
	Config
	block, named string // the block that is open
}

// Leave closes the block that is open.
func (m *Machine) Leave() {
	m.block, m.named = "", ""
	m.sweep()
}

// Type takes one line. An error is what the router says to it.
func (m *Machine) Type(line string) error {
	w := strings.Fields(line)
	if len(w) == 0 {
		return nil
	}
	if w[0] == "end" {
		if m.block == "" {
			return fmt.Errorf("no block is open")
		}
		m.Leave()
		return nil
	}
	never, strike := w[0] == "never", w[0] == "strike"
	if never || strike {
		w = w[1:]
	}
	if len(w) == 0 {
		return fmt.Errorf("%s what?", line)
	}
	if never && line != "never answer pings" && line != "never lit" {
		return fmt.Errorf("nothing is denied here but lit, and answering pings")
	}
	if strike && (strings.Join(w, " ") == "never lit" || w[0] == "never") {
		return fmt.Errorf("a denial is not struck; say what it denies")
	}
	switch m.block {
	case "gate":
		return m.inGate(m.gate(m.named), w, strike)
	case "choice":
		return m.inChoice(m.choice(m.named), w, strike)
	case "pier":
		return m.inPier(m.pier(m.named), w, strike, never)
	}
	return m.top(w, strike, never)
}

// sweep forgets gates without rungs.
func (m *Machine) sweep() {
	m.gates = slices.DeleteFunc(m.gates, func(g *gate) bool { return len(g.rungs) == 0 && (m.block != "gate" || m.named != g.name) })
}

func number(s string) bool { _, err := strconv.Atoi(s); return err == nil }

func drop(list []pair, key string) ([]pair, bool) {
	n := len(list)
	list = slices.DeleteFunc(list, func(p pair) bool { return p.key == key })
	return list, len(list) < n
}

// put sets a key's value, in order of the keys.
func put(list []pair, key, value string) []pair {
	for i := range list {
		if list[i].key == key {
			list[i].value = value
			return list
		}
	}
	at := slices.IndexFunc(list, func(p pair) bool { return less(key, p.key) })
	if at < 0 {
		at = len(list)
	}
	return slices.Insert(list, at, pair{key, value})
}

func less(a, b string) bool {
	x, err := strconv.Atoi(a)
	y, err2 := strconv.Atoi(b)
	if err == nil && err2 == nil {
		return x < y
	}
	return a < b
}

func (m *Machine) top(w []string, strike, never bool) error {
	line := strings.Join(w, " ")
	missing := fmt.Errorf("there is no such line: %s", line)
	switch {
	case w[0] == "call" && len(w) == 2 && !strike:
		m.name = w[1]
	case line == "answer pings" && !strike:
		m.deaf = never
	case w[0] == "keeper" && len(w) == 2 && strike:
		var ok bool
		if m.keepers, ok = drop(m.keepers, w[1]); !ok {
			return missing
		}
	case w[0] == "keeper" && len(w) >= 4 && w[2] == "word" && !strike:
		word := strings.Join(w[3:], " ")
		if !strings.HasPrefix(word, "kept ") {
			word = "kept " + box.Seal("curlew", word)
		}
		m.keepers = put(m.keepers, w[1], word)
	case w[0] == "ask" && len(w) == 2:
		at := slices.Index(m.asks, w[1])
		switch {
		case strike && at < 0:
			return missing
		case strike:
			m.asks = slices.Delete(m.asks, at, at+1)
		case at < 0: // asked twice is asked once
			m.asks = append(m.asks, w[1])
		}
	case w[0] == "gate" && len(w) == 2:
		if strike {
			return fmt.Errorf("a gate is struck rung by rung")
		}
		if m.gate(w[1]) == nil {
			at := slices.IndexFunc(m.gates, func(g *gate) bool { return w[1] < g.name })
			if at < 0 {
				at = len(m.gates)
			}
			m.gates = slices.Insert(m.gates, at, &gate{name: w[1]})
		}
		m.block, m.named = "gate", w[1]
	case w[0] == "choice" && len(w) == 2:
		x := m.choice(w[1])
		switch by := m.user("choice", w[1]); {
		case strike && x == nil:
			return missing
		case strike && by != "":
			return fmt.Errorf("choice %s is used by %s", w[1], by)
		case strike:
			m.choices = slices.DeleteFunc(m.choices, func(c *choice) bool { return c == x })
		default:
			if x == nil {
				m.choices = append(m.choices, &choice{name: w[1]})
				slices.SortStableFunc(m.choices, func(a, b *choice) int { return strings.Compare(a.name, b.name) })
			}
			m.block, m.named = "choice", w[1]
		}
	case w[0] == "pier" && len(w) == 2 && number(w[1]):
		p := m.pier(w[1])
		switch {
		case strike && p == nil:
			return missing
		case strike:
			for _, c := range m.choices {
				for _, when := range c.whens {
					if when.value == w[1] {
						return fmt.Errorf("choice %s sends traffic to pier %s", c.name, w[1])
					}
				}
			}
			m.piers = slices.DeleteFunc(m.piers, func(x *pier) bool { return x == p })
			m.watches, _ = drop(m.watches, w[1]) // nobody watches what is not there
		default:
			if p == nil {
				m.piers = append(m.piers, &pier{number: w[1]})
				slices.SortStableFunc(m.piers, func(a, b *pier) int { return sign(less(b.number, a.number)) - sign(less(a.number, b.number)) })
			}
			m.block, m.named = "pier", w[1]
		}
	case w[0] == "at" && len(w) >= 4 && w[1] == "pier" && w[3] == "choice":
		p := m.pier(w[2])
		switch {
		case p == nil:
			return fmt.Errorf("there is no pier %s", w[2])
		case strike && len(w) == 4:
			if p.choice == "" {
				return missing
			}
			p.choice = ""
		case strike || len(w) != 5:
			return fmt.Errorf("%q is not understood", line)
		case m.choice(w[4]) == nil:
			return fmt.Errorf("there is no choice %s", w[4])
		default:
			p.choice = w[4]
		}
	case w[0] == "watch" && len(w) >= 3 && w[1] == "pier":
		switch {
		case strike && len(w) == 3:
			var ok bool
			if m.watches, ok = drop(m.watches, w[2]); !ok {
				return missing
			}
		case strike || len(w) != 5 || w[3] != "every":
			return fmt.Errorf("%q is not understood", line)
		case m.pier(w[2]) == nil:
			return fmt.Errorf("there is no pier %s", w[2])
		default:
			m.watches = put(m.watches, w[2], w[4])
		}
	case w[0] == "path" && len(w) == 4 && w[2] == "over" && strike:
		n := len(m.paths)
		m.paths = slices.DeleteFunc(m.paths, func(p path) bool { return p.to == w[1] && p.over == w[3] })
		if len(m.paths) == n {
			return missing
		}
	case w[0] == "path" && len(w) == 6 && w[2] == "cost" && w[4] == "over" && !strike:
		p := path{w[1], w[3], w[5]}
		if slices.ContainsFunc(m.paths, func(x path) bool { return x.to == p.to && x.over == p.over }) {
			return nil // it has that path, whatever it costs
		}
		m.paths = append(m.paths, p)
		slices.SortStableFunc(m.paths, func(a, b path) int { return strings.Compare(a.to+" "+a.over, b.to+" "+b.over) })
	case line == "beacon" && strike:
		if m.beacon == "" {
			return missing
		}
		m.beacon, m.tint = "", ""
	case w[0] == "beacon" && strike:
		return fmt.Errorf("it goes with the beacon")
	case w[0] == "beacon" && len(w) == 3 && w[1] == "every":
		m.beacon = w[2]
	case w[0] == "beacon" && len(w) == 3 && w[1] == "tint":
		if m.beacon == "" {
			return fmt.Errorf("there is no beacon")
		}
		m.tint = w[2]
	default:
		return fmt.Errorf("%q is not understood", line)
	}
	return nil
}

func sign(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (m *Machine) inGate(g *gate, w []string, strike bool) error {
	line := strings.Join(w, " ")
	switch {
	case w[0] == "rung" && len(w) == 2 && strike:
		if by := m.user("gate", g.name); by != "" && len(g.rungs) == 1 && g.rungs[0].key == w[1] {
			return fmt.Errorf("gate %s is used by %s and would have no rung", g.name, by)
		}
		var ok bool
		if g.rungs, ok = drop(g.rungs, w[1]); !ok {
			return fmt.Errorf("there is no rung %s", w[1])
		}
	case w[0] == "rung" && len(w) == 7 && number(w[1]) && (w[2] == "lets" || w[2] == "stops") && w[5] == "to" && !strike:
		content := strings.Join(w[2:], " ")
		if slices.ContainsFunc(g.rungs, func(r pair) bool { return r.value == content }) {
			return nil // there is a rung for that
		}
		g.rungs = put(g.rungs, w[1], content)
	default:
		return fmt.Errorf("%q is not understood in a gate", line)
	}
	return nil
}

func (m *Machine) inChoice(c *choice, w []string, strike bool) error {
	line := strings.Join(w, " ")
	switch {
	case w[0] == "when" && len(w) == 2 && strike:
		var ok bool
		if c.whens, ok = drop(c.whens, w[1]); !ok {
			return fmt.Errorf("there is no such line: %s", line)
		}
	case w[0] == "when" && len(w) == 5 && w[2] == "take" && w[3] == "pier" && !strike:
		if m.pier(w[4]) == nil {
			return fmt.Errorf("there is no pier %s", w[4])
		}
		if at := slices.IndexFunc(c.whens, func(x pair) bool { return x.key == w[1] }); at >= 0 {
			if c.whens[at].value == w[4] {
				return nil
			}
			return fmt.Errorf("%s is sent to pier %s", w[1], c.whens[at].value)
		}
		c.whens = append(c.whens, pair{w[1], w[4]})
	case line == "otherwise" && strike:
		if c.otherwise == "" {
			return fmt.Errorf("there is no such line: %s", line)
		}
		c.otherwise = ""
	case w[0] == "otherwise" && len(w) == 2 && !strike:
		c.otherwise = w[1]
	default:
		return fmt.Errorf("%q is not understood in a choice", line)
	}
	return nil
}

func (m *Machine) inPier(p *pier, w []string, strike, never bool) error {
	line := strings.Join(w, " ")
	clear := func(what *string) error {
		if *what == "" {
			return fmt.Errorf("there is no such line: %s", line)
		}
		*what = ""
		return nil
	}
	switch {
	case line == "lit" && !strike:
		p.dark = never
	case line == "says" && strike:
		return clear(&p.says)
	case w[0] == "says" && len(w) > 1 && !strike:
		p.says = strings.Join(w[1:], " ")
	case line == "room" && strike:
		return clear(&p.room)
	case w[0] == "room" && len(w) == 2 && number(w[1]) && !strike:
		if p.room = w[1]; p.room == "1500" {
			p.room = "" // as it is anyway
		}
	case w[0] == "carries" && len(w) == 3 && w[1] == "as" && strike:
		if i := slices.Index(roles, w[2]); i >= 0 {
			return clear(&p.carries[i])
		}
		return fmt.Errorf("an address is first or second")
	case w[0] == "carries" && len(w) == 4 && w[2] == "as" && !strike:
		i := slices.Index(roles, w[3])
		if i < 0 {
			return fmt.Errorf("an address is first or second")
		}
		if p.carries[i] != "" && p.carries[i] != w[1] {
			return fmt.Errorf("it carries %s as %s", p.carries[i], w[3])
		}
		for _, x := range m.piers {
			for j, a := range x.carries {
				if a == w[1] && (x != p || j != i) {
					return fmt.Errorf("%s is carried by pier %s as %s", a, x.number, roles[j])
				}
			}
		}
		p.carries[i] = w[1]
	case w[0] == "gate" && len(w) == 2 && strike && (w[1] == "in" || w[1] == "out"):
		if w[1] == "in" {
			return clear(&p.in)
		}
		return clear(&p.out)
	case w[0] == "gate" && len(w) == 3 && !strike && (w[1] == "in" || w[1] == "out"):
		if m.gate(w[2]) == nil {
			return fmt.Errorf("there is no gate %s", w[2])
		}
		if w[1] == "in" {
			p.in = w[2]
		} else {
			p.out = w[2]
		}
	default:
		return fmt.Errorf("%q is not understood at a pier", line)
	}
	return nil
}
