// Package rules knows what is true of a configuration's lines: one table of
// path patterns, and for each what identifies an entry, where order matters,
// what is secret, what changes by itself. Everything else (equivalence,
// changes, masking) is worked out from that table.
package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
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
	Free       bool     // the order of the lines directly below does not count
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

	Reach   bool   // carries the path by which the service reaches the device
	KeyFact string // a name for what matches, when it is something a person looks for

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
	attr          string // the attribute whose value the capture takes; such tokens stand last
	ident, rest   bool
}

// attribute is how a path speaks of the value of an attribute, or of an option: @name=<capture>, or
// @name={capture} where it identifies the line.
var attribute = regexp.MustCompile(`^@([^=<>{}]+)=(?:<([^<>{}]+)>|\{([^<>{}]+)\})$`)

// Table is a set of rules. The first rule that matches a path counts.
type Table struct {
	Rules    []*Rule
	Quotes   string         // pairs that make one word of a text with blanks, like `""<>`; empty: double quotes
	Withheld *regexp.Regexp // what stands where the device does not tell a secret; nil: it always does
	Denial   string         // the word before a line that says the opposite of it; empty: there is none
	Free     bool           // order counts only where a rule says so
	Blanks   bool           // how many blanks stand between the words that a rule names does not count

	// Secrets are patterns of what is secret wherever it stands in a text: their groups, or all
	// that matches where they have none.
	Secrets  []*regexp.Regexp
	Escape   byte // in quotes, the character that takes the next one's meaning away; 0: none does
	Assign   byte // the sign between the name and the value of an option; 0: there are none
	Document bool // the texts are XML or JSON

	noise       []Own           // what people say is none of it worth looking at; see With
	secretNames map[string]bool // words behind which rules know secrets; see Compile
}

// Words cuts a line into words as the table's configurations do.
func (t *Table) Words(line string) []grammar.Word {
	return grammar.Words(line, grammar.Quotes{Pairs: t.Quotes, Escape: t.Escape, Assign: t.Assign})
}

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
			if m := attribute.FindStringSubmatch(w); m != nil {
				t = token{attr: m[1], capture: m[2] + m[3], ident: m[3] != ""}
			}
			switch last := len(toks) - 1; {
			case last < 0 && t.attr != "":
				return fmt.Errorf("%s: an attribute stands behind what it is one of", w)
			case last >= 0 && toks[last].attr != "" && t.attr == "":
				return fmt.Errorf("%s: only attributes can follow an attribute", w)
			case last >= 0 && toks[last].rest && t.attr == "":
				return fmt.Errorf("%s: nothing can follow a pattern that takes all words left", w)
			}
			toks = append(toks, t)
		}
		if len(toks) == 0 {
			return fmt.Errorf("the path has an empty segment")
		}
		r.segs = append(r.segs, toks)
	}
	if r.Defines != "" && r.Named == "" {
		last := r.segs[len(r.segs)-1]
		if last[0].capture != "" && !slices.ContainsFunc(last, func(t token) bool { return t.ident }) {
			return fmt.Errorf("defines %s, and no word of the last segment identifies the line; say with named which capture is the name", r.Defines)
		}
	}
	for _, name := range slices.Concat(r.Secret, r.Salted, r.SingleBy, r.Unique, []string{r.Hostname, r.Named}) {
		if name != "" && name != Body && !r.Has(name) {
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

// fits tells whether words, without those of attributes, are of the segment's shape.
func fits(seg []token, words []grammar.Word) bool {
	n := 0
	for i, t := range seg {
		switch {
		case t.attr != "":
			continue
		case i >= len(words):
			return false
		case t.rest:
			return true
		case t.capture == "" && words[i].Text != t.word:
			return false
		}
		n++
	}
	return len(words) == n
}

// captures tells which words that fit a segment each capture took: a first index
// and one past the last. The last attrs pairs of words are names and values of attributes.
func captures(seg []token, words []grammar.Word, attrs int) (caps captured) {
	for i, t := range seg {
		if t.attr != "" {
			for j := len(words) - attrs; j+1 < len(words); j += 2 {
				if words[j].Text == "@"+t.attr {
					caps = append(caps, capture{t.capture, [2]int{j + 1, j + 2}})
				}
			}
			continue
		}
		if t.capture == "" {
			continue
		}
		end := i + 1
		if t.rest {
			end = len(words) - attrs
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
// value, n of them; where something that identifies stands behind a value, all but the values.
// inner tells which words are values in the midst of it.
func identity(seg []token, words []grammar.Word) (id string, n int, inner []bool) {
	value, behind := -1, -1 // the first value, and the last word that identifies
	for i, t := range seg {
		switch {
		case t.attr != "":
		case t.capture != "" && !t.ident && value < 0:
			value = i
		case t.ident:
			behind = i
		}
	}
	if value < 0 {
		return join(words), len(words), nil
	}
	if behind < value {
		return join(words[:value]), value, nil
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
	return strings.Join(parts, " "), len(words), inner
}

// Item is a node seen through the table.
type Item struct {
	// ID tells the item from all its siblings: what identifies it, its namespace, and its ordinal
	// where siblings before it have the same. See Identity for what is shown and typed.
	ID   string
	Line string // as it is written, without its indentation
	Body []string
	Rule *Rule // nil when no rule speaks of it
	Kids []*Item
	Up   *Item
	Src  int // line in the source, from 1; 0 if it has none

	Unread string // why the grammar cannot read it; it means nothing but itself
	Space  string // the namespace of a document's element
	Clash  bool   // a sibling before it has the same identity by a rule: the rule does not tell them apart

	// Left are the lines directly below that are not in Kids because they are at their default.
	Left []*Item

	table *Table
	words []grammar.Word
	keys  []string // the leaves whose values the words behind the first are; see grammar.Node
	attrs int      // how many words at the end are names and values of attributes
	ident string   // what identifies it, without namespace and ordinal
	nth   int      // its ordinal among siblings of one identity, from 1
	value int      // the first word that is a value, of those that follow what identifies; len(words): none
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
	denied := len(it.words) - it.attrs - len(words)
	switch r := it.Rule; {
	case r != nil:
		seg := r.segs[len(r.segs)-1]
		it.caps = captures(seg, it.words[denied:], it.attrs)
		var n int
		it.ident, n, it.inner = identity(seg, words)
		it.value = denied + n
		for _, tok := range seg {
			if tok.attr != "" && tok.ident {
				it.ident += " @" + tok.attr + "=" + it.Capture(tok.capture)
			}
		}
	case ident > 0 && ident < len(words):
		it.ident, it.value = join(words[:ident]), ident
	default:
		it.ident, it.value = join(words), len(it.words)
	}
	if denied > 0 { // where each word stands in the line
		for i := range it.caps {
			it.caps[i].at[0] += denied
			it.caps[i].at[1] += denied
		}
		if it.inner != nil {
			it.inner = append([]bool{true}, it.inner...)
		}
	}
	it.number(1)
}

// number gives an item its ordinal among siblings of one identity, from 1.
func (it *Item) number(n int) {
	it.nth, it.ID = n, it.ident
	if it.Space != "" {
		it.ID += "\x00{" + it.Space + "}"
	}
	if n > 1 {
		it.ID += "\x00" + strconv.Itoa(n)
	}
	it.Clash = n > 1 && it.Rule != nil && it.value < len(it.words)-it.attrs
}

// Renumber gives the lines of a block their ordinals anew, after some came or went.
func (it *Item) Renumber() {
	count := make(map[string]int, len(it.Kids))
	for _, k := range it.Kids {
		if k != nil {
			key := k.Space + "\x00" + k.ident
			count[key]++
			if count[key] != k.nth {
				k.number(count[key])
			}
		}
	}
}

// meet says of an item which rule speaks of it, and returns the words that the rule fits: of a denied
// line those of what it denies.
func (t *Table) meet(it *Item) (words []grammar.Word) {
	words = it.words[:len(it.words)-it.attrs]
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
			if len(r.segs) > depth && fits(r.segs[depth-1], it.positional()) {
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

// positional are the words that a path is held to: all but those of attributes.
func (it *Item) positional() []grammar.Word { return it.words[:len(it.words)-it.attrs] }

// Item makes an item of one line below up, as the device would on reading it.
// It is not linked into up's Kids.
func (t *Table) Item(up *Item, line string, body []string) *Item {
	return t.node(up, &grammar.Node{Text: line, Body: body})
}

// bare is an item of a node as it is written, of which it is not known yet which rule speaks of it.
func (t *Table) bare(up *Item, k *grammar.Node) *Item {
	it := &Item{Line: k.Text, Body: k.Body, Up: up, Src: k.Line, Unread: k.Unread, Space: k.Space, table: t, words: t.Words(k.Text), attrs: 2 * k.Attrs, keys: k.Keys}
	if t.Assign != 0 {
		it.attrs = grammar.Options(it.words)
	}
	return it
}

// node makes an item of a node below up, without what is below it.
func (t *Table) node(up *Item, k *grammar.Node) *Item {
	it := t.bare(up, k)
	if it.Unread != "" {
		it.ident, it.value = "unread "+k.Text, len(it.words)
		it.number(1)
		return it
	}
	t.find(it, k.Ident)
	return it
}

// Resolve sees a whole tree through the table: the canonical tree. Lines that change by
// themselves are left out, and so are lines at their default. No two lines become one: lines
// that nothing tells apart are told by their ordinal.
func (t *Table) Resolve(root *grammar.Node) *Item {
	top := &Item{torn: len(grammar.Unread(root)) > 0, table: t}
	t.resolve(top, root, nil)
	return top
}

// ResolveSettled is Resolve and Settled at once.
func (t *Table) ResolveSettled(lines int, root *grammar.Node) (*Item, []bool) {
	if t.noise != nil { // what is noise says something, and is not in the tree
		return t.Resolve(root), t.Settled(lines, root)
	}
	top, says := &Item{torn: len(grammar.Unread(root)) > 0, table: t}, make([]bool, lines)
	t.resolve(top, root, says)
	return top, says
}

// resolve sees what is below a node. Where says is not nil, it notes the lines that say something.
func (t *Table) resolve(up *Item, n *grammar.Node, says []bool) {
	if len(n.Kids) == 0 {
		return
	}
	up.Kids = make([]*Item, 0, len(n.Kids))
	for _, k := range n.Kids {
		it := t.node(up, k)
		says := says
		if it.Rule != nil && it.Rule.Volatile {
			says = nil
		} else if says != nil {
			eachLine(k, func(line int) { says[line-1] = true })
		}
		if it.Rule != nil && it.Rule.Volatile || t.noise != nil && t.hushed(it) > 0 {
			continue
		}
		up.Kids = append(up.Kids, it)
		t.resolve(it, k, says)
	}
	up.Renumber()
	up.leaveOut()
}

// leaveOut moves the lines that are at their default from Kids to Left. A line that is one of
// several of an identity is no default: what the device makes of those nobody knows.
func (it *Item) leaveOut() {
	if !slices.ContainsFunc(it.Kids, (*Item).AtDefault) {
		return
	}
	several := map[string]bool{}
	for _, k := range it.Kids {
		if k.nth > 1 {
			several[k.ident] = true
		}
	}
	kept := it.Kids[:0:0]
	for _, k := range it.Kids {
		if k.AtDefault() && !several[k.ident] {
			it.Left = append(it.Left, k)
		} else {
			kept = append(kept, k)
		}
	}
	it.Kids = kept
}

// Alike tells whether two items have one identity and say the same, whatever their ordinals.
func (it *Item) Alike(o *Item) bool { return it.ident == o.ident && it.Same(o) }

// Nth is the item's ordinal among the lines of its block that have its identity, from 1.
func (it *Item) Nth() int { return it.nth }

// Again gives an item another ordinal.
func (it *Item) Again(nth int) { it.number(nth) }

// First is the ID that the item has, or would have, as the first of its identity in its block.
func (it *Item) First() string { return it.Nthly(1) }

// Nthly is the ID that the item has, or would have, as the nth of its identity in its block.
func (it *Item) Nthly(n int) string {
	c := Item{ident: it.ident, Space: it.Space}
	c.number(n)
	return c.ID
}

// Words are the item's words, one blank between them.
func (it *Item) Words() string { return join(it.words) }

// Head is the first word of the line.
func (it *Item) Head() string {
	if len(it.words) == 0 {
		return ""
	}
	return it.words[0].Text
}

// Clashes lists, in order, the lines at and below an item that have the identity of one before
// them although their rule says that it tells them apart: such a rule is wrong, or the device is.
func (it *Item) Clashes() (out []*Item) {
	if it.Clash {
		out = append(out, it)
	}
	for _, k := range it.Kids {
		out = append(out, k.Clashes()...)
	}
	return out
}

// AtDefault tells whether the line says what the device would do without it, or is a
// block that is the same as none.
func (it *Item) AtDefault() bool {
	return it.Rule != nil && len(it.Kids) == 0 && (it.Rule.Empties || it.Rule.Default != "" && it.Value() == it.Rule.Default)
}

// Value is what is not part of the identity, as it is written.
func (it *Item) Value() string {
	if it.inner != nil {
		return it.picked(true)
	}
	value := ""
	if it.value < len(it.words) {
		value = it.raw(it.value, len(it.words))
	}
	if it.deny {
		return strings.TrimSuffix(it.words[0].Text+" "+value, " ")
	}
	return value
}

// raw is the line from one word to before another, as it is written.
func (it *Item) raw(from, to int) string {
	if from >= to {
		return ""
	}
	return it.Line[it.words[from].Start:it.words[to-1].End]
}

// Identity is the words that identify the line, one blank between them.
func (it *Item) Identity() string {
	if it.inner == nil {
		return it.ident
	}
	return it.picked(false)
}

// picked are the words that are values, or those that are not.
func (it *Item) picked(values bool) string {
	var out []string
	for i, w := range it.words {
		if i < len(it.inner) && it.inner[i] == values {
			out = append(out, w.Text)
		}
	}
	return strings.Join(out, " ")
}

// Denied tells whether the line denies what its other words say.
func (it *Item) Denied() bool { return it.deny }

// Denies is what a denied line denies, as it is written.
func (it *Item) Denies() string { return it.Line[it.words[1].Start:] }

// Overwrites tells whether the device takes it in another's place without the other's
// having been taken away.
func (it *Item) Overwrites(old *Item) bool {
	return it.Rule != nil && it.Rule.Overwrites || it.deny != old.deny
}

// Capture is what a capture of the line's rule took, as it is written; empty if it has none.
func (it *Item) Capture(name string) string {
	at, ok := it.caps.of(name)
	if !ok {
		return ""
	}
	return it.raw(at[0], at[1])
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
		for _, c := range captures(r.segs[i], p.words, p.attrs) {
			if n, ok := slices.BinarySearch(names, c.name); ok {
				took[n] = p.raw(c.at[0], c.at[1])
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

// Order names what an item is ordered among in its block, and tells whether its place
// counts: always, unless the table or the block's rule says that order is free.
func (it *Item) Order() (among string, counts bool) {
	free := it.table != nil && it.table.Free || it.Up != nil && it.Up.Rule != nil && it.Up.Rule.Free
	if free {
		return it.Turn()
	}
	return "", true
}

// Turn names what an item is ordered among in its block where a rule says how the order comes
// about (new lines go to one place): all the block's lines, or those of a sequence.
func (it *Item) Turn() (among string, ordered bool) {
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
	if len(w) == 0 {
		return "", "" // Compile lets no such rule pass
	}
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
	c.Up, c.Kids = up, make([]*Item, 0, len(it.Kids))
	for _, k := range it.Kids {
		c.Kids = append(c.Kids, k.Clone(&c))
	}
	return &c
}

// Node turns the item's children back into a tree that grammar can print.
func (it *Item) Node() *grammar.Node {
	n := &grammar.Node{Text: it.Line, Body: it.Body, Unread: it.Unread, Space: it.Space, Attrs: it.attrs / 2}
	for _, k := range it.Kids {
		n.Kids = append(n.Kids, k.Node())
	}
	return n
}

// Fits tells whether the rule's path is that of an item.
func (r *Rule) Fits(it *Item) bool {
	for i := len(r.segs) - 1; i >= 0; i, it = i-1, it.Up {
		if it == nil || it.Up == nil || !fits(r.segs[i], it.positional()) {
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
			if fits(r.segs[depth], k.positional()) {
				walk(depth+1, k)
			}
		}
	}
	walk(0, top)
	return out
}

// Found is a key fact: a name, and what stands for it.
type Found struct {
	Name   string
	Values []string // what identifies each line that matches, or its value
	Lines  []string // those lines, masked, each behind the lines of the blocks it stands in
}

// KeyFacts finds what matches each key fact's path, in the tree's order.
func (m Masker) KeyFacts(top *Item, marks []*Rule) (out []Found) {
	for _, mark := range marks {
		f := Found{Name: mark.KeyFact}
		last := mark.segs[len(mark.segs)-1]
		for _, k := range mark.matches(top) {
			masked := m.Table.Words(m.Item(k))
			caps := captures(last, k.words, k.attrs)
			for _, t := range last {
				if at, ok := caps.of(t.capture); ok && t.capture != "" && at[1] <= len(masked) {
					f.Values = append(f.Values, join(masked[at[0]:at[1]]))
					line := join(masked)
					for b := k.Up; b != nil && b.Up != nil; b = b.Up {
						line = m.Item(b) + " / " + line
					}
					f.Lines = append(f.Lines, line)
					break
				}
			}
		}
		out = append(out, f)
	}
	return out
}
