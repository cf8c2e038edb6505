package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// NotificationEvent is an event that people can be told of.
type NotificationEvent struct {
	Name  string `json:"name" enum:"tell events" column:"1 event"`
	Means string `json:"means" column:"2 means"`
}

// Recipient is who can be told, and by what way.
type Recipient struct {
	Name      string    `json:"name" column:"1 recipient"`
	Kind      string    `json:"kind" enum:"recipient kinds" column:"2 by"`
	To        []string  `json:"to,omitempty" column:"3 to"`                   // mail: addresses
	URL       string    `json:"url,omitempty"`                                // webhook
	Secret    string    `json:"secret,omitempty"`                             // webhook: what its requests are signed with; said once, when it is made
	Address   string    `json:"address,omitempty"`                            // syslog: host and port
	Transport string    `json:"transport,omitempty" enum:"syslog transports"` // syslog
	CA        string    `json:"ca,omitempty"`                                 // webhook, syslog: certificates that vouch for the other side, PEM; the system's where there is none
	Audit     bool      `json:"audit" column:"4 audit log"`                   // syslog: the audit log is sent there, too
	Rules     []string  `json:"rules" column:"5 rules"`                       // that tell it
	ChangedBy string    `json:"changed_by" column:"6 by whom"`                //
	ChangedAt time.Time `json:"changed_at" column:"7 when"`                   //
}

// NewRecipient is who is to be told.
type NewRecipient struct {
	Name      string   `json:"name"`
	Kind      string   `json:"kind" enum:"recipient kinds"`
	To        []string `json:"to,omitempty"`
	URL       string   `json:"url,omitempty"`
	Secret    string   `json:"secret,omitempty"` // of 16 characters or more; left out, the one that is kept for that address stays, or one is made
	Address   string   `json:"address,omitempty"`
	Transport string   `json:"transport,omitempty" enum:"syslog transports"` // tls if not said
	CA        string   `json:"ca,omitempty"`
	Audit     bool     `json:"audit,omitempty"`
}

// TestStep is one step of a test.
type TestStep struct {
	Step string `json:"step" column:"1 step"`
	OK   bool   `json:"ok" column:"2 ok"`
	Says string `json:"says" column:"3 what came of it"`
}

// Tested is what came of telling a recipient that this is a test.
type Tested struct {
	Recipient string     `json:"recipient"`
	OK        bool       `json:"ok"`
	Steps     []TestStep `json:"steps"` // up to the first that failed
}

// MailServer is who takes mail.
type MailServer struct {
	Server    string     `json:"server"` // host and port; empty: none is set
	Security  string     `json:"security" enum:"mail securities"`
	User      string     `json:"user,omitempty"`
	Password  bool       `json:"password"` // there is one
	From      string     `json:"from"`
	CA        string     `json:"ca,omitempty"`
	Console   string     `json:"console,omitempty"` // where people reach the console, for links in mail
	ChangedBy string     `json:"changed_by,omitempty"`
	ChangedAt *time.Time `json:"changed_at,omitempty"`
}

// NewMailServer is who is to take mail.
type NewMailServer struct {
	Server   string `json:"server"`
	Security string `json:"security" enum:"mail securities"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"` // left out, the one that is kept for that server, user and way stays
	From     string `json:"from"`
	CA       string `json:"ca,omitempty"`
	Console  string `json:"console,omitempty"`
}

// NotificationRule says of what people are told.
type NotificationRule struct {
	Name       string     `json:"name" column:"1 rule"`
	Events     []string   `json:"events" enum:"tell events" column:"2 tells of"`
	Selector   []string   `json:"selector" column:"3 of"`
	Recipients []string   `json:"recipients" column:"4 to"`
	Days       int        `json:"days,omitempty"`         // without proof, for the event unproven
	Digest     string     `json:"digest" column:"5 when"` // when what was gathered is told, as "daily 07:00"; empty: at once
	Zone       string     `json:"zone"`                   // in which its times are meant
	Quiet      []string   `json:"quiet" column:"6 quiet"` // when nothing is told, as "daily 22:00 for 9h"; what happens then is told afterwards
	Paused     bool       `json:"paused" column:"7 paused"`
	Note       string     `json:"note,omitempty"`
	Devices    int        `json:"devices"`        // that it is about now
	Next       *time.Time `json:"next,omitempty"` // when its next digest is due
	ChangedBy  string     `json:"changed_by"`
	ChangedAt  time.Time  `json:"changed_at"`
}

// NewNotificationRule says of what people are to be told.
type NewNotificationRule struct {
	Name       string   `json:"name"`
	Events     []string `json:"events" enum:"tell events"`
	Selector   []string `json:"selector"`
	Recipients []string `json:"recipients"`
	Days       int      `json:"days,omitempty"` // 90 if not said
	Digest     string   `json:"digest,omitempty"`
	Zone       string   `json:"zone,omitempty"` // UTC if not said
	Quiet      []string `json:"quiet,omitempty"`
	Paused     bool     `json:"paused,omitempty"`
	Note       string   `json:"note,omitempty"`
}

// Message is something that somebody is told, or was.
type Message struct {
	ID        string     `json:"id" column:"8 id"`
	MadeAt    time.Time  `json:"made_at" column:"1 made"`
	State     string     `json:"state" enum:"message states" column:"2 state"`
	Rule      string     `json:"rule" column:"3 rule"`
	Recipient string     `json:"recipient" column:"4 to"`
	Address   string     `json:"address,omitempty"`
	Subject   string     `json:"subject" column:"5 says"`
	Tries     int        `json:"tries" column:"6 tries"`
	Trouble   string     `json:"trouble,omitempty" column:"7 trouble"`
	NextAt    *time.Time `json:"next_at,omitempty"` // when it is tried next
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Text      string     `json:"text,omitempty"` // of one that is asked for; secrets are masked
}

// NotificationEvents lists the events that people can be told of.
func (c *Client) NotificationEvents(ctx context.Context) ([]NotificationEvent, error) {
	return all[NotificationEvent](c, ctx, "/notification-events", nil)
}

// MailServer returns who takes mail.
func (c *Client) MailServer(ctx context.Context) (MailServer, error) {
	return call[MailServer](c, ctx, "GET", "/mail-server", nil, nil)
}

// SetMailServer says who takes mail.
func (c *Client) SetMailServer(ctx context.Context, m NewMailServer) (MailServer, error) {
	return call[MailServer](c, ctx, "PUT", "/mail-server", nil, m)
}

// RemoveMailServer forgets who takes mail.
func (c *Client) RemoveMailServer(ctx context.Context) error {
	_, err := call[none](c, ctx, "DELETE", "/mail-server", nil, nil)
	return err
}

// Recipients lists who can be told, by name.
func (c *Client) Recipients(ctx context.Context) ([]Recipient, error) {
	return all[Recipient](c, ctx, "/recipients", nil)
}

// Recipient returns one of them.
func (c *Client) Recipient(ctx context.Context, name string) (Recipient, error) {
	return call[Recipient](c, ctx, "GET", "/recipients/"+url.PathEscape(name), nil, nil)
}

// AddRecipient makes somebody known who can be told.
func (c *Client) AddRecipient(ctx context.Context, n NewRecipient) (Recipient, error) {
	return call[Recipient](c, ctx, "POST", "/recipients", nil, n)
}

// EditRecipient puts another recipient in the place of one.
func (c *Client) EditRecipient(ctx context.Context, name string, n NewRecipient) (Recipient, error) {
	return call[Recipient](c, ctx, "PUT", "/recipients/"+url.PathEscape(name), nil, n)
}

// RemoveRecipient forgets one whom no rule tells.
func (c *Client) RemoveRecipient(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/recipients/"+url.PathEscape(name), nil, nil)
	return err
}

// TestRecipient tells one that this is a test.
func (c *Client) TestRecipient(ctx context.Context, name string) (Tested, error) {
	return call[Tested](c, ctx, "POST", "/recipients/"+url.PathEscape(name)+"/test", nil, nil)
}

// NotificationRules lists the notification rules, by name.
func (c *Client) NotificationRules(ctx context.Context) ([]NotificationRule, error) {
	return all[NotificationRule](c, ctx, "/notification-rules", nil)
}

// NotificationRule returns one of them.
func (c *Client) NotificationRule(ctx context.Context, name string) (NotificationRule, error) {
	return call[NotificationRule](c, ctx, "GET", "/notification-rules/"+url.PathEscape(name), nil, nil)
}

// AddNotificationRule has people told.
func (c *Client) AddNotificationRule(ctx context.Context, n NewNotificationRule) (NotificationRule, error) {
	return call[NotificationRule](c, ctx, "POST", "/notification-rules", nil, n)
}

// EditNotificationRule puts another rule in the place of one.
func (c *Client) EditNotificationRule(ctx context.Context, name string, n NewNotificationRule) (NotificationRule, error) {
	return call[NotificationRule](c, ctx, "PUT", "/notification-rules/"+url.PathEscape(name), nil, n)
}

// PauseNotificationRule stops a rule from telling, or has it tell again.
func (c *Client) PauseNotificationRule(ctx context.Context, name string, paused bool) (NotificationRule, error) {
	return call[NotificationRule](c, ctx, "POST", "/notification-rules/"+url.PathEscape(name)+map[bool]string{true: "/pause", false: "/resume"}[paused], nil, nil)
}

// RemoveNotificationRule forgets a rule; what it told stays.
func (c *Client) RemoveNotificationRule(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/notification-rules/"+url.PathEscape(name), nil, nil)
	return err
}

// Messages lists the newest messages, at most so many, those of a state or all.
func (c *Client) Messages(ctx context.Context, state string, most int) ([]Message, error) {
	p, err := call[Page[Message]](c, ctx, "GET", "/messages", url.Values{"state": {state}, "limit": {strconv.Itoa(most)}}, nil)
	return p.Items, err
}

// Message returns one, with its text.
func (c *Client) Message(ctx context.Context, id string) (Message, error) {
	return call[Message](c, ctx, "GET", "/messages/"+url.PathEscape(id), nil, nil)
}

// RetryMessage has a message tried now.
func (c *Client) RetryMessage(ctx context.Context, id string) (Message, error) {
	return call[Message](c, ctx, "POST", "/messages/"+url.PathEscape(id)+"/retry", nil, nil)
}
