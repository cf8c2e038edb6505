package dialect

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"magpie/dialects"
)

// published is the schema as a reader of JSON Schema takes it.
func published(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.RegisterFormat(&jsonschema.Format{Name: "re2", Validate: func(v any) error {
		s, ok := v.(string)
		if !ok {
			return nil
		}
		_, err := regexp.Compile(strings.ReplaceAll(s, "{host}", "x"))
		return err
	}})
	c.AssertFormat()
	if err := c.AddResource("dialect.json", doc); err != nil {
		t.Fatal(err)
	}
	return c.MustCompile("dialect.json")
}

// TestSchemaIsMeant: what the program takes, and what it refuses, is what any reader of JSON
// Schema makes of the published one: shipped files with a few random slips in each.
func TestSchemaIsMeant(t *testing.T) {
	schema := published(t)
	files, err := dialects.Files.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(17, 2))
	var whole []string
	for _, f := range files {
		source, err := dialects.Files.ReadFile(f.Name())
		if err != nil {
			t.Fatal(err)
		}
		var file any
		if err := yaml.Unmarshal(source, &file); err != nil {
			t.Fatal(err)
		}
		raw, _ := json.Marshal(file)
		whole = append(whole, string(raw))
	}
	refused, taken := 0, 0
	for range 6000 {
		var value any
		if err := json.Unmarshal([]byte(whole[r.IntN(len(whole))]), &value); err != nil {
			t.Fatal(err)
		}
		did := ""
		for range r.IntN(3) {
			value = slip(r, value, &did)
		}
		var says []string
		language().check(language(), nil, value, func(path []string, format string, args ...any) {
			says = append(says, dotted(path)+": "+fmt.Sprintf(format, args...))
		})
		if theirs := schema.Validate(value); (theirs == nil) != (len(says) == 0) {
			t.Fatalf("after %s\nwe say %q\nthe schema: %v", did, says, theirs)
		}
		if len(says) > 0 {
			refused++
		} else {
			taken++
		}
	}
	if refused < 1000 || taken < 1000 {
		t.Errorf("%d refused and %d taken say little", refused, taken)
	}
}

// slip changes something at a random place of a value.
func slip(r *rand.Rand, value any, did *string) any {
	switch v := value.(type) {
	case map[string]any:
		keys := slices.Sorted(maps.Keys(v))
		if len(keys) > 0 && r.IntN(6) > 0 {
			k := keys[r.IntN(len(keys))]
			*did += "/" + k
			switch r.IntN(8) {
			case 0:
				delete(v, k)
				*did += " gone, "
			case 1:
				v[k+"x"] = v[k]
				*did += " twice, "
			default:
				v[k] = slip(r, v[k], did)
			}
			return v
		}
	case []any:
		if len(v) > 0 && r.IntN(6) > 0 {
			i := r.IntN(len(v))
			*did += fmt.Sprintf("/%d", i)
			if r.IntN(8) == 0 {
				return append(v, v[i])
			}
			v[i] = slip(r, v[i], did)
			return v
		}
	case string:
		if r.IntN(3) > 0 {
			other := []string{v + " ", "", "(", v + "é", "ssh", "10s", "replace"}[r.IntN(7)]
			*did += fmt.Sprintf(" is %q, ", other)
			return other
		}
	case float64:
		if r.IntN(3) > 0 {
			other := []float64{v + 1, v + 0.5, -v, 0, 1e6}[r.IntN(5)]
			*did += fmt.Sprintf(" is %v, ", other)
			return other
		}
	}
	other := []any{nil, true, "word", 3.0, []any{}, map[string]any{}, []any{"replace"}}[r.IntN(7)]
	*did += fmt.Sprintf(" is %v, ", other)
	return other
}
