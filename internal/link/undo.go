package link

import (
	"cmp"
	"fmt"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"math"
	"slices"
	"strconv"
	"time"
)

// Ways in which a device itself goes back unless it is told not to.
const (
	ByCommit = "commit" // a confirmed commit (RFC 6241 §8.4), to what ran before
	ByTimer  = "timer"  // one that is set before anything is sent
	ByDeed   = "deed"   // one that loading, taking live or committing sets with it
)

// UndoTimer is what a device can undo by itself.
type UndoTimer struct {
	By       string
	From, To time.Duration // what it can be set to
	Back     time.Duration // how long until the device is back after it went off
	Returns  string        // to what: restart (into startup), startup, or before
}

// commits tells whether the device goes back by a confirmed commit, and not by a
// timer of the dialect's.
func (s *Session) commits() (*netconf, bool) {
	n, ok := s.sp.(*netconf)
	return n, ok && s.d.Change.Undo == nil
}

// Uncommitted tells whether the candidate holds what does not run, though we loaded
// nothing: confirming would commit it (RFC 6241 §8.4.1).
func (s *Session) Uncommitted() (bool, error) {
	n, ok := s.commits()
	if !ok || n.target() != "candidate" {
		return false, nil
	}
	var says [2]*rules.Item
	for i, store := range []string{"candidate", "running"} {
		raw, err := n.rpc("<get-config><source><" + store + "/></source></get-config>")
		if err != nil {
			return false, fmt.Errorf("reading %s: %w", store, err)
		}
		var root *grammar.Node
		text, err := grammar.FormatXML(raw, "rpc-reply / data")
		if err == nil {
			root, err = grammar.XML{Keys: s.d.Table.Keys}.Parse(text)
		}
		if err != nil {
			return false, fmt.Errorf("reading %s: %w", store, err)
		}
		says[i] = s.d.Table.Resolve(root) // whatever order a server shows either in
	}
	return !rules.Equivalent(says[0], says[1]), nil
}

// UndoTimer tells how the device itself can go back; nil when it cannot.
func (s *Session) UndoTimer() *UndoTimer {
	if n, ok := s.commits(); ok {
		if n.target() != "candidate" || !n.can(capConfirm11) || slices.Contains(s.d.Change.Without, "confirm") {
			return nil
		}
		return &UndoTimer{By: ByCommit, From: time.Second, To: 24 * time.Hour, Returns: "before"}
	}
	un := s.d.Change.Undo
	if un == nil {
		return nil
	}
	by := ByTimer
	if un.With != "" {
		by = ByDeed
	}
	return &UndoTimer{By: by, From: s.d.Span(un.From, 0), To: s.d.Span(un.To, 0), Back: s.d.Span(un.Back, 0), Returns: cmp.Or(un.Returns, "restart")}
}

// lasts gives the steps that set a timer how long it is to run.
func (s *Session) lasts(within time.Duration) {
	s.vars["minutes"] = strconv.Itoa(int(math.Ceil(within.Minutes())))
	s.vars["seconds"] = strconv.Itoa(int(math.Ceil(within.Seconds())))
}

// Arm sets the device's timer. One that goes with a deed is set by that, so there it
// does nothing.
func (s *Session) Arm(within time.Duration) error {
	if s.d.Change.Undo == nil || s.d.Change.Undo.With != "" {
		return nil
	}
	s.lasts(within)
	if err := s.steps(s.d.Change.Undo.Arm); err != nil {
		return fmt.Errorf("arming the device's undo: %w", err)
	}
	return nil
}

// Confirm keeps what was pushed: it takes the timer off, or confirms the commit
// of that token. *Refused says that there is nothing to confirm any more.
func (s *Session) Confirm(token string) (err error) {
	if n, ok := s.commits(); ok {
		_, err = n.rpc("<commit><persist-id>" + xmlText(token) + "</persist-id></commit>")
	} else if s.d.Change.Undo != nil {
		err = answered(s.steps(s.d.Change.Undo.Disarm))
	}
	if err != nil {
		return fmt.Errorf("telling the device to keep it: %w", err)
	}
	return nil
}

// Recall makes the device go back at once, where it can.
func (s *Session) Recall(token string) error {
	if n, ok := s.commits(); ok {
		_, err := n.rpc("<cancel-commit><persist-id>" + xmlText(token) + "</persist-id></cancel-commit>")
		return err
	}
	if s.d.Change.Undo != nil {
		return answered(s.steps(s.d.Change.Undo.Recall))
	}
	return nil
}

// Recalls tells whether the device can be told to go back at once.
func (s *Session) Recalls() bool {
	_, commits := s.commits()
	return commits || s.d.Change.Undo != nil && len(s.d.Change.Undo.Recall) > 0
}
