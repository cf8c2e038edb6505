package change

import (
	"slices"

	"magpie/internal/core/rules"
)

// Bound returns to with every line that belongs to one piece of hardware as it is
// in from: such lines of one unit do not go to another, and those of the other
// stay. Held lists the lines of to that are set aside.
func Bound(from, to *rules.Item) (out *rules.Item, held []*rules.Item) {
	out = to.Clone(nil)
	var walk func(h, w *rules.Item)
	walk = func(h, w *rules.Item) {
		in := h.ByID()
		w.Kids = slices.DeleteFunc(w.Kids, func(k *rules.Item) bool {
			if !hardware(k) {
				return false
			}
			if o := in[k.ID]; o == nil || !o.Same(k) {
				held = append(held, k)
			}
			return true
		})
		for _, k := range w.Kids {
			if o := in[k.ID]; o != nil {
				walk(o, k)
			} else {
				walk(&rules.Item{}, k)
			}
		}
		for _, k := range h.Kids {
			if hardware(k) {
				w.Kids = append(w.Kids, k.Clone(w))
			}
		}
		w.Renumber()
	}
	walk(from, out)
	return out, held
}

func hardware(it *rules.Item) bool { return it.Rule != nil && it.Rule.Hardware }
