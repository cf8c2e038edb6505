package push

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/visit"
)

// HoldsSecrets tells whether any of what would be sent is hidden from who may not
// see secrets. A file or document as a whole may always hold some.
func (p Preview) HoldsSecrets() bool {
	for _, st := range p.Steps {
		if len(st.Content) > 0 || st.ContentID != "" {
			return true
		}
		for i, l := range st.Lines {
			if i >= len(st.Masked) || st.Masked[i] != l {
				return true
			}
		}
	}
	return false
}

// Preview is exactly what a push would send and what the device should run
// afterwards.
type Preview struct {
	DeviceID              string             `json:"device_id"`
	Device                string             `json:"device"`
	Serial                string             `json:"serial"`
	Method                string             `json:"method"`
	TargetID              string             `json:"target_id"` // the version to be put back
	Target                string             `json:"target"`    // as a reference
	TargetName            string             `json:"target_name,omitempty"`
	BaseID                string             `json:"base_id"` // the version that runs now
	Base                  string             `json:"base"`
	Fingerprint           string             `json:"fingerprint"`          // of what runs now
	StartupID             string             `json:"startup_id,omitempty"` // of a staged push: the version that startup holds now
	DialectRev            int                `json:"dialect_rev"`
	Part                  string             `json:"part"` // which part of the device is written
	Steps                 []SendStep         `json:"steps"`
	Changes               []visit.Difference `json:"changes,omitempty"` // of a document sent as a whole: what it changes
	Predicted             string             `json:"predicted"`
	PredictedRed          string             `json:"predicted_masked"`
	Remaining             []visit.Difference `json:"remains"` // what would still differ from the target
	Notes                 []string           `json:"warnings"`
	Undo                  string             `json:"undo"`    // what takes it back unless it is confirmed in its window; empty: nothing can
	UndoBy                string             `json:"undo_by"` // commit, timer or service
	Saves                 bool               `json:"saves"`   // startup can be written afterwards
	Unsaved               bool               `json:"unsaved"`
	UndoOf                string             `json:"undo_of,omitempty"`
	Only                  []string           `json:"only,omitempty"` // the blocks it is limited to
	InPlace               bool               `json:"in_place,omitempty"`
	Exactly               bool               `json:"exactly,omitempty"` // sent although what runs means the same
	LetGo                 rules.Gone         `json:"let_go,omitzero"`   // what differs from what runs and counts for nothing, by the dialect's rules
	Beside                bool               `json:"beside,omitempty"`
	Warnings              []string           `json:"doubts,omitempty"` // what speaks against it; a person has to say why it is done all the same
	Where                 visit.Where        `json:"where"`
	Swap                  *Swap              `json:"swap,omitempty"`
	TouchesManagementPath bool               `json:"touches_path,omitempty"`
	Factory               bool               `json:"factory,omitempty"`    // the unit has factory settings
	Unreadable            string             `json:"unreadable,omitempty"` // why what runs could not be kept; the push overwrites it
	Elements              []Element          `json:"elements,omitempty"`   // logical elements that go with it
	AsWhole               bool               `json:"as_whole,omitempty"`   // all of them were looked at, those included of which it says nothing
	Came                  string             `json:"came,omitempty"`       // the keyed hash of it
	KeyFacts              []Pair             `json:"landmarks,omitempty"`
	SetAside              []visit.Difference `json:"held,omitempty"`   // lines of the version that are set aside: they belong to the hardware it was taken from
	Loaded                []visit.Difference `json:"loaded,omitempty"` // what somebody loaded into the candidate and did not commit
}

// PreviewRequest is what a preview job is asked for.
type PreviewRequest struct {
	VersionID string            `json:"version_id"`
	Method    string            `json:"method"`
	UndoOf    string            `json:"undo_of,omitempty"`
	Only      []string          `json:"only,omitempty"` // only these blocks of it; see change.Choose
	InPlace   bool              `json:"in_place,omitempty"`
	Exactly   bool              `json:"exactly,omitempty"`  // the whole text is sent although what runs means the same, where it is written differently
	Swap      bool              `json:"swap,omitempty"`     // other hardware that answers is to take the device's place
	At        string            `json:"at,omitempty"`       // where the unit is for now: HOST or HOST:PORT
	Accept    string            `json:"accept,omitempty"`   // the fingerprint of its key
	Relay     string            `json:"relay,omitempty"`    // the machine beside it that lends its reach
	Which     string            `json:"which,omitempty"`    // how the version was chosen: number, name, baseline, latest…
	Alone     bool              `json:"alone,omitempty"`    // this part only, and not the logical elements that go with it
	Elements  map[string]string `json:"elements,omitempty"` // their versions by part, where they are chosen, too; those left out are to go
}

// Element is a logical element (RFC 8530) that goes with a push of the main part: a device is put back as a
// whole. It is created, changed or removed, or is as it should be.
type Element struct {
	Part        string `json:"part"`                // running+NAME
	Name        string `json:"name"`                // NAME
	TargetID    string `json:"target_id,omitempty"` // the version that it is put to; empty: it is to go
	Target      string `json:"target,omitempty"`
	BaseID      string `json:"base_id,omitempty"` // what it has now; empty: it is not there
	Fingerprint string `json:"fingerprint,omitempty"`
	Do          string `json:"do,omitempty"`     // create, change or remove; empty: it is as it should be
	Cannot      string `json:"cannot,omitempty"` // why this push does not do that
}

// what words what is done to it.
func (e Element) what() string {
	switch e.Do {
	case "create":
		return fmt.Sprintf("logical element %s, which is not there: created, as %s", e.Name, e.Target)
	case "remove":
		return fmt.Sprintf("logical element %s, which was not there then: removed", e.Name)
	}
	return fmt.Sprintf("logical element %s: changed, to run %s", e.Name, e.Target)
}

// Pair is what a key fact is in only one of what runs and the version.
type Pair struct {
	Name string   `json:"name"`
	Have []string `json:"have"`
	Want []string `json:"want"`
}

// SendStep is one step of a script with what a reader may see of it.
type SendStep struct {
	Kind     string   `json:"kind"`
	Part     string   `json:"part,omitempty"` // of a logical element: its own
	Drop     bool     `json:"drop,omitempty"` // the element is taken away
	Lines    []string `json:"lines"`
	Masked   []string `json:"masked"`
	Block    string   `json:"block,omitempty"`
	Depth    int      `json:"depth"`
	Hostname string   `json:"hostname,omitempty"` // a name the prompt shows from then on
	Secrets  []string `json:"secrets,omitempty"`
	Reach    bool     `json:"reach,omitempty"`   // it carries the path by which the device is reached
	Assumed  bool     `json:"assumed,omitempty"` // no rule speaks of it

	Content    []byte `json:"content,omitempty"`    // of a load, stage or restart: the document or file, or what startup must hold
	ContentID  string `json:"content_id,omitempty"` // of a load, in the place of that: a file too large to be held, as it is kept
	Size       int64  `json:"size,omitempty"`       // and how many bytes that has
	Current    []byte `json:"current,omitempty"`    // and what it is laid over
	Passphrase string `json:"passphrase,omitempty"`
}

// away is how long at most the device is away because of the push; nought if it
// does not restart.
func (p Preview) away(dia *dialect.Dialect) time.Duration {
	_, back := absence(p.Steps, dia)
	return back
}

// absence is how long a device may go on answering after the steps that restart
// it, and within what time it is back; nought if they do not.
func absence(steps []SendStep, dia *dialect.Dialect) (down, back time.Duration) {
	switch {
	case len(steps) == 0:
		return 0, 0
	case steps[len(steps)-1].Kind == "restart":
		return dia.Span(dia.Change.Stage.Down, 10*time.Second), dia.Span(dia.Change.Stage.Back, 0)
	}
	return 0, dia.Restarts
}

// LineCount is how many lines are sent, counted as they are numbered: a text over
// several lines is one.
func (p Preview) LineCount() int { return len(p.Steps) }

// ErrOtherHardware is why nothing is pushed to a device that is not the one
// expected, or that has factory settings.
var ErrOtherHardware = errors.New("nothing is pushed to it before a person has said that this unit belongs here")

// linkRefused returns the device's refusal in err, if that is what it is.
func linkRefused(err error) *link.Refused {
	var r *link.Refused
	if errors.As(err, &r) && !errors.Is(err, link.ErrLoginRefused) {
		return r
	}
	return nil
}

// ours tells whether a step is in our words, and no line to be typed.
func (st SendStep) ours() bool {
	return slices.Contains([]string{"load", "commit", "stage", "restart", "live"}, st.Kind)
}

// Swap is other hardware that takes a device's place.
type Swap struct {
	OldSerials []string `json:"old_serials"`
	OldModel   string   `json:"old_model"`
	NewSerial  string   `json:"new_serial"`
	NewModel   string   `json:"new_model"`
	NewRelease string   `json:"new_release"`
	OldKey     string   `json:"old_key"` // to be given back when the swap is undone
}
