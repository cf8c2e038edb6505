// Package pack makes a text small against an earlier one of the same part, and gives it back
// byte for byte. The form is Zstandard (RFC 8878) with the earlier text as a raw dictionary.
//
// Which earlier text is chosen as in skip-deltas: number n, written to base 4, against what is
// one less in its lowest digit that is not 0. So a text is read back in as many steps as the
// digits of its number come to, however long the history is. To base 2 there were a third fewer
// steps, and a quarter more bytes.
package pack

import (
	"fmt"
	"math/bits"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Base is the number of the text that number n is packed against; 0: it stands alone.
func Base(n int) int {
	if n <= 0 {
		return 0
	}
	return n - 1<<(bits.TrailingZeros(uint(n))&^1)
}

// Steps is how many steps it takes to read number n back.
func Steps(n int) (steps int) {
	for ; n > 0; n >>= 2 {
		steps += n & 3
	}
	return steps
}

// Alones lists the numbers that stand alone, up to the greatest there can be.
func Alones() (all []int) {
	for n := 1; n > 0 && n < 1<<31; n <<= 2 {
		all = append(all, n)
	}
	return all
}

// Most is how many steps a chain may have; numbers need no more.
const Most = bits.UintSize

// least is how small a window may be, and widest how large: what is packed against a text is
// found in it up to there.
const least, widest = 1 << 10, 1 << 27

// dictID tells a reader that there is a dictionary; which one is known from elsewhere.
const dictID = 1

// window is the smallest one that spans so many bytes.
func window(n int) int {
	w := least
	for w < n && w < widest {
		w <<= 1
	}
	return w
}

var alone = sync.OnceValue(func() *zstd.Encoder {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are sound
	}
	return enc
})

var reader = sync.OnceValue(func() *zstd.Decoder {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0))
	if err != nil {
		panic(err)
	}
	return dec
})

// readers are those that unpack what was packed against something, each one content at a time:
// making one costs more than what it does.
var readers = sync.Pool{New: func() any {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(2*widest))
	if err != nil {
		panic(err)
	}
	return dec
}}

// Alone packs a content that stands for itself.
func Alone(content []byte) []byte { return alone().EncodeAll(content, nil) }

// writers are those that pack against something, by the size of their windows, each one content at
// a time: a new one clears some megabytes first.
var writers [bits.UintSize]sync.Pool

// Against packs a content against an earlier one, which is not empty.
func Against(content, base []byte) []byte {
	size := window(len(content) + len(base))
	pool := &writers[bits.TrailingZeros(uint(size))]
	enc, ok := pool.Get().(*zstd.Encoder)
	dict := zstd.WithEncoderDictRaw(dictID, base)
	var err error
	if ok {
		err = enc.ResetWithOptions(nil, dict)
	} else {
		enc, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false),
			zstd.WithWindowSize(size), dict)
	}
	if err != nil {
		panic(err)
	}
	defer pool.Put(enc)
	return enc.EncodeAll(content, nil)
}

// Unpack gives a content back; base is what it was packed against, nil what stands alone. An
// error says that the bytes are not what Alone or Against made.
func Unpack(packed, base []byte) ([]byte, error) { return unpack(packed, base, nil) }

// UnpackChain gives back the last of some contents, each of which is packed against the one
// before it, the first alone.
func UnpackChain(packed [][]byte) (content []byte, err error) {
	var base, room []byte
	for i, p := range packed {
		if i == len(packed)-1 {
			room = nil // nobody else has it
		}
		if content, err = unpack(p, base, room[:0]); err != nil {
			return nil, err
		}
		base, room = content, base
	}
	return content, nil
}

func unpack(packed, base, into []byte) ([]byte, error) {
	if base == nil {
		return reader().DecodeAll(packed, into)
	}
	dec := readers.Get().(*zstd.Decoder)
	defer readers.Put(dec)
	if err := dec.ResetWithOptions(nil, zstd.WithDecoderDictRaw(dictID, base)); err != nil {
		return nil, fmt.Errorf("unpacking: %w", err)
	}
	return dec.DecodeAll(packed, into)
}
