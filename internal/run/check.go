package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"magpie/internal/seal"
	"magpie/internal/store"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// Check looks whether a service would come up with a configuration, and lists what it found;
// nothing is begun, and nothing kept. The error says what is in the way.
func Check(c Config) (found []string, err error) {
	say := func(format string, args ...any) { found = append(found, fmt.Sprintf(format, args...)) }
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return nil, err
	}
	if err := c.sound(); err != nil {
		return nil, err
	}
	say("configuration: sound")
	all, err := loadDialects(c.Dialects)
	if err != nil {
		return found, err
	}
	say("dialects: %d", len(all))
	if err := checkDatabase(c, say); err != nil {
		return found, err
	}
	if c.TLSCert != "" {
		x := &certificate{cert: c.TLSCert, key: c.TLSKey}
		if err := x.read(); err != nil {
			return found, fmt.Errorf("certificate: %w", err)
		}
		say("certificate: %s, until %s", fingerprint(x.now.Leaf), x.now.Leaf.NotAfter.UTC().Format("2006-01-02"))
		if x.now.Leaf.NotAfter.Before(time.Now()) {
			return found, errors.New("the certificate ran out; put another one there")
		}
	}
	if c.SignOn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		if err := c.SignOn.Check(ctx); err != nil {
			return found, err
		}
		say("sign_on: %s answers", c.SignOn.Issuer)
	}
	for _, x := range [][2]string{{"listen", c.Listen}, {"debug", c.Debug}, {"syslog", c.Syslog}, {"syslog_tls", c.SyslogTLS}} {
		what, at := x[0], x[1]
		if at == "" {
			continue
		}
		l, err := net.Listen("tcp", at)
		if err != nil {
			return found, fmt.Errorf("%s: cannot listen on %s: %w", what, at, err)
		}
		l.Close()
		say("%s: %s is free", what, at)
	}
	return found, nil
}

// checkDatabase looks at the database and the master key that opens it.
func checkDatabase(c Config, say func(string, ...any)) error {
	path := c.MasterKey
	if path == "" {
		path = filepath.Join(c.Data, "master.key")
	}
	master, err := seal.ReadMaster(path)
	none := errors.Is(err, fs.ErrNotExist)
	if err != nil && !none {
		return err
	}
	if c.Database == "" {
		_, err := os.Stat(filepath.Join(c.Data, "db"))
		switch made := err == nil; {
		case made && none:
			return fmt.Errorf("the master key is missing: %s does not exist, and the data folder holds a database", path)
		case made:
			say("database: a server of the service's own, in %s", filepath.Join(c.Data, "db"))
			say("master key: %s (key %s)", path, master.ID())
		default:
			say("database: a server of the service's own is made at the first start, in %s", filepath.Join(c.Data, "db"))
		}
		if _, err := exec.LookPath("mariadbd"); err != nil {
			return errors.New("MariaDB is not installed: apt-get install mariadb-server-core mariadb-client-core")
		}
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	seen, err := store.See(ctx, c.Database)
	switch {
	case err != nil:
		return fmt.Errorf("database: %w", err)
	case seen.Empty:
		say("database: there, and was never used")
		return nil
	case none:
		return fmt.Errorf("the master key is missing: %s does not exist, and the database was made with key %s", path, seen.MasterID)
	case master.ID() != seen.MasterID:
		return fmt.Errorf("%w: the database was made with master key %s, %s is %s", store.ErrMasterKey, seen.MasterID, path, master.ID())
	}
	say("database: there, schema %d", seen.Have)
	if seen.Have < seen.Want {
		say("database: the next start brings its schema to %d; make a backup first", seen.Want)
	}
	say("master key: %s (key %s)", path, master.ID())
	return nil
}
