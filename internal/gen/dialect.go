package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/said"
)

// language is the dialect language, read from its one source: the types of package
// dialect, what is said of their fields, and their tags.
type language struct {
	comments map[string]string
	wrong    []string
}

// vocabularies are what "one-of:" names.
var vocabularies = map[string][]string{"kinds": core.Kinds, "transports": dialect.Transports, "methods": dialect.Methods, "inbound": dialect.Inbound}

// key is one key of a mapping.
type key struct {
	name, does string
	t          reflect.Type
	is         []string // the words of its tag
}

func readLanguage() (*language, error) {
	source, err := os.ReadFile("internal/dialect/file.go")
	if err != nil {
		return nil, err
	}
	comments, err := said.Of(source)
	return &language{comments: comments}, err
}

func (k key) must() bool { return slices.Contains(k.is, "must") }

// keys are those of a struct, inlined ones among them.
func (l *language) keys(t reflect.Type) (out []key) {
	for f := range fields(t) {
		tag, opts, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		is := strings.Fields(f.Tag.Get("is"))
		if opts == "inline" {
			for _, k := range l.keys(f.Type) {
				if slices.Contains(is, "may") {
					k.is = slices.DeleteFunc(slices.Clone(k.is), func(w string) bool { return w == "must" })
				}
				out = append(out, k)
			}
			continue
		}
		does := l.comments[t.Name()+"."+f.Name]
		if does == "" || !strings.HasSuffix(does, ".") {
			l.wrong = append(l.wrong, fmt.Sprintf("%s.%s: what it says is to stand above it, as a sentence", t.Name(), f.Name))
		}
		out = append(out, key{tag, does, f.Type, is})
	}
	return out
}

// fields are the ones that a file can have.
func fields(t reflect.Type) func(func(reflect.StructField) bool) {
	return func(yield func(reflect.StructField) bool) {
		for i := range t.NumField() {
			if f := t.Field(i); f.Name != "_" && !yield(f) {
				return
			}
		}
	}
}

// object is a JSON object whose members keep their order.
type object []member

type member struct {
	key   string
	value any
}

func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		for j, v := range []any{m.key, m.value} {
			if j > 0 {
				b.WriteByte(':')
			}
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			if err := e.Encode(v); err != nil {
				return nil, err
			}
		}
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// schema is the JSON Schema (draft 2020-12) of dialect files.
func (l *language) schema() ([]byte, error) {
	defs := map[string]any{"pattern": object{{"type", "string"}, {"minLength", 1}, {"format", "re2"}}, "span": object{{"type", "string"}, {"pattern", "^[0-9]+(ms|s|m|h)$"}}}
	file := l.mapping(reflect.TypeFor[dialect.File](), defs)
	var sorted object
	for _, name := range slices.Sorted(maps.Keys(defs)) {
		sorted = append(sorted, member{name, defs[name]})
	}
	out := append(object{{"$schema", "https://json-schema.org/draft/2020-12/schema"}, {"$id", "urn:steady-magpie:dialect:1"}, {"title", "Steady Magpie dialect"},
		{"description", "How one family of devices is spoken to. Patterns are RE2."}}, file...)
	raw, err := json.Marshal(append(out, member{"$defs", sorted}))
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := json.Indent(&b, raw, "", " "); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), l.err()
}

func (l *language) err() error {
	if l.wrong == nil {
		return nil
	}
	return fmt.Errorf("%s", strings.Join(l.wrong, "\n"))
}

// mapping describes a struct.
func (l *language) mapping(t reflect.Type, defs map[string]any) object {
	out := object{{"type", "object"}, {"additionalProperties", false}}
	var props object
	var must []string
	for _, k := range l.keys(t) {
		if k.must() {
			must = append(must, k.name)
		}
		props = append(props, member{k.name, append(l.value(k.t, k.is, defs), member{"description", k.does})})
	}
	if must != nil {
		out = append(out, member{"required", must})
	}
	if f, ok := t.FieldByName("_"); ok {
		if names, ok := strings.CutPrefix(f.Tag.Get("is"), "either:"); ok {
			var one []object
			for _, n := range strings.Split(names, "|") {
				one = append(one, object{{"required", []string{n}}})
			}
			out = append(out, member{"oneOf", one})
		}
	}
	return append(out, member{"properties", props})
}

var within = regexp.MustCompile(`^(\d+)\.\.(\d*)$`)

// value describes what stands at a key.
func (l *language) value(t reflect.Type, is []string, defs map[string]any) (out object) {
	add := func(key string, v any) { out = append(out, member{key, v}) }
	switch t.Kind() {
	case reflect.Pointer:
		return l.value(t.Elem(), is, defs)
	case reflect.Struct:
		name := strings.ToLower(t.Name())
		if _, known := defs[name]; !known {
			defs[name] = nil // so that one that holds itself comes to an end
			defs[name] = l.mapping(t, defs)
		}
		return object{{"$ref", "#/$defs/" + name}}
	case reflect.Slice, reflect.Map:
		kind, least, holds := "array", "minItems", "items"
		if t.Kind() == reflect.Map {
			kind, least, holds = "object", "minProperties", "additionalProperties"
		}
		add("type", kind)
		var rest []string
		for _, w := range is {
			switch keys, of := strings.CutPrefix(w, "keys/"); {
			case of:
				add("propertyNames", object{{"pattern", strings.TrimSuffix(keys, "/")}})
			case w == "filled":
				add(least, 1)
			case w == "unique":
				add("uniqueItems", true)
			default:
				rest = append(rest, w)
			}
		}
		if t.Elem().Kind() != reflect.Interface {
			add(holds, l.value(t.Elem(), rest, defs))
		}
		return out
	case reflect.Bool:
		return object{{"type", "boolean"}}
	case reflect.Int:
		add("type", "integer")
	case reflect.String:
		add("type", "string")
	}
	for _, w := range is {
		switch m := within.FindStringSubmatch(w); {
		case w == "must":
		case w == "pattern" || w == "span":
			return object{{"$ref", "#/$defs/" + w}}
		case w == "some":
			add("minLength", 1)
		case m != nil:
			n, _ := strconv.Atoi(m[1])
			add("minimum", n)
			if m[2] != "" {
				n, _ = strconv.Atoi(m[2])
				add("maximum", n)
			}
		case strings.HasPrefix(w, "/"):
			add("pattern", strings.Trim(w, "/"))
		default:
			return object{{"enum", l.words(t, w)}}
		}
	}
	return out
}

// words are those that may stand at a key.
func (l *language) words(t reflect.Type, w string) (out []any) {
	if name, of := strings.CutPrefix(w, "one-of:"); of {
		if vocabularies[name] == nil {
			l.wrong = append(l.wrong, w+": there is no such vocabulary")
		}
		w = strings.Join(vocabularies[name], "|")
	}
	for _, x := range strings.Split(w, "|") {
		if n, err := strconv.Atoi(x); err == nil && t.Kind() == reflect.Int {
			out = append(out, n)
		} else {
			out = append(out, x)
		}
	}
	return out
}

var begins = regexp.MustCompile(`^<!-- keys of (\w+) -->`)
var table = regexp.MustCompile(`(?s)(<!-- keys of (\w+) -->\n).*?(<!-- /keys -->)`)

// reference puts the tables of keys into the guide, between its marks. What has no
// table of its own stands in the one of what holds it.
func (l *language) reference(file string) ([]byte, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	shown := map[string]string{} // by type, the section that it stands in
	section := ""
	for line := range bytes.Lines(raw) {
		if h, ok := bytes.CutPrefix(line, []byte("### ")); ok {
			section = string(bytes.TrimSpace(h))
		}
		if m := begins.FindSubmatch(line); m != nil {
			shown[string(m[1])] = section
		}
	}
	types := map[string]reflect.Type{}
	gather(reflect.TypeFor[dialect.File](), types)
	for name := range shown {
		if types[name] == nil {
			l.wrong = append(l.wrong, fmt.Sprintf("%s: nothing in a dialect file is a %q", file, name))
		}
	}
	if shown["File"] == "" {
		l.wrong = append(l.wrong, file+": the table of File is not there")
	}
	if err := l.err(); err != nil {
		return nil, err
	}
	out := table.ReplaceAllFunc(raw, func(old []byte) []byte {
		m := table.FindSubmatch(old)
		return []byte(string(m[1]) + "| key | is | says |\n| --- | --- | --- |\n" + l.rows("", types[string(m[2])], false, shown) + string(m[3]))
	})
	return out, l.err()
}

// gather finds the types that a file is made of.
func gather(t reflect.Type, into map[string]reflect.Type) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Map:
		gather(t.Elem(), into)
	case reflect.Struct:
		if into[t.Name()] == nil {
			into[t.Name()] = t
			for f := range fields(t) {
				gather(f.Type, into)
			}
		}
	}
}

// rows are the keys of a mapping as rows of a table. What is inlined with "may" is
// not required.
func (l *language) rows(before string, t reflect.Type, may bool, shown map[string]string) (out string) {
	for f := range fields(t) {
		name, opts, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		is := strings.Fields(f.Tag.Get("is"))
		if opts == "inline" {
			if shown[f.Type.Name()] != "" {
				out += fmt.Sprintf("| %s… | those of a %s | |\n", before, l.link(f.Type, shown))
			} else {
				out += l.rows(before, f.Type, slices.Contains(is, "may"), shown)
			}
			continue
		}
		what := l.form(f.Type, is, shown)
		if slices.Contains(is, "must") && !may {
			what += ", required"
		}
		does := strings.ReplaceAll(l.comments[t.Name()+"."+f.Name], "|", "\\|")
		out += fmt.Sprintf("| `%s%s` | %s | %s |\n", before, name, what, braces.ReplaceAllString(does, "`$0`"))
		if in, after := below(f.Type); in != nil && shown[in.Name()] == "" {
			out += l.rows(before+name+after+".", in, false, shown)
		}
	}
	return out
}

var braces = regexp.MustCompile(`\{[\w-]+\}|<>`)

// below is the struct that stands at a key, and how its place is written.
func below(t reflect.Type) (reflect.Type, string) {
	switch t.Kind() {
	case reflect.Pointer:
		return below(t.Elem())
	case reflect.Slice:
		in, after := below(t.Elem())
		return in, "[]" + after
	case reflect.Map:
		in, after := below(t.Elem())
		return in, ".NAME" + after
	case reflect.Struct:
		return t, ""
	}
	return nil, ""
}

// form says what stands at a key, for people.
func (l *language) form(t reflect.Type, is []string, shown map[string]string) string {
	switch t.Kind() {
	case reflect.Pointer:
		return l.form(t.Elem(), is, shown)
	case reflect.Slice:
		return "list: " + l.form(t.Elem(), is, shown)
	case reflect.Map:
		return "by name: " + l.form(t.Elem(), is, shown)
	case reflect.Struct:
		if shown[t.Name()] != "" {
			return l.link(t, shown)
		}
		return "keys"
	case reflect.Bool:
		return "true or false"
	case reflect.Interface:
		return "anything"
	}
	for _, w := range is {
		switch m := within.FindStringSubmatch(w); {
		case w == "must" || w == "some" || w == "filled" || w == "unique" || strings.HasPrefix(w, "keys/") || strings.HasPrefix(w, "/"):
		case w == "pattern":
			return "pattern"
		case w == "span":
			return "time span"
		case m != nil && m[2] == "":
			return "number from " + m[1]
		case m != nil:
			return "number " + m[1] + " to " + m[2]
		default:
			var words []string
			for _, x := range l.words(t, w) {
				words = append(words, fmt.Sprintf("`%v`", x))
			}
			return strings.Join(words, " ")
		}
	}
	if t.Kind() == reflect.Int {
		return "number"
	}
	return "text"
}

// link leads to the section that has a type's table.
func (l *language) link(t reflect.Type, shown map[string]string) string {
	return fmt.Sprintf("[%s](#%s)", strings.ToLower(camel.ReplaceAllString(t.Name(), "$1 $2")), strings.ReplaceAll(shown[t.Name()], " ", "-"))
}

var camel = regexp.MustCompile(`([a-z])([A-Z])`)
