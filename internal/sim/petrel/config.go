// Package petrel simulates the Petrel family of small routers: their configuration is
// a text file that people keep by hand, with comments and blank lines of their own. A
// command checks it and another loads it, if one wishes for a time only: unless it is
// told to keep that, the router then goes back to what it had loaded before. What it
// has loaded it shows in an order of its own, without comments. A line of the file is
// a setting, or opens a block with a brace at its end or on the next line.
package petrel

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Config is a configuration as it is loaded.
type Config struct {
	top []*entry
}

// entry is a setting or a block.
type entry struct {
	line string
	kids []*entry
	open bool
}

// mistake is what is wrong with a file, and where.
type mistake struct {
	line int
	why  string
}

func (m mistake) Error() string { return fmt.Sprintf("line %d: %s", m.line, m.why) }

// parse reads a file, and tells of the first thing that is wrong with it.
func parse(src string) (*Config, error) {
	c := &Config{}
	top := &entry{open: true}
	open := []*entry{top}
	lines := strings.Split(src, "\n")
	if lines[len(lines)-1] != "" {
		return nil, mistake{len(lines), "the file has to end with the end of a line"}
	}
	for i, l := range lines {
		l, _, _ = strings.Cut(l, "#")
		words := strings.Fields(l)
		if len(words) == 0 {
			continue
		}
		at := open[len(open)-1]
		text := strings.Join(words, " ")
		switch {
		case text == "}":
			if len(open) == 1 {
				return nil, mistake{i + 1, "there is no block to close"}
			}
			open = open[:len(open)-1]
			continue
		case text == "{":
			if len(at.kids) == 0 || at.kids[len(at.kids)-1].open {
				return nil, mistake{i + 1, "which block is that?"}
			}
			e := at.kids[len(at.kids)-1]
			e.open = true
			open = append(open, e)
			continue
		}
		text, opens := strings.CutSuffix(text, "{")
		e := &entry{line: strings.TrimSpace(text), open: opens}
		at.kids = append(at.kids, e)
		if opens {
			open = append(open, e)
		}
		if err := at.takes(e, len(open)-1); err != nil {
			return nil, mistake{i + 1, err.Error()}
		}
	}
	if len(open) > 1 {
		return nil, mistake{len(lines), "the block " + open[len(open)-1].line + " is not closed"}
	}
	c.top = top.kids
	if err := c.whole(); err != nil {
		return nil, err
	}
	return c, nil
}

// takes tells what is wrong with an entry where it stands.
func (at *entry) takes(e *entry, depth int) error {
	w := strings.Fields(e.line)
	if e.open {
		depth--
	}
	number := func(s string, from, to int) error {
		if n, err := strconv.Atoi(s); err != nil || n < from || n > to {
			return fmt.Errorf("%s is not a number from %d to %d", s, from, to)
		}
		return nil
	}
	prefix := func(s string) error {
		if _, err := netip.ParsePrefix(s); err != nil {
			return fmt.Errorf("%s is no address with its length", s)
		}
		return nil
	}
	for _, k := range at.kids[:len(at.kids)-1] {
		if k.line == e.line || len(w) == 2 && strings.HasPrefix(k.line, w[0]+" ") && (w[0] == "name" || w[0] == "mtu" || w[0] == "cost") {
			return fmt.Errorf("%s stands there already", w[0])
		}
	}
	switch in, _, _ := strings.Cut(at.line, " "); {
	case depth == 0 && w[0] == "name" && len(w) == 2:
	case depth == 0 && w[0] == "keeper" && len(w) == 4 && w[2] == "word":
	case depth == 0 && (w[0] == "link" || w[0] == "shore") && len(w) == 2:
	case depth == 0 && w[0] == "route" && len(w) == 4 && w[2] == "via":
		if err := prefix(w[1]); err != nil {
			return err
		}
		if _, err := netip.ParseAddr(w[3]); err != nil {
			return fmt.Errorf("%s is no address", w[3])
		}
	case in == "link" && w[0] == "address" && len(w) == 2:
		return prefix(w[1])
	case in == "link" && w[0] == "mtu" && len(w) == 2:
		return number(w[1], 576, 9216)
	case in == "link" && w[0] == "on" && len(w) == 3 && w[1] == "shore":
	case in == "shore" && w[0] == "cost" && len(w) == 2:
		return number(w[1], 1, 100)
	case in == "shore" && w[0] == "lets" && len(w) == 2:
		return prefix(w[1])
	default:
		return fmt.Errorf("%q is not understood here", e.line)
	}
	return nil
}

// whole tells what is wrong with a configuration as a whole.
func (c *Config) whole() error {
	shores := map[string]bool{}
	named, kept := false, false
	for _, e := range c.top {
		name := strings.TrimPrefix(e.line, "shore ")
		shores[name] = shores[name] || name != e.line
		named, kept = named || strings.HasPrefix(e.line, "name "), kept || strings.HasPrefix(e.line, "keeper ")
	}
	for _, e := range c.top {
		for _, k := range e.kids {
			if on, is := strings.CutPrefix(k.line, "on shore "); is && !shores[on] {
				return fmt.Errorf("%s: there is no shore %s", e.line, on)
			}
		}
	}
	if !named || !kept {
		return fmt.Errorf("a router needs a name and a keeper")
	}
	return nil
}

// name is what the router is called.
func (c *Config) name() string {
	for _, e := range c.top {
		if n, is := strings.CutPrefix(e.line, "name "); is {
			return n
		}
	}
	return ""
}

// knows tells whether a user has that word.
func (c *Config) knows(user, word string) bool {
	return slices.ContainsFunc(c.top, func(e *entry) bool { return e.line == "keeper "+user+" word "+word })
}

// Lines is what is loaded, as the router shows it.
func (c *Config) Lines() (out []string) {
	var walk func(kids []*entry, indent string)
	walk = func(kids []*entry, indent string) {
		kids = slices.Clone(kids)
		slices.SortStableFunc(kids, func(a, b *entry) int { return strings.Compare(a.line, b.line) })
		for _, k := range kids {
			if !k.open {
				out = append(out, indent+k.line)
				continue
			}
			out = append(out, indent+k.line+" {")
			walk(k.kids, indent+"    ")
			out = append(out, indent+"}")
		}
	}
	walk(c.top, "")
	return append(out, fmt.Sprintf("# %d lines loaded", len(out)))
}

// Generate makes a file at random as people write them: each in a manner of its own,
// with comments where they thought of something.
func Generate(r *rand.Rand, keepers ...string) string {
	var b strings.Builder
	some := func(n int) int { return r.IntN(n + 1) }
	remark := func() {
		switch r.IntN(5) {
		case 0:
			b.WriteString("\n")
		case 1:
			b.WriteString("# " + []string{"as in the berth plan", "do not touch before the refit {", "ask okonkwo }"}[r.IntN(3)] + "\n")
		}
	}
	line := func(indent, l string) {
		b.WriteString(indent + l)
		if r.IntN(6) == 0 {
			b.WriteString("\t# since the spring")
		}
		b.WriteString("\n")
		remark()
	}
	block := func(head string, inner func(indent string)) {
		b.WriteString(head + []string{" {\n", "{\n", "\n{\n"}[r.IntN(3)])
		inner([]string{"  ", "\t", "    "}[r.IntN(3)])
		b.WriteString("}\n")
		remark()
	}
	remark()
	line("", "name "+[]string{"workshop-k1", "workshop-k2"}[r.IntN(2)])
	for _, k := range keepers {
		line("", k)
	}
	shores := r.Perm(3)[:1+some(2)]
	for _, s := range shores {
		block(fmt.Sprintf("shore s%d", s), func(in string) {
			if r.IntN(2) == 0 {
				line(in, fmt.Sprintf("cost %d", 1+r.IntN(9)))
			}
			for _, l := range r.Perm(3)[:some(2)] {
				line(in, fmt.Sprintf("lets 10.%d.0.0/16", l))
			}
		})
	}
	for _, l := range r.Perm(3)[:some(3)] {
		block("link "+[]string{"uplink", "slip", "crane"}[l], func(in string) {
			for _, a := range r.Perm(3)[:some(2)] {
				line(in, fmt.Sprintf("address 10.40.%d.%d/24", l, a+1))
			}
			if r.IntN(2) == 0 {
				line(in, fmt.Sprintf("mtu %d", 1400+100*r.IntN(2)))
			}
			if r.IntN(2) == 0 {
				line(in, fmt.Sprintf("on shore s%d", shores[r.IntN(len(shores))]))
			}
		})
	}
	for _, x := range r.Perm(4)[:some(4)] {
		line("", fmt.Sprintf("route 10.%d.0.0/16 via 10.40.0.%d", 50+x, 1+r.IntN(3)))
	}
	return b.String()
}
