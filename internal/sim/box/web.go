package box

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
)

// Sessions are the people who are signed in to a device's web pages.
type Sessions struct {
	mu  sync.Mutex
	who map[string]string // cookie -> user
	n   map[string]int    // requests
}

// Open signs a user in and sets the cookie.
func (s *Sessions) Open(w http.ResponseWriter, user string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.who == nil {
		s.who, s.n = map[string]string{}, map[string]int{}
	}
	id := fmt.Sprintf("%016x%016x", rand.Uint64(), rand.Uint64())
	s.who[id] = user
	http.SetCookie(w, &http.Cookie{Name: "perch", Value: id, Path: "/", HttpOnly: true})
	return id
}

// Who tells who asks; "" is nobody. d's faults may end the session now.
func (s *Sessions) Who(r *http.Request, d *Base) (user, id string) {
	c, err := r.Cookie("perch")
	if err != nil {
		return "", ""
	}
	s.mu.Lock()
	s.n[c.Value]++
	n, user := s.n[c.Value], s.who[c.Value]
	s.mu.Unlock()
	if user != "" && d.Expires(n) {
		s.Close(c.Value)
		return "", ""
	}
	return user, c.Value
}

// Close signs a session out; an empty id all of them.
func (s *Sessions) Close(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if id == "" {
		s.who, s.n = map[string]string{}, map[string]int{}
		return
	}
	delete(s.who, id)
}

// Count is how many are signed in.
func (s *Sessions) Count() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.who)
}

// ServeHTTP serves pages until stop is called; connections end with it.
func ServeHTTP(l net.Listener, h http.Handler) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	s := &http.Server{Handler: h, BaseContext: func(net.Listener) context.Context { return ctx }}
	end := Serving(l, s)
	return func() { cancel(); end() }
}

// Cut drops the connection in mid-answer.
func Cut(w http.ResponseWriter) {
	if c, _, err := http.NewResponseController(w).Hijack(); err == nil {
		c.Close()
		return
	}
	panic(http.ErrAbortHandler)
}
