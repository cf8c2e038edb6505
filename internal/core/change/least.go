package change

import (
	"net/netip"
	"slices"
	"strings"

	"magpie/internal/core/rules"
)

// Least returns what of a configuration has to be there before a device can be
// reached and signed in to: the lines that carry the way to the address at which it is sought, but for those that only
// narrow it (they use a name), and the blocks and lines at the given paths. In a
// path {user} stands for the account that signs in. The blocks around a line
// that is kept are kept without what else is in them. held tells whether a line holds the address; where none does, as
// behind a translation, all lines that carry a way are kept.
func Least(top *rules.Item, paths []string, user, at string) (least *rules.Item, held bool, err error) {
	var wanted []*rules.Rule
	for _, p := range paths {
		if user == "" && strings.Contains(p, "{user}") {
			continue
		}
		r := &rules.Rule{Path: strings.ReplaceAll(p, "{user}", user)}
		if err := r.Compile(); err != nil {
			return nil, false, err
		}
		wanted = append(wanted, r)
	}
	out := top.Clone(nil)
	w := wayTo(out, at)
	prune(out, func(it *rules.Item) (keep, whole bool) {
		for _, r := range wanted {
			if r.Fits(it) {
				return true, true
			}
		}
		return carries(it) && w.leads(it), false
	})
	return out, len(w.own) > 0, nil
}

func carries(it *rules.Item) bool { return it.Rule != nil && it.Rule.Reach && len(it.Names()) == 0 }

// way is how an address is reached: the lines that hold it, the blocks that these stand in, and the networks that it is
// in by them.
type way struct {
	own    []*rules.Item
	blocks []*rules.Item
	nets   []netip.Prefix
}

func wayTo(top *rules.Item, at string) (w way) {
	addr, err := netip.ParseAddr(at)
	if err != nil {
		return w
	}
	var look func(it *rules.Item)
	look = func(it *rules.Item) {
		for _, k := range it.Kids {
			if carries(k) {
				for _, p := range addressesOf(k.Line) {
					if p.Addr() == addr {
						w.own, w.blocks, w.nets = append(w.own, k), append(w.blocks, it), append(w.nets, p.Masked())
					}
				}
			}
			look(k)
		}
	}
	look(top)
	return w
}

// leads tells whether a line that carries a way carries this one: it holds the address; or stands in its block and holds
// none (that a port is shut); or it leads on by its network. What stands in a block like that one carries another way.
func (w way) leads(it *rules.Item) bool {
	found := addressesOf(it.Line)
	switch {
	case len(w.own) == 0, slices.Contains(w.own, it):
		return true
	case slices.Contains(w.blocks, it.Up) && it.Up.Up != nil:
		return len(found) == 0
	case it.Up != nil && it.Up.Up != nil && slices.ContainsFunc(w.blocks, func(b *rules.Item) bool { return b.Rule == it.Up.Rule }),
		slices.ContainsFunc(w.own, func(o *rules.Item) bool { return o.Rule == it.Rule }):
		return false
	case len(found) == 0, !slices.ContainsFunc(w.nets, func(n netip.Prefix) bool { return !n.IsSingleIP() }): // nobody can tell
		return true
	}
	return slices.ContainsFunc(found, func(p netip.Prefix) bool {
		return p.IsSingleIP() && slices.ContainsFunc(w.nets, func(n netip.Prefix) bool { return n.Contains(p.Addr()) })
	})
}

// addressesOf are the addresses in a line, each with the length that stands with it, behind a slash or as the mask that
// follows; alone where none does.
func addressesOf(line string) (out []netip.Prefix) {
	words := strings.Fields(line)
	for i, word := range words {
		word = strings.Trim(word, `"'<>,;()[]`)
		if p, err := netip.ParsePrefix(word); err == nil {
			out = append(out, p)
			continue
		}
		a, err := netip.ParseAddr(word)
		if err != nil || len(out) > 0 && i > 0 && maskBits(words[i]) > 0 {
			continue
		}
		bits := a.BitLen()
		if i+1 < len(words) && a.Is4() {
			if n := maskBits(words[i+1]); n > 0 {
				bits = n
			}
		}
		out = append(out, netip.PrefixFrom(a, bits))
	}
	return out
}

// maskBits is the length of a mask like 255.255.255.0; 0 if it is none.
func maskBits(word string) int {
	a, err := netip.ParseAddr(word)
	if err != nil || !a.Is4() {
		return 0
	}
	b := a.As4()
	v, n := uint32(b[0])<<24|uint32(b[1])<<16|uint32(b[2])<<8|uint32(b[3]), 0
	for ; v&(1<<31) != 0; v <<= 1 {
		n++
	}
	if v != 0 {
		return 0
	}
	return n
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
