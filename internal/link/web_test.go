package link_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/dunlin"
	"magpie/internal/sim/skua"
)

func newSkua(t testing.TB) (*skua.Device, link.Target) {
	t.Helper()
	d, err := skua.New("control-w1", "SK-1", `{"name":"control-w1","network":[{"ssid":"Brindle Passengers","strand":40,"security":"open"},{"ssid":"Crew","security":"key","key":"demo-crew-1"}],"keeper":[{"name":"magpie","word":"w"}]}`,
		[]*skua.Member{{Name: "ap-quay1", Serial: "SA-1", Joined: true, Options: map[string]any{"place": "quay one"}}, {Name: "ap-quay2", Serial: "SA-2", Options: map[string]any{}}})
	if err != nil {
		t.Fatal(err)
	}
	return d, link.Target{Transport: "https", Address: stand(t, d), Port: box.HTTPS}
}

func TestSkua(t *testing.T) {
	d, target := newSkua(t)
	s, err := open(t, link.Call{Dialect: shipped(t, "skua"), Target: target})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	id, err := s.Identity()
	if err != nil || id != (link.Identity{Host: "control-w1", Model: "Skua W8", Serial: "SK-1", Release: "5.2"}) {
		t.Fatalf("%+v, %v", id, err)
	}
	p, err := s.Fetch("running")
	if err != nil || !strings.Contains(p.Text, `"ssid": "Brindle Passengers"`) || !strings.Contains(p.Text, `"power": "auto"`) {
		t.Fatalf("%v\n%s", err, p.Text)
	}
	if diff, err := s.Fetch("differences"); err != nil || strings.Contains(diff.Text, "power") {
		t.Errorf("%v\n%s", err, diff.Text)
	}
	members, err := s.Members()
	if err != nil || len(members) != 2 || members[0] != (link.Member{Name: "ap-quay1", Serial: "SA-1", Model: "Skua A2", Release: "5.2", State: "joined"}) || members[1].State != "waiting" {
		t.Fatalf("%+v, %v", members, err)
	}
	if o, err := s.For("ap-quay1").Fetch("running"); err != nil || !strings.Contains(o.Text, `"place": "quay one"`) {
		t.Errorf("%v\n%s", err, o.Text)
	}
	var r *link.Refused
	if _, err := s.For("ap-quay2").Fetch("running"); !errors.As(err, &r) || !strings.Contains(r.Words, "no access point of that name is joined") {
		t.Errorf("%v", err)
	}
	if err := s.For("ap-quay1").Send(link.Change{Kind: "load", Part: "running", Content: link.Content{Bytes: []byte(`{"skua-wireless:options":{"place":"pier"}}`)}}); err != nil {
		t.Error(err)
	}
	// What somebody else put there since it was read is not overwritten.
	options := link.Change{Kind: "load", Part: "running", Content: link.Content{Bytes: []byte(`{"skua-wireless:options":{"place":"slip"}}`)}}
	if _, err := s.For("ap-quay1").Fetch("running"); err != nil {
		t.Fatal(err)
	}
	other, err := open(t, link.Call{Dialect: shipped(t, "skua"), Target: target})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.For("ap-quay1").Send(options); err == nil || !strings.Contains(err.Error(), "it was not read") {
		t.Errorf("sent without having been read: %v", err)
	}
	if _, err := other.For("ap-quay1").Fetch("running"); err != nil {
		t.Fatal(err)
	}
	if err := other.For("ap-quay1").Send(options); err != nil {
		t.Fatal(err)
	}
	if err := s.For("ap-quay1").Send(options); !errors.As(err, &r) || !strings.Contains(r.Words, "changed since it was read") {
		t.Errorf("%v", err)
	}
	// The web session ends in the middle, and nothing is lost.
	d.SetFaults(box.Faults{Expire: 1})
	if again, err := s.Fetch("running"); err != nil || again.Text != p.Text {
		t.Errorf("after the session ended: %v", err)
	}
	d.SetFaults(box.Faults{})
	err = s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(strings.Replace(p.Text, `"lead"`, `"follow"`, 1))}})
	if !errors.As(err, &r) || !strings.Contains(r.Words, "does not go to a unit of role lead") {
		t.Errorf("%v", err)
	}
	err = s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(strings.Replace(p.Text, `"beacon": 100`, `"beacon": 5`, 1))}})
	if !errors.As(err, &r) || !strings.Contains(r.Words, "failed") {
		t.Errorf("%v", err)
	}
	if err := s.Send(link.Change{Kind: "load", Part: "running", Method: "replace", Content: link.Content{Bytes: []byte(strings.Replace(p.Text, `"auto"`, `"low"`, 1))}}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(5 * time.Second); d.Status().Restarts == 0 && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
	}
	if st := d.Status(); st.Restarts != 1 || !strings.Contains(strings.Join(st.Running, ""), `"power": "low"`) {
		t.Errorf("%+v", st)
	}
}

func newDunlin(t testing.TB) (*dunlin.Device, link.Target) {
	t.Helper()
	d := dunlin.New("workshop-g1", "DN-1", dunlin.Settings{Name: "workshop-g1", Address: "10.24.0.1", Users: map[string]string{"magpie": box.Seal("dunlin", "w")},
		Wifi: []dunlin.Wifi{{Name: "workshop", Key: "demo-workshop-1"}}})
	return d, link.Target{Transport: "http", Address: stand(t, d), Port: box.HTTP}
}

func TestDunlin(t *testing.T) {
	for _, passphrase := range []string{"", "demo-under-1"} {
		d, target := newDunlin(t)
		s, err := open(t, link.Call{Dialect: shipped(t, "dunlin"), Target: target, Credential: link.Credential{User: "magpie", Password: "w", Passphrase: passphrase}})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		id, err := s.Identity()
		if err != nil || id != (link.Identity{Host: "workshop-g1", Model: "Dunlin D1", Serial: "DN-1", Release: "1.14"}) {
			t.Fatalf("%+v, %v", id, err)
		}
		p, err := s.Fetch("archive")
		if err != nil || !strings.HasPrefix(p.Text, "DNL1") || p.Sign != "1" || p.Passphrase != passphrase {
			t.Fatalf("%v, sign %q", err, p.Sign)
		}
		d.SetFaults(box.Faults{Expire: 1}) // in mid-task, and the form's token goes with it
		again, err := s.Fetch("archive")
		if err != nil {
			t.Fatal(err)
		}
		doc := s.Dialect().Doc("archive")
		if again.Text == p.Text || passphrase == "" && doc.Settled(again.Text) != doc.Settled(p.Text) {
			t.Error("a time stamp and a salt are taken for a change, or there were none")
		}
		d.SetFaults(box.Faults{})
		if err := d.Amend("", []string{"wifi pier demo-pier-1"}); err != nil {
			t.Fatal(err)
		}
		changed, err := s.Fetch("archive")
		if err != nil || changed.Sign == p.Sign || doc.Settled(changed.Text) == doc.Settled(p.Text) {
			t.Errorf("a change does not show: %v", err)
		}
		if err := s.Send(link.Change{Kind: "load", Part: "archive", Method: "upload", Content: link.Content{Bytes: []byte(p.Text)}, Passphrase: p.Passphrase}); err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(5 * time.Second); d.Status().Restarts == 0 && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		}
		if st := strings.Join(d.Status().Running, ""); strings.Contains(st, "pier") {
			t.Errorf("it runs %s", st)
		}
		err = s.Send(link.Change{Kind: "load", Part: "archive", Method: "upload", Content: link.Content{Bytes: []byte(p.Text[:40])}})
		var r *link.Refused
		if !errors.As(err, &r) || !strings.Contains(r.Words, "damaged") {
			t.Errorf("%v", err)
		}
	}
}

func TestWebLoginIsTriedOnce(t *testing.T) {
	g, target := newDunlin(t)
	c, controller := newSkua(t)
	for _, x := range []struct {
		dialect string
		target  link.Target
		status  func() box.Status
	}{{"dunlin", target, g.Status}, {"skua", controller, c.Status}} {
		_, err := open(t, link.Call{Dialect: shipped(t, x.dialect), Target: x.target, Credential: link.Credential{User: "magpie", Password: "wrong"}})
		if !errors.Is(err, link.ErrLoginRefused) {
			t.Errorf("%s: %v", x.dialect, err)
		}
		if st := x.status(); st.Logins != 1 || st.Refused != 1 {
			t.Errorf("%s: %d attempts arrived", x.dialect, st.Logins)
		}
	}
	other := controller
	other.HostKey = "tls SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	var key *link.HostKeyError
	if _, err := open(t, link.Call{Dialect: shipped(t, "skua"), Target: other}); !errors.As(err, &key) {
		t.Errorf("another certificate: %v", err)
	}
}
