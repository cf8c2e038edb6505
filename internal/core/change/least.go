package change

import (
	"strings"

	"magpie/internal/core/rules"
)

// Least returns what of a configuration has to be there before a device can be
// reached and signed in to: the lines that carry the way, but for those that only
// narrow it (they use a name), and the blocks and lines at the given paths. In a
// path {user} stands for the account that signs in. The blocks around a line
// that is kept are kept without what else is in them.
func Least(top *rules.Item, paths []string, user string) (*rules.Item, error) {
	var wanted []*rules.Rule
	for _, p := range paths {
		if user == "" && strings.Contains(p, "{user}") {
			continue
		}
		r := &rules.Rule{Path: strings.ReplaceAll(p, "{user}", user)}
		if err := r.Compile(); err != nil {
			return nil, err
		}
		wanted = append(wanted, r)
	}
	out := top.Clone(nil)
	prune(out, func(it *rules.Item) (keep, whole bool) {
		for _, r := range wanted {
			if r.Fits(it) {
				return true, true
			}
		}
		return it.Rule != nil && it.Rule.Reach && len(it.Names()) == 0, false
	})
	return out, nil
}

// prune keeps what is wanted below an item. It tells whether anything is left.
func prune(it *rules.Item, wanted func(*rules.Item) (keep, whole bool)) bool {
	kept := it.Kids[:0:0]
	for _, k := range it.Kids {
		keep, whole := wanted(k)
		if whole {
			kept = append(kept, k)
			continue
		}
		if below := prune(k, wanted); keep || below {
			kept = append(kept, k)
		}
	}
	it.Kids = kept
	return len(kept) > 0
}
