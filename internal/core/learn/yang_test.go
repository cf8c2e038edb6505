package learn_test

import (
	"strings"
	"testing"

	"magpie/internal/core/learn"
)

// TestModules drafts rules of two modules that share the name of a top element, of a choice
// whose cases hold one leaf and several, and of what nobody may read by default.
func TestModules(t *testing.T) {
	const acm = `module ietf-netconf-acm { namespace "urn:ietf:params:xml:ns:yang:ietf-netconf-acm"; prefix nacm;
  extension default-deny-all; }`
	const dock = `module dock { namespace "urn:dock"; prefix d; import ietf-netconf-acm { prefix nacm; }
  container berth {
    leaf depth { type uint8; default 7; }
    leaf sign { type string; nacm:default-deny-all; }
    container keys { nacm:default-deny-all; list key { key name; leaf name { type string; } leaf word { type string; } } }
    choice when {
      leaf always { type empty; }
      case hours { leaf from { type uint8; } leaf until { type uint8; } }
      case tide { leaf height { type uint8; } }
    }
  } }`
	const yard = `module yard { namespace "urn:yard"; prefix y;
  container berth { leaf depth { type uint8; default 9; } leaf colour { type string; default red; } leaf sign { type string; } }
  leaf-list flag { type string; ordered-by user; } }`
	rules, notes, err := learn.Modules(map[string]string{"ietf-netconf-acm": acm, "dock": dock, "yard": yard})
	if err != nil {
		t.Fatal(err)
	}
	yaml := learn.YAML(rules)
	for _, want := range []string{
		"{path: 'berth / sign <sign>', secret: [sign]}",
		"{path: 'berth / keys / key {name} / word <word>', secret: [word]}",
		"{path: 'berth / keys / key {name}'}",
		"{path: 'berth / always <always>', choice: 'when'}",
		"{path: 'berth / height <height>', choice: 'when'}",
		"{path: 'berth / colour <colour>', default: 'red'}",
		"{path: 'flag {flag}', sequence: 'flag'}",
	} {
		if !strings.Contains(yaml, want) {
			t.Errorf("%s is not in\n%s", want, yaml)
		}
	}
	for _, not := range []string{"from", "until", "default: '7'", "default: '9'"} {
		if strings.Contains(yaml, not) {
			t.Errorf("%s is in\n%s", not, yaml)
		}
	}
	if all := strings.Join(notes, "\n"); strings.Count(all, "berth / depth <depth> is said of elements in several namespaces") != 1 {
		t.Errorf("notes: %q", notes)
	}
}
