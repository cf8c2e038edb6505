package run

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestConfigPrecedence(t *testing.T) {
	file := filepath.Join(t.TempDir(), "magpie.yaml")
	if err := os.WriteFile(file, []byte("listen: 127.0.0.1:1\ndata: /from/file\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := LoadConfig(file)
	if err != nil || c.Listen != "127.0.0.1:1" || c.Data != "/from/file" {
		t.Errorf("%+v, %v", c, err)
	}
	t.Setenv("MAGPIE_DATA", "/from/environment")
	t.Setenv("MAGPIE_DATABASE", "u:p@tcp(h:1)/d")
	if c, err = LoadConfig(file); err != nil || c.Data != "/from/environment" || c.Listen != "127.0.0.1:1" || c.Database == "" {
		t.Errorf("%+v, %v", c, err)
	}
	if c, err = LoadConfig(""); err != nil || c.Listen != "127.0.0.1:8470" {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := LoadConfig(file + ".none"); err == nil {
		t.Error("a file that is not there")
	}
}

// TestDatabaseLife: made, stopped, started again on the same folder; killed, it
// comes back by itself; a first start broken off half way leaves nothing behind
// that counts.
func TestDatabaseLife(t *testing.T) {
	dir := t.TempDir()
	half := filepath.Join(dir, "db.new")
	if err := os.MkdirAll(half, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(half, "ibdata1"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	db, err := StartDatabase(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{"db.password", "db.init.sql", "db.json"} {
		if st, err := os.Stat(filepath.Join(dir, secret)); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", secret, st, err)
		}
	}
	args, _ := os.ReadFile("/proc/" + strconv.Itoa(db.PID()) + "/cmdline")
	if strings.Contains(string(args), db.password) {
		t.Error("the password stands in the process's arguments")
	}
	before := db.PID()
	_ = syscall.Kill(before, syscall.SIGKILL)
	wait, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := db.answers(wait, func() bool { return false }); err != nil || db.PID() == before {
		t.Fatalf("killed, it did not come back: %v", err)
	}
	dsn := db.DSN()
	db.Stop()
	if present(db.PID()) {
		t.Error("it is still there after its stop")
	}
	again, err := StartDatabase(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	if !strings.HasPrefix(again.DSN(), strings.SplitN(dsn, "@", 2)[0]) {
		t.Error("the second start has another password")
	}
}

// TestDatabaseThatCannotStart says what the server's own log says.
func TestDatabaseThatCannotStart(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "db"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "db", "ibdata1"), []byte("no database"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err := StartDatabase(context.Background(), dir)
	if err == nil || !strings.Contains(err.Error(), "did not come up") || !strings.Contains(err.Error(), "db.log") {
		t.Errorf("%v", err)
	}
}
