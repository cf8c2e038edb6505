package dialect

import (
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core/change"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
)

// Explanation is how a line is read, and what would be typed to change it.
type Explanation struct {
	Line     string
	Rule     string // the path of the rule it falls under; empty: none speaks of it
	Identity string // what tells it from its neighbours
	Value    string
	Denied   bool
	Captures [][2]string // by name, in the order of the line
	Says     []string    // what its rule says, in words
	Add      []string    // what is typed to add it
	Remove   []string    // what is typed to take it away
	Trouble  string      // why one of them cannot be had
}

// Explain tells how a line is read that stands in the blocks before it, joined by " / ".
// An error says why it cannot be read at all.
func (d *Dialect) Explain(path string) (out []Explanation, err error) {
	if d.Language == nil && !d.Table.Document {
		return nil, fmt.Errorf("grammar %s has no lines to explain", d.Grammar.Form)
	}
	root := &grammar.Node{}
	at := root
	for _, seg := range strings.Split(path, " / ") {
		if seg = strings.Join(strings.Fields(seg), " "); seg == "" {
			return nil, fmt.Errorf("%q has an empty segment; blocks are joined by \" / \"", path)
		}
		n := &grammar.Node{Text: seg}
		at.Kids = []*grammar.Node{n}
		at = n
	}
	for it := d.Table.Resolve(root); ; {
		if len(it.Kids) == 0 {
			break
		}
		it = it.Kids[0]
		out = append(out, d.explain(it))
	}
	if len(out) < len(strings.Split(path, " / ")) {
		return nil, fmt.Errorf("%s is not kept: its rule says that it changes by itself, or that the device leaves it out", path)
	}
	last := &out[len(out)-1]
	if d.Table.Document {
		last.Trouble = "documents go as a whole: nothing is typed"
		return out, nil
	}
	if d.Change.Remove == "" {
		last.Trouble = "lines are not typed here: change.remove is not said"
		return out, nil
	}
	whole := d.Table.Resolve(root)
	around := whole.Clone(nil) // the blocks around it, without it
	up := around
	for len(up.Kids) > 0 && len(up.Kids[0].Kids) > 0 {
		up = up.Kids[0]
	}
	up.Kids = nil
	add, remove := d.Language.Replace(around, whole), d.Language.Replace(whole, around)
	last.Add, last.Remove = typed(add.Steps), typed(remove.Steps)
	if len(remove.Steps) == 1 && remove.Steps[0].Item.Rule != nil && remove.Steps[0].Item.Rule.GoesWith != nil {
		last.Remove = nil // there is nothing here that it could go with
	}
	for _, p := range []change.Plan{add, remove} {
		for _, n := range p.Notes {
			last.Trouble = strings.TrimPrefix(last.Trouble+"; "+n, "; ")
		}
	}
	return out, nil
}

func typed(steps []change.Step) (out []string) {
	for _, s := range steps {
		for _, l := range s.Lines {
			out = append(out, strings.Repeat("  ", s.Depth)+l)
		}
	}
	return out
}

func (d *Dialect) explain(it *rules.Item) Explanation {
	e := Explanation{Line: it.Line, Identity: it.Identity(), Value: it.Value(), Denied: it.Denied()}
	if it.Rule == nil {
		e.Says = []string{"no rule speaks of it: all its words tell it from its neighbours"}
		if !d.Table.Document {
			e.Says[0] += ", and that it does what most lines do is assumed"
		}
		return e
	}
	e.Rule = it.Rule.Path
	segments := strings.Split(it.Rule.Path, " / ")
	for _, w := range strings.Fields(segments[len(segments)-1]) {
		if name := strings.TrimSuffix(strings.Trim(w, "{}<>"), "..."); name != w && it.Capture(name) != "" {
			e.Captures = append(e.Captures, [2]string{name, it.Capture(name)})
		}
	}
	r := it.Rule
	say := func(is bool, words string) {
		if is {
			e.Says = append(e.Says, words)
		}
	}
	say(r.Overwrites, "a new value takes the old one's place")
	say(!d.Table.Document && !r.Overwrites && e.Value != "" && !it.Denied(), "the old value is removed before a new one is set")
	say(r.Permanent, "it cannot be taken away")
	say(r.Default != "", "left out when it is "+r.Default)
	say(r.Ordered, "the order of what is below it matters")
	say(r.Sequence != "", "ordered among the lines of "+r.Sequence)
	say(r.Single, "there is one at a time in its block")
	say(len(r.SingleBy) > 0, "of the same "+strings.Join(r.SingleBy, " and ")+" there is one at a time")
	say(len(r.Unique) > 0, "of the same "+strings.Join(r.Unique, " and ")+" there is one anywhere")
	say(r.Empties, "it can only be emptied; an empty one is none")
	if r.GoesWith != nil {
		say(true, "it cannot go by itself; it goes with: "+r.GoesWith.Path)
	}
	for _, t := range r.Takes {
		say(true, "the device takes away with it: "+t.Path)
	}
	say(r.Defines != "", "it gives a name: "+r.Defines)
	for _, n := range it.Names() {
		say(true, "it uses "+n)
	}
	say(r.Beside != "", "in use, it is built anew beside")
	say(len(r.Secret) > 0, "secret: "+strings.Join(r.Secret, ", "))
	say(r.Volatile, "it changes by itself: never compared, never sent")
	say(r.Hardware, "it belongs to one piece of hardware")
	say(r.Reach, "it carries the management path")
	return e
}

// warn finds what is allowed in a dialect file and hardly meant.
func (l *loader) warn(d *Dialect) {
	for i, r := range d.Table.Rules {
		at := []string{"rules", fmt.Sprint(i), "path"}
		for j, before := range d.Table.Rules[:i] {
			if before.Covers(r) {
				l.doubt(at, "can never count: rules[%d], %s, stands before it and matches all that it does", j, before.Path)
				break
			}
		}
		outer := strings.Split(r.Path, " / ")
		if len(outer) > 1 && d.Grammar.Form == "flat" {
			l.doubt(at, "can never match: the grammar is flat, and has no blocks")
		}
		if m := d.Grammar.Marks; m != nil && d.patterns[m.Opens] != nil {
			for _, head := range outer[:len(outer)-1] {
				if !opens(d, head) {
					l.doubt(at, "can never match: grammar.marks.opens takes no line like %q for the head of a block", head)
					break
				}
			}
		}
		if last := strings.Fields(r.Path); len(outer) == 1 && !slices.ContainsFunc(last, func(w string) bool { return !strings.ContainsAny(w, "{<") }) {
			l.doubt(at, "names no word of its own, so it matches every line at the top that is as long")
		}
	}
	for name, at := range l.kept {
		used := strings.Contains(l.text, "{"+name+"}")
		for _, p := range d.Parts {
			used = used || p.Whole.Size == name || p.Whole.Checksum != nil && p.Whole.Checksum.Kept == name
		}
		if !used {
			l.doubt(at, "is kept, and used nowhere: neither as {%s}, nor as a size or a checksum", name)
		}
	}
	lines := d.Blocks != nil && d.Change.Remove != ""
	if lines && d.Change.Leave == "" && slices.ContainsFunc(d.Table.Rules, func(r *rules.Rule) bool { return strings.Contains(r.Path, " / ") }) {
		l.doubt([]string{"change"}, "says how lines go away, and not how a block is left (leave), although rules speak of lines in blocks")
	}
	if lines && len(d.Rules) == 0 {
		l.doubt([]string{"change", "methods"}, "lines are pushed, and no rule says what they mean: every line of a push is assumed")
	}
}

// opens tells whether a line of a segment's shape may open a block.
func opens(d *Dialect, segment string) bool {
	m := d.Grammar.Marks
	for _, word := range []string{"x", "1", "10.0.0.1", "a-1"} {
		words := strings.Fields(segment)
		for i, w := range words {
			if strings.ContainsAny(w, "{<") {
				words[i] = word
			}
		}
		head := strings.Join(words, " ")
		if re := d.patterns[m.Opens]; re.MatchString(head) || re.MatchString(strings.ReplaceAll(m.Open, "{head}", head)) {
			return true
		}
	}
	return false
}
