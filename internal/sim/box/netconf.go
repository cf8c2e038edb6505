package box

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"
)

// Framing is a server's end of NETCONF's framing (RFC 6242 §4): by end marks until
// both sides said that they know chunks.
type Framing struct {
	In      *bufio.Reader
	Chunked bool
	Chunk   int // how long a chunk is, at most
}

const endOfMessage = "]]>]]>"

// Read takes the next message.
func (f *Framing) Read() ([]byte, error) {
	var b []byte
	if !f.Chunked {
		for !bytes.HasSuffix(b, []byte(endOfMessage)) {
			c, err := f.In.ReadByte()
			if err != nil {
				return nil, err
			}
			b = append(b, c)
		}
		return b[:len(b)-len(endOfMessage)], nil
	}
	for {
		if _, err := f.In.ReadString('\n'); err != nil {
			return nil, err
		}
		head, err := f.In.ReadString('\n')
		if err != nil {
			return nil, err
		}
		if head == "##\n" {
			return b, nil
		}
		n, err := strconv.Atoi(strings.Trim(head, "#\n"))
		if err != nil {
			return nil, err
		}
		chunk := make([]byte, n)
		if _, err := io.ReadFull(f.In, chunk); err != nil {
			return nil, err
		}
		b = append(b, chunk...)
	}
}

// Frame makes a message ready to be sent, in chunks of whatever length.
func (f *Framing) Frame(msg []byte) []byte {
	if !f.Chunked {
		return append(bytes.Clone(msg), endOfMessage...)
	}
	var b bytes.Buffer
	for len(msg) > 0 {
		n := min(len(msg), 1+rand.IntN(f.Chunk))
		fmt.Fprintf(&b, "\n#%d\n", n)
		b.Write(msg[:n])
		msg = msg[n:]
	}
	b.WriteString("\n##\n")
	return b.Bytes()
}
