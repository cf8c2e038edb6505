// Package rules knows what is true of a configuration's lines: one table of
// path patterns, and for each what identifies an entry, where order matters,
// what is secret, what changes by itself. Everything else (equivalence,
// changes, masking) is worked out from that table.
package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"magpie/internal/core/grammar"
)

// Rule is one row of the table.
type Rule struct {
	// Path is the pattern, segments from the outermost block inwards joined
	// by " / ". A word stands for itself, {name} for a word that is part of the
	// entry's identity, <name> for a word of its value; {name...} and
	// <name...> take all words that are left.
	Path string

	Ordered    bool     // the order of the lines directly below matters; new ones go to the end
	Overwrites bool     // a new value replaces the old one without removing it first
	Permanent  bool     // the device does not let go of it; it can only be overwritten
	Default    string   // the value the device leaves out
	Writes     []string // lines the device adds below by itself when the block is made
	Defines    string   // a name space: the identity's last word is a name in it
	Named      string   // the capture that is the name, where it is not the last word
	Uses       []Use    // names other rules define
	Secret     []string // captures that are secret
	Volatile   bool     // changes by itself; never compared, never sent
	Hostname   string   // the capture that is the name shown in the prompt
	Hardware   bool     // it belongs to one piece of hardware, and does not go to another
	Salted     []string // captures that the device shows otherwise each time: kept and sent, not compared

	Reach    bool   // carries the path by which the service reaches the device
	Landmark string // a name for what matches, when it is something a person looks for

	segs [][]token
}

// Use is a name a line refers to: each match of Name's first group is a name
// in Space.
type Use struct {
	Space string
	Name  *regexp.Regexp
}

type token struct {
	word, capture string
	ident, rest   bool
}

// Table is a set of rules. The first rule that matches a path counts.
type Table struct {
	Rules    []*Rule
	Quotes   string         // pairs that make one word of a text with blanks, like `""<>`; empty: double quotes
	Withheld *regexp.Regexp // what stands where the device does not tell a secret; nil: it always does
}

// Words cuts a line into words as the table's configurations do.
func (t *Table) Words(line string) []grammar.Word { return grammar.Words(line, t.Quotes) }

// Compile reads the rule's path pattern and checks what refers to it.
func (r *Rule) Compile() error {
	r.segs = nil
	for _, seg := range strings.Split(r.Path, " / ") {
		var toks []token
		for _, w := range strings.Fields(seg) {
			t := token{word: w}
			if n := len(w); n > 2 && (w[0] == '{' && w[n-1] == '}' || w[0] == '<' && w[n-1] == '>') {
				t = token{capture: w[1 : n-1], ident: w[0] == '{'}
				t.capture, t.rest = strings.CutSuffix(t.capture, "...")
			}
			if len(toks) > 0 && toks[len(toks)-1].rest {
				return fmt.Errorf("%s: nothing can follow a pattern that takes all words left", w)
			}
			toks = append(toks, t)
		}
		if len(toks) == 0 {
			return fmt.Errorf("the path has an empty segment")
		}
		r.segs = append(r.segs, toks)
	}
	for _, name := range append(append(slices.Clone(r.Secret), r.Salted...), r.Hostname, r.Named) {
		if name != "" && !r.has(name) {
			return fmt.Errorf("the path has no <%s> or {%s}", name, name)
		}
	}
	return nil
}

// Keys returns the captures that tell the entries of a list in a document apart,
// by the list's path of names: from any rule that speaks of it or of what lies
// below it.
func (t *Table) Keys(path []string) (keys []string) {
	for _, r := range t.Rules {
		if len(r.segs) < len(path) {
			continue
		}
		for i, name := range path {
			if r.segs[i][0].word != name {
				keys = nil
				break
			}
			keys = nil
			for _, tok := range r.segs[i][1:] {
				if tok.ident {
					keys = append(keys, tok.capture)
				}
			}
		}
		if len(keys) > 0 {
			return keys
		}
	}
	return nil
}

func (r *Rule) has(capture string) bool {
	return slices.ContainsFunc(r.segs[len(r.segs)-1], func(t token) bool { return t.capture == capture })
}

// fits tells whether words are of the segment's shape.
func fits(seg []token, words []grammar.Word) bool {
	for i, t := range seg {
		switch {
		case i >= len(words):
			return false
		case t.rest:
			return true
		case t.capture == "" && words[i].Text != t.word:
			return false
		}
	}
	return len(words) == len(seg)
}

// captures tells which words that fit a segment each capture took, a first index
// and one past the last, and how many of the words identify the line.
func captures(seg []token, words []grammar.Word) (caps map[string][2]int, ident int) {
	caps, ident = make(map[string][2]int, len(seg)), -1
	for i, t := range seg {
		if t.capture == "" {
			continue
		}
		end := i + 1
		if t.rest {
			end = len(words)
		}
		caps[t.capture] = [2]int{i, end}
		if !t.ident && ident < 0 {
			ident = i
		}
	}
	if ident < 0 {
		ident = len(words)
	}
	return caps, ident
}

// Item is a node seen through the table.
type Item struct {
	ID    string // tells it from its siblings
	Line  string // its words, one blank between them
	Body  []string
	Rule  *Rule // nil when no rule speaks of it
	Kids  []*Item
	Up    *Item
	Src   int // line in the source, from 1; 0 if it has none
	table *Table
	words []grammar.Word
	caps  map[string][2]int
	below []*Rule // whose paths lead through the item; see beneath
}

// find returns the rule for a node below up, its captures and its identity.
// where no rule speaks of it, the first ident words identify it: all, if 0.
func (t *Table) find(up *Item, words []grammar.Word, ident int) (*Rule, map[string][2]int, string) {
	depth := up.depth()
	for _, r := range t.beneath(up) {
		if len(r.segs) == depth+1 && fits(r.segs[depth], words) {
			caps, ident := captures(r.segs[depth], words)
			return r, caps, join(words[:ident])
		}
	}
	if ident > 0 && ident < len(words) {
		return nil, nil, join(words[:ident])
	}
	return nil, nil, join(words)
}

// depth is how many lines lead to what is below the item: 0 for the top.
func (it *Item) depth() (n int) {
	for p := it; p != nil && p.Up != nil; p = p.Up {
		n++
	}
	return n
}

// beneath lists the rules that speak of something below the item.
func (t *Table) beneath(it *Item) []*Rule {
	if it == nil || it.Up == nil {
		return t.Rules
	}
	if it.below == nil {
		depth := it.depth()
		it.below = []*Rule{}
		for _, r := range t.beneath(it.Up) {
			if len(r.segs) > depth && fits(r.segs[depth-1], it.words) {
				it.below = append(it.below, r)
			}
		}
	}
	return it.below
}

func join(words []grammar.Word) string {
	parts := make([]string, len(words))
	for i, w := range words {
		parts[i] = w.Text
	}
	return strings.Join(parts, " ")
}

// Item makes an item of one line below up, as the device would on reading it.
// It is not linked into up's Kids.
func (t *Table) Item(up *Item, line string, body []string) *Item {
	return t.item(up, line, body, 0)
}

func (t *Table) item(up *Item, line string, body []string, ident int) *Item {
	words := t.Words(line)
	r, caps, id := t.find(up, words, ident)
	return &Item{ID: id, Line: join(words), Body: body, Rule: r, Up: up, table: t, words: words, caps: caps}
}

// Resolve sees a whole tree through the table: the canonical tree. Lines that
// change by themselves and lines at their default are left out; a line given
// twice counts once, the last value winning.
func (t *Table) Resolve(root *grammar.Node) *Item {
	top := &Item{}
	t.resolve(top, root)
	return top
}

func (t *Table) resolve(up *Item, n *grammar.Node) {
	seen := map[string]*Item{}
	for _, k := range n.Kids {
		it := t.item(up, k.Text, k.Body, k.Ident)
		it.Src = k.Line
		if it.Rule != nil && it.Rule.Volatile {
			continue
		}
		if old := seen[it.ID]; old != nil {
			old.Line, old.Body, old.words, old.caps, old.below = it.Line, it.Body, it.words, it.caps, nil
			it = old
		} else {
			seen[it.ID] = it
			up.Kids = append(up.Kids, it)
		}
		t.resolve(it, k)
	}
	up.Kids = slices.DeleteFunc(up.Kids, (*Item).AtDefault)
}

// AtDefault tells whether the line says what the device would do without it.
func (it *Item) AtDefault() bool {
	return it.Rule != nil && it.Rule.Default != "" && len(it.Kids) == 0 && it.Value() == it.Rule.Default
}

// Value is what follows the identity.
func (it *Item) Value() string { return strings.TrimPrefix(strings.TrimPrefix(it.Line, it.ID), " ") }

// Ordered tells whether the order of the lines directly below matters.
func (it *Item) Ordered() bool { return it.Rule != nil && it.Rule.Ordered }

// Defines returns the name space and name the line defines, or "", "".
func (it *Item) Defines() (space, name string) {
	if it.Rule == nil || it.Rule.Defines == "" {
		return "", ""
	}
	if at, ok := it.caps[it.Rule.Named]; ok {
		return it.Rule.Defines, join(it.words[at[0]:at[1]])
	}
	w := strings.Fields(it.ID)
	return it.Rule.Defines, w[len(w)-1]
}

// Names returns the names the line itself uses, as "space name".
func (it *Item) Names() (out []string) {
	if it.Rule == nil {
		return nil
	}
	for _, u := range it.Rule.Uses {
		for _, m := range u.Name.FindAllStringSubmatch(it.Line, -1) {
			out = append(out, u.Space+" "+m[1])
		}
	}
	return out
}

// Same tells whether two items' own lines say the same: what a device salts
// anew each time, or does not tell, is not compared.
func (it *Item) Same(o *Item) bool {
	if it.Line != o.Line && (it.Rule == nil || it.Rule != o.Rule || it.compared(o) != o.compared(it)) {
		return false
	}
	return slices.Equal(it.Body, o.Body)
}

// compared is the line without the words that cannot be compared with other's.
func (it *Item) compared(other *Item) string {
	parts := make([]string, len(it.words))
	for i, w := range it.words {
		parts[i] = w.Text
	}
	blank := func(capture string) {
		if at, ok := it.caps[capture]; ok {
			parts[at[0]] = ""
			for i := at[0] + 1; i < at[1]; i++ {
				parts[i] = ""
			}
		}
	}
	for _, c := range it.Rule.Salted {
		blank(c)
	}
	if it.Withheld() || other.Withheld() {
		for _, c := range it.Rule.Secret {
			blank(c)
		}
	}
	return strings.Join(parts, "\x00")
}

// Withheld tells whether the device did not tell a secret of the line, so that
// the line cannot be put back.
func (it *Item) Withheld() bool {
	if it.Rule == nil || it.table == nil || it.table.Withheld == nil {
		return false
	}
	return slices.ContainsFunc(it.Secrets(), it.table.Withheld.MatchString)
}

// Unsure lists the lines at and below it that could not be wholly compared.
func (it *Item) Unsure() (out []*Item) {
	if it.Rule != nil && len(it.Rule.Salted) > 0 || it.Withheld() {
		out = append(out, it)
	}
	for _, k := range it.Kids {
		out = append(out, k.Unsure()...)
	}
	return out
}

// Hostname returns the prompt name the line sets, or "".
func (it *Item) Hostname() string {
	if it.Rule == nil || it.Rule.Hostname == "" {
		return ""
	}
	at := it.caps[it.Rule.Hostname]
	return join(it.words[at[0]:at[1]])
}

// Opens tells whether the line is the head of a block: some rule speaks of
// lines below it.
func (t *Table) Opens(it *Item) bool {
	depth := it.depth()
	return slices.ContainsFunc(t.beneath(it), func(r *Rule) bool { return len(r.segs) == depth+1 })
}

// Kid returns the child of that identity, or nil.
func (it *Item) Kid(id string) *Item {
	for _, k := range it.Kids {
		if k.ID == id {
			return k
		}
	}
	return nil
}

// ByID returns the children by what identifies them, as Kid would find each: for
// whoever asks for many.
func (it *Item) ByID() map[string]*Item {
	out := make(map[string]*Item, len(it.Kids))
	for _, k := range it.Kids {
		if out[k.ID] == nil {
			out[k.ID] = k
		}
	}
	return out
}

// Path is the lines of the blocks around the item and its own, outermost
// first, joined by " / ".
func (it *Item) Path() string {
	if it.Up == nil || it.Up.Up == nil {
		return it.Line
	}
	return it.Up.Path() + " / " + it.Line
}

// Clone copies the item and all below it, hung below up.
func (it *Item) Clone(up *Item) *Item {
	c := *it
	c.Up, c.Kids = up, nil
	for _, k := range it.Kids {
		c.Kids = append(c.Kids, k.Clone(&c))
	}
	return &c
}

// Equivalent tells whether two canonical trees say the same.
func Equivalent(a, b *Item) bool {
	if !a.Same(b) || len(a.Kids) != len(b.Kids) {
		return false
	}
	if a.Ordered() {
		return slices.EqualFunc(a.Kids, b.Kids, Equivalent)
	}
	byID := make(map[string]*Item, len(b.Kids))
	for _, k := range b.Kids {
		byID[k.ID] = k
	}
	for _, k := range a.Kids {
		other := byID[k.ID]
		if other == nil || !Equivalent(k, other) {
			return false
		}
	}
	return true
}

// Node turns the item's children back into a tree that grammar can print.
func (it *Item) Node() *grammar.Node {
	n := &grammar.Node{Text: it.Line, Body: it.Body}
	for _, k := range it.Kids {
		n.Kids = append(n.Kids, k.Node())
	}
	return n
}

// Difference is a line that is in one of two trees only, or differs.
type Difference struct {
	Block string // the blocks around it
	Have  string // the line as it is; empty when missing
	Want  string // the line as it should be; empty when it should not be there
	Order bool   // only its place among its neighbours differs
	item  *Item
}

// Reach tells whether the line, or the block it stands in, carries the path by
// which the device is reached.
func (d Difference) Reach() bool {
	for it := d.item; it != nil; it = it.Up {
		if it.Rule != nil && it.Rule.Reach {
			return true
		}
	}
	return false
}

// Fits tells whether the rule's path is that of an item.
func (r *Rule) Fits(it *Item) bool {
	for i := len(r.segs) - 1; i >= 0; i, it = i-1, it.Up {
		if it == nil || it.Up == nil || !fits(r.segs[i], it.words) {
			return false
		}
	}
	return it != nil && it.Up == nil
}

// Differences lists what keeps have from being equivalent to want.
func Differences(have, want *Item) (out []Difference) {
	block := func(it *Item) string {
		if it.Up == nil {
			return ""
		}
		return it.Path()
	}
	var whole func(it *Item, add bool)
	whole = func(it *Item, add bool) {
		d := Difference{Block: block(it.Up), Have: it.Line, item: it}
		if add {
			d.Have, d.Want = "", it.Line
		}
		out = append(out, d)
		for _, k := range it.Kids {
			whole(k, add)
		}
	}
	var walk func(h, w *Item)
	walk = func(h, w *Item) {
		var keptH, keptW []string
		inH, inW := h.ByID(), w.ByID()
		for _, k := range h.Kids {
			if inW[k.ID] == nil {
				whole(k, false)
			} else {
				keptH = append(keptH, k.ID)
			}
		}
		for _, k := range w.Kids {
			o := inH[k.ID]
			if o == nil {
				whole(k, true)
				continue
			}
			keptW = append(keptW, k.ID)
			if !o.Same(k) {
				out = append(out, Difference{Block: block(h), Have: o.Line, Want: k.Line, item: k})
			}
			walk(o, k)
		}
		if w.Ordered() && !slices.Equal(keptH, keptW) {
			for i, id := range keptW {
				if keptH[i] != id {
					out = append(out, Difference{Block: block(h), Have: inH[keptH[i]].Line, Want: inW[id].Line, Order: true, item: inW[id]})
				}
			}
		}
	}
	walk(have, want)
	return out
}

// Found is a landmark: a name, and what stands for it.
type Found struct {
	Name   string
	Values []string // what identifies each line that matches, or its value
}

// Landmarks finds what matches each landmark's path, in the tree's order.
func (m Masker) Landmarks(top *Item, marks []*Rule) (out []Found) {
	for _, mark := range marks {
		f := Found{Name: mark.Landmark}
		var walk func(depth int, it *Item)
		walk = func(depth int, it *Item) {
			for _, k := range it.Kids {
				if !fits(mark.segs[depth], k.words) {
					continue
				}
				if depth < len(mark.segs)-1 {
					walk(depth+1, k)
					continue
				}
				masked := m.Table.Words(m.Item(k))
				caps, _ := captures(mark.segs[depth], k.words)
				for _, t := range mark.segs[depth] {
					if at, ok := caps[t.capture]; ok && t.capture != "" && at[1] <= len(masked) {
						f.Values = append(f.Values, join(masked[at[0]:at[1]]))
						break
					}
				}
			}
		}
		walk(0, top)
		out = append(out, f)
	}
	return out
}
