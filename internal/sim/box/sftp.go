package box

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/pkg/sftp"
)

// Disk is what a device serves by SFTP, with its faults. Names have no slash in front.
type Disk struct {
	Base  *Base
	Ctx   context.Context
	Room  int    // bytes that a file may have
	Cut   func() // drops the connection
	Read  func(name string) ([]byte, error)
	Write func(name string, content []byte) error
	Files func() map[string][]byte
}

// ServeSFTP serves a disk until the other side hangs up.
func ServeSFTP(rw io.ReadWriteCloser, h *Disk) {
	_ = sftp.NewRequestServer(rw, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h}).Serve()
}

// Fileread reads a file, with the faults in force.
func (h *Disk) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	if err := h.Base.Wait(h.Ctx, "sftp "+strings.TrimPrefix(r.Filepath, "/")); err != nil {
		return nil, err
	}
	raw, err := h.Read(r.Filepath)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	f := h.Base.Faults()
	if f.Endless {
		return endless{h.Ctx}, nil
	}
	if err := h.Base.Show(h.Ctx, &b, raw, ""); err == ErrCut {
		return cutReader{bytes.NewReader(b.Bytes()), int64(b.Len()), h.Cut}, nil
	}
	return bytes.NewReader(b.Bytes()), nil
}

// endless is a file that never ends.
type endless struct{ ctx context.Context }

func (e endless) ReadAt(p []byte, _ int64) (int, error) {
	for i := range p {
		p[i] = "port 1 : label is <x>\n"[i%22]
	}
	return len(p), e.ctx.Err()
}

// cutReader drops the connection where the content ends.
type cutReader struct {
	*bytes.Reader
	n   int64
	cut func()
}

func (c cutReader) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > c.n {
		c.cut()
		return 0, io.ErrUnexpectedEOF
	}
	return c.Reader.ReadAt(p, off)
}

// Filewrite takes a file when it is closed.
func (h *Disk) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if h.Base.Faults().FullDisk {
		return nil, fmt.Errorf("the disk is full")
	}
	return &upload{h: h, name: r.Filepath}, nil
}

type upload struct {
	h    *Disk
	name string
	data []byte
}

func (u *upload) WriteAt(p []byte, off int64) (int, error) {
	if need := int(off) + len(p); need > len(u.data) {
		if need > u.h.Room {
			return 0, fmt.Errorf("the disk is full")
		}
		u.data = append(u.data, make([]byte, need-len(u.data))...)
	}
	return copy(u.data[off:], p), nil
}

func (u *upload) Close() error { return u.h.Write(u.name, u.data) }

// Filecmd does nothing but what sets a file's properties.
func (h *Disk) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

type info struct {
	name string
	size int64
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) Mode() os.FileMode  { return 0o600 }
func (i info) ModTime() time.Time { return time.Unix(0, 0) }
func (i info) IsDir() bool        { return false }
func (i info) Sys() any           { return nil }

type listing []os.FileInfo

func (l listing) ListAt(out []os.FileInfo, off int64) (int, error) {
	if off >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(out, l[off:])
	if n < len(out) {
		return n, io.EOF
	}
	return n, nil
}

// Filelist lists files, or one (Stat).
func (h *Disk) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	files := h.Files()
	if r.Method == "Stat" {
		name := strings.TrimPrefix(r.Filepath, "/")
		raw, ok := files[name]
		if !ok {
			return nil, os.ErrNotExist
		}
		switch h.Base.Faults().Sizes {
		case "none":
			return nil, sftp.ErrSSHFxOpUnsupported
		case "zero":
			raw = nil
		}
		return listing{info{name, int64(len(raw))}}, nil
	}
	var all listing
	for n, raw := range files {
		all = append(all, info{n, int64(len(raw))})
	}
	return all, nil
}
