package client

import "time"

// Version is one part's content at one time, immutable.
type Version struct {
	ID         string    `json:"id"`
	Ref        string    `json:"ref"`
	Device     string    `json:"device" column:"0 device"`
	Part       string    `json:"part" column:"0 part"`
	Number     int       `json:"number" column:"1 version"`
	TakenAt    time.Time `json:"taken_at" column:"2 taken"`
	Reason     string    `json:"reason" enum:"reasons" column:"7 pulled"`
	Actor      string    `json:"actor" column:"0 by"` // who had it pulled
	Author     string    `json:"author,omitempty" column:"6 changed by"`
	Name       string    `json:"name,omitempty" column:"8 name"`
	MoreNames  []string  `json:"more_names,omitempty" column:"11 also named"` // that it was given before
	Note       string    `json:"note,omitempty" column:"10 note"`
	Pinned     bool      `json:"pinned" column:"9 marks"`
	Baseline   bool      `json:"baseline"`
	Size       int       `json:"size"` // bytes
	Lines      int       `json:"lines" column:"5 lines"`
	Added      int       `json:"added" column:"4 change"`
	Removed    int       `json:"removed"`
	DialectRev int       `json:"dialect_revision"`
	Aside      string    `json:"excluded,omitempty" enum:"asides"` // why it counts for nothing: other hardware, in factory state
	SeenFrom   time.Time `json:"seen_from" column:"0 seen from"`
	SeenUntil  time.Time `json:"seen_until" column:"3 seen until"`
	SeenOpen   bool      `json:"seen_open"`
	Sightings  int       `json:"sightings"`
	Serial     string    `json:"serial,omitempty" column:"0 serial"`   // of the unit that it came from
	Release    string    `json:"release,omitempty" column:"0 release"` // that this ran then
	Copies     int       `json:"copies" column:"0 copies"`             // places that can give it back, this one included
}

// Text is a version, or what a device runs now, with its text.
type Text struct {
	Ref     string    `json:"ref"`
	Sure    string    `json:"sure,omitempty"` // for a time: how sure it is
	TakenAt time.Time `json:"taken_at"`
	Version *Version  `json:"version,omitempty"`
	Masked  bool      `json:"masked"`
	Opaque  bool      `json:"opaque,omitempty"` // a file that is no text; it can be downloaded
	Size    int       `json:"size"`             // bytes
	Text    string    `json:"text"`

	KeyFacts []KeyFact `json:"key_facts"`
	Blocks   [][2]int  `json:"blocks"`   // of the text, as the dialect's grammar has them: first and last line, from 1
	Comments []int     `json:"comments"` // lines that say nothing to the device
	Hides    bool      `json:"hides"`    // it holds secrets, masked or not
}

// KeyFact is something a person looks for to believe in a version.
type KeyFact struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
	Lines  []string `json:"lines"` // those lines, secrets hidden, each behind the blocks it stands in
}

// Mark is what is said of a version; absent fields leave things as they are.
type Mark struct {
	Name     *string `json:"name,omitempty"`
	Note     *string `json:"note,omitempty"`
	Pin      *bool   `json:"pin,omitempty"`
	Baseline *bool   `json:"baseline,omitempty"`
}

// NewVersion is a text that a person made of a version.
type NewVersion struct {
	Ref  string `json:"ref"` // the version it was made of
	Text string `json:"text"`
	Note string `json:"note,omitempty"`

	Override string `json:"override,omitempty"` // why it is kept although it hardly is the device's
}

// Snapshot is a named set of versions, one a device's part, of one time.
type Snapshot struct {
	Name     string    `json:"name" column:"1 snapshot"`
	Selector string    `json:"selector" column:"3 of"`
	Note     string    `json:"note,omitempty" column:"6 note"`
	MadeBy   string    `json:"made_by" column:"5 by"`
	MadeAt   time.Time `json:"made_at" column:"4 made"`
	Count    int       `json:"count" column:"2 holds"`
	Versions []Version `json:"versions,omitempty"` // of one snapshot only
}

// MomentDiff is what became of many devices from one moment to another.
type MomentDiff struct {
	From  string     `json:"from"`
	To    string     `json:"to"`
	Same  int        `json:"same"` // parts that are unchanged
	Parts []PartDiff `json:"parts"`

	Oldest   string     `json:"oldest,omitempty"`    // compared with now: the device that was last pulled the longest ago
	OldestAt *time.Time `json:"oldest_at,omitempty"` // and when that was: what changed since is not known
}

// PartDiff is what became of one part.
type PartDiff struct {
	Device  string `json:"device" column:"1 device"`
	Part    string `json:"part" column:"2 part"`
	Became  string `json:"became" column:"3 it is"`        // changed, only here (in the first) or only there
	From    int    `json:"from,omitempty" column:"4 from"` // the versions' numbers
	To      int    `json:"to,omitempty" column:"5 to"`     //
	Added   int    `json:"added" column:"6 lines added"`   // once those that change by themselves are set aside
	Removed int    `json:"removed" column:"7 lines gone"`  //
	Note    string `json:"note,omitempty" column:"8 note"` // why no lines are counted
}

// NewSnapshot names a set of versions.
type NewSnapshot struct {
	Name     string     `json:"name"`
	Selector []string   `json:"selector"`
	At       *time.Time `json:"at,omitempty"` // as they were then; now if not said
	Note     string     `json:"note,omitempty"`
}

// BootstrapSheet is what a person types at a unit's console, or carries there, so that
// the service can reach it.
type BootstrapSheet struct {
	Device string      `json:"device"`
	Target string      `json:"target"`
	User   string      `json:"user"` // the account the service signs in with
	At     string      `json:"at"`   // where the service looks for it
	Lines  []SheetLine `json:"lines"`
	File   *SheetFile  `json:"file,omitempty"` // instead of lines: what is carried there as a whole
	Hidden int         `json:"hidden"`         // lines whose secrets are hidden
	Untold bool        `json:"untold"`         // no line holds the address at which it is sought: all that carry a way are there
}

// SheetLine is one line to type.
type SheetLine struct {
	Text string `json:"text"`
	Why  string `json:"why,omitempty"` // what it is for, where it is no line of the configuration
}

// SheetFile is a document or file to carry.
type SheetFile struct {
	Part   string `json:"part"`
	Bytes  int    `json:"bytes"`
	SHA256 string `json:"sha256,omitempty"` // for those who may see secrets
}

// NewExport is which versions leave as files, and how.
type NewExport struct {
	Selector   []string `json:"selector,omitempty"`
	Snapshot   string   `json:"snapshot,omitempty"`   // instead: what it holds
	History    bool     `json:"history,omitempty"`    // all versions of the devices, not the newest only
	Masked     bool     `json:"masked,omitempty"`     // without the secrets, for who may see them too
	As         string   `json:"as,omitempty"`         // tar.zst, if not said, or zip
	Recipients []string `json:"recipients,omitempty"` // age recipients to which it is sealed
	Passphrase string   `json:"passphrase,omitempty"` // or under which it is
}

// NewImport are files made elsewhere, to be taken in as versions.
type NewImport struct {
	Files []ImportFile `json:"files"`
	Zone  string       `json:"zone,omitempty"` // in which times in their names are meant, as the IANA database names it; UTC if not said
	// in which order the numbers of a date stand in their names: day-first, month-first or year-first; where
	// nobody says, a date that means several days is refused
	DateOrder string `json:"date_order,omitempty"`
	Preview   bool   `json:"preview,omitempty"` // say what would become of them, and do nothing
}

// ImportFile is one of them.
type ImportFile struct {
	File     string     `json:"file"`               // its name
	Content  string     `json:"content"`            // base64 (RFC 4648 §4)
	Device   string     `json:"device,omitempty"`   // whose it is, where its name and its beginning do not say it
	Part     string     `json:"part,omitempty"`     // the main one, if its name does not say another
	TakenAt  *time.Time `json:"taken_at,omitempty"` // of when it is
	Modified *time.Time `json:"modified,omitempty"` // when it was written; for what nothing else says a time of
	Name     string     `json:"name,omitempty"`     // of the version
	Note     string     `json:"note,omitempty"`
}

// RemovedVersion is a version that was deleted.
type RemovedVersion struct {
	Ref  string   `json:"ref"`
	Same []string `json:"same"` // versions that have the same text still, the first 20
}

// TakenIn is what became of a file.
type TakenIn struct {
	File    string     `json:"file" column:"1 file"`
	Became  string     `json:"became" column:"2 it is"` // added, there already, or refused
	Device  string     `json:"device,omitempty" column:"3 device"`
	Part    string     `json:"part,omitempty" column:"4 part"`
	Number  int        `json:"number,omitempty" column:"5 version"`
	TakenAt *time.Time `json:"taken_at,omitempty" column:"6 of"`
	By      string     `json:"by,omitempty" column:"7 known by"`
	Why     string     `json:"why,omitempty" column:"8 why"`
}

// Retention is a policy for how long versions stay. Those that are pinned or named, baselines,
// in a snapshot, the newest of their part and needed by a push that has not ended stay whatever
// it says.
type Retention struct {
	Name      string    `json:"name" column:"1 policy"`
	Selector  []string  `json:"selector" column:"2 of"`
	Newest    int       `json:"newest"`  // so many of those that were taken by themselves
	ByHand    int       `json:"by_hand"` // so many of those that a person asked for
	Daily     int       `json:"daily"`   // the last of each day, for so many days
	Weekly    int       `json:"weekly"`  // of each week, for so many weeks
	Monthly   int       `json:"monthly"` // of each month, for so many months
	Says      string    `json:"says" column:"3 keeps"`
	Note      string    `json:"note,omitempty" column:"5 note"`
	ChangedBy string    `json:"changed_by" column:"4 by"`
	ChangedAt time.Time `json:"changed_at"`
}

// NewRetention is what a policy is to be.
type NewRetention struct {
	Selector []string `json:"selector,omitempty"` // of which devices; everything-else has none
	Newest   int      `json:"newest"`
	ByHand   int      `json:"by_hand"`
	Daily    int      `json:"daily"`
	Weekly   int      `json:"weekly"`
	Monthly  int      `json:"monthly"`
	Note     string   `json:"note,omitempty"`
}

// RetentionPreview is what retention would delete now.
type RetentionPreview struct {
	Go    int            `json:"go"`    // so many versions
	Stay  int            `json:"stay"`  // and so many not
	Items []GoingVersion `json:"items"` // the first 5,000 of those that would
}

// GoingVersion is a version that has had its time.
type GoingVersion struct {
	Ref     string    `json:"ref" column:"1 version"`
	TakenAt time.Time `json:"taken_at" column:"2 taken"`
	Reason  string    `json:"reason" column:"3 reason"`
	Policy  string    `json:"policy" column:"4 policy"`
	Why     string    `json:"why" column:"5 it is"`
}
