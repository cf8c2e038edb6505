package api

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/pquerna/otp/totp"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
)

// ownRoutes are the operations by which people look after their own sign-in.
func (s *Server) ownRoutes() []route {
	const reader = core.Reader
	return []route{
		{"PUT", "/me/password", reader, s.setOwnPassword, about{id: "setOwnPassword", tag: "sessions", does: "Choose another password of your own", more: "Ends your other sessions and tokens.", takes: client.NewPassword{}, gives: client.Me{}, first: true}},
		{"POST", "/me/codes", reader, s.makeCodes, about{id: "makeCodes", tag: "sessions", does: "Make a secret for one-time codes (RFC 6238)", more: "Sign-ins take codes once one of them was sent back.", gives: client.Codes{}}},
		{"PUT", "/me/codes", reader, s.useCodes, about{id: "useCodes", tag: "sessions", does: "Have your sign-ins take one-time codes", more: "The answer holds the recovery codes, this once.", takes: client.NewCodes{}, gives: client.RecoveryCodes{}}},
		{"POST", "/me/codes/off", reader, s.dropCodes, about{id: "dropCodes", tag: "sessions", does: "Have your sign-ins take no codes any more", more: "It takes a one-time code, or a recovery code.", takes: client.NewCodes{}, status: 204}},
		{"POST", "/tokens", reader, s.addToken, about{id: "addToken", tag: "sessions", does: "Make a token for a program", more: "For no more than you may yourself; the answer holds it, this once.", takes: client.NewToken{}, status: 201, gives: client.MadeToken{}}},
	}
}

// errCode is a sign-in's code that is missing, or is not right.
func errCode(given string) *client.Problem {
	if given == "" {
		return &client.Problem{Status: 401, Title: "a code is needed", Detail: "this user's sign-ins take a one-time code", Next: "say the code that your device shows now, or one of your recovery codes", Field: "code"}
	}
	return &client.Problem{Status: 401, Title: "not that code", Detail: "the code is not the one of now, or was used already", Next: "wait for the next one; the clocks of your device and the service may differ by half a minute", Field: "code"}
}

// coded tells whether a sign-in brings the code that it takes; each is good once. nil: it is
// right, or takes none.
func (s *Server) coded(c *gin.Context, u store.User, code string) error {
	if !u.TOTPOn {
		return nil
	}
	code = strings.ToLower(strings.ReplaceAll(strings.TrimSpace(code), " ", ""))
	ctx, ok := c.Request.Context(), false
	err := s.Jobs.Store.Tx(ctx, u.Actor(), func(q *store.Q) (err error) {
		ok = false
		if i := slices.Index(u.Recovery, hashed(code)); i >= 0 {
			if ok, err = q.UseRecovery(ctx, u, slices.Delete(slices.Clone(u.Recovery), i, i+1)); err == nil && ok {
				err = q.Audit(ctx, "recovery code used", u.Name, fmt.Sprintf("%d left", len(u.Recovery)-1))
			}
			return err
		}
		step, err := s.stepOf(q, u, code)
		if err != nil || step == 0 {
			return err
		}
		ok, err = q.UseStep(ctx, u.ID, step)
		return err
	})
	if err == nil && !ok {
		return errCode(code)
	}
	return err
}

// wrongCode counts a code that was not right, and writes down that somebody gave one.
func (s *Server) wrongCode(c *gin.Context, who core.Actor, name, addr string) bool {
	s.throttle.failed(name, addr)
	if s.refused.note(name, addr) {
		if err := s.wrote(c.Request.Context(), who, "one-time code refused", name, "from "+addr); err != nil {
			fail(c, problem(err))
			return false
		}
	}
	return true
}

// codedAgain is coded for somebody who is signed in, at the pace of sign-ins: a wrong code is no end of the session, and
// it is written down.
func (s *Server) codedAgain(c *gin.Context, u store.User, code string) bool {
	addr := from(c)
	if u.TOTPOn && s.slowed(c, u.Name, addr) {
		return false
	}
	err := s.coded(c, u, code)
	if err == nil {
		return true
	}
	var p *client.Problem
	if errors.As(err, &p) && p.Field == "code" {
		if code != "" && !s.wrongCode(c, u.Actor(), u.Name, addr) {
			return false
		}
		p.Status = http.StatusForbidden
	}
	fail(c, problem(err))
	return false
}

const stepLasts = 30 // seconds, as RFC 6238 has it

// stepOf finds the step whose code this is: that of now, or the one before or after, since
// clocks differ. 0: none.
func (s *Server) stepOf(q *store.Q, u store.User, code string) (int64, error) {
	secret, err := q.OpenTOTP(u)
	if err != nil {
		return 0, err
	}
	now := s.Clock().Unix() / stepLasts
	for _, step := range []int64{now, now - 1, now + 1} {
		want, err := totp.GenerateCode(secret, time.Unix(step*stepLasts, 0))
		if err != nil {
			return 0, err
		}
		if code == want {
			return step, nil
		}
	}
	return 0, nil
}

// hashed is how a recovery code is kept; it has 50 random bits.
func hashed(code string) string {
	sum := sha256.Sum256([]byte(code))
	return hex.EncodeToString(sum[:])
}

// self reads who asks, to be changed.
func self(c *gin.Context, q *store.Q) (store.User, error) {
	return q.LockUser(c.Request.Context(), actor(c).Name, 0)
}

// freshFor is how long who signs in elsewhere is taken to be who signed in.
const freshFor = 10 * time.Minute

// confirmed checks a password that somebody gives once more, at the pace of sign-ins. Who has
// none here has to have signed in just now.
func (s *Server) confirmed(c *gin.Context, u store.User, field, password string) bool {
	if u.Password == "" {
		if t := c.MustGet("token").(store.Token); t.Kind == "session" && s.Clock().Sub(t.MadeAt) < freshFor {
			return true
		}
		fail(c, &client.Problem{Status: 403, Title: "sign in again", Detail: "this takes a sign-in of the last ten minutes, as you have no password here", Next: "sign out of the console, sign in, and do it again"})
		return false
	}
	addr := from(c)
	if s.slowed(c, u.Name, addr) {
		return false
	}
	leave, err := s.hashing.enter(c.Request.Context(), 10*time.Second)
	if err != nil {
		fail(c, problem(err))
		return false
	}
	defer leave()
	if !passwordFits(u.Password, password) {
		s.throttle.failed(u.Name, addr)
		fail(c, wrong(field, "that is not your password", ""))
		return false
	}
	s.throttle.passed(u.Name, addr)
	return true
}

func (s *Server) setOwnPassword(c *gin.Context) {
	var in client.NewPassword
	if !readBody(c, &in) {
		return
	}
	ctx, t := c.Request.Context(), c.MustGet("token").(store.Token)
	u, err := s.Jobs.Store.As(actor(c)).UserByID(ctx, actor(c).ID)
	if err != nil {
		fail(c, problem(err))
		return
	}
	if u.Password == "" {
		fail(c, &client.Problem{Status: 409, Title: "no password here", Detail: "you have no password here: the provider signs you in", Next: "change it there; an admin can give you one here: magpie user edit " + u.Name + " --password-file FILE"})
		return
	}
	if !s.confirmed(c, u, "old", in.Old) {
		return
	}
	if err := CheckPassword(in.New); err != nil {
		fail(c, wrong("new", err.Error(), ""))
		return
	}
	if in.New == in.Old {
		fail(c, wrong("new", "that is the password you have", "choose another one"))
		return
	}
	if !s.codedAgain(c, u, in.Code) {
		return
	}
	hash := ""
	if err = s.hash(c, in.New, &hash); err == nil {
		err = s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
			if u, err = self(c, q); err != nil {
				return err
			}
			u.Password, u.MustChange = hash, false
			if err := q.DropTokens(ctx, u.ID, t.ID); err != nil {
				return err
			}
			if err := q.EditUser(ctx, &u); err != nil {
				return err
			}
			return q.Audit(ctx, "own password changed", u.Name, "other sessions and tokens ended")
		})
	}
	answer(c, http.StatusOK, me(u, t), err)
}

// inPerson tells whether somebody asks who signed in, and not a program with a token that was
// made for it: such a one changes nothing of how its maker signs in.
func inPerson(c *gin.Context) bool {
	if t := c.MustGet("token").(store.Token); t.Role+t.Scope == "" && !t.Masked {
		return true
	}
	fail(c, &client.Problem{Status: 403, Title: "not allowed", Detail: "a token that was made for a program changes nothing of how somebody signs in", Next: "sign in: magpie login"})
	return false
}

func (s *Server) makeCodes(c *gin.Context) {
	if !inPerson(c) {
		return
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Steady Magpie", AccountName: actor(c).Name, Period: stepLasts})
	if err == nil {
		err = s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
			u, err := self(c, q)
			if err != nil {
				return err
			}
			if u.TOTPOn {
				return &client.Problem{Status: 409, Title: "there are codes already", Detail: "your sign-ins take codes already", Next: "have them take none first, then make others"}
			}
			q.SealTOTP(&u, key.Secret())
			return q.EditUser(c.Request.Context(), &u)
		})
	}
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.JSON(http.StatusOK, client.Codes{Secret: key.Secret(), URL: key.URL()})
}

// recoveryCodes is how many are made.
const recoveryCodes = 10

func (s *Server) useCodes(c *gin.Context) {
	var in client.NewCodes
	if !inPerson(c) || !readBody(c, &in) {
		return
	}
	var out client.RecoveryCodes
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		u, err := self(c, q)
		if err != nil {
			return err
		}
		if len(u.TOTP) == 0 {
			return &client.Problem{Status: 409, Title: "no secret", Detail: "no secret for codes was made yet", Next: "POST /me/codes makes one"}
		}
		step, err := s.stepOf(q, u, strings.ReplaceAll(in.Code, " ", ""))
		if err != nil {
			return err
		}
		if step == 0 {
			p := errCode("x")
			p.Status = 400
			return p
		}
		out.Codes, u.Recovery = nil, nil
		for range recoveryCodes {
			b := make([]byte, 10)
			_, _ = rand.Read(b)
			code := strings.ToLower(base32.StdEncoding.EncodeToString(b)[:10])
			out.Codes, u.Recovery = append(out.Codes, code), append(u.Recovery, hashed(code))
		}
		u.TOTPOn, u.TOTPStep = true, step
		if err := q.EditUser(c.Request.Context(), &u); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "one-time codes on", u.Name, "")
	})
	answer(c, http.StatusOK, out, err)
}

func (s *Server) dropCodes(c *gin.Context) {
	var in client.NewCodes
	if !inPerson(c) || !readBody(c, &in) {
		return
	}
	ctx := c.Request.Context()
	u, err := s.Jobs.Store.As(actor(c)).UserByID(ctx, actor(c).ID)
	if err == nil && !s.codedAgain(c, u, in.Code) {
		return
	}
	if err == nil {
		err = s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
			if u, err = self(c, q); err != nil {
				return err
			}
			u.TOTP, u.TOTPOn, u.Recovery = nil, false, nil
			if err := q.EditUser(ctx, &u); err != nil {
				return err
			}
			return q.Audit(ctx, "one-time codes off", u.Name, "")
		})
	}
	gone(c, err)
}

// addToken makes a token for a program, for no more than its maker may.
func (s *Server) addToken(c *gin.Context) {
	var in client.NewToken
	if !readBody(c, &in) {
		return
	}
	a := actor(c)
	switch {
	case in.Name == "" || len([]rune(in.Name)) > 64:
		fail(c, wrong("name", "a token needs a name of 1 to 64 characters that says what it is for", ""))
		return
	case in.Days < 0 || in.Days > 3650:
		fail(c, wrong("days", "a token lasts for 1 to 3650 days", ""))
		return
	case in.Role != "":
		if err := knownRole(in.Role); err != nil {
			fail(c, problem(err))
			return
		}
		if !a.May(in.Role) {
			fail(c, wrong("role", fmt.Sprintf("a token can be for no more than you may: you are %s", a.Role), ""))
			return
		}
	}
	if !s.confirmed(c, c.MustGet("user").(store.User), "password", in.Password) {
		return
	}
	scope := strings.Join(in.Scope, " ")
	if err := s.soundScope(c, "scope", scope, cmp.Or(in.Role, a.Role)); err != nil {
		fail(c, problem(err))
		return
	}
	lasts := tokenLasts
	if in.Days > 0 {
		lasts = time.Duration(in.Days) * 24 * time.Hour
	}
	if in.Role == "" {
		in.Role = a.Role
	}
	if own := c.MustGet("token").(store.Token).Scope; own != "" && scope == "" {
		scope = own
	} else if own != "" && scope != own {
		fail(c, wrong("scope", "the token that asks is for "+own+", and makes tokens for that only", ""))
		return
	}
	word := "mgp_" + random()
	t := store.Token{UserID: a.ID, Kind: "token", Name: in.Name, CSRF: random(), ExpiresAt: s.Clock().UTC().Add(lasts), Role: in.Role, Masked: in.Masked || !a.Secrets, Scope: scope}
	err := s.Jobs.Store.Tx(c.Request.Context(), a, func(q *store.Q) error {
		if err := q.AddToken(c.Request.Context(), &t, word); err != nil {
			return err
		}
		said := "role " + t.Role + ", until " + t.ExpiresAt.Format("2006-01-02")
		if t.Scope != "" {
			said += ", for " + t.Scope
		}
		if t.Masked {
			said += ", sees no secrets"
		}
		return q.Audit(c.Request.Context(), "token made", t.Name, said)
	})
	answer(c, http.StatusCreated, client.MadeToken{Token: word, Expires: t.ExpiresAt}, err)
}

// ready tells whether somebody may go on to an operation: who has to choose a password of
// their own may do nothing else before.
func ready(c *gin.Context, u store.User, first bool) bool {
	if !u.MustChange || first {
		return true
	}
	fail(c, &client.Problem{Status: 403, Title: "choose a password first", Detail: "a password of your own has to be chosen first: the one you have was given to you", Next: "magpie user password, or sign in to the console"})
	return false
}
