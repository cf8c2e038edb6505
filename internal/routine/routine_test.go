package routine_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/routine"
	"magpie/internal/scratch"
	"magpie/internal/seal"
	"magpie/internal/store"
	"magpie/internal/visit"
)

var (
	bg    = context.Background()
	admin = core.Actor{ID: "admin00000000000", Name: "admin", Role: core.Admin, Secrets: true}
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

// clock is one that stands where it is put.
type clock struct{ at atomic.Int64 }

func (c *clock) now() time.Time  { return time.UnixMicro(c.at.Load()).UTC() }
func (c *clock) put(t time.Time) { c.at.Store(t.UnixMicro()) }

// desk is an instance whose schedules are due by a clock that is moved.
type desk struct {
	*routine.Service
	t    *testing.T
	jobs *job.Runtime
	dsn  string
}

// newDesk starts an instance; its schedules can have the bell rung, which takes no time.
func newDesk(t *testing.T, dsn, name string, master seal.Master, c *clock) *desk {
	t.Helper()
	st, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	jobs, err := job.New(bg, st, name, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	v, err := visit.New(bg, jobs.At(c.now), nil)
	if err != nil {
		t.Fatal(err)
	}
	d := &desk{routine.New(v), t, jobs.At(c.now), dsn}
	bell := job.Kind{Name: "bell", Role: core.Operator, Does: "rings", Step: func(_ context.Context, r *job.Run) { r.End(r.Job, r.Log, core.Done, "ding", nil) }}
	bell.Recurs = &job.Recurs{Takes: []string{"tone"}, Begin: func(ctx context.Context, due job.Due) ([]core.Job, error) {
		j, err := jobs.Queue(ctx, due.Actor, "bell", store.NewJob{Job: core.Job{Kind: "bell", Device: "all"}, Key: due.Key}, "rung")
		return []core.Job{j}, err
	}}
	d.jobs.Register(bell)
	return d
}

func (d *desk) devices(names ...string) {
	d.t.Helper()
	err := d.Store.Tx(bg, admin, func(q *store.Q) error {
		for i, n := range names {
			name, parent, _ := strings.Cut(n, "<")
			x := core.Device{Name: name, Address: fmt.Sprintf("192.0.2.%d", i+1), Port: 22, Kind: "router", Dialect: "none", Site: "quay"}
			if parent != "" {
				p, err := q.Device(bg, parent)
				if err != nil {
					return err
				}
				x.ParentID = p.ID
			}
			if err := q.AddDevice(bg, &x, &store.Secret{User: "u", Password: "p"}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		d.t.Fatal(err)
	}
}

func (d *desk) add(w routine.Wanted) store.Schedule {
	d.t.Helper()
	if w.Selector == "" {
		w.Selector = "all"
	}
	if w.Deeds == nil {
		w.Deeds = []routine.Deed{{Kind: "bell"}}
	}
	x, err := d.Save(bg, admin, "", w)
	if err != nil {
		d.t.Fatal(err)
	}
	return x
}

// TestYear: a year of schedules in three zones, with both changes of clocks, a week in which
// nobody was there, and two instances that look at once. The agenda says for each that it
// was due exactly as often as it says.
func TestYear(t *testing.T) {
	dsn, master, c := scratch.Database(t), seal.NewMaster(), &clock{}
	c.put(time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC))
	one, two := newDesk(t, dsn, "one", master, c), newDesk(t, dsn, "two", master, c)
	one.devices("skerrinsay-r1")
	zones := []string{"Atlantic/Faroe", "America/Santiago", "Australia/Lord_Howe"}
	for _, z := range zones {
		one.add(routine.Wanted{Name: "nightly-" + strings.ToLower(z[strings.Index(z, "/")+1:]), Rule: "daily 01:30", Zone: z})
	}
	one.add(routine.Wanted{Name: "monthly", Rule: "monthly last 23:00", Zone: zones[0]})
	one.add(routine.Wanted{Name: "weekdays", Rule: "cron 30 6 * * 1-5", Zone: zones[1]})
	one.add(routine.Wanted{Name: "often", Rule: "every 36h", Zone: zones[2], Blackouts: []string{"weekly sat 00:00 for 2d"}})
	begin, end := c.now(), time.Date(2027, 12, 1, 8, 0, 0, 0, time.UTC)
	away := [2]time.Time{time.Date(2027, 6, 7, 12, 0, 0, 0, time.UTC), time.Date(2027, 6, 14, 12, 0, 0, 0, time.UTC)}
	for n := 0; c.now().Before(end); n++ {
		due, err := one.Store.As(admin).DueSchedules(bg, end, 1)
		if err != nil {
			t.Fatal(err)
		}
		if len(due) == 0 || due[0].NextAt.After(end) {
			break
		}
		at := *due[0].NextAt
		if at.After(away[0]) && at.Before(away[1]) {
			at = away[1]
		}
		c.put(at.Add(time.Second))
		var both sync.WaitGroup
		for _, d := range []*desk{one, two} { // which of them has it is nobody's business
			both.Go(func() {
				if err := d.Look(bg); err != nil {
					t.Error(err)
				}
			})
			if n%7 > 0 {
				break
			}
		}
		both.Wait()
		// Its job is done, as far as the schedule cares.
		if err := one.Store.Tx(bg, job.Service, func(q *store.Q) error {
			jobs, err := q.Jobs(bg, store.JobFilter{State: core.Queued, Limit: 20})
			for _, j := range jobs {
				err = errors.Join(err, q.EndJob(bg, j.ID, core.Done, "ding", nil))
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	c.put(end)
	type tally struct{ done, left, missed, total int }
	got := map[string]*tally{}
	for from := begin; from.Before(end); from = from.AddDate(0, 1, 0) { // as a person would page through it
		until := from.AddDate(0, 1, 0).Add(-time.Millisecond)
		items, err := one.Agenda(bg, from, until)
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range items {
			if i.Future {
				continue
			}
			n := got[i.Schedule]
			if n == nil {
				n = &tally{}
				got[i.Schedule] = n
			}
			n.total++
			n.missed += i.Missed
			switch i.State {
			case core.Done:
				n.done++
			case "left out":
				n.left++
			default:
				t.Errorf("%s, due %s: %s: %s", i.Schedule, i.At, i.State, i.Summary)
			}
		}
	}
	// A week away: seven nights are missed, the last of them made up at once.
	for name, want := range map[string]tally{
		"nightly-faroe":     {done: 365 - 6, missed: 7, total: 365 - 6},
		"nightly-santiago":  {done: 365 - 6, missed: 7, total: 365 - 6},
		"nightly-lord_howe": {done: 365 - 6, missed: 7, total: 365 - 6},
		"monthly":           {done: 12, total: 12},
		"often":             {done: 170, left: 69, missed: 5, total: 243 - 4}, // of every seven of which two fall on a weekend
		"weekdays":          {done: 261 - 4, missed: 5, total: 261 - 4},
	} {
		n := got[name]
		if n == nil || *n != want {
			t.Errorf("%s: %+v, expected %+v", name, n, want)
		}
	}
}

// TestAgendaOfADay: a day to come begins with what is due at its first moment, and what is
// due at one time stands in the order of its names.
func TestAgendaOfADay(t *testing.T) {
	c := &clock{}
	c.put(time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC))
	d := newDesk(t, scratch.Database(t), "one", seal.NewMaster(), c)
	d.devices("skerrinsay-r1")
	d.add(routine.Wanted{Name: "b", Rule: "every 12h", Zone: "UTC"})
	d.add(routine.Wanted{Name: "a", Rule: "daily 00:00", Zone: "UTC"})
	for day, want := range map[int]string{1: "b 12:00", 2: "a 00:00, b 00:00, b 12:00"} {
		from := time.Date(2026, 12, day, 0, 0, 0, 0, time.UTC)
		items, err := d.Agenda(bg, from, from.Add(24*time.Hour-time.Millisecond))
		var got []string
		for _, i := range items {
			got = append(got, i.Schedule+" "+i.At.Format("15:04"))
		}
		if err != nil || strings.Join(got, ", ") != want {
			t.Errorf("day %d: %v, %v, expected %s", day, got, err, want)
		}
	}
}

// TestStorm: however often a device is said to have changed, it is pulled once it is quiet,
// and once in five minutes while it is not; what is said last counts.
func TestStorm(t *testing.T) {
	c := &clock{}
	c.put(time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC))
	d := newDesk(t, scratch.Database(t), "one", seal.NewMaster(), c)
	d.devices("skerrinsay-r1", "skerrinsay-r2")
	device := func(name string) core.Device {
		x, err := d.Store.As(admin).Device(bg, name)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	r1, r2 := device("skerrinsay-r1"), device("skerrinsay-r2")
	pulls := func() (n int) {
		t.Helper()
		if err := d.Look(bg); err != nil {
			t.Fatal(err)
		}
		jobs, err := d.Store.As(admin).Jobs(bg, store.JobFilter{Kind: "pull", Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, j := range jobs {
			if j.Actor != "change trigger" {
				t.Errorf("asked for by %s", j.Actor)
			}
		}
		return len(jobs)
	}
	say := func(x core.Device, who string, times int) {
		t.Helper()
		for range times {
			if err := d.Noticed(bg, x, who, "test"); err != nil {
				t.Fatal(err)
			}
		}
	}
	say(r1, "mwilks", 5000)
	say(r2, "", 1)
	if n := pulls(); n != 0 {
		t.Errorf("%d pulls while it is not quiet", n)
	}
	c.put(c.now().Add(29 * time.Second))
	say(r1, "okonkwo", 1)
	if n := pulls(); n != 0 {
		t.Errorf("%d pulls after 29 seconds", n)
	}
	c.put(c.now().Add(2 * time.Second))
	if n := pulls(); n != 1 {
		t.Errorf("%d pulls after 31 seconds: of the one that is quiet", n)
	}
	c.put(c.now().Add(30 * time.Second))
	if n := pulls(); n != 2 {
		t.Errorf("%d pulls once both are quiet", n)
	}
	jobs, err := d.Store.As(admin).Jobs(bg, store.JobFilter{Kind: "pull", Device: r1.Name, Limit: 1})
	var asked visit.PullRequest
	if err == nil {
		err = d.Store.As(job.Service).OpenRequest(jobs[0], &asked)
	}
	if err != nil || asked.Author != "okonkwo" || asked.Reason != core.ByNotice {
		t.Errorf("%+v, %v", asked, err)
	}
	// Never quiet: after five minutes all the same.
	for range 35 {
		say(r1, "mwilks", 3)
		c.put(c.now().Add(10 * time.Second))
		pulls()
	}
	if n := pulls(); n != 3 {
		t.Errorf("%d pulls in six minutes without quiet", n-2)
	}
}

// TestEditsBesideEachOther: who pauses a schedule takes nothing back of what somebody else says of it at that
// moment.
func TestEditsBesideEachOther(t *testing.T) {
	c := &clock{}
	c.put(time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC))
	d := newDesk(t, scratch.Database(t), "one", seal.NewMaster(), c)
	d.devices("skerrinsay-r1")
	d.add(routine.Wanted{Name: "nightly", Rule: "daily 02:00", Zone: "UTC"})
	for round := range 25 {
		paused := round%2 == 0
		note := fmt.Sprint("round ", round)
		var both sync.WaitGroup
		both.Go(func() {
			if _, err := d.Pause(bg, admin, "nightly", paused); err != nil {
				t.Error(err)
			}
		})
		both.Go(func() {
			if _, err := d.Save(bg, admin, "nightly", routine.Wanted{Name: "nightly", Rule: "daily 03:00", Zone: "UTC", Selector: "all", Deeds: []routine.Deed{{Kind: "bell"}}, Note: note}); err != nil {
				t.Error(err)
			}
		})
		both.Wait()
		x, err := d.Store.As(admin).Schedule(bg, "nightly")
		if err != nil || x.Note != note || x.Rule != "daily 03:00" {
			t.Fatalf("%s: %s, note %q, %v", note, x.Rule, x.Note, err)
		}
	}
}
