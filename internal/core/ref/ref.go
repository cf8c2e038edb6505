// Package ref reads and prints the two short notations people type: version
// references, like skerrinsay-r1@baseline, and selectors, like site=quay.
package ref

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Version names one version of one part of one device: DEVICE[/PART]@WHICH.
type Version struct {
	Device string
	Part   string // "running" when not given
	Named  bool   // the part was given
	Which  string // one of the keywords, or "number", "name", "time"
	Number int
	Name   string // of a time that is a date alone: the date, which may be a name
	At     time.Time
	Any    bool // of a time: imported versions count, too

	zone string // in which a date is meant; empty: it has no name that everybody knows
}

// Keywords stand for a version by its role.
var Keywords = []string{"latest", "previous", "first", "baseline", "live"}

var (
	deviceName  = once(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
	removedName = once(`^[A-Za-z0-9][A-Za-z0-9._-]{0,39}~[0-9A-Za-z]{8}$`)
	partName    = once(`^[a-z][a-z0-9+._-]{0,62}$`)
	nameShape   = once(`^[\pL\pN][\pL\pN ._:+-]{0,62}$`)
)

// withImported stands before a time for which imported versions count, too.
const withImported = "imported:"

// once compiles a pattern when it is first used: these take longer than most
// commands do.
func once(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

// DeviceName checks a name for a device.
func DeviceName(s string) error {
	if s == everything {
		return fmt.Errorf("%q cannot be a device's name: it is the word for the whole fleet", s)
	}
	if !deviceName().MatchString(s) {
		return fmt.Errorf("%q cannot be a device's name: letters, digits, dot, dash and underscore, starting with a letter or digit, 63 at most", s)
	}
	return nil
}

// Removed tells whether a name is that of a device that was taken out: what it was called, ~ and eight
// characters.
func Removed(name string) bool { return removedName().MatchString(name) }

// VersionName checks a name for a version. Keywords, numbers and times cannot
// be names.
func VersionName(s string) error {
	_, numberErr := strconv.Atoi(s)
	switch {
	case slices.Contains(Keywords, s):
		return nameError("%q cannot be a version's name: it already means something", s)
	case numberErr == nil:
		return nameError("%q cannot be a version's name: numbers count versions", s)
	case strings.HasPrefix(s, withImported) && isTime(s[len(withImported):]), isTime(s) && !dated().MatchString(s):
		return nameError("%q cannot be a version's name: it reads as a time; a date alone can be one", s)
	case !nameShape().MatchString(s):
		return nameError("%q cannot be a version's name: letters, digits, blanks and . _ : + -, 63 at most", s)
	}
	return nil
}

// NameError is returned when a version cannot be called so.
type NameError struct{ Why string }

func (e *NameError) Error() string { return e.Why }

func nameError(format string, args ...any) error { return &NameError{fmt.Sprintf(format, args...)} }

// ParseVersion reads a reference. Times in it are read as ParseTime reads them.
func ParseVersion(s string, here Here) (Version, error) {
	v := Version{Part: "running", Which: "latest"}
	dev, which, given := strings.Cut(s, "@")
	name, part, hasPart := strings.Cut(dev, "/")
	v.Device = name
	if err := DeviceName(name); err != nil && !Removed(name) {
		return v, fmt.Errorf("reference %q: %w", s, err)
	}
	if hasPart {
		if !partName().MatchString(part) {
			return v, fmt.Errorf("reference %q: %q is no part; a part is named like running or startup", s, part)
		}
		v.Part, v.Named = part, true
	}
	if !given {
		return v, nil
	}
	n, numberErr := strconv.Atoi(which)
	switch {
	case which == "":
		return v, fmt.Errorf("reference %q: nothing follows the @; a number, a name, a time, or one of %s", s, strings.Join(Keywords, ", "))
	case slices.Contains(Keywords, which):
		v.Which = which
	case numberErr == nil:
		if n < 1 {
			return v, fmt.Errorf("reference %q: versions count from 1", s)
		}
		v.Which, v.Number = "number", n
	case strings.HasPrefix(which, withImported) && isTime(which[len(withImported):]):
		at, err := ParseTime(which[len(withImported):], here)
		if err != nil {
			return v, fmt.Errorf("reference %q: %w", s, err)
		}
		v.Which, v.At, v.Any = "time", at, true
	case isTime(which):
		at, err := ParseTime(which, here)
		if err != nil {
			return v, fmt.Errorf("reference %q: %w", s, err)
		}
		v.Which, v.At = "time", at
		if date, zone := inBrackets(which); dated().MatchString(date) { // a date may be a name
			v.Name, v.zone = date, zone
			if zone == "" {
				v.zone = known(here.Zone, at)
			}
		}
	default:
		if err := VersionName(which); err != nil {
			return v, fmt.Errorf("reference %q: %w", s, err)
		}
		v.Which, v.Name = "name", which
	}
	return v, nil
}

// known is a name of a zone that everybody knows: its own, or that of its offset at a time (IANA's
// Etc/GMT±N, whose signs are the other way round); empty: there is none.
func known(zone *time.Location, at time.Time) string {
	if zone == nil {
		return ""
	}
	if zone.String() != "Local" {
		return zone.String()
	}
	switch _, offset := at.In(zone).Zone(); {
	case offset == 0:
		return "UTC"
	case offset%3600 == 0:
		return fmt.Sprintf("Etc/GMT%+d", -offset/3600)
	}
	return ""
}

// String prints the reference so that it means the same in every zone.
func (v Version) String() string {
	s := v.Device
	if v.Part != "running" {
		s += "/" + v.Part
	}
	switch v.Which {
	case "number":
		return s + "@" + strconv.Itoa(v.Number)
	case "name":
		return s + "@" + v.Name
	case "time":
		if v.Any {
			s += "@" + withImported + v.At.UTC().Format(time.RFC3339Nano)
			return s
		}
		if v.Name != "" && v.zone != "" {
			return s + "@" + v.Name + "[" + v.zone + "]"
		}
		return s + "@" + v.At.UTC().Format(time.RFC3339Nano)
	}
	return s + "@" + v.Which
}

// Selector picks devices. Words are KEY=PATTERN or a pattern for the name;
// patterns take * and ?, and a blank in a state, model or release is typed as a dash. Words of one
// key widen the choice, different keys narrow it. The word all, alone, picks
// every device; the zero Selector picks none.
type Selector struct {
	all   bool
	terms map[string][]string
}

// Subject is what a selector looks at.
type Subject struct {
	Name, Site, Kind, Dialect, State, Model, Release string

	Spare bool
	Tags  []string
}

var selectorKeys = []string{"name", "site", "kind", "tag", "dialect", "state", "model", "release", "spare"}

// everything is the word for the whole fleet.
const everything = "all"

// All picks every device.
func All() Selector { return Selector{all: true} }

// ErrNoSelector is returned for words that select nothing: none, or empty ones.
var ErrNoSelector = errors.New("no devices are selected, because what was given is empty; the word for the whole fleet is " + everything)

// ParseSelector reads words as typed. An empty word is an error: it is a
// variable that was not set, more often than not.
func ParseSelector(words []string) (Selector, error) {
	s := Selector{terms: map[string][]string{}}
	n := 0
	for _, w := range words {
		if strings.TrimSpace(w) == "" {
			return s, ErrNoSelector
		}
		for _, part := range strings.Fields(w) {
			n++
			if part == everything {
				s.all = true
				continue
			}
			key, pattern, ok := strings.Cut(part, "=")
			if !ok {
				key, pattern = "name", part
			}
			if !slices.Contains(selectorKeys, key) {
				return s, fmt.Errorf("selector %q: %q is no key; the keys are %s%s", part, key, strings.Join(selectorKeys, ", "), question(key, selectorKeys))
			}
			if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
				return s, fmt.Errorf("selector %q: %q is no pattern", part, pattern)
			}
			if key == "state" || key == "model" || key == "release" {
				pattern = dashed(pattern)
			}
			s.terms[key] = append(s.terms[key], pattern)
		}
	}
	switch {
	case n == 0:
		return s, ErrNoSelector
	case s.all && n > 1:
		return s, fmt.Errorf("selector %q: %s is the whole fleet; nothing can stand beside it", strings.Join(words, " "), everything)
	}
	return s, nil
}

func question(word string, names []string) string {
	if q := Meant(word, names); q != "" {
		return "; " + q
	}
	return ""
}

// dashed is a state as it is typed.
func dashed(s string) string { return strings.ReplaceAll(s, " ", "-") }

// All tells whether the selector picks everything.
func (s Selector) All() bool { return s.all }

// Known holds the selector's words against those there are: states and kinds
// that nobody has ever are an error, whoever is in them now.
func (s Selector) Known(key string, words []string) error {
	typed := make([]string, len(words))
	for i, w := range words {
		typed[i] = dashed(w)
	}
	for _, p := range s.terms[key] {
		if !slices.ContainsFunc(typed, func(w string) bool { ok, _ := path.Match(p, w); return ok }) {
			return fmt.Errorf("%q is no %s; there are %s%s", p, key, strings.Join(typed, ", "), question(p, typed))
		}
	}
	return nil
}

// Nobody returns the first word of the selector that none of the devices has,
// as it was typed, and what may have been meant. Words for states aside: it is
// good news that nothing is in a bad one.
func (s Selector) Nobody(all []Subject) (word, meant string) {
	for _, key := range selectorKeys {
		if key == "state" {
			continue
		}
		for _, p := range s.terms[key] {
			one := Selector{terms: map[string][]string{key: {p}}}
			if slices.ContainsFunc(all, one.Match) {
				continue
			}
			word = key + "=" + p
			if key == "name" {
				word = p
			}
			var have []string
			for _, d := range all {
				for _, v := range d.values(key) {
					if !slices.Contains(have, v) && len(have) < 20_000 {
						have = append(have, v)
					}
				}
			}
			return word, Meant(p, have)
		}
	}
	return "", ""
}

// ByState tells whether the selector narrows by state.
func (s Selector) ByState() bool { return len(s.terms["state"]) > 0 }

// Names returns the device names the selector gives in full, without a pattern.
func (s Selector) Names() (out []string) {
	for _, n := range s.terms["name"] {
		if !strings.ContainsAny(n, "*?[\\") {
			out = append(out, n)
		}
	}
	return out
}

// Exact returns the names picked when the selector is nothing but names
// without patterns.
func (s Selector) Exact() []string {
	if names := s.Names(); len(s.terms) == 1 && len(names) == len(s.terms["name"]) {
		return names
	}
	return nil
}

func (d Subject) values(key string) []string {
	switch key {
	case "name":
		return []string{d.Name}
	case "site":
		return []string{d.Site}
	case "kind":
		return []string{d.Kind}
	case "dialect":
		return []string{d.Dialect}
	case "state":
		return []string{dashed(d.State)}
	case "model":
		return []string{dashed(d.Model)}
	case "release":
		return []string{dashed(d.Release)}
	case "spare":
		return []string{map[bool]string{true: "yes", false: "no"}[d.Spare]}
	case "tag":
		return d.Tags
	}
	return nil
}

// Match tells whether the selector picks the device.
func (s Selector) Match(d Subject) bool {
	if s.all {
		return true
	}
	for key, patterns := range s.terms {
		if !slices.ContainsFunc(patterns, func(p string) bool {
			return slices.ContainsFunc(d.values(key), func(v string) bool { ok, _ := path.Match(p, v); return ok })
		}) {
			return false
		}
	}
	return len(s.terms) > 0
}
