package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/store"
)

// The bounds of what is sent to the service.
const (
	mostBody  = 4 << 20 // bytes
	mostLogin = 8 << 10 // of a sign-in
	mostWord  = 4096    // characters of a text of one line
	mostItems = 5000    // of a list
	long      = 2000    // characters of a note or reason
	mostOf    = 100_000 // characters of a selector, or of a scope, that is kept
)

// bodyWithin is the time in which a body has to arrive.
var bodyWithin = 30 * time.Second

// bounded limits what a request may send and for how long. Whoever reads the
// body takes the deadline away again; a request that brings none has none.
func bounded(c *gin.Context) {
	c.Set("whole body", c.Request.Body)
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, mostBody)
	if c.Request.ContentLength != 0 {
		_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(bodyWithin))
	}
}

// streamed lets a body be larger, and take its time, as long as it keeps coming.
func streamed(most int64) gin.HandlerFunc {
	return func(c *gin.Context) {
		whole, ok := c.MustGet("whole body").(io.ReadCloser)
		if !ok {
			return
		}
		c.Request.Body = &patientBody{http.MaxBytesReader(c.Writer, whole, most), http.NewResponseController(c.Writer)}
	}
}

// patientBody is a body of which something has to arrive within each bodyWithin.
type patientBody struct {
	io.ReadCloser
	control *http.ResponseController
}

func (b *patientBody) Read(p []byte) (int, error) {
	_ = b.control.SetReadDeadline(time.Now().Add(bodyWithin))
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// body reads what was sent. kinds are the media types it may have.
func body(c *gin.Context, kinds ...string) ([]byte, bool) {
	kind, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type"))
	if !slices.Contains(kinds, kind) {
		fail(c, &client.Problem{Status: 415, Title: "not the right kind of content", Detail: fmt.Sprintf("the body is sent as %q", kind), Next: "send it with Content-Type: " + kinds[0]})
		return nil, false
	}
	raw, err := io.ReadAll(c.Request.Body)
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		fail(c, &client.Problem{Status: 413, Title: "too large", Detail: fmt.Sprintf("the body has more than %d KiB", large.Limit>>10), Next: "send less at a time"})
		return nil, false
	case errors.Is(err, os.ErrDeadlineExceeded):
		fail(c, &client.Problem{Status: 408, Title: "too slow", Detail: fmt.Sprintf("the body did not arrive within %s", bodyWithin), Next: "send it again"})
		return nil, false
	case err != nil:
		fail(c, bad("the body cannot be read: "+err.Error(), ""))
		return nil, false
	}
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	return raw, true
}

// readBody reads a JSON body, unknown fields being errors.
func readBody(c *gin.Context, into any) bool {
	raw, ok := body(c, "application/json")
	if !ok {
		return false
	}
	c.Set("body", raw)
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, err := d.Token(); err != io.EOF {
			fail(c, bad("the body holds more than one JSON value", "send one"))
			return false
		}
		var all any
		_ = json.Unmarshal(raw, &all)
		if p := sound("", all); p != nil {
			fail(c, p)
			return false
		}
		return true
	}
	fail(c, bad("the body cannot be read: "+strings.TrimPrefix(err.Error(), "json: "), "the fields there are stand in /openapi.yaml"))
	return false
}

// manyLines are the fields whose texts have more than one line. What is a secret
// may hold any character but NUL.
var manyLines = []string{"text", "content", "file", "source", "logs", "note", "override", "key", "ca", "agent", "host_key", "password", "privileged_secret", "passphrase", "factory_password"}

// sound tells what is wrong with the texts and lists of a body, or nil.
func sound(field string, v any) *client.Problem {
	switch v := v.(type) {
	case string:
		if slices.Contains(manyLines, field) {
			if strings.ContainsRune(v, 0) {
				return wrong(field, field+" holds a NUL character", "send it without")
			}
			return nil
		}
		if len([]rune(v)) > mostWord {
			return wrong(field, fmt.Sprintf("%s has more than %d characters", field, mostWord), "shorten it")
		}
		return printable(field, v)
	case []any:
		if len(v) > mostItems {
			return wrong(field, fmt.Sprintf("%s has %d entries, and at most %d can be sent", field, len(v), mostItems), "send fewer at a time")
		}
		for _, x := range v {
			if p := sound(field, x); p != nil {
				return p
			}
		}
	case map[string]any:
		if len(v) > mostItems {
			return wrong(field, fmt.Sprintf("%s has %d entries, and at most %d can be sent", field, len(v), mostItems), "send fewer at a time")
		}
		for k, x := range v {
			if p := printable(field, k); p != nil {
				return p
			}
			if p := sound(k, x); p != nil {
				return p
			}
		}
	}
	return nil
}

// printable refuses characters that steer a terminal or turn the direction of
// writing: what one person writes is shown to others.
func printable(field, s string) *client.Problem {
	for i, r := range []rune(s) {
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029' {
			return wrong(field, fmt.Sprintf("%s holds a control character (%U) at character %d", field, r, i+1), "send it without")
		}
	}
	return nil
}

// asked reads a body and the idempotency key that comes with it. The key is
// bound to who asks, where, and for what.
func (s *Server) asked(c *gin.Context, into any) (store.Key, bool) {
	given := c.GetHeader("Idempotency-Key")
	if len(given) > 80 {
		fail(c, bad("the Idempotency-Key is longer than 80 characters", ""))
		return store.Key{}, false
	}
	if p := printable("Idempotency-Key", given); p != nil {
		fail(c, p)
		return store.Key{}, false
	}
	if !readBody(c, into) {
		return store.Key{}, false
	}
	what := c.FullPath() + "\n" + c.Request.URL.RawQuery + "\n" + string(c.MustGet("body").([]byte))
	return store.KeyOf(actor(c), given, s.Jobs.Store.Keys().Hash("request", []byte(what))), true
}

// based reads which revision a change is based on (RFC 9110 §13.1.1).
func based(c *gin.Context) (int, bool) {
	tag := c.GetHeader("If-Match")
	if tag == "" {
		fail(c, &client.Problem{Status: 428, Title: "based on what?", Detail: "the header If-Match is missing, which says on which revision the change is based", Next: "send the ETag that came with what you looked at, or its revision in quotes"})
		return 0, false
	}
	n, err := strconv.Atoi(strings.Trim(tag, `"`))
	if err != nil || n < 1 || tag != etag(n) {
		fail(c, bad(fmt.Sprintf("If-Match is %q, which is no revision", tag), `write it like "3", with the quotes`))
		return 0, false
	}
	return n, true
}

func etag(revision int) string { return fmt.Sprintf(`"%d"`, revision) }

// limit reads how many rows are wanted.
func limit(c *gin.Context, usual, most int) (int, bool) {
	raw := c.Query("limit")
	if raw == "" {
		return usual, true
	}
	n, err := strconv.Atoi(raw)
	if err != nil || n < 1 || n > most {
		fail(c, bad(fmt.Sprintf("limit is %q; it takes 1 to %d", raw, most), ""))
		return 0, false
	}
	return n, true
}

// onePage cuts the page that is asked for out of a list that is at hand whole. key
// names an item in cursors.
func onePage[T any](c *gin.Context, all []T, key func(T) string) (items []T, next string, ok bool) {
	n, ok := limit(c, 1000, 1000)
	if !ok {
		return nil, "", false
	}
	if cursor := c.Query("cursor"); cursor != "" {
		i := slices.IndexFunc(all, func(x T) bool { return key(x) == cursor })
		if i < 0 {
			fail(c, wrong("cursor", fmt.Sprintf("nothing in this list is at %q any more", cursor), "begin again without a cursor"))
			return nil, "", false
		}
		all = all[i+1:]
	}
	if len(all) > n {
		return all[:n], key(all[n-1]), true
	}
	return all, "", true
}

// list answers with the page that is asked for.
func list[T, W any](c *gin.Context, all []T, err error, key func(T) string, wire func(T) W) {
	if err != nil {
		fail(c, problem(err))
		return
	}
	items, next, ok := onePage(c, all, key)
	if !ok {
		return
	}
	c.JSON(200, pageOf(items, next, wire))
}

// pageOf is a page of what rows are on the wire.
func pageOf[T, W any](rows []T, next string, wire func(T) W) client.Page[W] {
	out := client.Page[W]{Items: make([]W, len(rows)), Next: next}
	for i, x := range rows {
		out.Items[i] = wire(x)
	}
	return out
}

// cursor reads a cursor that is a number; 0 when there is none.
func cursor(c *gin.Context) (n int64, ok bool) {
	raw := c.Query("cursor")
	if raw == "" {
		return 0, true
	}
	n, err := strconv.ParseInt(raw, 10, 64)
	if err != nil || n < 0 {
		fail(c, wrong("cursor", fmt.Sprintf("cursor is %q, which no page of this list ended with", raw), "begin again without a cursor"))
		return 0, false
	}
	return n, true
}

// noted tells whether a note or reason is not too long.
func noted(c *gin.Context, field, s string) bool {
	if len([]rune(s)) > long {
		fail(c, wrong(field, fmt.Sprintf("the %s has more than %d characters", field, long), "shorten it"))
		return false
	}
	return true
}
