package dialect

import (
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// TestWhatMeansNothing: what would never be done, or could not be, is told of when a
// dialect is loaded, with the place where it stands.
func TestWhatMeansNothing(t *testing.T) {
	for name, c := range map[string]struct{ over, path, says string }{
		"a timer with a deed that is not there": {"change: {undo: {with: live, arm: [{mode: top, type: a}], disarm: [{mode: top, type: b}], from: 1s, to: 1m, back: 1s}}", "change.undo.with", "change.live, which is not there"},
		"a timer with a commit that is not":     {"change: {undo: {with: commit, arm: [{mode: top, type: a}], disarm: [{mode: top, type: b}], from: 1s, to: 1m, back: 1s}}", "change.undo.with", "NETCONF's commit"},
		"loading where lines are sent":          {"change: {load: [{mode: top, type: a}]}", "change.load", "is never done"},
		"going live where it is restarted":      {"parts: {startup: {mode: top, command: s, complete: {last: x}}}\nchange: {methods: [stage], live: [{mode: top, type: a}], stage: {load: [{mode: top, type: a}], restart: [{mode: top, type: b}], back: 1m}}", "change.live", "is never done"},
		"something instead of NETCONF":          {"change: {instead: {commit: [{mode: top, type: a}]}}", "change.instead", "not spoken here"},
		"a lock without a way out":              {"reach: {transport: netconf, port: 830}\nchange: {instead: {lock: [{rpc: <hold/>}]}}", "change.instead", "has to say both"},
		"what follows nobody":                   {"parts: {loaded: {mode: top, command: l, follows: file, complete: {last: x}}}", "parts.loaded.follows", `no other part is named "file"`},
		"a state without a part":                {"parts: {running: {unsaved_word: not loaded}}", "parts.running.unsaved_word", "say which with follows"},
		"two that follow":                       {"parts: {a: {mode: top, command: l, follows: running, complete: {last: x}}, b: {mode: top, command: l, follows: running, complete: {last: x}}}", "parts", "2 parts follow others"},
		"merging JSON":                          {"reach: {transport: https, port: 443}\nweb: {auth: basic}\ngrammar: {form: json}\nchange: {methods: [merge]}", "change.methods[0]", "cannot be previewed"},
		"saving by a command without a mode":    {"change: {save: {command: keep}}", "change.save", "needs the mode"},
		"saving by both":                        {"change: {save: {mode: top, command: keep, steps: [{mode: top, type: a}]}}", "change.save", "takes one of command and steps"},
	} {
		var base, over any
		if err := yaml.Unmarshal([]byte(around), &base); err != nil {
			t.Fatal(err)
		}
		if err := yaml.Unmarshal([]byte(c.over), &over); err != nil {
			t.Fatal(name, err)
		}
		src, err := yaml.Marshal(overlay(base, over))
		if err != nil {
			t.Fatal(err)
		}
		_, err = Load("example.yaml", src)
		if err == nil || !strings.Contains(err.Error(), c.path+": ") || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestKeptForNothing: a name that a step keeps and nothing uses is pointed out.
func TestKeptForNothing(t *testing.T) {
	d, err := Load("example.yaml", []byte(strings.Replace(around, "parts: {running: {mode: top,", "parts: {running: {make: [{mode: top, type: sum, keep: {sum: '(\\S+)', size: '(\\d+)'}}], mode: top,", 1)+"\n"))
	if err != nil {
		t.Fatal(err)
	}
	said := d.Doubts.Error()
	if !strings.Contains(said, "neither as {sum}") || !strings.Contains(said, "neither as {size}") {
		t.Error(said)
	}
}

// TestFollower: which part should be equivalent to which, what a device is called while it
// is not, and by which part it is judged.
func TestFollower(t *testing.T) {
	for name, c := range map[string]struct{ parts, name, of, word, main string }{
		"nothing follows":      {"{running: {mode: top, command: all, complete: {last: x}}}", "", "", "unsaved", "running"},
		"startup does":         {"{running: {mode: top, command: all, complete: {last: x}}, startup: {mode: top, command: s, complete: {last: x}}}", "startup", "running", "unsaved", "running"},
		"in other words":       {"{running: {mode: top, command: all, complete: {last: x}}, startup: {mode: top, command: s, unsaved_word: not stowed, complete: {last: x}}}", "startup", "running", "not stowed", "running"},
		"what is loaded":       {"{file: {mode: top, command: f, complete: {last: x}}, loaded: {mode: top, command: l, follows: file, unsaved_word: not loaded, complete: {last: x}}}", "loaded", "file", "not loaded", "file"},
		"whatever its name is": {"{z: {mode: top, command: f, complete: {last: x}}, a: {mode: top, command: l, follows: z, complete: {last: x}}}", "a", "z", "unsaved", "z"},
	} {
		d, err := Load("example.yaml", []byte(strings.Replace(around, "parts: {running: {mode: top, command: all, complete: {last: '^end$'}}}", "parts: "+c.parts, 1)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		part, of, ok := d.Follower()
		if ok != (c.name != "") || ok && (part != c.name || of != c.of) || d.UnsavedWord() != c.word || d.Main() != c.main {
			t.Errorf("%s: %s follows %s (%v), %q, judged by %s", name, part, of, ok, d.UnsavedWord(), d.Main())
		}
	}
}
