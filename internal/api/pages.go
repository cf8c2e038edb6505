package api

import (
	"bytes"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzip"
)

// pages serves the built console from memory, packed for those who take it so.
type pages struct {
	files map[string]page
}

type page struct {
	plain  []byte
	packed func() []byte // nil: as it is
	kind   string
}

// policy lets a page load nothing but what this service serves.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

func newPages(files fs.FS) *pages {
	p := &pages{files: map[string]page{}}
	if files == nil {
		return p
	}
	_ = fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			return err
		}
		raw, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		one := page{plain: raw, kind: mime.TypeByExtension(path.Ext(name)), packed: sync.OnceValue(func() []byte { return pack(raw) })}
		p.files["/"+name] = one
		return nil
	})
	return p
}

// pack makes a file smaller for the way, or returns nil where that is not worth it.
func pack(raw []byte) []byte {
	var packed bytes.Buffer
	w, _ := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	_, _ = w.Write(raw)
	_ = w.Close()
	if packed.Len() >= len(raw)*9/10 {
		return nil
	}
	return packed.Bytes()
}

// serve answers with a file of the console, or with its first page for the
// addresses the console itself knows. It tells whether it answered.
func (p *pages) serve(c *gin.Context) bool {
	at := c.Request.URL.Path
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead || strings.HasPrefix(at, "/api/") {
		return false
	}
	f, ok := p.files[at]
	if !ok {
		if path.Ext(at) != "" && strings.HasPrefix(at, "/assets/") {
			return false
		}
		if f, ok = p.files["/index.html"]; !ok {
			if at != "/" {
				return false
			}
			c.String(200, "Steady Magpie\n\nThe console is not built into this program; run: make build\nFrom a terminal:  magpie login http://%s\nThe API is described at /openapi.yaml\n", c.Request.Host)
			return true
		}
	}
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", policy)
	if strings.HasPrefix(at, "/assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	h.Set("Vary", "Accept-Encoding")
	body := f.plain
	if strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		if packed := f.packed(); packed != nil {
			h.Set("Content-Encoding", "gzip")
			body = packed
		}
	}
	c.Data(200, f.kind, body)
	return true
}
