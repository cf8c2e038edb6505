package push

import (
	"time"

	"magpie/internal/visit"
)

// Checked is a check and what came of it before the push and after.
type Checked struct {
	Check  string   `json:"check"`
	Before *Finding `json:"before,omitempty"`
	After  *Finding `json:"after,omitempty"`
}

// Finding is what came of a check once.
type Finding struct {
	Good  bool   `json:"good"`
	Known bool   `json:"known"` // it could be made at all
	Said  string `json:"said"`

	Entries []string `json:"entries,omitempty"` // of a state
}

// Failed tells whether a check that was good is bad. One that was bad already,
// or that could not be made, does not count against a push.
func (c Checked) Failed() bool {
	return c.Before != nil && c.Before.Known && c.Before.Good && c.After != nil && c.After.Known && !c.After.Good
}

// Request is what a push job is asked for.
type Request struct {
	PreviewID string `json:"preview_id"`
	NoSave    bool   `json:"no_save"`
	Note      string `json:"note"` // why, in the words of who asks

	LeaveApplied bool `json:"leave,omitempty"`        // when a line is refused: what was applied before it stays
	HoldRestart  bool `json:"hold_restart,omitempty"` // of a staged push: the restart is left to a person

	EndSession string `json:"end_session,omitempty"` // somebody's session that holds the device, to be ended first

	Checks       []string      `json:"checks,omitempty"`     // made before and after; see check.Check
	Override     string        `json:"despite,omitempty"`    // why it is done although warnings speak against it
	Within       time.Duration `json:"within,omitempty"`     // it undoes itself unless it is confirmed in this time; 0: it does not
	Due          *time.Time    `json:"due,omitempty"`        // with Within: it ends at this time, as that of others does
	Rounds       *int          `json:"rounds,omitempty"`     // how often what is missing after the proof is sent too; nil: once in a window, otherwise never
	WhenVerified bool          `json:"when_equal,omitempty"` // it confirms itself when it is verified

	NameBefore string `json:"name_before,omitempty"` // of the version that is kept before it
	NameAfter  string `json:"name_after,omitempty"`  // of the one that it proves after

	ApprovedBy  string `json:"approved_by,omitempty"` // the second person; set by the plan, not by who asks
	RestoreTest string `json:"drill,omitempty"`       // the device whose version is tried out here; set by the restore test
}

// MostRounds is how many further rounds a push may make.
const MostRounds = 5

// rounds is how many further rounds a push makes at most.
func (r Request) rounds() int {
	switch {
	case r.Rounds != nil:
		return *r.Rounds
	case r.Within > 0:
		return 1
	}
	return 0
}

// Result is what came of a push.
type Result struct {
	Target    string             `json:"target"`
	Before    string             `json:"before,omitempty"` // the version kept before
	BeforeID  string             `json:"before_id,omitempty"`
	After     string             `json:"after,omitempty"`
	Sent      int                `json:"sent"`  // lines the device took
	Total     int                `json:"total"` // lines previewed
	Begun     bool               `json:"begun"` // a line was about to go, went, or is in doubt
	Saved     bool               `json:"saved"`
	Remaining []visit.Difference `json:"residuals"`
	Refused   *Refusal           `json:"refused,omitempty"`
	Checks    []Checked          `json:"checks,omitempty"`

	Stragglers []string `json:"stragglers,omitempty"` // devices it speaks for that did not come back, and why
}

// Refusal is the line a device would not take.
type Refusal struct {
	Line   int    `json:"line"` // from 1, counted as in the preview
	Text   string `json:"text"`
	Masked string `json:"masked"`
	Block  string `json:"block,omitempty"`
	Answer string `json:"answer"` // masked
}
