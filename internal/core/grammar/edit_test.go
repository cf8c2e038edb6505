package grammar

import (
	"strings"
	"testing"
)

func TestEditXML(t *testing.T) {
	const nc = `xmlns:a="urn:ietf:params:xml:ns:netconf:base:1.0" a:operation=`
	for _, c := range []struct {
		name, target, current, wrap, under string
		merge                              bool
		want                               string
	}{
		{"replaced and deleted", `<s xmlns="u"><x>1</x></s>`, `<s xmlns="u"><x>2</x></s><t xmlns="v"><y/></t>`, "", "", false,
			`<s xmlns="u" ` + nc + `"replace"><x>1</x></s><t xmlns="v" ` + nc + `"delete"/>`},
		{"laid over", `<s xmlns="u"><x>1</x></s>`, `<t xmlns="v"/>`, "", "", true, `<s xmlns="u"><x>1</x></s>`},
		{"a container whose first leaf differs is no other one", `<s xmlns="u"><c>a</c></s>`, `<s xmlns="u"><c>b</c></s>`, "", "", false, `<s xmlns="u" ` + nc + `"replace"><c>a</c></s>`},
		{"entries of a list at the top", `<e xmlns="u"><k>1</k></e><e xmlns="u"><k>2</k></e>`, `<e xmlns="u"><k>2</k></e><e xmlns="u"><k>3</k><v>x</v></e>`, "", "", false,
			`<e xmlns="u" ` + nc + `"replace"><k>1</k></e><e xmlns="u" ` + nc + `"replace"><k>2</k></e><e xmlns="u" ` + nc + `"delete"><k>3</k></e>`},
		{"deeper in a document", `<p xmlns="w"/>`, ``, `<l xmlns="v"><e><n>g</n><root/></e></l>`, "l / e g / root", false,
			`<l xmlns="v"><e><n>g</n><root><p xmlns="w" ` + nc + `"replace"/></root></e></l>`},
	} {
		got, err := XML{}.Edit(c.target, c.current, c.wrap, c.under, c.merge)
		flat := strings.NewReplacer("\n", "").Replace(got)
		for strings.Contains(flat, "> ") {
			flat = strings.ReplaceAll(flat, "> ", ">")
		}
		if err != nil || flat != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, flat, c.want)
		}
	}
	if _, err := (XML{}).Edit("<a>", "", "", "", false); err == nil || !strings.Contains(err.Error(), "the document to be sent") {
		t.Errorf("%v", err)
	}
}

// TestMergeXML: what a merge is said to make, and where nothing is said.
func TestMergeXML(t *testing.T) {
	keys := func(path []string) []string {
		if strings.Join(path, "/") == "s/u" {
			return []string{"n", "m"}
		}
		return nil
	}
	g := XML{Keys: keys, Known: func(path []string) bool { last := path[len(path)-1]; return last == "c" || last == "s" }}
	for _, c := range []struct{ name, running, by, want string }{
		{"a value is overwritten", `<s xmlns="u"><a>1</a><b>2</b></s>`, `<s xmlns="u"><a>3</a></s>`, `<s xmlns="u"><a>3</a><b>2</b></s>`},
		{"an entry by its keys, all of them", `<s><u><v>1</v><n>x</n><m>1</m></u></s>`, `<s><u><n>x</n><m>2</m><v>9</v></u><u><n>x</n><m>1</m><v>7</v></u></s>`,
			`<s><u><v>7</v><n>x</n><m>1</m></u><u><n>x</n><m>2</m><v>9</v></u></s>`},
		{"an entry of a list by its first leaf", `<s><e><k>1</k></e><e><k>2</k><v>a</v></e></s>`, `<s><e><k>2</k><v>b</v></e></s>`, `<s><e><k>1</k></e><e><k>2</k><v>b</v></e></s>`},
		{"entries of a leaf-list", `<s><l>1</l><l>2</l></s>`, `<s><l>2</l><l>3</l></s>`, `<s><l>1</l><l>2</l><l>3</l></s>`},
		{"a container that a rule knows", `<s><c><k>1</k></c></s>`, `<s><c><k>2</k></c></s>`, `<s><c><k>2</k></c></s>`},
		{"other namespaces are other elements", `<a xmlns="u">1</a>`, `<a xmlns="v">2</a>`, `<a xmlns="u">1</a><a xmlns="v">2</a>`},
	} {
		got, err := g.Merge(c.running, c.by)
		if want, _ := FormatXML([]byte(c.want), ""); err != nil || got != want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, err, got, want)
		}
	}
	_, err := g.Merge(`<s><d><k>1</k></d></s>`, `<s><d><k>2</k></d></s>`)
	if err == nil || !strings.Contains(err.Error(), `"s / d {k}"`) {
		t.Errorf("merged where nobody knows what comes of it: %v", err)
	}
}

// TestPrefixesKept: a prefix that only a value uses is part of what the value says.
func TestPrefixesKept(t *testing.T) {
	for name, c := range map[string]struct{ in, has string }{
		"in a path":               {`<w xmlns="w" xmlns:if="urn:if"><x>/if:interfaces/if:interface[if:name='e0']</x></w>`, `<x xmlns:if="urn:if">/if:`},
		"several":                 {`<w xmlns="w" xmlns:b="urn:b" xmlns:a="urn:a"><x>/a:one/b:two</x></w>`, `<x xmlns:a="urn:a" xmlns:b="urn:b">`},
		"declared at the top":     {`<t xmlns:p="urn:p"><m><n>p:kind</n></m></t>`, `<n xmlns:p="urn:p">p:kind</n>`},
		"in an attribute":         {`<f xmlns:p="urn:p" select="/p:a"/>`, `<f xmlns:p="urn:p" select="/p:a"/>`},
		"attributes of two":       {`<f xmlns:p="urn:p" xmlns:q="urn:q" p:x="1" q:y="2"/>`, `xmlns:a="urn:p" a:x="1" xmlns:a2="urn:q" a2:y="2"`},
		"and none that is unused": {`<f xmlns:p="urn:p"><g>1</g></f>`, "<f>\n  <g>1</g>"},
		"and none in an address":  {`<f xmlns:http="urn:p"><g>http://x</g></f>`, "<g>http://x</g>"},
	} {
		once, err := FormatXML([]byte(c.in), "")
		twice, again := FormatXML([]byte(once), "")
		if err != nil || again != nil || !strings.Contains(once, c.has) || once != twice {
			t.Errorf("%s: %v %v\n%s\n%s", name, err, again, once, twice)
		}
	}
	same := func(a, b string) bool {
		x, err := XML{}.Parse(a)
		y, err2 := XML{}.Parse(b)
		return err == nil && err2 == nil && x.Kids[0].Kids[0].Text == y.Kids[0].Kids[0].Text
	}
	if !same(`<w xmlns:a="u"><x>/a:b[a:c=1]</x></w>`, `<w xmlns:z="u"><x>/z:b[z:c=1]</x></w>`) {
		t.Error("another prefix for the same namespace is another value")
	}
	if same(`<w xmlns:a="u"><x>/a:b</x></w>`, `<w xmlns:a="v"><x>/a:b</x></w>`) {
		t.Error("the same prefix for another namespace is the same value")
	}
}

// FuzzMergeXML: what a merge is said to make is a document, holds what was laid over it,
// and stays the same when that is laid over it again.
func FuzzMergeXML(f *testing.F) {
	f.Add(`<s><a>1</a><u><n>x</n></u></s>`, `<s><a>2</a><u><n>y</n><v>1</v></u></s>`)
	f.Add(`<l>1</l><l>2</l>`, `<l>2</l><l>3</l>`)
	f.Add(`<a xmlns="u"/>`, `<a xmlns="v">x</a>`)
	g := XML{Known: func([]string) bool { return true }}
	f.Fuzz(func(t *testing.T, a, b string) {
		once, err := g.Merge(a, b)
		if err != nil {
			return
		}
		if _, err := (XML{}).Parse(once); err != nil {
			t.Fatalf("%v\n%s", err, once)
		}
		formatted, err := FormatXML([]byte(once), "")
		if err != nil || formatted != once {
			t.Fatalf("%v\n%s\n%s", err, formatted, once)
		}
	})
}

// TestEditKeys: what only the device has is deleted by its keys, all of them.
func TestEditKeys(t *testing.T) {
	g := XML{Keys: func(path []string) []string {
		if path[0] == "e" {
			return []string{"k", "m"}
		}
		return nil
	}}
	got, err := g.Edit(`<e><v>0</v><k>1</k><m>1</m></e>`, `<e><k>1</k><m>1</m></e><e><v>9</v><k>1</k><m>2</m></e><l>1</l><l>2</l>`, "", "", false)
	for _, want := range []string{`a:operation="replace">`, "operation=\"delete\">\n  <k>1</k>\n  <m>2</m>\n</e>", `operation="delete">1</l>`, `operation="delete">2</l>`} {
		if err != nil || !strings.Contains(got, want) {
			t.Errorf("%v: %s is missing in\n%s", err, want, got)
		}
	}
}
