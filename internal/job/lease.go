package job

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"magpie/internal/store"
)

// Lease takes the right to talk to a device, waiting for whoever has it. The
// function returned gives it back.
func (r *Runtime) Lease(ctx context.Context, deviceID, jobID string, l *Log) (fence int64, giveBack func(), err error) {
	return r.lease(ctx, deviceID, jobID, l, "it is talking to the device")
}

// leaseOf is what the hub calls a device's lease.
func leaseOf(deviceID string) string { return "lease " + deviceID }

// OneAtATime waits until no other job, of whatever instance, has what is named, of at most 16 characters, and holds
// it until the job ends or release is called. doing is what the other job does with it, in a few words.
func (r *Runtime) OneAtATime(ctx context.Context, name, jobID string, l *Log, doing string) (release func(), err error) {
	_, release, err = r.lease(ctx, name, jobID, l, doing)
	return release, err
}

func (r *Runtime) lease(ctx context.Context, deviceID, jobID string, l *Log, doing string) (fence int64, giveBack func(), err error) {
	said := false
	hint, stop := r.Hub.Watch(leaseOf(deviceID))
	defer stop()
	fence, err = r.Store.As(Service).LeaseFree(ctx, deviceID, jobID, r.instance, r.incarnation)
	if err == nil && fence > 0 {
		return fence, r.leased(jobID, deviceID, fence), nil
	}
	for { // an answer that got lost is found out here, too: the holder is this job
		var holder string
		err := r.Store.Tx(ctx, Service, func(q *store.Q) (err error) {
			fence, holder, err = q.Lease(ctx, deviceID, jobID, r.instance, r.incarnation, r.alive)
			return err
		})
		if err != nil {
			return 0, nil, fmt.Errorf("taking the device's lease: %w", err)
		}
		if holder == "" {
			return fence, r.leased(jobID, deviceID, fence), nil
		}
		if !said {
			said = true
			l.Info("waiting for job %s: %s", holder, doing)
		}
		select {
		case <-ctx.Done():
			return 0, nil, context.Cause(ctx)
		case <-hint: // whoever had it here let it go
		case <-time.After(awaitEvery):
		}
	}
}

// leased notes that a job holds a device, and makes the function that gives it back. What a job still holds
// at its end is given back with that (EndIn).
func (r *Runtime) leased(jobID, deviceID string, fence int64) func() {
	r.mu.Lock()
	h, known := r.active[jobID]
	if known {
		if h.leases == nil {
			h.leases = map[string]int64{}
		}
		h.leases[deviceID] = fence
		r.active[jobID] = h
	}
	r.mu.Unlock()
	return func() {
		r.mu.Lock()
		held := !known || r.active[jobID].leases[deviceID] == fence
		delete(r.active[jobID].leases, deviceID)
		r.mu.Unlock()
		if !held {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if err := r.Store.Tx(ctx, Service, func(q *store.Q) error { return q.Unlease(ctx, deviceID, fence) }); err != nil {
			slog.Warn("lease not given back; it lapses by itself", "device", deviceID, "err", err)
		}
		r.Hub.Tell(leaseOf(deviceID))
	}
}

// HangUpBefore has a job's conversation with a device be over before the job's end is written: from then on
// others talk to the device. hangUp may be called more than once.
func (r *Runtime) HangUpBefore(jobID string, hangUp func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h, known := r.active[jobID]; known {
		h.hangUps = append(h.hangUps, hangUp)
		r.active[jobID] = h
	}
}

// hangUp ends all conversations of a job.
func (r *Runtime) hangUp(jobID string) {
	r.mu.Lock()
	all := r.active[jobID].hangUps
	r.mu.Unlock()
	for _, hangUp := range all {
		hangUp()
	}
}

// unlease lets all devices that a job holds go, in a transaction that is open.
func (r *Runtime) unlease(ctx context.Context, q *store.Q, jobID string) error {
	r.mu.Lock()
	all := maps.Clone(r.active[jobID].leases)
	r.mu.Unlock()
	for deviceID, fence := range all {
		if err := q.Unlease(ctx, deviceID, fence); err != nil {
			return err
		}
	}
	return nil
}

// unleased notes that a job's end let its devices go.
func (r *Runtime) unleased(jobID string) {
	r.mu.Lock()
	let := slices.Collect(maps.Keys(r.active[jobID].leases))
	clear(r.active[jobID].leases)
	r.mu.Unlock()
	for _, deviceID := range let {
		r.Hub.Tell(leaseOf(deviceID))
	}
}
