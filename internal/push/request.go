package push

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
)

// ErrClaimed is returned when another push holds the device.
type ErrClaimed struct{ Job string }

func (e ErrClaimed) Error() string {
	return fmt.Sprintf("push %s holds this device; wait for it to end, or look at it: magpie job watch %s", e.Job, e.Job)
}

// ErrPreviewChanged is returned when a push names another hash than the
// preview has.
var ErrPreviewChanged = errors.New("this is not the preview that was shown; look at it again before pushing")

// RequestPush queues a push of what a preview shows. hash is the preview's, as
// it was shown.
func (s *Service) RequestPush(ctx context.Context, actor core.Actor, previewID, hash string, req Request, key store.Key) (j core.Job, err error) {
	// Asked for before, it is that push, whatever has become of its window since.
	if old, asked, err := s.Store.As(actor).Asked(ctx, key); err != nil || asked {
		return old, err
	}
	p, err := s.Shown(ctx, actor, previewID, hash)
	if err != nil {
		return j, err
	}
	if err := s.Sound(ctx, actor, p, &req); err != nil {
		return j, err
	}
	if req.Due != nil && req.Due.Sub(s.Now()) < MinWindow {
		return j, fmt.Errorf("%w: the one that all share ends at %s", ErrWindow, core.ClockTime(*req.Due))
	}
	alone, err := s.mayAlone(ctx, actor, p, req)
	if err != nil {
		return j, err
	}
	instance := ""
	if p.Where.Relay != "" {
		d, err := s.Store.As(actor).DeviceByID(ctx, p.DeviceID)
		if err != nil {
			return j, err
		}
		r, err := s.UseRelay(ctx, actor, p.Where.Relay, d)
		if err != nil {
			return j, err
		}
		instance = r.Instance
	}
	if err := s.mayHand(ctx, actor, p); err != nil {
		return j, err
	}
	if err := s.Within(ctx, actor, p.DeviceID); err != nil { // the scope may have been narrowed since it was asked for
		return j, err
	}
	req.PreviewID = previewID
	return s.Queue(ctx, actor, "push", store.NewJob{Job: core.Job{Kind: "push", DeviceID: p.DeviceID, Device: p.Device, UndoOf: p.UndoOf, ForInstance: instance}, Wants: req, Key: key},
		fmt.Sprintf("%s of %s onto %s, %d lines%s", p.Method, p.Target, p.Base, p.LineCount(), core.Because(req.Note)+Overridden(p, req)+alone)+p.Where.Words(), s.claim)
}

// claim gives a push its device.
func (s *Service) claim(ctx context.Context, q *store.Q, j core.Job) error {
	holder, err := q.Claim(ctx, j.DeviceID, j.ID)
	if err == nil && holder != "" {
		err = ErrClaimed{holder}
	}
	return err
}

// Sound tells what is wrong with a push that is asked for, now or for later, and
// reads its checks.
func (s *Service) Sound(ctx context.Context, actor core.Actor, p Preview, req *Request) (err error) {
	if err := WindowSound(req.Within); err != nil {
		return err
	}
	for _, name := range []string{req.NameBefore, req.NameAfter} {
		if name == "" {
			continue
		}
		if err := ref.VersionName(name); err != nil {
			return err
		}
		if err := s.Store.As(actor).NameFree(ctx, name, []core.Device{{ID: p.DeviceID}}); err != nil {
			return err
		}
	}
	if req.NameBefore != "" && req.NameBefore == req.NameAfter {
		return fmt.Errorf("name %q: %w: it is to be that of the version before", req.NameAfter, store.ErrTaken)
	}
	if req.HoldRestart && !slices.ContainsFunc(p.Steps, func(st SendStep) bool { return st.Kind == "restart" }) {
		return ErrNoRestart
	}
	if p.Unreadable != "" && req.Within > 0 {
		return ErrNoWayBack
	}
	if len(p.Warnings) > 0 && strings.TrimSpace(req.Override) == "" {
		return fmt.Errorf("%w: %s", ErrWarnings, strings.Join(p.Warnings, "; "))
	}
	req.Checks, err = s.readChecks(ctx, actor, p.DeviceID, req.Checks)
	return err
}

// WindowSound tells whether a window is neither too short nor too long; nought is
// none.
func WindowSound(within time.Duration) error {
	if within != 0 && (within < MinWindow || within > MaxWindow) {
		return fmt.Errorf("%w: it is %s", ErrWindow, within)
	}
	return nil
}

// Shown opens a preview, if it is the one that was shown.
func (s *Service) Shown(ctx context.Context, actor core.Actor, id, hash string) (p Preview, err error) {
	row, err := s.Store.As(actor).Preview(ctx, id, &p)
	if err != nil {
		return p, err
	}
	if real, err := s.previewHash(p); err != nil || real != row.Hash || hash != row.Hash {
		return p, errors.Join(ErrPreviewChanged, err)
	}
	return p, nil
}

// ErrNoRestart is returned where a restart is to be left to later and there is
// none.
var ErrNoRestart = errors.New("this push restarts nothing, so no restart can be left to later; that is for method stage")

// ErrNoWayBack is returned where a push that can be taken back is asked for, and what runs could not be kept.
var ErrNoWayBack = errors.New("what runs is not complete and is not kept, so nothing can take the push back: push without a window (no --within)")

// ErrWarnings is returned when a preview has warnings and nobody said why it is
// pushed all the same.
var ErrWarnings = errors.New("warnings speak against it")

// Overridden words why a push is done although warnings speak against it.
func Overridden(p Preview, req Request) string {
	if len(p.Warnings) == 0 {
		return ""
	}
	return fmt.Sprintf("; done although %s, because: %s", strings.Join(p.Warnings, "; "), req.Override)
}
