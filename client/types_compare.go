package client

import "time"

// Diff is two texts laid against each other.
type Diff struct {
	From     string `json:"from"`
	FromSure string `json:"from_sure,omitempty"`
	To       string `json:"to"`
	ToSure   string `json:"to_sure,omitempty"`
	Relation string `json:"relation" enum:"relations"` // identical, unchanged, equivalent, different
	Added    int    `json:"added"`
	Removed  int    `json:"removed"`
	SetAside int    `json:"set_aside"` // lines that change by themselves and were left out
	Ignored  int    `json:"ignored"`   // lines that rules of one's own ignore and that were left out
	Hidden   []Hid  `json:"hidden"`    // how many each of those rules left out
	Unsure   int    `json:"unsure"`    // lines whose secrets could not be compared
	LetGo    LetGo  `json:"let_go"`    // what differs and counts for nothing, because the dialect says so
	Masked   bool   `json:"masked"`
	Hunks    []Hunk `json:"hunks"`
	Unified  string `json:"unified"`
	// The same as what became of the entries, where both are read the same way.
	Changes []EntryChange `json:"changes"`
}

// LetGo counts lines that differ between two texts and count for nothing, because the dialect says so.
type LetGo struct {
	Order    int `json:"order"`    // they stand elsewhere where order is free
	Blanks   int `json:"blanks"`   // they have other blanks between the words that their rule names
	Defaults int `json:"defaults"` // they are at their default, and only one side has them
	Written  int `json:"written"`  // they are written in another way that means the same
	Itself   int `json:"itself"`   // comments, and lines that change by themselves; of a comparison, set_aside says how many
}

// DialectRule stands for the name of a rule that is the dialect's.
const DialectRule = "the dialect's"

// Hid is how many lines a rule of one's own left out of a comparison.
type Hid struct {
	Rule  string `json:"rule"`
	Lines int    `json:"lines"`
}

// NewFileDiff asks for a version to be compared with a file, which is read as the version is.
type NewFileDiff struct {
	Ref       string    `json:"ref"`
	Name      string    `json:"name"` // of the file
	Text      string    `json:"text"` // what it holds
	WrittenAt time.Time `json:"written_at,omitempty"`
	FileFirst bool      `json:"file_first,omitempty"` // the file is what there was, the version what came of it
	Context   int       `json:"context"`              // unchanged lines around each change
	All       bool      `json:"all,omitempty"`        // also lines that change by themselves
}

// EntryChange is what became of one entry of a configuration.
type EntryChange struct {
	Kind     string `json:"kind" enum:"entry changes"` // added, removed, changed, moved, renamed
	Path     string `json:"path,omitempty"`            // the blocks around it, or what it is about
	From     string `json:"from,omitempty"`            // its line as it was
	To       string `json:"to,omitempty"`              // and as it is
	FromLine int    `json:"from_line,omitempty"`
	ToLine   int    `json:"to_line,omitempty"`
	More     int    `json:"more,omitempty"`    // lines below it that came, went or stayed the same along with it
	Default  bool   `json:"default,omitempty"` // the side that stands on no line is what the device does by default
	Near     string `json:"near,omitempty"`    // of what was moved: the line that it stands behind now
}

// Hunk is a group of changed lines with those around them.
type Hunk struct {
	From    int        `json:"from"`
	FromLen int        `json:"from_lines"`
	To      int        `json:"to"`
	ToLen   int        `json:"to_lines"`
	Block   string     `json:"block,omitempty"`
	Lines   []DiffLine `json:"lines"`
}

// DiffLine is one line of a hunk. Marks are byte offsets of what differs from
// the facing line.
type DiffLine struct {
	Op    string   `json:"op" enum:"line ops"` // same, remove, add
	Text  string   `json:"text"`
	From  int      `json:"from,omitempty"`
	To    int      `json:"to,omitempty"`
	Marks [][2]int `json:"marks,omitempty"`
}

// Difference is a line that differs from what it should be.
type Difference struct {
	Block string `json:"block,omitempty"`
	Have  string `json:"have,omitempty"`
	Want  string `json:"want,omitempty"`
	Order bool   `json:"order,omitempty"`
	Rule  string `json:"rule,omitempty"` // the rule of one's own that misses the line, or does not want it
}

// Distance is how far an earlier version is from another.
type Distance struct {
	Version
	Gained int  `json:"gained"` // lines that came since
	Lost   int  `json:"lost"`   // lines that went since
	Same   bool `json:"same"`   // nothing of it means anything
}

// Origin is the version that brought a line in.
type Origin struct {
	Ref     string    `json:"ref"`
	Number  int       `json:"number"`
	TakenAt time.Time `json:"taken_at"`
	Author  string    `json:"author,omitempty"` // who changed the device, as it says
	Actor   string    `json:"actor"`            // who had it pulled
	Reason  string    `json:"reason" enum:"reasons"`
	First   bool      `json:"first,omitempty"` // it is the oldest version there is: the line may be older
}

// LineOrigin is a line of a version, and where it came from.
type LineOrigin struct {
	Line int    `json:"line"`
	Text string `json:"text"`
	Path string `json:"path,omitempty"`
	Origin
}

// Passed is a line that came or went.
type Passed struct {
	Came bool   `json:"came"`
	Path string `json:"path,omitempty"` // the blocks around it, or what it is about
	Text string `json:"text"`
}

// Together is one change that was made to one device or to many alike.
type Together struct {
	Versions []Version `json:"versions"` // that it brought, newest first
	Devices  int       `json:"devices"`
	Lines    []Passed  `json:"lines"` // what came and went; of a long one the first
	Added    int       `json:"added"`
	Removed  int       `json:"removed"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	By       []string  `json:"by"`
}

// TogetherPage is what changed in a span of time.
type TogetherPage struct {
	Items []Together `json:"items"`
	More  bool       `json:"more"` // there were more versions than are looked at: choose a shorter span
}
