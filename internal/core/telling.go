package core

// Happened is what is known of something that happened.
type Happened struct {
	Part      string `json:"part,omitempty"`
	VersionID string `json:"version_id,omitempty"`
	Number    int    `json:"number,omitempty"`
	Added     int    `json:"added,omitempty"`
	Removed   int    `json:"removed,omitempty"`
	By        string `json:"by,omitempty"` // who changed the device, or asked for the job
	Reason    string `json:"reason,omitempty"`
	Kind      string `json:"kind,omitempty"` // of a job
	Was       string `json:"was,omitempty"`  // the state before
	State     string `json:"state,omitempty"`
	Says      string `json:"says,omitempty"` // what went wrong, what is waited for
}

// What can happen, as it is written down.
const (
	VersionKept  = "version"
	StateChanged = "state"
	JobEnded     = "job"
	JobWaits     = "wait"
	JobWentWell  = "well" // work that is worth telling of when it ended well
)

// NotificationEvent is an event that people can be told of.
type NotificationEvent struct{ Name, Means string }

// Events that people can be told of.
const (
	TellChanged   = "changed"
	TellDrifted   = "drifted"
	TellFailed    = "failed"
	TellRecovered = "recovered"
	TellDone      = "done"
	TellWaiting   = "waiting"
	TellUnproven  = "unproven"
	TellCapacity  = "capacity"
	TellCopies    = "copies"
)

// NotificationEvents are all of them.
var NotificationEvents = []NotificationEvent{
	{TellChanged, "a device runs something new"},
	{TellDrifted, "a device left its baseline, or what it runs is not saved"},
	{TellFailed, "a device cannot be pulled any more, other hardware answers, or a push, a schedule or other work did not end well"},
	{TellRecovered, "a device is in sync again"},
	{TellDone, "a push, a restore, a restore test, a snapshot by itself, a schedule's run, a backup or checks ended well"},
	{TellWaiting, "work waits for a person"},
	{TellUnproven, "nothing of a device was put back and proved for so many days"},
	{TellCapacity, "the disk of an instance's data folder is nearly full, or will be within a month as things went lately"},
	{TellCopies, "a target for copies has not done what it was asked for an hour, or has no room left in a month"},
}

// RecipientKinds are the ways by which people are told.
var RecipientKinds = []string{ByMail, ByWebhook, BySyslog}

// Ways by which people are told.
const (
	ByMail    = "mail"
	ByWebhook = "webhook"
	BySyslog  = "syslog"
)

// Way is how a recipient is reached.
type Way struct {
	To        []string `json:"to,omitempty"`        // mail: addresses
	URL       string   `json:"url,omitempty"`       // webhook
	Secret    string   `json:"secret,omitempty"`    // webhook: what its requests are signed with
	Address   string   `json:"address,omitempty"`   // syslog: host and port
	Transport string   `json:"transport,omitempty"` // syslog: udp, tcp or tls
	CA        string   `json:"ca,omitempty"`        // webhook, syslog: certificates that vouch for the other side, PEM; empty: the system's
}

// MailServer is who takes mail.
type MailServer struct {
	Server   string `json:"server"`   // host and port
	Security string `json:"security"` // starttls, tls or none
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	From     string `json:"from"`
	CA       string `json:"ca,omitempty"`      // certificates that vouch for it, PEM; empty: the system's
	Console  string `json:"console,omitempty"` // where people reach the console, for links
}

// MailSecurities are how the way to the mail server is kept private.
var MailSecurities = []string{"starttls", "tls", "none"}

// SyslogTransports are the ways by which syslog goes.
var SyslogTransports = []string{"udp", "tcp", "tls"}

// States of messages.
const (
	ToBeSent = "waiting"
	Sent     = "sent"
	GivenUp  = "failed"
	Dropped  = "dropped" // its recipient was removed
)

// MessageStates are all of them.
var MessageStates = []string{ToBeSent, Sent, GivenUp, Dropped}

// Told is what a message says; secrets are masked.
type Told struct {
	Subject string     `json:"subject"`
	Text    string     `json:"text"`
	Items   []ToldItem `json:"items"`
}

// ToldItem is one thing that it tells of.
type ToldItem struct {
	Event      string `json:"event"`
	At         string `json:"at"` // RFC 3339
	Device     string `json:"device,omitempty"`
	Site       string `json:"site,omitempty"`
	Part       string `json:"part,omitempty"`
	Version    int    `json:"version,omitempty"`
	By         string `json:"by,omitempty"`
	Reason     string `json:"reason,omitempty"`
	Says       string `json:"says"`
	Job        string `json:"job,omitempty"`
	Added      int    `json:"added,omitempty"`
	Removed    int    `json:"removed,omitempty"`
	Difference string `json:"difference,omitempty"` // masked, unified
}
