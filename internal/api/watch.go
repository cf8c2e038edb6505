package api

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/wire"
)

const (
	lookEvery = 250 * time.Millisecond // how often the database is asked what was written
	lookBack  = 6 * time.Second        // and how far back: what is committed late appears late
	stillHere = 15 * time.Second
)

// watchers are those who are told what is written. While there are any, one look at
// the database a quarter of a second serves them all.
type watchers struct {
	look func(context.Context) ([]store.Touched, error)
	hint func() (<-chan struct{}, func()) // tells that a job of this instance went on

	mu   sync.Mutex
	of   map[chan []client.Touched]bool // whether they were told what was written shortly before they came
	end  context.CancelFunc
	seen map[string]string // by topic and id, the mark it was seen with
	away bool              // the database is
}

// join has the caller told, until it leaves: first what was written within lookBack, for what it knows may
// have been asked for before it came. Whoever reads too slowly is told by a
// closed channel that something was missed.
func (w *watchers) join() (<-chan []client.Touched, func()) {
	c := make(chan []client.Touched, 64)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.of == nil {
		w.of = map[chan []client.Touched]bool{}
	}
	w.of[c] = false
	if len(w.of) == 1 {
		var ctx context.Context
		ctx, w.end = context.WithCancel(context.Background())
		w.seen = nil
		go w.run(ctx)
	}
	return c, func() { w.mu.Lock(); defer w.mu.Unlock(); w.drop(c) }
}

func (w *watchers) drop(c chan []client.Touched) {
	if _, here := w.of[c]; !here {
		return
	}
	delete(w.of, c)
	if len(w.of) == 0 {
		w.end()
	}
}

func (w *watchers) run(ctx context.Context) {
	hint, stop := w.hint()
	defer stop()
	for ctx.Err() == nil {
		asking, cancel := context.WithTimeout(ctx, 5*time.Second)
		rows, err := w.look(asking)
		cancel()
		if ctx.Err() != nil {
			return
		}
		w.tell(ctx, rows, err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookEvery):
		case <-hint:
			time.Sleep(lookEvery / 5) // more is likely to follow at once
		}
	}
}

// tell passes on what was not seen before, and to who is new all that was looked at.
func (w *watchers) tell(ctx context.Context, rows []store.Touched, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if ctx.Err() != nil {
		return
	}
	var out, whole []client.Touched
	if away := err != nil; away || w.away {
		is := client.Touched{Topic: "database", State: map[bool]string{true: "away", false: "back"}[away]}
		whole = append(whole, is)
		if away != w.away {
			out = append(out, is)
		}
		w.away = away
	}
	if err == nil {
		now := make(map[string]string, len(rows))
		for _, r := range rows {
			key := r.Topic + " " + r.ID
			now[key] = r.Mark
			touched := wiredTouched(r)
			whole = append(whole, touched)
			if w.seen != nil && w.seen[key] != r.Mark {
				out = append(out, touched)
			}
		}
		w.seen = now
	}
	for c, knows := range w.of {
		say := out
		if !knows {
			say, w.of[c] = whole, err == nil
		}
		if len(say) == 0 {
			continue
		}
		select {
		case c <- say:
		default:
			w.drop(c)
			close(c)
		}
	}
}

var wiredTouched = wire.Make[client.Touched, store.Touched]()

// watch tells somebody what is written, until they leave or may not know any more.
func (s *Server) watch(c *gin.Context) {
	news, leave := s.watchers.join()
	defer leave()
	c.Header("Content-Type", "text/event-stream")
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no") // a proxy that gathers would hold it back
	fmt.Fprint(c.Writer, "retry: 1000\n\n")
	c.Writer.Flush()
	look := time.NewTicker(stillHere)
	defer look.Stop()
	gone, stop := s.goes(c)
	defer stop()
	quiet := time.Now()
	for {
		select {
		case touched, ok := <-news:
			if !ok {
				return
			}
			raw, _ := json.Marshal(touched)
			fmt.Fprintf(c.Writer, "event: touched\ndata: %s\n\n", raw)
			quiet = time.Now()
		case <-gone:
			return
		case <-look.C:
			if time.Since(quiet) < stillHere {
				continue
			}
			fmt.Fprint(c.Writer, ": still here\n\n")
			quiet = time.Now()
		case <-s.Done:
			return
		case <-c.Request.Context().Done():
			return
		}
		c.Writer.Flush()
	}
}

// goes tells when whoever asked may not look any more. It is looked at beside what they
// are told: where the database is away, that takes its time.
func (s *Server) goes(c *gin.Context) (gone <-chan struct{}, stop func()) {
	end, over := make(chan struct{}), make(chan struct{})
	who := c.Copy()
	go func() {
		look := time.NewTicker(5 * time.Second)
		defer look.Stop()
		for {
			select {
			case <-over:
				return
			case <-look.C:
				if _, err := s.still(who, actor(who), core.Reader); err != nil {
					close(end)
					return
				}
			}
		}
	}()
	return end, func() { close(over) }
}

// watching makes what looks on behalf of all who watch.
func (s *Server) watching() *watchers {
	return &watchers{
		look: func(ctx context.Context) ([]store.Touched, error) {
			return s.Jobs.Store.As(core.Actor{Name: "watch"}).Touched(ctx, lookBack)
		},
		hint: func() (<-chan struct{}, func()) { return s.Jobs.Hub.Watch(job.Any) },
	}
}
