package run

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
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
	c, err := LoadConfig(file, nil)
	if err != nil || c.Listen != "127.0.0.1:1" || c.Data != "/from/file" {
		t.Errorf("%+v, %v", c, err)
	}
	t.Setenv("MAGPIE_DATA", "/from/environment")
	t.Setenv("MAGPIE_DATABASE", "u:p@tcp(h:1)/d")
	if c, err = LoadConfig(file, nil); err != nil || c.Data != "/from/environment" || c.Listen != "127.0.0.1:1" || c.Database == "" {
		t.Errorf("%+v, %v", c, err)
	}
	if c, err = LoadConfig("", nil); err != nil || c.Listen != "127.0.0.1:8470" {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := LoadConfig(file+".none", nil); err == nil {
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
	for _, secret := range []string{"db.password", "db.json"} {
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

// TestNobodyElseSignsIn: of the server's accounts nobody gets in but the service
// with its password, and what it may do ends at its own schema. A data folder
// that an earlier version made, and a server it left running, are put right.
func TestNobodyElseSignsIn(t *testing.T) {
	dir := t.TempDir()
	db, err := StartDatabase(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Stop() })
	look := func(when string) {
		t.Helper()
		for _, who := range []string{"root", "root:" + db.password, "magpie", "", "mysql", "mariadb.sys"} {
			for _, net := range []string{fmt.Sprintf("tcp(127.0.0.1:%d)", db.port)} {
				if err := ping(who + "@" + net + "/mysql"); err == nil {
					t.Errorf("%s: %q gets in over %s", when, who, net)
				}
			}
		}
		conn, err := sql.Open("mysql", db.DSN())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		key := filepath.Join(dir, "db.password")
		var got sql.NullString
		if err := conn.QueryRow("SELECT LOAD_FILE(?)", key).Scan(&got); err == nil && got.Valid {
			t.Errorf("%s: a statement reads files: %q", when, got.String)
		}
		for _, q := range []string{"SELECT 'x' INTO OUTFILE '" + dir + "/written'", "CREATE DATABASE other", "SELECT * FROM mysql.global_priv", "CREATE USER someone",
			"LOAD DATA LOCAL INFILE '" + key + "' INTO TABLE x", "SET GLOBAL general_log = ON", "GRANT ALL ON magpie.* TO 'magpie'@'127.0.0.1'"} {
			if rows, err := conn.Query(q); err == nil {
				rows.Close()
				t.Errorf("%s: the service's account may %s", when, q)
			}
		}
		if _, err := conn.Exec("CREATE OR REPLACE TABLE looked (id INT PRIMARY KEY)"); err != nil {
			t.Errorf("%s: %v", when, err)
		}
		lying, _ := filepath.Glob(filepath.Join(dir, "*"))
		for _, f := range lying {
			raw, _ := os.ReadFile(f)
			if strings.Contains(string(raw), db.password) && filepath.Base(f) != "db.password" {
				t.Errorf("%s: the password lies in %s", when, f)
			}
		}
	}
	look("as made")
	if os.Getuid() != 0 {
		t.Skip("who is not root cannot make a folder as earlier versions did")
	}
	// As earlier versions left it: accounts without a password, rights on all, the
	// statements in a file, and the server running.
	conn, err := sql.Open("mysql", "root@unix("+db.Socket()+")/mysql")
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"CREATE USER 'root'@'127.0.0.1'", "GRANT ALL ON *.* TO 'root'@'127.0.0.1' WITH GRANT OPTION", "CREATE USER ''@'127.0.0.1'", "CREATE USER 'root'@'::1'",
		"GRANT ALL ON *.* TO 'magpie'@'127.0.0.1'"} {
		if _, err := conn.Exec(q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	conn.Close()
	if err := ping(fmt.Sprintf("root@tcp(127.0.0.1:%d)/mysql", db.port)); err != nil {
		t.Fatalf("the old folder is not as it was: %v", err)
	}
	if err := os.WriteFile(filepath.Join(dir, "db.init.sql"), []byte("IDENTIFIED BY '"+db.password+"'"), 0o600); err != nil {
		t.Fatal(err)
	}
	old, _ := json.Marshal(map[string]int{"pid": db.PID(), "port": db.port})
	if err := os.WriteFile(filepath.Join(dir, "db.json"), old, 0o600); err != nil {
		t.Fatal(err)
	}
	db.mu.Lock()
	db.stopping = true // whoever started it is gone
	db.mu.Unlock()
	if db, err = StartDatabase(context.Background(), dir); err != nil {
		t.Fatal(err)
	}
	look("taken over from an earlier version")
}

func ping(dsn string) error {
	conn, err := sql.Open("mysql", dsn)
	if err != nil {
		return err
	}
	defer conn.Close()
	return conn.Ping()
}

// TestInstanceKeepsItsName: an instance is the one that it was, also where an older
// program wrote its name down.
func TestInstanceKeepsItsName(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "node"), []byte("0123456789ab\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if id, err := instanceID(dir); err != nil || id != "0123456789ab" {
			t.Errorf("%q, %v", id, err)
		}
	}
	a, err := instanceID(t.TempDir())
	if b, err2 := instanceID(t.TempDir()); err != nil || err2 != nil || len(a) != 12 || a == b {
		t.Errorf("%q and %q, %v, %v", a, b, err, err2)
	}
}
