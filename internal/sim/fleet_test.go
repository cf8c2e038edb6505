package sim

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"magpie/internal/sim/box"
)

// TestBlockIsKept: a fleet's addresses are its own for as long as it runs, also
// those of units that are away just now, and free again afterwards.
func TestBlockIsKept(t *testing.T) {
	for range 5 { // other tests' fleets look for blocks meanwhile, and may take it once it is free
		if blockIsKept(t) {
			return
		}
	}
	t.Error("the block was never free again")
}

func blockIsKept(t *testing.T) bool {
	dir, other := t.TempDir(), t.TempDir()
	f, err := Open(dir, 1, "", 7, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Units[0].SetFaults(box.Faults{Down: true}); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "fleet.json"))
	if err == nil {
		err = os.WriteFile(filepath.Join(other, "fleet.json"), raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if g, err := Open(other, 1, "", 7, time.Now()); err == nil {
		g.Close()
		t.Fatal("another fleet took the address of a unit that was away")
	}
	f.Close()
	g, err := Open(other, 1, "", 7, time.Now())
	if err != nil {
		return false
	}
	g.Close()
	return true
}

// TestDownAndUpAtOnce: a unit that is taken away before it has begun to serve is away,
// and its ports are free for its return.
func TestDownAndUpAtOnce(t *testing.T) {
	f, err := Open(t.TempDir(), 1, AllFamilies, 7, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, u := range f.Units {
		for i := range 50 {
			for _, away := range []bool{true, false} {
				if err := u.SetFaults(box.Faults{Down: away}); err != nil {
					t.Fatalf("%s (%s), time %d: %v", u.Name, u.Family, i, err)
				}
			}
		}
	}
}
