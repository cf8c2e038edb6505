package client

import (
	"context"
	"io"
	"net/url"
	"strings"
	"time"
)

// Target is a place where copies of versions, and backups of the service, are kept.
type Target struct {
	Name       string    `json:"name" column:"1 target"`
	Kind       string    `json:"kind" enum:"target kinds" column:"2 kind"` // a git repository holds masked text and gives nothing back
	Where      string    `json:"where" column:"3 where"`
	User       string    `json:"user,omitempty"`
	HostKey    string    `json:"host_key,omitempty"`                         // of an SSH server: the fingerprint that was accepted
	CA         string    `json:"ca,omitempty"`                               // certificates that vouch for it, PEM
	Recipients []string  `json:"recipients"`                                 // to whom its files are sealed besides the service (age)
	Files      string    `json:"files" enum:"target files" column:"9 files"` // sealed; or readable: masked, or plain with the secrets
	Keep       bool      `json:"keep"`                                       // what is deleted here stays there
	Paused     bool      `json:"paused"`
	Note       string    `json:"note,omitempty"`
	ChangedBy  string    `json:"changed_by"`
	ChangedAt  time.Time `json:"changed_at"`

	State     string     `json:"state" enum:"target states" column:"4 state"`
	Trouble   string     `json:"trouble,omitempty"`
	FailingAt *time.Time `json:"failing_since,omitempty"`
	NextAt    *time.Time `json:"next_try,omitempty"`
	ReachedAt *time.Time `json:"reached_at,omitempty" column:"8 reached" as:"ago"` // when it did last what it was asked
	There     int        `json:"there" column:"5 there"`                           // versions that it has
	Waiting   int        `json:"waiting" column:"6 waiting"`                       // versions that it is to get, or to lose
	LeftOut   int        `json:"left_out"`                                         // versions that cannot be there
	Bytes     int64      `json:"bytes" column:"7 bytes"`
	Room      *int64     `json:"room,omitempty"`    // bytes that are free there, where it says so
	FullIn    *int       `json:"full_in,omitempty"` // days until they are not, as things went lately
}

// NewTarget is a target to be added, or to be put in the place of one; passwords and keys that
// are left out of an edit stay as they are.
type NewTarget struct {
	Name       string   `json:"name"`
	Kind       string   `json:"kind" enum:"target kinds"`
	Where      string   `json:"where"`
	User       string   `json:"user,omitempty"`
	Password   string   `json:"password,omitempty"`
	Key        string   `json:"key,omitempty"`      // private SSH key, PEM or OpenSSH form
	HostKey    string   `json:"host_key,omitempty"` // SHA256:… of the SSH server's key, accepted
	CA         string   `json:"ca,omitempty"`
	Recipients []string `json:"recipients,omitempty"`
	Files      string   `json:"files,omitempty" enum:"target files"` // sealed if not said; it stays as it is
	Keep       bool     `json:"keep,omitempty"`
	Paused     bool     `json:"paused,omitempty"`
	Note       string   `json:"note,omitempty"`
	Unreached  bool     `json:"unreached,omitempty"` // keep it although it cannot be reached now
}

// CopyOf is what a target has of a version.
type CopyOf struct {
	Target  string     `json:"target" column:"1 target"`
	Kind    string     `json:"kind" enum:"target kinds" column:"2 kind"`
	State   string     `json:"state" enum:"copy states" column:"3 state"`
	Path    string     `json:"path,omitempty" column:"5 file"`
	Bytes   int64      `json:"bytes"`
	At      *time.Time `json:"at,omitempty" column:"4 since"`
	Trouble string     `json:"trouble,omitempty" column:"6 why"`
}

// Backup is the whole service in one sealed file at a target.
type Backup struct {
	ID       string     `json:"id" column:"1 backup"`
	Target   string     `json:"target" column:"3 target"`
	Path     string     `json:"path"`
	MadeAt   time.Time  `json:"made_at" column:"2 made"`
	MadeBy   string     `json:"made_by" column:"4 by"`
	History  bool       `json:"history" column:"5 holds"` // with all versions, jobs and what was done
	Bytes    int64      `json:"bytes" column:"6 bytes"`
	Devices  int        `json:"devices" column:"7 devices"`
	Versions int        `json:"versions" column:"8 versions"`
	ProvenAt *time.Time `json:"proven_at,omitempty" column:"9 last proven"` // when it was restored into a scratch database and was as it should be
	Trouble  string     `json:"trouble,omitempty"`                          // why it was not, the last time
}

// NewBackup is a backup that is written to who asks for it.
type NewBackup struct {
	Settings   bool     `json:"settings_only,omitempty"` // without versions and what was done
	Recipients []string `json:"recipients,omitempty"`    // to whom it is sealed, besides the service and its master key
}

// Targets lists where copies are kept.
func (c *Client) Targets(ctx context.Context) ([]Target, error) {
	return all[Target](c, ctx, "/targets", nil)
}

// Target is one of them.
func (c *Client) Target(ctx context.Context, name string) (Target, error) {
	return call[Target](c, ctx, "GET", "/targets/"+url.PathEscape(name), nil, nil)
}

// AddTarget has copies kept at another place.
func (c *Client) AddTarget(ctx context.Context, n NewTarget) (Target, error) {
	return call[Target](c, ctx, "POST", "/targets", nil, n)
}

// EditTarget puts a target in the place of one.
func (c *Client) EditTarget(ctx context.Context, name string, n NewTarget) (Target, error) {
	return call[Target](c, ctx, "PUT", "/targets/"+url.PathEscape(name), nil, n)
}

// RemoveTarget forgets a target; what is there stays.
func (c *Client) RemoveTarget(ctx context.Context, name string) error {
	_, err := call[none](c, ctx, "DELETE", "/targets/"+url.PathEscape(name), nil, nil)
	return err
}

// RetryTarget has a target tried now; again: everything is copied there anew.
func (c *Client) RetryTarget(ctx context.Context, name string, again bool) (Target, error) {
	return call[Target](c, ctx, "POST", "/targets/"+url.PathEscape(name)+"/retry", nil, AgainCopy{Again: again})
}

// AgainCopy says how much of a target is tried again.
type AgainCopy struct {
	Again bool `json:"again,omitempty"` // copy everything anew that it was thought to have
}

// CopiesOf tells where copies of a version are.
func (c *Client) CopiesOf(ctx context.Context, ref string) ([]CopyOf, error) {
	return all[CopyOf](c, ctx, "/copies", q("ref", ref))
}

// Backups lists the backups of the service that are known, newest first.
func (c *Client) Backups(ctx context.Context) ([]Backup, error) {
	return all[Backup](c, ctx, "/backups", nil)
}

// WriteBackup writes the whole service to w, sealed. It returns the name that the service gives
// the file.
func (c *Client) WriteBackup(ctx context.Context, n NewBackup, w io.Writer) (name string, err error) {
	return c.received(ctx, "/backup-file", n, w)
}

// OwnRecipient is to whom devices are sealed that a service is to take over.
type OwnRecipient struct {
	Recipient string `json:"recipient"` // of age
}

// NewHandOver is which devices are written out for another service.
type NewHandOver struct {
	Selector   []string `json:"selector"`
	Recipients []string `json:"recipients"` // the other service's own
}

// Coming is a device that another service handed over, and what becomes of it here.
type Coming struct {
	Device   string `json:"device" column:"1 device"`
	As       string `json:"as" column:"2 here"`
	Versions int    `json:"versions" column:"3 versions"`
	Becomes  string `json:"becomes" enum:"becomes" column:"4 becomes"`
	Why      string `json:"why,omitempty" column:"5 why"`
}

// OwnRecipient is to whom devices are sealed that this service is to take over.
func (c *Client) OwnRecipient(ctx context.Context) (string, error) {
	out, err := call[OwnRecipient](c, ctx, "GET", "/own-recipient", nil, nil)
	return out.Recipient, err
}

// HandOver writes devices to w for another service; it returns the name that the service gives
// the file.
func (c *Client) HandOver(ctx context.Context, n NewHandOver, w io.Writer) (name string, err error) {
	return c.received(ctx, "/device-transfer-out", n, w)
}

// TakeOver takes over devices of a file. rename are names there and here; with preview nothing is
// taken.
func (c *Client) TakeOver(ctx context.Context, file io.Reader, rename map[string]string, leave []string, preview bool) ([]Coming, error) {
	var pairs []string
	for was, is := range rename {
		pairs = append(pairs, was+"="+is)
	}
	v := q("rename", strings.Join(pairs, ","), "leave", strings.Join(leave, ","))
	if preview {
		v.Set("preview", "true")
	}
	out, err := call[Page[Coming]](c, ctx, "POST", "/device-transfer-in", v, file)
	return out.Items, err
}
