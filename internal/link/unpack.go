package link

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"

	"magpie/internal/dialect"
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

// number reads a number out of a file.
func number(raw []byte, f dialect.Field) (uint64, bool) {
	n := f.Bytes
	if n == 0 {
		n = 4
	}
	if f.At+n > len(raw) {
		return 0, false
	}
	b := raw[f.At : f.At+n]
	var order binary.ByteOrder = binary.BigEndian
	if f.Order == "little" {
		order = binary.LittleEndian
	}
	switch n {
	case 1:
		return uint64(b[0]), true
	case 2:
		return uint64(order.Uint16(b)), true
	case 4:
		return uint64(order.Uint32(b)), true
	}
	return order.Uint64(b), true
}

// checkBytes tells what keeps a file from being whole, or "".
func checkBytes(w dialect.Whole, raw []byte, vars map[string]string) string {
	if w.Magic != "" {
		magic, _ := hex.DecodeString(w.Magic)
		if !bytes.HasPrefix(raw, magic) {
			return "it does not begin as such a file does"
		}
	}
	if w.Size != "" {
		if n, err := strconv.Atoi(strings.TrimSpace(vars[w.Size])); err != nil || n != len(raw) {
			return fmt.Sprintf("the device says it has %q bytes, %d came", vars[w.Size], len(raw))
		}
	}
	if w.Length != nil {
		n, ok := number(raw, *w.Length)
		if have := len(raw) - w.Length.Counts; !ok || have < 0 || n != uint64(have) {
			return fmt.Sprintf("it says that it has %d bytes, %d came", n, max(have, 0))
		}
	}
	if c := w.Checksum; c != nil {
		if c.From > len(raw) {
			return "it is too short for its checksum"
		}
		body, sum := raw[c.From:], ""
		switch c.Kind {
		case "crc32":
			sum = fmt.Sprintf("%08x", crc32.ChecksumIEEE(body))
		case "sha256":
			sum = fmt.Sprintf("%x", sha256.Sum256(body))
		case "sum32":
			var n uint32
			for _, b := range body {
				n += uint32(b)
			}
			sum = fmt.Sprintf("%08x", n)
		}
		says := strings.ToLower(strings.TrimSpace(vars[c.Kept]))
		if c.Kept == "" {
			n, ok := number(raw, c.Field)
			if !ok {
				return "it is too short for its checksum"
			}
			says = fmt.Sprintf("%08x", n)
		}
		if says != sum {
			return fmt.Sprintf("its checksum is %s, it should be %s", sum, says)
		}
	}
	return ""
}
