package dialect

import (
	"regexp"
	"slices"
	"strings"
)

// former are keys of earlier releases, each with the keys of today that may stand in its place: the one that the
// mapping has.
var former = map[string][]string{
	"starts": {"initial_mode"}, "goodbye": {"logout"}, "refusals": {"errors"}, "ahead": {"pipeline"}, "stand_in": {"fallback"},
	"sign": {"change_token"}, "whole": {"complete"}, "adopt": {"take_in"}, "beside": {"make_before_break"}, "landmarks": {"key_facts"},
	"notices": {"change_triggers"}, "otherwise": {"mismatch", "unsaved_word"},
}

// now is today's key in a mapping for one of an earlier release; empty: there is none.
func (s *shape) now(key string) string {
	for _, k := range former[key] {
		if s.Properties[k] != nil {
			return k
		}
	}
	return ""
}

// calledNow is what is said of a key of an earlier release.
var calledNow = regexp.MustCompile(`^(\w+) is called (\w+) now$`)

// Modern gives the keys of a dialect of an earlier release today's names, and changes nothing else. It is for
// dialects that a database or a backup keeps; a file with such keys is refused, with what they are called now.
func Modern(source string) string {
	for range 20 { // what stands below a key is looked at once the key is known
		_, err := Load("", []byte(source))
		problems, _ := err.(Problems)
		lines := strings.SplitAfter(source, "\n")
		changed := false
		for _, p := range slices.Backward(problems) { // the last of a line first: columns before it stay
			m := calledNow.FindStringSubmatch(p.Text)
			if m == nil || p.Line < 1 || p.Line > len(lines) {
				continue
			}
			line := []rune(lines[p.Line-1])
			if at := p.Column - 1; at >= 0 && at <= len(line) && strings.HasPrefix(string(line[at:]), m[1]) {
				lines[p.Line-1], changed = string(line[:at])+m[2]+strings.TrimPrefix(string(line[at:]), m[1]), true
			}
		}
		if !changed {
			break
		}
		source = strings.Join(lines, "")
	}
	return source
}
