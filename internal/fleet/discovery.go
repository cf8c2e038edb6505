package fleet

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// DiscoveryRequest is what a sweep is asked for.
type DiscoveryRequest struct {
	Ranges []string `json:"ranges"`
	Ways   []string `json:"ways,omitempty"` // transports, or TRANSPORT:PORT; none: all by which the dialects here speak
}

const (
	sweepAtOnce = 128
	answersIn   = time.Second     // whoever is there takes a connection within that
	greetsIn    = 5 * time.Second // and greets within that
)

// door is a port at which devices are spoken to.
type door struct {
	transport string
	port      int
}

// ErrDoor is returned for what names no port at which devices are spoken to.
var ErrDoor = errors.New("no way to be greeted")

// doors are the ports to look at: those that are named, as TRANSPORT:PORT, and those at which
// the dialects here speak by the transports that are named alone; by all, where none is.
func (s *Service) doors(ways []string) (out []door, err error) {
	var transports []string
	for _, w := range ways {
		transport, port, own := strings.Cut(w, ":")
		if !slices.Contains(dialect.Transports, transport) {
			return nil, fmt.Errorf("%w: %q is no transport; they are %s", ErrDoor, transport, strings.Join(dialect.Transports, ", "))
		}
		if !own {
			transports = append(transports, transport)
			continue
		}
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return nil, fmt.Errorf("%w: %q is no TCP port; write it like ssh:2222", ErrDoor, port)
		}
		out = append(out, door{transport, n})
	}
	for _, d := range s.Dialects() {
		for _, w := range d.Ways() {
			x := door{w.Transport, w.Port}
			if !slices.Contains(out, x) && (len(ways) == 0 || slices.Contains(transports, w.Transport)) {
				out = append(out, x)
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: no dialect here speaks by %s", ErrDoor, strings.Join(ways, ", "))
	}
	return out, nil
}

// Sweep asks for a job that looks what answers.
func (s *Service) Discover(ctx context.Context, actor core.Actor, req DiscoveryRequest, key store.Key) (core.Job, error) {
	all, err := ref.Addresses(req.Ranges)
	if err != nil {
		return core.Job{}, err
	}
	if _, err := s.doors(req.Ways); err != nil {
		return core.Job{}, err
	}
	what := core.Count(len(all), "address", "addresses")
	return s.Queue(ctx, actor, "discovery", store.NewJob{Job: core.Job{Kind: "discovery", Device: what}, Wants: req, Key: key}, fmt.Sprint(req.Ranges))
}

// sweepJob looks what answers at addresses, and proposes what is not registered there. Nobody
// signs in anywhere.
func (s *Service) sweepJob(ctx context.Context, j core.Job, l *job.Log) {
	var req DiscoveryRequest
	q := s.Store.As(job.Service)
	err := q.OpenRequest(j, &req)
	var all []netip.Addr
	if err == nil {
		all, err = ref.Addresses(req.Ranges)
	}
	known := map[string]bool{}
	if err == nil {
		var devices []core.Device
		devices, err = q.Devices(ctx, ref.All())
		for _, d := range devices {
			known[place(d.Address, d.Port)] = true
		}
	}
	var doors []door
	if err == nil {
		doors, err = s.doors(req.Ways)
	}
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	l.Step("looking at %s, at %s each; nobody signs in", core.Count(len(all), "address", "addresses"), core.Count(len(doors), "port", "ports"))
	found, met := s.lookAround(ctx, all, doors, known, l)
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
		return
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, "cancelled by hand", nil)
		return
	}
	for _, p := range found {
		says := p.Says
		if says == "" {
			says = "no greeting"
		}
		l.Info("%s port %d, %s: %s", p.Address, p.Port, p.Transport, says)
	}
	s.End(j, l, core.Done, fmt.Sprintf("%s where no device is registered; %d registered ones answer", core.Count(len(found), "port answers", "ports answer"), met), nil, func(q *store.Q) error {
		for _, p := range found {
			if err := q.Propose(ctx, p); err != nil {
				return err
			}
		}
		return nil
	})
}

func place(address string, port int) string { return address + " " + strconv.Itoa(port) }

// lookAround connects to every door of every address, and lists who greets where nobody is
// registered, and how many of those that are did answer.
func (s *Service) lookAround(ctx context.Context, all []netip.Addr, doors []door, known map[string]bool, l *job.Log) (found []store.Proposal, met int) {
	var mu sync.Mutex
	var work sync.WaitGroup
	places := make(chan struct{}, sweepAtOnce)
	for i, a := range all {
		for _, at := range doors {
			if ctx.Err() != nil {
				break
			}
			places <- struct{}{}
			work.Go(func() {
				defer func() { <-places }()
				t := link.Target{Transport: at.transport, Address: a.String(), Port: at.port}
				within, cancel := context.WithTimeout(ctx, answersIn)
				answers := link.Listens(within, t)
				cancel()
				if !answers {
					return
				}
				if known[place(t.Address, t.Port)] {
					mu.Lock()
					defer mu.Unlock()
					met++
					return
				}
				g, err := link.Greet(ctx, t, greetsIn)
				if err != nil { // it speaks something else
					return
				}
				mu.Lock()
				defer mu.Unlock()
				found = append(found, store.Proposal{Address: t.Address, Port: t.Port, Transport: t.Transport, HostKey: g.Key, Says: g.Says})
			})
		}
		if i > 0 && i%256 == 0 {
			l.Info("%d of %d addresses looked at", i, len(all))
		}
	}
	work.Wait()
	slices.SortFunc(found, func(x, y store.Proposal) int {
		a, _ := netip.ParseAddr(x.Address)
		b, _ := netip.ParseAddr(y.Address)
		if c := a.Compare(b); c != 0 {
			return c
		}
		return x.Port - y.Port
	})
	return found, met
}
