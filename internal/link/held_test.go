package link_test

import (
	"errors"
	"strings"
	"testing"

	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/tern"
)

// TestHeld: a session that holds a device is named; it is ended when it is one
// of ours that was left behind, or when a person asked for it, and never else.
func TestHeld(t *testing.T) {
	for _, f := range []struct {
		family string
		stand  func(t *testing.T) (*dialect.Dialect, link.Target, link.Credential, func(box.Faults))
	}{
		{"tern", func(t *testing.T) (*dialect.Dialect, link.Target, link.Credential, func(box.Faults)) {
			d, target := unit(t, mangler{}, "crew okonkwo", "  rank master", "  word sealed "+tern.Sealed("w"))
			return ternDialect(t), target, link.Credential{User: "okonkwo", Password: "w", Privileged: "mast"}, d.SetFaults
		}},
		{"heron", func(t *testing.T) (*dialect.Dialect, link.Target, link.Credential, func(box.Faults)) {
			d, target := newHeron(t, 1)
			return shipped(t, "heron"), target, link.Credential{User: "okonkwo", Password: "w"}, d.SetFaults
		}},
	} {
		t.Run(f.family, func(t *testing.T) {
			dia, target, other, faults := f.stand(t)
			begin := func(call link.Call) (*link.Session, error) {
				t.Helper()
				call.Dialect, call.Target = dia, target
				s, err := open(t, call)
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(s.Close)
				if _, err := s.Identity(); err != nil {
					t.Fatal(err)
				}
				return s, s.Begin()
			}
			mine := ""
			if _, err := begin(link.Call{Began: func(s string) error { mine = s; return nil }}); err != nil || mine == "" {
				t.Fatalf("%v; the device's name for the session is %q", err, mine)
			}
			var r *link.Refused
			asked := ""
			_, err := begin(link.Call{Ours: func(s string) bool { asked = s; return false }})
			if !errors.As(err, &r) || r.Means != "held" || r.Holder != mine || asked != mine {
				t.Fatalf("held by %q: %v (asked about %q)", mine, err, asked)
			}
			// The same name, but somebody else's: names come again after a restart.
			theirs := ""
			_, err = begin(link.Call{Ours: func(s string) bool { return s == mine }, Credential: other})
			if !errors.As(err, &r) || r.Means != "held" {
				t.Fatalf("a session of another user was ended: %v", err)
			}
			// Ours, left behind.
			warned := ""
			s, err := begin(link.Call{Ours: func(s string) bool { return s == mine }, Warn: func(w string) { warned += w }})
			if err != nil || !strings.Contains(warned, "left") && !strings.Contains(warned, "still held") {
				t.Fatalf("%v, warned %q", err, warned)
			}
			if err := s.Finish(); err != nil {
				t.Fatal(err)
			}
			// Somebody else's, whose end was asked for; and not another's than that.
			if _, err := begin(link.Call{Credential: other, Began: func(s string) error { theirs = s; return nil }}); err != nil {
				t.Fatal(err)
			}
			noted := errors.New("it cannot be noted down")
			for _, c := range []struct {
				name string
				may  func(string) (bool, error)
				ends bool
			}{
				{"not asked for", func(string) (bool, error) { return false, nil }, false},
				{"not to be noted", func(string) (bool, error) { return true, noted }, false},
				{"asked for", func(s string) (bool, error) { return s == theirs, nil }, true},
			} {
				s, err := begin(link.Call{MayEnd: c.may})
				if (err == nil) != c.ends {
					t.Fatalf("%s: %v", c.name, err)
				}
				if err == nil {
					if err := s.Finish(); err != nil {
						t.Error(err)
					}
				}
			}
			// One that the device does not name cannot be ended.
			faults(box.Faults{HeldBy: "mwilks"})
			if _, err := begin(link.Call{MayEnd: func(string) (bool, error) { return true, nil }}); !errors.As(err, &r) || !strings.Contains(r.Words, "mwilks") {
				t.Errorf("%v", err)
			}
		})
	}
}
