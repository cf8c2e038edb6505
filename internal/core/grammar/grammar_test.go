package grammar

import (
	"fmt"
	"magpie/internal/core/text"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

var tern = &Blocks{Indent: 2, Comments: []string{".."}, Delimited: []Delimited{{Opens: regexp.MustCompile(`^placard \(\($`), Closes: regexp.MustCompile(`^\)\)$`), Must: "placard (("}}}

func TestParseAndPrint(t *testing.T) {
	src := "name r1\nplacard ((\n  not a block\n.. not a comment\nlane x\n))\nlane q\n  note \"a  b\"\n  deeper\n    still\n  shut\ncourse x\n"
	root, err := tern.Parse(".. head\n\n" + src + ".. foot\n")
	if err != nil {
		t.Fatal(err)
	}
	if got := tern.Print(root); got != src {
		t.Errorf("printed\n%s\nnot\n%s", got, src)
	}
	q := root.Kids[2]
	if q.Text != "lane q" || q.Line != 9 || len(q.Kids) != 3 || q.Kids[1].Kids[0].Text != "still" {
		t.Errorf("lane q is %+v", q)
	}
	in := Enclosing(root, 15)
	if in[12] != "lane q / deeper" || in[9] != "" || in[5] != "placard ((" {
		t.Errorf("enclosing: %q", in)
	}
}

// TestUnread: what cannot be read costs only that stretch, which is kept as it is and says
// why; what stands around it is read.
func TestUnread(t *testing.T) {
	braces := &Blocks{Comments: []string{"//"}, Marks: &Marks{Opens: regexp.MustCompile(`^(.+) \{$`), Closes: regexp.MustCompile(`^\}$`), Open: "{head} {", Close: "}", End: ";"}}
	for _, c := range []struct {
		g    *Blocks
		src  string
		want string // the tree, unread lines behind a question mark
		says string
	}{
		{tern, "a\n    b\n  c\n     d\ne\n  f\n", "a(b ?c ?d) e(f)", "3: indented by 2"},
		{tern, "a\nplacard ((\ntext\nmore\n", "a ?placard ((", "2: \"placard ((\" is never closed"},
		{braces, "}\na {\n b;\n}\n", "?} a(b)", "1: \"}\" closes a block"},
		{braces, "a {\n b\n c;\n}\n", "a(?b c)", "2: neither opens a block nor ends"},
		{braces, "a {\n c;\n", "?a(c)", "1: the block \"a\" is never closed"},
		// These are read.
		{braces, "a\n{\n b;\n}\nc;\n", "a(b) c", ""},
		{braces, "if x {\n b;\n} else {\n c;\n}\n", "if x(b) else(c)", ""},
		{braces, "a { // why\n b; // because\n} // done\nc \"http://x\";\n", "a(b) c \"http://x\"", ""},
	} {
		root, err := c.g.Parse(c.src)
		if err != nil {
			t.Fatal(err)
		}
		var tell func(n *Node) string
		tell = func(n *Node) string {
			var out []string
			for _, k := range n.Kids {
				s := k.Text
				if k.Unread != "" {
					s = "?" + s
				}
				if in := tell(k); in != "" {
					s += "(" + in + ")"
				}
				out = append(out, s)
			}
			return strings.Join(out, " ")
		}
		said := ""
		if u := Unread(root); len(u) > 0 {
			said = fmt.Sprintf("%d: %s", u[0].Line, u[0].Unread)
		}
		if got := tell(root); got != c.want || !strings.HasPrefix(said, c.says) || (c.says == "") != (said == "") {
			t.Errorf("%q is read as %q, and said of it is %q", c.src, got, said)
		}
	}
}

func TestWords(t *testing.T) {
	line := `  note "two  words" x"y z`
	var got []string
	for _, w := range Words(line, Quotes{}) {
		if line[w.Start:w.End] != w.Text {
			t.Errorf("%q is not at %d", w.Text, w.Start)
		}
		got = append(got, w.Text)
	}
	if strings.Join(got, "|") != `note|"two  words"|x"y|z` {
		t.Errorf("words: %q", got)
	}
}

// FuzzParse: whatever parses prints to something that parses to the same.
func FuzzParse(f *testing.F) {
	f.Add("name r1\nplacard ((\n x\n))\nlane q\n  note \"a\"\n")
	f.Add("a\n\tb\n\t c\n  d")
	f.Fuzz(func(t *testing.T, src string) {
		root, err := tern.Parse(src)
		if err != nil {
			return
		}
		// No line is lost, whether it can be read or not.
		kept := map[int]bool{}
		var walk func(n *Node)
		walk = func(n *Node) {
			for _, k := range n.Kids {
				for i := range len(k.Body) + 1 {
					kept[k.Line+i] = true
				}
				walk(k)
			}
		}
		walk(root)
		for i, l := range text.Lines(src) {
			if bare := strings.TrimSpace(l); bare != "" && !tern.IsComment(strings.TrimLeft(l, " \t")) && !kept[i+1] {
				t.Fatalf("line %d of %q is in no node", i+1, src)
			}
		}
		if len(Unread(root)) > 0 {
			return // printed, it may be read
		}
		once := tern.Print(root)
		again, err := tern.Parse(once)
		if err != nil {
			t.Fatalf("%q printed as %q, which does not parse: %v", src, once, err)
		}
		if twice := tern.Print(again); twice != once {
			t.Fatalf("%q printed as %q and then as %q", src, once, twice)
		}
	})
}

// TestFoldsAndComments: which lines are blocks and which are comments, in every form that
// blocks are told by.
func TestFoldsAndComments(t *testing.T) {
	braces := &Blocks{Marks: &Marks{Opens: regexp.MustCompile(`^(.*\S)\s*\{$`), Closes: regexp.MustCompile(`^\}$`), Open: "{head} {", Close: "}", End: ";"}, Comments: []string{"#"}}
	indent := &Blocks{Indent: 2, Comments: []string{".."}, Delimited: []Delimited{{Opens: regexp.MustCompile(`^placard \(\($`), Closes: regexp.MustCompile(`^\)\)$`), Must: "placard (("}}}
	for _, c := range []struct {
		g               *Blocks
		src             string
		folds, comments string
	}{
		{indent, ".. read\nlane a\n  note x\n  inner\n    deep\nlane b\n", "[[2 5] [4 5]]", "[1]"},
		{indent, "placard ((\n.. no comment\n))\n.. one\n", "[[1 3]]", "[4]"},
		{indent, "plain\n", "[]", "[]"},
		{braces, "# head\nouter {\n  inner {\n    # within\n    a b;\n  }\n}\nlast x;\n", "[[2 7] [3 6]]", "[1 4]"},
		{&Blocks{Flat: true, Comments: []string{"#"}}, "a b\n# c\n", "[]", "[2]"},
	} {
		root, err := c.g.Parse(c.src)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(Folds(root)); got != c.folds {
			t.Errorf("%q folds as %s, not %s", c.src, got, c.folds)
		}
		if got := fmt.Sprint(c.g.CommentLines(c.src, root)); got != c.comments {
			t.Errorf("%q has the comments %s, not %s", c.src, got, c.comments)
		}
	}
}

// TestFoldsNest: of any text, blocks stand within the text and either inside each other
// or apart.
func TestFoldsNest(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 7))
	g := &Blocks{Indent: 1, Comments: []string{"!"}}
	for range 500 {
		var src strings.Builder
		n := 1 + rnd.IntN(30)
		for i := range n {
			fmt.Fprintf(&src, "%sline %d\n", strings.Repeat(" ", rnd.IntN(5)), i)
		}
		root, _ := g.Parse(src.String())
		folds := Folds(root)
		for i, a := range folds {
			if a[0] < 1 || a[1] > n || a[1] <= a[0] {
				t.Fatalf("%v of %d lines:\n%s", a, n, src.String())
			}
			for _, b := range folds[i+1:] {
				if b[0] <= a[0] || b[0] <= a[1] && b[1] > a[1] {
					t.Fatalf("%v and %v cross:\n%s", a, b, src.String())
				}
			}
		}
	}
}
