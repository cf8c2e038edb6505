package history

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/history/place"
	"magpie/internal/store"
)

// ErrTarget is returned for a target that makes no sense.
var ErrTarget = errors.New("it cannot be a target")

// ErrPlain is returned for who may not have secrets kept where they can be read.
var ErrPlain = errors.New("files with secrets in them take the right to see secrets")

// FilesOf is how a target's files are.
func FilesOf(t store.Target) string {
	if t.Kind == place.Git {
		return core.FilesMasked
	}
	return cmp.Or(t.Files, core.FilesSealed)
}

// ErrNotReached is returned for a target that did not do what it was asked when it was to be kept.
var ErrNotReached = errors.New("the target was not reached")

// SaveTarget keeps a target, new or in the place of the one that was called was. Unless it is to
// be kept unreached, it has to take a file first.
func (s *Service) SaveTarget(ctx context.Context, actor core.Actor, was string, t store.Target, unreached bool) (store.Target, error) {
	if err := ref.DeviceName(t.Name); err != nil {
		return t, fmt.Errorf("%w: %q cannot be its name: letters, digits, dot, dash and underscore, 63 at most", ErrTarget, t.Name)
	}
	q := s.Store.As(actor)
	old := store.Target{}
	if was != "" {
		var err error
		if old, err = q.Target(ctx, was); err != nil {
			return t, err
		}
		if old.Shut { // to whom it was sealed would be forgotten in silence
			return t, fmt.Errorf("target %s: %w", was, store.ErrShut)
		}
		if t.Kind != old.Kind {
			return t, fmt.Errorf("%w: its kind, %s, cannot be changed; add another target", ErrTarget, old.Kind)
		}
		t.ID, t.ReachedAt = old.ID, old.ReachedAt
		if t.Password == "" && t.Key == "" && t.Where == old.Where { // what lets us in there is not sent elsewhere
			t.Password, t.Key = old.Password, old.Key
		}
	}
	if err := way(t).Sound(); err != nil {
		return t, fmt.Errorf("%w: %w", ErrTarget, err)
	}
	if len(t.Where) > 255 {
		return t, fmt.Errorf("%w: its address has more than 255 characters", ErrTarget)
	}
	if _, err := recipients(t.Recipients); err != nil {
		return t, fmt.Errorf("%w: %w", ErrTarget, err)
	}
	if t.Files == core.FilesSealed || t.Kind == place.Git && t.Files == core.FilesMasked {
		t.Files = ""
	}
	switch {
	case !slices.Contains(core.FileForms, cmp.Or(t.Files, core.FilesSealed)):
		return t, fmt.Errorf("%w: its files are %s, and not %q", ErrTarget, strings.Join(core.FileForms, ", "), t.Files)
	case was != "" && t.Files != old.Files:
		return t, fmt.Errorf("%w: its files are %s, which cannot be changed; add another target", ErrTarget, FilesOf(old))
	case t.Files != "" && t.Kind == place.Git:
		return t, fmt.Errorf("%w: a Git repository holds masked text; leave files out", ErrTarget)
	case t.Files != "" && len(t.Recipients) > 0:
		return t, fmt.Errorf("%w: %s files are sealed to nobody; leave recipients out", ErrTarget, t.Files)
	case t.Files == core.FilesPlain && !actor.Secrets:
		return t, ErrPlain
	}
	if t.Kind == place.Git && len(t.Recipients) > 0 {
		return t, fmt.Errorf("%w: a Git repository holds masked text, sealed to nobody; leave recipients out", ErrTarget)
	}
	all, err := q.Targets(ctx)
	if err != nil {
		return t, err
	}
	for _, x := range all {
		if x.ID != t.ID && x.Kind == t.Kind && x.Where == t.Where {
			return t, fmt.Errorf("%w: target %s is there already: another target's files are there; give this one a folder of its own", ErrTarget, x.Name)
		}
	}
	if !unreached {
		if err := s.tryTarget(ctx, t); err != nil {
			return t, fmt.Errorf("%w: %w", ErrNotReached, err)
		}
	}
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		deed, before := "target added", ""
		if was != "" {
			deed, before = "target changed", saidOf(old)
		}
		if err := q.SaveTarget(ctx, &t); err != nil {
			return err
		}
		return q.Audit(ctx, deed, t.Name, core.Instead(saidOf(t), before)+core.Because(t.Note))
	})
	return t, err
}

// saidOf is a target in words, without its secrets.
func saidOf(t store.Target) string {
	said := t.Kind + " " + t.Where
	if t.User != "" {
		said += " as " + t.User
	}
	if t.HostKey != "" {
		said += ", host key " + t.HostKey
	}
	if n := len(t.Recipients); n > 0 {
		said += ", sealed to " + core.Count(n, "other", "others")
	}
	if t.Files != "" {
		said += ", files readable, " + map[string]string{core.FilesMasked: "secrets hidden", core.FilesPlain: "with their secrets"}[t.Files]
	}
	if t.Keep {
		said += ", keeps what is deleted here"
	}
	if t.Paused {
		said += ", paused"
	}
	return said
}

// tryTarget makes sure that a target lets us in, and takes files.
func (s *Service) tryTarget(ctx context.Context, t store.Target) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if t.Kind == place.Git {
		_, err := place.OpenGit(ctx, way(t))
		return err
	}
	p, err := place.Open(ctx, way(t))
	if err != nil {
		return err
	}
	defer p.Close()
	if t.ID == "" { // a place that is somebody's already is said at once
		raw, err := fetch(ctx, p, markFile, 64<<10)
		if err == nil {
			return fmt.Errorf("the place has a %s already: another target's files are there (%.60s); give this one a folder of its own", markFile, raw)
		}
		if !errors.Is(err, place.ErrAbsent) {
			return err
		}
	}
	return place.Try(ctx, p)
}

// RemoveTarget forgets a target; what is there stays there.
func (s *Service) RemoveTarget(ctx context.Context, actor core.Actor, name string) error {
	return s.Store.Tx(ctx, actor, func(q *store.Q) error {
		t, err := q.Target(ctx, name)
		if err != nil {
			return err
		}
		if err := q.RemoveTarget(ctx, t.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "target removed", name, saidOf(t)+"; what is there stays there")
	})
}

// RetryTarget has a target tried now; again: everything is copied there anew.
func (s *Service) RetryTarget(ctx context.Context, actor core.Actor, name string, again bool) (t store.Target, err error) {
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		if t, err = q.Target(ctx, name); err != nil {
			return err
		}
		said := ""
		if again {
			if t.Kind == place.Git {
				return fmt.Errorf("%w: what is committed stays committed; for everything anew add another repository", ErrTarget)
			}
			n, err := q.CopyAgain(ctx, t.ID)
			if err != nil {
				return err
			}
			if err := q.MarkAnew(ctx, t.ID); err != nil {
				return err
			}
			said = core.Count(int(n), "version", "versions") + " copied anew"
		}
		t.NextAt, t.Tries = nil, 0
		if err := q.TargetNow(ctx, t.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "target tried", name, said)
	})
	return t, err
}

// States of a target.
const (
	InStep   = "in step"
	Behind   = "behind"
	Failing  = "failing"
	Paused   = "paused"
	NotAsked = "not asked yet"
)

// TargetStates are all of them.
var TargetStates = []string{Failing, Behind, NotAsked, Paused, InStep}

// StateOf is a target's state.
func StateOf(t store.Target, at store.Standing) string {
	switch {
	case t.Paused:
		return Paused
	case t.FailingAt != nil:
		return Failing
	case at.Waiting > 0:
		return Behind
	case t.ReachedAt == nil:
		return NotAsked
	}
	return InStep
}
