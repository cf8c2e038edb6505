package dialect

import (
	"encoding/json"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// TestOneLanguage: what the program reads of a dialect file and what its JSON Schema
// allows are the same keys, at every place; that the reference tells of each,
// TestReference looks. What a place shares with others it may allow only in part.
func TestOneLanguage(t *testing.T) {
	raw, err := os.ReadFile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	var schema map[string]any
	if err := json.Unmarshal(raw, &schema); err != nil {
		t.Fatal(err)
	}
	w := &keyWalk{t: t, defs: schema["$defs"].(map[string]any), seen: map[string]bool{}}
	w.walk("", reflect.TypeOf(File{}), schema)
	if len(w.seen) < 150 {
		t.Errorf("only %d places were compared", len(w.seen))
	}
}

type keyWalk struct {
	t    *testing.T
	defs map[string]any
	seen map[string]bool
}

// keys are the fields that a struct reads, by key.
func keys(t reflect.Type) map[string]reflect.Type {
	out := map[string]reflect.Type{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, opts, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case opts == "inline":
			maps.Copy(out, keys(f.Type))
		case name != "" && name != "-":
			out[name] = f.Type
		}
	}
	return out
}

// own tells whether a key is the struct's own, and not one that it shares.
func own(t reflect.Type, key string) bool {
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ","); name == key {
			return true
		}
	}
	return false
}

// alternatives are a schema and all that it may be instead, references followed.
func (w *keyWalk) alternatives(s map[string]any) (all []map[string]any) {
	if name, ok := s["$ref"].(string); ok {
		if def, ok := w.defs[strings.TrimPrefix(name, "#/$defs/")].(map[string]any); ok {
			all = append(all, w.alternatives(def)...)
		}
	}
	for _, way := range []string{"oneOf", "anyOf", "allOf"} {
		some, _ := s[way].([]any)
		for _, x := range some {
			all = append(all, w.alternatives(x.(map[string]any))...)
		}
	}
	return append(all, s)
}

// walk compares a type with a schema, and goes on below.
func (w *keyWalk) walk(at string, t reflect.Type, schema map[string]any) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	all := w.alternatives(schema)
	switch t.Kind() {
	case reflect.Slice:
		for _, s := range all {
			if items, ok := s["items"].(map[string]any); ok {
				w.walk(at+"[]", t.Elem(), items)
			}
		}
	case reflect.Map:
		for _, s := range all {
			for _, key := range []string{"additionalProperties", "patternProperties"} {
				inner, ok := s[key].(map[string]any)
				if !ok {
					continue
				}
				if key == "patternProperties" {
					for _, x := range inner {
						w.walk(at+".*", t.Elem(), x.(map[string]any))
					}
				} else {
					w.walk(at+".*", t.Elem(), inner)
				}
			}
		}
	case reflect.Struct:
		allowed := map[string]map[string]any{}
		for _, s := range all {
			props, _ := s["properties"].(map[string]any)
			for k, v := range props {
				if m, ok := v.(map[string]any); ok {
					allowed[k] = m
				}
			}
		}
		if len(allowed) == 0 {
			return // a value that reads itself
		}
		read := keys(t)
		for _, k := range slices.Sorted(maps.Keys(read)) {
			place := at + "." + k
			if w.seen[place] {
				continue
			}
			w.seen[place] = true
			s, ok := allowed[k]
			if !ok && !own(t, k) {
				continue
			}
			if !ok {
				w.t.Errorf("%s is read, and the schema does not allow it", place)
				continue
			}
			w.walk(place, read[k], s)
		}
		for k := range allowed {
			if _, ok := read[k]; !ok {
				w.t.Errorf("%s.%s is allowed, and nothing reads it", at, k)
			}
		}
	}
}
