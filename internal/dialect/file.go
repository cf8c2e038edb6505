package dialect

// File is one dialect: how one family of devices is spoken to. Patterns are RE2.
//
// This file is the language's one source. Its JSON Schema and the tables of the
// reference in docs/dialects.md are made from the fields, from what is said of them
// here, and from the tag "is", which says what a value may be:
//
//	must                 the key is required
//	pattern, span        an RE2 pattern; a time span like 20s
//	some                 a text that is not empty
//	filled               a list or mapping that is not empty
//	unique               a list that holds nothing twice
//	A..B                 a number within
//	/PATTERN/            a text that matches
//	keys/PATTERN/        a mapping whose keys match
//	a|b|c, one-of:NAME   one of these words, or of a vocabulary's
//
// In a list or mapping they are about what it holds. With "may" what is inlined is
// required no more; with "either:a|b" exactly one of the keys is there.
type File struct {
	// The dialect's name.
	Dialect string `yaml:"dialect" is:"must /^[a-z][a-z0-9-]{0,40}$/"`
	// Family and releases, for people.
	Title string `yaml:"title" is:"must some"`
	// What the devices are.
	Kind string `yaml:"kind" is:"must one-of:kinds"`
	// Where and how a device listens.
	Reach Reach `yaml:"reach" is:"must"`
	// How a conversation at a command line goes. Dialects that only use exec need none.
	Converse Converse `yaml:"converse"`
	// How a session over HTTP is opened and ended.
	Web Web `yaml:"web"`
	// What a refusing answer looks like; the first that matches counts.
	Refusals []Refusal `yaml:"errors" is:"filled"`
	// What can be done about a session that holds the device. NETCONF's own way (kill-session, RFC 6241 §7.9) needs no word.
	Held *Held `yaml:"held"`
	// How the device asks whether an address answers it, for the checks of a push.
	Echo *Echo `yaml:"echo"`
	// Operational state that can be read before a push and after it, by name. The check "state NAME" is good while no entry is missing that was there before.
	States map[string]*Listing `yaml:"states"`
	// How a device tells who it is.
	Identity Identity `yaml:"identity" is:"must"`
	// Which logical elements there are (RFC 8530); {element} stands for one in parts written with a +.
	Elements *Listing `yaml:"elements"`
	// Messages of it (syslog) that say that its configuration changed; it is then pulled once it is quiet.
	Notices []Notice `yaml:"change_triggers" is:"filled"`
	// It tells of changes by NETCONF notifications (RFC 5277, RFC 6470), for which a session is kept open.
	Notifications bool `yaml:"notifications"`
	// When a schedule takes it, where devices that hang on it are taken too: first, as usual, or last, after those.
	Turn string `yaml:"turn" is:"first|last"`
	// Devices that this one speaks for; {member} stands for one. They are registered as devices of their own when they are first seen.
	Members *Members `yaml:"members"`
	// What is fetched, by name: running, startup, archive, or what fits. By the first of running, startup and the others in order the device is judged. A name with a + behind it and each: true is fetched for each logical element: running+ gives running+guest.
	Parts map[string]*Part `yaml:"parts" is:"must filled keys/^[a-z][a-z0-9-]*\\+?$/"`
	// How the text is built.
	Grammar Grammar `yaml:"grammar" is:"must"`
	// What lines mean: one table of path patterns, of which the first that matches counts.
	Rules []Rule `yaml:"rules"`
	// How a configuration is changed.
	Change Change `yaml:"change"`
	// How a unit with factory settings is recognised. Such a device is in factory state.
	Factory *Factory `yaml:"factory"`
	// In what a version and the unit it is put on have to agree. Without a word, another model is a warning, and another release is pointed out.
	Fit []Fit `yaml:"fit"`
	// What is otherwise in some models or releases. The first that matches counts.
	Variants []Variant `yaml:"variants"`
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

// Inbound are the protocols of the inbox.
var Inbound = []string{"tftp", "ftp", "sftp", "scp", "https"}

// Reach says where and how a device listens.
type Reach struct {
	Way `yaml:",inline"`
	// Other ways; a device's own entry chooses among them (--transport).
	Also []Way `yaml:"also"`
	// Old SSH algorithms allowed besides today's, by their names (RFC 4253, 4432, 8308). A visit that ends up with one warns.
	Legacy []string `yaml:"legacy" is:"some"`
	// How long is waited for what; a device's entry can have its own (--timeout answer=5m).
	Timeouts Timeouts `yaml:"timeouts"`
	// How often a visit is begun again when the device is unreachable, busy or held. Never after a refused login.
	Retry Retry `yaml:"retry"`
}

// Way is one transport and its port.
type Way struct {
	// How the device is spoken to: ssh by a shell or by exec, netconf over SSH.
	Transport string `yaml:"transport" is:"must one-of:transports"`
	// Where it listens.
	Port int `yaml:"port" is:"must 1..65535"`
}

// Timeouts are how long is waited for what.
type Timeouts struct {
	// From dialling to the end of sign-in; 10s if not said.
	Connect string `yaml:"connect" is:"span"`
	// From a command to the first byte of its answer; 60s if not said.
	Answer string `yaml:"answer" is:"span"`
	// Between two bytes of an answer; 20s if not said.
	Idle string `yaml:"idle" is:"span"`
	// For one visit in all; 10m if not said.
	Whole string `yaml:"whole" is:"span"`
}

// Retry says how often a visit is begun again after what may pass.
type Retry struct {
	// How many times.
	Times int `yaml:"times" is:"0..10"`
	// Before the first time; twice as long before each next.
	After string `yaml:"after" is:"span"`
}

// Converse says how to hold a conversation at a command line.
type Converse struct {
	// What a host name in a prompt looks like.
	Host string `yaml:"host" is:"must pattern"`
	// The dialogue where the transport signs nobody in (Telnet). Each question is answered once.
	Login *Login `yaml:"login"`
	// The mode a session starts in.
	Starts string `yaml:"initial_mode" is:"must"`
	// The states of the command line that have a prompt of their own.
	Modes map[string]Mode `yaml:"modes" is:"must filled"`
	// What stands at the end of a page, and what goes on.
	Pager *Pager `yaml:"pager"`
	// What wakes a line that shows no prompt by itself.
	Wake *Wake `yaml:"wake"`
	// Commands for this session only, like turning paging off, or what keeps a shell from writing down what is typed.
	Prepare []string `yaml:"prepare"`
	// Characters that the line editor eats or acts on, and what is typed for each, like "?": "\x16?".
	Keys map[string]string `yaml:"keys" is:"some keys/^.$/"`
	// How many lines of a push may be typed before the first of them is answered, where the device reads and echoes one at a time and does not throw away what is typed meanwhile. Never past a line that opens a block, so that none can end up in the wrong one; each is still held to its echo and its own answer.
	Ahead int `yaml:"pipeline" is:"1..200"`
	// What ends the session.
	Goodbye string `yaml:"logout"`
}

// Login is the dialogue where the transport signs nobody in.
type Login struct {
	// How the device asks for the user.
	User string `yaml:"user" is:"pattern"`
	// How it asks for the password.
	Password string `yaml:"password" is:"must pattern"`
	// What it says when it refuses.
	Refused string `yaml:"refused" is:"must pattern"`
}

// Mode is a state of the command line with a prompt of its own.
type Mode struct {
	// The whole prompt; {host} stands for the host name.
	Prompt string `yaml:"prompt" is:"must pattern"`
	// The mode it is entered from.
	From string `yaml:"from"`
	// The command that enters it.
	Enter string `yaml:"enter"`
	// A question for the privileged mode's secret.
	Asks string `yaml:"asks" is:"pattern"`
	// The command that returns to the mode it was entered from.
	Leave string `yaml:"leave"`
}

// Pager is what stands at the end of a page and the key that goes on.
type Pager struct {
	// What stands at the end of a page.
	Shows string `yaml:"shows" is:"must pattern"`
	// The key that shows the next one.
	Answer string `yaml:"answer" is:"must"`
}

// Wake is what a line shows before it shows a prompt, and the key that has it go on.
type Wake struct {
	// What is shown, as in "press any key"; not said: the line says nothing until it is woken.
	Shows string `yaml:"shows" is:"pattern"`
	// The key that wakes it.
	Answer string `yaml:"answer" is:"must"`
}

// Web says how a session over HTTP is opened and ended. Cookies are kept for the
// visit. A certificate is accepted once, like a host key, and pinned.
type Web struct {
	// How each request is signed; bearer takes the password as the token, steps are a login of its own.
	Auth string `yaml:"auth" is:"must basic|bearer|steps|none"`
	// Find the RESTCONF root first (RFC 8040 §3.1); paths may then begin with {root}.
	RESTCONF bool `yaml:"restconf"`
	// Asked before anything else when auth is steps.
	Login []Step `yaml:"login"`
	// What the answer to a refused login shows, where its status (401) does not say so.
	Refused string `yaml:"refused" is:"pattern"`
	// What an answer shows when the session has ended, where its status (401) does not say so. The visit signs in again, once; steps that only read are done again, others never.
	Expired string `yaml:"expired" is:"pattern"`
	// What ends the session.
	Logout []Step `yaml:"logout"`
}

// Notice is what a message about a changed configuration looks like.
type Notice struct {
	// What it shows: the name of its program, a colon and its text. A group named user tells who did it.
	Pattern string `yaml:"pattern" is:"must pattern"`
}

// Refusal is what a refusing answer looks like.
type Refusal struct {
	// What the answer shows. A group is the device's own words. Of a held, groups named user and session tell whose session holds the device, and the device's own name for it.
	Pattern string `yaml:"pattern" is:"must pattern"`
	// What it means; held is by somebody else, and login is a secret refused, which is locked.
	Means string `yaml:"means" is:"must refused|held|busy|login"`
}

// Step is one thing done with a device: type, exec, ask, rpc or put says what.
type Step struct {
	// The mode the line is typed in.
	Mode string `yaml:"mode" is:"some"`
	// A line to type.
	Type string `yaml:"type" is:"some"`
	// A command run in an SSH channel of its own (RFC 4254 §6.5), where no line editor stands in between.
	Exec string `yaml:"exec" is:"some"`
	// Questions that the line may lead to.
	Answers []Answer `yaml:"answers"`
	// A method and a path asked over HTTP: METHOD /path.
	Ask string `yaml:"ask" is:"some"`
	// Header fields that go with the request.
	Header map[string]string `yaml:"header"`
	// Fields of a form (application/x-www-form-urlencoded, or multipart with upload).
	Form map[string]string `yaml:"form"`
	// A JSON body.
	JSON string `yaml:"json" is:"some"`
	// A body as it stands.
	Body string `yaml:"body"`
	// {content} as a file of a multipart form (RFC 7578).
	Upload *Upload `yaml:"upload"`
	// Which HTTP answers are good; any 2xx or a redirect if not said.
	Status []int `yaml:"status"`
	// Only if the resource is still what was read (If-Match, RFC 9110 §13.1.1).
	Match bool `yaml:"match"`
	// The content of a NETCONF rpc.
	RPC string `yaml:"rpc" is:"some"`
	// A file put on the device: {content}.
	Put *FilePlace `yaml:"put"`

	// What the answer must show.
	Done string `yaml:"done" is:"pattern"`
	// What the answer must not show.
	Fails string `yaml:"fails" is:"pattern"`
	// Names for what is found in the answer, by patterns with a group; {name} stands for it from then on.
	Keep map[string]string `yaml:"keep" is:"pattern"`
	// The step is done again until the answer shows this.
	Until string `yaml:"until" is:"pattern"`
	// How long between two times.
	Every string `yaml:"every" is:"span"`
	// How long in all.
	Within string `yaml:"within" is:"span"`
}

// Answer is a reply to a question that a command may ask.
type Answer struct {
	// The question.
	Asks string `yaml:"asks" is:"must pattern"`
	// What is answered.
	Reply string `yaml:"reply" is:"must"`
}

// Upload is a file sent in a form (RFC 7578).
type Upload struct {
	// The form's field.
	Field string `yaml:"field" is:"must some"`
	// The file's name.
	Name string `yaml:"name" is:"must some"`
}

// FilePlace is a file on the device and how it is moved.
type FilePlace struct {
	// The protocol.
	Over string `yaml:"over" is:"must sftp|scp|ftp|ftps|tftp"`
	// Where the device listens for it, if not where that protocol usually does.
	Port int `yaml:"port" is:"1..65535"`
	// The file.
	Path string `yaml:"path" is:"must some"`
}

// Source is where something is read from: exactly one of command, exec, datastore,
// state, resource, file and sent, and what is around it.
type Source struct {
	// Done first: what makes the device write the file, for instance.
	Make []Step `yaml:"make"`
	// The mode the command is typed in.
	Mode string `yaml:"mode" is:"some"`
	// A command whose answer it is.
	Command string `yaml:"command" is:"some"`
	// A command run in an SSH channel of its own (RFC 4254 §6.5).
	Exec string `yaml:"exec" is:"some"`
	// A NETCONF datastore (get-config, RFC 6241 §7.1).
	Datastore string `yaml:"datastore" is:"running|startup|candidate"`
	// A subtree filter (RFC 6241 §6) for a datastore.
	Filter string `yaml:"filter" is:"some"`
	// A subtree filter for what NETCONF get answers (RFC 6241 §7.7).
	State string `yaml:"state" is:"some"`
	// A path got over HTTP.
	Resource string `yaml:"resource" is:"some"`
	// The media type asked for.
	Accept string `yaml:"accept" is:"some"`
	// Fields of a form that the resource is asked for with, by POST.
	Post map[string]string `yaml:"post"`
	// A file on the device.
	File *FilePlace `yaml:"file"`
	// The steps under make have the device send it to the inbox, by this protocol; {inbox} and {inbox-path} say where. See operations.
	Sent string `yaml:"sent" is:"one-of:inbound"`
	// What has to be undone, outermost first.
	Unpack []string `yaml:"unpack" is:"gzip|zlib|zip|tar|base64"`
	// A pattern for the one file of a ZIP or tar that it is.
	Inside string `yaml:"inside" is:"some"`
	// The element or member of the document that it is, as a path of words joined by " / ".
	Under string `yaml:"under" is:"some"`
	// Elements or members that do not belong to it, as paths.
	Without []string `yaml:"without" is:"some"`
	// Done afterwards, whatever happened, and after a crash at the next visit: what removes {file} again.
	Tidy []Step `yaml:"tidy"`
}

// Held is what can be done about a session that holds the device.
type Held struct {
	// Ends the session {session}: one of this service that was left behind, and somebody else's only when a person asked for it and gave a reason.
	End []Step `yaml:"end" is:"must"`
}

// Identity is how a device tells who it is. A serial that was never seen there puts
// the device into other hardware.
type Identity struct {
	Source `yaml:",inline"`
	Traits `yaml:",inline"`
	// Other sources of what the first does not tell; the first that tells a thing counts.
	Also []Elsewhere `yaml:"also"`
	// What stands in for a serial number where there is none, so that it is known for what it is: an address burnt in and a machine id are read as serial, and the host key is taken by itself. A unit that has another one is other hardware; a host key made anew is too.
	StandIn string `yaml:"fallback" is:"address|machine-id|host-key"`
	// One of several serials may answer: a redundant pair, an elected lead.
	Pair bool `yaml:"pair"`
	// Where the device's own name for our session is read, by which it says who holds it.
	Session string `yaml:"session" is:"pattern"`
}

// Traits are the patterns of an identity.
type Traits struct {
	// Where its host name is read.
	Host string `yaml:"host" is:"pattern"`
	// Where its model is read.
	Model string `yaml:"model" is:"pattern"`
	// Where its serial number is read. It has to be told somewhere, if the host key does not stand in for it.
	Serial string `yaml:"serial" is:"pattern"`
	// Where the release of its software is read.
	Release string `yaml:"release" is:"pattern"`
}

// Elsewhere is one more source of an identity.
type Elsewhere struct {
	Source `yaml:",inline"`
	Traits `yaml:",inline"`
}

// Listing is a list read from the device: each match is an entry.
type Listing struct {
	Source `yaml:",inline"`
	// What an entry looks like; the first group is its name.
	Each string `yaml:"each" is:"must pattern"`
}

// Members are devices that this one speaks for.
type Members struct {
	Listing `yaml:",inline"`
	// Where a member's serial number is read; {member} stands for its name.
	Serial string `yaml:"serial" is:"some"`
	// Where its model is read.
	Model string `yaml:"model" is:"some"`
	// Where its release is read.
	Release string `yaml:"release" is:"some"`
	// Where it is read whether it is there.
	Standing string `yaml:"standing" is:"some"`
	// What they are.
	Kind string `yaml:"kind" is:"must one-of:kinds"`
	// Their parts, as those of a device.
	Parts map[string]*Part `yaml:"parts" is:"must filled"`
	// The methods by which one is pushed to.
	Methods []string `yaml:"methods" is:"unique replace|upload"`
	// Puts a document or file on one; {content} stands for it.
	Load []Step `yaml:"load"`
	// What standing shows of one that is there.
	Present string `yaml:"present" is:"pattern"`
	// Takes {member} back in after this device has restarted.
	Adopt []Step `yaml:"take_in"`
	// How long that may take: a push waits for those that were there before, and lists who did not come.
	Rejoin string `yaml:"rejoin" is:"span"`
}

// Part is how a part is fetched and what proves that it is whole.
type Part struct {
	Source `yaml:",inline"`
	// There is one for each logical element.
	Each bool `yaml:"each"`
	// What a device that has no such part answers: where it is read, in a step under make, or where its file should be.
	Absent string `yaml:"absent" is:"pattern"`
	// The line that says who changed it last; the first group is the name.
	Author string `yaml:"author" is:"pattern"`
	// What does not belong to it.
	Cut Cut `yaml:"cut"`
	// What proves that all of it came.
	Whole Whole `yaml:"complete" is:"must"`
	// How its bytes are read: utf-8, if nothing is said; latin-1; or bytes, of which none is refused. It is kept byte for byte in each.
	Encoding string `yaml:"encoding" is:"utf-8|latin-1|bytes"`
	// Everything, or only what is not at its default. The two are never compared.
	Holds string `yaml:"holds" is:"all|differences"`
	// Whether secrets in it are what they are, other each time, or left out.
	Secrets string `yaml:"secrets" is:"real|salted|withheld"`
	// It is kept by hand, so that every byte counts: comments, blanks, order, the end of the last line. It is unchanged only while all of them are the same, and is read by the grammar all the same.
	Exact bool `yaml:"exact"`
	// The part that this one comes of, and should be equivalent to: startup comes of running if nothing is said; what a device has loaded comes of the file it was loaded from.
	Follows string `yaml:"follows" is:"some"`
	// The state of a device where it is not equivalent to what it follows, in a word or two; unsaved if not said.
	Otherwise string `yaml:"unsaved_word" is:"/^[a-z][a-z\\s-]{0,30}$/"`
	// Where it is not of the grammar's form.
	Form string `yaml:"form" is:"opaque"`
	// Bytes of an opaque file that change by themselves.
	Ignore []Range `yaml:"ignore"`
	// A cheap sign of change: while it stays, so does the content.
	Sign *Sign `yaml:"change_token"`
	// It is encrypted under the credential's passphrase, if there is one. The passphrase is kept, sealed, with the version, and the sign decides what is a change.
	Passphrase bool `yaml:"passphrase"`
	// It can only go back to the very unit it came from.
	SameUnit bool `yaml:"same_unit"`
	// What a person looks for to believe in a version.
	KeyFacts []KeyFact `yaml:"key_facts"`
}

// Cut is what does not belong to the part.
type Cut struct {
	// The line that it begins with; what comes before is not part of it.
	Before string `yaml:"before" is:"pattern"`
	// The line that it ends with.
	After string `yaml:"after" is:"pattern"`
}

// Whole is what proves that a part was fetched whole.
type Whole struct {
	// The first lines, one pattern each.
	First []string `yaml:"first" is:"pattern"`
	// The last line. A group named lines must count the lines between first and last.
	Last string `yaml:"last" is:"pattern"`
	// Lines that are always there.
	Has []string `yaml:"has" is:"pattern"`
	// Being well-formed is the proof.
	Document bool `yaml:"document"`
	// The first bytes of a file, in hexadecimal.
	Magic string `yaml:"magic" is:"/^([0-9a-fA-F]{2})+$/"`
	// A number in the file that says how many bytes follow.
	Length *Field `yaml:"length"`
	// A checksum of all bytes from an offset on.
	Checksum *Checksum `yaml:"checksum"`
	// A kept name that says how many bytes there are.
	Size string `yaml:"size" is:"some"`
}

// Field is a number in an opaque file.
type Field struct {
	// Its offset.
	At int `yaml:"at" is:"must 0.."`
	// How many bytes it takes.
	Bytes int `yaml:"bytes" is:"must 1|2|4|8"`
	// Its byte order.
	Order string `yaml:"order" is:"big|little"`
	// The offset from which bytes are counted.
	Counts int `yaml:"counts" is:"0.."`
}

// Checksum is where a checksum stands and over what.
type Checksum struct {
	Field `yaml:",inline" is:"may"`
	// How it is made.
	Kind string `yaml:"kind" is:"must crc32|sum32|sha256"`
	// The offset from which bytes go into it.
	From int `yaml:"from" is:"0.."`
	// A kept name that says it in hexadecimal, instead of a number in the file.
	Kept string `yaml:"kept" is:"some"`
}

// Range is some bytes of an opaque file.
type Range struct {
	// The offset of the first.
	At int `yaml:"at" is:"must 0.."`
	// How many.
	Length int `yaml:"length" is:"must 1.."`
}

// Sign is a cheap sign of change: the content is unchanged while it stays. A scheduled pull
// looks at the signs first, where each part has one, and fetches everything once a day all the same.
type Sign struct {
	Source `yaml:",inline"`
	// What the sign looks like.
	Pattern string `yaml:"pattern" is:"must pattern"`
}

// KeyFact is something a person looks for to believe in a version.
type KeyFact struct {
	// What it is called.
	Name string `yaml:"name" is:"must some"`
	// Which lines it is, as a path like those of rules.
	Path string `yaml:"path" is:"must some"`
}

// Grammar is how the text is built.
type Grammar struct {
	// flat has one setting a line. braces is a hierarchy in braces, in which line ends mean nothing: statements that end in a semicolon, lists in brackets, comments between /* and */; it goes there as a whole. XML and JSON are kept with one element or member a line.
	Form string `yaml:"form" is:"must blocks|braces|flat|xml|json|opaque"`
	// free: where lines stand counts only where a rule says so. Without it every order counts.
	Order string `yaml:"order" is:"free"`
	// free: how many blanks stand between the words that a rule names does not count. Without it every blank counts; in a text of several words, in quotes and in lines that no rule names every blank counts always.
	Blanks string `yaml:"blanks" is:"free"`
	// Of XML and JSON: how the device treats a value at its default (RFC 6243 §2). With report-all and trim it is the same whether it was set or not. With explicit, or if nothing is said, it is not: a line at its default counts as any other, and no rule's default lets it go. A NETCONF server that says another mode is not read.
	Defaults string `yaml:"defaults" is:"report-all|trim|explicit"`
	// Columns for a level; where indentation tells the blocks, nothing else is needed.
	Indent int `yaml:"indent" is:"1..16"`
	// What a comment begins with.
	Comments []string `yaml:"comments" is:"some"`
	// A comment may stand behind a line too, after a blank.
	Trailing bool `yaml:"trailing"`
	// The word before a line that says the opposite of it. Such a line is taken away by the line without the word, and takes the place of the line that it denies.
	Denial string `yaml:"denial" is:"/^\\S+$/"`
	// Pairs of quotes that make one word of a text with blanks, like <>.
	Quotes string `yaml:"quotes" is:"/^(..)*$/"`
	// In quotes, the character that takes the next one's meaning away, like a backslash before a quote.
	Escape string `yaml:"escape" is:"/^[!-~]$/"`
	// Patterns of what is secret wherever it stands: on a line, in a text over several lines, in a comment. Their groups are hidden, or all that matches where they have none.
	Secrets []string `yaml:"secrets" is:"pattern"`
	// What stands at the end of a line that goes on on the next, like a backslash.
	Continues string `yaml:"continues" is:"some"`
	// A line that opens a block which goes on to the next such line, like [section] or a path.
	Header string `yaml:"header" is:"pattern"`
	// The sign between a name and its value, like =. The first word of a line is cut at it into two; further words are options, of which a path speaks as @name=<capture>, wherever they stand.
	Assign string `yaml:"assign" is:"/^[!-~]$/"`
	// With indentation: a line by which the device itself closes a block. It says nothing and is never typed.
	Closer string `yaml:"closer" is:"pattern"`
	// What stands where the device does not tell a secret. Such lines are not compared and not sent.
	Withheld string `yaml:"withheld" is:"pattern"`
	// What opens and closes a block, where indentation does not tell.
	Marks *Marks `yaml:"marks"`
	// Texts over several lines.
	Delimited []Delimited `yaml:"delimited"`
}

// Delimited is a text over several lines.
type Delimited struct {
	// The line that it begins with.
	Opens string `yaml:"opens" is:"must pattern"`
	// What it ends with; {name} stands for what a group named so took of the line that it begins with, where the user chose the mark.
	Closes string `yaml:"closes" is:"must some"`
}

// Marks are what opens and closes a block; see grammar.Marks.
type Marks struct {
	// A line that opens a block; its first group is the head.
	Opens string `yaml:"opens" is:"must pattern"`
	// A line that closes one.
	Closes string `yaml:"closes" is:"must pattern"`
	// How an opening line is written; {head} stands for the head.
	Open string `yaml:"open" is:"some"`
	// How a closing line is written.
	Close string `yaml:"close" is:"must some"`
	// What ends every other line.
	End string `yaml:"end" is:"some"`
}

// Rule is a row of the table of path patterns; see rules.Rule.
type Rule struct {
	// The path to the lines that the row is about.
	Path string `yaml:"path" is:"must some"`
	// The order of the lines directly below matters, and new ones go to the end, or where before says.
	Ordered bool `yaml:"ordered"`
	// free: where the lines directly below stand does not count.
	Order string `yaml:"order" is:"free"`
	// Lines of one sequence in a block, or at the top, are ordered among each other; its name, which says only what belongs together.
	Sequence string `yaml:"sequence" is:"some"`
	// With ordered or sequence: new lines go before the line that matches, and stay there; to the end if there is none.
	Before string `yaml:"before" is:"pattern"`
	// A new value replaces the old one; without it the old line is removed first.
	Overwrites bool `yaml:"overwrites"`
	// How such a line is taken away, where not as change.remove says. {line} is all of it, {identity} the words that tell it from its neighbours, and each capture stands for what it took.
	Remove string `yaml:"remove" is:"some"`
	// There is one of these at a time in a block: the old one goes before a new one comes.
	Single bool `yaml:"single"`
	// Of the lines of one choice in a block there is one at a time, whichever rule they fall under (RFC 7950 §7.9); its name, which says only what belongs together.
	Choice string `yaml:"choice" is:"some"`
	// Of lines that agree in these captures there is one at a time, whatever else they say; the device refuses or ignores a second one.
	SingleBy []string `yaml:"single_by" is:"filled some"`
	// Of lines that agree in these captures there is one at a time in all of the configuration, like an address that can be in one place.
	Unique []string `yaml:"unique" is:"filled some"`
	// The block can only be emptied, line by line; an empty one and none are the same.
	Empties bool `yaml:"empties"`
	// Paths of lines elsewhere that the device takes away with this one. Captures of one name have to agree. What is to stay is made again.
	Takes []string `yaml:"takes" is:"some"`
	// The path of the line that this one goes with: it cannot be taken away by itself. Captures of one name have to agree.
	GoesWith string `yaml:"goes_with" is:"some"`
	// A named block that is in use is not taken apart: it is built under this name first, its uses are pointed there, it is rebuilt, and they are pointed back. {name} is its own.
	Beside string `yaml:"make_before_break" is:"/\\{name\\}/"`
	// The device never lets go of the line; it can only be overwritten.
	Permanent bool `yaml:"permanent"`
	// The line carries the path by which this service reaches the device; a push that changes one is warned of.
	Reach bool `yaml:"reach"`
	// The line changes by itself: never compared, never sent.
	Volatile bool `yaml:"volatile"`
	// The value that the device leaves out. In XML and JSON it counts where grammar.defaults says so.
	Default string `yaml:"default"`
	// Lines that the device adds below by itself when the block is made.
	Writes []string `yaml:"writes"`
	// The name space in which the line gives a name: it is made before the name's first use, and removed after its last. The name is the last word of what identifies the line, if named does not say another.
	Defines string `yaml:"defines"`
	// The capture that is the name which the line defines.
	Named string `yaml:"named"`
	// Names that the line uses: by name space, a pattern whose group is the name.
	Uses map[string]string `yaml:"uses" is:"pattern"`
	// Captures that are secret; body is the text over several lines that follows the line.
	Secret []string `yaml:"secret"`
	// The line belongs to one piece of hardware, like an address burnt into it: pushed to another unit it is set aside, and that unit's own stays.
	Hardware bool `yaml:"hardware"`
	// Captures that the device shows otherwise each time: kept and sent, never compared, and counted.
	Salted []string `yaml:"salted"`
	// The capture that is the name in the prompt.
	Hostname string `yaml:"hostname"`
}

// Change is how a configuration is changed.
type Change struct {
	// For lines: the mode in which they are typed.
	Mode string `yaml:"mode"`
	// How a line is taken away, if its rule does not say otherwise; {identity} stands for the words that tell it from its neighbours, {line} for all of it.
	Remove string `yaml:"remove" is:"/\\{(identity|line)\\}/"`
	// How a block is left.
	Leave string `yaml:"leave"`
	// An accepted line answers nothing. Anything else that is answered to a line is a refusal, but for what harmless matches.
	Silent bool `yaml:"silent"`
	// With silent: what may be answered to a line that is accepted.
	Harmless []string `yaml:"harmless" is:"pattern"`
	// How a version is made what runs, the preferred way first.
	Methods []string `yaml:"methods" is:"must unique one-of:methods"`
	// How running becomes startup.
	Save *Save `yaml:"save"`
	// Puts a whole document or file on the device; {content} stands for it. Over NETCONF it takes the place of edit-config: in an rpc {content} is the document, and {edit} the same with the operations that make a part of the datastore what it says (RFC 6241 §7.2).
	Load []Step `yaml:"load"`
	// Which NETCONF datastore is written. Locks, validation and commit follow from what the device says it can.
	Target string `yaml:"target" is:"candidate|running"`
	// What is left out over NETCONF although the device says that it can: locking the datastores, validating what was loaded, confirmed commits, saving to startup.
	Without []string `yaml:"without" is:"unique lock|validate|confirm|save"`
	// What is done over NETCONF in place of the standard's own operation of that name. {target} stands for the datastore.
	Instead map[string][]Step `yaml:"instead" is:"filled keys/^(lock|unlock|validate|commit)$/"`
	// The steps under load have the device fetch the document from the inbox, by this protocol; {inbox}, {inbox-port} and {inbox-path} say where.
	Offer string `yaml:"offer" is:"one-of:inbound"`
	// The device restarts after a load and is back within this time.
	Restarts string `yaml:"restarts" is:"span"`
	// How long the device takes, after the last line or a restart, until what it shows can be believed. Nothing is proved before.
	Settle string `yaml:"settle" is:"span"`
	// Paths of what has to be typed by hand before the service can reach the device and sign in, besides the lines marked reach. {user} is the account that signs in. The bootstrap sheet is made of it.
	Least []string `yaml:"least" is:"some"`
	// What makes sent lines, or what was loaded, take effect, where sending them does not. The preview shows it as a step of its own.
	Live []Step `yaml:"live"`
	// Method stage: the startup part is written and the device restarted into it.
	Stage *Stage `yaml:"stage"`
	// A timer of the device's own, after which it goes back. NETCONF's confirmed commit (RFC 6241 §8.4) needs no word.
	Undo *Undo `yaml:"undo"`
}

// Stage is how the startup part is written and the device restarted into it.
type Stage struct {
	// Puts {content}, the version's text, in the startup part's place.
	Load []Step `yaml:"load" is:"must"`
	// Restarts the device. A question whether to keep what runs must be answered no: it would be saved over what was just put there.
	Restart []Step `yaml:"restart" is:"must"`
	// Within which it stops answering; 10s if not said.
	Down string `yaml:"down" is:"span"`
	// Within which it answers again.
	Back string `yaml:"back" is:"must span"`
}

// Undo is the device's own way back: a timer that is armed before a push, or by one
// of its deeds, and disarmed when it is confirmed.
type Undo struct {
	// Sets the timer; {minutes} and {seconds} are how long.
	Arm []Step `yaml:"arm" is:"must"`
	// The deed that carries the timer, where setting it is no step of its own: arm is done in place of change.load, change.live, or NETCONF's commit.
	With string `yaml:"with" is:"load|live|commit"`
	// Takes it off.
	Disarm []Step `yaml:"disarm" is:"must"`
	// Has it go back at once, where the device can be told to.
	Recall []Step `yaml:"recall" is:"filled"`
	// What it goes back to: startup by a restart, if not said; startup, without one; or what ran before the timer was set.
	Returns string `yaml:"returns" is:"restart|startup|before"`
	// The shortest time that can be set.
	From string `yaml:"from" is:"must span"`
	// The longest.
	To string `yaml:"to" is:"must span"`
	// How long until the device is back after it went off.
	Back string `yaml:"back" is:"must span"`
}

// Save is how running becomes startup.
type Save struct {
	_ struct{} `is:"either:command|steps"`
	// The mode the command is typed in.
	Mode string `yaml:"mode" is:"some"`
	// The command.
	Command string `yaml:"command" is:"some"`
	// What its answer must show.
	Done string `yaml:"done" is:"pattern"`
	// Steps, where one command is not enough, or where none is typed.
	Steps []Step `yaml:"steps" is:"filled"`
}

// Echo is how a device asks whether an address answers it: {to}.
type Echo struct {
	Source `yaml:",inline"`
	// What the answer shows if the address answered.
	Good string `yaml:"good" is:"must pattern"`
}

// Factory is how a unit with factory settings is recognised. If the usual login is
// refused there and the credential set knows one for such units, that is tried, once.
type Factory struct {
	Source `yaml:",inline"`
	// What gets past a first-run page that stands before everything; done at a push only.
	FirstRun []Step `yaml:"first-run"`
	// What is shown only by a unit with factory settings.
	Shows string `yaml:"shows" is:"must pattern"`
}

// Fit is something in which a version and the unit that it is put on have to
// agree.
type Fit struct {
	_ struct{} `is:"either:compare|path"`
	// What the unit that the version was taken from, and the one it is put on, say of themselves.
	Compare string `yaml:"compare" is:"model|release"`
	// With compare: its group is what has to agree. Without it, all of it has to.
	Pattern string `yaml:"pattern" is:"pattern"`
	// A path with one capture, whose value in the version has to be that in what runs.
	Path string `yaml:"path" is:"some"`
	// With path: the value where the line is not there.
	Default string `yaml:"default"`
	// refuse: it is not pushed. warn: a person has to say why it is pushed all the same.
	Otherwise string `yaml:"mismatch" is:"must refuse|warn"`
	// Said to the person, after what does not agree.
	Why string `yaml:"why" is:"some"`
}

// Variant is what is otherwise in some models or releases.
type Variant struct {
	// Over this transport.
	Transport string `yaml:"transport" is:"one-of:transports"`
	// In models that match.
	Model string `yaml:"model" is:"pattern"`
	// In releases that match.
	Release string `yaml:"release" is:"pattern"`
	// In this release and later ones.
	From string `yaml:"from" is:"some"`
	// In releases before this one.
	Below string `yaml:"below" is:"some"`
	// Keys of this file with what they are there: mappings are merged, all else is replaced.
	Sets map[string]any `yaml:"sets"`
	// Parts and methods that are not to be had.
	Lacks []string `yaml:"lacks" is:"some"`
}
