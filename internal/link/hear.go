package link

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
	"time"

	"magpie/internal/dialect"
)

const (
	capNotification = "urn:ietf:params:netconf:capability:notification:1.0"
	nsNotification  = "urn:ietf:params:xml:ns:netconf:notification:1.0"
	nsChanges       = "urn:ietf:params:xml:ns:yang:ietf-netconf-notifications"
)

// ErrNoNotifications is returned when a device does not offer what Hear asks for.
var ErrNoNotifications = errors.New("the device offers no notifications (RFC 5277)")

// proof is how often a session that only hears is asked whether it still stands.
const proof = time.Minute

// Hear opens a NETCONF session that is only for hearing, and tells of each change of the
// device's configuration who made it (netconf-config-change, RFC 6470 §2.2), or "" where it
// does not say, until ctx ends or the session breaks. ready is called once the device has
// agreed to tell (RFC 5277 §2.1).
func Hear(ctx context.Context, call Call, ready func(), heard func(user string)) error {
	d := call.Dialect.For(dialect.Netconf, "", "")
	way, ok := d.Way(dialect.Netconf)
	if !ok {
		return fmt.Errorf("dialect %s does not speak %s", d.Dialect, dialect.Netconf)
	}
	if call.Target.Port == 0 {
		call.Target.Port = way.Port
	}
	if call.Warn == nil {
		call.Warn = func(string) {}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	client, stop, err := signIn(ctx, d.Reach.Legacy, d.Connect, call.Target, call.Credential, call.Warn)
	if err != nil {
		return err
	}
	defer stop()
	defer client.Close()
	s := &Session{call: call, d: d, ctx: ctx, cancel: cancel, client: client, raw: map[string][]byte{}}
	n, err := newNetconf(s, client)
	if err != nil {
		return err
	}
	defer n.close()
	if !n.can(capNotification) {
		return ErrNoNotifications
	}
	_, err = n.rpc(`<create-subscription xmlns="` + nsNotification + `"><filter type="subtree"><netconf-config-change xmlns="` + nsChanges + `"/></filter></create-subscription>`)
	if err != nil {
		return fmt.Errorf("asking to be told of changes: %w", err)
	}
	ready()
	n.gone = true // it is not asked to end: some devices answer nothing else on such a session
	go func() {
		tick := time.NewTicker(proof)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				client.Close()
				return
			case <-tick.C:
			}
			if _, _, err := client.SendRequest("keepalive@openssh.com", true, nil); err != nil {
				client.Close()
				return
			}
		}
	}()
	for {
		n.pr.first, n.pr.what = 365*24*time.Hour, "waiting for a notification"
		raw, err := n.u.next()
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return eofIsCut(err)
		}
		if user, ok := changedBy(raw); ok {
			heard(user)
		}
	}
}

// changedBy tells whether a message is a notification of a changed configuration, and by whom
// it was changed: a user, or "" where the server did it itself.
func changedBy(raw []byte) (user string, ok bool) {
	var m struct {
		XMLName xml.Name
		Change  *struct {
			User string `xml:"changed-by>username"`
		} `xml:"urn:ietf:params:xml:ns:yang:ietf-netconf-notifications netconf-config-change"`
	}
	if err := xml.Unmarshal(raw, &m); err != nil || m.XMLName.Local != "notification" || m.XMLName.Space != nsNotification || m.Change == nil {
		return "", false
	}
	return strings.TrimSpace(m.Change.User), true
}
