package dialect

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"magpie/dialects"
)

// TestGuide: the pieces that the guide shows, put together, are a sound dialect
// and say what the file that ships says.
func TestGuide(t *testing.T) {
	raw, err := os.ReadFile("../../docs/dialects.md")
	if err != nil {
		t.Fatal(err)
	}
	guide, _, _ := strings.Cut(string(raw), "## When a line is not like the others")
	var src strings.Builder
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(guide, -1) {
		src.WriteString(m[1])
	}
	d, err := Load("guide.yaml", []byte(src.String()))
	if err != nil {
		t.Fatal(err)
	}
	shippedSrc, err := dialects.Files.ReadFile("fulmar.yaml")
	if err != nil {
		t.Fatal(err)
	}
	full, err := Load("fulmar.yaml", shippedSrc)
	if err != nil {
		t.Fatal(err)
	}
	if d.Dialect != full.Dialect || d.Identity.Serial != full.Identity.Serial || d.Converse.Modes["amend"] != full.Converse.Modes["amend"] || d.Parts["running"].Whole.Last != full.Parts["running"].Whole.Last {
		t.Error("the guide and the file that ships have come apart")
	}
	for _, r := range d.Rules {
		if !slices.ContainsFunc(full.Rules, func(f Rule) bool {
			a, _ := yaml.Marshal(f)
			b, _ := yaml.Marshal(r)
			return string(a) == string(b)
		}) {
			t.Errorf("the guide's rule %s is not in the file", r.Path)
		}
	}
}
