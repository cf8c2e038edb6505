package read

import (
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/find"
	"magpie/internal/store"
)

// ErrSearch is returned for a search that cannot be made as it is asked for.
var ErrSearch = errors.New("this cannot be searched for")

// ErrIndexing is returned while the texts are being read for the first search.
var ErrIndexing = errors.New("the texts are still being read")

// Origin is the version that brought a line in.
type Origin struct {
	Ref     string
	Number  int
	TakenAt time.Time
	Author  string // who changed the device, as it says
	Actor   string // who had it pulled
	Reason  string
	First   bool // it is the oldest version there is: the line may be older
}

func originOf(v *core.Version) *Origin {
	if v == nil {
		return nil
	}
	return &Origin{Ref: v.Ref(), Number: v.Number, TakenAt: v.TakenAt, Author: v.Author, Actor: v.Actor, Reason: v.Reason}
}

// originCache remembers where the lines of the versions asked for last came from: a version never
// changes.
type originCache struct {
	mu    sync.Mutex
	by    map[string][]Origin
	order []string
}

// mostOrigins is of how many versions it is remembered.
const mostOrigins = 400

func (c *originCache) of(versionID string) ([]Origin, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	known, is := c.by[versionID]
	return known, is
}

func (c *originCache) keep(versionID string, all []Origin) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil {
		c.by = map[string][]Origin{}
	}
	if c.by[versionID] == nil {
		c.order = append(c.order, versionID)
	}
	c.by[versionID] = all
	if len(c.order) > mostOrigins {
		delete(c.by, c.order[0])
		c.order = c.order[1:]
	}
}

// searcher keeps the newest texts in memory, so that none is on a disk but sealed.
type searcher struct {
	mu      sync.RWMutex // held while the index is read or written
	index   *find.Index
	known   map[string]store.Newest // by key
	unread  map[string]bool         // keys of parts that cannot be searched
	follows map[string]bool         // keys of parts that follow another
	upTo    time.Time               // rows of parts written before that are known
	touched map[string]time.Time    // and when those were written that were looked at last, by the part's id
	again   atomic.Bool             // all are being looked at again
	whole   time.Time               // when all of them were looked at last
	rules   string                  // the dialects as they were then
	made    chan struct{}           // closed when the first reading has ended
	begun   bool
	failed  error // why the first reading did not come to its end
	done    int   // texts read so far, and how many there are
	all     int
}

func newSearcher() *searcher {
	return &searcher{index: find.New(), known: map[string]store.Newest{}, unread: map[string]bool{}, follows: map[string]bool{}}
}
