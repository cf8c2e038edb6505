package dialect

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"magpie/dialects"
)

// TestLetsGo: each thing that a dialect lets go is in the list while the file says so, and not afterwards; and
// texts that differ are only equivalent where the list has something.
func TestLetsGo(t *testing.T) {
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	load := func(text string) []string {
		t.Helper()
		d, err := Load("tern.yaml", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return d.LetsGo()
	}
	all := load(string(src))
	for key, said := range map[string]string{
		"  order: free # the device has an order of its own\n": "the order of lines, but where a rule says that it counts",
		", volatile: true":     "what changes by itself: clock / skew <seconds>",
		", default: UTC":       "whether clock / zone <zone> is set to its default, UTC, or not at all",
		"  comments: ['..']\n": "comments, which begin with ..",
	} {
		if !strings.Contains(string(src), key) {
			t.Fatalf("the file says no %q any more", key)
		}
		without := load(strings.Replace(string(src), key, "", 1))
		if !slices.Contains(all, said) || slices.Contains(without, said) || len(without) != len(all)-1 {
			t.Errorf("with %q it is\n%q\nand without\n%q", key, all, without)
		}
	}
	r := rand.New(rand.NewPCG(3, 9))
	strict := 0
	for _, s := range styles(t) {
		gone := s.doc.Dialect.LetsGo()
		if len(gone) == 0 {
			strict++
		}
		for _, text := range s.texts {
			lines := strings.SplitAfter(text, "\n")
			for range 40 {
				other := slices.Clone(lines)
				if i := r.IntN(len(other)); r.IntN(2) == 0 {
					other = slices.Delete(other, i, i+1)
				} else {
					j := r.IntN(len(other))
					other[i], other[j] = other[j], other[i]
				}
				if now := strings.Join(other, ""); now != text && len(gone) == 0 && s.doc.Equivalent(text, now) {
					t.Errorf("%s lets nothing go, and these mean the same:\n%s\n---\n%s", s.name, text, now)
				}
			}
		}
	}
	if strict == 0 {
		t.Error("no style lets nothing go")
	}
}
