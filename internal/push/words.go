package push

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/text"
)

// leftWords says that what was applied before a refused line was left.
func (u *push) leftWords() string {
	if !u.st.Left {
		return ""
	}
	return u.st.Why + "; what was applied before it was left; "
}

// waiting words what a push waits for while it tries something again.
func (u *push) waiting(a Action) string {
	switch a.Deed {
	case CallOff:
		return fmt.Sprintf("confirmed %s; trying again: %v", u.st.Kept, u.err)
	case Undo:
		return fmt.Sprintf("%s; undoing it; trying again: %v", u.st.Why, u.err)
	case Bide:
		return fmt.Sprintf("%s; the device refuses the undo; waiting for its own", u.st.Why)
	case Abandon:
		return fmt.Sprintf("calling off the device's restart; trying again: %v", u.err)
	case Prove:
		return fmt.Sprintf("the device cannot be looked at: %v; it is undone at %s unless that changes", u.err, core.ClockTime(*u.st.Due))
	}
	return fmt.Sprintf("%s; waiting to look at the device: %v", u.st.Why, u.err)
}

// course words a change of course, for the state and for the log. What is kept in
// the open never quotes the configuration; the log may, because it is sealed.
func (u *push) course(a Action, f Facts) {
	why, said := u.reason(a, f)
	u.st.Why = why
	if said == "" {
		said = why
	}
	switch {
	case a.Deed == End && f.Did == Check:
	case a.Deed == Undo && f.Did == "":
		u.l.Step("undoing it: %s", said)
	case a.Deed == Undo || a.Deed == Finish || a.Deed == Abandon:
		u.l.Trouble(said, "")
		if a.Deed == Undo {
			u.l.Step("undoing what was applied")
		}
	default:
		u.l.Warn("%s", said)
	}
	if adv := u.v.Advice(u.err); u.err != nil && adv != "" && u.st.Announced == 0 {
		u.l.Info("%s", adv)
	}
	if a.Deed == Undo && u.st.UndoBy != "" {
		u.tell(why + "; undoing it")
	}
}

// reason words why a push changes its course; said, where it is not empty, may
// quote the configuration.
func (u *push) reason(a Action, f Facts) (why, said string) {
	sending := u.st.Phase == Sending || u.st.Phase == Arming
	count := fmt.Sprintf("after %d of %s", u.st.Answered, core.Count(u.st.Lines, "line", "lines"))
	switch a.Why {
	case ByHand:
		if sending {
			return "cancelled by hand " + count, ""
		}
		return "cancelled by hand", ""
	case AskedUndo:
		return f.By + " asked to undo it", ""
	case TimeOver:
		if sending {
			return "the time to confirm was over " + count, ""
		}
		return errWindow.Error(), ""
	case LineBroke:
		return u.lineBroke()
	case ChecksFail:
		return u.failed(), ""
	case BrokeOff:
		switch {
		case f.Did != "":
			return "the service was stopped " + count, ""
		case u.st.Announced == 0:
			return "it broke off before anything was sent", ""
		}
		return u.st.known(), ""
	case UndoBroke:
		if f.Report == Refused {
			return u.st.Why + "; the device refused the undo", ""
		}
		return u.st.Why + "; the undo did not come to its end", ""
	case Unproved:
		return u.st.known(), ""
	case OtherUnit, Gone:
		why := u.doing(f.Did)
		if u.err != nil {
			why += ": " + u.err.Error()
		}
		return why, ""
	case CalledOff:
		return u.st.Why + "; the device could not be looked at, and waiting for it was called off by hand", ""
	case NothingOff:
		return "it broke off before anything was sent, but the device had been told to go back by itself unless that is called off, and there is nothing to call off any more: it has gone back, unless it was not told any more", ""
	}
	return string(a.Why), ""
}

// doing words what was being done to a device that is not there any more.
func (u *push) doing(d Deed) string {
	switch {
	case d == CallOff || u.st.Kept != "":
		return "confirmed " + u.st.Kept
	case d == Abandon:
		return "calling off the device's restart"
	case u.st.Why != "" && u.st.Undid:
		return u.st.Why + "; undoing it"
	case u.st.Why != "":
		return u.st.Why
	}
	return u.st.known()
}

// lineBroke words why the sending ended, and keeps the line that was refused.
func (u *push) lineBroke() (why, said string) {
	var at stepError
	r := linkRefused(u.err)
	switch {
	case r != nil && errors.As(u.err, &at):
		answer := u.s.Masker(u.v.Dialect).Answer(r.Words, at.step.Secrets) + u.lineMeant(at.step, r.Words)
		u.res.Refused = &Refusal{Line: at.n, Text: at.step.Lines[0], Masked: at.step.Masked[0], Block: at.step.Block, Answer: answer}
		why = u.refusedAt(at.n)
		u.l.Result(u.res) // whoever takes it up has to know
		return why, fmt.Sprintf("%s (%s): %s", why, strings.TrimSpace(at.step.Masked[0]), answer)
	case r != nil:
		return r.Error(), ""
	case u.err != nil:
		return u.err.Error(), ""
	}
	return "the sending did not come to its end", ""
}

// refusedAt says which of what was sent the device refused.
func (u *push) refusedAt(n int) string {
	steps := u.steps()
	if n <= len(steps) && steps[n-1].ours() {
		return fmt.Sprintf("the device refused step %d of %d, the %s", n, u.st.Lines, steps[n-1].Kind)
	}
	return fmt.Sprintf("the device refused line %d of %d", n, u.st.Lines)
}

// lineMeant says which line of a document or file that was sent a device means by the
// number in its answer.
func (u *push) lineMeant(st SendStep, words string) string {
	m := lineNumber.FindStringSubmatch(words)
	doc := u.v.Dialect.Doc(u.p.Part)
	if m == nil || len(st.Content) == 0 || doc.Opaque() {
		return ""
	}
	n, err := strconv.Atoi(m[1])
	shown, e := u.s.Masked(doc, string(st.Content))
	lines := text.Lines(shown)
	if err != nil || e != nil || n < 1 || n > len(lines) {
		return ""
	}
	return fmt.Sprintf("; line %d of what was sent is: %s", n, strings.TrimSpace(lines[n-1]))
}

var lineNumber = regexp.MustCompile(`(?i)\bline (?:no\. ?|number )?(\d+)`)

// ending is the summary of a push that ends.
func (u *push) ending(a Action, f Facts) string {
	switch {
	case f.Did == Check && a.Outcome == core.Refused:
		return u.said
	case f.Did == Check && a.Outcome == core.Cancelled:
		return "cancelled by hand; nothing was sent"
	case f.Did == Check && f.Stopping:
		return "the service was stopped; nothing was sent"
	case f.Did == Check:
		return fmt.Sprintf("nothing was sent: %v", u.err)
	case f.Did == Undo && f.Report == Done, f.Did == Look && f.Report == Done:
		return u.st.Why + "; " + u.said
	case f.Did == Judge && f.Report == Done:
		summary := u.leftWords() + u.said
		if u.st.Kept != "" {
			return "confirmed " + u.st.Kept + "; " + summary
		}
		if bad := u.failed(); bad != "" {
			summary += "; but " + bad
		}
		return summary
	case f.Did == Abandon && f.Report == Done && a.Outcome == core.Failed:
		return u.st.Why + "; the device was not changed, and its own undo is called off"
	case u.st.Announced == 0 && a.Outcome == core.Failed:
		return u.st.Why + "; the device was not changed"
	case u.st.Announced == 0 && a.Outcome == core.Refused:
		return u.st.Why + "; nothing was sent"
	}
	return u.st.Why
}
