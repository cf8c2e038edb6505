package job

import (
	"sync"
)

// Hub tells whoever watches a job that there may be more to read. It is a
// hint: a watcher on another instance looks now and then all the same.
type Hub struct {
	mu      sync.Mutex
	waiting map[string]map[chan struct{}]bool
}

func newHub() *Hub { return &Hub{waiting: map[string]map[chan struct{}]bool{}} }

// Any stands for every job to whoever watches.
const Any = ""

// Watch returns a channel that gets a hint when the job changes, or any does, and the
// function that ends the watch.
func (h *Hub) Watch(job string) (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting[job] == nil {
		h.waiting[job] = map[chan struct{}]bool{}
	}
	h.waiting[job][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.waiting[job], c)
		if len(h.waiting[job]) == 0 {
			delete(h.waiting, job)
		}
	}
}

// watched tells whether somebody watches a job here.
func (h *Hub) watched(job string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.waiting[job]) > 0
}

// Tell gives the hint.
func (h *Hub) Tell(job string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, watching := range []string{job, Any} {
		for c := range h.waiting[watching] {
			select {
			case c <- struct{}{}:
			default:
			}
		}
	}
}
