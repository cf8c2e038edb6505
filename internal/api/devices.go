package api

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/crypto/ssh"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/store"
)

func wireDevice(d core.Device) client.Device {
	tags := []string(d.Tags)
	if tags == nil {
		tags = []string{}
	}
	out := client.Device{ID: d.ID, Name: d.Name, Address: d.Address, Port: d.Port, Site: d.Site, Kind: d.Kind, Tags: tags, Dialect: d.Dialect, User: d.User,
		HostKey: link.Fingerprint(d.HostKey), State: d.State, Drifted: d.Drifted, Unsaved: d.Unsaved, Trouble: d.Trouble, Host: d.Host, Model: d.Model,
		Serial: d.Serial, Release: d.Release, CreatedAt: d.CreatedAt, LastTried: d.LastTried, LastPulled: d.LastPulled, LastChanged: d.LastChanged,
		Latest: d.Latest, LatchedSince: d.Latched}
	return out
}

func (s *Server) devices(c *gin.Context) {
	sel, ok := selector(c, strings.Fields(c.Query("selector")))
	if !ok {
		return
	}
	rows, err := s.Work.Store.As(actor(c)).Devices(c.Request.Context(), sel)
	out := make([]client.Device, len(rows))
	for i, d := range rows {
		out[i] = wireDevice(d)
	}
	answer(c, 200, out, err)
}

func (s *Server) device(c *gin.Context) {
	d, err := s.Work.Store.As(actor(c)).Device(c.Request.Context(), c.Param("name"))
	answer(c, 200, wireDevice(d), err)
}

func (s *Server) probe(c *gin.Context) {
	var in struct {
		Address string `json:"address"`
		Port    int    `json:"port"`
	}
	if !read(c, &in) {
		return
	}
	if err := checkReach(in.Address, in.Port); err != nil {
		fail(c, problem(err))
		return
	}
	key, print, err := link.HostKey(c.Request.Context(), link.Target{Address: in.Address, Port: in.Port}, 10*time.Second)
	answer(c, 200, client.Probe{HostKey: key, Fingerprint: print}, err)
}

// try signs in to a device that is not saved yet and asks who it is.
func (s *Server) try(c *gin.Context) {
	var n client.NewDevice
	if !read(c, &n) {
		return
	}
	var d core.Device
	var sec store.Secret
	_, _, err := s.apply(n, &d, &sec)
	if err != nil {
		fail(c, problem(err))
		return
	}
	id, err := s.Work.Try(c.Request.Context(), d, sec)
	answer(c, 200, client.Identity(id), err)
}

func checkReach(address string, port int) error {
	if address == "" || strings.ContainsAny(address, " \t/@") || len(address) > 255 {
		return bad(fmt.Sprintf("%q is no address", address), "give a host name or an IP address, without a port")
	}
	if port < 1 || port > 65535 {
		return bad(fmt.Sprintf("port %d is no TCP port", port), "it takes 1 to 65535")
	}
	return nil
}

// apply puts what was sent onto a device and its credential, and checks the
// result. It tells what changed, for the audit log, and whether the credential
// did.
func (s *Server) apply(n client.NewDevice, d *core.Device, sec *store.Secret) (said []string, secret bool, err error) {
	set := func(what string, into *string, v string) {
		if v != "" && *into != v {
			*into, said = v, append(said, what)
		}
	}
	set("name", &d.Name, n.Name)
	set("address", &d.Address, n.Address)
	set("kind", &d.Kind, n.Kind)
	set("dialect", &d.Dialect, n.Dialect)
	if n.HostKey != "" && n.HostKey != d.HostKey {
		k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(n.HostKey))
		if err != nil {
			return nil, false, bad("host_key is no SSH public key", "take it from POST /api/v1/probe, or from the device itself")
		}
		d.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))
		said = append(said, "host key "+ssh.FingerprintSHA256(k))
	}
	if n.Port != 0 && n.Port != d.Port {
		d.Port, said = n.Port, append(said, "port")
	}
	if n.Site != nil && *n.Site != d.Site {
		d.Site, said = *n.Site, append(said, "site")
	}
	if n.Tags != nil {
		d.Tags, said = *n.Tags, append(said, "tags")
	}
	before := *sec
	set("user", &sec.User, n.User)
	if n.Password != "" {
		sec.Password, sec.Key = n.Password, ""
	}
	if n.Key != "" {
		if _, err := ssh.ParsePrivateKey([]byte(n.Key)); err != nil {
			return nil, false, bad("key is no private key that can be read: "+err.Error(), "give an unencrypted key in PEM or OpenSSH form")
		}
		sec.Key, sec.Password = n.Key, ""
	}
	if n.Raise != "" {
		sec.Raise = n.Raise
	}
	if secret = before != *sec; secret {
		said = append(said, "credential")
	}
	return said, secret, s.checkDevice(d, sec)
}

func (s *Server) checkDevice(d *core.Device, sec *store.Secret) error {
	if err := ref.DeviceName(d.Name); err != nil {
		return bad(err.Error(), "")
	}
	dia := s.Work.Dialect(d.Dialect)
	if dia == nil {
		var names []string
		for _, x := range s.Work.Dialects() {
			names = append(names, x.Dialect)
		}
		return bad(fmt.Sprintf("no dialect is named %q", d.Dialect), "there are: "+strings.Join(names, ", "))
	}
	if d.Port == 0 {
		d.Port = dia.Reach.Port
	}
	if d.Kind == "" {
		d.Kind = dia.Kind
	}
	if err := checkReach(d.Address, d.Port); err != nil {
		return err
	}
	if !slices.Contains(core.Kinds, d.Kind) {
		return bad(fmt.Sprintf("%q is no kind of device", d.Kind), "the kinds are "+strings.Join(core.Kinds, ", "))
	}
	for _, t := range append([]string{d.Site}, d.Tags...) {
		if len(t) > 64 || strings.ContainsAny(t, " \t=*?[]\\") {
			return bad(fmt.Sprintf("%q cannot be a site or tag", t), "at most 64 characters, without blanks and the signs = * ? [ ] \\")
		}
	}
	if d.HostKey == "" {
		return bad("no host key is given", "POST /api/v1/probe shows the device's key; compare its fingerprint with what the device itself says, then send it as host_key")
	}
	if len([]rune(sec.User)) > 128 {
		return bad("the user's name has more than 128 characters", "")
	}
	if sec.User == "" || sec.Password == "" && sec.Key == "" {
		return bad("no user with a password or key is given", "give user, and password or key")
	}
	return nil
}

func (s *Server) addDevice(c *gin.Context) {
	var n client.NewDevice
	if !read(c, &n) {
		return
	}
	var d core.Device
	err := s.Work.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		d = core.Device{}
		var sec store.Secret
		if _, _, err := s.apply(n, &d, &sec); err != nil {
			return err
		}
		if err := q.AddDevice(c.Request.Context(), &d, sec); err != nil {
			return err
		}
		d.User = sec.User
		return q.Audit(c.Request.Context(), "device added", d.Name, fmt.Sprintf("%s port %d, dialect %s, host key %s", d.Address, d.Port, d.Dialect, link.Fingerprint(d.HostKey)))
	})
	answer(c, 201, wireDevice(d), err)
}

// change edits one device in a transaction and answers with it.
func (s *Server) change(c *gin.Context, do func(q *store.Q, d *core.Device) error) {
	var d core.Device
	err := s.Work.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
		if d, err = q.Device(c.Request.Context(), c.Param("name")); err != nil {
			return err
		}
		if err := do(q, &d); err != nil {
			return err
		}
		d, err = q.DeviceByID(c.Request.Context(), d.ID)
		return err
	})
	answer(c, 200, wireDevice(d), err)
}

func (s *Server) editDevice(c *gin.Context) {
	var n client.NewDevice
	if !read(c, &n) {
		return
	}
	s.change(c, func(q *store.Q, d *core.Device) error {
		sec, err := q.Secret(c.Request.Context(), *d)
		if err != nil {
			return err
		}
		name := d.Name
		said, secret, err := s.apply(n, d, &sec)
		if err != nil {
			return err
		}
		if err := q.EditDevice(c.Request.Context(), *d); err != nil {
			return err
		}
		if secret {
			if err := q.SetSecret(c.Request.Context(), *d, sec); err != nil {
				return err
			}
		}
		return q.Audit(c.Request.Context(), "device edited", name, strings.Join(said, ", "))
	})
}

func (s *Server) removeDevice(c *gin.Context) {
	err := s.Work.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
		d, err := q.Device(c.Request.Context(), c.Param("name"))
		if err != nil {
			return err
		}
		holder, err := q.Claim(c.Request.Context(), d.ID, "-")
		if err != nil {
			return err
		}
		if holder != "" {
			return &client.Problem{Status: 409, Title: "a push is under way", Detail: fmt.Sprintf("push %s holds %s", holder, d.Name), Next: "wait for it to end: magpie job watch " + holder}
		}
		if err := q.Unclaim(c.Request.Context(), "-"); err != nil {
			return err
		}
		if err := q.RemoveDevice(c.Request.Context(), d); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "device removed", d.Name, "its versions stay in the database")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

func (s *Server) retryLogin(c *gin.Context) {
	s.change(c, func(q *store.Q, d *core.Device) error {
		if err := q.Unlatch(c.Request.Context(), *d); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "login may be tried again", d.Name, "")
	})
}

func (s *Server) gather(ctx context.Context, a core.Actor) (client.Status, error) {
	q := s.Work.Store.As(a)
	st := client.Status{Version: s.Version, Node: s.Node, States: map[string]int{}, Order: core.States, Attend: []client.Device{}}
	all, err := q.Devices(ctx, ref.Selector{})
	if err != nil {
		return st, err
	}
	for _, d := range all {
		st.Devices++
		st.States[d.State]++
	}
	for _, state := range core.States {
		for _, d := range all {
			if d.State == state && state != core.Steady && len(st.Attend) < 50 {
				st.Attend = append(st.Attend, wireDevice(d))
			}
		}
	}
	counts, err := q.JobCounts(ctx)
	if err != nil {
		return st, err
	}
	st.Queued, st.Running, st.Waiting = counts[core.Queued], counts[core.Running], counts[core.Waiting]
	st.Contents, st.Bytes, err = q.ContentsCount(ctx)
	return st, err
}

func (s *Server) status(c *gin.Context) {
	st, err := s.gather(c.Request.Context(), actor(c))
	answer(c, 200, st, err)
}

func (s *Server) wireDialect(d *dialect.Dialect) client.Dialect {
	parts := []string{}
	for p := range d.Parts {
		parts = append(parts, p)
	}
	slices.Sort(parts)
	return client.Dialect{Name: d.Dialect, Title: d.Title, Kind: d.Kind, Revision: d.Revision, Port: d.Reach.Port, Parts: parts, Methods: d.Change.Methods}
}

func (s *Server) dialects(c *gin.Context) {
	all, err := s.Work.Store.As(actor(c)).Devices(c.Request.Context(), ref.Selector{})
	count := map[string]int{}
	for _, d := range all {
		count[d.Dialect]++
	}
	out := []client.Dialect{}
	for _, d := range s.Work.Dialects() {
		w := s.wireDialect(d)
		w.Devices = count[w.Name]
		out = append(out, w)
	}
	answer(c, 200, out, err)
}

func (s *Server) dialect(c *gin.Context) {
	d := s.Work.Dialect(c.Param("name"))
	if d == nil {
		fail(c, &client.Problem{Status: 404, Title: "not found", Detail: fmt.Sprintf("no dialect is named %q", c.Param("name")), Next: "magpie dialect list"})
		return
	}
	w := s.wireDialect(d)
	w.Source = d.Source
	sel, _ := ref.ParseSelector([]string{"dialect=" + w.Name})
	devs, err := s.Work.Store.As(actor(c)).Devices(c.Request.Context(), sel)
	w.Devices = len(devs)
	answer(c, 200, w, err)
}

func (s *Server) checkDialect(c *gin.Context) {
	source, err := c.GetRawData()
	if err != nil {
		fail(c, bad("the body cannot be read: "+err.Error(), ""))
		return
	}
	name := c.Query("name")
	if name == "" {
		name = "dialect.yaml"
	}
	out := []client.DialectProblem{}
	if _, err := dialect.Load(name, source); err != nil {
		for _, p := range err.(dialect.Problems) {
			out = append(out, client.DialectProblem(p))
		}
	}
	c.JSON(200, out)
}

func (s *Server) dialectSchema(c *gin.Context) {
	c.Data(200, "application/schema+json", dialect.Schema)
}
