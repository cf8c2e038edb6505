package e2e

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"

	"golang.org/x/crypto/ssh"
)

// beside is an address that the service cannot reach, and the machine beside the
// unit can (RFC 5737).
const beside = "192.0.2.10"

// lend opens a relay on a machine that reaches a simulated device at another
// address than its own.
// TestRelayThatSaysNothing: a connection that was turned around and says nothing
// more is let go, and never was a relay.
func TestRelayThatSaysNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key := must(ssh.NewSignerFromKey(private))(t)
	conn := must(net.Dial("tcp", strings.TrimPrefix(w.url, "http://")))(t)
	defer conn.Close()
	fmt.Fprintf(conn, "GET /api/v1/relay?device=%s&for=10m HTTP/1.1\r\nHost: magpie\r\nAuthorization: Bearer %s\r\nConnection: Upgrade\r\nUpgrade: %s\r\n%s: %s\r\n\r\n",
		r1, w.admin.Token, client.RelayProtocol, client.RelayKeyHeader, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))))
	began := time.Now()
	_ = conn.SetDeadline(began.Add(30 * time.Second))
	said, err := io.ReadAll(conn)
	if err != nil || !strings.HasPrefix(string(said), "HTTP/1.1 101 ") {
		t.Errorf("after %s: %v\n%s", time.Since(began), err, said)
	}
	if all := must(w.admin.Relays(ctx(t)))(t); len(all) != 0 {
		t.Errorf("a relay is listed: %+v", all)
	}
}

func (w *world) lend(as *client.Client, device, at, real string) (id string, close func(), used func() string) {
	w.t.Helper()
	within, cancel := context.WithCancel(context.Background())
	opened, ended := make(chan string, 1), make(chan error, 1)
	var mu sync.Mutex
	var log []string
	go func() {
		ended <- as.Relay(within, client.NewRelay{Device: device, At: at, For: 10 * time.Minute,
			Opened: func(id string, _ []string) { opened <- id },
			Used: func(address string, err error) {
				mu.Lock()
				defer mu.Unlock()
				log = append(log, address)
				if err != nil {
					log = append(log, err.Error())
				}
			},
			Dial: func(ctx context.Context, address string) (net.Conn, error) {
				_, port, _ := net.SplitHostPort(address)
				return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(real, port))
			}})
	}()
	w.top.Cleanup(cancel)
	select {
	case id = <-opened:
	case err := <-ended:
		w.t.Fatalf("the relay did not open: %v", err)
	case <-time.After(20 * time.Second):
		w.t.Fatal("the relay did not open")
	}
	return id, func() { cancel(); <-ended }, func() string { mu.Lock(); defer mu.Unlock(); return strings.Join(log, "\n") }
}

// TestRelay: a unit that only a machine beside it can reach is pushed to through
// that, to the addresses lent and to no other; when it goes away in the middle,
// another one can take its place.
func TestRelay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull(other)
	changed(w)
	second, real := w.fleet.running(r1), w.fleet.place(r1).Address
	must(w.admin.EditDevice(ctx(t), r1, client.NewDevice{Address: beside, HostKey: must(w.admin.Device(ctx(t), r1))(t).HostKey, Timeouts: &map[string]string{"connect": "2s"}}))(t)
	if j := w.pull(r1); j.Outcome != "failed" {
		t.Fatalf("%s is reached without a relay: %s", beside, j.Summary)
	}
	if _, err := w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@1", Relay: "nothing"}); !client.IsStatus(err, 409) {
		t.Errorf("through no relay: %v", err)
	}
	err := w.addUser("lookout", "reader").Relay(ctx(t), client.NewRelay{Device: r1, For: time.Hour})
	if !client.IsStatus(err, 403) {
		t.Errorf("opened by a reader: %v", err)
	}
	for _, bad := range []client.NewRelay{{Device: "nowhere", For: time.Hour}, {Device: r1, For: time.Second}, {Device: r1, At: "a b", For: time.Hour}} {
		if err := w.admin.Relay(ctx(t), bad); !client.IsStatus(err, 404) && !client.IsStatus(err, 400) {
			t.Errorf("%+v: %v", bad, err)
		}
	}

	okonkwo := w.addUser("okonkwo", "operator")
	id, stop, used := w.lend(okonkwo, r1, "", real)
	if all := must(w.admin.Relays(ctx(t)))(t); len(all) != 1 || all[0].ID != id || all[0].Device != r1 || all[0].Actor != "okonkwo" {
		t.Errorf("%+v", all)
	}
	out, said, status := w.cli("push", r1+"@1", "--relay", id, "--yes")
	if status != 0 || w.fleet.running(r1) == second || !strings.Contains(out, "through relay "+id) {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	if !strings.HasPrefix(used(), beside+":2222") {
		t.Errorf("used %q", used())
	}
	// Not another device, and not another address.
	if _, err := w.admin.NewPreview(ctx(t), client.NewPreview{Ref: other + "@1", Relay: id}); !client.IsStatus(err, 409) {
		t.Errorf("for another device: %v", err)
	}
	j := w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@2", Relay: id, At: "192.0.2.99:22"}))(t).ID)
	if j.Outcome != "failed" || !strings.Contains(used(), "192.0.2.99:22\nnot among the addresses lent") {
		t.Errorf("to another address: %s: %s\n%s", j.Outcome, j.Summary, used())
	}
	if p := must(w.admin.ProbeThrough(ctx(t), id, "", beside, 2222))(t); !strings.HasPrefix(p.Fingerprint, "SHA256:") {
		t.Errorf("%+v", p)
	}

	// It goes away in the middle of a push with a window; another one takes its place.
	p := w.preview(client.NewPreview{Ref: r1 + "@2", Relay: id})
	first := w.fleet.running(r1)
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	push := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, Within: "5m"}, ""))(t)
	w.fleet.waitHolding(r1)
	stop()
	w.fleet.faults(r1, box.Faults{})
	eventually(t, "the relay is gone", func() bool { return len(must(w.admin.Relays(ctx(t)))(t)) == 0 })
	eventually(t, "the push waits for a way", func() bool {
		j := must(w.admin.Job(ctx(t), push.ID))(t)
		return j.State == "waiting" && strings.Contains(j.Summary, "trying again")
	})
	_, stop, _ = w.lend(okonkwo, r1, "", real)
	if end := w.end(push.ID); end.Outcome != "undone" || w.fleet.running(r1) != first {
		t.Errorf("%s: %s\n%s", end.Outcome, end.Summary, w.logText(push.ID))
	}
	stop()

	// The program itself, at an address of its own; the service dies, and it says so.
	cmd := exec.Command(filepath.Join(serving, "magpie"), "relay", "open", r1, "--at", real+":2222")
	cmd.Env = append(os.Environ(), "HOME="+w.dir, "XDG_CONFIG_HOME="+w.dir, "MAGPIE_URL="+w.url, "MAGPIE_TOKEN="+okonkwo.Token)
	pipe, err := cmd.StdoutPipe()
	if err != nil || cmd.Start() != nil {
		t.Fatal(err)
	}
	line, _ := bufio.NewReader(pipe).ReadString('\n')
	words := strings.Fields(line)
	if len(words) < 2 || words[0] != "relay" {
		t.Fatalf("it says %q", line)
	}
	key := must(w.admin.ProbeThrough(ctx(t), words[1], "", real, 2222))(t).Fingerprint
	if out, said, status := w.cli("push", r1+"@2", "--relay", words[1], "--accept-key", key, "--yes"); status != 0 || w.fleet.running(r1) != second {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	w.kill()
	if err := cmd.Wait(); err == nil || cmd.ProcessState.ExitCode() != 2 {
		t.Errorf("the service died, and the relay ended %v", err)
	}
	w.serve()
	if all := must(w.admin.Relays(ctx(t)))(t); len(all) != 0 {
		t.Errorf("relays of a service that died: %+v", all)
	}
}
