package link

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// endMark ends a message of NETCONF 1.0 (RFC 6242 §4.3).
const endMark = "]]>]]>"

// unframer cuts a stream into messages: at the end mark, or, once Chunked is
// set, as chunks say (RFC 6242 §4.2).
type unframer struct {
	r       io.Reader
	chunked bool
	buf     []byte
	chunk   []byte
}

// errFraming is returned when a stream is not framed as RFC 6242 says.
var errFraming = errors.New("the device does not frame its messages as RFC 6242 says")

func (u *unframer) fill() error {
	if u.chunk == nil {
		u.chunk = make([]byte, 32<<10)
	}
	n, err := u.r.Read(u.chunk)
	u.buf = append(u.buf, u.chunk[:n]...)
	if n > 0 {
		return nil
	}
	return err
}

// next returns the next message.
func (u *unframer) next() ([]byte, error) {
	if u.chunked {
		return u.nextChunked()
	}
	seen := 0
	for {
		if i := bytes.Index(u.buf[seen:], []byte(endMark)); i >= 0 {
			msg := bytes.Clone(u.buf[:seen+i])
			u.buf = u.buf[seen+i+len(endMark):]
			return msg, nil
		}
		seen = max(0, len(u.buf)-len(endMark)+1)
		if len(u.buf) > Limit {
			return nil, ErrEndless
		}
		if err := u.fill(); err != nil {
			return nil, err
		}
	}
}

// longestHead is how long the head of a chunk may be: "\n#", ten digits, "\n".
const longestHead = 13

func (u *unframer) nextChunked() ([]byte, error) {
	var msg []byte
	for {
		// Between messages, and before the first, some servers write an end of line more.
		for msg == nil && len(u.buf) > 1 && bytes.IndexByte([]byte(" \t\r\n"), u.buf[0]) >= 0 && u.buf[1] != '#' {
			u.buf = u.buf[1:]
		}
		n, end, used, err := chunkHead(u.buf)
		switch {
		case err != nil:
			return nil, err
		case used == 0:
			if err := u.fill(); err != nil {
				return nil, err
			}
			continue
		case end && msg == nil:
			return nil, fmt.Errorf("%w: a message without a chunk", errFraming)
		case end:
			u.buf = u.buf[used:]
			return msg, nil
		}
		u.buf = u.buf[used:]
		if len(msg)+n > Limit {
			return nil, ErrEndless
		}
		for len(u.buf) < n {
			if err := u.fill(); err != nil {
				return nil, err
			}
		}
		msg = append(msg, u.buf[:n]...)
		u.buf = u.buf[n:] // what is read is left behind when the buffer next grows
	}
}

// chunkHead reads "\n#12\n" or "\n##\n". used is 0 while it is not all there.
func chunkHead(b []byte) (n int, end bool, used int, err error) {
	bad := func() error {
		return fmt.Errorf("%w: %q is no head of a chunk", errFraming, b[:min(len(b), longestHead)])
	}
	if len(b) > 0 && b[0] != '\n' || len(b) > 1 && b[1] != '#' {
		return 0, false, 0, bad()
	}
	if len(b) < 4 {
		return 0, false, 0, nil
	}
	nl := bytes.IndexByte(b[2:min(len(b), longestHead)], '\n')
	if nl < 0 {
		if len(b) >= longestHead {
			return 0, false, 0, bad()
		}
		return 0, false, 0, nil
	}
	word := string(b[2 : 2+nl])
	if word == "#" {
		return 0, true, 2 + nl + 1, nil
	}
	size, e := strconv.ParseUint(word, 10, 32)
	if e != nil || size == 0 || word[0] < '1' || word[0] > '9' {
		return 0, false, 0, bad()
	}
	return int(size), false, 2 + nl + 1, nil
}

// frame makes a message ready to be sent.
func frame(msg []byte, chunked bool) []byte {
	if !chunked {
		return append(bytes.Clone(msg), endMark...)
	}
	return fmt.Appendf(nil, "\n#%d\n%s\n##\n", len(msg), msg)
}
