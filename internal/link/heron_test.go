package link_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/heron"
)

const heronConfig = `<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>control-f1</hostname>
<authentication><user><name>magpie</name><password>$0$w</password></user><user><name>okonkwo</name><password>$0$w</password></user></authentication></system>
<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>outside</name><description>to the world</description>
<type xmlns:t="urn:ietf:params:xml:ns:yang:iana-if-type">t:ethernetCsmacd</type><ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><mtu>1500</mtu></ipv4></interface>
<interface><name>inside</name></interface></interfaces>
<logical-network-elements xmlns="urn:ietf:params:xml:ns:yang:ietf-logical-network-element">
<logical-network-element><name>guest</name><managed>true</managed><root><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface><name>wifi</name></interface></interfaces></root></logical-network-element>
</logical-network-elements>`

func newHeron(t testing.TB, style int) (*heron.Device, link.Target) {
	t.Helper()
	d, err := heron.New("control-f1", "HN-1", "HN-2", heronConfig, style)
	if err != nil {
		t.Fatal(err)
	}
	return d, link.Target{Transport: "netconf", Address: stand(t, d), Port: box.Netconf}
}

// TestHeron talks to units that all keep to the standards and write XML each in
// its own way.
func TestHeron(t *testing.T) {
	for style := range 4 {
		t.Run(fmt.Sprint("style ", style), func(t *testing.T) {
			d, target := newHeron(t, style)
			s, err := open(t, link.Call{Dialect: shipped(t, "heron"), Target: target})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			id, err := s.Identity()
			if err != nil || id != (link.Identity{Host: "control-f1", Model: "Heron H2", Serial: "HN-1", Release: "3.0.5"}) {
				t.Fatalf("%+v, %v", id, err)
			}
			elements, err := s.Elements()
			if err != nil || len(elements) != 1 || elements[0] != "guest" {
				t.Fatalf("%v, %v", elements, err)
			}
			p, err := s.Fetch("running")
			if err != nil || strings.Contains(p.Text, "guest") || !strings.Contains(p.Text, "    <description>to the world</description>\n") {
				t.Fatalf("%v\n%s", err, p.Text)
			}
			g, err := s.Fetch("running+guest")
			if err != nil || !strings.HasPrefix(g.Text, `<interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">`) || !strings.Contains(g.Text, "<name>wifi</name>") {
				t.Fatalf("%v\n%s", err, g.Text)
			}
			// Put back: the whole, and one logical element.
			want := strings.Replace(p.Text, "to the world", "to the sound", 1)
			want = strings.Replace(want, "  <interface>\n    <name>inside</name>\n  </interface>\n", "", 1)
			wantGuest := strings.Replace(g.Text, "wifi", "pier", 1)
			for _, c := range []link.Change{
				{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(want)}, Current: p.Text},
				{Kind: "load", Part: "running+guest", Method: "replace", Content: link.Content{Bytes: []byte(wantGuest)}, Current: g.Text},
			} {
				if err := s.Begin(); err != nil {
					t.Fatal(err)
				}
				if err := s.Send(c); err != nil {
					t.Fatal(err)
				}
				if err := s.Send(link.Change{Kind: "commit"}); err != nil {
					t.Fatal(err)
				}
				if err := s.Finish(); err != nil {
					t.Fatal(err)
				}
			}
			if now, err := s.Fetch("running"); err != nil || now.Text != want {
				t.Errorf("%v\n%s\nwant\n%s", err, now.Text, want)
			}
			if now, err := s.Fetch("running+guest"); err != nil || now.Text != wantGuest {
				t.Errorf("%v\n%s\nwant\n%s", err, now.Text, wantGuest)
			}
			if _, err := s.Save(); err != nil || strings.Join(d.Status().Startup, "\n") != strings.Join(d.Status().Running, "\n") {
				t.Errorf("not saved: %v", err)
			}
			// What the device finds wrong is told in full, and nothing stays behind.
			bad := strings.Replace(want, "<mtu>1500</mtu>", "<mtu>9</mtu>", 1)
			if err := s.Begin(); err != nil {
				t.Fatal(err)
			}
			err = s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(bad)}, Current: want})
			var r *link.Refused
			if !errors.As(err, &r) || !strings.Contains(r.Words, `"9" is not a number`) || !strings.Contains(r.Words, "if:interface[outside]") || !strings.Contains(r.Words, "invalid-value") {
				t.Errorf("%v", err)
			}
			if err := s.Finish(); err != nil {
				t.Error(err)
			}
			if now, err := s.Fetch("running"); err != nil || now.Text != want {
				t.Errorf("something stayed: %v", err)
			}
		})
	}
}
