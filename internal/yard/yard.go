// Package yard is a fleet and a service in one process, for tests of what the service does over days:
// its clock stands where it is put.
package yard

import (
	"context"
	"database/sql"
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
	"magpie/internal/store"
	"magpie/internal/visit"
)

var (
	bg    = context.Background()
	admin = core.Actor{ID: "a", Name: "admin", Role: core.Admin, Secrets: true}
)

// R1 is the device that is pulled.
const R1 = "skerrinsay-r1"

// Yard is a fleet and a service whose clock stands where it is put.
type Yard struct {
	t      *testing.T
	Fleet  *sim.Fleet
	Jobs   *job.Runtime
	Visits *visit.Service
	Pushes *push.Service
	Read   *read.Service
	clock  atomic.Pointer[time.Time] // jobs that end late read it, too
	DSN    string
	master seal.Master

	through []store.Through
}

// Now is the yard's clock, which Set moves.
func (y *Yard) Now() time.Time {
	if t := y.clock.Load(); t != nil {
		return *t
	}
	return time.Now()
}

// LetRun has the clock run, as the machine's does.
func (y *Yard) LetRun() { y.clock.Store(nil) }

// Set puts the clock.
func (y *Yard) Set(t time.Time) { y.clock.Store(&t) }

// New starts them, with so many routers.
func New(t *testing.T, n int, through ...store.Through) *Yard {
	t.Helper()
	y := &Yard{t: t, through: through, DSN: scratch.Database(t), master: seal.NewMaster()}
	y.Set(time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC))
	var err error
	if y.Fleet, err = sim.Open(t.TempDir(), n, "", 1, y.Now()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(y.Fleet.Close)
	y.Visits = y.Instance("instance")
	y.Jobs = y.Visits.Runtime
	y.Pushes, y.Read = push.New(y.Visits), read.New(y.Visits)
	for _, u := range y.Fleet.Units {
		target := link.Target{Address: u.Address, Port: sim.Port}
		key, _, err := link.Probe(bg, target, 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		d := core.Device{Name: u.Name, Address: u.Address, Port: sim.Port, Kind: "router", Dialect: "tern", HostKey: key}
		y.Tx(func(q *store.Q) error {
			return q.AddDevice(bg, &d, &store.Secret{User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord})
		})
	}
	return y
}

// Instance is another instance of the service, on the same database and by the same clock.
func (y *Yard) Instance(name string) *visit.Service {
	t := y.t
	t.Helper()
	st, err := store.Open(bg, y.DSN, y.master, time.Now, y.through...)
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
	jobs, err := job.New(bg, st, name, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	jobs.Alive() // by the real clock: however slow the machine, it is believed in
	t.Cleanup(func() { jobs.Stop(time.Second) })
	v, err := visit.New(bg, jobs.At(y.Now), []*dialect.Dialect{tern, other})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// Tx does something in a transaction.
func (y *Yard) Tx(do func(q *store.Q) error) {
	y.t.Helper()
	if err := y.Read.Store.Tx(bg, admin, do); err != nil {
		y.t.Fatal(err)
	}
}

// Device is the device of a name, as it stands.
func (y *Yard) Device(name string) core.Device {
	y.t.Helper()
	d, err := y.Read.Store.As(admin).Device(bg, name)
	if err != nil {
		y.t.Fatal(err)
	}
	return d
}

// PullAt moves the clock and pulls.
func (y *Yard) PullAt(clock string) core.Job {
	y.t.Helper()
	at, err := time.Parse("15:04", clock)
	if err != nil {
		y.t.Fatal(err)
	}
	y.Set(time.Date(2026, 11, 20, at.Hour(), at.Minute(), 0, 0, time.UTC))
	j, err := y.Read.PullNow(bg, admin, y.Device(R1), core.ByHand)
	if err != nil {
		y.t.Fatal(err)
	}
	return j
}

// Ended waits for a job.
func (y *Yard) Ended(j core.Job) {
	y.t.Helper()
	if done, err := y.Jobs.Await(bg, j.ID, nil); err != nil || done.Outcome != core.Done {
		y.t.Fatalf("%s: %s: %s, %v", j.Kind, done.Outcome, done.Summary, err)
	}
}

// Column reads one value of the database itself.
func (y *Yard) Column(query string) (out string) {
	y.t.Helper()
	db, err := sql.Open("mysql", y.DSN)
	if err == nil {
		defer db.Close()
		err = db.QueryRow(query).Scan(&out)
	}
	if err != nil {
		y.t.Fatal(err)
	}
	return out
}

// Side is the version that a reference names.
func (y *Yard) Side(raw string) read.Side {
	y.t.Helper()
	side, err := y.Resolve(raw)
	if err != nil {
		y.t.Fatal(err)
	}
	return side
}

// Amend types lines at the device, as somebody else does.
func (y *Yard) Amend(lines ...string) {
	y.t.Helper()
	if err := y.Fleet.Unit(R1).Amend("mwilks", lines); err != nil {
		y.t.Fatal(err)
	}
}

// Resolve finds the version that a reference names.
func (y *Yard) Resolve(raw string) (read.Side, error) {
	y.t.Helper()
	r, err := ref.ParseVersion(raw, ref.In(time.UTC, time.Now))
	if err != nil {
		y.t.Fatal(err)
	}
	return y.Read.Resolve(bg, admin, r)
}
