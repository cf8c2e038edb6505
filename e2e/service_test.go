package e2e

import (
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/scratch"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

// secrets are the words that must never be seen where they do not belong.
var secrets = []string{sim.ServiceWord, sim.MastWord, adminWord, tern.Sealed(sim.MastWord), tern.Sealed("demo-key"), "demo-gulls"}

// TestSecretsStayHidden looks for secrets in everything a reader or operator
// can get, in the service's own log, and in every byte of the database.
func TestSecretsStayHidden(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	must(w.admin.SetMailServer(ctx(t), client.NewMailServer{Server: "127.0.0.1:9", Security: "none", From: "magpie@ferries.example", User: "magpie", Password: "a-word-for-mail"}))(t)
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "noc", Kind: "mail", To: []string{"noc@ferries.example"}}))(t)
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "hook", Kind: "webhook", URL: "http://127.0.0.1:9/", Secret: "a-word-for-the-webhook"}))(t)
	must(w.admin.AddNotificationRule(ctx(t), client.NewNotificationRule{Name: "night-watch", Events: []string{"changed", "failed", "drifted", "waiting"}, Selector: []string{"all"}, Recipients: []string{"noc", "hook"}}))(t)
	w.fleet.amend(r1, "mwilks", "lookout", "cancel community demo-gulls", "community demo-terns-secret", "up", "flock 64512", "neighbour 10.1.12.1", "key sealed 0123456789abcdef0123")
	hidden := append([]string{"a-word-for-mail", "a-word-for-the-webhook", "demo-terns-secret", "0123456789abcdef0123"}, secrets...)
	w.pull(r1)
	push := w.push(r1 + "@1")
	w.fleet.amend(r1, "mwilks", "lookout", "cancel community demo-gulls")
	w.fleet.faults(r1, tern.Faults{RefuseLine: 2})
	refused := w.push(r1 + "@1")
	w.fleet.faults(r1, tern.Faults{CutAfter: 900})
	cut := w.pull(r1)
	w.fleet.faults(r1, tern.Faults{})
	preview := w.preview(client.NewPreview{Ref: r1 + "@2"})

	op := w.addUser("okonkwo", "operator")
	get := func(path string) string {
		_, body := w.call("GET", path, op.Token, nil)
		return body
	}
	must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "all-of-it", Selector: []string{"all"}}))(t)
	must(w.admin.AddSchedule(ctx(t), client.NewSchedule{Name: "nightly", Rule: "daily 02:00", Zone: "UTC", Selector: []string{"all"}, Deeds: []client.Deed{{Kind: "pull"}, {Kind: "drift", With: map[string]string{"live": "yes"}}}}))(t)
	w.end(must(w.admin.RunSchedule(ctx(t), "nightly", client.NewRun{}, "a run"))(t).ID)
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &[]bool{true}[0]}))(t)
	w.pull(r1)
	if _, err := op.SetRule(ctx(t), "guess", client.NewRule{Kind: "required", Path: "crew magpie / word sealed guess", Selector: []string{"all"}}); !client.IsStatus(err, 403) {
		t.Errorf("who may not see secrets guesses them by a rule: %v", err)
	}
	w.end(must(w.admin.SetRule(ctx(t), "words", client.NewRule{Kind: "forbidden", Path: "crew {user} / word {word...}", Selector: []string{"all"}}))(t).Job)
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: t.TempDir()}))(t)
	jobs := []string{push.ID, refused.ID, cut.ID, must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "preview"}))(t).Items[0].ID}
	var messages []string
	eventually(t, "people are told", func() bool {
		w.gathered()
		for _, m := range must(w.admin.Messages(ctx(t), "", 100))(t) {
			messages = append(messages, m.ID)
		}
		return len(messages) > 0
	})
	// Every address that can be read from, as it is described, filled with what
	// there is; one that is not filled here is a test that is missing.
	filled := map[string][]string{
		"/version": {"?ref=" + r1, "?ref=" + r1 + "@1", "?ref=" + r1 + "@live", "?ref=" + r1 + "/startup"}, "/version/text": {"?ref=" + r1 + "@1", "?ref=" + r1 + "@2"},
		"/diff":  {"?from=" + r1 + "@1&to=" + r1 + "@2&all=true", "?from=" + r1 + "@2&to=" + r1 + "@live", "?from=" + r1 + "@1&to=" + r1 + "/startup&context=1000"},
		"/drift": {"", "?live=true", "?since=true", "?off=true"}, "/drift-report": {"", "?as=csv&since=2026-01-01T00:00:00Z", "?as=json&selector=all"}, "/bootstrap-sheet": {"?ref=" + r1 + "@1", "?ref=" + r1 + "@1&secrets=true"},
		"/sign-on": {""}, "/sign-on/start": {"?to=/jobs"}, "/sign-on/back": {"?code=x&state=y"}, "/relay": {""}, "/me": {""}, "/status": {""}, "/tokens": {""}, "/sessions": {""}, "/devices": {""}, "/devices-export": {"", "?as=yaml"}, "/removed-devices": {""}, "/proposals": {""}, "/retention": {""}, "/retention-preview": {""}, "/credentials": {""}, "/jobs": {""}, "/relays": {""}, "/snapshots": {""}, "/rules": {""}, "/searches": {""}, "/snapshot-diff": {"?from=all-of-it"}, "/targets": {""}, "/backups": {""}, "/copies": {"?ref=" + r1}, "/own-recipient": {""}, "/worksheet": {"?selector=all", "?selector=all&as=csv"}, "/approvals": {""}, "/schedules": {""}, "/agenda": {""}, "/notification-events": {""}, "/mail-server": {""}, "/recipients": {""}, "/notification-rules": {""}, "/messages": {""},
		"/job-kinds": {""}, "/dialects": {""}, "/dialect-schema": {""}, "/changes": {""}, "/search": {"?line=note", "?in=lane&lacks=sieve", "?line=word", "?line=.%2B&regexp=true&all_parts=true&limit=500&since=true"}, "/history-search": {"?line=note", "?in=lane&lacks=sieve", "?line=sealed", "?line=%5Bdk%5D&regexp=true&all_parts=true&limit=500"}, "/distances": {"?ref=" + r1}, "/annotations": {"?ref=" + r1, "?ref=" + r1 + "@1"}, "/fleet-changes": {"", "?since=2026-01-01"}, "/events": {""}, "/users": {""}, "/audit": {"?limit=1000"}, "/audit-check": {""},
	}
	ids := map[string][]string{"/devices/{name}": {r1}, "/devices/{name}/versions": {r1}, "/devices/{name}/swaps": {r1}, "/previews/{id}": {preview.ID}, "/jobs/{id}": jobs, "/jobs/{id}/log": jobs, "/jobs/{id}/events": jobs,
		"/snapshots/{name}": {"all-of-it"}, "/rules/{name}": {"words"}, "/targets/{name}": {"vault"}, "/dialects/{name}": {"tern"}, "/schedules/{name}": {"nightly"}, "/recipients/{name}": {"noc"}, "/notification-rules/{name}": {"night-watch"}, "/messages/{id}": messages}
	var paths []string
	for _, o := range w.operations() {
		if o.write() {
			continue
		}
		for _, q := range filled[o.path] {
			paths = append(paths, o.path+q)
		}
		for _, id := range ids[o.path] {
			paths = append(paths, strings.NewReplacer("{name}", id, "{id}", id).Replace(o.path))
		}
		if filled[o.path] == nil && ids[o.path] == nil {
			t.Errorf("what %s shows is not looked at", o.path)
		}
	}
	for _, path := range paths {
		body := get(path)
		for _, s := range hidden {
			if strings.Contains(body, s) {
				t.Errorf("%s shows %q:\n%s", path, s, body)
			}
		}
	}
	diff := get("/diff?from=" + r1 + "@1&to=" + r1 + "@2")
	if !strings.Contains(diff, "-  community ‹secret ") || !strings.Contains(diff, "+  community ‹secret ") {
		t.Errorf("that a secret changed cannot be seen:\n%s", diff)
	}
	if all := must(w.admin.Text(ctx(t), r1+"@1"))(t); !strings.Contains(all.Text, "community demo-gulls") || all.Masked {
		t.Error("an admin does not see the secrets")
	}
	for _, s := range hidden {
		if strings.Contains(w.proc.said(), s) {
			t.Errorf("the service's log shows %q", s)
		}
	}
	// The server is on loopback and ours: look at every value of every table.
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	dump := everything(t, db)
	for _, s := range append(hidden, "gangway one, cameras", "10.12.40.1/22", "Authorised crew only") {
		if bytes.Contains(dump, []byte(s)) {
			t.Errorf("the database holds %q in the open", s)
		}
	}
}

// everything reads all values of all tables.
func everything(t *testing.T, db *sql.DB) []byte {
	t.Helper()
	var all bytes.Buffer
	tables, err := db.Query("SHOW TABLES")
	if err != nil {
		t.Fatal(err)
	}
	defer tables.Close()
	for tables.Next() {
		var name string
		if err := tables.Scan(&name); err != nil {
			t.Fatal(err)
		}
		if name == "dialects" {
			continue // no secret of anybody's
		}
		rows, err := db.Query("SELECT * FROM " + name)
		if err != nil {
			t.Fatal(err)
		}
		cols, _ := rows.Columns()
		for rows.Next() {
			vals := make([]sql.RawBytes, len(cols))
			ptrs := make([]any, len(cols))
			for i := range vals {
				ptrs[i] = &vals[i]
			}
			if err := rows.Scan(ptrs...); err != nil {
				t.Fatal(err)
			}
			for _, v := range vals {
				all.Write(v)
				all.WriteByte(0)
			}
		}
		rows.Close()
	}
	if all.Len() < 10000 {
		t.Fatalf("only %d bytes were read", all.Len())
	}
	return all.Bytes()
}

// TestWhoMayDoWhat walks roles, tokens and the console's cookie.
func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	reader, operator := w.addUser("lookout", "reader"), w.addUser("okonkwo", "operator")
	nobody := &client.Client{URL: w.url, HTTP: &http.Client{Transport: described{t}}}
	name := "good"
	for _, c := range []struct {
		what                               string
		do                                 func(c *client.Client) error
		nobody, reader, operator, andAdmin int
	}{
		{"list devices", func(c *client.Client) error { _, err := c.Devices(ctx(t), nil); return err }, 401, 0, 0, 0},
		{"pull", func(c *client.Client) error { _, err := c.Pull(ctx(t), []string{r1}, ""); return err }, 401, 403, 0, 0},
		{"mark", func(c *client.Client) error {
			_, err := c.SetMark(ctx(t), r1+"@1", client.Mark{Name: &name})
			return err
		}, 401, 403, 0, 0},
		{"look live", func(c *client.Client) error { _, err := c.Text(ctx(t), r1+"@live"); return err }, 401, 403, 0, 0},
		{"preview", func(c *client.Client) error { _, err := c.NewPreview(ctx(t), client.NewPreview{Ref: r1}); return err }, 401, 403, 0, 0},
		{"probe", func(c *client.Client) error {
			_, err := c.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222)
			return err // whoever may swap a unit in has to see its key
		}, 401, 403, 0, 0},
		{"list snapshots", func(c *client.Client) error { _, err := c.Snapshots(ctx(t)); return err }, 401, 0, 0, 0},
		{"forget a snapshot", func(c *client.Client) error {
			if err := c.RemoveSnapshot(ctx(t), "none-such"); !client.IsStatus(err, 404) {
				return err
			}
			return nil
		}, 401, 403, 0, 0},
		{"make a restore test", func(c *client.Client) error {
			if _, err := c.NewRestoreTest(ctx(t), client.NewRestoreTest{Ref: r1 + "@1", On: r1}, ""); !client.IsStatus(err, 400) {
				return err
			}
			return nil
		}, 401, 403, 0, 0},
		{"a bootstrap sheet", func(c *client.Client) error { _, err := c.BootstrapSheet(ctx(t), r1+"@1", false); return err }, 401, 403, 0, 0},
		{"lend reach", func(c *client.Client) error {
			if err := c.Relay(ctx(t), client.NewRelay{Device: "none-such", For: time.Hour}); !client.IsStatus(err, 404) {
				return err
			}
			return nil
		}, 401, 403, 0, 0},
		{"list approvals", func(c *client.Client) error { _, err := c.Approvals(ctx(t)); return err }, 401, 0, 0, 0},
		{"ask for approval", func(c *client.Client) error {
			if _, err := c.AddApproval(ctx(t), []string{"nonsense=1"}); !client.IsStatus(err, 400) {
				return err
			}
			return nil
		}, 401, 403, 403, 0},
		{"edit a device", func(c *client.Client) error { _, err := c.EditDevice(ctx(t), r1, client.NewDevice{}); return err }, 401, 403, 403, 0},
		{"list users", func(c *client.Client) error { _, err := c.Users(ctx(t)); return err }, 401, 403, 403, 0},
		{"read the audit log", func(c *client.Client) error { _, err := c.Audit(ctx(t), client.AuditFilter{}, 0, 0); return err }, 401, 403, 403, 0},
	} {
		for i, who := range []*client.Client{nobody, reader, operator, w.admin} {
			want := []int{c.nobody, c.reader, c.operator, c.andAdmin}[i]
			err := c.do(who)
			if want == 0 && err != nil || want != 0 && !client.IsStatus(err, want) {
				t.Errorf("%s as %s: %v, want %d", c.what, []string{"nobody", "reader", "operator", "admin"}[i], err, want)
			}
		}
	}
	// A browser's session: the cookie alone reads; writing takes the CSRF token.
	body := strings.NewReader(`{"user":"okonkwo","password":"words for okonkwo"}`)
	ask, _ := http.NewRequest("POST", w.url+"/api/v1/session", body)
	ask.Header.Set("Content-Type", "application/json")
	ask.Header.Set("Origin", w.url)
	res, err := http.DefaultClient.Do(ask)
	if err != nil || len(res.Cookies()) == 0 {
		t.Fatalf("%+v, %v", res, err)
	}
	cookie := res.Cookies()[0]
	res.Body.Close()
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode {
		t.Errorf("the cookie is %+v", cookie)
	}
	try := func(method, path, csrf string) int {
		req, _ := http.NewRequest(method, w.url+"/api/v1"+path, strings.NewReader(`{"selector":["`+r1+`"]}`))
		req.AddCookie(cookie)
		req.Header.Set("X-CSRF-Token", csrf)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		if path == "/me" {
			raw, _ := io.ReadAll(res.Body)
			if m := regexp.MustCompile(`"csrf":"([^"]+)"`).FindSubmatch(raw); m != nil {
				name = string(m[1])
			}
		}
		return res.StatusCode
	}
	if got := try("GET", "/me", ""); got != 200 {
		t.Errorf("reading with the cookie: %d", got)
	}
	if got := try("POST", "/pulls", ""); got != 403 {
		t.Errorf("writing without the CSRF token: %d", got)
	}
	if got := try("POST", "/pulls", name); got != 202 {
		t.Errorf("writing with it: %d", got)
	}
	if got := try("DELETE", "/session", name); got != 204 {
		t.Errorf("signing out: %d", got)
	}
	if got := try("GET", "/me", ""); got != 401 {
		t.Errorf("after signing out: %d", got)
	}
	// The last admin cannot lock everybody out, and a disabled user is out at once.
	off := true
	if _, err := w.admin.EditUser(ctx(t), "admin", client.NewUser{Disabled: &off}); !client.IsStatus(err, 409) {
		t.Errorf("disabling the last admin: %v", err)
	}
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &off}))(t)
	if _, err := operator.Devices(ctx(t), nil); !client.IsStatus(err, 401) {
		t.Errorf("a disabled user: %v", err)
	}
	// Guessing gets slower.
	slow := 0
	for range 8 {
		if _, err := nobody.Login(ctx(t), client.Login{User: "lookout", Password: "guess"}); client.IsStatus(err, 429) {
			slow++
		}
	}
	if slow == 0 {
		t.Error("eight wrong passwords in a row were all taken at once")
	}
}

// TestAuditShowsTampering changes, removes and cuts rows of the audit log.
func TestAuditShowsTampering(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if r := must(w.admin.CheckAudit(ctx(t), ""))(t); !r.Sound || r.Rows < 4 {
		t.Fatalf("untouched: %+v", r)
	}
	for _, c := range []struct{ what, do, undo, says string }{
		{"a row changed", "UPDATE audit SET actor = 'nobody' WHERE seq = 2", "UPDATE audit SET actor = 'admin' WHERE seq = 2", "row 2 was changed"},
		{"a row gone", "UPDATE audit SET seq = -3 WHERE seq = 3", "UPDATE audit SET seq = 3 WHERE seq = -3", "rows 3 to 3 are missing"},
		{"the tail cut off", "DELETE FROM audit ORDER BY seq DESC LIMIT 1", "", "tail was cut off"},
	} {
		var actor string
		_ = db.QueryRow("SELECT actor FROM audit WHERE seq = 2").Scan(&actor)
		if _, err := db.Exec(c.do); err != nil {
			t.Fatal(err)
		}
		if r := must(w.admin.CheckAudit(ctx(t), ""))(t); r.Sound || !strings.Contains(r.Trouble, c.says) {
			t.Errorf("%s: %+v", c.what, r)
		}
		if c.undo != "" {
			if _, err := db.Exec(strings.Replace(c.undo, "'admin'", "'"+actor+"'", 1)); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// failsToStart starts the service and returns what it says on its way out.
func failsToStart(t *testing.T, env []string, args ...string) string {
	t.Helper()
	cmd := exec.Command(filepath.Join(serving, "magpie"), append([]string{"serve", "--listen", "127.0.0.1:0"}, args...)...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	if err == nil || cmd.ProcessState.ExitCode() != 2 {
		t.Errorf("it exits %d: %s", cmd.ProcessState.ExitCode(), out)
	}
	for _, s := range secrets {
		if bytes.Contains(out, []byte(s)) {
			t.Errorf("it says %q", s)
		}
	}
	return string(out)
}

// TestStartsThatMustFail: each says what is wrong and what to do.
func TestStartsThatMustFail(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	data := filepath.Join(w.dir, "data")
	says := func(what, got string, want ...string) {
		t.Helper()
		for _, s := range want {
			if !strings.Contains(got, s) {
				t.Errorf("%s: it says %q, without %q", what, got, s)
			}
		}
	}
	says("a data folder in use", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn}, "--data", data), "in use by another magpie", "--data")
	w.proc.stop()
	says("no such database", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn + "nope"}, "--data", data), "does not exist")
	says("a wrong password", failsToStart(t, []string{"MAGPIE_DATABASE=magpie:wrong@" + strings.SplitN(w.dsn, "@", 2)[1]}, "--data", data), "does not accept user magpie")
	says("nobody there", failsToStart(t, []string{"MAGPIE_DATABASE=magpie:x@tcp(127.0.0.1:1)/magpie"}, "--data", data), "does not answer")
	says("a DSN that is none", failsToStart(t, []string{"MAGPIE_DATABASE=what"}, "--data", data), "cannot be read", "user:password@tcp(")
	key := filepath.Join(data, "master.key")
	if err := os.Rename(key, key+".away"); err != nil {
		t.Fatal(err)
	}
	says("the key missing", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn}, "--data", data), "master key is missing", key)
	if err := os.WriteFile(key, []byte(strings.Repeat("ab", 32)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	says("another key", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn}, "--data", data), "wrong master key", "nothing was changed")
	if err := os.WriteFile(key, []byte("short\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	says("a key that is none", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn}, "--data", data), "is no master key")
	if err := os.Rename(key+".away", key); err != nil {
		t.Fatal(err)
	}
	bad := filepath.Join(w.dir, "config.yaml")
	if err := os.WriteFile(bad, []byte("listn: x\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	says("a configuration with a slip", failsToStart(t, nil, "--config", bad), "config.yaml", "listn")
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied, tstamp) VALUES (9999, 1, NOW())"); err != nil {
		t.Fatal(err)
	}
	says("a newer database", failsToStart(t, []string{"MAGPIE_DATABASE=" + w.dsn}, "--data", data), "newer version", "9999")
}

func TestFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=8m"); err != nil {
		t.Skipf("no small disk can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	if got := failsToStart(t, nil, "--data", filepath.Join(dir, "data")); !strings.Contains(got, "is full") {
		t.Errorf("it says %q", got)
	}
}

// TestTwoStartTogether: two services on one empty database, started at once,
// both come up on one schema and one set of keys.
func TestTwoStartTogether(t *testing.T) {
	t.Parallel()
	dsn := scratch.Database(t)
	key := filepath.Join(t.TempDir(), "master.key")
	if err := os.WriteFile(key, []byte(strings.Repeat("cd", 32)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	procs := make([]*proc, 4)
	for i := range procs {
		procs[i] = start(t, append(os.Environ(), "MAGPIE_DATABASE="+dsn, "MAGPIE_MASTER_KEY_FILE="+key), "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(t.TempDir(), fmt.Sprint(i)))
	}
	for _, p := range procs {
		wg.Add(1)
		go func() {
			defer wg.Done()
			res, err := http.Get(p.waitFor(isUp) + "/readyz")
			if err != nil || res.StatusCode != 200 {
				t.Errorf("readyz: %v %v", res, err)
			}
		}()
	}
	wg.Wait()
}

// TestKeyFilesOfTheirOwn: of services that begin together, each with a key file of
// its own, one makes the keys; the others say so, and leave no key that opens
// nothing.
func TestKeyFilesOfTheirOwn(t *testing.T) {
	t.Parallel()
	dsn, up := scratch.Database(t), 0
	procs, dirs := make([]*proc, 3), make([]string, 3)
	for i := range procs {
		dirs[i] = filepath.Join(t.TempDir(), "data")
		procs[i] = start(t, append(os.Environ(), "MAGPIE_DATABASE="+dsn), "serve", "--listen", "127.0.0.1:0", "--data", dirs[i])
	}
	for i, p := range procs {
		eventually(t, "it is up or has failed", func() bool {
			select {
			case <-p.gone:
				return true
			default:
				return isUp.MatchString(p.said())
			}
		})
		_, none := os.Stat(filepath.Join(dirs[i], "master.key"))
		switch said := p.said(); {
		case isUp.MatchString(said):
			up++
			if none != nil {
				t.Error(none)
			}
		case none == nil:
			t.Errorf("a key that opens nothing was left behind by the one that said\n%s", said)
		case !strings.Contains(said, "copy its key file to") && !strings.Contains(said, "put your copy of the key file there"):
			t.Errorf("it ended saying\n%s", said)
		}
	}
	if up != 1 {
		t.Errorf("%d of them are up", up)
	}
}

// TestTwoNodes: two services share a database. One finds the other's work, and
// takes up what the other leaves when it dies.
func TestTwoNodes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	target := w.fleet.running(r1)
	changed(w)
	before := w.fleet.running(r1)
	other, second := w.another()
	w.fleet.faults(r1, tern.Faults{HoldLine: 3})
	p := w.preview(client.NewPreview{Ref: r1 + "@1"})
	push := must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t)
	w.fleet.waitHolding(r1)
	if _, err := other.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""); !client.IsStatus(err, 409) || !strings.Contains(err.Error(), push.ID) {
		t.Errorf("a push from the second instance: %v", err)
	}
	// Whichever instance does the work is killed; the other settles it.
	st := must(w.admin.Status(ctx(t)))(t)
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var instance string
	if err := db.QueryRow("SELECT instance FROM jobs WHERE id = ?", push.ID).Scan(&instance); err != nil {
		t.Fatal(err)
	}
	survivor := other
	if instance == st.Instance {
		w.kill()
	} else {
		second.kill()
		survivor = w.admin
	}
	end := must(survivor.Watch(ctx(t), push.ID, nil, nil))(t)
	w.admin, w.url = survivor, survivor.URL
	w.truthful(end, before, target, 2)
}
