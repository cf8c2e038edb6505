package link

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"strconv"
	"strings"

	"magpie/internal/dialect"
)

// Basin takes an opaque part that is too large to be held. Nothing is kept of it until
// whoever opened it says so; Drop gives it up.
type Basin interface {
	io.Writer
	Drop()
}

// largest is how large a part may be that runs over.
const largest = 8 << 30

// flow takes what a device sends. What is larger than Limit runs over into a basin, where
// it may and its size was said beforehand: by the device, or in the file itself. What proves
// that it is whole is followed as it comes.
type flow struct {
	open  func() Basin // nil: more than Limit is too much
	proof *proving     // of what runs over
	held  bytes.Buffer
	basin Basin
	size  int64
	said  int64 // the size that the device said; 0: none
}

// end is where it ends, by what was said of it; 0: nothing was.
func (f *flow) end() int64 {
	if f.said > 0 {
		return f.said
	}
	return f.proof.end()
}

// anew forgets what came, for it comes once more.
func (f *flow) anew() {
	if f.basin != nil {
		f.basin.Drop()
	}
	f.held, f.basin, f.size, f.said = bytes.Buffer{}, nil, 0, 0
	if f.proof != nil {
		f.proof = newProving(f.proof.Whole)
	}
}

// Write takes more of it.
func (f *flow) Write(p []byte) (int, error) {
	f.size += int64(len(p))
	if f.basin == nil && f.held.Len()+len(p) <= Limit {
		return f.held.Write(p)
	}
	if f.open == nil {
		f.held.Write(p[:min(len(p), Limit-f.held.Len())])
		return 0, ErrEndless
	}
	if f.basin == nil {
		_, _ = f.proof.Write(f.held.Bytes())
		if end := f.end(); end < f.size || end > largest {
			return 0, ErrEndless
		}
		f.basin = f.open()
		if _, err := f.basin.Write(f.held.Bytes()); err != nil {
			return 0, err
		}
		f.held.Truncate(most) // for a look, should it be of no use
	}
	if f.size > f.end() {
		return 0, ErrEndless
	}
	return io.MultiWriter(f.proof, f.basin).Write(p)
}

// proving follows a file as it comes, for what proves that it is whole.
type proving struct {
	dialect.Whole
	size             int64
	magic            []byte
	length, checksum []byte // the numbers that stand in the file
	sum              hash.Hash
}

func newProving(w dialect.Whole) *proving {
	p := &proving{Whole: w}
	if w.Checksum != nil {
		switch w.Checksum.Kind {
		case "crc32":
			p.sum = crc32.NewIEEE()
		case "sha256":
			p.sum = sha256.New()
		case "sum32":
			p.sum = new(sum32)
		}
	}
	return p
}

func (p *proving) Write(b []byte) (int, error) {
	within := func(at, n int) []byte { // what of b lies there
		from, to := int64(at)-p.size, int64(at+n)-p.size
		return b[min(max(from, 0), int64(len(b))):min(max(to, 0), int64(len(b)))]
	}
	p.magic = append(p.magic, within(0, len(p.Magic)/2)...)
	if l := p.Length; l != nil {
		p.length = append(p.length, within(l.At, l.Bytes)...)
	}
	if c := p.Checksum; c != nil {
		if c.Kept == "" {
			p.checksum = append(p.checksum, within(c.At, c.Bytes)...)
		}
		p.sum.Write(b[min(max(int64(c.From)-p.size, 0), int64(len(b))):])
	}
	p.size += int64(len(b))
	return len(b), nil
}

// end is where the file ends by its own length; 0: it does not say, or not yet.
func (p *proving) end() int64 {
	if p.Length == nil {
		return 0
	}
	n, ok := number(p.length, *p.Length)
	if !ok || n > largest {
		return 0
	}
	return int64(n) + int64(p.Length.Counts)
}

// wrong tells what keeps what came from being whole, or "".
func (p *proving) wrong(vars map[string]string) string {
	if magic, _ := hex.DecodeString(p.Magic); !bytes.Equal(p.magic, magic) {
		return "it does not begin as such a file does"
	}
	if p.Size != "" {
		if n, err := strconv.ParseInt(strings.TrimSpace(vars[p.Size]), 10, 64); err != nil || n != p.size {
			return fmt.Sprintf("the device says it has %q bytes, %d came", vars[p.Size], p.size)
		}
	}
	if p.Length != nil {
		n, ok := number(p.length, *p.Length)
		if have := p.size - int64(p.Length.Counts); !ok || have < 0 || n != uint64(have) {
			return fmt.Sprintf("it says that it has %d bytes, %d came", n, max(have, 0))
		}
	}
	if c := p.Checksum; c != nil {
		if int64(c.From) > p.size {
			return "it is too short for its checksum"
		}
		sum, says := hex.EncodeToString(p.sum.Sum(nil)), strings.ToLower(strings.TrimSpace(vars[c.Kept]))
		if c.Kept == "" {
			n, ok := number(p.checksum, c.Field)
			if !ok {
				return "it is too short for its checksum"
			}
			says = fmt.Sprintf("%08x", n)
		}
		if says != sum {
			return fmt.Sprintf("its checksum is %s, it should be %s", sum, says)
		}
	}
	return ""
}

// number reads a number from its bytes.
func number(b []byte, f dialect.Field) (uint64, bool) {
	if len(b) != f.Bytes {
		return 0, false
	}
	var order binary.ByteOrder = binary.BigEndian
	if f.Order == "little" {
		order = binary.LittleEndian
	}
	switch f.Bytes {
	case 1:
		return uint64(b[0]), true
	case 2:
		return uint64(order.Uint16(b)), true
	case 4:
		return uint64(order.Uint32(b)), true
	}
	return order.Uint64(b), true
}

// checkBytes tells what keeps a file from being whole, or "".
func checkBytes(w dialect.Whole, raw []byte, vars map[string]string) string {
	p := newProving(w)
	_, _ = p.Write(raw)
	return p.wrong(vars)
}

// sum32 adds up bytes.
type sum32 struct {
	hash.Hash
	n uint32
}

func (s *sum32) Write(p []byte) (int, error) {
	for _, b := range p {
		s.n += uint32(b)
	}
	return len(p), nil
}

func (s *sum32) Sum(to []byte) []byte { return binary.BigEndian.AppendUint32(to, s.n) }
