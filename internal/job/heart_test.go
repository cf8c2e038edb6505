package job

import (
	"testing"
	"time"
)

// TestNotYetHeard: an instance that was never heard of may have started a moment
// ago. It is believed in, its work stays its own, and only after its silence has
// lasted is it taken for gone.
func TestNotYetHeard(t *testing.T) {
	r := &Runtime{state: &state{instance: "one", watched: map[string]heartbeat{}}}
	if !r.instanceLives("two") {
		t.Error("an instance that was never heard of is taken for gone, and its jobs given to others")
	}
	if !r.alive("job", "two", "first") {
		t.Error("what it does is taken for abandoned")
	}
	if r.alive("job", "two", "second") {
		t.Error("another incarnation of it has a claim to what that one does")
	}
	h := r.watched["two"]
	h.moved = h.moved.Add(-lapseAfter)
	r.watched["two"] = h
	if r.instanceLives("two") || r.alive("job", "two", "first") {
		t.Errorf("it is believed in after %s of silence", time.Since(h.moved))
	}
}
