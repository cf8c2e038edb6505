package api

import (
	"cmp"
	"context"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gin-gonic/gin"
	"golang.org/x/oauth2"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/trust"
)

// Provider is who signs people in besides passwords: an OpenID Connect provider, by the
// authorization code flow with PKCE (OpenID Connect Core 1.0 §3.1, RFC 7636).
type Provider struct {
	Issuer     string `yaml:"issuer"`      // its address, as its own discovery document has it
	ClientID   string `yaml:"client_id"`   // as whom it knows this service
	SecretFile string `yaml:"secret_file"` // file with the service's password there; empty: it has none
	Address    string `yaml:"address"`     // under which browsers reach this service; what the provider has to be told is this with /api/v1/sign-on/back
	Label      string `yaml:"label"`       // what people call the provider
	CAFile     string `yaml:"ca_file"`     // certificates that vouch for it; empty: the system's

	Name   string              `yaml:"name_claim"`  // the claim with a user's name; preferred_username if not said
	Groups string              `yaml:"roles_claim"` // the claim with what gives somebody a role; groups if not said
	Scopes []string            `yaml:"scopes"`      // what is asked for besides openid and profile
	Roles  map[string][]string `yaml:"roles"`       // for each role the words of the claim that give it; none: an admin adds users

	mu    sync.Mutex
	found *oidc.Provider
}

// Sound tells what of it makes no sense.
func (p *Provider) Sound() error {
	for _, x := range [][2]string{{"issuer", p.Issuer}, {"address", p.Address}} {
		u, err := url.Parse(x[1])
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
			return fmt.Errorf("sign_on: %s: %q is no address; write it like https://signin.example", x[0], x[1])
		case u.Scheme == "http" && u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost":
			return fmt.Errorf("sign_on: %s: %s goes in the clear; sign-ins take https", x[0], x[1])
		}
	}
	if p.ClientID == "" {
		return errors.New("sign_on: client_id is missing: as whom the provider knows this service")
	}
	for role := range p.Roles {
		if !slices.Contains(core.Roles, role) {
			return fmt.Errorf("sign_on: roles: %q is no role; there are %s", role, strings.Join(core.Roles, ", "))
		}
	}
	return nil
}

// Discover asks the provider for its addresses, once; until it answered, each time.
func (p *Provider) Discover(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found != nil {
		return p.found, nil
	}
	ctx, err := p.by(context.WithoutCancel(ctx)) // it fetches keys by this later
	if err != nil {
		return nil, err
	}
	found, err := oidc.NewProvider(ctx, p.Issuer)
	if err != nil {
		return nil, fmt.Errorf("the provider of sign-ins, %s: %w", p.Issuer, err)
	}
	p.found = found
	return found, nil
}

// Check looks whether the provider answers, and whether what it takes is there.
func (p *Provider) Check(ctx context.Context) error {
	found, err := p.Discover(ctx)
	if err == nil {
		_, err = p.config(found)
	}
	return err
}

// by is how the provider is spoken to.
func (p *Provider) by(ctx context.Context) (context.Context, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if p.CAFile != "" {
		raw, err := os.ReadFile(p.CAFile)
		if err != nil {
			return nil, fmt.Errorf("sign_on: ca_file: %w", err)
		}
		if config.RootCAs, err = trust.Authorities(string(raw)); err != nil {
			return nil, fmt.Errorf("sign_on: ca_file: %s: %w", p.CAFile, err)
		}
	}
	return oidc.ClientContext(ctx, &http.Client{Timeout: 15 * time.Second, Transport: &http.Transport{TLSClientConfig: config, Proxy: http.ProxyFromEnvironment}}), nil
}

// config is what of it stands in each request to the provider.
func (p *Provider) config(found *oidc.Provider) (oauth2.Config, error) {
	o := oauth2.Config{ClientID: p.ClientID, Endpoint: found.Endpoint(), RedirectURL: strings.TrimSuffix(p.Address, "/") + "/api/v1/sign-on/back",
		Scopes: append([]string{oidc.ScopeOpenID, "profile"}, p.Scopes...)}
	if p.SecretFile != "" {
		raw, err := os.ReadFile(p.SecretFile)
		if err != nil {
			return o, fmt.Errorf("sign_on: secret_file: %w", err)
		}
		o.ClientSecret = strings.TrimSpace(string(raw))
	}
	return o, nil
}

// signingOn is what a browser keeps while it is at the provider.
type signingOn struct {
	State, Nonce, Verifier, To string
}

const (
	signOnPath  = "/api/v1/sign-on"
	signOnLasts = 10 * time.Minute
	signOnSaid  = "magpie_said" // a cookie for the console's sign-in page: what went wrong
)

func (s *Server) signOn(c *gin.Context) {
	if s.Provider == nil {
		c.JSON(200, client.SignOn{})
		return
	}
	c.JSON(200, client.SignOn{Label: cmp.Or(s.Provider.Label, s.Provider.Issuer)})
}

// signOnCookie is kept by the browser from the start to the end: the provider's answer comes
// from another site, so a strict one would not be sent.
func (s *Server) signOnCookie(c *gin.Context, value string, lasts time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{Name: cookieName + "_sign_on", Value: value, Path: signOnPath, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: s.byTLS(c), MaxAge: int(lasts.Seconds())})
}

var errNoProvider = &client.Problem{Status: 404, Title: "no provider", Detail: "nobody else signs people in to this service", Next: "sign in with a user and a password; docs/security.md says how a provider is named"}

func (s *Server) startSignOn(c *gin.Context) {
	if s.Provider == nil {
		s.back(c, "/", errNoProvider)
		return
	}
	found, err := s.Provider.Discover(c.Request.Context())
	if err != nil {
		s.back(c, "/", errProvider(err))
		return
	}
	o, err := s.Provider.config(found)
	if err != nil {
		s.back(c, "/", errProvider(err))
		return
	}
	x := signingOn{State: random(), Nonce: random(), Verifier: oauth2.GenerateVerifier(), To: own(c.Query("to"))}
	raw, _ := json.Marshal(x)
	s.signOnCookie(c, base64.RawURLEncoding.EncodeToString(raw), signOnLasts)
	c.Redirect(http.StatusSeeOther, o.AuthCodeURL(x.State, oidc.Nonce(x.Nonce), oauth2.S256ChallengeOption(x.Verifier)))
}

// own is a page of this service, and never another's.
func own(to string) string {
	if u, err := url.Parse(to); err != nil || u.IsAbs() || u.Host != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, `\`) {
		return "/"
	}
	return to
}

func errProvider(err error) *client.Problem {
	return &client.Problem{Status: 502, Title: "the provider did not sign you in", Detail: err.Error(), Next: "try again; an admin finds more with magpie serve --check on the service's machine"}
}

// back sends a browser to a page, with what went wrong for the sign-in page to say.
func (s *Server) back(c *gin.Context, to string, p *client.Problem) {
	if p != nil {
		raw, _ := json.Marshal(client.Problem{Status: p.Status, Title: p.Title, Detail: cut(p.Detail, 600), Next: p.Next})
		http.SetCookie(c.Writer, &http.Cookie{Name: signOnSaid, Value: base64.RawURLEncoding.EncodeToString(raw), Path: "/", SameSite: http.SameSiteStrictMode, Secure: s.byTLS(c), MaxAge: 60})
	}
	c.Redirect(http.StatusSeeOther, to)
}

func (s *Server) endSignOn(c *gin.Context) {
	word, _ := c.Cookie(cookieName + "_sign_on")
	s.signOnCookie(c, "", -1)
	var x signingOn
	raw, err := base64.RawURLEncoding.DecodeString(word)
	if err == nil {
		err = json.Unmarshal(raw, &x)
	}
	switch {
	case s.Provider == nil:
		s.back(c, "/", errNoProvider)
		return
	case err != nil || x.State == "" || subtle.ConstantTimeCompare([]byte(x.State), []byte(c.Query("state"))) != 1:
		s.back(c, "/", &client.Problem{Status: 400, Title: "not begun here", Detail: "this sign-in was not begun in this browser, or took longer than ten minutes", Next: "begin it again"})
		return
	case c.Query("error") != "":
		s.back(c, "/", errProvider(fmt.Errorf("it says %s", strings.TrimSpace(cut(c.Query("error"), 60)+": "+cut(c.Query("error_description"), 300)))))
		return
	case c.Query("iss") != "" && c.Query("iss") != s.Provider.Issuer: // RFC 9207 §2.4
		s.back(c, "/", errProvider(fmt.Errorf("the answer comes from %s, and %s was asked", cut(c.Query("iss"), 200), s.Provider.Issuer)))
		return
	}
	who, err := s.Provider.exchange(c.Request.Context(), c.Query("code"), x)
	if err != nil {
		s.back(c, "/", errProvider(err))
		return
	}
	u, err := s.userOf(c, who)
	if err == nil {
		_, err = s.open(c, u)
	}
	if err != nil {
		s.back(c, "/", problem(err))
		return
	}
	s.back(c, own(x.To), nil)
}

// known is whom a provider vouches for.
type known struct {
	subject string // issuer, a blank, subject
	name    string
	words   []string // of the claim that gives roles
}

// exchange asks the provider for whom a code stands.
func (p *Provider) exchange(ctx context.Context, code string, x signingOn) (who known, err error) {
	found, err := p.Discover(ctx)
	if err != nil {
		return who, err
	}
	o, err := p.config(found)
	if err != nil {
		return who, err
	}
	if ctx, err = p.by(ctx); err != nil {
		return who, err
	}
	tokens, err := o.Exchange(ctx, code, oauth2.VerifierOption(x.Verifier))
	if refused := new(oauth2.RetrieveError); errors.As(err, &refused) {
		return who, fmt.Errorf("it takes the code for nothing: %s %s", refused.ErrorCode, refused.ErrorDescription)
	}
	if err != nil {
		return who, err
	}
	raw, _ := tokens.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.ClientID}).Verify(ctx, raw)
	if err != nil {
		return who, fmt.Errorf("its token says nothing: %w", err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(x.Nonce)) != 1 {
		return who, errors.New("its token is for another sign-in")
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return who, err
	}
	name, groups := cmp.Or(p.Name, "preferred_username"), cmp.Or(p.Groups, "groups")
	if (claims[name] == nil || claims[groups] == nil && len(p.Roles) > 0) && found.UserInfoEndpoint() != "" {
		info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(tokens))
		if err != nil {
			return who, err
		}
		more := map[string]any{}
		if err := info.Claims(&more); err != nil || info.Subject != id.Subject {
			return who, errors.Join(errors.New("what it says of the user is another's"), err)
		}
		for k, v := range more {
			if claims[k] == nil {
				claims[k] = v
			}
		}
	}
	who.subject = p.Issuer + " " + id.Subject
	who.name, _ = claims[name].(string)
	switch v := claims[groups].(type) {
	case string:
		who.words = strings.Fields(v)
	case []any:
		for _, w := range v {
			who.words = append(who.words, fmt.Sprint(w))
		}
	}
	return who, nil
}

// roleOf is the most that the words of somebody's claim give; false: nothing.
func (p *Provider) roleOf(words []string) (string, bool) {
	for _, role := range []string{core.Admin, core.Operator, core.Reader} {
		for _, w := range p.Roles[role] {
			if w == "*" || slices.Contains(words, w) {
				return role, true
			}
		}
	}
	return "", false
}

// known says as whom the provider of sign-ins knows a user; nil: it stays.
func (s *Server) known(u *store.User, subject *string) error {
	switch {
	case subject == nil:
		return nil
	case *subject == "":
		u.Subject = nil
		return nil
	case s.Provider == nil:
		return wrong("subject", "no provider signs people in to this service", "name one under sign_on in its configuration first")
	case len(*subject) > 255 || strings.TrimSpace(*subject) != *subject:
		return wrong("subject", "a subject has at most 255 characters, and no blanks around it", "it is in what the provider refuses a sign-in with, and in its own list of users")
	}
	all := s.Provider.Issuer + " " + *subject
	u.Subject = &all
	return nil
}

// userOf finds the user whom the provider vouches for, as what it gives them; who is new
// and is given a role becomes a user.
func (s *Server) userOf(c *gin.Context, who known) (u store.User, err error) {
	ctx, by := c.Request.Context(), core.Actor{Name: "service"}
	_, subject, _ := strings.Cut(who.subject, " ")
	role, given := s.Provider.roleOf(who.words)
	refused := func(detail, next string) error {
		if s.refused.note(who.name, from(c)) {
			if err := s.wrote(ctx, core.Actor{Name: nobody}, "sign-in refused", cut(who.name, 64), "by the provider, from "+from(c)+": "+detail); err != nil {
				return err
			}
		}
		return &client.Problem{Status: 403, Title: "not let in", Detail: detail, Next: next}
	}
	err = s.Jobs.Store.Tx(ctx, by, func(q *store.Q) error {
		u, err = q.UserOf(ctx, who.subject)
		switch {
		case errors.Is(err, store.ErrNotFound) && !given:
			return err
		case errors.Is(err, store.ErrNotFound):
			if err := soundName(who.name); err != nil {
				return err
			}
			u = store.User{Name: who.name, Role: role, Subject: &who.subject}
			if err := q.AddUser(ctx, &u); err != nil {
				return err
			}
			return q.Audit(ctx, "user added", u.Name, "role "+role+", by the provider of sign-ins")
		case err != nil || u.Disabled || !given || u.Role == role:
			return err
		}
		was := u.Role
		if u, err = q.LockUser(ctx, u.Name, 0); err != nil {
			return err
		}
		if u.Role = role; role != core.Operator {
			u.Scope = ""
		}
		if last, err := q.LastAdmin(ctx, u.ID); err != nil || last {
			return err // it stays admin: somebody has to be
		}
		if err := q.EditUser(ctx, &u); err != nil {
			return err
		}
		return q.Audit(ctx, "user edited", u.Name, "role "+role+" instead of "+was+", by the provider of sign-ins")
	})
	switch {
	case errors.Is(err, store.ErrTaken):
		return u, refused(fmt.Sprintf("a user %q is here already, and nothing says that this is you", who.name), fmt.Sprintf("an admin can say so: magpie user edit %s --subject %s", who.name, subject))
	case errors.Is(err, store.ErrNotFound):
		return u, refused("the provider knows you, but you may not use this service", fmt.Sprintf("an admin can add you: magpie user add NAME --role ROLE --subject %s", subject))
	case err != nil:
		return u, err
	case u.Disabled:
		return u, refused("you may not sign in any more", "ask an admin")
	case !given && len(s.Provider.Roles) > 0:
		return u, refused("the provider gives you no role here any more", "ask whoever keeps the groups there")
	}
	return u, nil
}
