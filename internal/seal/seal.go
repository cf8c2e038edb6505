// Package seal encrypts and authenticates what must not lie about in the
// open: configuration texts, credentials, job logs. It uses
// XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha, RFC 8439) under data keys that
// are themselves sealed under the master key, so that replacing the master key
// rewrites a few rows and nothing else.
package seal

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// ErrWrongKey is returned when sealed bytes do not open: another key, another
// purpose, or bytes that were changed.
var ErrWrongKey = errors.New("sealed bytes do not open: another key, or they were changed")

// Master is the key that everything hangs on. It is never stored beside the
// data it protects.
type Master struct {
	key [32]byte
}

// NewMaster makes a random master key.
func NewMaster() (m Master) {
	_, _ = rand.Read(m.key[:])
	return m
}

// ID names the key without telling it.
func (m Master) ID() string {
	sum := sha256.Sum256(append([]byte("magpie master key id"), m.key[:]...))
	return hex.EncodeToString(sum[:6])
}

// ReadMaster reads a key file: 64 hexadecimal digits, lines starting with #
// aside.
func ReadMaster(path string) (m Master, err error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return m, err
	}
	var digits strings.Builder
	for _, l := range strings.Split(string(raw), "\n") {
		if l = strings.TrimSpace(l); !strings.HasPrefix(l, "#") {
			digits.WriteString(l)
		}
	}
	key, err := hex.DecodeString(digits.String())
	if err != nil || len(key) != 32 {
		return m, fmt.Errorf("%s is no master key: it takes 64 hexadecimal digits on a line, it has %d", path, digits.Len())
	}
	copy(m.key[:], key)
	return m, nil
}

// Write keeps the key in a file only its owner can read. It never overwrites,
// and whoever sees the file sees all of it.
func (m Master) Write(path string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-key-*") // readable for its owner only
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = fmt.Fprintf(f, "# Steady Magpie master key %s.\n# Whoever loses it loses every stored configuration; whoever has it and the\n# database can read them. Keep a copy somewhere else.\n%s\n", m.ID(), hex.EncodeToString(m.key[:]))
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Link(f.Name(), path)
}

// Box seals under one data key.
type Box struct {
	ID  uint32
	key [32]byte
}

// NewBox makes a random data key.
func NewBox(id uint32) (b Box) {
	b.ID = id
	_, _ = rand.Read(b.key[:])
	return b
}

// Wrap seals a data key under the master key.
func (m Master) Wrap(b Box) []byte { return sealWith(m.key, label("data key", b.ID), b.key[:]) }

// Unwrap opens a data key.
func (m Master) Unwrap(id uint32, wrapped []byte) (b Box, err error) {
	b.ID = id
	key, err := openWith(m.key, label("data key", id), wrapped)
	if err != nil || len(key) != 32 {
		return b, ErrWrongKey
	}
	copy(b.key[:], key)
	return b, nil
}

func label(purpose string, id uint32) []byte {
	return binary.BigEndian.AppendUint32([]byte(purpose+"\x00"), id)
}

func sealWith(key [32]byte, ad, plain []byte) []byte {
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		panic(err) // the key is 32 bytes
	}
	nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(plain)+aead.Overhead())
	_, _ = rand.Read(nonce)
	return aead.Seal(nonce, nonce, plain, ad)
}

func openWith(key [32]byte, ad, sealed []byte) ([]byte, error) {
	aead, err := chacha20poly1305.NewX(key[:])
	if err != nil {
		panic(err)
	}
	if len(sealed) < aead.NonceSize() {
		return nil, ErrWrongKey
	}
	plain, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], ad)
	if err != nil {
		return nil, ErrWrongKey
	}
	return plain, nil
}

// Keys are the data keys of one database.
type Keys struct {
	boxes   map[uint32]Box
	current uint32
	hash    [32]byte
}

// NewKeys gathers data keys; the one with the highest number seals. hash is
// the key of content hashes, which never changes.
func NewKeys(hash Box, boxes ...Box) *Keys {
	k := &Keys{boxes: map[uint32]Box{}, hash: hash.key}
	for _, b := range boxes {
		k.boxes[b.ID] = b
		k.current = max(k.current, b.ID)
	}
	return k
}

// Boxes are the key of content hashes, and the data keys.
func (k *Keys) Boxes() (hash Box, boxes []Box) {
	for _, b := range k.boxes {
		boxes = append(boxes, b)
	}
	return Box{key: k.hash}, boxes
}

// Seal encrypts plain. It opens again only for the same purpose and subject:
// what kind of thing it is, and which one.
func (k *Keys) Seal(purpose, subject string, plain []byte) []byte {
	b := k.boxes[k.current]
	head := binary.BigEndian.AppendUint32([]byte{1}, b.ID)
	return append(head, sealWith(b.key, ad(purpose, subject, b.ID), plain)...)
}

// Open decrypts what Seal made.
func (k *Keys) Open(purpose, subject string, sealed []byte) ([]byte, error) {
	if len(sealed) < 5 || sealed[0] != 1 {
		return nil, fmt.Errorf("%s %s: %w", purpose, subject, ErrWrongKey)
	}
	b, ok := k.boxes[binary.BigEndian.Uint32(sealed[1:])]
	if !ok {
		return nil, fmt.Errorf("%s %s: its data key is missing: %w", purpose, subject, ErrWrongKey)
	}
	plain, err := openWith(b.key, ad(purpose, subject, b.ID), sealed[5:])
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", purpose, subject, err)
	}
	return plain, nil
}

func ad(purpose, subject string, id uint32) []byte {
	return binary.BigEndian.AppendUint32([]byte("1\x00"+purpose+"\x00"+subject+"\x00"), id)
}

// Hash is a keyed hash (HMAC-SHA-256, RFC 2104) in hexadecimal: equal for equal
// contents, and telling nothing to who lacks the key.
func (k *Keys) Hash(purpose string, content []byte) string {
	h := k.Hasher(purpose)
	h.Write(content)
	return k.Sum(h)
}

// Hasher is such a hash of what is too large to be held at once; Sum ends it.
func (k *Keys) Hasher(purpose string) hash.Hash {
	h := hmac.New(sha256.New, k.hash[:])
	h.Write([]byte(purpose + "\x00"))
	return h
}

// Sum is what a Hasher comes to, as Hash writes it.
func (k *Keys) Sum(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

// Tag is the short mark that tells equal secrets from unequal ones within one
// scope, and nothing from one scope to another.
func (k *Keys) Tag(scope, secret string) string {
	return k.Hash("secret tag", []byte(scope+"\x00"+secret))[:4]
}
