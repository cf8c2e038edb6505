package dialect

import (
	"slices"
	"strings"
	"testing"

	"magpie/dialects"
)

func loaded(t *testing.T, name string) *Dialect {
	t.Helper()
	src, err := dialects.Files.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	d, err := Load(name, src)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestExplain: how a line is read, and what would be typed for it.
func TestExplain(t *testing.T) {
	d := loaded(t, "curlew.yaml")
	for _, c := range []struct{ line, rule, identity, value, add, remove, says string }{
		{"path 10.7.0.0/16 cost 2 over 10.1.1.254", "path {to} cost <cost> over {hop}", "path 10.7.0.0/16 cost over 10.1.1.254", "2",
			"path 10.7.0.0/16 cost 2 over 10.1.1.254", "strike path 10.7.0.0/16 over 10.1.1.254", "the old value is removed before"},
		{"pier 1 / never lit", "pier {number} / lit", "lit", "never", "pier 1|  never lit", "pier 1|  lit", ""},
		{"gate n / rung 10 lets tcp any to any", "gate {name} / rung {number} <what...>", "rung 10", "lets tcp any to any", "gate n|  rung 10 lets tcp any to any", "gate n|  strike rung 10", "of the same what"},
		{"beacon tint  green", "beacon tint <colour>", "beacon tint", "green", "beacon tint green", "", "it goes with: beacon every <seconds>"},
		{"never heard of", "", "heard of", "never", "never heard of", "heard of", "is assumed"},
	} {
		all, err := d.Explain(c.line)
		if err != nil {
			t.Errorf("%s: %v", c.line, err)
			continue
		}
		e := all[len(all)-1]
		if e.Rule != c.rule || e.Identity != c.identity || e.Value != c.value || strings.Join(e.Add, "|") != c.add || strings.Join(e.Remove, "|") != c.remove || !strings.Contains(strings.Join(e.Says, "; "), c.says) {
			t.Errorf("%s: %+v", c.line, e)
		}
	}
	for line, complaint := range map[string]string{" / x": "empty segment", "pier 1 / room 1500": "leaves it out"} {
		if _, err := d.Explain(line); err == nil || !strings.Contains(err.Error(), complaint) {
			t.Errorf("%s: %v", line, err)
		}
	}
	all, err := loaded(t, "gannet.yaml").Explain("mast / user keeper / word gulls")
	if err != nil || len(all) != 3 || all[2].Rule != "mast / user {name} / word <word>" || strings.Join(all[2].Says, "") != "secret: word" || len(all[2].Add) > 0 {
		t.Errorf("an element of a document: %+v, %v", all, err)
	}
	if _, err := loaded(t, "dunlin.yaml").Explain("x"); err == nil {
		t.Error("an opaque file has lines")
	}
}

// TestHardlyMeant: what a dialect file may say, and hardly means, is pointed out where it
// stands; what ships has none of it.
func TestHardlyMeant(t *testing.T) {
	for _, name := range []string{"tern.yaml", "plover.yaml", "heron.yaml", "skua.yaml", "dunlin.yaml", "fulmar.yaml", "curlew.yaml"} {
		if d := loaded(t, name); len(d.Doubts) > 0 {
			t.Errorf("%s: %v", name, d.Doubts)
		}
	}
	src, err := dialects.Files.ReadFile("curlew.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for rule, complaint := range map[string]string{
		"pier {other} / says <text...>":   "stands before it and matches all that it does",
		"beacon every 5":                  "stands before it",
		"quay {name} / says <text...>":    `no line like "quay {name}"`,
		"{what} {ever}":                   "names no word of its own",
		"gate {name} / rung {n} lets tcp": "stands before it",
	} {
		text := strings.Replace(string(src), "\nchange:", "  - {path: '"+rule+"'}\n\nchange:", 1)
		d, err := Load("curlew.yaml", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if !slices.ContainsFunc(d.Doubts, func(p Problem) bool {
			return p.Warning && p.Line > 60 && strings.HasPrefix(p.Path, "rules[") && strings.Contains(p.Text, complaint)
		}) {
			t.Errorf("%s: %v", rule, d.Doubts)
		}
	}
	for slip, complaint := range map[string]string{
		"make_before_break: '{name}-beside'}|make_before_break: '{nam}-beside'}": "beside",
		"remove: 'strike when {to}'|remove: 'strike when {whither}'":             "is no capture",
		"sequence: ask|before: '^x'":                                             "neither ordered nor sequence",
		"  silent: true|  silent: false":                                         "silent does not say",
		", serial: '^board: (\\S+)$'|":                                           "needs serial",
		"fallback: address|fallback: host-key":                                   "and one is read as well",
		"goes_with: 'beacon every <seconds>'|goes_with: ' / '":                   "empty segment",
	} {
		from, to, _ := strings.Cut(slip, "|")
		text := strings.Replace(string(src), from, to, 1)
		if _, err := Load("curlew.yaml", []byte(text)); text == string(src) || err == nil || !strings.Contains(err.Error(), complaint) {
			t.Errorf("%s: %v", slip, err)
		}
	}
}
