package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/store"
)

// ErrSnapshot is returned for a set that cannot be made.
var ErrSnapshot = errors.New("no snapshot")

// MakeSnapshot names the versions that devices' parts had at a time, one a part;
// nil is now. Devices that had none are left out.
func (s *Service) MakeSnapshot(ctx context.Context, actor core.Actor, snap store.Snapshot, devices []core.Device, at *time.Time) (store.Snapshot, error) {
	if err := ref.VersionName(snap.Name); err != nil {
		return snap, fmt.Errorf("%w: %s", ErrSnapshot, strings.Replace(err.Error(), "version's name", "snapshot's name", 1))
	}
	err := s.Store.Tx(ctx, actor, func(q *store.Q) error {
		ids := make([]string, len(devices))
		for i, d := range devices {
			ids[i] = d.ID
		}
		when := store.Now
		if at != nil {
			when = *at
		}
		if err := q.AddSnapshot(ctx, &snap, ids, when); err != nil {
			return err
		}
		if snap.Count == 0 {
			return fmt.Errorf("%w: none of these devices had a version then", ErrSnapshot)
		}
		return q.Audit(ctx, "snapshot", snap.Name, fmt.Sprintf("%s of %s (%s)%s", core.Count(snap.Count, "version", "versions"), core.Count(len(devices), "device", "devices"), snap.Selector, core.Because(snap.Note)))
	})
	return snap, err
}

// picked are the versions of a snapshot by device and part; nil for none.
func (s *Service) picked(ctx context.Context, name string) (map[string]core.Version, error) {
	if name == "" {
		return nil, nil
	}
	q := s.Store.As(job.Service)
	snap, err := q.Snapshot(ctx, name)
	if err != nil {
		return nil, err
	}
	all, err := q.SnapshotVersions(ctx, snap.ID)
	if err != nil {
		return nil, err
	}
	out := map[string]core.Version{}
	for _, v := range all {
		out[v.DeviceID+" "+v.Part] = v
	}
	return out, nil
}

// InSnapshot keeps the devices whose main part a snapshot has a version of.
func (s *Service) InSnapshot(ctx context.Context, actor core.Actor, name string, devices []core.Device) (out []core.Device, err error) {
	picked, err := s.picked(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, d := range devices {
		if dia := s.DialectOf(d); dia != nil {
			if _, ok := picked[d.ID+" "+dia.Main()]; ok {
				out = append(out, d)
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: %s has no version of the devices selected", ErrSnapshot, name)
	}
	return out, nil
}

// SnapshotRequest is what a snapshot job is asked for.
type SnapshotRequest struct {
	Name     string `json:"name"`
	Selector string `json:"selector"`
	Note     string `json:"note"`
}

// recurringSnapshot is how a schedule has snapshots made: named by it and the day, or by
// name=NAME and the day.
func (s *Service) recurringSnapshot() *job.Recurs {
	return &job.Recurs{Takes: []string{"name"},
		Check: func(_ context.Context, _ *store.Q, with map[string]string) error {
			if with["name"] == "" {
				return nil
			}
			return ref.VersionName(with["name"] + "-2006-01-02-1504")
		},
		Begin: func(ctx context.Context, d job.Due) ([]core.Job, error) {
			name := cmp.Or(d.With["name"], d.Schedule) + d.At.Format("-2006-01-02")
			j, err := s.Queue(ctx, d.Actor, "snapshot", store.NewJob{Job: core.Job{Kind: "snapshot", Device: core.Count(len(d.Devices), "device", "devices")},
				Wants: SnapshotRequest{name, d.Selector, "by schedule " + d.Schedule}, Key: d.Key}, name+" of "+d.Selector)
			return []core.Job{j}, err
		}}
}

// snapshotJob names a set of versions. Where one of that name is there, the time of day
// is added.
func (s *Service) snapshotJob(ctx context.Context, j core.Job, l *job.Log) {
	var req SnapshotRequest
	err := s.Store.As(job.Service).OpenRequest(j, &req)
	var devices []core.Device
	if err == nil {
		devices, err = s.Store.As(job.Service).Selected(ctx, req.Selector)
	}
	var snap store.Snapshot
	actor := core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Operator}
	for _, name := range []string{req.Name, req.Name + s.Now().Format("-150405")} {
		if err == nil || errors.Is(err, store.ErrTaken) {
			snap, err = s.MakeSnapshot(ctx, actor, store.Snapshot{Name: name, Selector: req.Selector, Note: req.Note}, devices, nil)
		}
		if err == nil {
			break
		}
	}
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case err != nil:
		s.End(j, l, core.Failed, err.Error(), nil)
	default:
		s.End(j, l, core.Done, fmt.Sprintf("%s holds %s of %s", snap.Name, core.Count(snap.Count, "version", "versions"), core.Count(len(devices), "device", "devices")), nil)
	}
}
