package e2e

import (
	"database/sql"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
	"magpie/internal/scratch"
	"magpie/internal/sim/tern"
)

// together starts one service on each server of a cluster at the same moment,
// with one key file that nobody made yet.
func together(t testing.TB, c *scratch.Cluster, database, dir string) []*proc {
	t.Helper()
	procs := make([]*proc, len(c.Nodes))
	for i, n := range c.Nodes {
		procs[i] = start(t, append(os.Environ(), "MAGPIE_DATABASE="+n.DSN(database), "MAGPIE_MASTER_KEY_FILE="+filepath.Join(dir, "master.key")),
			"serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(dir, fmt.Sprint(i)))
	}
	return procs
}

// nothing holds a database to queries that each count to zero.
func nothing(t testing.TB, where, dsn string, queries map[string]string) {
	t.Helper()
	db := must(sql.Open("mysql", dsn))(t)
	defer db.Close()
	for what, query := range queries {
		var n int
		if err := db.QueryRow(query).Scan(&n); err != nil || n != 0 {
			t.Errorf("%s, %s: %d, %v", where, what, n, err)
		}
	}
}

// TestCluster: three services on three servers of a Galera cluster start at once
// with nothing there; one of each is killed in mid-work, and one server comes
// back as another machine. Nothing is lost, stuck or doubled.
func TestCluster(t *testing.T) {
	t.Parallel()
	c := scratch.StartCluster(t, 3)
	var w *world
	var procs []*proc
	var clients []*client.Client
	var name string
	for round := range 3 { // a race shows itself at some starts only
		dir := t.TempDir()
		name = c.Database()
		procs = together(t, c, name, dir)
		w = &world{t: t, top: t, dir: dir, name: "magpie", dsn: c.Nodes[0].DSN(name), proc: procs[0]}
		for i, p := range procs {
			url := p.waitFor(isUp)
			if raw, err := os.ReadFile(filepath.Join(dir, fmt.Sprint(i), "admin.password")); err == nil {
				w.url = url
				w.admin = w.as("admin", strings.TrimSpace(string(raw)))
				w.sql("UPDATE users SET must_change = FALSE")
			}
		}
		nothing(t, fmt.Sprintf("round %d", round), w.dsn, map[string]string{
			"migrations that stand more than once": "SELECT COUNT(*) - COUNT(DISTINCT version_id) FROM goose_db_version",
			"no first migration":                   "SELECT 1 - COUNT(*) FROM goose_db_version WHERE version_id = 0",
			"data keys":                            "SELECT COUNT(*) - 1 FROM data_keys",
			"users":                                "SELECT COUNT(*) - 1 FROM users",
			"a preparation that nobody ended":      "SELECT COUNT(*) FROM preparing WHERE holder <> ''",
		})
		if round < 2 {
			for _, p := range procs {
				p.stop()
			}
		}
	}
	for _, p := range procs {
		clients = append(clients, &client.Client{URL: p.waitFor(isUp), Token: w.admin.Token, HTTP: &http.Client{Transport: described{t}}})
	}
	w.fleet = startFleet(t, filepath.Join(w.dir, "fleet"), 10, "")
	for _, p := range w.fleet.places {
		w.register(p, p.Family)
	}
	// Work for all three, asked of all three.
	var jobs []client.Job
	for i, p := range w.fleet.places {
		w.fleet.faults(p.Name, tern.Faults{SlowMS: 300})
		jobs = append(jobs, must(clients[i%3].Pull(ctx(t), []string{p.Name}, ""))(t)...)
	}
	eventually(t, "all are under way", func() bool { return must(clients[0].Status(ctx(t)))(t).Running >= len(jobs) })
	procs[1].kill()
	c.Nodes[2].Kill()
	c.Nodes[2].Wipe()
	c.Nodes[2].Rejoin()
	for _, p := range w.fleet.places {
		w.fleet.faults(p.Name, tern.Faults{})
	}
	w.admin, w.url = clients[0], clients[0].URL
	for _, j := range jobs {
		if end := w.end(j.ID); end.Outcome != "done" {
			t.Errorf("%s: %s: %s\n%s", end.Device, end.Outcome, end.Summary, w.logText(j.ID))
		}
	}
	for _, d := range must(w.admin.Devices(ctx(t), nil))(t) {
		if n := len(w.versions(d.Name)); d.State != "in sync" || n != 1 {
			t.Errorf("%s is %s with %d versions: %s", d.Name, d.State, n, d.Trouble)
		}
	}
	// A target that nobody reaches while versions come, and while the instance that may be the one
	// that copies is killed.
	dav, password := newDav(t), filepath.Join(w.dir, "dav-password")
	if err := os.WriteFile(password, []byte("quay\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, said, status := w.cli("target", "add", "dav", "http", dav.url, "--user", "keeper", "--password-file", password, "--ca-file", dav.ca); status != 0 {
		t.Fatal(said)
	}
	w.inStep("dav")
	dav.away.Store(true)
	// A push held at its third line, whose service is killed with its server.
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	push := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t)
	w.fleet.waitHolding(r1)
	db := must(sql.Open("mysql", w.dsn))(t)
	defer db.Close()
	var at string
	if err := db.QueryRow("SELECT instance FROM jobs WHERE id = ?", push.ID).Scan(&at); err != nil {
		t.Fatal(err)
	}
	c.Nodes[2].Ready() // two of three are needed
	survivor := 0
	if at == must(clients[0].Status(ctx(t)))(t).Instance {
		survivor = 2
		procs[0].kill()
		c.Nodes[0].Kill()
	} else {
		procs[2].kill()
	}
	w.admin, w.url = clients[survivor], clients[survivor].URL
	dav.away.Store(false)
	end := w.end(push.ID)
	w.truthful(end, before, target, 2)
	if survivor == 2 {
		c.Nodes[0].Rejoin()
		c.Nodes[0].Ready()
	}
	// Each version is copied once, by whomever.
	w.inStep("dav")
	alive := must(sql.Open("mysql", c.Nodes[1].DSN(name)))(t)
	defer alive.Close()
	var versions int
	if err := alive.QueryRow("SELECT COUNT(*) FROM versions").Scan(&versions); err != nil {
		t.Fatal(err)
	}
	var files []string
	if err := filepath.WalkDir(dav.dir, func(path string, d os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".cfg.age") {
			files = append(files, strings.TrimPrefix(path, dav.dir))
		}
		return err
	}); err != nil || len(files) != versions {
		t.Errorf("%d files of %d versions: %v\n%s", len(files), versions, err, strings.Join(files, "\n"))
	}
	// All is where it was, on every server, and the audit log is whole.
	for i, n := range c.Nodes {
		nothing(t, fmt.Sprintf("server %d", i), n.DSN(name), map[string]string{
			"jobs that never end": "SELECT COUNT(*) FROM jobs WHERE state <> 'ended'",
			"leases left":         "SELECT COUNT(*) FROM leases WHERE job_id <> ''",
			"copies to be made":   "SELECT COUNT(*) FROM versions v WHERE NOT EXISTS (SELECT 1 FROM copies c WHERE c.version_id = v.id AND c.state = 'there')",
			"pulls too few":       "SELECT 10 - LEAST(10, COUNT(DISTINCT device_id)) FROM pulls",
		})
	}
	if check := must(w.admin.CheckAudit(ctx(t), ""))(t); !check.Sound {
		t.Errorf("the audit log: %+v", check)
	}
}
