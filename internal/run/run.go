// Package run puts the program together: configuration, the database, the
// service, the demo.
package run

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"crypto/rand"

	"github.com/goccy/go-yaml"

	"magpie/console"
	"magpie/dialects"
	"magpie/internal/api"
	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/seal"
	"magpie/internal/store"
	"magpie/internal/work"
)

// Version of the program.
const Version = "0.1.0"

// Config is what a service is started with.
type Config struct {
	Listen    string `yaml:"listen"`     // address and port
	Data      string `yaml:"data"`       // folder
	Database  string `yaml:"database"`   // DSN; empty: a server of our own
	MasterKey string `yaml:"master_key"` // key file; empty: master.key in the data folder
	Dialects  string `yaml:"dialects"`   // folder of further dialect files
}

// LoadConfig reads the configuration file, if there is one, and lets the
// environment have the last word.
func LoadConfig(path string) (c Config, err error) {
	c = Config{Listen: "127.0.0.1:8470", Data: "magpie-data"}
	if path != "" {
		raw, err := os.ReadFile(path)
		if err != nil {
			return c, fmt.Errorf("configuration: %w", err)
		}
		if err := yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()); err != nil {
			return c, fmt.Errorf("configuration %s: %s", path, strings.SplitN(err.Error(), "\n", 2)[0])
		}
	}
	for name, into := range map[string]*string{"MAGPIE_LISTEN": &c.Listen, "MAGPIE_DATA": &c.Data, "MAGPIE_DATABASE": &c.Database, "MAGPIE_MASTER_KEY_FILE": &c.MasterKey} {
		if v := os.Getenv(name); v != "" {
			*into = v
		}
	}
	return c, nil
}

// Node is a service that is up.
type Node struct {
	Config Config
	Work   *work.Service
	Say    func(format string, args ...any) // tells the person who started it
	id     string
	lock   *os.File
	db     *Database
	store  *store.Store
}

// Prepare brings everything up short of answering requests.
func Prepare(ctx context.Context, c Config, say func(string, ...any)) (n *Node, err error) {
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return nil, err
	}
	n = &Node{Config: c, Say: say}
	defer func(begun *Node) {
		if err != nil {
			begun.Close()
		}
	}(n)
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if n.lock, err = lockFolder(c.Data); err != nil {
		return nil, err
	}
	if err := enoughRoom(c.Data); err != nil {
		return nil, err
	}
	if n.id, err = nodeID(filepath.Join(c.Data, "node")); err != nil {
		return nil, err
	}
	all, err := loadDialects(c.Dialects)
	if err != nil {
		return nil, err
	}
	dsn := c.Database
	if dsn == "" {
		if n.db, err = StartDatabase(ctx, c.Data); err != nil {
			return nil, err
		}
		dsn = n.db.DSN()
	}
	master, err := n.masterKey(ctx, dsn)
	if err != nil {
		return nil, err
	}
	if n.store, _, err = store.Open(ctx, dsn, master, time.Now); err != nil {
		return nil, err
	}
	n.Work, err = work.New(ctx, n.store, all, n.id, time.Now)
	return n, err
}

// lockFolder makes sure that one service at a time uses a data folder.
func lockFolder(dir string) (*os.File, error) {
	path := filepath.Join(dir, "lock")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		held, _ := os.ReadFile(path)
		f.Close()
		return nil, fmt.Errorf("data folder %s is in use by another magpie (process %s); stop that one, or give another folder with --data", dir, strings.TrimSpace(string(held)))
	}
	_ = f.Truncate(0)
	_, err = fmt.Fprintf(f, "%d\n", os.Getpid())
	return f, err
}

// leastRoom is how much the disk must have left for a start, in MiB.
const leastRoom = 256

func enoughRoom(dir string) error {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	if free := st.Bavail * uint64(st.Bsize) >> 20; free < leastRoom {
		return fmt.Errorf("the disk of data folder %s is full: %d MiB are left, a start takes %d; make room first", dir, free, leastRoom)
	}
	return nil
}

func nodeID(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err == nil && len(raw) > 0 {
		return strings.TrimSpace(string(raw)), nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	b := make([]byte, 6)
	_, _ = rand.Read(b)
	id := hex.EncodeToString(b)
	return id, os.WriteFile(path, []byte(id+"\n"), 0o600)
}

func loadDialects(dir string) (all []*dialect.Dialect, err error) {
	load := func(files fs.FS, where string) error {
		names, err := fs.Glob(files, "*.yaml")
		if err != nil {
			return err
		}
		for _, name := range names {
			source, err := fs.ReadFile(files, name)
			if err != nil {
				return err
			}
			d, err := dialect.Load(filepath.Join(where, name), source)
			if err != nil {
				return fmt.Errorf("this dialect cannot be used:\n%w", err)
			}
			for _, other := range all {
				if other.Dialect == d.Dialect {
					return fmt.Errorf("%s: a dialect named %s is there already", filepath.Join(where, name), d.Dialect)
				}
			}
			all = append(all, d)
		}
		return nil
	}
	if err := load(dialects.Files, ""); err != nil {
		return nil, err
	}
	if dir != "" {
		if _, err := os.Stat(dir); err != nil {
			return nil, fmt.Errorf("dialect folder: %w", err)
		}
		err = load(os.DirFS(dir), dir)
	}
	return all, err
}

// masterKey reads the key, or makes one for a database that was never used.
func (n *Node) masterKey(ctx context.Context, dsn string) (seal.Master, error) {
	path := n.Config.MasterKey
	if path == "" {
		path = filepath.Join(n.Config.Data, "master.key")
	}
	m, err := seal.ReadMaster(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return m, err
	}
	empty, err := store.Empty(ctx, dsn)
	if err != nil {
		return m, err
	}
	if !empty {
		return m, fmt.Errorf("the master key is missing: %s does not exist, and without it nothing in the database can be read; put your copy of the key file there", path)
	}
	m = seal.NewMaster()
	if err := m.Write(path); err != nil {
		return m, fmt.Errorf("keeping the new master key: %w", err)
	}
	n.Say(`A master key was made: %s (key %s).
Every configuration in the database is encrypted under it. Whoever loses this
file loses all of them, and nobody can bring them back. Copy it now to a safe
place that is not this machine, for instance:
  cp %s /media/safe/
`, path, m.ID(), path)
	return m, nil
}

// firstAdmin makes a user to begin with where there is none.
func (n *Node) firstAdmin(ctx context.Context) error {
	users, err := n.store.As(core.Actor{Name: "service"}).Users(ctx)
	if err != nil || len(users) > 0 {
		return err
	}
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	password := hex.EncodeToString(b)
	path := filepath.Join(n.Config.Data, "admin.password")
	if err := os.WriteFile(path, []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	if err := n.AddUser(ctx, "admin", core.Admin, password, true); err != nil {
		_ = os.Remove(path)
		if errors.Is(err, store.ErrTaken) { // another node was faster
			return nil
		}
		return err
	}
	n.Say("A first user was made: admin, with the password in %s.\nSet another after signing in: magpie user edit admin --password\n", path)
	return nil
}

// AddUser makes a user.
func (n *Node) AddUser(ctx context.Context, name, role, password string, secrets bool) error {
	return n.store.Tx(ctx, core.Actor{Name: "service"}, func(q *store.Q) error {
		u := store.User{Name: name, Role: role, Secrets: secrets, Password: api.HashPassword(password)}
		if err := q.AddUser(ctx, &u); err != nil {
			return err
		}
		return q.Audit(ctx, "user added", name, "role "+role+", at the first start")
	})
}

// Serve answers requests until ctx ends, then stops in good order. up is called
// once with the address.
func (n *Node) Serve(ctx context.Context, up func(url string)) error {
	if err := n.firstAdmin(ctx); err != nil {
		return err
	}
	l, err := net.Listen("tcp", n.Config.Listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; choose another with --listen", n.Config.Listen, err)
	}
	a := &api.Server{Work: n.Work, Version: Version, Node: n.id, Clock: time.Now, Done: ctx.Done(), Console: console.Files()}
	server := &http.Server{Handler: a.Handler(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	n.Work.Start()
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	up("http://" + l.Addr().String())
	select {
	case err = <-failed:
	case <-ctx.Done():
		err = nil
	}
	stop, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = server.Shutdown(stop)
	n.Work.Stop(20 * time.Second)
	return err
}

// Close ends what Prepare began, the database last.
func (n *Node) Close() {
	if n.store != nil {
		n.store.Close()
	}
	if n.db != nil {
		n.db.Stop()
	}
	if n.lock != nil {
		n.lock.Close()
	}
}
