package dialect

import (
	"strings"
	"testing"
)

func TestReleasesInOrder(t *testing.T) {
	order := []string{"2", "2.9", "2.10", "2.10a", "2.10b", "3.0.5", "3.0.12", "10.1"}
	for i := range order {
		for j := range order {
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			if got := compareReleases(order[i], order[j]); got != want {
				t.Errorf("%s against %s: %d", order[i], order[j], got)
			}
		}
	}
}

// TestVariants: what is otherwise in some releases is laid over the file, the
// first that matches counts, and a slip in one is told where it stands.
func TestVariants(t *testing.T) {
	src := source(t) + `
variants:
  - {model: 'R9$', sets: {title: the big one, change: {methods: [merge]}}}
  - below: '4.0'
    sets: {converse: {logout: farewell}, parts: {running: {command: recite all}}}
    lacks: [startup, replace]
`
	d, err := Load("tern.yaml", []byte(src))
	if err != nil {
		t.Fatal(err)
	}
	if v := d.For("", "Tern R4", "4.2.1"); v != d {
		t.Error("a variant matched that should not")
	}
	if v := d.For("", "Tern R9", "3.1"); v.Title != "the big one" || len(v.Change.Methods) != 1 || v.Change.Remove != d.Change.Remove {
		t.Errorf("%q, %v, %q", v.Title, v.Change.Methods, v.Change.Remove)
	}
	old := d.For("", "Tern R4", "3.9")
	if _, has := old.Parts["startup"]; has || old.Converse.Goodbye != "farewell" || old.Parts["running"].Command != "recite all" || old.Parts["running"].Mode != "aloft" || strings.Join(old.Change.Methods, " ") != "merge" {
		t.Errorf("%+v", old.Change)
	}
	if d.Parts["running"].Command != "recite running" {
		t.Error("the variant changed the dialect itself")
	}
	_, err = Load("tern.yaml", []byte(strings.Replace(src, "command: recite all", "command: 7", 1)))
	if err == nil || !strings.Contains(err.Error(), "variants[1].sets.parts.running.command") {
		t.Errorf("%v", err)
	}
}
