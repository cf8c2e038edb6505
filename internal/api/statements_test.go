package api_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	"magpie/internal/api"
	"magpie/internal/core"
	"magpie/internal/fleet"
	"magpie/internal/history"
	"magpie/internal/routine"
	"magpie/internal/scratch"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/yard"
)

func TestMain(m *testing.M) { gin.SetMode(gin.ReleaseMode); os.Exit(scratch.Main(m)) }

// needed are the words of queries that lists cannot do without.
var needed = map[string]string{
	"ref": yard.R1 + "@1", "from": yard.R1 + "@1", "to": yard.R1 + "@2", "device": yard.R1, "line": "quay", "since": "2026-01-01T00:00:00Z", "selector": "all",
	"q": "quay", "find": "quay", "pattern": "quay",
}

// reads are the operations that read a text of each device: how many statements that may take for each.
var reads = map[string]int{"/drift": 4, "/drift-report": 16, "/fleet-changes": 14, "/retention-preview": 1}

// TestNoListAsksOncePerRow: with many devices, versions and jobs no operation that looks asks the database more
// often than with few; nor does a pull of many ask more than each pull does by itself.
func TestNoListAsksOncePerRow(t *testing.T) {
	few, ofPull, queued := statements(t, 3)
	many, _, queuedMany := statements(t, 15)
	for path, n := range few {
		if m := many[path]; m > n+3+12*reads[path] {
			t.Errorf("GET %s asks %d times with 3 devices, and %d times with 15", path, n, m)
		}
	}
	if len(few) < 25 {
		t.Errorf("%d operations were looked at: %v", len(few), few)
	}
	if queuedMany > queued+2 {
		t.Errorf("asking for pulls of 3 devices takes %d statements, of 15 it takes %d", queued, queuedMany)
	}
	if ofPull > 30 {
		t.Errorf("a pull of a device that did not change takes %d statements", ofPull)
	}
	t.Logf("%d operations; a pull that found nothing new takes %d statements", len(few), ofPull)
}

// statements counts them for each operation that looks, for a pull, and for asking for pulls of all.
func statements(t *testing.T, devices int) (by map[string]int, ofPull, ofQueue int) {
	t.Helper()
	bg := context.Background()
	f := scratch.NewFaults(1)
	y := yard.New(t, devices, f.Through)
	y.LetRun()
	h := history.New(y.Visits, t.TempDir(), "test")
	daily, fl := routine.New(y.Visits), fleet.New(y.Pushes)
	y.Jobs.Start()
	who := store.User{Name: "admin", Role: core.Admin, Secrets: true}
	const word = "mgp_aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"
	y.Tx(func(q *store.Q) error {
		if err := q.AddUser(bg, &who); err != nil {
			return err
		}
		return q.AddToken(bg, &store.Token{UserID: who.ID, Kind: "token", Name: "test", ExpiresAt: time.Now().Add(time.Hour)}, word)
	})
	admin := core.Actor{ID: who.ID, Name: who.Name, Role: core.Admin, Secrets: true}
	var all []core.Device
	for _, u := range y.Fleet.Units {
		all = append(all, y.Device(u.Name))
	}
	pull := func(of []core.Device, key string) []core.Job {
		t.Helper()
		jobs, err := y.Visits.RequestPulls(bg, admin, of, core.ByHand, visit.Mark{}, store.KeyOf(admin, key, "h"))
		if err != nil {
			t.Fatal(err)
		}
		return jobs
	}
	for round := range 2 {
		for _, j := range pull(all, fmt.Sprint("round ", round)) {
			y.Ended(j)
		}
		for _, u := range y.Fleet.Units {
			if err := u.Amend("mwilks", []string{"lane quay1", fmt.Sprintf(`note "round %d"`, round)}); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, d := range all {
		if _, err := y.Visits.PullNow(bg, admin, d, core.BySchedule); err != nil {
			t.Fatal(err)
		}
	}
	quiet := func() int { // what is under way by itself comes to its end
		for last := -1; ; {
			n := 0
			for _, times := range f.Asked() {
				n += times
			}
			if n == 0 && last == 0 {
				return 0
			}
			last = n
			time.Sleep(30 * time.Millisecond)
		}
	}
	count := func() (n int) {
		for words, times := range f.Asked() {
			if !strings.Contains(words, "INTO instances") && !strings.Contains(words, "AS noticed") { // its heart, and the agenda
				n += times
			}
		}
		return n
	}
	quiet()
	y.Tx(func(q *store.Q) error { // the queue alone: nobody takes them
		f.Asked()
		jobs := make([]store.NewJob, len(all))
		for i, d := range all {
			jobs[i] = store.NewJob{Job: core.Job{Kind: "pull", DeviceID: d.ID, Device: d.Name, ForInstance: "nobody"}, Wants: visit.PullRequest{Reason: core.BySchedule}, Key: store.OwnKey(admin, "queue "+d.ID)}
		}
		err := q.AddJobs(bg, jobs)
		ofQueue = count()
		return err
	})
	quiet()
	if _, err := y.Visits.PullNow(bg, admin, all[0], core.BySchedule); err != nil {
		t.Fatal(err)
	}
	ofPull = count()

	done := make(chan struct{})
	defer close(done)
	s := &api.Server{Jobs: y.Jobs, Visits: y.Visits, Pushes: y.Pushes, Fleet: fl, Read: y.Read, Routine: daily, History: h, Version: "test", Instance: "instance", Clock: time.Now, Done: done}
	handler := s.Handler()
	by = map[string]int{}
	var once sync.Once
	spec, err := api.Describe(api.Kinds())
	if err != nil {
		t.Fatal(err)
	}
	doc, err := openapi3.NewLoader().LoadFromData(spec)
	if err != nil {
		t.Fatal(err)
	}
	for path, item := range doc.Paths.Map() {
		op := item.Get
		if op == nil || strings.Contains(path, "{") || op.Responses.Value("200") == nil || op.Responses.Value("200").Value.Content["application/json"] == nil {
			continue
		}
		q := url.Values{}
		for _, p := range op.Parameters {
			if value := needed[p.Value.Name]; p.Value.Required && value != "" {
				q.Set(p.Value.Name, value)
			}
		}
		ask := func() int {
			req := httptest.NewRequest("GET", "/api/v1"+path+"?"+q.Encode(), nil)
			req.Header.Set("Authorization", "Bearer "+word)
			w := httptest.NewRecorder()
			handler.ServeHTTP(w, req)
			if w.Code == 401 || w.Code >= 500 {
				once.Do(func() { t.Errorf("GET %s: %d %s", path, w.Code, w.Body) })
			}
			return w.Code
		}
		if ask() != 200 { // it needs words that are not there
			continue
		}
		quiet()
		ask()
		by[path] = count()
	}
	return by, ofPull, ofQueue
}
