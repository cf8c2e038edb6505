package inbox

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func open(t *testing.T) *Inbox {
	t.Helper()
	_, key, _ := ed25519.GenerateKey(nil)
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	b, err := Open(Config{Listen: "127.0.0.1", Address: "127.0.0.1", TFTP: -1, FTP: -1, SFTP: -1, HTTPS: -1}, pem.EncodeToMemory(block))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

// sends and fetches are what a device would do, by programs that we did not
// write.
func command(protocol string, send bool, port int, file, path string) *exec.Cmd {
	url := fmt.Sprintf("%s://127.0.0.1:%d/%s", protocol, port, path)
	ssh := []string{"-q", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "PreferredAuthentications=password"}
	switch protocol {
	case "sftp", "scp":
		far := fmt.Sprintf("anyone@127.0.0.1:%s", path)
		args := append([]string{"-P", fmt.Sprint(port)}, ssh...)
		if protocol == "scp" {
			args = append(args, "-O") // scp's own protocol
		}
		if send {
			args = append(args, file, far)
		} else {
			args = append(args, far, file)
		}
		c := exec.Command("scp", args...)
		c.Env = append(os.Environ(), "SSH_ASKPASS=/bin/echo", "SSH_ASKPASS_REQUIRE=force", "DISPLAY=none")
		return c
	}
	args := []string{"-sSf", "-k", "--max-time", "20"}
	if send {
		return exec.Command("curl", append(args, "-T", file, url)...)
	}
	return exec.Command("curl", append(args, "-o", file, url)...)
}

func TestInbox(t *testing.T) {
	b := open(t)
	want := bytes.Repeat([]byte("what a device sends\x00\n"), 3000)
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, want, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, protocol := range []string{"tftp", "ftp", "sftp", "scp", "https"} {
		t.Run(protocol, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			_, port, path, wait, shut, err := b.Expect(ctx, protocol, "127.0.0.1")
			if err != nil {
				t.Fatal(err)
			}
			defer shut()
			if out, err := command(protocol, true, port, file, path).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			got, err := wait()
			if err != nil || !bytes.Equal(got, want) {
				t.Errorf("%d bytes came, %v", len(got), err)
			}
			for name, refused := range map[string]*exec.Cmd{
				"the same path again": command(protocol, true, port, file, path),
				"another path":        command(protocol, true, port, file, "guess"),
				"reading it":          command(protocol, false, port, filepath.Join(dir, "none"), path),
			} {
				if out, err := refused.CombinedOutput(); err == nil {
					t.Errorf("%s was let in: %s", name, out)
				}
			}
			// Another address than the one it is for.
			_, _, path, _, shut2, err := b.Expect(ctx, protocol, "127.0.0.2")
			if err != nil {
				t.Fatal(err)
			}
			defer shut2()
			if out, err := command(protocol, true, port, file, path).CombinedOutput(); err == nil {
				t.Errorf("another address was let in: %s", out)
			}
			// The other way round: a device fetches.
			_, port, path, shut3, err := b.Offer(ctx, protocol, "127.0.0.1", want)
			if err != nil {
				t.Fatal(err)
			}
			defer shut3()
			back := filepath.Join(dir, "back-"+protocol)
			if out, err := command(protocol, false, port, back, path).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			if raw, err := os.ReadFile(back); err != nil || !bytes.Equal(raw, want) {
				t.Errorf("%d bytes were fetched, %v", len(raw), err)
			}
		})
	}
}

func TestInboxExpires(t *testing.T) {
	b := open(t)
	_, port, path, _, _, err := b.Expect(context.Background(), "https", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	b.mu.Lock()
	b.open[path].until = time.Now().Add(-time.Second)
	b.mu.Unlock()
	if out, err := command("https", true, port, "/etc/hostname", path).CombinedOutput(); err == nil || !strings.Contains(string(out), "404") {
		t.Errorf("an expired path: %v %s", err, out)
	}
}
