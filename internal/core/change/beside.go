package change

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/rules"
)

// beside plans around named blocks that are in use and would have to be taken apart. It
// goes by way of a configuration that has all of to, but such a block under another name,
// to which its uses point: so the new one is there before the old one goes, and again
// before the uses are pointed back.
func (l *Language) beside(from, to *rules.Item) (plan Plan, ok bool) {
	if !slices.ContainsFunc(l.Table.Rules, func(r *rules.Rule) bool { return r.Beside != "" }) {
		return plan, false
	}
	inUse, taken := map[string]bool{}, map[string]bool{}
	for _, tree := range []*rules.Item{from, to} {
		for _, it := range every(tree) {
			if space, name := it.Defines(); space != "" {
				taken[space+" "+name] = true
			}
			for _, n := range it.Names() {
				inUse[n] = inUse[n] || tree == from
			}
		}
	}
	by := to.Clone(nil)
	var notes []string
	for _, h := range every(from) {
		if h.Rule == nil || h.Rule.Beside == "" {
			continue
		}
		_, w := counterpart(h, by, (*rules.Item).Kid)
		space, name := h.Defines()
		if w == nil || !inUse[space+" "+name] || !l.comesApart(h, w) {
			continue
		}
		free := strings.ReplaceAll(h.Rule.Beside, "{name}", name)
		other := free
		for n := 2; n < 10 && taken[space+" "+other]; n++ { // one may have been left behind
			other = fmt.Sprintf("%s%d", free, n)
		}
		if taken[space+" "+other] {
			notes = append(notes, fmt.Sprintf("%s: it cannot be rebuilt beside, for something is called %s already", h.Path(), other))
			continue
		}
		said := "there is no moment without it"
		for _, it := range every(by) {
			if it.Rule != nil && slices.Contains(it.Names(), space+" "+name) {
				point(it, space, name, other)
				if !it.Rule.Overwrites {
					said = "each use is without it for a moment, while it is pointed elsewhere"
				}
			}
		}
		*w = *w.Retold(w.Up, renamed(w, name, other))
		notes = append(notes, fmt.Sprintf("%s: it is built anew beside, as %s, to which its uses point until it stands again; %s", h.Path(), other, said))
		ok = true
	}
	if !ok {
		return plan, false
	}
	plan = l.straight(from, by, false)
	plan.Beside = true
	back := l.straight(plan.Predicted, to, false)
	plan.Steps = append(append(plan.Steps, l.home(plan.Steps)...), back.Steps...)
	plan.Notes = append(append(notes, plan.Notes...), back.Notes...)
	plan.Predicted, plan.Remains = back.Predicted, back.Remains
	if plan.Unread == nil {
		plan.Unread = back.Unread
	}
	return plan, true
}

// comesApart tells whether lines of a block would have to go and come again, or the block
// would be empty for a moment, and with that not there.
func (l *Language) comesApart(h, w *rules.Item) bool {
	h, w = h.Clone(nil), w.Clone(nil)
	p := l.planner(h, w, false)
	p.block(nil, h, w)
	wants := w.ByID()
	if w.Rule.Ordered && slices.ContainsFunc(p.ops, func(o op) bool { return o.kind == Remove && o.item.Up == h && wants[o.item.ID] != nil }) {
		return true
	}
	if !w.Rule.Empties {
		return false
	}
	p.oneAtATime()
	left := len(h.Kids)
	for _, s := range p.emit() {
		switch {
		case s.Item == nil || s.Item.Up != h && s.Item.Up != w:
		case s.Kind == Remove:
			left--
		case h.Kid(s.Item.ID) == nil || p.removed(h.Kid(s.Item.ID)):
			left++
		}
		if left == 0 {
			return true
		}
	}
	return false
}

func (p *planner) removed(h *rules.Item) bool { _, goes := p.removals[h]; return goes }

// renamed is the line of a block under another name.
func renamed(it *rules.Item, name, other string) string {
	words := strings.Fields(it.Line)
	for i, w := range slices.Backward(words) {
		if w == name {
			words[i] = other
			break
		}
	}
	return strings.Join(words, " ")
}

// point has a line use another name.
func point(it *rules.Item, space, name, other string) {
	line := it.Line
	for _, use := range it.Rule.Uses {
		if use.Space != space {
			continue
		}
		for _, m := range slices.Backward(use.Name.FindAllStringSubmatchIndex(line, -1)) {
			if line[m[2]:m[3]] == name {
				line = line[:m[2]] + other + line[m[3]:]
			}
		}
	}
	*it = *it.Retold(it.Up, line)
}

// home leaves the blocks that steps leave open.
func (l *Language) home(steps []Step) (out []Step) {
	var open []string
	for _, s := range steps {
		switch s.Kind {
		case Enter:
			open = append(open, s.Item.Path())
		case Leave:
			open = open[:len(open)-1]
		}
	}
	for i, block := range slices.Backward(open) {
		out = append(out, Step{Kind: Leave, Lines: []string{l.Leave}, Block: block, Depth: i + 1})
	}
	return out
}
