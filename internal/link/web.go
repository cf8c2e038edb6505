package link

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"magpie/internal/dialect"
)

// web speaks HTTP: pages behind a form, an API, or RESTCONF (RFC 8040).
type web struct {
	*browser
	s *Session
}

// browser is what a session over HTTP keeps.
type browser struct {
	client   *http.Client
	base     string // scheme, host and port
	etags    map[string]string
	signedIn bool
}

func newWeb(s *Session, way dialect.Way) (*web, error) {
	t := s.call.Target
	jar, _ := cookiejar.New(nil)
	w := &web{&browser{base: way.Transport + "://" + net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), etags: map[string]string{}}, s}
	transport := &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, stop, err := dialThrough(s.ctx, t, s.d.Connect)
			if err != nil {
				return nil, err
			}
			_ = stop // the session's end closes it
			_ = conn.SetDeadline(time.Time{})
			return conn, nil
		},
		TLSClientConfig: pinned(t, nil), TLSHandshakeTimeout: s.d.Connect, ResponseHeaderTimeout: s.d.Answer,
		MaxResponseHeaderBytes: 64 << 10, DisableCompression: true, MaxConnsPerHost: 1,
	}
	w.client = &http.Client{Jar: jar, Transport: transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) >= 5 || r.URL.Host != via[0].URL.Host {
			return http.ErrUseLastResponse
		}
		return nil
	}}
	done := s.cancel
	s.cancel = func() { transport.CloseIdleConnections(); done() }
	if way.Transport == dialect.HTTP {
		s.call.Warn("HTTP carries password and configuration unencrypted")
	}
	s.sp = w
	err := w.login()
	if err == nil && s.d.Web.RESTCONF {
		err = w.root()
	}
	if err != nil {
		s.cancel()
	}
	return w, err
}

// login goes through the dialect's login, one attempt.
func (w *web) login() error {
	for i := range w.s.d.Web.Login {
		st := &w.s.d.Web.Login[i]
		if err := w.s.step(st); err != nil {
			if errors.Is(err, ErrUnreachable) || errors.Is(err, ErrLoginRefused) {
				return err
			}
			return fmt.Errorf("signing in: %w", err)
		}
	}
	w.signedIn = true
	return nil
}

// root finds where RESTCONF begins (RFC 8040 §3.1).
func (w *web) root() error {
	raw, err := w.answer("GET", "/.well-known/host-meta", http.Header{"Accept": {"application/xrd+xml"}}, sending{}, []int{200})
	if err != nil {
		return fmt.Errorf("looking for the RESTCONF root: %w", err)
	}
	var xrd struct {
		Links []struct {
			Rel  string `xml:"rel,attr"`
			Href string `xml:"href,attr"`
		} `xml:"Link"`
	}
	if err := xml.Unmarshal(raw, &xrd); err != nil {
		return fmt.Errorf("looking for the RESTCONF root: host-meta cannot be read: %w", err)
	}
	for _, l := range xrd.Links {
		if l.Rel == "restconf" {
			u, err := url.Parse(l.Href)
			if err != nil || u.IsAbs() && u.Scheme+"://"+u.Host != w.base {
				return fmt.Errorf("the RESTCONF root is said to be at %q, which is another server", l.Href)
			}
			w.s.vars["root"] = strings.TrimSuffix(u.Path, "/")
			return nil
		}
	}
	return fmt.Errorf("%w: the device names no RESTCONF root", ErrUnreachable)
}

func (w *web) read(what string, src *dialect.Source, flaw func(string) string) (string, error) {
	path, err := w.s.expandFor(src.Resource, alike(pathValue))
	if err != nil {
		return "", err
	}
	header := http.Header{}
	if src.Accept != "" {
		header.Set("Accept", src.Accept)
	} else if w.s.d.Web.RESTCONF {
		header.Set("Accept", "application/yang-data+json")
	}
	method, body := "GET", sending{}
	if len(src.Post) > 0 {
		h, b, err := w.body(&dialect.Step{Form: src.Post})
		if err != nil {
			return "", err
		}
		method, body = "POST", b
		header.Set("Content-Type", h.Get("Content-Type"))
	}
	to := w.s.taking()
	err = w.ask(method, path, header, body, nil, to)
	return w.s.judged(what, to, err, flaw)
}

// pathValue encodes a value for a path (RFC 3986), but for slashes of {root}.
func pathValue(v string) string { return strings.ReplaceAll(url.PathEscape(v), "%2F", "/") }

func (w *web) step(st *dialect.Step) (string, error) {
	method, rest, _ := strings.Cut(st.Ask, " ")
	path, err := w.s.expandFor(rest, alike(pathValue))
	if err != nil {
		return "", err
	}
	header, body, err := w.body(st)
	if err != nil {
		return "", err
	}
	for k, v := range st.Header {
		if v, err = w.s.expand(v); err != nil {
			return "", err
		}
		header.Set(k, v)
	}
	if tag := w.etags[path]; st.Match {
		if tag == "" {
			return "", fmt.Errorf("%s: the dialect wants it changed only if it is still what was read, and it was not read", rest)
		}
		header.Set("If-Match", tag)
	}
	raw, err := w.answer(method, path, header, body, st.Status)
	return string(raw), err
}

// sending is what goes with a request: bytes, or a file between some.
type sending struct {
	head, tail []byte
	file       Content
}

func (b sending) size() int64 { return int64(len(b.head)+len(b.tail)) + b.file.size() }

func (b sending) open() io.ReadCloser {
	file := b.file.open()
	return struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(b.head), file, bytes.NewReader(b.tail)), file}
}

// body makes what goes with a request.
func (w *web) body(st *dialect.Step) (http.Header, sending, error) {
	h := http.Header{}
	fields := map[string]string{}
	for k, v := range st.Form {
		x, err := w.s.expand(v)
		if err != nil {
			return nil, sending{}, err
		}
		fields[k] = x
	}
	switch {
	case st.Upload != nil:
		var b bytes.Buffer
		m := multipart.NewWriter(&b)
		for k, v := range fields {
			_ = m.WriteField(k, v)
		}
		name, err := w.s.expand(st.Upload.Name)
		if err != nil {
			return nil, sending{}, err
		}
		if _, err := m.CreateFormFile(st.Upload.Field, name); err != nil {
			return nil, sending{}, err
		}
		head := b.Len()
		_ = m.Close()
		h.Set("Content-Type", m.FormDataContentType())
		return h, sending{b.Bytes()[:head], b.Bytes()[head:], w.s.putting}, nil
	case len(fields) > 0:
		v := url.Values{}
		for k, x := range fields {
			v.Set(k, x)
		}
		h.Set("Content-Type", "application/x-www-form-urlencoded")
		return h, sending{head: []byte(v.Encode())}, nil
	case st.JSON != "":
		body, err := w.s.expandFor(st.JSON, alike(jsonText))
		h.Set("Content-Type", "application/json")
		return h, sending{head: []byte(body)}, err
	case st.Body == "{content}" && w.s.putting.From != nil: // the whole of a request may be a file of any size
		return h, sending{file: w.s.putting}, nil
	case st.Body != "":
		body, err := w.s.expand(st.Body)
		if w.s.d.Web.RESTCONF {
			h.Set("Content-Type", "application/yang-data+json")
		}
		return h, sending{head: []byte(body)}, err
	}
	return h, sending{}, nil
}

// jsonText encodes a value for use between quotes.
func jsonText(v string) string {
	raw, _ := json.Marshal(v)
	return string(raw[1 : len(raw)-1])
}

// errExpired is the device's word that the session is over.
var errExpired = errors.New("the device has ended the session")

// renew signs in anew after the device ended the session in mid-visit.
func (w *web) renew() error {
	w.s.call.Warn("the device ended the session in the middle; signing in again")
	w.signedIn = false
	return w.login()
}

// answer asks and returns the answer.
func (w *web) answer(method, path string, header http.Header, body sending, status []int) ([]byte, error) {
	to := new(flow)
	err := w.ask(method, path, header, body, status, to)
	return to.held.Bytes(), err
}

func (w *web) ask(method, path string, header http.Header, body sending, status []int, to *flow) error {
	if err := w.s.call.Guard(); err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(w.s.ctx, method, w.base+path, nil)
	if err != nil {
		return err
	}
	req.Header = header.Clone()
	if req.ContentLength = body.size(); req.ContentLength > 0 {
		req.GetBody = func() (io.ReadCloser, error) { return body.open(), nil } // where it is sent on to
		req.Body = body.open()
	}
	switch c := w.s.call.Credential; w.s.d.Web.Auth {
	case "basic":
		req.SetBasicAuth(c.User, c.Password)
	case "bearer":
		req.Header.Set("Authorization", "Bearer "+c.Password)
	}
	res, err := w.client.Do(req)
	if err != nil {
		return w.trouble(err)
	}
	defer res.Body.Close()
	to.said = max(res.ContentLength, 0)
	if err := pour(w.s.ctx, res.Body, to, w.s.d.Answer, w.s.d.Idle, "reading the answer to "+method); err != nil {
		return err
	}
	if res.ContentLength >= 0 && to.size != res.ContentLength {
		return ErrCut
	}
	if tag := res.Header.Get("ETag"); tag != "" {
		w.etags[path] = tag
	} else {
		delete(w.etags, path)
	}
	return w.judge(res, to.held.Bytes(), status)
}

// trouble sorts out why no answer came.
func (w *web) trouble(err error) error {
	var key *HostKeyError
	var late net.Error
	switch {
	case errors.As(err, &key):
		return key
	case w.s.ctx.Err() != nil:
		return context.Cause(w.s.ctx)
	case errors.Is(err, ErrUnreachable):
		return err
	case errors.As(err, &late) && late.Timeout():
		return &TimeoutError{What: "waiting for the device's answer", Took: w.s.d.Answer}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), strings.Contains(err.Error(), "connection reset"), strings.Contains(err.Error(), "closed network connection"):
		return ErrCut
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fmt.Errorf("%w: %v", ErrUnreachable, err)
}

// judge tells a good answer from a bad one.
func (w *web) judge(res *http.Response, raw []byte, status []int) error {
	d := w.s.d
	says := func(pattern string) bool { return pattern != "" && d.Pattern(pattern).Match(raw) }
	c := w.s.call.Credential
	switch {
	case !w.signedIn && d.Web.Auth == "steps" && (says(d.Web.Refused) || res.StatusCode == 401):
		return fmt.Errorf("%w for user %s", ErrLoginRefused, c.User)
	case w.signedIn && d.Web.Auth == "steps" && (says(d.Web.Expired) || res.StatusCode == 401):
		return errExpired
	case res.StatusCode == 401:
		return fmt.Errorf("%w for user %s", ErrLoginRefused, c.User)
	case slices.Contains(status, res.StatusCode):
		return nil
	case len(status) == 0 && res.StatusCode < 400:
		return w.refusal(raw)
	}
	r := &Refused{Means: "refused", Words: fmt.Sprintf("%s: %s", res.Status, reason(raw, d))}
	switch {
	case res.StatusCode == 503 || res.StatusCode == 429:
		r.Means = "busy"
	case res.StatusCode == 412:
		r.Words = "what is there has changed since it was read: " + r.Words
	}
	if e := w.refusal([]byte(reason(raw, d))); e != nil {
		return e
	}
	return r
}

// refusal holds an answer to the dialect's errors.
func (w *web) refusal(raw []byte) error {
	if len(raw) > 64<<10 {
		return nil // a page that long is no refusal
	}
	for _, l := range strings.Split(string(raw), "\n") {
		if a, refused := w.s.d.Refused(strings.TrimSpace(l)); a.Means == "login" {
			return fmt.Errorf("%w: %s", ErrLoginRefused, a.Words)
		} else if refused {
			return refusalOf(a, "")
		}
	}
	return nil
}

// reason finds the words of an error's body: RESTCONF's (RFC 8040 §7.1), a
// problem document's (RFC 9457), or the text.
func reason(raw []byte, d *dialect.Dialect) string {
	type entry struct {
		Type    string          `json:"error-type"`
		Tag     string          `json:"error-tag"`
		AppTag  string          `json:"error-app-tag"`
		Path    json.RawMessage `json:"error-path"`
		Message string          `json:"error-message"`
	}
	var body struct {
		Errors struct {
			Error []entry `json:"error"`
		} `json:"ietf-restconf:errors"`
		Plain struct {
			Error []entry `json:"error"`
		} `json:"errors"`
		Title  string `json:"title"`
		Detail string `json:"detail"`
		Error  string `json:"error"`
	}
	if json.Unmarshal(raw, &body) == nil {
		var said []string
		for _, e := range append(body.Errors.Error, body.Plain.Error...) {
			r := RPCError{Type: e.Type, Tag: e.Tag, AppTag: e.AppTag, Message: e.Message, Path: strings.Trim(string(e.Path), `"`)}
			said = append(said, r.Error())
		}
		for _, s := range []string{body.Title, body.Detail, body.Error} {
			if s != "" {
				said = append(said, s)
			}
		}
		if len(said) > 0 {
			return strings.Join(said, "; ")
		}
	}
	return cutTo(strings.TrimSpace(string(raw)), 300)
}

func (w *web) close() {
	if w.signedIn && w.s.ctx.Err() == nil && w.s.call.Guard() == nil {
		ctx, cancel := context.WithTimeout(w.s.ctx, 2*time.Second)
		quiet := *w.s
		quiet.ctx = ctx
		b := &web{w.browser, &quiet}
		quiet.sp = b
		w.signedIn = false // its end is what is asked for
		for i := range w.s.d.Web.Logout {
			if quiet.step(&w.s.d.Web.Logout[i]) != nil {
				break
			}
		}
		cancel()
	}
	w.client.CloseIdleConnections()
}
