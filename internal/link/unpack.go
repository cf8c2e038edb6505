package link

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"
)

// unpack undoes what lies around a document, outermost first. Neither an
// archive that swells beyond Limit nor one with a path that leads out of it is
// taken. inside tells which file of an archive is meant; without it there must
// be only one.
func unpack(raw []byte, kinds []string, inside string) ([]byte, error) {
	for _, kind := range kinds {
		var err error
		switch kind {
		case "gzip":
			raw, err = inflate(gzip.NewReader(bytes.NewReader(raw)))
		case "zlib":
			raw, err = inflate(zlib.NewReader(bytes.NewReader(raw)))
		case "base64":
			clean := strings.Join(strings.Fields(string(raw)), "")
			raw, err = base64.StdEncoding.DecodeString(clean)
		case "zip":
			raw, err = unzip(raw, inside)
		case "tar":
			raw, err = untar(raw, inside)
		default:
			err = fmt.Errorf("nobody knows how")
		}
		if err != nil {
			return nil, fmt.Errorf("it cannot be unpacked (%s): %w", kind, err)
		}
	}
	return raw, nil
}

func inflate(r io.ReadCloser, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return readAll(r)
}

// readAll reads to the end, up to Limit.
func readAll(r io.Reader) ([]byte, error) {
	out, err := io.ReadAll(io.LimitReader(r, Limit+1))
	if err == nil && len(out) > Limit {
		return nil, fmt.Errorf("it swells to more than %d MiB", Limit>>20)
	}
	return out, err
}

// safe tells what is wrong with a file name in an archive, or "".
func safe(name string) error {
	if path.IsAbs(name) || strings.Contains(name, `\`) || strings.HasPrefix(path.Clean(name), "..") || strings.ContainsRune(name, 0) {
		return fmt.Errorf("it holds a file named %q, which leads out of it", name)
	}
	return nil
}

// mostFiles is how many files an archive may hold.
const mostFiles = 10000

func wanted(inside string) (func(string) bool, error) {
	if inside == "" {
		return func(string) bool { return true }, nil
	}
	re, err := regexp.Compile(inside)
	if err != nil {
		return nil, err
	}
	return re.MatchString, nil
}

func unzip(raw []byte, inside string) ([]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return nil, err
	}
	if len(z.File) > mostFiles {
		return nil, fmt.Errorf("it holds %d files", len(z.File))
	}
	want, err := wanted(inside)
	if err != nil {
		return nil, err
	}
	var found *zip.File
	for _, f := range z.File {
		if err := safe(f.Name); err != nil {
			return nil, err
		}
		if f.FileInfo().IsDir() || !want(f.Name) {
			continue
		}
		if found != nil {
			return nil, fmt.Errorf("both %q and %q match; say which under inside", found.Name, f.Name)
		}
		found = f
	}
	if found == nil {
		return nil, errors.New("no file in it matches")
	}
	r, err := found.Open()
	return inflate(r, err) // checks the CRC too
}

func untar(raw []byte, inside string) (out []byte, err error) {
	want, err := wanted(inside)
	if err != nil {
		return nil, err
	}
	t, found := tar.NewReader(bytes.NewReader(raw)), ""
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF && found != "" {
			return out, nil
		}
		if err == io.EOF {
			return nil, errors.New("no file in it matches")
		}
		if err != nil {
			return nil, err
		}
		if n > mostFiles {
			return nil, fmt.Errorf("it holds more than %d files", mostFiles)
		}
		if err := safe(h.Name); err != nil {
			return nil, err
		}
		if h.Typeflag != tar.TypeReg || !want(h.Name) {
			continue
		}
		if found != "" {
			return nil, fmt.Errorf("both %q and %q match; say which under inside", found, h.Name)
		}
		found = h.Name
		if out, err = readAll(t); err != nil {
			return nil, err
		}
	}
}
