package history

import (
	"context"
	"errors"
	"fmt"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/retain"
	"magpie/internal/job"
	"magpie/internal/store"
)

// How long is kept what is no version.
const (
	QuietStay    = 14 * 24 * time.Hour // jobs of scheduled pulls that found nothing new
	PreviewsStay = 30 * 24 * time.Hour
	LogsStay     = 90 * 24 * time.Hour  // of jobs; of visits that failed
	JobsStay     = 400 * 24 * time.Hour // and what schedules did
)

// Going is a version that has had its time.
type Going struct {
	Device string
	store.Kept
	Why string
}

// Judged is what retention makes of a device's versions.
type Judged struct {
	Policy store.Retention
	Stay   int
	Going  []Going
}

// Judge says what of a device's versions would go, and why.
func (s *Service) Judge(ctx context.Context, q *store.Q, policies []store.Retention, d core.Device, now time.Time) (out Judged, err error) {
	if out.Policy, err = store.RetentionFor(policies, d); err != nil {
		return out, err
	}
	kept, err := q.KeptOf(ctx, d.ID)
	if err != nil {
		return out, err
	}
	for from := 0; from < len(kept); {
		to := from
		var versions []retain.Version
		for ; to < len(kept) && kept[to].PartID == kept[from].PartID; to++ {
			k := kept[to]
			versions = append(versions, retain.Version{Number: k.Number, TakenAt: k.TakenAt, RanUntil: k.RanUntil, ByHand: byHand(k.Reason), Protected: k.Protected})
		}
		for i, v := range retain.Judge(out.Policy.Policy(), versions, now, time.UTC) {
			if v.Stays {
				out.Stay++
				continue
			}
			out.Going = append(out.Going, Going{Device: d.Name, Kept: kept[from+i], Why: v.Why})
		}
		from = to
	}
	return out, nil
}

// byHand tells whether a person asked for a version; the others were taken by themselves.
func byHand(reason string) bool {
	switch reason {
	case core.ByHand, core.FirstPull, core.Edited, core.ByImport:
		return true
	}
	return false
}

// atOnce is how many versions are deleted in one transaction.
const atOnce = 100

// retentionJob deletes what has had its time: versions, device by device, then previews, logs and
// jobs. Whatever it is interrupted by, it goes on where it was: what is gone is gone.
func (s *Service) retentionJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	policies, err := q.Retentions(ctx)
	var devices []core.Device
	if err == nil {
		devices, err = q.Devices(ctx, ref.All())
	}
	var gone []core.Device // what is kept of them has its time, too
	if err == nil {
		gone, err = q.Removed(ctx)
		devices = append(devices, gone...)
	}
	versions, touched := 0, 0
	var bytes int64
	for _, d := range devices {
		if err != nil || ctx.Err() != nil {
			break
		}
		var n int
		var b int64
		if n, b, err = s.retainOne(ctx, q, j, policies, d, l); n > 0 {
			versions, bytes, touched = versions+n, bytes+b, touched+1
		}
	}
	if err == nil && ctx.Err() == nil {
		err = s.tighten(ctx, l)
	}
	for _, age := range store.Ages(s.Now(), store.Stays{Quiet: QuietStay, Previews: PreviewsStay, Logs: LogsStay, Jobs: JobsStay}) {
		for more := true; more && err == nil && ctx.Err() == nil; {
			err = s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) {
				more, err = q.Aged(ctx, age)
				return err
			})
		}
	}
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, fmt.Sprintf("cancelled by hand; %s of %s are gone", core.Count(versions, "version", "versions"), core.Count(touched, "device", "devices")), nil)
	case err != nil:
		s.End(j, l, core.Failed, err.Error(), nil)
	default:
		s.End(j, l, core.Done, fmt.Sprintf("%s of %s deleted, %d KiB given back", core.Count(versions, "version", "versions"), core.Count(touched, "device", "devices"), bytes>>10), nil)
	}
}

// retainOne deletes what has had its time of one device, in pieces, each with its row in the
// audit log.
func (s *Service) retainOne(ctx context.Context, q *store.Q, j core.Job, policies []store.Retention, d core.Device, l *job.Log) (n int, bytes int64, err error) {
	judged, err := s.Judge(ctx, q, policies, d, s.Now())
	if err != nil || len(judged.Going) == 0 {
		return 0, 0, err
	}
	actor := core.Actor{ID: j.ActorID, Name: j.Actor, Role: core.Admin}
	for rest := judged.Going; len(rest) > 0 && ctx.Err() == nil; {
		piece := rest[:min(len(rest), atOnce)]
		rest = rest[len(piece):]
		ids, said := make([]string, len(piece)), ""
		for i, g := range piece {
			ids[i] = g.ID
			if i > 0 {
				said += ", "
			}
			said += core.Version{Device: d.Name, Part: g.Part, Number: g.Number}.Ref()
		}
		var k int
		var b int64
		err := s.Store.Tx(ctx, actor, func(q *store.Q) (err error) {
			if k, b, err = q.DeleteVersions(ctx, d.ID, ids); err != nil || k == 0 {
				return err
			}
			return q.Audit(ctx, "versions deleted", d.Name, fmt.Sprintf("%d by retention %s, job %s: %s", k, judged.Policy.Name, j.ID, said))
		})
		if err != nil {
			return n, bytes, fmt.Errorf("%s: %w", d.Name, err)
		}
		n, bytes = n+k, bytes+b
	}
	l.Info("%s: %s deleted, %d stay (retention %s)", d.Name, core.Count(n, "version", "versions"), judged.Stay, judged.Policy.Name)
	return n, bytes, nil
}

// tighten packs contents that were kept before contents were packed against each other, or that
// lost what they were packed against.
func (s *Service) tighten(ctx context.Context, l *job.Log) error {
	after, n, saved := "", 0, 0
	for {
		rows, err := s.Store.As(job.Service).Loose(ctx, after, 200)
		if err != nil || len(rows) == 0 {
			if n > 0 {
				l.Info("%s packed more tightly, %d KiB given back", core.Count(n, "text", "texts"), saved>>10)
			}
			return err
		}
		for _, v := range rows {
			if ctx.Err() != nil {
				return nil
			}
			after = v.ID
			less := 0
			err := s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) {
				less, err = q.Tighten(ctx, v)
				return err
			})
			if err != nil {
				return err
			}
			if less > 0 {
				n, saved = n+1, saved+less
			}
		}
	}
}
