package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"magpie/internal/said"
)

// TestOneLanguage: a key of the dialect language that lacks its sentence, names a
// vocabulary that is not there, or stands in no table, is told; what is told of it
// reaches the schema and the reference.
func TestOneLanguage(t *testing.T) {
	const source = `package x
type Place struct {
	// Its name.
	Name string
	// How it is reached.
	Ways []string
	Port int
}`
	type Place struct {
		Name string   `yaml:"name" is:"must some"`
		Ways []string `yaml:"ways" is:"filled one-of:transports"`
		Port int      `yaml:"port" is:"1..65535"`
	}
	of := func(source string) *language {
		comments, err := said.Of([]byte(source))
		if err != nil {
			t.Fatal(err)
		}
		return &language{comments: comments}
	}
	l := of(source)
	l.mapping(reflect.TypeFor[Place](), map[string]any{})
	if err := l.err(); err == nil || !strings.Contains(err.Error(), "Place.Port") {
		t.Errorf("a key without a sentence: %v", err)
	}
	l = of(strings.Replace(source, "Port int", "// Where it listens.\nPort int", 1))
	raw, err := json.Marshal(l.mapping(reflect.TypeFor[Place](), map[string]any{}))
	const want = `{"type":"object","additionalProperties":false,"required":["name"],"properties":{"name":{"type":"string","minLength":1,"description":"Its name."},` +
		`"ways":{"type":"array","minItems":1,"items":{"enum":["ssh","telnet","netconf","https","http"]},"description":"How it is reached."},` +
		`"port":{"type":"integer","minimum":1,"maximum":65535,"description":"Where it listens."}}}`
	if got := regexp.MustCompile(`\n`).ReplaceAllString(string(raw), ""); err != nil || l.err() != nil || got != want {
		t.Errorf("%v, %v\n%s\n%s", err, l.err(), got, want)
	}
	if rows := l.rows("", reflect.TypeFor[Place](), false, nil); !strings.Contains(rows, "| `port` | number 1 to 65535 | Where it listens. |") || !strings.Contains(rows, "| `name` | text, required |") {
		t.Error(rows)
	}
	l.value(reflect.TypeFor[string](), []string{"one-of:nothing"}, nil)
	if l.err() == nil {
		t.Error("a vocabulary that is not there was not told")
	}
	guide := filepath.Join(t.TempDir(), "guide.md")
	for text, complaint := range map[string]string{"### reach\n": "File is not there", "<!-- keys of Nothing -->\n<!-- /keys -->\n": `"Nothing"`} {
		if err := os.WriteFile(guide, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := of(source).reference(guide); err == nil || !strings.Contains(err.Error(), complaint) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestDerived: what stands there is what its sources say.
func TestDerived(t *testing.T) {
	t.Chdir("../..")
	l, err := readLanguage()
	if err != nil {
		t.Fatal(err)
	}
	for file, make := range derived(l) {
		if err := write(file, make, true); err != nil {
			t.Error(err)
		}
	}
}
