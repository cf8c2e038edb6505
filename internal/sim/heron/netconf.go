package heron

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// peer is one NETCONF session.
type peer struct {
	d       *Device
	s       gssh.Session
	ctx     context.Context
	framing box.Framing
	id      int
	writing sync.Mutex
}

func (d *Device) netconf(s gssh.Session) {
	ctx, cancel := context.WithCancel(s.Context())
	defer cancel()
	defer d.Enter(func() { s.Close() })()
	d.Lock()
	d.next++
	p := &peer{d: d, s: s, ctx: ctx, framing: box.Framing{In: bufio.NewReader(s), Chunk: d.style.chunk}, id: d.next}
	d.live[p.id] = session{s.User(), func() { s.Close() }}
	old := d.style.old
	d.Unlock()
	defer p.end()
	caps := []string{"urn:ietf:params:netconf:capability:startup:1.0", "urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:capability:candidate:1.0",
		"urn:ietf:params:netconf:capability:confirmed-commit:1.1", "urn:ietf:params:netconf:capability:validate:1.1", "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
		"urn:ietf:params:netconf:capability:notification:1.0", "urn:ietf:params:netconf:capability:interleave:1.0"}
	if !old {
		caps = append([]string{"urn:ietf:params:netconf:base:1.1"}, caps...)
	}
	for _, k := range known[1:] {
		caps = append(caps, k+"?module=x&revision=2018-01-01")
	}
	var hello strings.Builder
	fmt.Fprintf(&hello, "<hello xmlns=%q><capabilities>", nsNetconf)
	for _, c := range caps {
		hello.WriteString("<capability>\n  ")
		_ = xml.EscapeText(&hello, []byte(c))
		hello.WriteString("\n</capability>")
	}
	fmt.Fprintf(&hello, "</capabilities><session-id>%d</session-id></hello>]]>]]>", p.id)
	if _, err := io.WriteString(s, hello.String()); err != nil {
		return
	}
	raw, err := p.framing.Read()
	if err != nil {
		return
	}
	p.framing.Chunked = !old && bytes.Contains(raw, []byte("base:1.1"))
	for {
		raw, err := p.framing.Read()
		if err != nil {
			return
		}
		top, err := parse(raw)
		if err != nil || len(top.Kids) != 1 || top.Kids[0].Name != "rpc" {
			p.reply("", fault{"rpc", "malformed-message", "", "not an rpc", ""})
			return
		}
		rpc := top.Kids[0]
		id := ""
		var op *node
		for _, k := range rpc.Kids {
			if k.Name == "@message-id" {
				id = k.Text
			} else {
				op = k
			}
		}
		if op == nil {
			p.reply(id, fault{"rpc", "missing-element", "", "an rpc without an operation", ""})
			continue
		}
		if d.Wait(ctx, op.Name) != nil {
			return
		}
		data, err := p.do(op)
		if ctx.Err() != nil || errors.Is(err, context.Canceled) {
			return
		}
		if err != nil {
			p.reply(id, err)
		} else if data != nil {
			if p.show(id, data) != nil {
				s.Close()
				return
			}
		} else {
			p.reply(id, nil)
		}
		if op.Name == "close-session" {
			return
		}
	}
}

// end lets go of what the session held.
func (p *peer) end() {
	d := p.d
	d.Lock()
	delete(d.live, p.id)
	delete(d.hearers, p.id)
	for store, id := range d.locks {
		if id == p.id {
			delete(d.locks, store)
			if store == "candidate" {
				d.cand = d.running.clone()
			}
		}
	}
	back := d.rollback != nil && d.owner == p.id && d.persist == ""
	d.Unlock()
	if back {
		d.goBack()
	}
}

// envelope is a reply's outer element, as the unit's style has it.
func (p *peer) envelope(id, inner string) []byte {
	s := p.d.style
	attr := ""
	if id != "" {
		attr = fmt.Sprintf(" message-id=%q", id)
	}
	if s.prefixes {
		n := s.prefix(nsNetconf)
		return []byte(fmt.Sprintf("<?xml version='1.0'?>\n<%s:rpc-reply%s%s>%s</%[1]s:rpc-reply>", n, s.declarations(), attr, inner))
	}
	return []byte(fmt.Sprintf("<rpc-reply xmlns=%q%s>%s</rpc-reply>", nsNetconf, attr, inner))
}

func (p *peer) say(msg []byte) {
	p.writing.Lock()
	defer p.writing.Unlock()
	_, _ = p.s.Write(p.framing.Frame(msg))
}

// tell sends whoever subscribed that a datastore was changed (RFC 6470 §2.2), and by whom. The
// device is locked.
func (d *Device) tell(store, user string, session int) {
	by := "<server/>"
	if user != "" {
		by = fmt.Sprintf("<username>%s</username><session-id>%d</session-id>", user, session)
	}
	msg := fmt.Sprintf(`<notification xmlns="urn:ietf:params:xml:ns:netconf:notification:1.0"><eventTime>%s</eventTime>`+
		`<netconf-config-change xmlns="urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"><changed-by>%s</changed-by><datastore>%s</datastore></netconf-config-change></notification>`,
		time.Now().UTC().Format(time.RFC3339), by, store)
	for _, p := range d.hearers {
		go p.say([]byte(msg))
	}
}

func (p *peer) reply(id string, err error) {
	n := ""
	if p.d.style.prefixes {
		n = p.d.style.prefix(nsNetconf) + ":"
	}
	if err == nil {
		p.say(p.envelope(id, "<"+n+"ok/>"))
		return
	}
	var f fault
	if !errors.As(err, &f) {
		f = fault{"application", "operation-failed", "", err.Error(), ""}
	}
	el := func(name, v string) string {
		if v == "" {
			return ""
		}
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(v))
		return "<" + n + name + ">" + b.String() + "</" + n + name + ">"
	}
	inner := el("error-type", f.kind) + el("error-tag", f.tag) + el("error-severity", "error") + el("error-path", f.path) + el("error-message", f.message)
	if f.info != "" {
		info := f.info
		if n != "" {
			info = strings.NewReplacer("</", "</"+n, "<", "<"+n).Replace(info)
		}
		inner += "<" + n + "error-info>" + info + "</" + n + "error-info>"
	}
	p.say(p.envelope(id, "<"+n+"rpc-error>"+inner+"</"+n+"rpc-error>"))
}

// show answers with data, with the faults in force.
func (p *peer) show(id string, data *node) error {
	var b strings.Builder
	s := p.d.style
	n := ""
	if s.prefixes {
		n = s.prefix(nsNetconf) + ":"
	}
	b.WriteString("<" + n + "data>")
	data.print(&b, s, nsNetconf, 1)
	b.WriteString("</" + n + "data>")
	return p.d.Show(p.ctx, p.s, p.framing.Frame(p.envelope(id, b.String())), "<x>")
}

func (p *peer) store(op *node, side string) (string, *node, error) {
	at := op.kid(side)
	if at == nil || len(at.Kids) == 0 {
		return "", nil, fault{"protocol", "missing-element", "", side + " is missing", "<bad-element>" + side + "</bad-element>"}
	}
	switch name := at.Kids[0].Name; name {
	case "running":
		return name, p.d.running, nil
	case "startup":
		return name, p.d.startup, nil
	case "candidate":
		return name, p.d.cand, nil
	case "config":
		c := at.Kids[0].clone()
		c.strip()
		return name, c, nil
	default:
		return "", nil, fault{"protocol", "invalid-value", "", name + " is no datastore here", ""}
	}
}

// free tells whether a datastore may be written by this session.
func (p *peer) free(store string) error {
	f := p.d.faults()
	if f.HeldBy != "" {
		return fault{"protocol", "in-use", "", store + " is locked by " + f.HeldBy, "<session-id>0</session-id>"}
	}
	if id, held := p.d.locks[store]; held && id != p.id {
		return fault{"protocol", "in-use", "", store + " is locked", fmt.Sprintf("<session-id>%d</session-id>", id)}
	}
	return nil
}

func (d *Device) faults() box.Faults { return d.Common("").Faults }

// do does one operation. A node returned is data to be shown.
func (p *peer) do(op *node) (*node, error) {
	d := p.d
	changes := map[string]bool{"edit-config": true, "commit": true, "copy-config": true}
	if changes[op.Name] {
		if d.Busy() {
			return nil, fault{"protocol", "resource-denied", "", "busy, again in a while", ""}
		}
		var out *node
		err := d.Apply(p.ctx, func() (err error) {
			out, err = p.locked(op)
			return err
		})
		if errors.Is(err, box.ErrRefused) {
			err = fault{"application", "operation-not-supported", "", err.Error(), ""}
		}
		return out, err
	}
	return p.locked(op)
}

func (p *peer) locked(op *node) (*node, error) {
	d := p.d
	d.Lock()
	defer d.Unlock()
	switch op.Name {
	case "get-config", "get":
		var top *node
		if op.Name == "get" {
			top = d.state()
		} else {
			var err error
			if _, top, err = p.store(op, "source"); err != nil {
				return nil, err
			}
		}
		top = top.clone()
		if d.faults().Weak {
			if sys := top.at("system"); sys != nil {
				_ = edit(sys, &node{Kids: []*node{{Space: nsSystem, Name: "authentication", Op: "remove"}}}, "merge", "")
			}
		}
		if f := op.kid("filter"); f != nil {
			top = filter(top, f)
		}
		return top, nil
	case "lock":
		name, _, err := p.store(op, "target")
		if err != nil {
			return nil, err
		}
		if f := d.faults(); f.HeldBy != "" {
			return nil, fault{"protocol", "lock-denied", "", name + " is locked by " + f.HeldBy, "<session-id>0</session-id>"}
		}
		if id, held := d.locks[name]; held {
			return nil, fault{"protocol", "lock-denied", "", name + " is locked already", fmt.Sprintf("<session-id>%d</session-id>", id)}
		}
		if name == "candidate" && text(d.cand) != text(d.running) { // RFC 6241 §7.5
			return nil, fault{"protocol", "lock-denied", "", "the candidate holds changes that were not committed", "<session-id>0</session-id>"}
		}
		d.locks[name] = p.id
	case "unlock":
		name, _, err := p.store(op, "target")
		if err != nil {
			return nil, err
		}
		if d.locks[name] != p.id {
			return nil, fault{"protocol", "operation-failed", "", name + " is not locked by this session", ""}
		}
		delete(d.locks, name)
		if name == "candidate" {
			d.cand = d.running.clone()
		}
	case "edit-config":
		name, store, err := p.store(op, "target")
		if err != nil {
			return nil, err
		}
		if name != "candidate" {
			return nil, fault{"protocol", "operation-not-supported", "", name + " cannot be edited; edit the candidate", ""}
		}
		if err := p.free(name); err != nil {
			return nil, err
		}
		how := "merge"
		if d := op.kid("default-operation"); d != nil {
			how = d.Text
		}
		config := op.kid("config")
		if config == nil {
			return nil, fault{"protocol", "missing-element", "", "config is missing", "<bad-element>config</bad-element>"}
		}
		next := store.clone()
		if how == "replace" {
			next, how = &node{}, "merge"
		}
		if err := edit(next, config, how, ""); err != nil {
			return nil, err
		}
		d.cand = next
	case "validate":
		_, store, err := p.store(op, "source")
		if err != nil {
			return nil, err
		}
		return nil, validate(store)
	case "discard-changes":
		d.cand = d.running.clone()
	case "commit":
		return nil, p.commit(op)
	case "cancel-commit":
		if d.rollback == nil {
			return nil, fault{"protocol", "operation-failed", "", "no confirmed commit is waiting", ""}
		}
		if id := op.kid("persist-id"); d.persist != "" && (id == nil || id.Text != d.persist) {
			return nil, fault{"protocol", "invalid-value", "", "the persist-id is not that of the confirmed commit", ""}
		}
		d.rollback.Stop()
		d.rollback = nil
		d.running, d.cand = d.before, d.before.clone()
	case "copy-config":
		name, _, err := p.store(op, "target")
		if err != nil {
			return nil, err
		}
		_, from, err := p.store(op, "source")
		if err != nil {
			return nil, err
		}
		if err := p.free(name); err != nil {
			return nil, err
		}
		switch name {
		case "startup":
			if d.faults().FullDisk || d.faults().RefuseStow {
				return nil, fault{"application", "operation-failed", "", "the disk is full", ""}
			}
			d.startup = from.clone()
			d.tell("startup", p.s.User(), p.id)
		case "candidate":
			d.cand = from.clone()
		default:
			return nil, fault{"protocol", "operation-not-supported", "", name + " cannot be written", ""}
		}
	case "kill-session":
		id, _ := strconv.Atoi(op.at("session-id").Text)
		s, ok := d.live[id]
		if !ok {
			return nil, fault{"protocol", "invalid-value", "", "there is no such session", ""}
		}
		for store, holder := range d.locks {
			if holder == id {
				delete(d.locks, store)
			}
		}
		d.cand = d.running.clone()
		go s.end()
	case "create-subscription":
		if s := op.kid("stream"); s != nil && s.Text != "NETCONF" {
			return nil, fault{"protocol", "invalid-value", "", "there is no stream " + s.Text, ""}
		}
		if d.hearers[p.id] != nil {
			return nil, fault{"protocol", "operation-failed", "", "this session is subscribed already", ""}
		}
		d.hearers[p.id] = p
	case "close-session":
	default:
		return nil, fault{"protocol", "operation-not-supported", "", op.Name + " is not known here", "<bad-element>" + op.Name + "</bad-element>"}
	}
	return nil, nil
}

func (p *peer) commit(op *node) error {
	d := p.d
	if err := p.free("running"); err != nil {
		return err
	}
	if id := op.kid("persist-id"); d.rollback != nil && op.kid("confirmed") == nil {
		if d.persist != "" && (id == nil || id.Text != d.persist) {
			return fault{"protocol", "invalid-value", "", "the persist-id is not that of the confirmed commit", ""}
		}
		d.rollback.Stop()
		d.rollback = nil
	}
	if err := validate(d.cand); err != nil {
		return err
	}
	if op.kid("confirmed") != nil {
		seconds := 600
		if t := op.kid("confirm-timeout"); t != nil {
			seconds, _ = strconv.Atoi(t.Text)
		}
		if d.rollback != nil {
			d.rollback.Stop()
		} else {
			d.before = d.running.clone()
		}
		d.persist, d.owner = "", p.id
		if k := op.kid("persist"); k != nil {
			d.persist = k.Text
		}
		d.rollback = time.AfterFunc(time.Duration(seconds)*time.Second, d.goBack)
	}
	d.running, d.factory = d.cand.clone(), false
	d.tell("running", p.s.User(), p.id)
	return nil
}

// goBack undoes a confirmed commit that nobody confirmed.
func (d *Device) goBack() {
	d.Lock()
	if d.rollback == nil {
		d.Unlock()
		return
	}
	d.rollback.Stop()
	d.rollback = nil
	d.running, d.cand = d.before, d.before.clone()
	d.tell("running", "", 0)
	d.Unlock()
	d.Env.Changed()
}
