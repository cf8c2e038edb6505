package read_test

import (
	"database/sql"
	"strings"
	"testing"

	"magpie/internal/core"
	"magpie/internal/read"
	"magpie/internal/store"
	"magpie/internal/yard"
)

// TestDriftJobTells: a device that cannot be judged is counted and named, and what went wrong with it is
// not said of the next.
func TestDriftJobTells(t *testing.T) {
	y := yard.New(t, 3)
	y.LetRun()
	y.Read.Register()
	y.Jobs.Start()
	for _, u := range y.Fleet.Units {
		if j, err := y.Visits.PullNow(bg, admin, y.Device(u.Name), core.ByHand); err != nil || j.Outcome != core.Done {
			t.Fatal(j.Summary, err)
		}
	}
	broken := y.Fleet.Units[1].Name
	db, err := sql.Open("mysql", y.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`UPDATE devices SET dialect = 'gone' WHERE name = ?`, broken); err != nil {
		t.Fatal(err)
	}
	j, err := y.Jobs.Queue(bg, admin, "drift", store.NewJob{Job: core.Job{Kind: "drift"}, Wants: read.DriftRequest{Selector: "all"}}, "")
	if err != nil {
		t.Fatal(err)
	}
	if j, err = y.Jobs.Await(bg, j.ID, nil); err != nil {
		t.Fatal(err)
	}
	var out read.DriftResult
	if err := y.Read.Store.As(admin).OpenResult(j, &out); err != nil {
		t.Fatal(err)
	}
	if len(out.Unknown) != 1 || !strings.HasPrefix(out.Unknown[0], broken) || !strings.Contains(out.Unknown[0], "gone") || out.Judged != 3 || !strings.Contains(j.Summary, "1 not known") {
		t.Errorf("%s\n%+v", j.Summary, out)
	}
}
