package learn

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Rule is a rule as it is drafted.
type Rule struct {
	Kind   *Kind
	Path   string
	Keys   []Key    // in the order in which they are written
	Unsure []string // what is not known of it, and why; none: it is sure
	Why    []string // what was seen
}

// Key is a key of a rule and its value, as YAML.
type Key struct{ Name, Value string }

// Rules drafts the rules, in the order of the configuration. How says how most lines
// are taken away.
func (d *Draft) Rules(how How) (out []Rule) {
	d.link()
	for _, k := range d.Kinds() {
		out = append(out, d.rule(k, how))
	}
	return out
}

func (d *Draft) rule(k *Kind, how How) Rule {
	r := Rule{Kind: k, Path: k.Path()}
	key := func(name, value string) { r.Keys = append(r.Keys, Key{name, value}) }
	unsure := func(format string, args ...any) { r.Unsure = append(r.Unsure, fmt.Sprintf(format, args...)) }
	fact := func(name string) (any, bool) {
		f, known := k.Facts[name]
		if !known {
			return nil, false
		}
		if f.Sure {
			r.Why = append(r.Why, f.Why)
			return f.Value, true
		}
		unsure("%s: %s", name, f.Why)
		return nil, false
	}
	if _, v := fact("volatile"); v {
		key("volatile", "true")
		return r
	}
	host := ""
	if last := k.Tokens[len(k.Tokens)-1]; d.Host != "" && !k.Many && last.Word == "" && k.values[len(k.Tokens)-1][d.Host] {
		host = last.Name
		key("hostname", host)
		if _, tried := k.Facts["form"]; !tried {
			key("overwrites", "true")
			key("permanent", "true")
			unsure("it is the name in the prompt, which is not touched: that it can only be overwritten is assumed")
			return r
		}
	}
	if name := k.secret(); name != "" {
		key("secret", "["+name+"]")
	}
	for i, t := range k.Tokens {
		if t.Word != "" {
			continue
		}
		fact("tells " + t.Name)
		if !t.Sure && !k.form(i) {
			unsure("whether %s tells entries apart was not seen", t.Name)
		}
	}
	if last := k.Tokens[len(k.Tokens)-1]; len(k.Tokens) > 1 && isWord(last.Word) && !k.Block && !slices.ContainsFunc(k.Examples, func(e Entry) bool { return d.denied(e.Line) }) {
		unsure("nothing but %q was ever seen at its end, which may be a value", last.Word)
	}
	_, kept := fact("kept")
	_, goes := k.Facts["goes_with"]
	kept = kept && !goes
	over, sure := fact("overwrites")
	values := slices.ContainsFunc(k.Tokens, func(t Token) bool { return t.Word == "" && !t.Tell })
	switch {
	case sure && over == true:
		key("overwrites", "true")
	case kept && values:
		key("overwrites", "true")
		unsure("whether a new value overwrites the old one was not seen")
	case values && !sure:
		unsure("whether a new value overwrites the old one was not seen")
	}
	if kept && !goes && !k.Block {
		key("permanent", "true")
	}
	if f, known := fact("form"); known {
		if way := k.spell(f.(form), how, d.Denial); way != "" {
			key("remove", quote(way))
		}
	} else if !known && !kept && !goes {
		unsure("how it is taken away was not seen")
	}
	if v, known := fact("goes_with"); known {
		key("goes_with", quote(v.(*Kind).Path()))
	}
	var takes []string
	for _, f := range k.Facts {
		if t, is := f.Value.(taking); is && f.Sure {
			if p := quote(d.taken(k, t)); !slices.Contains(takes, p) {
				takes, r.Why = append(takes, p), append(r.Why, f.Why)
			}
		}
	}
	if slices.Sort(takes); takes != nil {
		key("takes", "["+strings.Join(takes, ", ")+"]")
	}
	order, known := fact("order")
	switch {
	case known && order == "sequence":
		key("sequence", quote(k.Tokens[0].Word+k.Tokens[0].Name))
	case known && order == "ordered":
	case !known && k.Many:
		if _, said := k.Facts["order"]; !said {
			unsure("whether its order matters was not seen")
		}
	}
	ordered := false
	for _, c := range k.Kids { // of the block, where its lines say so
		if f := c.Facts["order"]; f.Sure && f.Value == "ordered" && !ordered {
			ordered = true
			key("ordered", "true")
			r.Why = append(r.Why, f.Why)
			if b, has := c.Facts["before"]; has {
				key("before", quote(b.Value.(string)))
			}
		}
	}
	for _, name := range []string{"single_by", "unique"} {
		if v, known := fact(name); known {
			key(name, "["+strings.Join(v.([]string), ", ")+"]")
		}
	}
	if _, known := fact("empties"); known {
		key("empties", "true")
	}
	if v, known := fact("writes"); known {
		if lines := v.([]string); len(lines) > 0 {
			var all []string
			for _, l := range lines {
				all = append(all, quote(l))
			}
			key("writes", "["+strings.Join(all, ", ")+"]")
		}
	}
	if f, known := k.Facts["defines"]; known {
		key("defines", f.Value.(string))
	}
	if f, known := k.Facts["uses"]; known {
		key("uses", f.Value.(string))
	}
	if k.secret() != "" { // what is said of it is no place for what it says
		r.Why = nil
		for i, u := range r.Unsure {
			r.Unsure[i] = quoted.ReplaceAllString(u, "‹a line›")
		}
	}
	return r
}

var quoted = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// form tells whether a word is the form in which a secret stands behind it: always the
// same, and of the secret it is known that it is a value.
func (k *Kind) form(i int) bool {
	last := k.Tokens[len(k.Tokens)-1]
	return !k.Many && k.secret() != "" && i < len(k.Tokens)-1 && len(k.values[i]) == 1 && last.Sure && !last.Tell && i > slices.IndexFunc(k.Tokens, func(t Token) bool { return secretWord(t.Word) })
}

// secretWord tells whether a secret stands behind a word.
func secretWord(word string) bool {
	return slices.ContainsFunc([]string{"word", "password", "secret", "key", "community", "passphrase"}, func(s string) bool {
		return word == s || strings.HasSuffix(word, "-"+s)
	})
}

// spell writes a way to take away as a rule does; empty where the rule need not say it.
func (k *Kind) spell(f form, how How, denial string) string {
	switch {
	case f.denial == "denied":
		return "" // the grammar says it
	case f.denial == "denies":
		return denial + " {line}"
	case strings.Contains(how.Remove, "{identity}") && slices.Equal(f.keep, k.told()) || strings.Contains(how.Remove, "{line}") && len(f.keep) == len(k.Tokens):
		return "" // as most are
	case len(f.keep) == len(k.Tokens):
		return how.removal("{line}")
	}
	var words []string
	for _, i := range f.keep {
		if t := k.Tokens[i]; t.Word != "" {
			words = append(words, t.Word)
		} else {
			words = append(words, "{"+t.Name+"}")
		}
	}
	return how.removal(strings.Join(words, " "))
}

// taken is the path of a line that goes with another: what both have is called the same
// in it, and nothing else is.
func (d *Draft) taken(k *Kind, t taking) string {
	mine := map[string]string{}
	w := d.words(t.e.Line)
	for i, tok := range k.Tokens {
		if tok.Word == "" && i < len(w) {
			mine[k.word(i, w)] = tok.Name
		}
	}
	var chain []*Kind
	for c := t.kind; c.Up != nil; c = c.Up {
		chain = append([]*Kind{c}, chain...)
	}
	var segs []string
	others := 0
	for n, c := range chain {
		line := t.took.Line
		if n < len(t.took.Path) {
			line = t.took.Path[n]
		}
		w := d.words(line)
		var words []string
		for i, tok := range c.Tokens {
			if tok.Word != "" {
				words = append(words, tok.Word)
				continue
			}
			name := mine[c.word(i, w)]
			if name == "" {
				others++
				name = fmt.Sprintf("other%d", others)
			}
			if tok.Rest {
				name += "..."
			}
			words = append(words, "{"+name+"}")
		}
		segs = append(segs, strings.Join(words, " "))
	}
	return strings.Join(segs, " / ")
}

// link finds names that some lines give and others use: every word at a place is a
// name of a block of one kind.
func (d *Draft) link() {
	for _, def := range d.Kinds() {
		if !def.Block || def.Tokens[0].Word == "" {
			continue
		}
		var names map[string]bool
		for i, t := range def.Tokens {
			if t.Word == "" {
				names = def.values[i]
			}
		}
		if len(names) == 0 {
			continue
		}
		word := def.Tokens[0].Word
		for _, use := range d.Kinds() {
			if use == def {
				continue
			}
			for i, t := range use.Tokens {
				if t.Word != "" || len(use.values[i]) == 0 || strings.HasPrefix(t.Name, "text") {
					continue
				}
				all := true
				for v := range use.values[i] {
					all = all && names[v]
				}
				said := slices.ContainsFunc(use.Tokens, func(o Token) bool { return o.Word == word })
				if !all || !said && !(len(use.values[i]) > 1 && !plain(use.values[i])) {
					continue
				}
				if _, known := use.Facts["uses"]; known {
					continue
				}
				def.set("defines", quote(word), false, "its names are used elsewhere")
				use.set("uses", fmt.Sprintf("{%s: %s}", word, quote(use.pattern(i))), false, "every word there is the name of such a block")
			}
		}
	}
}

// plain tells whether words are numbers only, which stand for much.
func plain(words map[string]bool) bool {
	for w := range words {
		if strings.Trim(w, "0123456789") != "" {
			return false
		}
	}
	return true
}

// pattern matches a line of the kind, with a group around a word.
func (k *Kind) pattern(at int) string {
	var parts []string
	for i, t := range k.Tokens {
		switch {
		case i == at:
			parts = append(parts, `(\S+)`)
		case t.Word != "":
			parts = append(parts, regexp.QuoteMeta(t.Word))
		case t.Rest:
			parts = append(parts, ".+")
		default:
			parts = append(parts, `\S+`)
		}
	}
	return "^" + strings.Join(parts, " ")
}

// secret names the variable that is a secret, going by the words before it.
func (k *Kind) secret() string {
	for i, t := range k.Tokens {
		if !secretWord(t.Word) {
			continue
		}
		for j := len(k.Tokens) - 1; j > i; j-- {
			if k.Tokens[j].Word == "" {
				return k.Tokens[j].Name
			}
		}
	}
	return ""
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// YAML writes rules as they stand in a dialect file: each with what was seen, and with
// what is not known of it.
func YAML(rules []Rule) string {
	var b strings.Builder
	b.WriteString("rules:\n")
	for _, r := range rules {
		for _, u := range r.Unsure {
			b.WriteString("  # not sure: " + u + "\n")
		}
		for _, w := range slices.Compact(slices.Clone(r.Why)) {
			if len(r.Unsure) == 0 {
				b.WriteString("  # seen: " + w + "\n")
			}
		}
		line := "  - {path: " + quote(r.Path)
		for _, k := range r.Keys {
			line += ", " + k.Name + ": " + k.Value
		}
		b.WriteString(line + "}\n")
	}
	return b.String()
}
