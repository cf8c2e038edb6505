package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

type folder struct{ root string }

// openFolder opens a folder that is there already: one that is not may be a disk that is not
// mounted.
func openFolder(w Way) (Place, error) {
	st, err := os.Stat(w.Where)
	if err != nil {
		return nil, fmt.Errorf("folder %s: %w", w.Where, plain(err))
	}
	if !st.IsDir() {
		return nil, fmt.Errorf("%s is no folder", w.Where)
	}
	return folder{filepath.Clean(w.Where)}, nil
}

// plain is an error without the path, which is said already.
func plain(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func (f folder) Put(_ context.Context, name string, size int64, from io.Reader) (err error) {
	to, err := inside(f.root, name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	part, err := os.CreateTemp(filepath.Dir(to), ".part-*")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name())
	err = exactly(part, from, size)
	if err == nil {
		err = part.Sync()
	}
	if err := errors.Join(err, part.Close()); err != nil {
		return err
	}
	if err := os.Rename(part.Name(), to); err != nil {
		return err
	}
	dir, err := os.Open(filepath.Dir(to)) // the name, too, is to outlast a loss of power
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (f folder) Get(_ context.Context, name string) (io.ReadCloser, error) {
	at, err := inside(f.root, name)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", name, ErrAbsent)
	}
	return file, err
}

func (f folder) Remove(_ context.Context, name string) error {
	at, err := inside(f.root, name)
	if err != nil {
		return err
	}
	if err := os.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (f folder) Free(context.Context) (int64, bool) {
	var st syscall.Statfs_t
	if syscall.Statfs(f.root, &st) != nil {
		return 0, false
	}
	return int64(st.Bavail) * int64(st.Bsize), true
}

func (f folder) Close() error { return nil }
