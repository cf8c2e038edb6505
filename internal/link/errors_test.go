package link

import (
	"errors"
	"testing"
)

// TestAllErrorsOfAReply: a reply may hold several errors (RFC 6241 §4.3); the first says
// what kind of no it is, and all are told.
func TestAllErrorsOfAReply(t *testing.T) {
	var r *Refused
	err := refused([]RPCError{{Tag: "invalid-value", Message: "mtu is 64 or more", Path: "/interfaces/a"}, {Tag: "missing-element", Message: "no address"}}, nil)
	if !errors.As(err, &r) || r.Means != "refused" || r.Words != "invalid-value: mtu is 64 or more; at /interfaces/a / missing-element: no address" {
		t.Errorf("%+v", r)
	}
	locked := RPCError{Tag: "lock-denied"}
	locked.Info.Session = "7"
	if err := refused([]RPCError{locked, {Tag: "invalid-value"}}, func(string) string { return "mwilks" }); !errors.As(err, &r) || r.Means != "held" || r.Holder != "7" || r.User != "mwilks" || r.Words != "held by NETCONF session 7 of mwilks: lock-denied / invalid-value" {
		t.Errorf("%+v", r)
	}
}
