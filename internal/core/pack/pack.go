// Package pack makes a text small against an earlier one of the same part, and gives it back
// byte for byte. The form is Zstandard (RFC 8878) with the earlier text as a raw dictionary.
//
// Which earlier text is chosen as in skip-deltas: number n against n with its lowest bit
// cleared. So a text is read back in as many steps as its number has bits that are set, however
// long the history is.
package pack

import (
	"fmt"
	"math/bits"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Base is the number of the text that number n is packed against; 0: it stands alone.
func Base(n int) int { return n & (n - 1) }

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

// Alone packs a content that stands for itself.
func Alone(content []byte) []byte { return alone().EncodeAll(content, nil) }

// Against packs a content against an earlier one, which is not empty.
func Against(content, base []byte) []byte {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false),
		zstd.WithWindowSize(window(len(content)+len(base))), zstd.WithEncoderDictRaw(dictID, base))
	if err != nil {
		panic(err)
	}
	defer enc.Close()
	return enc.EncodeAll(content, nil)
}

// Unpack gives a content back; base is what it was packed against, nil what stands alone. An
// error says that the bytes are not what Alone or Against made.
func Unpack(packed, base []byte) ([]byte, error) {
	if base == nil {
		return reader().DecodeAll(packed, nil)
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderDictRaw(dictID, base), zstd.WithDecoderMaxWindow(2*widest))
	if err != nil {
		return nil, fmt.Errorf("unpacking: %w", err)
	}
	defer dec.Close()
	return dec.DecodeAll(packed, nil)
}
