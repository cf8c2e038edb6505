package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"magpie/client"
)

// TestDemo: two demos beside each other, each with its story; the second start
// finds what was there; nothing is left running.
func TestDemo(t *testing.T) {
	t.Parallel()
	up := regexp.MustCompile(`is up at (http://\S+),`)
	var worlds []*world
	for _, name := range []string{"one", "two"} {
		dir := filepath.Join(t.TempDir(), name)
		p := start(t, os.Environ(), "demo", "--listen", "127.0.0.1:0", "--data", dir)
		w := &world{t: t, top: t, dir: t.TempDir(), proc: p, url: p.waitFor(up)}
		w.admin = w.as("admin", "demo-admin-1")
		w.extra = []string{dir}
		worlds = append(worlds, w)
	}
	for _, w := range worlds {
		st := must(w.admin.Status(ctx(t)))(t)
		if st.Devices != 29 || st.States["unreachable"] != 1 || st.States["drifted"] != 4 || st.States["hardware changed"] != 1 || st.States["factory defaults"] != 1 || st.States["in sync"] != 22 {
			t.Errorf("the story is %v", st.States)
		}
		out, _, status := w.cli("drift", "port-asterly-r1")
		if status != 1 || !strings.Contains(out, "− drop any from any to roster tills") {
			t.Errorf("the loosened filter does not show (%d):\n%s", status, out)
		}
	}
	one := worlds[0]
	if out, errText, status := one.cli("push", "port-asterly-r1@baseline", "--yes"); status != 0 {
		t.Errorf("putting it right exits %d: %s%s", status, out, errText)
	}
	if d := must(worlds[1].admin.Device(ctx(t), "port-asterly-r1"))(t); d.State != "drifted" {
		t.Error("the other demo was disturbed")
	}
	one.proc.stop()
	again := start(t, os.Environ(), "demo", "--listen", "127.0.0.1:0", "--data", one.extra[0])
	one.url = again.waitFor(up)
	one.admin = one.as("admin", "demo-admin-1")
	if d := must(one.admin.Device(ctx(t), "port-asterly-r1"))(t); d.State != "in sync" {
		t.Errorf("after the second start the device is %s", d.State)
	}
	if j := must(one.admin.Watch(ctx(t), must(one.admin.Pull(ctx(t), []string{"port-asterly-r1"}, ""))(t)[0].ID, nil, nil))(t); j.Outcome != "done" {
		t.Errorf("after the second start a pull ended %s: %s", j.Outcome, j.Summary)
	}
	again.stop()
	worlds[1].proc.kill() // the fleet goes with it; the database is the next start's to take on
	for _, w := range worlds {
		dir := w.extra[0]
		eventually(t, "the fleet is gone", func() bool { return !running("magpie-sim", dir) })
	}
	if running("mariadbd", one.extra[0]) {
		t.Error("a database server was left running")
	}
	last := start(t, os.Environ(), "demo", "--listen", "127.0.0.1:0", "--data", worlds[1].extra[0])
	last.waitFor(up)
	last.stop()
	if running("mariadbd", worlds[1].extra[0]) {
		t.Error("the database server taken on was left running")
	}
}

// running tells whether a program runs with that folder in its arguments.
func running(program, dir string) bool {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range all {
		raw, err := os.ReadFile(f)
		if err == nil && strings.Contains(string(raw), program) && strings.Contains(string(raw), dir) {
			return true
		}
	}
	return false
}

// TestCommandLine walks what the README's first quarter of an hour shows, and
// the mistakes people make.
func TestCommandLine(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	p := w.fleet.place("innisquill-r1")
	if _, e, status := w.cli("device", "remove", "innisquill-r1", "--yes"); status != 0 {
		t.Fatal(e)
	}
	probe := must(w.admin.Probe(ctx(t), "", p.Address, p.Port))(t)
	for _, c := range []struct {
		args   string
		status int
		out    string // a pattern that stdout or stderr must match
	}{
		{"device add r9 --address " + p.Address + " --port 2222 --dialect tern --user magpie", 2, "give --accept-key"},
		{"device add r9 --address " + p.Address + " --port 2222 --dialect tern --user magpie --accept-key SHA256:nope", 2, "not SHA256:nope; nothing was changed"},
		{"device add r9 --address " + p.Address + " --port 2222 --dialect trn --user magpie", 2, `dialect "trn": not found\s+did you mean tern`},
		{"device add r9 --address " + p.Address + " --port 2222 --dialect tern --user magpie --site innisquill --tag edge --yes --accept-key " + probe.Fingerprint, 0, "r9 was added"},
		{"device add r9 --address " + p.Address + " --port 2222 --dialect tern --user magpie --yes --accept-key " + probe.Fingerprint, 2, `r9 is registered at`},
		{"pull r9", 0, `r9 +done +running 1, the first`},
		{"pull r9 r10", 2, `no device was found for "r10"`},
		{"pull colour=red", 2, `"colour" is no key`},
		{"pull site=innis*", 0, "unchanged, still 1"},
		{"device list tag=edge", 0, "(?m)^r9 +in sync +1 "},
		{"device show r9", 0, `serial +TN4-`},
		{"versions r9", 0, "first pull"},
		{"show r9@1", 0, "(?m)^name innisquill-r1$"},
		{"show r9@7", 2, "r9@7: not found"},
		{"show r9/startup", 0, "startup of innisquill-r1"},
		{"show r9@tomorrow!", 2, "cannot be a version's name"},
		{"show r9@2020-01-01", 2, "nothing was pulled by then"},
		{"mark r9@1 --name as-built --baseline --note quiet", 0, `marks +baseline`},
		{"mark r9@1 --name 17", 2, "numbers count versions"},
		{"mark r9@1", 2, "say what to mark it with"},
		{"show r9@as-built", 0, "lane quay1"},
		{"diff r9@as-built @live", 0, "the same but for"},
		{"diff r9 r9/startup", 0, "written differently and mean the same|the same but for"},
		{"diff r9", 2, "there is only one version"},
		{"search --in lane --lacks sieve kind=router", 0, "r9@1 "},
		{"changes --together --since=-7d", 0, "r9@1"},
		{"drift r9", 0, `r9 +in sync +r9@1`},
		{"push r9@as-built", 0, "nothing to send"},
		{"push r9@as-built --method rplace", 2, `does not offer method "rplace"`},
		{"push", 2, "usage: magpie push"},
		{"job list --device r9", 0, "pull"},
		{"job show nope", 2, `job "nope": not found`},
		{"dialect list", 0, "Tern router"},
		{"dialect show tern", 0, "(?m)^dialect: tern$"},
		{"user list", 0, "admin +admin +yes"},
		{"token list", 0, "made"},
		{"audit list", 0, "device added"},
		{"audit check", 0, "sound:"},
		{"status", 0, "2 devices"},
		{"statsu", 2, `no command "statsu"`},
		{"pull --nope r9", 2, "nope"},
	} {
		out, errText, status := w.cli(strings.Fields(c.args)...)
		if status != c.status || !regexp.MustCompile(c.out).MatchString(out+errText) {
			t.Errorf("magpie %s: exits %d, want %d with %s:\n%s%s", c.args, status, c.status, c.out, out, errText)
		}
		if strings.Contains(out+errText, "demo-nest-1") {
			t.Errorf("magpie %s shows a password", c.args)
		}
	}
	// JSON on every command is the API's own object.
	out, _, _ := w.cli("--json", "device", "show", "r9")
	if !strings.HasPrefix(out, "{\n  \"id\": ") {
		t.Errorf("--json prints %s", out)
	}
	w.fleet.amend("innisquill-r1", "mwilks", "lane quay1", "shut")
	out, errText, status := w.cli("diff", "r9@as-built", "@live")
	if status != 1 || !strings.Contains(out, "@@ lane quay1\n") || !strings.Contains(out, "\n+  shut\n") {
		t.Errorf("diff exits %d:\n%s%s", status, out, errText)
	}
	out, errText, status = w.cli("push", "r9@as-built", "--preview")
	if status != 0 || !strings.Contains(out, "cancel shut") || !strings.Contains(out, "none by itself; with --within TIME it goes back unless it is confirmed") {
		t.Errorf("push --preview exits %d:\n%s%s", status, out, errText)
	}
	if out, errText, status = w.cli("push", "r9@as-built"); status != 2 || !strings.Contains(errText, "give --yes") || !strings.Contains(w.fleet.running("innisquill-r1"), "shut") {
		t.Errorf("push without a terminal exits %d:\n%s%s", status, out, errText)
	}
	out, errText, status = w.cli("push", "r9@as-built", "--yes", "--note", "left shut")
	if status != 0 || !strings.Contains(out, "verified: the device runs r9@1") {
		t.Errorf("push exits %d:\n%s%s", status, out, errText)
	}
	if a := must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 10))(t); !strings.Contains(a.Items[1].Detail, "left shut") {
		t.Errorf("the reason is not in the audit log: %+v", a.Items[:3])
	}
	// The operator's view, through the same commands.
	op := w.addUser("okonkwo", "operator")
	if out, _, _ := w.cliAs(op, "show", "r9"); strings.Contains(out, "demo-gulls") || !strings.Contains(out, "‹secret ") {
		t.Errorf("an operator is shown\n%s", out)
	}
	// A dialect file with slips: every one with its line and column.
	file := filepath.Join(w.dir, "slip.yaml")
	src := must(w.admin.Dialect(ctx(t), "tern"))(t).Source
	src = strings.Replace(src, "initial_mode: deck", "initial_mode: dock", 1)
	src = strings.Replace(src, "kind: router", "kind: rooter", 1)
	if err := os.WriteFile(file, []byte(src), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, _, status := w.cli("dialect", "check", file); status != 1 || !regexp.MustCompile(`slip.yaml:4:1: kind: `).MatchString(out) {
		t.Errorf("dialect check exits %d:\n%s", status, out)
	}
	if got := must(w.admin.CheckDialect(ctx(t), "slip.yaml", []byte(src)))(t); len(got) != 1 || got[0].Line != 4 {
		t.Errorf("the API finds %+v", got)
	}
	if got, err := w.admin.Device(ctx(t), "gone"); !client.IsStatus(err, 404) {
		t.Errorf("a device that is not there: %+v %v", got, err)
	}
}
