package link_test

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim/box"
	"magpie/internal/sim/petrel"
)

// TestPetrel: any file that people could have written takes the place of any other, to
// the byte, and what is loaded comes of it, there and back; one with a mistake is refused
// before it takes any place; a load for a time is kept, called back, or goes back alone.
func TestPetrel(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	file := func() string { return petrel.Generate(r, "keeper magpie word w") }
	d, err := petrel.New("workshop-k1", "PT-1", file())
	if err != nil {
		t.Fatal(err)
	}
	dia := shipped(t, "petrel")
	s, err := open(t, link.Call{Dialect: dia, Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if id, err := s.Identity(); err != nil || id.Serial != "PT-1" || id.Model != "Petrel K1" {
		t.Fatalf("%+v, %v", id, err)
	}
	has := func(part string) string {
		t.Helper()
		p, err := s.Fetch(part)
		if err != nil {
			t.Fatalf("%v\n%s", err, d.Status().Startup)
		}
		return p.Text
	}
	put := func(content string, within time.Duration) error {
		for _, c := range []link.Change{{Kind: "load", Part: "file", Method: "replace", Content: link.Content{Bytes: []byte(content)}}, {Kind: "live", Part: "file", Within: within}} {
			if err := s.Send(c); err != nil {
				return err
			}
		}
		return nil
	}
	for range 12 {
		a, b := file(), file()
		for _, x := range []string{a, b, a} {
			if err := put(x, 0); err != nil {
				t.Fatalf("%v\n%s", err, x)
			}
			if got := has("file"); got != x {
				t.Fatalf("it has\n%q\nand was given\n%q", got, x)
			}
			if now := has("loaded"); !dia.Doc("loaded").Equivalent(now, x) {
				t.Fatalf("it has loaded\n%s\nof\n%s", now, x)
			}
		}
		if a != b && dia.Doc("file").Equivalent(a, b) {
			t.Fatalf("every byte counts, and these are taken for the same:\n%s\n%s", a, b)
		}
	}
	// A mistake is told with its line, and nothing came of it.
	was := has("file")
	err = put("name x\nkeeper magpie word w\nlink a {\n  colour red\n}\n", 0)
	var refused *link.Refused
	if !errors.As(err, &refused) || !strings.Contains(refused.Words, `line 4: "colour red" is not understood here`) || has("file") != was {
		t.Errorf("%v", err)
	}
	// For a time only.
	loaded := func() string { return strings.Join(d.Status().Running, "\n") }
	before := loaded()
	other := strings.Replace(was, "name workshop-k", "name elsewhere-k", 1)
	if err := put(other, time.Second); err != nil || loaded() == before {
		t.Fatal(err)
	}
	for began := time.Now(); loaded() != before; time.Sleep(20 * time.Millisecond) {
		if time.Since(began) > 5*time.Second {
			t.Fatal("it does not go back")
		}
	}
	if dia.Doc("loaded").Equivalent(has("loaded"), has("file")) {
		t.Error("what it has loaded is taken for what its file says")
	}
	if err := put(other, time.Hour); err != nil || s.Recall("") != nil || loaded() != before {
		t.Errorf("%v: told to go back, it has loaded\n%s", err, loaded())
	}
	if err := put(other, time.Hour); err != nil || s.Confirm("") != nil || loaded() == before {
		t.Errorf("%v: told to keep it, it has loaded\n%s", err, loaded())
	}
}

// TestNothingToKeep: a device that has no load waiting any more says so in words of its
// own. That is its no, and not a conversation that was lost.
func TestNothingToKeep(t *testing.T) {
	d, err := petrel.New("workshop-k1", "PT-1", "name workshop-k1\nkeeper magpie word w\n")
	if err != nil {
		t.Fatal(err)
	}
	again, err := dialect.Load("petrel.yaml", []byte(strings.NewReplacer("{exec: petrel keep}", "{exec: petrel about, done: '^called nobody$'}", "{exec: petrel back}", "{exec: petrel about, done: '^called nobody$'}").Replace(source(t, "petrel"))))
	if err != nil {
		t.Fatal(err)
	}
	s, err := open(t, link.Call{Dialect: again, Target: link.Target{Transport: "ssh", Address: stand(t, d), Port: box.SSH}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, do := range []func(string) error{s.Confirm, s.Recall} {
		var refused *link.Refused
		if err := do(""); !errors.As(err, &refused) || !strings.Contains(refused.Words, "called workshop-k1") {
			t.Errorf("%v", err)
		}
	}
}

// source is a dialect that ships, as text.
func source(t testing.TB, name string) string {
	t.Helper()
	src, err := dialects.Files.ReadFile(name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	return string(src)
}
