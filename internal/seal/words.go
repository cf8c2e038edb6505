package seal

import (
	"fmt"
	"strings"

	"github.com/tyler-smith/go-bip39"
)

// Words writes the master key as 24 words with a checksum in them (BIP 39, English list), for a
// sheet of paper.
func (m Master) Words() []string {
	words, err := bip39.NewMnemonic(m.key[:])
	if err != nil {
		panic(err) // the key has 256 bits
	}
	return strings.Fields(words)
}

// FromWords reads a master key from its words. An error says what of them cannot be right.
func FromWords(text string) (m Master, err error) {
	words := strings.Fields(strings.ToLower(text))
	if len(words) != 24 {
		return m, fmt.Errorf("there are %d words; a master key has 24", len(words))
	}
	for i, w := range words {
		if _, ok := bip39.GetWordIndex(w); !ok {
			return m, fmt.Errorf("word %d, %q, is none of the words that a sheet has", i+1, w)
		}
	}
	raw, err := bip39.EntropyFromMnemonic(strings.Join(words, " "))
	if err != nil {
		return m, fmt.Errorf("the words do not fit together: one of them is another than on the sheet, or two have changed places")
	}
	copy(m.key[:], raw)
	return m, nil
}
