package history_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"magpie/internal/core"
	"magpie/internal/history"
	"magpie/internal/scratch"
	"magpie/internal/sim"
	"magpie/internal/visit"
	"magpie/internal/yard"
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

var bg = context.Background()

// grows are the tables that may grow for ever, what is kept and who did what; and events, which who tells
// people takes out, and nobody does here.
var grows = map[string]bool{"versions": true, "contents": true, "audit": true, "events": true}

// TestWeeks: pulls through day and night with a retention a day leave as many rows after two and a half
// weeks as after two, but for what was kept and the audit log; and when long enough nothing was done,
// nothing is left of it but that. MAGPIE_MATRIX=all pulls 200 devices, every hour.
func TestWeeks(t *testing.T) {
	devices, every := 1, 3
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		devices, every = 200, 1
	}
	y := yard.New(t, devices)
	h := history.New(y.Visits, t.TempDir(), "test")
	y.Jobs.Start()
	admin := core.Actor{ID: "a", Name: "admin", Role: core.Admin, Secrets: true}
	db, err := sql.Open("mysql", y.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows := func() map[string]int {
		t.Helper()
		found, err := db.Query(`SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()`)
		if err != nil {
			t.Fatal(err)
		}
		defer found.Close()
		out := map[string]int{}
		for found.Next() {
			var name string
			var n int
			if err := found.Scan(&name); err != nil {
				t.Fatal(err)
			}
			if err := db.QueryRow("SELECT COUNT(*) FROM `" + name + "`").Scan(&n); err != nil {
				t.Fatal(err)
			}
			out[name] = n
		}
		return out
	}
	began := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	clean := func() {
		t.Helper()
		if err := h.Look(bg); err != nil {
			t.Fatal(err)
		}
		var id string
		if err := db.QueryRow(`SELECT id FROM jobs WHERE kind = 'retention' ORDER BY id DESC LIMIT 1`).Scan(&id); err == nil {
			if j, err := y.Jobs.Await(bg, id, nil); err != nil || j.Outcome != core.Done {
				t.Fatalf("retention: %s: %s, %v", j.Outcome, j.Summary, err)
			}
		} else if err != sql.ErrNoRows {
			t.Fatal(err)
		}
		if err := y.Read.Store.Tidy(bg); err != nil {
			t.Fatal(err)
		}
	}
	const days, full = 18, 15
	var then map[string]int
	pull := func(u *sim.Unit, day, hour int) error {
		if hour == 6 {
			if err := u.Amend("mwilks", []string{"lane quay1", fmt.Sprintf(`note "day %d"`, day)}); err != nil {
				return err
			}
		}
		j, err := y.Visits.PullNow(bg, admin, y.Device(u.Name), core.BySchedule)
		if err == nil && j.Outcome != core.Done {
			err = errors.New(j.Summary)
		}
		return err
	}
	for day := range days {
		for hour := 0; hour < 24; hour += every {
			y.Set(began.AddDate(0, 0, day).Add(time.Duration(hour) * time.Hour))
			var pulls errgroup.Group
			pulls.SetLimit(16)
			for _, u := range y.Fleet.Units {
				pulls.Go(func() error { return pull(u, day, hour) })
			}
			if err := pulls.Wait(); err != nil {
				t.Fatalf("day %d, %d h: %v", day, hour, err)
			}
		}
		clean()
		if day == full {
			then = rows()
		}
	}
	// A day's one change, and the day's retention, are kept longer than two weeks.
	const aDay = 8
	now := rows()
	for table, n := range now {
		if more := n - then[table]; !grows[table] && more > aDay*devices*(days-1-full) {
			t.Errorf("%s: %d rows after %d days, %d after %d", table, n, days, then[table], full+1)
		}
	}
	if now["versions"] < days*devices {
		t.Errorf("%d versions of %d days", now["versions"], days)
	}
	y.Set(began.AddDate(0, 0, 500))
	clean()
	for table, n := range rows() {
		if !grows[table] && n > now["versions"]+30 {
			t.Errorf("%s: %d rows are left when nothing was done for more than a year", table, n)
		}
	}
	t.Logf("after %d days of %s: %v", days, core.Count(devices, "device", "devices"), now)
}

// TestDayByOne: of several instances one begins a day's retention, however many look at once.
func TestDayByOne(t *testing.T) {
	y := yard.New(t, 1)
	var all []*history.Service
	for _, v := range []*visit.Service{y.Visits, y.Instance("second"), y.Instance("third")} {
		all = append(all, history.New(v, t.TempDir(), "test"))
	}
	db, err := sql.Open("mysql", y.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for day := range 5 {
		y.Set(time.Date(2026, 11, 20+day, 9, day, 0, 0, time.UTC))
		var looking sync.WaitGroup
		for _, h := range slices.Repeat(all, 3) {
			looking.Go(func() {
				if err := h.Look(bg); err != nil {
					t.Errorf("day %d: %v", day, err)
				}
			})
		}
		looking.Wait()
		n := -1
		if err := db.QueryRow(`SELECT COUNT(*) FROM jobs WHERE kind = 'retention'`).Scan(&n); err != nil || n != day {
			t.Errorf("after day %d retention was begun %d times, %v", day, n, err)
		}
	}
}
