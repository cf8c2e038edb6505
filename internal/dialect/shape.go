package dialect

import (
	"cmp"
	_ "embed" // the schema
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"magpie/internal/core/ref"
)

// Schema is the published JSON Schema (draft 2020-12) of dialect files.
//
//go:embed schema.json
var Schema []byte

// shape is a schema as far as the published one goes: the words of JSON Schema that the
// generator writes, and none besides. That it finds what any reader of JSON Schema would find
// is held by a test against one.
type shape struct {
	Schema      string            `json:"$schema"`
	ID          string            `json:"$id"`
	Title       string            `json:"title"`
	Description string            `json:"description"`
	Defs        map[string]*shape `json:"$defs"`
	Ref         string            `json:"$ref"`

	Type       string                        `json:"type"`
	Enum       []any                         `json:"enum"`
	OneOf      []struct{ Required []string } `json:"oneOf"`
	Properties map[string]*shape             `json:"properties"`
	Required   []string                      `json:"required"`
	More       *others                       `json:"additionalProperties"`
	Names      *shape                        `json:"propertyNames"`
	MinKeys    int                           `json:"minProperties"`
	Items      *shape                        `json:"items"`
	MinItems   int                           `json:"minItems"`
	Unique     bool                          `json:"uniqueItems"`
	MinLength  int                           `json:"minLength"`
	Pattern    *regexp.Regexp                `json:"pattern"`
	Format     string                        `json:"format"`
	Minimum    *float64                      `json:"minimum"`
	Maximum    *float64                      `json:"maximum"`
}

// others is what a mapping may hold besides its named keys: nothing, or what is of a shape.
type others struct{ is *shape }

func (o *others) UnmarshalJSON(raw []byte) error {
	if string(raw) == "false" {
		return nil
	}
	return json.Unmarshal(raw, &o.is)
}

// language is read when the first dialect is: most commands read none.
var language = sync.OnceValue(func() *shape {
	top := &shape{}
	r := json.NewDecoder(strings.NewReader(string(Schema)))
	r.DisallowUnknownFields()
	if err := r.Decode(top); err != nil {
		panic("schema.json: " + err.Error())
	}
	return top
})

// wrong is told of each thing that is not as the language wants it.
type wrong func(path []string, format string, args ...any)

// check holds a value, as encoding/json decodes it, to a shape. Paths are those of the data; of
// a key that does not belong there the path is the key's own.
func (top *shape) check(s *shape, path []string, value any, wrong wrong) {
	if s.Ref != "" {
		name := strings.TrimPrefix(s.Ref, "#/$defs/")
		top.check(top.Defs[name], path, value, wrong)
		return
	}
	if s.Type != "" && !is(s.Type, value) {
		wrong(path, "wants %s, not %s", kinds[s.Type], plainly(value))
		return
	}
	if len(s.Enum) > 0 && !slices.Contains(s.Enum, value) {
		words := make([]string, len(s.Enum))
		for i, w := range s.Enum {
			words[i] = fmt.Sprint(w)
		}
		text := plainly(value)
		switch v := value.(type) {
		case string:
			text = strconv.Quote(v) + meant(v, words)
		case float64:
			text = fmt.Sprint(v)
		}
		wrong(path, "is one of %s; not %s", strings.Join(words, ", "), text)
		return
	}
	switch v := value.(type) {
	case map[string]any:
		top.mapping(s, path, v, wrong)
	case []any:
		if len(v) < s.MinItems {
			wrong(path, "is empty")
		}
		seen := map[string]bool{}
		for i, item := range v {
			if word, ok := item.(string); ok && s.Unique && seen[word] {
				wrong(under(path, strconv.Itoa(i)), "%q stands there twice", word)
			} else if ok {
				seen[word] = true
			}
			if s.Items != nil {
				top.check(s.Items, under(path, strconv.Itoa(i)), item, wrong)
			}
		}
	case string:
		s.word(path, v, wrong)
	case float64:
		if s.Minimum != nil && v < *s.Minimum || s.Maximum != nil && v > *s.Maximum {
			wrong(path, "%v is out of range: %s", v, s.bounds())
		}
	}
}

func (top *shape) mapping(s *shape, path []string, v map[string]any, wrong wrong) {
	for _, key := range s.Required {
		if _, ok := v[key]; !ok {
			wrong(path, "lacks %s", key)
		}
	}
	var said []string
	for _, one := range s.OneOf {
		if _, ok := v[one.Required[0]]; ok {
			said = append(said, one.Required[0])
		}
	}
	if ways := s.ways(); len(ways) > 0 && len(said) != 1 {
		wrong(path, "takes one of %s; this has %s", strings.Join(ways, " and "), cmp.Or(strings.Join(said, " and "), "neither"))
	}
	if len(v) < s.MinKeys {
		wrong(path, "is empty")
	}
	for _, key := range slices.Sorted(maps.Keys(v)) {
		at := under(path, key)
		if s.Names != nil && s.Names.Pattern != nil && !s.Names.Pattern.MatchString(key) {
			wrong(at, "is no name that can stand here: %q does not match %s", key, s.Names.Pattern)
			continue
		}
		switch p := s.Properties[key]; {
		case p != nil:
			top.check(p, at, v[key], wrong)
		case s.More != nil && s.More.is == nil:
			if now := s.now(key); now != "" {
				wrong(at, "%s is called %s now", key, now)
				continue
			}
			wrong(at, "no key is named %q here%s", key, meant(key, slices.Sorted(maps.Keys(s.Properties))))
		case s.More != nil:
			top.check(s.More.is, at, v[key], wrong)
		}
	}
}

// ways are the keys of which one is said.
func (s *shape) ways() (out []string) {
	for _, one := range s.OneOf {
		out = append(out, one.Required[0])
	}
	return out
}

func (s *shape) word(path []string, v string, wrong wrong) {
	if len(v) < s.MinLength {
		wrong(path, "is empty")
		return
	}
	if s.Pattern != nil && !s.Pattern.MatchString(v) {
		wrong(path, "%q does not match %s", v, s.Pattern)
	}
	if s.Format == "re2" {
		if _, err := regexp.Compile(strings.ReplaceAll(v, "{host}", "x")); err != nil {
			wrong(path, "%v", err)
		}
	}
}

func (s *shape) bounds() string {
	if s.Maximum == nil {
		return fmt.Sprintf("%v at least", *s.Minimum)
	}
	return fmt.Sprintf("%v to %v", *s.Minimum, *s.Maximum)
}

// kinds are JSON's kinds of value in the words of somebody who writes YAML.
var kinds = map[string]string{"object": "a mapping", "array": "a list", "string": "text", "integer": "a number", "boolean": "true or false"}

func is(kind string, value any) bool {
	switch v := value.(type) {
	case map[string]any:
		return kind == "object"
	case []any:
		return kind == "array"
	case string:
		return kind == "string"
	case bool:
		return kind == "boolean"
	case float64:
		return kind == "integer" && v == float64(int64(v))
	}
	return false
}

func meant(word string, names []string) string {
	if asked := ref.Meant(word, names); asked != "" {
		return "; " + asked
	}
	return ""
}

// plainly says what kind of value stands somewhere.
func plainly(value any) string {
	for kind, name := range kinds {
		if is(kind, value) {
			return name
		}
	}
	if value == nil {
		return "nothing"
	}
	return fmt.Sprint(value)
}
