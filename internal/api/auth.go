package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/argon2"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/visit"
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
		if l.Code != "" && !s.wrongCode(c, core.Actor{Name: nobody}, l.User, addr) { // a password without a code is how one comes to be asked for it
			return u, l, false
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

// newly tells whether it was not written down lately that somebody did that.
func (s *Server) newly(c *gin.Context, deed, object string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, ok := s.looks[lookKey(c, deed, object)]
	return !ok || s.Clock().Sub(at) >= lookLasts
}

// lookKey is under which it is remembered that somebody looked at something.
func lookKey(c *gin.Context, deed, object string) string {
	return strings.Join([]string{actor(c).ID, deed, object}, "\x00")
}

// once tells whether something was not written down in the last minutes.
func (s *Server) once(c *gin.Context, deed, object string) bool {
	key := lookKey(c, deed, object)
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
	t, err := s.open(c, u)
	answer(c, 200, client.Granted{CSRF: t.CSRF, Expires: t.ExpiresAt, Me: me(u, t)}, err)
}

// open begins a session of a browser, and gives it its cookie.
func (s *Server) open(c *gin.Context, u store.User) (store.Token, error) {
	token, t, err := s.grant(c, u, "session", cut(from(c), 64), sessionLasts)
	if err == nil {
		http.SetCookie(c.Writer, &http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
			Secure: s.byTLS(c), MaxAge: int(sessionLasts.Seconds())})
	}
	return t, err
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
		if err := q.Used(c.Request.Context(), t); err != nil { // when it was used last is no reason to refuse
			slog.Debug("noting that a token was used", "err", err)
		}
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
	m := client.Me{User: a.Name, Role: a.Role, Secrets: a.Secrets, MustChange: u.MustChange, Codes: u.TOTPOn, Recovery: len(u.Recovery), Elsewhere: u.Password == ""}
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
