// Package client speaks the service's HTTP API, version 1. Its types are what
// travels; openapi.yaml describes them.
package client

import (
	_ "embed"
	"slices"
	"strings"
	"time"
)

// Source is this file: what the fields mean stands beside them, and the API's
// description takes it from there.
//
//go:embed types.go
var Source []byte

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"` // the cursor of the next page; none: this is the last
}

// Pages tells that it is a page.
func (Page[T]) Pages() bool { return true }

// The window in which a push has to be confirmed.
const (
	MinWindow = 20 * time.Second
	MaxWindow = 24 * time.Hour
)

// Problem is an error as the service words it (RFC 9457).
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Next   string `json:"next,omitempty"`  // what to do about it
	Field  string `json:"field,omitempty"` // which field of what was sent is wrong

	Cause error `json:"-"` // of the service's own: what went wrong within it; it is not sent
}

func (p *Problem) Error() string {
	s := p.Title
	if p.Detail != "" {
		s = p.Detail
	}
	if p.Next != "" {
		s += "\n" + p.Next
	}
	return s
}

// Device is a managed network element.
type Device struct {
	ID           string     `json:"id"`
	Revision     int        `json:"revision"` // counts the changes of its entry; what a change is based on
	Name         string     `json:"name" column:"1 device"`
	Address      string     `json:"address" column:"9 address"`
	Port         int        `json:"port"`
	Site         string     `json:"site" column:"6 site"`
	Kind         string     `json:"kind" enum:"device kinds" column:"7 kind"`
	Tags         []string   `json:"tags" column:"8 tags"`
	Dialect      string     `json:"dialect"`
	User         string     `json:"user"`
	HostKey      string     `json:"host_key_fingerprint"` // SHA-256, as OpenSSH prints it
	State        string     `json:"state" enum:"device states" column:"2 state"`
	Since        *time.Time `json:"since,omitempty"` // when it came into its state
	Drifted      bool       `json:"drifted"`
	Acknowledged *time.Time `json:"acknowledged_until,omitempty"` // until when all its drift is acknowledged
	Unsaved      bool       `json:"unsaved"`
	Apart        *Apart     `json:"apart,omitempty"` // of one that is unsaved: what its dialect calls that
	Trouble      string     `json:"trouble,omitempty" column:"0 what is wrong, or what to do"`
	Host         string     `json:"host,omitempty"`
	Model        string     `json:"model,omitempty"`
	Serial       string     `json:"serial,omitempty"`
	StandIn      string     `json:"stand_in,omitempty"` // what stands in for a serial number that it does not have: address, machine-id or host-key
	Release      string     `json:"release,omitempty"`
	CreatedAt    time.Time  `json:"created_at"`
	LastTried    *time.Time `json:"last_tried,omitempty"`
	LastPulled   *time.Time `json:"last_pulled,omitempty" column:"4 last pulled" as:"ago"`
	LastChanged  *time.Time `json:"last_changed,omitempty" column:"5 changed"`
	LastProven   *time.Time `json:"last_proven,omitempty"`     // when a version of it was last put on hardware and proved equal
	Proven       string     `json:"proven,omitempty"`          // which, where and by what
	Latest       int        `json:"latest" column:"3 version"` // newest running version, 0 for none
	LatchedSince *time.Time `json:"latched_since,omitempty"`   // its login was refused and is not tried

	Transport  string            `json:"transport,omitempty"`  // empty: the dialect's usual one
	Parent     string            `json:"parent,omitempty"`     // the device it hangs on
	Member     string            `json:"member,omitempty"`     // its name there, if the parent speaks for it
	Jump       string            `json:"jump,omitempty"`       // the device its connections go through
	Timeouts   map[string]string `json:"timeouts,omitempty"`   // its own, instead of the dialect's
	Ports      map[string]int    `json:"ports,omitempty"`      // its own for moving files, by protocol
	Serials    []string          `json:"serials"`              // the hardware that may answer here
	Credential string            `json:"credential,omitempty"` // the credential set it uses; empty when it has one of its own

	Note     string            `json:"note,omitempty"`   // what people wrote down of it
	Fields   map[string]string `json:"fields,omitempty"` // what they wrote down by names of their own
	Disabled bool              `json:"disabled"`         // kept, and not visited

	Parts    []string `json:"parts,omitempty"`    // which it has versions of, the main one first; of one device only
	Children []Child  `json:"children,omitempty"` // the devices that hang on it; of one device only
}

// Apart is a part that is not equivalent to the one it follows, as startup should be to
// running.
type Apart struct {
	Word    string `json:"word"` // the state, as "unsaved" or "not loaded"
	Part    string `json:"part"`
	Follows string `json:"follows"`
}

// Child is a device that hangs on another.
type Child struct {
	Name  string `json:"name"`
	State string `json:"state"`
}

// NewDevice is what a device is added or edited with. Empty fields of an edit
// leave things as they are.
type NewDevice struct {
	Revision int `json:"-"` // of an edit: which one it is based on; 0: the newest, looked up before

	Name       string    `json:"name,omitempty"`
	Address    string    `json:"address,omitempty"`
	Port       int       `json:"port,omitempty"`
	Site       *string   `json:"site,omitempty"`
	Kind       string    `json:"kind,omitempty"`
	Tags       *[]string `json:"tags,omitempty"`
	Dialect    string    `json:"dialect,omitempty"`
	HostKey    string    `json:"host_key,omitempty"` // as in an authorized_keys line
	User       string    `json:"user,omitempty"`
	Password   string    `json:"password,omitempty"`
	Key        string    `json:"key,omitempty"`                           // private key, PEM or OpenSSH form
	Privileged string    `json:"privileged_secret,omitempty" was:"raise"` // of the privileged mode
	Agent      string    `json:"agent,omitempty"`                         // public key that the service's SSH agent signs with

	Passphrase string             `json:"passphrase,omitempty"`                  // what its archives are to be encrypted under
	Credential string             `json:"credential,omitempty"`                  // a credential set, instead of user and password
	Transport  string             `json:"transport,omitempty" enum:"transports"` // one of the dialect's
	Parent     *string            `json:"parent,omitempty"`                      // name of the device it hangs on; empty for none
	Jump       *string            `json:"jump,omitempty"`                        // name of the device to go through; empty for none
	Timeouts   *map[string]string `json:"timeouts,omitempty"`                    // connect, answer, idle, whole
	Ports      *map[string]int    `json:"ports,omitempty"`                       // sftp, scp, ftp, ftps, tftp
	Serials    *[]string          `json:"serials,omitempty"`                     // the hardware that may answer there
	Note       *string            `json:"note,omitempty"`
	Fields     *map[string]string `json:"fields,omitempty"`   // of an edit: in the place of those there were
	Disabled   *bool              `json:"disabled,omitempty"` // kept, and not visited any more
	Twice      bool               `json:"twice,omitempty"`    // another device is registered at the same address, on purpose
}

// Tried is what a device showed that is not registered yet.
type Tried struct {
	Identity
	Parts    []TriedPart `json:"parts"`
	Members  []string    `json:"members"` // devices it speaks for
	Warnings []string    `json:"warnings"`
}

// TriedPart is a part that was fetched and thrown away.
type TriedPart struct {
	Name    string `json:"name"`
	Lines   int    `json:"lines"`
	Bytes   int    `json:"bytes"`
	Absent  bool   `json:"absent,omitempty"`
	Trouble string `json:"trouble,omitempty"`

	Unruled      int    `json:"unruled"`                 // lines that no rule of the dialect speaks of
	FirstUnruled string `json:"first_unruled,omitempty"` // the first of them, with the blocks around it
	Unread       int    `json:"unread"`                  // lines that the grammar cannot read
	FirstUnread  string `json:"first_unread,omitempty"`  // where the first of them stands, and why
}

// CredentialSet is a credential that many devices share, without its secrets.
type CredentialSet struct {
	Name             string     `json:"name" column:"1 set"`
	User             string     `json:"user" column:"2 user"`
	Selector         string     `json:"selector,omitempty" column:"5 new devices"` // new devices that it picks get this set
	ChangedAt        time.Time  `json:"changed_at" column:"4 changed"`
	Devices          int        `json:"devices" column:"3 devices"`
	Latched          int        `json:"latched" column:"6 state"`     // how many of them refused it
	BreakerOpenSince *time.Time `json:"breaker_open_since,omitempty"` // it is not tried anywhere
	BreakerWhy       string     `json:"breaker_why,omitempty"`
	Revision         int        `json:"revision"`
}

// NewCredentialSet is what a set is made or changed with. Empty fields of a
// change leave things as they are.
type NewCredentialSet struct {
	Revision int `json:"-"` // of a change: which one it is based on; 0: the newest, looked up before

	Name       string  `json:"name,omitempty"`
	Selector   *string `json:"selector,omitempty"`
	User       string  `json:"user,omitempty"`
	Password   string  `json:"password,omitempty"`
	Key        string  `json:"key,omitempty"`
	Agent      string  `json:"agent,omitempty"`
	Privileged string  `json:"privileged_secret,omitempty" was:"raise"`
	Passphrase string  `json:"passphrase,omitempty"`

	FactoryUser     string `json:"factory_user,omitempty"`
	FactoryPassword string `json:"factory_password,omitempty"`
}

// Reach is an address to be asked who is there.
type Reach struct {
	Transport string `json:"transport,omitempty" enum:"transports"`
	Address   string `json:"address"`
	Port      int    `json:"port"`
	Relay     string `json:"relay,omitempty"` // the machine beside it that lends its reach
}

// Probe is what a device shows before anybody signs in.
type Probe struct {
	HostKey     string `json:"host_key"`
	Fingerprint string `json:"fingerprint"`
}

// Identity is what a device says of itself.
type Identity struct {
	Host    string `json:"host,omitempty"`
	Model   string `json:"model,omitempty"`
	Serial  string `json:"serial"`
	Release string `json:"release,omitempty"`
	Factory bool   `json:"factory,omitempty"` // it has factory settings
}

// Said is all that it says, in words.
func (i Identity) Said() string {
	said := []string{i.Host, i.Model, "serial " + i.Serial, i.Release}
	if i.Release != "" {
		said[3] = "release " + i.Release
	}
	return strings.Join(slices.DeleteFunc(said, func(s string) bool { return s == "" }), ", ")
}

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
	Note       string    `json:"note,omitempty" column:"10 note"`
	Pinned     bool      `json:"pinned" column:"9 marks"`
	Baseline   bool      `json:"baseline"`
	Size       int       `json:"size"` // bytes
	Lines      int       `json:"lines" column:"5 lines"`
	Added      int       `json:"added" column:"4 change"`
	Removed    int       `json:"removed"`
	DialectRev int       `json:"dialect_revision"`
	Aside      string    `json:"aside,omitempty" enum:"asides"` // why it counts for nothing: other hardware, in factory state
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

	Landmarks []Landmark `json:"landmarks"`
	Blocks    [][2]int   `json:"blocks"`   // of the text, as the dialect's grammar has them: first and last line, from 1
	Comments  []int      `json:"comments"` // lines that say nothing to the device
	Hides     bool       `json:"hides"`    // it holds secrets, masked or not
}

// Landmark is something a person looks for to believe in a version.
type Landmark struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Mark is what is said of a version; absent fields leave things as they are.
type Mark struct {
	Name     *string `json:"name,omitempty"`
	Note     *string `json:"note,omitempty"`
	Pin      *bool   `json:"pin,omitempty"`
	Baseline *bool   `json:"baseline,omitempty"`
}

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
	Noise    int    `json:"noise"`     // lines that rules of one's own call noise and that were left out
	Hidden   []Hid  `json:"hidden"`    // how many each of those rules left out
	Unsure   int    `json:"unsure"`    // lines whose secrets could not be compared
	Masked   bool   `json:"masked"`
	Hunks    []Hunk `json:"hunks"`
	Unified  string `json:"unified"`
	// The same as what became of the entries, where both are read the same way.
	Changes []EntryChange `json:"changes"`
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

// Drift is how a device stands to its baseline, and to what people want of its lines.
type Drift struct {
	Device      string       `json:"device" column:"1 device"`
	Part        string       `json:"part"`
	State       string       `json:"state" enum:"drift states" column:"2 state"` // steady, drifted, no baseline, not known
	Baseline    string       `json:"baseline,omitempty" column:"3 baseline"`
	Running     string       `json:"running,omitempty"`
	Differences []Difference `json:"differences"`
	Trouble     string       `json:"trouble,omitempty" column:"4 trouble"`
	Since       *Origin      `json:"since,omitempty"`        // the version since which it has been off, without a break
	Noise       int          `json:"noise,omitempty"`        // lines off the baseline that rules of one's own leave aside
	Unsure      int          `json:"unsure,omitempty"`       // secrets that could not be compared
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

// Touched is a hint that something was written lately and is worth asking for again.
type Touched struct {
	Topic   string `json:"topic" enum:"topics"` // device, part, job, log, deed or database
	ID      string `json:"id,omitempty"`
	Name    string `json:"name,omitempty"`    // a device's or part's name, a job's kind, what was done
	Device  string `json:"device,omitempty"`  // about whom it is, if it is about one
	State   string `json:"state,omitempty"`   // a device's or job's; of the database: away or back
	Outcome string `json:"outcome,omitempty"` // of a job that has ended
	Log     int    `json:"log,omitempty"`     // the number of a job's last entry
	Gone    bool   `json:"gone,omitempty"`    // the device was taken out
}

// NewTags puts tags on devices, and takes others off.
type NewTags struct {
	Selector []string `json:"selector"`
	Add      []string `json:"add,omitempty"`
	Drop     []string `json:"drop,omitempty"`
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

// NewPull asks for pulls.
type NewPull struct {
	Selector []string `json:"selector"`
	Name     string   `json:"name,omitempty"` // of the versions that it brings, or that are still current: one that no version of them has
	Note     string   `json:"note,omitempty"` // to them
}

// Job is one unit of work.
type Job struct {
	ID             string          `json:"id" column:"1 job"`
	Kind           string          `json:"kind" enum:"kinds" column:"3 kind"`
	Device         string          `json:"device" column:"4 device"`
	State          string          `json:"state" enum:"job states" column:"5 state"`
	Outcome        string          `json:"outcome,omitempty" enum:"outcomes" column:"0 outcome"`
	Summary        string          `json:"summary,omitempty" column:"7 what came of it"`
	Actor          string          `json:"actor" column:"6 by"`
	CreatedAt      time.Time       `json:"created_at" column:"2 asked for"`
	StartedAt      *time.Time      `json:"started_at,omitempty"`
	EndedAt        *time.Time      `json:"ended_at,omitempty"`
	Cancel         bool            `json:"cancel_asked"`
	UndoOf         string          `json:"undo_of,omitempty"`
	PartOf         string          `json:"part_of,omitempty"`               // the job that began it
	Due            *time.Time      `json:"due,omitempty"`                   // of a push that waits to be confirmed: when it undoes itself
	Awaits         string          `json:"awaits,omitempty" enum:"awaits"`  // what a waiting job waits for: confirm, restart, approval or start
	Decision       string          `json:"decision,omitempty" enum:"words"` // confirm, undo, restart, approve or decline, once somebody said so
	DecidedBy      string          `json:"decided_by,omitempty"`            // who
	Preview        string          `json:"preview,omitempty"`               // of a preview job that is done; of one push: what it does what is shown of
	Pull           *PullEnd        `json:"pull,omitempty"`
	Push           *PushEnd        `json:"push,omitempty"`
	Plan           *Plan           `json:"plan,omitempty"`         // of a planned push
	RestoreTest    *RestoreTest    `json:"restore_test,omitempty"` // of a restore test
	Learned        *Learned        `json:"learned,omitempty"`      // of learning a dialect's rules
	RestorePreview *RestorePreview `json:"restore_preview,omitempty"`
	Restore        *Restore        `json:"restore,omitempty"`
	Scheduled      *ScheduledRun   `json:"scheduled,omitempty"` // of what a schedule had done
	UsualMS        int64           `json:"usual_ms,omitempty"`  // how long one like it usually takes, in milliseconds; of one that goes on

	Result any `json:"result,omitempty"` // what it has led to, of kinds that have no field of their own
}

// JobKind is a kind of job that the service knows.
type JobKind struct {
	Name    string     `json:"name" column:"1 kind"`
	Does    string     `json:"does" column:"2 what it does"`
	Role    string     `json:"role" enum:"roles" column:"3 takes"`        // the least that asking for one takes
	Visits  bool       `json:"visits"`                                    // it talks to a device by itself
	Asked   bool       `json:"asked" column:"5 by its name"`              // it can be asked for by its name alone
	Recurs  bool       `json:"recurs"`                                    // a schedule can have it done
	Repeats bool       `json:"repeats"`                                   // one like an earlier one can be asked for
	Takes   []string   `json:"takes"`                                     // what goes with it then; what has an exclamation mark has to
	Awaits  []JobAwait `json:"awaits" column:"4 waits for (answered by)"` // what it can wait for
}

// JobAwait is one thing that a job can wait for.
type JobAwait struct {
	For   string    `json:"for" enum:"awaits"`
	Means string    `json:"means"` // who or what that is: it waits for …
	Words []JobWord `json:"words"` // what a person can say to it
}

// JobWord is one thing that a person can say to a job that waits, at
// /jobs/{id}/{word}.
type JobWord struct {
	Say  string `json:"say" enum:"words"`
	Does string `json:"does"`
}

// NewJob asks for a job by its kind's name.
type NewJob struct {
	Kind   string         `json:"kind" enum:"kinds"`
	Device string         `json:"device,omitempty"` // about whom it is, if it is about one
	With   map[string]any `json:"with,omitempty"`   // what goes with it, as its kind says
}

// PullEnd is what a pull brought.
type PullEnd struct {
	Parts  []PulledPart `json:"parts"`
	BySign bool         `json:"by_sign,omitempty"` // nothing was fetched: its signs of change were as when it was fetched last
}

// PulledPart is one part of a pull.
type PulledPart struct {
	Part    string `json:"part"`
	Number  int    `json:"number,omitempty"`
	New     bool   `json:"new"`
	Absent  bool   `json:"absent,omitempty"`
	Added   int    `json:"added"`
	Removed int    `json:"removed"`
}

// PushEnd is what a push led to.
type PushEnd struct {
	Target    string       `json:"target"`
	Before    string       `json:"before,omitempty"`
	After     string       `json:"after,omitempty"`
	Sent      int          `json:"sent"`
	Total     int          `json:"total"`
	Saved     bool         `json:"saved"`
	Remaining []Difference `json:"remaining"`
	Refused   *Refusal     `json:"refused,omitempty"`
	Checks    []Checked    `json:"checks"`
}

// Checked is a check and what came of it before a push and after.
type Checked struct {
	Check  string   `json:"check"`
	Before *Finding `json:"before,omitempty"`
	After  *Finding `json:"after,omitempty"`
	Failed bool     `json:"failed"` // it was good and is bad
}

// Finding is what came of a check once.
type Finding struct {
	Good  bool   `json:"good"`
	Known bool   `json:"known"` // it could be made at all
	Said  string `json:"said"`
}

// Refusal is the line a device would not take.
type Refusal struct {
	Line   int    `json:"line"`
	Text   string `json:"text"`
	Block  string `json:"block,omitempty"`
	Answer string `json:"answer"`
}

// Entry is one line of a job's log.
type Entry struct {
	Seq  int       `json:"seq"`
	At   time.Time `json:"at"`
	Kind string    `json:"kind" enum:"entry kinds"` // step, info, line, warning, trouble, kept, end
	Text string    `json:"text"`
}

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
	RestorePreview string `json:"restore_preview" was:"survey"` // the job
	Within         string `json:"within,omitempty"`
	Together       bool   `json:"together,omitempty"`   // one window for all, which begins with the restore
	AtOnce         int    `json:"at_once,omitempty"`    // so many at a time after the first; 4 if not said
	StopAfter      int    `json:"stop_after,omitempty"` // so many pushes that did not end well; 1 if not said
	Note           string `json:"note,omitempty"`
	Override       string `json:"override,omitempty" was:"despite"`
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

// NewVersion is a text that a person made of a version.
type NewVersion struct {
	Ref  string `json:"ref"` // the version it was made of
	Text string `json:"text"`
	Note string `json:"note,omitempty"`

	Override string `json:"override,omitempty" was:"despite"` // why it is kept although it hardly is the device's
}

// NewPreview asks what a push would do.
type NewPreview struct {
	Ref    string `json:"ref,omitempty"`
	To     string `json:"to,omitempty"`                    // another device than the reference's
	Method string `json:"method,omitempty" enum:"methods"` // replace or merge
	UndoOf string `json:"undo_of,omitempty"`

	Only      []string `json:"only,omitempty"`       // only these blocks of it, like "lane quay1" or "flock 7 / neighbour 10.0.0.1"
	InPlace   bool     `json:"in_place,omitempty"`   // what is in use is taken apart where it stands, not built anew beside first
	Swap      bool     `json:"swap,omitempty"`       // other hardware that answers is to take the device's place
	At        string   `json:"at,omitempty"`         // where the unit is for now, HOST or HOST:PORT: a factory address, a bench
	AcceptKey string   `json:"accept_key,omitempty"` // the fingerprint of its key
	Relay     string   `json:"relay,omitempty"`      // the machine beside it that lends its reach
}

// Newcomer is other hardware that is to take a device's place.
type Newcomer struct {
	OldSerials []string `json:"old_serials"`
	OldModel   string   `json:"old_model"`
	NewSerial  string   `json:"new_serial"`
	NewModel   string   `json:"new_model"`
	NewRelease string   `json:"new_release"`
}

// Swap is new hardware that took a device's place.
type Swap struct {
	At        time.Time `json:"at"`
	Job       string    `json:"job"`
	Actor     string    `json:"actor"`
	OldSerial string    `json:"old_serial"`
	OldModel  string    `json:"old_model"`
	NewSerial string    `json:"new_serial"`
	NewModel  string    `json:"new_model"`
	Version   string    `json:"version"`
	Outcome   string    `json:"outcome"`
	Note      string    `json:"note"`
}

// LandmarkPair is what a landmark is only in what runs, and only in the version that
// is to run.
type LandmarkPair struct {
	Name string   `json:"name"`
	Have []string `json:"have"`
	Want []string `json:"want"`
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

	Only      []string       `json:"only,omitempty"` // the blocks it is limited to
	InPlace   bool           `json:"in_place"`       // what is in use is taken apart where it stands
	Beside    bool           `json:"beside"`         // something in use is built anew beside first
	Warnings  []string       `json:"warnings"`       // what speaks against it; a push has to say why it is done all the same
	Swap      *Newcomer      `json:"swap,omitempty"`
	Factory   bool           `json:"factory"` // the unit has factory settings
	At        string         `json:"at,omitempty"`
	Landmarks []LandmarkPair `json:"landmarks"`
	Suggested []string       `json:"suggested"` // checks that would tell whether the device still does its work
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

// NewLearn asks for the rules of a dialect to be drafted.
type NewLearn struct {
	Of         []string `json:"of,omitempty"`         // selectors of the devices whose versions are read
	On         string   `json:"on,omitempty"`         // a device that shows its YANG modules, or that things may be tried out at
	Logs       []string `json:"logs,omitempty"`       // of typed sessions
	Experiment bool     `json:"experiment,omitempty"` // lines are typed at that device, and undone; nobody may need it meanwhile
	Most       int      `json:"most,omitempty"`       // how many lines at most; 2,000 if not said
	Note       string   `json:"note,omitempty"`
}

// Learned is what was learned of a dialect's rules.
type Learned struct {
	Draft    string `json:"draft,omitempty"` // the rules, as they stand in a dialect file; for who may see secrets
	Sure     int    `json:"sure"`            // rules
	Unsure   int    `json:"unsure"`          // rules of which something is not known
	Versions int    `json:"versions"`        // that were read
	Typed    int    `json:"typed"`           // lines that were typed at the device
	On       string `json:"on,omitempty"`
	Before   string `json:"before,omitempty"` // the version that the device ran before
	Whole    bool   `json:"whole"`            // and that it runs again
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
}

// NewSnapshot names a set of versions.
type NewSnapshot struct {
	Name     string     `json:"name"`
	Selector []string   `json:"selector"`
	At       *time.Time `json:"at,omitempty"` // as they were then; now if not said
	Note     string     `json:"note,omitempty"`
}

// Schedule is what is done by itself, time after time.
type Schedule struct {
	Name      string    `json:"name" column:"1 schedule"`
	Rule      string    `json:"rule" column:"2 when"` // as "daily 02:00"; see docs/routine.md
	Zone      string    `json:"zone" column:"3 zone"` // in which its times are meant, as the IANA database names it
	Deeds     []Deed    `json:"deeds" column:"4 does"`
	Selector  []string  `json:"selector" column:"5 to"`
	Spread    string    `json:"spread,omitempty"` // over how long its devices are spread, as 2h
	Blackouts []string  `json:"blackouts"`        // when it is left out, as "weekly fri 16:00 for 62h"
	Paused    bool      `json:"paused"`
	Note      string    `json:"note,omitempty"`
	MadeBy    string    `json:"made_by"`
	MadeAt    time.Time `json:"made_at"`
	ChangedBy string    `json:"changed_by" column:"8 by"`
	ChangedAt time.Time `json:"changed_at"`

	Devices int         `json:"devices"`                        // that it is about now
	Next    []NextRun   `json:"next" column:"6 next"`           // the next five times that it is due; of one that is paused, if it were not
	Last    *AgendaItem `json:"last,omitempty" column:"7 last"` // when it did something last
	Clocks  []string    `json:"clocks"`                         // what happens on the days when clocks change
	Same    []string    `json:"same"`                           // schedules that do the same, in words
}

// Deed is one thing that a schedule does.
type Deed struct {
	Kind string            `json:"kind" enum:"recurring kinds"`
	With map[string]string `json:"with,omitempty"`
}

// NextRun is a time that a schedule will be due.
type NextRun struct {
	At      time.Time `json:"at"`
	Local   string    `json:"local"`              // in the schedule's zone
	LeftOut string    `json:"left_out,omitempty"` // why nothing will be done then
}

// NewSchedule is a schedule to be kept.
type NewSchedule struct {
	Name      string   `json:"name"`
	Rule      string   `json:"rule"`
	Zone      string   `json:"zone"`
	Deeds     []Deed   `json:"deeds"`
	Selector  []string `json:"selector"`
	Spread    string   `json:"spread,omitempty"`
	Blackouts []string `json:"blackouts,omitempty"`
	Paused    bool     `json:"paused,omitempty"`
	Note      string   `json:"note,omitempty"`
}

// NewRun has a schedule done now.
type NewRun struct {
	Note string `json:"note,omitempty"` // why
}

// NewNotice says that devices were changed.
type NewNotice struct {
	Selector []string `json:"selector"`
	Author   string   `json:"author,omitempty"` // by whom, if that is known
}

// AgendaItem is a time that a schedule was due, or will be.
type AgendaItem struct {
	At       time.Time `json:"at" column:"1 due"`
	Schedule string    `json:"schedule" column:"2 schedule"`
	Does     string    `json:"does" column:"3 does"`
	Devices  int       `json:"devices" column:"4 devices"`
	SpreadS  int       `json:"spread_s"`               // over how many seconds they are spread
	NotWell  int       `json:"not_well"`               // how many of its jobs did not end well
	Future   bool      `json:"future"`                 // it is not yet due
	Job      string    `json:"job,omitempty"`          // that did it
	State    string    `json:"state" column:"5 state"` // due, left out, or of its job: its outcome, or how it stands
	Summary  string    `json:"summary,omitempty" column:"6 what came of it"`
	Missed   int       `json:"missed,omitempty"` // how often nobody was there before; this made up for those
}

// ScheduledRun is how what a schedule had done stands.
type ScheduledRun struct {
	Schedule string    `json:"schedule"`
	Due      time.Time `json:"due"`
	Zone     string    `json:"zone"`
	Missed   int       `json:"missed"`
	Devices  int       `json:"devices"`
	Parts    []RunPart `json:"parts"`
}

// RunPart is how many jobs of a run stand alike.
type RunPart struct {
	Kind    string `json:"kind" enum:"kinds"`
	State   string `json:"state" enum:"job states"`
	Outcome string `json:"outcome,omitempty" enum:"outcomes"`
	Count   int    `json:"count"`
}

// Relay is a machine that lends its network reach to the pushes of one device.
type Relay struct {
	ID       string    `json:"id" column:"1 relay"`
	Device   string    `json:"device" column:"2 for"`
	Actor    string    `json:"actor" column:"4 by"`
	Address  string    `json:"address,omitempty" column:"3 unit at"` // where the unit is; empty: at the device's own address
	OpenedAt time.Time `json:"opened_at" column:"5 since"`
	Until    time.Time `json:"until" column:"6 until"`
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

	Checks    []string `json:"checks,omitempty"`                         // made before and after: tcp HOST:PORT, http URL [STATUS], dns NAME [at SERVER], ssh HOST[:PORT], ping ADDRESS, from DEVICE ping ADDRESS, device NAME, children, state NAME
	Override  string   `json:"override,omitempty" was:"despite"`         // why it is done although warnings speak against it
	Within    string   `json:"within,omitempty"`                         // it undoes itself unless it is confirmed in this time, as "5m"; from 20s to 24h
	Rounds    *int     `json:"rounds,omitempty" minimum:"0" maximum:"5"` // how often what is missing after the proof is worked out again and sent, towards the same version; once in a window if not said, otherwise never
	WhenEqual bool     `json:"when_equal,omitempty"`                     // it confirms itself when it is proved equal

	NameBefore string `json:"name_before,omitempty"` // of the version that is kept before it: one that no version of the device has
	NameAfter  string `json:"name_after,omitempty"`  // of the one that is proved after

	EndSession string `json:"end_session,omitempty"` // the device's name for somebody's session that holds it and is to be ended
}

// Dialect is how one family of devices is spoken to.
type Dialect struct {
	Name       string   `json:"name" column:"1 dialect"`
	Title      string   `json:"title" column:"2 family"`
	Kind       string   `json:"kind" column:"3 kind"`
	Revision   int      `json:"revision" column:"4 revision"`
	Port       int      `json:"port"`
	Parts      []string `json:"parts" column:"5 parts"`
	Methods    []string `json:"methods" column:"6 push methods"`
	Devices    int      `json:"devices" column:"7 devices"`
	Source     string   `json:"source,omitempty"`
	Ways       []Way    `json:"ways"`       // how it is spoken to, the usual way first
	Privileged bool     `json:"privileged"` // a mode asks for a secret of its own
}

// DialectProblem is one thing wrong in a dialect file.
type DialectProblem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Path   string `json:"path"`
	Text   string `json:"text"`

	Warning bool `json:"warning,omitempty"` // it is allowed, and hardly meant
}

// Login is a sign-in.
type Login struct {
	User     string `json:"user"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"` // the one-time code (RFC 6238), or a recovery code, of who takes one
	Name     string `json:"name,omitempty"` // what the token is called
}

// Granted is what a sign-in gives: a token for programs, or a cookie and the
// CSRF token that goes with it.
type Granted struct {
	Token   string    `json:"token,omitempty"`
	CSRF    string    `json:"csrf,omitempty"`
	Expires time.Time `json:"expires"`
	Me      Me        `json:"me"`
}

// Me is who is signed in.
type Me struct {
	User    string `json:"user"`
	Role    string `json:"role" enum:"roles"`
	Secrets bool   `json:"secrets"`
	CSRF    string `json:"csrf,omitempty"`

	Scope      []string `json:"scope,omitempty"` // the role holds for these devices; beyond them one looks only
	MustChange bool     `json:"must_change"`     // a password of one's own has to be chosen before anything else
	Codes      bool     `json:"codes"`           // a sign-in takes a one-time code
	Recovery   int      `json:"recovery"`        // how many recovery codes are left
	Elsewhere  bool     `json:"elsewhere"`       // has no password here: a provider signs them in
}

// SignOn is who signs people in besides the service.
type SignOn struct {
	Label string `json:"label"` // what people call the provider; empty: there is none
}

// NewPassword is a password of one's own.
type NewPassword struct {
	Old  string `json:"old"`
	New  string `json:"new"`
	Code string `json:"code,omitempty"` // the one-time code, of who takes one
}

// Codes is the secret of one-time codes, for the device that makes them.
type Codes struct {
	Secret string `json:"secret"`
	URL    string `json:"url"` // the same as that device reads it, otpauth://…
}

// NewCodes has sign-ins take one-time codes.
type NewCodes struct {
	Code string `json:"code"` // what the device shows now
}

// RecoveryCodes are for the day on which the device that makes codes is lost; each is good
// once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// NewToken is a token for a program.
type NewToken struct {
	Name   string   `json:"name"`
	Role   string   `json:"role,omitempty"`   // it is for this at most; all that one may, if not said
	Scope  []string `json:"scope,omitempty"`  // of an operator's: it is good for these devices, and for looking
	Masked bool     `json:"masked,omitempty"` // it sees no secrets
	Days   int      `json:"days,omitempty"`   // it ends after; 90 if not said, 3650 at most

	Password string `json:"password"` // one's own, once more: a session that was left open makes no tokens
}

// MadeToken is a token that was made; the word itself is said once.
type MadeToken struct {
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

// User is somebody who may sign in.
type User struct {
	Name     string    `json:"name" column:"1 user"`
	Role     string    `json:"role" enum:"roles" column:"2 role"`
	Secrets  bool      `json:"secrets" column:"3 sees secrets"`
	Disabled bool      `json:"disabled" column:"4 state"`
	Codes    bool      `json:"codes" column:"5 one-time codes"`
	MadeAt   time.Time `json:"made_at" column:"6 since"`
	Revision int       `json:"revision"`

	Scope      []string `json:"scope"`                                           // an operator for these devices; beyond them a reader. None: for all
	MustChange bool     `json:"must_change"`                                     // has to choose a password of their own first
	Subject    string   `json:"subject,omitempty" column:"7 known elsewhere as"` // to the provider of sign-ins
}

// NewUser is what a user is added or edited with; absent fields of an edit
// leave things as they are.
type NewUser struct {
	Revision int `json:"-"` // of an edit: which one it is based on; 0: the newest, looked up before

	Name     string    `json:"name,omitempty"`
	Password string    `json:"password,omitempty"`
	Role     string    `json:"role,omitempty"`
	Secrets  *bool     `json:"secrets,omitempty"`
	Disabled *bool     `json:"disabled,omitempty"`
	Scope    *[]string `json:"scope,omitempty"`    // an operator for these devices only; none: for all
	Lasting  bool      `json:"lasting,omitempty"`  // the password stays; otherwise another one has to be chosen at the first sign-in
	Subject  *string   `json:"subject,omitempty"`  // as whom the provider of sign-ins knows them; empty: not at all
	NoCodes  bool      `json:"no_codes,omitempty"` // of an edit: sign-ins take no one-time codes any more
}

// Token is a program's token.
type Token struct {
	ID      string     `json:"id" column:"1 token"`
	Name    string     `json:"name" column:"2 name"`
	MadeAt  time.Time  `json:"made_at" column:"3 made"`
	UsedAt  *time.Time `json:"used_at,omitempty" column:"4 used" as:"ago"`
	Expires time.Time  `json:"expires" column:"5 ends"`
	Role    string     `json:"role,omitempty" column:"6 at most"` // it is for this at most
	Scope   []string   `json:"scope,omitempty" column:"8 for"`    // for these devices, and for looking
	Masked  bool       `json:"masked" column:"7 masked"`          // it sees no secrets
}

// Session is a browser that is signed in.
type Session struct {
	ID      string     `json:"id" column:"1 session"`
	User    string     `json:"user" column:"2 user"`
	From    string     `json:"from" column:"3 from"` // the address it was begun from
	MadeAt  time.Time  `json:"made_at" column:"4 since"`
	UsedAt  *time.Time `json:"used_at,omitempty" column:"5 used" as:"ago"`
	Expires time.Time  `json:"expires" column:"6 ends"`
	This    bool       `json:"this"` // it is the one that asks
}

// AuditEntry is one row of the audit log.
type AuditEntry struct {
	Seq    int64     `json:"seq" column:"1 row"`
	At     time.Time `json:"at" column:"2 at"`
	Actor  string    `json:"actor" column:"3 who"`
	Action string    `json:"action" column:"4 did"`
	Object string    `json:"object" column:"5 to"`
	Detail string    `json:"detail" column:"6 detail"`
	MAC    string    `json:"mac"` // its code: no row can be changed or left out without the keys; with its number it is the log's end at that time
}

// AuditCheck is whether the audit log is as it was written.
type AuditCheck struct {
	Sound   bool   `json:"sound"`
	Rows    int64  `json:"rows"`
	Trouble string `json:"trouble,omitempty"`
}

// Status is how the fleet and the service are.
type Status struct {
	Version  string         `json:"version"`
	Instance string         `json:"instance"`
	Devices  int            `json:"devices"`
	States   map[string]int `json:"states"`
	Order    []string       `json:"order"` // the states, worst first

	AsOf *time.Time `json:"as_of,omitempty"` // when this was so; the database is away since

	NeverProven int `json:"never_proven"` // devices of which no version was ever put back and proved

	Disabled int `json:"disabled"` // devices that are kept and not visited; the states are of the others

	Damaged  int  `json:"damaged"`   // texts that the last scrub could not read back as they were kept
	SheetDue bool `json:"sheet_due"` // nobody has verified a recovery sheet of the master key yet

	Targets int      `json:"targets"`         // places where copies are kept
	Failing []string `json:"targets_failing"` // those that do not do what they are asked

	Growth int64  `json:"growth"`            // bytes a day by which what is kept has grown in the last month
	Room   *int64 `json:"room,omitempty"`    // bytes that are free on the data folder's disk
	FullIn *int   `json:"full_in,omitempty"` // days until they are not, as things went lately
	Halted string `json:"halted,omitempty"`  // why nothing new is begun: there is no room

	BackupAt *time.Time `json:"backup_at,omitempty"`        // when the service was backed up last
	ProvenAt *time.Time `json:"backup_proven_at,omitempty"` // when a backup was last restored elsewhere and was as it should be

	Untold  int `json:"untold"`   // messages to people that wait for a quarter of an hour or longer
	GivenUp int `json:"given_up"` // messages to people that were given up in the last two weeks

	Running  int      `json:"jobs_running"`
	Queued   int      `json:"jobs_queued"`
	Waiting  int      `json:"jobs_waiting"`
	Contents int64    `json:"contents"`
	Bytes    int64    `json:"contents_bytes"`
	Attend   []Device `json:"attend"` // devices that need a look, worst first
	Alike    []Alike  `json:"alike"`  // those that cannot be pulled, by what keeps them from it and where: more than one each
}

// Alike are devices of one site that have the same trouble.
type Alike struct {
	State      string     `json:"state" enum:"device states"`
	Site       string     `json:"site,omitempty"`
	Says       string     `json:"says"` // the trouble, without what differs
	Devices    []string   `json:"devices"`
	Since      *time.Time `json:"since,omitempty"`       // when the first of them came into that state
	LastPulled *time.Time `json:"last_pulled,omitempty"` // the newest pull of any of them
	LastTried  *time.Time `json:"last_tried,omitempty"`
}

// Way is a transport that a dialect speaks.
type Way struct {
	Transport string `json:"transport"`
	Port      int    `json:"port"`
	ShowsKey  bool   `json:"shows_key"` // a host key or certificate, to be accepted
}

// NewDevices is a batch of devices to be added, or a file of them, by which those that are there
// already are changed too.
type NewDevices struct {
	Devices    []NewDevice `json:"devices,omitempty"`
	File       string      `json:"file,omitempty"`        // instead: CSV, whose first row names the columns, or YAML, a list of maps with these names
	As         string      `json:"as,omitempty"`          // csv, if not said, or yaml
	Preview    bool        `json:"preview,omitempty"`     // say what would be added and changed, and do nothing
	AcceptKeys bool        `json:"accept_keys,omitempty"` // accept whatever host keys the devices show now, where none is given
	SkipBad    bool        `json:"skip_bad,omitempty"`    // go on with those that are right
}

// Imported is what came of a batch. With bad rows and without SkipBad nothing
// was added or changed.
type Imported struct {
	Added   []Device      `json:"added"`
	Changed []Device      `json:"changed"`
	Changes []FieldChange `json:"changes"` // what the file has otherwise, of devices that were there
	Same    int           `json:"same"`    // devices that are as the file has them
	New     int           `json:"new"`     // devices that are not there yet, and right as far as was looked
	Bad     []BadRow      `json:"bad"`
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
	Files   []ImportFile `json:"files"`
	Zone    string       `json:"zone,omitempty"`    // in which times in their names are meant, as the IANA database names it; UTC if not said
	Preview bool         `json:"preview,omitempty"` // say what would become of them, and do nothing
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

// NewSweep is which addresses to look at.
type NewSweep struct {
	Ranges []string `json:"ranges"`         // like 192.0.2.0/26, 192.0.2.10-40, 192.0.2.7; 4096 addresses at most
	Ways   []string `json:"ways,omitempty"` // by which to be greeted: transports, or TRANSPORT:PORT; none: all by which the dialects here speak
}

// Proposal is what answered where no device is registered.
type Proposal struct {
	ID          string    `json:"id" column:"1 proposal"`
	Address     string    `json:"address" column:"2 address"`
	Port        int       `json:"port" column:"3 port"`
	Transport   string    `json:"transport" column:"4 over"`
	Says        string    `json:"says" column:"5 it says"` // its greeting: the first line, the server's version, or whom its certificate is for
	HostKey     string    `json:"host_key,omitempty"`
	Fingerprint string    `json:"fingerprint,omitempty" column:"6 key"`
	Same        string    `json:"same,omitempty" column:"7 same key as"` // a device that is registered elsewhere
	Dialects    []string  `json:"dialects" column:"8 may speak"`         // those that are spoken over this transport
	FoundAt     time.Time `json:"found_at"`
	SeenAt      time.Time `json:"seen_at" column:"9 seen" as:"ago"`
}

// FieldChange is what a file has otherwise of a device that is there.
type FieldChange struct {
	Device string `json:"device"`
	Column string `json:"column"`
	From   string `json:"from"`
	To     string `json:"to"`
}

// BadRow is a device of a batch that could not be added.
type BadRow struct {
	Row    int    `json:"row" column:"1 row"` // from 1
	Name   string `json:"name" column:"3 device"`
	Column string `json:"column,omitempty" column:"2 column"`
	Detail string `json:"detail" column:"4 what is wrong"`
	Next   string `json:"next,omitempty" column:"5 what to do"`
}

// DialectTrial is a dialect file to be tried on a device.
type DialectTrial struct {
	Source string    `json:"source"`
	Device NewDevice `json:"device"`
}

// DialectTried is what came of it: what is wrong in the file, or all that was
// said, up to where it went wrong.
type DialectTried struct {
	Problems  []DialectProblem `json:"problems"`
	Exchanges []Exchange       `json:"exchanges"`
	Tried     Tried            `json:"tried"`
	Trouble   string           `json:"trouble,omitempty"`
}

// Exchange is one thing said to a device and its answer. Secrets of the login
// are taken out.
type Exchange struct {
	Sent    string `json:"sent"`
	Answer  string `json:"answer"`
	MS      int64  `json:"ms"`
	Trouble string `json:"trouble,omitempty"`
}

// Found is a line, or a block, that a search found in what runs now.
type Found struct {
	Ref     string    `json:"ref" column:"2 version"`
	Device  string    `json:"device" column:"1 device"`
	Part    string    `json:"part"`
	TakenAt time.Time `json:"taken_at"` // when that version was taken
	Line    int       `json:"line"`
	Path    string    `json:"path,omitempty" column:"3 in"` // the blocks around it, or what it is about
	Text    string    `json:"text" column:"4 line"`         // with its secrets hidden, if not asked for
	Origin  *Origin   `json:"origin,omitempty"`             // which version brought it in, where that was asked for
}

// SearchPage is a page of what was found.
type SearchPage struct {
	Items    []Found `json:"items"`
	Next     string  `json:"next,omitempty"`
	Texts    int     `json:"texts"`    // so many were searched
	Unread   int     `json:"unread"`   // opaque parts and texts that no dialect reads, which were not
	Distinct int     `json:"distinct"` // different lines of all texts
}

// Past is a line, or a block, as long as it was there.
type Past struct {
	Device string  `json:"device" column:"1 device"`
	Part   string  `json:"part"`
	Path   string  `json:"path,omitempty" column:"2 in"`
	Text   string  `json:"text" column:"3 line"` // with its secrets hidden, if not asked for
	From   Origin  `json:"from"`                 // the version that brought it in
	Gone   *Origin `json:"gone,omitempty"`       // the first that has it no longer
	Last   string  `json:"last"`                 // the last version that has it
}

// PastPage is what was found in all versions of some parts.
type PastPage struct {
	Items    []Past `json:"items"`
	Next     string `json:"next,omitempty"` // where to go on
	Parts    int    `json:"parts"`          // that were looked at
	Versions int    `json:"versions"`
	Unread   int    `json:"unread"` // parts that are no text, or that no dialect reads
}

// Distance is how far an earlier version is from another.
type Distance struct {
	Version
	Gained int  `json:"gained"` // lines that came since
	Lost   int  `json:"lost"`   // lines that went since
	Same   bool `json:"same"`   // nothing of it means anything
}

// NewSearch is a search that is kept: never with secrets.
type NewSearch struct {
	Line     string   `json:"line,omitempty"`
	In       string   `json:"in,omitempty"`
	Lacks    string   `json:"lacks,omitempty"`
	Regexp   bool     `json:"regexp,omitempty"`
	Selector []string `json:"selector,omitempty"`
	AllParts bool     `json:"all_parts,omitempty"`
	History  bool     `json:"history,omitempty"` // in all versions
}

// SavedSearch is a search by its name.
type SavedSearch struct {
	Name string `json:"name" column:"1 search"`
	NewSearch
	By string    `json:"by" column:"2 by"`
	At time.Time `json:"at" column:"3 kept"`
}

// Search is what is looked for.
type Search struct {
	Line     string   // lines that have it
	In       string   // only in blocks that begin with it
	Lacks    string   // blocks of that name which have no line with it
	Regexp   bool     // all of these are expressions (RE2)
	Selector []string // of these devices only
	Part     string   // of this part only
	AllParts bool     // also of parts that follow others, as startup follows running
	Secrets  bool     // texts as they are: takes the right to see secrets, and is written down
	Since    bool     // tell which version brought each line in
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
