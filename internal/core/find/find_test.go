package find

import (
	"errors"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
)

func words(t testing.TB, text string, re bool) *Pattern {
	t.Helper()
	p, err := Words(text)
	if re {
		p, err = Regexp(text)
	}
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return p
}

// nested makes a text of lines whose blocks are told by two blanks.
func nested(src string) (t Text) {
	t.Lines = strings.Split(src, "\n")
	var open []int32
	for i, l := range t.Lines {
		depth := (len(l) - len(strings.TrimLeft(l, " "))) / 2
		open = open[:min(depth, len(open))]
		t.Up = append(t.Up, -1)
		if len(open) > 0 {
			t.Up[i] = open[len(open)-1]
		}
		open = append(open, int32(i))
	}
	return t
}

func said(hits []Hit, more bool, err error) string {
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, h := range hits {
		out = append(out, fmt.Sprintf("%s:%d %s %v", h.Key, h.Line, h.Text, h.Path))
	}
	if more {
		out = append(out, "more")
	}
	return strings.Join(out, "; ")
}

func TestBlocks(t *testing.T) {
	x := New()
	x.Put("a", nested("lane q1\n  note east\n  sieve in gate\nlane q2\n  note west\n  deep\n    sieve out\ncourse lane"))
	x.Put("b", nested("lane q1\n  note east"))
	secret := nested("crew bo\n  word hush")
	secret.Masked = []string{"crew bo", "  word ‹secret›"}
	x.Put("c", secret)
	unshown := nested("crew al\n  word hush")
	unshown.Masked = []string{"", ""}
	x.Put("d", unshown)
	x.Put("e", Text{Lines: []string{"port 7 : label is x", "gate up", "port 7 : power off", "port 8 : power on"}, Up: []int32{-1, -1, -1, -1},
		Heads: []Head{{"port 7", []int32{0, 2}}, {"port 8", []int32{3}}}})
	lane := words(t, `^\s*lane(\W|$)`, true)
	for _, c := range []struct {
		what string
		q    Query
		says string
	}{
		{"a line", Query{Line: words(t, "note", false)}, "a:1   note east [lane q1]; a:4   note west [lane q2]; b:1   note east [lane q1]"},
		{"an expression", Query{Line: words(t, `note (we|no)st`, true)}, "a:4   note west [lane q2]"},
		{"in blocks", Query{Line: words(t, "sieve", false), In: lane}, "a:2   sieve in gate [lane q1]; a:6     sieve out [lane q2 deep]"},
		{"blocks that lack it", Query{In: lane, Lacks: words(t, "sieve", false)}, "b:0 lane q1 []"},
		{"blocks that lack a line with a word", Query{In: lane, Lacks: words(t, "gate", false)}, "a:3 lane q2 []; b:0 lane q1 []"},
		{"blocks", Query{In: lane}, "a:0 lane q1 []; a:3 lane q2 []; b:0 lane q1 []"},
		{"a secret by who may see it", Query{Line: words(t, "hush", false)}, "c:1   word hush [crew bo]; d:1   word hush [crew al]"},
		{"a secret by who may not", Query{Line: words(t, "hush", false), Masked: true}, ""},
		{"beside a secret", Query{Line: words(t, "word", false), Masked: true}, "c:1   word ‹secret› [crew bo]"},
		{"what lines are about", Query{Line: words(t, "power", false)}, "e:2 port 7 : power off [port 7]; e:3 port 8 : power on [port 8]"},
		{"in what lines are about", Query{Line: words(t, "power", false), In: words(t, `^\s*port 7(\W|$)`, true)}, "e:2 port 7 : power off [port 7]"},
		{"what lacks a line", Query{In: words(t, `^port(\W|$)`, true), Lacks: words(t, "label", false)}, "e:3 port 8 []"},
	} {
		if got := said(x.Find(c.q, "", -1, 100, nil, nil)); got != c.says {
			t.Errorf("%s: %s\nexpected: %s", c.what, got, c.says)
		}
	}
	if got := said(x.Find(Query{Line: words(t, "note", false)}, "", -1, 2, nil, nil)); got != "a:1   note east [lane q1]; a:4   note west [lane q2]; more" {
		t.Error(got)
	}
	if got := said(x.Find(Query{Line: words(t, "note", false)}, "a", 1, 2, func(k string) bool { return k != "b" }, nil)); got != "a:4   note west [lane q2]" {
		t.Error(got)
	}
	x.Drop("a")
	x.Put("b", nested("lane q9"))
	if got := said(x.Find(Query{In: lane}, "", -1, 9, nil, nil)); got != "b:0 lane q9 []" || x.Len() != 4 {
		t.Error(got, x.Len())
	}
}

func TestPatterns(t *testing.T) {
	for expr, must := range map[string]string{`berth 10\.1`: "berth 10.1", `(?i)berth`: "5 in a row", `(?i)kiss`: "", `\d\d`: "", `a+bcd`: "abcd", `(abc|abd)`: "3 in a row", `x?yz`: "yz", `^lane q\d+$`: "7 in a row",
		`(foo){2}`: "foofoo", `(foo)*barr`: "barr", `[ab]cde`: "4 in a row", `[xyz]\d{5}$`: "6 in a row", `(foo)+bar`: "foo", `quay|berth`: "", `x.yz`: "yz", `é\bü`: "éü", `[éü]ab`: "ab", `a\x{FFFD}`: "a", `\d{100}`: "64 in a row"} {
		p := words(t, expr, true)
		got := p.must
		if p.run != nil {
			got = fmt.Sprintf("%d in a row", bits.Len64(p.run.last))
		}
		if got != must {
			t.Errorf("%s has to have %q, not %q", expr, must, got)
		}
	}
	for _, bad := range []string{"", "  ", "a\nb", strings.Repeat("x", 1001)} {
		if _, err := Words(bad); err == nil {
			t.Errorf("%.10q is looked for", bad)
		}
	}
	for _, bad := range []string{"(", "a{2000}", ".*", "^$"} {
		if _, err := Regexp(bad); err == nil {
			t.Errorf("%q is looked for", bad)
		}
	}
}

// TestMayBeIn: a text in whose masked lines something is found is never passed over.
func TestMayBeIn(t *testing.T) {
	for _, expr := range []string{"hush", "word ‹secret›", `[ab]‹sec`, `d ‹s`, `t› end`, `(?i)WORD`, `word \S+`, `[d-f]cret`, `\d\d\d\d`} {
		re := regexp.MustCompile(expr)
		for src, masked := range map[string]string{"  word hush end": "  word ‹secret› end", "a=b1234": "a=b‹secret›", "plain 1234": "plain 1234"} {
			for shown, line := range map[bool]string{false: src, true: masked} {
				if q := (Query{Line: words(t, expr, true), Masked: shown}); re.MatchString(line) && !q.MayBeIn(line) {
					t.Errorf("%s, masked %v: %q is passed over", expr, shown, line)
				}
			}
		}
	}
}

// TestAsIfOneByOne: an index finds what going through each line finds, page by page, after any texts
// came, were replaced and went.
func TestAsIfOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 17))
	vocabulary := []string{"lane", "note", "berth", "east", "west", "10.1.2.3", "sieve", "port", "x1", "x22"}
	x, texts := New(), map[string]Text{}
	defer func(was int) { patience = was }(patience)
	for round := range 300 {
		patience = r.IntN(40) // so that some are tried one by one, some all at once, some half and half
		key := fmt.Sprintf("d%02d", r.IntN(40))
		if r.IntN(5) == 0 {
			x.Drop(key)
			delete(texts, key)
		} else {
			var lines []string
			for range r.IntN(30) {
				l := strings.Repeat("  ", r.IntN(3))
				for range 1 + r.IntN(3) {
					l += vocabulary[r.IntN(len(vocabulary))] + " "
				}
				lines = append(lines, strings.TrimRight(l, " "))
			}
			texts[key] = nested(strings.Join(lines, "\n"))
			x.Put(key, texts[key])
		}
		if round%50 == 49 {
			x.pack()
		}
		for _, expr := range []string{"east", "note west", `^ *lane`, `x\d`, `x\d\d`, `(?i)EAST`, `10\.1`} {
			re := regexp.MustCompile(expr)
			var want, got []string
			for k, txt := range texts {
				for i, l := range txt.Lines {
					if re.MatchString(l) {
						want = append(want, fmt.Sprintf("%s:%04d %s", k, i, l))
					}
				}
			}
			slices.Sort(want)
			p := words(t, expr, true)
			after, line := "", -1
			for more := true; more; {
				var hits []Hit
				hits, more, _ = x.Find(Query{Line: p}, after, line, 1+r.IntN(20), nil, nil)
				for _, h := range hits {
					got = append(got, fmt.Sprintf("%s:%04d %s", h.Key, h.Line, h.Text))
					after, line = h.Key, h.Line
				}
			}
			if !slices.Equal(got, want) {
				t.Fatalf("%s: %v\nexpected: %v", expr, got, want)
			}
		}
	}
	if x.Len() != len(texts) {
		t.Errorf("%d texts of %d", x.Len(), len(texts))
	}
}

// FuzzRegexp: whatever is asked for, what is found has it, and nothing is left out for what a line must
// have.
func FuzzRegexp(f *testing.F) {
	for _, s := range []string{"lane", "(?i)k[st]", `x\s+y`, `[^a]b`, `a+b`, `(a|bc)+d`, `\x{FFFD}z`, `^ *lane (\S+)$`, `(a|b)+c`, `(?i)x`, `\bport\b`, `a{2,3}b`} {
		f.Add(s, "lane q1\n  port aab x")
	}
	f.Fuzz(func(t *testing.T, expr, src string) {
		p, err := Regexp(expr)
		if err != nil || strings.ContainsAny(src, "\r") {
			return
		}
		x := New()
		x.Put("k", nested(src))
		n := 0
		for _, l := range strings.Split(src, "\n") {
			if p.re.MatchString(l) {
				n++
			}
		}
		if hits, _, _ := x.Find(Query{Line: p}, "", -1, 1<<20, nil, nil); len(hits) != n {
			t.Errorf("%q finds %d of %d lines", expr, len(hits), n)
		}
	})
}

// TestSecretsLieApart: what is asked as those see it who may not see secrets is answered from lines without
// one alone: that a guess is right is in no work that is done.
func TestSecretsLieApart(t *testing.T) {
	x := New()
	for i := range 50 {
		x.Put(fmt.Sprintf("r%02d", i), Text{Lines: []string{fmt.Sprintf("word hush%d", i), "lane q1"}, Up: []int32{-1, -1}, Masked: []string{"word ‹secret›", "lane q1"}})
	}
	if strings.Contains(string(x.blob), "hush") || !strings.Contains(string(x.secret.blob), "hush7\n") {
		t.Error("secret lines lie among the others")
	}
	for _, q := range []string{"hush7", "word hush4", "hush"} {
		if got := said(x.Find(Query{Line: words(t, q, false), Masked: true}, "", -1, 9, nil, nil)); got != "" {
			t.Errorf("%s: masked, %s is found", q, got)
		}
		if hits, _, _ := x.Find(Query{Line: words(t, q, false)}, "", -1, 99, nil, nil); len(hits) == 0 {
			t.Errorf("%s: not found by who may see it", q)
		}
	}
	x.Put("r07", Text{Lines: []string{"x"}, Up: []int32{-1}})
	x.pack()
	if hits, _, _ := x.Find(Query{Line: words(t, "hush", false)}, "", -1, 99, nil, nil); len(hits) != 49 {
		t.Errorf("%d are found after packing", len(hits))
	}
}

// TestBoundedWork: an expression that costs much is refused or stopped.
func TestBoundedWork(t *testing.T) {
	if _, err := Regexp(strings.Repeat("(a?b?c?d?){20}", 40)); err == nil || !strings.Contains(err.Error(), "repeat less") {
		t.Errorf("an expression of many steps: %v", err)
	}
	x := New()
	x.Put("a", Text{Lines: make([]string, 3000), Up: make([]int32, 3000)})
	if _, _, err := x.Find(Query{Line: words(t, "a*b*", true)}, "", -1, 9, nil, func() bool { return true }); !errors.Is(err, ErrStopped) {
		t.Errorf("a search that was to stop: %v", err)
	}
}
