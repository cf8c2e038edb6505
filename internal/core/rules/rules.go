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

	Remove   string         // how a line is taken away, where not as most are: with {line}, {identity} and captures
	Single   bool           // there is one of these at a time in a block: the old one goes before a new one comes
	Choice   string         // of the lines of one choice in a block, whatever rule they fall under, there is one at a time
	SingleBy []string       // of those that agree in these captures there is one at a time
	Unique   []string       // of those that agree in these captures there is one in all of the configuration
	Empties  bool           // the block can only be emptied: an empty one and none are the same
	Takes    []*Rule        // lines elsewhere that the device takes away with it, told by captures of the same name
	GoesWith *Rule          // the line that it goes with: it cannot be taken away by itself
	Sequence string         // lines of one sequence in a block are ordered among themselves
	Before   *regexp.Regexp // new lines of the block, or of the sequence, go before the line that matches, not to the end
	Beside   string         // what a block is called while it stands beside the one it is to replace: with {name}

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
	Denial   string         // the word before a line that says the opposite of it; empty: there is none

	noise []Own // what people say is none of it worth looking at; see With
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
	for _, name := range slices.Concat(r.Secret, r.Salted, r.SingleBy, r.Unique, []string{r.Hostname, r.Named}) {
		if name != "" && !r.Has(name) {
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

// Known tells whether any rule speaks of an element, by its path of names, or of what
// lies below it.
func (t *Table) Known(path []string) bool {
	return slices.ContainsFunc(t.Rules, func(r *Rule) bool { return len(r.segs) >= len(path) && r.leads(path) })
}

// Choice is the choice that an element belongs to, by its path of names; empty: none.
func (t *Table) Choice(path []string) string {
	for _, r := range t.Rules {
		if len(r.segs) == len(path) && r.Choice != "" && r.leads(path) {
			return r.Choice
		}
	}
	return ""
}

// leads tells whether the rule's path begins with those names.
func (r *Rule) leads(path []string) bool {
	for i, name := range path {
		if r.segs[i][0].word != name {
			return false
		}
	}
	return true
}

// Covers tells whether the rule matches all that another does.
func (r *Rule) Covers(o *Rule) bool {
	if len(r.segs) != len(o.segs) {
		return false
	}
	for i, seg := range r.segs {
		other := o.segs[i]
		for j, t := range seg {
			if j >= len(other) {
				return false
			}
			if t.rest {
				break
			}
			if other[j].rest || t.capture == "" && (other[j].capture != "" || other[j].word != t.word) {
				return false
			}
			if j == len(seg)-1 && len(other) != len(seg) {
				return false
			}
		}
	}
	return true
}

// Has tells whether the path's last segment has that capture.
func (r *Rule) Has(capture string) bool {
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

// captures tells which words that fit a segment each capture took: a first index
// and one past the last.
func captures(seg []token, words []grammar.Word) (caps captured) {
	for i, t := range seg {
		if t.capture == "" {
			continue
		}
		end := i + 1
		if t.rest {
			end = len(words)
		}
		caps = append(caps, capture{t.capture, [2]int{i, end}})
	}
	return caps
}

// captured are the words that captures took: of each from which to before which.
type captured []capture

type capture struct {
	name string
	at   [2]int
}

// of is what a capture took; nothing, if there is none of that name.
func (c captured) of(name string) (at [2]int, is bool) {
	for i := len(c) - 1; i >= 0; i-- {
		if c[i].name == name {
			return c[i].at, true
		}
	}
	return at, false
}

// identity is what tells words that fit a segment from others: all before the first
// value; where something that identifies stands behind a value, all but the values.
// inner tells which words are values in the midst of it.
func identity(seg []token, words []grammar.Word) (id string, inner []bool) {
	value, behind := -1, -1 // the first value, and the last word that identifies
	for i, t := range seg {
		switch {
		case t.capture != "" && !t.ident && value < 0:
			value = i
		case t.ident:
			behind = i
		}
	}
	if value < 0 {
		return join(words), nil
	}
	if behind < value {
		return join(words[:value]), nil
	}
	parts := make([]string, len(words))
	inner = make([]bool, len(words))
	for i, w := range words {
		if t := seg[min(i, len(seg)-1)]; t.capture != "" && !t.ident {
			parts[i], inner[i] = "…", true
		} else {
			parts[i] = w.Text
		}
	}
	return strings.Join(parts, " "), inner
}

// Item is a node seen through the table.
type Item struct {
	ID   string // tells it from its siblings
	Line string // its words, one blank between them
	Body []string
	Rule *Rule // nil when no rule speaks of it
	Kids []*Item
	Up   *Item
	Src  int // line in the source, from 1; 0 if it has none

	Unread string // why the grammar cannot read it; it means nothing but itself

	table *Table
	words []grammar.Word
	caps  captured
	inner []bool  // which words are values in the midst of what identifies the line
	deny  bool    // its first word denies the rest
	torn  bool    // of the top: some line could not be read, so that others may stand in the wrong block
	below []*Rule // whose paths lead through the item; see beneath
}

// rule returns the one that speaks of a node below up.
func (t *Table) rule(up *Item, words []grammar.Word) *Rule {
	depth := up.depth()
	for _, r := range t.beneath(up) {
		if len(r.segs) == depth+1 && fits(r.segs[depth], words) {
			return r
		}
	}
	return nil
}

// find says of an item which rule speaks of it and what identifies it. Where none does,
// its first ident words identify it: all, if 0. A denied line is told by what it denies.
func (t *Table) find(it *Item, ident int) {
	words := t.meet(it)
	switch r := it.Rule; {
	case r != nil:
		seg := r.segs[len(r.segs)-1]
		it.caps = captures(seg, words)
		it.ID, it.inner = identity(seg, words)
	case ident > 0 && ident < len(words):
		it.ID = join(words[:ident])
	default:
		it.ID = join(words)
	}
	if it.deny { // where each word stands in the line
		for i := range it.caps {
			it.caps[i].at[0]++
			it.caps[i].at[1]++
		}
		if it.inner != nil {
			it.inner = append([]bool{true}, it.inner...)
		}
	}
}

// meet says of an item which rule speaks of it, and returns the words that the rule fits: of a denied
// line those of what it denies.
func (t *Table) meet(it *Item) (words []grammar.Word) {
	words = it.words
	if it.Rule = t.rule(it.Up, words); it.Rule == nil && t.Denial != "" && len(words) > 1 && words[0].Text == t.Denial {
		it.deny, words = true, words[1:]
		it.Rule = t.rule(it.Up, words)
	}
	return words
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
	it := &Item{Body: body, Up: up, table: t, words: t.Words(line)}
	it.Line = join(it.words)
	t.find(it, ident)
	return it
}

// Resolve sees a whole tree through the table: the canonical tree. Lines that
// change by themselves and lines at their default are left out; a line given
// twice counts once, the last value winning.
func (t *Table) Resolve(root *grammar.Node) *Item {
	top := &Item{torn: len(grammar.Unread(root)) > 0}
	t.resolve(top, root, nil)
	return top
}

// ResolveSettled is Resolve and Settled at once.
func (t *Table) ResolveSettled(lines int, root *grammar.Node) (*Item, []bool) {
	if t.noise != nil { // what is noise says something, and is not in the tree
		return t.Resolve(root), t.Settled(lines, root)
	}
	top, says := &Item{torn: len(grammar.Unread(root)) > 0}, make([]bool, lines)
	t.resolve(top, root, says)
	return top, says
}

// resolve sees what is below a node. Where says is not nil, it notes the lines that say something.
func (t *Table) resolve(up *Item, n *grammar.Node, says []bool) {
	seen := make(map[string]*Item, len(n.Kids))
	for _, k := range up.Kids { // of a block that is opened once more
		seen[k.ID] = k
	}
	for _, k := range n.Kids {
		it := t.item(up, k.Text, k.Body, k.Ident)
		it.Src = k.Line
		says := says
		if it.Rule != nil && it.Rule.Volatile {
			says = nil
		} else if says != nil {
			eachLine(k, func(line int) { says[line-1] = true })
		}
		if k.Unread != "" {
			it = t.unread(up, k, seen)
		}
		if it.Rule != nil && it.Rule.Volatile || t.noise != nil && t.hushed(it) > 0 {
			continue
		}
		if old := seen[it.ID]; old != nil {
			old.Line, old.Body, old.words, old.caps, old.inner, old.deny, old.below = it.Line, it.Body, it.words, it.caps, it.inner, it.deny, nil
			it = old
		} else {
			seen[it.ID] = it
			up.Kids = append(up.Kids, it)
		}
		t.resolve(it, k, says)
	}
	up.Kids = slices.DeleteFunc(up.Kids, (*Item).AtDefault)
}

// unread is an item of a line that could not be read: it is told by its whole text, and
// there may be several alike.
func (t *Table) unread(up *Item, k *grammar.Node, seen map[string]*Item) *Item {
	it := &Item{Line: k.Text, Body: k.Body, Up: up, Src: k.Line, Unread: k.Unread, table: t, words: t.Words(k.Text)}
	for n := 1; ; n++ {
		if it.ID = fmt.Sprintf("unread %d %s", n, k.Text); seen[it.ID] == nil {
			return it
		}
	}
}

// AtDefault tells whether the line says what the device would do without it, or is a
// block that is the same as none.
func (it *Item) AtDefault() bool {
	return it.Rule != nil && len(it.Kids) == 0 && (it.Rule.Empties || it.Rule.Default != "" && it.Value() == it.Rule.Default)
}

// Value is what is not part of the identity.
func (it *Item) Value() string {
	if it.deny && it.inner == nil {
		return strings.TrimSuffix(it.words[0].Text+" "+strings.TrimPrefix(join(it.words[1:]), it.ID), " ")
	}
	if it.inner == nil {
		return strings.TrimPrefix(strings.TrimPrefix(it.Line, it.ID), " ")
	}
	return it.picked(true)
}

// Identity is the words that identify the line.
func (it *Item) Identity() string {
	if it.inner == nil {
		return it.ID
	}
	return it.picked(false)
}

// picked are the words that are values, or those that are not.
func (it *Item) picked(values bool) string {
	var out []string
	for i, w := range it.words {
		if it.inner[i] == values {
			out = append(out, w.Text)
		}
	}
	return strings.Join(out, " ")
}

// Denied tells whether the line denies what its other words say.
func (it *Item) Denied() bool { return it.deny }

// Denies is what a denied line denies.
func (it *Item) Denies() string { return join(it.words[1:]) }

// Overwrites tells whether the device takes it in another's place without the other's
// having been taken away.
func (it *Item) Overwrites(old *Item) bool {
	return it.Rule != nil && it.Rule.Overwrites || it.deny != old.deny
}

// Capture is the words that a capture of the line's rule took; empty if it has none.
func (it *Item) Capture(name string) string {
	at, ok := it.caps.of(name)
	if !ok {
		return ""
	}
	return join(it.words[at[0]:at[1]])
}

// Expand puts the line, its identity and the captures of its rule into a text.
func (it *Item) Expand(text string) string {
	pairs := []string{"{line}", it.Line, "{identity}", it.Identity()}
	for _, c := range it.caps {
		pairs = append(pairs, "{"+c.name+"}", it.Capture(c.name))
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// Shared lists the captures that the paths of two rules both have, in order.
func (r *Rule) Shared(o *Rule) (names []string) {
	has := map[string]bool{}
	for _, seg := range o.segs {
		for _, t := range seg {
			has[t.capture] = t.capture != ""
		}
	}
	for _, seg := range r.segs {
		for _, t := range seg {
			if has[t.capture] && !slices.Contains(names, t.capture) {
				names = append(names, t.capture)
			}
		}
	}
	slices.Sort(names)
	return names
}

// Took is what captures took of a line that fits the rule's path and of the blocks around
// it, as one text.
func (r *Rule) Took(it *Item, names []string) string {
	took := make([]string, len(names))
	for i, p := len(r.segs)-1, it; i >= 0; i, p = i-1, p.Up {
		for _, c := range captures(r.segs[i], p.words) {
			if n, ok := slices.BinarySearch(names, c.name); ok {
				took[n] = join(p.words[c.at[0]:c.at[1]])
			}
		}
	}
	return strings.Join(took, "\x00")
}

// Sole names what the line shares with others that cannot stand beside it, where its
// rule says that of such there is one at a time: in its block, or anywhere.
func (it *Item) Sole() (shared []string) {
	if it.Rule == nil {
		return nil
	}
	agree := func(scope string, captures []string) string {
		for _, c := range captures {
			scope += "\x00" + it.Capture(c)
		}
		return scope
	}
	if it.Rule.Single || it.Rule.SingleBy != nil || it.Rule.Choice != "" {
		block := it.Rule.Path
		if it.Rule.Choice != "" {
			block = "choice " + it.Rule.Choice
		}
		for p := it.Up; p != nil; p = p.Up {
			block += "\x00" + p.ID
		}
		shared = append(shared, agree(block+"\x00", it.Rule.SingleBy))
	}
	if it.Rule.Unique != nil {
		shared = append(shared, agree(it.Rule.Path, it.Rule.Unique))
	}
	return shared
}

// Retold is the line written otherwise, with all that is below it, hung below up.
func (it *Item) Retold(up *Item, line string) *Item {
	n := it.table.Item(up, line, it.Body)
	for _, k := range it.Kids {
		n.Kids = append(n.Kids, k.Retold(n, k.Line))
	}
	return n
}

// Order names what an item is ordered among in its block, and tells whether it is at
// all: all the block's lines, or those of a sequence.
func (it *Item) Order() (among string, ordered bool) {
	if it.Up != nil && it.Up.Rule != nil && it.Up.Rule.Ordered {
		return "", true
	}
	if it.Rule != nil && it.Rule.Sequence != "" {
		return it.Rule.Sequence, true
	}
	return "", false
}

// Before is the pattern of the line that new ones go before where the item is ordered;
// nil: they go to the end.
func (it *Item) Before() *regexp.Regexp {
	if it.Up != nil && it.Up.Rule != nil && it.Up.Rule.Ordered {
		return it.Up.Rule.Before
	}
	if it.Rule != nil && it.Rule.Sequence != "" {
		return it.Rule.Before
	}
	return nil
}

// Defines returns the name space and name the line defines, or "", "".
func (it *Item) Defines() (space, name string) {
	if it.Rule == nil || it.Rule.Defines == "" {
		return "", ""
	}
	if at, ok := it.caps.of(it.Rule.Named); ok {
		return it.Rule.Defines, join(it.words[at[0]:at[1]])
	}
	w := strings.Fields(it.Identity())
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
	at, _ := it.caps.of(it.Rule.Hostname)
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

// block is the path of a block; empty at the top.
func (it *Item) block() string {
	if it.Up == nil {
		return ""
	}
	return it.Path()
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

// Node turns the item's children back into a tree that grammar can print.
func (it *Item) Node() *grammar.Node {
	n := &grammar.Node{Text: it.Line, Body: it.Body, Unread: it.Unread}
	for _, k := range it.Kids {
		n.Kids = append(n.Kids, k.Node())
	}
	return n
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

// matches lists the items that the rule's path leads to, in the tree's order.
func (r *Rule) matches(top *Item) (out []*Item) {
	var walk func(depth int, it *Item)
	walk = func(depth int, it *Item) {
		if depth == len(r.segs) {
			out = append(out, it)
			return
		}
		for _, k := range it.Kids {
			if fits(r.segs[depth], k.words) {
				walk(depth+1, k)
			}
		}
	}
	walk(0, top)
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
		last := mark.segs[len(mark.segs)-1]
		for _, k := range mark.matches(top) {
			masked := m.Table.Words(m.Item(k))
			caps := captures(last, k.words)
			for _, t := range last {
				if at, ok := caps.of(t.capture); ok && t.capture != "" && at[1] <= len(masked) {
					f.Values = append(f.Values, join(masked[at[0]:at[1]]))
					break
				}
			}
		}
		out = append(out, f)
	}
	return out
}
