package push

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
)

// stepError says at which step sending ended.
type stepError struct {
	n    int
	step SendStep
	err  error
}

func (e stepError) Error() string { return fmt.Sprintf("at line %d: %v", e.n, e.err) }
func (e stepError) Unwrap() error { return e.err }

// change is a step as it is sent.
func (u *push) change(st SendStep) link.Change {
	if st.ours() {
		c := link.Change{Kind: st.Kind, Part: cmp.Or(st.Part, u.p.Part), Method: u.p.Method, Content: link.Content{Bytes: st.Content}, Current: string(st.Current), Drop: st.Drop, Passphrase: st.Passphrase}
		if st.ContentID != "" {
			c.Content = link.Content{Size: st.Size, From: func(to io.Writer) error {
				return u.s.Store.As(job.Service).ContentTo(u.owed, st.ContentID, to)
			}}
		}
		return c
	}
	return link.Change{Kind: "line", Lines: st.Lines, Hostname: st.Hostname}
}

// session is the conversation in which the push's device is spoken to: for one that
// another speaks for, that one's.
func (u *push) session() *link.Session {
	if u.v.Device.Member != "" {
		return u.v.Session.For(u.v.Device.Member)
	}
	return u.v.Session
}

// begin enters the mode in which lines are sent.
func (u *push) begin() Report {
	todo := u.st.Lines - u.st.Announced
	if u.st.restartHeld() {
		todo--
	}
	switch next := u.steps()[u.st.Announced]; {
	case u.st.Restart:
		u.l.Step("restarting")
	case u.st.Round > 0:
		u.announceRound()
	case next.ours():
		u.l.Step("sending %s", core.Count(todo, "step", "steps"))
	default:
		u.l.Step("sending %s", core.Count(todo, "line", "lines"))
	}
	if len(u.p.Loaded) > 0 && !u.st.Restart && u.st.Round == 0 {
		u.l.Step("throwing away what somebody loaded and did not commit")
		if err := u.session().Discard(); err != nil {
			return u.reported(err)
		}
	}
	return u.reported(u.session().Begin())
}

// ahead is how many of the lines that come next may go at once: none past one that
// opens a block, or that is followed by more than itself.
func (u *push) ahead() int {
	steps := u.steps()
	if u.v == nil || !u.v.IsOpen() || u.st.Phase != Sending || u.st.Announced >= len(steps) {
		return 1
	}
	most := u.v.Dialect.Converse.Ahead
	var lines []string
	for i, st := range steps[u.st.Announced:] {
		if len(lines) >= most || st.ours() || len(st.Lines) != 1 {
			break
		}
		lines = append(lines, st.Lines[0])
		if next := u.st.Announced + i + 1; next < len(steps) && steps[next].Depth > st.Depth {
			break
		}
	}
	return u.session().Ahead(lines)
}

// sendLines sends the lines that the state announces.
func (u *push) sendLines(from, to int) (f Facts) {
	all := u.steps()[from-1 : to]
	f.Ours = all[0].ours()
	if len(all) == 1 {
		if err := u.one(from, all[0], u.change(all[0]), false); err != nil {
			f.Report = u.reported(err)
			return f
		}
		f.Taken = 1
	} else {
		changes := make([]link.Change, len(all))
		for i, st := range all {
			changes[i] = u.change(st)
		}
		var err error
		if f.Taken, err = u.session().SendLines(changes); err != nil {
			u.res.Sent += f.Taken
			at := min(f.Taken, len(all)-1)
			f.Report = u.reported(stepError{from + at, all[at], err})
			return f
		}
	}
	u.res.Sent += f.Taken
	f.Report = Done
	return f
}

// shown says in the log which line goes.
func (u *push) shown(n int, st SendStep) {
	indent := strings.Repeat("  ", st.Depth)
	if st.ours() {
		indent = st.Kind + " "
	}
	u.l.Line(fmt.Sprintf("%3d  %s%s", n, indent, strings.Join(st.Lines, "\n")), fmt.Sprintf("%3d  %s%s", n, indent, strings.Join(st.Masked, "\n")))
}

// one sends one step, of the push or of its undo.
func (u *push) one(n int, st SendStep, c link.Change, undoing bool) (err error) {
	switch {
	case st.Kind == "restart":
		err = u.holds(st)
	case st.Kind == "commit" && !undoing && n > 1:
		err = u.valid(u.session(), n)
	}
	if err == nil {
		if !undoing && (u.st.UndoBy == byDeed || u.st.UndoBy == byCommit && c.Kind == "commit") {
			c.Within, c.Token = u.st.Due.Sub(u.s.Now())+grace(u.req.Within), u.st.Token
		}
		err = u.session().Send(c)
	}
	if err == nil && st.Kind == "commit" && !undoing && n > 1 {
		err = u.committed(u.session(), n)
	}
	if err != nil {
		return stepError{n, st, err}
	}
	return nil
}

// finish ends the sending, and waits for a device that restarts.
func (u *push) finish() Report {
	if u.st.Left {
		u.l.Step("what was applied before it is left, as was asked for")
		if err := u.session().Finish(); err != nil {
			u.l.Warn("%v", err)
		}
		return Done
	}
	within, cancel := u.window(u.ctx)
	defer cancel()
	return u.reported(u.ended(within, u.steps()[:u.st.Announced]))
}

// ended ends the sending of these steps.
func (u *push) ended(ctx context.Context, steps []SendStep) error {
	if down, back := absence(steps, u.v.Dialect); back > 0 {
		return u.restarted(ctx, down, back)
	}
	if err := u.session().Finish(); err != nil {
		return fmt.Errorf("after the last line: %w", err)
	}
	return nil
}

// loads are the steps before the nth that lay a document into the datastore.
func (p Preview) loads(n int) (out []SendStep) {
	for _, st := range p.Steps[:n-1] {
		if st.Kind != "load" || st.Drop {
			continue
		}
		if st.Part == "" && p.Method == "merge" {
			st.Content = []byte(p.Predicted)
		}
		st.Part = cmp.Or(st.Part, p.Part)
		out = append(out, st)
	}
	return out
}

// valid reads what was loaded once more before it is committed: it must be what
// was asked for.
func (u *push) valid(sess *link.Session, n int) error {
	read := false
	for _, st := range u.p.loads(n) {
		loaded, ok, err := sess.Candidate(st.Part)
		if err != nil || !ok {
			return err
		}
		off, err := u.s.Differences(u.v.Dialect.Doc(st.Part), loaded, string(st.Content))
		if err != nil {
			return err
		}
		if len(off) > 0 {
			u.res.Remaining = off
			return fmt.Errorf("what was loaded into %s is not what was asked for, %s differ; it was not committed", st.Part, core.Count(len(off), "line", "lines"))
		}
		read = true
	}
	if read {
		u.l.Info("what was loaded was read again, and is what was asked for")
	}
	return nil
}

// committed reads what runs as soon as the device says that it has committed: one
// that says so and does nothing is told of at once.
func (u *push) committed(sess *link.Session, n int) error {
	for _, st := range u.p.loads(n) {
		got, err := sess.Fetch(st.Part)
		if err != nil {
			return fmt.Errorf("reading what runs after the commit: %w", err)
		}
		doc := u.v.Dialect.Doc(st.Part)
		off, err := u.s.Differences(doc, got.Text, string(st.Content))
		if err != nil {
			return err
		}
		if len(off) == 0 {
			continue
		}
		same, err := u.s.Differences(doc, got.Text, string(st.Current))
		if err == nil && len(same) == 0 {
			return &link.Refused{Line: "commit", Means: "refused", Words: "it answered ok to the commit, and what runs is what ran before: nothing was committed. If it does so after every validation, leave that out (change.without: [validate]), or say what commits there (change.instead)"}
		}
		return err
	}
	return nil
}

// restarted waits until the device is back from a restart and opens another
// visit. down is how long it may still answer as it was.
func (u *push) restarted(ctx context.Context, down, within time.Duration) error {
	u.l.Step("the device restarts; waiting up to %s for it to be back", core.Span(within))
	at := u.v.Session.Target()
	u.close()
	began := time.Now()
	for down > 0 && ctx.Err() == nil && link.Listens(ctx, at) {
		if time.Since(began) >= down {
			u.l.Warn("it went on answering for %s; whether it restarted shows in the proof", core.Span(down))
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	for n := 0; ; n++ {
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		d, err := u.device(ctx)
		if err != nil {
			return err
		}
		v := u.after(d, n)
		if err = v.Open(ctx); err == nil {
			u.v = v
			u.away = time.Since(began)
			u.l.Info("back after %s", u.away.Round(time.Second))
			return nil
		}
		if errors.Is(err, link.ErrLoginRefused) || time.Since(began) > within {
			return fmt.Errorf("the device did not come back as it should: %w", err)
		}
	}
}

// errOverwritten is why a device is not restarted: startup no longer holds what
// was put there.
var errOverwritten = errors.New("startup does not hold what was put there: somebody saved over it; the device was not restarted")

// holds makes sure, just before the restart, that startup still is what was put
// there.
func (u *push) holds(restart SendStep) error {
	got, err := u.v.Session.Fetch("startup")
	if err != nil {
		return fmt.Errorf("reading startup before the restart: %w", err)
	}
	if got.Absent || !u.v.Dialect.Doc("running").Equivalent(got.Text, string(restart.Content)) {
		return errOverwritten
	}
	u.l.Info("startup was read again, and holds it")
	return nil
}
