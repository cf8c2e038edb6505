package change_test

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"magpie/dialects"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/sim/tern"
)

// often is how many rounds a property is walked: so many, and three times as many where all of
// everything is tried (make test-matrix).
func often(n int) int {
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		return 3 * n
	}
	return n
}

func ternDialect(t testing.TB) *dialect.Dialect {
	t.Helper()
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, err := dialect.Load("tern.yaml", src)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func tree(t testing.TB, d *dialect.Dialect, src string) *rules.Item {
	t.Helper()
	_, it, err := d.Doc("running").Parse(src)
	if err != nil {
		t.Fatalf("%v in\n%s", err, src)
	}
	return it
}

// typeIn types a plan's lines into a simulated device and fails on a refusal.
func typeIn(t testing.TB, m *tern.Machine, steps []change.Step) {
	t.Helper()
	for _, s := range steps {
		for _, l := range s.Lines {
			if err := m.Type(l); err != nil {
				t.Fatalf("the device refused %q: %v\nscript:\n%s", l, err, script(steps))
			}
		}
	}
	m.Leave()
}

func script(steps []change.Step) string {
	var b strings.Builder
	for _, s := range steps {
		b.WriteString(strings.Repeat("  ", s.Depth) + strings.Join(s.Lines, "\n") + "\n")
	}
	return b.String()
}

// running is the simulator's own copy of a configuration.
func running(t testing.TB, src string) *tern.Machine {
	t.Helper()
	m, err := tern.Parse(text.Lines(src))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestReplaceMakesOneOfTheOther is the promise the product rests on: for any
// two valid configurations the script makes a device that runs one run the
// other, to the letter, nothing is sent when they are the same, and undoing
// leads back.
func TestReplaceMakesOneOfTheOther(t *testing.T) {
	d := ternDialect(t)
	rounds := often(500)
	if testing.Short() {
		rounds = 100
	}
	r := rand.New(rand.NewPCG(7, 11))
	for range rounds {
		a, b := tern.Generate(r).Text(), tern.Generate(r).Text()
		if plan := d.Language.Replace(tree(t, d, a), tree(t, d, a)); len(plan.Steps) > 0 {
			t.Fatalf("changing nothing takes steps:\n%s\nin\n%s", script(plan.Steps), a)
		}
		there := d.Language.Replace(tree(t, d, a), tree(t, d, b))
		m := running(t, a)
		typeIn(t, m, there.Steps)
		if got := m.Text(); got != b {
			t.Fatalf("from\n%s\nto\n%s\nthe device ended with\n%s\nafter\n%s", a, b, got, script(there.Steps))
		}
		if len(there.Remains) > 0 {
			t.Fatalf("predicted to differ: %+v", there.Remains)
		}
		if !rules.Equivalent(there.Predicted, tree(t, d, m.Text())) {
			t.Fatalf("predicted\n%s\nbut the device runs\n%s", d.Blocks.Print(there.Predicted.Node()), m.Text())
		}
		back := d.Language.Replace(tree(t, d, m.Text()), tree(t, d, a))
		typeIn(t, m, back.Steps)
		if got := m.Text(); got != a {
			t.Fatalf("undo ended with\n%s\nnot\n%s\nafter\n%s", got, a, script(back.Steps))
		}
	}
}

// TestUndoFromTheMiddle stops after every number of steps and goes back from
// what the device then runs.
func TestUndoFromTheMiddle(t *testing.T) {
	d := ternDialect(t)
	r := rand.New(rand.NewPCG(5, 3))
	for range 40 {
		a, b := tern.Generate(r).Text(), tern.Generate(r).Text()
		plan := d.Language.Replace(tree(t, d, a), tree(t, d, b))
		for stop := range plan.Steps {
			m := running(t, a)
			typeIn(t, m, plan.Steps[:stop])
			typeIn(t, m, d.Language.Replace(tree(t, d, m.Text()), tree(t, d, a)).Steps)
			if m.Text() != a {
				t.Fatalf("undone after %d steps it runs\n%s\nnot\n%s", stop, m.Text(), a)
			}
		}
	}
}

// TestMergeLeavesWhatItSays adds one configuration to another: nothing of the
// wanted one is missing, and what remains is what was predicted.
func TestMergeLeavesWhatItSays(t *testing.T) {
	d := ternDialect(t)
	r := rand.New(rand.NewPCG(9, 1))
	for range 500 {
		a, b := tern.Generate(r).Text(), tern.Generate(r).Text()
		plan := d.Language.Merge(tree(t, d, a), tree(t, d, b))
		m := running(t, a)
		typeIn(t, m, plan.Steps)
		got := tree(t, d, m.Text())
		if !rules.Equivalent(plan.Predicted, got) {
			t.Fatalf("predicted\n%s\nbut the device runs\n%s\nafter\n%s", d.Blocks.Print(plan.Predicted.Node()), m.Text(), script(plan.Steps))
		}
		for _, diff := range rules.Differences(got, tree(t, d, b)) {
			if diff.Have == "" {
				t.Fatalf("%s: %q was to be added and is missing", diff.Block, diff.Want)
			}
		}
	}
}

func TestPlans(t *testing.T) {
	d := ternDialect(t)
	for _, c := range []struct{ name, from, to, want string }{
		{"a value is overwritten", "name r1\nlane q\n  note \"a\"\n", "name r1\nlane q\n  note \"b\"\n",
			"lane q\n  note \"b\"\n"},
		{"a value that cannot be overwritten is cancelled first", "name r1\nlane q\n  berth 10.0.0.1/24\n", "name r1\nlane q\n  berth 10.0.0.2/24\n",
			"lane q\n  cancel berth\n  berth 10.0.0.2/24\n"},
		{"a left-out default is returned to by cancelling", "name r1\nlane q\n  mtu 9000\n", "name r1\nlane q\n",
			"lane q\n  cancel mtu\n"},
		{"a line the device writes itself is taken away when unwanted", "name r1\n", "name r1\nlane q\n  shut\n",
			"lane q\n  cancel guard\n  shut\n"},
		{"what touches the way to the device comes last", "name r1\nlane q\n  berth 10.0.0.1/24\nlane z\n  note \"x\"\n", "name r1\ndomain d\nlane q\n  berth 10.0.0.2/24\n  note \"y\"\nlane z\n",
			"domain d\nlane q\n  note \"y\"\n  up\nlane z\n  cancel note\n  up\nlane q\n  cancel berth\n  berth 10.0.0.2/24\n"},
		{"a renamed filter: made, used, and only then the old one removed",
			"name r1\nsieve a\n  drop any from any to any\nlane q\n  sieve in a\n",
			"name r1\nsieve b\n  drop any from any to any\nlane q\n  sieve in b\n",
			"sieve b\n  drop any from any to any\n  up\nlane q\n  sieve in b\n  up\ncancel sieve a\n"},
		{"a line put into the middle of a filter",
			"name r1\nsieve a\n  pass tcp from any to any\n  drop any from any to any\n",
			"name r1\nsieve a\n  pass tcp from any to any\n  pass udp from any to any\n  drop any from any to any\n",
			"sieve a\n  cancel drop any from any to any\n  pass udp from any to any\n  drop any from any to any\n"},
		{"a block that went is removed whole", "name r1\nlane q\n  shut\n  note \"x\"\n", "name r1\n", "cancel lane q\n"},
		{"lines that change by themselves are left alone", "name r1\nclock\n  skew +0.1\n", "name r1\nclock\n  skew +0.2\n", ""},
		{"a banner goes in one piece", "name r1\n", "name r1\nplacard ((\nup\ncancel name\n))\n", "placard ((\nup\ncancel name\n))\n"},
	} {
		plan := d.Language.Replace(tree(t, d, c.from), tree(t, d, c.to))
		if got := script(plan.Steps); got != c.want {
			t.Errorf("%s:\ngot\n%s\nwant\n%s", c.name, got, c.want)
		}
	}
}

func TestPlanTellsWhatAPersonShouldKnow(t *testing.T) {
	d := ternDialect(t)
	rebuilt := d.Language.Replace(tree(t, d, "name r1\nsieve a\n  pass tcp from any to any\n  drop any from any to any\n"),
		tree(t, d, "name r1\nsieve a\n  drop any from any to any\n  pass tcp from any to any\n"))
	if len(rebuilt.Notes) != 1 || !strings.Contains(rebuilt.Notes[0], "incomplete") {
		t.Errorf("rebuilding a filter is not pointed out: %q", rebuilt.Notes)
	}
	nameless := d.Language.Replace(tree(t, d, "name r1\n"), tree(t, d, "domain x\n"))
	if len(nameless.Remains) != 1 || nameless.Remains[0].Have != "name r1" || len(nameless.Notes) != 1 {
		t.Errorf("a line that cannot go is not listed: %+v %q", nameless.Remains, nameless.Notes)
	}
}
