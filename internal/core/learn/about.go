package learn

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// about tries out what there is to know of a kind, with one entry of it.
func (b *bench) about(k *Kind) error {
	e, ok := b.pick(k)
	if ok {
		return b.with(k, e)
	}
	// The unit has none. Another configuration had one, which may go in there.
	tried := 0
	for _, e := range k.Examples {
		if has(b.base, e) || !k.Many && slices.ContainsFunc(b.base, func(o Entry) bool { return slices.Equal(o.Path, e.Path) && b.d.kind(o) == k }) {
			continue // it is there, and was to be left alone
		}
		if tried == 3 || len(e.Body) > 0 {
			break
		}
		if b.spared(e) {
			continue
		}
		tried++
		if _, _, err := b.types(b.add(e, nil)); err != nil {
			return err
		}
		now, err := b.shows()
		if err != nil {
			return err
		}
		if has(now, e) {
			was := b.base
			b.base = now
			err := b.with(k, e)
			b.base = was
			if err != nil {
				return err
			}
			return b.undone()
		}
		if err := b.undone(); err != nil {
			return err
		}
	}
	for _, key := range []string{"overwrites", "order"} {
		k.set(key, nil, false, "nothing could be tried: the unit has no such line that may be touched, and took none")
	}
	return nil
}

// with tries things out with one entry of a kind.
func (b *bench) with(k *Kind, e Entry) error {
	if len(e.Body) > 0 {
		k.set("remove", nil, false, "texts over several lines are not tried out")
		return nil
	}
	if err := b.removal(k, e); err != nil {
		return err
	}
	for i := range k.Tokens {
		if k.Tokens[i].Word == "" {
			if err := b.varied(k, e, i); err != nil {
				return err
			}
		}
	}
	k.again()
	for _, a := range k.apart {
		if t := k.Tokens[a.token]; t.Tell && t.Sure {
			k.singleBy(a.token, a.why)
		}
	}
	if err := b.together(k, e); err != nil {
		return err
	}
	for _, look := range []func(*Kind, Entry) error{b.elsewhere, b.between} {
		if err := look(k, e); err != nil {
			return err
		}
	}
	if k.Block {
		return b.made(k, e)
	}
	return nil
}

// together types an entry with other words at all places, where none of them is seen
// to tell entries apart: two that can stand beside each other have something that does.
// And where it is not known of a word, it types two lines that differ in that alone.
func (b *bench) together(k *Kind, e Entry) error {
	var open, tell []int
	for i, t := range k.Tokens {
		if t.Word == "" && t.Tell && t.Sure {
			tell = append(tell, i)
		}
		if t.Word == "" {
			open = append(open, i)
		}
	}
	if len(open) > 1 && len(tell) == 0 {
		e2 := e
		for _, i := range open {
			others := b.others(k, e2, i)
			if len(others) == 0 {
				return nil
			}
			e2 = others[0]
		}
		if _, _, err := b.types(b.add(e2, nil)); err != nil {
			return err
		}
		now, err := b.shows()
		if err != nil {
			return err
		}
		if has(now, e) && has(now, e2) {
			k.Many = true
			for n, i := range open { // which of them, is not seen
				k.Tokens[i].Tell, k.Tokens[i].Sure = n == 0, false
			}
			delete(k.Facts, "overwrites")
		}
		if err := b.undone(); err != nil {
			return err
		}
	}
	for i := range k.Tokens {
		t := &k.Tokens[i]
		if t.Word != "" || t.Sure {
			continue
		}
		x, y, ok := k.pair(b, e.Path, i)
		if !ok {
			continue
		}
		var now []Entry
		there := true // x, before y was typed
		for n, z := range []Entry{x, y} {
			if !has(b.base, z) {
				if _, _, err := b.types(b.add(z, nil)); err != nil {
					return err
				}
			}
			var err error
			if now, err = b.shows(); err != nil {
				return err
			}
			there = there && (n > 0 || has(now, x))
		}
		switch {
		case !there:
		case has(now, x) && has(now, y):
			t.Tell, t.Sure, k.Many = true, true, true
			k.set("tells "+t.Name, nil, true, fmt.Sprintf("%q stood beside %q", y.Line, x.Line))
		case has(now, y) && len(tell) > 0:
			t.Tell, t.Sure = false, true
			k.set("overwrites", true, true, fmt.Sprintf("%q took the place of %q", y.Line, x.Line))
		}
		if err := b.undone(); err != nil {
			return err
		}
	}
	return nil
}

// pair finds two lines that configurations had and that differ in one word only.
func (k *Kind) pair(b *bench, path []string, i int) (x, y Entry, ok bool) {
	for n, a := range k.Examples {
		w := b.d.words(a.Line)
		for _, c := range k.Examples[n+1:] {
			o, same := b.d.words(c.Line), a.Line != c.Line
			for j := range k.Tokens {
				same = same && j < len(w) && j < len(o) && (j == i) == (k.word(j, w) != k.word(j, o))
			}
			x, y = Entry{Path: path, Line: a.Line}, Entry{Path: path, Line: c.Line}
			if same && !b.spared(x) && !b.spared(y) {
				return x, y, true
			}
		}
	}
	return x, y, false
}

// between looks where an entry goes that is typed again after another one was.
func (b *bench) between(k *Kind, e Entry) error {
	if f, known := k.Facts["order"]; !k.Many || known && f.Sure {
		return nil
	}
	for i := range k.Tokens {
		if k.Tokens[i].Word != "" || !k.Tokens[i].Tell {
			continue
		}
		for _, e2 := range b.others(k, e, i) {
			if _, _, err := b.types(b.add(e2, nil)); err != nil {
				return err
			}
			now, err := b.shows()
			if err != nil {
				return err
			}
			if !has(now, e) || !has(now, e2) {
				if err := b.undone(); err != nil {
					return err
				}
				continue
			}
			first := before(now, e, e2)
			by, _, _, err := b.takeAway(k, e)
			if err != nil {
				return err
			}
			if by == nil {
				return b.undone()
			}
			if _, _, err := b.types(b.add(e, b.base)); err != nil {
				return err
			}
			if now, err = b.shows(); err != nil {
				return err
			}
			if has(now, e) && has(now, e2) {
				if first && !before(now, e, e2) {
					k.set("order", "sequence", true, fmt.Sprintf("typed again, %q stands behind %q: where it is typed, it stays", e.Line, e2.Line))
				} else {
					k.set("order", "", true, fmt.Sprintf("whichever is typed last, %q and %q stand in one order: it is the device's own", e.Line, e2.Line))
				}
			}
			return b.undone()
		}
	}
	return nil
}

// before tells whether an entry stands before another.
func before(all []Entry, a, b Entry) bool {
	for _, e := range all {
		if e.key() == a.key() || e.key() == b.key() {
			return e.key() == a.key()
		}
	}
	return false
}

// pick chooses the entry that things are tried out with: one that others of its kind
// follow, so that it shows where it returns to, and a small one.
func (b *bench) pick(k *Kind) (best Entry, ok bool) {
	score := -1
	fixed, kin := map[string]bool{}, map[string]bool{} // blocks in which such a line stands further on
	for _, e := range slices.Backward(b.base) {
		block := strings.Join(e.Path, "\x00")
		switch {
		case b.spared(e):
			fixed[block] = true
		case b.d.kind(e) != k:
		default:
			s := 100 - min(len(within(b.base, e.under())), 50)
			if kin[block] {
				s += 200
			}
			// Typed again, it may stand behind what must not be taken away to put it right.
			if s >= score && !fixed[block] {
				best, ok, score = e, true, s
			}
		}
		kin[block] = kin[block] || b.d.kind(e) == k
	}
	return best, ok
}

// removal tries how an entry is taken away, what goes with it, and where it stands when
// it is typed again.
func (b *bench) removal(k *Kind, e Entry) error {
	by, gone, came, err := b.takeAway(k, e)
	if err != nil {
		return err
	}
	if by == nil && k.Many {
		return b.unused(k, e)
	}
	if by == nil {
		k.set("kept", true, true, "nothing that was tried takes it away")
		return b.undone()
	}
	k.set("form", *by, true, fmt.Sprintf("%q took it away", b.removalLine(k, e, *by)))
	if len(came) > 0 {
		k.set("kept", nil, false, fmt.Sprintf("taken away, it leaves %q", came[0].Line))
	}
	for _, g := range gone {
		other := b.d.kind(g)
		if other == nil || other == k {
			continue
		}
		if slices.Equal(g.Path, e.Path) && !k.Block {
			if f, known := k.Facts["goes_with"]; known && f.Value == other {
				k.Facts["goes_with"] = Fact{other, false, fmt.Sprintf("each goes when the other does; which of %q and %q can stand alone was not seen", e.Line, g.Line)}
				other.Facts["goes_with"] = Fact{k, false, k.Facts["goes_with"].Why}
				continue
			}
			other.set("goes_with", k, true, fmt.Sprintf("it went when %q was taken away", e.Line))
		} else {
			k.set("takes "+other.Path(), taking{other, g, e}, true, fmt.Sprintf("taken away, it took %q with it", g.String()))
		}
	}
	took, _, err := b.types(b.add(e, b.base))
	if err != nil {
		return err
	}
	now, err := b.shows()
	if err != nil {
		return err
	}
	if missing, extra := differ(b.base, now); took && len(missing)+len(extra) == 0 {
		b.order(k, e, now)
	} else if took && has(now, e) && len(gone) == 0 {
		for _, x := range extra {
			if slices.Equal(x.Path, e.under()) {
				k.set("writes", nil, false, fmt.Sprintf("typed again, it has %q by itself", x.Line))
			}
		}
	}
	return b.undone()
}

// unused makes another entry, which nothing can use yet, and takes that away.
func (b *bench) unused(k *Kind, e Entry) error {
	if err := b.undone(); err != nil {
		return err
	}
	for i := range k.Tokens {
		if k.Tokens[i].Word != "" || !k.Tokens[i].Tell {
			continue
		}
		for _, e2 := range b.others(k, e, i) {
			if _, _, err := b.types(b.add(e2, nil)); err != nil {
				return err
			}
			now, err := b.shows()
			if err != nil {
				return err
			}
			if has(now, e2) && has(now, e) {
				by, _, _, err := b.takeAway(k, e2)
				if err != nil {
					return err
				}
				if by != nil {
					k.set("form", *by, true, fmt.Sprintf("%q took it away, and nothing took %q away, which may be in use", b.removalLine(k, e2, *by), e.Line))
					return b.undone()
				}
			}
			if err := b.undone(); err != nil {
				return err
			}
		}
	}
	k.set("kept", nil, false, "nothing that was tried took it away; it may be in use")
	return nil
}

// taking is a line elsewhere that goes with another.
type taking struct {
	kind    *Kind
	took, e Entry
}

// order says where an entry stands that was taken away and typed again.
func (b *bench) order(k *Kind, e Entry, now []Entry) {
	was, is := direct(b.base, e.Path), direct(now, e.Path)
	at := func(all []Entry) int { return slices.IndexFunc(all, func(x Entry) bool { return x.key() == e.key() }) }
	// Which lines stood behind it, and which do now.
	behind := func(all []Entry, kin bool) (n int) {
		for _, x := range all[at(all)+1:] {
			if (b.d.kind(x) == k) == kin {
				n++
			}
		}
		return n
	}
	kin, kinNow := behind(was, true), behind(is, true)
	others, othersNow := behind(was, false), behind(is, false)
	switch {
	case kin == 0:
		if _, known := k.Facts["order"]; !known && k.Many {
			k.set("order", nil, false, "the last of its kind was tried, which says nothing of order")
		}
		return
	case kinNow == kin:
		k.set("order", "", true, "taken away and typed again, it stands where it stood: its order is the device's own")
		return
	}
	how := "sequence"
	if others > 0 && othersNow < others && k.Up != b.d.Top {
		how = "ordered" // among all lines of the block
	}
	k.set("order", how, true, "taken away and typed again, it stands behind the others: where it is typed, it stays")
	if how == "ordered" && othersNow > 0 {
		last := is[len(is)-1]
		if w := b.d.Words(last.Line); len(w) > 0 && isWord(w[0].Text) {
			k.set("before", "^"+w[0].Text+" ", true, fmt.Sprintf("typed last, it stands before %q", last.Line))
		}
	}
}

// varied types an entry with another word at a place: beside it, over it, or not.
func (b *bench) varied(k *Kind, e Entry, i int) error {
	t := &k.Tokens[i]
	if t.Tell && t.Sure && !k.Many {
		return nil
	}
	for _, e2 := range b.others(k, e, i) {
		took, _, err := b.types(b.add(e2, nil))
		if err != nil {
			return err
		}
		now, err := b.shows()
		if err != nil {
			return err
		}
		told := true
		switch {
		case has(now, e) && has(now, e2):
			t.Tell, t.Sure, k.Many = true, true, true
			k.set("tells "+t.Name, nil, true, fmt.Sprintf("%q stood beside %q", e2.Line, e.Line))
		case has(now, e2):
			if t.Tell && t.Sure {
				break // something else made it go: it is said of that
			}
			t.Tell, t.Sure = false, true
			k.set("overwrites", true, true, fmt.Sprintf("%q took the place of %q", e2.Line, e.Line))
		case has(now, e):
			// Refused, or nothing came of it: because the other is there?
			if told, err = b.instead(k, e, e2, i, took); err != nil {
				return err
			}
		}
		if err := b.undone(); err != nil || told {
			return err
		}
	}
	return nil
}

// instead takes an entry away, and types the other that it did not stand beside.
func (b *bench) instead(k *Kind, e, e2 Entry, i int, took bool) (told bool, err error) {
	t := &k.Tokens[i]
	by, _, _, err := b.takeAway(k, e)
	if err != nil || by == nil {
		return false, err
	}
	if _, _, err := b.types(b.add(e2, nil)); err != nil {
		return false, err
	}
	now, err := b.shows()
	if err != nil || !has(now, e2) {
		return false, err
	}
	said := "was refused"
	if took {
		said = "came to nothing"
	}
	why := fmt.Sprintf("%q %s while %q was there, and not once that was gone", e2.Line, said, e.Line)
	if t.Tell && t.Sure {
		k.singleBy(i, why)
		return true, nil
	}
	if slices.ContainsFunc(k.Tokens, func(o Token) bool { return o.Word == "" && o.Name != t.Name }) {
		// It may be for another word of it that they do not stand together.
		k.apart = append(k.apart, apartFrom{i, why})
		return true, nil
	}
	t.Tell, t.Sure = false, true
	k.set("overwrites", false, true, why)
	return true, nil
}

// apartFrom is a word by which two entries differed that did not stand together, before
// it was known whether it tells entries apart.
type apartFrom struct {
	token int
	why   string
}

// singleBy notes that of entries that agree in all but a word there is one at a time.
func (k *Kind) singleBy(token int, why string) {
	var by []string
	for i, o := range k.Tokens {
		if o.Word == "" && i != token {
			by = append(by, o.Name)
		}
	}
	if len(by) > 0 {
		k.set("single_by", by, true, why)
	}
}

// others are entries with another word at a place: those that some configuration had
// where all else was the same, those that it had elsewhere, and some near it.
func (b *bench) others(k *Kind, e Entry, i int) (out []Entry) {
	w := b.d.words(e.Line)
	if i >= len(w) {
		return nil
	}
	word := k.word(i, w)
	var tries []string
	add := func(v string) {
		if v != word && !slices.Contains(tries, v) {
			tries = append(tries, v)
		}
	}
	for _, x := range k.Examples {
		o, same := b.d.words(x.Line), true
		for j := range k.Tokens {
			same = same && j < len(o) && (j == i || k.word(j, o) == k.word(j, w))
		}
		if same {
			add(k.word(i, o))
		}
	}
	for n := 1; n < 9; n++ {
		if near := nearby(word, n); near != "" {
			add(near)
		}
	}
	for _, v := range slices.Sorted(maps.Keys(k.values[i])) {
		add(v)
	}
	if isWord(word) {
		add(word + "2")
	}
	for _, v := range tries {
		var parts []string
		for j := range k.Tokens {
			if j == i {
				parts = append(parts, v)
			} else {
				parts = append(parts, k.word(j, w))
			}
		}
		e2 := Entry{Path: e.Path, Line: strings.Join(parts, " ")}
		taken := false
		for _, x := range b.base { // another entry of that identity stands there
			taken = taken || slices.Equal(x.Path, e.Path) && b.d.kind(x) == k && (x.Line == e2.Line || k.identity(b.d, x) == k.identity(b.d, e2) && k.identity(b.d, e) != k.identity(b.d, e2))
		}
		if !taken && !b.spared(e2) && b.d.kind(e2) == k {
			if out = append(out, e2); len(out) == 3 {
				break
			}
		}
	}
	return out
}

// identity is what of an entry tells it from others of its kind, as far as is known.
func (k *Kind) identity(d *Draft, e Entry) string {
	var parts []string
	w := d.words(e.Line)
	for i, t := range k.Tokens {
		if i < len(w) && (t.Word != "" || t.Tell) {
			parts = append(parts, k.word(i, w))
		}
	}
	return strings.Join(parts, " ")
}

// nearby is a word that is probably as good as another: the next number, the next
// address. Empty: there is none.
func nearby(word string, by int) string {
	end := len(word)
	if i := strings.IndexByte(word, '/'); i > 0 {
		end = i
	}
	start := end
	for start > 0 && word[start-1] >= '0' && word[start-1] <= '9' {
		start--
	}
	n, err := strconv.Atoi(word[start:end])
	if err != nil || end-start > 9 || start > 0 && !strings.ContainsAny(word[start-1:start], ".:abcdefghijklmnopqrstuvwxyz-") {
		return ""
	}
	return word[:start] + strconv.Itoa(n+by) + word[end:]
}

// elsewhere types an entry in another block of the same kind, where addresses may be
// refused that stand somewhere already.
func (b *bench) elsewhere(k *Kind, e Entry) error {
	at := slices.IndexFunc(k.Tokens, func(t Token) bool { return strings.HasPrefix(t.Name, "address") })
	if at < 0 || k.Up == b.d.Top {
		return nil
	}
	for _, x := range b.base {
		block := x.under()
		if b.d.kind(x) != k.Up || slices.Equal(block, e.Path) || b.spared(x) || len(x.Path) != len(e.Path)-1 {
			continue
		}
		e2 := Entry{Path: block, Line: e.Line}
		if slices.ContainsFunc(within(b.base, block), func(o Entry) bool { return b.d.kind(o) == k && k.identity(b.d, o) == k.identity(b.d, e) }) {
			continue
		}
		if _, _, err := b.types(b.add(e2, nil)); err != nil {
			return err
		}
		now, err := b.shows()
		if err != nil {
			return err
		}
		switch {
		case has(now, e2) && has(now, e):
		case has(now, e2):
			k.set("unique", []string{k.Tokens[at].Name}, true, fmt.Sprintf("typed in %q, it left %q", strings.Join(block, " / "), strings.Join(e.Path, " / ")))
		case has(now, e):
			by, _, _, err := b.takeAway(k, e)
			if err != nil {
				return err
			}
			if by != nil {
				if _, _, err := b.types(b.add(e2, nil)); err != nil {
					return err
				}
				if now, err = b.shows(); err != nil {
					return err
				}
				if has(now, e2) {
					k.set("unique", []string{k.Tokens[at].Name}, true, fmt.Sprintf("it was refused in %q while it stood in %q", strings.Join(block, " / "), strings.Join(e.Path, " / ")))
				}
			}
		}
		return b.undone()
	}
	return nil
}

// made makes a new block of a kind, with nothing in it, and looks what stands there.
func (b *bench) made(k *Kind, e Entry) error {
	for i := len(k.Tokens) - 1; i >= 0; i-- {
		if k.Tokens[i].Word != "" {
			continue
		}
		for _, e2 := range b.others(k, e, i) {
			took, _, err := b.types(b.add(e2, nil))
			if err != nil {
				return err
			}
			now, err := b.shows()
			if err != nil {
				return err
			}
			switch inner := within(now, e2.under()); {
			case !took:
				k.set("writes", nil, false, "no new one could be made")
			case !has(now, e2):
				k.set("empties", true, true, "one with nothing in it is not there")
			default:
				var lines []string
				for _, x := range inner {
					lines = append(lines, x.Line)
				}
				k.set("writes", lines, true, "that is what a new one has in it")
			}
			if err := b.undone(); err != nil || took {
				return err
			}
		}
		return nil
	}
	return nil
}
