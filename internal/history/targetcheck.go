package history

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"filippo.io/age"

	"magpie/internal/core"
	"magpie/internal/history/place"
	"magpie/internal/job"
	"magpie/internal/store"
)

// targetCheckKind is the job that looks whether the copies at targets are there.
const targetCheckKind = "target-check"

// targetsChecked is what was checked last by itself.
type targetsChecked struct {
	At     time.Time `json:"at"`
	Master string    `json:"master"` // the master key that the key files at the targets are for
}

const (
	targetsCheckedSetting = "targets: checked"
	checkSome             = 200 // copies until what came of them is written down
	openedEach            = 30  // days in which each copy is opened once, of those that are looked at daily
	checkedFor            = 24 * time.Hour
)

// TargetCheck is what a check of targets is asked for.
type TargetCheck struct {
	Target string `json:"target,omitempty"` // its name; empty: all
	Open   bool   `json:"open,omitempty"`   // each copy is read to its end and opened, not a share of them
}

// lookTargets begins the day's check of targets, if it is due: a day after the last, and at once when the key
// files there are for another master key.
func (s *Service) lookTargets(ctx context.Context) error {
	q := s.Store.As(job.Service)
	targets, err := q.Targets(ctx)
	if err != nil || len(targets) == 0 {
		return err
	}
	master, _, err := q.ForMaster(ctx)
	if err != nil {
		return err
	}
	var last targetsChecked
	_, _, err = q.Setting(ctx, targetsCheckedSetting, &last)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	now := s.Now()
	first := errors.Is(err, store.ErrNotFound)
	if !first && last.Master == master && now.Sub(last.At) < checkedFor {
		return nil
	}
	if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error {
		return q.SetSetting(ctx, targetsCheckedSetting, targetsChecked{now, master})
	}); err != nil || first { // what was just added was just reached
		return err
	}
	_, err = s.askWith(ctx, core.Actor{Name: "targets", Role: core.Admin}, targetCheckKind, TargetCheck{},
		store.OwnKey(job.Service, targetCheckKind+" "+now.Format(time.RFC3339)))
	return err
}

// targetCheckJob looks at each target whether the copies that should be there are, and open. What is missing, or
// is not what was put there, is copied anew.
func (s *Service) targetCheckJob(ctx context.Context, j core.Job, l *job.Log) {
	q := s.Store.As(job.Service)
	var req TargetCheck
	err := q.OpenRequest(j, &req)
	var targets []store.Target
	if err == nil {
		targets, err = q.Targets(ctx)
	}
	var id *age.X25519Identity
	if err == nil {
		id, err = s.identity(ctx)
	}
	looked, missing := 0, 0
	var troubled []string
	for _, t := range targets {
		if err != nil || ctx.Err() != nil {
			break
		}
		if t.Paused || req.Target != "" && t.Name != req.Target {
			continue
		}
		n, gone, bad := s.checkTarget(ctx, t, id, req.Open, l)
		looked, missing = looked+n, missing+gone
		if bad != nil && ctx.Err() == nil {
			troubled = append(troubled, t.Name+": "+bad.Error())
			l.Trouble(t.Name+": "+bad.Error(), "")
			s.copyFailed(ctx, t, bad)
		}
	}
	if ctx.Err() != nil {
		s.endBadly(ctx, j, l, ctx.Err())
		return
	}
	said := fmt.Sprintf("%s looked at", core.Count(looked, "copy", "copies"))
	switch {
	case err != nil:
		s.End(j, l, core.Failed, err.Error(), nil)
	case len(troubled) > 0:
		s.End(j, l, core.Failed, strings.Join(troubled, "; ")+"; "+said, nil)
	case missing > 0:
		s.Store.Wrote.Ring()
		s.End(j, l, core.Failed, fmt.Sprintf("%s, %s not there as they were put: they are copied anew", said, core.Count(missing, "was", "were")), nil)
	default:
		s.End(j, l, core.Done, said+", all there", nil)
	}
}

// checkTarget looks at the copies of one target.
func (s *Service) checkTarget(ctx context.Context, t store.Target, id age.Identity, open bool, l *job.Log) (looked, missing int, err error) {
	if t.Kind == place.Git { // its history is its own proof: that it is there, and goes on where it was
		_, err := place.OpenGit(ctx, way(t))
		return 0, 0, err
	}
	ctx, move, done := unstalled(ctx, copyStall)
	defer done()
	p, err := s.reach(ctx, t)
	if err != nil {
		return 0, 0, err
	}
	defer p.Close()
	q := s.Store.As(job.Service)
	day := s.Now().YearDay() % openedEach
	for after := ""; ; {
		some, err := q.CopiesThere(ctx, t.ID, after, checkSome)
		if err != nil || len(some) == 0 {
			return looked, missing, err
		}
		var lost []string
		for _, c := range some {
			move()
			deep := open || share(c.VersionID, openedEach) == day
			why, err := s.copyThere(ctx, t, p, c, id, deep, move)
			if err != nil {
				return looked, missing, cmp.Or(context.Cause(ctx), err)
			}
			looked++
			if why != "" {
				missing++
				lost = append(lost, c.VersionID)
				l.Trouble(fmt.Sprintf("%s: %s: %s", t.Name, c.Path, why), "")
			}
		}
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.CopiesLost(ctx, t.ID, lost) }); err != nil {
			return looked, missing, err
		}
		after = some[len(some)-1].VersionID
	}
}

// share puts an id into one of n shares.
func share(id string, n int) int {
	sum := 0
	for _, b := range []byte(id) {
		sum = (sum*31 + int(b)) % n
	}
	return sum
}

// copyThere says why a copy is not what was put there; empty: it is. deep: it is read to its end and opened,
// which proves each byte of it; otherwise its beginning is. Of a masked file its length alone is known, and of a
// readable one it is looked whether the file of what runs is there, too. An error is the target's.
func (s *Service) copyThere(ctx context.Context, t store.Target, p place.Place, c store.Copy, id age.Identity, deep bool, move func()) (why string, err error) {
	r, err := p.Get(ctx, c.Path)
	if errors.Is(err, place.ErrAbsent) {
		return "it is not there", nil
	}
	if err != nil {
		return "", err
	}
	defer r.Close()
	from := &watched{Reader: movingReader{r, move}}
	if t.Files != "" {
		return s.readableThere(ctx, t, p, c, from, deep)
	}
	opened, err := age.Decrypt(from, id)
	if err == nil && deep {
		_, err = io.Copy(io.Discard, opened)
	}
	if from.err != nil {
		return "", from.err
	}
	if err != nil {
		return "it does not open: " + err.Error(), nil
	}
	return "", nil
}

func (s *Service) readableThere(ctx context.Context, t store.Target, p place.Place, c store.Copy, from *watched, deep bool) (why string, err error) {
	q := s.Store.As(job.Service)
	v, err := q.Version(ctx, store.ByID(c.VersionID))
	if errors.Is(err, store.ErrNotFound) { // it was deleted meanwhile
		return "", nil
	}
	if err != nil {
		return "", err
	}
	newest, err := q.Version(ctx, store.Latest(v.DeviceID, v.Part, 0))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	if newest.ID == v.ID {
		now, err := p.Get(ctx, currentFile(v))
		if errors.Is(err, place.ErrAbsent) {
			return currentFile(v) + " is not there", nil
		}
		if err != nil {
			return "", err
		}
		now.Close()
	}
	if !deep {
		return "", nil
	}
	_, pieces, err := q.ContentSize(ctx, v.ContentID)
	if err != nil {
		return "", err
	}
	sum := s.Store.Keys().Hasher("content")
	n, err := io.Copy(sum, from)
	switch {
	case err != nil:
		return "", err
	case n != c.Bytes:
		return fmt.Sprintf("it has %d bytes, and %d were put there", n, c.Bytes), nil
	case t.Files == core.FilesPlain && !pieces && s.Store.Keys().Sum(sum) != v.ContentID:
		return "it is another text than was put there", nil
	}
	return "", nil
}

// asksTargetCheck is the request of a check that is asked for by its name: by a person, each copy is opened.
func (s *Service) asksTargetCheck(ctx context.Context, actor core.Actor, _ core.Job, with []byte) (any, error) {
	req := TargetCheck{Open: true}
	if len(with) > 0 {
		if err := json.Unmarshal(with, &req); err != nil {
			return nil, fmt.Errorf("what is asked for cannot be read: %w", err)
		}
	}
	if req.Target != "" {
		if _, err := s.Store.As(actor).Target(ctx, req.Target); err != nil {
			return nil, err
		}
	}
	return req, nil
}
