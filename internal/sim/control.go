package sim

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"magpie/internal/sim/box"
)

// Place is a device as the control port lists it.
type Place struct {
	Name    string     `json:"name"`
	Family  string     `json:"family"`
	Site    string     `json:"site"`
	Address string     `json:"address"`
	Port    int        `json:"port"` // of the family's usual transport
	Status  box.Status `json:"status"`
}

// Control answers on a loopback port, where tests and demos tell devices what
// to do. Its address is kept in control.json in the fleet's folder.
func (f *Fleet) Control(ctx context.Context) (url string, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	url = "http://" + l.Addr().String()
	post, err := OpenPost(ctx, filepath.Join(f.dir, "mail"))
	if err != nil {
		return "", err
	}
	raw, _ := json.Marshal(map[string]any{"url": url, "pid": os.Getpid(), "mail": post.Address})
	if err := os.WriteFile(filepath.Join(f.dir, "control.json"), raw, 0o600); err != nil {
		return "", err
	}
	s := &http.Server{Handler: f.handler()}
	context.AfterFunc(ctx, box.Serving(l, s))
	return url, nil
}

func (f *Fleet) handler() http.Handler {
	mux := http.NewServeMux()
	reply := func(w http.ResponseWriter, v any, err error) {
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			v = map[string]string{"error": err.Error()}
		}
		_ = json.NewEncoder(w).Encode(v)
	}
	// each answers one call about one unit; in is the request's body.
	each := func(pattern string, in func() any, do func(u *Unit, body any) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			u := f.Unit(r.PathValue("name"))
			if u == nil {
				reply(w, nil, errors.New("no device of that name"))
				return
			}
			body := in()
			if r.ContentLength > 0 {
				if err := json.NewDecoder(r.Body).Decode(body); err != nil {
					reply(w, nil, err)
					return
				}
			}
			err := do(u, body)
			reply(w, f.place(u), err)
		})
	}
	nothing := func() any { return &struct{}{} }
	mux.HandleFunc("GET /devices", func(w http.ResponseWriter, r *http.Request) {
		var all []Place
		for _, u := range f.Units {
			all = append(all, f.place(u))
		}
		reply(w, all, nil)
	})
	mux.HandleFunc("GET /story", func(w http.ResponseWriter, r *http.Request) { reply(w, f.Story, nil) })
	each("GET /devices/{name}", nothing, func(*Unit, any) error { return nil })
	each("POST /devices/{name}/faults", func() any { return &box.Faults{} }, func(u *Unit, b any) error {
		return u.SetFaults(*b.(*box.Faults))
	})
	type amend struct {
		By    string
		Lines []string
	}
	each("POST /devices/{name}/amend", func() any { return &amend{} }, func(u *Unit, b any) error {
		a := b.(*amend)
		return u.Amend(a.By, a.Lines)
	})
	each("POST /devices/{name}/load", func() any { return &amend{} }, func(u *Unit, b any) error {
		if c, ok := u.Model.(interface{ Load([]string) error }); ok {
			return c.Load(b.(*amend).Lines)
		}
		return errors.New("it has no candidate")
	})
	each("POST /devices/{name}/stow", nothing, func(u *Unit, _ any) error { u.Stow(); return nil })
	each("POST /devices/{name}/restart", nothing, func(u *Unit, _ any) error { u.Restart(); return nil })
	each("POST /devices/{name}/release", nothing, func(u *Unit, _ any) error { u.LetGo(); return nil })
	each("POST /devices/{name}/hostkey", nothing, func(u *Unit, _ any) error { return u.NewHostKey() })
	each("POST /devices/{name}/takeover", nothing, func(u *Unit, _ any) error {
		if pair, ok := u.Model.(interface{ Takeover() }); ok {
			pair.Takeover()
			return nil
		}
		return errors.New("it is not a pair")
	})
	// A zero time lets the unit's clock run again.
	type clock struct{ At time.Time }
	each("POST /devices/{name}/clock", func() any { return &clock{} }, func(u *Unit, b any) error {
		u.SetClock(b.(*clock).At)
		return nil
	})
	type reset struct{ Depth string }
	each("POST /devices/{name}/reset", func() any { return &reset{} }, func(u *Unit, b any) error { return u.Reset(b.(*reset).Depth) })
	type unit struct {
		Serial string
		Lines  []string
	}
	each("POST /devices/{name}/replace", func() any { return &unit{} }, func(u *Unit, b any) error {
		r := b.(*unit)
		return u.Replace(r.Serial, r.Lines)
	})
	return mux
}

func (f *Fleet) place(u *Unit) Place {
	return Place{Name: u.Name, Family: u.Family, Site: u.Site, Address: u.Address, Port: families[u.Family].port, Status: u.Status()}
}
