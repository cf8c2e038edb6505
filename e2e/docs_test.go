package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"magpie/client"
)

// blocks are the lines of a guide's fenced blocks.
func blocks(t testing.TB, file string) (lines []string) {
	t.Helper()
	raw, err := os.ReadFile("../docs/" + file)
	if err != nil {
		t.Fatal(err)
	}
	for i, part := range strings.Split(string(raw), "\n```") {
		if i%2 == 1 && !strings.HasPrefix(part, "sh\n") { // those are run by TestCopies, TestBackup and TestMoved, each where it belongs
			lines = append(lines, strings.Split(part, "\n")[1:]...)
		}
	}
	return lines
}

// TestNamingGuide: every command of the guide to naming things does what it says
// there, and none is refused.
func TestNamingGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	for _, p := range w.fleet.places {
		site := strings.TrimSuffix(p.Name, "-r1")
		must(w.admin.EditDevice(ctx(t), p.Name, client.NewDevice{Site: &site}))(t)
		w.pull(p.Name)
	}
	w.guide("naming.md", 12)
}

// TestHistoryGuide: the same of the guide to the history.
func TestHistoryGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	site := "skerrinsay"
	for _, p := range w.fleet.places {
		must(w.admin.EditDevice(ctx(t), p.Name, client.NewDevice{Site: &site}))(t)
		w.pull(p.Name)
	}
	w.cwd = w.dir
	w.guide("history.md", 19)
}

// TestCopiesGuide: the same of the guide to copies and backups.
func TestCopiesGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.cwd = w.dir
	w.guide("copies.md", 12, "/mnt/vault", t.TempDir(), "/mnt/reading", t.TempDir())
}

// TestFindingGuide: the same of the guide to finding what changed.
func TestFindingGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	site := "skerrinsay"
	for _, p := range w.fleet.places {
		must(w.admin.EditDevice(ctx(t), p.Name, client.NewDevice{Site: &site}))(t)
		w.pull(p.Name)
		w.fleet.amend(p.Name, "mwilks", "lane quay1", `note "moved"`)
		w.pull(p.Name)
	}
	w.cwd = w.dir
	w.guide("finding.md", 16, "callowmere-r1", w.fleet.places[1].Name)
}

// guide runs every command of a guide's blocks; none is refused. There are so many at
// least. instead are words of the guide, each with what stands in its place here.
func (w *world) guide(file string, least int, instead ...string) {
	w.t.Helper()
	n := 0
	for _, l := range blocks(w.t, file) {
		l = strings.NewReplacer(instead...).Replace(l)
		if !strings.HasPrefix(l, "magpie ") {
			continue
		}
		n++
		var args []string
		for i, part := range strings.Split(strings.TrimPrefix(l, "magpie "), `"`) {
			if i%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		out, said, status := w.cli(args...)
		if differs := (args[0] == "diff" || args[0] == "drift") && status == 1; status != 0 && !differs || out+said == "" {
			w.t.Errorf("%s: status %d\n%s%s", l, status, out, said)
		}
	}
	if n < least {
		w.t.Errorf("only %d commands were found in %s", n, file)
	}
}

// TestDriftGuide: the same of the guide to drift.
func TestDriftGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &[]bool{true}[0]}))(t)
	w.fleet.amend(r1, "mwilks", "lane guest", "shut")
	w.pull(r1)
	w.pull("innisquill-r1")
	w.cwd = w.dir
	put(t, filepath.Join(w.dir, "edge.cfg"), "clock\n  mark 10.30.0.5\nlane uplink1\n  guard strict\n")
	// Without baselines of the latest nothing would be acknowledged.
	w.guide("drift.md", 16, "magpie mark skerrinsay-r1@latest --baseline", "magpie mark skerrinsay-r1@latest --note before", "magpie device baseline all", "magpie drift innisquill-r1", "--to latest", "")
}

// TestRoutineGuide: every command of the guide to schedules does what it says there.
func TestRoutineGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	for _, p := range w.fleet.places {
		w.pull(p.Name)
	}
	w.guide("routine.md", 9)
	for name, rule := range map[string]string{"month-end": "monthly last 23:00", "proof": "weekly sun 04:00"} {
		if x := must(w.admin.Schedule(ctx(t), name))(t); x.Rule != rule || x.Zone != "UTC" {
			t.Errorf("%+v", x)
		}
	}
}

// TestAPIGuide: the calls of the guide to the API are made as they stand there, and
// lead to a push that is confirmed.
func TestAPIGuide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "changed"`)
	w.pull(r1)
	must(w.admin.SetMark(ctx(t), r1+"@1", client.Mark{Baseline: &[]bool{true}[0]}))(t)
	known := map[string]string{"TOKEN": w.admin.Token, "PASSWORD": w.firstPassword(), "$U": w.url}
	newest := func(kind string) client.Job {
		return must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: kind, Limit: 1}))(t).Items[0]
	}
	vars, calls := "", 0
	for _, l := range blocks(t, "api.md") {
		l, _, _ = strings.Cut(l, "   #")
		for from, to := range known {
			l = strings.ReplaceAll(l, from, to)
		}
		if strings.HasPrefix(l, "A=") {
			vars = l + "; "
		}
		if !strings.HasPrefix(l, "curl ") {
			continue
		}
		calls++
		out, err := exec.Command("sh", "-c", vars+strings.Replace(l, "curl ", "curl -sS --fail-with-body ", 1)).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", l, err, out)
		}
		switch {
		case strings.Contains(l, "/pulls"):
			known["JOB"] = w.end(newest("pull").ID).ID
		case strings.HasSuffix(strings.TrimSpace(l), "/previews"):
			p := must(w.admin.Preview(ctx(t), w.end(newest("preview").ID).Preview))(t)
			known["PREVIEW"], known["HASH"] = p.ID, p.Hash
		case strings.Contains(l, "/pushes"):
			known["PUSH"] = w.parked(newest("push").ID).ID
		}
	}
	if calls != 14 || w.end(known["PUSH"]).Outcome != "verified" {
		t.Errorf("%d calls led to %+v", calls, newest("push"))
	}
}
