package run

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"

	"magpie/internal/port"
)

// Database is a MariaDB server of our own: on loopback, in our data folder,
// with a password nobody else has.
type Database struct {
	dir      string // the data folder
	schemas  string // which schemas the account has rights on, as a pattern of GRANT
	password string
	port     int

	mu       sync.Mutex
	pid      int
	stopping bool
	gone     chan struct{} // closed when the process is known to have ended
	how      string        // and how it did
}

// leftover is what a start writes down, so that the next one finds a server
// that outlived its service.
type leftover struct {
	PID   int `json:"pid"`
	Port  int `json:"port"`
	Shape int `json:"shape"` // which start made it what it is; see shape
}

// shape counts the ways in which servers have been started: one that is left
// behind by an older way is stopped and started anew, so that what is closed
// here is closed there too.
const shape = 3

func program(name string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	p := "/usr/sbin/" + name
	if _, err := os.Stat(p); err == nil {
		return p, nil
	}
	return "", fmt.Errorf("%s is not installed; run: apt-get install mariadb-server-core mariadb-client-core (or give a database of your own, see docs/operations.md)", name)
}

// StartDatabase brings the server of a data folder up, or takes on the one that
// an earlier service left behind.
func StartDatabase(ctx context.Context, dir string) (*Database, error) {
	return startDatabase(ctx, dir, "magpie")
}

// StartScratch does so for tests, which make a schema each: magpie and whatever
// follows.
func StartScratch(ctx context.Context, dir string) (*Database, error) {
	return startDatabase(ctx, dir, "magpie%")
}

func startDatabase(ctx context.Context, dir, schemas string) (*Database, error) {
	db := &Database{dir: dir, schemas: schemas}
	var err error
	if db.password, err = keptPassword(filepath.Join(dir, "db.password")); err != nil {
		return nil, err
	}
	if err := db.install(ctx); err != nil {
		return nil, err
	}
	if db.adopt(ctx) {
		slog.Info("took on the database server an earlier service left behind", "pid", db.pid)
		go db.keepUp()
		return db, nil
	}
	if err := db.start(ctx); err != nil {
		return nil, err
	}
	go db.keepUp()
	return db, nil
}

// DSN is how to connect.
func (db *Database) DSN() string {
	return fmt.Sprintf("magpie:%s@tcp(127.0.0.1:%d)/magpie", db.password, db.port)
}

func keptPassword(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(raw)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	b := make([]byte, 20)
	_, _ = rand.Read(b)
	password := hex.EncodeToString(b)
	return password, os.WriteFile(path, []byte(password+"\n"), 0o600)
}

func (db *Database) data() string { return filepath.Join(db.dir, "db") }
func (db *Database) log() string  { return filepath.Join(db.dir, "db.log") }

// install makes the server's own tables. A first start that was broken off
// leaves nothing that would be taken for a whole database.
func (db *Database) install(ctx context.Context) error {
	if _, err := os.Stat(db.data()); err == nil {
		return nil
	}
	tool, err := program("mariadb-install-db")
	if err != nil {
		return err
	}
	half := db.data() + ".new"
	args := []string{"--no-defaults", "--datadir=" + half, "--skip-test-db", "--auth-root-authentication-method=socket", "--skip-name-resolve"}
	if os.Getuid() == 0 {
		args = append(args, "--user=root")
	}
	// Its tool now and then gives up when several are at work on one machine.
	for try := 1; ; try++ {
		if err := os.RemoveAll(half); err != nil {
			return err
		}
		out, err := exec.CommandContext(ctx, tool, args...).CombinedOutput()
		if err == nil {
			break
		}
		if try == 3 || ctx.Err() != nil {
			return fmt.Errorf("making the database in %s: %w\n%s", db.data(), err, lastLines(string(out), 30))
		}
		slog.Warn("making the database failed and is tried again", "err", err, "said", lastLines(string(out), 30))
	}
	return os.Rename(half, db.data())
}

// adopt looks for a server that an earlier service left running.
func (db *Database) adopt(ctx context.Context) bool {
	raw, err := os.ReadFile(filepath.Join(db.dir, "db.json"))
	var l leftover
	if err != nil || json.Unmarshal(raw, &l) != nil || !db.ours(l.PID) {
		return false
	}
	db.pid, db.port = l.PID, l.Port
	wait, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if l.Shape != shape {
		slog.Info("the database server that an earlier version left behind is started anew", "pid", l.PID)
		_ = syscall.Kill(l.PID, syscall.SIGTERM)
		for present(l.PID) && wait.Err() == nil {
			time.Sleep(20 * time.Millisecond)
		}
	}
	if l.Shape != shape || db.answers(wait, func() bool { return !db.ours(l.PID) }) != nil {
		_ = syscall.Kill(l.PID, syscall.SIGKILL) // it is ours, but past talking to
		for present(l.PID) {
			time.Sleep(20 * time.Millisecond)
		}
		return false
	}
	return true
}

// ours tells whether a process is the server of this data folder.
func (db *Database) ours(pid int) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(raw), "--datadir="+db.data()+"\x00")
}

// present tells whether a process is still there with any of its threads. A
// server that shuts down loses its command line long before it is done.
func present(pid int) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	threads, _ := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
	return !strings.HasPrefix(rest, "Z") || len(threads) > 1
}

func (db *Database) start(ctx context.Context) error {
	tool, err := program("mariadbd")
	if err != nil {
		return err
	}
	if db.port == 0 {
		if db.port, err = port.Free(); err != nil {
			return err
		}
	}
	// An empty folder is all of the file system that a statement could name.
	// What is temporary has a folder of its own: a server that starts clears away what it
	// takes for its own, and so what another one in the same folder is using.
	none, temporary := filepath.Join(db.dir, "db.none"), filepath.Join(db.dir, "db.tmp")
	for _, dir := range []string{none, temporary} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	// What an earlier version left lying about, with the password in it.
	if err := os.Remove(filepath.Join(db.dir, "db.init.sql")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	told, err := pipeOf(accounts(db.password, db.schemas))
	if err != nil {
		return err
	}
	defer told.Close()
	args := []string{"--no-defaults", "--datadir=" + db.data(), "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", db.port),
		"--socket=" + socketPath(db.dir), "--pid-file=" + filepath.Join(db.data(), "mariadbd.pid"), "--log-error=" + db.log(), "--init-file=/dev/fd/3",
		"--secure-file-priv=" + none, "--tmpdir=" + temporary, "--local-infile=OFF", "--symbolic-links=OFF",
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--innodb-buffer-pool-size=" + cache() + "M",
		"--innodb-log-file-size=48M", "--performance-schema=OFF", "--max-allowed-packet=128M", "--skip-log-bin", "--max-connections=200",
		"--innodb-use-native-aio=OFF"} // what the kernel has of it is shared by all servers of a machine, and runs out
	if os.Getuid() == 0 {
		args = append(args, "--user=root")
	}
	var logged int64
	if st, err := os.Stat(db.log()); err == nil {
		logged = st.Size()
	}
	cmd := exec.Command(tool, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for us; we stop it
	cmd.ExtraFiles = []*os.File{told}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the database server: %w", err)
	}
	gone := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		db.mu.Lock()
		db.how = cmd.ProcessState.String()
		db.mu.Unlock()
		close(gone)
	}()
	db.mu.Lock()
	db.pid, db.gone = cmd.Process.Pid, gone
	db.mu.Unlock()
	raw, _ := json.Marshal(leftover{db.pid, db.port, shape})
	if err := os.WriteFile(filepath.Join(db.dir, "db.json"), raw, 0o600); err != nil {
		return err
	}
	wait, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	if err := db.answers(wait, func() bool { return ended(gone) }); err != nil {
		_ = cmd.Process.Kill()
		return fmt.Errorf("the database server in %s did not come up: %w\nits log (%s) ends with:\n%s", db.data(), err, db.log(), newLines(db.log(), logged, 8))
	}
	return nil
}

// The least and the most that the server keeps in memory of its tables, in MiB.
const leastCache, mostCache = 192, 1024

// cache is how many MiB the server keeps in memory of its tables: an eighth of the machine's.
func cache() string {
	n := leastCache
	var info syscall.Sysinfo_t
	if syscall.Sysinfo(&info) == nil {
		n = int(uint64(info.Totalram) * uint64(info.Unit) >> 23)
	}
	return strconv.Itoa(min(max(n, leastCache), mostCache))
}

// accounts are the statements that the server carries out at every start, before
// it answers anybody: nobody may sign in but its own root, by the socket, from
// the system's root, and the service's account, which has rights on its own
// schema, on one beside it in which backups are proved, and on none besides. What an
// older data folder had more is taken away.
func accounts(password, schemas string) string {
	return fmt.Sprintf(`CREATE DATABASE IF NOT EXISTS magpie CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;
DELETE FROM mysql.global_priv WHERE (User, Host) NOT IN (('root', 'localhost'), ('mariadb.sys', 'localhost'));
DELETE FROM mysql.db;
FLUSH PRIVILEGES;
ALTER USER 'root'@'localhost' IDENTIFIED VIA unix_socket;
CREATE USER 'magpie'@'127.0.0.1' IDENTIFIED BY '%[1]s';
GRANT ALL ON `+"`%[2]s`"+`.* TO 'magpie'@'127.0.0.1';
GRANT ALL ON `+"`%[2]s\\_proof`"+`.* TO 'magpie'@'127.0.0.1';
`, password, schemas)
}

// pipeOf returns the reading end of a pipe that holds a text, so that what it
// says never lies in a file.
func pipeOf(text string) (*os.File, error) {
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer w.Close()
	if _, err := w.WriteString(text); err != nil { // far less than a pipe holds
		r.Close()
		return nil, err
	}
	return r, nil
}

func ended(gone chan struct{}) bool {
	select {
	case <-gone:
		return true
	default:
		return false
	}
}

// answers waits until the server does, unless it is gone.
func (db *Database) answers(ctx context.Context, gone func() bool) error {
	conn, err := sqlx.Open("mysql", db.DSN()+"?timeout=2s")
	if err != nil {
		return err
	}
	defer conn.Close()
	for {
		if err = conn.PingContext(ctx); err == nil {
			return nil
		}
		if gone() {
			return errors.New("it ended by itself")
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// keepUp starts the server again when it ends without being asked to.
func (db *Database) keepUp() {
	for {
		db.mu.Lock()
		pid, gone := db.pid, db.gone
		db.mu.Unlock()
		if gone != nil {
			<-gone
		} else { // an adopted server is not our child
			for present(pid) {
				time.Sleep(100 * time.Millisecond)
			}
		}
		db.mu.Lock()
		stopping, how := db.stopping, db.how
		db.mu.Unlock()
		if stopping {
			return
		}
		// Killed by the system for want of memory, out of disk, or of a mistake of its own:
		// whoever looks has to tell these apart.
		slog.Error("the database server ended by itself; starting it again", "how", cmp.Or(how, "not known"), "log", newLines(db.log(), 0, 5))
		for wait := 100 * time.Millisecond; ; wait = min(2*wait, 10*time.Second) {
			err := db.start(context.Background())
			if err == nil {
				break
			}
			db.mu.Lock()
			stopping := db.stopping
			db.mu.Unlock()
			if stopping {
				return
			}
			slog.Error("database server", "err", err)
			time.Sleep(wait)
		}
	}
}

// stopWithin is how long the server has to end cleanly: one that waits for room on its disk never does.
const stopWithin = 40 * time.Second

// Stop ends the server cleanly and waits for it. One that does not end is killed: what it has taken is
// on its disk, and it puts itself right at the next start.
func (db *Database) Stop() {
	db.mu.Lock()
	db.stopping = true
	pid := db.pid
	db.mu.Unlock()
	if !db.ours(pid) {
		return
	}
	ends := func(by syscall.Signal, within time.Duration) bool {
		_ = syscall.Kill(pid, by)
		for end := time.Now().Add(within); present(pid) && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
		return !present(pid)
	}
	if !ends(syscall.SIGTERM, stopWithin) {
		slog.Warn("the database server does not end; it is killed, and puts itself right at the next start", "waited", stopWithin)
		ends(syscall.SIGKILL, 5*time.Second)
	}
	_ = os.Remove(filepath.Join(db.dir, "db.json"))
}

// Socket is the server's socket, by which the system's root may do everything.
// It is told in full; see socketPath.
func (db *Database) Socket() string { return filepath.Join(db.dir, "db.sock") }

// PID is the server's process number.
func (db *Database) PID() int {
	db.mu.Lock()
	defer db.mu.Unlock()
	return db.pid
}

// socketPath keeps the socket's name within the 107 bytes the system allows.
func socketPath(dir string) string {
	p := filepath.Join(dir, "db.sock")
	if len(p) < 100 {
		return p
	}
	if rel, err := filepath.Rel(filepath.Join(dir, "db"), p); err == nil {
		return rel // the server runs in its data folder
	}
	return p
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

func newLines(path string, from int64, n int) string {
	raw, err := os.ReadFile(path)
	if err != nil || from > int64(len(raw)) {
		return ""
	}
	return lastLines(string(raw[from:]), n)
}
