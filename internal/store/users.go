package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/core"
)

// User is somebody who may sign in.
type User struct {
	ID       string    `db:"id"`
	Name     string    `db:"name"`
	Role     string    `db:"role"`
	Secrets  bool      `db:"secrets"` // may see secrets unmasked
	Password string    `db:"password"`
	Disabled bool      `db:"disabled"`
	MadeAt   time.Time `db:"made_at"`
	Revision int       `db:"revision"` // counts its changes

	Scope      string     `db:"scope"`       // the devices for which somebody is an operator; empty: all
	MustChange bool       `db:"must_change"` // has to choose a password of their own first
	TOTP       []byte     `db:"totp"`        // sealed secret of the one-time codes
	TOTPOn     bool       `db:"totp_on"`     // a sign-in takes a code
	TOTPStep   int64      `db:"totp_step"`   // the step of the code that was used last
	Recovery   core.Words `db:"recovery"`    // hashes of the recovery codes that are left

	Subject *string `db:"subject"` // as whom the provider of sign-ins knows them: its issuer, a blank, its subject; nil: not at all
}

// Token is a session of a browser or a token of a program.
type Token struct {
	ID        string     `db:"id"`
	UserID    string     `db:"user_id"`
	Kind      string     `db:"kind"` // session or token
	Name      string     `db:"name"`
	CSRF      string     `db:"csrf"`
	MadeAt    time.Time  `db:"made_at"`
	UsedAt    *time.Time `db:"used_at"`
	ExpiresAt time.Time  `db:"expires_at"`
	Role      string     `db:"role"`   // it is for this at most; empty: for all that its user may
	Masked    bool       `db:"masked"` // it sees no secrets, whoever's it is
	Scope     string     `db:"scope"`  // the devices for which it is good for more than looking; empty: all
}

const (
	userFields  = `id, name, role, secrets, password, disabled, made_at, revision, scope, must_change, totp, totp_on, totp_step, recovery, subject`
	userColumns = `SELECT ` + userFields + ` FROM users `
	tokenFields = `id, user_id, kind, name, csrf, made_at, used_at, expires_at, role, masked, scope`
)

// ofTable names fields as those of a table, and of a struct's field of that name.
func ofTable(table, fields string) string {
	var out []string
	for _, f := range strings.Split(fields, ", ") {
		out = append(out, fmt.Sprintf("%[1]s.%[2]s AS `%[1]s.%[2]s`", table, f))
	}
	return strings.Join(out, ", ")
}

// Users lists all users by name.
func (q *Q) Users(ctx context.Context) ([]User, error) {
	return list[User](ctx, q.ext, userColumns+`ORDER BY name`)
}

// UserNamed returns the user of that name.
func (q *Q) UserNamed(ctx context.Context, name string) (User, error) {
	u, err := get[User](ctx, q.ext, userColumns+`WHERE name = ?`, name)
	if errors.Is(err, ErrNotFound) {
		err = fmt.Errorf("user %q: %w", name, ErrNotFound)
	}
	return u, err
}

// UserOf returns the user whom the provider of sign-ins knows as that subject.
func (q *Q) UserOf(ctx context.Context, subject string) (User, error) {
	return get[User](ctx, q.ext, userColumns+`WHERE subject = ?`, subject)
}

// UserByID returns the user of that id.
func (q *Q) UserByID(ctx context.Context, id string) (User, error) {
	return get[User](ctx, q.ext, userColumns+`WHERE id = ?`, id)
}

// LockUser returns a user whom nobody else changes until the transaction ends.
// based is the revision that a change is based on, or 0; ErrRevision says that it
// is not the newest. Changes of users are made one at a time, so that the last
// admin stays.
func (q *Q) LockUser(ctx context.Context, name string, based int) (User, error) {
	if err := q.guard(ctx, "admins"); err != nil {
		return User{}, err
	}
	u, err := q.UserNamed(ctx, name)
	if errors.Is(err, ErrNotFound) {
		return u, q.named(ctx, "user", name, `SELECT name FROM users`)
	}
	if err != nil {
		return u, err
	}
	if err := q.lock(ctx, "users", u.ID, based); err != nil {
		return u, fmt.Errorf("user %s: %w", name, err)
	}
	return q.UserByID(ctx, u.ID)
}

// AddUser writes a new user and gives it its id.
func (q *Q) AddUser(ctx context.Context, u *User) error {
	u.ID, u.MadeAt, u.Revision = NewID(q.clock()), q.clock().UTC(), 1
	_, err := q.exec(ctx, `INSERT INTO users (id, name, role, secrets, password, disabled, made_at, must_change, scope, subject) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		u.ID, u.Name, u.Role, u.Secrets, u.Password, u.Disabled, u.MadeAt, u.MustChange, u.Scope, u.Subject)
	if errors.Is(err, ErrTaken) {
		return fmt.Errorf("user %q: %w", u.Name, ErrTaken)
	}
	return err
}

// EditUser rewrites the role, rights and password of a user who is locked, and
// ends all their sessions and tokens when they are disabled.
func (q *Q) EditUser(ctx context.Context, u *User) error {
	u.Revision++
	if _, err := q.exec(ctx, `UPDATE users SET role = ?, secrets = ?, password = ?, disabled = ?, scope = ?, must_change = ?, totp = ?, totp_on = ?, totp_step = ?, recovery = ?, subject = ?, revision = revision + 1 WHERE id = ?`,
		u.Role, u.Secrets, u.Password, u.Disabled, u.Scope, u.MustChange, u.TOTP, u.TOTPOn, u.TOTPStep, asJSON(u.Recovery), u.Subject, u.ID); err != nil {
		return err
	}
	if !u.Disabled {
		return nil
	}
	return q.DropTokens(ctx, u.ID)
}

// DropTokens ends all of a user's sessions and tokens, but one of those ids.
func (q *Q) DropTokens(ctx context.Context, userID string, but ...string) error {
	_, err := q.exec(ctx, `DELETE FROM tokens WHERE user_id = ? AND id <> ?`, userID, strings.Join(but, ""))
	return err
}

// SealTOTP makes the secret of a user's one-time codes ready to be kept.
func (q *Q) SealTOTP(u *User, secret string) {
	u.TOTP = q.keys.Seal("one-time codes", u.ID, []byte(secret))
}

// OpenTOTP reads it.
func (q *Q) OpenTOTP(u User) (string, error) {
	raw, err := q.keys.Open("one-time codes", u.ID, u.TOTP)
	return string(raw), err
}

// UseStep notes that the code of a step was used; false: that one, or a later one, was
// already.
func (q *Q) UseStep(ctx context.Context, userID string, step int64) (bool, error) {
	n, err := q.exec(ctx, `UPDATE users SET totp_step = ? WHERE id = ? AND totp_step < ?`, step, userID, step)
	return n == 1, err
}

// UseRecovery notes which recovery codes are left; false: somebody used one meanwhile.
func (q *Q) UseRecovery(ctx context.Context, u User, left core.Words) (bool, error) {
	n, err := q.exec(ctx, `UPDATE users SET recovery = ? WHERE id = ? AND recovery = ?`, asJSON(left), u.ID, asJSON(u.Recovery))
	return n == 1, err
}

// LastAdmin tells whether a user is the only admin who can sign in.
func (q *Q) LastAdmin(ctx context.Context, userID string) (bool, error) {
	n, err := get[int](ctx, q.ext, `SELECT COUNT(*) FROM users WHERE role = 'admin' AND NOT disabled AND id <> ?`, userID)
	return n == 0, err
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// AddToken keeps the hash of a token and gives its row an id.
func (q *Q) AddToken(ctx context.Context, t *Token, token string) error {
	t.ID, t.MadeAt = NewID(q.clock()), q.clock().UTC()
	_, err := q.exec(ctx, `INSERT INTO tokens (id, hash, user_id, kind, name, csrf, made_at, expires_at, role, masked, scope) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		t.ID, tokenHash(token), t.UserID, t.Kind, t.Name, t.CSRF, t.MadeAt, t.ExpiresAt, t.Role, t.Masked, t.Scope)
	return err
}

var whoColumns = "SELECT " + ofTable("t", tokenFields) + ", " + ofTable("u", userFields)

// Who returns the token and its user, while both are valid.
func (q *Q) Who(ctx context.Context, token string) (Token, User, error) {
	both, err := get[struct {
		Token Token `db:"t"`
		User  User  `db:"u"`
	}](ctx, q.often(), whoColumns+` FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.hash = ?`, tokenHash(token))
	t, u := both.Token, both.User
	if err != nil {
		return t, u, err
	}
	if now := q.clock(); u.Disabled || now.After(t.ExpiresAt) {
		return t, u, ErrNotFound
	}
	return t, u, nil
}

// Used notes when a token was used, at most once a minute.
func (q *Q) Used(ctx context.Context, t Token) error {
	if t.UsedAt != nil && q.clock().Sub(*t.UsedAt) < time.Minute {
		return nil
	}
	_, err := q.exec(ctx, `UPDATE tokens SET used_at = ? WHERE id = ?`, q.clock().UTC(), t.ID)
	return err
}

// Tokens lists a user's tokens, sessions aside.
func (q *Q) Tokens(ctx context.Context, userID string) ([]Token, error) {
	return list[Token](ctx, q.ext, `SELECT `+tokenFields+` FROM tokens WHERE user_id = ? AND kind = 'token' ORDER BY made_at`, userID)
}

// Session is a browser that is signed in.
type Session struct {
	Token
	User string `db:"user"`
}

// Sessions lists the browsers that are signed in: a user's, or, of no user, all.
func (q *Q) Sessions(ctx context.Context, userID string) ([]Session, error) {
	return list[Session](ctx, q.ext, `SELECT t.id, t.user_id, t.kind, t.name, t.csrf, t.made_at, t.used_at, t.expires_at, u.name AS user
		FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.kind = 'session' AND t.expires_at > ? AND (? = '' OR t.user_id = ?) ORDER BY t.id DESC`, q.clock().UTC(), userID, userID)
}

// EndSessions ends the sessions of those ids.
func (q *Q) EndSessions(ctx context.Context, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	query, args, err := in(`DELETE FROM tokens WHERE kind = 'session' AND id IN (?)`, ids)
	if err == nil {
		_, err = q.exec(ctx, query, args...)
	}
	return err
}

// DropToken ends a session or token of a user.
func (q *Q) DropToken(ctx context.Context, userID, id string) error {
	n, err := q.exec(ctx, `DELETE FROM tokens WHERE id = ? AND user_id = ?`, id, userID)
	if err == nil && n == 0 {
		return fmt.Errorf("token %q: %w", id, ErrNotFound)
	}
	return err
}

// Holder is the user as whoever does something with a token: no more than it is for.
func (t Token) Holder(u User) core.Actor {
	a := u.Actor()
	if t.Role != "" && a.May(t.Role) {
		a.Role = t.Role
	}
	if t.Scope != "" {
		a.Scopes = append(a.Scopes, t.Scope)
	}
	if len(a.Scopes) > 0 && a.May(core.Operator) {
		a.Role = core.Operator
	}
	a.Secrets = a.Secrets && !t.Masked && len(a.Scopes) == 0
	return a
}

// Actor is the user as whoever does something.
func (u User) Actor() core.Actor {
	a := core.Actor{ID: u.ID, Name: u.Name, Role: u.Role, Secrets: u.Secrets || u.Role == core.Admin}
	if u.Scope != "" {
		a.Scopes = []string{u.Scope}
	}
	return a
}
