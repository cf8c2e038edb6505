package rules

import (
	"slices"
	"strings"
)

// What can become of an entry from one tree to another.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed" // its value is another
	Moved   = "moved"   // it stands elsewhere among those whose order matters
	Renamed = "renamed" // a block has another name and holds the same
)

// Kinds are all of them.
var Kinds = []string{Added, Removed, Changed, Moved, Renamed}

// Change is what became of one entry from one tree to another.
type Change struct {
	Kind string
	Path []*Item // the blocks around it, outermost first
	From *Item   // as it was; nil of what was added
	To   *Item   // as it is; nil of what was removed
	More int     // lines below it that came, went or stayed the same along with it
	// Default is the line that the device leaves out, in the place of From or To, where a value came
	// from its default or went back to it.
	Default string
	Near    *Item // of what was moved: the entry that it stands behind now; nil: it stands first
}

// Changes lists what became of one canonical tree's entries in another, in the order of the newer
// one. A block that came or went is one change; entries whose order does not matter may stand
// anywhere.
func Changes(was, is *Item) []Change {
	var out []Change
	between(was, is, nil, &out)
	return out
}

func between(was, is *Item, path []*Item, out *[]Change) {
	inWas, inIs := was.ByID(), is.ByID()
	renamed := renames(was, is, inWas, inIs)
	gone := func(k *Item) bool { return inIs[k.ID] == nil && renamed[k] == nil }
	// What is gone is told where it stood: behind the last entry that both have.
	after := map[*Item][]*Item{}
	var last *Item
	for _, k := range was.Kids {
		if gone(k) {
			after[last] = append(after[last], k)
		} else if o := inIs[k.ID]; o != nil {
			last = o
		}
	}
	removed := func(behind *Item) {
		for _, k := range after[behind] {
			if line := k.defaulted(); line != "" {
				*out = append(*out, Change{Kind: Changed, Path: path, From: k, Default: line})
				continue
			}
			*out = append(*out, Change{Kind: Removed, Path: path, From: k, More: k.size() - 1})
		}
	}
	moves := moved(was, is, inWas, inIs)
	old := map[*Item]*Item{}
	for from, to := range renamed {
		old[to] = from
	}
	removed(nil)
	for _, k := range is.Kids {
		switch o := inWas[k.ID]; {
		case old[k] != nil:
			*out = append(*out, Change{Kind: Renamed, Path: path, From: old[k], To: k, More: k.size() - 1})
		case o == nil && k.defaulted() != "":
			*out = append(*out, Change{Kind: Changed, Path: path, To: k, Default: k.defaulted()})
		case o == nil:
			*out = append(*out, Change{Kind: Added, Path: path, To: k, More: k.size() - 1})
		default:
			if near, there := moves[k]; there {
				*out = append(*out, Change{Kind: Moved, Path: path, From: o, To: k, More: k.size() - 1, Near: near})
			}
			if !o.Same(k) {
				*out = append(*out, Change{Kind: Changed, Path: path, From: o, To: k})
			}
			between(o, k, append(slices.Clip(path), k), out)
		}
		removed(k)
	}
}

// defaulted is the line as it would read with its default; empty: it has none.
func (it *Item) defaulted() string {
	if it.Rule == nil || it.Rule.Default == "" || len(it.Kids) > 0 || it.inner != nil {
		return ""
	}
	return it.ident + " " + it.Rule.Default
}

// size is how many lines an entry has with all that is below it.
func (it *Item) size() int {
	n := 1 + len(it.Body)
	for _, k := range it.Kids {
		n += k.size()
	}
	return n
}

// renames pairs blocks that one side only has, of one shape and with the same below them.
func renames(was, is *Item, inWas, inIs map[string]*Item) map[*Item]*Item {
	var out map[*Item]*Item
	var free map[string][]*Item
	for _, k := range was.Kids {
		if inIs[k.ID] == nil && len(k.Kids) > 0 && k.Unread == "" {
			if free == nil {
				free = map[string][]*Item{}
			}
			what := k.holds()
			free[what] = append(free[what], k)
		}
	}
	if free == nil {
		return nil
	}
	for _, k := range is.Kids {
		if inWas[k.ID] != nil || len(k.Kids) == 0 {
			continue
		}
		what := k.holds()
		if like := free[what]; len(like) > 0 {
			if out == nil {
				out = map[*Item]*Item{}
			}
			out[like[0]], free[what] = k, like[1:]
		}
	}
	return out
}

// holds is what a block is without its name: the rule that speaks of it, its value and what is below
// it, those whose order does not matter sorted.
func (it *Item) holds() string {
	var b strings.Builder
	if it.Rule != nil {
		b.WriteString(it.Rule.Path)
	} else if len(it.words) > 0 {
		b.WriteString(it.words[0].Text)
	}
	b.WriteString("\x00" + it.Value() + "\x00" + strings.Join(it.Body, "\n"))
	it.writeKids(&b)
	return b.String()
}

// writeKids writes down what is below an item so that equal trees are written equally.
func (it *Item) writeKids(b *strings.Builder) {
	var ordered, free []string
	for _, k := range it.Kids {
		var kid strings.Builder
		line := k.Space + "\x00" + k.Line
		if k.Rule != nil && (len(k.Rule.Salted) > 0 || k.Withheld()) {
			line = k.Rule.Path + "\x00" + k.compared(k)
		}
		kid.WriteString("\x01" + line + "\x00" + strings.Join(k.Body, "\n"))
		k.writeKids(&kid)
		kid.WriteString("\x02")
		if _, is := k.Order(); is {
			ordered = append(ordered, kid.String())
		} else {
			free = append(free, kid.String())
		}
	}
	slices.Sort(free)
	for _, s := range slices.Concat(ordered, free) {
		b.WriteString(s)
	}
}

// moved tells which entries stand elsewhere among those whose order matters, as few as can be, and
// behind which line each stands now.
func moved(was, is *Item, inWas, inIs map[string]*Item) map[*Item]*Item {
	before, now := orders(was, inIs), orders(is, inWas)
	var out map[*Item]*Item
	for among, ids := range each(now) {
		if slices.Equal(before[among], ids) {
			continue
		}
		at := make(map[string]int, len(ids))
		for i, id := range before[among] {
			at[id] = i
		}
		stay := rising(ids, at)
		for i, id := range ids {
			if stay[i] {
				continue
			}
			if out == nil {
				out = map[*Item]*Item{}
			}
			out[inIs[id]] = nil
			if i > 0 {
				out[inIs[id]] = inIs[ids[i-1]]
			}
		}
	}
	return out
}

// rising tells which of ids make the longest run whose places rise.
func rising(ids []string, at map[string]int) []bool {
	var tails []int
	prev := make([]int, len(ids))
	for i, id := range ids {
		n, _ := slices.BinarySearchFunc(tails, at[id], func(t, v int) int { return at[ids[t]] - v })
		if prev[i] = -1; n > 0 {
			prev[i] = tails[n-1]
		}
		if n == len(tails) {
			tails = append(tails, i)
		} else {
			tails[n] = i
		}
	}
	stay := make([]bool, len(ids))
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; i >= 0; i = prev[i] {
			stay[i] = true
		}
	}
	return stay
}

// Place is what a line is about that stands in no block: its words up to the last that identifies,
// where others follow, as in "port 7" of "port 7 speed fast", or the first. Empty where the line is all there is.
func (it *Item) Place() string {
	if it.Rule == nil || it.deny {
		return ""
	}
	end := 0
	seg := it.Rule.segs[len(it.Rule.segs)-1]
	for i, t := range seg {
		if t.ident && !t.rest {
			end = i + 1
		}
	}
	if end == 0 && seg[0].capture == "" {
		end = 1
	}
	if end == 0 || end >= len(it.words) {
		return ""
	}
	return join(it.words[:end])
}
