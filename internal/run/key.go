package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/seal"
	"magpie/internal/store"
)

// keyPath is where a configuration has the master key.
func (c Config) keyPath() string {
	if c.MasterKey != "" {
		return c.MasterKey
	}
	return filepath.Join(c.Data, "master.key")
}

// RecoverySheet is the master key as words, for a sheet of paper that is kept elsewhere.
func RecoverySheet(c Config) (id string, words []string, err error) {
	m, err := seal.ReadMaster(c.keyPath())
	if err != nil {
		return "", nil, fmt.Errorf("master key: %w", err)
	}
	return m.ID(), m.Words(), nil
}

// VerifySheet holds words that were read off a sheet against the master key, and notes in the
// database that somebody did.
func VerifySheet(ctx context.Context, c Config, words string) (id string, err error) {
	have, err := seal.ReadMaster(c.keyPath())
	if err != nil {
		return "", fmt.Errorf("master key: %w", err)
	}
	typed, err := seal.FromWords(words)
	if err != nil {
		return "", err
	}
	if typed != have {
		return "", fmt.Errorf("these are the words of master key %s; the one in use is %s: the sheet is of another key; print another one", typed.ID(), have.ID())
	}
	return have.ID(), withStore(ctx, c, have, func(s *store.Store) error {
		return s.Tx(ctx, core.Actor{Name: "service"}, func(q *store.Q) error {
			if err := q.SetSetting(ctx, store.SheetSetting, store.Sheet{KeyID: have.ID(), At: time.Now().UTC()}); err != nil {
				return err
			}
			return q.Audit(ctx, "recovery sheet verified", have.ID(), "its words were typed back on the service's machine")
		})
	})
}

// RestoreKey writes a key file from the words of a sheet. It never overwrites.
func RestoreKey(path, words string) (id string, err error) {
	m, err := seal.FromWords(words)
	if err != nil {
		return "", err
	}
	if err := m.Write(path); err != nil {
		if errors.Is(err, os.ErrExist) {
			return "", fmt.Errorf("%s is there already; nothing was overwritten", path)
		}
		return "", err
	}
	return m.ID(), nil
}

// RotateKey makes another master key and seals the data keys under it, while the service runs:
// what runs has the data keys already, and the next start finds the new key file. The old one
// is kept beside it, under its id, for backups of the database that are older than this.
func RotateKey(ctx context.Context, c Config) (was, is string, err error) {
	path := c.keyPath()
	old, err := seal.ReadMaster(path)
	if err != nil {
		return "", "", fmt.Errorf("master key: %w", err)
	}
	next := path + ".new"
	made, err := seal.ReadMaster(next) // an earlier attempt was broken off
	if errors.Is(err, os.ErrNotExist) {
		made = seal.NewMaster()
		err = made.Write(next)
	}
	if err != nil {
		return "", "", err
	}
	err = withStore(ctx, c, old, func(s *store.Store) error { return s.Rewrap(ctx, made) })
	if err != nil {
		return "", "", err
	}
	return old.ID(), made.ID(), takeNewKey(path, old)
}

// takeNewKey puts the new key file in the place of the old one, which is kept under its id.
func takeNewKey(path string, old seal.Master) error {
	if err := os.Link(path, path+"."+old.ID()); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return os.Rename(path+".new", path)
}

// withStore opens a service's database beside the service.
func withStore(ctx context.Context, c Config, m seal.Master, do func(*store.Store) error) error {
	dsn := c.Database
	if dsn == "" {
		var err error
		if dsn, err = ownDSN(c.Data); err != nil {
			return err
		}
	}
	s, err := store.Open(ctx, dsn, m, time.Now)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

// ownDSN is how the database of a data folder is reached while its service runs.
func ownDSN(data string) (string, error) {
	password, err := os.ReadFile(filepath.Join(data, "db.password"))
	raw, err2 := os.ReadFile(filepath.Join(data, "db.json"))
	if err := errors.Join(err, err2); err != nil {
		return "", fmt.Errorf("the service of data folder %s does not run; start it first (%w)", data, err)
	}
	var l leftover
	if err := json.Unmarshal(raw, &l); err != nil {
		return "", fmt.Errorf("%s: %w", filepath.Join(data, "db.json"), err)
	}
	return (&Database{password: strings.TrimSpace(string(password)), port: l.Port}).DSN(), nil
}
