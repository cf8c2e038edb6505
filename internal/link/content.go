package link

import (
	"bytes"
	"fmt"
	"io"
)

// Content is what is put on a device: bytes, or what is too large to be held, which is written out as
// it goes.
type Content struct {
	Bytes []byte
	From  func(to io.Writer) error // nil: Bytes
	Size  int64                    // of what From writes
}

func (c Content) size() int64 {
	if c.From != nil {
		return c.Size
	}
	return int64(len(c.Bytes))
}

// open begins to read it. What From fails with comes out of the reader, and whoever closes it before
// its end has From end.
func (c Content) open() io.ReadCloser {
	if c.From == nil {
		return io.NopCloser(bytes.NewReader(c.Bytes))
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(c.From(w)) }()
	return r
}

// whole is it in one piece, for ways that take it so only.
func (c Content) whole(way string) ([]byte, error) {
	if c.From != nil {
		return nil, fmt.Errorf("it has %d bytes; %s takes %d at the most. SFTP, SCP, FTP and HTTP's forms take more", c.Size, way, Limit)
	}
	return c.Bytes, nil
}
