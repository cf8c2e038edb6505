package seal

import (
	"crypto/hkdf"
	"crypto/sha256"
	"strings"

	"filippo.io/age"
	"github.com/btcsuite/btcd/btcutil/bech32"
)

// Identity is the age identity (age-encryption.org/v1, X25519) that belongs to a master key, so
// that whoever has the key, or its words, opens what was sealed for it with any program that
// reads age files. It is derived by HKDF-SHA-256 (RFC 5869) from the key without salt, with the
// words "magpie age identity" as info.
func (m Master) Identity() *age.X25519Identity {
	scalar, err := hkdf.Key(sha256.New, m.key[:], nil, "magpie age identity", 32)
	if err != nil {
		panic(err) // 32 bytes can always be had
	}
	text, err := bech32.EncodeFromBase256("age-secret-key-", scalar)
	if err != nil {
		panic(err)
	}
	id, err := age.ParseX25519Identity(strings.ToUpper(text))
	if err != nil {
		panic(err) // any 32 bytes are one (RFC 7748 §5)
	}
	return id
}
