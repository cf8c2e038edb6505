package scratch

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"magpie/internal/port"
)

// Cluster is a Galera cluster of MariaDB servers on loopback, set up as
// docs/operations.md says.
type Cluster struct {
	Nodes []*Node
	t     testing.TB
	seeds string
}

// Node is one server of a cluster.
type Node struct {
	t           testing.TB
	dir         string
	port, group int // for clients, and for the other nodes
	cmd         *exec.Cmd
	gone        chan struct{}
}

// StartCluster starts so many servers and returns when they are one cluster. It
// is stopped with the test.
func StartCluster(t testing.TB, size int) *Cluster {
	t.Helper()
	c := &Cluster{t: t}
	var seeds []string
	for i := range size {
		n := &Node{t: t, dir: filepath.Join(t.TempDir(), fmt.Sprint(i)), port: free(t), group: free(t)}
		c.Nodes = append(c.Nodes, n)
		seeds = append(seeds, fmt.Sprintf("127.0.0.1:%d", n.group))
	}
	c.seeds = strings.Join(seeds, ",")
	for i, n := range c.Nodes {
		n.configure(c, i)
	}
	t.Cleanup(func() {
		for _, n := range c.Nodes {
			n.Kill()
		}
	})
	first := c.Nodes[0]
	first.run("mariadb-install-db", "--no-defaults", "--user=root", "--datadir="+first.data(), "--skip-test-db", "--auth-root-authentication-method=socket", "--skip-name-resolve")
	accounts := filepath.Join(first.dir, "accounts.sql")
	made := strings.NewReplacer("A-PASSWORD", "sst", "ANOTHER", "magpie", "192.0.2.%", "127.0.0.1", "magpie.*", "`magpie%`.*").Replace(c.guide("sql"))
	if err := os.WriteFile(accounts, []byte(made), 0o600); err != nil {
		t.Fatal(err)
	}
	first.start("--wsrep-new-cluster", "--init-file="+accounts)
	first.Ready()
	// What an empty server would first have to be sent is copied: it takes a
	// quarter of a minute each.
	first.stop()
	for _, n := range c.Nodes[1:] {
		n.run("cp", "-a", first.data(), n.data())
	}
	first.start("--wsrep-new-cluster")
	first.Ready()
	// One after the other: two that ask at once now and then wait for each other, and one dies of it.
	for _, n := range c.Nodes[1:] {
		n.start()
		if err := n.ready(time.Minute); err != nil {
			t.Logf("a server joins anew: %v", err)
			n.Kill()
			n.Wipe()
			n.Rejoin()
			n.Ready()
		}
	}
	for _, n := range c.Nodes { // who sent another what it lacked, too
		n.Ready()
	}
	return c
}

// guide is the block of a language in the recipe of docs/operations.md.
func (c *Cluster) guide(language string) string {
	c.t.Helper()
	_, self, _, _ := runtime.Caller(0)
	text, err := os.ReadFile(filepath.Join(filepath.Dir(self), "../../docs/operations.md"))
	if err != nil {
		c.t.Fatal(err)
	}
	_, recipe, ok := strings.Cut(string(text), "### Three of each")
	_, recipe, block := strings.Cut(recipe, "```"+language+"\n")
	if recipe, _, _ = strings.Cut(recipe, "```"); !ok || !block {
		c.t.Fatalf("docs/operations.md has no recipe in %s for three of each", language)
	}
	return recipe
}

// Database makes an empty database and returns its name.
func (c *Cluster) Database() string {
	c.t.Helper()
	name := fmt.Sprintf("magpie%d", count.Add(1))
	c.Nodes[0].exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	return name
}

// DSN is how to connect to a database by this server.
func (n *Node) DSN(database string) string {
	return fmt.Sprintf("magpie:magpie@tcp(127.0.0.1:%d)/%s", n.port, database)
}

// Kill ends the server as a power cut would.
func (n *Node) Kill() {
	if n.cmd != nil {
		_ = n.cmd.Process.Kill()
		<-n.gone
	}
}

// stop ends the server cleanly.
func (n *Node) stop() {
	_ = n.cmd.Process.Signal(syscall.SIGTERM)
	<-n.gone
}

// Wipe takes a killed server's data away: another machine in its place.
func (n *Node) Wipe() {
	if err := os.RemoveAll(n.data()); err != nil {
		n.t.Fatal(err)
	}
	if err := os.Mkdir(n.data(), 0o700); err != nil {
		n.t.Fatal(err)
	}
}

// Rejoin starts a server that was killed. Ready tells when it is back.
func (n *Node) Rejoin() {
	n.t.Helper()
	// What the system's own start does: where it stood, so that it is sent no more
	// than it lacks.
	out, err := exec.Command("mariadbd", "--defaults-file="+n.config(), "--wsrep-recover", "--log-error="+filepath.Join(n.dir, "recover.log")).CombinedOutput()
	if err != nil {
		n.t.Logf("%v: %s", err, out)
	}
	said, _ := os.ReadFile(filepath.Join(n.dir, "recover.log"))
	if m := regexp.MustCompile(`Recovered position: (\S+)`).FindSubmatch(said); m != nil {
		n.start("--wsrep-start-position=" + string(m[1]))
		return
	}
	n.start()
}

func (n *Node) data() string   { return filepath.Join(n.dir, "db") }
func (n *Node) config() string { return filepath.Join(n.dir, "my.cnf") }

func (n *Node) configure(c *Cluster, i int) {
	n.t.Helper()
	if err := os.MkdirAll(n.dir, 0o700); err != nil {
		n.t.Fatal(err)
	}
	group := fmt.Sprintf("127.0.0.1:%d", n.group)
	text := strings.NewReplacer("192.0.2.11,192.0.2.12,192.0.2.13", c.seeds, "bind-address = 192.0.2.11", "bind-address = 127.0.0.1",
		"wsrep-node-address = 192.0.2.11", "wsrep-node-address = "+group, "A-PASSWORD", "sst").Replace(c.guide("ini"))
	// On one machine each has ports and folders of its own.
	text += fmt.Sprintf(`user = root
datadir = %[1]s/db
socket = %[1]s/db.sock
log-error = %[1]s/db.log
pid-file = %[1]s/pid
port = %[2]d
skip-name-resolve
performance-schema = OFF
innodb-buffer-pool-size = 64M
max-connections = 200
wsrep-node-name = n%[3]d
wsrep-sst-receive-address = 127.0.0.1:%[4]d
wsrep-provider-options = "gmcast.listen_addr=tcp://%[5]s;ist.recv_addr=127.0.0.1:%[6]d;gcache.size=64M"
`, n.dir, n.port, i+1, free(n.t), group, free(n.t))
	if err := os.WriteFile(n.config(), []byte(text), 0o600); err != nil {
		n.t.Fatal(err)
	}
}

func (n *Node) start(args ...string) {
	n.t.Helper()
	n.cmd, n.gone = exec.Command("mariadbd", append([]string{"--defaults-file=" + n.config()}, args...)...), make(chan struct{})
	if err := n.cmd.Start(); err != nil {
		n.t.Fatal(err)
	}
	go func(cmd *exec.Cmd, gone chan struct{}) { _ = cmd.Wait(); close(gone) }(n.cmd, n.gone)
}

// Ready waits until the server is part of the cluster and up to date.
func (n *Node) Ready() {
	n.t.Helper()
	if err := n.ready(90 * time.Second); err != nil {
		n.t.Fatal(err)
	}
}

// over tells whether the server's process has ended.
func (n *Node) over() bool {
	select {
	case <-n.gone:
		return true
	default:
		return false
	}
}

func (n *Node) ready(within time.Duration) error {
	db, err := sql.Open("mysql", n.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	var state, name string
	for end := time.Now().Add(within); time.Now().Before(end) && !n.over(); time.Sleep(50 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		err = db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_local_state_comment'").Scan(&name, &state)
		cancel()
		if err == nil && state == "Synced" {
			return nil
		}
	}
	said, _ := os.ReadFile(filepath.Join(n.dir, "db.log"))
	return fmt.Errorf("a server does not join: %v, %s\n%s", err, state, said[max(0, len(said)-3000):])
}

func (n *Node) exec(statement string) {
	n.t.Helper()
	db, err := sql.Open("mysql", n.DSN(""))
	if err != nil {
		n.t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statement); err != nil {
		n.t.Fatal(err)
	}
}

func (n *Node) run(program string, args ...string) {
	n.t.Helper()
	if out, err := exec.Command(program, args...).CombinedOutput(); err != nil {
		n.t.Fatalf("%s: %v\n%s", program, err, out)
	}
}

// free is a port that nobody listens at.
func free(t testing.TB) int {
	t.Helper()
	port, err := port.Free()
	if err != nil {
		t.Fatal(err)
	}
	return port
}
