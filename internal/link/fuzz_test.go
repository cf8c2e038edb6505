package link

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"runtime"
	"strings"
	"testing"
)

// FuzzFraming: whatever a device sends, a message is what its framing says, or
// an error; and what we frame is read back.
func FuzzFraming(f *testing.F) {
	f.Add([]byte("<hello/>]]>]]><a/>]]>]]>"), false, 3)
	f.Add([]byte("\n#4\n<a/>\n##\n\n#1\n<\n#3\nb/>\n##\n"), true, 1)
	f.Fuzz(func(t *testing.T, in []byte, chunked bool, step int) {
		u := &unframer{r: &stepReader{bytes.Clone(in), max(1, step%64)}, chunked: chunked}
		total := 0
		for {
			msg, err := u.next()
			if err != nil {
				break
			}
			if total += len(msg); total > len(in) {
				t.Fatalf("more came out than went in")
			}
		}
		if chunked && len(in) == 0 || !chunked && bytes.Index(frame(in, false), []byte(endMark)) != len(in) {
			return
		}
		back := &unframer{r: &stepReader{frame(in, chunked), max(1, step%64)}, chunked: chunked}
		if msg, err := back.next(); err != nil || !bytes.Equal(msg, in) {
			t.Fatalf("%q, %v", msg, err)
		}
	})
}

func FuzzTFTP(f *testing.F) {
	f.Add([]byte("\x00\x01file\x00octet\x00blksize\x001428\x00"))
	f.Add([]byte("\x00\x03\x00\x01data"))
	f.Add([]byte("\x00\x05\x00\x01no\x00"))
	f.Fuzz(func(t *testing.T, in []byte) {
		p, err := ParseTFTP(in)
		if err != nil {
			return
		}
		again, err := ParseTFTP(p.Bytes())
		if err != nil || again.Op != p.Op || again.File != p.File || again.Block != p.Block || !bytes.Equal(again.Data, p.Data) || len(again.Options) != len(p.Options) {
			t.Fatalf("%+v became %+v, %v", p, again, err)
		}
	})
}

func zipped(t testing.TB, files map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, content := range files {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = io.WriteString(w, content)
	}
	_ = z.Close()
	return b.Bytes()
}

func tarred(files map[string]string) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, content := range files {
		_ = w.WriteHeader(&tar.Header{Name: name, Size: int64(len(content)), Mode: 0o600, Typeflag: tar.TypeReg})
		_, _ = io.WriteString(w, content)
	}
	_ = w.Close()
	return b.Bytes()
}

func gzipped(raw []byte) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	_, _ = w.Write(raw)
	_ = w.Close()
	return b.Bytes()
}

func TestUnpack(t *testing.T) {
	bomb := gzipped(make([]byte, Limit+1))
	for _, c := range []struct {
		name, says string
		raw        []byte
		kinds      []string
		inside     string
	}{
		{"a tar in gzip", "", gzipped(tarred(map[string]string{"a/config": "x", "b": "y"})), []string{"gzip", "tar"}, "config$"},
		{"a zip", "", zipped(t, map[string]string{"config": "x"}), []string{"zip"}, ""},
		{"base64 with line ends", "", []byte("eA=\n=\n"), []string{"base64"}, ""},
		{"a bomb", "swells to more than", bomb, []string{"gzip"}, ""},
		{"a bomb in a zip", "swells to more than", zipped(t, map[string]string{"a": string(make([]byte, Limit+1))}), []string{"zip"}, ""},
		{"a way out", "leads out of it", zipped(t, map[string]string{"../etc/passwd": "x"}), []string{"zip"}, ""},
		{"a way out of a tar", "leads out of it", tarred(map[string]string{"a/../../b": "x"}), []string{"tar"}, ""},
		{"from the root", "leads out of it", tarred(map[string]string{"/b": "x"}), []string{"tar"}, ""},
		{"two that match", "both", zipped(t, map[string]string{"a": "x", "b": "y"}), []string{"zip"}, ""},
		{"none that matches", "no file in it matches", zipped(t, map[string]string{"a": "x"}), []string{"zip"}, "config"},
		{"cut off", "cannot be unpacked", bomb[:100], []string{"gzip"}, ""},
	} {
		got, err := unpack(c.raw, c.kinds, c.inside)
		if c.says == "" && (err != nil || string(got) != "x") || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %q, %v", c.name, got[:min(len(got), 20)], err)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(gzipped(tarred(map[string]string{"a": "x"})), uint8(0))
	f.Add(zipped(f, map[string]string{"a": "x"}), uint8(1))
	f.Add([]byte("eA=="), uint8(2))
	f.Add(gzipped(make([]byte, Limit+1)), uint8(4))
	f.Add(gzipped(gzipped(make([]byte, 4*Limit))), uint8(4))
	f.Fuzz(func(t *testing.T, raw []byte, how uint8) {
		kinds := [][]string{{"gzip", "tar"}, {"zip"}, {"base64"}, {"zlib"}, {"gzip"}, {"tar"}}[how%6]
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		out, err := unpack(raw, kinds, "")
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 10*Limit {
			t.Fatalf("%d bytes took %d MiB", len(raw), took>>20)
		}
		if err == nil && len(out) > Limit {
			t.Fatalf("%d bytes came out", len(out))
		}
	})
}

// TestEndlessMessage: a peer that never ends a message is cut off.
func TestEndlessMessage(t *testing.T) {
	for _, chunked := range []bool{false, true} {
		u := &unframer{r: endlessReader(chunked), chunked: chunked}
		if _, err := u.next(); !errors.Is(err, ErrEndless) {
			t.Errorf("chunked %v: %v", chunked, err)
		}
	}
}

type endlessReader bool

func (e endlessReader) Read(p []byte) (int, error) {
	s := "x"
	if e {
		s = "\n#8\n12345678"
	}
	n := max(len(p)/len(s), 1)
	return copy(p, strings.Repeat(s, n)), nil
}
