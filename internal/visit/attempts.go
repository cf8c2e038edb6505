package visit

import (
	"sync"
	"time"
)

// attempts bounds how many devices are signed in to at once with one credential set of which it is
// not known that it is right: as many as may refuse it before its breaker opens, less those that did.
type attempts struct {
	mu    sync.Mutex
	under map[string]int       // sets being tried now, with how often
	right map[string]time.Time // when a set was last accepted somewhere
	turn  chan struct{}        // closed when one of them came to its end
}

func newAttempts() *attempts {
	return &attempts{under: map[string]int{}, right: map[string]time.Time{}, turn: make(chan struct{})}
}

// acceptedFor is how long a set that was accepted somewhere is taken for right.
const acceptedFor = time.Minute
