package yard_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/history"
	"magpie/internal/job"
	"magpie/internal/push"
	"magpie/internal/routine"
	"magpie/internal/scratch"
	"magpie/internal/sim/tern"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/yard"
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

var bg = context.Background()

// room asks again while the service says that there is no room: that is an answer, and changes nothing.
func room[T any](ask func() (T, error)) (T, error) {
	for {
		got, err := ask()
		if !errors.Is(err, store.ErrNoRoom) {
			return got, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// TestFaults has pulls, pushes in windows, undos, schedules, change triggers, retention and scrubs go on
// beside each other while the database fails, delays, cuts and loses answers by seed, and holds what came of
// it to the promises: nothing is lost, doubled, stuck, or said of a device that is not so. A seed that fails
// is run again by MAGPIE_SEED=N. MAGPIE_MATRIX=all runs a thousand; MAGPIE_SEEDS says how many from there on.
func TestFaults(t *testing.T) {
	first, count := uint64(1), uint64(4)
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		count = 1000
	}
	if one, err := strconv.ParseUint(os.Getenv("MAGPIE_SEED"), 10, 64); err == nil {
		first, count = one, 1
	}
	if more, err := strconv.ParseUint(os.Getenv("MAGPIE_SEEDS"), 10, 64); err == nil {
		count = more
	}
	for seed := first; seed < first+count; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			withFaults(t, seed)
		})
	}
}

func withFaults(t *testing.T, seed uint64) {
	f := scratch.NewFaults(seed)
	y := yard.New(t, 2, f.Through)
	y.LetRun()
	h := history.New(y.Visits, t.TempDir(), "test")
	daily := routine.New(y.Visits)
	y.Jobs.Start()
	who := store.User{Name: "admin", Role: core.Admin, Secrets: true}
	y.Tx(func(q *store.Q) error { return q.AddUser(bg, &who) })
	admin := core.Actor{ID: who.ID, Name: who.Name, Role: core.Admin, Secrets: true}
	var devices []core.Device
	for _, u := range y.Fleet.Units {
		devices = append(devices, y.Device(u.Name))
	}
	done := func(j core.Job, err error) core.Job {
		t.Helper()
		if err != nil {
			t.Error(err)
			return j
		}
		within, cancel := context.WithTimeout(bg, time.Minute)
		defer cancel()
		j, err = y.Jobs.Await(within, j.ID, nil)
		if err != nil {
			t.Errorf("job %s, a %s, is stuck: %s %q: %v", j.ID, j.Kind, j.State, j.Summary, err)
		}
		return j
	}
	for _, d := range devices {
		if j := done(y.Visits.PullNow(bg, admin, d, core.ByHand)); j.Outcome != core.Done {
			t.Fatal(j.Summary)
		}
	}

	pulls, asked := 0, sync.Mutex{}
	f.Rate(0.03)
	var all sync.WaitGroup
	all.Go(func() { // somebody changes the first device, and it is pulled
		for n := range 5 {
			if err := y.Fleet.Units[0].Amend("mwilks", []string{"lane quay1", fmt.Sprintf(`note "seed %d, %d"`, seed, n)}); err != nil {
				t.Error(err)
			}
			jobs, err := room(func() ([]core.Job, error) {
				return y.Visits.RequestPulls(bg, admin, devices[:1], core.ByHand, visit.Mark{}, store.KeyOf(admin, fmt.Sprint("pull ", n), "h"))
			})
			if err != nil || len(jobs) != 1 {
				t.Errorf("%d jobs, %v", len(jobs), err)
				continue
			}
			asked.Lock()
			pulls++
			asked.Unlock()
			if j := done(jobs[0], nil); j.Outcome != core.Done {
				t.Errorf("a pull ended %s: %s", j.Outcome, j.Summary)
			}
		}
	})
	outcomes := []string{}
	all.Go(func() { // the second is pushed to, in windows that are confirmed, undone, or confirm themselves
		for n, word := range []string{"confirm", "undo", ""} {
			if err := y.Fleet.Units[1].Amend("mwilks", []string{"lane quay1", fmt.Sprintf(`note "before push %d"`, n)}); err != nil {
				t.Error(err)
			}
			target, err := y.Read.Version(bg, admin, mustRef(t, devices[1].Name+"@1"))
			if err != nil {
				t.Error(err)
				return
			}
			made, err := room(func() (map[string]string, error) {
				_, made, err := y.Pushes.Previewed(bg, admin, y.Device(devices[1].Name), target, push.PreviewRequest{Method: "replace"}, fmt.Sprint("look ", n))
				return made, err
			})
			if err != nil {
				t.Errorf("preview: %v", err)
				return
			}
			req := push.Request{Within: time.Minute, WhenVerified: word == ""}
			j, err := room(func() (core.Job, error) {
				return y.Pushes.RequestPush(bg, admin, made["preview"], made["hash"], req, store.KeyOf(admin, fmt.Sprint("push ", n), "h"))
			})
			if err != nil {
				t.Errorf("push: %v", err)
				return
			}
			if word != "" {
				within, cancel := context.WithTimeout(bg, time.Minute)
				j, err = y.Jobs.Await(within, j.ID, func(j core.Job) bool { return j.State == core.Waiting && j.Awaits == "confirm" && j.Instance == "" })
				cancel()
				if err == nil && j.State != core.Ended {
					j, err = room(func() (core.Job, error) { return y.Jobs.Decide(bg, admin, j.ID, word, "") })
				}
			}
			if errors.Is(err, job.ErrTooLate) {
				err = nil
			}
			j = done(j, err)
			outcomes = append(outcomes, j.Outcome)
			want := map[string]string{"confirm": core.Verified, "undo": core.Undone, "": core.Verified}[word]
			runs := strings.Join(y.Fleet.Units[1].Status().Running, "\n")
			if there := strings.Contains(runs, fmt.Sprintf("before push %d", n)); j.Outcome != want || there != (j.Outcome == core.Undone) {
				t.Errorf("push %d ended %s: %s; the device runs what it ran before: %v", n, j.Outcome, j.Summary, there)
			}
		}
	})
	all.Go(func() { // the rest of a day
		for n := range 6 {
			if err := daily.Noticed(bg, devices[0], "mwilks", "test"); err != nil {
				t.Error(err)
			}
			if _, err := room(func() (bool, error) { return true, errors.Join(daily.Look(bg), daily.Tell(bg), h.Look(bg)) }); err != nil {
				t.Error(err)
			}
			j, err := room(func() (core.Job, error) {
				return y.Jobs.Queue(bg, admin, "scrub", store.NewJob{Job: core.Job{Kind: "scrub"}, Wants: struct{}{}, Key: store.KeyOf(admin, fmt.Sprint("scrub ", n), "h")}, "")
			})
			if j = done(j, err); j.Outcome != core.Done {
				t.Errorf("a scrub ended %s: %s", j.Outcome, j.Summary)
			}
			if n == 3 {
				f.Fill(300 * time.Millisecond)
			}
		}
	})
	all.Wait()
	f.Rate(0)
	promises(t, y, admin, devices, pulls)
	if t.Failed() {
		t.Logf("seed %d met with %v; pushes ended %v", seed, f.Did(), outcomes)
	}
}

// promises looks at everything from outside.
func promises(t *testing.T, y *yard.Yard, admin core.Actor, devices []core.Device, pulls int) {
	t.Helper()
	q := y.Read.Store.As(admin)
	if _, err := q.VerifyAudit(bg, store.AuditEnd{}); err != nil {
		t.Errorf("the audit log: %v", err)
	}
	for i, d := range devices {
		for _, part := range []string{"running", "startup"} {
			vs, err := q.Versions(bg, d.ID, part, 0, 1000)
			if err != nil {
				t.Fatal(err)
			}
			slices.Reverse(vs)
			for n, v := range vs {
				if v.Number != n+1 {
					t.Errorf("%s is the %dth", v.Ref(), n+1)
				}
				if _, err := q.Content(bg, v.ContentID); err != nil {
					t.Errorf("%s: %v", v.Ref(), err)
				}
			}
		}
		j, err := y.Visits.PullNow(bg, admin, d, core.ByHand)
		if err != nil || j.Outcome != core.Done {
			t.Errorf("%s cannot be pulled afterwards: %s, %v", d.Name, j.Summary, err)
		}
		_, raw, err := q.VersionText(bg, store.Latest(d.ID, "running", 0))
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range y.Fleet.Units[i].Status().Running {
			if !strings.Contains(string(raw), strings.TrimSpace(l)) {
				t.Errorf("%s runs %q, and its newest version does not say so", d.Name, l)
			}
		}
	}
	for what, query := range map[string]string{
		"jobs that are not at their end":      `SELECT COUNT(*) FROM jobs WHERE state <> 'ended'`,
		"jobs that say no outcome":            `SELECT COUNT(*) FROM jobs WHERE outcome = '' OR ended_at IS NULL`,
		"devices held by a job that is over":  `SELECT COUNT(*) FROM leases l JOIN jobs j ON j.id = l.job_id WHERE j.state = 'ended'`,
		"pushes that hold a device":           `SELECT COUNT(*) FROM claims`,
		"versions without a text":             `SELECT COUNT(*) FROM versions v LEFT JOIN contents c ON c.id = v.content_id WHERE c.id IS NULL`,
		"versions without a pull":             `SELECT COUNT(*) FROM versions v LEFT JOIN pulls p ON p.id = v.pull_id WHERE p.id IS NULL`,
		"parts that count otherwise":          `SELECT COUNT(*) FROM parts p WHERE last_number <> (SELECT COALESCE(MAX(number), 0) FROM versions v WHERE v.part_id = p.id)`,
		"lines of logs that are not in order": `SELECT COUNT(*) FROM (SELECT job_id FROM job_log GROUP BY job_id HAVING COUNT(*) <> MAX(seq) - MIN(seq) + 1) x`,
		"wrong sign-ins":                      `SELECT COUNT(*) FROM latches`,
		"seen intervals open besides the last": `SELECT COUNT(*) FROM (SELECT v.part_id FROM seen s JOIN versions v ON v.id = s.version_id WHERE s.open
			GROUP BY v.part_id HAVING COUNT(*) > 1) x`,
		"pulls by hand that were asked for and are not there": fmt.Sprintf(`SELECT %d - COUNT(*) FROM jobs WHERE kind = 'pull' AND idem_key LIKE 'u %% pull %%'`, pulls),
	} {
		if n := y.Column(query); n != "0" {
			t.Errorf("%s: %s", what, n)
		}
	}
}

func mustRef(t *testing.T, s string) ref.Version {
	t.Helper()
	r, err := ref.ParseVersion(s, ref.In(time.UTC, time.Now))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestLongOutage: a database that is away for longer than a minute costs no pull its end: what a device said is
// kept when it is back. It takes as long, so it runs with MAGPIE_MATRIX=all; otherwise the outage is short.
func TestLongOutage(t *testing.T) {
	span := 3 * time.Second
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		span = 75 * time.Second
	}
	t.Parallel()
	f := scratch.NewFaults(1)
	y := yard.New(t, 3, f.Through)
	y.LetRun()
	y.Jobs.Start()
	admin := core.Actor{ID: "a", Name: "admin", Role: core.Admin, Secrets: true}
	var devices []core.Device
	for _, u := range y.Fleet.Units {
		u.SetFaults(tern.Faults{SlowMS: 150})
		devices = append(devices, y.Device(u.Name))
	}
	jobs, err := y.Visits.RequestPulls(bg, admin, devices, core.ByHand, visit.Mark{}, store.Key{})
	if err != nil {
		t.Fatal(err)
	}
	for _, j := range jobs {
		if _, err := y.Jobs.Await(bg, j.ID, func(j core.Job) bool { return j.State == core.Running }); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(200 * time.Millisecond) // they talk to their devices
	f.Down(span)
	for _, j := range jobs {
		y.Ended(j)
	}
}
