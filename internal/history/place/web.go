package place

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"magpie/internal/trust"
)

// web is a server that takes files by PUT and gives them by GET (RFC 9110 §9.3); collections are
// made where it knows of them (WebDAV, RFC 4918 §9.3).
type web struct {
	w      Way
	root   *url.URL
	client *http.Client
	made   map[string]bool
}

func openWeb(w Way) (Place, error) {
	root, err := url.Parse(strings.TrimSuffix(w.Where, "/"))
	if err != nil {
		return nil, err
	}
	config, err := trust.Client(w.CA)
	if err != nil {
		return nil, err
	}
	t := &http.Transport{TLSClientConfig: config, Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: 2 * time.Minute, TLSHandshakeTimeout: reachWithin, ForceAttemptHTTP2: true}
	return &web{w, root, &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, map[string]bool{}}, nil
}

// do sends a request; the answer's body is the caller's, for 200 only.
func (p *web) do(ctx context.Context, method, name string, size int64, body io.Reader) (*http.Response, error) {
	u := *p.root
	u.Path = name
	r, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		r.ContentLength = size
		if size == 0 {
			r.Body = http.NoBody
		}
	}
	if p.w.User != "" {
		r.SetBasicAuth(p.w.User, p.w.Password)
	}
	a, err := p.client.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, fmt.Errorf("%s: %w", p.root.Host, cause(err))
	}
	if a.StatusCode != http.StatusOK || method != "GET" {
		_, _ = io.Copy(io.Discard, io.LimitReader(a.Body, 64<<10))
		a.Body.Close()
	}
	return a, nil
}

// refused is what a server says that it will not do.
func refused(a *http.Response) error {
	switch a.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden:
		return fmt.Errorf("the server does not let us: %s", a.Status)
	case http.StatusInsufficientStorage:
		return fmt.Errorf("the server has no room left: %s", a.Status)
	}
	return fmt.Errorf("the server says %s to %s", a.Status, a.Request.Method)
}

func (p *web) Put(ctx context.Context, name string, size int64, from io.Reader) error {
	to, err := inside(p.root.Path, name)
	if err != nil {
		return err
	}
	if err := p.collections(ctx, path.Dir(name)); err != nil {
		return err
	}
	a, err := p.do(ctx, "PUT", to, size, io.LimitReader(from, size))
	if err != nil {
		return err
	}
	if a.StatusCode/100 != 2 {
		return refused(a)
	}
	if a, err = p.do(ctx, "HEAD", to, 0, nil); err != nil { // it said yes; is it whole?
		return err
	}
	if a.StatusCode == http.StatusOK && a.ContentLength >= 0 && a.ContentLength != size {
		return fmt.Errorf("the server has %d bytes of %s instead of %d", a.ContentLength, name, size)
	}
	return nil
}

// collections makes the folders of a file, where the server has such.
func (p *web) collections(ctx context.Context, folder string) error {
	if folder == "." || p.made[folder] {
		return nil
	}
	if err := p.collections(ctx, path.Dir(folder)); err != nil {
		return err
	}
	at, err := inside(p.root.Path, folder)
	if err != nil {
		return err
	}
	a, err := p.do(ctx, "MKCOL", at+"/", 0, nil)
	if err != nil {
		return err
	}
	switch a.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusInsufficientStorage:
		return refused(a)
	}
	p.made[folder] = true // made, there already, or none needed: what is put there will tell
	return nil
}

func (p *web) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	at, err := inside(p.root.Path, name)
	if err != nil {
		return nil, err
	}
	a, err := p.do(ctx, "GET", at, 0, nil)
	switch {
	case err != nil:
		return nil, err
	case a.StatusCode == http.StatusNotFound || a.StatusCode == http.StatusGone:
		return nil, fmt.Errorf("%s: %w", name, ErrAbsent)
	case a.StatusCode != http.StatusOK:
		return nil, refused(a)
	}
	return a.Body, nil
}

func (p *web) Remove(ctx context.Context, name string) error {
	at, err := inside(p.root.Path, name)
	if err != nil {
		return err
	}
	a, err := p.do(ctx, "DELETE", at, 0, nil)
	if err != nil {
		return err
	}
	if a.StatusCode/100 != 2 && a.StatusCode != http.StatusNotFound && a.StatusCode != http.StatusGone {
		return refused(a)
	}
	return nil
}

func (p *web) Free(context.Context) (int64, bool) { return 0, false }

func (p *web) Close() error {
	p.client.CloseIdleConnections()
	return nil
}
