package main

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/run"
	"magpie/internal/seal"
	"magpie/internal/store"
)

// How much history is kept: so many devices with so many versions each, all of them shared by
// copies of the devices until there are a million.
const (
	keepers  = 200
	rounds   = 500
	copiesOf = 1_000_000/keepers/rounds - 1
	tries    = 1000
	turns    = 41
)

// histories measures keeping the versions of 200 devices, 500 each, beside a Git repository to
// which the same texts were committed night by night; then lists, reads and times among a million.
func histories(dir string) error {
	ctx := context.Background()
	texts := make([][]string, keepers) // by device, in their order
	for d := range texts {
		r := rand.New(rand.NewPCG(uint64(d), 7))
		lines := config(r, 300+r.IntN(700))
		for range rounds {
			texts[d] = append(texts[d], strings.Join(lines, "\n")+"\n")
			lines = amended(r, lines)
		}
	}
	repo := filepath.Join(dir, "repo")
	pack, err := commitAll(repo, texts)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "history"), 0o700); err != nil {
		return err
	}
	db, err := run.StartDatabase(ctx, filepath.Join(dir, "history"))
	if err != nil {
		return err
	}
	defer db.Stop()
	master, key := seal.NewMaster(), filepath.Join(dir, "history", "master.key")
	if err := master.Write(key); err != nil {
		return err
	}
	at := time.Date(2025, 1, 1, 2, 0, 0, 0, time.UTC)
	began := time.Now()
	payload, table, err := keepAll(ctx, db.DSN(), master, texts, at)
	if err != nil {
		return err
	}
	took := time.Since(began)
	fmt.Printf("\nKeeping %d versions, %d of each of %d devices, of %d lines on average, 2.5 places changed each time;\nbeside the pack of the same texts, committed night by night, after git gc --aggressive.\n", keepers*rounds, rounds, keepers, 650)
	fmt.Printf("%-44s %12s %14s %9s\n", "what", "bytes", "a version", "times git")
	for _, x := range []struct {
		name  string
		bytes int64
	}{{"git's pack", pack}, {"sealed payload", payload}, {"the whole table, with its indexes", table}} {
		fmt.Printf("%-44s %12d %14.0f %9.2f\n", x.name, x.bytes, float64(x.bytes)/keepers/rounds, float64(x.bytes)/float64(pack))
	}
	fmt.Printf("keeping one took %.2f ms, transaction and all\n", float64(took.Milliseconds())/keepers/rounds)
	if err := million(db.DSN()); err != nil {
		return err
	}
	return reads(dir, db.DSN(), key, repo, texts, at)
}

// amended is a configuration in which a few places changed.
func amended(r *rand.Rand, lines []string) []string {
	out := slices.Clone(lines)
	for range 1 + r.IntN(4) {
		i := r.IntN(len(out))
		switch r.IntN(3) {
		case 0:
			out[i] = fmt.Sprintf("  note \"changed %d\"", r.IntN(1<<30))
		case 1:
			out = slices.Insert(out, i, fmt.Sprintf("  also-berth 10.200.%d.%d/24", r.IntN(256), r.IntN(256)))
		case 2:
			out = slices.Delete(out, i, i+1)
		}
	}
	return out
}

func git(repo string, in io.Reader, args ...string) (string, error) {
	cmd := exec.Command("git", append([]string{"-C", repo}, args...)...)
	if in != nil {
		cmd.Stdin = in
	}
	cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("git %v: %w: %s", args, err, out)
	}
	return string(out), nil
}

// commitAll commits the texts night by night, and packs as tightly as Git can.
func commitAll(repo string, texts [][]string) (pack int64, err error) {
	if err := os.MkdirAll(repo, 0o700); err != nil {
		return 0, err
	}
	if _, err := git(repo, nil, "init", "-q", "-b", "main"); err != nil {
		return 0, err
	}
	in, out := io.Pipe()
	go func() {
		w := bufio.NewWriter(out)
		for n := range rounds {
			fmt.Fprintf(w, "commit refs/heads/main\ncommitter magpie <magpie@ferries.example> %d +0000\ndata 6\nnight\n", 1735689600+n*86400)
			for d := range texts {
				fmt.Fprintf(w, "M 644 inline quay-%03d/running.cfg\ndata %d\n%s\n", d, len(texts[d][n]), texts[d][n])
			}
		}
		out.CloseWithError(w.Flush())
	}()
	if _, err := git(repo, in, "fast-import", "--quiet"); err != nil {
		return 0, err
	}
	if _, err := git(repo, nil, "gc", "-q", "--aggressive", "--prune=now"); err != nil {
		return 0, err
	}
	packs, err := filepath.Glob(filepath.Join(repo, ".git/objects/pack/*.pack"))
	for _, p := range packs {
		st, e := os.Stat(p)
		if e != nil {
			return 0, e
		}
		pack += st.Size()
	}
	return pack, err
}

// keepAll keeps the texts as the service does, and tells how many bytes that takes.
func keepAll(ctx context.Context, dsn string, master seal.Master, texts [][]string, at time.Time) (payload, table int64, err error) {
	now := at
	s, err := store.Open(ctx, dsn, master, func() time.Time { return now })
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	who := core.Actor{Name: "service", Role: core.Admin}
	devices := make([]core.Device, len(texts))
	for d := range texts {
		now = at.Add(time.Duration(d-len(texts)) * time.Millisecond)
		devices[d] = core.Device{Name: fmt.Sprintf("quay-%03d", d), Address: fmt.Sprintf("192.0.2.%d", d), Port: 22, Kind: "router", Dialect: "tern", State: core.InSync}
		if err := s.Tx(ctx, who, func(q *store.Q) error { return q.AddDevice(ctx, &devices[d], nil) }); err != nil {
			return 0, 0, err
		}
	}
	for n := range texts[0] {
		for d := range texts {
			now = at.AddDate(0, 0, n).Add(time.Duration(d) * time.Millisecond) // identifiers are a time and some chance
			err := s.Tx(ctx, who, func(q *store.Q) error {
				p, err := q.Part(ctx, devices[d].ID, "running", true)
				if err != nil {
					return err
				}
				pull := core.Pull{ID: store.NewID(now), DeviceID: devices[d].ID, RequestedAt: now, TakenAt: &now, Reason: core.BySchedule, Actor: "nightly", Result: "done", Serial: fmt.Sprint(d), Release: "4.2"}
				if err := q.AddPull(ctx, pull); err != nil {
					return err
				}
				v := core.Version{PullID: pull.ID, Fingerprint: "f", TakenAt: now, Reason: core.BySchedule, Actor: "nightly", Lines: strings.Count(texts[d][n], "\n")}
				if v.ContentID, err = q.PutContent(ctx, []byte(texts[d][n]), p.ID, p.Last); err != nil {
					return err
				}
				return q.AddVersion(ctx, p, &v, "")
			})
			if err != nil {
				return 0, 0, err
			}
		}
	}
	raw, err := sql.Open("mysql", dsn)
	if err != nil {
		return 0, 0, err
	}
	defer raw.Close()
	if err := raw.QueryRow(`SELECT SUM(LENGTH(sealed)) FROM contents`).Scan(&payload); err != nil {
		return 0, 0, err
	}
	if _, err := raw.Exec(`OPTIMIZE TABLE contents`); err != nil {
		return 0, 0, err
	}
	err = raw.QueryRow(`SELECT data_length + index_length FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'contents'`).Scan(&table)
	return payload, table, err
}

// letters are two for each copy.
func letters(k int) string { return fmt.Sprintf("%c%c", 'a'+k/26, 'a'+k%26) }

// million makes copies of the devices, which share their texts, until there are a million
// versions.
func million(dsn string) error {
	raw, err := sql.Open("mysql", dsn)
	if err != nil {
		return err
	}
	defer raw.Close()
	for k := range copiesOf {
		with := func(column string) string { return fmt.Sprintf("CONCAT('%s', SUBSTRING(%s, 3))", letters(k), column) }
		for table, own := range map[string][]string{"devices": {"id"}, "parts": {"id", "device_id"}, "pulls": {"id", "device_id"}, "versions": {"id", "part_id", "pull_id"}, "seen": {"version_id"}} {
			rows, err := raw.Query(`SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? ORDER BY ordinal_position`, table)
			if err != nil {
				return err
			}
			var names, as []string
			for rows.Next() {
				var name string
				if err := rows.Scan(&name); err != nil {
					return err
				}
				names, as = append(names, "`"+name+"`"), append(as, "`"+name+"`")
				if slices.Contains(own, name) {
					as[len(as)-1] = with(name)
				}
				if table == "devices" && name == "name" {
					as[len(as)-1] = fmt.Sprintf("CONCAT(name, '-%s')", letters(k))
				}
			}
			if err := rows.Err(); err != nil {
				return err
			}
			if _, err := raw.Exec(fmt.Sprintf("INSERT INTO %[1]s (%[2]s) SELECT %[3]s FROM %[1]s WHERE %[4]s LIKE '0%%'", table, strings.Join(names, ", "), strings.Join(as, ", "), own[0])); err != nil {
				return fmt.Errorf("%s: %w", table, err)
			}
		}
	}
	_, err = raw.Exec(`ANALYZE TABLE versions, parts, seen, pulls, contents, devices`)
	return err
}

var isServed = regexp.MustCompile(`is up at (\S+)`)

// signedIn starts a service on a data folder and a database, and signs in; pid is its process.
func signedIn(data, dsn, key string) (c *client.Client, pid int, stop func(), err error) {
	ctx := context.Background()
	cmd := exec.Command("bin/magpie", "serve", "--listen", "127.0.0.1:0", "--data", data)
	cmd.Env = append(os.Environ(), "MAGPIE_DATABASE="+dsn, "MAGPIE_MASTER_KEY_FILE="+key)
	said, err := cmd.StderrPipe()
	if err != nil {
		return nil, 0, func() {}, err
	}
	if err := cmd.Start(); err != nil {
		return nil, 0, func() {}, err
	}
	stop = func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	address, err := waitFor(said, isServed)
	if err != nil {
		return nil, 0, func() {}, err
	}
	word, err := os.ReadFile(filepath.Join(data, "admin.password"))
	if err != nil {
		return nil, 0, stop, err
	}
	c = &client.Client{URL: address}
	g, err := c.Login(ctx, client.Login{User: "admin", Password: strings.TrimSpace(string(word))})
	if err != nil {
		return nil, 0, stop, err
	}
	c.Token = g.Token
	if _, err := c.SetOwnPassword(ctx, client.NewPassword{Old: strings.TrimSpace(string(word)), New: "words of the bench"}); err != nil {
		return nil, 0, stop, err
	}
	return c, cmd.Process.Pid, stop, nil
}

// reads measures reading versions of a million beside git show of the repository, and lists.
func reads(dir, dsn, key, repo string, texts [][]string, at time.Time) error {
	ctx := context.Background()
	c, _, stop, err := signedIn(filepath.Join(dir, "history"), dsn, key)
	if err != nil {
		return err
	}
	defer stop()
	time.Sleep(30 * time.Second) // the database comes to rest after a million rows
	env := append(os.Environ(), "MAGPIE_URL="+c.URL, "MAGPIE_TOKEN="+c.Token)
	fmt.Printf("\nReading one version, %d times by turns, the best and the median: of %d by the service, of %d by git show of a commit's id.\n%-12s %16s %16s %16s %8s %8s\n",
		turns, keepers*rounds*(copiesOf+1), keepers*rounds, "version", "the API", "magpie show", "git show", "API/git", "medians")
	for _, x := range []struct {
		name string
		n    int
	}{{"oldest", 1}, {"middle", rounds / 2}, {"newest", rounds}} {
		ref := fmt.Sprintf("quay-017-ac@%d", x.n)
		commit, err := git(repo, nil, "rev-parse", fmt.Sprintf("main~%d", rounds-x.n))
		if err != nil {
			return err
		}
		ways := []func() (string, error){
			func() (string, error) { return c.Download(ctx, ref) },
			func() (string, error) {
				cmd := exec.Command("bin/magpie", "show", ref, "--output", "-")
				cmd.Env = env
				out, err := cmd.Output()
				return string(out), err
			},
			func() (string, error) {
				return git(repo, nil, "show", strings.TrimSpace(commit)+":quay-017/running.cfg")
			},
		}
		took := make([][]time.Duration, len(ways))
		for range turns {
			for i, do := range ways {
				began := time.Now()
				got, err := do()
				took[i] = append(took[i], time.Since(began))
				if err != nil {
					return err
				}
				if got != texts[17][x.n-1] {
					return fmt.Errorf("version %d reads back as another text", x.n)
				}
			}
		}
		fmt.Printf("%-12s", x.name)
		for _, all := range took {
			slices.Sort(all)
			fmt.Printf(" %5.1f, %5.1f ms", float64(all[0].Microseconds())/1000, float64(all[turns/2].Microseconds())/1000)
		}
		api, theirs := took[0], took[2]
		fmt.Printf(" %8.2f %8.2f\n", float64(api[0])/float64(theirs[0]), float64(api[turns/2])/float64(theirs[turns/2]))
	}
	return pages(ctx, c, at)
}

// pages measures what people and programs ask for most, among a million versions.
func pages(ctx context.Context, c *client.Client, at time.Time) error {
	r := rand.New(rand.NewPCG(5, 6))
	device := func() string {
		name := fmt.Sprintf("quay-%03d", r.IntN(keepers))
		if k := r.IntN(copiesOf + 1); k > 0 {
			name += "-" + letters(k-1)
		}
		return name
	}
	fmt.Printf("\nAmong %d versions, %d times each, one after the other; reach: 50 ms.\n%-36s %10s %10s\n", keepers*rounds*(copiesOf+1), tries, "what", "median", "99 of 100")
	for _, x := range []struct {
		name string
		do   func() error
	}{
		{"a page of a device's versions", func() error {
			_, err := c.Versions(ctx, device(), "running", r.IntN(rounds)+2, 50)
			return err
		}},
		{"a version's text", func() error {
			_, err := c.Download(ctx, fmt.Sprintf("%s@%d", device(), 1+r.IntN(rounds)))
			return err
		}},
		{"what ran at a time", func() error {
			_, err := c.Text(ctx, device()+"@"+at.Add(time.Duration(1+r.IntN(rounds*24))*time.Hour).Format(time.RFC3339))
			return err
		}},
		{"the newest page of all changes", func() error {
			_, err := c.Changes(ctx, []string{"all"}, at.Format(time.RFC3339), "", 100)
			return err
		}},
	} {
		var all []time.Duration
		for range tries {
			began := time.Now()
			if err := x.do(); err != nil {
				return fmt.Errorf("%s: %w", x.name, err)
			}
			all = append(all, time.Since(began))
		}
		slices.Sort(all)
		fmt.Printf("%-36s %7.1f ms %7.1f ms\n", x.name, float64(all[tries/2].Microseconds())/1000, float64(all[tries*99/100].Microseconds())/1000)
	}
	return nil
}
