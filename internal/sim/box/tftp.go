package box

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// ServeTFTP answers TFTP requests (RFC 1350, options of RFC 2348 and 2349)
// until the connection is closed.
func ServeTFTP(pc net.PacketConn, get func(name string) ([]byte, error), put func(name string, data []byte) error) {
	in := make([]byte, 65536)
	for {
		n, from, err := pc.ReadFrom(in)
		if err != nil {
			return
		}
		req := bytes.Clone(in[:n])
		host, _, _ := net.SplitHostPort(pc.LocalAddr().String())
		go tftpTransfer(host, from, req, get, put)
	}
}

func tftpTransfer(host string, peer net.Addr, req []byte, get func(string) ([]byte, error), put func(string, []byte) error) {
	c, err := net.ListenPacket("udp", net.JoinHostPort(host, "0"))
	if err != nil {
		return
	}
	defer c.Close()
	fail := func(msg string) { _, _ = c.WriteTo(append([]byte{0, 5, 0, 0}, msg+"\x00"...), peer) }
	if len(req) < 4 {
		return
	}
	op, words := binary.BigEndian.Uint16(req), strings.Split(strings.TrimSuffix(string(req[2:]), "\x00"), "\x00")
	if (op != 1 && op != 2) || len(words) < 2 {
		fail("not understood")
		return
	}
	var data []byte
	if op == 1 {
		if data, err = get(words[0]); err != nil {
			fail(err.Error())
			return
		}
	}
	size, oack := 512, ""
	for i := 2; i+1 < len(words); i += 2 {
		switch v, _ := strconv.Atoi(words[i+1]); strings.ToLower(words[i]) {
		case "blksize":
			if v >= 8 {
				size = min(v, 1428)
				oack += fmt.Sprintf("blksize\x00%d\x00", size)
			}
		case "tsize":
			if op == 1 {
				v = len(data)
			}
			oack += fmt.Sprintf("tsize\x00%d\x00", v)
		}
	}
	// exchange sends a packet until one of the wanted kind comes.
	exchange := func(p []byte, op, block uint16) []byte {
		buf := make([]byte, 65536)
		for range 5 {
			_, _ = c.WriteTo(p, peer)
			_ = c.SetReadDeadline(time.Now().Add(time.Second))
			for {
				n, from, err := c.ReadFrom(buf)
				if err != nil {
					break
				}
				if from.String() == peer.String() && n >= 4 && binary.BigEndian.Uint16(buf) == op && binary.BigEndian.Uint16(buf[2:]) == block {
					return bytes.Clone(buf[4:n])
				}
			}
		}
		return nil
	}
	packet := func(op, block uint16, body []byte) []byte {
		return append(binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, op), block), body...)
	}
	if op == 1 {
		if oack != "" && exchange(append([]byte{0, 6}, oack...), 4, 0) == nil {
			return
		}
		for block := uint16(1); ; block++ {
			n := min(size, len(data))
			if exchange(packet(3, block, data[:n]), 4, block) == nil {
				return
			}
			if data = data[n:]; n < size {
				return
			}
		}
	}
	answer := packet(4, 0, nil)
	if oack != "" {
		answer = append([]byte{0, 6}, oack...)
	}
	for block := uint16(1); ; block++ {
		chunk := exchange(answer, 3, block)
		if chunk == nil {
			return
		}
		data = append(data, chunk...)
		answer = packet(4, block, nil)
		if len(chunk) < size {
			if err := put(words[0], data); err != nil {
				fail(err.Error())
				return
			}
			_, _ = c.WriteTo(answer, peer)
			return
		}
	}
}

// SendTFTP writes a file to a server, 512 bytes at a time, from an address.
func SendTFTP(from, server, name string, data []byte) error {
	to, err := net.ResolveUDPAddr("udp", server)
	if err != nil {
		return err
	}
	c, err := net.ListenPacket("udp", net.JoinHostPort(from, "0"))
	if err != nil {
		return err
	}
	defer c.Close()
	var peer net.Addr = to
	packet, in := []byte("\x00\x02"+name+"\x00octet\x00"), make([]byte, 1024)
	for block := uint16(0); ; block++ {
		_, _ = c.WriteTo(packet, peer)
		_ = c.SetReadDeadline(time.Now().Add(3 * time.Second))
		n, at, err := c.ReadFrom(in)
		if err != nil {
			return fmt.Errorf("the server does not answer")
		}
		if n < 4 || binary.BigEndian.Uint16(in) != 4 || binary.BigEndian.Uint16(in[2:]) != block {
			return fmt.Errorf("the server refuses")
		}
		if block > 0 && len(packet) < 516 {
			return nil
		}
		peer = at
		k := min(512, len(data))
		packet = append(binary.BigEndian.AppendUint16([]byte{0, 3}, block+1), data[:k]...)
		data = data[k:]
	}
}

// FetchTFTP reads a file from a server, 512 bytes at a time, to an address.
func FetchTFTP(to, server, name string) ([]byte, error) {
	peer, err := net.ResolveUDPAddr("udp", server)
	if err != nil {
		return nil, err
	}
	c, err := net.ListenPacket("udp", net.JoinHostPort(to, "0"))
	if err != nil {
		return nil, err
	}
	defer c.Close()
	var out []byte
	packet, in, at := []byte("\x00\x01"+name+"\x00octet\x00"), make([]byte, 1024), net.Addr(peer)
	for block := uint16(1); ; block++ {
		_, _ = c.WriteTo(packet, at)
		_ = c.SetReadDeadline(time.Now().Add(3 * time.Second))
		n, from, err := c.ReadFrom(in)
		if err != nil {
			return nil, fmt.Errorf("the server does not answer")
		}
		if n < 4 || binary.BigEndian.Uint16(in) != 3 || binary.BigEndian.Uint16(in[2:]) != block {
			return nil, fmt.Errorf("the server refuses")
		}
		out, at = append(out, in[4:n]...), from
		packet = binary.BigEndian.AppendUint16([]byte{0, 4}, block)
		if n < 516 {
			_, _ = c.WriteTo(packet, at)
			return out, nil
		}
	}
}
