package run

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// listen opens the socket that the service answers on.
func (n *Instance) listen() (net.Listener, error) {
	if err := n.Config.sound(); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", n.Config.Listen)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w; choose another with --listen", n.Config.Listen, err)
	}
	l = boundConnections(l, n.Config.Connections, n.Config.Proxies)
	if !n.Config.byTLS() {
		return l, nil
	}
	c, err := n.certificate()
	if err != nil {
		l.Close()
		return nil, err
	}
	n.shown = c
	return tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.current, NextProtos: []string{"h2", "http/1.1"}}), nil
}

func (n *Instance) scheme() string {
	if n.Config.byTLS() {
		return "https"
	}
	return "http"
}

// certificate is the one that the service shows, from files; it is read again when they
// change.
type certificate struct {
	cert, key string

	mu     sync.Mutex
	looked time.Time
	sign   string // of the files as they were read
	now    *tls.Certificate
}

// certificate finds what the service shows: what the configuration names, or one that it
// makes itself.
func (n *Instance) certificate() (*certificate, error) {
	c := &certificate{cert: n.Config.TLSCert, key: n.Config.TLSKey}
	if n.Config.TLSSelf {
		c.cert = filepath.Join(n.Config.Data, "tls.pem")
		c.key = c.cert
		if err := selfMade(c.cert, n.Config.Listen, time.Now()); err != nil {
			return nil, fmt.Errorf("making a certificate: %w", err)
		}
	}
	if err := c.read(); err != nil {
		return nil, fmt.Errorf("certificate: %w", err)
	}
	if leaf := c.now.Leaf; leaf.NotAfter.Before(time.Now()) {
		return nil, fmt.Errorf("certificate %s ran out on %s; put another one there", c.cert, leaf.NotAfter.UTC().Format("2006-01-02"))
	}
	if n.Config.TLSSelf {
		n.Say("The service shows a certificate that it made itself (%s). Browsers warn of it; it is this one if they show\nthe fingerprint SHA-256 %s\nOn a command line: magpie login --fingerprint %s\n", c.cert, fingerprint(c.now.Leaf), fingerprint(c.now.Leaf))
	}
	return c, nil
}

// fingerprint of a certificate, as other programs write it.
func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// read reads the files.
func (c *certificate) read() error {
	sign := fileSign(c.cert) + fileSign(c.key)
	cert, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	if cert.Leaf == nil {
		if cert.Leaf, err = x509.ParseCertificate(cert.Certificate[0]); err != nil {
			return err
		}
	}
	c.now, c.sign = &cert, sign
	return nil
}

func fileSign(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano(), " ")
}

// current is the certificate as the files hold it now. Files that cannot be used are told
// of, and what was shown before is shown.
func (c *certificate) current(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) > time.Second {
		c.looked = time.Now()
		if sign := fileSign(c.cert) + fileSign(c.key); sign != c.sign {
			if err := c.read(); err != nil {
				c.sign = sign // told once
				slog.Warn("the changed certificate cannot be used; the one before is shown", "file", c.cert, "err", err)
			} else {
				slog.Info("the changed certificate is in use", "file", c.cert, "until", c.now.Leaf.NotAfter, "fingerprint", fingerprint(c.now.Leaf))
			}
		}
	}
	return c.now, nil
}

// selfMade makes a certificate for the machine's name and the address that is listened on,
// for two years, where there is none that lasts for another month.
func selfMade(path, listen string, now time.Time) error {
	raw, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for block, rest := pem.Decode(raw); block != nil; block, rest = pem.Decode(rest) {
		if old, err := x509.ParseCertificate(block.Bytes); block.Type == "CERTIFICATE" && err == nil && old.NotAfter.After(now.Add(30*24*time.Hour)) {
			return nil
		}
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: host}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(2 * 365 * 24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	if host != "" && host != "localhost" {
		t.DNSNames = append(t.DNSNames, host)
	}
	if at, _, err := net.SplitHostPort(listen); err == nil {
		if ip := net.ParseIP(at); ip != nil && !ip.IsUnspecified() && !ip.IsLoopback() {
			t.IPAddresses = append(t.IPAddresses, ip)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	out := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})...)
	return os.WriteFile(path, out, 0o600)
}

// debug answers with profiles on this machine, where that is asked for.
func (n *Instance) debug() (stop func(), err error) {
	if n.Config.Debug == "" {
		return func() {}, nil
	}
	l, err := net.Listen("tcp", n.Config.Debug)
	if err != nil {
		return nil, fmt.Errorf("debug: cannot listen on %s: %w", n.Config.Debug, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	mux.HandleFunc("/debug/pprof/symbol", pprof.Symbol)
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: idleWithin}
	go func() { _ = s.Serve(l) }()
	slog.Info("profiles can be fetched", "at", "http://"+l.Addr().String()+"/debug/pprof/")
	return func() { s.Close() }, nil
}
