package rules

import (
	"slices"
	"strings"

	"magpie/internal/core/grammar"
	"magpie/internal/core/text"
)

// Tag turns a secret into a short mark that tells equal secrets from unequal
// ones and nothing else.
type Tag func(secret string) string

// Masker hides secrets. It is the one place where that is done.
type Masker struct {
	Table *Table
	Tag   Tag
}

// hiddenLine stands for a line of which nobody knows where its secrets stand.
const hiddenLine = "‹a line that the dialect cannot read›"

// Hidden tells whether nobody can say where secrets stand in a line: it could not be read,
// or no rule speaks of it where another could not be, so that it may stand in the wrong block.
func (it *Item) Hidden() bool {
	if it.Unread != "" || it.Rule != nil {
		return it.Unread != ""
	}
	top := it
	for top.Up != nil {
		top = top.Up
	}
	return top.torn
}

// hide takes lines out of a text of which nobody can say where their secrets stand.
func (t *Table) hide(lines []string, up *Item, n *grammar.Node) {
	for _, k := range n.Kids {
		it := t.item(up, k.Text, k.Body, k.Ident)
		if it.Unread = k.Unread; it.Hidden() {
			for i := k.Line; i <= k.Line+len(k.Body) && i <= len(lines); i++ {
				lines[i-1] = hiddenLine
			}
		}
		t.hide(lines, it, k)
	}
}

// Shown is how a hidden secret reads.
func (m Masker) Shown(secret string) string { return "‹secret " + m.Tag(secret) + "›" }

// Text returns src with every secret hidden. root is src parsed.
func (m Masker) Text(src string, root *grammar.Node) string {
	lines := text.Lines(src)
	m.Table.replace(lines, root, func(r *Rule) []string { return r.Secret }, m.Shown)
	if len(grammar.Unread(root)) > 0 {
		m.Table.hide(lines, &Item{torn: true}, root)
	}
	out := strings.Join(lines, "\n")
	if strings.HasSuffix(src, "\n") {
		out += "\n"
	}
	return out
}

// replace writes other words into a text's lines: those that stand where
// captures says, shown as shown says.
func (t *Table) replace(lines []string, root *grammar.Node, captures func(*Rule) []string, shown func(word string) string) {
	type cut struct {
		at    grammar.Span
		shown string
	}
	var cuts []cut
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := t.item(up, k.Text, k.Body, k.Ident)
			walk(it, k)
			if k.Unread != "" || it.Rule == nil || len(captures(it.Rule)) == 0 {
				continue
			}
			at := k.Spans
			if at == nil && k.Line > 0 && k.Line <= len(lines) {
				// The words stand on the line as they are written.
				raw := lines[k.Line-1]
				indent := len(raw) - len(strings.TrimLeft(raw, " \t"))
				for i, w := range t.Words(raw[indent:]) {
					s := grammar.Span{Line: k.Line, Start: indent + w.Start, End: indent + w.End}
					if i < len(it.words) && strings.HasPrefix(w.Text, it.words[i].Text) {
						s.End = s.Start + len(it.words[i].Text) // not the mark that ends the line
					}
					at = append(at, s)
				}
			}
			for _, name := range captures(it.Rule) {
				c, _ := it.caps.of(name)
				for i := c[0]; i < c[1] && i < len(at); i++ {
					if at[i].Line > 0 && at[i].Line <= len(lines) && at[i].End <= len(lines[at[i].Line-1]) {
						cuts = append(cuts, cut{at[i], shown(it.words[i].Text)})
					}
				}
			}
		}
	}
	walk(&Item{}, root)
	// The last on a line first, so that the places before it still hold.
	slices.SortFunc(cuts, func(a, b cut) int { return b.at.Start - a.at.Start })
	for _, c := range cuts {
		l := lines[c.at.Line-1]
		lines[c.at.Line-1] = l[:c.at.Start] + c.shown + l[c.at.End:]
	}
}

// Item returns the item's line with its secrets hidden.
func (m Masker) Item(it *Item) string {
	if it.Hidden() {
		return hiddenLine
	}
	return m.hide(it, it.Line)
}

func (m Masker) hide(it *Item, line string) string {
	if it.Rule == nil || len(it.Rule.Secret) == 0 {
		return line
	}
	words := m.Table.Words(line)
	for i := len(words) - 1; i >= 0; i-- {
		for _, s := range it.Rule.Secret {
			if at, _ := it.caps.of(s); i >= at[0] && i < at[1] {
				line = line[:words[i].Start] + m.Shown(words[i].Text) + line[words[i].End:]
			}
		}
	}
	return line
}

// Secrets lists the secret words of the item's line.
func (it *Item) Secrets() (out []string) {
	if it.Rule == nil {
		return nil
	}
	for _, s := range it.Rule.Secret {
		at, _ := it.caps.of(s)
		for i := at[0]; i < at[1]; i++ {
			out = append(out, it.words[i].Text)
		}
	}
	return out
}

// Answer hides the secrets of a line in what a device answered to it.
func (m Masker) Answer(answer string, secrets []string) string {
	for _, s := range secrets {
		if s != "" {
			answer = strings.ReplaceAll(answer, s, m.Shown(s))
		}
	}
	return answer
}

// Difference hides the secrets of both sides.
func (m Masker) Difference(d Difference) Difference {
	if d.item == nil {
		return d
	}
	mask := func(line string) string {
		switch {
		case line == "":
			return ""
		case d.item.Hidden():
			return hiddenLine
		}
		return m.Item(m.Table.Item(d.item.Up, line, nil))
	}
	d.Have, d.Want, d.Block = mask(d.Have), mask(d.Want), m.Path(d.item.Up)
	return d
}

// Path is the item's path with the secrets hidden.
func (m Masker) Path(it *Item) string {
	if it == nil || it.Up == nil {
		return ""
	}
	if up := m.Path(it.Up); up != "" {
		return up + " / " + m.Item(it)
	}
	return m.Item(it)
}

// Resalted blanks the words of a text's lines that the device salts anew each
// time it shows them. root is the text parsed.
func (t *Table) Resalted(lines []string, root *grammar.Node) {
	if slices.ContainsFunc(t.Rules, func(r *Rule) bool { return len(r.Salted) > 0 }) {
		t.replace(lines, root, func(r *Rule) []string { return r.Salted }, func(string) string { return "" })
	}
}

// Settled tells of each of a text's lines whether it says something: comments
// and lines that change by themselves do not. root is the text parsed.
func (t *Table) Settled(lines int, root *grammar.Node) []bool {
	says := make([]bool, lines)
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := &Item{Up: up, table: t, words: t.Words(k.Text)}
			if t.meet(it); it.Rule != nil && it.Rule.Volatile {
				continue
			}
			eachLine(k, func(line int) { says[line-1] = true })
			walk(it, k)
		}
	}
	walk(&Item{}, root)
	return says
}

// eachLine calls do for the lines, from 1, on which a node itself stands: not those below it.
func eachLine(k *grammar.Node, do func(line int)) {
	if k.Line > 0 {
		for i := range len(k.Body) + 1 {
			do(k.Line + i)
		}
	}
	if k.Last > 0 {
		do(k.Last)
	}
	for _, s := range k.Spans { // keys stand on lines of their own
		if s.Line > 0 {
			do(s.Line)
		}
	}
}
