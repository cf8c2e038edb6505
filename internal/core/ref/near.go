package ref

import (
	"cmp"
	"slices"
	"strings"
)

// Near lists which of the names somebody may have meant by a word, the likeliest
// first, three at most: those that a slip or two away, or that begin or end like
// it.
func Near(word string, names []string) []string {
	type guess struct {
		name string
		far  int
	}
	var found []guess
	low := strings.ToLower(word)
	for _, n := range names {
		l := strings.ToLower(n)
		if far := slips(low, l); far <= max(1, min(len(low), len(l))/4) {
			found = append(found, guess{n, far})
		} else if len(low) >= 3 && (strings.HasPrefix(l, low) || strings.HasSuffix(l, low)) {
			found = append(found, guess{n, 10 + len(l) - len(low)})
		}
	}
	slices.SortFunc(found, func(a, b guess) int { return cmp.Or(a.far-b.far, strings.Compare(a.name, b.name)) })
	var out []string
	for _, g := range found[:min(len(found), 3)] {
		if g.far == found[0].far { // what is further off was hardly meant
			out = append(out, g.name)
		}
	}
	return out
}

// Meant is a question whether one of the names was meant, or nothing.
func Meant(word string, names []string) string {
	near := Near(word, names)
	if len(near) == 0 {
		return ""
	}
	return "did you mean " + strings.Join(near, " or ") + "?"
}

// slips is how many letters have to be put in, left out, changed or swapped with
// the next one to make one word of the other.
func slips(a, b string) int {
	if d := len(a) - len(b); d > 4 || d < -4 || len(a) > 128 {
		return 1 << 20
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			change := last[j-1]
			if a[i-1] != b[j-1] {
				change++
			}
			row[j] = min(change, last[j]+1, row[j-1]+1)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
