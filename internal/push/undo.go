package push

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// stepError says at which step sending ended.
type stepError struct {
	n    int
	step SendStep
	err  error
}

func (e stepError) Error() string { return fmt.Sprintf("at line %d: %v", e.n, e.err) }
func (e stepError) Unwrap() error { return e.err }

// broken takes over when sending did not come to its end: the device refused a
// line, contact was lost, or a person cancelled. What was applied is undone,
// worked out anew from what runs now.
func (u *push) broken(ctx context.Context, cause error) {
	s, mask := u.s, u.s.Masker(u.v.Dialect)
	// why is kept in the open, so it never quotes the configuration; said may,
	// because logs are sealed.
	why, said := cause.Error(), ""
	var at stepError
	switch r := linkRefused(cause); {
	case errors.Is(context.Cause(ctx), job.ErrCancelled):
		why = fmt.Sprintf("cancelled by hand after %d of %d lines", u.journal.Answered, u.journal.Total)
	case errors.Is(context.Cause(ctx), errWindow):
		why = fmt.Sprintf("the time to confirm was over after %d of %d lines", u.journal.Answered, u.journal.Total)
	case errors.Is(context.Cause(ctx), job.ErrStopping):
		why = fmt.Sprintf("the service was stopped after %d of %d lines", u.journal.Answered, u.journal.Total)
	case r != nil && errors.As(cause, &at):
		answer := mask.Answer(r.Words, at.step.Secrets)
		u.res.Refused = &Refusal{Line: at.n, Text: at.step.Lines[0], Masked: at.step.Masked[0], Block: at.step.Block, Answer: answer}
		why = fmt.Sprintf("the device refused line %d of %d", at.n, u.journal.Total)
		u.l.Result(u.res) // whoever takes it up has to know
		said = fmt.Sprintf("%s (%s): %s", why, strings.TrimSpace(at.step.Masked[0]), answer)
	case r != nil:
		why = r.Error()
	}
	if said == "" {
		said = why
	}
	u.l.Trouble(said, "")
	if a := u.v.Advice(cause); a != "" && u.journal.Announced == 0 {
		u.l.Info("%s", a)
	}
	if u.journal.Announced == 0 && !errors.Is(cause, job.ErrLeaseLost) {
		if _, err := u.disarm(); err != nil {
			u.l.Warn("%v", err)
			u.s.settleLater(u.j, u.l)
			return
		}
		u.v.Close()
		u.finish(core.Refused, why+"; nothing was sent")
		return
	}
	if errors.Is(cause, job.ErrLeaseLost) || errors.Is(context.Cause(ctx), job.ErrStopping) {
		// This node must not send another line; whoever takes the job up will
		// look at the device and say what is so.
		return
	}
	if u.req.LeaveApplied && u.res.Refused != nil && !at.step.ours() {
		u.leave(why)
		return
	}
	if u.journal.Due != nil {
		lasting, done := u.s.Lasting()
		defer done()
		u.takeBack(lasting, why)
		return
	}
	u.l.Step("undoing what was applied")
	left, err := u.undo(context.Background())
	if err != nil {
		var at stepError
		errors.As(err, &at)
		u.l.Trouble("the undo did not come to its end: "+mask.Answer(err.Error(), at.step.Secrets), "")
		s.settleLater(u.j, u.l)
		return
	}
	if len(left) > 0 {
		u.res.Remaining = left
		u.finish(core.Residuals, fmt.Sprintf("%s; undone but for %d lines", why, len(left)))
		return
	}
	u.finish(core.Undone, why+"; the device runs again what it ran before")
}

// leave ends a push at the line that was refused, as was asked for: what was
// applied before it stays, so that the version can be edited and pushed again,
// which sends only what is missing then. In its window it can still be undone.
func (u *push) leave(why string) {
	u.l.Step("what was applied before it is left, as was asked for")
	if err := u.v.Session.Finish(); err != nil {
		u.l.Warn("%v", err)
	}
	outcome, summary, ok := u.proof(u.journal.Due == nil)
	summary = why + "; what was applied before it was left; " + summary
	switch {
	case !ok:
		u.s.settleLater(u.j, u.l)
	case u.journal.Due != nil:
		u.park(outcome, summary)
	default:
		u.finish(outcome, summary)
	}
}

// undo brings the device back to the version kept before the push. It works
// from what runs now, because after a break the last line sent is in doubt. It
// returns the lines that still differ.
func (u *push) undo(ctx context.Context) ([]visit.Difference, error) {
	s := u.s
	if u.p.Swap != nil {
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return u.giveBack(ctx, q) }); err != nil {
			return nil, err
		}
	}
	var last error
	for try, wait := range []time.Duration{0, time.Second, 3 * time.Second, 10 * time.Second} {
		time.Sleep(wait)
		if errors.Is(context.Cause(ctx), job.ErrStopping) {
			return nil, context.Cause(ctx)
		}
		if try > 0 || u.v.Session == nil {
			u.v.Close()
			d, err := s.Store.As(job.Service).DeviceByID(ctx, u.j.DeviceID)
			if err != nil {
				return nil, err
			}
			u.v = u.after(d, try+1)
			if last = u.open(ctx, u.v); errors.Is(last, link.ErrLoginRefused) || errors.Is(last, visit.ErrLatched) {
				return nil, last // it is for a person now
			} else if last != nil {
				continue
			}
			if err := u.sameUnit(); err != nil {
				return nil, err
			}
		}
		if u.journal.UndoBy == link.ByCommit {
			if err := u.v.Session.Recall(u.journal.Token); err == nil {
				u.l.Info("the device took its commit back")
			} else if linkRefused(err) == nil {
				last = err
				continue
			} // it went back by itself, or was never committed
		}
		u.v.Renew(core.AfterPush)
		if last = u.v.Fetch(); last != nil {
			continue
		}
		raw, err := s.Store.As(job.Service).Content(ctx, u.before.ContentID)
		if err != nil {
			return nil, err
		}
		passphrase, err := s.Store.As(job.Service).Passphrase(ctx, u.before.ID)
		if err != nil {
			return nil, err
		}
		mask := s.Masker(u.v.Dialect)
		method := u.p.Method
		if method == "merge" {
			method = "replace"
		}
		pl, err := s.script(u.v, u.v.Dialect.Doc(u.p.Part), u.p.Part, ask{method: method, have: u.v.Parts[u.p.Part].Text, want: string(raw), passphrase: passphrase})
		if err != nil {
			return nil, err
		}
		if len(pl.steps) > 0 {
			if last = u.send(ctx, pl.steps, "undoing"); last != nil {
				var at stepError
				errors.As(last, &at)
				u.l.Warn("undoing: %s", mask.Answer(last.Error(), at.step.Secrets))
				if linkRefused(last) != nil && try > 0 {
					break
				}
				continue
			}
			u.v.Renew(core.AfterPush)
			if last = u.v.Fetch(); last != nil {
				continue
			}
		}
		if last = u.startupBack(ctx); last != nil {
			continue
		}
		if _, last = u.disarm(); last != nil {
			continue
		}
		u.v.Close()
		if _, err := u.v.Keep(ctx); err != nil {
			return nil, err
		}
		return u.against(ctx, u.v, u.before.ContentID)
	}
	return nil, last
}
