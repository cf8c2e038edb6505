package learn

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Unit is a device that nobody needs, at which things are tried out.
type Unit interface {
	// Shows is what it runs.
	Shows() ([]Entry, error)
	// Later is the same after a while, in which nothing was typed.
	Later() ([]Entry, error)
	// Types types lines one after the other, from where lines of the top are typed.
	// refused is the first that it would not have, from 0, and -1 if it took all.
	Types(lines []string) (refused int, words string, err error)
}

// How is what is known already of the way lines are typed.
type How struct {
	Remove string      // how most lines are taken away: with {line} or {identity}
	Leave  string      // how a block is left
	Spare  []string    // words whose lines are left alone: the account that signs in, the address it comes by
	Most   int         // lines that may be typed
	Stop   func() bool // asked between experiments: nothing more is to be tried; nil: never
}

// ErrStopped is returned when nothing more was to be tried. The unit is as it was.
var ErrStopped = errors.New("nothing more was to be tried")

// ErrTooMuch is returned when as many lines were typed as were allowed.
var ErrTooMuch = errors.New("as many lines were typed as were allowed")

// Left is what an experiment could not undo.
type Left struct {
	Missing, Extra []Entry
	Why            string // where it was not even tried
}

func (l *Left) Error() string {
	var all []string
	for _, e := range l.Missing {
		all = append(all, "missing: "+e.String())
	}
	for _, e := range l.Extra {
		all = append(all, "too much: "+e.String())
	}
	switch {
	case l.Why != "":
		all = []string{l.Why}
	case all == nil:
		all = []string{"the order of lines differs"}
	}
	return "the unit is not as it was, and nothing more is tried: " + strings.Join(all, "; ")
}

// bench is a unit while things are tried out at it.
type bench struct {
	d     *Draft
	u     Unit
	how   How
	say   func(string)
	base  []Entry         // what it ran before, and runs again after each experiment
	alone map[string]bool // what of that is to be left alone, or holds such a line
	typed int
}

// Try tries out at a unit what configurations alone do not tell, and notes what came of
// it. Each experiment is undone, and that it is, is looked at before the next; where it
// cannot be, it ends with *Left. say is told what is typed, before it is.
func (d *Draft) Try(u Unit, how How, say func(string)) error {
	b := d.bench(u, how, say)
	first, err := u.Shows()
	if err != nil {
		return err
	}
	later, err := u.Later()
	if err != nil {
		return err
	}
	b.volatile(first, later)
	if d.ran, err = b.shows(); err != nil {
		return err
	}
	b.runs(d.ran)
	for _, k := range d.Kinds() {
		if _, v := k.Facts["volatile"]; v {
			continue
		}
		if how.Stop != nil && how.Stop() {
			return ErrStopped
		}
		b.say("about " + k.Path())
		if err := b.about(k); err != nil {
			return err
		}
	}
	return nil
}

// Undo has a unit run again what it ran before Try, where that broke off: u is another
// conversation with it.
func (d *Draft) Undo(u Unit, how How, say func(string)) error {
	b := d.bench(u, how, say)
	b.runs(d.ran)
	b.how.Most += len(d.ran) + 1000
	return b.undone()
}

// bench is a unit that things are tried out at. Without the name in its prompt the
// conversation would be lost, so that is left alone too.
func (d *Draft) bench(u Unit, how How, say func(string)) *bench {
	how.Spare = append(slices.Clone(how.Spare), d.Host)
	return &bench{d: d, u: u, how: how, say: say}
}

// runs notes what the unit runs, and which of it is to be left alone.
func (b *bench) runs(base []Entry) {
	b.base, b.alone = base, map[string]bool{}
	for _, e := range base {
		for up, there := e, b.names(e.Line); there; up, there = up.up() {
			b.alone[up.key()] = true
		}
	}
}

// volatile finds lines that change while nobody does anything.
func (b *bench) volatile(first, later []Entry) {
	missing, extra := differ(first, later)
	for _, m := range missing {
		for _, e := range extra {
			if k := b.d.kind(m); k != nil && k == b.d.kind(e) && slices.Equal(m.Path, e.Path) {
				k.set("volatile", true, true, "it changed while nothing was typed")
			}
		}
	}
}

// shows is what the unit runs, without what changes by itself.
func (b *bench) shows() ([]Entry, error) {
	all, err := b.u.Shows()
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool {
		k := b.d.kind(e)
		if k == nil {
			return false
		}
		_, v := k.Facts["volatile"]
		return v
	}), err
}

// kind is the kind that an entry is of; nil: none.
func (d *Draft) kind(e Entry) *Kind {
	k := d.Top
	for _, l := range append(slices.Clone(e.Path), e.Line) {
		w := d.words(l)
		i := slices.IndexFunc(k.Kids, func(c *Kind) bool { return c.fits(w) })
		if i < 0 {
			return nil
		}
		k = k.Kids[i]
	}
	return k
}

func (k *Kind) fits(w []string) bool {
	for i, t := range k.Tokens {
		if i >= len(w) || t.Word != "" && t.Word != w[i] {
			return false
		}
		if t.Rest {
			return true
		}
	}
	return len(w) == len(k.Tokens)
}

// differ lists what only one of two configurations has.
func differ(was, is []Entry) (missing, extra []Entry) {
	count := map[string]int{}
	for _, e := range is {
		count[e.key()]++
	}
	for _, e := range was {
		if count[e.key()]--; count[e.key()] < 0 {
			missing = append(missing, e)
			count[e.key()] = 0
		}
	}
	count = map[string]int{}
	for _, e := range was {
		count[e.key()]++
	}
	for _, e := range is {
		if count[e.key()]--; count[e.key()] < 0 {
			extra = append(extra, e)
			count[e.key()] = 0
		}
	}
	return missing, extra
}

func has(all []Entry, e Entry) bool {
	return slices.ContainsFunc(all, func(o Entry) bool { return o.key() == e.key() })
}

// within lists the entries of a block, or below one.
func within(all []Entry, block []string) (out []Entry) {
	for _, e := range all {
		if len(e.Path) >= len(block) && slices.Equal(e.Path[:len(block)], block) {
			out = append(out, e)
		}
	}
	return out
}

// under is the block that an entry opens.
func (e Entry) under() []string { return append(slices.Clone(e.Path), e.Line) }

// up is the entry that opens the block an entry stands in; false at the top.
func (e Entry) up() (Entry, bool) {
	n := len(e.Path) - 1
	if n < 0 {
		return Entry{}, false
	}
	return Entry{Path: e.Path[:n], Line: e.Path[n]}, true
}

// direct lists the entries right in a block.
func direct(all []Entry, block []string) (out []Entry) {
	for _, e := range all {
		if slices.Equal(e.Path, block) {
			out = append(out, e)
		}
	}
	return out
}

// in is what is typed for lines in a block.
func (b *bench) in(path []string, lines ...string) (out []string) {
	out = append(slices.Clone(path), lines...)
	for range path {
		if b.how.Leave != "" {
			out = append(out, b.how.Leave)
		}
	}
	return out
}

// add is what is typed to have an entry, with all that is below it in a configuration.
func (b *bench) add(e Entry, of []Entry) []string {
	var whole func(e Entry) []string
	whole = func(e Entry) []string {
		out := append([]string{e.Line}, e.Body...)
		inner := within(of, e.under())
		for _, k := range inner {
			if len(k.Path) == len(e.Path)+1 {
				out = append(out, whole(k)...)
			}
		}
		if k := b.d.kind(e); (len(inner) > 0 || k != nil && k.Block) && b.how.Leave != "" {
			out = append(out, b.how.Leave)
		}
		return out
	}
	return b.in(e.Path, whole(e)...)
}

// types types lines, and says so before.
func (b *bench) types(lines []string) (took bool, words string, err error) {
	if b.typed += len(lines); b.typed > b.how.Most {
		return false, "", ErrTooMuch
	}
	b.say("  " + strings.Join(lines, " / "))
	refused, words, err := b.u.Types(lines)
	if err == nil && refused >= 0 {
		b.say("  refused: " + words)
	}
	return refused < 0, words, err
}

// form is a way to take an entry away: which of its words the removal names, or a word
// for what is typed instead.
type form struct {
	keep   []int  // tokens
	denial string // "denied": the line without the word that denies it; "denies": with it
}

// forms are the ways to take an entry of a kind away that are worth trying: the one that
// is known; or as most lines are, with what is taken for its identity; then with more
// words, then with fewer, then with some in the middle left out.
func (b *bench) forms(k *Kind, e Entry) (out []form) {
	if b.d.denied(e.Line) {
		return []form{{denial: "denied"}}
	}
	if f, ok := k.Facts["form"]; ok && f.Value.(form).denial != "denied" {
		return []form{f.Value.(form)}
	}
	n := len(k.Tokens)
	add := func(keep []int) {
		if len(keep) > 0 && !slices.ContainsFunc(out, func(f form) bool { return slices.Equal(f.keep, keep) }) {
			out = append(out, form{keep: keep})
		}
	}
	span := func(from, to int) (all []int) {
		for i := from; i < to; i++ {
			all = append(all, i)
		}
		return all
	}
	if b.how.Remove != "" {
		add(k.told())
		for to := n; to > 0; to-- {
			add(span(0, to))
		}
		for wide := 1; wide <= 3; wide++ {
			for from := 1; from+wide < n; from++ {
				add(append(span(0, from), span(from+wide, n)...))
			}
		}
	}
	if b.d.Denial != "" {
		out = append(out, form{denial: "denies"})
	}
	return out
}

// told is which words tell a kind's entries apart: all before the first value.
func (k *Kind) told() (all []int) {
	for i, t := range k.Tokens {
		if t.Word == "" && !t.Tell {
			break
		}
		all = append(all, i)
	}
	return all
}

// removal is what is typed to take an entry away.
func (b *bench) removalLine(k *Kind, e Entry, f form) string {
	w := b.d.words(e.Line)
	switch f.denial {
	case "denied":
		return strings.Join(w, " ")
	case "denies":
		return b.d.Denial + " " + e.Line
	}
	var words []string
	for _, i := range f.keep {
		if i < len(w) {
			words = append(words, k.word(i, w))
		}
	}
	return b.how.removal(strings.Join(words, " "))
}

// removal is how words are taken away.
func (h How) removal(words string) string {
	return strings.NewReplacer("{identity}", words, "{line}", words).Replace(h.Remove)
}

// takeAway takes an entry away by the first way that does it and no more than it must,
// and returns which, what went elsewhere, and what came.
func (b *bench) takeAway(k *Kind, e Entry) (by *form, gone, came []Entry, err error) {
	was, err := b.shows()
	if err != nil {
		return nil, nil, nil, err
	}
	var second *form // one that takes more with it
	for _, f := range b.forms(k, e) {
		if _, _, err := b.types(b.in(e.Path, b.removalLine(k, e, f))); err != nil {
			return nil, nil, nil, err
		}
		now, err := b.shows()
		if err != nil {
			return nil, nil, nil, err
		}
		missing, extra := differ(was, now)
		if len(missing)+len(extra) == 0 {
			continue
		}
		var more []Entry
		broad := false
		for _, m := range missing {
			if m.key() == e.key() || len(within([]Entry{m}, e.under())) > 0 {
				continue
			}
			more = append(more, m)
			broad = broad || slices.Equal(m.Path, e.Path) && b.d.kind(m) == k
		}
		if has(missing, e) && !broad {
			if len(more) == 0 || k.Block {
				return &f, more, extra, nil
			}
			if second == nil {
				second = &f
			}
		}
		// It does something else. Then it is no way to take this away.
		if err := b.restore(was); err != nil {
			return nil, nil, nil, err
		}
	}
	if second == nil {
		return nil, nil, nil, nil
	}
	if _, _, err := b.types(b.in(e.Path, b.removalLine(k, e, *second))); err != nil {
		return nil, nil, nil, err
	}
	now, err := b.shows()
	if err != nil {
		return nil, nil, nil, err
	}
	missing, came := differ(was, now)
	gone = slices.DeleteFunc(missing, func(m Entry) bool {
		return m.key() == e.key() || len(within([]Entry{m}, e.under())) > 0
	})
	return second, gone, came, nil
}

// restore has the unit run again what it ran.
func (b *bench) restore(was []Entry) error {
	var missing, extra []Entry
	for range 4 {
		now, err := b.shows()
		if err != nil {
			return err
		}
		missing, extra = differ(was, now)
		if len(missing)+len(extra) == 0 {
			block := disordered(was, now)
			if block == nil {
				return nil
			}
			if err := b.layAnew(was, *block); err != nil {
				return err
			}
			continue
		}
		for _, e := range extra {
			if up, inner := e.up(); inner && has(extra, up) {
				continue // it goes with its block
			}
			if err := b.drop(e); err != nil {
				return err
			}
		}
		for _, e := range missing {
			if up, inner := e.up(); inner && has(missing, up) {
				continue // it comes with its block
			}
			if _, _, err := b.types(b.add(e, was)); err != nil {
				return err
			}
		}
	}
	return &Left{Missing: missing, Extra: extra}
}

// known is an entry's kind, or one made for it alone.
func (b *bench) known(e Entry) *Kind {
	if k := b.d.kind(e); k != nil {
		return k
	}
	k := &Kind{Facts: map[string]Fact{}}
	for _, w := range b.d.Words(e.Line) {
		k.Tokens = append(k.Tokens, Token{Word: w.Text})
	}
	return k
}

// disordered is a block whose lines stand in another order; nil: there is none.
func disordered(was, now []Entry) *[]string {
	seen := map[string]bool{}
	for _, e := range was {
		key := strings.Join(e.Path, "\x00")
		if seen[key] {
			continue
		}
		seen[key] = true
		if !slices.EqualFunc(direct(was, e.Path), direct(now, e.Path), func(a, b Entry) bool { return a.Line == b.Line }) {
			path := slices.Clone(e.Path)
			return &path
		}
	}
	return nil
}

// layAnew takes the lines of a block away that stand in the wrong order, and types them
// in the right one.
func (b *bench) layAnew(was []Entry, block []string) error {
	now, err := b.shows()
	if err != nil {
		return err
	}
	want, have := direct(was, block), direct(now, block)
	from := 0
	for from < len(want) && from < len(have) && want[from].key() == have[from].key() {
		from++
	}
	var moved []Entry
	kinds := map[*Kind]bool{} // only those that moved matter
	for i := from; i < len(want); i++ {
		if i < len(have) && want[i].key() != have[i].key() {
			kinds[b.d.kind(want[i])] = true
		}
	}
	for _, e := range want[from:] {
		if kinds[b.d.kind(e)] {
			moved = append(moved, e)
		}
	}
	if i := slices.IndexFunc(moved, b.spared); i >= 0 {
		return &Left{Why: fmt.Sprintf("to bring the order back, %q would have to be taken away, which is to be left alone", moved[i].String())}
	}
	for _, e := range slices.Backward(moved) {
		if err := b.drop(e); err != nil {
			return err
		}
	}
	for _, e := range moved {
		if _, _, err := b.types(b.add(e, was)); err != nil {
			return err
		}
	}
	return nil
}

// drop takes an entry away by what is known, or what works.
func (b *bench) drop(e Entry) error {
	kind := b.known(e)
	for _, f := range b.forms(kind, e) {
		if _, _, err := b.types(b.in(e.Path, b.removalLine(kind, e, f))); err != nil {
			return err
		}
		now, err := b.shows()
		if err != nil || !has(now, e) {
			return err
		}
	}
	return nil
}

// spared tells whether an entry, or what is below it, is to be left alone.
func (b *bench) spared(e Entry) bool { return b.alone[e.key()] || b.names(e.Line) }

// names tells whether a line names what is to be left alone.
func (b *bench) names(line string) bool {
	for _, w := range b.d.Words(line) {
		for _, s := range b.how.Spare {
			if s != "" && (w.Text == s || strings.HasPrefix(w.Text, s+"/")) {
				return true
			}
		}
	}
	return false
}

// undone has the unit run what it ran before the experiments.
func (b *bench) undone() error {
	if err := b.restore(b.base); err != nil {
		var left *Left
		if errors.As(err, &left) {
			return err
		}
		return fmt.Errorf("undoing an experiment: %w", err)
	}
	return nil
}
