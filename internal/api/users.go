package api

import (
	"cmp"
	"fmt"
	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/store"
	"magpie/internal/wire"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

var wiredUser = wire.Make[client.User, store.User]("Secrets", "Granted", "Codes", "Scope", "Subject")

func wireUser(u store.User) client.User {
	out := wiredUser(u)
	out.Secrets, out.Granted, out.Codes, out.Scope = u.Actor().Secrets, u.Secrets, u.TOTPOn, strings.Fields(u.Scope)
	if u.Subject != nil {
		_, out.Subject, _ = strings.Cut(*u.Subject, " ")
	}
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

// soundName tells what is wrong with a user's name.
func soundName(name string) error {
	if strings.TrimSpace(name) != name || name == "" || len(name) > 64 {
		return wrong("name", "a user needs a name of 1 to 64 characters without blanks around it", "")
	}
	if name == nobody || name == "service" {
		return wrong("name", fmt.Sprintf("no user can be named %q: the audit log uses it", name), "choose another name")
	}
	return nil
}

func (s *Server) addUser(c *gin.Context) {
	var n client.NewUser
	if !readBody(c, &n) {
		return
	}
	u := store.User{Name: n.Name, Role: n.Role, Secrets: n.Secrets != nil && *n.Secrets, MustChange: !n.Lasting}
	err := func() error {
		if err := soundName(n.Name); err != nil {
			return err
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
		if err := s.known(&u, n.Subject); err != nil {
			return err
		}
		if u.Subject != nil && n.Password == "" { // the provider signs them in, and nobody else
			u.MustChange = false
		} else if err := CheckPassword(n.Password); err != nil {
			return wrong("password", err.Error(), "")
		} else if err := s.hash(c, n.Password, &u.Password); err != nil {
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
		var said []string
		if n.Role != "" {
			if err := knownRole(n.Role); err != nil {
				return err
			}
			said = append(said, core.Became("role", n.Role, u.Role))
			u.Role = n.Role
		}
		if n.Scope != nil {
			scope := strings.Join(*n.Scope, " ")
			said = append(said, core.Became("scope", cmp.Or(scope, "all"), cmp.Or(u.Scope, "all")))
			u.Scope = scope
		} else if u.Role != core.Operator {
			u.Scope = ""
		}
		if err := s.soundScope(c, "scope", u.Scope, u.Role); n.Scope != nil && err != nil {
			return err
		}
		if n.Secrets != nil {
			said = append(said, core.Became("sees secrets", yesNo(*n.Secrets), yesNo(u.Secrets)))
			u.Secrets = *n.Secrets
		}
		if n.Disabled != nil {
			said = append(said, core.Became("disabled", yesNo(*n.Disabled), yesNo(u.Disabled)))
			u.Disabled = *n.Disabled
		}
		if n.Password != "" {
			u.Password, u.MustChange = hash, !n.Lasting && u.ID != actor(c).ID
			said = append(said, "another password")
			if err := q.DropTokens(c.Request.Context(), u.ID); err != nil {
				return err
			}
		}
		if err := s.known(&u, n.Subject); err != nil {
			return err
		}
		if n.Subject != nil {
			said = append(said, "known to the provider as "+cmp.Or(*n.Subject, "nobody"))
		}
		if n.NoCodes {
			u.TOTP, u.TOTPOn, u.Recovery = nil, false, nil
			said = append(said, "no one-time codes")
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
		return q.Audit(c.Request.Context(), "user edited", u.Name, strings.Join(said, ", "))
	})
	c.Header("ETag", etag(u.Revision))
	answer(c, 200, wireUser(u), err)
}
