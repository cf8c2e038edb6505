package history

import (
	"context"
	"errors"
	"fmt"
	"io"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// scrubbed is how far a scrub has come, so that it goes on there when it is interrupted.
type scrubbed struct {
	Job     string `json:"job"`
	After   string `json:"after"` // the last content that was read
	Read    int    `json:"read"`
	Damaged int    `json:"damaged"`
	Mended  int    `json:"mended"` // by copies elsewhere
}

const scrubSetting = "scrub"

// scrubJob reads every content back and holds it against its hash. What does not read back is
// named, kept out of pushes, and read again by each scrub.
func (s *Service) scrubJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var at scrubbed
	if _, _, err := q.Setting(ctx, scrubSetting, &at); err != nil || at.Job != j.ID {
		at = scrubbed{Job: j.ID}
	} else {
		l.Info("it goes on after %d texts", at.Read)
	}
	for ctx.Err() == nil {
		ids, err := q.ContentsAfter(ctx, at.After, 200)
		if err == nil && len(ids) == 0 {
			break
		}
		if err == nil {
			err = s.scrubSome(ctx, q, ids, &at, l)
		}
		if err != nil {
			if ctx.Err() == nil {
				s.End(j, l, core.Failed, err.Error(), nil)
			}
			return
		}
	}
	switch {
	case errors.Is(context.Cause(ctx), job.ErrStopping):
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		s.End(j, l, core.Cancelled, fmt.Sprintf("cancelled by hand after %d texts", at.Read), nil)
	default:
		s.endScrub(ctx, j, at, l)
	}
}

// scrubSome reads some contents back, and writes down what came of it.
func (s *Service) scrubSome(ctx context.Context, q *store.Q, ids []string, at *scrubbed, l *job.Log) error {
	bad := map[string]string{}
	mended := 0
	for _, id := range ids {
		err := q.ContentTo(ctx, id, io.Discard)
		switch {
		case errors.Is(err, store.ErrDamaged):
			from, mending := s.Repair(ctx, id)
			switch {
			case from != "":
				mended++
				l.Warn("%s was mended by the copy at %s", err, from)
			case mending != nil:
				bad[id] = fmt.Sprintf("%v; its copies do not help: %v", err, mending)
			default:
				bad[id] = fmt.Sprintf("%v; there is no copy of it elsewhere", err)
			}
		case errors.Is(err, store.ErrNotFound), err == nil: // it may have gone since
		default:
			return err
		}
	}
	next := scrubbed{at.Job, ids[len(ids)-1], at.Read + len(ids), at.Damaged + len(bad), at.Mended + mended}
	err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		if err := q.NoteDamage(ctx, ids, bad); err != nil {
			return err
		}
		if mended > 0 {
			if err := q.CopyReadable(ctx); err != nil {
				return err
			}
		}
		return q.SetSetting(ctx, scrubSetting, next)
	})
	if err != nil {
		return err
	}
	for id, why := range bad {
		l.Trouble(fmt.Sprintf("%.12s: %s", id, why), "")
	}
	*at = next
	return nil
}

// endScrub says what was found, by the versions that it is about.
func (s *Service) endScrub(ctx context.Context, j core.Job, at scrubbed, l *job.Log) {
	outcome, summary := core.Done, fmt.Sprintf("all %s read back as they were kept", core.Count(at.Read, "text", "texts"))
	if at.Mended > 0 {
		summary += fmt.Sprintf(", %d of them mended by copies elsewhere", at.Mended)
	}
	if at.Damaged > 0 {
		rows, err := s.Store.As(job.Service).DamagedVersions(ctx, 1000)
		if err != nil {
			s.End(j, l, core.Failed, err.Error(), nil)
			return
		}
		for _, v := range rows {
			l.Trouble(fmt.Sprintf("%s is damaged: %s", v.Ref(), v.Why), "")
		}
		first, mended := "", ""
		if at.Mended > 0 {
			mended = fmt.Sprintf("; %d others were mended by copies elsewhere", at.Mended)
		}
		if len(rows) > 0 {
			first = ", the first is " + rows[0].Ref()
		}
		outcome, summary = core.Failed, fmt.Sprintf("%d of %s do not read back, of %s%s; they cannot be pushed%s", at.Damaged, core.Count(at.Read, "text", "texts"), core.Count(len(rows), "version", "versions"), first, mended)
	}
	lost, err := s.Store.As(job.Service).Dangling(ctx, 1000)
	if err != nil {
		s.End(j, l, core.Failed, err.Error(), nil)
		return
	}
	for _, v := range lost {
		l.Trouble(v.Ref()+": its text is not in the database any more", "")
	}
	if len(lost) > 0 {
		outcome, summary = core.Failed, fmt.Sprintf("%s without a text, the first is %s; %s", core.Count(len(lost), "version is", "versions are"), lost[0].Ref(), summary)
	}
	s.End(j, l, outcome, summary, nil, func(q *store.Q) error { return q.SetSetting(ctx, scrubSetting, nil) })
}
