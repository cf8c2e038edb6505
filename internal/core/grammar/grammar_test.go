package grammar

import (
	"regexp"
	"strings"
	"testing"
)

var tern = &Blocks{Indent: 2, Comments: []string{".."}, Delimited: []Delimited{{regexp.MustCompile(`^placard \(\($`), regexp.MustCompile(`^\)\)$`)}}}

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

func TestParseErrors(t *testing.T) {
	for _, c := range []struct {
		src  string
		line int
		says string
	}{
		{"a\n    b\n  c\n", 3, "between its neighbours' depths"},
		{"a\nplacard ((\ntext\n", 2, "never closed"},
	} {
		_, err := tern.Parse(c.src)
		e, ok := err.(*Error)
		if !ok || e.Line != c.line || !strings.Contains(e.Msg, c.says) {
			t.Errorf("%q: %v", c.src, err)
		}
	}
}

func TestWords(t *testing.T) {
	line := `  note "two  words" x"y z`
	var got []string
	for _, w := range Words(line, "") {
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
