package e2e

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// TestAnySequence: after any sequence of pulls, texts that return, marks, snapshots, deletions, rotated
// keys, scrubs, large files that are taken in, kills and restarts, every version that is listed reads
// back byte for byte, and every one that is protected is there.
func TestAnySequence(t *testing.T) {
	t.Parallel()
	steps, seeds := 45, uint64(1)
	if os.Getenv("MAGPIE_MATRIX") == "all" {
		steps, seeds = 120, 6
	}
	for seed := range seeds {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { anySequence(t, rand.New(rand.NewPCG(seed, 16)), steps) })
	}
}

func anySequence(t *testing.T, r *rand.Rand, steps int) {
	w := newWorld(t, 1, withFamilies("dunlin"))
	const gate = "workshop-g1"
	archive := must(w.admin.Dialect(ctx(t), "dunlin"))(t).Parts[0]
	texts, protected := map[string][32]byte{}, map[string]string{} // by version
	read := func(ref string) (sum [32]byte) {
		t.Helper()
		h := sha256.New()
		if err := w.admin.DownloadTo(ctx(t), ref, h); err != nil {
			t.Fatalf("%s: %v", ref, err)
		}
		return [32]byte(h.Sum(nil))
	}
	listed := func() (out []client.Version) {
		t.Helper()
		for device, part := range map[string]string{r1: "running", gate: archive} {
			out = append(out, must(w.admin.Versions(ctx(t), device, part, 0, 500))(t)...)
		}
		return out
	}
	pulled := func(device, part string) {
		t.Helper()
		w.pull(device)
		v := must(w.admin.Versions(ctx(t), device, part, 0, 1))(t)[0]
		if _, known := texts[v.ID]; !known {
			texts[v.ID] = read(v.Ref)
		}
	}
	job := func(kind string) client.Job { return must(w.admin.Ask(ctx(t), client.NewJob{Kind: kind}, ""))(t) }
	pulled(r1, "running")
	pulled(gate, archive)
	must(w.admin.SetRetention(ctx(t), "everything-else", client.NewRetention{Newest: 2, ByHand: 2}))(t)
	file := make([]byte, 20<<20)
	for i := 0; i < len(file); i += 8 {
		binary.LittleEndian.PutUint64(file[i:], r.Uint64())
	}
	var done []string
	did := func(what string) { done = append(done, what) }
	deleted := 0
	for n := range steps {
		all := listed()
		some := all[r.IntN(len(all))]
		yes, name := true, fmt.Sprintf("name-%d", n)
		switch r.IntN(13) {
		case 0:
			did("name")
			if some.Name == "" {
				must(w.admin.SetMark(ctx(t), some.Ref, client.Mark{Name: &name}))(t)
				protected[some.ID] = name
			}
		case 1:
			did("pin")
			must(w.admin.SetMark(ctx(t), some.Ref, client.Mark{Pin: &yes}))(t)
			protected[some.ID] = "pinned"
		case 2:
			did("snapshot")
			must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: name, Selector: []string{"all"}}))(t)
			for _, x := range must(w.admin.Snapshot(ctx(t), name))(t).Versions {
				for _, v := range all {
					if v.Ref == x.Ref {
						protected[v.ID] = "snapshot " + name
					}
				}
			}
		case 3, 4:
			did("retention")
			w.sql("UPDATE versions SET taken_at = taken_at - INTERVAL 40 DAY")
			j := job("retention")
			if r.IntN(2) == 0 {
				did("killed in it")
				w.kill()
				w.serve()
			}
			if j = w.end(j.ID); j.Outcome != "done" {
				t.Fatalf("%v: retention: %s: %s", done, j.Outcome, j.Summary)
			}
			deleted += len(all) - len(listed())
		case 5:
			did("rotate")
			cmd := exec.Command(filepath.Join(bin, "magpie"), "key", "rotate", "--data", filepath.Join(w.dir, "data"))
			cmd.Env = append(os.Environ(), "HOME="+w.dir, "MAGPIE_DATABASE="+w.dsn)
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v: %v: %s", done, err, out)
			}
		case 6:
			did("restart")
			w.proc.stop()
			w.serve()
		case 7:
			did("scrub")
			if j := w.end(job("scrub").ID); j.Outcome != "done" || strings.Contains(j.Summary, "damaged") {
				t.Fatalf("%v: scrub: %s: %s", done, j.Outcome, j.Summary)
			}
		case 8, 9:
			did("file in")
			from := r.IntN(len(file) - 8)
			binary.LittleEndian.PutUint64(file[from:], r.Uint64())
			size := 18<<20 + r.IntN(2<<20)
			by := map[string]string{"file": name + ".bin", "device": gate, "part": archive, "taken_at": fmt.Sprintf("2026-10-%02dT10:%02d:00Z", 1+n%28, n%60)}
			if r.IntN(4) == 0 {
				did("broken off")
				if _, err := w.admin.ImportFile(ctx(t), by, &broken{file[:size]}); err == nil {
					t.Errorf("%v: a file that broke off was taken", done)
				}
				break
			}
			must(w.admin.ImportFile(ctx(t), by, strings.NewReader(string(file[:size]))))(t)
			for _, v := range listed() {
				if _, known := texts[v.ID]; !known {
					if texts[v.ID] = sha256.Sum256(file[:size]); v.Size != size {
						t.Errorf("%v: %s has %d bytes of %d", done, v.Ref, v.Size, size)
					}
				}
			}
		case 10:
			did("pull the other")
			w.fleet.amend(gate, "bo", "note state "+name)
			pulled(gate, archive)
		default:
			did("pull")
			w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "state %d"`, r.IntN(12)))
			pulled(r1, "running")
		}
	}
	left := map[string]bool{}
	for _, v := range listed() {
		left[v.ID] = true
		want, known := texts[v.ID]
		if got := read(v.Ref); !known || got != want {
			t.Errorf("%v: %s reads back otherwise (known: %v)", done, v.Ref, known)
		}
	}
	for id, why := range protected {
		if !left[id] {
			t.Errorf("%v: a version is gone that was protected: %s", done, why)
		}
	}
	if c := must(w.admin.CheckAudit(ctx(t), ""))(t); !c.Sound {
		t.Errorf("%v: audit: %s", done, c.Trouble)
	}
	t.Logf("%d versions are left, %d were deleted, %d protected: %v", len(left), deleted, len(protected), done)
}

// broken is a file whose sender goes away in the middle.
type broken struct{ rest []byte }

func (b *broken) Read(p []byte) (int, error) {
	if len(b.rest) < 8<<20 {
		return 0, errors.New("the line is dead")
	}
	n := copy(p, b.rest)
	b.rest = b.rest[n:]
	return n, nil
}
