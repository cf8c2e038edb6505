package job_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/scratch"
	"magpie/internal/seal"
	"magpie/internal/store"
)

var (
	bg  = context.Background()
	who = core.Actor{ID: "okonkwo000000000", Name: "okonkwo", Role: core.Operator}
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

func open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(bg, scratch.Database(t), seal.NewMaster(), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// start starts an instance that knows these kinds.
func start(t testing.TB, st *store.Store, instance string, kinds ...job.Kind) *job.Runtime {
	t.Helper()
	r, err := job.New(bg, st, instance, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	r.Register(kinds...)
	r.Start()
	return r
}

func ask(t testing.TB, r *job.Runtime, kind string) core.Job {
	t.Helper()
	j, err := r.Queue(bg, who, kind, store.NewJob{Job: core.Job{Kind: kind, Device: "quay"}, Wants: "tea"}, "for a test")
	if err != nil {
		t.Fatal(err)
	}
	return j
}

func until(t testing.TB, r *job.Runtime, id string, is func(core.Job) bool) core.Job {
	t.Helper()
	ctx, cancel := context.WithTimeout(bg, 30*time.Second)
	defer cancel()
	j, err := r.Await(ctx, id, is)
	if err != nil {
		t.Fatalf("job %s is %s %s: %s: %v", j.ID, j.State, j.Outcome, j.Summary, err)
	}
	return j
}

func end(t testing.TB, r *job.Runtime, id string) core.Job {
	t.Helper()
	j := until(t, r, id, nil)
	if j.State != core.Ended {
		t.Fatalf("%+v", j)
	}
	return j
}

// kettle is a kind that a test registers in one call: it waits to be told to pour,
// and says what it was told.
func kettle(let *atomic.Int32) job.Kind {
	return job.Kind{Name: "kettle", Role: core.Operator, Does: "makes tea", Awaits: []job.Wait{{For: "word", Means: "a word", Words: []job.Word{{Say: "pour"}, {Say: "leave"}}}},
		May: func(_ context.Context, _ *store.Q, actor core.Actor, _ core.Job, word, seen string) error {
			if word == "pour" && seen != "steam" {
				return errors.New("it does not boil yet")
			}
			return nil
		},
		Step: func(_ context.Context, r *job.Run) {
			switch {
			case r.Job.Cancel:
				r.End(r.Job, r.Log, core.Cancelled, "left alone", nil)
			case r.Job.Decision != "":
				r.End(r.Job, r.Log, core.Done, r.Job.DecidedBy+" said "+r.Job.Decision, nil)
			default:
				r.Log.Step("on the fire")
				r.Park("word", nil, "it sings", nil)
			}
		},
		End: func(context.Context, *store.Q, core.Job, string) error { let.Add(1); return nil },
	}
}

// TestOneCallMakesAKind: what is registered can be asked for, waits, is answered
// by its own words only, is cancelled, and lets go what it holds at every end.
func TestOneCallMakesAKind(t *testing.T) {
	var let atomic.Int32
	st := open(t)
	r := start(t, st, "one", kettle(&let))
	defer r.Stop(time.Second)
	if !slices.Equal(r.KindNames(), []string{"kettle"}) || !slices.Equal(job.Words(r.Kinds()), []job.Word{{Say: "leave"}, {Say: "pour"}}) {
		t.Errorf("%v, %v", r.KindNames(), job.Words(r.Kinds()))
	}
	waits := func(j core.Job) bool { return j.State == core.Waiting }
	j := until(t, r, ask(t, r, "kettle").ID, waits)
	for _, c := range []struct{ word, seen, says string }{{"confirm", "", "which is answered by pour or leave"}, {"pour", "", "does not boil yet"}} {
		if _, err := r.Decide(bg, who, j.ID, c.word, c.seen); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.word, err)
		}
	}
	if _, err := r.Decide(bg, who, j.ID, "pour", "steam"); err != nil {
		t.Fatal(err)
	}
	if j = end(t, r, j.ID); j.Outcome != core.Done || j.Summary != "okonkwo said pour" || let.Load() != 1 {
		t.Errorf("%+v, let go %d times", j, let.Load())
	}
	if _, err := r.Decide(bg, who, j.ID, "leave", ""); !errors.Is(err, job.ErrTooLate) || !strings.Contains(err.Error(), "it ended done") {
		t.Errorf("said too late: %v", err)
	}
	j = until(t, r, ask(t, r, "kettle").ID, waits)
	if _, err := r.Cancel(bg, who, j.ID); err != nil {
		t.Fatal(err)
	}
	if j = end(t, r, j.ID); j.Outcome != core.Cancelled || let.Load() != 2 {
		t.Errorf("%+v, let go %d times", j, let.Load())
	}
	if _, err := r.Cancel(bg, who, j.ID); !errors.Is(err, job.ErrEnded) {
		t.Errorf("cancelled twice: %v", err)
	}
	log, err := st.As(who).Entries(bg, j.ID, 0, 10)
	if err != nil || len(log) < 2 || log[0].Text != "on the fire" || log[len(log)-1].Kind != "end" {
		t.Errorf("%+v, %v", log, err)
	}
	// Of a kind that this program does not know it says so.
	if j := end(t, r, ask(t, r, "teapot").ID); j.Outcome != core.Failed || !strings.Contains(j.Summary, `no job of kind "teapot"`) {
		t.Errorf("%+v", j)
	}
}

// TestWordsArePassedOn: a word to a job that began others goes to those that wait
// for it; where none does, it is too late.
func TestWordsArePassedOn(t *testing.T) {
	var let atomic.Int32
	st := open(t)
	var begun []string
	r := start(t, st, "one", kettle(&let), job.Kind{Name: "party", Role: core.Operator, Does: "has many for tea",
		Passes: func(*store.Q, core.Job) ([]string, error) { return begun, nil },
		Step:   func(_ context.Context, r *job.Run) { r.End(r.Job, r.Log, core.Done, "all are here", nil) }})
	defer r.Stop(time.Second)
	party := end(t, r, ask(t, r, "party").ID)
	for range 3 {
		j := until(t, r, ask(t, r, "kettle").ID, func(j core.Job) bool { return j.State == core.Waiting })
		begun = append(begun, j.ID)
	}
	if _, err := r.Decide(bg, core.Actor{Name: "lookout", Role: core.Reader}, party.ID, "leave", ""); !errors.Is(err, job.ErrRole) {
		t.Errorf("said by a reader: %v", err)
	}
	if _, err := r.Decide(bg, who, begun[0], "leave", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Decide(bg, who, party.ID, "pour", "steam"); err != nil {
		t.Fatal(err)
	}
	for i, id := range begun {
		if j, said := end(t, r, id), []string{"leave", "pour", "pour"}[i]; j.Summary != "okonkwo said "+said {
			t.Errorf("kettle %d: %s", i, j.Summary)
		}
	}
	if _, err := r.Decide(bg, who, party.ID, "pour", "steam"); !errors.Is(err, job.ErrTooLate) || !strings.Contains(err.Error(), "this party began") {
		t.Errorf("said too late: %v", err)
	}
}

// TestCancelledBeforeItBegan lets go what the asking held.
func TestCancelledBeforeItBegan(t *testing.T) {
	var let atomic.Int32
	st := open(t)
	r, err := job.New(bg, st, "one", time.Now) // takes nothing
	if err != nil {
		t.Fatal(err)
	}
	r.Register(kettle(&let))
	j := ask(t, r, "kettle")
	if _, err := r.AtOnce(bg, who, store.NewJob{Job: core.Job{Kind: "kettle", Device: "quay"}}); !errors.Is(err, job.ErrNoHeart) {
		t.Errorf("without a heartbeat work is begun that will wait for one: %v", err)
	}
	if j, err = r.Cancel(bg, who, j.ID); err != nil || j.State != core.Ended || let.Load() != 1 {
		t.Errorf("%+v, %v, let go %d times", j, err, let.Load())
	}
}

// TestBreakdownLetsGo: a kind that breaks down ends its job and lets go.
func TestBreakdownLetsGo(t *testing.T) {
	var let atomic.Int32
	st := open(t)
	r := start(t, st, "one", job.Kind{Name: "broken", Visits: true, Step: func(context.Context, *job.Run) { panic("a defect, for a test") },
		End: func(_ context.Context, _ *store.Q, _ core.Job, outcome string) error {
			if outcome == core.Failed {
				let.Add(1)
			}
			return nil
		}})
	defer r.Stop(time.Second)
	if j := end(t, r, ask(t, r, "broken").ID); j.Outcome != core.Failed || !strings.Contains(j.Summary, "defect of ours") || let.Load() != 1 {
		t.Errorf("%+v, let go %d times", j, let.Load())
	}
}

// TestTakenUp: work of an instance that died is taken up by its next incarnation, so
// often as its kind says and no oftener; what has no such bound goes on for ever.
func TestTakenUp(t *testing.T) {
	st := open(t)
	var mu sync.Mutex
	begun := map[string]int{}
	hangs := func(name string, tries int) job.Kind {
		return job.Kind{Name: name, Visits: true, Tries: tries, Step: func(ctx context.Context, r *job.Run) {
			mu.Lock()
			begun[name]++
			mu.Unlock()
			<-ctx.Done() // and leaves it, as a program does that is killed
		}}
	}
	count := func(name string) int { mu.Lock(); defer mu.Unlock(); return begun[name] }
	kinds := []job.Kind{hangs("thrice", 3), hangs("owed", 0)}
	r := start(t, st, "one", kinds...)
	thrice, owed := ask(t, r, "thrice"), ask(t, r, "owed")
	for incarnation := 1; incarnation <= 5; incarnation++ {
		end := time.Now().Add(20 * time.Second)
		for (count("owed") < incarnation || incarnation <= 3 && count("thrice") < incarnation) && time.Now().Before(end) {
			time.Sleep(5 * time.Millisecond)
		}
		if count("owed") != incarnation || count("thrice") != min(incarnation, 3) {
			t.Fatalf("in incarnation %d: begun %v", incarnation, begun)
		}
		r.Stop(0)
		r = start(t, st, "one", kinds...)
	}
	defer r.Stop(0)
	if j := end(t, r, thrice.ID); j.Outcome != core.Failed || !strings.Contains(j.Summary, "begun 3 times") {
		t.Errorf("%+v", j)
	}
	if j, err := st.As(who).Job(bg, owed.ID); err != nil || j.State == core.Ended {
		t.Errorf("what is owed ended %s: %s, %v", j.Outcome, j.Summary, err)
	}
}

// TestStaleEndCountsForNothing: whoever lost a job to another instance writes
// nothing more of it, nor of anything in the same breath.
func TestStaleEndCountsForNothing(t *testing.T) {
	st := open(t)
	at, goOn := make(chan core.Job), make(chan struct{})
	wrote := false
	r := start(t, st, "one", job.Kind{Name: "slow", Visits: true, Step: func(_ context.Context, r *job.Run) {
		at <- r.Job
		<-goOn
		r.Warn("stale")
		r.End(r.Job, r.Log, core.Failed, "stale", nil, func(*store.Q) error { wrote = true; return nil })
	}})
	defer r.Stop(time.Second)
	ask(t, r, "slow")
	j := <-at
	// Another instance takes it over, and ends it well.
	if err := st.Tx(bg, job.Service, func(q *store.Q) error {
		if mine, err := q.AdoptJob(bg, &j, "two", "elsewhere", core.Running); err != nil || !mine {
			t.Errorf("%v, %v", mine, err)
		}
		return q.EndJob(bg, j.ID, core.Done, "by another", nil)
	}); err != nil {
		t.Fatal(err)
	}
	close(goOn)
	r.Stop(5 * time.Second)
	j, err := st.As(who).Job(bg, j.ID)
	log, err2 := st.As(who).Entries(bg, j.ID, 0, 10)
	if err != nil || err2 != nil || j.Outcome != core.Done || j.Summary != "by another" || wrote || len(log) != 0 {
		t.Errorf("%+v, wrote %v, log %+v, %v, %v", j, wrote, log, err, err2)
	}
}

// TestSessions: no more jobs that visit devices run at a time than may; those that
// only wait for others do not count.
func TestSessions(t *testing.T) {
	st := open(t)
	var now, most atomic.Int32
	gate := make(chan struct{})
	r, err := job.New(bg, st, "one", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	r.SetSessions(3)
	r.Register(job.Kind{Name: "visit", Visits: true, Step: func(_ context.Context, r *job.Run) {
		most.Store(max(most.Load(), now.Add(1)))
		<-gate
		now.Add(-1)
		r.End(r.Job, r.Log, core.Done, "", nil)
	}}, job.Kind{Name: "waiter", Step: func(ctx context.Context, r *job.Run) {
		var id string
		_ = r.Store.As(who).OpenRequest(r.Job, &id)
		_, _ = r.Await(ctx, id, nil)
		r.End(r.Job, r.Log, core.Done, "", nil)
	}})
	r.Start()
	defer r.Stop(time.Second)
	var ids []string
	for range 8 {
		v := ask(t, r, "visit")
		w, err := r.Queue(bg, who, "wait", store.NewJob{Job: core.Job{Kind: "waiter"}, Wants: v.ID}, "")
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, v.ID, w.ID)
	}
	for end := time.Now().Add(20 * time.Second); now.Load() < 3 && time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
	for range 8 {
		gate <- struct{}{}
	}
	for _, id := range ids {
		end(t, r, id)
	}
	if most.Load() != 3 {
		t.Errorf("%d at a time", most.Load())
	}
}

// TestRegisteredTwice is a mistake of ours that shows at once.
func TestRegisteredTwice(t *testing.T) {
	r, err := job.New(bg, open(t), "one", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	for what, kinds := range map[string][]job.Kind{"twice": {{Name: "a", Step: func(context.Context, *job.Run) {}}, {Name: "a", Step: func(context.Context, *job.Run) {}}}, "without a step": {{Name: "b"}}} {
		func() {
			defer func() {
				if recover() == nil {
					t.Errorf("%s: nothing was said", what)
				}
			}()
			r.Register(kinds...)
		}()
	}
}

// TestNobodyWaitsForTheSilent: devices that failed lately, and take long, hold no
// more than their share of the sessions, so that good ones go on meanwhile.
func TestNobodyWaitsForTheSilent(t *testing.T) {
	st := open(t)
	hang := make(chan struct{})
	silent := map[string]bool{}
	r, err := job.New(bg, st, "one", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	r.SetSessions(6)
	r.Register(job.Kind{Name: "look", Role: core.Operator, Visits: true, Yields: true, Step: func(_ context.Context, r *job.Run) {
		if silent[r.Job.Device] {
			<-hang
		}
		r.End(r.Job, r.Log, core.Done, "seen", nil)
	}})
	var ids []string
	for i := range 40 {
		d := core.Device{Name: fmt.Sprintf("quay-%02d", i), Address: fmt.Sprintf("192.0.2.%d", i), Port: 22, Dialect: "tern", Kind: "router"}
		if err := st.Tx(bg, job.Service, func(q *store.Q) error {
			if err := q.AddDevice(bg, &d, &store.Secret{User: "u"}); err != nil {
				return err
			}
			if d.State = core.InSync; i < 30 {
				d.State = core.Unreachable
			}
			return q.SetStanding(bg, d)
		}); err != nil {
			t.Fatal(err)
		}
		silent[d.Name] = i < 30
		j, err := r.Queue(bg, who, "look", store.NewJob{Job: core.Job{Kind: "look", DeviceID: d.ID, Device: d.Name}, Wants: ""}, "for a test")
		if err != nil {
			t.Fatal(err)
		}
		if i >= 30 {
			ids = append(ids, j.ID)
		}
	}
	r.Start()
	defer r.Stop(time.Second)
	defer close(hang)
	for _, id := range ids { // the silent ones were asked for first, and never answer
		end(t, r, id)
	}
}

// TestDatabaseComesBack: an instance whose database was away for longer than others
// believe in it takes no job before its heart beats again, and then does those that
// came meanwhile.
func TestDatabaseComesBack(t *testing.T) {
	direct := scratch.Database(t)
	g, dsn := scratch.NewGate(t, direct)
	master := seal.NewMaster()
	through, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer through.Close()
	beside, err := store.Open(bg, direct, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer beside.Close()
	errand := job.Kind{Name: "errand", Role: core.Operator, Does: "runs an errand", Visits: true, Tries: 1,
		Step: func(_ context.Context, r *job.Run) {
			if err := r.Sure(); err != nil { // asked before every line that is sent
				r.End(r.Job, r.Log, core.Failed, err.Error(), nil)
				return
			}
			r.End(r.Job, r.Log, core.Done, "ran", nil)
		}}
	r := start(t, through, "one", errand)
	defer r.Stop(time.Second)
	end(t, r, ask(t, r, "errand").ID)
	g.Shut()
	time.Sleep(11 * time.Second) // longer than an instance may go without a beat before it sends nothing more
	if r.Sure() == nil {
		t.Fatal("it believes in itself without a beat")
	}
	other, err := job.New(bg, beside, "two", time.Now) // takes nothing, but may be asked
	if err != nil {
		t.Fatal(err)
	}
	other.Register(errand)
	var asked []core.Job
	for range 8 {
		asked = append(asked, ask(t, other, "errand"))
	}
	// Its beat comes late, by another's lock.
	db, err := sql.Open("mysql", direct)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	lock, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := lock.Exec("UPDATE instances SET beat = beat WHERE id = 'one'"); err != nil {
		t.Fatal(err)
	}
	g.Open()
	time.Sleep(3 * time.Second) // it looks for work twice a second
	if err := lock.Rollback(); err != nil {
		t.Fatal(err)
	}
	for _, j := range asked {
		if j = end(t, other, j.ID); j.Outcome != core.Done || j.Tries != 1 {
			t.Errorf("%s, begun %d times: %s", j.Outcome, j.Tries, j.Summary)
		}
	}
}

// TestAtOnceIsOurs: whoever looks for work that was left, over and over, finds none in what is begun
// at once; and nothing that a job wrote comes after its end.
func TestAtOnceIsOurs(t *testing.T) {
	st := open(t)
	r, err := job.New(bg, st, "one", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	r.Register(job.Kind{Name: "brew", Tries: 3, Step: func(_ context.Context, run *job.Run) {
		run.Log.Info("on the fire")
		run.End(run.Job, run.Log, core.Done, "", nil)
	}})
	r.Alive()
	defer r.Stop(time.Second)
	looking, stop := context.WithCancel(bg)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for looking.Err() == nil {
				job.Recover(r, bg)
			}
		})
		all.Go(func() { // so that the others are held up now and then
			for looking.Err() == nil {
			}
		})
	}
	var some sync.WaitGroup
	for range 32 {
		some.Go(func() {
			for range 5 {
				j, err := r.AtOnce(bg, job.Service, store.NewJob{Job: core.Job{Kind: "brew"}, Wants: ""})
				if err != nil || j.Outcome != core.Done || j.Tries != 1 {
					t.Errorf("tried %d times: %q, %v", j.Tries, j.Outcome, err)
				}
			}
		})
	}
	some.Wait()
	stop()
	all.Wait()
}

// TestLogFlowsAgain: lines of a log that could not be written flow again by themselves once they can; a line
// that is to be looked at keeps a log from being cut down to its end, written or not.
func TestLogFlowsAgain(t *testing.T) {
	dsn := scratch.Database(t)
	st, err := store.Open(bg, dsn, seal.NewMaster(), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	said, goOn := make(chan struct{}), make(chan struct{})
	r := start(t, st, "one", job.Kind{Name: "errand", Role: core.Operator, Does: "runs an errand",
		Step: func(ctx context.Context, r *job.Run) {
			r.Log.Warn("the quay is wet")
			r.Log.Flush()
			said <- struct{}{}
			<-goOn
			r.Log.Info("at the harbour")
			said <- struct{}{}
			<-goOn
			if err := r.Log.Commit(ctx, func(q *store.Q) error { return r.Log.Only(ctx, q) }); err != nil {
				t.Error(err)
			}
			r.End(r.Job, r.Log, core.Done, "ran", nil)
		}})
	defer r.Stop(time.Second)
	j := ask(t, r, "errand")
	lines := func() string {
		t.Helper()
		all, err := st.As(who).Entries(bg, j.ID, 0, 100)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, e := range all {
			out = append(out, e.Text)
		}
		return strings.Join(out, "\n")
	}
	<-said
	if _, err := db.Exec("RENAME TABLE job_log TO job_log_away"); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("RENAME TABLE jobs TO jobs_away"); err != nil {
		t.Fatal(err)
	}
	goOn <- struct{}{}
	<-said
	time.Sleep(2500 * time.Millisecond) // it tries to write once a second
	for _, name := range []string{"jobs", "job_log"} {
		if _, err := db.Exec("RENAME TABLE " + name + "_away TO " + name); err != nil {
			t.Fatal(err)
		}
	}
	for deadline := time.Now().Add(10 * time.Second); !strings.Contains(lines(), "at the harbour"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Errorf("the line never came: %s", lines())
			break
		}
	}
	goOn <- struct{}{}
	end(t, r, j.ID)
	if got := lines(); !strings.Contains(got, "the quay is wet") {
		t.Errorf("what is to be looked at is gone: %s", got)
	}
}
