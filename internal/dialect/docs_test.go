package dialect

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"magpie/dialects"
)

// TestReference: every key of the schema stands in the reference, and what the
// reference shows as a key is one.
func TestReference(t *testing.T) {
	raw, err := os.ReadFile("../../docs/dialects.md")
	if err != nil {
		t.Fatal(err)
	}
	_, reference, ok := strings.Cut(string(raw), "## The reference")
	if !ok {
		t.Fatal("the guide has no reference")
	}
	var schema any
	if err := json.Unmarshal(Schema, &schema); err != nil {
		t.Fatal(err)
	}
	var missing []string
	var walk func(v any)
	walk = func(v any) {
		switch x := v.(type) {
		case map[string]any:
			if props, ok := x["properties"].(map[string]any); ok {
				for key := range props {
					if !regexp.MustCompile("(?m)`"+key+"`|^### .*\\b"+key+"\\b|`"+key+": |`[^`]*\\b"+key+"\\b[^`]*`").MatchString(reference) && !slices.Contains(missing, key) {
						missing = append(missing, key)
					}
				}
			}
			for _, k := range x {
				walk(k)
			}
		case []any:
			for _, k := range x {
				walk(k)
			}
		}
	}
	walk(schema)
	if len(missing) > 0 {
		slices.Sort(missing)
		t.Errorf("the reference does not speak of %v", missing)
	}
}

// TestGuide: the pieces that the guide shows, put together, are a sound dialect
// and say what the file that ships says.
func TestGuide(t *testing.T) {
	raw, err := os.ReadFile("../../docs/dialects.md")
	if err != nil {
		t.Fatal(err)
	}
	guide, _, _ := strings.Cut(string(raw), "## The reference")
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
