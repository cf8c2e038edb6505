package visit

import (
	"context"
	"errors"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
)

// wholeEvery is how long a scheduled pull goes by a device's signs of change at most; then
// everything is fetched again.
const wholeEvery = 24 * time.Hour

// glance asks, before a scheduled pull fetches anything, for the device's cheap signs of change.
// It tells whether each part's is the one that it had when it was last fetched whole, by the
// same unit and read in the same way, within a day.
func (v *Visit) glance(ctx context.Context) (same bool, err error) {
	d, dia := v.Device, v.Dialect
	if !v.pull || v.Pull.Reason != core.BySchedule || d.Member != "" || dia.Members != nil || dia.Elements != nil {
		return false, nil
	}
	names := dia.PartNames()
	for _, name := range names {
		if p, ok := dia.PartOf(name); !ok || p.Sign == nil {
			return false, nil
		}
	}
	signs, err := v.Session.Signs(names)
	var refused *link.Refused
	if errors.As(err, &refused) {
		v.Log.Info("%v; everything is fetched", err)
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if aside, _ := judge(d, dia, v.Pull, v.Identity.Factory); aside != "" || d.Testing != "" || d.Trouble != "" || len(d.Serials) == 0 {
		return false, nil
	}
	parts, err := v.s.Store.As(job.Service).Parts(ctx, d.ID)
	if err != nil {
		return false, err
	}
	kept := map[string]core.Part{}
	for _, p := range parts {
		kept[p.Name] = p
	}
	since := v.s.Now()
	for _, name := range names {
		p := kept[name]
		if p.FetchedAt == nil || v.s.Now().Sub(*p.FetchedAt) >= wholeEvery || p.Sign != v.signKey(signs[name]) {
			return false, nil
		}
		if p.FetchedAt.Before(since) {
			since = *p.FetchedAt
		}
	}
	v.Log.Info("by its signs of change nothing was changed since it was fetched whole at %s; nothing is fetched", since.UTC().Format("2006-01-02 15:04:05 MST"))
	at := v.s.Now().Truncate(time.Microsecond)
	v.Pull.TakenAt, v.Names, v.glanced = &at, names, true
	return true, nil
}
