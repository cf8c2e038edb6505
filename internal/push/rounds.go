package push

import (
	"context"
	"strings"

	"magpie/internal/core"
)

// steps are all that were or will be sent: the preview's, and those of further rounds.
func (u *push) steps() []SendStep {
	return append(u.p.Steps[:len(u.p.Steps):len(u.p.Steps)], u.more...)
}

// missing works out the lines that would bring what the proof found to differ, and
// counts what differs. The target is what was previewed, and nothing else. Documents
// and files go as a whole, so there is nothing to send after them.
func (u *push) missing(ctx context.Context) (lines, differ int) {
	left, err := u.differs(ctx, u.v)
	if err != nil || len(left) == 0 || u.p.Method != "replace" || len(u.p.Steps) == 0 || u.p.Steps[0].ours() {
		return 0, len(left)
	}
	want, err := u.wanted(ctx)
	if err != nil {
		return 0, len(left)
	}
	sc, err := u.s.script(u.v, u.v.Dialect.Doc(u.p.Part), u.p.Part, ask{method: u.p.Method, have: u.v.Parts[u.p.Part].Text, want: want, inPlace: u.p.InPlace})
	if err != nil {
		u.l.Warn("what is missing could not be worked out again: %v", err)
		return 0, len(left)
	}
	for len(u.more) < u.st.More { // sent by another, and not known here any more
		u.more = append(u.more, SendStep{Lines: []string{""}, Masked: []string{""}})
	}
	u.more = append(u.more[:u.st.More], sc.steps...)
	return len(sc.steps), len(left)
}

// announceRound says what goes in a further round before it does.
func (u *push) announceRound() {
	u.res.Total = u.st.Lines
	var lines, masked []string
	for _, st := range u.steps()[u.st.Announced:] {
		lines, masked = append(lines, strings.Join(st.Lines, " / ")), append(masked, strings.Join(st.Masked, " / "))
	}
	u.l.Step("round %d: %s; sending %s more towards %s", u.st.Round+1, core.Count(u.st.Missing, "line still differs", "lines still differ"), core.Count(len(lines), "line", "lines"), u.p.Target)
	u.l.Line("these: "+strings.Join(lines, "; "), "these: "+strings.Join(masked, "; "))
}
