package main

import (
	"fmt"
	"testing"
)

// TestLearn: rules that were forgotten are learned again from versions and a spare,
// which is then as it was. What a draft is sure of is right, and what it brings about is
// what was wanted, or it said which lines it is not sure of.
func TestLearn(t *testing.T) {
	for _, f := range unknowns {
		for seed := range uint64(2) {
			t.Run(fmt.Sprint(f.name, " ", seed), func(t *testing.T) {
				t.Parallel()
				l, err := learnAnew(f, seed, 12)
				if err != nil {
					t.Fatal(err)
				}
				equal, warned, failed, first := l.pairs(f, 100, seed)
				t.Logf("right %d, unsure %d, wrong %d; pushes equal %d, unsure %d, failed %d", l.right, l.unsure, l.wrong, equal, warned, failed)
				if l.wrong > 0 || failed > 0 {
					t.Errorf("wrong: %q\nfirst that failed: %s\n%s", l.said, first, l.yaml)
				}
				if l.right < 2*l.unsure/3 {
					t.Errorf("little was learned:\n%s", l.yaml)
				}
			})
		}
	}
}

// TestLearnModules: what a YANG module says is what the family's dialect says.
func TestLearnModules(t *testing.T) {
	l, err := learnModules()
	if err != nil {
		t.Fatal(err)
	}
	if l.right < 10 || l.unsure > 0 || l.wrong > 0 {
		t.Errorf("right %d, unsure %d, wrong %d: %q\n%s", l.right, l.unsure, l.wrong, l.said, l.yaml)
	}
}
