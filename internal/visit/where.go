package visit

import (
	"context"
	"fmt"
	"net"
	"strconv"

	"magpie/internal/link"
)

// GoTo makes a visit go where a unit is for now. accept is the fingerprint of
// the key that a person accepted for it.
func (v *Visit) GoTo(w Where, accept string) *Visit {
	v.Where, v.accept = w, accept
	return v
}

// aim is where a visit goes.
func (v *Visit) aim(t link.Target) (link.Target, error) {
	if v.Where.Address != "" {
		host, port, err := net.SplitHostPort(v.Where.Address)
		if err != nil {
			host, port = v.Where.Address, ""
		}
		t.Address, t.HostKey = host, ""
		if n, err := strconv.Atoi(port); err == nil {
			t.Port = n
		}
	}
	if v.Where.Relay != "" {
		dial, err := v.s.relay(v.Where.Relay, v.Device.ID)
		if err != nil {
			return t, fmt.Errorf("%w: %w", link.ErrUnreachable, err)
		}
		t.Dial, t.Through = dial, nil
	}
	if v.Where.Key != "" {
		t.HostKey = v.Where.Key
	} else if v.accept != "" && v.accept != link.Fingerprint(v.Speaker.HostKey) {
		t.HostKey = "" // it is looked at, once it is clear that it may be
	}
	return t, nil
}

// transport is what a target is spoken to over.
func (v *Visit) transport(t link.Target) string {
	if t.Transport != "" {
		return t.Transport
	}
	return v.Dialect.Reach.Transport
}

// keyed gives a target the key that is accepted there.
func (v *Visit) keyed(ctx context.Context, t link.Target) (link.Target, error) {
	switch {
	case !link.Shows(v.transport(t)):
	case v.Where.Key != "":
		t.HostKey = v.Where.Key
	case v.accept != "":
		key, shown, err := link.Probe(ctx, t, v.Dialect.Connect)
		if err != nil {
			return t, err
		}
		if shown != v.accept {
			return t, &link.HostKeyError{Accepted: v.accept, Shown: shown, Key: key}
		}
		t.HostKey, v.Where.Key = key, key
	}
	return t, nil
}

// Words is what the audit log has of it.
func (w Where) Words() (said string) {
	if w.Address != "" {
		said += ", at " + w.Address
	}
	if w.Relay != "" {
		said += ", through relay " + w.Relay
	}
	if w.Key != "" {
		said += ", to the key " + link.Fingerprint(w.Key)
	}
	return said
}

// Elsewhere tells whether a visit goes to another address than the device's.
func (w Where) Elsewhere() bool { return w.Address != "" || w.Relay != "" }
