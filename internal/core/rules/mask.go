package rules

import (
	"cmp"
	"math"
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

// HiddenLine stands for a line of which nobody knows where its secrets stand.
const HiddenLine = "‹a line that the dialect cannot read›"

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
		it := t.node(up, k)
		if it.Hidden() {
			for i := k.Line; i <= k.Line+len(k.Body) && i <= len(lines); i++ {
				lines[i-1] = HiddenLine
			}
		}
		t.hide(lines, it, k)
	}
}

// Shown is how a hidden secret reads.
func (m Masker) Shown(secret string) string { return "‹secret " + m.Tag(secret) + "›" }

// Text returns src with every secret hidden. root is src parsed. Hidden are: what rules call
// secret, what matches the table's Secrets on any line, and, in lines that no rule names, in
// comments and in bodies, what looks like a secret (see likeSecrets).
func (m Masker) Text(src string, root *grammar.Node) string {
	lines := text.Lines(src)
	cuts := make([][]span, len(lines))
	known := make([][]span, len(lines)) // what of each line the tree says the meaning of
	mark := func(line, from, to int) {
		if line > 0 && line <= len(lines) {
			known[line-1] = append(known[line-1], span{from, min(to, len(lines[line-1]))})
		}
	}
	m.Table.cut(lines, root, cuts, (*Item).secretWords, func(it *Item, k *grammar.Node) {
		switch {
		case m.Table.Document:
			mark(k.Line, 0, math.MaxInt)
			mark(k.Last, 0, math.MaxInt)
			for _, s := range k.Spans {
				mark(s.Line, 0, math.MaxInt)
			}
		case k.Spans != nil:
			for _, s := range k.Spans {
				mark(s.Line, s.Start, s.End)
			}
		default:
			for _, s := range k.Places(0, len(k.Text)) {
				mark(s.Line, s.Start, s.End)
			}
		}
		for i, body := range it.bodySecrets() {
			if at := k.Line + i; at < len(lines) {
				cuts[at] = append(cuts[at], body...)
				mark(at+1, 0, math.MaxInt)
			}
		}
	})
	for i, l := range lines {
		cuts[i] = append(cuts[i], m.Table.patterned(l)...)
		end := 0
		for _, k := range append(united(known[i]), span{len(l), len(l) + 1}) {
			for _, s := range m.Table.likeSecrets(l[end:max(end, k.from)]) {
				cuts[i] = append(cuts[i], span{s.from + end, s.to + end})
			}
			end = k.to
		}
		lines[i] = m.replaced(l, cuts[i])
	}
	if len(grammar.Unread(root)) > 0 {
		m.Table.hide(lines, &Item{torn: true}, root)
	}
	out := strings.Join(lines, "\n")
	if strings.HasSuffix(src, "\n") {
		out += "\n"
	}
	return out
}

// span is a stretch of a line, in bytes.
type span struct{ from, to int }

// replaced is a line with stretches of it, which may overlap, hidden.
func (m Masker) replaced(line string, cuts []span) string {
	if len(cuts) == 0 {
		return line
	}
	var b strings.Builder
	end := 0
	for _, c := range united(cuts) {
		b.WriteString(line[end:c.from] + m.Shown(line[c.from:c.to]))
		end = c.to
	}
	b.WriteString(line[end:])
	return b.String()
}

// united are stretches in their order, those that overlap made one.
func united(cuts []span) (out []span) {
	cuts = slices.Clone(cuts)
	slices.SortFunc(cuts, func(a, b span) int { return cmp.Or(a.from-b.from, b.to-a.to) })
	for _, c := range cuts {
		switch n := len(out); {
		case c.to <= c.from:
		case n > 0 && c.from < out[n-1].to:
			out[n-1].to = max(out[n-1].to, c.to)
		default:
			out = append(out, c)
		}
	}
	return out
}

// cut notes where words of a text's lines stand that which chooses. each is called for every
// node with its item, if it is not nil.
func (t *Table) cut(lines []string, root *grammar.Node, cuts [][]span, which func(*Item) []bool, each func(*Item, *grammar.Node)) {
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := t.node(up, k)
			if each != nil {
				each(it, k)
			}
			walk(it, k)
			for i, chosen := range which(it) {
				if !chosen {
					continue
				}
				places := k.Places(it.words[i].Start, it.words[i].End)
				if k.Spans != nil {
					if places = nil; i < len(k.Spans) {
						places = k.Spans[i : i+1]
					}
				}
				for _, at := range places {
					if at.Line > 0 && at.Line <= len(lines) && at.End <= len(lines[at.Line-1]) {
						cuts[at.Line-1] = append(cuts[at.Line-1], span{at.Start, at.End})
					}
				}
			}
		}
	}
	walk(&Item{}, root)
}

// captured tells of each of the item's words whether one of those captures took it.
func (it *Item) captured(names []string) (out []bool) {
	for _, name := range names {
		at, _ := it.caps.of(name)
		for i := at[0]; i < at[1]; i++ {
			if out == nil {
				out = make([]bool, len(it.words))
			}
			out[i] = true
		}
	}
	return out
}

// secretWords tells of each of the item's words whether it is secret: because its rule says so,
// or, where no rule names the line, because it looks like one. nil: none is.
func (it *Item) secretWords() (out []bool) {
	switch {
	case it.Unread != "":
		return nil
	case it.Rule != nil:
		out = it.captured(it.Rule.Secret)
		// Of attributes and options the rule speaks as far as it names them.
		names := make([]string, len(it.caps))
		for i, c := range it.caps {
			names[i] = c.name
		}
		spoken := it.captured(names)
		for _, i := range it.table.likeSecretWords(it.words[len(it.words)-it.attrs:]) {
			if i += len(it.words) - it.attrs; spoken == nil || !spoken[i] {
				if out == nil {
					out = make([]bool, len(it.words))
				}
				out[i] = true
			}
		}
		return out
	}
	like := it.table.likeSecretWords(it.words)
	for i, key := range it.keys {
		if it.table.likeSecret(key) {
			like = append(like, i+1)
		}
	}
	if it.underSecret() {
		for i := max(1, len(it.words)-1); i < len(it.words); i++ {
			like = append(like, i)
		}
	}
	for _, i := range like {
		if out == nil {
			out = make([]bool, len(it.words))
		}
		out[i] = true
	}
	return out
}

// underSecret tells whether the block that an unruled line stands in, which no rule names either,
// is called like a secret.
func (it *Item) underSecret() bool {
	up := it.Up
	return up != nil && up.Up != nil && up.Rule == nil && len(up.words) > 0 && up.table != nil && up.table.likeSecret(up.words[0].Text)
}

// spans are the stretches of the item's line that are secret.
func (it *Item) spans() (out []span) {
	if it.table == nil {
		return nil
	}
	for i, secret := range it.secretWords() {
		if secret {
			out = append(out, span{it.words[i].Start, it.words[i].End})
		}
	}
	return united(append(out, it.table.patterned(it.Line)...))
}

// bodySecrets are the stretches of the item's body that are secret, a list for each line: all of
// it where the rule calls the body secret or the line that opens it looks like one of a secret.
func (it *Item) bodySecrets() [][]span {
	if len(it.Body) == 0 || it.table == nil {
		return nil
	}
	out := make([][]span, len(it.Body))
	all := it.Rule != nil && slices.Contains(it.Rule.Secret, Body) || it.Rule == nil && slices.ContainsFunc(it.words, func(w grammar.Word) bool { return it.table.likeSecret(w.Text) })
	pem := false
	for i, l := range it.Body {
		pem = pem || strings.Contains(l, "PRIVATE KEY")
		closes := i == len(it.Body)-1 && it.Unread == ""
		switch {
		case (all || pem) && !closes:
			out[i] = []span{{0, len(l)}}
		default:
			out[i] = united(append(it.table.likeSecrets(l), it.table.patterned(l)...))
		}
		if strings.Contains(l, "END") && strings.Contains(l, "PRIVATE KEY") {
			pem = false
		}
	}
	return out
}

// Body stands in Rule.Secret for the text over several lines that follows the line.
const Body = "body"

// patterned are the stretches of a line that one of the table's patterns says are secret.
func (t *Table) patterned(line string) (out []span) {
	for _, p := range t.Secrets {
		for _, m := range p.FindAllStringSubmatchIndex(line, -1) {
			if len(m) == 2 {
				out = append(out, span{m[0], m[1]})
			}
			for g := 2; g+1 < len(m); g += 2 {
				if m[g] >= 0 {
					out = append(out, span{m[g], m[g+1]})
				}
			}
		}
	}
	return out
}

// Item returns the item's line with its secrets hidden.
func (m Masker) Item(it *Item) string {
	if it.Hidden() {
		return HiddenLine
	}
	return m.replaced(it.Line, it.spans())
}

// Lines returns the item's line and its body with their secrets hidden.
func (m Masker) Lines(it *Item) []string {
	out := []string{m.Item(it)}
	secret := it.bodySecrets()
	for i, l := range it.Body {
		if it.Hidden() {
			out = append(out, HiddenLine)
			continue
		}
		out = append(out, m.replaced(l, secret[i]))
	}
	return out
}

// Secrets lists what is secret in the item's line and body, as it is written.
func (it *Item) Secrets() (out []string) {
	for _, s := range it.spans() {
		out = append(out, it.Line[s.from:s.to])
	}
	for i, all := range it.bodySecrets() {
		for _, s := range all {
			out = append(out, it.Body[i][s.from:s.to])
		}
	}
	return out
}

// Answer hides the secrets of a line in what a device answered to it, in quotes or without.
func (m Masker) Answer(answer string, secrets []string) string {
	var all []string
	for _, s := range secrets {
		all = append(all, s)
		if n := len(s); n > 2 && !isWord(s[0]) && !isWord(s[n-1]) {
			bare := s[1 : n-1]
			all = append(all, bare, strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(bare))
		}
	}
	slices.SortStableFunc(all, func(a, b string) int { return len(b) - len(a) })
	for _, s := range slices.Compact(all) {
		if s != "" {
			answer = strings.ReplaceAll(answer, s, m.Shown(s))
		}
	}
	return answer
}

func isWord(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
}

// Difference hides the secrets of both sides.
func (m Masker) Difference(d Difference) Difference {
	if d.item == nil {
		return d
	}
	if d.Have != "" {
		d.Have = m.Item(cmp.Or(d.have, d.item))
	}
	if d.Want != "" {
		d.Want = m.Item(cmp.Or(d.want, d.item))
	}
	d.Block = m.Path(d.item.Up)
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

// Resalted puts a mark in the place of the words of a text's lines that the device salts anew each
// time it shows them. root is the text parsed.
func (t *Table) Resalted(lines []string, root *grammar.Node) {
	if !slices.ContainsFunc(t.Rules, func(r *Rule) bool { return len(r.Salted) > 0 }) {
		return
	}
	cuts := make([][]span, len(lines))
	t.cut(lines, root, cuts, func(it *Item) []bool {
		if it.Rule == nil || it.Unread != "" {
			return nil
		}
		return it.captured(it.Rule.Salted)
	}, nil)
	for i, all := range cuts {
		for _, c := range slices.Backward(united(all)) {
			lines[i] = lines[i][:c.from] + "\x00" + lines[i][c.to:]
		}
	}
}

// Settled tells of each of a text's lines whether it says something: comments
// and lines that change by themselves do not. root is the text parsed.
func (t *Table) Settled(lines int, root *grammar.Node) []bool {
	says := make([]bool, lines)
	var walk func(up *Item, n *grammar.Node)
	walk = func(up *Item, n *grammar.Node) {
		for _, k := range n.Kids {
			it := t.bare(up, k)
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
	for _, p := range k.Pieces {
		do(p.Line)
	}
	for _, line := range k.Also {
		do(line)
	}
}
