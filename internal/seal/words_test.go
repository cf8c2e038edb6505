package seal

import (
	"strings"
	"testing"
)

// TestWords: a key comes back from its words; a word that is wrong, missing or elsewhere is told.
func TestWords(t *testing.T) {
	wrong := 0
	for range 200 {
		m := NewMaster()
		words := m.Words()
		if back, err := FromWords(strings.ToUpper(strings.Join(words, "\n"))); err != nil || back != m {
			t.Fatalf("%v: %v", words, err)
		}
		if _, err := FromWords(strings.Join(words[1:], " ")); err == nil || !strings.Contains(err.Error(), "23 words") {
			t.Errorf("a word too few: %v", err)
		}
		other := append([]string{"quayside"}, words[1:]...)
		if _, err := FromWords(strings.Join(other, " ")); err == nil || !strings.Contains(err.Error(), `word 1, "quayside"`) {
			t.Errorf("a word that is none: %v", err)
		}
		words[3], words[9] = words[9], words[3]
		if back, err := FromWords(strings.Join(words, " ")); err == nil && back == m && words[3] != words[9] {
			t.Error("two words in each other's place are the same key")
		} else if err == nil {
			wrong++
		}
	}
	if wrong > 10 { // the checksum has eight bits
		t.Errorf("%d of 200 exchanges pass", wrong)
	}
}
