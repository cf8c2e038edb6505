package place

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/net/webdav"

	"magpie/internal/port"
)

// sshd starts OpenSSH's server for one key, and returns how a folder is reached by it.
func sshd(t *testing.T) (w Way, folder string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("sshd has to be started by root")
	}
	path, err := exec.LookPath("sshd")
	if err != nil {
		path = "/usr/sbin/sshd"
	}
	dir := t.TempDir()
	key := func(name string) (private []byte, public ssh.PublicKey) {
		pub, priv, err := ed25519.GenerateKey(nil)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(priv, "")
		if err != nil {
			t.Fatal(err)
		}
		public, _ = ssh.NewPublicKey(pub)
		private = pem.EncodeToMemory(block)
		if err := os.WriteFile(filepath.Join(dir, name), private, 0o600); err != nil {
			t.Fatal(err)
		}
		return private, public
	}
	_, host := key("host")
	own, allowed := key("own")
	if err := os.WriteFile(filepath.Join(dir, "allowed"), ssh.MarshalAuthorizedKey(allowed), 0o600); err != nil {
		t.Fatal(err)
	}
	port, err := port.Free()
	if err != nil {
		t.Fatal(err)
	}
	config := fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s/host\nAuthorizedKeysFile %[2]s/allowed\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPidFile none\nSubsystem sftp internal-sftp\n", port, dir)
	if err := os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	_ = os.MkdirAll("/run/sshd", 0o755)
	cmd := exec.Command(path, "-D", "-e", "-f", filepath.Join(dir, "config"))
	var said bytes.Buffer
	cmd.Stderr = &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for i := 0; ; i++ {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			c.Close()
			break
		}
		if i == 200 {
			t.Fatalf("sshd does not listen: %s", said.String())
		}
		time.Sleep(20 * time.Millisecond) // until it listens
	}
	folder = filepath.Join(dir, "copies")
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	return Way{Kind: SFTP, Where: fmt.Sprintf("sftp://root@127.0.0.1:%d%s", port, folder), Key: string(own), HostKey: ssh.FingerprintSHA256(host)}, folder
}

// dav serves a folder by WebDAV to one user.
func dav(t *testing.T) (w Way, folder string) {
	t.Helper()
	folder = t.TempDir()
	h := &webdav.Handler{FileSystem: webdav.Dir(folder), LockSystem: webdav.NewMemLS()}
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, word, _ := r.BasicAuth(); user != "keeper" || word != "quay" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		h.ServeHTTP(w, r)
	}))
	t.Cleanup(s.Close)
	ca := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	return Way{Kind: HTTP, Where: s.URL, User: "keeper", Password: "quay", CA: string(ca)}, folder
}

// TestPlaces holds every kind of place to the same: what was put there comes back, is replaced
// and removed; what was cut off is not there; nothing leads out of it.
func TestPlaces(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	for _, kind := range []string{Folder, SFTP, HTTP} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			w, folder := Way{Kind: Folder, Where: t.TempDir()}, ""
			switch kind {
			case Folder:
				folder = w.Where
			case SFTP:
				w, folder = sshd(t)
			case HTTP:
				w, folder = dav(t)
			}
			p, err := Open(ctx, w)
			if err != nil {
				t.Fatal(err)
			}
			defer p.Close()
			if err := Try(ctx, p); err != nil {
				t.Error(err)
			}
			put := func(name, text string, size int) error {
				return p.Put(ctx, name, int64(size), strings.NewReader(text))
			}
			read := func(name string) string {
				t.Helper()
				r, err := p.Get(ctx, name)
				if err != nil {
					return err.Error()
				}
				defer r.Close()
				raw, err := io.ReadAll(r)
				if err != nil {
					t.Error(err)
				}
				return string(raw)
			}
			large := strings.Repeat("lane quay1\n", 200_000)
			for _, text := range []string{"one\n", "", large, "another\n"} {
				if err := put("skerrinsay-r1/a b_v17.cfg.age", text, len(text)); err != nil {
					t.Fatal(err)
				}
				if got := read("skerrinsay-r1/a b_v17.cfg.age"); got != text {
					t.Errorf("%d bytes come back of %d", len(got), len(text))
				}
			}
			if err := put("skerrinsay-r1/cut.cfg", "half", 8); err == nil {
				t.Error("a file that was cut off is taken")
			}
			if _, err := p.Get(ctx, "skerrinsay-r1/cut.cfg"); !errors.Is(err, ErrAbsent) && kind != HTTP {
				t.Errorf("what was cut off: %v", err)
			}
			err = put("skerrinsay-r1/cut.cfg", "whole\n", 6)
			for i := 0; i < 250 && kind == HTTP && err != nil && strings.Contains(err.Error(), "423"); i++ {
				time.Sleep(20 * time.Millisecond) // until the server knows that the client is gone, and unlocks the file
				err = put("skerrinsay-r1/cut.cfg", "whole\n", 6)
			}
			if err != nil || read("skerrinsay-r1/cut.cfg") != "whole\n" {
				t.Errorf("put again: %v", err)
			}
			if left, _ := filepath.Glob(filepath.Join(folder, "*", ".part-*")); len(left) > 0 {
				t.Errorf("left behind: %v", left)
			}
			for _, name := range []string{"../out", "/etc/passwd", "a/../../out", "", "a//b"} {
				if err := put(name, "x", 1); err == nil {
					t.Errorf("%q is taken", name)
				}
				if _, err := p.Get(ctx, name); err == nil || errors.Is(err, ErrAbsent) {
					t.Errorf("%q is given: %v", name, err)
				}
			}
			for range 2 {
				if err := p.Remove(ctx, "skerrinsay-r1/a b_v17.cfg.age"); err != nil {
					t.Error(err)
				}
			}
			if _, err := p.Get(ctx, "skerrinsay-r1/a b_v17.cfg.age"); !errors.Is(err, ErrAbsent) {
				t.Errorf("what was removed: %v", err)
			}
			if n, known := p.Free(ctx); known && n <= 0 || kind != HTTP && !known {
				t.Errorf("room: %d %v", n, known)
			}
		})
	}
}

// TestLetIn: no password goes to a server whose key or certificate nobody accepted, and what does
// not let us in is said.
func TestLetIn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w, _ := sshd(t)
	own := w.HostKey
	w.HostKey = ""
	var key *HostKeyError
	if _, err := Open(ctx, w); !errors.As(err, &key) || key.Shown != own || key.Changed {
		t.Errorf("a key that nobody accepted: %v", err)
	}
	w.HostKey = "SHA256:AAAA"
	if _, err := Open(ctx, w); !errors.As(err, &key) || !key.Changed {
		t.Errorf("another key: %v", err)
	}
	w.HostKey, w.Where = own, w.Where+"/nowhere"
	if _, err := Open(ctx, w); err == nil || !strings.Contains(err.Error(), "has no folder") {
		t.Errorf("a folder that is not there: %v", err)
	}
	d, _ := dav(t)
	d.Password = "wrong"
	p, err := Open(ctx, d)
	if err == nil {
		err = Try(ctx, p)
	}
	if err == nil || !strings.Contains(err.Error(), "401") {
		t.Errorf("a wrong password: %v", err)
	}
	d.Password, d.CA = "quay", ""
	if p, err = Open(ctx, d); err == nil {
		err = Try(ctx, p)
	}
	if err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("a certificate that nobody vouches for: %v", err)
	}
	if _, err := Open(ctx, Way{Kind: Folder, Where: "/nowhere/at/all"}); err == nil {
		t.Error("a folder that is not there is opened")
	}
	for _, bad := range []Way{{Kind: "tape", Where: "/x"}, {Kind: Folder, Where: "copies"}, {Kind: Folder, Where: "/"}, {Kind: SFTP, Where: "sftp://host/x"}, {Kind: SFTP, Where: "host:/x", User: "a", Password: "b"},
		{Kind: HTTP, Where: "ftp://host/x"}, {Kind: HTTP, Where: "http://192.0.2.7/x", User: "a", Password: "b"}, {Kind: HTTP, Where: "https://a:b@host/x"}, {Kind: Git, Where: "copies.git"}, {Kind: SFTP, Where: "sftp://a@host/x", Key: "no key"}} {
		if err := bad.Sound(); !errors.Is(err, ErrWay) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

// TestGit: commits arrive in their order, all or none, one after the other on what is there; what
// was committed last is known again.
func TestGit(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), filepath.Join(t.TempDir(), "copies.git")
	git := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	if out, err := exec.Command("git", "init", "-q", "--bare", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	at := time.Date(2026, 11, 20, 10, 0, 0, 0, time.UTC)
	for round := range 3 {
		r, err := OpenGit(ctx, Way{Kind: Git, Where: dir})
		if err != nil {
			t.Fatal(err)
		}
		if want := map[int]string{1: "id-0-1", 2: "id-1-1"}[round]; r.Last() != want {
			t.Errorf("round %d: the last was %q", round, r.Last())
		}
		var all []Commit
		for i := range 2 {
			all = append(all, Commit{ID: fmt.Sprintf("id-%d-%d", round, i), Path: fmt.Sprintf("device-%d/running.cfg", i), Text: fmt.Sprintf("round %d\n", round), Message: "by hand\n\nwhy", Author: "mwilks", At: at.Add(time.Duration(round*2+i) * time.Hour)})
		}
		if err := r.Add(ctx, all); err != nil {
			t.Fatal(err)
		}
	}
	if out := git("log", "--format=%an %at %s", "--reverse", "main"); strings.Count(out, "mwilks") != 6 || !strings.HasPrefix(out, fmt.Sprintf("mwilks %d by hand\n", at.Unix())) {
		t.Errorf("%s", out)
	}
	if out := git("show", "main:device-0/running.cfg", "main:device-1/running.cfg"); out != "round 2\nround 2\n" {
		t.Errorf("%s", out)
	}
	if out := git("show", "main~1:device-1/running.cfg"); out != "round 1\n" {
		t.Errorf("%s", out)
	}
	git("fsck", "--strict")
	// Somebody else pushed meanwhile: nothing is overwritten.
	r, err := OpenGit(ctx, Way{Kind: Git, Where: dir})
	if err != nil {
		t.Fatal(err)
	}
	other, err := OpenGit(ctx, Way{Kind: Git, Where: dir})
	if err != nil {
		t.Fatal(err)
	}
	one := []Commit{{ID: "x", Path: "device-0/running.cfg", Text: "theirs\n", Message: "m", Author: "okonkwo", At: at}}
	if err := other.Add(ctx, one); err != nil {
		t.Fatal(err)
	}
	one[0].Text = "ours\n"
	if err := r.Add(ctx, one); err == nil {
		t.Error("another's commit is overwritten")
	}
	if out := git("show", "main:device-0/running.cfg"); out != "theirs\n" {
		t.Errorf("%s", out)
	}
}
