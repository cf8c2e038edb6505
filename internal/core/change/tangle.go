package change

import (
	"magpie/internal/core/rules"
)

// tangle knows which lines of a tree belong to which, by rules that say so: what goes with
// a line, and what a line takes with it. Each question is answered from an index.
type tangle struct {
	lang *Language
	tree *rules.Item
	all  []*rules.Item                               // its lines; nil before anything was asked
	fits map[[2]*rules.Rule]map[string][]*rules.Item // by a line's rule and the path of others: those others, by what they share
	goes map[*rules.Rule]map[string][]*rules.Item    // by a rule whose lines go with others: those lines, by what they share
}

func newTangle(l *Language, tree *rules.Item) *tangle {
	return &tangle{lang: l, tree: tree, fits: map[[2]*rules.Rule]map[string][]*rules.Item{}, goes: map[*rules.Rule]map[string][]*rules.Item{}}
}

// lines are those of the tree. Where no rule speaks of others, nobody asks for them.
func (g *tangle) lines() []*rules.Item {
	if g.all == nil {
		g.all = every(g.tree)
	}
	return g.all
}

// with are the lines that a path speaks of and that share a line's captures of one name.
func (g *tangle) with(x *rules.Item, path *rules.Rule) []*rules.Item {
	shared := x.Rule.Shared(path)
	pair := [2]*rules.Rule{x.Rule, path}
	if g.fits[pair] == nil {
		g.fits[pair] = map[string][]*rules.Item{}
		for _, o := range g.lines() {
			if path.Fits(o) {
				key := path.Took(o, shared)
				g.fits[pair][key] = append(g.fits[pair][key], o)
			}
		}
	}
	return g.fits[pair][x.Rule.Took(x, shared)]
}

// belonging are the lines of a rule that go with a line.
func (g *tangle) belonging(r *rules.Rule, x *rules.Item) []*rules.Item {
	shared := r.GoesWith.Shared(r)
	if g.goes[r] == nil {
		g.goes[r] = map[string][]*rules.Item{}
		for _, o := range g.lines() {
			if o.Rule == r {
				key := r.Took(o, shared)
				g.goes[r][key] = append(g.goes[r][key], o)
			}
		}
	}
	return g.goes[r][r.GoesWith.Took(x, shared)]
}

// came tells of a line that came since.
func (g *tangle) came(it *rules.Item) {
	if g.all == nil {
		return // it is found with the others
	}
	g.all = append(g.all, it)
	for pair, index := range g.fits {
		if pair[1].Fits(it) {
			key := pair[1].Took(it, pair[0].Shared(pair[1]))
			index[key] = append(index[key], it)
		}
	}
	if index := g.goes[it.Rule]; index != nil {
		key := it.Rule.Took(it, it.Rule.GoesWith.Shared(it.Rule))
		index[key] = append(index[key], it)
	}
}

// goesToo are the lines that the device takes away with one, or with what is below it.
func (g *tangle) goesToo(it *rules.Item) (out []*rules.Item) {
	for _, x := range append([]*rules.Item{it}, every(it)...) {
		if x.Rule == nil {
			continue
		}
		for _, path := range x.Rule.Takes {
			for _, y := range g.with(x, path) {
				if y != x {
					out = append(out, y)
				}
			}
		}
		for _, r := range g.lang.Table.Rules {
			if r.GoesWith != nil && r.GoesWith.Fits(x) {
				out = append(out, g.belonging(r, x)...)
			}
		}
	}
	return out
}
