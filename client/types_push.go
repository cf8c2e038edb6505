package client

import "time"

// NewRestorePreview asks what putting many devices back would take.
type NewRestorePreview struct {
	Selector []string `json:"selector"`
	Which    string   `json:"which,omitempty"`    // of their main parts: baseline, previous, a name, a time…
	Snapshot string   `json:"snapshot,omitempty"` // or the versions of this one; without a selector all of its devices
}

// RestorePreview is what putting many devices back would take, in the order in which it
// would be done.
type RestorePreview struct {
	Which string              `json:"which"`
	Rows  []RestorePreviewRow `json:"rows"`
}

// RestorePreviewRow is one device of a restore preview.
type RestorePreviewRow struct {
	Device   string   `json:"device" column:"1 device, in this order"`
	Target   string   `json:"target,omitempty" column:"2 to run"`
	Preview  string   `json:"preview,omitempty"`
	Lines    int      `json:"lines" column:"3 "`
	Warnings []string `json:"warnings"`       // what speaks against it, though it does not forbid it
	Skip     string   `json:"skip,omitempty"` // why it is left out
	Refused  bool     `json:"refused"`        // not because it needs nothing, but because it cannot be done
}

// NewRestore pushes what a restore preview shows.
type NewRestore struct {
	RestorePreview string `json:"restore_preview"` // the job
	Within         string `json:"within,omitempty"`
	Together       bool   `json:"together,omitempty"`   // one window for all, which begins with the restore
	AtOnce         int    `json:"at_once,omitempty"`    // so many at a time after the first; 4 if not said
	StopAfter      int    `json:"stop_after,omitempty"` // so many pushes that did not end well; 1 if not said
	Note           string `json:"note,omitempty"`
	Override       string `json:"override,omitempty"`

	Checks []string `json:"checks,omitempty"` // made before and after each push; one that was good and is bad counts as a push that did not end well
}

// Restore is how each device came out.
type Restore struct {
	Which string     `json:"which"`
	Rows  []Restored `json:"rows"`
}

// Restored is one device of a restore.
type Restored struct {
	Device  string `json:"device" column:"1 device"`
	Target  string `json:"target"`
	Job     string `json:"job,omitempty" column:"3 push"`
	Outcome string `json:"outcome" column:"2 came out"` // of its push; running, waiting, not begun, skipped
	Summary string `json:"summary" column:"4 summary"`
}

// NewPreview asks what a push would do.
type NewPreview struct {
	Ref    string `json:"ref,omitempty"`
	To     string `json:"to,omitempty"`                    // another device than the reference's
	Method string `json:"method,omitempty" enum:"methods"` // replace or merge
	UndoOf string `json:"undo_of,omitempty"`

	Only      []string `json:"only,omitempty"`       // only these blocks of it, like "lane quay1" or "flock 7 / neighbour 10.0.0.1"
	InPlace   bool     `json:"in_place,omitempty"`   // what is in use is taken apart where it stands, not built anew beside first
	Exactly   bool     `json:"exactly,omitempty"`    // the whole text is sent although what runs means the same, where it is written differently
	Swap      bool     `json:"swap,omitempty"`       // other hardware that answers is to take the device's place
	At        string   `json:"at,omitempty"`         // where the unit is for now, HOST or HOST:PORT: a factory address, a bench
	AcceptKey string   `json:"accept_key,omitempty"` // the fingerprint of its key
	Relay     string   `json:"relay,omitempty"`      // the machine beside it that lends its reach
}

// Preview is exactly what a push would send and lead to.
type Preview struct {
	ID         string       `json:"id"`
	Hash       string       `json:"hash"`
	Device     string       `json:"device"`
	Part       string       `json:"part"`
	Relay      string       `json:"relay,omitempty"` // through which it is spoken to
	SetAside   []Difference `json:"set_aside"`       // lines of the version that are set aside: they belong to the hardware it was taken from
	Loaded     []Difference `json:"loaded"`          // what somebody loaded into the candidate and did not commit: have runs, want is loaded
	Methods    []string     `json:"methods"`         // what the dialect offers, the preferred one first
	Changes    []Difference `json:"changes"`         // what a document that is sent as a whole changes
	Serial     string       `json:"serial"`
	Method     string       `json:"method"`
	Target     string       `json:"target"`
	TargetName string       `json:"target_name,omitempty"`
	Base       string       `json:"base"`
	MadeAt     time.Time    `json:"made_at"`
	Steps      []Step       `json:"steps"`
	Lines      int          `json:"lines"`
	Assumed    int          `json:"assumed"` // how many of them no rule speaks of
	Predicted  string       `json:"predicted"`
	Remaining  []Difference `json:"remaining"`
	Notes      []string     `json:"notes"`
	Undo       string       `json:"undo"`
	Saves      bool         `json:"saves"`
	Unsaved    bool         `json:"unsaved"`
	Masked     bool         `json:"masked"`
	UndoOf     string       `json:"undo_of,omitempty"`

	TouchesManagementPath bool `json:"touches_management_path"` // it touches what the device is reached by, or the account that signs in

	Only      []string      `json:"only,omitempty"`     // the blocks it is limited to
	InPlace   bool          `json:"in_place"`           // what is in use is taken apart where it stands
	Exactly   bool          `json:"exactly"`            // sent although what runs means the same
	LetGo     LetGo         `json:"let_go"`             // what differs from what runs and counts for nothing, because the dialect says so
	Beside    bool          `json:"beside"`             // something in use is built anew beside first
	Approval  string        `json:"approval,omitempty"` // the rule by which a second person has to approve a push of it
	Warnings  []string      `json:"warnings"`           // what speaks against it; a push has to say why it is done all the same
	Swap      *Newcomer     `json:"swap,omitempty"`
	Factory   bool          `json:"factory"` // the unit has factory settings
	At        string        `json:"at,omitempty"`
	KeyFacts  []KeyFactPair `json:"key_facts"`
	Suggested []string      `json:"suggested"` // checks that would tell whether the device still does its work
}

// Step is what is sent at once.
type Step struct {
	Kind  string   `json:"kind" enum:"step kinds"` // enter, set, remove, leave, load, commit
	Lines []string `json:"lines"`
	Block string   `json:"block,omitempty"`
	Depth int      `json:"depth"`

	Assumed bool `json:"assumed"` // no rule of the dialect speaks of it: that it does what most lines do is assumed
}

// Plan is how a planned push stands.
type Plan struct {
	From     time.Time `json:"from"`
	Until    time.Time `json:"until"`
	Zone     string    `json:"zone"`
	Preview  string    `json:"preview"`            // what would be sent, as it was looked at last
	Changed  bool      `json:"changed"`            // at its time something else would have been sent, so it asks
	Rule     string    `json:"rule,omitempty"`     // the selector by which a second person has to approve it
	Approved string    `json:"approved,omitempty"` // by whom
	Push     string    `json:"push,omitempty"`     // the job, once it has begun
}

// RestoreTest is how a restore test went.
type RestoreTest struct {
	Ref    string `json:"ref"`            // the version that was tried out
	On     string `json:"on"`             // the device it was put on
	Push   string `json:"push,omitempty"` // the job that put it there
	Back   string `json:"back,omitempty"` // the job that put back what ran there before
	Proved bool   `json:"proved"`         // it was equal
	Whole  bool   `json:"whole"`          // and the other device runs again what it ran before
}

// NewRestoreTest tries a version out on another device.
type NewRestoreTest struct {
	Ref  string `json:"ref"`
	On   string `json:"on"`
	Note string `json:"note,omitempty"`
}

// Approval is a selector of devices to which nobody pushes alone.
type Approval struct {
	ID       string    `json:"id" column:"1 rule"`
	Selector []string  `json:"selector" column:"2 a second person approves pushes to"`
	MadeBy   string    `json:"made_by" column:"3 made by"`
	MadeAt   time.Time `json:"made_at" column:"4 since"`
}

// NewApproval asks for a second person.
type NewApproval struct {
	Selector []string `json:"selector"`
}

// NewPush pushes what a preview shows.
type NewPush struct {
	Preview string `json:"preview"`
	Hash    string `json:"hash"`
	NoSave  bool   `json:"no_save,omitempty"`
	Note    string `json:"note,omitempty"`

	From  *time.Time `json:"from,omitempty"`  // do it later: it begins between these, or not at all
	Until *time.Time `json:"until,omitempty"` //
	Zone  string     `json:"zone,omitempty"`  // in which they were meant, as the IANA database names it

	Leave       bool `json:"leave,omitempty"`        // when a line is refused, what was applied before it stays
	HoldRestart bool `json:"hold_restart,omitempty"` // of method stage: the restart is left to later

	Checks       []string `json:"checks,omitempty"`                         // made before and after: tcp HOST:PORT, http URL [STATUS], dns NAME [at SERVER], ssh HOST[:PORT], ping ADDRESS, from DEVICE ping ADDRESS, device NAME, children, state NAME
	Override     string   `json:"override,omitempty"`                       // why it is done although warnings speak against it
	Within       string   `json:"within,omitempty"`                         // it undoes itself unless it is confirmed in this time, as "5m"; from 20s to 24h
	Rounds       *int     `json:"rounds,omitempty" minimum:"0" maximum:"5"` // how often what is missing after the proof is worked out again and sent, towards the same version; once in a window if not said, otherwise never
	WhenVerified bool     `json:"when_verified,omitempty"`                  // it confirms itself when it is verified

	NameBefore string `json:"name_before,omitempty"` // of the version that is kept before it: one that no version of the device has
	NameAfter  string `json:"name_after,omitempty"`  // of the one that is proved after

	EndSession string `json:"end_session,omitempty"` // the device's name for somebody's session that holds it and is to be ended
}
