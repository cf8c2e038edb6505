package job

import (
	"testing"
	"time"

	"magpie/internal/store"
)

// TestNotYetHeard: an instance that was never heard of may have started a moment
// ago. It is believed in, its work stays its own, and only after its silence has
// lasted is it taken for gone.
func TestNotYetHeard(t *testing.T) {
	r := &Runtime{state: &state{instance: "one", watched: map[string]heartbeat{}, looked: time.Now()}}
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

// TestBlind: an instance whose database was away says of nobody that its heart
// stands still, and looks for as long as ever once it sees again.
func TestBlind(t *testing.T) {
	now := time.Now()
	r := &Runtime{state: &state{instance: "one", looked: now.Add(-25 * time.Second), watched: map[string]heartbeat{
		"two": {incarnation: "first", beat: 7, moved: now.Add(-26 * time.Second)}}}}
	if !r.alive("job", "two", "first") || !r.instanceLives("two") {
		t.Error("it is taken for dead, though nobody could see it")
	}
	r.saw([]store.Instance{{ID: "two", Incarnation: "first", Beat: 7}}) // the database is back, and the other's next beat on its way
	if !r.alive("job", "two", "first") || !r.instanceLives("two") {
		t.Error("it is taken for dead by a beat that the same outage kept from it")
	}
	h := r.watched["two"]
	h.moved = h.moved.Add(-lapseAfter)
	r.watched["two"] = h
	r.saw([]store.Instance{{ID: "two", Incarnation: "first", Beat: 7}})
	if r.alive("job", "two", "first") {
		t.Error("it is believed in for ever")
	}
}

// Recover looks for work that was left, as an instance does every two seconds.
var Recover = (*Runtime).recover
