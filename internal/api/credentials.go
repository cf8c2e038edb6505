package api

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/store"
	"magpie/internal/wire"
)

var wireSet = wire.Make[client.CredentialSet, store.Credential]()

func (s *Server) credentials(c *gin.Context) {
	all, err := s.Jobs.Store.As(actor(c)).CredentialSets(c.Request.Context())
	list(c, all, err, func(x store.Credential) string { return x.Name }, wireSet)
}

// fillSet puts what was sent into a set, and tells what changed.
func fillSet(n client.NewCredentialSet, set *store.Credential, sec *store.Secret) (said []string, err error) {
	before := *sec
	if err := fillSecret(sec, n.User, n.Password, n.Key, n.Agent, n.Privileged, n.Passphrase); err != nil {
		return nil, err
	}
	if n.FactoryUser != "" {
		sec.FactoryUser = n.FactoryUser
	}
	if n.FactoryPassword != "" {
		sec.FactoryPassword = n.FactoryPassword
	}
	if before != *sec {
		said = append(said, core.Became("login of", sec.User, strings.TrimPrefix(before.User, sec.User)))
	}
	if n.Name != "" && n.Name != set.Name {
		if err := ref.DeviceName(n.Name); err != nil {
			return nil, bad(strings.Replace(err.Error(), "device's name", "credential set's name", 1), "")
		}
		set.Name, said = n.Name, append(said, core.Became("name", n.Name, set.Name))
	}
	if n.Selector != nil && *n.Selector != set.Selector {
		if *n.Selector != "" { // empty takes it away
			if _, err := ref.ParseSelector([]string{*n.Selector}); err != nil {
				return nil, wrong("selector", err.Error(), likeSelector)
			}
		}
		set.Selector, said = *n.Selector, append(said, core.Became("selector", *n.Selector, set.Selector))
	}
	if sec.User == "" || sec.Password == "" && sec.Key == "" && sec.Agent == "" {
		return nil, bad("no user with a password or key is given", "give user, and password or key")
	}
	return said, nil
}

func (s *Server) addCredential(c *gin.Context) {
	var n client.NewCredentialSet
	if !readBody(c, &n) {
		return
	}
	var set store.Credential
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		var sec store.Secret
		set = store.Credential{}
		if n.Name == "" {
			return bad("a credential set needs a name", "")
		}
		said, err := fillSet(n, &set, &sec)
		if err != nil {
			return err
		}
		if err := q.PutCredentialSet(ctx, &set, &sec); err != nil {
			return err
		}
		if err := q.Audit(ctx, "credential set added", set.Name, strings.Join(said, ", ")); err != nil {
			return err
		}
		set, err = q.CredentialSet(ctx, set.Name)
		return err
	})
	answer(c, 201, wireSet(set), err)
}

func (s *Server) editCredential(c *gin.Context) {
	var n client.NewCredentialSet
	revision, ok := based(c)
	if !ok || !readBody(c, &n) {
		return
	}
	s.changeSet(c, revision, func(q *store.Q, set *store.Credential) error {
		ctx, name := c.Request.Context(), set.Name
		sec, err := q.SecretOf(ctx, set.ID)
		if err != nil {
			return err
		}
		before := sec
		said, err := fillSet(n, set, &sec)
		if err != nil {
			return err
		}
		into := &sec
		if before == sec {
			into = nil
		}
		if err := q.PutCredentialSet(ctx, set, into); err != nil {
			return err
		}
		return q.Audit(ctx, "credential set changed", name, strings.Join(said, ", "))
	})
}

// changeSet changes a set. based is the revision that the change is based on; 0
// is based on none.
func (s *Server) changeSet(c *gin.Context, based int, do func(q *store.Q, set *store.Credential) error) {
	var set store.Credential
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) (err error) {
		if set, err = q.LockCredentialSet(ctx, c.Param("name"), based); err != nil {
			return err
		}
		if err := do(q, &set); err != nil {
			return err
		}
		set, err = q.CredentialSet(ctx, set.Name)
		return err
	})
	answer(c, 200, wireSet(set), err)
}

// retryCredential lifts a set's login locks and closes its breaker.
func (s *Server) retryCredential(c *gin.Context) {
	s.changeSet(c, 0, func(q *store.Q, set *store.Credential) error {
		if err := q.OpenCredential(c.Request.Context(), set.ID); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "credential set may be tried again", set.Name, "")
	})
}

// attachCredential gives devices a set instead of what they had.
func (s *Server) attachCredential(c *gin.Context) {
	var in struct {
		Selector []string `json:"selector"`
	}
	if !readBody(c, &in) {
		return
	}
	devices, ok := s.chosen(c, in.Selector)
	if !ok {
		return
	}
	s.changeSet(c, 0, func(q *store.Q, set *store.Credential) error {
		ctx := c.Request.Context()
		if err := q.Attach(ctx, set.ID, devices); err != nil {
			return err
		}
		for _, d := range devices {
			if err := q.Audit(ctx, "credential set attached", d.Name, set.Name); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Server) removeCredential(c *gin.Context) {
	ctx := c.Request.Context()
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		set, err := q.CredentialSet(ctx, c.Param("name"))
		if err != nil {
			return err
		}
		if set.Devices > 0 {
			return &client.Problem{Status: 409, Title: "in use", Detail: fmt.Sprintf("%d devices use credential set %s", set.Devices, set.Name), Next: "give them another first: magpie credential attach OTHER SELECTOR"}
		}
		if err := q.RemoveCredentialSet(ctx, set.ID); err != nil {
			return err
		}
		return q.Audit(ctx, "credential set removed", set.Name, "")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}
