package dialect

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"magpie/dialects"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
)

// pairs are the texts of the corpus of comparisons, with how they are read.
func pairs(t *testing.T) (all []struct {
	doc   *Doc
	texts [2]string
}) {
	t.Helper()
	files, _ := filepath.Glob("../../e2e/testdata/pairs/*.txt")
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		head, rest, _ := strings.Cut(string(raw), "=== from\n")
		from, rest, _ := strings.Cut(rest, "=== to\n")
		to, _, _ := strings.Cut(rest, "=== ")
		_, name, is := strings.Cut(head, "dialect: ")
		name, _, _ = strings.Cut(name, "\n")
		if !is || strings.Contains(head, "part: ") {
			continue
		}
		src, err := dialects.Files.ReadFile(name + ".yaml")
		if err != nil {
			continue // read by none that ships
		}
		d, err := Load(name+".yaml", src)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, struct {
			doc   *Doc
			texts [2]string
		}{d.Doc(d.Main()), [2]string{from, to}})
	}
	if len(all) < 30 {
		t.Fatalf("%d pairs that a dialect reads", len(all))
	}
	return all
}

// TestAtOnce: working out at once what a text means and which lines say something comes to what each
// comes to alone, whatever the text; and a comparison is the same from either side.
func TestAtOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 4))
	for _, p := range pairs(t) {
		texts := slices.Clone(p.texts[:])
		for range 6 { // lines lost, doubled and moved
			lines := text.Lines(p.texts[r.IntN(2)])
			for range 1 + r.IntN(4) {
				if at := r.IntN(len(lines) + 1); at < len(lines) {
					switch to := r.IntN(len(lines)); r.IntN(3) {
					case 0:
						lines = slices.Delete(slices.Clone(lines), at, at+1)
					case 1:
						lines = slices.Insert(slices.Clone(lines), to, lines[at])
					default:
						lines = slices.Clone(lines)
						lines[at], lines[to] = lines[to], lines[at]
					}
				}
				if len(lines) == 0 {
					break
				}
			}
			texts = append(texts, text.Join(lines))
		}
		for i, src := range texts {
			root, err := p.doc.Tree(src)
			if err != nil {
				continue
			}
			n := len(text.Lines(src))
			top, says := p.doc.Table.ResolveSettled(n, root)
			if alone := p.doc.Table.Settled(n, root); !slices.Equal(says, alone) {
				t.Errorf("%s: lines that say something: %v, alone %v\n%s", p.doc.Dialect.Dialect, says, alone, src)
			}
			if !rules.Equivalent(top, p.doc.Table.Resolve(root)) || len(rules.Changes(top, p.doc.Table.Resolve(root))) > 0 {
				t.Errorf("%s: it means something else at once\n%s", p.doc.Dialect.Dialect, src)
			}
			other := texts[(i+1)%len(texts)]
			there, back := Lay(p.doc, p.doc, src, other, false), Lay(p.doc, p.doc, other, src, false)
			added, removed := there.Lines()
			if a, b := back.Lines(); there.Relation != back.Relation || (a == 0) != (removed == 0) && there.Relation != Equivalent || b+a == 0 != (added+removed == 0) {
				t.Errorf("%s: %s (+%d -%d) there, %s (+%d -%d) back\n%s\nand\n%s", p.doc.Dialect.Dialect, there.Relation, added, removed, back.Relation, a, b, src, other)
			}
			if same := Lay(p.doc, p.doc, src, src, false); same.Relation != Identical || len(same.Edits)+len(same.Changes) > 0 {
				t.Errorf("%s: a text is %s itself", p.doc.Dialect.Dialect, same.Relation)
			}
		}
	}
}
