package seal

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func keys() *Keys { return NewKeys(NewBox(0), NewBox(1), NewBox(2)) }

// TestSealedBytesAreBound: what was sealed opens for the same purpose and
// subject, unchanged, under the same keys, and for nothing else.
func TestSealedBytesAreBound(t *testing.T) {
	k := keys()
	plain := []byte("lane quay1\n")
	sealed := k.Seal("content", "abc", plain)
	if bytes.Contains(sealed, plain[:6]) {
		t.Error("the text shows through")
	}
	if got, err := k.Open("content", "abc", sealed); err != nil || !bytes.Equal(got, plain) {
		t.Fatalf("%q, %v", got, err)
	}
	if bytes.Equal(sealed, k.Seal("content", "abc", plain)) {
		t.Error("sealing twice gives the same bytes")
	}
	for name, try := range map[string]func() ([]byte, error){
		"another subject": func() ([]byte, error) { return k.Open("content", "abd", sealed) },
		"another purpose": func() ([]byte, error) { return k.Open("job log", "abc", sealed) },
		"other keys":      func() ([]byte, error) { return keys().Open("content", "abc", sealed) },
		"nothing":         func() ([]byte, error) { return k.Open("content", "abc", nil) },
	} {
		if _, err := try(); !errors.Is(err, ErrWrongKey) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for i := range sealed {
		changed := bytes.Clone(sealed)
		changed[i] ^= 1
		if _, err := k.Open("content", "abc", changed); err == nil {
			t.Errorf("byte %d changed, and it opens", i)
		}
	}
}

func TestMasterKeyFile(t *testing.T) {
	m := NewMaster()
	path := filepath.Join(t.TempDir(), "master.key")
	if err := m.Write(path); err != nil {
		t.Fatal(err)
	}
	if st, _ := os.Stat(path); st.Mode().Perm() != 0o600 {
		t.Errorf("the file's mode is %v", st.Mode())
	}
	if err := NewMaster().Write(path); err == nil {
		t.Error("a key file was overwritten")
	}
	back, err := ReadMaster(path)
	if err != nil || back != m || back.ID() != m.ID() {
		t.Errorf("read back: %v", err)
	}
	b := NewBox(7)
	if got, err := back.Unwrap(7, m.Wrap(b)); err != nil || got != b {
		t.Errorf("a data key does not open: %v", err)
	}
	if _, err := back.Unwrap(8, m.Wrap(b)); err == nil {
		t.Error("a data key opens under another number")
	}
	if err := os.WriteFile(path, []byte("# note\nabc\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadMaster(path); err == nil || !strings.Contains(err.Error(), "it has 3") {
		t.Errorf("a short key: %v", err)
	}
}

func TestHashIsKeyed(t *testing.T) {
	a, b := keys(), keys()
	if a.Hash("content", []byte("x")) == b.Hash("content", []byte("x")) || a.Hash("content", []byte("x")) == a.Hash("fingerprint", []byte("x")) {
		t.Error("hashes are the same across keys or purposes")
	}
	if one, again := a.Tag("r1", "one"), a.Tag("r1", "one"); one != again || len(one) != 4 {
		t.Error("tags are not steady")
	}
	same := 0 // four digits agree by chance now and then
	for i := range 50 {
		if s := fmt.Sprint("word", i); a.Tag("r1", s) == a.Tag("r2", s) {
			same++
		}
	}
	if same > 2 {
		t.Error("tags tell equal secrets of two devices")
	}
}
