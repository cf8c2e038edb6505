package dialect

import (
	"maps"
	"regexp"
	"slices"
	"strings"
)

// LetsGo lists what a dialect lets go: how two texts of it may differ and count as equal all the same. What
// is not in the list counts. What some models or releases let go besides is in it, too. Of an exact part
// every byte counts, whatever the list says.
func (d *Dialect) LetsGo() (out []string) {
	add := func(is bool, said string) {
		if is {
			out = append(out, said)
		}
	}
	f := d.File
	add(f.Grammar.Order == "free", "the order of lines, but where a rule says that it counts")
	add(f.Grammar.Blanks == "free", "how many blanks stand between words that a rule names")
	add(len(f.Grammar.Comments) > 0, "comments, which begin with "+strings.Join(f.Grammar.Comments, " or "))
	add(f.Grammar.Withheld != "", "values that the device does not tell: "+f.Grammar.Withheld)
	add(f.Grammar.Closer != "", "lines by which the device closes a block: "+f.Grammar.Closer)
	reports := f.Grammar.Defaults == "trim" || f.Grammar.Defaults == "report-all" || f.Grammar.Form != "xml" && f.Grammar.Form != "json"
	for _, r := range f.Rules {
		add(r.Volatile, "what changes by itself: "+r.Path)
		add(r.Order == "free", "the order of lines below "+r.Path)
		add(r.Default != "" && reports, "whether "+r.Path+" is set to its default, "+r.Default+", or not at all")
		add(len(r.Salted) > 0, "values that are shown otherwise each time: "+strings.Join(r.Salted, ", ")+" of "+r.Path)
		add(r.Empties, "whether there is an empty "+r.Path+", or none")
	}
	for _, name := range slices.Sorted(maps.Keys(f.Parts)) {
		p := f.Parts[name]
		of := "of part " + name + ": "
		add(p.Cut != (Cut{}), of+"what does not belong to it (cut)")
		add(len(p.Ignore) > 0, of+"bytes that change by themselves")
		add(p.Secrets == "salted" || p.Secrets == "withheld", of+"secrets, which are "+p.Secrets)
		add(p.Sign != nil, of+"whatever changes while the device's own sign of change stays")
	}
	for _, v := range d.variants {
		for _, said := range v.is.LetsGo() {
			if !slices.Contains(out, said) {
				out = append(out, said+" ("+v.said()+")")
			}
		}
	}
	return out
}

// said is for whom a variant is.
func (v *variant) said() string {
	var of []string
	for word, is := range map[string]string{"from release": v.from, "below release": v.below, "by": v.transport} {
		if is != "" {
			of = append(of, word+" "+is)
		}
	}
	for word, re := range map[string]*regexp.Regexp{"model": v.model, "release": v.release} {
		if re != nil {
			of = append(of, word+" "+re.String())
		}
	}
	slices.Sort(of)
	return strings.Join(of, ", ")
}
