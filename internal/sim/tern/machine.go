package tern

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Machine takes the lines typed in amend mode and keeps the configuration they
// lead to.
type Machine struct {
	Config
	trail   []*node  // the blocks entered, outermost first
	placard []string // lines of a placard being typed
	typing  bool
}

// Parse reads a configuration as Lines writes it.
func Parse(lines []string) (*Machine, error) {
	m := &Machine{}
	for i, line := range lines {
		if !m.typing {
			if strings.HasPrefix(line, "..") || strings.TrimSpace(line) == "" || isSkew(line) {
				continue
			}
			depth := (len(line) - len(strings.TrimLeft(line, " "))) / 2
			if depth > len(m.trail) {
				return nil, fmt.Errorf("line %d: indented too far", i+1)
			}
			m.trail = m.trail[:depth]
		}
		if err := m.Type(line); err != nil {
			return nil, fmt.Errorf("line %d: %q: %w", i+1, line, err)
		}
		// A lane written without its guard was made so on purpose.
		if w := strings.Fields(line); !m.typing && len(w) == 2 && w[0] == "lane" && len(m.trail) == 1 {
			m.trail[0].kids = nil
		}
	}
	if m.typing {
		return nil, fmt.Errorf("line %d: the placard is not closed", len(lines))
	}
	m.Leave()
	return m, nil
}

func isSkew(line string) bool { return strings.HasPrefix(strings.TrimSpace(line), "skew ") }

// Leave returns to the top level, as when amend mode is left.
func (m *Machine) Leave() { m.trail, m.typing, m.placard = nil, false, nil }

// Typing reports whether a placard is being typed, when no line is a command.
func (m *Machine) Typing() bool { return m.typing }

// Trail is the innermost open block's line, or "".
func (m *Machine) Trail() string {
	if len(m.trail) == 0 {
		return ""
	}
	return m.trail[len(m.trail)-1].key
}

// Type takes one line in amend mode. An error is the device's refusal; it has
// then changed nothing.
func (m *Machine) Type(line string) error {
	if m.typing {
		if line != "))" {
			m.placard = append(m.placard, line)
			return nil
		}
		n := m.find("placard")
		if n == nil {
			n = &node{key: "placard", line: "placard ((", spec: specFor(rootSpecs, []string{"placard"})}
			m.root = append(m.root, n)
		}
		n.text = append(m.placard, "))")
		m.typing, m.placard = false, nil
		return nil
	}
	w := split(line)
	if len(w) == 0 || strings.HasPrefix(w[0], "..") {
		return nil
	}
	switch w[0] {
	case "up":
		if len(m.trail) == 0 {
			return fmt.Errorf("already at the top")
		}
		m.trail = m.trail[:len(m.trail)-1]
		return nil
	case "cancel":
		return m.cancel(w[1:])
	}
	return m.set(w)
}

func specFor(specs []*spec, w []string) *spec {
	for _, s := range specs {
		sw := strings.Fields(s.word)
		if len(w) >= len(sw) && slices.Equal(w[:len(sw)], sw) {
			return s
		}
	}
	return nil
}

func (m *Machine) here() (kids *[]*node, specs []*spec) {
	if len(m.trail) == 0 {
		return &m.root, rootSpecs
	}
	n := m.trail[len(m.trail)-1]
	return &n.kids, n.spec.kids
}

func (s *spec) key(w []string) string {
	n := s.ident
	if n < 0 || n > len(w) {
		n = len(w)
	}
	return strings.Join(w[:n], " ")
}

func (m *Machine) set(w []string) error {
	kids, specs := m.here()
	if w[0] == "skew" {
		return fmt.Errorf("skew is kept by the unit itself")
	}
	s := specFor(specs, w)
	if s == nil {
		return fmt.Errorf("unknown word %q here", w[0])
	}
	if s.word == "placard" {
		if len(w) != 2 || w[1] != "((" {
			return fmt.Errorf("placard takes ((, then its lines, then )) alone on a line")
		}
		m.typing = true
		return nil
	}
	if s.check != nil {
		if err := s.check(&m.Config, w); err != nil {
			return err
		}
	}
	if len(w) == 3 && w[1] == "open" {
		w = []string{w[0], "sealed", Sealed(w[2])}
	}
	line, key := strings.Join(w, " "), s.key(w)
	for _, n := range *kids {
		if n.key != key {
			continue
		}
		switch {
		case s.block:
			m.trail = append(m.trail, n)
		case n.line == line && s.ident < 0:
			return fmt.Errorf("that entry is there already")
		case n.line == line:
		case !s.over:
			return fmt.Errorf("%s is set to %s; cancel it first", key, strings.TrimSpace(strings.TrimPrefix(n.line, key)))
		default:
			n.line = line
		}
		return nil
	}
	n := &node{key: key, line: line, spec: s}
	*kids = append(*kids, n)
	if s.block {
		m.trail = append(m.trail, n)
		for _, extra := range s.writes {
			if err := m.Type(extra); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *Machine) cancel(w []string) error {
	kids, specs := m.here()
	if len(w) == 0 {
		return fmt.Errorf("cancel what?")
	}
	s := specFor(specs, w)
	if s == nil {
		return fmt.Errorf("unknown word %q here", w[0])
	}
	key := s.key(w)
	for i, n := range *kids {
		if n.key != key {
			continue
		}
		if s.fixed {
			return fmt.Errorf("a unit cannot be without its %s", s.word)
		}
		if len(m.trail) == 0 && (s.word == "sieve" || s.word == "roster") {
			if user := m.userOf(s.word, w[1]); user != "" {
				return fmt.Errorf("%s is in use by %s", key, user)
			}
		}
		*kids = slices.Delete(*kids, i, i+1)
		return nil
	}
	return fmt.Errorf("there is no %s to cancel", key)
}

// Sealed is how the device keeps a word typed in the open.
func Sealed(plain string) string {
	sum := sha256.Sum256([]byte("tern:" + plain))
	return hex.EncodeToString(sum[:10])
}

// Word returns the sealed word of a crew member and that member's rank.
func (c *Config) Word(user string) (sealed, rank string, badges []string) {
	n := c.find("crew " + user)
	if n == nil {
		return "", "", nil
	}
	rank = "deck"
	for _, k := range n.kids {
		w := strings.Fields(k.line)
		switch w[0] {
		case "word":
			sealed = w[2]
		case "rank":
			rank = w[1]
		case "badge":
			badges = append(badges, w[1]+" "+w[2])
		}
	}
	return sealed, rank, badges
}

// Value returns what follows a top-level word, like the name, or "".
func (c *Config) Value(word string) string {
	if n := c.find(word); n != nil {
		return strings.TrimSpace(strings.TrimPrefix(n.line, word))
	}
	return ""
}

// split cuts a line into words; a "quoted text" is one word, kept as typed.
func split(line string) (out []string) {
	for line = strings.TrimLeft(line, " \t"); line != ""; line = strings.TrimLeft(line, " \t") {
		end := strings.IndexAny(line, " \t")
		if line[0] == '"' {
			if close := strings.IndexByte(line[1:], '"'); close >= 0 {
				end = close + 2
			}
		}
		if end < 0 || end >= len(line) {
			return append(out, strings.TrimRight(line, " \t"))
		}
		out, line = append(out, line[:end]), line[end:]
	}
	return out
}
