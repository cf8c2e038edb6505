package client

import "time"

// Login is a sign-in.
type Login struct {
	User     string `json:"user"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"` // the one-time code (RFC 6238), or a recovery code, of who takes one
	Name     string `json:"name,omitempty"` // what the token is called
}

// Granted is what a sign-in gives: a token for programs, or a cookie and the
// CSRF token that goes with it.
type Granted struct {
	Token   string    `json:"token,omitempty"`
	CSRF    string    `json:"csrf,omitempty"`
	Expires time.Time `json:"expires"`
	Me      Me        `json:"me"`
}

// Me is who is signed in.
type Me struct {
	User    string `json:"user"`
	Role    string `json:"role" enum:"roles"`
	Secrets bool   `json:"secrets"`
	CSRF    string `json:"csrf,omitempty"`

	Scope      []string `json:"scope,omitempty"` // the role holds for these devices; beyond them one looks only
	MustChange bool     `json:"must_change"`     // a password of one's own has to be chosen before anything else
	Codes      bool     `json:"codes"`           // a sign-in takes a one-time code
	Recovery   int      `json:"recovery"`        // how many recovery codes are left
	Elsewhere  bool     `json:"elsewhere"`       // has no password here: a provider signs them in
}

// SignOn is who signs people in besides the service.
type SignOn struct {
	Label string `json:"label"` // what people call the provider; empty: there is none
}

// NewPassword is a password of one's own.
type NewPassword struct {
	Old  string `json:"old"`
	New  string `json:"new"`
	Code string `json:"code,omitempty"` // the one-time code, of who takes one
}

// Codes is the secret of one-time codes, for the device that makes them.
type Codes struct {
	Secret string `json:"secret"`
	URL    string `json:"url"` // the same as that device reads it, otpauth://…
}

// NewCodes has sign-ins take one-time codes.
type NewCodes struct {
	Code string `json:"code"` // what the device shows now
}

// RecoveryCodes are for the day on which the device that makes codes is lost; each is good
// once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// NewToken is a token for a program.
type NewToken struct {
	Name   string   `json:"name"`
	Role   string   `json:"role,omitempty"`   // it is for this at most; all that one may, if not said
	Scope  []string `json:"scope,omitempty"`  // of an operator's: it is good for these devices, and for looking
	Masked bool     `json:"masked,omitempty"` // it sees no secrets
	Days   int      `json:"days,omitempty"`   // it ends after; 90 if not said, 3650 at most

	Password string `json:"password"` // one's own, once more: a session that was left open makes no tokens
}

// MadeToken is a token that was made; the word itself is said once.
type MadeToken struct {
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

// User is somebody who may sign in.
type User struct {
	Name     string    `json:"name" column:"1 user"`
	Role     string    `json:"role" enum:"roles" column:"2 role"`
	Secrets  bool      `json:"secrets" column:"3 sees secrets"`
	Disabled bool      `json:"disabled" column:"4 state"`
	Codes    bool      `json:"codes" column:"5 one-time codes"`
	MadeAt   time.Time `json:"made_at" column:"6 since"`
	Revision int       `json:"revision"`

	Scope      []string `json:"scope"`                                           // an operator for these devices; beyond them a reader. None: for all
	Granted    bool     `json:"secrets_granted"`                                 // the right to secrets is theirs by itself, and not by being an admin
	MustChange bool     `json:"must_change"`                                     // has to choose a password of their own first
	Subject    string   `json:"subject,omitempty" column:"7 known elsewhere as"` // to the provider of sign-ins
}

// NewUser is what a user is added or edited with; absent fields of an edit
// leave things as they are.
type NewUser struct {
	Revision int `json:"-"` // of an edit: which one it is based on; 0: the newest, looked up before

	Name     string    `json:"name,omitempty"`
	Password string    `json:"password,omitempty"`
	Role     string    `json:"role,omitempty"`
	Secrets  *bool     `json:"secrets,omitempty"`
	Disabled *bool     `json:"disabled,omitempty"`
	Scope    *[]string `json:"scope,omitempty"`    // an operator for these devices only; none: for all
	Lasting  bool      `json:"lasting,omitempty"`  // the password stays; otherwise another one has to be chosen at the first sign-in
	Subject  *string   `json:"subject,omitempty"`  // as whom the provider of sign-ins knows them; empty: not at all
	NoCodes  bool      `json:"no_codes,omitempty"` // of an edit: sign-ins take no one-time codes any more
}

// Token is a program's token.
type Token struct {
	ID      string     `json:"id" column:"1 token"`
	Name    string     `json:"name" column:"2 name"`
	MadeAt  time.Time  `json:"made_at" column:"3 made"`
	UsedAt  *time.Time `json:"used_at,omitempty" column:"4 used" as:"ago"`
	Expires time.Time  `json:"expires" column:"5 ends"`
	Role    string     `json:"role,omitempty" column:"6 at most"` // it is for this at most
	Scope   []string   `json:"scope,omitempty" column:"8 for"`    // for these devices, and for looking
	Masked  bool       `json:"masked" column:"7 masked"`          // it sees no secrets
}

// Session is a browser that is signed in.
type Session struct {
	ID      string     `json:"id" column:"1 session"`
	User    string     `json:"user" column:"2 user"`
	From    string     `json:"from" column:"3 from"` // the address it was begun from
	MadeAt  time.Time  `json:"made_at" column:"4 since"`
	UsedAt  *time.Time `json:"used_at,omitempty" column:"5 used" as:"ago"`
	Expires time.Time  `json:"expires" column:"6 ends"`
	This    bool       `json:"this"` // it is the one that asks
}

// AuditEntry is one row of the audit log.
type AuditEntry struct {
	Seq    int64     `json:"seq" column:"1 row"`
	At     time.Time `json:"at" column:"2 at"`
	Actor  string    `json:"actor" column:"3 who"`
	Action string    `json:"action" column:"4 did"`
	Object string    `json:"object" column:"5 to"`
	Detail string    `json:"detail" column:"6 detail"`
	MAC    string    `json:"mac"` // its code: no row can be changed or left out without the keys; with its number it is the log's end at that time
}

// AuditCheck is whether the audit log is as it was written.
type AuditCheck struct {
	Sound   bool   `json:"sound"`
	Rows    int64  `json:"rows"`
	Trouble string `json:"trouble,omitempty"`
}
