package learn

import (
	"regexp"
	"strings"
	"testing"

	"magpie/internal/core/grammar"
)

func words(line string) []grammar.Word { return grammar.Words(line, grammar.Quotes{}) }

func tree(t testing.TB, src string) *grammar.Node {
	t.Helper()
	root, err := (&grammar.Blocks{Indent: 2}).Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	return root
}

// TestFrom: what configurations alone tell of their lines.
func TestFrom(t *testing.T) {
	d := From([]*grammar.Node{
		tree(t, "name quay\nlane a\n  note \"x y\"\n  mtu 1500\nlane b\n  mtu 9000\nbeacon every 5\nbeacon tint green\nserver 10.0.0.1\nserver 10.0.0.2\n"),
		tree(t, "name kiosk\nlane a\n  mtu 1400\nbeacon every 7\nbeacon tint red\nserver 10.0.0.1\n"),
	}, words, "")
	var paths []string
	for _, k := range d.Kinds() {
		paths = append(paths, k.Path())
	}
	want := "name <value...>|lane {name}|lane {name} / note <text...>|lane {name} / mtu <number...>|beacon every <number...>|beacon tint <value...>|server {address}"
	if got := strings.Join(paths, "|"); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	for _, r := range d.Rules(How{Remove: "no {identity}"}) {
		if len(r.Unsure) == 0 {
			t.Errorf("%s is taken for sure, and nothing was tried", r.Path)
		}
	}
}

// TestDenied: a line that says the opposite of another is of its kind.
func TestDenied(t *testing.T) {
	d := From([]*grammar.Node{tree(t, "never answer pings\npier 1\n  never lit\npier 2\n  lit\n")}, words, "never")
	var paths []string
	for _, k := range d.Kinds() {
		paths = append(paths, k.Path())
	}
	if got := strings.Join(paths, "|"); got != "answer pings|pier {number}|pier {number} / lit" {
		t.Error(got)
	}
}

// TestHear: what a log of a typed session suggests.
func TestHear(t *testing.T) {
	root := tree(t, "lane a\n  note x\n  mtu 1500\nserver 10.0.0.1\n")
	d := From([]*grammar.Node{root}, words, "")
	h := d.Hear("Welcome aboard\r\nquay> configure\r\nquay# lane a\r\nquay# no note\r\nquay# mtu 1400\r\nquay# up\r\nquay# no server 10.0.0.1\r\nquay# up\r\n? what\r\nquay# leave\r\n",
		[]*regexp.Regexp{regexp.MustCompile(`^\w+[>#] $`)}, Flatten(root))
	if h.Remove != "no {identity}" || h.Leave != "up" || h.Typed != 8 {
		t.Errorf("%+v", h)
	}
}

// FuzzFrom: whatever stands in configurations, drafting does not fail.
func FuzzFrom(f *testing.F) {
	f.Add("lane a\n  note x\nlane b\n", "x\nx y\nx y z\n")
	f.Add("a {\n b c\n", "never never\nnever\n \n")
	f.Fuzz(func(t *testing.T, a, b string) {
		d := From([]*grammar.Node{tree(t, a), tree(t, b)}, words, "never")
		out := YAML(d.Rules(How{Remove: "no {identity}", Leave: "up"}))
		if !strings.HasPrefix(out, "rules:\n") {
			t.Error(out)
		}
		for _, e := range Flatten(tree(t, a)) {
			_ = d.kind(e)
		}
		d.Hear(b, []*regexp.Regexp{regexp.MustCompile(`^\w+> $`)}, Flatten(tree(t, a)))
	})
}

// TestDocuments: lists of documents are drafted, and nothing of them is sure.
func TestDocuments(t *testing.T) {
	xml, err := grammar.XML{}.Parse("<s><u><name>a</name><password>x</password></u><u><name>b</name></u><dns>1</dns><dns>2</dns></s>")
	if err != nil {
		t.Fatal(err)
	}
	json, err := grammar.JSON{}.Parse(`{"net": [{"hidden": true, "ssid": "a"}, {"hidden": true, "ssid": "b"}], "to": ["x", "y"], "one": {"key": "k"}}`)
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, r := range Documents([]*grammar.Node{xml, json}) {
		paths = append(paths, r.Path)
		if len(r.Unsure) == 0 {
			t.Errorf("%s is taken for sure", r.Path)
		}
	}
	if got := strings.Join(paths, "|"); got != "s / u {name}|s / u {name} / password <password>|s / dns {dns}|net {ssid}|to {to}|one / key <key>" {
		t.Error(got)
	}
}
