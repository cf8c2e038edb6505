package job

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"magpie/internal/store"
)

// Lease takes the right to talk to a device, waiting for whoever has it. The
// function returned gives it back.
func (r *Runtime) Lease(ctx context.Context, deviceID, jobID string, l *Log) (fence int64, giveBack func(), err error) {
	said := false
	fence, err = r.Store.As(Service).LeaseFree(ctx, deviceID, jobID, r.instance, r.incarnation)
	if err == nil && fence > 0 {
		return fence, r.unleased(deviceID, fence), nil
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
			return fence, r.unleased(deviceID, fence), nil
		}
		if !said {
			said = true
			l.Info("waiting: job %s is talking to the device", holder)
		}
		select {
		case <-ctx.Done():
			return 0, nil, context.Cause(ctx)
		case <-time.After(150 * time.Millisecond):
		}
	}
}

// unleased makes the function that gives a lease back.
func (r *Runtime) unleased(deviceID string, fence int64) func() {
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		if err := r.Store.Tx(ctx, Service, func(q *store.Q) error { return q.Unlease(ctx, deviceID, fence) }); err != nil {
			slog.Warn("lease not given back; it lapses by itself", "device", deviceID, "err", err)
		}
	}
}
