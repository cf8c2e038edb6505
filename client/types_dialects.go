package client

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

// Way is a transport that a dialect speaks.
type Way struct {
	Transport string `json:"transport"`
	Port      int    `json:"port"`
	ShowsKey  bool   `json:"shows_key"` // a host key or certificate, to be accepted
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
