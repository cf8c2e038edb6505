package change

import (
	"fmt"
	"slices"

	"magpie/internal/core/rules"
)

// Apply changes the tree as the device would on taking the steps. An error
// names the first line the device is bound to refuse.
func (l *Language) Apply(tree *rules.Item, steps []Step) error {
	a := applied{lang: l, tree: tree, at: tree, stand: map[*rules.Item]map[string]int{}}
	defer a.settle()
	for i, s := range steps {
		if err := a.step(s); err != nil {
			return fmt.Errorf("step %d: %w", i+1, err)
		}
	}
	return nil
}

// applied is a tree that steps are applied to.
type applied struct {
	lang     *Language
	tree, at *rules.Item
	stand    map[*rules.Item]map[string]int // where each line of a block stands; gaps are nil
	tangle   *tangle                        // of the tree; nil before anything was taken
	hollow   []*rules.Item                  // blocks that may have come out empty, where an empty one is none
}

// where tells where each line of a block stands.
func (a *applied) where(it *rules.Item) map[string]int {
	if a.stand[it] == nil {
		a.stand[it] = make(map[string]int, len(it.Kids))
		for i, k := range slices.Backward(it.Kids) {
			a.stand[it][k.ID] = i
		}
	}
	return a.stand[it]
}

// closed is a block's lines without the gaps that others left.
func (a *applied) closed(it *rules.Item) []*rules.Item {
	delete(a.stand, it)
	return slices.DeleteFunc(it.Kids, func(k *rules.Item) bool { return k == nil })
}

func (a *applied) settle() {
	for _, it := range slices.Backward(a.hollow) {
		if it.Kids = a.closed(it); it.AtDefault() {
			a.drop(it)
		}
	}
	for it := range a.stand {
		it.Kids = a.closed(it)
		it.Renumber()
	}
}

// drop takes a line out of its block. Those of its identity that stand behind it move up.
func (a *applied) drop(it *rules.Item) {
	where := a.where(it.Up)
	at, ok := where[it.ID]
	if !ok {
		return
	}
	it.Up.Kids[at] = nil
	delete(where, it.ID)
	for n := it.Nth(); ; n++ {
		next := it.Nthly(n + 1)
		at, ok := where[next]
		if !ok {
			return
		}
		delete(where, next)
		it.Up.Kids[at].Again(n)
		where[it.Up.Kids[at].ID] = at
	}
}

// typed finds the line of the open block that a removal takes away: of several that are taken
// away by the same words, the first.
func (a *applied) typed(s Step) *rules.Item {
	where := a.where(a.at)
	var first *rules.Item
	for n := 1; ; n++ {
		at, ok := where[s.Item.Nthly(n)]
		if !ok {
			return first
		}
		k := a.at.Kids[at]
		if first == nil {
			first = k
		}
		if a.lang.removal(k) == s.Lines[0] {
			return k
		}
	}
}

func (a *applied) step(s Step) error {
	line := s.Lines[0]
	switch s.Kind {
	case Leave:
		if a.at == a.tree {
			return fmt.Errorf("no block is open to be left")
		}
		a.at = a.at.Up
		return nil
	case Remove:
		k := a.typed(s)
		if k == nil {
			return fmt.Errorf("%s: there is no such line", line)
		}
		a.take(k)
		return nil
	}
	it, err := a.set(s)
	if err == nil && s.Kind == Enter {
		a.at = it
	}
	return err
}

// take removes a line and what goes with it.
func (a *applied) take(it *rules.Item) {
	a.drop(it)
	if up := it.Up; up.Rule != nil && up.Rule.Empties {
		a.hollow = append(a.hollow, up)
	}
	if a.tangle == nil {
		a.tangle = newTangle(a.lang, a.tree)
	}
	for _, other := range a.tangle.goesToo(it) {
		a.drop(other)
	}
}

// set takes a line in and returns the one that stands there then.
func (a *applied) set(s Step) (*rules.Item, error) {
	at, where := a.at, a.where(a.at)
	line, body := s.Lines[0], s.Lines[1:]
	it := a.lang.Table.Item(at, line, body)
	if s.Item != nil {
		it.Again(s.Item.Nth())
	}
	k, ok := where[it.ID]
	if !ok {
		made := a.lang.fresh(it)
		made.Up, made.Body = at, body
		made.Again(it.Nth())
		switch {
		case it.Rule != nil && it.Rule.Empties:
			a.hollow = append(a.hollow, made)
		case made.AtDefault():
			return made, nil
		}
		a.add(made)
		return made, nil
	}
	old := at.Kids[k]
	if old.Same(it) {
		return old, nil
	}
	if !it.Overwrites(old) {
		return nil, fmt.Errorf("%s: it has another value", line)
	}
	it.Kids = a.closed(old)
	for _, k := range it.Kids {
		k.Up = it
	}
	if at.Kids[k] = it; it.AtDefault() {
		at.Kids[k] = nil
		delete(where, it.ID)
	}
	return it, nil
}

// add puts a new line where the device does: before the line that new ones go before,
// or at the end.
func (a *applied) add(it *rules.Item) {
	at := a.at
	if a.tangle != nil {
		a.tangle.came(it)
	}
	if before := it.Before(); before != nil {
		kids := a.closed(at)
		if i := slices.IndexFunc(kids, func(k *rules.Item) bool { return before.MatchString(k.Line) }); i >= 0 && !before.MatchString(it.Line) {
			at.Kids = slices.Insert(kids, i, it)
			return
		}
		at.Kids = kids
	}
	a.where(at)[it.ID] = len(at.Kids)
	at.Kids = append(at.Kids, it)
}
