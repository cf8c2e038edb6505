package box

import (
	"bufio"
	"net"
)

// TelnetServer is the device's end of a Telnet connection (RFC 854): it takes
// the client's commands out of what is read.
type TelnetServer struct {
	net.Conn
	r *bufio.Reader
}

// NewTelnet greets a client: it will echo, and asks for no go-aheads, a
// terminal type and a window size.
func NewTelnet(c net.Conn) *TelnetServer {
	_, _ = c.Write([]byte{255, 251, 1, 255, 251, 3, 255, 253, 24, 255, 253, 31})
	return &TelnetServer{c, bufio.NewReader(c)}
}

// Read returns what was typed.
func (t *TelnetServer) Read(p []byte) (int, error) {
	for n := 0; ; {
		b, err := t.r.ReadByte()
		if err != nil {
			return n, err
		}
		if b != 255 {
			p[n] = b
			n++
		} else if more, err := t.command(); err != nil {
			return n, err
		} else if more {
			p[n] = 255
			n++
		}
		if n == len(p) || n > 0 && t.r.Buffered() == 0 {
			return n, nil
		}
	}
}

func (t *TelnetServer) command() (data bool, err error) {
	verb, err := t.r.ReadByte()
	switch {
	case err != nil:
		return false, err
	case verb == 255:
		return true, nil
	case verb == 250: // up to IAC SE
		for last := byte(0); ; {
			b, err := t.r.ReadByte()
			if err != nil || last == 255 && b == 240 {
				return false, err
			}
			last = b
		}
	case verb >= 251:
		_, err = t.r.ReadByte()
	}
	return false, err
}
