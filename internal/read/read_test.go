package read_test

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"magpie/dialects"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/push"
	"magpie/internal/read"
	"magpie/internal/scratch"
	"magpie/internal/seal"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
	"magpie/internal/store"
	"magpie/internal/visit"
)

var (
	bg     = context.Background()
	admin  = core.Actor{ID: "a", Name: "admin", Role: core.Admin, Secrets: true}
	reader = core.Actor{ID: "r", Name: "lookout", Role: core.Reader}
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

// yard is a fleet and a service whose clock stands where it is put.
type yard struct {
	t     *testing.T
	fleet *sim.Fleet
	jobs  *job.Runtime
	v     *visit.Service
	p     *push.Service
	s     *read.Service
	clock atomic.Pointer[time.Time] // jobs that end late read it, too
	dsn   string
}

const r1 = "skerrinsay-r1"

// now is the yard's clock, which set moves.
func (y *yard) now() time.Time { return *y.clock.Load() }

func (y *yard) set(t time.Time) { y.clock.Store(&t) }

func newYard(t *testing.T, n int) *yard {
	t.Helper()
	y := &yard{t: t, dsn: scratch.Database(t)}
	y.set(time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC))
	var err error
	if y.fleet, err = sim.Open(t.TempDir(), n, "", 1, y.now()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(y.fleet.Close)
	clock := y.now
	st, err := store.Open(bg, y.dsn, seal.NewMaster(), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	src, _ := dialects.Files.ReadFile("tern.yaml")
	tern, err := dialect.Load("tern.yaml", src)
	if err != nil {
		t.Fatal(err)
	}
	other, err := dialect.Load("other.yaml", []byte(strings.Replace(string(src), "dialect: tern\n", "dialect: other\n", 1)))
	if err != nil {
		t.Fatal(err)
	}
	jobs, err := job.New(bg, st, "instance", time.Now)
	if err == nil {
		jobs.Alive() // by the real clock: however slow the machine, it is believed in
		t.Cleanup(func() { jobs.Stop(time.Second) })
		y.jobs = jobs.At(clock)
		y.v, err = visit.New(bg, y.jobs, []*dialect.Dialect{tern, other})
	}
	if err != nil {
		t.Fatal(err)
	}
	y.p, y.s = push.New(y.v), read.New(y.v)
	for _, u := range y.fleet.Units {
		target := link.Target{Address: u.Address, Port: sim.Port}
		key, _, err := link.Probe(bg, target, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		d := core.Device{Name: u.Name, Address: u.Address, Port: sim.Port, Kind: "router", Dialect: "tern", HostKey: key}
		y.tx(func(q *store.Q) error {
			return q.AddDevice(bg, &d, &store.Secret{User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord})
		})
	}
	return y
}

func (y *yard) tx(do func(q *store.Q) error) {
	y.t.Helper()
	if err := y.s.Store.Tx(bg, admin, do); err != nil {
		y.t.Fatal(err)
	}
}

func (y *yard) device(name string) core.Device {
	y.t.Helper()
	d, err := y.s.Store.As(admin).Device(bg, name)
	if err != nil {
		y.t.Fatal(err)
	}
	return d
}

// pullAt moves the clock and pulls.
func (y *yard) pullAt(clock string) core.Job {
	y.t.Helper()
	at, err := time.Parse("15:04", clock)
	if err != nil {
		y.t.Fatal(err)
	}
	y.set(time.Date(2026, 11, 20, at.Hour(), at.Minute(), 0, 0, time.UTC))
	j, err := y.s.PullNow(bg, admin, y.device(r1), core.ByHand)
	if err != nil {
		y.t.Fatal(err)
	}
	return j
}

func (y *yard) amend(lines ...string) {
	y.t.Helper()
	if err := y.fleet.Unit(r1).Amend("mwilks", lines); err != nil {
		y.t.Fatal(err)
	}
}

func (y *yard) resolve(raw string) (read.Side, error) {
	y.t.Helper()
	r, err := ref.ParseVersion(raw, ref.In(time.UTC, time.Now))
	if err != nil {
		y.t.Fatal(err)
	}
	return y.s.Resolve(bg, admin, r)
}

// TestWhatRanThen: a time names the version that ran then, and says how sure
// that is.
func TestWhatRanThen(t *testing.T) {
	y := newYard(t, 1)
	y.pullAt("09:00")
	y.pullAt("09:40")
	y.amend("lane quay1", "shut")
	y.pullAt("10:15")
	for _, c := range []struct{ at, ref, sure string }{
		{"2026-11-20T09:30Z", r1 + "@1", "1 was seen both before and after"},
		{"2026-11-20T09:40Z", r1 + "@1", "1 was seen both before and after"},
		{"2026-11-20T10:00Z", r1 + "@1", "1 seen until 2026-11-20 09:40 UTC, 2 from 2026-11-20 10:15 UTC; in between it is not known"},
		{"2026-11-20T10:15Z", r1 + "@2", "2 was seen both before and after"},
		{"2026-11-20", r1 + "@2", "2 seen until 2026-11-20 10:15 UTC; nothing was pulled since"},
		{"2026-11-20T08:59Z", "", "nothing was pulled by then"},
	} {
		side, err := y.resolve(r1 + "@" + c.at)
		switch {
		case c.ref == "" && (err == nil || !strings.Contains(err.Error(), c.sure) || !errors.Is(err, store.ErrNotFound)):
			t.Errorf("%s: %v", c.at, err)
		case c.ref != "" && (err != nil || side.Ref != c.ref || side.Sure != c.sure):
			t.Errorf("%s: %s, %q, %v", c.at, side.Ref, side.Sure, err)
		}
	}
}

// TestStates walks a device through its states and back.
func TestStates(t *testing.T) {
	y := newYard(t, 1)
	u := y.fleet.Unit(r1)
	yes := true
	for _, c := range []struct {
		name    string
		do      func()
		outcome string
		state   string
		unsaved bool
	}{
		{"first pull", func() {}, core.Done, core.Steady, false},
		{"a change not stowed", func() { y.amend("lane quay1", "shut") }, core.Done, core.Unsaved, true},
		{"stowed", func() { u.Stow() }, core.Done, core.Steady, false},
		{"away", func() { _ = u.SetFaults(tern.Faults{Down: true}) }, core.Failed, core.Unreachable, false},
		{"back, and shortened", func() { _ = u.SetFaults(tern.Faults{Weak: true}) }, core.Failed, core.Failing, false},
		{"healthy", func() { _ = u.SetFaults(tern.Faults{}) }, core.Done, core.Steady, false},
		{"another order of typing, which means the same", func() { y.amend("lane quay1", "cancel shut", "up", "lane quay1", "shut") }, core.Done, core.Steady, false},
		{"off its baseline", func() {
			if _, err := y.s.SetMark(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"}, read.Mark{Baseline: &yes}); err != nil {
				t.Fatal(err)
			}
			y.amend("lane quay1", "cancel shut")
			u.Stow()
		}, core.Done, core.Drifted, false},
		{"refused", func() { _ = u.SetFaults(tern.Faults{RefuseLogin: true}) }, core.Refused, core.RefusedLogin, false},
		{"not even tried", func() { _ = u.SetFaults(tern.Faults{}) }, core.Failed, core.RefusedLogin, false},
		{"let in again", func() { y.tx(func(q *store.Q) error { return q.Unlatch(bg, y.device(r1)) }) }, core.Done, core.Drifted, false},
	} {
		c.do()
		j := y.pullAt("10:00")
		d := y.device(r1)
		if j.Outcome != c.outcome || d.State != c.state || d.Unsaved != c.unsaved || (d.Trouble == "") != (c.outcome == core.Done) {
			t.Fatalf("%s: the pull is %s (%s), the device %s, unsaved %v, trouble %q", c.name, j.Outcome, j.Summary, d.State, d.Unsaved, d.Trouble)
		}
	}
}

// TestSuddenShrink is flagged in the job's log.
func TestSuddenShrink(t *testing.T) {
	y := newYard(t, 1)
	y.pullAt("09:00")
	y.amend("lane guest", "cancel sieve in", "up", "lane tills", "cancel sieve in", "up", "lane uplink1", "cancel sieve in", "up",
		"cancel sieve guest-in", "cancel sieve tills-in", "cancel sieve uplink-in", "cancel roster control", "cancel roster tills",
		"cancel lane guest", "cancel lane quay1", "cancel lane quay2", "cancel lane tills", "cancel lane uplink1", "cancel flock 64512", "cancel lookout")
	j := y.pullAt("09:10")
	log, err := y.s.Store.As(admin).Entries(bg, j.ID, 0, 1000)
	if err != nil {
		t.Fatal(err)
	}
	said := false
	for _, e := range log {
		said = said || e.Kind == "warning" && strings.Contains(e.Text, "shrank from")
	}
	if j.Outcome != core.Done || !said {
		t.Errorf("%s, %+v", j.Outcome, log)
	}
}

// TestRelations: how two texts stand to each other, and what a comparison leaves
// out.
func TestRelations(t *testing.T) {
	y := newYard(t, 1)
	y.pullAt("09:00")
	y.amend("lane quay1", "shut")
	y.pullAt("09:10")
	for _, c := range []struct {
		from, to, relation string
		hunks              bool
	}{
		{r1 + "@1", r1 + "@1", dialect.Identical, false},
		{r1 + "@2", r1 + "@live", dialect.Unchanged, false},
		{r1 + "@1", r1 + "@2", dialect.Different, true},
		{r1 + "@1", r1 + "/startup@1", dialect.Unchanged, false},
	} {
		a, err1 := y.resolve(c.from)
		b, err2 := y.resolve(c.to)
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		got, err := y.s.Compare(reader, a, b, 3, false)
		if err != nil || got.Relation != c.relation || (len(got.Hunks) > 0) != c.hunks {
			t.Errorf("%s to %s: %s with %d hunks, %v\n%s", c.from, c.to, got.Relation, len(got.Hunks), err, got.Unified)
		}
		if strings.Contains(got.Unified, "sealed ") && !strings.Contains(got.Unified, "‹secret ") {
			t.Errorf("a reader is shown\n%s", got.Unified)
		}
	}
}

// TestWhatCannotBeMaskedIsNotShown: of a text that the dialect cannot wholly read, what it
// cannot read is shown only to who may see secrets, and so is what no rule speaks of, for
// that may stand in the wrong block.
func TestWhatCannotBeMaskedIsNotShown(t *testing.T) {
	y := newYard(t, 1)
	y.tx(func(q *store.Q) error {
		id, err := q.PutContent(bg, []byte("lane q\n    deep\n  between\nmast-word sealed hush\n"), "", 0)
		if err != nil {
			return err
		}
		p, err := q.Part(bg, y.device(r1).ID, "running", true)
		if err != nil {
			return err
		}
		return q.AddVersion(bg, p, &core.Version{ContentID: id, PullID: "p", TakenAt: y.now(), Reason: core.ByHand}, "")
	})
	side, err := y.resolve(r1 + "@1")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := y.s.Shown(reader, side); err != nil || strings.Contains(got, "hush") || strings.Contains(got, "deep") || strings.Contains(got, "between") || !strings.Contains(got, "lane q") {
		t.Errorf("a reader is shown %q, %v", got, err)
	}
	if got, err := y.s.Shown(admin, side); err != nil || !strings.Contains(got, "hush") {
		t.Errorf("an admin is shown %q, %v", got, err)
	}
}

// TestOntoAnotherDevice: a version of one device put on another warns; one of
// another dialect is refused.
func TestOntoAnotherDevice(t *testing.T) {
	y := newYard(t, 2)
	y.pullAt("09:00")
	y.s.Start()
	defer y.s.Stop(time.Second)
	v, err := y.s.Version(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"})
	if err != nil {
		t.Fatal(err)
	}
	preview := func() (core.Job, push.Preview) {
		t.Helper()
		j, err := y.p.RequestPreview(bg, admin, y.device("innisquill-r1"), v, push.PreviewRequest{Method: "replace"}, store.Key{})
		if err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(20 * time.Second); j.State != core.Ended && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if j, err = y.s.Store.As(admin).Job(bg, j.ID); err != nil {
				t.Fatal(err)
			}
		}
		named := map[string]string{}
		var p push.Preview
		if err := y.s.Store.As(admin).OpenResult(j, &named); err == nil && named["preview"] != "" {
			if p, _, err = y.p.Preview(bg, admin, named["preview"]); err != nil {
				t.Fatal(err)
			}
		}
		return j, p
	}
	j, p := preview()
	if j.Outcome != core.Done || len(p.Steps) == 0 || !strings.Contains(strings.Join(p.Warnings, "\n"), "was taken from skerrinsay-r1") {
		t.Errorf("%s (%s): %q", j.Outcome, j.Summary, p.Notes)
	}
	d := y.device("innisquill-r1")
	d.Dialect = "other"
	y.tx(func(q *store.Q) error { return q.EditDevice(bg, d) })
	if j, _ := preview(); j.Outcome != core.Refused || !strings.Contains(j.Summary, "another dialect") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestUnchangedPullsLeaveLittle: a pull that nobody asked for by hand and that found
// nothing new leaves its sighting and one line, and no row of its own; one that found
// something leaves its log and its row.
func TestUnchangedPullsLeaveLittle(t *testing.T) {
	y := newYard(t, 1)
	y.pullAt("09:00")
	db, err := sql.Open("mysql", y.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	count := func(query string) (n int) {
		t.Helper()
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	const pulls, lines, bytes = "SELECT COUNT(*) FROM pulls", "SELECT COUNT(*) FROM job_log", "SELECT SUM(LENGTH(sealed)) FROM job_log"
	pull := func(reason string) core.Job {
		t.Helper()
		y.set(y.now().Add(time.Hour))
		j, err := y.v.PullNow(bg, admin, y.device(r1), reason)
		if err != nil || j.Outcome != core.Done {
			t.Fatal(j.Outcome, err)
		}
		return j
	}
	rows, log, size := count(pulls), count(lines), count(bytes)
	for range 20 {
		pull("schedule")
	}
	if n := count(pulls); n != rows {
		t.Errorf("20 unchanged pulls left %d rows", n-rows)
	}
	if n, b := count(lines)-log, count(bytes)-size; n != 20 || b > 20*250 {
		t.Errorf("20 unchanged pulls left %d lines of log, %d bytes", n, b)
	}
	side, err := y.resolve(r1 + "@1")
	if err != nil || side.Version.Sightings < 20 || !side.Version.SeenUntil.Equal(y.now()) {
		t.Errorf("seen %d times until %s, %v", side.Version.Sightings, side.Version.SeenUntil, err)
	}
	y.amend("lane quay1", "shut")
	log = count(lines)
	pull("schedule")
	if count(pulls) != rows+1 || count(lines) < log+4 {
		t.Errorf("a pull that found something left %d rows, %d lines", count(pulls)-rows, count(lines)-log)
	}
	log = count(lines)
	pull(core.ByHand)
	if count(lines) < log+4 {
		t.Error("who asks by hand reads what was done")
	}
}
