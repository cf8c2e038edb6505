package dialect

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode"

	"golang.org/x/tools/txtar"

	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
)

// style is a manner of writing configurations, described by a dialect, with texts of it.
type style struct {
	name  string
	doc   *Doc
	texts []string
}

// styles are those of testdata/styles, and the families that ship, with what is under their name in
// testdata/families.
func styles(t testing.TB) (out []style) {
	t.Helper()
	files, _ := filepath.Glob("testdata/styles/*.txt")
	if len(files) < 10 {
		t.Fatalf("%d styles", len(files))
	}
	for _, file := range files {
		ar, err := txtar.ParseFile(file)
		if err != nil {
			t.Fatal(err)
		}
		s := style{name: strings.TrimSuffix(filepath.Base(file), ".txt")}
		for _, f := range ar.Files {
			if f.Name == "dialect.yaml" {
				d, err := Load(file, f.Data)
				if err != nil {
					t.Fatal(err)
				}
				s.doc = d.Doc("running")
				continue
			}
			s.texts = append(s.texts, string(f.Data))
		}
		out = append(out, s)
	}
	pairs, _ := filepath.Glob("../../e2e/testdata/pairs/*.txt")
	shipped := map[string]*style{}
	for _, file := range pairs {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		head, rest, _ := bytes.Cut(raw, []byte("=== "))
		_, name, _ := bytes.Cut(bytes.TrimSpace(head), []byte("dialect: "))
		family := string(name)
		if shipped[family] == nil {
			src, err := os.ReadFile("../../dialects/" + family + ".yaml")
			if err != nil {
				continue // of no family
			}
			d, err := Load(family, src)
			if err != nil {
				t.Fatal(err)
			}
			shipped[family] = &style{name: family, doc: d.Doc(d.Main())}
		}
		for _, section := range strings.Split(string(rest), "\n=== ") {
			title, text, _ := strings.Cut(section, "\n")
			if title == "from" || title == "to" {
				shipped[family].texts = append(shipped[family].texts, strings.TrimSuffix(text, "\n")+"\n")
			}
		}
	}
	for _, s := range shipped {
		slices.Sort(s.texts)
		s.texts = slices.Compact(s.texts)
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b style) int { return strings.Compare(a.name, b.name) })
	return out
}

// shown is a text as it is kept: documents with one element or member a line. It is no text of
// the style if ok is false.
func (s style) shown(src string) (out string, ok bool) {
	out, err := kept(s.doc, src)
	return out, err == nil
}

// mutation is what is done to a text.
type mutation struct {
	name string
	text string
}

// mutate lists everything that can be done to a text in one place: nothing of it knows the style.
func mutate(src string) (out []mutation) {
	lines := strings.SplitAfter(src, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	with := func(name string, i, j int, put ...string) {
		all := slices.Concat(lines[:i], put, lines[j:])
		out = append(out, mutation{fmt.Sprintf("%s, line %d", name, i+1), strings.Join(all, "")})
	}
	depth := func(l string) int { return len(l) - len(strings.TrimLeft(l, " \t")) }
	for i, l := range lines {
		with("deleted", i, i+1)
		with("doubled", i, i+1, l, l)
		if i+1 < len(lines) {
			with("swapped", i, i+2, lines[i+1], l)
		}
		end := i + 1
		for end < len(lines) && depth(lines[end]) > depth(l) {
			end++
		}
		if end < len(lines) {
			with("block moved to the end", i, len(lines), append(slices.Clone(lines[end:]), lines[i:end]...)...)
		}
		if end > i+1 {
			with("block doubled", i, i, lines[i:end]...)
			with("block deleted", i, end)
		}
		for at, r := range l {
			switch {
			case r == ' ' && at > depth(l) && at < len(l)-1:
				with(fmt.Sprintf("a blank added at %d", at), i, i+1, l[:at]+" "+l[at:])
				with(fmt.Sprintf("a blank taken away at %d", at), i, i+1, l[:at]+l[at+1:])
			case unicode.IsLetter(r):
				other := unicode.ToUpper(r)
				if other == r {
					other = unicode.ToLower(r)
				}
				if other != r {
					with(fmt.Sprintf("the case changed at %d", at), i, i+1, l[:at]+string(other)+l[at+len(string(r)):])
				}
			case unicode.IsDigit(r):
				with(fmt.Sprintf("a digit changed at %d", at), i, i+1, l[:at]+string('0'+(r-'0'+1)%10)+l[at+1:])
			}
		}
		words := strings.Fields(l)
		for _, w := range words {
			with("a word changed", i, i+1, strings.Replace(l, w, w+"x", 1))
			with("a word lost", i, i+1, strings.Replace(l, w, "", 1))
		}
		for n := range len(words) - 1 {
			other := slices.Clone(words)
			other[n], other[n+1] = other[n+1], other[n]
			with("words swapped", i, i+1, strings.Repeat(" ", depth(l))+strings.Join(other, " ")+"\n")
		}
	}
	if src != "" {
		out = append(out, mutation{"the end of the last line", strings.TrimSuffix(src, "\n")})
	}
	return out
}

// TestMutations: whatever is changed in a text in one place is seen by the fingerprint, by drift and by
// proof, unless a rule lets it go; then the verdict counts it.
func TestMutations(t *testing.T) {
	most := 120 // of a text; MAGPIE_MATRIX=all tries them all
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		most = 1 << 30
	}
	r := rand.New(rand.NewPCG(29, 1))
	tried, silent := 0, 0
	for _, s := range styles(t) {
		n := 0
		for _, src := range s.texts {
			base, ok := s.shown(src)
			if !ok {
				if s.doc.Blocks != nil {
					t.Errorf("%s: a text is not read", s.name)
				}
				continue
			}
			all := mutate(src)
			r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			for _, m := range all[:min(most, len(all))] {
				text, ok := s.shown(m.text)
				if !ok || text == base {
					continue // refused, or it is layout that is not kept
				}
				n++
				if why := unseen(s.doc, base, text); why != "" {
					if silent++; silent < 12 {
						t.Errorf("%s: %s: %s\n%s\nbecame\n%s", s.name, m.name, why, base, text)
					}
				}
			}
		}
		t.Logf("%-12s %6d mutations of %d texts", s.name, n, len(s.texts))
		tried += n
	}
	t.Logf("%d mutations, %d silent", tried, silent)
	if tried < 8000 {
		t.Errorf("%d mutations only", tried)
	}
}

// unseen tells why a change of a text is not seen; empty: it is.
func unseen(d *Doc, a, b string) string {
	x := Lay(d, d, a, b, false)
	counted := x.SetAside + x.LetGo.Sum()
	if counted == 0 && slices.Equal(d.Resalted(text.Lines(a), a), d.Resalted(text.Lines(b), b)) {
		counted = x.Unsure // only a secret that the device salts anew
	}
	same := d.Equivalent(a, b)
	if d.Settled(a) == d.Settled(b) && counted == 0 {
		return "the fingerprint is the same, and nothing is counted"
	}
	switch {
	case same != (x.Relation != Different):
		return fmt.Sprintf("equivalent is %v, and the relation %s", same, x.Relation)
	case same && counted == 0:
		return "it is taken for the same, and nothing is counted"
	case same && d.LetGo(a, b).Sum() == 0 && counted != x.Unsure:
		return "drift and proof take it for the same, and count nothing"
	}
	_, from, errA := d.Parse(a)
	_, to, errB := d.Parse(b)
	if errA != nil || errB != nil {
		return ""
	}
	if n := len(rules.Differences(from, to)); (n == 0) != rules.Equivalent(from, to) {
		return fmt.Sprintf("%d differences are listed, and equivalent is %v", n, rules.Equivalent(from, to))
	}
	return ""
}

// TestBytes: of an opaque file every byte counts that is not set aside.
func TestBytes(t *testing.T) {
	src, err := os.ReadFile("../../dialects/dunlin.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := Load("dunlin", src)
	if err != nil {
		t.Fatal(err)
	}
	doc := d.Doc("archive")
	file := make([]byte, 200)
	for i := range file {
		file[i] = byte(i * 7)
	}
	binary.BigEndian.PutUint32(file, 0x444e4c31)
	aside := 0
	for i := range file {
		other := slices.Clone(file)
		other[i]++
		if doc.Equivalent(string(file), string(other)) {
			aside++
		}
	}
	if aside != 12 { // the time that it was made, and a salt
		t.Errorf("%d bytes count for nothing", aside)
	}
}

// kept is a text as a visit keeps it.
func kept(d *Doc, src string) (string, error) {
	switch d.Dialect.Grammar.Form {
	case "xml":
		return grammar.FormatXML([]byte(src), "")
	case "json":
		return grammar.FormatJSON([]byte(src), "")
	}
	_, err := d.Tree(src)
	return src, err
}
