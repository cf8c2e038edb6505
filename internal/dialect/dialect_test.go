package dialect

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"magpie/dialects"
	"magpie/internal/core/rules"
	"magpie/internal/sim/tern"
)

func source(t testing.TB) string {
	t.Helper()
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return string(src)
}

func shipped(t testing.TB) *Dialect {
	t.Helper()
	d, err := Load("tern.yaml", []byte(source(t)))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestEveryShippedDialectLoads holds the files that ship to their own schema.
func TestEveryShippedDialectLoads(t *testing.T) {
	entries, err := dialects.Files.ReadDir(".")
	if err != nil || len(entries) == 0 {
		t.Fatal(err)
	}
	for _, e := range entries {
		src, _ := dialects.Files.ReadFile(e.Name())
		if _, err := Load(e.Name(), src); err != nil {
			t.Error(err)
		}
	}
}

// TestSlips changes one thing in a sound file and wants it named, with its line
// and column.
func TestSlips(t *testing.T) {
	for _, c := range []struct {
		name, old, new, says string
		elsewhere            bool
	}{
		{"a key misspelt", "kind: router", "kindd: router", `kindd: no key is named "kindd" here; did you mean kind?`, true},
		{"a key missing", "title: Tern router, release 4\n", "", "lacks title", true},
		{"an unknown transport", "transport: ssh", "transport: pigeon", "reach.transport: ", false},
		{"a pattern that is none", `first: ['^\.\. startup of \S+, stowed ']`, `first: ['^(']`, "parts.startup.complete.first[0]: ", false},
		{"a pattern without its group", `serial: '^serial +(\S+)$'`, `serial: '^serial'`, "identity.serial: needs a group", false},
		{"a mode that is not there", "initial_mode: deck", "initial_mode: dock", `converse.initial_mode: no mode is named "dock"`, false},
		{"modes in a circle", "from: deck", "from: chart", "does not lead back", true},
		{"a prompt anybody could show", "prompt: '{host} ~ '", "prompt: '.* ~ '", "does not say where {host} stands", false},
		{"a span that is none", "connect: 10s", "connect: 10 seconds", "reach.timeouts.connect: ", false},
		{"a path given twice", "{path: 'lookout / post {address}'}", "{path: 'lane {name} / shut'}", "the same path stands in rules[", true},
		{"a secret that is not in the path", "secret: [word]}\n  - {path: 'lookout / post", "secret: [wort]}\n  - {path: 'lookout / post", "the path has no <wort>", false},
		{"a name space nobody defines", "uses: {roster:", "uses: {rooster:", `no rule defines "rooster"`, false},
		{"something after all that is left", "'sieve {name} / {entry...}'", "'sieve {name} / {entry...} more'", "nothing can follow", false},
		{"staging without the way there", "methods: [replace, merge]", "methods: [replace, merge, stage]", "change.methods[2]: needs change.stage", false},
		{"a restart that says nothing of its end", "  save: {mode", "  stage: {load: [], restart: []}\n  save: {mode", "lacks back", true},
		{"a fit that compares nothing", "rules:\n", "fit:\n  - {mismatch: refuse}\n\nrules:\n", "fit[0]", true},
		{"a fit that is neither refused nor warned of", "rules:\n", "fit:\n  - {compare: model, mismatch: shrug}\n\nrules:\n", "fit[0].mismatch: ", true},
		{"a fit without its group", "rules:\n", "fit:\n  - {compare: release, pattern: '^4', mismatch: warn}\n\nrules:\n", "fit[0].pattern: needs a group", true},
		{"a state without its group", "each: '^lane (\\S+) +up( |$)'", "each: '^lane'", "states.lanes.each: needs a group", false},
		{"what is needed first, in no path", "least: ['name <host>'", "least: ['name {host...} more'", "change.least[0]: ", false},
		{"a settling time that is none", "  save: {mode", "  settle: a while\n  save: {mode", "change.settle: ", true},
		{"no YAML", "reach:", "reach: [", "tern.yaml:", true},
	} {
		src := source(t)
		if !strings.Contains(src, c.old) {
			t.Fatalf("%s: the file has no %q", c.name, c.old)
		}
		broken := strings.Replace(src, c.old, c.new, 1)
		_, err := Load("tern.yaml", []byte(broken))
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		// The line named is the changed one, unless what is wrong only shows elsewhere.
		want := strings.Count(src[:strings.Index(src, c.old)], "\n") + 1
		if p := err.(Problems)[0]; !c.elsewhere && p.Line != want {
			t.Errorf("%s: named at line %d, it is at %d: %v", c.name, p.Line, want, err)
		}
	}
}

// TestMaskingHidesEverySecret makes random configurations and looks for their
// secrets in what a reader would be shown.
func TestMaskingHidesEverySecret(t *testing.T) {
	d := shipped(t)
	m := rules.Masker{Table: d.Table, Tag: func(s string) string { return "t" + s[:2] }}
	r := rand.New(rand.NewPCG(4, 2))
	for range 300 {
		src := tern.Generate(r).Text()
		root, _, err := d.Doc("running").Parse(src)
		if err != nil {
			t.Fatal(err)
		}
		shown := m.Text(src, root)
		for i := range 4 {
			if s := tern.Sealed(string(rune('0' + i))); strings.Contains(shown, s) {
				t.Fatalf("%s is shown in\n%s", s, shown)
			}
		}
		if strings.Contains(shown, "gulls-only") || strings.Contains(shown, "terns-too") {
			t.Fatalf("a community is shown in\n%s", shown)
		}
		if strings.Count(shown, "\n") != strings.Count(src, "\n") {
			t.Fatal("masking changed the number of lines")
		}
		if _, _, err := d.Doc("running").Parse(shown); err != nil {
			t.Fatalf("masked text does not parse: %v", err)
		}
	}
}

// TestWhatCountsAsTheSame: identical, unchanged and equivalent are three
// different things.
func TestWhatCountsAsTheSame(t *testing.T) {
	d := shipped(t)
	base := ".. running of r1, read 10:00\nname r1\nclock\n  skew +0.1\n  mark 10.0.0.5\nlane a\n  mtu 1500\n  guard strict\nlane b\nsieve x\n  pass any from any to any\n  drop any from any to any\n"
	for _, c := range []struct {
		name, other           string
		unchanged, equivalent bool
	}{
		{"the time of day and the clock's own correction", strings.NewReplacer("10:00", "11:00", "+0.1", "+0.2").Replace(base), true, true},
		{"another order of lanes", strings.Replace(strings.Replace(base, "lane b\n", "", 1), "lane a\n", "lane b\nlane a\n", 1), false, true},
		{"a default left out", strings.Replace(base, "  mtu 1500\n", "", 1), false, true},
		{"another order within a filter", strings.Replace(base, "  pass any from any to any\n  drop any from any to any\n", "  drop any from any to any\n  pass any from any to any\n", 1), false, false},
		{"a line more", base + "domain x\n", false, false},
		{"a block opened once more, for its own line", base + "lane a\n  guard strict\n", false, false},
		{"a block opened once more, the last value winning", strings.Replace(base, "guard strict", "guard loose", 1) + "lane a\n  guard strict\n", false, false},
		{"a line given twice", base + "domain x\ndomain x\n", false, false},
		{"blanks within a line", strings.Replace(base, "pass any from", "pass any  from", 1), false, false},
		{"a block opened once more, for another value", base + "lane a\n  guard loose\n", false, false},
		{"a value changed", strings.Replace(base, "strict", "loose", 1), false, false},
	} {
		if got := d.Doc("running").Settled(base) == d.Doc("running").Settled(c.other); got != c.unchanged {
			t.Errorf("%s: unchanged is %v", c.name, got)
		}
		_, a, err1 := d.Doc("running").Parse(base)
		_, b, err2 := d.Doc("running").Parse(c.other)
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		if got := rules.Equivalent(a, b); got != c.equivalent {
			t.Errorf("%s: equivalent is %v", c.name, got)
		}
		if got := len(rules.Differences(a, b)) == 0; got != c.equivalent {
			t.Errorf("%s: differences are listed: %v", c.name, rules.Differences(a, b))
		}
	}
}

// FuzzLoad: no file breaks the loader or takes much memory, and every complaint
// has a place in it.
func FuzzLoad(f *testing.F) {
	f.Add(source(f))
	f.Add("dialect: x\nrules: [{path: 'a / {b...} c'}]\n")
	for _, bomb := range bombs() {
		f.Add(bomb)
	}
	f.Fuzz(func(t *testing.T, src string) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		d, err := Load("f.yaml", []byte(src))
		runtime.ReadMemStats(&after)
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 96 {
			t.Fatalf("%d bytes took %d MiB", len(src), took)
		}
		if (d == nil) == (err == nil) {
			t.Fatalf("both or neither: %v %v", d, err)
		}
		if err == nil {
			return
		}
		ps := err.(Problems)
		if len(ps) == 0 {
			t.Fatal("refused without a word")
		}
		for _, p := range ps {
			if p.Line < 1 || p.Column < 1 || p.Text == "" {
				t.Fatalf("a complaint without a place: %+v", p)
			}
		}
	})
}

// bombs are small files that once took gigabytes, or minutes.
func bombs() map[string]string {
	alias := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c <= 'j'; c++ {
		alias += fmt.Sprintf("%c: &%[1]c [*%[2]c,*%[2]c,*%[2]c,*%[2]c,*%[2]c,*%[2]c,*%[2]c,*%[2]c,*%[2]c]\n", c, c-1)
	}
	patterns := ""
	for range 200 {
		patterns += "  - {pattern: '(?:[^a]{1000}|[^b]{900}|x{1000})+', means: refused}\n"
	}
	deep := ""
	for i := range 300 {
		deep += strings.Repeat(" ", i) + "a:\n"
	}
	return map[string]string{
		"aliases": alias, "patterns": "dialect: x\nrefusals:\n" + patterns, "nested": deep,
		"lists": strings.Repeat("[", 60000), "lists in lines": strings.Repeat("[\n", 30000), "mappings": strings.Repeat("{a: ", 15000), "dashes": strings.Repeat("- ", 30000),
		"quoted": strings.Repeat("\"a\"\n", 15000), "quoted on a line": strings.Repeat("\"a\" ", 15000), "anchors": strings.Repeat("&a ", 20000), "questions": strings.Repeat("?\n", 30000),
		"names": strings.Repeat("a: b\n", 12000), "documents": strings.Repeat("---\n", 15000), "long pattern": "dialect: x\ntitle: '" + strings.Repeat("(ab|cd){90}", 80) + "'\n",
		"wide": func() (s string) {
			for i := range 2800 {
				s += fmt.Sprintf("k%d: [1]\n", i)
			}
			return s
		}(),
	}
}

// TestBombs: each is refused, with a place and a reason, before it takes much.
func TestBombs(t *testing.T) {
	for name, src := range bombs() {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Load("f.yaml", []byte(src))
		runtime.ReadMemStats(&after)
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; err == nil || took > 96 {
			t.Errorf("%s: %d bytes took %d MiB, and the answer is %v", name, len(src), took, err)
		}
		if len(err.(Problems)) > mostProblems {
			t.Errorf("%s: %d problems are told", name, len(err.(Problems)))
		}
	}
	for name, says := range map[string]string{"aliases": "f.yaml:1:4: anchors, aliases and merge keys are not read", "patterns": "repeat less", "long pattern": "compile"} {
		if _, err := Load("f.yaml", []byte(bombs()[name])); !strings.Contains(fmt.Sprint(err), says) {
			t.Errorf("%s: %v, want %q", name, err, says)
		}
	}
}
