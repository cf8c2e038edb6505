// Package scratch gives tests empty databases on a server of their own.
package scratch

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the server's driver

	"magpie/internal/run"
)

var (
	server *run.Database
	count  atomic.Int64
)

// InMemory has everything temporary of this process, and of those that it
// starts, lie in memory where there is room: a busy disk makes a test's database
// wait for seconds. What is killed there leaves the same behind as on a disk.
func InMemory() {
	const dir, enough = "/dev/shm", 6 << 30
	var st syscall.Statfs_t
	if os.Getenv("TMPDIR") == "" && syscall.Statfs(dir, &st) == nil && st.Bavail*uint64(st.Bsize) >= enough {
		os.Setenv("TMPDIR", dir)
	}
}

// Main runs a package's tests beside a database server; it is what TestMain
// exits with.
func Main(m *testing.M) int {
	InMemory()
	dir, err := os.MkdirTemp("", "magpie-scratch-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	if server, err = run.StartScratch(context.Background(), dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer server.Stop()
	return m.Run()
}

// Database makes an empty database and returns its DSN.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("magpie%d", count.Add(1))
	base := strings.TrimSuffix(server.DSN(), "/magpie")
	db, err := sql.Open("mysql", base+"/")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	// A server that died is started again; it costs those their tests who were at it,
	// and not all that come after.
	for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		_, err := db.Exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
		if err == nil {
			return base + "/" + name
		}
		if time.Now().After(end) {
			t.Fatal(err)
		}
	}
}
