package client

import "time"

// Drift is how a device stands to its baseline, and to what people want of its lines.
type Drift struct {
	Device      string       `json:"device" column:"1 device"`
	Part        string       `json:"part"`
	State       string       `json:"state" enum:"drift states" column:"2 state"` // in sync, drifted, no baseline, not known
	Baseline    string       `json:"baseline,omitempty" column:"3 baseline"`
	Running     string       `json:"running,omitempty"`
	Differences []Difference `json:"differences"`
	Trouble     string       `json:"trouble,omitempty" column:"4 trouble"`
	Since       *Origin      `json:"since,omitempty"`        // the version since which it has been off, without a break
	Ignored     int          `json:"ignored,omitempty"`      // lines off the baseline that rules of one's own leave aside
	Unsure      int          `json:"unsure,omitempty"`       // secrets that could not be compared
	LetGo       LetGo        `json:"let_go"`                 // what differs from the baseline and counts for nothing, because the dialect says so
	Known       *Known       `json:"acknowledged,omitempty"` // somebody knows of all that differs
}

// DriftReport is how devices stand, and what changed on them in a span of time. Secrets are hidden.
type DriftReport struct {
	At       time.Time      `json:"at"`
	By       string         `json:"by"`
	Selector []string       `json:"selector"`
	Counts   map[string]int `json:"counts"` // parts by how they stand
	Items    []Drift        `json:"items"`
	Since    time.Time      `json:"since"`
	Until    time.Time      `json:"until"`
	Changes  []Together     `json:"changes"` // what hit several devices alike as one
	More     bool           `json:"more,omitempty"`
}

// Rule is what people say of lines of devices of theirs.
type Rule struct {
	Name      string    `json:"name" column:"1 rule"`
	Kind      string    `json:"kind" enum:"rule kinds" column:"2 says"` // noise: they do not count; must: they have to be there; must-not; differs: from device to device
	Path      string    `json:"path" column:"3 lines"`                  // in the words of the dialect, as its own rules have them
	Selector  []string  `json:"selector" column:"4 of"`
	Dialect   string    `json:"dialect" column:"5 dialect"`
	Note      string    `json:"note,omitempty" column:"0 note"`
	ChangedBy string    `json:"changed_by"`
	ChangedAt time.Time `json:"changed_at"`
	Job       string    `json:"job,omitempty"` // that judges its devices anew
}

// NewRule is what a rule is to be.
type NewRule struct {
	Kind     string   `json:"kind" enum:"rule kinds"`
	Path     string   `json:"path,omitempty"`
	Text     string   `json:"text,omitempty"` // of a model: the lines that have to be there, with {{variables}}
	Selector []string `json:"selector"`
	Dialect  string   `json:"dialect,omitempty"` // that of all its devices, where they have one
	Note     string   `json:"note,omitempty"`
}

// RuleFinds is what a rule comes to in what devices run.
type RuleFinds struct {
	Rule    Rule       `json:"rule"`
	Looked  int        `json:"looked"`  // devices that were looked at
	Devices int        `json:"devices"` // devices with such lines
	Lines   int        `json:"lines"`   // the lines; the first 500 are listed
	Items   []RuleLine `json:"items"`
	Unread  []string   `json:"unread"` // devices that could not be looked at

	Text      string   `json:"text,omitempty"`      // of a model: its text, secrets hidden
	Variables []string `json:"variables,omitempty"` // that stand in it: fields of the devices' entries, and name, site and address
}

// RuleLine is a line that a rule hides, misses or does not want.
type RuleLine struct {
	Device string `json:"device" column:"1 device"`
	Block  string `json:"block,omitempty" column:"2 in"`
	Line   string `json:"line" column:"3 line"`
	Lacks  bool   `json:"lacks,omitempty"` // it is not there, and should be
}

// NewAcknowledgement says that drift is known.
type NewAcknowledgement struct {
	Selector []string  `json:"selector"`
	Reason   string    `json:"reason"`
	Until    time.Time `json:"until"` // when it counts again
}

// Acknowledged is what was acknowledged, or counts again.
type Acknowledged struct {
	Parts   []string  `json:"parts"`
	Skipped []Skipped `json:"skipped"`
}

// Off says what a part is off: its baseline, what rules want, or both. rules tells whether it is what
// rules want alone.
func (d Drift) Off() (what string, rules bool) {
	base, own := false, false
	for _, x := range d.Differences {
		base, own = base || x.Rule == "", own || x.Rule != ""
	}
	switch {
	case base && own:
		return "its baseline " + d.Baseline + " and what rules want", false
	case own || d.Baseline == "":
		return "what rules want", true
	}
	return "its baseline " + d.Baseline, false
}

// Known is somebody's word that drift is known, until a time. It covers the lines that differed when it was
// given: of others it is drift.
type Known struct {
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
}

// NewBaselines approves a version of each of many devices.
type NewBaselines struct {
	Selector []string `json:"selector"`
	Which    string   `json:"which,omitempty"` // of their main parts: latest if not said, a number, a name, a time…
}

// Baselined is what became the baseline, and which devices were left as they are.
type Baselined struct {
	Items   []Version `json:"items"`
	Skipped []Skipped `json:"skipped"`
	Waiting int       `json:"waiting,omitempty"` // versions that a second person has to approve
	Job     string    `json:"job,omitempty"`     // the job that waits for that
}

// Skipped is a device to which nothing was done, and why.
type Skipped struct {
	Device string `json:"device"`
	Why    string `json:"why"`
}
