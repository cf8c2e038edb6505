// Package learn drafts the rules of a dialect: from configurations that a device has
// shown, and from experiments on a unit that nobody needs. It says of each thing that
// it drafts how sure it is, and why. It never claims to be sure of what it did not see
// happen.
package learn

import (
	"maps"
	"slices"
	"strings"
	"unicode"

	"magpie/internal/core/grammar"
)

// Entry is a line of a configuration and the lines of the blocks around it.
type Entry struct {
	Path []string
	Line string
	Body []string // of a text over several lines
}

func (e Entry) key() string {
	return strings.Join(append(slices.Clone(e.Path), append([]string{e.Line}, e.Body...)...), "\x00")
}

// String shows it as a path.
func (e Entry) String() string { return strings.Join(append(slices.Clone(e.Path), e.Line), " / ") }

// Flatten lists a configuration's lines in their order.
func Flatten(root *grammar.Node) (out []Entry) {
	var walk func(path []string, n *grammar.Node)
	walk = func(path []string, n *grammar.Node) {
		for _, k := range n.Kids {
			if k.Unread != "" {
				continue
			}
			out = append(out, Entry{path, k.Text, k.Body})
			walk(append(slices.Clone(path), k.Text), k)
		}
	}
	walk(nil, root)
	return out
}

// Token is a word of a kind's pattern: itself, or a variable.
type Token struct {
	Word string // empty: a variable
	Name string // of a variable
	Rest bool   // it takes all words that are left
	Tell bool   // it is part of what tells entries apart
	Sure bool   // that it is, or is not
}

// Kind is a kind of lines: those of one pattern in blocks of one kind.
type Kind struct {
	Up       *Kind
	Tokens   []Token
	Block    bool
	Many     bool // several were seen in one block
	Examples []Entry

	Facts map[string]Fact // by the rule's key
	Kids  []*Kind

	apart  []apartFrom       // what did not stand beside what
	values []map[string]bool // of each token, the words that stood there
	per    [][][]string      // the words of its lines, by the block that they stood in
}

// Fact is something that a rule says, how sure that is, and why.
type Fact struct {
	Value any
	Sure  bool
	Why   string
}

// set notes a fact, unless one that is surer is known.
func (k *Kind) set(key string, value any, sure bool, why string) {
	if old, known := k.Facts[key]; !known || !old.Sure || sure {
		k.Facts[key] = Fact{value, sure, why}
	}
}

// Path is the kind's path pattern.
func (k *Kind) Path() string {
	if k.Up == nil {
		return ""
	}
	var words []string
	for _, t := range k.Tokens {
		switch w := t.Name; {
		case t.Word != "":
			words = append(words, t.Word)
		default:
			if t.Rest {
				w += "..."
			}
			if t.Tell {
				words = append(words, "{"+w+"}")
			} else {
				words = append(words, "<"+w+">")
			}
		}
	}
	own := strings.Join(words, " ")
	if up := k.Up.Path(); up != "" {
		return up + " / " + own
	}
	return own
}

// Draft is what was learned.
type Draft struct {
	Top    *Kind
	Words  func(line string) []grammar.Word // how lines are cut into words
	Denial string                           // the word before a line that says its opposite
	Host   string                           // the name that the device gives itself

	ran []Entry // what a unit ran before things were tried out at it
}

// words cuts a line into words, without the one that denies it.
func (d *Draft) words(line string) (out []string) {
	for _, w := range d.Words(line) {
		out = append(out, w.Text)
	}
	if d.Denial != "" && len(out) > 1 && out[0] == d.Denial {
		return out[1:]
	}
	return out
}

// denied tells whether a line says the opposite of what stands behind its first word.
func (d *Draft) denied(line string) bool {
	w := d.Words(line)
	return d.Denial != "" && len(w) > 1 && w[0].Text == d.Denial
}

// Kinds lists all kinds, each before those below it.
func (d *Draft) Kinds() (out []*Kind) {
	var walk func(k *Kind)
	walk = func(k *Kind) {
		for _, c := range k.Kids {
			out = append(out, c)
			walk(c)
		}
	}
	walk(d.Top)
	return out
}

// From sees what kinds of lines there are in configurations.
func From(roots []*grammar.Node, words func(string) []grammar.Word, denial string) *Draft {
	d := &Draft{Top: &Kind{Block: true}, Words: words, Denial: denial}
	var blocks [][]*line
	for _, r := range roots {
		blocks = append(blocks, lines(r, nil))
	}
	d.kinds(d.Top, blocks)
	return d
}

// line is a node with the lines around it.
type line struct {
	*grammar.Node
	path []string
}

func lines(n *grammar.Node, path []string) (out []*line) {
	for _, k := range n.Kids {
		if k.Unread == "" {
			out = append(out, &line{k, path})
		}
	}
	return out
}

// kinds sorts the lines of blocks of one kind.
func (d *Draft) kinds(up *Kind, blocks [][]*line) {
	type group struct {
		word   string // the first word; empty: it varies
		block  bool
		blocks [][]*line // by the block that they stand in
	}
	var groups []*group
	for _, b := range blocks {
		mine := map[*group]*[]*line{}
		for _, l := range b {
			w := d.words(l.Text)
			if len(w) == 0 {
				continue
			}
			first := w[0]
			if !isWord(first) {
				first = ""
			}
			block := len(l.Kids) > 0 || l.Last > 0
			i := slices.IndexFunc(groups, func(g *group) bool { return g.word == first })
			if i < 0 {
				groups = append(groups, &group{word: first})
				i = len(groups) - 1
			}
			g := groups[i]
			g.block = g.block || block
			if mine[g] == nil {
				g.blocks = append(g.blocks, nil)
				mine[g] = &g.blocks[len(g.blocks)-1]
			}
			*mine[g] = append(*mine[g], l)
		}
	}
	for _, g := range groups {
		d.add(up, g.block, g.blocks)
	}
}

// add makes a kind of lines that begin with one word, or several where a word behind it
// is a keyword too.
func (d *Draft) add(up *Kind, block bool, blocks [][]*line) {
	k := &Kind{Up: up, Block: block, Facts: map[string]Fact{}}
	d.shape(k, blocks)
	if at := k.keyword(); at > 0 {
		for _, word := range slices.Sorted(maps.Keys(k.values[at])) {
			var mine [][]*line
			for _, b := range blocks {
				if some := slices.DeleteFunc(slices.Clone(b), func(l *line) bool { return d.words(l.Text)[at] != word }); len(some) > 0 {
					mine = append(mine, some)
				}
			}
			d.add(up, block, mine)
		}
		return
	}
	var below [][]*line
	seen := map[string]bool{}
	for _, b := range blocks {
		for _, l := range b {
			if !seen[l.Text] { // where else it stands tells nothing new
				seen[l.Text] = true
				k.Examples = append(k.Examples, Entry{l.path, l.Text, l.Body})
			}
			below = append(below, lines(l.Node, append(slices.Clone(l.path), l.Text)))
		}
	}
	up.Kids = append(up.Kids, k)
	if k.Block {
		d.kinds(k, below)
	}
}

// keyword is the place of a word that, like the first, says what the line is about: few
// words stand there, beside each other, each with values of its own behind it. 0: none.
func (k *Kind) keyword() int {
	for at := 1; at < len(k.Tokens)-1 && !k.Block; at++ {
		words := k.values[at]
		if k.Tokens[at].Word != "" || len(words) < 2 || len(words) > 8 {
			continue
		}
		of := map[string]map[string]bool{} // the values behind each
		types := map[string]bool{}         // and of what sort they are, of all of a word
		count, alone := map[string]int{}, true
		for w := range words {
			alone = alone && isWord(w)
		}
		whose, beside := map[string]string{}, false
		for _, b := range k.per {
			with := map[string]string{} // which of them, by the words before
			for _, w := range b {
				before := strings.Join(w[:at], " ")
				if by, seen := with[before]; seen && by != w[at] {
					beside = true
				}
				with[before] = w[at]
				if at >= len(w) {
					return 0
				}
				value := strings.Join(w[at+1:], " ")
				if by, seen := whose[value]; seen && by != w[at] {
					alone = false
				}
				whose[value] = w[at]
				if of[w[at]] == nil {
					of[w[at]] = map[string]bool{}
				}
				of[w[at]][value] = true
				count[w[at]]++
			}
		}
		for w, n := range count {
			alone = alone && n > 1
			types[strings.Join(slices.Sorted(maps.Keys(sorts(of[w]))), " ")] = true
		}
		if alone && beside && len(types) > 1 { // names have values of one sort behind them
			return at
		}
	}
	return 0
}

// sorts are the sorts of values that there are among some.
func sorts(values map[string]bool) map[string]bool {
	out := map[string]bool{}
	for v := range values {
		w := strings.Fields(v)
		if len(w) == 0 {
			continue
		}
		switch last := w[len(w)-1]; {
		case strings.Trim(last, "0123456789") == "":
			out["number"] = true
		case isWord(last):
			out["word"] = true
		case strings.ContainsAny(last, ".:/") && strings.Trim(last, "0123456789abcdefABCDEF.:/") == "":
			out["address"] = true
		case strings.ContainsAny(last[:1], `"<'([{`):
			out["quoted"] = true
		default:
			out["mixed"] = true
		}
	}
	return out
}

// isWord tells whether a word can be a keyword: letters, with hyphens between.
func isWord(s string) bool {
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-' || r == '_') {
			return false
		}
	}
	return s != ""
}

// shape makes a kind's pattern: which words are always the same, which tell entries
// apart, and which are values.
func (d *Draft) shape(k *Kind, blocks [][]*line) {
	var all [][]string
	per := make([][][]string, len(blocks))
	least, most := 1<<30, 0
	for i, b := range blocks {
		for _, l := range b {
			w := d.words(l.Text)
			all, per[i] = append(all, w), append(per[i], w)
			least, most = min(least, len(w)), max(most, len(w))
		}
		k.Many = k.Many || len(b) > 1
	}
	same := func(pos int) bool {
		for _, w := range all {
			if pos >= len(w) || w[pos] != all[0][pos] {
				return false
			}
		}
		return true
	}
	// What tells apart: the fewest first words by which no two of a block are alike.
	tell := 0
	for tell < most && k.Many && !apart(per, tell) {
		tell++
	}
	hidden := false // a secret stands here, or its form
	for pos := 0; pos < least; pos++ {
		t := Token{}
		switch {
		case !hidden && same(pos) && (isWord(all[0][pos]) || isMark(all[0][pos])) && !(k.Block && pos == least-1 && pos > 0):
			t.Word = all[0][pos]
			hidden = hidden || secretWord(t.Word)
		default:
			t.Tell = pos < tell || k.Block
		}
		rest := t.Word == "" && (least != most && pos >= tell || !k.Block && pos == least-1 && !t.Tell)
		if t.Rest = rest; rest && !t.Tell && k.Many && tell > pos {
			t.Tell = true
		}
		k.Tokens = append(k.Tokens, t)
		if rest {
			break
		}
	}
	if last := &k.Tokens[len(k.Tokens)-1]; least != most && !last.Rest {
		if last.Word != "" || len(k.Tokens) <= tell {
			k.Tokens = append(k.Tokens, Token{Rest: true, Tell: tell > len(k.Tokens)})
		} else {
			last.Rest = true
		}
	}
	k.values = make([]map[string]bool, len(k.Tokens))
	for i := range k.Tokens {
		k.values[i] = map[string]bool{}
		for _, w := range all {
			if i < len(w) {
				k.values[i][k.word(i, w)] = true
			}
		}
	}
	k.name()
	k.per = per
	k.again()
}

// again looks which words are seen to tell entries apart: where two of a block differ
// in nothing else, but for what is known to be a value.
func (k *Kind) again() {
	for i := range k.Tokens {
		if t := &k.Tokens[i]; t.Word == "" && !t.Sure && k.alone(k.per, i) {
			t.Tell, t.Sure = true, true
		}
	}
}

// isMark tells whether a word is punctuation only.
func isMark(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) })
}

// word is what stands at a token in a line's words.
func (k *Kind) word(i int, w []string) string {
	if k.Tokens[i].Rest {
		return strings.Join(w[i:], " ")
	}
	return w[i]
}

// apart tells whether no two lines of a block agree in their first words.
func apart(per [][][]string, n int) bool {
	for _, b := range per {
		seen := map[string]bool{}
		for _, w := range b {
			key := strings.Join(w[:min(n, len(w))], "\x00")
			if seen[key] {
				return false
			}
			seen[key] = true
		}
	}
	return true
}

// alone tells whether two lines of one block were seen that differ in that word only.
func (k *Kind) alone(per [][][]string, i int) bool {
	for _, b := range per {
		seen := map[string]string{}
		for _, w := range b {
			if len(w) < len(k.Tokens) {
				continue
			}
			var others []string
			for j := range k.Tokens {
				if j != i && (k.Tokens[j].Tell || !k.Tokens[j].Sure) {
					others = append(others, k.word(j, w))
				}
			}
			key := strings.Join(others, "\x00")
			if was, ok := seen[key]; ok && was != k.word(i, w) {
				return true
			}
			seen[key] = k.word(i, w)
		}
	}
	return false
}

// name gives the variables names that say a little.
func (k *Kind) name() {
	used := map[string]bool{}
	for i := range k.Tokens {
		t := &k.Tokens[i]
		if t.Word != "" {
			continue
		}
		all := func(has func(string) bool) bool {
			for v := range k.values[i] {
				if !has(v) {
					return false
				}
			}
			return len(k.values[i]) > 0
		}
		base := "value"
		switch {
		case t.Rest && !all(func(s string) bool { return !strings.Contains(s, " ") }):
			base = "text"
		case all(func(s string) bool { return strings.Trim(s, "0123456789") == "" }):
			base = "number"
		case all(func(s string) bool {
			return strings.Trim(s, "0123456789.:/abcdefABCDEF") == "" && strings.ContainsAny(s, ".:")
		}):
			base = "address"
		case t.Tell:
			base = "name"
		}
		n := base
		for c := 2; used[n]; c++ {
			n = base + string(rune('0'+c))
		}
		used[n], t.Name = true, n
	}
}
