package learn

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"magpie/internal/core/text"
)

// Heard is what a log of a typed session suggests.
type Heard struct {
	Remove string // how lines are taken away: with {identity}; empty: nothing in it does that
	Leave  string // how a block is left
	Typed  int    // lines that were typed
}

// Hear reads a log of a typed session. A line is what was typed behind a prompt; prompts
// match one from its beginning to its end. known are lines of configurations.
func (d *Draft) Hear(log string, prompts []*regexp.Regexp, known []Entry) (h Heard) {
	var typed [][]string
	for _, l := range text.Lines(text.Terminal(log)) {
		if t := behind(l, prompts); t != "" {
			var w []string
			for _, x := range d.Words(t) {
				w = append(w, x.Text)
			}
			typed = append(typed, w)
		}
	}
	h.Typed = len(typed)
	begins := map[string]bool{} // the words that lines of configurations begin with
	var all []string
	for _, e := range known {
		all = append(all, e.Line)
		if w := d.words(e.Line); len(w) > 0 {
			begins[w[0]] = true
		}
	}
	slices.Sort(all)
	takes := func(w []string) bool {
		rest := strings.Join(w[1:], " ")
		if _, there := slices.BinarySearch(all, rest); there {
			return true
		}
		i, _ := slices.BinarySearch(all, rest+" ")
		return i < len(all) && strings.HasPrefix(all[i], rest+" ")
	}
	removes, leaves := map[string]int{}, map[string]int{}
	for i, w := range typed {
		switch {
		case len(w) > 1 && !begins[w[0]] && takes(w):
			removes[w[0]]++
		case len(w) == 1 && !begins[w[0]] && i > 0 && len(typed[i-1]) > 0 && (begins[typed[i-1][0]] || takes(typed[i-1])):
			leaves[w[0]]++
		}
	}
	if word := often(removes); word != "" {
		h.Remove = word + " {identity}"
	}
	h.Leave = often(leaves)
	return h
}

// often is what was counted most; of equals, the first by name.
func often(counts map[string]int) (best string) {
	for _, w := range slices.Sorted(maps.Keys(counts)) {
		if best == "" || counts[w] > counts[best] {
			best = w
		}
	}
	return best
}

// behind is what was typed behind a prompt at the beginning of a line.
func behind(line string, prompts []*regexp.Regexp) string {
	for end := 1; end < min(len(line), 120); end++ {
		for _, p := range prompts {
			if p.MatchString(line[:end]) {
				if rest := strings.TrimSpace(line[end:]); rest != "" && !p.MatchString(line[:end+1]) {
					return rest
				}
			}
		}
	}
	return ""
}
