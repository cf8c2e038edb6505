package visit

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
)

// TestSessionLimit: never more conversations than the limits allow, and nobody waits
// for nothing.
func TestSessionLimit(t *testing.T) {
	s := &Service{Runtime: &job.Runtime{}, state: &state{limits: Limits{Sessions: 6, Site: 2, Jump: 1}, sessions: newSessions()}}
	var all, hall, hop, most atomic.Int32
	up := func(n *atomic.Int32, limit int32, what string) func() {
		if got := n.Add(1); got > limit {
			t.Errorf("%d at a time %s, %d are allowed", got, what, limit)
		}
		return func() { n.Add(-1) }
	}
	var wg sync.WaitGroup
	for i := range 60 {
		d := core.Device{Site: []string{"hall", "quay", ""}[i%3]}
		if i%5 == 0 {
			d.JumpID = "hop"
		}
		wg.Go(func() {
			leave, err := s.session(context.Background(), d, s.Silent())
			if err != nil {
				t.Error(err)
				return
			}
			defer leave()
			defer up(&all, 6, "in all")()
			most.Store(max(most.Load(), all.Load()))
			if d.Site == "hall" {
				defer up(&hall, 2, "at one site")()
			}
			if d.JumpID != "" {
				defer up(&hop, 1, "through one jump host")()
			}
			time.Sleep(5 * time.Millisecond)
		})
	}
	wg.Wait()
	if most.Load() < 4 {
		t.Errorf("never more than %d at a time", most.Load())
	}
	for key, n := range s.sessions.taken {
		if n != 0 {
			t.Errorf("%d conversations are still counted at %q", n, key)
		}
	}
	leave, err := s.session(context.Background(), core.Device{JumpID: "hop"}, s.Silent())
	if err != nil {
		t.Fatal(err)
	}
	defer leave()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, err := s.session(ctx, core.Device{JumpID: "hop"}, s.Silent()); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
}
