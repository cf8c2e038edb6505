package link

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/dialect"
	"magpie/internal/port"
)

// These tests talk to servers that we did not write: Debian's OpenSSH, vsftpd,
// tftpd-hpa and inetutils-telnetd.

// needs skips where a program is missing or we may not run it as it must be.
func needs(t *testing.T, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		if path, err = exec.LookPath("/usr/sbin/" + program); err != nil {
			t.Fatalf("%s is missing; run: make needs", program)
		}
	}
	if os.Getuid() != 0 {
		t.Skipf("%s has to be started by root", program)
	}
	return path
}

func freePort(t *testing.T) int {
	t.Helper()
	p, err := port.Free()
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// daemon runs a program until the test ends, and waits until its port answers.
func daemon(t *testing.T, port int, path string, args ...string) {
	t.Helper()
	cmd := exec.Command(path, args...)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 200 {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			c.Close()
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatalf("%s does not listen: %s", path, said.String())
}

// open to everybody: servers drop their rights before they look.
func openDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/tmp", "magpie-link-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	return dir
}

func write(t *testing.T, path, content string, mode os.FileMode) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(content), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
	return path
}

func newKey(t *testing.T) (private []byte, public string) {
	t.Helper()
	pub, priv, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(priv, "")
	if err != nil {
		t.Fatal(err)
	}
	p, _ := ssh.NewPublicKey(pub)
	return pem.EncodeToMemory(block), line(p)
}

// console is a little command line, written as a shell script.
const console = `#!/bin/bash
# with "login", it asks who comes in first
if [ "$1" = login ]; then
  printf 'Guests: say Word: to nobody\n'; printf 'Who: '; IFS= read -r who; printf '\nWord: '; IFS= read -r word; printf '\n'
  if [ "${word%$'\r'}" != pass ]; then echo 'Go away.'; exit; fi
fi
while printf 'pier9 ## ' && IFS= read -r line; do
  line=${line%$'\r'}
  case $line in
    who) echo 'unit pier9 number PR-77' ;;
    all) echo '== begin'; seq -f 'berth %.0f' 1 2000; echo '== end 2000' ;;
    bye) exit ;;
    '') ;;
    *) echo "eh? $line" ;;
  esac
done
`

const pierDialect = `
dialect: pier
title: a little command line
kind: other
reach: {transport: ssh, port: 22, also: [{transport: telnet, port: 23}], timeouts: {connect: 10s, answer: 10s, idle: 5s}}
converse:
  host: '[a-z0-9]+'
  login: {user: 'Who: ', password: 'Word: ', refused: '^Go away\.$'}
  initial_mode: only
  modes: {only: {prompt: '{host} ## '}}
  logout: bye
errors: [{pattern: '^eh\? (.*)$', means: refused}]
identity: {mode: only, command: who, host: '^unit (\S+)', serial: ' number (\S+)$'}
parts:
  running:
    mode: only
    command: all
    complete: {first: ['^== begin$'], last: '^== end (?P<lines>\d+)$'}
grammar: {form: flat}
`

func pier(t *testing.T) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Load("pier.yaml", []byte(pierDialect))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// sshd starts OpenSSH's server. Who signs in gets the little command line.
func sshd(t *testing.T, authorized string, more ...string) Target {
	t.Helper()
	return sshdFor(t, "", authorized, more...)
}

// sshdFor does so with another shell than that.
func sshdFor(t *testing.T, shell, authorized string, more ...string) Target {
	t.Helper()
	path, port, dir := needs(t, "sshd"), freePort(t), openDir(t)
	_ = os.MkdirAll("/run/sshd", 0o755)
	host, _ := newKey(t)
	key := write(t, filepath.Join(dir, "host"), string(host), 0o600)
	keys := write(t, filepath.Join(dir, "authorized"), authorized+"\n", 0o644)
	script := shell
	if script == "" {
		script = write(t, filepath.Join(dir, "console"), console, 0o755)
	}
	// A command that was asked for is run; a shell is the little command line.
	force := write(t, filepath.Join(dir, "force"), "#!/bin/sh\nif [ -n \"$SSH_ORIGINAL_COMMAND\" ]; then exec sh -c \"$SSH_ORIGINAL_COMMAND\"; fi\nexec "+script+"\n", 0o755)
	config := write(t, filepath.Join(dir, "config"), strings.Join(append(append([]string{fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey " + key,
		"AuthorizedKeysFile " + keys, "StrictModes no", "UsePAM no", "PermitRootLogin yes", "PidFile none", "PasswordAuthentication no", "KbdInteractiveAuthentication no",
		"Subsystem sftp internal-sftp"}, more...), "Match all", "ForceCommand "+force), "\n")+"\n", 0o644)
	// sftp is a subsystem, and a forced command stands in its way: it is run by name.
	raw, _ := os.ReadFile(force)
	write(t, force, strings.Replace(string(raw), "exec sh -c", "case $SSH_ORIGINAL_COMMAND in internal-sftp) exec /usr/lib/openssh/sftp-server;; esac; exec sh -c", 1), 0o755)
	daemon(t, port, path, "-D", "-e", "-f", config)
	target := Target{Address: "127.0.0.1", Port: port}
	var err error
	if target.HostKey, _, err = Probe(context.Background(), target, 5*time.Second); err != nil {
		t.Fatal(err)
	}
	return target
}

func ok() error { return nil }

func pull(t *testing.T, call Call) {
	t.Helper()
	s, err := Open(context.Background(), call)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	id, err := s.Identity()
	if err != nil || id.Serial != "PR-77" || id.Host != "pier9" {
		t.Fatalf("%+v, %v", id, err)
	}
	p, err := s.Fetch("running")
	if err != nil || strings.Count(p.Text, "\n") != 2002 {
		t.Fatalf("%d lines, %v", strings.Count(p.Text, "\n"), err)
	}
}

func TestOpenSSH(t *testing.T) {
	private, public := newKey(t)
	target := sshd(t, public)
	cred := Credential{User: "root", Key: private}
	t.Run("shell by key", func(t *testing.T) { pull(t, Call{Dialect: pier(t), Target: target, Credential: cred, Guard: ok}) })
	t.Run("a key it does not know", func(t *testing.T) {
		other, _ := newKey(t)
		if _, err := Open(context.Background(), Call{Dialect: pier(t), Target: target, Credential: Credential{User: "root", Key: other}, Guard: ok}); err == nil || !strings.Contains(err.Error(), "login refused") {
			t.Errorf("%v", err)
		}
	})
	t.Run("agent", func(t *testing.T) {
		dir := openDir(t)
		sock := filepath.Join(dir, "agent")
		cmd := exec.Command("ssh-agent", "-D", "-a", sock)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
		key := write(t, filepath.Join(dir, "key"), string(private), 0o600)
		for range 100 {
			if _, err := os.Stat(sock); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		add := exec.Command("ssh-add", key)
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+sock)
		if out, err := add.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		t.Setenv("SSH_AUTH_SOCK", sock)
		pull(t, Call{Dialect: pier(t), Target: target, Credential: Credential{User: "root", Agent: public}, Guard: ok})
		_, stranger := newKey(t)
		if _, err := Open(context.Background(), Call{Dialect: pier(t), Target: target, Credential: Credential{User: "root", Agent: stranger}, Guard: ok}); err == nil || !strings.Contains(err.Error(), "does not hold the key") {
			t.Errorf("%v", err)
		}
	})
	t.Run("through a jump host", func(t *testing.T) {
		inner := target
		hop := sshd(t, public)
		inner.Through = []Hop{{hop, cred}}
		pull(t, Call{Dialect: pier(t), Target: inner, Credential: cred, Guard: ok})
		other, _ := newKey(t)
		inner.Through[0].Key = other
		_, err := Open(context.Background(), Call{Dialect: pier(t), Target: inner, Credential: cred, Guard: ok})
		if err == nil || !strings.Contains(err.Error(), "jump host") || strings.HasPrefix(err.Error(), "login refused") {
			t.Errorf("%v", err)
		}
	})
	t.Run("exec", func(t *testing.T) {
		src := strings.NewReplacer("identity: {mode: only, command: who, host: '^unit (\\S+)',", "identity: {exec: 'echo unit pier9 number PR-77', host: '^unit (\\S+)',",
			"    mode: only\n    command: all\n", "    exec: 'echo == begin; seq 1 2000; echo == end 2000'\n").Replace(pierDialect)
		src = src[:strings.Index(src, "converse:")] + src[strings.Index(src, "errors:"):]
		src = strings.Replace(src, ", also: [{transport: telnet, port: 23}]", "", 1)
		d, err := dialect.Load("pier.yaml", []byte(src))
		if err != nil {
			t.Fatal(err)
		}
		pull(t, Call{Dialect: d, Target: target, Credential: cred, Guard: ok})
	})
	t.Run("old algorithms, only when allowed", func(t *testing.T) {
		old := sshd(t, public, "KexAlgorithms diffie-hellman-group14-sha1", "HostKeyAlgorithms ssh-ed25519")
		d := pier(t)
		if _, err := Open(context.Background(), Call{Dialect: d, Target: old, Credential: cred, Guard: ok}); err == nil || !strings.Contains(err.Error(), "diffie-hellman-group14-sha1") || !strings.Contains(err.Error(), "reach.legacy") {
			t.Errorf("%v", err)
		}
		d.Reach.Legacy = []string{"diffie-hellman-group14-sha1"}
		warned := ""
		pull(t, Call{Dialect: d, Target: old, Credential: cred, Guard: ok, Warn: func(s string) { warned += s }})
		if !strings.Contains(warned, "diffie-hellman-group14-sha1") {
			t.Errorf("no warning: %q", warned)
		}
	})
	t.Run("sftp and scp", func(t *testing.T) {
		s, err := Open(context.Background(), Call{Dialect: pier(t), Target: target, Credential: cred, Guard: ok})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		files(t, s, "sftp", 0, openDir(t))
		files(t, s, "scp", 0, openDir(t))
	})
}

// files writes a file, reads it back, and asks for one that is not there.
func files(t *testing.T, s *Session, over string, port int, dir string) {
	t.Helper()
	want := bytes.Repeat([]byte("a line of a file\x00\xff\n"), 9000)
	place := &dialect.FilePlace{Over: over, Port: port}
	if err := s.putFile(place, filepath.Join(dir, "a file"), Content{Bytes: want}); err != nil {
		t.Fatalf("%s: %v", over, err)
	}
	got := new(flow)
	if err := s.getFile(place, filepath.Join(dir, "a file"), got); err != nil || !bytes.Equal(got.held.Bytes(), want) {
		t.Errorf("%s: %d bytes, %v", over, got.size, err)
	}
	var r *Refused
	if err := s.getFile(place, filepath.Join(dir, "none"), new(flow)); err == nil || !asRefused(err, &r) {
		t.Errorf("%s: a file that is not there: %v", over, err)
	}
	// What is larger than is held runs over into a basin, where there is one.
	large := bytes.Repeat([]byte("0123456789abcdef"), Limit/16+5)
	flowing := Content{Size: int64(len(large)), From: func(to io.Writer) error {
		for some := range slices.Chunk(large, 1<<20) {
			if _, err := to.Write(some); err != nil {
				return err
			}
		}
		return nil
	}}
	if over == "tftp" { // which says no size beforehand, and is not for large files
		if err := s.putFile(place, filepath.Join(dir, "large"), flowing); err == nil || !strings.Contains(err.Error(), "TFTP takes 16777216 at the most") {
			t.Errorf("%v", err)
		}
		flowing = Content{Bytes: large}
	}
	if err := s.putFile(place, filepath.Join(dir, "large"), flowing); err != nil {
		t.Fatalf("%s: %v", over, err)
	}
	if over == "tftp" {
		if err := s.getFile(place, filepath.Join(dir, "large"), new(flow)); !errors.Is(err, ErrEndless) {
			t.Errorf("tftp: a file larger than is held: %v", err)
		}
		return
	}
	basin := &basinOf{Hash: crc32.NewIEEE()}
	sum := crc32.ChecksumIEEE(large)
	got = &flow{open: func() Basin { return basin }, proof: newProving(dialect.Whole{Magic: "3031", Size: "size", Checksum: &dialect.Checksum{Kind: "crc32", Kept: "sum"}})}
	if err := s.getFile(place, filepath.Join(dir, "large"), got); err != nil || basin.Sum32() != sum || got.size != int64(len(large)) {
		t.Errorf("%s: %d bytes of %d, %v", over, got.size, len(large), err)
	}
	vars := map[string]string{"size": fmt.Sprint(len(large)), "sum": fmt.Sprintf("%08x", sum)}
	if wrong := got.proof.wrong(vars); wrong != "" {
		t.Errorf("%s: %s", over, wrong)
	}
	vars["sum"] = "00000000"
	if wrong := got.proof.wrong(vars); !strings.Contains(wrong, "checksum") {
		t.Errorf("%s: another checksum: %q", over, wrong)
	}
	damaged := errors.New("a piece does not read back")
	flowing.From = func(to io.Writer) error {
		_, _ = to.Write(large[:3<<20])
		return damaged
	}
	if err := s.putFile(place, filepath.Join(dir, "half"), flowing); !errors.Is(err, damaged) {
		t.Errorf("%s: a source that fails: %v", over, err)
	}
	got.anew()
	if !basin.dropped || got.size != 0 {
		t.Errorf("%s: what comes anew is not begun anew", over)
	}
	if err := s.getFile(place, filepath.Join(dir, "large"), new(flow)); err == nil {
		t.Errorf("%s: a file larger than is held was taken", over)
	}
}

// TestEndless: a file runs over only as far as was said beforehand that it goes: by the device, or by the
// file itself.
func TestEndless(t *testing.T) {
	length := dialect.Whole{Length: &dialect.Field{At: 0, Bytes: 4, Counts: 4}}
	for _, c := range []struct {
		what  string
		whole dialect.Whole
		said  int64
		head  uint32 // the first four bytes
		takes int64
	}{
		{"nothing is said", dialect.Whole{}, 0, 0, Limit},
		{"the device says it", dialect.Whole{}, Limit + 5000, 0, Limit + 5000},
		{"the file says it", length, 0, Limit + 5000, Limit + 5004},
		{"the file says less than came", length, 0, 400, Limit},
		{"more than is ever taken", dialect.Whole{}, 9 << 30, 0, Limit},
	} {
		basin := &basinOf{Hash: crc32.NewIEEE()}
		f := &flow{open: func() Basin { return basin }, proof: newProving(c.whole), said: c.said}
		chunk := make([]byte, 1000)
		binary.BigEndian.PutUint32(chunk, c.head)
		var err error
		for err == nil && f.size < 3*Limit {
			_, err = f.Write(chunk)
		}
		if taken := f.size - 1000; !errors.Is(err, ErrEndless) || taken > c.takes || taken < c.takes-1000 {
			t.Errorf("%s: %d bytes were taken, not %d: %v", c.what, taken, c.takes, err)
		}
	}
}

// basinOf takes what is large, and forgets it.
type basinOf struct {
	hash.Hash
	dropped bool
}

func (b *basinOf) Drop()         { b.dropped = true }
func (b *basinOf) Sum32() uint32 { return b.Hash.(hash.Hash32).Sum32() }

func asRefused(err error, r **Refused) bool {
	for e := err; e != nil; {
		if x, ok := e.(*Refused); ok {
			*r = x
			return true
		}
		u, ok := e.(interface{ Unwrap() error })
		if !ok {
			return false
		}
		e = u.Unwrap()
	}
	return false
}

// bare is a session that only moves files.
func bare(t *testing.T, c Credential) *Session {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	t.Cleanup(cancel)
	d := pier(t)
	return &Session{ctx: ctx, cancel: cancel, d: d, call: Call{Dialect: d, Target: Target{Address: "127.0.0.1"}, Credential: c, Guard: ok, Warn: func(string) {}}}
}

func TestVsftpd(t *testing.T) {
	path, port, dir := needs(t, "vsftpd"), freePort(t), openDir(t)
	_ = os.MkdirAll("/var/run/vsftpd/empty", 0o755)
	root := filepath.Join(dir, "root")
	for _, d := range []string{root, filepath.Join(root, "in")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(filepath.Join(root, "in"), 0o777); err != nil {
		t.Fatal(err)
	}
	cert, secret := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	if out, err := exec.Command("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=pier", "-days", "9", "-keyout", secret, "-out", cert).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	config := write(t, filepath.Join(dir, "config"), fmt.Sprintf("listen=YES\nlisten_address=127.0.0.1\nlisten_port=%d\nbackground=NO\nanonymous_enable=YES\nwrite_enable=YES\nanon_upload_enable=YES\nanon_umask=022\nanon_other_write_enable=YES\nanon_root=%s\nseccomp_sandbox=NO\nssl_enable=YES\nallow_anon_ssl=YES\nrequire_ssl_reuse=NO\nforce_anon_logins_ssl=NO\nforce_anon_data_ssl=NO\nrsa_cert_file=%s\nrsa_private_key_file=%s\nssl_ciphers=HIGH\n", port, root, cert, secret), 0o644)
	daemon(t, port, path, config)
	s := bare(t, Credential{User: "anonymous", Password: "x"})
	files(t, s, "ftp", port, "/in")
	raw, _ := os.ReadFile(cert)
	block, _ := pem.Decode(raw)
	s.call.Target.HostKey = certificate(block.Bytes)
	for _, name := range []string{"a file", "large"} {
		if err := os.Remove(filepath.Join(root, "in", name)); err != nil {
			t.Fatal(err)
		}
	}
	files(t, s, "ftps", port, "/in")
	s.call.Target.HostKey = "tls SHA256:other"
	if err := s.getFile(&dialect.FilePlace{Over: "ftps", Port: port}, "/in/a file", new(flow)); err == nil || !strings.Contains(err.Error(), "host key changed") {
		t.Errorf("another certificate: %v", err)
	}
	s.call.Credential.User = "nobody-here"
	if err := s.getFile(&dialect.FilePlace{Over: "ftp", Port: port}, "/in/a file", new(flow)); err == nil || !strings.Contains(err.Error(), "login refused") {
		t.Errorf("another user: %v", err)
	}
}

func TestTftpd(t *testing.T) {
	path, dir := needs(t, "in.tftpd"), openDir(t)
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := pc.LocalAddr().(*net.UDPAddr).Port
	pc.Close()
	cmd := exec.Command(path, "-L", "-4", "-c", "-p", "-U", "0", "-u", "root", "-a", fmt.Sprintf("127.0.0.1:%d", port), "-s", dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	time.Sleep(300 * time.Millisecond) // it says nothing when it listens
	s := bare(t, Credential{})
	s.call.Target.Ports = map[string]int{"tftp": port}
	files(t, s, "tftp", 0, "/")
	// A file that ends with a full block, and an empty one.
	for _, n := range []int{0, tftpWant, 2 * tftpWant} {
		want := bytes.Repeat([]byte{'x'}, n)
		if err := TFTPPut(s.ctx, "127.0.0.1", port, "/b", want, time.Second); err != nil {
			t.Fatal(err)
		}
		if got, err := TFTPGet(s.ctx, "127.0.0.1", port, "/b", time.Second); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%d bytes came of %d, %v", len(got), n, err)
		}
	}
}

func TestTelnetd(t *testing.T) {
	path, dir := needs(t, "telnetd"), openDir(t)
	script := write(t, filepath.Join(dir, "console"), console, 0o755)
	// telnetd is made to be started by inetd, with the connection as its input.
	login := write(t, filepath.Join(dir, "login"), "#!/bin/sh\nexec "+script+" login\n", 0o755)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			f, err := c.(*net.TCPConn).File()
			c.Close()
			if err != nil {
				return
			}
			cmd := exec.Command(path, "-h", "-E", login)
			cmd.Stdin, cmd.Stdout, cmd.Stderr = f, f, f
			cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
			if cmd.Start() == nil {
				go func() { _ = cmd.Wait() }()
			}
			f.Close()
		}
	}()
	target := Target{Transport: "telnet", Address: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}
	pull(t, Call{Dialect: pier(t), Target: target, Credential: Credential{User: "u", Password: "pass"}, Guard: ok})
	if _, err := Open(context.Background(), Call{Dialect: pier(t), Target: target, Credential: Credential{User: "u", Password: "wrong"}, Guard: ok}); err == nil || !strings.Contains(err.Error(), "login refused") {
		t.Errorf("%v", err)
	}
}
