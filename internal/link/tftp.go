package link

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// TFTP opcodes (RFC 1350 §5, RFC 2347).
const (
	TFTPRead  = 1
	TFTPWrite = 2
	TFTPData  = 3
	TFTPAck   = 4
	TFTPError = 5
	TFTPOAck  = 6
)

// TFTPPacket is a packet of RFC 1350 with the options of RFC 2347.
type TFTPPacket struct {
	Op      uint16
	File    string // of a request
	Mode    string
	Options [][2]string // in order; of a request or an option acknowledgement
	Block   uint16      // of data and acknowledgements
	Data    []byte
	Code    uint16 // of an error
	Message string
}

var errTFTP = errors.New("not a TFTP packet")

// ParseTFTP reads a packet.
func ParseTFTP(b []byte) (p TFTPPacket, err error) {
	if len(b) < 4 {
		return p, errTFTP
	}
	p.Op = binary.BigEndian.Uint16(b)
	rest := b[2:]
	switch p.Op {
	case TFTPRead, TFTPWrite, TFTPOAck:
		if rest[len(rest)-1] != 0 {
			return p, errTFTP
		}
		words := strings.Split(string(rest[:len(rest)-1]), "\x00")
		if p.Op != TFTPOAck {
			if len(words) < 2 || words[0] == "" {
				return p, errTFTP
			}
			p.File, p.Mode, words = words[0], strings.ToLower(words[1]), words[2:]
		}
		if len(words)%2 != 0 || len(words) > 32 {
			return p, errTFTP
		}
		for i := 0; i < len(words); i += 2 {
			p.Options = append(p.Options, [2]string{strings.ToLower(words[i]), words[i+1]})
		}
	case TFTPData, TFTPAck:
		p.Block, p.Data = binary.BigEndian.Uint16(rest), rest[2:]
		if p.Op == TFTPAck && len(p.Data) > 0 {
			return p, errTFTP
		}
	case TFTPError:
		p.Code = binary.BigEndian.Uint16(rest)
		p.Message, _, _ = strings.Cut(string(rest[2:]), "\x00")
	default:
		return p, errTFTP
	}
	return p, nil
}

// Bytes is the packet as sent.
func (p TFTPPacket) Bytes() []byte {
	b := binary.BigEndian.AppendUint16(nil, p.Op)
	word := func(s string) { b = append(append(b, s...), 0) }
	switch p.Op {
	case TFTPRead, TFTPWrite:
		word(p.File)
		word(p.Mode)
	case TFTPData, TFTPAck:
		return append(binary.BigEndian.AppendUint16(b, p.Block), p.Data...)
	case TFTPError:
		b = binary.BigEndian.AppendUint16(b, p.Code)
		word(p.Message)
	}
	for _, o := range p.Options {
		word(o[0])
		word(o[1])
	}
	return b
}

// TFTP block sizes (RFC 2348) and how often a packet is sent again.
const (
	tftpPlain = 512
	tftpWant  = 1428
	tftpTries = 5
)

// TFTPGet reads a file from a server. timeout is how long one packet is waited
// for before the last is sent again.
func TFTPGet(ctx context.Context, address string, port int, file string, timeout time.Duration) ([]byte, error) {
	t, err := newTFTP(ctx, address, port, timeout)
	if err != nil {
		return nil, err
	}
	defer t.close()
	ask := TFTPPacket{Op: TFTPRead, File: file, Mode: "octet", Options: [][2]string{{"blksize", strconv.Itoa(tftpWant)}, {"tsize", "0"}}}
	p, err := t.exchange(ask, func(p TFTPPacket) bool { return p.Op == TFTPOAck || p.Op == TFTPData && p.Block == 1 })
	if err != nil {
		return nil, fmt.Errorf("asking for %s by TFTP: %w", file, err)
	}
	return t.receive(p)
}

// receive takes blocks until a short one. p is what answered the request: the
// first block, or the options taken.
func (t *tftp) receive(p TFTPPacket) ([]byte, error) {
	size, expected := tftpPlain, -1
	ack := TFTPPacket{Op: TFTPAck}
	if p.Op == TFTPOAck {
		var err error
		if size, expected, err = t.options(p); err != nil {
			return nil, err
		}
		if p, err = t.exchange(ack, func(p TFTPPacket) bool { return p.Op == TFTPData && p.Block == 1 }); err != nil {
			return nil, err
		}
	}
	return t.blocks(p, size, expected)
}

// blocks takes the first block and all others until a short one. expected is
// how many bytes were announced, or -1.
func (t *tftp) blocks(p TFTPPacket, size, expected int) ([]byte, error) {
	var out bytes.Buffer
	ack := TFTPPacket{Op: TFTPAck}
	for block := uint16(1); ; {
		if len(p.Data) > size {
			t.fail(4, "block longer than agreed")
			return out.Bytes(), errors.New("a block is longer than was agreed")
		}
		out.Write(p.Data)
		if out.Len() > Limit {
			t.fail(3, "too large")
			return out.Bytes(), ErrEndless
		}
		ack.Block = block
		if len(p.Data) < size {
			_, _ = t.conn.WriteToUDP(ack.Bytes(), t.peer)
			if expected >= 0 && expected != out.Len() {
				return out.Bytes(), fmt.Errorf("the server announced %d bytes, %d came", expected, out.Len())
			}
			return out.Bytes(), nil
		}
		block++
		var err error
		if p, err = t.exchange(ack, func(p TFTPPacket) bool { return p.Op == TFTPData && p.Block == block }); err != nil {
			return out.Bytes(), err
		}
	}
}

// options reads an option acknowledgement. A size of -1 was not told.
func (t *tftp) options(p TFTPPacket) (blksize, tsize int, err error) {
	blksize, tsize = tftpPlain, -1
	for _, o := range p.Options {
		n, bad := strconv.Atoi(o[1])
		switch {
		case o[0] == "blksize" && bad == nil && n >= 8 && n <= tftpWant:
			blksize = n
		case o[0] == "tsize" && bad == nil && n >= 0:
			tsize = n
		default:
			t.fail(8, "option not asked for")
			return 0, 0, fmt.Errorf("the server answers with option %s=%s, which was not asked for", o[0], o[1])
		}
	}
	return blksize, tsize, nil
}

// TFTPPut writes a file to a server.
func TFTPPut(ctx context.Context, address string, port int, file string, data []byte, timeout time.Duration) error {
	t, err := newTFTP(ctx, address, port, timeout)
	if err != nil {
		return err
	}
	defer t.close()
	ask := TFTPPacket{Op: TFTPWrite, File: file, Mode: "octet", Options: [][2]string{{"blksize", strconv.Itoa(tftpWant)}, {"tsize", strconv.Itoa(len(data))}}}
	p, err := t.exchange(ask, func(p TFTPPacket) bool { return p.Op == TFTPOAck || p.Op == TFTPAck && p.Block == 0 })
	if err != nil {
		return fmt.Errorf("writing %s by TFTP: %w", file, err)
	}
	size := tftpPlain
	if p.Op == TFTPOAck {
		if size, _, err = t.options(p); err != nil {
			return err
		}
	}
	return t.send(data, size)
}

// send sends blocks, the last one short.
func (t *tftp) send(data []byte, size int) error {
	for block := uint16(1); ; block++ {
		n := min(size, len(data))
		_, err := t.exchange(TFTPPacket{Op: TFTPData, Block: block, Data: data[:n]}, func(p TFTPPacket) bool { return p.Op == TFTPAck && p.Block == block })
		if err != nil {
			return err
		}
		if data = data[n:]; n < size {
			return nil
		}
	}
}

// tftp is one transfer: a port of ours and, once it answered, a port of the
// server's (RFC 1350 §4).
type tftp struct {
	ctx     context.Context
	conn    *net.UDPConn
	peer    *net.UDPAddr
	settled bool // the peer's port is known
	timeout time.Duration
	stop    func() bool
}

func newTFTP(ctx context.Context, address string, port int, timeout time.Duration) (*tftp, error) {
	peer, err := net.ResolveUDPAddr("udp", net.JoinHostPort(address, strconv.Itoa(port)))
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
	}
	conn, err := net.ListenUDP("udp", nil)
	if err != nil {
		return nil, err
	}
	return &tftp{ctx, conn, peer, false, timeout, context.AfterFunc(ctx, func() { conn.Close() })}, nil
}

func (t *tftp) close() {
	t.stop()
	t.conn.Close()
}

func (t *tftp) fail(code uint16, message string) {
	_, _ = t.conn.WriteToUDP(TFTPPacket{Op: TFTPError, Code: code, Message: message}.Bytes(), t.peer)
}

// exchange sends a packet until one comes that is good. Packets of another
// address, and late copies of earlier ones, are not.
func (t *tftp) exchange(p TFTPPacket, good func(TFTPPacket) bool) (TFTPPacket, error) {
	raw, in := p.Bytes(), make([]byte, 65536)
	for range tftpTries {
		if _, err := t.conn.WriteToUDP(raw, t.peer); err != nil {
			return TFTPPacket{}, err
		}
		for until := time.Now().Add(t.timeout); ; {
			_ = t.conn.SetReadDeadline(until)
			n, from, err := t.conn.ReadFromUDP(in)
			if t.ctx.Err() != nil {
				return TFTPPacket{}, context.Cause(t.ctx)
			}
			if err != nil {
				break // time to send it again
			}
			if !from.IP.Equal(t.peer.IP) || t.settled && from.Port != t.peer.Port {
				_, _ = t.conn.WriteToUDP(TFTPPacket{Op: TFTPError, Code: 5, Message: "unknown transfer"}.Bytes(), from)
				continue
			}
			got, err := ParseTFTP(in[:n])
			if err != nil {
				continue
			}
			if got.Op == TFTPError {
				return got, &Refused{Means: "refused", Words: fmt.Sprintf("TFTP error %d: %s", got.Code, got.Message)}
			}
			if good(got) {
				t.peer, t.settled = from, true
				got.Data = bytes.Clone(got.Data)
				return got, nil
			}
		}
	}
	if !t.settled {
		return TFTPPacket{}, fmt.Errorf("%w: nothing answers TFTP at %s", ErrUnreachable, t.peer)
	}
	return TFTPPacket{}, &TimeoutError{What: "waiting for a TFTP packet", Took: tftpTries * t.timeout}
}

// AnswerTFTP begins a transfer with a client that sent a request, from a port
// of its own (RFC 1350 §4).
func AnswerTFTP(ctx context.Context, listen string, peer *net.UDPAddr, timeout time.Duration) (*TFTPTransfer, error) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(listen)})
	if err != nil {
		return nil, err
	}
	return &TFTPTransfer{tftp{ctx, conn, peer, true, timeout, context.AfterFunc(ctx, func() { conn.Close() })}}, nil
}

// TFTPTransfer is one transfer as a server sees it.
type TFTPTransfer struct{ t tftp }

// Close ends it.
func (t *TFTPTransfer) Close() { t.t.close() }

// Refuse says no.
func (t *TFTPTransfer) Refuse(words string) { t.t.fail(2, words) }

// agree takes the options that are understood. size is the whole file's, or -1.
func agree(p TFTPPacket, size int) (block int, answer TFTPPacket) {
	block, answer = tftpPlain, TFTPPacket{Op: TFTPOAck}
	for _, o := range p.Options {
		n, err := strconv.Atoi(o[1])
		switch {
		case err != nil:
		case o[0] == "blksize" && n >= 8:
			block = min(n, tftpWant)
			answer.Options = append(answer.Options, [2]string{"blksize", strconv.Itoa(block)})
		case o[0] == "tsize":
			if size >= 0 {
				n = size
			}
			answer.Options = append(answer.Options, [2]string{"tsize", strconv.Itoa(n)})
		}
	}
	return block, answer
}

// Give answers a read request.
func (t *TFTPTransfer) Give(req TFTPPacket, content []byte) error {
	block, answer := agree(req, len(content))
	if len(answer.Options) > 0 {
		if _, err := t.t.exchange(answer, func(p TFTPPacket) bool { return p.Op == TFTPAck && p.Block == 0 }); err != nil {
			return err
		}
	}
	return t.t.send(content, block)
}

// Take answers a write request and returns the file.
func (t *TFTPTransfer) Take(req TFTPPacket) ([]byte, error) {
	block, answer := agree(req, -1)
	if len(answer.Options) == 0 {
		answer = TFTPPacket{Op: TFTPAck}
	}
	first, err := t.t.exchange(answer, func(p TFTPPacket) bool { return p.Op == TFTPData && p.Block == 1 })
	if err != nil {
		return nil, err
	}
	return t.t.blocks(first, block, -1)
}
