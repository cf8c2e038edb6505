package api

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
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
	"magpie/internal/visit"
	"magpie/internal/wire"
)

var wiredDevice = wire.Make[client.Device, core.Device]("HostKey", "Parts", "Children", "Earlier", "Apart", "StandIn")

// wireDevice is a device as it goes over the wire.
func (s *Server) wireDevice(d core.Device) client.Device {
	out := wiredDevice(d)
	out.HostKey = link.Fingerprint(d.HostKey)
	dia := s.Visits.DialectOf(d)
	if dia != nil && d.Serial != "" {
		out.StandIn = dia.Identity.StandIn
	}
	if d.Unsaved && dia != nil {
		part, of, _ := dia.Follower()
		out.Apart = &client.Apart{Word: dia.UnsavedWord(), Part: part, Follows: of}
	}
	return out
}

func (s *Server) devices(c *gin.Context) {
	if rows, next, ok := s.devicePage(c); ok {
		c.JSON(200, pageOf(rows, next, s.wireDevice))
	}
}

func (s *Server) device(c *gin.Context) {
	ctx, q := c.Request.Context(), s.Jobs.Store.As(actor(c))
	d, err := q.Device(ctx, c.Param("name"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	w := s.wireDevice(d)
	parts, err := q.Parts(ctx, d.ID)
	if err != nil {
		fail(c, problem(err))
		return
	}
	for _, p := range parts {
		w.Parts = append(w.Parts, p.Name)
	}
	main := s.Visits.PartOf(d, "running")
	slices.SortStableFunc(w.Parts, func(a, b string) int {
		switch {
		case a == b:
			return 0
		case a == main || b != main && a == "startup":
			return -1
		case b == main || b == "startup":
			return 1
		}
		return strings.Compare(a, b)
	})
	if err := s.earlier(ctx, d, &w); err != nil {
		fail(c, problem(err))
		return
	}
	children, err := q.Children(ctx, d.ID)
	for _, k := range children {
		w.Children = append(w.Children, client.Child{Name: k.Name, State: k.State})
	}
	c.Header("ETag", etag(w.Revision))
	answer(c, 200, w, err)
}

func (s *Server) probe(c *gin.Context) {
	var in client.Reach
	if !readBody(c, &in) {
		return
	}
	in.Address = unbracket(in.Address)
	if err := checkReach(in.Address, in.Port); err != nil {
		fail(c, problem(err))
		return
	}
	if in.Transport != "" && !slices.Contains(dialect.Transports, in.Transport) {
		fail(c, bad(fmt.Sprintf("%q is no transport", in.Transport), "it is one of "+strings.Join(dialect.Transports, ", ")))
		return
	}
	ctx := c.Request.Context()
	if !actor(c).Secrets && in.Relay == "" {
		// Whoever may not see secrets looks where devices are registered, and finds no
		// other open ports by this.
		known, err := s.Jobs.Store.As(actor(c)).AtAddress(ctx, in.Address, in.Port)
		if err == nil && !known {
			err = &client.Problem{Status: 403, Title: "not allowed", Detail: fmt.Sprintf("no device is registered at %s port %d, and to look elsewhere takes the right to see secrets", in.Address, in.Port),
				Next: "ask the device itself for its key's fingerprint and give that, or ask an admin"}
		}
		if err != nil {
			fail(c, problem(err))
			return
		}
	}
	where := fmt.Sprintf("%s port %d", in.Address, in.Port)
	if in.Relay != "" {
		where += ", through relay " + in.Relay
	}
	if err := s.wrote(ctx, actor(c), "key asked for", in.Address, where); err != nil {
		fail(c, problem(err))
		return
	}
	t := link.Target{Transport: in.Transport, Address: in.Address, Port: in.Port}
	if err := s.probeThrough(c.Request.Context(), actor(c), &t, in.Relay); err != nil {
		fail(c, problem(err))
		return
	}
	key, print, err := link.Probe(c.Request.Context(), t, 10*time.Second)
	answer(c, 200, client.Probe{HostKey: key, Fingerprint: print}, err)
}

// try signs in to a device that is not saved yet, asks who it is and fetches
// its parts.
func (s *Server) try(c *gin.Context) {
	var n client.NewDevice
	if !readBody(c, &n) {
		return
	}
	ctx := c.Request.Context()
	q := s.Jobs.Store.As(actor(c))
	e := entry{own: &store.Secret{}}
	if err := s.apply(ctx, q, n, &e); err != nil {
		fail(c, problem(err))
		return
	}
	if err := s.wrote(ctx, actor(c), "device tried", e.d.Name, e.reach()); err != nil {
		fail(c, problem(err))
		return
	}
	out, err := s.attempt(ctx, q, s.Visits.Dialect(e.d.Dialect), e, nil)
	if err == nil {
		twins, e := q.WithSerial(ctx, out.Serial, "")
		if err = e; len(twins) > 0 {
			out.Warnings = append(out.Warnings, fmt.Sprintf("serial %s is registered already, as %s", out.Serial, strings.Join(twins, ", ")))
		}
	}
	answer(c, 200, out, err)
}

func (s *Server) attempt(ctx context.Context, q *store.Q, dia *dialect.Dialect, e entry, trace func(link.Exchange)) (client.Tried, error) {
	secret := e.own
	if secret == nil {
		of, err := q.SecretOf(ctx, e.d.CredentialID)
		if err != nil {
			return client.Tried{}, err
		}
		secret = &of
	}
	t, err := s.Visits.Try(ctx, dia, e.d, visit.LinkCredential(*secret), trace)
	out := client.Tried{Identity: client.Identity(t.Identity), Parts: append([]client.TriedPart{}, t.Parts...), Members: t.Members, Warnings: t.Warnings}
	if out.Members == nil {
		out.Members = []string{}
	}
	if out.Warnings == nil {
		out.Warnings = []string{}
	}
	return out, err
}

func checkReach(address string, port int) error {
	if address == "" || strings.ContainsAny(address, " \t/@") || len(address) > 255 {
		return wrong("address", fmt.Sprintf("%q is no address", address), "give a host name or an IP address, without a port")
	}
	if port < 1 || port > 65535 {
		return wrong("port", fmt.Sprintf("port %d is no TCP port", port), "it takes 1 to 65535")
	}
	return nil
}

// unbracket takes the brackets off an IPv6 address, in which it stands beside a
// port (RFC 3986 §3.2.2) and is copied from there.
func unbracket(address string) string {
	if in, ok := strings.CutPrefix(address, "["); ok {
		if in, ok = strings.CutSuffix(in, "]"); ok {
			if a, err := netip.ParseAddr(in); err == nil && a.Is6() {
				return in
			}
		}
	}
	return address
}

// entry is a device with its credential on their way into the database.
type entry struct {
	d      core.Device
	own    *store.Secret // its own credential; nil when it uses a set
	said   []string      // what changed, for the audit log
	secret bool          // whether the credential did
}

// apply puts what was sent onto a device and its credential, and checks the
// result.
func (s *Server) apply(ctx context.Context, q *store.Q, n client.NewDevice, e *entry) error {
	d := &e.d
	was := *d
	set := func(what string, into *string, v string) {
		if v != "" && *into != v {
			if *into != "" {
				what = core.Became(what, v, *into)
			}
			*into, e.said = v, append(e.said, what)
		}
	}
	set("name", &d.Name, n.Name)
	set("address", &d.Address, unbracket(n.Address))
	set("kind", &d.Kind, n.Kind)
	set("dialect", &d.Dialect, n.Dialect)
	set("transport", &d.Transport, n.Transport)
	if n.HostKey != "" && n.HostKey == link.Fingerprint(d.HostKey) {
		n.HostKey = d.HostKey // the same key, said to be right once more
		e.said = append(e.said, "host key "+link.Fingerprint(d.HostKey)+" as before")
	}
	if n.HostKey != "" && n.HostKey != d.HostKey {
		key := strings.TrimSpace(n.HostKey)
		if link.Fingerprint(key) == "" {
			return wrong("host_key", "host_key is neither an SSH public key nor a certificate's fingerprint", "take it from POST /api/v1/probe, or from the device itself")
		}
		if k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key)); err == nil {
			key = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))
		}
		d.HostKey, e.said = key, append(e.said, core.Became("host key", link.Fingerprint(key), link.Fingerprint(was.HostKey)))
	}
	if n.Port != 0 && n.Port != d.Port {
		d.Port, e.said = n.Port, append(e.said, core.Became("port", strconv.Itoa(n.Port), strings.TrimPrefix(strconv.Itoa(d.Port), "0")))
	}
	if moved := d.Address != was.Address || d.Transport != was.Transport; moved && n.HostKey == "" && was.HostKey != "" {
		d.HostKey = "" // what is trusted is a key at an address
	}
	if n.Site != nil && *n.Site != d.Site {
		d.Site, e.said = *n.Site, append(e.said, core.Became("site", *n.Site, d.Site))
	}
	if n.Tags != nil {
		d.Tags, e.said = *n.Tags, append(e.said, core.Became("tags", strings.Join(*n.Tags, ", "), strings.Join(d.Tags, ", ")))
	}
	if n.Note != nil && *n.Note != d.Note {
		if len([]rune(*n.Note)) > long {
			return wrong("note", fmt.Sprintf("the note has more than %d characters", long), "shorten it")
		}
		d.Note, e.said = *n.Note, append(e.said, core.Became("note", cut(*n.Note, 200), cut(d.Note, 200)))
	}
	if n.Fields != nil {
		if err := soundFields(*n.Fields); err != nil {
			return err
		}
		d.Fields, e.said = *n.Fields, append(e.said, core.Became("fields", cut(fieldsLine(*n.Fields), 200), cut(fieldsLine(d.Fields), 200)))
	}
	if n.Disabled != nil && *n.Disabled != d.Disabled {
		d.Disabled, e.said = *n.Disabled, append(e.said, map[bool]string{true: "disabled", false: "enabled"}[*n.Disabled])
	}
	if n.Spare != nil && *n.Spare != d.Spare {
		d.Spare, e.said = *n.Spare, append(e.said, map[bool]string{true: "a spare", false: "no spare any more"}[*n.Spare])
	}
	if n.Serials != nil {
		d.Serials, e.said = *n.Serials, append(e.said, core.Became("expected hardware", strings.Join(*n.Serials, ", "), strings.Join(d.Serials, ", ")))
	}
	if n.Timeouts != nil {
		for k, v := range *n.Timeouts {
			if t, err := time.ParseDuration(v); !slices.Contains([]string{"connect", "answer", "idle", "whole"}, k) || err != nil || t <= 0 || t > 24*time.Hour {
				return wrong("timeouts", fmt.Sprintf("%s=%s is no time-out", k, v), "they are connect, answer, idle and whole, written like 500ms, 20s, 5m")
			}
		}
		d.Timeouts, e.said = *n.Timeouts, append(e.said, core.Became("time-outs", fieldsLine(*n.Timeouts), fieldsLine(d.Timeouts)))
	}
	if n.Ports != nil {
		for k, v := range *n.Ports {
			if !slices.Contains([]string{"sftp", "scp", "ftp", "ftps", "tftp"}, k) || v < 1 || v > 65535 {
				return wrong("ports", fmt.Sprintf("%s=%d is no port for moving files", k, v), "they are sftp, scp, ftp, ftps and tftp, from 1 to 65535")
			}
		}
		d.Ports, e.said = *n.Ports, append(e.said, "ports")
	}
	for _, x := range []struct {
		what string
		sent *string
		id   *string
		was  string
	}{{"parent", n.Parent, &d.ParentID, d.Parent}, {"jump host", n.Jump, &d.JumpID, d.Jump}} {
		if x.sent == nil {
			continue
		}
		id := ""
		if *x.sent != "" {
			other, err := q.Device(ctx, *x.sent)
			if err != nil {
				return fmt.Errorf("%s: %w", x.what, err)
			}
			if id = other.ID; id == d.ID {
				return bad("a device cannot be its own "+x.what, "name another device")
			}
		}
		*x.id, e.said = id, append(e.said, core.Became(x.what, *x.sent, x.was))
	}
	if n.Credential != "" {
		if n.User != "" || n.Password != "" || n.Key != "" {
			return bad("both a credential set and a user are given", "give one of them")
		}
		c, err := q.CredentialSet(ctx, n.Credential)
		if err != nil {
			return err
		}
		e.said = append(e.said, core.Became("credential set", c.Name, d.Credential))
		d.CredentialID, d.Credential, d.User, e.own = c.ID, c.Name, c.User, nil
		return s.checkDevice(d, nil)
	}
	if e.own == nil {
		if n.User == "" && n.Password == "" && n.Key == "" && n.Agent == "" && n.Privileged == "" && n.Passphrase == "" {
			return s.checkDevice(d, nil)
		}
		if n.User == "" {
			return bad("it uses the credential set "+d.Credential, "change the set, or give user and password for a credential of its own")
		}
		e.own = &store.Secret{}
	}
	before := *e.own
	if err := fillSecret(e.own, n.User, n.Password, n.Key, n.Agent, n.Privileged, n.Passphrase); err != nil {
		return err
	}
	if e.secret = before != *e.own; e.secret {
		e.said = append(e.said, "credential")
	}
	if *e.own == (store.Secret{}) {
		c, err := s.setFor(ctx, q, *d)
		if err != nil {
			return err
		}
		if c.ID != "" {
			d.CredentialID, d.Credential, d.User, e.own = c.ID, c.Name, c.User, nil
			return s.checkDevice(d, nil)
		}
	}
	return s.checkDevice(d, e.own)
}

// reach is what the audit log has of where a device's login goes, and which.
func (e entry) reach() string {
	shown := link.Fingerprint(e.d.HostKey)
	if shown == "" {
		shown = "none"
	}
	login := "login of " + e.d.User
	switch {
	case e.d.Credential != "":
		login = "credential set " + e.d.Credential
	case e.own != nil:
		login = "login of " + e.own.User
	}
	said := fmt.Sprintf("%s port %d, dialect %s, host key %s, %s", e.d.Address, e.d.Port, e.d.Dialect, shown, login)
	if e.d.Transport != "" {
		said += ", by " + e.d.Transport
	}
	if e.d.JumpID != "" {
		said += ", through " + e.d.Jump
	}
	return said
}

// alone makes sure that no other device is registered at the same address.
func alone(ctx context.Context, q *store.Q, d core.Device, twice bool) error {
	if d.Member != "" || twice {
		return nil
	}
	twin, err := q.Twin(ctx, d)
	if err == nil && twin != "" {
		err = &client.Problem{Status: 409, Title: "registered already", Field: "address", Detail: fmt.Sprintf("%s is registered at %s port %d", twin, d.Address, d.Port), Next: fmt.Sprintf("see it: magpie device show %s; if both are meant, say so: twice", twin)}
	}
	return err
}

// setFor finds the credential set whose selector picks a device.
func (s *Server) setFor(ctx context.Context, q *store.Q, d core.Device) (found store.Credential, err error) {
	sets, err := q.CredentialSets(ctx)
	if err != nil {
		return found, err
	}
	kind := d.Kind
	if dia := s.Visits.Dialect(d.Dialect); kind == "" && dia != nil {
		kind = dia.Kind
	}
	for _, c := range sets {
		if c.Selector == "" {
			continue
		}
		sel, err := ref.ParseSelector(strings.Fields(c.Selector))
		if err != nil || !sel.Match(ref.Subject{Name: d.Name, Site: d.Site, Kind: kind, Dialect: d.Dialect, Tags: d.Tags}) {
			continue
		}
		if found.ID != "" {
			return found, bad(fmt.Sprintf("the selectors of credential sets %s and %s both pick it", found.Name, c.Name), "say which: credential")
		}
		found = c
	}
	return found, nil
}

// fillSecret puts what was sent into a secret; what is empty stays.
func fillSecret(sec *store.Secret, user, password, key, agent, raise, passphrase string) error {
	if user != "" {
		sec.User = user
	}
	if password != "" {
		sec.Password, sec.Key, sec.Agent = password, "", ""
	}
	if key != "" {
		if _, err := ssh.ParsePrivateKey([]byte(key)); err != nil {
			return wrong("key", "key is no private key that can be read: "+err.Error(), "give an unencrypted key in PEM or OpenSSH form")
		}
		sec.Key, sec.Password, sec.Agent = key, "", ""
	}
	if agent != "" {
		if link.Fingerprint(agent) == "" {
			return bad("agent is no SSH public key", "give the public key that the agent of the service holds, as ssh-add -L prints it")
		}
		sec.Agent, sec.Key, sec.Password = agent, "", ""
	}
	if raise != "" {
		sec.Privileged = raise
	}
	if passphrase != "" {
		sec.Passphrase = passphrase
	}
	if len([]rune(sec.User)) > 128 {
		return bad("the user's name has more than 128 characters", "")
	}
	return nil
}

// checkDevice completes an entry from its dialect and says what is wrong with
// it. sec is its own credential; nil when it uses a set.
func (s *Server) checkDevice(d *core.Device, sec *store.Secret) error {
	if err := ref.DeviceName(d.Name); err != nil {
		return wrong("name", err.Error(), "")
	}
	dia := s.Visits.Dialect(d.Dialect)
	if dia == nil {
		var names []string
		for _, x := range s.Visits.Dialects() {
			names = append(names, x.Dialect)
		}
		return wrong("dialect", fmt.Sprintf("dialect %q: not found; there are %s", d.Dialect, strings.Join(names, ", ")), ref.Meant(d.Dialect, names))
	}
	way, ok := dia.Way(d.Transport)
	if !ok {
		var ways []string
		for _, w := range dia.Ways() {
			ways = append(ways, w.Transport)
		}
		return wrong("transport", fmt.Sprintf("dialect %s does not speak %s", d.Dialect, d.Transport), "it speaks "+strings.Join(ways, ", "))
	}
	if d.Port == 0 {
		d.Port = way.Port
	}
	if d.Kind == "" {
		d.Kind = dia.Kind
	}
	if err := checkReach(d.Address, d.Port); err != nil {
		return err
	}
	if !slices.Contains(core.Kinds, d.Kind) {
		return wrong("kind", fmt.Sprintf("%q is no kind of device; the kinds are %s", d.Kind, strings.Join(core.Kinds, ", ")), ref.Meant(d.Kind, core.Kinds))
	}
	if err := checkTags(append([]string{d.Site}, d.Tags...)); err != nil {
		return err
	}
	if d.HostKey == "" && link.Shows(way.Transport) {
		return wrong("host_key", "no host key is given", "POST /api/v1/probe shows the device's key; compare its fingerprint with what the device itself says, then send it as host_key; that it still is the one accepted before is said by sending that one's fingerprint")
	}
	if sec != nil && (sec.User == "" || sec.Password == "" && sec.Key == "" && sec.Agent == "") {
		return wrong("user", "no user with a password or key is given", "give user, and password or key; or a credential set")
	}
	return nil
}

// checkTags looks whether words can be tags or sites: a selector has to be able to name
// them.
func checkTags(words []string) error {
	for _, t := range words {
		if len(t) > 64 || strings.ContainsAny(t, " \t=*?[]\\") {
			return wrong("site", fmt.Sprintf("%q cannot be a site or tag", t), "at most 64 characters, without blanks and the signs = * ? [ ] \\")
		}
	}
	return nil
}

func (s *Server) addDevice(c *gin.Context) {
	var n client.NewDevice
	if !readBody(c, &n) {
		return
	}
	var d core.Device
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
		d, err = s.add(c.Request.Context(), q, n)
		return err
	})
	out := s.wireDevice(d)
	if err == nil {
		err = s.earlier(c.Request.Context(), d, &out)
	}
	answer(c, 201, out, err)
}

// earlier says which removed devices were the same hardware as a device.
func (s *Server) earlier(ctx context.Context, d core.Device, out *client.Device) error {
	like, err := s.Jobs.Store.As(core.Actor{}).RemovedLike(ctx, d)
	for _, r := range like {
		out.Earlier = append(out.Earlier, r.Name)
	}
	return err
}

// removedDevices lists devices that were taken out.
func (s *Server) removedDevices(c *gin.Context) {
	rows, err := s.Jobs.Store.As(actor(c)).RemovedDevices(c.Request.Context())
	answer(c, 200, pageOf(rows, "", wireRemoved), err)
}

func wireRemoved(d store.RemovedDevice) client.RemovedDevice {
	was, _, _ := strings.Cut(d.Name, "~")
	return client.RemovedDevice{Name: d.Name, Was: was, RemovedAt: d.RemovedAt.In(time.UTC), Versions: d.Versions, LastPulled: d.LastPulled, Site: d.Site,
		Address: d.Address, Dialect: d.Dialect, Serial: d.Serial, HostKey: link.Fingerprint(d.HostKey)}
}

// reinstate brings a removed device back.
func (s *Server) reinstate(c *gin.Context) {
	var in client.Reinstate
	if !readBody(c, &in) {
		return
	}
	ctx := c.Request.Context()
	var d core.Device
	err := s.Jobs.Store.Tx(ctx, actor(c), func(q *store.Q) error {
		gone, err := q.RemovedDevice(ctx, c.Param("name"))
		if err != nil {
			return err
		}
		was, _, _ := strings.Cut(gone.Name, "~")
		name := cmp.Or(in.Name, was)
		if err := ref.DeviceName(name); err != nil {
			return wrong("name", err.Error(), "")
		}
		d = gone.Device
		if err := alone(ctx, q, d, in.Twice); err != nil {
			return err
		}
		if err := q.Reinstate(ctx, d, name); err != nil {
			return err
		}
		if err := q.Audit(ctx, "device reinstated", name, "removed as "+gone.Name); err != nil {
			return err
		}
		d, err = q.DeviceByID(ctx, d.ID)
		return err
	})
	answer(c, 200, s.wireDevice(d), err)
}

// add registers a device.
func (s *Server) add(ctx context.Context, q *store.Q, n client.NewDevice) (core.Device, error) {
	e := entry{own: &store.Secret{}}
	if err := s.apply(ctx, q, n, &e); err != nil {
		return e.d, err
	}
	if err := alone(ctx, q, e.d, n.Twice); err != nil {
		return e.d, err
	}
	if err := q.AddDevice(ctx, &e.d, e.own); err != nil {
		return e.d, err
	}
	if err := q.Audit(ctx, "device added", e.d.Name, e.reach()); err != nil {
		return e.d, err
	}
	return q.DeviceByID(ctx, e.d.ID)
}

// change edits one device in a transaction and answers with it. based is the
// revision that the change is based on; 0 is based on none.
func (s *Server) change(c *gin.Context, based int, do func(q *store.Q, d *core.Device) error) {
	var d core.Device
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) (err error) {
		if d, err = q.Device(c.Request.Context(), c.Param("name")); err != nil {
			return err
		}
		if d, err = q.LockDevice(c.Request.Context(), d.ID, based); err != nil {
			return fmt.Errorf("device %s: %w", c.Param("name"), err)
		}
		if err := do(q, &d); err != nil {
			return err
		}
		d, err = q.DeviceByID(c.Request.Context(), d.ID)
		return err
	})
	if err == nil {
		c.Header("ETag", etag(d.Revision))
	}
	answer(c, 200, s.wireDevice(d), err)
}

func (s *Server) editDevice(c *gin.Context) {
	var n client.NewDevice
	revision, ok := based(c)
	if !ok || !readBody(c, &n) {
		return
	}
	s.change(c, revision, func(q *store.Q, d *core.Device) error { return s.editOne(c.Request.Context(), q, d, n) })
}

// editOne changes a device that is locked.
func (s *Server) editOne(ctx context.Context, q *store.Q, d *core.Device, n client.NewDevice) error {
	e, name := entry{d: *d}, d.Name
	if d.Credential == "" {
		sec, err := q.Secret(ctx, *d)
		if err != nil {
			return err
		}
		e.own = &sec
	}
	if err := s.apply(ctx, q, n, &e); err != nil {
		return err
	}
	if e.d.Address != d.Address || e.d.Port != d.Port || e.d.JumpID != d.JumpID {
		if err := alone(ctx, q, e.d, n.Twice); err != nil {
			return err
		}
	}
	if e.own != nil && d.Credential != "" {
		// A credential of its own, instead of the set.
		e.d.CredentialID = store.NewID(s.Jobs.Now())
	}
	was := *d
	*d = e.d
	if err := s.Visits.Edit(ctx, q, was, *d); err != nil {
		return err
	}
	if e.secret {
		if err := q.SetSecret(ctx, *d, *e.own); err != nil {
			return err
		}
	}
	return q.Audit(ctx, "device edited", name, strings.Join(e.said, ", "))
}

func (s *Server) removeDevice(c *gin.Context) {
	err := s.Jobs.Store.Tx(c.Request.Context(), actor(c), func(q *store.Q) error {
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
		return q.Audit(c.Request.Context(), "device removed", d.Name, "its versions stay")
	})
	if err != nil {
		fail(c, problem(err))
		return
	}
	c.Status(204)
}

func (s *Server) retryLogin(c *gin.Context) {
	if !s.withinNamed(c, c.Param("name")) {
		return
	}
	s.change(c, 0, func(q *store.Q, d *core.Device) error {
		if err := q.UnlockLogin(c.Request.Context(), *d); err != nil {
			return err
		}
		return q.Audit(c.Request.Context(), "login may be tried again", d.Name, "")
	})
}

var wireSwap = wire.Make[client.Swap, store.Swap]()

// swaps lists the hardware that took a device's place.
func (s *Server) swaps(c *gin.Context) {
	q := s.Jobs.Store.As(actor(c))
	d, err := q.Device(c.Request.Context(), c.Param("name"))
	if err != nil {
		fail(c, problem(err))
		return
	}
	all, err := q.Swaps(c.Request.Context(), d.ID)
	list(c, all, err, func(w store.Swap) string { return w.Job }, wireSwap)
}

// soundFields checks what people write down of a device by names of their own.
func soundFields(fields map[string]string) error {
	if len(fields) > 50 {
		return wrong("fields", fmt.Sprintf("a device has at most 50 fields of one's own; these are %d", len(fields)), "")
	}
	for k, v := range fields {
		if !fieldName.MatchString(k) {
			return wrong("fields", fmt.Sprintf("%q is no name of a field", k), "write it with small letters, digits, - and _, 40 at most")
		}
		if len([]rune(v)) > 500 {
			return wrong("fields", fmt.Sprintf("the field %s has more than 500 characters", k), "shorten it")
		}
	}
	return nil
}

var fieldName = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)
