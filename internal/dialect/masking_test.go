package dialect

import (
	"strings"
	"testing"

	"magpie/internal/core/change"
	"magpie/internal/core/rules"
)

// TestNoSecretIsShown: secrets planted in every position of every style (a word, in quotes, behind an
// escaped quote, in a text over several lines, in a comment, in an attribute, in an option, nested) are
// in nothing that a reader is shown; they are found by their values.
func TestNoSecretIsShown(t *testing.T) {
	planted := 0
	for _, s := range styles(t) {
		m := rules.Masker{Table: s.doc.Table, Tag: func(string) string { return "t" }}
		for _, src := range s.texts {
			planted += strings.Count(src, "SECRET")
			text, ok := s.shown(src)
			if !ok || !strings.Contains(text, "SECRET") {
				continue
			}
			root, top, err := s.doc.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			show := func(what, shown string) {
				t.Helper()
				for _, l := range strings.Split(shown, "\n") {
					if strings.Contains(l, "SECRET") {
						t.Errorf("%s, %s: %s", s.name, what, l)
					}
				}
			}
			for n := 0; n < len(text); n++ { // cut off anywhere
				if root, err := s.doc.Tree(text[:n]); err == nil {
					show("a text cut off", m.Text(text[:n], root))
				}
			}
			masked := m.Text(text, root)
			show("the text", masked)
			if strings.Count(masked, "\n") != strings.Count(text, "\n") {
				t.Errorf("%s: masking changed the number of lines", s.name)
			}
			for _, d := range append(rules.Differences(&rules.Item{}, top), rules.Differences(top, &rules.Item{})...) {
				d = m.Difference(d)
				show("a difference", d.Block+"\n"+d.Have+"\n"+d.Want)
			}
			for _, c := range rules.Changes(&rules.Item{}, top) {
				show("an entry", strings.Join(m.Lines(c.To), "\n"))
			}
			if s.doc.Language == nil || s.doc.Change.Remove == "" {
				continue
			}
			plan := s.doc.Language.Replace(top, &rules.Item{})
			for _, st := range append(plan.Steps, s.doc.Language.Replace(&rules.Item{}, top).Steps...) {
				if st.Item == nil || st.Item.Hidden() {
					continue
				}
				for _, l := range st.Lines {
					if st.Kind == change.Remove || st.Kind == change.Enter {
						show("a step", m.Answer("what is "+l+" said", st.Item.Secrets()))
					}
				}
			}
		}
	}
	if planted < 60 {
		t.Errorf("%d secrets are planted", planted)
	}
}
