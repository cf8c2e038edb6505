// Package core holds the nouns of the job. Its subpackages compute; nothing
// here does input, output or keeps time.
package core

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Device states, worst first.
const (
	LoginRefused    = "login refused"
	Unreachable     = "unreachable"
	HardwareChanged = "hardware changed"
	FactoryDefaults = "factory defaults"
	PullFailing     = "pull failing" // reached, but its last pull ended without a version; see its last pull
	Drifted         = "drifted"
	Unsaved         = "unsaved"
	NeverPulled     = "never pulled"
	InSync          = "in sync"
)

// States in the order in which a person should look at them.
var States = []string{LoginRefused, Unreachable, HardwareChanged, FactoryDefaults, PullFailing, Drifted, Unsaved, NeverPulled, InSync}

// Kinds of device.
var Kinds = []string{"router", "switch", "firewall", "wireless-controller", "access-point", "other"}

// Reasons of a pull.
const (
	ByHand      = "by hand"
	FirstPull   = "first pull"
	BySchedule  = "schedule"
	ByNotice    = "change trigger"
	BeforePush  = "before a push"
	RestoreTest = "restore test" // why a version counts for nothing that a restore test has put there
	Edited      = "edited"       // by a person, of another version; why such a version counts for nothing, too
	AfterPush   = "after a push"
	ByImport    = "import"   // a file that was made elsewhere
	Imported    = "imported" // why such a version counts for nothing
)

// Job states.
const (
	Queued  = "queued"
	Running = "running"
	Waiting = "waiting"
	Ended   = "ended"
)

// Job outcomes. The last five are those of a push.
const (
	Done      = "done"
	Refused   = "refused"
	Failed    = "failed"
	Cancelled = "cancelled"
	Verified  = "verified"
	NotSaved  = "unsaved"
	Differs   = "differs"
	Undone    = "undone"
	Unknown   = "unknown"
)

// JobStates in their order.
var JobStates = []string{Queued, Running, Waiting, Ended}

// Outcomes of jobs.
var Outcomes = []string{Done, Refused, Failed, Cancelled, Verified, NotSaved, Differs, Undone, Unknown}

// Well are the outcomes of jobs that came out as they should.
var Well = []string{Done, Verified}

// Reasons of versions.
var Reasons = []string{ByHand, BySchedule, ByNotice, FirstPull, BeforePush, AfterPush, Edited, ByImport}

// Asides are why a version counts for nothing.
var Asides = []string{HardwareChanged, FactoryDefaults, Edited, Imported, RestoreTest}

// Topics are what those who watch the service are told of: that a device, a part's
// versions, a job or its log were written, that somebody did something, and that the
// database went away or came back.
var Topics = []string{"device", "part", "job", "log", "deed", "database"}

// Roles of users.
const (
	Reader   = "reader"
	Operator = "operator"
	Admin    = "admin"
)

// Roles from least to most.
var Roles = []string{Reader, Operator, Admin}

// Actor is who does something.
type Actor struct {
	ID      string
	Name    string
	Role    string
	Secrets bool // may see secrets unmasked

	// Scopes are selectors: the role above reader holds for devices that each of them picks,
	// and for nothing that is about more than a device. None: for everything.
	Scopes []string
}

// Within is what an actor may who asks under a grant: no more than either of the two.
func (a Actor) Within(grant Actor) Actor {
	if slices.Index(Roles, grant.Role) < slices.Index(Roles, a.Role) {
		a.Role = grant.Role
	}
	a.Secrets = a.Secrets && grant.Secrets
	a.Scopes = slices.Compact(slices.Sorted(slices.Values(slices.Concat(a.Scopes, grant.Scopes))))
	return a
}

// May tells whether the actor has at least the role.
func (a Actor) May(role string) bool {
	return slices.Index(Roles, a.Role) >= slices.Index(Roles, role)
}

// Device is a managed network element: its place in the network.
type Device struct {
	ID           string    `db:"id"`
	Name         string    `db:"name"`
	Address      string    `db:"address"`
	Port         int       `db:"port"`
	Site         string    `db:"site"`
	Kind         string    `db:"kind"`
	Tags         Words     `db:"tags"`
	Dialect      string    `db:"dialect"`
	HostKey      string    `db:"host_key"`
	CredentialID string    `db:"credential_id"`
	CreatedAt    time.Time `db:"created_at"`

	State            string     `db:"state"`
	Was              string     `db:"was"`         // its state as it was read
	Since            *time.Time `db:"state_since"` // when it came into its state; nil: before that was noted
	Drifted          bool       `db:"drifted"`
	Acknowledged     *time.Time `db:"acknowledged_until"` // until when all its drift is acknowledged; nil: it is not
	Unsaved          bool       `db:"unsaved"`
	Trouble          string     `db:"trouble"` // what the last pull failed of; empty when it did not
	Host             string     `db:"host"`
	Model            string     `db:"model"`
	Serial           string     `db:"serial"`
	Release          string     `db:"software"`
	LastTried        *time.Time `db:"last_tried"`
	LastPulled       *time.Time `db:"last_pulled"` // the last pull that succeeded
	LastChanged      *time.Time `db:"last_changed"`
	LastProven       *time.Time `db:"proven_at"` // when a version of it was last put on hardware and verified
	Proven           string     `db:"proven"`    // which, where and by what
	Latest           int        `db:"latest"`    // number of the newest running version; 0 for none
	LoginLockedSince *time.Time `db:"latched"`
	User             string     `db:"login_user"`

	Note     string `db:"note"`     // what people wrote down of it
	Fields   Spans  `db:"fields"`   // what they wrote down by names of their own
	Disabled bool   `db:"disabled"` // kept, and not visited
	Spare    bool   `db:"spare"`    // nobody needs it: what it runs may be replaced for a while

	Revision int    `db:"revision"` // counts the changes of its entry by people
	Testing  string `db:"testing"`  // the restore test that has put another device's version on it, until what ran before is back

	Transport  string `db:"transport"` // empty: the dialect's usual one
	ParentID   string `db:"parent_id"` // the device it hangs on
	Parent     string `db:"parent"`    // its name
	Member     string `db:"member"`    // its name at the parent, which speaks for it
	JumpID     string `db:"jump_id"`   // the device its connections go through
	Jump       string `db:"jump"`      // its name
	Timeouts   Spans  `db:"timeouts"`  // its own, instead of the dialect's
	Ports      Ports  `db:"ports"`     // its own for moving files, by protocol
	Serials    Words  `db:"serials"`   // the hardware that may answer here; empty before the first pull
	Credential string `db:"set_name"`  // the credential set it uses; empty when it has one of its own
}

// Words is a list kept as JSON.
type Words []string

// Spans are spans of time by what is waited for, as written, kept as JSON.
type Spans map[string]string

// Ports are port numbers by protocol, kept as JSON.
type Ports map[string]int

// Scan reads the JSON form.
func (w *Words) Scan(v any) error { return scan(v, w) }

// Scan reads the JSON form.
func (m *Spans) Scan(v any) error { return scan(v, m) }

// Scan reads the JSON form.
func (m *Ports) Scan(v any) error { return scan(v, m) }

func scan[T any](v any, into *T) error {
	switch raw := v.(type) {
	case nil:
		*into = *new(T)
		return nil
	case []byte:
		return json.Unmarshal(raw, into)
	case string:
		return json.Unmarshal([]byte(raw), into)
	}
	return fmt.Errorf("%T is not kept as JSON", v)
}

// Part is one configuration document of a device.
type Part struct {
	ID       string `db:"id"`
	DeviceID string `db:"device_id"`
	Name     string `db:"name"`
	Last     int    `db:"last_number"`
	Baseline string `db:"baseline_id"`

	Sign      string     `db:"sign"`       // hash of the cheap sign of change that it had when it was last fetched whole; empty: there was none
	FetchedAt *time.Time `db:"fetched_at"` // when that was
	GoneAt    *time.Time `db:"gone_at"`    // of a logical element: since when the device has it no more; nil: it has it
}

// ElementOf is the logical element (RFC 8530) that a part of this name is of, as guest of running+guest.
func ElementOf(part string) (element string, is bool) {
	_, element, is = strings.Cut(part, "+")
	return element, is
}

// Lost tells whether the part is of a logical element that is gone and that somebody wants there.
func (p Part) Lost() bool {
	_, is := ElementOf(p.Name)
	return is && p.GoneAt != nil && p.Baseline != ""
}

// Pull is one visit to a device.
type Pull struct {
	ID          string     `db:"id"`
	DeviceID    string     `db:"device_id"`
	JobID       string     `db:"job_id"`
	RequestedAt time.Time  `db:"requested_at"`
	TakenAt     *time.Time `db:"taken_at"`
	Reason      string     `db:"reason"`
	Actor       string     `db:"actor"`
	DialectRev  int        `db:"dialect_rev"`
	Host        string     `db:"host"`
	Model       string     `db:"model"`
	Serial      string     `db:"serial"`
	Release     string     `db:"software"`
	Result      string     `db:"result"`  // done or failed
	Trouble     string     `db:"trouble"` // what it failed of
}

// Version is one part's content, immutable.
type Version struct {
	ID          string    `db:"id"`
	PartID      string    `db:"part_id"`
	DeviceID    string    `db:"device_id"`
	Device      string    `db:"device"`
	Part        string    `db:"part"`
	Number      int       `db:"number"`
	ContentID   string    `db:"content_id"`
	PullID      string    `db:"pull_id"`
	Fingerprint string    `db:"fingerprint"`
	TakenAt     time.Time `db:"taken_at"`
	Reason      string    `db:"reason"`
	Actor       string    `db:"actor"`  // who had it pulled
	Author      string    `db:"author"` // who made the change, if the device says
	Name        string    `db:"name"`
	Note        string    `db:"note"`
	Pinned      bool      `db:"pinned"`
	Baseline    bool      `db:"baseline"`
	Size        int       `db:"size"` // bytes
	Lines       int       `db:"line_count"`
	Added       int       `db:"added"`   // lines added since the version before
	Removed     int       `db:"removed"` // lines removed
	DialectRev  int       `db:"dialect_rev"`
	Aside       string    `db:"aside"` // why it counts for nothing: other hardware, in factory state; else empty
	Sign        string    `db:"sign"`  // the device's own sign of change
}

// Listed is a version and what is known of it besides, as lists show it.
type Listed struct {
	Version
	SeenFrom  time.Time `db:"seen_from"`
	SeenUntil time.Time `db:"seen_until"`
	SeenOpen  bool      `db:"seen_open"` // nothing since says otherwise
	Sightings int       `db:"sightings"`

	Serial  string `db:"serial"`     // of the unit that it came from
	Release string `db:"software"`   // that this ran then
	More    string `db:"more_names"` // further names that it was given, newest first, a line each
	Copies  int    `db:"copies"`     // places that can give it back, this one included
}

// How the files at a target are.
const (
	FilesSealed = "sealed"
	FilesMasked = "masked" // readable, secrets hidden
	FilesPlain  = "plain"  // readable, with the secrets
)

// FileForms are all of them.
var FileForms = []string{FilesSealed, FilesMasked, FilesPlain}

// What becomes of the copy of a version at a target.
const (
	CopyWaits   = "waiting"
	CopyThere   = "there"
	CopyLeftOut = "left out" // it cannot be there
	CopyLeaves  = "leaving"  // its version was deleted here
	CopyDropped = "dropped"  // so it was before the copy was there
)

// CopyStates are all of them.
var CopyStates = []string{CopyWaits, CopyThere, CopyLeftOut, CopyLeaves, CopyDropped}

// Ref is the reference that names exactly this version: quay-sw1@7, or
// quay-sw1/startup@3.
func (v Version) Ref() string {
	if v.Part != "running" {
		return fmt.Sprintf("%s/%s@%d", v.Device, v.Part, v.Number)
	}
	return fmt.Sprintf("%s@%d", v.Device, v.Number)
}

// Job is one unit of work.
type Job struct {
	ID          string     `db:"id"`
	Kind        string     `db:"kind"` // pull, preview or push
	DeviceID    string     `db:"device_id"`
	Device      string     `db:"device"`
	State       string     `db:"state"`
	Outcome     string     `db:"outcome"`
	Summary     string     `db:"summary"`
	Actor       string     `db:"actor"`
	ActorID     string     `db:"actor_id"`
	Granted     []byte     `db:"granted"` // under what it was asked for, sealed; see store.Grant. Nil: by the service, or before grants were kept
	CreatedAt   time.Time  `db:"created_at"`
	StartedAt   *time.Time `db:"started_at"`
	EndedAt     *time.Time `db:"ended_at"`
	Cancel      bool       `db:"cancel"`
	Instance    string     `db:"instance"`
	Incarnation string     `db:"incarnation"`
	Tries       int        `db:"tries"`
	UndoOf      string     `db:"undo_of"`
	PartOf      string     `db:"part_of"`  // the job that began it
	Due         *time.Time `db:"due_at"`   // when a job that waits goes on by itself: a push undoes itself, a planned one begins
	Awaits      string     `db:"awaits"`   // what a parked job waits for
	Decision    string     `db:"decision"` // confirm, undo, restart, approve or decline, once a person said so
	DecidedBy   string     `db:"decided_by"`
	ForInstance string     `db:"for_instance"` // the only instance that can do it; empty: any
	Request     []byte     `db:"request"`      // sealed
	Result      []byte     `db:"result"`       // sealed
}

// What a parked job waits for.
const (
	AwaitsConfirm   = "confirm"   // a push with a window: to be kept or taken back
	AwaitsRestart   = "restart"   // what was staged: that the device may be restarted
	AwaitsApproval  = "approval"  // a planned push: a person
	AwaitsAgreement = "agreement" // baselines: a second person
	AwaitsStart     = "start"     // a planned push: its time
)

// Entry is one line of a job's log. Masked is what who may not see secrets is
// shown.
type Entry struct {
	Seq    int       `json:"seq"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"` // step, info, line, warning, trouble, kept, end
	Text   string    `json:"text"`
	Masked string    `json:"masked,omitempty"` // empty when it equals Text
	Secret bool      `json:"secret,omitempty"` // kept whole; shown only to who may see secrets
}

// Span writes a span of time without units that are nought: 3m, not 3m0s.
func Span(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Count words a number of things: 1 line, 3 lines.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// PlusMinus appends the lines that came and went; nothing to a file that has no lines to count.
func PlusMinus(added, removed int) string {
	if added+removed == 0 {
		return ""
	}
	return fmt.Sprintf(" (+%d −%d)", added, removed)
}

// Because appends a person's reason to a sentence, if there is one.
func Because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// Became says what a field is now, and what it was before.
func Became(what, now, was string) string {
	if now == "" {
		now = "none"
	}
	switch {
	case was == "" && strings.Contains(now, " "):
		return fmt.Sprintf("%s %q", what, now)
	case was == "":
		return what + " " + now
	}
	if strings.ContainsAny(now+was, " ,") {
		return fmt.Sprintf("%s %q instead of %q", what, now, was)
	}
	return fmt.Sprintf("%s %s instead of %s", what, now, was)
}

// Instead says how something is now, and how it was, where that is another.
func Instead(now, was string) string {
	if was == "" || was == now {
		return now
	}
	return now + "; before: " + was
}

// ClockTime writes a moment of today.
func ClockTime(t time.Time) string { return t.UTC().Format("15:04:05 MST") }
