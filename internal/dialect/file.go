package dialect

// File is a dialect file as written. See schema.json for what each key means.
type File struct {
	Dialect  string              `yaml:"dialect"`
	Title    string              `yaml:"title"`
	Kind     string              `yaml:"kind"`
	Reach    Reach               `yaml:"reach"`
	Converse Converse            `yaml:"converse"`
	Web      Web                 `yaml:"web"`
	Refusals []Refusal           `yaml:"refusals"`
	Held     *Held               `yaml:"held"`
	Echo     *Echo               `yaml:"echo"`
	States   map[string]*Listing `yaml:"states"` // operational state that can be read, by name
	Identity Identity            `yaml:"identity"`
	Elements *Listing            `yaml:"elements"`
	Members  *Members            `yaml:"members"`
	Parts    map[string]*Part    `yaml:"parts"`
	Grammar  Grammar             `yaml:"grammar"`
	Rules    []Rule              `yaml:"rules"`
	Change   Change              `yaml:"change"`
	Factory  *Factory            `yaml:"factory"`
	Fit      []Fit               `yaml:"fit"`
	Variants []Variant           `yaml:"variants"`
}

// Transports are the ways a device is spoken to.
const (
	SSH     = "ssh"
	Telnet  = "telnet"
	Netconf = "netconf"
	HTTPS   = "https"
	HTTP    = "http"
)

// Transports are all of them.
var Transports = []string{SSH, Telnet, Netconf, HTTPS, HTTP}

// Methods are how a version can be made what runs.
var Methods = []string{"replace", "merge", "stage", "upload"}

// Reach says where and how a device listens.
type Reach struct {
	Way      `yaml:",inline"`
	Also     []Way    `yaml:"also"`
	Legacy   []string `yaml:"legacy"`
	Timeouts Timeouts `yaml:"timeouts"`
	Retry    Retry    `yaml:"retry"`
}

// Way is one transport and its port.
type Way struct {
	Transport string `yaml:"transport"`
	Port      int    `yaml:"port"`
}

// Timeouts are how long is waited for what, as written ("20s").
type Timeouts struct {
	Connect string `yaml:"connect"`
	Answer  string `yaml:"answer"`
	Idle    string `yaml:"idle"`
	Whole   string `yaml:"whole"`
}

// Retry says how often a visit is begun again after what may pass.
type Retry struct {
	Times int    `yaml:"times"`
	After string `yaml:"after"`
}

// Converse says how to hold a conversation at a command line.
type Converse struct {
	Host    string          `yaml:"host"`
	Login   *Login          `yaml:"login"`
	Starts  string          `yaml:"starts"`
	Modes   map[string]Mode `yaml:"modes"`
	Pager   *Pager          `yaml:"pager"`
	Prepare []string        `yaml:"prepare"`
	Goodbye string          `yaml:"goodbye"`
}

// Login is the dialogue where the transport signs nobody in.
type Login struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
	Refused  string `yaml:"refused"`
}

// Mode is a state of the command line with a prompt of its own.
type Mode struct {
	Prompt string `yaml:"prompt"`
	From   string `yaml:"from"`
	Enter  string `yaml:"enter"`
	Asks   string `yaml:"asks"`
	Leave  string `yaml:"leave"`
}

// Pager is what stands at the end of a page and the key that goes on.
type Pager struct {
	Shows  string `yaml:"shows"`
	Answer string `yaml:"answer"`
}

// Web says how a session over HTTP is opened and ended.
type Web struct {
	Auth     string `yaml:"auth"` // basic, bearer, steps or none
	RESTCONF bool   `yaml:"restconf"`
	Login    []Step `yaml:"login"`
	Refused  string `yaml:"refused"` // what the answer to a refused login shows
	Expired  string `yaml:"expired"` // what an answer shows when the session is over
	Logout   []Step `yaml:"logout"`
}

// Refusal is what a refusing answer looks like.
type Refusal struct {
	Pattern string `yaml:"pattern"`
	Means   string `yaml:"means"`
}

// Step is one thing done with a device. Exactly one of Type, Ask, RPC and Put
// says what.
type Step struct {
	// At a command line: a line typed in a mode, and what questions it may lead
	// to.
	Mode    string   `yaml:"mode"`
	Type    string   `yaml:"type"`
	Answers []Answer `yaml:"answers"`
	// Over HTTP: a method and a path, and what goes with it.
	Ask    string            `yaml:"ask"`
	Header map[string]string `yaml:"header"`
	Form   map[string]string `yaml:"form"`
	JSON   string            `yaml:"json"`
	Body   string            `yaml:"body"`
	Upload *Upload           `yaml:"upload"`
	Status []int             `yaml:"status"`
	Match  bool              `yaml:"match"` // only if it is still what was read (If-Match)
	// Over NETCONF: the content of an <rpc>.
	RPC string `yaml:"rpc"`
	// A file put on the device.
	Put *FilePlace `yaml:"put"`

	Done   string            `yaml:"done"`  // what the answer must show
	Fails  string            `yaml:"fails"` // what it must not show
	Keep   map[string]string `yaml:"keep"`  // names for what is found in it
	Until  string            `yaml:"until"` // ask again until the answer shows this
	Every  string            `yaml:"every"`
	Within string            `yaml:"within"`
}

// Answer is a reply to a question that a command may ask.
type Answer struct {
	Asks  string `yaml:"asks"`
	Reply string `yaml:"reply"`
}

// Upload is a file sent in a form (RFC 7578).
type Upload struct {
	Field string `yaml:"field"`
	Name  string `yaml:"name"`
}

// FilePlace is a file on the device and how it is moved.
type FilePlace struct {
	Over string `yaml:"over"` // sftp, scp, ftp, ftps, tftp
	Port int    `yaml:"port"`
	Path string `yaml:"path"`
}

// Source is where something is read from. Exactly one of Command, Exec,
// Datastore, State, Resource, File and Sent is set.
type Source struct {
	Make      []Step            `yaml:"make"`
	Mode      string            `yaml:"mode"`
	Command   string            `yaml:"command"`
	Exec      string            `yaml:"exec"`
	Datastore string            `yaml:"datastore"`
	Filter    string            `yaml:"filter"`
	State     string            `yaml:"state"`
	Resource  string            `yaml:"resource"`
	Accept    string            `yaml:"accept"`
	Post      map[string]string `yaml:"post"` // fields of a form that it is asked for with
	File      *FilePlace        `yaml:"file"`
	Sent      string            `yaml:"sent"` // the protocol by which the device sends it to the inbox
	Unpack    []string          `yaml:"unpack"`
	Inside    string            `yaml:"inside"` // which file of an archive
	Under     string            `yaml:"under"`  // which element of a document
	Without   []string          `yaml:"without"`
	Tidy      []Step            `yaml:"tidy"`
}

// Held is what can be done about a session that holds the device.
type Held struct {
	End []Step `yaml:"end"` // ends the session {session}
}

// Identity is how a device tells who it is.
type Identity struct {
	Source  `yaml:",inline"`
	Host    string `yaml:"host"`
	Model   string `yaml:"model"`
	Serial  string `yaml:"serial"`
	Release string `yaml:"release"`
	Pair    bool   `yaml:"pair"`    // one of several serials may answer
	Session string `yaml:"session"` // the device's own name for the session that asks
}

// Listing is a list read from the device: each match is an entry.
type Listing struct {
	Source `yaml:",inline"`
	Each   string `yaml:"each"`
}

// Members are devices that this one speaks for.
type Members struct {
	Listing  `yaml:",inline"`
	Serial   string           `yaml:"serial"` // {member} stands for the name
	Model    string           `yaml:"model"`
	Release  string           `yaml:"release"`
	Standing string           `yaml:"standing"`
	Kind     string           `yaml:"kind"`
	Parts    map[string]*Part `yaml:"parts"`
	Methods  []string         `yaml:"methods"`
	Load     []Step           `yaml:"load"`
	Present  string           `yaml:"present"` // what standing shows of one that is there
	Adopt    []Step           `yaml:"adopt"`   // takes {member} back in after a restart of this one
	Rejoin   string           `yaml:"rejoin"`  // how long that may take
}

// Part is how a part is fetched and what proves that it is whole.
type Part struct {
	Source     `yaml:",inline"`
	Each       bool       `yaml:"each"` // one for each logical element
	Absent     string     `yaml:"absent"`
	Author     string     `yaml:"author"`
	Cut        Cut        `yaml:"cut"`
	Whole      Whole      `yaml:"whole"`
	Holds      string     `yaml:"holds"`   // all or differences
	Secrets    string     `yaml:"secrets"` // real, salted or withheld
	Form       string     `yaml:"form"`    // when it is another than the grammar's
	Ignore     []Range    `yaml:"ignore"`  // bytes of an opaque file that say nothing
	Sign       *Sign      `yaml:"sign"`
	Passphrase bool       `yaml:"passphrase"`
	SameUnit   bool       `yaml:"same_unit"`
	Landmarks  []Landmark `yaml:"landmarks"`
}

// Cut is what does not belong to the part.
type Cut struct {
	Before string `yaml:"before"` // the line that the part begins with
	After  string `yaml:"after"`  // the line that it ends with
}

// Whole is what proves that a part was fetched whole.
type Whole struct {
	First    []string  `yaml:"first"`
	Last     string    `yaml:"last"`
	Has      []string  `yaml:"has"`
	Document bool      `yaml:"document"` // being well-formed is the proof
	Magic    string    `yaml:"magic"`    // hexadecimal
	Length   *Field    `yaml:"length"`
	Checksum *Checksum `yaml:"checksum"`
	Size     string    `yaml:"size"` // a kept name that says how many bytes
}

// Field is a number in an opaque file.
type Field struct {
	At     int    `yaml:"at"`
	Bytes  int    `yaml:"bytes"`
	Order  string `yaml:"order"`  // big or little
	Counts int    `yaml:"counts"` // from which offset on the bytes are counted
}

// Checksum is where a checksum stands and over what.
type Checksum struct {
	Field `yaml:",inline"`
	Kind  string `yaml:"kind"` // crc32, sum32, sha256
	From  int    `yaml:"from"`
	Kept  string `yaml:"kept"` // a kept name that says it, in hexadecimal, instead of a field
}

// Range is some bytes of an opaque file.
type Range struct {
	At     int `yaml:"at"`
	Length int `yaml:"length"`
}

// Sign is a cheap sign of change: the content is unchanged while it stays.
type Sign struct {
	Source  `yaml:",inline"`
	Pattern string `yaml:"pattern"`
}

// Landmark is something a person looks for to believe in a version.
type Landmark struct {
	Name string `yaml:"name"`
	Path string `yaml:"path"`
}

// Grammar is how the text is built.
type Grammar struct {
	Form      string   `yaml:"form"`
	Indent    int      `yaml:"indent"`
	Comments  []string `yaml:"comments"`
	Quotes    string   `yaml:"quotes"`
	Withheld  string   `yaml:"withheld"`
	Marks     *Marks   `yaml:"marks"`
	Delimited []struct {
		Opens  string `yaml:"opens"`
		Closes string `yaml:"closes"`
	} `yaml:"delimited"`
}

// Marks are what opens and closes a block; see grammar.Marks.
type Marks struct {
	Opens  string `yaml:"opens"`
	Closes string `yaml:"closes"`
	Open   string `yaml:"open"`
	Close  string `yaml:"close"`
	End    string `yaml:"end"`
}

// Rule is a row of the table of path patterns; see rules.Rule.
type Rule struct {
	Path       string            `yaml:"path"`
	Ordered    bool              `yaml:"ordered"`
	Overwrites bool              `yaml:"overwrites"`
	Permanent  bool              `yaml:"permanent"`
	Reach      bool              `yaml:"reach"`
	Volatile   bool              `yaml:"volatile"`
	Default    string            `yaml:"default"`
	Writes     []string          `yaml:"writes"`
	Defines    string            `yaml:"defines"`
	Named      string            `yaml:"named"`
	Uses       map[string]string `yaml:"uses"`
	Secret     []string          `yaml:"secret"`
	Hardware   bool              `yaml:"hardware"`
	Salted     []string          `yaml:"salted"`
	Hostname   string            `yaml:"hostname"`
}

// Change is how a configuration is changed.
type Change struct {
	Mode     string   `yaml:"mode"`
	Remove   string   `yaml:"remove"`
	Leave    string   `yaml:"leave"`
	Methods  []string `yaml:"methods"`
	Save     *Save    `yaml:"save"`
	Load     []Step   `yaml:"load"`     // steps that put a whole document or file on the device
	Target   string   `yaml:"target"`   // NETCONF: candidate or running
	Offer    string   `yaml:"offer"`    // the protocol by which the device fetches the document from us
	Restarts string   `yaml:"restarts"` // it restarts after a load and is back within this span
	Settle   string   `yaml:"settle"`   // how long it takes until what it runs can be believed
	Least    []string `yaml:"least"`    // paths of what has to be there before a push, besides the ways; {user} is who signs in
	Live     []Step   `yaml:"live"`     // make what was sent take effect, where the last line does not
	Stage    *Stage   `yaml:"stage"`
	Undo     *Undo    `yaml:"undo"`
}

// Stage is how the startup part is written and the device restarted into it.
type Stage struct {
	Load    []Step `yaml:"load"`    // put {content} there
	Restart []Step `yaml:"restart"` // without keeping what runs
	Down    string `yaml:"down"`    // within which it stops answering
	Back    string `yaml:"back"`    // and within which it answers again
}

// Undo is the device's own way back: a timer that is armed before a push and
// disarmed when it is confirmed.
type Undo struct {
	Arm    []Step `yaml:"arm"` // {minutes} and {seconds} are how long
	Disarm []Step `yaml:"disarm"`
	From   string `yaml:"from"` // the shortest time it takes, and the longest
	To     string `yaml:"to"`
	Back   string `yaml:"back"` // how long until the device is back after it went off
}

// Save is how running becomes startup.
type Save struct {
	Mode    string `yaml:"mode"`
	Command string `yaml:"command"`
	Done    string `yaml:"done"`
}

// Echo is how a device asks whether an address answers it: {to}.
type Echo struct {
	Source `yaml:",inline"`
	Good   string `yaml:"good"` // what the answer shows if it does
}

// Factory is how a unit with factory settings is recognised.
type Factory struct {
	Source   `yaml:",inline"`
	FirstRun []Step `yaml:"first-run"` // what gets past a first-run page that stands before everything
	Shows    string `yaml:"shows"`
}

// Fit is something in which a version and the unit that it is put on have to
// agree.
type Fit struct {
	Compare   string `yaml:"compare"`   // model or release
	Pattern   string `yaml:"pattern"`   // its group is what has to agree; all of it if not said
	Path      string `yaml:"path"`      // or a value of the configuration
	Default   string `yaml:"default"`   // which it has where the line is not there
	Otherwise string `yaml:"otherwise"` // refuse or warn
	Why       string `yaml:"why"`
}

// Variant is what is otherwise in some models or releases. Sets holds keys of
// the file with what they are there: mappings are merged, all else replaced.
type Variant struct {
	Transport string         `yaml:"transport"`
	Model     string         `yaml:"model"`
	Release   string         `yaml:"release"`
	From      string         `yaml:"from"`
	Below     string         `yaml:"below"`
	Sets      map[string]any `yaml:"sets"`
	Lacks     []string       `yaml:"lacks"` // parts and methods that are not to be had
}
