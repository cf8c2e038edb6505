// Package plover simulates the Plover family of switches: flat settings, one a
// line, a small disk, and a file as the way in and out.
//
// A setting is "thing : property is value"; the value "nothing" takes it away.
// A file is taken in line by line and stops at the first refused one, keeping
// what it had done. What the switch starts with is a file, too, and whoever
// overwrites it decides what the next restart brings.
package plover

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"magpie/internal/sim/box"
)

// Ports is how many ports a switch has.
const Ports = 24

// setting is one line: a thing, a property, a value.
type setting struct{ thing, property, value string }

func (s setting) key() string { return s.thing + " : " + s.property }

func (s setting) String() string { return s.key() + " is " + s.value }

// Config is what a switch is set to.
type Config struct{ settings []setting }

// ErrLine is what is wrong with a line.
type ErrLine struct {
	N    int
	Line string
	Why  string
}

func (e ErrLine) Error() string { return fmt.Sprintf("line %d: %s", e.N, e.Why) }

// order is the switch's own order of things.
var order = []string{"system", "keeper", "strand", "gate", "herald", "port"}

func rank(s setting) (int, int) {
	kind, rest, _ := strings.Cut(s.thing, " ")
	n, _ := strconv.Atoi(rest)
	return slices.Index(order, kind), n
}

func (c *Config) sort() {
	slices.SortStableFunc(c.settings, func(a, b setting) int {
		ra, na := rank(a)
		rb, nb := rank(b)
		switch {
		case ra != rb:
			return ra - rb
		case na != nb:
			return na - nb
		case a.thing != b.thing:
			return strings.Compare(a.thing, b.thing)
		}
		return strings.Compare(a.property, b.property)
	})
}

func (c *Config) get(key string) string {
	for _, s := range c.settings {
		if s.key() == key {
			return s.value
		}
	}
	return ""
}

// Take takes one line. An error is the switch's refusal; it has then changed
// nothing.
func (c *Config) Take(line string) error {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return nil
	}
	head, value, ok := strings.Cut(line, " is ")
	thing, property, ok2 := strings.Cut(head, " : ")
	if !ok || !ok2 {
		return fmt.Errorf("not of the form THING : PROPERTY is VALUE")
	}
	s := setting{strings.TrimSpace(thing), strings.TrimSpace(property), strings.TrimSpace(value)}
	def, err := c.check(&s)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(c.settings, func(o setting) bool { return o.key() == s.key() })
	if s.value == "nothing" {
		if at < 0 {
			return fmt.Errorf("%s is not set", s.key())
		}
		if s.key() == "system : name" {
			return fmt.Errorf("a switch cannot be without its name")
		}
		if kind, id, _ := strings.Cut(s.thing, " "); kind == "strand" && s.property == "kept" {
			for _, o := range c.settings {
				if o.thing == s.thing && o.property != "kept" || o.property == "strand" && o.value == id {
					return fmt.Errorf("strand %s is in use by %s", id, o.key())
				}
			}
		}
		c.settings = slices.Delete(c.settings, at, at+1)
		return nil
	}
	if at >= 0 {
		c.settings = slices.Delete(c.settings, at, at+1)
	}
	if s.value != def {
		c.settings = append(c.settings, s)
		c.sort()
	}
	return nil
}

// check tells a setting's default, or what is wrong with it.
func (c *Config) check(s *setting) (def string, err error) {
	kind, id, _ := strings.Cut(s.thing, " ")
	text := func() error {
		if len(s.value) < 2 || s.value[0] != '<' || strings.IndexByte(s.value, '>') != len(s.value)-1 {
			return fmt.Errorf("%q is no text between < and >", s.value)
		}
		return nil
	}
	if s.value == "nothing" {
		return "", nil
	}
	switch kind + "/" + s.property {
	case "system/name":
		if strings.ContainsAny(s.value, " <>") || s.value == "" {
			return "", fmt.Errorf("%q is no name", s.value)
		}
	case "system/zone", "strand/label", "port/label":
		err = text()
	case "herald/community":
		err = text()
	case "system/awake":
		return "", fmt.Errorf("awake is counted by the switch itself")
	case "keeper/rank":
		if s.value != "full" && s.value != "look" {
			return "", fmt.Errorf("rank is full or look")
		}
	case "keeper/word":
		s.value, err = stored(s.value)
	case "strand/kept":
		if n, e := strconv.Atoi(id); e != nil || n < 2 || n > 4000 || s.value != "yes" {
			return "", fmt.Errorf("a strand has a number from 2 to 4000, and is kept or not")
		}
	case "gate/address":
		if _, e := netip.ParsePrefix(s.value); e != nil {
			return "", fmt.Errorf("%q is no address with its length", s.value)
		}
	case "gate/via":
		if _, e := netip.ParseAddr(s.value); e != nil {
			return "", fmt.Errorf("%q is no address", s.value)
		}
	case "port/strand":
		if s.value != "1" && c.get("strand "+s.value+" : kept") == "" {
			return "", fmt.Errorf("there is no strand %s", s.value)
		}
		def = "1"
	case "port/power":
		if s.value != "on" && s.value != "off" {
			return "", fmt.Errorf("power is on or off")
		}
		def = "on"
	default:
		if kind == "herald" && strings.HasPrefix(s.property, "post ") {
			if _, e := netip.ParseAddr(s.property[5:]); e != nil || s.value != "yes" {
				return "", fmt.Errorf("a post is an address, and is there or not")
			}
			break
		}
		return "", fmt.Errorf("%s knows no %s", kind, s.property)
	}
	if kind == "port" {
		if n, e := strconv.Atoi(id); e != nil || n < 1 || n > Ports {
			return "", fmt.Errorf("there is no port %s", id)
		}
	}
	if kind == "strand" && s.property == "label" && c.get(s.thing+" : kept") == "" {
		return "", fmt.Errorf("there is no %s", s.thing)
	}
	return def, err
}

// A word is kept as a digest, and shown under a salt that is another each time.

func stored(v string) (string, error) {
	form, word, _ := strings.Cut(v, " ")
	word = strings.Trim(word, "<>")
	switch form {
	case "plain":
		return "kept " + box.Seal("plover", word), nil
	case "salted":
		salt, body, ok := strings.Cut(word, ".")
		raw, err := hex.DecodeString(body)
		if !ok || err != nil || len(raw) != 10 {
			return "", fmt.Errorf("that is no salted word")
		}
		return "kept " + hex.EncodeToString(mix(salt, raw)), nil
	case "kept":
		return v, nil
	}
	return "", fmt.Errorf("a word is plain <WORD> or salted <WORD>")
}

func mix(salt string, raw []byte) []byte {
	key := sha256.Sum256([]byte("plover salt " + salt))
	out := make([]byte, len(raw))
	for i := range raw {
		out[i] = raw[i] ^ key[i]
	}
	return out
}

// Lines is the configuration as the switch shows it. weak leaves out what only
// a full keeper may see.
func (c *Config) Lines(weak bool) []string {
	var out []string
	for _, s := range c.settings {
		if s.property == "word" {
			raw, _ := hex.DecodeString(strings.TrimPrefix(s.value, "kept "))
			salt := fmt.Sprintf("%06x", rand.IntN(1<<24))
			s.value = "salted <" + salt + "." + hex.EncodeToString(mix(salt, raw)) + ">"
		}
		if weak && (s.property == "word" || s.property == "community") {
			continue
		}
		out = append(out, s.String())
	}
	return out
}

// Parse reads lines as a file is taken in: up to the first refused one.
func Parse(lines []string) (*Config, error) {
	c := &Config{}
	for i, l := range lines {
		if strings.HasPrefix(l, "system : awake ") {
			continue
		}
		if err := c.Take(l); err != nil {
			return c, ErrLine{i + 1, l, err.Error()}
		}
	}
	return c, nil
}

// Clone copies the configuration.
func (c *Config) Clone() *Config { return &Config{slices.Clone(c.settings)} }

// plain is the configuration with words as they are kept, for the control port
// and for keeping.
func (c *Config) plain() []string {
	out := make([]string, len(c.settings))
	for i, s := range c.settings {
		out[i] = s.String()
	}
	return out
}
