package when

import (
	"fmt"
	"strings"
	"time"
)

// Change is a day on which clocks change in a rule's zone, and what that does to it.
type Change struct {
	At      time.Time
	Says    string
	Touches bool // it is due otherwise than on other days
}

// Changes are the days of the next year on which clocks change, with what happens to
// the rule then.
func (r Rule) Changes(from time.Time) (out []Change) {
	for t, end := from.In(r.zone), from.Add(366*24*time.Hour); ; {
		_, at := t.ZoneBounds()
		if at.IsZero() || at.After(end) {
			return out
		}
		before, after := r.offset(at.Add(-time.Second)), r.offset(at)
		if by := after - before; by != 0 {
			said, touches := r.changed(at, before, by)
			out = append(out, Change{at.In(r.zone), said, touches})
		}
		t = at.In(r.zone)
	}
}

// changed says what a change of clocks at a moment does.
func (r Rule) changed(at time.Time, before, by time.Duration) (said string, touches bool) {
	was := at.UTC().Add(before) // on the wall, had the clock not been changed
	way, first, last := "forward", was, was.Add(by)
	if by < 0 {
		way, first, last = "back", was.Add(by), was
	}
	head := fmt.Sprintf("%s, at %s, clocks go %s to %s: ", was.Format("2006-01-02"), was.Format("15:04"), way, was.Add(by).Format("15:04"))
	if r.every > 0 {
		if by%r.every == 0 {
			return head + "elapsed time is counted, so it is due at the same times of day as before", false
		}
		return head + fmt.Sprintf("elapsed time is counted, so from then on it is due %s %s by the clock", Span(max(by, -by)), map[bool]string{true: "later", false: "earlier"}[by > 0]), true
	}
	var all []string
	for w := r.walls(first.Add(-time.Second)); !w.IsZero() && w.Before(last) && len(all) < 4; w = r.walls(w) {
		switch {
		case by > 0:
			all = append(all, fmt.Sprintf("%s is left out, and made up at %s", w.Format("15:04"), r.instants(w)[0].Format("15:04")))
		case r.each:
			all = append(all, w.Format("15:04")+" comes twice, and counts both times")
		default:
			all = append(all, w.Format("15:04")+" comes twice, and counts once, the first time")
		}
	}
	if len(all) == 0 {
		return head + "none of its times is among those", false
	}
	if len(all) == 4 {
		all[3] = "and so on"
	}
	return head + strings.Join(all, "; "), true
}

// Window is a time that begins again and again, and lasts.
type Window struct {
	Rule
	For time.Duration
}

// ParseWindow reads a window: a rule, and how long it lasts, as "weekly fri 16:00 for 62h".
func ParseWindow(line string, zone *time.Location, from time.Time) (w Window, err error) {
	rule, long, found := strings.Cut(strings.ToLower(line), " for ")
	if !found {
		return w, fmt.Errorf("%w: %q does not say how long it lasts, as in: weekly fri 16:00 for 62h", ErrRule, line)
	}
	if w.Rule, err = Parse(rule, zone, from); err != nil {
		return w, err
	}
	if w.For, err = ParseSpan(strings.TrimSpace(long)); err == nil && w.For <= 0 {
		err = fmt.Errorf("it lasts no time")
	}
	if err != nil {
		return w, fmt.Errorf("%w: %q: %v", ErrRule, line, err)
	}
	return w, nil
}

// String is the window's line, as it is written best.
func (w Window) String() string { return w.Rule.String() + " for " + Span(w.For) }

// Covers tells whether a moment is within it, and until when.
func (w Window) Covers(at time.Time) (until time.Time, ok bool) {
	start := w.Next(at.Add(-w.For))
	for !start.IsZero() && !start.After(at) {
		until, ok = start.Add(w.For), true
		start = w.Next(start)
	}
	return until, ok
}
