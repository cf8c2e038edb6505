package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/pack"
	"magpie/internal/core/ref"
	"magpie/internal/scratch"
	"magpie/internal/seal"
	"magpie/internal/store"
)

var (
	master = seal.NewMaster()
	who    = core.Actor{ID: "u", Name: "okonkwo", Role: core.Admin}
	bg     = context.Background()
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

func open(t testing.TB, dsn string) *store.Store {
	t.Helper()
	s, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// raw is a database without the store.
func raw(t testing.TB, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func tx(t testing.TB, s *store.Store, do func(q *store.Q) error) {
	t.Helper()
	if err := s.Tx(bg, who, do); err != nil {
		t.Fatal(err)
	}
}

func addDevice(t testing.TB, s *store.Store, name string) core.Device {
	t.Helper()
	d := core.Device{Name: name, Address: "127.0.0.1", Port: 22, Kind: "router", Dialect: "tern", HostKey: "k", Tags: core.Words{"edge"}}
	tx(t, s, func(q *store.Q) error {
		return q.AddDevice(bg, &d, &store.Secret{User: "u", Password: "hush", Privileged: "more"})
	})
	return d
}

// addVersion keeps a text as the next version of a device's running part.
func addVersion(q *store.Q, d core.Device, text string) (core.Version, error) {
	p, err := q.Part(bg, d.ID, "running", true)
	if err != nil {
		return core.Version{}, err
	}
	id, err := q.PutContent(bg, []byte(text), p.ID, p.Last)
	if err != nil {
		return core.Version{}, err
	}
	v := core.Version{ContentID: id, PullID: "p", Fingerprint: "f", TakenAt: time.Now().UTC(), Reason: core.ByHand}
	return v, q.AddVersion(bg, p, &v, "")
}

// TestVersionsNeverChange keeps random texts, from many hands at once, and reads
// every one back byte for byte; numbers have no gap and no double.
func TestVersionsNeverChange(t *testing.T) {
	s := open(t, scratch.Database(t))
	d := addDevice(t, s, "r1")
	tx(t, s, func(q *store.Q) error { _, err := q.Part(bg, d.ID, "running", true); return err })
	var mu sync.Mutex
	kept := map[int]string{}
	var wg sync.WaitGroup
	for w := range 6 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 5))
			for range 15 {
				raw := make([]byte, r.IntN(5000))
				for i := range raw {
					raw[i] = byte(r.IntN(4) * 60)
				}
				var v core.Version
				err := s.Tx(bg, who, func(q *store.Q) (err error) { v, err = addVersion(q, d, string(raw)); return err })
				if err != nil {
					t.Errorf("keeping: %v", err)
					return
				}
				mu.Lock()
				if _, double := kept[v.Number]; double {
					t.Errorf("number %d was given twice", v.Number)
				}
				kept[v.Number] = string(raw)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if len(kept) != 90 {
		t.Fatalf("%d versions", len(kept))
	}
	q := s.As(who)
	for n, want := range kept {
		v, err := q.Version(bg, store.ByNumber(d.ID, "running", n))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := q.Content(bg, v.ContentID); err != nil || string(got) != want {
			t.Errorf("version %d does not read back: %v", n, err)
		}
	}
	all, err := q.Versions(bg, d.ID, "running", 0, 1000)
	if err != nil || len(all) != 90 || all[0].Number != 90 || all[89].Number != 1 {
		t.Errorf("listed %d: %v", len(all), err)
	}
}

// TestSameTextIsKeptOnce, and a content that was tampered with does not read.
func TestSameTextIsKeptOnce(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	var a, b string
	tx(t, s, func(q *store.Q) (err error) { a, err = q.PutContent(bg, []byte("lane q\n"), "", 0); return err })
	tx(t, s, func(q *store.Q) (err error) { b, err = q.PutContent(bg, []byte("lane q\n"), "", 0); return err })
	if n, _, _ := s.As(who).ContentsCount(bg); a != b || n != 1 {
		t.Errorf("%s and %s, %d contents", a, b, n)
	}
	db := raw(t, dsn)
	if _, err := db.Exec("UPDATE contents SET sealed = INSERT(sealed, 40, 1, '~')"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.As(who).Content(bg, a); !errors.Is(err, store.ErrDamaged) {
		t.Errorf("a tampered content: %v", err)
	}
	// Where the text returns, it is kept whole again.
	tx(t, s, func(q *store.Q) (err error) { b, err = q.PutContent(bg, []byte("lane q\n"), "", 0); return err })
	if got, err := s.As(who).Content(bg, a); a != b || err != nil || string(got) != "lane q\n" {
		t.Errorf("a tampered content of which the text returned: %q, %v", got, err)
	}
}

// TestRowsCannotBeSwapped: a credential moved to another device's row does not
// open there.
func TestRowsCannotBeSwapped(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	a, b := addDevice(t, s, "a"), addDevice(t, s, "b")
	if got, err := s.As(who).Secret(bg, a); err != nil || got.Password != "hush" || got.Privileged != "more" {
		t.Fatalf("%+v, %v", got, err)
	}
	db := raw(t, dsn)
	if _, err := db.Exec("UPDATE credentials x JOIN credentials y ON y.id = ? SET x.sealed = y.sealed WHERE x.id = ?", b.CredentialID, a.CredentialID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.As(who).Secret(bg, a); !errors.Is(err, seal.ErrWrongKey) {
		t.Errorf("b's credential opens as a's: %v", err)
	}
}

// TestSeenIntervals: sightings stretch an interval, a gap closes it, and the
// next sighting opens another.
func TestSeenIntervals(t *testing.T) {
	s := open(t, scratch.Database(t))
	d := addDevice(t, s, "r1")
	var v core.Version
	tx(t, s, func(q *store.Q) (err error) { v, err = addVersion(q, d, "x\n"); return err })
	at := func(minutes int) time.Time {
		return v.TakenAt.Add(time.Duration(minutes) * time.Minute).Truncate(time.Microsecond)
	}
	tx(t, s, func(q *store.Q) error { return q.Sight(bg, []string{v.ID}, at(5)) })
	tx(t, s, func(q *store.Q) error { return q.Sight(bg, []string{v.ID}, at(10)) })
	tx(t, s, func(q *store.Q) error { return q.CloseSeen(bg, v.PartID) })
	tx(t, s, func(q *store.Q) error { return q.Sight(bg, []string{v.ID}, at(30)) })
	seen, err := s.As(who).SeenIntervals(bg, v.PartID)
	if err != nil || len(seen) != 2 || !seen[0].Until.Equal(at(10)) || seen[0].Open || !seen[1].From.Equal(at(30)) || !seen[1].Open || seen[0].Sightings != 2 {
		t.Errorf("%+v, %v", seen, err)
	}
	got, err := s.As(who).Listed(bg, v.ID)
	if err != nil || len(got) != 1 || got[0].Sightings != 3 || !got[0].SeenUntil.Equal(at(30)) || !got[0].SeenOpen {
		t.Errorf("%+v, %v", got, err)
	}
}

// TestLease: one holder at a time, the fence only grows, and what a dead instance
// held can be had.
func TestLease(t *testing.T) {
	s := open(t, scratch.Database(t))
	alive := func(string, string, string) bool { return true }
	dead := func(string, string, string) bool { return false }
	lease := func(job string, living func(string, string, string) bool) (fence int64, holder string) {
		tx(t, s, func(q *store.Q) (err error) {
			fence, holder, err = q.Lease(bg, "dev", job, "n", "l", living)
			return err
		})
		return fence, holder
	}
	first, holder := lease("job1", alive)
	if first != 1 || holder != "" {
		t.Fatalf("%d %q", first, holder)
	}
	if fence, holder := lease("job2", alive); fence != 0 || holder != "job1" {
		t.Errorf("a second holder: %d %q", fence, holder)
	}
	third, _ := lease("job3", dead)
	if third != 2 {
		t.Errorf("from a dead holder: fence %d", third)
	}
	tx(t, s, func(q *store.Q) error { return q.Unlease(bg, "dev", first) }) // the dead one comes back
	if fence, holder := lease("job4", alive); fence != 0 || holder != "job3" {
		t.Errorf("giving back an old fence let in another: %d %q", fence, holder)
	}
	tx(t, s, func(q *store.Q) error { return q.Unlease(bg, "dev", third) })
	if fence, _ := lease("job5", alive); fence != 3 {
		t.Errorf("after giving it back: fence %d", fence)
	}
}

func TestClaim(t *testing.T) {
	s := open(t, scratch.Database(t))
	claim := func(job string) (holder string) {
		tx(t, s, func(q *store.Q) (err error) { holder, err = q.Claim(bg, "dev", job); return err })
		return holder
	}
	if h := claim("a"); h != "" {
		t.Errorf("held by %q", h)
	}
	if h := claim("a"); h != "" {
		t.Errorf("claimed twice by one: %q", h)
	}
	if h := claim("b"); h != "a" {
		t.Errorf("a second claim: %q", h)
	}
	tx(t, s, func(q *store.Q) error { return q.Unclaim(bg, "b") })
	if h := claim("b"); h != "a" {
		t.Errorf("the wrong job let go: %q", h)
	}
}

// TestJobsAreTakenOnce by many takers at once, and one key makes one job.
func TestJobsAreTakenOnce(t *testing.T) {
	s := open(t, scratch.Database(t))
	all := make([]store.NewJob, 601)
	for i := range all {
		all[i] = store.NewJob{Job: core.Job{Kind: "pull", Device: fmt.Sprint(i)}, Wants: map[string]int{"i": i}}
	}
	tx(t, s, func(q *store.Q) error { return q.AddJobs(bg, all) })
	if queued, err := s.As(who).Jobs(bg, store.JobFilter{Limit: 1000}); err != nil || len(queued) != len(all) || queued[0].Device != "600" || queued[600].Device != "0" {
		t.Fatalf("%d jobs are queued, not in the order they were given (%v)", len(queued), err)
	}
	var mu sync.Mutex
	taken := map[string]int{}
	var wg sync.WaitGroup
	for w := range 6 {
		wg.Go(func() {
			for range 205 {
				var jobs []core.Job
				if err := s.Tx(bg, who, func(q *store.Q) (err error) { jobs, _, err = q.TakeJobs(bg, fmt.Sprint(w), "l", 3, nil, 0); return err }); err != nil {
					t.Error(err)
				}
				mu.Lock()
				for _, j := range jobs {
					taken[j.ID]++
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if len(taken) != len(all) {
		t.Errorf("%d of %d jobs were taken", len(taken), len(all))
	}
	for id, n := range taken {
		if n != 1 {
			t.Errorf("job %s was taken %d times", id, n)
		}
	}
	ids := map[string]bool{}
	for range 5 {
		tx(t, s, func(q *store.Q) error {
			// Two under one key among others, as when a request comes again.
			two := []store.NewJob{{Job: core.Job{Kind: "pull"}, Wants: 0}, {Job: core.Job{Kind: "pull"}, Wants: 1, Key: store.OwnKey(who, "one key")}}
			err := q.AddJobs(bg, two)
			ids[two[1].ID] = true
			return err
		})
	}
	if len(ids) != 1 {
		t.Errorf("one key made %d jobs", len(ids))
	}
}

// TestAuditUnderLoad: many deeds at once still make one unbroken chain.
func TestAuditUnderLoad(t *testing.T) {
	s := open(t, scratch.Database(t))
	var wg sync.WaitGroup
	for w := range 5 {
		wg.Go(func() {
			for i := range 20 {
				if err := s.Tx(bg, who, func(q *store.Q) error { return q.Audit(bg, "did", fmt.Sprint(w), fmt.Sprint(i)) }); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if n, err := s.As(who).VerifyAudit(bg, store.AuditEnd{}); n != 100 || err != nil {
		t.Errorf("%d rows, %v", n, err)
	}
	// What is rolled back leaves no trace and no gap.
	_ = s.Tx(bg, who, func(q *store.Q) error {
		if err := q.Audit(bg, "did not", "", ""); err != nil {
			t.Error(err)
		}
		return errors.New("no")
	})
	if n, err := s.As(who).VerifyAudit(bg, store.AuditEnd{}); n != 100 || err != nil {
		t.Errorf("after a rollback: %d rows, %v", n, err)
	}
}

// cutter stands between the store and the database and can cut connections at
// the worst moment.
type cutter struct {
	l        net.Listener
	to       string
	mu       sync.Mutex
	conns    []net.Conn
	atCommit atomic.Int32 // 1: cut before the commit arrives; 2: cut before its answer does; 3: cut at once, while it is on its way; 4: as 2, and nobody gets through for a second
	cuts     atomic.Int32
	shut     atomic.Int64 // until when nobody gets through, in Unix milliseconds
}

func newCutter(t *testing.T, dsn string) (*cutter, string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	head, rest, _ := strings.Cut(dsn, "@tcp(")
	addr, tail, _ := strings.Cut(rest, ")")
	c := &cutter{l: l, to: addr}
	go c.serve()
	return c, head + "@tcp(" + l.Addr().String() + ")" + tail
}

func (c *cutter) serve() {
	for {
		in, err := c.l.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", c.to)
		if err == nil && time.Now().UnixMilli() < c.shut.Load() {
			out.Close()
			err = errors.New("shut")
		}
		if err != nil {
			in.Close()
			continue
		}
		c.mu.Lock()
		c.conns = append(c.conns, in, out)
		c.mu.Unlock()
		var deaf atomic.Bool
		go func() {
			buf := make([]byte, 64<<10)
			for {
				n, err := in.Read(buf)
				if err != nil {
					out.Close()
					return
				}
				if bytes.HasSuffix(buf[:n], []byte("COMMIT")) {
					switch {
					case c.atCommit.CompareAndSwap(1, 0):
						c.cuts.Add(1)
						in.Close()
						out.Close()
						return
					case c.atCommit.CompareAndSwap(3, 0):
						c.cuts.Add(1)
						in.Close()
						time.Sleep(150 * time.Millisecond)
						_, _ = out.Write(buf[:n])
						time.Sleep(50 * time.Millisecond) // it is read before the end is
						out.Close()
						return
					case c.atCommit.CompareAndSwap(4, 0):
						c.cuts.Add(1)
						c.shut.Store(time.Now().Add(time.Second).UnixMilli())
						deaf.Store(true)
					case c.atCommit.CompareAndSwap(2, 0):
						c.cuts.Add(1)
						deaf.Store(true)
					}
				}
				if _, err := out.Write(buf[:n]); err != nil {
					return
				}
			}
		}()
		go func() {
			buf := make([]byte, 64<<10)
			for {
				n, err := out.Read(buf)
				if err != nil || deaf.Load() {
					in.Close()
					out.Close()
					return
				}
				if _, err := in.Write(buf[:n]); err != nil {
					return
				}
			}
		}()
	}
}

func (c *cutter) all() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range c.conns {
		x.Close()
	}
	c.conns = nil
}

// TestLostCommits: whether the connection is cut before the commit arrives, while
// it is on its way, or before its answer does, and whether or not the database
// can be asked at once what became of it, what was to be done is done exactly
// once.
func TestLostCommits(t *testing.T) {
	dsn := scratch.Database(t)
	open(t, dsn) // lays out the schema
	c, through := newCutter(t, dsn)
	s := open(t, through)
	for i, moment := range []int32{1, 2, 3, 4, 1, 3, 2, 3, 4} {
		c.atCommit.Store(moment)
		made := ""
		if err := s.Tx(bg, who, func(q *store.Q) error {
			made = store.NewID(time.Now())
			return q.Audit(bg, "did", made, "")
		}); err != nil {
			t.Fatalf("cut %d at moment %d: %v", i, moment, err)
		}
		// What was made in it is what was kept, and not of a run that came to nothing.
		if last, err := s.As(who).Deeds(bg, store.DeedFilter{}, 0, 1); err != nil || len(last) != 1 || last[0].Object != made {
			t.Fatalf("cut %d at moment %d: %s was made, kept is %+v, %v", i, moment, made, last, err)
		}
		if n, err := s.As(who).VerifyAudit(bg, store.AuditEnd{}); err != nil || n != int64(i+1) {
			t.Fatalf("cut %d at moment %d: done %d times in all, %v", i, moment, n, err)
		}
	}
	if c.cuts.Load() != 9 {
		t.Errorf("%d connections were cut", c.cuts.Load())
	}
	// All connections gone at once, while asking.
	c.all()
	if _, err := s.As(who).Devices(bg, ref.All()); err != nil {
		t.Errorf("asking after all connections went: %v", err)
	}
}

// TestOpenTwice: the second start changes nothing, and keys open what the first
// sealed.
func TestOpenTwice(t *testing.T) {
	dsn := scratch.Database(t)
	first, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	d := addDevice(t, first, "r1")
	first.Close()
	if e, err := store.Empty(bg, dsn); e || err != nil {
		t.Errorf("empty: %v, %v", e, err)
	}
	second, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	if got, err := second.As(who).Secret(bg, d); err != nil || got.Password != "hush" {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := store.Open(bg, dsn, seal.NewMaster(), time.Now); !errors.Is(err, store.ErrMasterKey) {
		t.Errorf("another key: %v", err)
	}
}

func TestIDsSortByTime(t *testing.T) {
	now := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	var ids []string
	for i := range 1000 {
		ids = append(ids, store.NewID(now.Add(time.Duration(i)*time.Millisecond)))
	}
	if !slices.IsSorted(ids) {
		t.Error("identifiers do not sort by time")
	}
	if len(ids[0]) != 16 {
		t.Errorf("%q is not 16 long", ids[0])
	}
	// Time alone makes none unique: those of one moment are told apart by chance.
	seen := map[string]bool{}
	for range 200 {
		seen[store.NewID(now)] = true
	}
	if len(seen) != 200 {
		t.Errorf("of 200 identifiers of one moment %d differ", len(seen))
	}
}

func TestNamesAreUnique(t *testing.T) {
	s := open(t, scratch.Database(t))
	d := addDevice(t, s, "r1")
	other := core.Device{Name: "r1", Tags: core.Words{}}
	if err := s.Tx(bg, who, func(q *store.Q) error { return q.AddDevice(bg, &other, &store.Secret{}) }); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second r1: %v", err)
	}
	var a, b core.Version
	tx(t, s, func(q *store.Q) (err error) { a, err = addVersion(q, d, "1\n"); return err })
	tx(t, s, func(q *store.Q) (err error) { b, err = addVersion(q, d, "2\n"); return err })
	a.Name, b.Name = "good", "good"
	tx(t, s, func(q *store.Q) error { return q.MarkVersion(bg, a) })
	if err := s.Tx(bg, who, func(q *store.Q) error { return q.MarkVersion(bg, b) }); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second good: %v", err)
	}
	tx(t, s, func(q *store.Q) error { return q.RemoveDevice(bg, d) })
	addDevice(t, s, "r1") // the name is free again
	if _, err := s.As(who).DeviceByID(bg, d.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the removed device: %v", err)
	}
}

// TestPagesOfDevices: by pages of any size, and after any name, one gets what one
// gets at once.
func TestPagesOfDevices(t *testing.T) {
	s := open(t, scratch.Database(t))
	for i := range 23 {
		d := core.Device{Name: fmt.Sprintf("r%02d", i), Site: []string{"quay", "pier", "mole"}[i%3], Kind: "router", Tags: core.Words{}}
		tx(t, s, func(q *store.Q) error { return q.AddDevice(bg, &d, &store.Secret{}) })
	}
	q := s.As(who)
	pier, err := ref.ParseSelector([]string{"site=pier"})
	if err != nil {
		t.Fatal(err)
	}
	names := func(ds []core.Device) (out []string) {
		for _, d := range ds {
			out = append(out, d.Name)
		}
		return out
	}
	for _, sel := range []ref.Selector{ref.All(), pier} {
		all, err := q.Devices(bg, sel)
		if err != nil || len(all) < 8 {
			t.Fatal(len(all), err)
		}
		for n := 1; n <= 24; n++ {
			var got []string
			for after, more := "", true; more; {
				var rows []core.Device
				if rows, more, err = q.DevicesAfter(bg, sel, after, n); err != nil || len(rows) > n || more && len(rows) < n {
					t.Fatal(len(rows), more, err)
				}
				if got = append(got, names(rows)...); more {
					after = rows[len(rows)-1].Name
				}
			}
			if !slices.Equal(got, names(all)) {
				t.Errorf("by %d: %v\nat once: %v", n, got, names(all))
			}
		}
		// A name that is gone meanwhile is a place all the same.
		if rows, _, err := q.DevicesAfter(bg, sel, "r11-gone", 100); err != nil || len(rows) == 0 || rows[0].Name < "r12" {
			t.Errorf("%v, %v", names(rows), err)
		}
	}
}

// TestHistories: after any sequence of new versions, marks, deletions and packing anew, every
// version that is listed reads back byte for byte, what is protected is there, and no content is
// left that no version has.
func TestHistories(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	for seed := range uint64(3) {
		r := rand.New(rand.NewPCG(seed, 3))
		d := addDevice(t, s, fmt.Sprintf("quay-%d", seed))
		lines := make([]string, 60)
		for i := range lines {
			lines[i] = fmt.Sprintf("lane %d note %x", i, r.Uint64())
		}
		texts, protected := map[string]string{}, map[string]bool{} // by version
		var ids []string
		for range 90 {
			switch r.IntN(10) {
			case 0, 1: // deleted, some of them
				var some []string
				for _, id := range ids {
					if r.IntN(3) == 0 {
						some = append(some, id)
					}
				}
				tx(t, s, func(q *store.Q) error { _, _, err := q.DeleteVersions(bg, d.ID, some); return err })
			case 2: // marked
				if len(ids) > 0 {
					id := ids[r.IntN(len(ids))]
					tx(t, s, func(q *store.Q) error {
						v, err := q.Version(bg, store.ByID(id))
						if errors.Is(err, store.ErrNotFound) {
							return nil
						}
						v.Pinned = true
						protected[id] = true
						return errors.Join(err, q.MarkVersion(bg, v))
					})
				}
			case 3: // packed anew
				rows, err := s.As(who).Loose(bg, "", 100)
				if err != nil {
					t.Fatal(err)
				}
				for _, v := range rows {
					tx(t, s, func(q *store.Q) error { _, err := q.Tighten(bg, v); return err })
				}
			default:
				if r.IntN(4) > 0 { // otherwise a text that returns
					lines[r.IntN(len(lines))] = fmt.Sprintf("lane %d note %x", r.IntN(99), r.Uint64())
				}
				text := strings.Join(lines, "\n")
				tx(t, s, func(q *store.Q) error {
					v, err := addVersion(q, d, text)
					texts[v.ID] = text
					ids = append(ids, v.ID)
					return err
				})
			}
		}
		listed, err := s.As(who).Versions(bg, d.ID, "running", 0, 1000)
		if err != nil || len(listed) == 0 {
			t.Fatalf("%d listed: %v", len(listed), err)
		}
		for i, v := range listed {
			delete(protected, v.ID)
			raw, err := s.As(who).Content(bg, v.ContentID)
			if err != nil || string(raw) != texts[v.ID] {
				t.Errorf("seed %d: version %d does not read back: %v", seed, v.Number, err)
			}
			if i == 0 && v.ID != ids[len(ids)-1] {
				t.Errorf("seed %d: the newest is gone", seed)
			}
		}
		if len(protected) > 0 {
			t.Errorf("seed %d: %d pinned ones are gone", seed, len(protected))
		}
	}
	db := raw(t, dsn)
	var orphans, deltas int
	if err := db.QueryRow("SELECT COUNT(*) FROM contents c WHERE NOT EXISTS (SELECT 1 FROM versions v WHERE v.content_id = c.id)").Scan(&orphans); err != nil || orphans > 0 {
		t.Errorf("%d contents that nobody has: %v", orphans, err)
	}
	if err := db.QueryRow("SELECT COUNT(*) FROM contents WHERE format = 2").Scan(&deltas); err != nil || deltas < 20 {
		t.Errorf("%d are packed against another: %v", deltas, err)
	}
}

// age takes away all that has had its time.
func age(q *store.Q, now time.Time, stay store.Stays) error {
	for _, a := range store.Ages(now, stay) {
		for more := true; more; {
			var err error
			if more, err = q.Aged(bg, a); err != nil {
				return err
			}
		}
	}
	return nil
}

// TestDeletingLooksAtLittle: what retention and age take away is found by keys, however much there
// is beside it.
func TestDeletingLooksAtLittle(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	db := raw(t, dsn)
	const many = 20_000
	d, now := addDevice(t, s, "quay"), time.Now().UTC()
	var ids []string
	tx(t, s, func(q *store.Q) error {
		ids = nil
		for i := range 4 {
			pull := core.Pull{ID: fmt.Sprint("pull", i), DeviceID: d.ID, JobID: fmt.Sprint("job", i), RequestedAt: now, TakenAt: &now, Reason: core.BySchedule, Result: "done"}
			v, err := addVersion(q, d, fmt.Sprint("lane ", i))
			if err := errors.Join(err, q.AddPull(bg, pull)); err != nil {
				return err
			}
			ids = append(ids, v.ID)
		}
		return nil
	})
	for _, statement := range []string{
		`UPDATE versions SET pull_id = CONCAT('pull', number - 1)`,
		`INSERT INTO versions (id, part_id, number, content_id, pull_id, fingerprint, taken_at, reason, actor, author, note, pinned, line_count, added, removed, dialect_rev, aside)
			SELECT CONCAT('v', seq), 'another', seq, content_id, CONCAT('p', seq), fingerprint, taken_at, reason, actor, author, note, pinned, line_count, added, removed, dialect_rev, aside
			FROM versions JOIN seq_1_to_20000 WHERE number = 4`,
		`INSERT INTO pulls (id, device_id, job_id, requested_at, reason, actor, dialect_rev, host, model, serial, software, result, trouble)
			SELECT CONCAT('p', seq), 'another', CONCAT('j', seq), requested_at, reason, actor, dialect_rev, host, model, serial, software, result, trouble
			FROM pulls JOIN seq_1_to_20000 WHERE id = 'pull3'`,
		`SET STATEMENT sql_mode = '' FOR INSERT INTO jobs (id, kind, device_id, device, state, outcome, summary, actor, actor_id, created_at, ended_at, request)
			SELECT CONCAT('q', seq), 'pull', '', '', 'ended', 'done', '', '', '', NOW() - INTERVAL 20 DAY, NOW() - INTERVAL 20 DAY, '' FROM seq_1_to_1000`,
		`SET STATEMENT sql_mode = '' FOR INSERT INTO jobs (id, kind, device_id, device, state, outcome, summary, actor, actor_id, created_at, ended_at, request)
			SELECT CONCAT('r', seq), 'pull', '', '', 'ended', 'done', '', '', '', NOW(), NOW(), '' FROM seq_1_to_20000`,
	} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	looked := func() (n int) {
		t.Helper()
		var name string
		for _, counter := range []string{"Handler_read_rnd_next", "Handler_read_next", "Handler_read_key"} {
			var one int
			if err := db.QueryRow("SHOW GLOBAL STATUS LIKE '"+counter+"'").Scan(&name, &one); err != nil {
				t.Fatal(err)
			}
			n += one
		}
		return n
	}
	const day = 24 * time.Hour
	stay := store.Stays{Quiet: 14 * day, Previews: 30 * day, Logs: 90 * day, Jobs: 400 * day}
	for _, x := range []struct {
		what string
		do   func(q *store.Q) error
		gone string // counts what should be gone
	}{
		{"two versions", func(q *store.Q) error { _, _, err := q.DeleteVersions(bg, d.ID, ids[:2]); return err }, "SELECT COUNT(*) FROM pulls WHERE id IN ('pull0', 'pull1')"},
		{"a thousand jobs", func(q *store.Q) error { return age(q, now, stay) }, "SELECT COUNT(*) FROM jobs WHERE id LIKE 'q%'"},
	} {
		before := looked()
		tx(t, s, x.do)
		if n := looked() - before; n > many/2 { // some rows for each thing that goes
			t.Errorf("to delete %s %d rows were looked at, of %d", x.what, n, many)
		}
		var left int
		if err := db.QueryRow(x.gone).Scan(&left); err != nil || left > 0 {
			t.Errorf("%s: %d are left, %v", x.what, left, err)
		}
	}
}

// TestChains: a text is read back through as many others as its number takes, more of them than
// one row tells and longer ones too; one that is gone in between is said, and not found is not damaged.
func TestChains(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	db := raw(t, dsn)
	r := rand.New(rand.NewPCG(1, 3))
	for size, lines := range map[string]int{"short": 50, "long": 12000} {
		d := addDevice(t, s, size)
		tx(t, s, func(q *store.Q) error { _, err := q.Part(bg, d.ID, "running", true); return err })
		var numbers []int
		for n := 4095; n > 0; n = pack.Base(n) {
			numbers = append(numbers, n)
		}
		slices.Reverse(numbers)
		text := make([]string, lines)
		for i := range text {
			text[i] = fmt.Sprintf("lane %d note %x", i, r.Uint64())
		}
		var kept []core.Version
		var texts []string
		for _, n := range numbers {
			if _, err := db.Exec("UPDATE parts SET last_number = ? WHERE device_id = ?", n-1, d.ID); err != nil {
				t.Fatal(err)
			}
			text[r.IntN(lines)] = fmt.Sprintf("lane at %d", n)
			texts = append(texts, strings.Join(text, "\n"))
			tx(t, s, func(q *store.Q) error {
				v, err := addVersion(q, d, texts[len(texts)-1])
				kept = append(kept, v)
				return err
			})
		}
		for i, v := range kept {
			if got, err := s.As(who).Content(bg, v.ContentID); err != nil || string(got) != texts[i] {
				t.Errorf("%s: number %d, after %d others: %v", size, numbers[i], i, err)
			}
			if as, got, err := s.As(who).VersionText(bg, store.ByNumber(d.ID, "running", numbers[i])); err != nil || string(got) != texts[i] || as.ID != v.ID || as.Size != len(got) {
				t.Errorf("%s: number %d, asked for with its text: %+v, %v", size, numbers[i], as, err)
			}
		}
		// Another device's first version, which takes one step by its number, has a text that takes many.
		other := addDevice(t, s, size+"-other")
		tx(t, s, func(q *store.Q) error { _, err := addVersion(q, other, texts[len(texts)-1]); return err })
		for _, pick := range []store.Pick{store.ByNumber(other.ID, "running", 1), store.Latest(other.ID, "running", 0)} {
			if v, got, err := s.As(who).VersionText(bg, pick); err != nil || string(got) != texts[len(texts)-1] || v.Device != other.Name || v.Number != 1 {
				t.Errorf("%s: a text that another device had: %+v, %v", size, v, err)
			}
		}
		if _, _, err := s.As(who).VersionText(bg, store.ByNumber(other.ID, "running", 2)); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: a version that is not there: %v", size, err)
		}
		addsUp(t, s, db)
		var depth int
		if err := db.QueryRow("SELECT depth FROM contents WHERE id = ?", kept[len(kept)-1].ContentID).Scan(&depth); err != nil || depth != len(kept)-1 || depth < 13 {
			t.Errorf("%s: the last builds on %d: %v", size, depth, err)
		}
		if _, err := db.Exec("DELETE FROM contents WHERE id = ?", kept[3].ContentID); err != nil {
			t.Fatal(err)
		}
		if _, err := s.As(who).Content(bg, kept[3].ContentID); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: gone: %v", size, err)
		}
		for _, v := range []core.Version{kept[4], kept[len(kept)-1]} {
			if _, err := s.As(who).Content(bg, v.ContentID); !errors.Is(err, store.ErrDamaged) {
				t.Errorf("%s: what %d builds on is gone: %v", size, v.Number, err)
			}
			if _, _, err := s.As(who).VersionText(bg, store.ByID(v.ID)); !errors.Is(err, store.ErrDamaged) {
				t.Errorf("%s: what %d builds on is gone, asked for with it: %v", size, v.Number, err)
			}
			if _, _, err := s.As(who).VersionText(bg, store.ByNumber(d.ID, "running", v.Number)); !errors.Is(err, store.ErrDamaged) {
				t.Errorf("%s: what %d builds on is gone, asked for by its number: %v", size, v.Number, err)
			}
		}
	}
}

// addsUp fails if what is kept is counted otherwise than by reading all of it, or if counting reads it.
func addsUp(t *testing.T, s *store.Store, db *sql.DB) {
	t.Helper()
	var n, bytes int64
	if err := db.QueryRow("SELECT COUNT(*), SUM(LENGTH(sealed)) FROM contents").Scan(&n, &bytes); err != nil {
		t.Fatal(err)
	}
	if gotN, gotBytes, err := s.As(who).ContentsCount(bg); err != nil || gotN != n || gotBytes != bytes {
		t.Errorf("counted %d texts of %d bytes, there are %d of %d: %v", gotN, gotBytes, n, bytes, err)
	}
	var plan string
	if err := db.QueryRow("EXPLAIN FORMAT=JSON SELECT COUNT(*), SUM(bytes) FROM contents").Scan(&plan); err != nil || !strings.Contains(plan, `"using_index": true`) {
		t.Errorf("counting reads the texts: %s %v", plan, err)
	}
}

// TestPieces: a large content is kept in pieces and reads back byte for byte, in constant memory;
// one that is alike shares most of them; what never became whole is cleared away; what was damaged
// is found and mended.
func TestPieces(t *testing.T) {
	dsn := scratch.Database(t)
	now := time.Now()
	s, err := store.Open(bg, dsn, master, func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	r := rand.New(rand.NewPCG(4, 5))
	first := make([]byte, 4<<20)
	for i := 0; i < len(first); i += 8 {
		binary.LittleEndian.PutUint64(first[i:], r.Uint64())
	}
	sink := func(content []byte, step int) store.Sunk {
		t.Helper()
		k := s.Sink(bg)
		for from := 0; from < len(content); from += step {
			if _, err := k.Write(content[from:min(from+step, len(content))]); err != nil {
				t.Fatal(err)
			}
		}
		x, err := k.Close()
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	db := raw(t, dsn)
	pieces := func() (n int) {
		t.Helper()
		if err := db.QueryRow("SELECT COUNT(*) FROM chunks").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	put := func(x store.Sunk) (id string) {
		t.Helper()
		tx(t, s, func(q *store.Q) (err error) { id, err = q.PutSunk(bg, x); return err })
		return id
	}
	reads := func(id string, want []byte) {
		t.Helper()
		var got bytes.Buffer
		if err := s.As(who).ContentTo(bg, id, &got); err != nil || !bytes.Equal(got.Bytes(), want) {
			t.Errorf("%.12s: %d bytes, %v", id, got.Len(), err)
		}
	}
	x := sink(first, 100_000)
	a := put(x)
	before := pieces()
	if before < 1 || before > 8 {
		t.Errorf("%d pieces", before)
	}
	reads(a, first)
	if again := put(sink(first, 1_777_777)); again != a || pieces() != before {
		t.Error("the same content is kept twice")
	}
	if got, err := s.As(who).Content(bg, a); err != nil || !bytes.Equal(got, first) {
		t.Errorf("in one piece: %v", err)
	}
	second := slices.Concat(first[:2<<20], []byte("something put in"), first[2<<20:])
	b := put(sink(second, 1<<20))
	if n := pieces() - before; n > 2 {
		t.Errorf("%d pieces are new", n)
	}
	reads(b, second)
	// Given up, or never put.
	k := s.Sink(bg)
	if _, err := k.Write(slices.Repeat([]byte("gone"), 1<<18)); err != nil {
		t.Fatal(err)
	}
	k.Drop()
	sink(slices.Repeat([]byte("never"), 1<<18), 1<<20)
	n := pieces()
	aged := func() {
		const ever = 100 * 365 * 24 * time.Hour
		tx(t, s, func(q *store.Q) error {
			return age(q, now, store.Stays{Quiet: ever, Previews: ever, Logs: ever, Jobs: ever})
		})
	}
	if aged(); pieces() != n {
		t.Error("what may still be coming was cleared away")
	}
	now = now.Add(25 * time.Hour)
	if aged(); pieces() >= n {
		t.Error("what never became whole is still there")
	}
	reads(a, first)
	reads(b, second)
	// Damaged: found, and mended by what was kept elsewhere.
	if _, err := db.Exec("UPDATE chunks SET sealed = INSERT(sealed, 60, 1, '~') WHERE id = (SELECT chunk_id FROM content_chunks WHERE content_id = ? AND seq = 0)", a); err != nil {
		t.Fatal(err)
	}
	if err := s.As(who).ContentTo(bg, a, io.Discard); !errors.Is(err, store.ErrDamaged) {
		t.Errorf("damaged: %v", err)
	}
	if err := s.MendSunk(bg, a, bytes.NewReader(first)); err != nil {
		t.Error(err)
	}
	reads(a, first)
	addsUp(t, s, raw(t, dsn))
	// Deleted: what the other has stays.
	tx(t, s, func(q *store.Q) error { _, _, err := q.DropContents(bg, []string{a}); return err })
	reads(b, second)
	tx(t, s, func(q *store.Q) error { _, _, err := q.DropContents(bg, []string{b}); return err })
	now = now.Add(25 * time.Hour)
	aged()
	if n := pieces(); n != 0 {
		t.Errorf("%d pieces are left", n)
	}
}

// TestFirstSetting: of many who are first at the same moment one is, and all read the same.
func TestFirstSetting(t *testing.T) {
	s := open(t, scratch.Database(t))
	var wg sync.WaitGroup
	got := make([]int, 8)
	for i := range got {
		wg.Go(func() {
			if err := s.Tx(bg, who, func(q *store.Q) error { return q.FirstSetting(bg, "first", i+1) }); err != nil {
				t.Error(err)
			}
			if _, _, err := s.As(who).Setting(bg, "first", &got[i]); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	for _, n := range got {
		if n == 0 || n != got[0] {
			t.Fatalf("%v", got)
		}
	}
}

// TestContentStays: a text that one transaction keeps while another deletes the last version that had it
// is there for the new one, whichever comes first.
func TestContentStays(t *testing.T) {
	s := open(t, scratch.Database(t))
	a, b := addDevice(t, s, "quay-a"), addDevice(t, s, "quay-b")
	for round := range 80 {
		text := fmt.Sprintf("name shared %d\n", round)
		var old, next core.Version
		tx(t, s, func(q *store.Q) (err error) { old, err = addVersion(q, a, text); return err })
		tx(t, s, func(q *store.Q) (err error) { _, err = addVersion(q, a, text+"newer\n"); return err }) // the newest is protected
		var both sync.WaitGroup
		both.Go(func() {
			tx(t, s, func(q *store.Q) error { _, _, err := q.DeleteVersions(bg, a.ID, []string{old.ID}); return err })
		})
		both.Go(func() {
			tx(t, s, func(q *store.Q) (err error) {
				next, err = addVersion(q, b, text)
				if round%2 == 0 {
					time.Sleep(2 * time.Millisecond)
				}
				return err
			})
		})
		both.Wait()
		if raw, err := s.As(who).Content(bg, next.ContentID); err != nil || string(raw) != text {
			t.Fatalf("round %d: the version that was kept has no text: %v", round, err)
		}
	}
	if lost, err := s.As(who).Dangling(bg, 10); err != nil || len(lost) > 0 {
		t.Errorf("%d versions without a text: %v", len(lost), err)
	}
}

// TestSwallowedConflict: a conflict whose error is swallowed does not let the rest of a transaction commit:
// it is run again. One that only asked writes nothing down.
func TestSwallowedConflict(t *testing.T) {
	dsn := scratch.Database(t)
	s := open(t, dsn)
	db := raw(t, dsn)
	a, b := addDevice(t, s, "quay-a"), addDevice(t, s, "quay-b")
	// Two transactions lock the two devices the other way round, again and again, and the second swallows what
	// becomes of it.
	runs := 0
	var both sync.WaitGroup
	for range 6 {
		both.Go(func() {
			tx(t, s, func(q *store.Q) error {
				if _, err := q.LockDevice(bg, a.ID, 0); err != nil {
					return err
				}
				time.Sleep(20 * time.Millisecond)
				_, err := q.LockDevice(bg, b.ID, 0)
				return err
			})
		})
		both.Go(func() {
			first := true
			tx(t, s, func(q *store.Q) error {
				if !first {
					runs++
				}
				first = false
				if err := q.Audit(bg, "before", "quay-b", ""); err != nil {
					return err
				}
				if _, err := q.LockDevice(bg, b.ID, 0); err != nil {
					return nil //nolint:nilerr // that is what is tried
				}
				time.Sleep(20 * time.Millisecond)
				_, _ = q.LockDevice(bg, a.ID, 0)
				_ = q.Audit(bg, "behind", "quay-b", "")
				return nil
			})
		})
		both.Wait()
	}
	var before, behind int
	if err := db.QueryRow("SELECT SUM(action = 'before'), SUM(action = 'behind') FROM audit WHERE object = 'quay-b'").Scan(&before, &behind); err != nil || before != 6 || behind != 6 {
		t.Errorf("%d and %d lines of 6 whole transactions, %d run again: %v", before, behind, runs, err)
	}
	var n, then int
	count := func(into *int) {
		if err := db.QueryRow("SELECT COUNT(*) FROM commits").Scan(into); err != nil {
			t.Fatal(err)
		}
	}
	count(&n)
	tx(t, s, func(q *store.Q) error { _, err := q.Device(bg, "quay-a"); return err })
	if count(&then); then != n {
		t.Error("a transaction that only asked wrote a row")
	}
}
