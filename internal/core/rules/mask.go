package rules

import (
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

// Shown is how a hidden secret reads.
func (m Masker) Shown(secret string) string { return "‹secret " + m.Tag(secret) + "›" }

// Text returns src with every secret hidden. root is src parsed.
func (m Masker) Text(src string, root *grammar.Node) string {
	lines := text.Lines(src)
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := m.Table.Item(up, k.Text, k.Body)
			if k.Line > 0 && k.Line <= len(lines) {
				raw := lines[k.Line-1]
				bare := strings.TrimLeft(raw, " \t")
				lines[k.Line-1] = raw[:len(raw)-len(bare)] + m.hide(it, bare)
			}
			walk(it, k)
		}
	}
	walk(&Item{}, root)
	out := strings.Join(lines, "\n")
	if strings.HasSuffix(src, "\n") {
		out += "\n"
	}
	return out
}

// Item returns the item's line with its secrets hidden.
func (m Masker) Item(it *Item) string { return m.hide(it, it.Line) }

func (m Masker) hide(it *Item, line string) string {
	if it.Rule == nil || len(it.Rule.Secret) == 0 {
		return line
	}
	words := grammar.Words(line)
	for i := len(words) - 1; i >= 0; i-- {
		for _, s := range it.Rule.Secret {
			if at := it.caps[s]; i >= at[0] && i < at[1] {
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
		at := it.caps[s]
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
		if line == "" {
			return ""
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

// Settled tells of each of a text's lines whether it says something: comments
// and lines that change by themselves do not. root is the text parsed.
func (t *Table) Settled(lines int, root *grammar.Node) []bool {
	says := make([]bool, lines)
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := t.Item(up, k.Text, k.Body)
			if it.Rule != nil && it.Rule.Volatile {
				continue
			}
			for i := range len(k.Body) + 1 {
				says[k.Line-1+i] = true
			}
			walk(it, k)
		}
	}
	walk(&Item{}, root)
	return says
}
