package client

import (
	"slices"
	"strings"
	"time"
)

// Device is a managed network element.
type Device struct {
	ID               string     `json:"id"`
	Revision         int        `json:"revision"` // counts the changes of its entry; what a change is based on
	Name             string     `json:"name" column:"1 device"`
	Address          string     `json:"address" column:"9 address"`
	Port             int        `json:"port"`
	Site             string     `json:"site" column:"6 site"`
	Kind             string     `json:"kind" enum:"device kinds" column:"7 kind"`
	Tags             []string   `json:"tags" column:"8 tags"`
	Dialect          string     `json:"dialect"`
	User             string     `json:"user"`
	HostKey          string     `json:"host_key_fingerprint"` // SHA-256, as OpenSSH prints it
	State            string     `json:"state" enum:"device states" column:"2 state"`
	Since            *time.Time `json:"since,omitempty"` // when it came into its state
	Drifted          bool       `json:"drifted"`
	Acknowledged     *time.Time `json:"acknowledged_until,omitempty"` // until when all its drift is acknowledged
	Unsaved          bool       `json:"unsaved"`
	Apart            *Apart     `json:"apart,omitempty"` // of one that is unsaved: what its dialect calls that
	Trouble          string     `json:"trouble,omitempty" column:"0 what is wrong, or what to do"`
	Host             string     `json:"host,omitempty"`
	Model            string     `json:"model,omitempty"`
	Serial           string     `json:"serial,omitempty"`
	StandIn          string     `json:"stand_in,omitempty"` // what stands in for a serial number that it does not have: address, machine-id or host-key
	Release          string     `json:"release,omitempty"`
	CreatedAt        time.Time  `json:"created_at"`
	LastTried        *time.Time `json:"last_tried,omitempty"`
	LastPulled       *time.Time `json:"last_pulled,omitempty" column:"4 last pulled" as:"ago"`
	LastChanged      *time.Time `json:"last_changed,omitempty" column:"5 changed"`
	LastProven       *time.Time `json:"last_proven,omitempty"`        // when a version of it was last put on hardware and verified
	Proven           string     `json:"proven,omitempty"`             // which, where and by what
	Latest           int        `json:"latest" column:"3 version"`    // newest running version, 0 for none
	LoginLockedSince *time.Time `json:"login_locked_since,omitempty"` // its login was refused and is not tried

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
	Spare    bool              `json:"spare"`            // nobody needs it: restore tests may replace what it runs for a while

	Parts    []string `json:"parts,omitempty"`    // which it has versions of, the main one first; of one device only
	Children []Child  `json:"children,omitempty"` // the devices that hang on it; of one device only
	Earlier  []string `json:"earlier,omitempty"`  // removed devices that were the same hardware; of one device only
}

// RemovedDevice is a device that was taken out, and whose versions are here still.
type RemovedDevice struct {
	Name       string     `json:"name" column:"1 device"` // by which its versions are reached
	Was        string     `json:"was"`
	RemovedAt  time.Time  `json:"removed_at" column:"2 removed" as:"ago"`
	Versions   int        `json:"versions" column:"3 versions"`
	LastPulled *time.Time `json:"last_pulled,omitempty" column:"4 last pulled" as:"ago"`
	Site       string     `json:"site" column:"5 site"`
	Address    string     `json:"address" column:"7 address"`
	Dialect    string     `json:"dialect" column:"6 dialect"`
	Serial     string     `json:"serial,omitempty" column:"8 serial"`
	HostKey    string     `json:"host_key_fingerprint,omitempty"` // SHA-256, as OpenSSH prints it
}

// Reinstate brings a removed device back.
type Reinstate struct {
	Name  string `json:"name,omitempty"`  // what it is called from now on; as before, if it is not said
	Twice bool   `json:"twice,omitempty"` // another device is registered at the same address, on purpose
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
	Key        string    `json:"key,omitempty"`               // private key, PEM or OpenSSH form
	Privileged string    `json:"privileged_secret,omitempty"` // of the privileged mode
	Agent      string    `json:"agent,omitempty"`             // public key that the service's SSH agent signs with

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
	Spare      *bool              `json:"spare,omitempty"`    // nobody needs it: restore tests may replace what it runs for a while
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
	Clashes      int    `json:"clashes"`                 // lines that a rule takes for an entry that stands there already
	FirstClash   string `json:"first_clash,omitempty"`   // where the first of them stands, and under which rule
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
	Locked           int        `json:"locked" column:"6 state"`      // how many of them refused it
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
	Privileged string  `json:"privileged_secret,omitempty"`
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

// NewTags puts tags on devices, and takes others off.
type NewTags struct {
	Selector []string `json:"selector"`
	Add      []string `json:"add,omitempty"`
	Drop     []string `json:"drop,omitempty"`
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

// KeyFactPair is what a key fact is only in what runs, and only in the version that
// is to run.
type KeyFactPair struct {
	Name string   `json:"name"`
	Have []string `json:"have"`
	Want []string `json:"want"`
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

// NewDiscovery is which addresses to look at.
type NewDiscovery struct {
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
