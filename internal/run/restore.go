package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"

	"magpie/internal/history"
	"magpie/internal/history/place"
	"magpie/internal/seal"
	"magpie/internal/store"
)

// Held is what a backup holds, and what is in the way of restoring it.
type Held struct {
	history.About
	ID     string // names it
	Rows   int64
	InWay  []string // what keeps it from being restored here
	Beware []string // what will not be as it was
}

// CheckBackup reads a backup to its end and says what it holds and what is in the way. Nothing is
// changed.
func CheckBackup(ctx context.Context, c Config, file string) (h Held, err error) {
	h, _, _, err = readBackup(ctx, c, file)
	return h, err
}

// readBackup reads a backup for the first time: nothing is begun before it is known to be whole.
func readBackup(ctx context.Context, c Config, file string) (h Held, sums map[string]store.Sum, master seal.Master, err error) {
	path := c.keyPath()
	master, err = seal.ReadMaster(path)
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil, master, fmt.Errorf("the master key is missing: %s does not exist; put the service's key file there, or make it of the recovery sheet: magpie key restore --to %[1]s", path)
	}
	if err != nil {
		return h, nil, master, err
	}
	f, err := os.Open(file)
	if err != nil {
		return h, nil, master, err
	}
	defer f.Close()
	h.About, sums, h.ID, err = history.ReadBackup(f, []age.Identity{master.Identity()}, history.Nothing)
	if errors.Is(err, history.ErrNotOurKey) {
		err = fmt.Errorf("%w; the key in %s is %s", err, path, master.ID())
	}
	if err != nil {
		return h, nil, master, fmt.Errorf("%s: %w", file, err)
	}
	for _, t := range h.Tables {
		h.Rows += t.Rows
	}
	if h.MasterID != master.ID() {
		h.InWay = append(h.InWay, fmt.Sprintf("what it holds is sealed under master key %s, and the key in %s is %s", h.MasterID, path, master.ID()))
	}
	for _, t := range h.Targets {
		if err := place.Answers(ctx, t.Kind, t.Where); err != nil {
			h.Beware = append(h.Beware, fmt.Sprintf("target %s, %s %s, cannot be reached from here: %v; its copies wait until it can", t.Name, t.Kind, t.Where, err))
		}
	}
	if !h.History {
		h.Beware = append(h.Beware, "it is without history: no version comes back; pull all devices afterwards: magpie pull all")
	}
	h.Beware = append(h.Beware, "work that was under way is ended, browsers have to sign in anew, messages that waited are not sent")
	return h, sums, master, nil
}

// RestoreBackup restores a backup into a service that has nothing yet. Broken off, it goes on
// where it was when it is called again with the same backup. say hears the stages.
func RestoreBackup(ctx context.Context, c Config, file string, say func(format string, args ...any)) error {
	var err error
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return err
	}
	say("reading %s to its end", file)
	h, sums, master, err := readBackup(ctx, c, file)
	if err != nil {
		return err
	}
	if len(h.InWay) > 0 {
		return fmt.Errorf("it cannot be restored here: %s", h.InWay[0])
	}
	say("it is whole: %d rows of %d tables, of %s, by version %s", h.Rows, len(h.Tables), h.MadeAt.UTC().Format("2006-01-02 15:04 MST"), h.Program)
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	lock, err := lockFolder(c.Data)
	if err != nil {
		return err
	}
	defer lock.Close()
	dsn := c.Database
	if dsn == "" {
		say("starting the database")
		db, err := StartDatabase(ctx, c.Data)
		if err != nil {
			return err
		}
		defer db.Stop()
		dsn = db.DSN()
	}
	l, err := store.Load(ctx, dsn, h.ID, h.Schema)
	if err != nil {
		return err
	}
	defer l.Close()
	take, end := history.Into(ctx, l, sums, func(t store.Table, whole bool) {
		if whole && t.Rows > 0 {
			say("%s: %d rows, as they were", t.Name, t.Rows)
		}
	})
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, _, again, err := history.ReadBackup(f, []age.Identity{master.Identity()}, take); err != nil {
		return broken(err)
	} else if again != h.ID {
		return broken(fmt.Errorf("%s was changed meanwhile", file))
	}
	if err := end(); err != nil {
		return broken(err)
	}
	say("bringing it up to date")
	said := fmt.Sprintf("from the backup of %s, made by %s", h.MadeAt.UTC().Format(time.RFC3339), h.MadeBy)
	if err := l.Finish(ctx, h.Dump, master, time.Now, said); err != nil {
		return broken(err)
	}
	say("done: %d devices, %d versions", h.Devices, h.Versions)
	return nil
}

// broken says that a restore did not come to its end.
func broken(err error) error {
	return fmt.Errorf("the restore was broken off: %w; nothing runs on it until it is whole: restore the same backup again, and it goes on where it was", err)
}

// KeyIdentity is the age identity of a master key: of its file, or of the words of its sheet.
func KeyIdentity(c Config, words *string) (string, error) {
	if words != nil {
		m, err := seal.FromWords(*words)
		if err != nil {
			return "", err
		}
		return m.Identity().String(), nil
	}
	m, err := seal.ReadMaster(c.keyPath())
	if err != nil {
		return "", fmt.Errorf("master key: %w", err)
	}
	return m.Identity().String(), nil
}
