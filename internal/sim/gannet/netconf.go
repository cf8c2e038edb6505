package gannet

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	gssh "github.com/gliderlabs/ssh"

	"magpie/internal/sim/box"
)

// peer is one NETCONF session.
type peer struct {
	d         *Device
	s         gssh.Session
	ctx       context.Context
	framing   box.Framing
	id        int
	validated bool
}

func (d *Device) serve(s gssh.Session) {
	ctx, cancel := context.WithCancel(s.Context())
	defer cancel()
	defer d.Enter(func() { s.Close() })()
	d.Lock()
	d.next++
	p := &peer{d: d, s: s, ctx: ctx, framing: box.Framing{In: bufio.NewReader(s), Chunk: 900}, id: d.next}
	d.users[p.id] = s.User()
	d.Unlock()
	defer p.end()
	caps := []string{"urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:base:1.1", "urn:ietf:params:netconf:capability:candidate:1.0", nsMonitor + "?module=ietf-netconf-monitoring&revision=2010-10-04", "urn:ietf:params:netconf:capability:with-defaults:1.0?basic-mode=trim", nsMast + "?module=brindle-mast&revision=2026-03-01"}
	if d.old() {
		caps = append(caps, "urn:ietf:params:netconf:capability:validate:1.1", "urn:ietf:params:netconf:capability:startup:1.0", "urn:ietf:params:netconf:capability:confirmed-commit:1.1")
	}
	hello := "<hello xmlns=\"" + nsNetconf + "\"><capabilities>"
	for _, c := range caps {
		hello += "<capability>" + strings.ReplaceAll(c, "&", "&amp;") + "</capability>"
	}
	if _, err := io.WriteString(s, fmt.Sprintf("%s</capabilities><session-id>%d</session-id></hello>]]>]]>", hello, p.id)); err != nil {
		return
	}
	raw, err := p.framing.Read()
	if err != nil {
		return
	}
	p.framing.Chunked = bytes.Contains(raw, []byte("base:1.1"))
	first := true
	for {
		raw, err := p.framing.Read()
		if err != nil {
			return
		}
		top, err := parse(raw)
		if err != nil || len(top.kids) != 1 || top.kids[0].name.Local != "rpc" {
			return
		}
		if first && d.DropsFirst() {
			first = false
			continue
		}
		first = false
		id := top.kids[0].says("@id")
		i := slices.IndexFunc(top.kids[0].kids, func(e *element) bool { return !strings.HasPrefix(e.name.Local, "@") })
		if i < 0 || d.Wait(ctx, top.kids[0].kids[i].name.Local) != nil {
			return
		}
		op := top.kids[0].kids[i]
		out, err := p.do(op)
		if ctx.Err() != nil || errors.Is(err, context.Canceled) || p.answer(id, out, err) != nil || op.name.Local == "close-session" {
			return
		}
	}
}

// end lets go of what the session held.
func (p *peer) end() {
	p.d.Lock()
	defer p.d.Unlock()
	delete(p.d.users, p.id)
	for store, id := range p.d.locks {
		if id == p.id {
			delete(p.d.locks, store)
		}
	}
	if p.d.held == p.id {
		p.d.held, p.d.cand = 0, p.d.running.clone()
	}
}

// answer writes a reply: data, ok, or all that was wrong.
func (p *peer) answer(id, data string, err error) error {
	inner := data
	if data == "" {
		inner = "<ok/>"
	}
	if err != nil {
		var all faults
		var one fault
		if errors.As(err, &one) {
			all = faults{one}
		} else if !errors.As(err, &all) {
			all = faults{{"operation-failed", "", err.Error(), ""}}
		}
		inner = ""
		for _, f := range all {
			info := ""
			if f.session != "" {
				info = "<error-info><session-id>" + f.session + "</session-id></error-info>"
			}
			var m strings.Builder
			_ = xml.EscapeText(&m, []byte(f.message))
			inner += "<rpc-error><error-type>application</error-type><error-tag>" + f.tag + "</error-tag><error-severity>error</error-severity><error-path>" + f.path + "</error-path><error-message>" + m.String() + "</error-message>" + info + "</rpc-error>"
		}
	}
	msg := fmt.Sprintf("<rpc-reply xmlns=%q%s message-id=%q>%s</rpc-reply>", nsNetconf, p.d.prefixes.declared(), id, inner)
	return p.d.Show(p.ctx, p.s, p.framing.Frame([]byte(msg)), "<x>")
}

func (p *peer) store(op *element, side string) (string, *data, error) {
	at := op.kid(side)
	if at == nil || len(at.kids) == 0 {
		return "", nil, fault{"missing-element", "", side + " is missing", ""}
	}
	switch name := at.kids[0].name.Local; {
	case name == "running":
		return name, p.d.running, nil
	case name == "candidate":
		return name, p.d.cand, nil
	case name == "startup" && p.d.old():
		return name, p.d.startup, nil
	default:
		return "", nil, fault{"invalid-value", "", name + " is no datastore here", ""}
	}
}

// do does one operation. Text returned is data to be shown.
func (p *peer) do(op *element) (out string, err error) {
	if !slices.Contains([]string{"edit-config", "commit", "commit-for", "copy-config", "keep-all"}, op.name.Local) {
		return p.locked(op)
	}
	err = p.d.Apply(p.ctx, func() (err error) {
		out, err = p.locked(op)
		return err
	})
	return out, err
}

func (p *peer) locked(op *element) (string, error) {
	d := p.d
	d.Lock()
	defer d.Unlock()
	unknown := fault{"operation-not-supported", "", op.name.Local + " is not known here", ""}
	holder := func(id int) error {
		return fault{"lock-denied", "", "it is held", strconv.Itoa(id)}
	}
	if own := slices.Contains([]string{"hold", "let-go", "commit-for", "keep-commit", "go-back", "keep-all"}, op.name.Local); own && (d.old() || op.name.Space != nsMast) {
		return "", unknown
	}
	switch op.name.Local {
	case "get-config":
		_, from, err := p.store(op, "source")
		if err != nil {
			return "", err
		}
		if f := op.kid("filter"); f != nil {
			from = from.pick(f)
		}
		var b strings.Builder
		from.print(&b, d.prefixes)
		return "<data>" + b.String() + "</data>", nil
	case "get":
		var b strings.Builder
		fmt.Fprintf(&b, `<data><unit xmlns="urn:brindle:unit"><serial>%s</serial><model>%s</model><release>%s</release><called>%s</called>`, d.Serial, d.Model, d.Release, d.running.kid("mast").kid("name").value)
		if d.factory {
			b.WriteString("<as>made</as>")
		}
		b.WriteString(`</unit><netconf-state xmlns="` + nsMonitor + `"><schemas><schema><identifier>brindle-mast</identifier><version>2026-03-01</version><format>yang</format><namespace>` + nsMast + `</namespace></schema></schemas><sessions>`)
		for id, user := range d.users {
			fmt.Fprintf(&b, "<session><session-id>%d</session-id><username>%s</username></session>", id, user)
		}
		b.WriteString("</sessions></netconf-state></data>")
		return b.String(), nil
	case "get-schema":
		if op.says("identifier") != "brindle-mast" {
			return "", fault{"invalid-value", "", "there is no such schema", ""}
		}
		var b strings.Builder
		b.WriteString(`<data xmlns="` + nsMonitor + `">`)
		_ = xml.EscapeText(&b, []byte(Module))
		return b.String() + "</data>", nil
	case "lock", "unlock":
		if !d.old() {
			return "", unknown
		}
		name, _, err := p.store(op, "target")
		if err != nil {
			return "", err
		}
		if id := d.locks[name]; id != 0 && id != p.id {
			return "", holder(id)
		}
		d.locks[name] = p.id
		if op.name.Local == "unlock" {
			delete(d.locks, name)
		}
	case "hold":
		if d.held != 0 && d.held != p.id {
			return "", holder(d.held)
		}
		d.held = p.id
	case "let-go":
		d.held = 0
	case "edit-config":
		name, into, err := p.store(op, "target")
		if err != nil {
			return "", err
		}
		config := op.kid("config")
		switch {
		case name != "candidate" || config == nil:
			return "", fault{"operation-not-supported", "", "the candidate is edited, by a config", ""}
		case !d.old() && d.held != p.id:
			return "", fault{"operation-not-supported", "", "hold the configuration before you edit it", ""}
		}
		next := into.clone()
		if wrong := edit(next, config, "merge", ""); len(wrong) > 0 {
			return "", wrong
		}
		d.cand, p.validated = next, false
	case "validate":
		if !d.old() {
			return "", unknown
		}
		p.validated = true
		if wrong := validate(d.cand); len(wrong) > 0 {
			return "", wrong
		}
	case "discard-changes":
		d.cand = d.running.clone()
	case "commit":
		if p.validated { // its habit
			p.validated = false
			return "", nil
		}
		return "", p.commit(op.kid("confirmed") != nil, op.says("confirm-timeout"))
	case "commit-for":
		return "", p.commit(true, op.says("seconds"))
	case "keep-commit":
		if d.back == nil {
			return "", fault{"operation-failed", "", "no commit is waiting to be kept", ""}
		}
		d.back.Stop()
		d.back = nil
	case "go-back", "cancel-commit":
		if d.back == nil {
			return "", fault{"operation-failed", "", "no commit is waiting to be kept", ""}
		}
		d.back.Stop()
		d.back = nil
		d.running, d.cand = d.before, d.before.clone()
	case "keep-all":
		d.startup = d.running.clone()
	case "copy-config":
		name, _, err := p.store(op, "target")
		if err != nil {
			return "", err
		}
		if name != "startup" {
			return "", unknown
		}
		d.startup = d.running.clone()
	case "kill-session", "close-session":
	default:
		return "", unknown
	}
	return "", nil
}

// commit has the candidate run: for good, or for so many seconds unless it is kept.
func (p *peer) commit(for_ bool, seconds string) error {
	d := p.d
	if wrong := validate(d.cand); len(wrong) > 0 {
		return wrong
	}
	if d.back != nil {
		d.back.Stop()
	}
	if for_ {
		n, err := strconv.Atoi(seconds)
		if err != nil {
			return fault{"invalid-value", "", "for how many seconds?", ""}
		}
		if d.back == nil {
			d.before = d.running
		}
		d.back = time.AfterFunc(time.Duration(n)*time.Second, d.goBack)
	} else {
		d.back = nil
	}
	d.running, d.factory = d.cand.clone(), false
	return nil
}
