package link

import (
	"encoding/binary"
	"io"
	"net"
	"sync"
)

// Telnet bytes: RFC 854, and options by RFC 857 (echo), 858 (suppress go
// ahead), 1091 (terminal type), 1073 (window size).
const (
	tnSE   = 240
	tnSB   = 250
	tnWILL = 251
	tnWONT = 252
	tnDO   = 253
	tnDONT = 254
	tnIAC  = 255

	optEcho  = 1
	optSGA   = 3
	optType  = 24
	optSize  = 31
	sendType = 1
	isType   = 0
)

// longestOption is how long a subnegotiation may be before it is thrown away.
const longestOption = 512

// telnet is the client's end of a Telnet connection: it takes the options out
// of what is read and answers them, and puts Telnet's line ends into what is
// written.
type telnet struct {
	conn net.Conn

	mu   sync.Mutex // guards writes: data and answers to options
	ours [256]bool  // options we said WILL to
	his  [256]bool  // options we said DO to

	state  int // where in a command the last byte left us
	verb   byte
	sub    []byte
	cr     bool
	buffer [4 << 10]byte
}

// What the reader is in the middle of.
const (
	inData = iota
	inIAC
	inOption
	inSub
	inSubIAC
)

func newTelnet(conn net.Conn) *telnet { return &telnet{conn: conn} }

// Read returns data without Telnet's commands.
func (t *telnet) Read(p []byte) (int, error) {
	for {
		n, err := t.conn.Read(t.buffer[:min(len(t.buffer), len(p))])
		out := 0
		for _, b := range t.buffer[:n] {
			if data, ok := t.take(b); ok {
				p[out] = data
				out++
			}
		}
		if out > 0 || err != nil {
			return out, err
		}
	}
}

// take passes one byte through the state machine.
func (t *telnet) take(b byte) (data byte, ok bool) {
	switch t.state {
	case inIAC:
		t.state = inData
		switch b {
		case tnIAC:
			return b, true
		case tnSB:
			t.state, t.sub = inSub, t.sub[:0]
		case tnWILL, tnWONT, tnDO, tnDONT:
			t.state, t.verb = inOption, b
		}
		return 0, false
	case inOption:
		t.state = inData
		t.option(t.verb, b)
		return 0, false
	case inSub:
		if b == tnIAC {
			t.state = inSubIAC
		} else if len(t.sub) < longestOption {
			t.sub = append(t.sub, b)
		}
		return 0, false
	case inSubIAC:
		t.state = inSub
		switch b {
		case tnSE:
			t.state = inData
			t.subOption()
		case tnIAC:
			if len(t.sub) < longestOption {
				t.sub = append(t.sub, b)
			}
		}
		return 0, false
	}
	// RFC 854: a return is followed by a newline, or by a null that says nothing.
	after := t.cr
	t.cr = b == '\r'
	if b == tnIAC {
		t.state, t.cr = inIAC, after
		return 0, false
	}
	if b == 0 && after {
		return 0, false
	}
	return b, true
}

// option answers a request to switch an option, once for each change, so that
// two ends can never keep answering each other.
func (t *telnet) option(verb, opt byte) {
	set := func(state *bool, to bool, yes, no byte) {
		switch {
		case *state == to && to:
		case to:
			*state = true
			t.command(yes, opt)
		case *state:
			*state = false
			t.command(no, opt)
		}
	}
	switch verb {
	case tnWILL:
		if opt == optEcho || opt == optSGA {
			set(&t.his[opt], true, tnDO, tnDONT)
		} else {
			t.command(tnDONT, opt)
		}
	case tnWONT:
		set(&t.his[opt], false, tnDO, tnDONT)
	case tnDO:
		switch opt {
		case optSGA, optType:
			set(&t.ours[opt], true, tnWILL, tnWONT)
		case optSize:
			if !t.ours[opt] {
				t.ours[opt] = true
				t.command(tnWILL, opt)
				size := make([]byte, 4)
				binary.BigEndian.PutUint16(size, 512)
				binary.BigEndian.PutUint16(size[2:], 100)
				t.suboption(opt, size)
			}
		default:
			t.command(tnWONT, opt)
		}
	case tnDONT:
		set(&t.ours[opt], false, tnWILL, tnWONT)
	}
}

func (t *telnet) subOption() {
	if len(t.sub) == 2 && t.sub[0] == optType && t.sub[1] == sendType && t.ours[optType] {
		t.suboption(optType, append([]byte{isType}, "DUMB"...))
	}
}

func (t *telnet) command(verb, opt byte) { t.raw([]byte{tnIAC, verb, opt}) }

func (t *telnet) suboption(opt byte, data []byte) {
	out := []byte{tnIAC, tnSB, opt}
	for _, b := range data {
		if out = append(out, b); b == tnIAC {
			out = append(out, b)
		}
	}
	t.raw(append(out, tnIAC, tnSE))
}

func (t *telnet) raw(b []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, _ = t.conn.Write(b) // a broken connection shows on the next read
}

// Write sends data; a return goes out as the end of a line (RFC 854, RFC 1123
// §3.3.1).
func (t *telnet) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p)+8)
	for _, b := range p {
		switch b {
		case '\r':
			out = append(out, '\r', 0)
		case tnIAC:
			out = append(out, b, b)
		default:
			out = append(out, b)
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, err := t.conn.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

var _ io.ReadWriter = (*telnet)(nil)
