package link

import (
	"bytes"
	"io"
	"net"
	"testing"
	"time"
)

// pipeConn is a connection whose reads come from a buffer and whose writes go
// to another.
type pipeConn struct {
	net.Conn
	in  io.Reader
	out bytes.Buffer
}

func (c *pipeConn) Read(p []byte) (int, error)       { return c.in.Read(p) }
func (c *pipeConn) Write(p []byte) (int, error)      { return c.out.Write(p) }
func (c *pipeConn) SetDeadline(time.Time) error      { return nil }
func (c *pipeConn) Close() error                     { return nil }
func (c *pipeConn) SetReadDeadline(time.Time) error  { return nil }
func (c *pipeConn) SetWriteDeadline(time.Time) error { return nil }

func TestTelnetOptions(t *testing.T) {
	for _, c := range []struct {
		name, in, data, answers string
	}{
		{"plain", "a\r\nb\r\x00c", "a\r\nb\rc", ""},
		{"a doubled 255 is data", "a\xff\xffb", "a\xffb", ""},
		{"echo, once", "\xff\xfb\x01\xff\xfb\x01x", "x", "\xff\xfd\x01"},
		{"echo on and off", "\xff\xfb\x01\xff\xfc\x01\xff\xfc\x01", "", "\xff\xfd\x01\xff\xfe\x01"},
		{"an option nobody knows", "\xff\xfb\x63\xff\xfd\x63", "", "\xff\xfe\x63\xff\xfc\x63"},
		{"window size", "\xff\xfd\x1f", "", "\xff\xfb\x1f\xff\xfa\x1f\x02\x00\x00\x64\xff\xf0"},
		{"terminal type", "\xff\xfd\x18\xff\xfa\x18\x01\xff\xf0", "", "\xff\xfb\x18\xff\xfa\x18\x00DUMB\xff\xf0"},
		{"a type asked for without leave", "\xff\xfa\x18\x01\xff\xf0z", "z", ""},
		{"commands in mid-word", "ab\xff\xf1cd\xff\xf9", "abcd", ""},
		{"an option in mid-line end", "a\r\xff\xf1\x00b", "a\rb", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, step := range []int{1, 2, 1000} { // however it is cut
				conn := &pipeConn{in: &stepReader{[]byte(c.in), step}}
				got, err := io.ReadAll(newTelnet(conn))
				if err != nil || string(got) != c.data || conn.out.String() != c.answers {
					t.Errorf("%d at a time: %q, answered %q, %v", step, got, conn.out.String(), err)
				}
			}
		})
	}
	conn := &pipeConn{}
	if _, err := newTelnet(conn).Write([]byte("a\xff\r")); err != nil || conn.out.String() != "a\xff\xff\r\x00" {
		t.Errorf("wrote %q, %v", conn.out.String(), err)
	}
}

type stepReader struct {
	b    []byte
	step int
}

func (r *stepReader) Read(p []byte) (int, error) {
	if len(r.b) == 0 {
		return 0, io.EOF
	}
	n := copy(p, r.b[:min(r.step, len(r.b))])
	r.b = r.b[n:]
	return n, nil
}

// FuzzTelnet: whatever comes, no more is answered than was asked, the data is
// no longer than the stream, and how it is cut does not matter.
func FuzzTelnet(f *testing.F) {
	f.Add([]byte("\xff\xfb\x01a\xff\xff\r\x00\xff\xfa\x18\x01\xff\xf0"))
	f.Fuzz(func(t *testing.T, in []byte) {
		whole := &pipeConn{in: &stepReader{in, 1 << 20}}
		a, _ := io.ReadAll(newTelnet(whole))
		bits := &pipeConn{in: &stepReader{in, 1}}
		b, _ := io.ReadAll(newTelnet(bits))
		if !bytes.Equal(a, b) || !bytes.Equal(whole.out.Bytes(), bits.out.Bytes()) {
			t.Fatalf("%q and %q", a, b)
		}
		if len(a) > len(in) || whole.out.Len() > 6*len(in)+8 {
			t.Fatalf("%d bytes in, %d out, %d answered", len(in), len(a), whole.out.Len())
		}
	})
}
