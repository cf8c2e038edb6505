// Package run puts the program together: configuration, the database, the
// service, the demo.
package run

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/console"
	"magpie/dialects"
	"magpie/internal/api"
	"magpie/internal/core"
	"magpie/internal/dialect"
	"magpie/internal/fleet"
	"magpie/internal/history"
	"magpie/internal/job"
	"magpie/internal/link/inbox"
	"magpie/internal/push"
	"magpie/internal/read"
	"magpie/internal/routine"
	"magpie/internal/seal"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// Version of the program.
const Version = "0.2.0"

// also are kinds of jobs that are registered besides the service's own.
var also []job.Kind

// Also registers kinds of jobs besides the service's own. It is called before the
// service is started.
func Also(kinds ...job.Kind) { also = append(also, kinds...) }

// Instance is a service that is up.
type Instance struct {
	Config  Config
	jobs    *job.Runtime
	visits  *visit.Service
	pushes  *push.Service
	fleet   *fleet.Service
	looks   *read.Service
	daily   *routine.Service
	history *history.Service
	Say     func(format string, args ...any) // tells the person who started it
	id      string
	lock    *os.File
	db      *Database
	store   *store.Store
	seen    map[string]string // the dialects' texts as the folder had them last
	inbox   *inbox.Inbox
	shown   *certificate // nil: it answers without TLS
}

// Prepare brings everything up short of answering requests.
func Prepare(ctx context.Context, c Config, say func(string, ...any)) (n *Instance, err error) {
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return nil, err
	}
	n = &Instance{Config: c, Say: say}
	defer func(begun *Instance) {
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
	if n.id, err = instanceID(c.Data); err != nil {
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
	if err := n.openStore(ctx, dsn); err != nil {
		return nil, err
	}
	if n.db != nil {
		n.store.Room = n.hasRoom
	}
	n.seen = map[string]string{}
	for _, d := range all {
		n.seen[d.Dialect] = d.Source
	}
	if n.jobs, err = job.New(ctx, n.store, n.id, time.Now); err != nil {
		return n, err
	}
	if n.visits, err = visit.New(ctx, n.jobs, all); err == nil {
		n.pushes = push.New(n.visits)
		n.fleet = fleet.New(n.pushes)
		n.looks = read.New(n.visits)
		n.looks.Register()
		n.daily = routine.New(n.visits)
		n.daily.Room, n.daily.Differ = n.room, n.looks.Changed
		n.history = history.New(n.visits, filepath.Join(c.Data, "spool"), Version)
		n.visits.Mend = n.history.Repair
		n.jobs.Register(also...)
		n.visits.SetLimits(c.limits())
		err = n.openInbox()
	}
	return n, err
}

// openInbox starts the inbox, if one is configured. Its SSH host key is made at
// the first start and kept in the data folder.
func (n *Instance) openInbox() error {
	c := n.Config.Inbox
	if !c.On() {
		return nil
	}
	file := filepath.Join(n.Config.Data, "inbox.key")
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		var key ed25519.PrivateKey
		var block *pem.Block
		if _, key, err = ed25519.GenerateKey(rand.Reader); err == nil {
			block, err = ssh.MarshalPrivateKey(key, "magpie inbox")
		}
		if err == nil {
			raw = pem.EncodeToMemory(block)
			err = os.WriteFile(file, raw, 0o600)
		}
	}
	if err != nil {
		return fmt.Errorf("inbox: %w", err)
	}
	if n.inbox, err = inbox.Open(c, raw); err != nil {
		return err
	}
	n.visits.Inbox = n.inbox
	return nil
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

// room tells how much of the data folder's disk is free, in bytes.
func (n *Instance) room() (free, total uint64) {
	var st syscall.Statfs_t
	if syscall.Statfs(n.Config.Data, &st) != nil {
		return 0, 0
	}
	return st.Bavail * uint64(st.Bsize), st.Blocks * uint64(st.Bsize)
}

// keepRoom is how much has to be left of the disk on which the service keeps its own database, so that
// anything new is begun: what is under way comes to its end in it, and people can be told.
const keepRoom = 64 << 20

func (n *Instance) hasRoom() error {
	if free, total := n.room(); total > 0 && free < keepRoom { // of a disk that does not say, nothing is known
		return fmt.Errorf("%w on the disk of the data folder: %d MiB are free, and below %d nothing new is begun", store.ErrNoRoom, free>>20, keepRoom>>20)
	}
	return nil
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

// instanceID is the name by which a data folder's instance is known to the others; it is
// made once. Before, the file was called node.
func instanceID(folder string) (string, error) {
	path := filepath.Join(folder, "instance")
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		if err := os.Rename(filepath.Join(folder, "node"), path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
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

// loadDialects reads the dialects that ship, and those of a folder, which stand
// in the place of shipped ones of the same name.
func loadDialects(dir string) (all []*dialect.Dialect, err error) {
	load := func(files fs.FS, where string, shipped []*dialect.Dialect) (out []*dialect.Dialect, err error) {
		names, err := fs.Glob(files, "*.yaml")
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			source, err := fs.ReadFile(files, name)
			if err != nil {
				return nil, err
			}
			d, err := dialect.Load(filepath.Join(where, name), source)
			if err != nil {
				return nil, fmt.Errorf("this dialect cannot be used:\n%w", err)
			}
			if slices.ContainsFunc(out, func(o *dialect.Dialect) bool { return o.Dialect == d.Dialect }) {
				return nil, fmt.Errorf("%s: a dialect named %s is there already", filepath.Join(where, name), d.Dialect)
			}
			out = append(out, d)
		}
		for _, s := range shipped {
			if !slices.ContainsFunc(out, func(o *dialect.Dialect) bool { return o.Dialect == s.Dialect }) {
				out = append(out, s)
			}
		}
		return out, nil
	}
	if all, err = load(dialects.Files, "", nil); err != nil || dir == "" {
		return all, err
	}
	if _, err := os.Stat(dir); err != nil {
		return nil, fmt.Errorf("dialect folder: %w", err)
	}
	return load(os.DirFS(dir), dir, all)
}

// lookWhenAsked has what there is to do looked for at once on SIGUSR1, until ctx ends: who changed rows in the
// database by hand need not wait.
func (n *Instance) lookWhenAsked(ctx context.Context) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGUSR1)
	defer signal.Stop(asked)
	for {
		select {
		case <-ctx.Done():
			return
		case <-asked:
			n.jobs.LookAnew()
			n.jobs.Store.Wrote.Ring()
		}
	}
}

// watchDialects takes changed files of the dialect folder into use, until ctx
// ends. A file that is not sound is told of, and what was in use stays.
func (n *Instance) watchDialects(ctx context.Context) {
	if n.Config.Dialects == "" {
		return
	}
	last, looked := "", folderSign(n.Config.Dialects)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		sign := folderSign(n.Config.Dialects)
		if sign == looked {
			continue
		}
		looked = sign
		all, err := loadDialects(n.Config.Dialects)
		if err != nil {
			if err.Error() != last {
				last = err.Error()
				slog.Warn("the dialect folder was changed and cannot be used as it is; what was in use stays", "err", err)
			}
			continue
		}
		last = ""
		for _, d := range all {
			if old := n.visits.Dialect(d.Dialect); old != nil && (old.Source == d.Source || n.seen[d.Dialect] == d.Source) {
				continue
			}
			if err := n.visits.TakeDialect(ctx, d); err != nil {
				slog.Warn("dialect not taken into use", "dialect", d.Dialect, "err", err)
				continue
			}
			n.seen[d.Dialect] = d.Source
			slog.Info("dialect in use", "dialect", d.Dialect, "revision", d.Revision)
		}
	}
}

// folderSign changes when a file of the folder does.
func folderSign(dir string) string {
	entries, err := os.ReadDir(dir)
	sign := fmt.Sprint(err)
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			sign += fmt.Sprintf("%s %d %d\n", e.Name(), info.Size(), info.ModTime().UnixNano())
		}
	}
	return sign
}

// openStore opens the database under the master key; one that was never used
// gets a new key, which is kept before anything is sealed under it.
func (n *Instance) openStore(ctx context.Context, dsn string) error {
	path := n.Config.MasterKey
	if path == "" {
		path = filepath.Join(n.Config.Data, "master.key")
	}
	master, made, err := masterKey(ctx, path, dsn)
	if err != nil {
		return err
	}
	n.store, err = store.Open(ctx, dsn, master, time.Now)
	if errors.Is(err, store.ErrMasterKey) && !made {
		// A rotation was broken off after the database had the new key.
		if next, e := seal.ReadMaster(path + ".new"); e == nil {
			if s, e := store.Open(ctx, dsn, next, time.Now); e == nil {
				n.store, err = s, takeNewKey(path, master)
			}
		}
	}
	switch {
	case made && errors.Is(err, store.ErrMasterKey):
		// Nothing was sealed under the new one, and it must not be taken for the key.
		return errors.Join(fmt.Errorf("another instance began with this database at the same moment, and made its keys; copy its key file to %s and start this one again (%w)", path, err), os.Remove(path))
	case err != nil:
		return err
	case made:
		n.Say(`A master key was made: %s (key %s).
Every configuration in the database is encrypted under it. Whoever loses this
file loses all of them, and nobody can bring them back. Copy it now to a safe
place that is not this machine, for instance:
  cp %s /media/safe/
`, path, master.ID(), path)
	}
	return nil
}

// masterKey reads the key, or makes one for a database that was never used.
func masterKey(ctx context.Context, path, dsn string) (m seal.Master, made bool, err error) {
	if m, err = seal.ReadMaster(path); !errors.Is(err, fs.ErrNotExist) {
		return m, false, err
	}
	empty, err := store.Empty(ctx, dsn)
	if err != nil {
		return m, false, err
	}
	if !empty {
		// Whoever began with it may have left the key here since we looked.
		if m, err = seal.ReadMaster(path); !errors.Is(err, fs.ErrNotExist) {
			return m, false, err
		}
		return m, false, fmt.Errorf("the master key is missing: %s does not exist, and without it nothing in the database can be read; put your copy of the key file there", path)
	}
	m = seal.NewMaster()
	err = m.Write(path)
	if errors.Is(err, fs.ErrExist) { // another instance that has the same file was faster
		m, err = seal.ReadMaster(path)
		return m, false, err
	}
	if err != nil {
		return m, false, fmt.Errorf("keeping the new master key: %w", err)
	}
	return m, true, nil
}

// firstAdmin makes a user to begin with where there is none.
func (n *Instance) firstAdmin(ctx context.Context) error {
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
	if err := n.AddUser(ctx, "admin", core.Admin, password, true, true); err != nil {
		_ = os.Remove(path)
		if errors.Is(err, store.ErrTaken) { // another instance was faster
			return nil
		}
		return err
	}
	n.Say("A first user was made: admin, with the password in %s.\nAnother one has to be chosen at the first sign-in.\n", path)
	return nil
}

// AddUser makes a user. first says that another password has to be chosen at the first sign-in.
func (n *Instance) AddUser(ctx context.Context, name, role, password string, secrets, first bool) error {
	return n.store.Tx(ctx, core.Actor{Name: "service"}, func(q *store.Q) error {
		u := store.User{Name: name, Role: role, Secrets: secrets, Password: api.HashPassword(password), MustChange: first}
		if err := q.AddUser(ctx, &u); err != nil {
			return err
		}
		return q.Audit(ctx, "user added", name, "role "+role+", at the first start")
	})
}

// Serve answers requests until ctx ends, then stops in good order. up is called
// once with the address.
func (n *Instance) Serve(ctx context.Context, up func(url string)) error {
	if err := n.firstAdmin(ctx); err != nil {
		return err
	}
	if os.Getenv("GOGC") == "" {
		// Pulls make much garbage and keep little: memory is spent for CPU, as long
		// as there is not much of it in use.
		debug.SetGCPercent(200)
		debug.SetMemoryLimit(400 << 20)
	}
	l, err := n.listen()
	if err != nil {
		return err
	}
	a := &api.Server{Jobs: n.jobs, Visits: n.visits, Pushes: n.pushes, Fleet: n.fleet, Read: n.looks, Routine: n.daily, History: n.history, Version: Version, Instance: n.id, Clock: time.Now, Done: ctx.Done(), Console: console.Files(), Proxies: n.Config.Proxies, Provider: n.Config.SignOn}
	server := &http.Server{Handler: a.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: idleWithin, MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	if n.Config.Syslog+n.Config.SyslogTLS != "" {
		var config *tls.Config
		if n.shown != nil {
			config = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: n.shown.current}
		}
		if a.Syslog, err = n.daily.Listen(n.Config.Syslog, n.Config.SyslogTLS, config); err != nil {
			l.Close()
			return err
		}
	}
	n.jobs.Start()
	watching, unwatch := context.WithCancel(ctx)
	defer unwatch()
	go n.watchDialects(watching)
	go n.lookWhenAsked(watching)
	watched := make(chan struct{})
	go func() { defer close(watched); n.daily.Watch(watching) }()
	if err := n.history.ClearSpool(); err != nil {
		slog.Warn("clearing the spool folder", "err", err)
	}
	go n.history.Watch(watching)
	go n.looks.Watch(watching)
	copied := make(chan struct{})
	go func() { defer close(copied); n.history.Copy(watching) }()
	if a.Syslog != nil {
		go a.Syslog.Serve(watching)
	}
	stopDebug, err := n.debug()
	if err != nil {
		l.Close()
		return err
	}
	defer stopDebug()
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	up(n.scheme() + "://" + l.Addr().String())
	select {
	case err = <-failed:
	case <-ctx.Done():
		err = nil
	}
	stop, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = server.Shutdown(stop)
	unwatch()
	<-watched
	<-copied
	n.jobs.Stop(20 * time.Second)
	return err
}

// Close ends what Prepare began, the database last.
func (n *Instance) Close() {
	if n.inbox != nil {
		n.inbox.Close()
	}
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
