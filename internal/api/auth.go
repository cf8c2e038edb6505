package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/argon2"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/visit"
	"magpie/internal/wire"
)

// Costs of hashing a password with argon2id (RFC 9106).
const (
	argonTime    = 2
	argonMemory  = 19 * 1024 // KiB
	argonThreads = 1
)

const (
	cookieName   = "magpie"
	sessionLasts = 12 * time.Hour
	tokenLasts   = 90 * 24 * time.Hour
)

// HashPassword hashes a password in the PHC string form.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	hash := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, b64.EncodeToString(salt), b64.EncodeToString(hash))
}

func passwordFits(hash, password string) bool {
	var version, memory, rounds, threads int
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	if _, err := fmt.Sscanf(parts[2], "v=%d", &version); err != nil {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &rounds, &threads); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if errors.Join(err1, err2) != nil {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, uint32(rounds), uint32(memory), uint8(threads), uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// CheckPassword tells what is wrong with a new password, or nil.
func CheckPassword(p string) error {
	if len(p) > 1024 {
		return fmt.Errorf("the password has %d characters; it takes at most 1024", len(p))
	}
	if len(p) < 10 {
		return fmt.Errorf("the password has %d characters; it takes at least 10", len(p))
	}
	return nil
}

func random() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// from is whom a request counts for: the peer of the connection, or whom a proxy
// named in the settings names.
func from(c *gin.Context) string { return peer(c.ClientIP()) }

// proxied tells whether the peer of the connection is a proxy of the settings.
func (s *Server) proxied(c *gin.Context) bool {
	ip, err := netip.ParseAddr(c.RemoteIP())
	if err != nil {
		return false
	}
	for _, p := range s.Proxies {
		if net, err := netip.ParsePrefix(p); err == nil && net.Contains(ip.Unmap()) {
			return true
		}
		if a, err := netip.ParseAddr(p); err == nil && a.Unmap() == ip.Unmap() {
			return true
		}
	}
	return false
}

// byTLS tells whether the browser's side of a request is encrypted.
func (s *Server) byTLS(c *gin.Context) bool {
	return c.Request.TLS != nil || s.proxied(c) && c.GetHeader("X-Forwarded-Proto") == "https"
}

// sameSite tells whether a request comes from a page of this service, by the
// Origin that browsers send (RFC 6454 §7). Programs send none, so where a cookie
// is given out or used, none is not enough: needed says so.
func (s *Server) sameSite(c *gin.Context, needed bool) bool {
	origin := c.GetHeader("Origin")
	if origin == "" {
		return !needed
	}
	host := c.Request.Host
	if h := c.GetHeader("X-Forwarded-Host"); h != "" && s.proxied(c) {
		host = h
	}
	u, err := url.Parse(origin)
	return err == nil && u.Host == host
}

// signIn checks a user's password. console tells whether a browser asks.
func (s *Server) signIn(c *gin.Context, console bool) (store.User, client.Login, bool) {
	var l client.Login
	none := store.User{}
	if !s.sameSite(c, console) {
		fail(c, &client.Problem{Status: 403, Title: "from another site", Detail: "the header Origin does not name this service, so some other page asks to sign in", Next: "open the service's own address"})
		return none, l, false
	}
	if !readBody(c, &l) {
		return none, l, false
	}
	if n := len([]rune(l.User)); n > 64 {
		fail(c, wrong("user", fmt.Sprintf("the name has %d characters; no user's has more than 64", n), ""))
		return none, l, false
	}
	if len(l.Password) > 1024 {
		fail(c, wrong("password", "the password has more than 1024 characters", ""))
		return none, l, false
	}
	ctx, addr := c.Request.Context(), from(c)
	if s.slowed(c, l.User, addr) {
		return none, l, false
	}
	leave, err := s.hashing.enter(ctx, 10*time.Second)
	if err != nil {
		c.Header("Retry-After", "2")
		fail(c, problem(err))
		return none, l, false
	}
	defer leave()
	if s.slowed(c, l.User, addr) { // others may have failed while this one stood in line
		return none, l, false
	}
	u, err := s.Jobs.Store.As(core.Actor{Name: l.User}).UserNamed(ctx, l.User)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		fail(c, problem(err))
		return u, l, false
	}
	hash := u.Password
	if hash == "" {
		hash = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA" // takes as long as a real one
	}
	if passwordFits(hash, l.Password) && u.ID != "" && !u.Disabled {
		err := s.coded(c, u, l.Code)
		if err == nil {
			s.throttle.passed(l.User, addr)
			return u, l, true
		}
		if l.Code != "" { // a password without a code is how one comes to be asked for it
			s.throttle.failed(l.User, addr)
		}
		fail(c, problem(err))
		return u, l, false
	}
	s.throttle.failed(l.User, addr)
	if s.refused.note(l.User, addr) {
		if err := s.wrote(ctx, core.Actor{Name: nobody}, "sign-in refused", l.User, "from "+addr); err != nil {
			fail(c, problem(err))
			return u, l, false
		}
	}
	fail(c, &client.Problem{Status: 401, Title: "not signed in", Detail: "no user of that name has that password", Next: "an admin can set a new password: magpie user edit NAME --password"})
	return u, l, false
}

// slowed turns a sign-in away that has to wait.
func (s *Server) slowed(c *gin.Context, name, addr string) bool {
	wait := s.throttle.wait(name, addr)
	if wait <= 0 {
		return false
	}
	seconds := int(wait.Seconds()) + 1
	c.Header("Retry-After", fmt.Sprint(seconds))
	fail(c, &client.Problem{Status: 429, Title: "too many failed sign-ins", Detail: fmt.Sprintf("wait %d seconds", seconds), Next: "then try again"})
	return true
}

// wrote writes a deed down that changes nothing.
func (s *Server) wrote(ctx context.Context, who core.Actor, deed, object, detail string) error {
	return s.Jobs.Store.Tx(ctx, who, func(q *store.Q) error { return q.Audit(ctx, deed, object, detail) })
}

// sweep writes down, once a minute and address, how many more sign-ins were
// refused, and forgets who looked at what.
func (s *Server) sweep() {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-s.Done:
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		for _, said := range s.refused.due() {
			if err := s.wrote(ctx, core.Actor{Name: nobody}, "sign-ins refused", "", said); err != nil {
				slog.Warn("refused sign-ins not written down", "what", said, "err", err)
			}
		}
		cancel()
		s.mu.Lock()
		for k, at := range s.looks {
			if s.Clock().Sub(at) > lookLasts {
				delete(s.looks, k)
			}
		}
		s.mu.Unlock()
	}
}

// lookLasts is how long looking at the same thing again is the same look.
const lookLasts = 5 * time.Minute

// once tells whether something was not written down in the last minutes.
func (s *Server) once(c *gin.Context, deed, object string) bool {
	key := strings.Join([]string{actor(c).ID, deed, object}, "\x00")
	s.mu.Lock()
	defer s.mu.Unlock()
	if at, ok := s.looks[key]; ok && s.Clock().Sub(at) < lookLasts {
		return false
	}
	if len(s.looks) >= 100_000 { // rather twice than never
		clear(s.looks)
	}
	s.looks[key] = s.Clock()
	return true
}

// saw writes down that somebody was shown secrets, before they are. It returns
// false when that could not be written down: then they are not shown.
func (s *Server) saw(c *gin.Context, object, detail string) bool {
	if !s.once(c, "secrets shown", object) {
		return true
	}
	if err := s.wrote(c.Request.Context(), actor(c), "secrets shown", object, detail); err != nil {
		s.mu.Lock()
		clear(s.looks)
		s.mu.Unlock()
		fail(c, problem(err))
		return false
	}
	return true
}

// cut keeps at most n characters.
func cut(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n])
	}
	return s
}

// grant makes a token or session for a user.
func (s *Server) grant(c *gin.Context, u store.User, kind, name string, lasts time.Duration) (token string, t store.Token, err error) {
	token = "mgp_" + random()
	t = store.Token{UserID: u.ID, Kind: kind, Name: name, CSRF: random(), ExpiresAt: s.Clock().UTC().Add(lasts)}
	err = s.Jobs.Store.Tx(c.Request.Context(), u.Actor(), func(q *store.Q) error {
		if err := q.AddToken(c.Request.Context(), &t, token); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "sign in", u.Name, kind+" from "+from(c))
	})
	return token, t, err
}

func (s *Server) login(c *gin.Context) {
	u, l, ok := s.signIn(c, false)
	if !ok {
		return
	}
	token, t, err := s.grant(c, u, "token", cut(l.Name, 64), tokenLasts)
	answer(c, 200, client.Granted{Token: token, Expires: t.ExpiresAt, Me: me(u, t)}, err)
}

func (s *Server) openSession(c *gin.Context) {
	u, _, ok := s.signIn(c, true)
	if !ok {
		return
	}
	token, t, err := s.grant(c, u, "session", cut(from(c), 64), sessionLasts)
	if err == nil {
		http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
			Secure: s.byTLS(c), MaxAge: int(sessionLasts.Seconds())})
	}
	answer(c, 200, client.Granted{CSRF: t.CSRF, Expires: t.ExpiresAt, Me: me(u, t)}, err)
}

func (s *Server) closeSession(c *gin.Context) {
	t := c.MustGet("token").(store.Token)
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		if err := q.DropToken(c.Request.Context(), t.UserID, t.ID); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "sign out", actor(c).Name, "")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.byTLS(c), MaxAge: -1})
	c.Status(204)
}

// role lets only users of at least that role pass. Writes with a cookie must
// also bring the session's CSRF token.
func (s *Server) role(r route) gin.HandlerFunc {
	least := r.role
	return func(c *gin.Context) {
		token, bearer := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
		if !bearer {
			token, _ = c.Cookie(cookieName)
		}
		none := &client.Problem{Status: 401, Title: "not signed in", Detail: "nobody is signed in", Next: "sign in: magpie login http://" + c.Request.Host}
		if token == "" {
			fail(c, none)
			return
		}
		q := s.Jobs.Store.As(core.Actor{})
		ctx, cancel := s.brief(c)
		t, u, err := q.Who(ctx, token)
		cancel()
		if err != nil && !errors.Is(err, store.ErrNotFound) && s.last.answers(c, token) {
			return
		}
		if errors.Is(err, store.ErrNotFound) {
			none.Detail = "the token or session is unknown or has run out"
			fail(c, none)
			return
		}
		if err != nil {
			fail(c, problem(err))
			return
		}
		if (t.Kind == "session") == bearer {
			fail(c, none)
			return
		}
		write := c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead
		if !bearer && write && !s.sameSite(c, false) {
			fail(c, &client.Problem{Status: 403, Title: "from another site", Detail: "the header Origin does not name this service", Next: "open the service's own address"})
			return
		}
		if !bearer && write && subtle.ConstantTimeCompare([]byte(c.GetHeader("X-CSRF-Token")), []byte(t.CSRF)) != 1 {
			fail(c, &client.Problem{Status: 403, Title: "CSRF token missing", Detail: "the header X-CSRF-Token does not hold this session's token", Next: "GET /api/v1/me tells it"})
			return
		}
		a := t.Holder(u)
		c.Set("actor", a)
		c.Set("user", u)
		c.Set("token", t)
		c.Set("word", token)
		if !ready(c, u, r.first) {
			return
		}
		if !a.May(least) {
			if what := c.Request.Method + " " + c.FullPath(); s.once(c, "refused", what) {
				if err := s.wrote(c.Request.Context(), a, "refused", what, "it takes the role "+least); err != nil {
					fail(c, problem(err))
					return
				}
			}
			fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: fmt.Sprintf("this takes the role %s; %s is %s", least, a.Name, a.Role), Next: "an admin can change a role: magpie user edit " + a.Name + " --role " + least})
			return
		}
		if len(a.Scopes) > 0 {
			switch {
			case least == core.Reader: // beyond what is theirs they look as anybody does
				a.Role = core.Reader
				c.Set("actor", a)
			case !r.scoped:
				fail(c, outside(a, "this is about more than a device"))
				return
			}
		}
		_ = q.Used(c.Request.Context(), t)
		c.Next()
	}
}

func actor(c *gin.Context) core.Actor { return c.MustGet("actor").(core.Actor) }

// still is who a stream is for, as they stand now; an error when they may not go
// on. A database that is away says nothing of them.
func (s *Server) still(c *gin.Context, was core.Actor, least string) (core.Actor, error) {
	t, u, err := s.Jobs.Store.As(core.Actor{}).Who(c.Request.Context(), c.GetString("word"))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return was, nil
	}
	if err == nil && !t.Holder(u).May(least) {
		err = visit.ErrMayNot
	}
	return t.Holder(u), err
}

// me is who somebody is by a token or session.
func me(u store.User, t store.Token) client.Me {
	a := t.Holder(u)
	m := client.Me{User: a.Name, Role: a.Role, Secrets: a.Secrets, MustChange: u.MustChange, Codes: u.TOTPOn, Recovery: len(u.Recovery)}
	for _, scope := range a.Scopes {
		m.Scope = append(m.Scope, strings.Fields(scope)...)
	}
	if t.Kind == "session" {
		m.CSRF = t.CSRF
	}
	return m
}

func (s *Server) me(c *gin.Context) {
	c.JSON(200, me(c.MustGet("user").(store.User), c.MustGet("token").(store.Token)))
}

func (s *Server) tokens(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).Tokens(c.Request.Context(), actor(c).ID)
	list(c, rows, err, func(t store.Token) string { return t.ID }, func(t store.Token) client.Token {
		return client.Token{ID: t.ID, Name: t.Name, MadeAt: t.MadeAt, UsedAt: t.UsedAt, Expires: t.ExpiresAt, Role: t.Role, Masked: t.Masked, Scope: strings.Fields(t.Scope)}
	})
}

// sessions lists the browsers that are signed in: one's own; an admin sees all.
func (s *Server) sessions(c *gin.Context) {
	a, own := actor(c), c.MustGet("token").(store.Token).ID
	rows, err := s.theirSessions(c.Request.Context(), a)
	list(c, rows, err, func(x store.Session) string { return x.ID }, func(x store.Session) client.Session {
		return client.Session{ID: x.ID, User: x.User, From: x.Name, MadeAt: x.MadeAt, UsedAt: x.UsedAt, Expires: x.ExpiresAt, This: x.ID == own}
	})
}

// theirSessions are the sessions that somebody may see and end.
func (s *Server) theirSessions(ctx context.Context, a core.Actor) ([]store.Session, error) {
	whose := a.ID
	if a.May(core.Admin) {
		whose = ""
	}
	return s.Jobs.Store.As(a).Sessions(ctx, whose)
}

// endSession ends one of them.
func (s *Server) endSession(c *gin.Context) {
	s.endSessions(c, func(x store.Session) bool { return x.ID == c.Param("id") }, fmt.Errorf("session %q: %w", c.Param("id"), store.ErrNotFound))
}

// endOthers ends all sessions of a user but the one that asks: one's own, or, for an
// admin, another's.
func (s *Server) endOthers(c *gin.Context) {
	a, user := actor(c), c.Query("user")
	switch {
	case user == "":
		user = a.Name
	case user != a.Name && !a.May(core.Admin):
		fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "only an admin ends the sessions of others", Next: "ask an admin"})
		return
	default:
		if _, err := s.Jobs.Store.As(a).UserNamed(c.Request.Context(), user); err != nil {
			fail(c, problem(err))
			return
		}
	}
	own := c.MustGet("token").(store.Token).ID
	s.endSessions(c, func(x store.Session) bool { return x.User == user && x.ID != own }, nil)
}

func (s *Server) endSessions(c *gin.Context, which func(store.Session) bool, none error) {
	ctx, a := c.Request.Context(), actor(c)
	all, err := s.theirSessions(ctx, a)
	var ids []string
	users := map[string]bool{}
	for _, x := range all {
		if which(x) {
			ids, users[x.User] = append(ids, x.ID), true
		}
	}
	if err == nil && len(ids) == 0 {
		err = none
	}
	if err == nil && len(ids) > 0 {
		err = s.Jobs.Store.Tx(ctx, a, func(q *store.Q) error {
			if err := q.EndSessions(ctx, ids); err != nil {
				return err
			}
			return q.Audit(ctx, "sessions ended", strings.Join(slices.Sorted(maps.Keys(users)), ", "), core.Count(len(ids), "session", "sessions"))
		})
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

func (s *Server) dropToken(c *gin.Context) {
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		if err := q.DropToken(c.Request.Context(), actor(c).ID, c.Param("id")); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "token dropped", c.Param("id"), "")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

var wiredUser = wire.Make[client.User, store.User]("Secrets", "Codes", "Scope")

func wireUser(u store.User) client.User {
	out := wiredUser(u)
	out.Secrets, out.Codes, out.Scope = u.Actor().Secrets, u.TOTPOn, strings.Fields(u.Scope)
	return out
}

func (s *Server) users(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).Users(c.Request.Context())
	list(c, rows, err, func(u store.User) string { return u.Name }, wireUser)
}

func knownRole(role string) error {
	for _, r := range core.Roles {
		if r == role {
			return nil
		}
	}
	return bad(fmt.Sprintf("%q is no role", role), "the roles are "+strings.Join(core.Roles, ", "))
}

func (s *Server) addUser(c *gin.Context) {
	var n client.NewUser
	if !readBody(c, &n) {
		return
	}
	u := store.User{Name: n.Name, Role: n.Role, Secrets: n.Secrets != nil && *n.Secrets, MustChange: !n.Lasting}
	err := func() error {
		if strings.TrimSpace(n.Name) != n.Name || n.Name == "" || len(n.Name) > 64 {
			return wrong("name", "a user needs a name of 1 to 64 characters without blanks around it", "")
		}
		if n.Name == nobody || n.Name == "service" {
			return wrong("name", fmt.Sprintf("no user can be named %q: the audit log uses it", n.Name), "choose another name")
		}
		if err := knownRole(n.Role); err != nil {
			return err
		}
		if n.Scope != nil {
			u.Scope = strings.Join(*n.Scope, " ")
			if err := s.soundScope(c, "scope", u.Scope, u.Role); err != nil {
				return err
			}
		}
		if err := CheckPassword(n.Password); err != nil {
			return wrong("password", err.Error(), "")
		}
		if err := s.hash(c, n.Password, &u.Password); err != nil {
			return err
		}
		return s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
			if err := q.AddUser(c.Request.Context(), &u); err != nil {
				return err
			}
			return q.Audit(c.Request.Context(), "user added", u.Name, fmt.Sprintf("role %s, secrets %v%s", u.Role, u.Secrets, core.Because(u.Scope)))
		})
	}()
	answer(c, 201, wireUser(u), err)
}

// hash makes a password ready to be kept. A few are worked on at a time.
func (s *Server) hash(c *gin.Context, password string, into *string) error {
	leave, err := s.hashing.enter(c.Request.Context(), 10*time.Second)
	if err != nil {
		return err
	}
	defer leave()
	*into = HashPassword(password)
	return nil
}

func (s *Server) editUser(c *gin.Context) {
	var n client.NewUser
	revision, ok := based(c)
	if !ok || !readBody(c, &n) {
		return
	}
	var u store.User
	hash := ""
	if n.Password != "" {
		err := CheckPassword(n.Password)
		if err != nil {
			err = wrong("password", err.Error(), "")
		} else {
			err = s.hash(c, n.Password, &hash)
		}
		if err != nil {
			fail(c, problem(err))
			return
		}
	}
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
		if u, err = q.LockUser(c.Request.Context(), c.Param("name"), revision); err != nil {
			return err
		}
		said := ""
		if n.Role != "" {
			if err := knownRole(n.Role); err != nil {
				return err
			}
			u.Role = n.Role
			said += " role " + n.Role
		}
		if n.Scope != nil {
			u.Scope = strings.Join(*n.Scope, " ")
			said += " scope " + cmp.Or(u.Scope, "all")
		} else if u.Role != core.Operator {
			u.Scope = ""
		}
		if err := s.soundScope(c, "scope", u.Scope, u.Role); n.Scope != nil && err != nil {
			return err
		}
		if n.Secrets != nil {
			u.Secrets = *n.Secrets
			said += fmt.Sprintf(" secrets %v", u.Secrets)
		}
		if n.Disabled != nil {
			u.Disabled = *n.Disabled
			said += fmt.Sprintf(" disabled %v", u.Disabled)
		}
		if n.Password != "" {
			u.Password, u.MustChange = hash, !n.Lasting && u.ID != actor(c).ID
			said += " password"
			if err := q.DropTokens(c.Request.Context(), u.ID); err != nil {
				return err
			}
		}
		if n.NoCodes {
			u.TOTP, u.TOTPOn, u.Recovery = nil, false, nil
			said += " no one-time codes"
		}
		if u.Role != core.Admin || u.Disabled {
			last, err := q.LastAdmin(c.Request.Context(), u.ID)
			if err != nil {
				return err
			}
			if last {
				return &client.Problem{Status: 409, Title: "last admin", Detail: u.Name + " is the only admin who can sign in", Next: "make another user admin first"}
			}
		}
		if err := q.EditUser(c.Request.Context(), &u); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "user edited", u.Name, strings.TrimSpace(said))
	})
	c.Header("ETag", etag(u.Revision))
	answer(c, 200, wireUser(u), err)
}

func (s *Server) audit(c *gin.Context) {
	n, ok := limit(c, 100, 1000)
	if !ok {
		return
	}
	before, ok := cursor(c)
	if !ok {
		return
	}
	since, ok := instant(c, "since", time.Time{})
	if !ok {
		return
	}
	rows, err := s.Jobs.Store.As(actor(c)).Deeds(c.Request.Context(), store.DeedFilter{About: c.Query("about"), Actor: c.Query("actor"), Since: since}, before, n)
	next := ""
	if len(rows) == n && rows[n-1].Seq > 1 {
		next = strconv.FormatInt(rows[n-1].Seq, 10)
	}
	answer(c, 200, pageOf(rows, next, func(d store.AuditEntry) client.AuditEntry {
		return client.AuditEntry{Seq: d.Seq, At: d.At, Actor: d.Actor, Action: d.Action, Object: d.Object, Detail: d.Detail, MAC: d.MAC}
	}), err)
}

func (s *Server) checkAudit(c *gin.Context) {
	var kept store.AuditEnd
	if end := c.Query("end"); end != "" {
		n, mac, ok := strings.Cut(end, ":")
		seq, err := strconv.ParseInt(n, 10, 64)
		if !ok || err != nil || seq < 1 || mac == "" {
			fail(c, wrong("end", fmt.Sprintf("%q is no end of the log", end), "write a row's number and code as they were sent elsewhere, like 1204:9f3c…"))
			return
		}
		kept = store.AuditEnd{Seq: seq, MAC: mac}
	}
	rows, err := s.Jobs.Store.As(actor(c)).VerifyAudit(c.Request.Context(), kept)
	out := client.AuditCheck{Sound: err == nil, Rows: rows}
	if err != nil {
		out.Trouble = err.Error()
	}
	c.JSON(200, out)
}
