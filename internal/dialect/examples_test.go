package dialect

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// around is a dialect that the guide's examples are laid over.
const around = `
dialect: example
title: the guide's examples
kind: router
reach: {transport: ssh, port: 22}
converse:
  host: '[a-z0-9-]+'
  initial_mode: top
  modes:
    top: {prompt: '{host}> '}
    edit: {prompt: '{host}# ', from: top, enter: edit, leave: done}
identity: {mode: top, command: who, serial: '^serial (\S+)$'}
parts: {running: {mode: top, command: all, complete: {last: '^end$'}}}
grammar: {form: blocks, indent: 2, order: free}
change: {mode: edit, remove: 'drop {identity}', leave: out, methods: [replace]}
`

// TestExamples: what the guide shows of lines that are not like the others is what is
// typed and said.
func TestExamples(t *testing.T) {
	raw, err := os.ReadFile("../../docs/dialects.md")
	if err != nil {
		t.Fatal(err)
	}
	_, chapter, _ := strings.Cut(string(raw), "## When a line is not like the others")
	chapter, _, _ = strings.Cut(chapter, "## The reference")
	shown := 0
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```\n(?:```example\n(.*?)```)?").FindAllStringSubmatch(chapter, -1) {
		shown++
		var base, over any
		if err := yaml.Unmarshal([]byte(around), &base); err != nil {
			t.Fatal(err)
		}
		if err := yaml.Unmarshal([]byte(m[1]), &over); err != nil {
			t.Fatalf("%v in\n%s", err, m[1])
		}
		if _, own := over.(map[string]any)["identity"]; own {
			delete(base.(map[string]any), "identity")
		}
		src, err := yaml.Marshal(overlay(base, over))
		if err != nil {
			t.Fatal(err)
		}
		d, err := Load("example.yaml", src)
		if err != nil {
			t.Errorf("%v in\n%s", err, m[1])
			continue
		}
		if m[2] == "" {
			continue
		}
		part := map[string]string{}
		for _, l := range strings.Split(strings.TrimSuffix(m[2], "\n"), "\n") {
			part[l[:1]] += strings.TrimPrefix(l[1:], " ") + "\n"
		}
		read := func(which string) string { return part[which] }
		_, from, err := d.Doc("running").Parse(read("-"))
		if err != nil {
			t.Fatal(err)
		}
		_, to, err := d.Doc("running").Parse(read("+"))
		if err != nil {
			t.Fatal(err)
		}
		plan := d.Language.Replace(from, to)
		if got := strings.Join(typed(plan.Steps), "\n") + "\n"; got != part[">"] {
			t.Errorf("with\n%s\nis typed\n%s\nand the guide says\n%s", m[1], got, part[">"])
		}
		if got := strings.Join(plan.Notes, "\n"); got != strings.TrimSuffix(part["#"], "\n") {
			t.Errorf("with\n%s\nis said\n%s\nand the guide says\n%s", m[1], got, part["#"])
		}
		if len(plan.Remains) > 0 {
			t.Errorf("with\n%s\nremains %+v", m[1], plan.Remains)
		}
	}
	if shown < 11 {
		t.Errorf("the guide shows %d examples", shown)
	}
}
