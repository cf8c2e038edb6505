package change_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"magpie/dialects"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/sim/box"
	"magpie/internal/sim/fulmar"
	"magpie/internal/sim/plover"
)

// family is a grammar other than Tern's, with a maker of random valid
// configurations. Few names are used, so that two of them overlap.
type family struct {
	name     string
	generate func(r *rand.Rand) []string
	build    func(lines []string) (box.Model, error)
}

var families = []family{
	{"plover", plover.Generate, func(lines []string) (box.Model, error) { return plover.New("quay-sw1", "PL-1", lines, time.Unix(0, 0)) }},
	{"fulmar", fulmar.Generate, func(lines []string) (box.Model, error) { return fulmar.New("strip1", "FU-1", lines) }},
}

// TestEveryGrammar holds the promise for the other grammars whose lines are
// typed: the script makes a device that runs one configuration run the other,
// nothing is sent when they are the same, undoing leads back from every step,
// and a merge loses nothing.
func TestEveryGrammar(t *testing.T) {
	rounds := often(140)
	if testing.Short() {
		rounds = 40
	}
	for _, f := range families {
		t.Run(f.name, func(t *testing.T) {
			src, err := dialects.Files.ReadFile(f.name + ".yaml")
			if err != nil {
				t.Fatal(err)
			}
			d, err := dialect.Load(f.name, src)
			if err != nil {
				t.Fatal(err)
			}
			stand := func(lines []string) box.Model {
				t.Helper()
				m, err := f.build(lines)
				if err != nil {
					t.Fatalf("%v in\n%s", err, strings.Join(lines, "\n"))
				}
				return m
			}
			runs := func(m box.Model) string { return strings.Join(m.Status().Running, "\n") + "\n" }
			typed := func(m box.Model, steps []change.Step) {
				t.Helper()
				var all []string
				for _, s := range steps {
					all = append(all, s.Lines...)
				}
				if err := m.Amend("test", all); err != nil {
					t.Fatalf("%v\nscript:\n%s\non\n%s", err, script(steps), runs(m))
				}
			}
			r := rand.New(rand.NewPCG(3, 9))
			for range rounds {
				from, to := f.generate(r), f.generate(r)
				m, want := stand(from), stand(to)
				a, b := runs(m), runs(want)
				if plan := d.Language.Replace(tree(t, d, a), tree(t, d, a)); len(plan.Steps) > 0 {
					t.Fatalf("changing nothing takes steps:\n%s\nin\n%s", script(plan.Steps), a)
				}
				there := d.Language.Replace(tree(t, d, a), tree(t, d, b))
				typed(m, there.Steps)
				if !rules.Equivalent(tree(t, d, runs(m)), tree(t, d, b)) || len(there.Remains) > 0 {
					t.Fatalf("from\n%s\nto\n%s\nthe device ended with\n%s\nafter\n%s\npredicted to differ: %+v", a, b, runs(m), script(there.Steps), there.Remains)
				}
				if !rules.Equivalent(there.Predicted, tree(t, d, runs(m))) {
					t.Fatalf("predicted\n%s\nbut the device runs\n%s", d.Blocks.Print(there.Predicted.Node()), runs(m))
				}
				// Broken off anywhere, the undo leads back.
				stop := r.IntN(len(there.Steps) + 1)
				m = stand(from)
				typed(m, there.Steps[:stop])
				typed(m, d.Language.Replace(tree(t, d, runs(m)), tree(t, d, a)).Steps)
				if !rules.Equivalent(tree(t, d, runs(m)), tree(t, d, a)) {
					t.Fatalf("undone after %d steps it runs\n%s\nnot\n%s", stop, runs(m), a)
				}
				m = stand(from)
				merge := d.Language.Merge(tree(t, d, a), tree(t, d, b))
				typed(m, merge.Steps)
				if !rules.Equivalent(merge.Predicted, tree(t, d, runs(m))) {
					t.Fatalf("merging was predicted to lead to\n%s\nbut the device runs\n%s\nafter\n%s", d.Blocks.Print(merge.Predicted.Node()), runs(m), script(merge.Steps))
				}
				for _, diff := range rules.Differences(tree(t, d, runs(m)), tree(t, d, b)) {
					if diff.Have == "" {
						t.Fatalf("%s: %q was to be added and is missing", diff.Block, diff.Want)
					}
				}
			}
		})
	}
}
