package wire

import (
	"encoding/json"
	"strings"
	"testing"
)

type names []string

type inner struct{ Path, Hidden string }

type row struct {
	inner
	Name   string
	Tags   names
	Serial names
	All    []inner
	One    *inner
	None   *inner
	Secret string
}

type place struct {
	Path string `json:"path"`
}

type sent struct {
	Name   string   `json:"name"`
	Path   string   `json:"path"`
	Tags   []string `json:"tags"`
	Serial []string `json:"serial,omitempty"`
	All    []place  `json:"all"`
	One    *place   `json:"one"`
	None   *place   `json:"none"`
	Secret string   `json:"secret"`
}

// TestMake: what has a name goes over under that name and nothing else does; a list
// of nothing is one; what comes from nowhere is told by Ready, before anything goes over.
func TestMake(t *testing.T) {
	is := Make[sent, row]("Secret")
	raw, err := json.Marshal(is(row{inner: inner{Path: "p", Hidden: "h"}, Name: "n", All: []inner{{"a", "x"}, {"b", "y"}}, One: &inner{"o", "z"}, Secret: "s"}))
	const want = `{"name":"n","path":"p","tags":[],"all":[{"path":"a"},{"path":"b"}],"one":{"path":"o"},"none":null,"secret":""}`
	if err != nil || string(raw) != want {
		t.Errorf("%s, %v", raw, err)
	}
	for complaint, make := range map[string]func(){
		"nothing says what Secret is": func() { Make[sent, struct{ Name, Path string }]("Tags", "Serial", "All", "One", "None") },
		"is no field":                 func() { Make[sent, row]("Secrets") },
		"does not become": func() {
			Make[place, struct{ Path int }]()
		},
	} {
		func() {
			defer func() {
				if said, _ := recover().(string); !strings.Contains(said, complaint) {
					t.Errorf("%q instead of %q", said, complaint)
				}
			}()
			made = nil
			make()
			Ready()
			t.Errorf("%q is not told", complaint)
		}()
	}
}
