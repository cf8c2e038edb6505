package link

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/internal/core/grammar"
	"magpie/internal/dialect"
)

// Capabilities of RFC 6241 §8, without the version behind them.
const (
	ncMonitoring = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"
	ncBase       = "urn:ietf:params:netconf:base:"
	capWritable  = "urn:ietf:params:netconf:capability:writable-running:"
	capCandid    = "urn:ietf:params:netconf:capability:candidate:"
	capRollback  = "urn:ietf:params:netconf:capability:rollback-on-error:"
	capDefaults  = "urn:ietf:params:netconf:capability:with-defaults:"
	capValidate  = "urn:ietf:params:netconf:capability:validate:"
	capConfirm11 = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"
	capStartup   = "urn:ietf:params:netconf:capability:startup:"
	ncNamespace  = "urn:ietf:params:xml:ns:netconf:base:1.0"
)

// netconf speaks NETCONF over SSH (RFC 6241, 6242).
type netconf struct {
	*conversation
	s *Session
}

// conversation is a NETCONF session.
type conversation struct {
	client  *ssh.Client
	ch      *ssh.Session
	in      io.WriteCloser
	u       *unframer
	p       *pump
	pr      *pumpReader
	caps    []string
	id      string // session-id
	message int
	anew    bool // it took the place of one that gave no answer
	locked  []string
	dirty   bool // the candidate holds what was not committed
	gone    bool
}

func newNetconf(s *Session, client *ssh.Client) (*netconf, error) {
	ch, in, out, err := channel(client)
	if err != nil {
		return nil, err
	}
	if err := ch.RequestSubsystem("netconf"); err != nil {
		return nil, fmt.Errorf("%w: the device does not offer NETCONF over SSH: %v", ErrUnreachable, err)
	}
	p := newPump(s.ctx, out)
	pr := &pumpReader{p, s.d.Connect, s.d.Idle, "waiting for NETCONF's hello"}
	n := &netconf{&conversation{client: client, ch: ch, in: in, u: &unframer{r: pr}, p: p, pr: pr}, s}
	if err := n.hello(); err != nil {
		n.close()
		return nil, err
	}
	s.own = n.id
	return n, nil
}

// hello exchanges capabilities (RFC 6241 §8.1); the higher version of the
// protocol that both know is spoken from then on.
func (n *netconf) hello() error {
	ours := `<?xml version="1.0" encoding="UTF-8"?><hello xmlns="` + ncNamespace + `"><capabilities><capability>` + ncBase + `1.0</capability><capability>` + ncBase + `1.1</capability></capabilities></hello>`
	if _, err := n.in.Write(frame([]byte(ours), false)); err != nil {
		return ErrCut
	}
	raw, err := n.u.next()
	if err != nil {
		return fmt.Errorf("waiting for NETCONF's hello: %w", eofIsCut(err))
	}
	var h struct {
		XMLName xml.Name
		Caps    []string `xml:"capabilities>capability"`
		ID      string   `xml:"session-id"`
	}
	if err := xml.Unmarshal(raw, &h); err != nil || h.XMLName.Local != "hello" {
		return fmt.Errorf("the device's hello cannot be read: %v", err)
	}
	for _, c := range h.Caps {
		n.caps = append(n.caps, strings.TrimSpace(c))
	}
	n.id = strings.TrimSpace(h.ID)
	if err := n.basicMode(); err != nil {
		return err
	}
	switch {
	case slices.Contains(n.caps, ncBase+"1.1"):
		n.u.chunked = true
	case !slices.Contains(n.caps, ncBase+"1.0"):
		return fmt.Errorf("the device speaks neither NETCONF 1.0 nor 1.1; its capabilities are: %s", strings.Join(n.caps, ", "))
	}
	return nil
}

// basicMode refuses a server that says another mode for defaults than its dialect
// (RFC 6243 §4.3): what the dialect takes for the same would not be.
func (n *netconf) basicMode() error {
	said := n.s.d.Grammar.Defaults
	for _, c := range n.caps {
		_, query, _ := strings.Cut(c, "?")
		if !strings.HasPrefix(c, capDefaults) || said == "" {
			continue
		}
		q, err := url.ParseQuery(query)
		if err != nil {
			return fmt.Errorf("the device's capability %q cannot be read: %v", c, err)
		}
		if mode := q.Get("basic-mode"); mode != said {
			return fmt.Errorf("the device treats defaults by mode %q (RFC 6243), and its dialect says %q: mend grammar.defaults", mode, said)
		}
	}
	return nil
}

// can tells whether the device has a capability, in whatever version.
func (n *conversation) can(capability string) bool {
	return slices.ContainsFunc(n.caps, func(c string) bool { return strings.HasPrefix(c, capability) })
}

// RPCError is one rpc-error (RFC 6241 §4.3).
type RPCError struct {
	Type     string `xml:"error-type"`
	Tag      string `xml:"error-tag"`
	Severity string `xml:"error-severity"`
	AppTag   string `xml:"error-app-tag"`
	Path     string `xml:"error-path"`
	Message  string `xml:"error-message"`
	Info     struct {
		Session string `xml:"session-id"`
		Inner   string `xml:",innerxml"`
	} `xml:"error-info"`
}

// Error says all that the device said.
func (e RPCError) Error() string {
	t := strings.TrimSpace
	out := t(e.Tag)
	if t(e.AppTag) != "" {
		out += "/" + t(e.AppTag)
	}
	if t(e.Type) != "" {
		out += " (" + t(e.Type) + ")"
	}
	if t(e.Message) != "" {
		out += ": " + t(e.Message)
	}
	if t(e.Path) != "" {
		out += "; at " + t(e.Path)
	}
	if inner := strings.Join(strings.Fields(e.Info.Inner), " "); inner != "" {
		out += "; " + cutTo(inner, 300)
	}
	return out
}

// rpc sends an operation and returns the whole reply. Errors of severity
// warning are passed on as warnings; others come back as *Refused. Some servers lose a
// request that comes together with the client's hello: a session's first request that only
// reads and gets no answer is asked once more, on a new session of the same connection.
func (n *netconf) rpc(content string) ([]byte, error) {
	raw, err := n.ask(content)
	var silent *TimeoutError
	if len(raw) > 0 || !errors.As(err, &silent) || n.message > 1 || n.anew || !strings.HasPrefix(content, "<get") {
		return raw, err
	}
	n.s.call.Warn("the device gave no answer to the first request of its session; it is asked again on a new one")
	n.close()
	again, failed := newNetconf(n.s, n.client)
	if failed != nil {
		return nil, errors.Join(err, failed)
	}
	n.conversation, n.anew = again.conversation, true
	return n.ask(content)
}

// ask sends an operation on this session; see rpc.
func (n *netconf) ask(content string) ([]byte, error) {
	if err := n.s.call.Guard(); err != nil {
		return nil, err
	}
	n.message++
	id := fmt.Sprint(n.message)
	msg := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><rpc xmlns="%s" message-id="%s">%s</rpc>`, ncNamespace, id, content)
	if _, err := n.in.Write(frame([]byte(msg), n.u.chunked)); err != nil {
		return nil, ErrCut
	}
	for {
		n.pr.first, n.pr.what = n.s.d.Answer, "waiting for the answer to an rpc"
		raw, err := n.u.next()
		if err != nil {
			n.gone = true
			return n.u.buf[:min(len(n.u.buf), most)], eofIsCut(err)
		}
		var r struct {
			XMLName xml.Name
			ID      string     `xml:"message-id,attr"`
			Errors  []RPCError `xml:"rpc-error"`
		}
		if err := xml.Unmarshal(raw, &r); err != nil {
			return raw, fmt.Errorf("the answer to an rpc is not well-formed: %w", err)
		}
		if r.XMLName.Local != "rpc-reply" || r.ID != "" && r.ID != id {
			continue // a notification (RFC 5277), or a late answer
		}
		var wrong []RPCError
		for _, e := range r.Errors {
			if strings.TrimSpace(e.Severity) == "warning" {
				n.s.call.Warn("the device warns: " + e.Error())
			} else {
				wrong = append(wrong, e)
			}
		}
		if wrong != nil {
			return raw, refused(wrong, n.userOf)
		}
		return raw, nil
	}
}

// userOf asks whose session it is (RFC 6022 §2.1.4); empty where the server does
// not say.
func (n *netconf) userOf(session string) string {
	if !slices.ContainsFunc(n.caps, func(c string) bool { return strings.HasPrefix(c, ncMonitoring) }) {
		return ""
	}
	raw, err := n.rpc(`<get><filter type="subtree"><netconf-state xmlns="` + ncMonitoring + `"><sessions><session><session-id>` + xmlText(session) +
		`</session-id><username/></session></sessions></netconf-state></filter></get>`)
	var reply struct {
		Sessions []struct {
			ID   string `xml:"session-id"`
			User string `xml:"username"`
		} `xml:"data>netconf-state>sessions>session"`
	}
	if err != nil || xml.Unmarshal(raw, &reply) != nil {
		return ""
	}
	for _, s := range reply.Sessions {
		if strings.TrimSpace(s.ID) == session {
			return strings.TrimSpace(s.User)
		}
	}
	return ""
}

// refused is what a reply's errors mean: the first decides, and all are told. userOf
// says whose a session is.
func refused(all []RPCError, userOf func(session string) string) error {
	e := all[0]
	r := &Refused{Means: "refused", Words: e.Error()}
	for _, more := range all[1:] {
		r.Words += " / " + more.Error()
	}
	switch strings.TrimSpace(e.Tag) {
	case "lock-denied", "in-use":
		r.Means, r.Holder = "held", strings.TrimSpace(e.Info.Session)
		who := describeHolder(r.Holder)
		if r.Holder != "" && r.Holder != "0" {
			if r.User = userOf(r.Holder); r.User != "" {
				who += " of " + r.User
			}
		}
		r.Words = "held by " + who + ": " + r.Words
	case "resource-denied":
		r.Means = "busy"
	}
	return r
}

func describeHolder(session string) string {
	switch session {
	case "":
		return "another session"
	case "0":
		return "somebody who does not use NETCONF"
	}
	return "NETCONF session " + session
}

func (n *netconf) read(what string, src *dialect.Source, flaw func(string) string) (string, error) {
	filter, err := n.s.expand(src.Filter)
	if err != nil {
		return "", err
	}
	state, err := n.s.expand(src.State)
	if err != nil {
		return "", err
	}
	subtree := func(f string) string {
		if f == "" {
			return ""
		}
		return `<filter type="subtree">` + f + `</filter>`
	}
	op := "<get>" + subtree(state) + "</get>"
	if src.Datastore != "" {
		op = "<get-config><source><" + src.Datastore + "/></source>" + subtree(filter) + "</get-config>"
	}
	raw, err := n.rpc(op)
	if err != nil {
		var refused *Refused
		if errors.As(err, &refused) {
			return "", err
		}
		return "", &Incomplete{what, why(err), string(raw[:min(len(raw), most)]), err}
	}
	// Prefixes may have been declared anywhere above; this resolves them.
	out, err := grammar.FormatXML(raw, "rpc-reply / data")
	if err == nil {
		if wrong := flaw(out); wrong != "" {
			err = errors.New(wrong)
		}
	}
	if err != nil {
		return "", &Incomplete{what, err.Error(), string(raw[:min(len(raw), most)]), nil}
	}
	return out, nil
}

// step does an rpc of the dialect's. What stands for a document there is XML, and
// goes as it is; all else is text.
func (n *netconf) step(st *dialect.Step) (string, error) {
	content, err := n.s.expandFor(st.RPC, func(name, v string) string {
		if name == "content" || name == "edit" {
			return v
		}
		return xmlText(v)
	})
	if err != nil {
		return "", err
	}
	raw, err := n.rpc(content)
	if err != nil {
		return string(raw), err
	}
	out, err := grammar.FormatXML(raw, "rpc-reply")
	return flat(out), err
}

func xmlText(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s))
	return b.String()
}

// target is the datastore that is written.
func (n *netconf) target() string {
	if n.s.d.Change.Target != "" {
		return n.s.d.Change.Target
	}
	if n.can(capCandid) {
		return "candidate"
	}
	return "running"
}

// instead does an operation as the dialect says, where it says so.
func (n *netconf) instead(operation, store string) (said bool, err error) {
	steps, said := n.s.d.Change.Instead[operation]
	if said {
		n.s.vars["target"] = store
		err = n.s.steps(steps)
	}
	return said, err
}

// operation does an operation as the dialect says, or by the standard's rpc.
func (n *netconf) operation(name, store, rpc string) error {
	if said, err := n.instead(name, store); said {
		return err
	}
	_, err := n.rpc(rpc)
	return err
}

// begin locks what will be written (RFC 6241 §7.5).
func (n *netconf) begin() error {
	if n.target() == "running" && !n.can(capWritable) && len(n.s.d.Change.Load) == 0 {
		return &Refused{Means: "refused", Words: "it offers neither a candidate nor a running datastore that can be written"}
	}
	stores := []string{"running"}
	if n.target() == "candidate" {
		stores = append(stores, "candidate")
	}
	for _, store := range stores {
		if slices.Contains(n.locked, store) || slices.Contains(n.s.d.Change.Without, "lock") {
			continue
		}
		if err := n.operation("lock", store, "<lock><target><"+store+"/></target></lock>"); err != nil {
			return fmt.Errorf("locking %s: %w", store, err)
		}
		n.locked = append(n.locked, store)
	}
	return nil
}

// around is what stands around a part in the datastore, and the path to it.
func (n *netconf) around(part string) (wrap, under string, err error) {
	p, _ := n.s.d.PartOf(part)
	if p == nil || p.Under == "" {
		return "", "", nil
	}
	if wrap, err = n.s.expand(p.Filter); err == nil {
		under, err = n.s.expand(p.Under)
	}
	return wrap, under, err
}

// remove takes a logical element out of the datastore that is written, and has that checked.
func (n *netconf) remove(c Change) error {
	wrap, under, err := n.around(c.Part)
	if err != nil {
		return err
	}
	config, err := grammar.Removal(wrap, under)
	if err != nil {
		return err
	}
	return n.edit(c, config)
}

// load lays a document into the datastore that is written, and has it checked.
func (n *netconf) load(c Change) error {
	wrap, under, err := n.around(c.Part)
	if err != nil {
		return err
	}
	doc, _ := n.s.d.Doc(c.Part).XML()
	raw, err := c.Content.whole("a document")
	if err != nil {
		return err
	}
	config, err := doc.Edit(string(raw), c.Current, wrap, under, c.Method == "merge")
	if err != nil {
		return err
	}
	return n.edit(c, config)
}

// edit changes the datastore that is written, and has it checked.
func (n *netconf) edit(c Change, config string) error {
	n.dirty = n.target() == "candidate"
	if steps := n.s.d.Change.Load; len(steps) > 0 {
		n.s.raw["edit"] = []byte(config)
		n.s.vars["target"] = n.target()
		defer delete(n.s.raw, "edit")
		if err := n.s.carry(c, steps); err != nil {
			return err
		}
		return n.validate()
	}
	options := "<default-operation>merge</default-operation>"
	if n.can(capRollback) {
		options += "<error-option>rollback-on-error</error-option>"
	}
	if _, err := n.rpc("<edit-config><target><" + n.target() + "/></target>" + options + "<config>" + config + "</config></edit-config>"); err != nil {
		return err
	}
	return n.validate()
}

// validates tells whether the device checks what was loaded before it is committed.
func (n *netconf) validates() bool {
	_, instead := n.s.d.Change.Instead["validate"]
	return n.target() == "candidate" && (n.can(capValidate) || instead) && !slices.Contains(n.s.d.Change.Without, "validate")
}

// validate has the device check what was loaded (RFC 6241 §8.6).
func (n *netconf) validate() error {
	if !n.validates() {
		return nil
	}
	if err := n.operation("validate", "candidate", "<validate><source><candidate/></source></validate>"); err != nil {
		return fmt.Errorf("the device finds the document wrong: %w", err)
	}
	return nil
}

// commit makes what was loaded run: for good, or (RFC 6241 §8.4) until within is
// over, unless it is confirmed by its token, from whatever session.
func (n *netconf) commit(within time.Duration, token string) error {
	if n.target() != "candidate" {
		return nil
	}
	op := "<commit/>"
	if within > 0 {
		op = fmt.Sprintf("<commit><confirmed/><confirm-timeout>%d</confirm-timeout><persist>%s</persist></commit>", int(math.Ceil(within.Seconds())), xmlText(token))
	}
	var err error
	if within > 0 {
		_, err = n.rpc(op)
	} else {
		err = n.operation("commit", "candidate", op)
	}
	if err == nil {
		n.dirty = false
	}
	return err
}

// finish throws away what was not committed and lets go of the locks.
func (n *netconf) finish() error {
	var first error
	if n.dirty {
		_, first = n.rpc("<discard-changes/>")
		n.dirty = false
	}
	for ; len(n.locked) > 0; n.locked = n.locked[:len(n.locked)-1] {
		store := n.locked[len(n.locked)-1]
		if err := n.operation("unlock", store, "<unlock><target><"+store+"/></target></unlock>"); err != nil && first == nil {
			first = err
		}
	}
	return first
}

func (n *netconf) save() (string, error) {
	if _, err := n.rpc("<copy-config><target><startup/></target><source><running/></source></copy-config>"); err != nil {
		return "", err
	}
	return "running copied to startup", nil
}

func (n *netconf) close() {
	if !n.gone && n.s.ctx.Err() == nil && n.caps != nil {
		ctx, cancel := context.WithTimeout(n.s.ctx, 2*time.Second)
		n.p.ctx = ctx
		if n.finish() == nil {
			_, _ = n.rpc("<close-session/>")
		}
		cancel()
	}
	n.p.stop()
	n.ch.Close()
}
