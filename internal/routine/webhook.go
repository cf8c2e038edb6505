package routine

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/store"
)

// Posted is what a webhook is sent, as JSON.
type Posted struct {
	ID      string          `json:"id"` // the same however often it is sent
	At      string          `json:"at"` // RFC 3339
	Rule    string          `json:"rule"`
	Subject string          `json:"subject"`
	Items   []core.ToldItem `json:"items"`
}

// post sends a message to a webhook, signed (RFC 9421, hmac-sha256) over its method, address,
// time and digest (RFC 9530).
func (t *steps) post(to store.Recipient, m store.Message, now time.Time) error {
	u, err := url.Parse(to.URL)
	if err != nil {
		return err
	}
	body, err := json.Marshal(Posted{m.ID, m.MadeAt.UTC().Format(time.RFC3339), m.Rule, m.Subject, m.Items})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(t.ctx, http.MethodPost, to.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Idempotency-Key", m.ID)
	r.Header.Set("User-Agent", "steady-magpie")
	sign(r, body, to.Secret, now)
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	conn, err := t.dial("tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return err
	}
	defer conn.Close()
	if u.Scheme == "https" {
		config, err := tlsTo(u.Hostname(), to.CA)
		if err != nil {
			return err
		}
		if conn, err = t.secure(conn, config); err != nil {
			return err
		}
	}
	return t.do("message", func() (string, error) {
		if err := t.hand(); err != nil {
			return "", err
		}
		return answerOf(conn, r)
	})
}

// answerOf sends a request over a connection. No redirect is followed: what is signed is for
// one address.
func answerOf(conn net.Conn, r *http.Request) (string, error) {
	once := &http.Transport{DisableKeepAlives: true,
		DialContext:    func(context.Context, string, string) (net.Conn, error) { return conn, nil },
		DialTLSContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil }}
	defer once.CloseIdleConnections()
	got, err := once.RoundTrip(r)
	if err != nil {
		return "", err
	}
	defer got.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(got.Body, 300))
	if got.StatusCode/100 != 2 {
		return "", &refusedError{strings.TrimSpace("it answered " + got.Status + ": " + strings.Join(strings.Fields(string(said)), " "))}
	}
	return "it answered " + got.Status, nil
}

// sign signs a request. Whoever has the secret can tell that it was not changed, for whom it
// is, and when it was made.
func sign(r *http.Request, body []byte, secret string, now time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	r.Header.Set("Content-Digest", digest)
	covered := `("@method" "@target-uri" "content-type" "content-digest" "idempotency-key")`
	params := fmt.Sprintf(`%s;created=%d;keyid="magpie";alg="hmac-sha256"`, covered, now.Unix())
	base := strings.Join([]string{
		`"@method": ` + r.Method,
		`"@target-uri": ` + r.URL.String(),
		`"content-type": ` + r.Header.Get("Content-Type"),
		`"content-digest": ` + digest,
		`"idempotency-key": ` + r.Header.Get("Idempotency-Key"),
		`"@signature-params": ` + params,
	}, "\n")
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", "magpie="+params)
	r.Header.Set("Signature", "magpie=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// soundURL tells what is wrong with a webhook's address.
func soundURL(s string) error {
	u, err := url.Parse(s)
	switch {
	case err != nil:
		return fmt.Errorf("%q is no address: %w", s, err)
	case u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return fmt.Errorf("%q is no address; it begins with https:// or http:// and a host", s)
	case u.User != nil:
		return errors.New("the address holds a user name; what proves who sends it is the signature")
	case u.Fragment != "":
		return errors.New("the address holds a #, which is never sent")
	}
	return nil
}
