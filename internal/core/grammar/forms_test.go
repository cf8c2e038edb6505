package grammar

import (
	"regexp"
	"strings"
	"testing"
)

// show writes a tree one node a line, so that cases can be read.
func show(n *Node) string {
	var b strings.Builder
	var walk func(depth int, n *Node)
	walk = func(depth int, n *Node) {
		for _, k := range n.Kids {
			b.WriteString(strings.Repeat(" ", depth) + k.Text + "\n")
			walk(depth+1, k)
		}
	}
	walk(0, n)
	return b.String()
}

var braces = &Blocks{Indent: 4, Comments: []string{"#"}, Marks: &Marks{Opens: regexp.MustCompile(`^(.*) \{$`), Closes: regexp.MustCompile(`^\}$`), Open: "{head} {", Close: "}", End: ";"}}
var closing = &Blocks{Indent: 1, Comments: []string{"#"}, Marks: &Marks{Opens: regexp.MustCompile(`^(?:pen|gate) \S+$`), Closes: regexp.MustCompile(`^done$`), Open: "{head}", Close: "done"}}

func TestForms(t *testing.T) {
	for _, c := range []struct {
		name string
		g    Grammar
		src  string
		tree string
		err  string
	}{
		{"braces", braces, "# c\na b {\n  c 1;\n  d {\n    e;\n  }\n}\nf;\n", "a b\n c 1\n d\n  e\nf\n", ""},
		{"an empty block in braces", braces, "a {\n}\n", "a\n", ""},
		{"a closing word", closing, "pen a\n gate b\n  x\n done\n y\ndone\nz\n", "pen a\n gate b\n  x\n y\nz\n", ""},
		{"flat", &Blocks{Flat: true, Comments: []string{"#"}}, "a : b\n  c : d\n\n# e\n", "a : b\nc : d\n", ""},
		{"a list told by its first leaf", XML{}, "<a><b><n>1</n><v>x</v></b><b><n>2</n></b></a>", "a\n b 1\n  v x\n b 2\n", ""},
		{"a list told by its keys", XML{Keys: func([]string) []string { return []string{"k", "n"} }}, "<a><b><n>1</n><k>2</k><v>x y</v></b></a>", "a\n b 2 1\n  v \"x y\"\n", ""},
		{"prefixes do not matter", XML{}, `<p:a xmlns:p="urn:x"><p:t xmlns:q="urn:y">q:z</p:t></p:a>`, "a\n t z{urn:y}\n", ""},
		{"attributes are words", XML{}, `<a x="1" xmlns:p="u:p" p:y="s &quot;t"><v z="">2</v></a>`, "a @x 1 @y{u:p} \"s \\u0022t\"\n v 2 @z \"\"\n", ""},
		{"an attribute's key is no key", XML{}, `<a><e><n o="1">x</n><v>1</v></e><e><n>y</n></e></a>`, "a\n e\n  n x @o 1\n  v 1\n e y\n", ""},
		{"blanks of a value", XML{}, `<a><v> x </v><w>  </w><u></u></a>`, "a\n v \" x \"\n w \"  \"\n u\n", ""},
		{"not well-formed", XML{}, "<a>\n<b></a>", "", "line 2: not well-formed XML"},
		{"cut off", XML{}, "<a>\n<b>", "", "line 2: "},
		{"objects and lists", JSON{}, `{"a":{"b":1,"c":"1","d":[1,"x"],"e":[]},"l":[{"name":"n 1","v":true},{"name":"n2"}]}`,
			"a\n b 1\n c \"1\"\n d 1\n d x\n e []\nl \"n 1\"\n v true\nl n2\n", ""},
		{"a list told by place", JSON{}, `{"l":[{"v":1},{"v":1}]}`, "l [0]\n v 1\nl [1]\n v 1\n", ""},
		{"cut off JSON", JSON{}, "{\"a\":\n[1,", "", "line 2: not well-formed JSON"},
		{"more than one JSON", JSON{}, "{}\n{}", "", "line 2: "},
		{"an array at the top", JSON{}, `[{"name":"a","v":1},{"name":"b"}]`, "entry a\n v 1\nentry b\n", ""},
		{"a name twice", JSON{}, `{"l":[{"name":"a","v":1,"v":2,"name":"b"}]}`, "l a\n v 1\n v 2\n name b\n", ""},
		{"a bare value", JSON{}, "1", "", "neither an object nor an array"},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, err := c.g.Parse(c.src)
			if c.err != "" {
				if err == nil || !strings.Contains(err.Error(), c.err) {
					t.Fatalf("%v, want %s", err, c.err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if got := show(n); got != c.tree {
				t.Errorf("got\n%s\nwant\n%s", got, c.tree)
			}
			if b, ok := c.g.(*Blocks); ok {
				again, err := b.Parse(b.Print(n))
				if err != nil || show(again) != c.tree {
					t.Errorf("printed and read again: %v\n%s", err, b.Print(n))
				}
			}
		})
	}
}

// TestSpans: where a value is said to stand, it stands.
func TestSpans(t *testing.T) {
	for _, c := range []struct {
		g    Grammar
		src  string
		want string
	}{
		{XML{}, "<a>\n  <k>s&amp;1</k>\n  <l><n>s2</n><x/></l>\n  <l><n>s3</n><y/></l>\n</a>\n", "s&amp;1 s2 s3"},
		{JSON{}, "{\n  \"k\": \"s\\\"1\",\n  \"n\": 42,\n  \"l\": [{\"name\": \"s\\\\\", \"v\": null}]\n}\n", `s\"1 42 s\\ null`},
	} {
		n, err := c.g.Parse(c.src)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(c.src, "\n")
		var got []string
		var walk func(n *Node)
		walk = func(n *Node) {
			for _, s := range n.Spans {
				if s.Line > 0 {
					got = append(got, lines[s.Line-1][s.Start:s.End])
				}
			}
			for _, k := range n.Kids {
				walk(k)
			}
		}
		walk(n)
		if strings.Join(got, " ") != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

func TestUnder(t *testing.T) {
	x := `<d xmlns="u:d"><l><e><n>a b</n><r><p xmlns="u:p"><v>1</v></p><q>2</q></r></e><e><n>c</n></e></l></d>`
	got, err := FormatXML([]byte(x), `d / l / e "a b" / r`)
	if want := "<p xmlns=\"u:p\">\n  <v>1</v>\n</p>\n<q xmlns=\"u:d\">2</q>\n"; err != nil || got != want {
		t.Errorf("%v\n%s", err, got)
	}
	got, err = FormatXML([]byte(x), "", `d / l / e "a b"`)
	if want := "<d xmlns=\"u:d\">\n  <l>\n    <e>\n      <n>c</n>\n    </e>\n  </l>\n</d>\n"; err != nil || got != want {
		t.Errorf("%v\n%s", err, got)
	}
	if _, err = FormatXML([]byte(x), "d / z"); err == nil || !strings.Contains(err.Error(), `no "z"`) {
		t.Errorf("%v", err)
	}
	j := `{"d":{"l":[{"name":"a b","r":{"p":1.50}},{"name":"c"}],"x":"\u00e9"}}`
	got, err = FormatJSON([]byte(j), `d / l "a b" / r`)
	if err != nil || got != "{\n  \"p\": 1.50\n}\n" {
		t.Errorf("%v\n%s", err, got)
	}
	got, err = FormatJSON([]byte(j), "d", `l "a b"`, "x")
	if err != nil || got != "{\n  \"l\": [\n    {\n      \"name\": \"c\"\n    }\n  ]\n}\n" {
		t.Errorf("%v\n%s", err, got)
	}
}

func FuzzXML(f *testing.F) {
	f.Add([]byte(`<a xmlns="u"><b a="1">t&#10;x</b><!-- c --><?p i?><c/></a>`))
	f.Add([]byte("<a>\n<b><k>1</k></b><b><k>2</k></b></a>"))
	f.Fuzz(func(t *testing.T, src []byte) {
		out, err := FormatXML(src, "")
		if err != nil {
			return
		}
		again, err := FormatXML([]byte(out), "")
		if err != nil || again != out {
			t.Fatalf("formatted again: %v\n%q\n%q", err, out, again)
		}
		if _, err := (XML{}).Parse(out); err != nil {
			t.Fatalf("%q: %v", out, err)
		}
	})
}

func FuzzJSON(f *testing.F) {
	f.Add([]byte(`{"a":[{"name":"x","v":1e3},{"name":"y"}],"b":{"c":"\"\\"}}`))
	f.Fuzz(func(t *testing.T, src []byte) {
		out, err := FormatJSON(src, "")
		if err != nil {
			return
		}
		if again, err := FormatJSON([]byte(out), ""); err != nil || again != out {
			t.Fatalf("formatted again: %v\n%q\n%q", err, out, again)
		}
		if n, err := (JSON{}).Parse(out); err == nil {
			var walk func(n *Node)
			lines := strings.Split(out, "\n")
			walk = func(n *Node) {
				for _, s := range n.Spans {
					if s.Line > 0 {
						_ = lines[s.Line-1][s.Start:s.End]
					}
				}
				for _, k := range n.Kids {
					walk(k)
				}
			}
			walk(n)
		}
	})
}

// TestTrailing: a comment behind a line is no part of it, and one within quotes or
// without a blank before it is no comment.
func TestTrailing(t *testing.T) {
	for _, g := range []*Blocks{
		{Indent: 2, Comments: []string{"#"}, Trailing: true},
		{Indent: 2, Comments: []string{"#"}, Trailing: true, Marks: &Marks{Opens: regexp.MustCompile(`^(.*\S)\s*\{$`), Closes: regexp.MustCompile(`^\}$`), Open: "{head} {", Close: "}"}},
	} {
		src := "link a # the old one\n  note \"berth # 3\"   # as painted\n  tint #fff\n  way a#b\n"
		if g.Marks != nil {
			src = strings.Replace(src, "link a #", "link a { #", 1) + "} # done\n"
		}
		root, err := g.Parse(src)
		if err != nil || len(root.Kids) != 1 || len(root.Kids[0].Kids) != 3 {
			t.Fatalf("%v %+v", err, root)
		}
		for i, want := range []string{`note "berth # 3"`, "tint", "way a#b"} {
			if got := root.Kids[0].Kids[i].Text; got != want {
				t.Errorf("%q is read as %q", want, got)
			}
		}
		if root.Kids[0].Text != "link a" {
			t.Errorf("%q", root.Kids[0].Text)
		}
	}
}
