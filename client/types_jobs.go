package client

import "time"

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
	Name    string `json:"name,omitempty"` // that the version was given by this pull, whether it is new or was current
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
	Begun     bool         `json:"begun"` // something was sent, or may have been
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

// NewCheck asks for checks by themselves.
type NewCheck struct {
	Selector []string `json:"selector,omitempty"` // devices that they are about
	Checks   []string `json:"checks,omitempty"`   // as of a push; whether each device takes connections, if none is said
	Again    string   `json:"again,omitempty"`    // or the checks of this job once more, compared with what it found
}

// CheckEnd is what came of checks.
type CheckEnd struct {
	Against string     `json:"against,omitempty"` // the check job that they are compared with
	Rows    []CheckRow `json:"rows"`
}

// CheckRow is one of them. After is what was found, Before what the earlier job found.
type CheckRow struct {
	Device string `json:"device,omitempty"` // about whom it is, where it is about one
	Checked
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
