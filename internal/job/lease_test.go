package job_test

import (
	"context"
	"database/sql"
	"sync/atomic"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/scratch"
	"magpie/internal/seal"
	"magpie/internal/store"
)

// TestEndLetsTheDeviceGo: a device is free for other instances as soon as the job that held it has
// ended, and its conversation is over by then: also where giving back comes to nothing, and while
// the instance that held it lives.
func TestEndLetsTheDeviceGo(t *testing.T) {
	dsn := scratch.Database(t)
	master := seal.NewMaster()
	st, err := store.Open(bg, dsn, master, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	var talks atomic.Bool
	linger := make(chan struct{})
	visitor := job.Kind{Name: "visitor", Role: core.Operator, Visits: true, Step: func(ctx context.Context, r *job.Run) {
		if _, _, err := r.Lease(ctx, "quay", r.Job.ID, r.Log); err != nil {
			t.Error(err)
		}
		talks.Store(true)
		r.HangUpBefore(r.Job.ID, func() { talks.Store(false) })
		r.End(r.Job, r.Log, core.Done, "was there", nil)
		<-linger // its goroutine lives on, and nothing is given back
	}}
	one := start(t, st, "one", visitor)
	defer func() { close(linger); one.Stop(time.Second) }()
	first := ask(t, one, "visitor")
	two, err := job.New(bg, st, "two", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	two.Alive()
	defer two.Stop(time.Second)
	end(t, one, first.ID)
	if talks.Load() {
		t.Error("the end was written while it still talked to the device")
	}
	free := func(what string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(bg, 3*time.Second)
		defer cancel()
		_, giveBack, err := two.Lease(ctx, "quay", "a job of two's", &job.Log{})
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		giveBack()
	}
	free("the job has ended")
	// An earlier release, or a lost answer, left the row as it was.
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	res, err := db.Exec(`UPDATE leases SET job_id = ?, instance = 'one', incarnation = ? WHERE device_id = 'quay'`, first.ID, one.Incarnation())
	if n, _ := res.RowsAffected(); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	free("the row still names a job that has ended")
}
