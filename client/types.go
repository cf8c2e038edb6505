// Package client speaks the service's HTTP API, version 1. Its types are what
// travels; openapi.yaml describes them.
package client

import (
	"embed"
	"time"
)

// Source is where the types stand: what their fields mean stands beside them, and the API's
// description takes it from there.
//
//go:embed types*.go copies.go notification.go relay.go
var Source embed.FS

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
