package push

import (
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/link"
	"magpie/internal/visit"
)

// The window in which a push has to be confirmed.
const (
	MinWindow = 20 * time.Second
	MaxWindow = 24 * time.Hour
)

// grace is how much longer than the window the device's own timer runs: time
// for the service to undo the push in its gentler way.
func grace(window time.Duration) time.Duration {
	return min(max(window/2, 10*time.Second), time.Minute)
}

// undoTimer tells what the device itself can undo just now, or why not.
func undoTimer(v *visit.Visit, method string) (t *link.UndoTimer, why string) {
	t = v.Session.UndoTimer()
	switch {
	case t == nil:
		return nil, "the device has no undo of its own"
	case t.By == link.ByCommit:
	case method == "stage":
		return nil, "its own undo goes back to startup, which is what is written"
	case t.Returns != "before" && v.Unsaved():
		return nil, "its own undo goes back to startup, which does not hold what runs now"
	}
	return t, ""
}

// ErrWindow is returned for a window that is too short or too long.
var ErrWindow = fmt.Errorf("the window in which to confirm is from %s to %s", core.Span(MinWindow), core.Span(MaxWindow))
