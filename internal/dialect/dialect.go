// Package dialect reads dialect files: data that says how one family of
// devices is spoken to. A dialect holds no code; its patterns are RE2, so none
// can hang the service.
package dialect

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"magpie/internal/core/change"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
)

// Dialect is a checked dialect, compiled to what core and link work with.
type Dialect struct {
	File
	Source   string // the file's text
	Revision int    // given by the store; 0 before that
	Scope    string // whose texts are read: marks of hidden secrets tell nothing from one to another

	Blocks   *grammar.Blocks // nil where the form is another
	Table    *rules.Table
	Language *change.Language
	Doubts   Problems // what is allowed in the file, and hardly meant
	Connect  time.Duration
	Answer   time.Duration
	Idle     time.Duration
	Whole    time.Duration
	Restarts time.Duration // how long a restart after a load may take; 0: there is none

	grammar  grammar.Grammar // nil: opaque
	patterns map[string]*regexp.Regexp
	spans    map[string]time.Duration
	variants []*variant
}

// variant is the whole dialect as it is for some models and releases.
type variant struct {
	model, release *regexp.Regexp
	from, below    string
	transport      string
	is             *Dialect
}

// Pattern returns a pattern of the file compiled. It panics on one that was
// never in the file.
func (d *Dialect) Pattern(source string) *regexp.Regexp {
	re := d.patterns[source]
	if re == nil {
		panic("dialect " + d.Dialect + " has no pattern " + source)
	}
	return re
}

// Span returns a span of time of the file; otherwise stands for one not
// written.
func (d *Dialect) Span(source string, otherwise time.Duration) time.Duration {
	if source == "" {
		return otherwise
	}
	return d.spans[source]
}

// For returns the dialect as it is over a transport (empty: the usual one), for
// a model and software release: the first variant that matches, or the dialect
// itself.
func (d *Dialect) For(transport, model, release string) *Dialect {
	if transport == "" {
		transport = d.Reach.Transport
	}
	for _, v := range d.variants {
		if v.transport != "" && v.transport != transport {
			continue
		}
		if v.model != nil && !v.model.MatchString(model) || v.release != nil && !v.release.MatchString(release) {
			continue
		}
		if v.from != "" && compareReleases(release, v.from) < 0 || v.below != "" && compareReleases(release, v.below) >= 0 {
			continue
		}
		// Time-outs and revision may have been set since it was loaded.
		is := *v.is
		is.Scope, is.Revision, is.Connect, is.Answer, is.Idle, is.Whole = d.Scope, d.Revision, d.Connect, d.Answer, d.Idle, d.Whole
		return &is
	}
	return d
}

var digits = regexp.MustCompile(`\d+|[A-Za-z]+`)

// compareReleases orders release names by their numbers and words from left to
// right.
func compareReleases(a, b string) int {
	as, bs := digits.FindAllString(a, -1), digits.FindAllString(b, -1)
	for i := 0; i < len(as) && i < len(bs); i++ {
		x, errX := strconv.Atoi(as[i])
		y, errY := strconv.Atoi(bs[i])
		c := strings.Compare(as[i], bs[i])
		if errX == nil && errY == nil {
			c = cmp.Compare(x, y)
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(as), len(bs))
}

// Prompt compiles a mode's prompt for the host names that may stand in it. No
// names means any. In other modes than the initial one, where prompts are longer, a device may
// cut its name short.
func (d *Dialect) Prompt(mode string, hosts ...string) *regexp.Regexp {
	host := "(?P<host>" + d.Converse.Host + ")"
	if len(hosts) > 0 {
		quoted := make([]string, len(hosts))
		for i, h := range hosts {
			quoted[i] = regexp.QuoteMeta(h)
			for n := len(h) - 1; n >= 6 && mode != d.Converse.Starts; n-- {
				quoted = append(quoted, regexp.QuoteMeta(h[:n]))
			}
		}
		host = "(?P<host>" + strings.Join(quoted, "|") + ")"
	}
	return regexp.MustCompile("^(?:" + strings.ReplaceAll(d.Converse.Modes[mode].Prompt, "{host}", host) + ")$")
}

// Refusing is what a line by which a device refuses something says.
type Refusing struct {
	Means   string // refused, held, busy or login
	Words   string // the device's own
	User    string // who holds the device, and the device's name for that session, where it says so
	Session string
}

// Refused tells what an answer's line refuses; ok is false when nothing.
func (d *Dialect) Refused(answer string) (a Refusing, ok bool) {
	for _, r := range d.Refusals {
		re := d.Pattern(r.Pattern)
		m := re.FindStringSubmatch(answer)
		if m == nil {
			continue
		}
		a = Refusing{Means: r.Means, Words: m[0]}
		if len(m) > 1 {
			a.Words = m[1]
		}
		a.Words = strings.Join(strings.FieldsFunc(a.Words, func(r rune) bool { return r == '\n' || r == '\r' }), " / ")
		for i, name := range re.SubexpNames() {
			switch name {
			case "user":
				a.User = m[i]
			case "session":
				a.Session = m[i]
			}
		}
		return a, true
	}
	return a, false
}

// Way returns the way of that transport, or the first for "".
func (d *Dialect) Way(transport string) (Way, bool) {
	if transport == "" || transport == d.Reach.Transport {
		return d.Reach.Way, true
	}
	for _, w := range d.Reach.Also {
		if w.Transport == transport {
			return w, true
		}
	}
	return Way{}, false
}

// Raised tells whether a mode asks for a secret of its own.
func (d *Dialect) Raised() bool {
	for _, m := range d.Converse.Modes {
		if m.Asks != "" {
			return true
		}
	}
	return false
}

// Ways lists the transports, the usual one first.
func (d *Dialect) Ways() []Way { return append([]Way{d.Reach.Way}, d.Reach.Also...) }

// PartOf returns what the dialect says of a part: "running+guest" is the
// logical element guest's "running".
func (d *Dialect) PartOf(name string) (*Part, bool) {
	base, element, _ := strings.Cut(name, "+")
	p, ok := d.Parts[base]
	if element != "" && ok {
		p, ok = d.Parts[base+"+"]
	}
	return p, ok
}

// Member returns the dialect as it is for a device that another speaks for.
func (d *Dialect) Member() *Dialect {
	m := *d
	m.Parts, m.Elements, m.Members = d.Members.Parts, nil, nil
	m.Kind = d.Members.Kind
	m.Change, m.Restarts = Change{Methods: d.Members.Methods, Load: d.Members.Load}, 0
	return &m
}

// MakesFiles tells whether the device makes files for us that have to be
// removed again, in any variant.
func (d *Dialect) MakesFiles() bool {
	for _, p := range d.Parts {
		if len(p.Source.Make) > 0 {
			return true
		}
	}
	for _, v := range d.variants {
		if v.is != d && v.is.MakesFiles() {
			return true
		}
	}
	return false
}

// PartNames lists the parts that every device has, the main one first, then
// running before startup before others.
func (d *Dialect) PartNames() []string { return sortedParts(d.Parts) }

func sortedParts(parts map[string]*Part) []string {
	var names []string
	for n := range parts {
		if !strings.HasSuffix(n, "+") {
			names = append(names, n)
		}
	}
	rank := func(n string) int {
		if parts[n].Follows != "" {
			return -2
		}
		return slices.Index([]string{"startup", "running"}, n)
	}
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(rank(b)-rank(a), strings.Compare(a, b))
	})
	return names
}

// Main is the part by which a device is judged: running where there is one.
func (d *Dialect) Main() string { return d.PartNames()[0] }

// followers lists the parts of which it is said what they follow.
func (d *Dialect) followers() (names []string) {
	for n, p := range d.Parts {
		if p.Follows != "" {
			names = append(names, n)
		}
	}
	return names
}

// Follower is the part that should be equivalent to another, and that other: startup
// and running, if nothing else is said. ok is false where there are no two such parts.
func (d *Dialect) Follower() (name, of string, ok bool) {
	if names := d.followers(); len(names) > 0 {
		return names[0], d.Parts[names[0]].Follows, true
	}
	return "startup", "running", d.Parts["startup"] != nil && d.Parts["running"] != nil
}

// UnsavedWord is the state of a device whose parts do not follow each other.
func (d *Dialect) UnsavedWord() string {
	if name, _, ok := d.Follower(); ok && d.Parts[name].Otherwise != "" {
		return d.Parts[name].Otherwise
	}
	return "unsaved"
}

// Doc reads one part's contents as the dialect says.
type Doc struct {
	*Dialect
	Part    *Part
	grammar grammar.Grammar // nil: opaque
}

// Doc returns how a part's contents are read. A part that the dialect no longer
// knows is read by its grammar.
func (d *Dialect) Doc(part string) *Doc {
	if p, ok := d.PartOf(part); ok && p.Form == "opaque" {
		return &Doc{d, p, nil}
	} else if ok {
		return &Doc{d, p, d.grammar}
	}
	return &Doc{d, &Part{}, d.grammar}
}

// With is how the part is read where people have rules of their own: what they ignore does not count.
// It is for comparing: what becomes a version, and what is proved, goes by the dialect alone.
func (d *Doc) With(own []rules.Own) *Doc {
	if d.Opaque() || d.Part.Exact || !slices.ContainsFunc(own, func(o rules.Own) bool { return o.Kind == rules.Ignored }) {
		return d
	}
	out, dia := *d, *d.Dialect
	dia.Table = dia.Table.With(own)
	out.Dialect = &dia
	return &out
}

// Media is the media type of the part's contents, and the ending of their files.
func (d *Doc) Media() (media, ending string) {
	switch {
	case d.grammar == nil:
		return "application/octet-stream", "bin"
	case d.Dialect.Grammar.Form == "xml":
		return "application/xml", "xml"
	case d.Dialect.Grammar.Form == "json":
		return "application/json", "json"
	}
	return "text/plain; charset=utf-8", "cfg"
}

// KeyFacts are what a person looks for in the part.
func (d *Doc) KeyFacts() []*rules.Rule {
	var out []*rules.Rule
	for _, m := range d.Part.KeyFacts {
		r := &rules.Rule{Path: m.Path, KeyFact: m.Name}
		if r.Compile() == nil { // checked when the dialect was loaded
			out = append(out, r)
		}
	}
	return out
}

// Opaque tells whether the part is no text that can be read.
func (d *Doc) Opaque() bool { return d.grammar == nil }

// XML is the part's grammar, where it is an XML document.
func (d *Doc) XML() (grammar.XML, bool) {
	g, ok := d.grammar.(grammar.XML)
	return g, ok
}

// ErrOpaque is returned on reading an opaque file as if it were text.
var ErrOpaque = &grammar.Error{Msg: "it is an opaque file; nothing in it can be read"}

// Tree reads configuration text as the part's grammar says.
func (d *Doc) Tree(src string) (*grammar.Node, error) {
	if d.grammar == nil {
		return nil, ErrOpaque
	}
	return d.grammar.Parse(src)
}

// Unread lists the lines of a text that the grammar cannot read, in their order.
func (d *Doc) Unread(src string) []*grammar.Node {
	root, err := d.Tree(src)
	if err != nil {
		return nil
	}
	return grammar.Unread(root)
}

// Flaws lists the lines of a text that the grammar cannot read, and those that a rule takes for entries that
// stand there already.
func (d *Doc) Flaws(src string) (unread []*grammar.Node, clashes []*rules.Item) {
	root, top, err := d.Parse(src)
	if err != nil {
		return nil, nil
	}
	return grammar.Unread(root), top.Clashes()
}

// Outline tells the shape of a text, of which root is the tree: its blocks, as first and last
// lines from 1, outer ones first, and the lines that are comments.
func (d *Doc) Outline(src string, root *grammar.Node) (blocks [][2]int, comments []int) {
	if g, ok := d.grammar.(*grammar.Blocks); ok {
		comments = g.CommentLines(src, root)
	}
	return grammar.Folds(root), comments
}

// Parse reads configuration text as the dialect's grammar says and returns
// both the tree and what it means.
func (d *Doc) Parse(src string) (*grammar.Node, *rules.Item, error) {
	root, err := d.Tree(src)
	if err != nil {
		return nil, nil, err
	}
	return root, d.Table.Resolve(root), nil
}

// SettledBytes makes those bytes of an opaque file zero, in place, that change by themselves. raw
// begins at an offset of the file.
func (d *Doc) SettledBytes(raw []byte, at int64) []byte {
	for _, r := range d.Part.Ignore {
		from, to := int64(r.At)-at, int64(r.At+r.Length)-at
		for i := max(from, 0); i < min(to, int64(len(raw))); i++ {
			raw[i] = 0
		}
	}
	return raw
}

// Settled returns content without what changes by itself: comments, volatile
// lines, secrets salted anew; bytes of an opaque file that say nothing.
// Contents that agree in it are unchanged. Text the grammar cannot read is
// returned as it is.
func (d *Doc) Settled(src string) string { return read(d, src).settled() }

// Resalted returns a text's lines without the words that the device salts anew
// each time.
func (d *Doc) Resalted(lines []string, src string) []string { return read(d, src).resalted(lines) }

// Salted returns the lines of a text that hold words which the device salts anew
// each time, as they stand.
func (d *Doc) Salted(src string) (out []string) {
	lines := text.Lines(src)
	for i, l := range d.Resalted(lines, src) {
		if l != lines[i] {
			out = append(out, lines[i])
		}
	}
	return out
}

// SettledLines tells of each line whether Settled keeps it.
func (d *Doc) SettledLines(src string) []bool { return read(d, src).settledLines() }

// Counts tells how many lines came and went from one content to another, both settled.
func (d *Doc) Counts(from, to string) (came, went int) {
	for _, e := range diff.Texts(d.Split(from), d.Split(to)) {
		came += e.To - e.From
		went += e.End - e.Start
	}
	return came, went
}

// Equivalent compares two contents under the dialect's rules, and as they are
// once settled where the grammar cannot read a side.
func (d *Doc) Equivalent(a, b string) bool { return read(d, a).equivalent(read(d, b)) }

// Split makes a text ready to be compared: lines of different blocks are kept
// apart.
func (d *Doc) Split(src string) diff.Text { return read(d, src).split() }
