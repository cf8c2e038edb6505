package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestIdle: an instance with nothing to do asks its database less than once a second, and writes
// nothing but its beat; and what comes up then is done at once all the same.
func TestIdle(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	w.pull(r1)
	var own struct{ Port int }
	if err := json.Unmarshal(must(os.ReadFile(filepath.Join(w.dir, "data", "db.json")))(t), &own); err != nil {
		t.Fatal(err)
	}
	password := strings.TrimSpace(string(must(os.ReadFile(filepath.Join(w.dir, "data", "db.password")))(t)))
	db := must(sql.Open("mysql", fmt.Sprintf("magpie:%s@tcp(127.0.0.1:%d)/magpie", password, own.Port)))(t)
	defer db.Close()
	count := func(what string) (n int) {
		t.Helper()
		var name string
		if err := db.QueryRow("SHOW GLOBAL STATUS LIKE '"+what+"'").Scan(&name, &n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	const span = 8 * time.Second
	var asked, inserts, others int
	for range 4 { // what the pull began comes to its end
		asked, inserts, others = -count("Questions")-3, -count("Com_insert"), -count("Com_update")-count("Com_delete")-count("Com_replace")
		time.Sleep(span)
		others += count("Com_update") + count("Com_delete") + count("Com_replace")
		inserts += count("Com_insert")
		if asked += count("Questions") - 7; others == 0 && asked <= int(span/time.Second) {
			break
		}
	}
	if asked > int(span/time.Second) || others != 0 || inserts > int(span/(2*time.Second))+1 {
		t.Errorf("in %s: %d statements, %d inserts, %d other writes", span, asked, inserts, others)
	}
	began := time.Now()
	if j := w.pull(r1); j.Outcome != "done" || j.StartedAt.Sub(j.CreatedAt) > time.Second {
		t.Errorf("%s %s after %s, begun %s after it was asked for", j.Outcome, j.Summary, time.Since(began), j.StartedAt.Sub(j.CreatedAt))
	}
}
