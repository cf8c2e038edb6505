package pack

import (
	"bytes"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// text makes a configuration of so many lines.
func text(r *rand.Rand, lines int) []byte {
	var b strings.Builder
	for i := range lines {
		fmt.Fprintf(&b, "lane quay%d\n  berth 10.%d.%d.1/24\n  note \"%x\"\n", i, r.IntN(256), r.IntN(256), r.Uint64())
	}
	return []byte(b.String())
}

// TestChain: a long history reads back byte for byte, each in a logarithmic number of steps, and a small change costs little however large the text is.
func TestChain(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	now := text(r, 400)
	packed, plain := map[int][]byte{}, map[int][]byte{}
	for n := 1; n <= 300; n++ {
		at := r.IntN(len(now) - 40)
		now = append(append(append([]byte{}, now[:at]...), fmt.Sprintf("\nnote %d\n", n)...), now[at+r.IntN(30):]...)
		plain[n] = now
		if b := Base(n); b == 0 {
			packed[n] = Alone(now)
		} else {
			packed[n] = Against(now, plain[b])
		}
	}
	for n := 1; n <= 300; n++ {
		var chain [][]byte
		var one []byte // and step by step
		for b := n; b > 0; b = Base(b) {
			chain = append(chain, packed[b])
		}
		slices.Reverse(chain)
		for _, p := range chain {
			var err error
			if one, err = Unpack(p, one); err != nil {
				t.Fatalf("%d: %v", n, err)
			}
		}
		steps := len(chain)
		got, err := UnpackChain(chain)
		if err != nil || !bytes.Equal(got, plain[n]) || !bytes.Equal(one, plain[n]) {
			t.Fatalf("%d does not read back: %v", n, err)
		}
		if steps != Steps(n) || steps > Most || steps > 3*(bits.Len(uint(n))/2+1) {
			t.Errorf("%d takes %d steps", n, steps)
		}
	}
	if n := len(packed[3]); n > 200 {
		t.Errorf("one line takes %d bytes", n)
	}
	large := text(r, 60_000)
	changed := append(append([]byte{}, large...), "lane quay1\n"...)
	if n := len(Against(changed, large)); n > 600 {
		t.Errorf("a line more in %d MiB takes %d bytes", len(large)>>20, n)
	}
}

// FuzzPack: whatever is packed reads back, and whatever is not what was packed is an error or
// something else, and never a breakdown.
func FuzzPack(f *testing.F) {
	f.Add([]byte("lane quay1\n"), []byte("lane quay2\n"), 3)
	f.Add([]byte(""), []byte("x"), 0)
	f.Add([]byte("x"), []byte(""), 1)
	f.Fuzz(func(t *testing.T, content, base []byte, at int) {
		if got, err := Unpack(Alone(content), nil); err != nil || !bytes.Equal(got, content) {
			t.Fatalf("alone: %v", err)
		}
		if len(base) == 0 {
			return
		}
		packed := Against(content, base)
		if got, err := Unpack(packed, base); err != nil || !bytes.Equal(got, content) {
			t.Fatalf("against: %v", err)
		}
		if len(packed) > 0 {
			packed[((at%len(packed))+len(packed))%len(packed)] ^= 1
			_, _ = Unpack(packed, base)
		}
	})
}
